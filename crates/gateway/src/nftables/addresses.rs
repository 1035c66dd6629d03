//! Turns a set of addresses into the shortest test, given which addresses can occur at that point of a chain.

use super::test::{End, Test};
use bastium_core::addressing::{Placeholder, Subnet, link_local, multicast};
use bastium_core::plan::Plan;
use bastium_core::space::{AddressSet, Family, Interface, IntervalSet};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// What a plan says about addresses that matters here.
pub(crate) struct Known {
    /// What stands for the addresses of domains, with the names of their sets.
    domains: Vec<(AddressSet, String)>,
    /// What stands for leased addresses.
    leased: AddressSet,
    /// Both together.
    placeholders: AddressSet,
    subnets: Vec<AddressSet>,
    /// Where no address of an uplink can be: all of the subnets, what is valid on one link alone, and the address of a host that
    /// has none yet.
    elsewhere: AddressSet,
    internet: AddressSet,
}

impl Known {
    pub(crate) fn of(plan: &Plan) -> Self {
        let domains = plan.domains().iter();
        let domains: Vec<_> =
            domains.map(|d| (d.placeholder.set(), format!("domain_{}", d.name))).collect();
        let leased = plan.uplinks().iter().filter_map(|uplink| uplink.placeholder);
        let leased: AddressSet = leased.map(Placeholder::set).collect();
        let of_domains: AddressSet = domains.iter().map(|(set, _)| set.clone()).collect();
        let subnets = plan.networks().iter().flat_map(|network| &network.subnets);
        let behind = plan.routes().iter().map(|route| route.to.into());
        let subnets: Vec<AddressSet> =
            subnets.map(Subnet::prefix).map(AddressSet::from).chain(behind).collect();
        Self {
            placeholders: leased.union(&of_domains),
            domains,
            leased,
            elsewhere: subnets.iter().cloned().chain([link_local(), unspecified()]).collect(),
            subnets,
            internet: plan.internet_addresses().difference(&of_domains),
        }
    }

    /// The addresses that only stand for others.
    pub(super) fn placeholders(&self) -> &AddressSet {
        &self.placeholders
    }

    /// Whether a set means the internet at large; whether it holds the addresses of a domain; and whether it
    /// leaves those of one out.
    pub(crate) fn named(&self, set: &AddressSet) -> (bool, bool, bool) {
        let holds = |(domain, _): &(AddressSet, String)| !domain.is_disjoint(set);
        let (some, all) = (self.domains.iter().any(holds), self.domains.iter().all(holds));
        (self.is_wide(set), some, !all)
    }

    /// Whether a set asks for a leased address in particular.
    pub(crate) fn only_leased(&self, set: &AddressSet) -> bool {
        !self.leased.is_disjoint(set) && !self.is_wide(set) && !self.internet.is_subset(set)
    }

    /// The tests for an end of one family: one list of tests for each way to pass. `possible` is what can
    /// come at all; none is needed where that is all in `wanted`.
    pub(super) fn ways(
        &self,
        end: End,
        family: Family,
        wanted: &AddressSet,
        possible: &AddressSet,
    ) -> Vec<Vec<Test>> {
        let (wanted, possible) = (of_family(wanted, family), of_family(possible, family));
        let real = possible.difference(&self.placeholders);
        let here = wanted.intersection(&real);
        // Whether it is the internet matters only where some of that has names.
        let wide = !self.domains.is_empty() && self.is_wide(&here);
        let named = |set: &str, not| Test::Named { end, family, set: set.to_owned(), not };
        let mut ways = Vec::new();
        let at_stake = self.domains.iter().filter(|(set, _)| !set.is_disjoint(&possible));
        let (within, without): (Vec<_>, Vec<_>) =
            at_stake.partition(|(set, _)| !set.is_disjoint(&wanted));
        // An address that nobody knows yet must be asked for by what it is not.
        let unknown = end == End::Destination && !self.leased.is_disjoint(&possible);
        let leased = unknown && !self.leased.is_disjoint(&wanted);
        let mut takes_leased = false;
        if !here.is_empty() {
            let only = unknown && !leased;
            let real = self.real(family, &wanted, &real, only);
            let without: Vec<Test> =
                without.iter().filter(|_| wide).map(|(_, set)| named(set, true)).collect();
            // Whatever such an address is, it is none of those that are excepted; a name can lead to it.
            takes_leased = without.is_empty()
                && real.as_ref().is_some_and(|one| one.not && one.set.is_subset(&self.elsewhere));
            ways.push(real.map(|one| one.test(end, family)).into_iter().chain(without).collect());
        }
        if !wide {
            ways.extend(within.iter().map(|(_, set)| vec![named(set, false)]));
        }
        let source = !self.leased.is_disjoint(&wanted.intersection(&possible));
        if (leased || source) && !takes_leased && !real.is_subset(&wanted) {
            ways.push(vec![Test::Leased { end, family }]);
        }
        ways
    }

    /// Whether a set means the internet at large, rather than some addresses of it.
    fn is_wide(&self, set: &AddressSet) -> bool {
        set.has_most_of(&self.internet)
    }

    /// The shortest test that holds for just those of the possible addresses that are wanted; none where it holds for all.
    /// Where `only` these are meant, whatever else there may be, the test names them.
    fn real(
        &self,
        family: Family,
        wanted: &AddressSet,
        possible: &AddressSet,
        only: bool,
    ) -> Option<Asked> {
        if possible.is_subset(wanted) && !only {
            return None;
        }
        let here = wanted.intersection(possible);
        let plain = elements(&here);
        if plain.len() == 1 && cost(&plain) == 1 {
            // One address or prefix: nothing is shorter.
            return Some(Asked { not: false, set: here });
        }
        let touched = self.subnets.iter().filter(|subnet| !subnet.is_disjoint(&here));
        let subnets = touched.fold(AddressSet::empty(), |all, subnet| all.union(subnet));
        let filled = wanted.union(&of_family(&self.placeholders, family));
        let bare = wanted.difference(&self.placeholders);
        let mut choices: Vec<(bool, AddressSet)> = vec![(false, bare), (false, filled.clone())];
        choices.push((false, here.clone()));
        if subnets.intersection(possible) == here {
            choices.insert(0, (false, of_family(&subnets, family)));
        }
        if !only {
            choices.push((true, possible.difference(wanted)));
            choices.push((true, of_family(&filled.complement(), family)));
        }
        let all = choices.into_iter().map(|(not, set)| Asked { not, set });
        all.min_by_key(|one| (cost(&elements(&one.set)), one.not))
    }
}

/// What a test for addresses asks: whether one is in a set, or that it is not.
struct Asked {
    not: bool,
    set: AddressSet,
}

impl Asked {
    fn test(&self, end: End, family: Family) -> Test {
        Test::Address { end, family, elements: elements(&self.set), not: self.not }
    }
}

/// How much there is to read: an address or a prefix counts once, a range twice.
fn cost(elements: &[String]) -> usize {
    elements.iter().map(|word| 1 + usize::from(word.contains('-'))).sum()
}

/// The members of one family.
pub(super) fn of_family(set: &AddressSet, family: Family) -> AddressSet {
    match family {
        Family::V4 => set.only_v4(),
        Family::V6 => set.only_v6(),
    }
}

/// A set as elements: single addresses, prefixes and ranges.
pub(super) fn elements(set: &AddressSet) -> Vec<String> {
    set.words()
}

/// An address as an element.
pub(super) fn element(address: IpAddr) -> String {
    address.to_string()
}

/// The part of a set in the families that another one has members of.
pub(super) fn in_families_of(set: &AddressSet, other: &AddressSet) -> AddressSet {
    let mut set = set.clone();
    if other.v4.is_empty() {
        set.v4 = IntervalSet::empty();
    }
    if other.v6.is_empty() {
        set.v6 = IntervalSet::empty();
    }
    set
}

/// The broadcast addresses of networks and uplinks, with the interface of each.
pub(super) fn broadcasts(plan: &Plan) -> Vec<(IpAddr, Interface)> {
    let networks = plan.network_ids().flat_map(|id| {
        let subnets = plan.network(id).subnets.iter();
        subnets.filter_map(Subnet::broadcast).map(move |b| (b, plan.network_interface(id)))
    });
    let uplinks = plan.uplinks().iter().enumerate().flat_map(|(index, uplink)| {
        let subnets = uplink.addresses.iter();
        let subnets = subnets.filter_map(|a| Subnet::new(a.trunc(), a.addr()));
        subnets.filter_map(|s| s.broadcast()).map(move |b| (b, plan.uplink_interface(index)))
    });
    networks.chain(uplinks).collect()
}

/// The broadcast addresses of subnets behind other routers.
pub(super) fn behind_broadcasts(plan: &Plan) -> AddressSet {
    let subnets = plan.routes().iter().filter_map(|route| {
        Subnet::with_first_gateway(route.to)?.broadcast().filter(|b| route.reach.contains(*b))
    });
    subnets.collect()
}

/// The gateway's own addresses, as far as they are known.
pub(super) fn own_addresses(plan: &Plan, known: &Known) -> AddressSet {
    plan.gateway_addresses().difference(known.placeholders())
}

/// The IPv4 addresses by which somebody speaks to all at once.
pub(super) fn to_all_v4() -> AddressSet {
    multicast().only_v4().union(&IpAddr::V4(Ipv4Addr::BROADCAST).into())
}

/// Every IPv6 address that is local on the gateway without being one of its own.
pub(super) fn local_to_all() -> AddressSet {
    link_local().union(&multicast())
}

/// The address of a host that has none yet, in both families.
pub(super) fn unspecified() -> AddressSet {
    [IpAddr::V4(Ipv4Addr::UNSPECIFIED), IpAddr::V6(Ipv6Addr::UNSPECIFIED)].into_iter().collect()
}
