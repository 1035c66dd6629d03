//! Turns checks into what devices of a site in the kernel do.

use crate::layout::Layout;
use crate::site::{Action, Attempt, Expected, Wire};
use bastium_core::addressing::Placeholder;
use bastium_core::checklist::{Check, Probe};
use bastium_core::plan::Plan;
use bastium_core::rules::RuleSet;
use bastium_core::space::{Packet, Protocol};
use std::net::IpAddr;

/// A name for which nobody on the site knows an address (RFC 6761).
const ASKED_FOR: &str = "example.org";

/// What a device does for a check; `None` for one that no socket can make.
pub(super) fn attempt(rules: &RuleSet, layout: &Layout, check: &Check) -> Option<Attempt> {
    let plan = rules.plan();
    let packet = &check.packet;
    let own = is_gateway(plan, packet.destination());
    let action = match check.probe {
        Probe::Lease => Action::Lease(None),
        Probe::Ping => Action::Echo,
        Probe::Tcp(port) => Action::Connect(port),
        Probe::Web => Action::Connect(443),
        Probe::Udp(port) => Action::Ask(port),
        Probe::Dns if own => Action::Resolve(ASKED_FOR.to_owned()),
        Probe::Dns => Action::Ask(53),
        Probe::Time => Action::Ask(123),
        Probe::Browse => Action::Tell(5353),
    };
    let cable = usize::from(plan.came_by(packet.enters).0);
    Some(Attempt {
        cable: Some(cable),
        from: layout.real(packet.source()),
        to: layout.real(packet.destination()),
        answers: answers(rules, layout, packet, &action),
        action,
    })
}

/// A packet of the plan's as a conversation that a device begins; `None` where no ordinary socket can.
pub(super) fn conversation(rules: &RuleSet, layout: &Layout, packet: &Packet) -> Option<Attempt> {
    let plan = rules.plan();
    let action = match Probe::for_service(packet.service)? {
        Probe::Ping => Action::Echo,
        Probe::Tcp(port) => Action::Connect(port),
        Probe::Udp(port) => Action::Ask(port),
        Probe::Dns => Action::Ask(53),
        Probe::Time => Action::Ask(123),
        Probe::Lease | Probe::Web | Probe::Browse => return None,
    };
    let to = layout.real(packet.destination());
    let begun = packet.enters == plan.gateway_interface();
    let from = match begun {
        true => own_address(layout, plan, to)?,
        false => layout.real(packet.source()),
    };
    let cable = (!begun).then(|| usize::from(plan.came_by(packet.enters).0));
    let answers = answers(rules, layout, packet, &action);
    Some(Attempt { cable, from, to, action, answers })
}

/// The gateway's address on the way to another.
fn own_address(layout: &Layout, plan: &Plan, to: IpAddr) -> Option<IpAddr> {
    let wire = &layout.wires[layout.cable_of(plan, to)?];
    wire.gateway.iter().map(ipnet::IpNet::addr).find(|own| own.is_ipv4() == to.is_ipv4())
}

/// Who answers a conversation, if anybody has to be set up for it.
fn answers(rules: &RuleSet, layout: &Layout, packet: &Packet, action: &Action) -> Option<Expected> {
    let plan = rules.plan();
    let inside = rules.as_filtered(packet);
    let protocol = inside.service.protocol();
    let port = inside.service.destination_port()?;
    if matches!(action, Action::Resolve(_) | Action::Lease(_) | Action::Tell(_)) {
        return None;
    }
    let at = layout.real(inside.destination());
    let cable = match is_gateway(plan, inside.destination()) {
        true => None,
        false => Some(layout.cable_of(plan, at)?),
    };
    Some(Expected { cable, at, tcp: protocol == Protocol::TCP, port })
}

fn is_gateway(plan: &Plan, address: IpAddr) -> bool {
    plan.is_gateway(address) || matches!(Placeholder::of(address), Some(Placeholder::Uplink(_)))
}

/// The address under which a packet should be heard at the other end: its own, or the gateway's where a
/// private one goes out (RFC 1918), or where it is sent back, to `heard_at` in its own network.
pub(super) fn heard_as(
    plan: &Plan,
    layout: &Layout,
    packet: &Packet,
    heard_at: IpAddr,
) -> Option<IpAddr> {
    let source = packet.source();
    let own = |wire: &Wire| wire.gateway.iter().map(ipnet::IpNet::addr).find(IpAddr::is_ipv4);
    if source.is_ipv4() && heard_at != packet.destination() {
        let [from, to] = [source, heard_at].map(|address| plan.network_of(address));
        if let Some(network) = from.filter(|_| from == to) {
            return own(&layout.wires[usize::from(plan.network_interface(network).0)]);
        }
    }
    let out = plan.internet_addresses().contains(packet.destination())
        || plan.beside_uplinks().contains(packet.destination());
    match source {
        IpAddr::V4(v4) if out && v4.is_private() && !is_gateway(plan, packet.destination()) => {
            let wire = &layout.wires[layout.cable_of(plan, layout.real(packet.destination()))?];
            own(wire)
        }
        _ => Some(layout.real(source)),
    }
}
