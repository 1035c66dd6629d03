//! Every form of rules, compared with the meaning on random small plans.

mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::draft;
use bastium_core::plan::{Form, resolve};
use bastium_core::proof;
use bastium_core::rules;
use model::{TODAY, any_draft, exception, text, texts, uniform};
use proptest::prelude::*;
use rayon::prelude::*;

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]

    /// In every form the rules match the plan: the proof finds no difference in the whole space.
    #[test]
    fn the_proof_finds_no_difference_in_any_form(draft in any_draft()) {
        let plan = resolve(draft).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        for form in Form::ALL {
            let rules = rules::in_form(&meaning, form).expect("every form but one says everything");
            let found = proof::differences(&meaning, &rules, &meaning.universe());
            prop_assert!(found.is_empty(), "{}: {:?}", form.word(), found.first());
            let mut ids = std::collections::HashSet::new();
            for rule in rules.rules() {
                prop_assert!(ids.insert(rule.id.clone()), "{}: {} twice", form.word(), rule.id);
            }
        }
    }

    /// Lists that look at sources only: what they can say, they say exactly; and what they cannot is an
    /// entry with a service or a part of a network.
    #[test]
    fn lists_of_sources_are_exact_or_refused(draft in any_draft()) {
        let draft = for_sources(draft);
        let plan = resolve(draft).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        match rules::in_form(&meaning, Form::PerInterface) {
            Ok(rules) => {
                let found = proof::differences(&meaning, &rules, &meaning.universe());
                prop_assert!(found.is_empty(), "{:?}", found.first());
            }
            Err(problems) => {
                prop_assert!(!problems.is_empty());
                for problem in problems {
                    // Behind one interface can be two zones, or more than the one network; by one uplink the
                    // internet, and what stands beside it.
                    if !plan.routes().is_empty() || !plan.beside_uplinks().is_empty() {
                        continue;
                    }
                    let id = problem.cause.exception().expect("cells are for whole zones");
                    let exception = plan.exception(id);
                    let narrow = exception.to.text.contains(['1', '-', '+'])
                        || ["fibre", "reception", "label-printer", "kiosk", "register"].contains(&exception.to.text.as_str());
                    prop_assert!(narrow || exception.from.gateway, "{} to {}", exception.name, exception.to.text);
                }
            }
        }
    }
}

/// A plan with nothing in it but places and actions.
fn for_sources(mut draft: draft::Draft) -> draft::Draft {
    draft.gateway.form = Some(text("per-interface"));
    draft.gateway.matches = Some(text("source"));
    draft.inbounds.clear();
    for exception in &mut draft.exceptions {
        exception.service = Some(texts(&["any"]));
        exception.before.clear();
    }
    draft
}

/// Every pair of places as the two ends of one exception, with a provider's box beside the uplink: what the generator
/// reaches only now and then.
#[test]
fn every_pair_of_ends_is_proved_in_every_form() {
    let mut draft = uniform("block", false);
    model::extend(&mut draft);
    draft.uplinks[0].address = texts(model::PRIVATE_UPLINK);
    let to_each = |from| model::PLACES.iter().map(move |to| (from, *to));
    let pairs: Vec<(&str, &str)> = model::PLACES.iter().copied().flat_map(to_each).collect();
    pairs.par_iter().for_each(|(from, to)| {
        let mut draft = draft.clone();
        draft.exceptions = vec![exception("one", from, to, "tcp/80", "allow")];
        let plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return };
        for form in Form::ALL {
            let rules = rules::in_form(&meaning, form).expect("it says everything");
            let found = proof::differences(&meaning, &rules, &meaning.universe());
            assert!(found.is_empty(), "{form:?}, {from} to {to}: {:?}", found.first());
        }
    });
}
