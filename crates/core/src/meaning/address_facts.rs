//! Facts about addresses that every step of the meaning uses: which sources belong at which interface, which
//! addresses are the gateway's, and which destinations can be reached.

use crate::addressing::{Subnet, link_local, loopback, multicast, not_global, unique_local};
use crate::plan::{Inbound, Network, Plan, Route, Uplink};
use crate::space::{
    AddressSet, Interface, IntervalSet, Match, PacketSet, Protocol, ServicePoint, ServiceSet,
};
use jiff::civil::Date;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// What is known about one interface other than the gateway's own.
#[derive(Clone, Debug)]
pub(super) struct InterfaceFacts {
    pub(super) interface: Interface,
    /// The sources that belong here, the unspecified ones apart.
    pub(super) belongs: AddressSet,
    /// The destinations that count as the gateway when a packet enters here.
    pub(super) to_gateway: AddressSet,
    /// Of these, the ones at which the network's services are offered.
    pub(super) service_points: AddressSet,
    /// For an uplink's interface, where what brings the gateway its address there arrives: at its address on that
    /// link, and at those that everyone there hears.
    pub(super) lease_points: AddressSet,
    /// For a network's interface, what lies in it and is neither gateway, broadcast nor anycast.
    pub(super) own: AddressSet,
    /// For an uplink's interface, the destinations that no packet from outside can have.
    pub(super) hidden: AddressSet,
}

/// The sets that the steps of the meaning are made of.
#[derive(Clone, Debug)]
pub(super) struct AddressFacts {
    pub(super) interfaces: Vec<InterfaceFacts>,
    pub(super) gateway_interface: Interface,
    pub(super) inside: AddressSet,
    pub(super) internet: AddressSet,
    /// By uplink, what lies in its own subnet and is not the internet's.
    pub(super) beside: Vec<AddressSet>,
    pub(super) gateway_inside: AddressSet,
    /// Every network's broadcast address.
    pub(super) broadcasts: AddressSet,
    pub(super) unique_local: AddressSet,
    pub(super) link_only: AddressSet,
    /// The part of the internet that an uplink leads to.
    pub(super) outward: AddressSet,
    pub(super) ipv6_needs: ServiceSet,
    /// What may come from the unspecified address: requests for an address (RFC 2131, RFC 4861,
    /// RFC 4862) and the listener reports that go with it (RFC 3590).
    pub(super) from_unspecified: ServiceSet,
    pub(super) uplink_lease: ServiceSet,
    /// What the gateway itself must be able to send, whatever an exception says about it.
    pub(super) lives_by: ServiceSet,
    pub(super) discovery: ServiceSet,
    /// What each offered service lets in, after translation; by its place in the plan's list.
    pub(super) translated: Vec<(usize, Match)>,
}

pub(super) const UNSPECIFIED_V4: IpAddr = IpAddr::V4(Ipv4Addr::UNSPECIFIED);
pub(super) const UNSPECIFIED_V6: IpAddr = IpAddr::V6(Ipv6Addr::UNSPECIFIED);

impl AddressFacts {
    pub(super) fn survey(plan: &Plan, day: Date) -> Self {
        let gateway = plan.gateway_addresses();
        let shared = to_everyone(plan).union(gateway);
        let mut interfaces = Vec::new();
        for id in plan.network_ids() {
            let mut facts =
                network_ground(plan.network_interface(id), plan.network(id), gateway, &shared);
            for route in plan.routes().iter().filter(|route| route.network == id) {
                facts.belongs = facts.belongs.union(&route.devices);
            }
            interfaces.push(facts);
        }
        for (index, uplink) in plan.uplinks().iter().enumerate() {
            interfaces.push(uplink_ground(
                plan.uplink_interface(index),
                uplink,
                plan,
                gateway,
                &shared,
            ));
        }
        let translated = translated(plan, day, &interfaces);
        let broadcasts =
            plan.networks().iter().flat_map(|n| &n.subnets).filter_map(Subnet::broadcast);
        let broadcasts = broadcasts.chain(plan.routes().iter().filter_map(far_broadcast));
        Self {
            interfaces,
            gateway_interface: plan.gateway_interface(),
            inside: plan.inside().clone(),
            internet: plan.internet_addresses().clone(),
            beside: (0..plan.uplinks().len()).map(|index| plan.beside_uplink(index)).collect(),
            gateway_inside: plan.gateway_inside().clone(),
            broadcasts: broadcasts.collect(),
            unique_local: unique_local(),
            link_only: link_local().union(&unspecified()),
            outward: plan.reachable_internet(),
            ipv6_needs: ipv6_needs(),
            from_unspecified: from_unspecified(),
            uplink_lease: uplink_lease(),
            lives_by: lives_by(plan),
            discovery: ServiceSet::ports(Protocol::UDP, 5353, 5353),
            translated,
        }
    }

    /// What is known about an interface; `None` for the gateway's own and for one that is not there.
    pub(super) fn interface(&self, interface: Interface) -> Option<&InterfaceFacts> {
        self.interfaces.get(usize::from(interface.0)).filter(|facts| facts.interface == interface)
    }

    pub(super) fn universe(&self) -> PacketSet {
        let enters = IntervalSet::range(Interface(0), self.gateway_interface);
        let arriving = Match { enters, ..Match::everything() };
        let translated = self.translated.iter().map(|entry| entry.1.clone());
        std::iter::once(arriving).chain(translated).collect()
    }

    /// The packets that get as far as the exceptions on their way through the gateway: not spoofed,
    /// not for the gateway, not between two devices of one network, and with a way.
    pub(super) fn passing(&self) -> Vec<Match> {
        let beside = self.beside.iter().fold(AddressSet::empty(), |all, own| all.union(own));
        let unicast = self.inside.difference(&self.broadcasts).union(&beside);
        let outward = &self.outward;
        let mut products = Vec::new();
        for facts in &self.interfaces {
            let sources = facts.belongs.difference(&self.link_only);
            let inward = unicast.difference(&facts.to_gateway).difference(&facts.hidden);
            let outward = outward.difference(&facts.to_gateway);
            // What is behind a router here turns round to the network; what is in it does not.
            for (source, inward) in [
                (sources.intersection(&facts.own), inward.difference(&facts.own)),
                (sources.difference(&facts.own), inward),
            ] {
                for (source, destination) in [
                    (source.difference(&self.unique_local), inward.union(&outward)),
                    (source.intersection(&self.unique_local), inward.clone()),
                ] {
                    products.push(Match {
                        enters: IntervalSet::point(facts.interface),
                        source,
                        destination,
                        service: ServiceSet::any(),
                        at: IntervalSet::full(),
                    });
                }
            }
        }
        products.retain(|product| !product.source.is_empty());
        products.extend(self.translated.iter().map(|entry| entry.1.clone()));
        products
    }

    /// The packets for the gateway that get as far as the exceptions: not spoofed, and not what IPv6
    /// cannot do without.
    pub(super) fn arriving(&self) -> Vec<Match> {
        let open = ServiceSet::any().difference(&self.ipv6_needs);
        let asking = self.from_unspecified.difference(&self.ipv6_needs);
        let mut products = Vec::new();
        for facts in &self.interfaces {
            let destination = facts.to_gateway.difference(&facts.hidden);
            let sources = [(facts.belongs.clone(), open.clone()), (unspecified(), asking.clone())];
            for (source, service) in sources {
                products.push(Match {
                    enters: IntervalSet::point(facts.interface),
                    source,
                    destination: destination.clone(),
                    service,
                    at: IntervalSet::full(),
                });
            }
        }
        products
    }
}

pub(super) fn unspecified() -> AddressSet {
    [UNSPECIFIED_V4, UNSPECIFIED_V6].into_iter().collect()
}

/// Destinations that are the gateway's wherever a packet enters: limited broadcast, multicast,
/// link-local, and the subnet-router anycast addresses (RFC 4291 2.6.1).
fn to_everyone(plan: &Plan) -> AddressSet {
    let limited = AddressSet::from(IpAddr::V4(Ipv4Addr::BROADCAST));
    let networks = plan.networks().iter().flat_map(|n| &n.subnets);
    let uplinks = plan.uplinks().iter().flat_map(Uplink::subnets);
    let anycast = networks.filter_map(Subnet::anycast).chain(uplinks.filter_map(|s| s.anycast()));
    limited.union(&multicast()).union(&link_local()).union(&anycast.collect())
}

fn network_ground(
    interface: Interface,
    network: &Network,
    gateway: &AddressSet,
    shared: &AddressSet,
) -> InterfaceFacts {
    let subnets = || network.subnets.iter();
    let broadcasts: AddressSet = subnets().filter_map(Subnet::broadcast).collect();
    let zeros: AddressSet = subnets().filter_map(Subnet::network_address).collect();
    let here: AddressSet =
        subnets().map(Subnet::gateway).chain(subnets().filter_map(Subnet::anycast)).collect();
    let everyone = AddressSet::from(IpAddr::V4(Ipv4Addr::BROADCAST))
        .union(&multicast())
        .union(&link_local())
        .union(&broadcasts);
    let own = network
        .prefixes()
        .difference(gateway)
        .difference(&broadcasts)
        .difference(&subnets().filter_map(Subnet::anycast).collect());
    let belongs = own.difference(&zeros).union(&link_local());
    // Two clients of one tunnel do not meet without the gateway.
    let own = if network.tunnel.is_some() { AddressSet::empty() } else { own };
    InterfaceFacts {
        interface,
        belongs,
        to_gateway: shared.union(&broadcasts),
        service_points: everyone.union(&here),
        lease_points: AddressSet::empty(),
        own,
        hidden: AddressSet::empty(),
    }
}

fn uplink_ground(
    interface: Interface,
    uplink: &Uplink,
    plan: &Plan,
    gateway: &AddressSet,
    shared: &AddressSet,
) -> InterfaceFacts {
    let subnets = || uplink.subnets();
    let reserved: AddressSet =
        subnets().flat_map(|s| [s.broadcast(), s.network_address()]).flatten().collect();
    let broadcasts: AddressSet = subnets().filter_map(|s| s.broadcast()).collect();
    // What comes from where no route leads back does not belong (RFC 3704).
    let outside = AddressSet::full().difference(&not_global());
    let outside = uplink.in_its_families(&outside).union(&uplink.own());
    let named = plan.domains().iter().map(|domain| domain.placeholder.set()).collect();
    let belongs = outside
        .difference(plan.inside())
        .difference(gateway)
        .difference(&multicast())
        .difference(&loopback())
        .difference(&reserved)
        .union(&uplink.in_its_families(&named))
        .union(&link_local());
    InterfaceFacts {
        interface,
        belongs,
        to_gateway: shared.union(&broadcasts),
        service_points: AddressSet::empty(),
        lease_points: AddressSet::from(IpAddr::V4(Ipv4Addr::BROADCAST))
            .union(&multicast())
            .union(&link_local())
            .union(&uplink.gateway()),
        own: AddressSet::empty(),
        hidden: plan.inside().intersection(&not_global()),
    }
}

/// The broadcast address of a routed subnet, where no longer prefix takes it.
fn far_broadcast(route: &Route) -> Option<IpAddr> {
    let subnet = Subnet::with_first_gateway(route.to)?;
    subnet.broadcast().filter(|address| route.reach.contains(*address))
}

/// The packets that offered services let in, as they are after translation: from where they may
/// come, to the one host.
fn translated(plan: &Plan, day: Date, interfaces: &[InterfaceFacts]) -> Vec<(usize, Match)> {
    let mut products = Vec::new();
    for (index, inbound) in plan.inbounds().iter().enumerate() {
        let permission = plan.exception(inbound.exception);
        let Some(target) = inbound.target.filter(|_| permission.counts_on(day)) else { continue };
        let service = ServiceSet { v4: permission.service.set.v4.clone(), ..ServiceSet::empty() };
        for facts in interfaces {
            let source = facts.belongs.intersection(&permission.from.addresses);
            if source.v4.is_empty() {
                continue;
            }
            let product = Match {
                enters: IntervalSet::point(plan.translated_interface(facts.interface)),
                source: source.only_v4(),
                destination: target.into(),
                service: service.clone(),
                at: IntervalSet::full(),
            };
            products.push((index, product));
        }
    }
    products
}

/// The packets that ask for an offered service at the outside, before translation.
pub(super) fn asked_outside(plan: &Plan, inbound: &Inbound) -> Match {
    let permission = plan.exception(inbound.exception);
    let addresses = plan.uplinks()[inbound.uplink].gateway();
    Match {
        enters: IntervalSet::range(Interface(0), Interface(plan.gateway_interface().0 - 1)),
        source: permission.from.addresses.only_v4(),
        destination: addresses.only_v4(),
        service: inbound.outside.clone(),
        at: IntervalSet::full(),
    }
}

/// Neighbour discovery, router solicitation (RFC 4861), listener reports (RFC 2710, RFC 3810), and
/// the errors of RFC 4890 4.4.1.
fn ipv6_needs() -> ServiceSet {
    let whole =
        ServiceSet::icmp_types(Protocol::ICMP_V6, &[1, 2, 130, 131, 132, 133, 135, 136, 143], None);
    let exceeded = ServiceSet::icmp_types(Protocol::ICMP_V6, &[3], Some(0));
    let parameter = ServiceSet::icmp_types(Protocol::ICMP_V6, &[4], Some(1))
        .union(&ServiceSet::icmp_types(Protocol::ICMP_V6, &[4], Some(2)));
    whole.union(&exceeded).union(&parameter)
}

fn from_unspecified() -> ServiceSet {
    ServiceSet {
        v4: IntervalSet::point(ServicePoint::port(Protocol::UDP, 67)),
        v6: ServiceSet::icmp_types(Protocol::ICMP_V6, &[131, 132, 133, 135, 143], None).v6,
    }
}

/// What the gateway lives by: neighbour discovery, router advertisements (RFC 4861), listener reports (RFC 2710,
/// RFC 3810), DHCP's answers (RFC 2131, RFC 8415), and its own requests where an uplink makes some.
fn lives_by(plan: &Plan) -> ServiceSet {
    let port = |number| ServicePoint::port(Protocol::UDP, number);
    let leased = plan.uplinks().iter().any(|uplink| uplink.dhcp);
    let (mut v4, mut v6) = (vec![port(68)], vec![port(546)]);
    if leased {
        v4.push(port(67));
        v6.push(port(547));
    }
    let needs =
        ServiceSet::icmp_types(Protocol::ICMP_V6, &[130, 131, 132, 133, 134, 135, 136, 143], None);
    let v6 = v6.into_iter().collect::<IntervalSet<ServicePoint>>().union(&needs.v6);
    ServiceSet { v4: v4.into_iter().collect(), v6 }
}

/// What a provider's router sends an uplink that asks for its address (RFC 2131, 8415, 4861).
fn uplink_lease() -> ServiceSet {
    let advertisement = ServiceSet::icmp_types(Protocol::ICMP_V6, &[134], None);
    ServiceSet {
        v4: ServiceSet::ports(Protocol::UDP, 68, 68).v4,
        v6: ServiceSet::ports(Protocol::UDP, 546, 546).v6.union(&advertisement.v6),
    }
}
