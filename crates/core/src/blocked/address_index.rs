//! Which name of the plan an address goes under, found fast.

use crate::addressing::Subnet;
use crate::plan::Plan;
use crate::space::AddressSet;
use std::collections::HashMap;
use std::net::IpAddr;

/// Where an address is, as far as groups distinguish it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) enum Spot {
    /// A host of the plan, by its place in the list.
    Host(u32),
    /// A network of the plan.
    Network(u32),
    /// A subnet behind a router.
    Route(u32),
    /// The own subnet of an uplink, where that is none of the internet's.
    Uplink(u32),
    /// The gateway itself.
    Gateway,
    /// Everyone on a link.
    Everyone,
    /// The internet.
    Internet,
    /// None of these.
    Nowhere,
}

/// The addresses of a plan, in the order of their numbers.
pub(super) struct AddressIndex {
    single: HashMap<IpAddr, Spot>,
    /// First and last address of each stretch, and what it is.
    stretches: Vec<(IpAddr, IpAddr, Spot)>,
    internet: AddressSet,
}

impl AddressIndex {
    pub(super) fn of(plan: &Plan) -> Self {
        let mut single = HashMap::new();
        for (number, host) in (0..).zip(plan.hosts()) {
            single.extend(host.addresses.iter().map(|address| (*address, Spot::Host(number))));
        }
        let networks = || plan.networks().iter().flat_map(|network| &network.subnets);
        let uplinks = plan.uplinks().iter().flat_map(|uplink| uplink.subnets());
        let broadcasts = networks().filter_map(Subnet::broadcast);
        let broadcasts = broadcasts.chain(uplinks.filter_map(|subnet| subnet.broadcast()));
        single.extend(broadcasts.map(|address| (address, Spot::Everyone)));
        let own = plan.gateway_addresses();
        single.extend(own.ranges().map(|(address, _)| (address, Spot::Gateway)));
        let mut stretches: Vec<(IpAddr, IpAddr, Spot)> = Vec::new();
        for (number, network) in (0..).zip(plan.networks()) {
            let prefixes = network.prefixes();
            stretches
                .extend(prefixes.ranges().map(|(low, high)| (low, high, Spot::Network(number))));
        }
        for (number, route) in (0..).zip(plan.routes()) {
            stretches
                .extend(route.reach.ranges().map(|(low, high)| (low, high, Spot::Route(number))));
        }
        for (number, uplink) in (0..).zip(0..plan.uplinks().len()) {
            let beside = plan.beside_uplink(uplink);
            stretches.extend(beside.ranges().map(|(low, high)| (low, high, Spot::Uplink(number))));
        }
        stretches.sort_unstable();
        Self { single, stretches, internet: plan.internet_addresses().clone() }
    }

    pub(super) fn spot(&self, address: IpAddr) -> Spot {
        if let Some(spot) = self.single.get(&address) {
            return *spot;
        }
        let place = self.stretches.partition_point(|stretch| stretch.0 <= address);
        if let Some((_, last, spot)) = place.checked_sub(1).map(|place| self.stretches[place])
            && address <= last
        {
            return spot;
        }
        match address {
            _ if self.internet.contains(address) => Spot::Internet,
            _ if address.is_multicast() || address == IpAddr::from([255; 4]) => Spot::Everyone,
            _ => Spot::Nowhere,
        }
    }

    pub(super) fn words(&self, plan: &Plan, spot: Spot) -> String {
        match spot {
            Spot::Host(number) => plan.hosts()[number as usize].name.to_string(),
            Spot::Network(number) => plan.networks()[number as usize].name.to_string(),
            Spot::Route(number) => plan.routes()[number as usize].name.to_string(),
            Spot::Uplink(number) => plan.uplinks()[number as usize].name.to_string(),
            Spot::Gateway => "gateway".to_owned(),
            Spot::Everyone => "everyone".to_owned(),
            Spot::Internet => "internet".to_owned(),
            Spot::Nowhere => "nowhere".to_owned(),
        }
    }
}
