//! Where packets enter, as numbers: first the networks and tunnels, then the uplinks, then the gateway
//! itself; and behind these, once more each of the first two, for what an `inbound` entry has
//! translated after it entered there.

use super::{NetworkId, Plan, Uplink, ZoneId};
use crate::addressing::StandIn;
use crate::space::{AddressSet, IntervalSet, Leg};
use std::net::IpAddr;

impl Plan {
    /// The leg on which a network's packets enter.
    pub fn network_leg(&self, id: NetworkId) -> Leg {
        Leg(id.0 as u16)
    }

    /// The leg on which packets from an uplink (by its place in [`Plan::uplinks`]) enter.
    pub fn uplink_leg(&self, index: usize) -> Leg {
        Leg((self.networks.len() + index) as u16)
    }

    /// All uplinks' legs.
    pub fn uplink_legs(&self) -> IntervalSet<Leg> {
        (0..self.uplinks.len()).map(|index| self.uplink_leg(index)).collect()
    }

    /// The leg of what the gateway itself begins.
    pub fn gateway_leg(&self) -> Leg {
        Leg((self.networks.len() + self.uplinks.len()) as u16)
    }

    /// The leg of what an `inbound` entry has translated, after it entered on `leg`.
    pub fn translated_leg(&self, leg: Leg) -> Leg {
        Leg(self.gateway_leg().0 + 1 + leg.0)
    }

    /// Whether that is the leg of translated packets.
    pub fn is_translated(&self, leg: Leg) -> bool {
        leg > self.gateway_leg()
    }

    /// The leg that a packet came in by, translated or not.
    pub fn came_by(&self, leg: Leg) -> Leg {
        if self.is_translated(leg) { Leg(leg.0 - self.gateway_leg().0 - 1) } else { leg }
    }

    /// The network whose packets enter on that leg.
    pub fn network_on(&self, leg: Leg) -> Option<NetworkId> {
        let index = usize::from(self.came_by(leg).0);
        (index < self.networks.len()).then_some(NetworkId(index))
    }

    /// The uplink whose packets enter on that leg.
    pub fn uplink_on(&self, leg: Leg) -> Option<&Uplink> {
        let index = usize::from(self.came_by(leg).0);
        self.uplinks.get(index.checked_sub(self.networks.len())?)
    }

    /// What the leg is called: the network's or the uplink's name, or `gateway`.
    pub fn leg_name(&self, leg: Leg) -> &str {
        if let Some(network) = self.network_on(leg) {
            return self.network(network).name.as_str();
        }
        self.uplink_on(leg).map_or("gateway", |uplink| uplink.name.as_str())
    }

    /// The name of the interface that a leg is on the gateway, of at most 15 bytes: the port with the
    /// VLAN id (`core.24`), the port alone where nothing is tagged, or the tunnel's name. `None` for
    /// the gateway itself and where the plan names no port.
    pub fn interface(&self, leg: Leg) -> Option<String> {
        let Some(id) = self.network_on(leg) else { return self.uplink_on(leg)?.port.clone() };
        let network = self.network(id);
        match (&network.port, network.vlan) {
            (Some(port), Some(vlan)) => Some(format!("{port}.{vlan}")),
            (Some(port), None) => Some(port.clone()),
            (None, _) => network.tunnel.as_ref().map(|_| self.tunnel_interface(id)),
        }
    }

    /// A tunnel's own name where that fits and no port has it; else as much of it as fits, and its number.
    fn tunnel_interface(&self, id: NetworkId) -> String {
        const LONGEST: usize = 15;
        let name = self.network(id).name.as_str();
        let taken = |name: &str| {
            let gateway = &self.gateway;
            let joined = gateway.aggregates.iter().map(|(name, _)| name);
            name == "lo" || gateway.ports.iter().chain(joined).any(|port| port == name)
        };
        if name.len() <= LONGEST && !taken(name) {
            return name.to_owned();
        }
        let mark = format!("_{}", id.0);
        let room = name.len().min(LONGEST - mark.len());
        format!("{}{mark}", &name[..room])
    }

    /// The zone that a packet comes from: where it entered, or the routed subnet that its source lies
    /// in and that is reached there. `None` for the gateway itself.
    pub fn zone_from(&self, leg: Leg, source: IpAddr) -> Option<ZoneId> {
        let Some(network) = self.network_on(leg) else {
            return self.uplink_on(leg).map(|_| self.internet());
        };
        let mut routes = self.routes.iter().filter(|route| route.network == network);
        let behind = routes.find(|route| route.reach.contains(source));
        Some(behind.map_or(self.network(network).zone, |route| route.zone))
    }

    /// The zone that a packet leaves to.
    pub fn zone_to(&self, destination: IpAddr) -> ZoneId {
        if let Some(id) = self.network_of(destination) {
            return self.network(id).zone;
        }
        let behind = self.routes.iter().find(|route| route.reach.contains(destination));
        behind.map_or(self.internet(), |route| route.zone)
    }

    /// Where a zone's packets enter, and with which sources: any where nothing else enters there.
    pub fn zone_entries(&self, zone: ZoneId) -> &[(IntervalSet<Leg>, AddressSet)] {
        let all = || self.zone_ids().map(|zone| self.entries_of(zone)).collect();
        &self.zone_entries.get_or_init(all)[zone.0]
    }

    fn entries_of(&self, zone: ZoneId) -> Vec<(IntervalSet<Leg>, AddressSet)> {
        if zone == self.internet() {
            return vec![(self.uplink_legs(), AddressSet::full())];
        }
        let foreign = |id: NetworkId| {
            let at_home = self.network(id).zone;
            self.routes.iter().filter(move |r| r.network == id && r.zone != at_home)
        };
        let (whole, split): (Vec<NetworkId>, Vec<NetworkId>) =
            self.networks_of(zone).partition(|id| foreign(*id).next().is_none());
        let mut entries = Vec::new();
        let whole: IntervalSet<Leg> = whole.into_iter().map(|id| self.network_leg(id)).collect();
        if !whole.is_empty() {
            entries.push((whole, AddressSet::full()));
        }
        for id in split {
            let others: AddressSet = foreign(id).map(|route| route.reach.clone()).collect();
            entries.push((IntervalSet::point(self.network_leg(id)), others.complement()));
        }
        let here = |id: NetworkId| self.network(id).zone == zone;
        for route in self.routes.iter().filter(|r| r.zone == zone && !here(r.network)) {
            let leg = IntervalSet::point(self.network_leg(route.network));
            entries.push((leg, route.reach.clone()));
        }
        entries
    }

    /// What an address stands for, where it is none that a packet can have: a domain, or the address
    /// that an uplink is leased.
    pub fn stand_in_words(&self, address: IpAddr) -> Option<String> {
        match StandIn::of(address)? {
            StandIn::Domain(number) => {
                self.domains.get(usize::from(number)).map(|domain| domain.name.to_string())
            }
            StandIn::Uplink(number) => {
                let uplink = self.uplinks.get(usize::from(number)).filter(|u| u.dhcp)?;
                Some(format!("the address of {}", uplink.name))
            }
        }
    }

    /// A set of addresses as people read it: what only stands for something is named.
    pub fn set_words(&self, addresses: &AddressSet) -> Vec<String> {
        let leased = self.uplinks.iter().filter_map(|uplink| uplink.stand_in);
        let known = self.domains.iter().map(|domain| domain.stand_in).chain(leased);
        let named: Vec<StandIn> = known.filter(|s| !s.set().is_disjoint(addresses)).collect();
        let rest = named.iter().fold(addresses.clone(), |rest, s| rest.difference(&s.set()));
        let names = named.iter().filter_map(|s| self.stand_in_words(s.addresses()[0]));
        let (rest, strangers) = strangers(&without_holes(&rest));
        let mut words: Vec<String> = rest.words().into_iter().chain(names).collect();
        words.extend(strangers.into_iter().map(str::to_owned));
        words
    }

    /// An address as people read it.
    pub fn address_words(&self, address: IpAddr) -> String {
        let of_another =
            || StandIn::of(address).map(|stand_in| of_another_plan(stand_in).to_owned());
        self.stand_in_words(address).or_else(of_another).unwrap_or_else(|| address.to_string())
    }
}

/// A set as it is shown: an address that only stands for something leaves no hole in it, for nobody has it.
fn without_holes(set: &AddressSet) -> AddressSet {
    let v4 = set.v4.spans().windows(2).filter_map(|pair| {
        let hole = pair[0].1.checked_add(1).filter(|hole| hole + 1 == pair[1].0)?;
        Some(IpAddr::from(std::net::Ipv4Addr::from_bits(hole)))
    });
    let v6 = set.v6.spans().windows(2).filter_map(|pair| {
        let hole = pair[0].1.checked_add(1).filter(|hole| hole + 1 == pair[1].0)?;
        Some(IpAddr::from(std::net::Ipv6Addr::from_bits(hole)))
    });
    let holes = v4.chain(v6).filter(|address| StandIn::of(*address).is_some());
    holes.fold(set.clone(), |all, hole| all.union(&hole.into()))
}

/// What stands for something that this plan has not: where two plans are compared.
fn of_another_plan(stand_in: StandIn) -> &'static str {
    match stand_in {
        StandIn::Domain(_) => "a domain of the other plan",
        StandIn::Uplink(_) => "a leased address of the other plan",
    }
}

/// A set without single addresses that stand for something of another plan, and what these are.
fn strangers(set: &AddressSet) -> (AddressSet, Vec<&'static str>) {
    let single = set.ranges().filter(|(low, high)| low == high).map(|(address, _)| address);
    let found: Vec<(IpAddr, StandIn)> =
        single.filter_map(|address| Some((address, StandIn::of(address)?))).collect();
    let gone: AddressSet = found.iter().map(|(address, _)| *address).collect();
    let mut names: Vec<&'static str> =
        found.into_iter().map(|(_, stand_in)| of_another_plan(stand_in)).collect();
    names.dedup();
    (set.difference(&gone), names)
}
