//! From a plan to the cables of a site, and the rehearsal on paper.

#![cfg(target_os = "linux")]

use bastium_core::checklist::{self, Checklist};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, Plan};
use bastium_core::rules::{self, RuleSet};
use bastium_core::space::{Ends, Packet, Protocol, ServicePoint};
use bastium_testbed::layout::Layout;
use bastium_testbed::probe::Seen;
use bastium_testbed::rehearse::{Wrong, on_paper};
use bastium_testbed::site::Wire;
use jiff::civil::{Date, date};
use std::collections::HashSet;
use std::net::IpAddr;

const DAY: Date = date(2026, 11, 24);

fn demo(name: &str) -> Plan {
    let path = format!("{}/../../demo/{name}", env!("CARGO_MANIFEST_DIR"));
    let bytes = std::fs::read(path).expect("the demo plan is there");
    bastium_planfile::read(name, &bytes).expect("a plan")
}

fn address(word: &str) -> IpAddr {
    word.parse().expect("an address")
}

fn wire<'l>(layout: &'l Layout, interface: &str) -> &'l Wire {
    let mut wires = layout.wires.iter();
    wires.find(|wire| wire.interface == interface).unwrap_or_else(|| panic!("{interface}"))
}

fn devices(wire: &Wire) -> HashSet<IpAddr> {
    wire.devices.iter().map(ipnet::IpNet::addr).collect()
}

#[test]
fn every_network_and_uplink_has_a_cable_with_the_gateway_at_its_end() {
    let plan = demo("clinic.toml");
    let layout = Layout::of(&plan, []).expect("every cable is named");
    assert_eq!(layout.wires.len(), usize::from(plan.gateway_interface().0));
    let desks = wire(&layout, "core.24");
    let own: Vec<String> = desks.gateway.iter().map(ToString::to_string).collect();
    assert_eq!(own, ["10.44.24.1/24", "fd6b:2f4e:91c0:24::1/64"]);
    // Hosts of the plan are there without being asked for.
    assert!(devices(desks).contains(&address("10.44.24.10")));
    let outside = wire(&layout, "wan1");
    assert_eq!(outside.routers, [address("198.51.100.13"), address("2001:db8:9::1")]);
    assert!(devices(outside).contains(&address("198.51.100.13")));
    assert!(
        wire(&layout, "home-visits").gateway.iter().any(|own| own.addr() == address("10.44.250.1"))
    );
}

#[test]
fn devices_stand_where_their_addresses_lead() {
    let plan = demo("clinic.toml");
    let wanted =
        ["10.44.24.77", "10.44.24.1", "10.44.24.255", "203.0.113.80", "224.0.0.251", "10.44.99.9"];
    let layout = Layout::of(&plan, wanted.map(address)).expect("every cable is named");
    assert!(devices(wire(&layout, "core.24")).contains(&address("10.44.24.77")));
    let everyone: HashSet<IpAddr> = layout
        .wires
        .iter()
        .flat_map(|wire| devices(wire).into_iter().chain(wire.beyond.clone()))
        .collect();
    for nobody in ["10.44.24.1", "10.44.24.255", "224.0.0.251", "10.44.99.9"] {
        assert!(!everyone.contains(&address(nobody)), "{nobody}");
    }
    assert!(wire(&layout, "wan1").beyond.contains(&address("203.0.113.80")));
    let at = |word: &str| {
        layout.cable_of(&plan, address(word)).map(|n| layout.wires[n].interface.as_str())
    };
    assert_eq!(at("10.44.24.77"), Some("core.24"));
    assert_eq!(at("203.0.113.80"), Some("wan1"));
    assert_eq!(at("10.44.24.1"), None, "the gateway is at no cable's end");
}

#[test]
fn what_only_stands_for_an_address_becomes_a_real_one_that_nobody_has() {
    let plan = demo("clinic.toml");
    let layout = Layout::of(&plan, []).expect("every cable is named");
    let domain = &plan.domains()[0];
    let real = domain.placeholder.addresses().map(|placeholder| layout.real(placeholder));
    for (placeholder, real) in domain.placeholder.addresses().iter().zip(real) {
        assert_ne!(*placeholder, real);
        assert!(plan.internet_addresses().contains(real), "{real}");
        assert!(plan.host_at(real).is_none());
        let named = plan.groups().iter().any(|group| group.place.addresses.contains(real));
        assert!(!named, "{real} is named by the plan");
    }
    let names: Vec<&str> = layout.names.iter().map(|(name, _)| name.as_str()).collect();
    assert_eq!(names, ["calls.example.net", "media.example.net"]);
    assert!(layout.names.iter().all(|(_, addresses)| addresses[..] == real));
    // A leased uplink has an address in the kernel.
    let bare = demo("bare.toml");
    let layout = Layout::of(&bare, []).expect("every cable is named");
    let outside = layout.wires.last().expect("an uplink");
    assert!(!outside.gateway.is_empty() && !outside.routers.is_empty());
}

#[test]
fn packets_made_by_hand_keep_what_matters() {
    let plan = demo("clinic.toml");
    let layout = Layout::of(&plan, []).expect("every cable is named");
    let interface = plan.network_interface(plan.network_ids().nth(1).expect("the desks"));
    let packet = |to: &str, service| {
        let from = if to.contains(':') { "fd6b:2f4e:91c0:24::9" } else { "10.44.24.10" };
        Packet::new(interface, Ends::new(address(from), address(to)).expect("one family"), service)
    };
    let tcp = ServicePoint::port(Protocol::TCP, 443);
    let (cable, raw) =
        layout.by_hand(&plan, &packet("10.44.40.10", tcp), 50_000).expect("by a cable");
    assert_eq!(
        (layout.wires[cable].interface.as_str(), raw.detail, raw.protocol),
        ("core.24", 443, 6)
    );
    let gre = ServicePoint::new(Protocol(47), 0);
    let (_, raw) = layout.by_hand(&plan, &packet("10.44.40.10", gre), 50_000).expect("by a cable");
    assert_eq!((raw.protocol, raw.detail), (47, 0));
    let (_, raw) = layout.by_hand(&plan, &packet("224.0.0.251", tcp), 50_000).expect("by a cable");
    assert_eq!(raw.destination, address("224.0.0.1"));
    let (_, raw) = layout.by_hand(&plan, &packet("fe80::99", tcp), 50_000).expect("by a cable");
    assert_eq!(raw.destination, Wire::own_link_local(cable));
    let own = Packet { enters: plan.gateway_interface(), ..packet("10.44.40.10", tcp) };
    assert!(
        layout.by_hand(&plan, &own, 50_000).is_none(),
        "no cable brings what the gateway begins"
    );
}

fn rehearsed(
    plan: &Plan,
    change: impl Fn(&mut RuleSet),
) -> (Checklist, bastium_testbed::rehearse::Report) {
    let meaning = Meaning::new(plan, DAY).expect("a meaning");
    let mut rules = rules::in_form(&meaning, Form::PerPair).expect("this form says everything");
    let list = checklist::build(
        &meaning,
        bastium_core::proof::proved(&meaning, &rules).expect("the rules do what the plan says"),
    );
    change(&mut rules);
    let report = on_paper(&meaning, &rules, &list);
    (list, report)
}

#[test]
fn on_paper_all_agrees_and_a_lost_rule_does_not() {
    for name in ["bare.toml", "farm.toml", "clinic.toml"] {
        let plan = demo(name);
        let (list, report) = rehearsed(&plan, |_| {});
        assert!(report.agrees(), "{name}");
        let checks = list.stands.iter().map(|stand| stand.checks.len()).sum::<usize>();
        assert_eq!(report.tried.len(), checks);
        assert_eq!(report.unhit().count(), 0, "{name}");
        let untried = report.tried.iter().filter(|tried| tried.seen == Seen::NotTried);
        assert!(untried.clone().all(|tried| tried.detail.is_some() && tried.wrong.is_none()));
    }
    let plan = demo("clinic.toml");
    let (_, report) = rehearsed(&plan, |rules| {
        for list in &mut rules.lists {
            list.rules.retain(|rule| rule.id != "exception.tills-pay@tills>internet");
        }
    });
    assert!(!report.agrees());
    let wrong: Vec<_> = report.tried.iter().filter(|tried| tried.wrong.is_some()).collect();
    assert!(!wrong.is_empty());
    for tried in wrong {
        assert_eq!(tried.wrong, Some(Wrong::Seen), "{tried:?}");
        assert_eq!(tried.rule.as_deref(), Some("unmatched@through"));
        assert_eq!(tried.proves.as_deref(), Some("exception.tills-pay@tills>internet"));
    }
}
