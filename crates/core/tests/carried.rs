//! The list that one person carries, of random plans.

mod model;

use bastium_core::checklist::{self, Check, Checklist, Expect, Point, Probe, Standpoint};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Guarantee, Plan, resolve};
use bastium_core::proof;
use bastium_core::rules;
use bastium_core::verdict::{Cause, Verdict};
use model::{TODAY, any_draft};
use proptest::prelude::*;
use std::collections::HashSet;

fn checks(list: &Checklist) -> impl Iterator<Item = &Check> {
    list.stands.iter().flat_map(|stand| &stand.checks)
}

/// What a list of that plan has to try, in the words of what is not tried, each with whether a check tries it.
fn topics(plan: &Plan, list: &Checklist) -> Vec<(String, bool)> {
    let has_id = |start: &str| checks(list).any(|check| check.id.starts_with(start));
    let mut topics = Vec::new();
    for guarantee in plan.guarantees() {
        let start = format!("{}.{}/", guarantee.word(), guarantee.name);
        // What another topic tries with the very packet bears its name.
        let other = || checks(list).any(|check| is_about(plan, check, guarantee));
        topics
            .push((format!("{} {}", guarantee.word(), guarantee.name), has_id(&start) || other()));
    }
    let decided: HashSet<&str> = checks(list)
        .filter_map(|check| match check.decision.cause {
            Cause::Exception(id) | Cause::Offered(id) => Some(plan.exception(id).name.as_str()),
            _ => None,
        })
        .collect();
    for exception in plan.exceptions() {
        let what = format!("{} {}", exception.table(), exception.name);
        topics.push((what, decided.contains(exception.name.as_str())));
    }
    for network in plan.networks() {
        let has = |what: &str| has_id(&format!("network.{}/{what}", network.name));
        if network.pool.is_some() {
            topics.push((format!("addresses (DHCP) in {}", network.name), has("lease")));
        }
        topics.push((format!("names (DNS) in {}", network.name), has("dns")));
    }
    topics
}

fn is_about(plan: &Plan, check: &Check, guarantee: &Guarantee) -> bool {
    let packet = &check.packet;
    guarantee.from.addresses.contains(packet.source())
        && (guarantee.to.addresses.contains(packet.destination())
            || guarantee.to.gateway && plan.gateway_inside().contains(packet.destination()))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    #[test]
    fn it_tries_everything_or_says_why_not(draft in any_draft()) {
        let plan = resolve(draft).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::compile(&meaning);
        let proved = || proof::proved(&meaning, &rules).expect("the rules do what the plan says");
        let list = checklist::carried(&meaning, proved());
        let full = checklist::build(&meaning, proved());
        prop_assert!(list.strength.caught <= full.strength.caught);
        let not_tried: HashSet<&str> = list.not_tried.iter().map(|one| one.what.as_str()).collect();
        for (what, is_tried) in topics(&plan, &list) {
            prop_assert!(is_tried || not_tried.contains(what.as_str()), "{what} is forgotten");
        }
        prop_assert!(list.not_tried.iter().all(|one| !one.why.is_empty()));
        let mut ids = HashSet::new();
        for check in checks(&list) {
            prop_assert!(ids.insert(check.id.clone()), "{} appears twice", check.id);
            prop_assert_eq!(meaning.decide(&check.packet), check.decision, "{}", &check.id);
            prop_assert_eq!(check.expect == Expect::Reply, check.decision.verdict == Verdict::Allow);
            let can = if check.expect == Expect::Reply { " can " } else { " cannot " };
            prop_assert!(check.says.contains(can), "{}: {}", check.id, check.says);
            let others = matches!(check.standpoint, Standpoint::OutsideAt(_) | Standpoint::OutsideBy(..));
            prop_assert!(!others, "{}: nobody of the site can make it", check.id);
            let answered = check.set_up().is_some() || !matches!(check.probe, Probe::Udp(_));
            prop_assert!(answered || check.expect != Expect::Reply, "{}: nothing answers it", check.id);
        }
    }

    /// One second laptop, in one network; each test point visited once; and every silence that has a control has one that is
    /// in the list and shows that the other end is on.
    #[test]
    fn one_person_can_carry_it(draft in any_draft()) {
        let plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::compile(&meaning);
        let proved = proof::proved(&meaning, &rules).expect("the rules do what the plan says");
        let list = checklist::carried(&meaning, proved);
        let set_up = checks(&list).filter(|check| check.set_up().is_some());
        let second: HashSet<_> =
            set_up.map(|check| plan.network_of(check.packet.destination())).collect();
        prop_assert!(second.len() <= 1, "{second:?}");
        let mut points: Vec<Point> = list.stands.iter().map(|stand| stand.standpoint.point()).collect();
        points.dedup();
        prop_assert_eq!(points.len(), checklist::points(&list.stands));
        let found = |id: &String| checks(&list).find(|check| check.id == *id).expect("in the list");
        for silent in checks(&list).filter(|check| check.needs_control()) {
            if let Some(own) = silent.own_end.as_ref().map(found) {
                prop_assert_eq!(own.expect, Expect::Reply);
                prop_assert_eq!(&own.standpoint, &silent.standpoint);
                let v6 = |check: &Check| check.packet.source().is_ipv6();
                prop_assert_eq!(v6(own), v6(silent));
            }
            let Some(control) = &silent.control else { continue };
            let control = checks(&list).find(|check| check.id == *control);
            let control = control.expect("it is in the list");
            prop_assert_eq!(control.expect, Expect::Reply);
            let same = control.target == silent.target && control.probe == silent.probe;
            let outside = !plan.inside().contains(silent.packet.destination());
            prop_assert!(same || outside || silent.to == "gateway", "{} for {}", control.id, silent.id);
        }
    }
}
