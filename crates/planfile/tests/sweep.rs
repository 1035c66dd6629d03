//! What a sweep tries.

use bastium_core::meaning::Meaning;
use bastium_core::plan::Plan;
use bastium_core::rules::{self, RuleSet};
use bastium_core::space::{
    AddressSet, Coordinate, Family, Interface, Minute, Packet, Protocol, ServicePoint,
};
use bastium_core::sweep::{End, for_leases, packets, stranger, wanted};
use bastium_core::verdict::{Cause, Spoofing, Verdict};
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

fn demo(name: &str) -> Plan {
    let path = format!("{}/../../demo/{name}", env!("CARGO_MANIFEST_DIR"));
    let text = std::fs::read(&path).expect("the plan");
    bastium_planfile::read(name, &text).expect("a plan")
}

fn address(word: &str) -> IpAddr {
    word.parse().expect("an address")
}

/// One end outside in each family.
fn outside(plan: &Plan) -> Vec<End> {
    let interface = plan.uplink_interface(0);
    ["192.0.2.10", "2001:db8::10"].map(|word| End { interface, address: address(word) }).to_vec()
}

/// The sweep of a demo plan from the addresses that it wants, with all of its hosts.
fn swept(name: &str, check: impl Fn(&Meaning<'_>, &RuleSet, &[End], &[Packet])) {
    let plan = demo(name);
    let day = "2026-11-24".parse().expect("a day");
    let meaning = Meaning::new(&plan, day).expect("a meaning");
    let rules = rules::compile(&meaning);
    let mut ends = wanted(&meaning, &rules);
    for host in plan.hosts() {
        let interface = plan.network_interface(host.network);
        ends.extend(host.addresses.iter().map(|address| End { interface, address: *address }));
    }
    let tried = packets(&meaning, &rules, &ends, &outside(&plan), Minute::default());
    check(&meaning, &rules, &ends, &tried);
}

#[test]
fn own_addresses_are_nobodys_and_lie_on_both_sides_of_each_border() {
    for name in ["clinic.toml", "farm.toml", "bare.toml"] {
        let plan = demo(name);
        let day = "2026-11-24".parse().expect("a day");
        let meaning = Meaning::new(&plan, day).expect("a meaning");
        let rules = rules::compile(&meaning);
        let wanted = wanted(&meaning, &rules);
        for End { interface, address } in &wanted {
            let id = plan.network_on(*interface).expect("a network");
            assert!(plan.unnamed_addresses(id).contains(*address), "{address}");
            if let (Some(pool), IpAddr::V4(own)) = (plan.network(id).pool, address) {
                assert!(*own < pool.first() || *own > pool.last(), "{own} may be leased");
            }
        }
        // Each source that rules tell from its network has an end of ours beside it, where one is free.
        for packets in rules.rules().filter_map(|rule| rule.packets()) {
            for id in plan.network_ids().filter(|id| plan.network(*id).tunnel.is_none()) {
                let here = plan.unnamed_addresses(id);
                let beside = here.difference(&packets.source);
                let partly = !beside.only_v4().is_empty() && beside != *here;
                let ends = wanted.iter().filter(|end| plan.network_of(end.address) == Some(id));
                let mut ends = ends.filter(|end| end.address.is_ipv4());
                assert!(!partly || ends.any(|end| beside.contains(end.address)), "{name}");
            }
        }
    }
}

#[test]
fn every_pair_of_networks_and_the_gateway_are_tried_by_everything_in_the_catalogue() {
    swept("clinic.toml", |meaning, _, ends, tried| {
        let plan = meaning.plan();
        let mut by_pair: BTreeMap<(Interface, IpAddr), BTreeSet<ServicePoint>> = BTreeMap::new();
        for packet in tried {
            let pair = (packet.enters, packet.destination());
            by_pair.entry(pair).or_default().insert(packet.service);
        }
        let mut first: BTreeMap<Interface, IpAddr> = BTreeMap::new();
        for end in ends.iter().filter(|end| end.address.is_ipv4()) {
            first.entry(end.interface).or_insert(end.address);
        }
        let known = [
            (Protocol::TCP, 22),
            (Protocol::TCP, 3389),
            (Protocol::UDP, 161),
            (Protocol::TCP, 9100),
        ];
        for from in first.keys() {
            let others = first.iter().filter(|(to, _)| *to != from).map(|(_, address)| *address);
            let id = plan.network_on(*from).expect("a network");
            let own = plan.network(id).subnets[0].gateway();
            for to in others.chain([own, address("192.0.2.10")]) {
                let services = by_pair.get(&(*from, to)).expect("the pair is tried");
                for (protocol, port) in known {
                    assert!(
                        services.contains(&ServicePoint::port(protocol, port)),
                        "{from:?} {to}"
                    );
                }
                assert!(services.contains(&ServicePoint::icmp(Protocol::ICMP, 8, 0)));
            }
        }
    });
}

#[test]
fn every_border_of_every_rule_is_tried_from_both_sides() {
    swept("clinic.toml", |_, rules, _, tried| {
        let asked: BTreeSet<ServicePoint> = tried.iter().map(|packet| packet.service).collect();
        for packets in rules.rules().filter_map(|rule| rule.packets()) {
            for (low, high) in packets.service.v4.spans() {
                let beside = [low.previous(), Some(*low), Some(*high), high.next()];
                for service in beside.into_iter().flatten() {
                    let leases = [67, 68, 546, 547];
                    let port = service
                        .destination_port()
                        .filter(|port| *port > 0 && !leases.contains(port));
                    if port.is_some() && matches!(service.protocol(), Protocol::TCP | Protocol::UDP)
                    {
                        assert!(asked.contains(&service), "{service}");
                    }
                }
            }
        }
    });
}

#[test]
fn nothing_is_tried_that_never_meets_the_gateway_and_both_verdicts_are() {
    for name in ["clinic.toml", "farm.toml", "bare.toml"] {
        swept(name, |meaning, _, _, tried| {
            let verdict = |packet: &Packet| meaning.decide(packet).verdict;
            assert!(tried.iter().all(|packet| verdict(packet) != Verdict::NotRouted));
            for wanted in [Verdict::Allow, Verdict::Block] {
                assert!(tried.iter().any(|packet| verdict(packet) == wanted), "{name}");
            }
            // Each network's devices try to be somebody else's.
            let spoofs = |packet: &&Packet| {
                matches!(meaning.decide(packet).cause, Cause::Spoofed(Spoofing::Source, _))
            };
            let from: BTreeSet<Interface> =
                tried.iter().filter(spoofs).map(|packet| packet.enters).collect();
            assert!(from.len() > 1, "{name}: {from:?}");
        });
    }
}

#[test]
fn what_is_leased_outside_is_nobodys() {
    let folder = format!("{}/../../demo/broken", env!("CARGO_MANIFEST_DIR"));
    let fine = std::fs::read_dir(folder).expect("plans").filter_map(|entry| {
        let name = entry.expect("a plan").file_name().to_string_lossy().into_owned();
        name.ends_with(".fine.toml").then(|| format!("broken/{name}"))
    });
    let names: Vec<String> =
        fine.chain(["clinic.toml", "farm.toml", "bare.toml"].map(str::to_owned)).collect();
    assert!(names.len() > 50, "{}", names.len());
    for name in names {
        let plan = demo(&name);
        for (family, length) in [(Family::V4, 30), (Family::V6, 64)] {
            let subnets = for_leases(&plan, family, length, 3);
            assert_eq!(subnets.len(), 3, "{name}");
            let sets: Vec<AddressSet> =
                subnets.iter().map(|subnet| AddressSet::from(*subnet)).collect();
            for (place, set) in sets.iter().enumerate() {
                let others = sets.iter().skip(place + 1);
                assert!(
                    others.into_iter().all(|other| other.is_disjoint(set)),
                    "{name}: {subnets:?}"
                );
                let stranger = stranger(&plan, family).expect("an address outside");
                assert!(!set.contains(stranger), "{name}: {stranger}");
                assert!(set.is_disjoint(plan.inside()), "{name}: {subnets:?}");
                for uplink in plan.uplinks() {
                    assert!(set.is_disjoint(&uplink.own()), "{name}: {subnets:?}");
                }
                for exception in plan.exceptions() {
                    for end in [&exception.from.addresses, &exception.to.addresses] {
                        let all = end.has_most_of(plan.internet_addresses());
                        assert!(all || set.is_disjoint(end), "{name}: {subnets:?}");
                    }
                }
            }
        }
    }
}

#[test]
fn a_subnet_for_leases_keeps_off_what_the_plan_names() {
    let path = format!("{}/../../demo/bare.toml", env!("CARGO_MANIFEST_DIR"));
    let text = std::fs::read_to_string(path).expect("the plan");
    let mut named = text;
    named.push_str(
        "\n[exception.support]\nfrom = \"desks\"\nto = [\"192.0.2.0/24\", \"198.51.100.0/25\", \"203.0.113.2\"]\nservice = \"https\"\naction = \"block\"\nwhy = \"Nobody goes there\"\n",
    );
    let plan = bastium_planfile::read("bare.toml", named.as_bytes()).expect("a plan");
    let subnets = |length, number| for_leases(&plan, Family::V4, length, number);
    let words: Vec<String> = subnets(30, 100).iter().map(ToString::to_string).collect();
    assert_eq!(words.first().map(String::as_str), Some("198.51.100.128/30"));
    assert_eq!(words.iter().filter(|word| word.starts_with("198.51.100.")).count(), 32);
    assert!(!words.iter().any(|word| word == "203.0.113.0/30"), "{words:?}");
    assert_eq!(subnets(24, 3), []);
    assert_eq!(subnets(33, 3), []);
}
