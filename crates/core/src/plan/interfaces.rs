//! Where packets enter, as numbers: first the networks and tunnels, then the uplinks, then the gateway
//! itself; and behind these, once more each of the first two, for what an `inbound` entry has
//! translated after it entered there.

use super::{NetworkId, Plan, Uplink, ZoneId};
use crate::addressing::Placeholder;
use crate::space::{AddressSet, Interface, IntervalSet};
use std::net::IpAddr;

impl Plan {
    /// The interface on which a network's packets enter.
    pub fn network_interface(&self, id: NetworkId) -> Interface {
        Interface::of_index(id.index())
    }

    /// The interface on which packets from an uplink (by its place in [`Plan::uplinks`]) enter.
    pub fn uplink_interface(&self, index: usize) -> Interface {
        Interface::of_index(self.networks.len() + index)
    }

    /// All uplinks' interfaces.
    pub fn uplink_interfaces(&self) -> IntervalSet<Interface> {
        (0..self.uplinks.len()).map(|index| self.uplink_interface(index)).collect()
    }

    /// The interface of what the gateway itself begins.
    pub fn gateway_interface(&self) -> Interface {
        Interface::of_index(self.networks.len() + self.uplinks.len())
    }

    /// The interface of what an `inbound` entry has translated, after it entered on `interface`.
    pub fn translated_interface(&self, interface: Interface) -> Interface {
        Interface(self.gateway_interface().0 + 1 + interface.0)
    }

    /// Whether that is the interface of translated packets.
    pub fn is_translated(&self, interface: Interface) -> bool {
        interface > self.gateway_interface()
    }

    /// The interface that a packet came in by, translated or not.
    pub fn came_by(&self, interface: Interface) -> Interface {
        if self.is_translated(interface) {
            Interface(interface.0 - self.gateway_interface().0 - 1)
        } else {
            interface
        }
    }

    /// The interfaces of the plan that packets came in by which enter on these, translated or not. What the gateway
    /// itself begins is not translated on its way in.
    pub fn came_by_any(&self, enters: &IntervalSet<Interface>) -> IntervalSet<Interface> {
        let end = self.translated_interface(self.gateway_interface()).0;
        let all = (0..end).map(Interface).filter(|interface| enters.contains(*interface));
        all.map(|interface| self.came_by(interface)).collect()
    }

    /// The network whose packets enter on that interface.
    pub fn network_on(&self, interface: Interface) -> Option<NetworkId> {
        let index = usize::from(self.came_by(interface).0);
        (index < self.networks.len()).then_some(NetworkId(index))
    }

    /// The uplink whose packets enter on that interface.
    pub fn uplink_on(&self, interface: Interface) -> Option<&Uplink> {
        let index = usize::from(self.came_by(interface).0);
        self.uplinks.get(index.checked_sub(self.networks.len())?)
    }

    /// What the interface is called: the network's or the uplink's name, or `gateway`.
    pub fn interface_name(&self, interface: Interface) -> &str {
        if let Some(network) = self.network_on(interface) {
            return self.network(network).name.as_str();
        }
        self.uplink_on(interface).map_or("gateway", |uplink| uplink.name.as_str())
    }

    /// The name of an interface as a device of the gateway, of at most 15 bytes: the port with the
    /// VLAN id (`core.24`), the port alone where nothing is tagged, or the tunnel's name. `None` for
    /// the gateway itself and where the plan names no port.
    pub fn device_name(&self, interface: Interface) -> Option<String> {
        let Some(id) = self.network_on(interface) else {
            return self.uplink_on(interface)?.port.clone();
        };
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
    pub fn zone_from(&self, interface: Interface, source: IpAddr) -> Option<ZoneId> {
        let Some(network) = self.network_on(interface) else {
            return self.uplink_on(interface).map(|_| self.internet());
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
    pub fn zone_entries(&self, zone: ZoneId) -> &[(IntervalSet<Interface>, AddressSet)] {
        let all = || self.zone_ids().map(|zone| self.entries_of(zone)).collect();
        &self.zone_entries.get_or_init(all)[zone.0]
    }

    fn entries_of(&self, zone: ZoneId) -> Vec<(IntervalSet<Interface>, AddressSet)> {
        if zone == self.internet() {
            return vec![(self.uplink_interfaces(), AddressSet::full())];
        }
        let foreign = |id: NetworkId| {
            let at_home = self.network(id).zone;
            self.routes.iter().filter(move |r| r.network == id && r.zone != at_home)
        };
        let (whole, split): (Vec<NetworkId>, Vec<NetworkId>) =
            self.networks_of(zone).partition(|id| foreign(*id).next().is_none());
        let mut entries = Vec::new();
        let whole: IntervalSet<Interface> =
            whole.into_iter().map(|id| self.network_interface(id)).collect();
        if !whole.is_empty() {
            entries.push((whole, AddressSet::full()));
        }
        for id in split {
            let others: AddressSet = foreign(id).map(|route| route.reach.clone()).collect();
            entries.push((IntervalSet::point(self.network_interface(id)), others.complement()));
        }
        let here = |id: NetworkId| self.network(id).zone == zone;
        for route in self.routes.iter().filter(|r| r.zone == zone && !here(r.network)) {
            let interface = IntervalSet::point(self.network_interface(route.network));
            entries.push((interface, route.reach.clone()));
        }
        entries
    }

    /// What an address stands for, where it is none that a packet can have: a domain, or the address
    /// that an uplink is leased.
    pub fn stand_in_words(&self, address: IpAddr) -> Option<String> {
        match Placeholder::of(address)? {
            Placeholder::Domain(number) => {
                self.domains.get(usize::from(number)).map(|domain| domain.name.to_string())
            }
            Placeholder::Uplink(number) => {
                let uplink = self.uplinks.get(usize::from(number)).filter(|u| u.dhcp)?;
                Some(format!("the address of {}", uplink.name))
            }
        }
    }

    /// A set of addresses as people read it: what only stands for something is named.
    pub fn set_words(&self, addresses: &AddressSet) -> Vec<String> {
        let leased = self.uplinks.iter().filter_map(|uplink| uplink.placeholder);
        let known = self.domains.iter().map(|domain| domain.placeholder).chain(leased);
        let named: Vec<Placeholder> = known.filter(|s| !s.set().is_disjoint(addresses)).collect();
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
            || Placeholder::of(address).map(|placeholder| of_another_plan(placeholder).to_owned());
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
    let holes = v4.chain(v6).filter(|address| Placeholder::of(*address).is_some());
    holes.fold(set.clone(), |all, hole| all.union(&hole.into()))
}

/// What stands for something that this plan has not: where two plans are compared.
fn of_another_plan(placeholder: Placeholder) -> &'static str {
    match placeholder {
        Placeholder::Domain(_) => "a domain of the other plan",
        Placeholder::Uplink(_) => "a leased address of the other plan",
    }
}

/// A set without single addresses that stand for something of another plan, and what these are.
fn strangers(set: &AddressSet) -> (AddressSet, Vec<&'static str>) {
    let single = set.ranges().filter(|(low, high)| low == high).map(|(address, _)| address);
    let found: Vec<(IpAddr, Placeholder)> =
        single.filter_map(|address| Some((address, Placeholder::of(address)?))).collect();
    let gone: AddressSet = found.iter().map(|(address, _)| *address).collect();
    let mut names: Vec<&'static str> =
        found.into_iter().map(|(_, placeholder)| of_another_plan(placeholder)).collect();
    names.dedup();
    (set.difference(&gone), names)
}
