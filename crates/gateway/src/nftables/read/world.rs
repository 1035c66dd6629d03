//! What surrounds a rule set: the interfaces by which packets enter and leave, which packets are for the gateway
//! itself, and what its addresses mean. With a plan, all of that follows from the plan's addressing; without one,
//! every interface may lead anywhere.

use super::ruleset::Side;
use bastium_core::addressing::{Placeholder, Subnet, link_local, multicast};
use bastium_core::plan::{Plan, Uplink};
use bastium_core::space::{AddressSet, Interface, IntervalSet, Match, Protocol, ServiceSet};
use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// Where the kernel asks chains.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Place {
    /// Before a route is looked up.
    Prerouting,
    /// What is for the gateway.
    Input,
    /// What is passed on.
    Forward,
    /// What the gateway begins.
    Output,
    /// On the way out.
    Postrouting,
}

/// What a rule set is asked in.
pub(crate) trait World {
    /// The packets that come to a place.
    fn at(&self, place: Place) -> Match;
    /// The packets that come, or leave, by an interface whose name fits.
    fn interface(&self, side: Side, name: &str) -> Vec<Match>;
    /// The packets whose destination has been translated.
    fn translated(&self) -> Match;
    /// The addresses that the kernel takes for the gateway's own, known or not; what is for itself alone (RFC 1122,
    /// section 3.2.1.3; RFC 4291, section 2.5.3) is among them.
    fn own(&self) -> AddressSet;
    /// What a list means by a set of addresses: nobody writes down those that stand for others.
    fn meant(&self, written: AddressSet) -> AddressSet;
    /// What fills a set while the gateway runs; `None` if that is not known.
    fn filled(&self, set: &str) -> Option<AddressSet>;
}

/// What the connection tracking leaves alone: neighbour discovery and listener messages (`noct_valid_new` of the kernel's
/// `nf_conntrack_proto_icmpv6.c`).
pub(super) fn left_untracked() -> ServiceSet {
    let kinds = [130, 131, 132, 133, 134, 135, 136, 143];
    let messages = ServiceSet::icmp_types(Protocol::ICMP_V6, &kinds, None);
    ServiceSet { v6: messages.v6, ..ServiceSet::empty() }
}

/// Whether an interface's name is meant by a word.
pub(crate) fn fits(word: &str, name: &str) -> bool {
    match word.strip_suffix('*') {
        Some(begin) => name.starts_with(begin),
        None => name == word,
    }
}

/// A gateway that has a plan: its packets are those of the plan.
pub(crate) struct PlanWorld<'p> {
    plan: &'p Plan,
    names: Vec<String>,
    /// By interface from outside: the addresses that lead there.
    reached: Vec<AddressSet>,
    /// The destinations that are taken in by the gateway.
    local: AddressSet,
    own: AddressSet,
    domains: HashMap<String, AddressSet>,
    placeholders: AddressSet,
    at_large: Vec<IpAddr>,
}

impl<'p> PlanWorld<'p> {
    /// The worlds of a plan: one for each uplink that a packet for the internet may leave by, since the plan
    /// does not say which; one where there is none.
    pub(crate) fn all(plan: &'p Plan) -> Vec<Self> {
        let uplinks = plan.uplinks().len();
        (0..uplinks.max(1)).map(|uplink| Self::with(plan, uplink)).collect()
    }

    fn with(plan: &'p Plan, outward: usize) -> Self {
        let interfaces = (0..plan.gateway_interface().0).map(Interface);
        let named = |interface: Interface| {
            plan.device_name(interface).unwrap_or_else(|| plan.interface_name(interface).to_owned())
        };
        let names = interfaces.map(named).collect();
        let local = taken_in(plan);
        let mut reached: Vec<AddressSet> = plan.network_ids().map(|id| led_to(plan, id)).collect();
        let mut rest = reached.iter().fold(local.clone(), |all, own| all.union(own)).complement();
        let mut outside: Vec<AddressSet> = Vec::new();
        for uplink in plan.uplinks() {
            let own = uplink.own().intersection(&rest);
            rest = rest.difference(&own);
            outside.push(own);
        }
        // In a family that this uplink has not, another one leads out.
        for place in std::iter::once(outward).chain(0..plan.uplinks().len()) {
            if let (Some(own), Some(uplink)) = (outside.get_mut(place), plan.uplinks().get(place)) {
                let part = uplink.in_its_families(&rest);
                rest = rest.difference(&part);
                *own = own.union(&part);
            }
        }
        reached.extend(outside);
        let reached = reached.into_iter().map(|own| own.difference(&local)).collect();
        let placeholders = plan.uplinks().iter().filter_map(|uplink| uplink.placeholder);
        let of_domains = plan.domains().iter().map(|domain| domain.placeholder);
        let placeholders = placeholders.chain(of_domains).map(Placeholder::set).collect();
        Self {
            plan,
            names,
            reached,
            local,
            own: plan.gateway_addresses().union(&loopback()),
            domains: domain_sets(plan),
            placeholders,
            at_large: middles(plan.internet_addresses()),
        }
    }

    /// What is not to be looked at here: what has no route in the kernel either; and in the world of a
    /// further uplink, what does not leave by it, since the first world tells the same of it.
    pub(crate) fn apart(&self, outward: usize) -> Vec<Match> {
        let unrouted = Match {
            enters: self.outer().union(&self.moved()),
            destination: self.routed().union(&self.local).complement(),
            ..Match::everything()
        };
        let mut apart = vec![unrouted];
        if outward > 0 {
            let here = self.reached(self.plan.uplink_interface(outward)).complement();
            apart.push(Match { destination: here, ..Match::everything() });
        }
        apart
    }

    /// Everything that some interface leads to.
    fn routed(&self) -> AddressSet {
        self.reached.iter().fold(AddressSet::empty(), |all, own| all.union(own))
    }

    /// What leads to an interface from outside.
    pub(crate) fn reached(&self, interface: Interface) -> &AddressSet {
        &self.reached[usize::from(interface.0)]
    }

    fn outer(&self) -> IntervalSet<Interface> {
        let last = self.plan.gateway_interface().0;
        if last == 0 {
            IntervalSet::empty()
        } else {
            IntervalSet::range(Interface(0), Interface(last - 1))
        }
    }

    fn moved(&self) -> IntervalSet<Interface> {
        let last = self.plan.gateway_interface().0;
        if last == 0 {
            return IntervalSet::empty();
        }
        let translated = |interface| self.plan.translated_interface(Interface(interface));
        IntervalSet::range(translated(0), translated(last - 1))
    }

    /// The gateway's address on the way out by an interface, in IPv4: the first one.
    pub(crate) fn address_on(&self, interface: Interface) -> Option<IpAddr> {
        if let Some(id) = self.plan.network_on(interface) {
            let gateways = self.plan.network(id).subnets.iter().map(Subnet::gateway);
            return gateways.into_iter().find(IpAddr::is_ipv4);
        }
        let uplink = self.plan.uplink_on(interface).filter(|uplink| !uplink.dhcp)?;
        uplink.addresses.iter().map(ipnet::IpNet::addr).find(IpAddr::is_ipv4)
    }
}

impl World for PlanWorld<'_> {
    fn at(&self, place: Place) -> Match {
        let own = IntervalSet::point(self.plan.gateway_interface());
        let all = Match::everything();
        match place {
            Place::Prerouting => Match::entering(self.outer()),
            Place::Input => Match { enters: self.outer(), destination: self.local.clone(), ..all },
            Place::Forward => Match {
                enters: self.outer().union(&self.moved()),
                destination: self.routed(),
                ..all
            },
            Place::Output => Match::entering(own),
            Place::Postrouting => Match {
                enters: self.outer().union(&self.moved()).union(&own),
                destination: self.local.complement(),
                ..all
            },
        }
    }

    fn interface(&self, side: Side, name: &str) -> Vec<Match> {
        let all = self.names.iter().enumerate().filter(|(_, own)| fits(name, own));
        let interfaces = all.map(|(interface, _)| Interface::of_index(interface));
        match side {
            Side::In => {
                let interfaces: Vec<Interface> = interfaces.collect();
                let moved =
                    interfaces.iter().map(|interface| self.plan.translated_interface(*interface));
                vec![Match::entering(interfaces.iter().copied().chain(moved).collect())]
            }
            Side::Out => {
                let reached =
                    interfaces.map(|interface| self.reached[usize::from(interface.0)].clone());
                let reached = reached.fold(AddressSet::empty(), |all, own| all.union(&own));
                let mut parts = vec![Match { destination: reached, ..Match::everything() }];
                if fits(name, "lo") {
                    // What the gateway sends to itself.
                    let enters = IntervalSet::point(self.plan.gateway_interface());
                    let to_itself =
                        Match { enters, destination: self.own.clone(), ..Match::everything() };
                    parts.push(to_itself);
                }
                parts
            }
        }
    }

    fn translated(&self) -> Match {
        Match::entering(self.moved())
    }

    fn own(&self) -> AddressSet {
        self.own.clone()
    }

    fn meant(&self, written: AddressSet) -> AddressSet {
        meant(written, &self.placeholders, &self.at_large)
    }

    fn filled(&self, set: &str) -> Option<AddressSet> {
        self.domains.get(set).cloned()
    }
}

/// The addresses of a machine for itself alone.
fn loopback() -> AddressSet {
    let v4 = AddressSet::range(
        Ipv4Addr::new(127, 0, 0, 0).into(),
        Ipv4Addr::new(127, 255, 255, 255).into(),
    );
    v4.union(&IpAddr::V6(Ipv6Addr::LOCALHOST).into())
}

/// What leads to a network: its subnets, and what is behind routers in it.
fn led_to(plan: &Plan, id: bastium_core::plan::NetworkId) -> AddressSet {
    let behind = plan.routes().iter().filter(|route| route.network == id);
    behind.fold(plan.network(id).prefixes(), |all, route| all.union(&route.reach))
}

/// The destinations that the gateway takes in itself, by whichever interface they come: its own addresses,
/// broadcasts, multicast, link-local and subnet-router anycast addresses (RFC 4291 2.6.1).
fn taken_in(plan: &Plan) -> AddressSet {
    let subnets = || {
        let inside = plan.networks().iter().flat_map(|network| network.subnets.iter().copied());
        inside.chain(plan.uplinks().iter().flat_map(Uplink::subnets))
    };
    let broadcasts: AddressSet = subnets().filter_map(|subnet| subnet.broadcast()).collect();
    let anycast: AddressSet = subnets().filter_map(|subnet| subnet.anycast()).collect();
    AddressSet::from(IpAddr::V4(Ipv4Addr::BROADCAST))
        .union(plan.gateway_inside())
        .union(plan.gateway_outside())
        .union(&multicast())
        .union(&link_local())
        .union(&broadcasts)
        .union(&anycast)
}

/// The sets that the name server fills, by the names that it is configured with.
pub(crate) fn domain_sets(plan: &Plan) -> HashMap<String, AddressSet> {
    let named = plan.domains().iter().flat_map(|domain| {
        let (set, name) = (domain.placeholder.set(), &domain.name);
        [(format!("domain_{name}_v4"), set.only_v4()), (format!("domain_{name}_v6"), set.only_v6())]
    });
    named.collect()
}

/// An address of each family in the midst of a set.
fn middles(set: &AddressSet) -> Vec<IpAddr> {
    let v4 = set.v4.spans().iter().max_by_key(|(low, high)| high - low);
    let v6 = set.v6.spans().iter().max_by_key(|(low, high)| high - low);
    let v4 = v4.map(|(low, high)| Ipv4Addr::from_bits(low + (high - low) / 2).into());
    let v6 = v6.map(|(low, high)| Ipv6Addr::from_bits(low + (high - low) / 2).into());
    v4.into_iter().chain(v6).collect()
}

/// Addresses that stand for others are in no written set, but for one that means the internet at large.
fn meant(written: AddressSet, placeholders: &AddressSet, at_large: &[IpAddr]) -> AddressSet {
    if placeholders.is_empty() {
        return written;
    }
    let mut set = written.difference(placeholders);
    for address in at_large.iter().filter(|address| written.contains(**address)) {
        if address.is_ipv4() {
            set.v4 = set.v4.union(&placeholders.v4);
        } else {
            set.v6 = set.v6.union(&placeholders.v6);
        }
    }
    set
}
