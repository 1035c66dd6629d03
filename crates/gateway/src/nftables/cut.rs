//! Cuts connections: a separate table drops their packets before connection tracking sees them, so that nothing keeps
//! them alive and the kernel forgets them.
//!
//! Each stays in the table for as long as the kernel could remember it, and is gone from it by itself. The table
//! does not change what the plan decides: its writer takes care that the plan lets none of them begin, at any
//! time, and its reader checks that against the plan again.

use bastium_core::addressing::Placeholder;
use bastium_core::meaning::Meaning;
use bastium_core::plan::{NetworkId, Plan};
use bastium_core::space::{Ends, Family, Interface, Packet, Protocol, ServicePoint};
use bastium_core::verdict::Verdict;
use std::fmt::Write;
use std::net::IpAddr;

/// The table's name; its family is `inet`.
pub const CUT_TABLE: &str = "bastium_cut";

/// The most connections that are cut by one table; one with more is not read as such.
pub const MOST_CUT: usize = 10_000;

/// One direction of a connection, as its packets come to the gateway.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Flow {
    /// Their source.
    pub from: IpAddr,
    /// Their destination.
    pub to: IpAddr,
    /// The number of their protocol: 6 for TCP, 17 for UDP.
    pub protocol: u8,
    /// Their source port.
    pub from_port: u16,
    /// Their destination port.
    pub to_port: u16,
}

/// A connection that is to be cut.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
#[non_exhaustive]
pub struct Cut {
    /// What the originator sends.
    pub begun: Flow,
    /// What comes back.
    pub back: Flow,
    /// For how long, in seconds: at least as long as the kernel remembers it without packets.
    pub seconds: u64,
}

impl Cut {
    /// A connection and for how long it is cut; none if it is translated at both ends, so that what comes back has
    /// nothing in common with what was begun.
    ///
    /// No kernel is asked to hold it for longer than a month.
    pub fn new(begun: Flow, back: Flow, seconds: u64) -> Option<Self> {
        const MONTH: u64 = 30 * 24 * 60 * 60;
        let answered = (back.from, back.from_port) == (begun.to, begun.to_port);
        let asked = (back.to, back.to_port) == (begun.from, begun.from_port);
        let same =
            begun.protocol == back.protocol && Family::of(begun.from) == Family::of(back.from);
        (same && (answered || asked)).then_some(Self { begun, back, seconds: seconds.min(MONTH) })
    }
}

/// What the table holds of a family: the directions, and what its conditions are called.
pub(super) const SETS: [(&str, Direction, Family); 4] = [
    ("begun_v4", Direction::Begun, Family::V4),
    ("back_v4", Direction::Back, Family::V4),
    ("begun_v6", Direction::Begun, Family::V6),
    ("back_v6", Direction::Back, Family::V6),
];

/// Where the table is asked: the chain's name, and the kernel's hook.
pub(super) const CHAINS: [(&str, &str); 2] = [("arriving", "prerouting"), ("leaving", "output")];

/// Which way packets go.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Direction {
    Begun,
    Back,
}

/// The table as a file for `nft -f`. Connections that are in it already stay.
pub fn cut_table(cuts: &[Cut]) -> String {
    let mut text = format!("table inet {CUT_TABLE} {{\n");
    for (name, direction, family) in SETS {
        let address = if family == Family::V4 { "ipv4_addr" } else { "ipv6_addr" };
        let _ = write!(
            text,
            "\tset {name} {{\n\t\ttype {address} . {address} . inet_proto . inet_service . inet_service\n\t\tflags timeout\n"
        );
        let flows = cuts.iter().map(|cut| match direction {
            Direction::Begun => (cut.begun, cut.seconds),
            Direction::Back => (cut.back, cut.seconds),
        });
        let elements: Vec<String> =
            flows.filter(|(flow, _)| Family::of(flow.from) == family).map(element).collect();
        if !elements.is_empty() {
            let _ = writeln!(text, "\t\telements = {{ {} }}", elements.join(",\n\t\t\t"));
        }
        text.push_str("\t}\n");
    }
    for (chain, hook) in CHAINS {
        let _ = write!(
            text,
            "\tchain {chain} {{\n\t\ttype filter hook {hook} priority raw; policy accept;\n\t}}\n"
        );
    }
    text.push_str("}\n");
    for (chain, _) in CHAINS {
        let _ = writeln!(text, "flush chain inet {CUT_TABLE} {chain}");
        for (name, _, family) in SETS {
            let ip = if family == Family::V4 { "ip" } else { "ip6" };
            let _ = writeln!(
                text,
                "add rule inet {CUT_TABLE} {chain} {ip} saddr . {ip} daddr . meta l4proto . th sport . th dport @{name} drop"
            );
        }
    }
    text
}

fn element((flow, seconds): (Flow, u64)) -> String {
    format!(
        "{} . {} . {} . {} . {} timeout {seconds}s",
        flow.from, flow.to, flow.protocol, flow.from_port, flow.to_port
    )
}

/// A packet by which a plan may let a connection begin, at whatever hour; none if it never does. An address of the
/// internet may be one that a domain leads to, or one that an uplink is leased: if these may be reached, so may it.
pub fn may_begin(meaning: &Meaning<'_>, flow: &Flow) -> Option<Packet> {
    let plan = meaning.plan();
    let service = ServicePoint::port(Protocol(flow.protocol), flow.to_port);
    let hours = plan.moments();
    let mut packets = Vec::new();
    for enters in entrances(plan, flow.from) {
        let ends =
            destinations(plan, flow.to).into_iter().filter_map(|to| Ends::new(flow.from, to));
        for ends in ends {
            packets.extend(hours.iter().map(|&at| Packet { enters, ends, service, at }));
        }
    }
    packets.into_iter().find(|packet| meaning.decide(packet).verdict == Verdict::Allow)
}

/// Whether a plan lets a connection begin at no time.
///
/// A gateway that began to follow it midway may have taken what came back for what was begun. It is left in doubt
/// where what was begun goes to the higher port, and the plan lets the other direction begin.
pub fn never_begins(meaning: &Meaning<'_>, begun: &Flow, back: &Flow) -> bool {
    let turned_round = || begun.from_port <= begun.to_port && may_begin(meaning, back).is_some();
    may_begin(meaning, begun).is_none() && !turned_round()
}

/// Where packets from an address may come to the gateway; what it begins itself comes from its own addresses alone.
fn entrances(plan: &Plan, from: IpAddr) -> Vec<Interface> {
    let own = plan.is_gateway(from);
    // In a network that has the address; anywhere else its source would be somebody else's.
    let has = |id: &NetworkId| {
        plan.network(*id).subnets.iter().any(|subnet| subnet.prefix().contains(&from))
    };
    let mut all: Vec<Interface> =
        plan.network_ids().filter(has).map(|id| plan.network_interface(id)).collect();
    if all.is_empty() {
        all = (0..plan.gateway_interface().0).map(Interface).collect();
    }
    all.extend(own.then(|| plan.gateway_interface()));
    all
}

/// An address, and what may stand for it in the plan.
fn destinations(plan: &Plan, to: IpAddr) -> Vec<IpAddr> {
    let mut all = vec![to];
    if plan.internet_addresses().contains(to) || plan.network_of(to).is_none() {
        let leased = plan.uplinks().iter().filter_map(|uplink| uplink.placeholder);
        let known = plan.domains().iter().map(|domain| domain.placeholder).chain(leased);
        let addresses = known.flat_map(Placeholder::addresses);
        all.extend(addresses.filter(|address| Family::of(*address) == Family::of(to)));
    }
    all
}
