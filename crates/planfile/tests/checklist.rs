//! The checklist: nothing in it is expected that the plan does not mean, and nothing that it has to
//! try is left out.

use bastium_core::checklist::{self, Check, Expect, Limit, Probe, SetUp, Standpoint, Target};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Form, Network, Plan};
use bastium_core::proof;
use bastium_core::rules::{self, RuleSet, mistakes};
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
    let checks: Vec<Check> = checklist::build(
        &meaning,
        bastium_core::proof::proved(&meaning, &rules).expect("the rules do what the plan says"),
    )
    .stands
    .into_iter()
    .flat_map(|stand| stand.checks)
    .collect();
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
                (Verdict::Block | Verdict::NotRouted, _) => Expect::Silence,
                (Verdict::Reject, Probe::Tcp(_) | Probe::Web) => Expect::Refused,
                (Verdict::Reject, _) => Expect::Unreachable,
                other => panic!("{}: nothing can be expected of {other:?}", check.id),
            };
            assert_eq!(check.expect, expected, "{}", check.id);
            let proves = check.proves.as_ref().map(|proves| proves.0);
            if !decision.verdict.is_filtered() {
                assert_eq!(proves, None, "{}: no rule keeps neighbours apart", check.id);
                continue;
            }
            let outcome = rules.first_match(&check.packet);
            assert!(proof::agrees(decision, outcome), "{}", check.id);
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
                Target::Address(address)
                    if !matches!(check.probe, Probe::Lease | Probe::Browse) =>
                {
                    assert_eq!(address, check.packet.destination());
                    assert!(all.iter().all(|c| c.contains(&address.to_string())), "{}", check.id);
                }
                Target::Anyone { .. } if check.probe != Probe::Web => {
                    assert!(all.iter().all(|c| c.contains("OUTSIDE_ADDRESS")), "{}", check.id);
                }
                _ => {}
            }
            // Somebody answers, or it is said what to set up.
            let alone = !check.answered;
            assert_eq!(check.set_up().is_some(), alone, "{}", check.id);
        }
    });
}

/// The goal of it all: on every plan that ships, whatever can be caught is caught.
#[test]
fn the_lists_of_the_demo_plans_miss_no_mistake_in_any_form() {
    let farm = include_str!("../../../demo/farm.toml");
    let bare = include_str!("../../../demo/bare.toml");
    for text in [CLINIC, farm, bare] {
        let plan = read(text);
        let meaning = Meaning::new(&plan, DAY).expect("a meaning");
        for form in Form::ALL {
            let Ok(rules) = rules::in_form(&meaning, form) else { continue };
            let list = checklist::build(
                &meaning,
                bastium_core::proof::proved(&meaning, &rules)
                    .expect("the rules do what the plan says"),
            );
            let strength = &list.strength;
            assert!(strength.missed.is_empty(), "{}: {:?}", form.word(), strength.missed);
            assert!(strength.caught > 60, "{}: {}", form.word(), strength.caught);
            let count = list.stands.iter().map(|stand| stand.checks.len()).sum::<usize>();
            assert!(list.least <= count && count <= 2 * list.least, "{count} of {}", list.least);
        }
    }
}

/// Less than the whole list is the best of it: guarantees stay, and what is lost is reported.
#[test]
fn a_shorter_list_keeps_guarantees_and_says_what_it_misses() {
    let plan = read(CLINIC);
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let rules = rules::compile(&meaning);
    let whole = checklist::build(
        &meaning,
        bastium_core::proof::proved(&meaning, &rules).expect("the rules do what the plan says"),
    );
    let checks = |list: &checklist::Checklist| -> Vec<Check> {
        list.stands.iter().flat_map(|stand| stand.checks.clone()).collect()
    };
    let promised = checks(&whole).iter().filter(|check| check.guarantee).count();
    let mut caught = 0;
    for limit in [Limit::Seconds(15 * 60), Limit::Seconds(30 * 60), Limit::Checks(120)] {
        let mut list = whole.clone();
        list.keep_best(limit);
        let kept = checks(&list);
        match limit {
            Limit::Seconds(most) => assert!(checklist::seconds(&list.stands) <= most),
            Limit::Checks(most) => assert_eq!(kept.len(), most),
        }
        assert_eq!(kept.iter().filter(|check| check.guarantee).count(), promised, "{limit:?}");
        let strength = &list.strength;
        let shown: HashSet<u32> = kept.iter().flat_map(|check| check.shows.clone()).collect();
        assert_eq!(strength.caught, shown.len());
        assert_eq!(strength.caught + strength.missed.len(), whole.strength.caught);
        assert!(strength.caught > caught, "more time catches more");
        caught = strength.caught;
    }
}

/// An exception that makes a difference is tried: once where it decides, and once just beside it.
#[test]
fn every_exception_is_tried_from_both_sides() {
    with_clinic(|meaning, rules, checks| {
        for &id in meaning.precedence().active() {
            let exception = meaning.plan().exception(id);
            let decided = |check: &&Check| check.decision.cause.exception() == Some(id);
            assert!(checks.iter().any(|check| decided(&check)), "{} is not tried", exception.name);
            let all: Vec<mistakes::Mistake> = mistakes::mistakes(rules).collect();
            let beside = checks.iter().filter(|check| !decided(check)).any(|check| {
                let of_it = |number: &u32| {
                    let rule = all[*number as usize].rule(rules);
                    rule.is_some_and(|rule| {
                        rule.causes().any(|cause| cause.exception() == Some(id))
                    })
                };
                check.shows.iter().any(of_it)
            });
            let opens = exception.action == Action::Allow && !exception.translated;
            assert!(beside || !opens, "nothing is tried beside {}", exception.name);
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
    let stands = checklist::build(
        &meaning,
        bastium_core::proof::proved(&meaning, &rules).expect("the rules do what the plan says"),
    )
    .stands;
    let stand = stands.iter().find(|stand| {
        let vets = |check: &Check| check.decision.cause.name(&plan) == "vets-read-records";
        stand.checks.iter().any(|check| vets(check) && check.expect == Expect::Reply)
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
    let checks: Vec<Check> = checklist::build(
        &meaning,
        bastium_core::proof::proved(&meaning, &rules).expect("the rules do what the plan says"),
    )
    .stands
    .into_iter()
    .flat_map(|stand| stand.checks)
    .collect();
    let decides = |rule: &rules::Rule| matches!(rule.cause, Cause::Cell(..) | Cause::Exception(_));
    let numbers: Vec<u32> =
        rules.rules().filter(|rule| decides(rule)).map(|rule| rule.number).collect();
    assert!(numbers.len() > 15);
    let strength = checklist::build(
        &meaning,
        bastium_core::proof::proved(&meaning, &rules).expect("the rules do what the plan says"),
    )
    .strength;
    let hidden: Vec<&str> = strength
        .undetectable
        .iter()
        .filter(|(lapse, _)| lapse.kind == mistakes::Kind::Turned)
        .filter_map(|(lapse, _)| lapse.rule.as_deref())
        .collect();
    for rule in rules.rules().filter(|rule| numbers.contains(&rule.number)) {
        if hidden.iter().any(|id| rule.id == *id) {
            continue; // No test place can send what it decides.
        }
        let number = rule.number;
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

/// Whoever stands behind a router, or has an address outside that the plan names, stands somewhere else than
/// in a network; and what is only for them is tried from there.
#[test]
fn places_behind_routers_and_named_ones_outside_are_places_of_their_own() {
    let text = format!(
        "{CLINIC}\n\
         [route.annexe]\nto = \"10.44.200.0/28\"\nvia = \"10.44.40.10\"\n\n\
         [exception.annexe-prints]\nfrom = \"annexe\"\nto = \"paper-printer\"\nservice = \"ipp\"\n\
         action = \"allow\"\nwhy = \"Labels for the annexe\"\n\n\
         [inbound.upkeep]\nhost = \"records\"\nservice = \"ssh\"\nuplink = \"fibre\"\nfrom = \"203.0.113.7\"\nwhy = \"Upkeep by the maker\"\n"
    );
    let plan = read(&text);
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let rules = rules::compile(&meaning);
    let list = checklist::build(
        &meaning,
        bastium_core::proof::proved(&meaning, &rules).expect("the rules do what the plan says"),
    );
    assert!(list.strength.missed.is_empty(), "{:?}", list.strength.missed);
    let at = |name: &str| {
        let mut stands = list.stands.iter();
        stands
            .find(|stand| stand.standpoint.name(&meaning) == name)
            .unwrap_or_else(|| panic!("{name}"))
    };
    let behind = |stand: &&checklist::Stand| matches!(stand.standpoint, Standpoint::Behind(..));
    let annexe: Vec<&checklist::Stand> = list.stands.iter().filter(behind).collect();
    for stand in &annexe {
        assert!(stand.standpoint.name(&meaning).starts_with("annexe as 10.44.200."));
        assert!(stand.standpoint.how(&meaning).contains("behind its router in servers"));
    }
    let prints = |check: &Check| check.decision.cause.name(&plan) == "annexe-prints";
    let mut checks = annexe.iter().flat_map(|stand| &stand.checks);
    assert!(checks.any(|check| prints(check) && check.expect == Expect::Reply));
    let maker = at("internet at 203.0.113.7");
    assert!(maker.standpoint.how(&meaning).contains("ask the owner of 203.0.113.7"));
    assert!(maker.checks.iter().any(|check| check.expect == Expect::Reply));
    let anyone = at("internet");
    let tries_it = |check: &Check| check.probe == Probe::Tcp(22) && check.expect == Expect::Silence;
    assert!(anyone.checks.iter().any(tries_it), "nobody else gets in");
}

/// Each way of checking is measured by itself, and nothing is counted twice or as shown that shows by luck.
#[test]
fn what_each_way_of_checking_notices_is_counted_by_kind() {
    for plan in ["clinic", "farm", "bare"] {
        let text = std::fs::read_to_string(format!("../../demo/{plan}.toml")).expect("the plan");
        let plan = read(&text);
        let meaning = Meaning::new(&plan, date(2026, 11, 25)).expect("a meaning");
        let rules = rules::compile(&meaning);
        let proved = proof::proved(&meaning, &rules).expect("proved");
        let rows = checklist::noticed(&meaning, proved);
        for row in &rows {
            let most = row.made - row.hidden - row.by_none;
            assert!(row.shown.iter().all(|shown| *shown <= most), "{row:?}");
            assert!(row.shown.iter().sum::<usize>() >= most, "{row:?}");
        }
        // Of the rules, by hand, it is what that list says of itself; from laptops less, since some replies may stay out.
        let lists = [checklist::carried(&meaning, proved), checklist::build(&meaning, proved)];
        for (way, list) in lists.iter().enumerate() {
            for (kind, tally) in &list.strength.kinds {
                let row = rows.iter().find(|row| row.kind == kind.word()).expect("the kind");
                assert_eq!(row.made, tally.made, "{kind:?}");
                assert!(
                    row.shown[way] == tally.caught || way == 1 && row.shown[way] < tally.caught
                );
            }
        }
        let of = |kind: &str| rows.iter().find(|row| row.kind == kind);
        let wired: Vec<_> =
            plan.networks().iter().filter(|network| network.tunnel.is_none()).collect();
        // Whoever takes a lease sees prefixes of the other network; a program hears its server, too.
        let two = |both: fn(&Network, &Network) -> bool| {
            wired.windows(2).filter(|pair| both(pair[0], pair[1])).count()
        };
        let v6 = two(|one, other| {
            other.pool.is_some() && one.pool.is_some() && (one.has_v6() || other.has_v6())
        });
        let both = two(|one, other| one.pool.is_some() && other.pool.is_some());
        let joined = of("networks-joined").expect("networks");
        assert_eq!(joined.shown, [v6, both, wired.len() - 1, 0]);
        let wider = of("range-wider").expect("ranges");
        assert_eq!((wider.hidden, wider.shown), (wider.made, [0; 4]));
        let wide = of("translation-too-wide").expect("a site");
        // Who asks does not see his own address as others do; a second laptop that listens sees it.
        let listens = lists[0].stands.iter().flat_map(|stand| &stand.checks).any(|check| {
            matches!(check.set_up(), Some(SetUp::Listener(..)))
                && check.standpoint.network().is_some()
        });
        assert_eq!(wide.shown, [usize::from(listens), 0, 1, 1]);
    }
}
