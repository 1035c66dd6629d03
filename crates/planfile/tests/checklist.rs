//! The checklist: nothing in it is expected that the plan does not mean, and nothing that it has to
//! try is left out.

use bastium_core::checklist::{self, Check, Expect, Probe, Standpoint, Target};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Plan};
use bastium_core::proof;
use bastium_core::rules::{self, RuleSet};
use bastium_core::verdict::{Cause, Verdict};
use jiff::civil::{Date, date};
use std::collections::HashSet;

const DAY: Date = date(2026, 11, 24);
const CLINIC: &str = include_str!("../../../demo/clinic.toml");

fn read(text: &str) -> Plan {
    bastium_planfile::read("plan", text.as_bytes())
        .unwrap_or_else(|refused| panic!("{:#?}", refused.diagnoses))
}

fn with_clinic(test: impl Fn(&Meaning<'_>, &RuleSet, &[Check])) {
    let plan = read(CLINIC);
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let rules = rules::compile(&meaning);
    let checks: Vec<Check> =
        checklist::build(&meaning, &rules).into_iter().flat_map(|stand| stand.checks).collect();
    test(&meaning, &rules, &checks);
}

#[test]
fn every_check_expects_what_the_plan_means_and_names_the_rule_that_decides() {
    with_clinic(|meaning, rules, checks| {
        assert!(checks.len() > 150);
        for check in checks {
            let decision = meaning.decide(&check.packet);
            assert_eq!(check.decision, decision, "{}", check.id);
            let expected = match (decision.verdict, check.probe) {
                (Verdict::Allow, _) => Expect::Reply,
                (Verdict::Block, _) => Expect::Silence,
                (Verdict::Reject, Probe::Tcp(_) | Probe::Web) => Expect::Refused,
                (Verdict::Reject, _) => Expect::Unreachable,
                other => panic!("{}: nothing can be expected of {other:?}", check.id),
            };
            assert_eq!(check.expect, expected, "{}", check.id);
            let outcome = rules.first_match(&check.packet);
            assert!(proof::agrees(decision, outcome), "{}", check.id);
            let proves = check.proves.as_ref().map(|proves| proves.0);
            assert_eq!(proves, outcome.rule.map(|rule| rule.number), "{}", check.id);
        }
    });
}

#[test]
fn ids_are_unique_and_commands_go_where_the_packet_goes() {
    with_clinic(|_, _, checks| {
        let ids: HashSet<&str> = checks.iter().map(|check| check.id.as_str()).collect();
        assert_eq!(ids.len(), checks.len());
        for check in checks {
            let commands = check.commands();
            let all = [&commands.linux, &commands.macos, &commands.windows];
            match check.target {
                Target::Address(address) if check.probe != Probe::Lease => {
                    assert_eq!(address, check.packet.destination());
                    assert!(all.iter().all(|c| c.contains(&address.to_string())), "{}", check.id);
                }
                Target::Anyone { .. } if check.probe != Probe::Web => {
                    assert!(all.iter().all(|c| c.contains("OUTSIDE_ADDRESS")), "{}", check.id);
                }
                _ => {}
            }
            // Somebody answers, or it is said what to set up.
            let alone = check.expect == Expect::Reply && !check.answered;
            assert_eq!(check.set_up().is_some(), alone, "{}", check.id);
        }
    });
}

#[test]
fn every_pair_of_zones_is_tried_in_every_family_that_both_have() {
    with_clinic(|meaning, _, checks| {
        let plan = meaning.plan();
        let inner = || plan.zone_ids().filter(|zone| plan.networks_of(*zone).next().is_some());
        for from in inner() {
            for to in inner() {
                if from == to && plan.networks_of(from).nth(1).is_none() {
                    continue;
                }
                let (a, b) = (plan.zone_addresses(from), plan.zone_addresses(to));
                for v6 in [false, true] {
                    let both = if v6 { !a.v6.is_empty() && !b.v6.is_empty() } else { true };
                    // Two networks of one zone that both have the family, for the diagonal.
                    let networks = plan
                        .networks_of(from)
                        .filter(|id| !plan.network_addresses(*id).v6.is_empty());
                    let both = both && (from != to || !v6 || networks.count() > 1);
                    let tried = checks.iter().any(|check| {
                        check.decision.cause == Cause::Cell(from, to)
                            && check.packet.destination().is_ipv6() == v6
                    });
                    let names = (&plan.zone(from).name, &plan.zone(to).name, v6);
                    assert_eq!(tried, both, "{names:?}");
                }
            }
        }
    });
}

#[test]
fn every_exception_is_tried_from_both_sides() {
    with_clinic(|meaning, _, checks| {
        for &id in meaning.precedence().active() {
            let exception = meaning.plan().exception(id);
            let of_it = |what: &str| {
                let id = format!("exception.{}/{what}", exception.name);
                checks.iter().find(move |check| check.id == id)
            };
            // Where the same packet stands in the list already, it is not listed again.
            let itself = checks.iter().find(|check| check.decision.cause.exception() == Some(id));
            let itself = itself.unwrap_or_else(|| panic!("{} is not tried", exception.name));
            for what in ["next-port", "other-source", "other-destination"] {
                if let Some(other) = of_it(what) {
                    assert_ne!(other.decision.verdict, itself.decision.verdict, "{}", other.id);
                }
            }
        }
        for id in [
            "exception.pictures-to-archive/next-port",
            "exception.pictures-to-archive/next-port-2",
            "exception.pictures-to-archive/other-destination",
            "exception.recorder-pulls-cameras/other-source",
            "exception.tills-pay/next-port",
            "exception.locum-reads-records/next-port",
        ] {
            assert!(checks.iter().any(|check| check.id == id), "{id}");
        }
    });
}

#[test]
fn every_network_tries_its_address_the_gateway_names_the_internet_and_management() {
    with_clinic(|meaning, _, checks| {
        for network in meaning.plan().networks() {
            let mut wanted = vec!["gateway", "dns", "manage", "internet"];
            wanted.extend(network.pool.map(|_| "lease"));
            for what in wanted {
                let id = format!("network.{}/{what}", network.name);
                assert!(checks.iter().any(|check| check.id == id), "{id}");
            }
        }
        for id in
            ["manage/itself", "outside.fibre/manage", "outside.fibre/manage6", "outside.fibre/ping"]
        {
            assert!(checks.iter().any(|check| check.id == id), "{id}");
        }
    });
}

#[test]
fn any_device_of_a_network_will_do_only_where_all_fare_alike() {
    // A range inside the pool: what its members may, the other devices may not.
    let text = CLINIC.replace("10.44.24.40-10.44.24.47", "10.44.24.100-10.44.24.107");
    let plan = read(&text);
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let rules = rules::compile(&meaning);
    let stands = checklist::build(&meaning, &rules);
    let stand = stands.iter().find(|stand| {
        stand.checks.iter().any(|check| check.id == "exception.vets-read-records/itself")
    });
    let Some(Standpoint::Address(_, address)) = stand.map(|stand| &stand.standpoint) else {
        panic!("the vets' check is made from an address of theirs")
    };
    assert!(address.to_string().starts_with("10.44.24.10"));
}

/// A list that nobody fails is worth nothing: with a wrong rule list some check must fail.
#[test]
fn a_cell_or_an_exception_turned_round_fails_a_check() {
    let plan = read(CLINIC);
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let rules = rules::compile(&meaning);
    let checks: Vec<Check> =
        checklist::build(&meaning, &rules).into_iter().flat_map(|stand| stand.checks).collect();
    let decides = |rule: &rules::Rule| matches!(rule.cause, Cause::Cell(..) | Cause::Exception(_));
    let numbers: Vec<u32> =
        rules.rules().filter(|rule| decides(rule)).map(|rule| rule.number).collect();
    assert!(numbers.len() > 60);
    for number in numbers {
        let mut damaged = rules.clone();
        let rules = damaged.lists.iter_mut().flat_map(|list| &mut list.rules);
        for rule in rules.filter(|rule| rule.number == number) {
            rule.action = if rule.action == Action::Allow { Action::Block } else { Action::Allow };
        }
        let caught = checks.iter().any(|check| {
            Verdict::from(damaged.first_match(&check.packet).action) != check.decision.verdict
        });
        assert!(caught, "rule {number} turned round is noticed");
    }
}
