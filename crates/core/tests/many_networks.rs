//! Sites of so many networks that proofs distinguish zones instead of networks, and lists of so many rules in one
//! place that they are laid out by where they lie: what is true of small sites is true of these.

mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, draft, resolve};
use bastium_core::proof;
use bastium_core::rules::mistakes::{Change, Mistake, mistakes};
use bastium_core::rules::{self, Outcome, RuleIndex, RuleSet};
use bastium_core::space::PacketSet;
use model::{TODAY, any_draft, exception, text, texts};
use proptest::prelude::*;
use proptest::sample::{Index, select};

/// A site with eighty networks more, in two of its zones.
fn with_many_networks(mut draft: draft::Draft) -> draft::Draft {
    for number in 0..80 {
        draft.networks.push(draft::Network {
            name: text(&format!("more-{number}")),
            zone: Some(text(["staff", "guests"][number % 2])),
            subnets: Some(texts(&[&format!(
                "10.44.{}.{}/29",
                200 + number / 16,
                number % 16 * 16
            )])),
            ..draft::Network::default()
        });
    }
    draft
}

/// A site with more than a thousand exceptions between the same two networks, half of them narrower than others.
fn with_many_rules(mut draft: draft::Draft) -> draft::Draft {
    for number in 0..1_200 {
        let name = format!("many-{number}");
        let (low, action) = (20_000 + number * 7, if number % 2 == 0 { "allow" } else { "block" });
        let service = format!("tcp/{low}-{}", low + 4);
        let to = ["printers", "10.44.48.4-10.44.48.5"][number % 2];
        draft.exceptions.push(exception(&name, "desks", to, &service, action));
    }
    draft
}

/// The packets that a mistake can concern: what the rule matches with it and without.
fn concerned(rules: &RuleSet, mistake: &Mistake) -> PacketSet {
    let own = mistake.rule(rules).and_then(|rule| rule.first_packets());
    let mut all: PacketSet = own.into_iter().cloned().collect();
    if let Change::Matches(other) = &mistake.change {
        all.add((**other).clone().into());
    }
    all
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 16, ..ProptestConfig::default() })]

    #[test]
    fn mistakes_are_found_however_large_the_site(
        draft in any_draft(),
        many in prop_oneof![
            Just(with_many_networks as fn(draft::Draft) -> draft::Draft),
            Just(with_many_rules as fn(draft::Draft) -> draft::Draft),
        ],
        form in select(&Form::ALL[..]),
        picks in prop::collection::vec(any::<Index>(), 12),
    ) {
        let plan = resolve(many(draft)).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let Ok(rules) = rules::in_form(&meaning, form) else { return Ok(()) };
        let (found, undecided) = proof::equal(&meaning, &rules);
        prop_assert!(found.is_empty() && undecided == 0, "{}: {:?}", form.word(), found.first());
        prop_assert!(proof::answers(&meaning, &rules).hold(), "{}", form.word());
        // Rules that are laid out by where they lie do the same as rules that are gone through.
        let index = RuleIndex::new(&rules);
        for pick in picks.iter().take(4) {
            let all: Vec<_> = rules.rules().filter_map(|rule| rule.first_packets()).collect();
            let set = PacketSet::from(*pick.get(&all));
            let of = |parts: Vec<(PacketSet, Outcome<'_>)>| -> Vec<_> {
                parts.into_iter().map(|(set, does)| (set.v4.blocks().to_vec(), set.v6.blocks().to_vec(), does.action, does.logged, does.rule.map(|r| r.number))).collect()
            };
            prop_assert_eq!(of(index.parts(&set)), of(rules.parts(&set)));
        }
        // Without a rule of which it is said that nothing changes without it, nothing changes.
        let singles = proof::singles(&meaning, &rules);
        let idle: Vec<_> = singles.redundant.iter().chain(&singles.shadowed).collect();
        for pick in picks.iter().take(6).filter(|_| !idle.is_empty()) {
            let idle = pick.get(&idle).rule;
            let mut fewer = rules.clone();
            for list in &mut fewer.lists {
                list.rules.retain(|rule| rule.number != idle.number || rule.id != idle.id);
            }
            let (found, _) = proof::equal(&meaning, &fewer);
            prop_assert!(found.is_empty(), "{}: {} changes {:?}", form.word(), idle.id, found[0].packet);
        }
        let all: Vec<Mistake> = mistakes(&rules).collect();
        for pick in picks {
            let mistake = pick.get(&all);
            let wrong = mistake.made_in(&rules);
            let (found, undecided) = proof::equal(&meaning, &wrong);
            prop_assert_eq!(undecided, 0);
            for difference in &found {
                let decision = meaning.decide(&difference.packet);
                let outcome = wrong.first_match(&difference.packet);
                let translated = plan.is_translated(difference.packet.enters);
                prop_assert!(translated || !proof::agrees(decision, outcome), "{:?}", difference.packet);
            }
            // The other way to the same answer: no cells, no search, set by set.
            if mistake.place.is_some() {
                let eager = proof::differences(&meaning, &wrong, &concerned(&rules, mistake));
                prop_assert_eq!(found.is_empty(), eager.is_empty(), "{}: {:?} of {:?}", form.word(), mistake.kind, mistake.rule(&rules).map(|r| &r.id));
            }
        }
    }
}
