//! Checklists and findings of random small plans: true whatever the plan.

mod model;

use bastium_core::checklist::{self, Expect, Standpoint};
use bastium_core::diagnosis::Severity;
use bastium_core::findings;
use bastium_core::meaning::Meaning;
use bastium_core::plan::resolve;
use bastium_core::rules;
use bastium_core::space::{Ends, Packet};
use bastium_core::verdict::Verdict;
use model::{TODAY, any_draft};
use proptest::prelude::*;
use std::collections::HashSet;
use std::net::IpAddr;

/// The same packet from another source of the same family.
fn from(packet: &Packet, source: IpAddr) -> Option<Packet> {
    Some(Packet { ends: Ends::new(source, packet.destination())?, ..*packet })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    #[test]
    fn every_check_of_a_random_plan_is_true(draft in any_draft()) {
        let plan = resolve(draft).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::compile(&meaning);
        let stands = checklist::build(&meaning, &rules);
        let mut ids = HashSet::new();
        for check in stands.iter().flat_map(|stand| &stand.checks) {
            prop_assert!(ids.insert(check.id.clone()), "{} is there twice", check.id);
            let decision = meaning.decide(&check.packet);
            prop_assert_eq!(decision, check.decision, "{}", &check.id);
            prop_assert_eq!(check.expect == Expect::Reply, decision.verdict == Verdict::Allow);
            prop_assert!(decision.verdict.is_filtered(), "{}", check.id);
            prop_assert!(!check.if_not(&rules).is_empty());
        }
        for stand in &stands {
            prop_assert!(!stand.standpoint.name(&meaning).is_empty());
            prop_assert!(!stand.standpoint.how(&meaning).is_empty());
        }
    }

    /// Where any device will do, every device without a name fares alike.
    #[test]
    fn any_device_will_do_where_the_list_says_so(draft in any_draft()) {
        let plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let stands = checklist::build(&meaning, &rules::compile(&meaning));
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
            let told = found.iter().any(|finding| finding.says == says);
            let decides = parts.iter().any(|part| part.decision.cause.exception() == Some(id));
            prop_assert_eq!(told, !decides, "{}", name);
        }
    }

    /// An off entry that is told to contradict another does, once it is on; and the other way round.
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
        let told = found.iter().any(|f| f.name == "off-contradicts" && f.says.contains(&format!("`{name}`")));
        if told {
            prop_assert!(contradicted, "{} is told to contradict, and does not", name);
        }
    }
}
