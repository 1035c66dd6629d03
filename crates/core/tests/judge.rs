//! An independent judge: the same rule lists as binary decision diagrams, bit by bit, on a general crate for
//! such. It knows nothing of intervals, blocks or cells.

#[path = "judge/diagrams.rs"]
mod diagrams;
mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Form, Plan, resolve};
use bastium_core::proof;
use bastium_core::rules::{self, Rule, RuleSet, mistakes};
use bastium_core::space::Match;
use biodivine_lib_bdd::Bdd;
use diagrams::{Fates, Judge};
use model::{TODAY, any_draft};
use proptest::prelude::*;

/// What comes before a list by way of the gateway: what its meaning decides by verdict, from outside.
fn filtered(judge: &Judge, meaning: &Meaning<'_>) -> Bdd {
    let universe = meaning.universe();
    let outer = (0..meaning.plan().gateway_leg().0).map(bastium_core::space::Leg).collect();
    let outer = Match { enters: outer, ..Match::everything() };
    let set = universe.intersection(&outer.into());
    let parts = meaning.parts(&set).into_iter().filter(|part| part.decision.verdict.is_filtered());
    let products: Vec<Match> =
        parts.flat_map(|part| part.packets.products().collect::<Vec<_>>()).collect();
    products.iter().fold(judge.nothing(), |all, product| all.or(&judge.product(product)))
}

/// The lists of a form that asks one after the other, as one list: those for the gateway alone are cut to it.
fn judged(judge: &Judge, rules: &RuleSet, within: &Bdd, gateway: &Bdd) -> Fates {
    let (mut fates, mut open) = (Fates::new(), within.clone());
    for list in &rules.lists {
        if list.stage == rules::Stage::FromGateway {
            continue;
        }
        let here = match list.stage {
            rules::Stage::ToGateway => open.and(gateway),
            _ => open.clone(),
        };
        for (action, log, set) in judge.fates(list.rules.iter(), &here) {
            let end = action == Action::Block && !log;
            let decided = if end && list.otherwise == rules::Otherwise::GoOn {
                // The rest of the list goes on; what a rule of it blocks without a word does not.
                let silent = list.rules.iter().filter(|r| r.action == Action::Block && !r.log);
                let silent = silent.filter_map(Rule::first_packets);
                let silent = silent.fold(judge.nothing(), |all, m| all.or(&judge.product(m)));
                set.and(&silent)
            } else {
                set
            };
            open = open.and_not(&decided);
            fates.push((action, log, decided));
        }
    }
    fates
}

fn gateway(judge: &Judge, meaning: &Meaning<'_>) -> Bdd {
    let own = rules::compile(meaning);
    let list = own.list(rules::Stage::ToGateway).expect("the one list has one");
    let covers = list.packets().clone();
    covers.products().fold(judge.nothing(), |all, product| all.or(&judge.product(&product)))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]

    /// The verdict sets of the one list and of the meaning are the same diagrams; and of every damaged list
    /// the judge says what the proof says.
    #[test]
    fn the_judge_and_the_proof_say_the_same(
        draft in any_draft(), picks in prop::collection::vec(any::<prop::sample::Index>(), 6),
    ) {
        let mut draft = draft;
        draft.inbounds.clear();
        let plan: Plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::in_form(&meaning, Form::OneList).expect("says everything");
        let judge = Judge::new();
        let (within, gateway) = (filtered(&judge, &meaning), gateway(&judge, &meaning));
        let right = judged(&judge, &rules, &within, &gateway);
        // The meaning, part by part.
        for part in meaning.parts(&meaning.universe()) {
            if !part.decision.verdict.is_filtered() {
                continue;
            }
            let products: Vec<Match> = part.packets.products().collect();
            let set = products.iter().fold(judge.nothing(), |all, p| all.or(&judge.product(p))).and(&within);
            for (action, log, decided) in &right {
                let same = bastium_core::verdict::Verdict::from(*action) == part.decision.verdict && *log == part.decision.logged;
                prop_assert!(same || set.and(decided).is_false(), "{:?}", part.decision);
            }
        }
        let all: Vec<mistakes::Mistake> = mistakes::mistakes(&plan, &rules).collect();
        for pick in picks {
            let damaged = pick.get(&all);
            let lists = damaged.made_in(&rules);
            let wrong = judged(&judge, &lists, &within, &gateway);
            let found = proof::differences(&meaning, &lists, &meaning.universe());
            let v4 = found.iter().any(|d| !d.packets.v4.is_empty() && d.packet.enters < plan.gateway_leg());
            let v4 = v4 || found.iter().any(|d| d.packets.v4.blocks().iter().any(|b| b.enters.first().is_some_and(|leg| leg < plan.gateway_leg())));
            prop_assert_eq!(judge.same(&right, &wrong), !v4, "{:?} of {:?}", damaged.kind, damaged.place);
        }
    }
}
