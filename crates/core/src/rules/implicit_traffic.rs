//! Traffic around the plan's own entries: spoofed sources, packets for the gateway, packets that cannot occur.
//! Expressed as matches from which rules are made.

use super::outer_interfaces;
use crate::addressing::{Subnet, link_local, loopback, multicast, not_global, unique_local};
use crate::plan::{Inbound, NetworkId, Plan, Uplink};
use crate::space::{
    AddressSet, Interface, IntervalSet, Match, PacketSet, Protocol, ServicePoint, ServiceSet,
};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// A match that begins with where a packet enters.
pub(super) fn entering(interface: Interface) -> Match {
    Match { enters: IntervalSet::point(interface), ..Match::everything() }
}

/// A match on everything that comes from outside the gateway.
pub(super) fn arriving(plan: &Plan) -> Match {
    Match { enters: outer_interfaces(plan).collect(), ..Match::everything() }
}

pub(super) fn unspecified() -> AddressSet {
    [IpAddr::V4(Ipv4Addr::UNSPECIFIED), IpAddr::V6(Ipv6Addr::UNSPECIFIED)].into_iter().collect()
}
/// The sources that cannot be true on a network's interface.
pub(super) fn spoofed_at_network(plan: &Plan, id: NetworkId) -> Match {
    let devices = plan.network_addresses(id).difference(plan.gateway_addresses());
    let routes = plan.routes().iter().filter(|route| route.network == id);
    let devices = routes.fold(devices, |all, route| all.union(&route.devices));
    let good = devices.union(&link_local()).union(&unspecified());
    Match { source: good.complement(), ..entering(plan.network_interface(id)) }
}

/// The sources that cannot be true on an uplink's interface.
pub(super) fn spoofed_at_uplink(plan: &Plan, index: usize) -> Match {
    let uplink = &plan.uplinks()[index];
    let own = uplink.own();
    let mut bad =
        plan.inside().union(plan.gateway_addresses()).union(&multicast()).union(&loopback());
    let named: AddressSet = plan.domains().iter().map(|domain| domain.placeholder.set()).collect();
    bad = bad.union(&not_global().difference(&own)).difference(&uplink.in_its_families(&named));
    // Where no route leads back, nobody is.
    let everything = AddressSet::full();
    bad = bad.union(&everything.difference(&uplink.in_its_families(&everything)).difference(&own));
    for address in &uplink.addresses {
        let Some(subnet) = Subnet::new(address.trunc(), address.addr()) else { continue };
        let reserved = [subnet.broadcast(), subnet.network_address()];
        bad = bad.union(&reserved.into_iter().flatten().collect());
    }
    let good = link_local().union(&unspecified());
    Match { source: bad.difference(&good), ..entering(plan.uplink_interface(index)) }
}

/// What may come from a device that has no address yet: requests for one and what goes with them.
pub(super) fn asks_for_address() -> ServiceSet {
    let reports_and_solicitations = [131, 132, 133, 135, 143];
    let mut asks = ServiceSet::icmp_types(Protocol::ICMP_V6, &reports_and_solicitations, None);
    asks.v4 = IntervalSet::point(ServicePoint::port(Protocol::UDP, 67));
    asks
}

/// The unspecified source, where it asks for no address.
pub(super) fn spoofed_unspecified(plan: &Plan) -> Match {
    Match {
        source: unspecified(),
        service: ServiceSet::any().difference(&asks_for_address()),
        ..arriving(plan)
    }
}

/// From outside, untranslated, to an inside address that is not global.
pub(super) fn spoofed_to_private(plan: &Plan) -> Match {
    Match {
        enters: plan.uplink_interfaces(),
        destination: plan.inside().intersection(&not_global()),
        ..Match::everything()
    }
}

/// Errors, neighbour discovery and listener reports that the gateway must hear (RFC 4890 4.4.1).
pub(super) fn ipv6_needs() -> ServiceSet {
    let of = |kinds: &[u8], code| ServiceSet::icmp_types(Protocol::ICMP_V6, kinds, code);
    of(&[1, 2], None)
        .union(&of(&[3], Some(0)))
        .union(&of(&[4], Some(1)))
        .union(&of(&[4], Some(2)))
        .union(&of(&[130, 131, 132, 143], None))
        .union(&of(&[133, 135, 136], None))
}

/// What the DHCP client of an uplink receives (RFC 2131, RFC 8415, RFC 4861).
pub(super) fn lease_from_provider() -> ServiceSet {
    let mut lease = ServiceSet::icmp_types(Protocol::ICMP_V6, &[134], None);
    lease.v6 = lease.v6.union(&ServiceSet::ports(Protocol::UDP, 546, 546).v6);
    lease.v4 = ServiceSet::ports(Protocol::UDP, 68, 68).v4;
    lease
}

/// What the gateway lives by, as it sends it: neighbour discovery and router advertisements (RFC 4861), listener
/// queries and reports (RFC 2710, RFC 3810), answers of DHCP (RFC 2131, RFC 8415); and where an uplink asks
/// for its address, the asking.
pub(super) fn lives_by(plan: &Plan) -> ServiceSet {
    let kinds = [130, 131, 132, 133, 134, 135, 136, 143];
    let mut lives = ServiceSet::icmp_types(Protocol::ICMP_V6, &kinds, None);
    lives.v4 = ServiceSet::ports(Protocol::UDP, 68, 68).v4;
    lives.v6 = lives.v6.union(&ServiceSet::ports(Protocol::UDP, 546, 546).v6);
    if plan.uplinks().iter().any(|uplink| uplink.dhcp) {
        lives.v4 = lives.v4.union(&ServiceSet::ports(Protocol::UDP, 67, 67).v4);
        lives.v6 = lives.v6.union(&ServiceSet::ports(Protocol::UDP, 547, 547).v6);
    }
    lives
}

/// The addresses that everyone on a link hears: limited broadcast, multicast, link-local.
pub(super) fn heard_by_all() -> AddressSet {
    AddressSet::from(IpAddr::V4(Ipv4Addr::BROADCAST)).union(&multicast()).union(&link_local())
}

/// Where a network finds the gateway's services: at the gateway's addresses in it, and at those that
/// everyone hears.
pub(super) fn service_addresses(plan: &Plan, id: NetworkId) -> AddressSet {
    let subnets = || plan.network(id).subnets.iter();
    let own = subnets().map(Subnet::gateway).chain(subnets().filter_map(Subnet::anycast));
    let broadcast = subnets().filter_map(Subnet::broadcast);
    heard_by_all().union(&own.chain(broadcast).collect())
}

/// The addresses at which everyone finds the gateway, wherever they are.
fn gateway_everywhere(plan: &Plan) -> AddressSet {
    let networks = plan.networks().iter().flat_map(|n| &n.subnets).filter_map(Subnet::anycast);
    let uplinks = plan.uplinks().iter().flat_map(Uplink::subnets).filter_map(|s| s.anycast());
    heard_by_all().union(plan.gateway_addresses()).union(&networks.chain(uplinks).collect())
}

/// The broadcast addresses on an interface.
fn broadcasts_at(plan: &Plan, interface: Interface) -> AddressSet {
    if let Some(id) = plan.network_on(interface) {
        return plan.network(id).subnets.iter().filter_map(Subnet::broadcast).collect();
    }
    let addresses = plan.uplink_on(interface).map(|uplink| uplink.addresses.as_slice());
    let subnets = addresses.unwrap_or_default().iter();
    let subnets = subnets.filter_map(|a| Subnet::new(a.trunc(), a.addr()));
    subnets.filter_map(|subnet| subnet.broadcast()).collect()
}

/// What counts as the gateway where packets enter on that interface.
pub(crate) fn gateway_at(plan: &Plan, interface: Interface) -> AddressSet {
    gateway_everywhere(plan).union(&broadcasts_at(plan, interface))
}

/// Everything that is for the gateway itself.
pub(super) fn for_gateway(plan: &Plan) -> PacketSet {
    let mut products = vec![Match { destination: gateway_everywhere(plan), ..arriving(plan) }];
    for interface in outer_interfaces(plan) {
        products.push(Match { destination: broadcasts_at(plan, interface), ..entering(interface) });
    }
    products.into_iter().collect()
}

/// Every interface from outside the gateway, with the sources that the opening list lets pass there.
pub(super) fn entries(plan: &Plan) -> Vec<(Match, AddressSet)> {
    let spoofed = |interface: Interface| match plan.network_on(interface) {
        Some(id) => spoofed_at_network(plan, id),
        None => spoofed_at_uplink(plan, usize::from(interface.0) - plan.networks().len()),
    };
    outer_interfaces(plan)
        .map(|interface| (entering(interface), spoofed(interface).source.complement()))
        .collect()
}

/// By interface from outside the gateway: the sources that the opening list lets pass and that leave their link.
pub(super) fn true_sources(plan: &Plan) -> Vec<AddressSet> {
    let stays = link_local().union(&unspecified());
    entries(plan).into_iter().map(|(_, sources)| sources.difference(&stays)).collect()
}

/// The packets that an offered service lets in, as they are when the filter sees them: translated,
/// on the interface that they came by.
pub(super) fn offered(plan: &Plan, inbound: &Inbound) -> Vec<Match> {
    let permission = plan.exception(inbound.exception);
    let Some(target) = inbound.target else { return Vec::new() };
    let mut products = Vec::new();
    for (interface, true_sources) in entries(plan) {
        let source = permission.from.addresses.intersection(&true_sources);
        products.push(Match {
            source: source.only_v4(),
            destination: target.into(),
            service: ServiceSet { v4: permission.service.set.v4.clone(), ..ServiceSet::empty() },
            enters: interface
                .enters
                .spans()
                .iter()
                .map(|(interface, _)| plan.translated_interface(*interface))
                .collect(),
            ..interface
        });
    }
    products.retain(|product| !product.source.is_empty());
    products
}

/// What never comes to the list for routed traffic, so that order need not care for it: what stays in
/// its network, what has no way, and what the opening list has blocked, spoofed sources apart.
pub(super) fn never_routed(plan: &Plan) -> Vec<Match> {
    let mut never = Vec::new();
    for id in plan.network_ids() {
        let network = plan.network(id);
        let whole = if network.tunnel.is_none() { network.prefixes() } else { AddressSet::empty() };
        never.push(Match {
            source: whole.clone(),
            destination: whole,
            ..entering(plan.network_interface(id))
        });
    }
    never.push(spoofed_to_private(plan));
    never.extend(no_route(plan));
    never
}

/// What has no way: nowhere to go, or a source that stays on its link or inside.
pub(super) fn no_route(plan: &Plan) -> [Match; 3] {
    let outward = plan.internet_addresses();
    let broadcasts = plan.networks().iter().flat_map(|n| &n.subnets).filter_map(Subnet::broadcast);
    let behind = plan.routes().iter().filter_map(|route| {
        Subnet::with_first_gateway(route.to)?.broadcast().filter(|b| route.reach.contains(*b))
    });
    let broadcasts = broadcasts.chain(behind);
    let somewhere = plan.inside().union(outward).union(plan.beside_uplinks());
    let mut nowhere = somewhere.complement().union(&broadcasts.collect());
    nowhere = nowhere.union(&outward.difference(&plan.reachable_internet()));
    let stays = link_local().union(&unspecified());
    [
        Match { destination: nowhere, ..Match::everything() },
        Match { source: stays, ..Match::everything() },
        Match { source: unique_local(), destination: outward.clone(), ..Match::everything() },
    ]
}
