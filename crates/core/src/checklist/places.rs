//! What a person can send from the test points of a site so that the outcome means something.
//!
//! A tester has a laptop. It can take the address of any device of a network, sit behind a router, or be outside; it
//! opens TCP connections, sends UDP packets and echo requests. It cannot send with a spoofed source and still see a
//! reply, and it cannot address private networks from outside.

use crate::addressing::Placeholder;
use crate::example;
use crate::meaning::Meaning;
use crate::plan::{NetworkId, Plan};
use crate::space::{
    AddressSet, Family, Interface, IntervalSet, Match, Packet, PacketSet, Protocol, ServicePoint,
    ServiceSet,
};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// Where announcements of names go (RFC 6762).
pub(super) const ANNOUNCED_TO: [IpAddr; 2] = [
    IpAddr::V4(Ipv4Addr::new(224, 0, 0, 251)),
    IpAddr::V6(Ipv6Addr::new(0xff02, 0, 0, 0, 0, 0, 0, 0xfb)),
];

/// What can be sent.
#[derive(Clone, Debug)]
pub(super) struct Places {
    /// Products of packets, as they are sent: before anything is translated.
    pub(super) products: Vec<Match>,
    /// For each interface, the address from which to send first, in each family.
    first: Vec<[Option<IpAddr>; 2]>,
}

impl Places {
    /// What can be sent on the site of a plan.
    pub(super) fn of(meaning: &Meaning<'_>) -> Self {
        let plan = meaning.plan();
        let strangers = strangers(plan);
        let targets = targets(plan, &strangers);
        let mut places = Self { products: Vec::new(), first: Vec::new() };
        for id in plan.network_ids() {
            places.network(plan, id, &targets);
        }
        for (index, uplink) in plan.uplinks().iter().enumerate() {
            let source = strangers.union(&spoken_of(plan)).difference(&placeholders(plan));
            let open = targets.intersection(plan.inside()).difference(&meaning.hidden_outside());
            places.products.push(Match {
                enters: IntervalSet::point(plan.uplink_interface(index)),
                source: source.difference(&uplink.own()),
                destination: uplink.gateway().union(&open.difference(plan.gateway_inside())),
                service: probed(),
                at: IntervalSet::full(),
            });
            places.first.push(Family::ALL.map(|family| example::first(&strangers, family)));
        }
        places
    }

    fn network(&mut self, plan: &Plan, id: NetworkId, targets: &AddressSet) {
        let interface = plan.network_interface(id);
        let mut product = |source: AddressSet, destination: AddressSet, service: ServiceSet| {
            let (enters, at) = (IntervalSet::point(interface), IntervalSet::full());
            self.products.push(Match { enters, source, destination, service, at });
        };
        let own = plan.network_addresses(id);
        product(own.clone(), targets.clone(), probed());
        for route in plan.routes().iter().filter(|route| route.network == id) {
            product(route.devices.clone(), targets.clone(), probed());
        }
        if plan.network(id).pool.is_some() {
            let (nobody, everyone) = (Ipv4Addr::UNSPECIFIED, Ipv4Addr::BROADCAST);
            let service = ServiceSet::ports(Protocol::UDP, 67, 67);
            product(IpAddr::from(nobody).into(), IpAddr::from(everyone).into(), service);
        }
        if !plan.discoveries().is_empty() {
            let service = ServiceSet::ports(Protocol::UDP, 5353, 5353);
            product(own.clone(), ANNOUNCED_TO.into_iter().collect(), service);
        }
        let anyone = plan.anonymous_addresses(id);
        self.first.push(Family::ALL.map(|family| example::first(anyone, family)));
    }

    /// Whether a packet can be sent.
    pub(super) fn can_send(&self, packet: &Packet) -> bool {
        self.products.iter().any(|product| product.contains(packet))
    }

    /// All that can be sent.
    pub(super) fn all(&self) -> PacketSet {
        self.products.iter().cloned().collect()
    }

    /// Of a set, what can be sent.
    pub(super) fn within(&self, set: &Match) -> PacketSet {
        let shared = self.products.iter().filter_map(|product| shared(product, set));
        shared.collect()
    }

    /// The address from which to send first on an interface.
    pub(super) fn first(&self, interface: Interface, family: Family) -> Option<IpAddr> {
        self.first.get(usize::from(interface.0))?[family as usize]
    }
}

/// What two products share; `None` if nothing.
pub(super) fn shared(one: &Match, other: &Match) -> Option<Match> {
    if one.enters.is_disjoint(&other.enters) {
        return None;
    }
    let enters = one.enters.intersection(&other.enters);
    let source = one.source.intersection(&other.source);
    let destination = one.destination.intersection(&other.destination);
    if source.is_empty() || destination.is_empty() {
        return None;
    }
    let (service, at) = (one.service.intersection(&other.service), one.at.intersection(&other.at));
    let some = !service.is_empty() && !at.is_empty();
    some.then_some(Match { enters, source, destination, service, at })
}

/// The services that a probe can ask for: TCP and UDP, but for what addresses are asked for with, and echo.
fn probed() -> ServiceSet {
    let udp = ServiceSet::ports(Protocol::UDP, 1, u16::MAX);
    let leases =
        [(67, 68), (546, 547)].map(|(low, high)| ServiceSet::ports(Protocol::UDP, low, high));
    let udp = leases.iter().fold(udp, |udp, leases| udp.difference(leases));
    ServiceSet::ports(Protocol::TCP, 1, u16::MAX).union(&udp).union(&ServiceSet::echo())
}

/// One address of each family that stands for all of the internet that the plan does not speak of.
fn strangers(plan: &Plan) -> AddressSet {
    let own = plan.uplinks().iter().map(|uplink| uplink.own()).collect::<AddressSet>();
    let unspoken = plan.internet_addresses().difference(&spoken_of(plan));
    let unspoken = unspoken.difference(&own).difference(plan.gateway_outside());
    let one = |family| example::candidates(plan, &unspoken, family).first().copied();
    Family::ALL.into_iter().filter_map(one).collect()
}

/// Who answers: devices inside, the gateway, whom the plan speaks of outside, and any one server there.
fn targets(plan: &Plan, strangers: &AddressSet) -> AddressSet {
    let networks = plan.network_ids().map(|id| plan.network_addresses(id).clone());
    let behind = plan.routes().iter().map(|route| route.devices.clone());
    let gateway = [plan.gateway_addresses().clone()];
    let outside = [spoken_of(plan), strangers.clone(), plan.beside_uplinks().clone()];
    networks.chain(behind).chain(gateway).chain(outside).collect()
}

/// The addresses outside that exceptions name: of a set that means the internet at large, those that it leaves out;
/// and who stands on an uplink's own link.
pub(super) fn spoken_of(plan: &Plan) -> AddressSet {
    let internet = plan.internet_addresses();
    let named = plan.exceptions().iter().flat_map(|e| [&e.from.addresses, &e.to.addresses]);
    let families = named.flat_map(|set| [set.only_v4(), set.only_v6()]);
    let narrow = families.map(|set| match set.has_most_of(internet) {
        true if set.v4.is_empty() => internet.only_v6().difference(&set),
        true => internet.only_v4().difference(&set),
        false => set.intersection(&internet.union(plan.beside_uplinks())),
    });
    narrow.fold(AddressSet::empty(), |all, set| all.union(&set))
}

/// What is no address that anyone has.
fn placeholders(plan: &Plan) -> AddressSet {
    let domains = plan.domains().iter().map(|domain| domain.placeholder);
    let leased = plan.uplinks().iter().filter_map(|uplink| uplink.placeholder);
    domains.chain(leased).map(Placeholder::set).collect()
}

/// A TCP port.
pub(super) fn tcp(port: u16) -> ServicePoint {
    ServicePoint::port(Protocol::TCP, port)
}
