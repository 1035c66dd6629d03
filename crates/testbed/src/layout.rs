//! From a plan to the cables of a site: which addresses are at the other end of each.

use crate::kernel::frame::Raw;
use crate::site::Wire;
use bastium_core::addressing::Placeholder;
use bastium_core::plan::Plan;
use bastium_core::space::{AddressSet, Family, Interface, Packet};
use ipnet::IpNet;
use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// The groups that every machine is in (RFC 1112, RFC 4291 2.7.1).
const ALL_SYSTEMS: Ipv4Addr = Ipv4Addr::new(224, 0, 0, 1);
const ALL_NODES: Ipv6Addr = Ipv6Addr::new(0xff02, 0, 0, 0, 0, 0, 0, 1);

/// Where the addresses lie that stand for ones which nobody knows beforehand (RFC 5737, RFC 3849).
const MADE_UP: [[u8; 3]; 3] = [[192, 0, 2], [203, 0, 113], [198, 51, 100]];

/// The cables of a plan's site, and what its made-up addresses are in the kernel.
#[derive(Clone, Debug)]
pub struct Layout {
    /// A cable for each interface, in their order.
    pub wires: Vec<Wire>,
    /// The real address for each that only stands for one.
    real: HashMap<IpAddr, IpAddr>,
    /// The DNS names of domains, with what they lead to.
    pub names: Vec<(String, Vec<IpAddr>)>,
}

impl Layout {
    /// Lays out the site of a plan, with a device at each of these addresses; an address of the internet
    /// is reached by the first uplink. `None` where the plan does not name every interface.
    pub fn of(plan: &Plan, devices: impl IntoIterator<Item = IpAddr>) -> Option<Self> {
        let mut layout = Self { wires: Vec::new(), real: HashMap::new(), names: Vec::new() };
        let mut spare = Spare::of(plan);
        for interface in (0..plan.gateway_interface().0).map(Interface) {
            let wire = layout.wire(plan, interface, &mut spare)?;
            layout.wires.push(wire);
        }
        for domain in plan.domains() {
            let real = layout.placeholder(domain.placeholder, &mut spare);
            layout.wires_outside(plan).for_each(|wire| wire.beyond.extend(real));
            layout.names.extend(domain.names.iter().map(|name| (name.clone(), real.to_vec())));
        }
        let hosts = plan.hosts().iter().flat_map(|host| host.addresses.iter().copied());
        for address in hosts.chain(devices) {
            layout.add(plan, layout.real(address));
        }
        Some(layout)
    }

    /// What an address is in the kernel.
    pub fn real(&self, address: IpAddr) -> IpAddr {
        self.real.get(&address).copied().unwrap_or(address)
    }

    /// At the end of which cable somebody with that address is; `None` for the gateway itself and for
    /// nobody.
    pub fn cable_of(&self, plan: &Plan, address: IpAddr) -> Option<usize> {
        if let Some(id) = plan.network_of(address) {
            let own = plan.gateway_inside().contains(address);
            return (!own).then(|| usize::from(plan.network_interface(id).0));
        }
        if let Some(route) = plan.routes().iter().find(|route| route.reach.contains(address)) {
            return Some(usize::from(plan.network_interface(route.network).0));
        }
        let there = |wire: &Wire| {
            wire.beyond.contains(&address) || wire.devices.iter().any(|d| d.addr() == address)
        };
        self.wires.iter().position(there)
    }

    /// Whether an address names a subnet on some cable, so that no machine can be there (RFC 1122, section
    /// 3.2.1.3).
    pub fn is_nobodys(&self, address: IpAddr) -> bool {
        let names =
            |own: &IpNet| address.is_ipv4() && own.prefix_len() < 31 && own.network() == address;
        self.wires.iter().flat_map(|wire| &wire.gateway).any(names)
    }

    /// A packet of the plan's, to be put on a cable: the cable's number, and the packet. What is for a
    /// group goes to one that every machine is in, and what stays on the link to the gateway's own
    /// address there. `None` for what does not come by a cable.
    pub fn by_hand(&self, plan: &Plan, packet: &Packet, source_port: u16) -> Option<(usize, Raw)> {
        if packet.enters >= plan.gateway_interface() {
            return None;
        }
        let cable = usize::from(packet.enters.0);
        let protocol = packet.service.protocol();
        let detail = packet.service.detail();
        let destination = match packet.destination() {
            IpAddr::V6(address) if address.is_unicast_link_local() => Wire::own_link_local(cable),
            IpAddr::V6(address) if address.is_multicast() => ALL_NODES.into(),
            IpAddr::V4(address) if address.is_multicast() => ALL_SYSTEMS.into(),
            address => self.real(address),
        };
        let raw = Raw {
            source: self.real(packet.source()),
            destination,
            protocol: protocol.0,
            detail: if protocol.has_ports() || protocol.is_icmp() { detail } else { 0 },
            mark: 0,
            source_port,
        };
        Some((cable, raw))
    }

    /// The cables to the internet.
    fn wires_outside<'s>(&'s mut self, plan: &Plan) -> impl Iterator<Item = &'s mut Wire> {
        let inside = plan.networks().len();
        self.wires.iter_mut().skip(inside)
    }

    fn wire(&mut self, plan: &Plan, interface: Interface, spare: &mut Spare) -> Option<Wire> {
        let device = plan.device_name(interface)?;
        let mut wire = Wire {
            interface: device,
            gateway: Vec::new(),
            devices: Vec::new(),
            behind: Vec::new(),
            beyond: Vec::new(),
            routers: Vec::new(),
        };
        if let Some(id) = plan.network_on(interface) {
            for subnet in &plan.network(id).subnets {
                let length = subnet.prefix().prefix_len();
                wire.gateway.extend(IpNet::new(subnet.gateway(), length));
            }
            let routes = plan.routes().iter().filter(|route| route.network == id);
            for route in routes {
                wire.behind.push((route.to, route.via));
                self_add(&mut wire, route.via);
            }
            return Some(wire);
        }
        let uplink = plan.uplink_on(interface)?;
        wire.gateway.clone_from(&uplink.addresses);
        wire.routers.clone_from(&uplink.routers);
        if let Some(placeholder) = uplink.placeholder {
            let own = self.placeholder(placeholder, spare);
            wire.gateway.extend(own.iter().map(|own| IpNet::from(*own)));
        }
        for family in Family::ALL {
            let has = |address: IpAddr| Family::of(address) == family;
            let own = wire.gateway.iter().find(|own| has(own.addr())).copied();
            if own.is_some() && !wire.routers.iter().any(|router| has(*router)) {
                wire.routers.push(spare.next(family));
            }
        }
        for router in wire.routers.clone() {
            if !self_add(&mut wire, router) {
                // At the cable all the same: neighbours are asked for there.
                wire.devices.push(IpNet::from(router));
            }
        }
        Some(wire)
    }

    fn placeholder(&mut self, placeholder: Placeholder, spare: &mut Spare) -> [IpAddr; 2] {
        let [v4, v6] = placeholder.addresses();
        let real = Family::ALL.map(|family| spare.next(family));
        self.real.extend([(v4, real[0]), (v6, real[1])]);
        real
    }

    /// Puts a device at an address, where one can be.
    fn add(&mut self, plan: &Plan, address: IpAddr) {
        let nobody = address.is_unspecified() || address.is_multicast() || address.is_loopback();
        let gateway = plan.gateway_addresses();
        let leased = self.wires.iter().flat_map(|wire| &wire.gateway);
        if nobody || gateway.contains(address) || leased.map(IpNet::addr).any(|own| own == address)
        {
            return;
        }
        for wire in &mut self.wires {
            if self_add(wire, address) {
                return;
            }
        }
        let behind = plan.routes().iter().find(|route| route.reach.contains(address));
        if let Some(route) = behind {
            let wire = &mut self.wires[usize::from(plan.network_interface(route.network).0)];
            if !wire.beyond.contains(&address) {
                wire.beyond.push(address);
            }
        } else if plan.internet_addresses().contains(address) {
            for wire in self.wires_outside(plan) {
                if !wire.beyond.contains(&address) {
                    wire.beyond.push(address);
                }
            }
        }
    }
}

/// Puts a device on a cable, if its address lies in a subnet there and is one that a device can have.
fn self_add(wire: &mut Wire, address: IpAddr) -> bool {
    let Some(own) = wire.gateway.iter().find(|own| own.trunc().contains(&address)) else {
        return false;
    };
    let reserved = address.is_ipv4()
        && own.prefix_len() < 31
        && (address == own.broadcast() || address == own.network());
    if reserved || address == own.addr() {
        return true;
    }
    if let Ok(device) = IpNet::new(address, own.prefix_len())
        && !wire.devices.contains(&device)
    {
        wire.devices.push(device);
    }
    true
}

/// Documentation addresses that the plan says nothing of in particular.
struct Spare {
    named: AddressSet,
    used: u16,
}

impl Spare {
    fn of(plan: &Plan) -> Self {
        let exceptions = plan.exceptions().iter();
        let places = exceptions.flat_map(|e| [&e.from.addresses, &e.to.addresses]);
        let groups = plan.groups().iter().map(|group| &group.place.addresses);
        let narrow = places.chain(groups).filter(|set| !set.has_most_of(plan.internet_addresses()));
        let named = narrow.fold(plan.inside().clone(), |all, set| all.union(set));
        let uplinks = plan.uplinks().iter().map(|uplink| uplink.own());
        Self { named: uplinks.fold(named, |all, own| all.union(&own)), used: 0 }
    }

    fn next(&mut self, family: Family) -> IpAddr {
        loop {
            let number = self.used;
            self.used += 1;
            let [a, b, c] = MADE_UP[usize::from(number / 250) % MADE_UP.len()];
            let candidate: IpAddr = if family == Family::V6 {
                Ipv6Addr::new(0x2001, 0xdb8, 0xffff, 0, 0, 0, 0, number + 1).into()
            } else {
                Ipv4Addr::new(a, b, c, (number % 250) as u8 + 2).into()
            };
            if !self.named.contains(candidate) || number > 700 {
                return candidate;
            }
        }
    }
}
