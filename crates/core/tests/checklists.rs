//! Checklists and findings of random small plans: true whatever the plan.

mod model;

use bastium_core::checklist::{self, Check, Expect, Standpoint, Undetectable};
use bastium_core::diagnosis::Severity;
use bastium_core::findings;
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, resolve};
use bastium_core::proof;
use bastium_core::rules::{self, RuleSet, mistakes};
use bastium_core::space::{Ends, Packet};
use bastium_core::verdict::{Cause, Verdict};
use model::{TODAY, any_draft};
use proptest::prelude::*;
use proptest::sample::select;
use std::collections::{HashMap, HashSet};
use std::net::IpAddr;

/// The same packet from another source of the same family.
fn from(packet: &Packet, source: IpAddr) -> Option<Packet> {
    Some(Packet { ends: Ends::new(source, packet.destination())?, ..*packet })
}

/// Whether something else than planned happens to any packet: more than that the log is another.
fn verdict_differs(meaning: &Meaning<'_>, wrong: &RuleSet) -> bool {
    let differences = proof::differences(meaning, wrong, &meaning.universe());
    differences.iter().any(|one| one.meaning.verdict != Verdict::from(one.rules.action))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    #[test]
    fn every_check_of_a_random_plan_is_true(draft in any_draft()) {
        let plan = resolve(draft).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::compile(&meaning);
        let stands = checklist::build(&meaning, bastium_core::proof::proved(&meaning, &rules).expect("the rules do what the plan says")).stands;
        let mut ids = HashSet::new();
        let mut looks = HashMap::new();
        for check in stands.iter().flat_map(|stand| &stand.checks) {
            let own = (&check.standpoint, &check.to, &check.target, check.probe, check.expect);
            let own = format!("{own:?} {:?}", check.when);
            let other = looks.insert(own.clone(), &check.id);
            prop_assert!(other.is_none(), "{} and {other:?} look like {own}", check.id);
        }
        for check in stands.iter().flat_map(|stand| &stand.checks) {
            prop_assert!(ids.insert(check.id.clone()), "{} appears twice", check.id);
            let decision = meaning.decide(&check.packet);
            prop_assert_eq!(decision, check.decision, "{}", &check.id);
            prop_assert_eq!(check.expect == Expect::Reply, decision.verdict == Verdict::Allow);
            let apart = matches!(decision.cause, Cause::SameNetwork(_));
            prop_assert!(apart || decision.verdict.is_filtered(), "{}", check.id);
            prop_assert!(!check.if_not(&rules).is_empty());
        }
        for stand in &stands {
            prop_assert!(!stand.standpoint.name(&meaning).is_empty());
            prop_assert!(!stand.standpoint.how(&meaning).is_empty());
        }
    }

    /// What is said of a list's strength is true of the lists with the mistakes in them.
    #[test]
    fn strength_is_what_it_is_said_to_be(draft in any_draft(), form in select(&Form::ALL[..]), skip in 0..5usize) {
        let plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::in_form(&meaning, form).expect("says everything");
        let list = checklist::build(&meaning, bastium_core::proof::proved(&meaning, &rules).expect("the rules do what the plan says"));
        let checks: Vec<&Check> = list.stands.iter().flat_map(|stand| &stand.checks).collect();
        let strength = &list.strength;
        let (caught, never) = (strength.caught, strength.undetectable.len());
        prop_assert_eq!(strength.mistakes, caught + never + strength.missed.len());
        prop_assert!(strength.missed.is_empty(), "{:?}", strength.missed);
        prop_assert!(list.least <= checks.len());
        let all: Vec<mistakes::Mistake> = mistakes::mistakes(&rules).collect();
        prop_assert_eq!(all.len(), strength.mistakes);
        let filtered = |check: &&&Check| check.decision.verdict.is_filtered();
        for (number, mistake) in (0u32..).zip(&all).skip(skip).step_by(5) {
            if mistake.rule(&rules).is_some_and(|rule| rule.first_packets().is_none()) {
                continue; // What comes back is tried by a test of its own.
            }
            let wrong = mistake.made_in(&rules);
            for check in checks.iter().filter(filtered) {
                let differs = wrong.first_match(&check.packet).action
                    != rules.first_match(&check.packet).action;
                let seen = !rules.unseen.contains(&check.packet);
                prop_assert_eq!(
                    check.shows.contains(&number), differs && seen,
                    "{} and {:?} of {:?}", check.id, mistake.kind, mistake.place
                );
            }
        }
        let first = |number: u32| {
            let rule = all[number as usize].rule(&rules);
            rule.is_none_or(|rule| rule.first_packets().is_some())
        };
        let some = strength.undetectable.iter().filter(|(lapse, _)| first(lapse.number));
        for (lapse, why) in some.skip(skip).step_by(9) {
            let wrong = all[lapse.number as usize].made_in(&rules);
            let differs = verdict_differs(&meaning, &wrong);
            match why {
                Undetectable::NoPlace => prop_assert!(differs, "{lapse:?}"),
                _ => prop_assert!(!differs, "{lapse:?}: {why:?} {:?} {:?}", proof::differences(&meaning, &wrong, &meaning.universe()).iter().map(|d| (d.packet, d.meaning, d.rules.action, d.rules.rule.map(|r| r.id.clone()))).collect::<Vec<_>>(), all[lapse.number as usize]),
            }
        }
    }

    /// Where any device will do, every device without a name fares alike.
    #[test]
    fn any_device_will_do_where_the_list_says_so(draft in any_draft()) {
        let plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let stands = checklist::build(&meaning, bastium_core::proof::proved(&meaning, &rules::compile(&meaning)).expect("the rules do what the plan says")).stands;
        for stand in &stands {
            let Standpoint::Network(id) = stand.standpoint else { continue };
            let Some(pool) = plan.network(id).pool else { continue };
            for check in &stand.checks {
                for source in [pool.first(), pool.last()] {
                    let Some(packet) = from(&check.packet, source.into()) else { continue };
                    let named = plan.host_at(source.into()).is_some();
                    if !named && !check.packet.source().is_unspecified() {
                        prop_assert_eq!(meaning.decide(&packet).verdict, check.decision.verdict);
                    }
                }
            }
        }
    }

    /// A finding that an exception never decides anything is true: no part of anything is its own.
    #[test]
    fn what_never_matches_decides_nothing_and_the_rest_decides_something(draft in any_draft()) {
        let plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let found = findings::find(&plan, TODAY, Ok(&meaning));
        prop_assert!(found.iter().all(|finding| finding.severity != Severity::Error));
        let parts = meaning.parts(&meaning.universe());
        for &id in meaning.precedence().active() {
            let (name, table) = (&plan.exception(id).name, plan.exception(id).table());
            let says = format!("{table} `{name}` never decides anything");
            let reported = found.iter().any(|finding| finding.says == says);
            let decides = parts.iter().any(|part| part.decision.cause.exception() == Some(id));
            prop_assert_eq!(reported, !decides, "{}", name);
        }
    }

    /// An off entry that is reported to contradict another does, once it is on; and the other way round.
    #[test]
    fn what_would_contradict_if_switched_on_does(draft in any_draft()) {
        let plan = resolve(draft.clone()).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let off = plan.exceptions().iter().position(|exception| exception.off);
        let Some(off) = off else { return Ok(()) };
        let mut switched = draft;
        if let Some(located) = &mut switched.exceptions[off].off {
            located.value = false;
        }
        let on = resolve(switched).expect("a plan");
        let contradicted = Meaning::new(&on, TODAY).is_err();
        let found = findings::find(&plan, TODAY, Ok(&meaning));
        let name = &plan.exceptions()[off].name;
        let reported = found.iter().any(|f| f.name == "off-contradicts" && f.says.contains(&format!("`{name}`")));
        if reported {
            prop_assert!(contradicted, "{} is reported to contradict, and does not", name);
        }
    }
}
