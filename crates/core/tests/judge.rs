//! An independent judge: the same rule lists as binary decision diagrams, bit by bit, on a general crate for
//! such. It knows nothing of intervals, blocks or cells.

#[path = "judge/diagrams.rs"]
mod diagrams;
mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Form, Plan, resolve};
use bastium_core::proof;
use bastium_core::rules::{self, Otherwise, RuleSet, mistakes};
use bastium_core::space::Match;
use bastium_core::verdict::Verdict;
use biodivine_lib_bdd::Bdd;
use diagrams::{Fates, Judge, Of};
use model::{TODAY, any_draft};
use proptest::prelude::*;

/// What comes before a list by way of the gateway: what its meaning decides by verdict, from outside.
fn filtered(judge: &Judge, meaning: &Meaning<'_>) -> Bdd {
    let universe = meaning.universe();
    let outer =
        (0..meaning.plan().gateway_interface().0).map(bastium_core::space::Interface).collect();
    let outer = Match { enters: outer, ..Match::everything() };
    let set = universe.intersection(&outer.into());
    let parts = meaning.parts(&set).into_iter().filter(|part| part.decision.verdict.is_filtered());
    parts.fold(judge.nothing(), |all, part| all.or(&judge.set(&part.packets)))
}

/// The lists of a form as one list: each is asked about what it is for, as far as none above it has decided.
fn judged(judge: &Judge, rules: &RuleSet, within: &Bdd) -> Fates {
    let (mut fates, mut open) = (Fates::new(), within.clone());
    for list in rules.lists.iter().filter(|list| list.stage != rules::Stage::FromGateway) {
        let here = open.and(&judge.set(list.packets()));
        let (mut taken, left) = judge.fates(list.rules.iter(), &here);
        match list.otherwise {
            Otherwise::GoOn => {}
            Otherwise::Allow => taken.push((Action::Allow, false, left)),
            Otherwise::Block => taken.push((Action::Block, false, left)),
        }
        open = taken.iter().fold(open, |open, (_, _, set)| open.and_not(set));
        fates.extend(taken);
    }
    fates.push((Action::Block, false, open));
    fates
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]

    /// The verdict sets of a form's lists and of the meaning are the same diagrams; and of every damaged list the
    /// judge says what the proof says. In both families, in all forms.
    #[test]
    fn the_judge_and_the_proof_say_the_same(
        draft in any_draft(),
        form in prop::sample::select(Form::ALL.to_vec()),
        family in prop_oneof![Just(Of::V4), Just(Of::V6)],
        picks in prop::collection::vec(any::<prop::sample::Index>(), 6),
    ) {
        let mut draft = draft;
        draft.inbounds.clear();
        let plan: Plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let Ok(rules) = rules::in_form(&meaning, form) else { return Ok(()) };
        let judge = Judge::new(family);
        let within = filtered(&judge, &meaning).and_not(&judge.set(&rules.unseen));
        let right = judged(&judge, &rules, &within);
        // The meaning, part by part.
        for part in meaning.parts(&meaning.universe()) {
            if !part.decision.verdict.is_filtered() {
                continue;
            }
            let set = judge.set(&part.packets).and(&within);
            for (action, log, decided) in &right {
                let same = Verdict::from(*action) == part.decision.verdict && *log == part.decision.logged;
                prop_assert!(same || set.and(decided).is_false(), "{:?}", part.decision);
            }
        }
        let all: Vec<mistakes::Mistake> = mistakes::mistakes(&rules).collect();
        for pick in picks {
            let damaged = pick.get(&all);
            let lists = damaged.made_in(&rules);
            let wrong = judged(&judge, &lists, &within);
            let (found, undecided) = proof::equal(&meaning, &lists);
            prop_assert_eq!(undecided, 0);
            let differs = found.iter().any(|difference| !judge.set(&difference.packets).and(&within).is_false());
            prop_assert_eq!(judge.same(&right, &wrong), !differs, "{}: {:?} of {:?}", form.word(), damaged.kind, damaged.place);
        }
    }
}
