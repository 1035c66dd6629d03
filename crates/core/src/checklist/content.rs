//! What belongs in every checklist: each network's address, gateway, names and way out, who manages the
//! gateway and who must not, the outside, what is kept apart within a network, announcements, guarantees.

use super::candidate::{Candidate, Everyday};
use super::places::{ANNOUNCED_TO, Places, tcp};
use super::{Probe, write::packet_of};
use crate::addressing::Subnet;
use crate::asking::{End, question};
use crate::example;
use crate::meaning::Meaning;
use crate::plan::{Guarantee, NetworkId, Plan};
use crate::space::{
    AddressSet, Ends, Family, IntervalSet, Packet, PacketSet, Protocol, ServicePoint,
};
use crate::verdict::Verdict;
use std::collections::HashSet;
use std::net::{IpAddr, Ipv4Addr};

/// The candidates that are needed in any case.
pub(super) fn needed(meaning: &Meaning<'_>, places: &Places) -> Vec<Candidate> {
    let plan = meaning.plan();
    let mut content = Content { meaning, plan, places, found: Vec::new() };
    for id in plan.network_ids() {
        content.network(id);
        content.apart(id);
        content.announced(id);
    }
    content.managing();
    content.outside();
    for guarantee in plan.guarantees() {
        content.guarantee(guarantee);
    }
    content.found
}

struct Content<'m, 'p> {
    meaning: &'m Meaning<'p>,
    plan: &'p Plan,
    places: &'m Places,
    found: Vec<Candidate>,
}

/// What is put behind a name to tell the families apart.
pub(super) fn suffix(family: Family) -> &'static str {
    if family == Family::V6 { "6" } else { "" }
}

impl Content<'_, '_> {
    fn add(&mut self, id: String, packet: Option<Packet>, probe: Probe) {
        self.found.extend(packet.map(|packet| Candidate::new(id, packet, probe).needed()));
    }

    /// The same, of what one person tries in any case.
    fn add_everyday(&mut self, what: Everyday, id: String, packet: Option<Packet>, probe: Probe) {
        let needed = packet.map(|packet| Candidate::new(id, packet, probe).needed());
        let everyday = |candidate| Candidate { everyday: Some(what), ..candidate };
        self.found.extend(needed.map(everyday));
    }

    /// What every network needs: its address, the gateway, names, the time, the internet; and that not
    /// everyone in it manages the gateway.
    fn network(&mut self, id: NetworkId) {
        let network = self.plan.network(id);
        let (name, interface) = (network.name.clone(), self.plan.network_interface(id));
        if network.pool.is_some() {
            let ends = Ends::V4 { source: Ipv4Addr::UNSPECIFIED, destination: Ipv4Addr::BROADCAST };
            let packet = Packet::new(interface, ends, ServicePoint::port(Protocol::UDP, 67));
            let id_of = format!("network.{name}/lease");
            self.add_everyday(Everyday::Lease(id), id_of, Some(packet), Probe::Lease);
        }
        for subnet in &network.subnets {
            let gateway = subnet.gateway();
            let family = Family::of(gateway);
            let Some(source) = self.places.first(interface, family) else { continue };
            let udp = |port| ServicePoint::port(Protocol::UDP, port);
            let mut tries = vec![
                ("gateway", ServicePoint::echo(family), Probe::Ping),
                ("dns", udp(53), Probe::Dns),
                ("time", udp(123), Probe::Time),
            ];
            if let Some(port) = self.managed_by() {
                tries.push(("manage", tcp(port), Probe::Tcp(port)));
            }
            for (what, service, probe) in tries {
                let packet = packet_of(interface, source, gateway, service);
                let id_of = format!("network.{name}/{what}{}", suffix(family));
                let denied =
                    |packet: &Packet| self.meaning.decide(packet).verdict != Verdict::Allow;
                match probe {
                    Probe::Dns => self.add_everyday(Everyday::Names(id), id_of, packet, probe),
                    Probe::Tcp(_) if packet.as_ref().is_some_and(denied) => {
                        self.add_everyday(Everyday::ManageInside(id), id_of, packet, probe);
                    }
                    _ => self.add(id_of, packet, probe),
                }
            }
            let outside = self.plan.uplinks().first().and(self.stranger(family));
            let web = outside.and_then(|outside| packet_of(interface, source, outside, tcp(443)));
            let id_of = format!("network.{name}/internet{}", suffix(family));
            self.add_everyday(Everyday::WayOut(id), id_of, web, Probe::Tcp(443));
        }
    }

    /// The address outside that stands for all of which the plan does not speak.
    fn stranger(&self, family: Family) -> Option<IpAddr> {
        self.places.first(self.plan.uplink_interface(0), family)
    }

    /// Where two devices of one network are kept apart, they are.
    fn apart(&mut self, id: NetworkId) {
        let network = self.plan.network(id);
        let interface = self.plan.network_interface(id);
        let Some(source) = self.places.first(interface, Family::V4).filter(|_| network.isolate)
        else {
            return;
        };
        let neighbours: AddressSet = source.into();
        let neighbours = self.plan.network_addresses(id).difference(&neighbours);
        let neighbour = example::candidates(self.plan, &neighbours, Family::V4).first().copied();
        let packet = neighbour.and_then(|neighbour| {
            packet_of(interface, source, neighbour, ServicePoint::echo(Family::V4))
        });
        self.add(format!("network.{}/apart", network.name), packet, Probe::Ping);
    }

    /// Names that are repeated between networks are seen there, and nowhere else.
    fn announced(&mut self, id: NetworkId) {
        if self.plan.discoveries().is_empty() {
            return;
        }
        let interface = self.plan.network_interface(id);
        for to in ANNOUNCED_TO {
            let source = self.places.first(interface, Family::of(to));
            let mdns = ServicePoint::port(Protocol::UDP, 5353);
            let packet = source.and_then(|source| packet_of(interface, source, to, mdns));
            let name = &self.plan.network(id).name;
            self.add(
                format!("network.{name}/announced{}", suffix(Family::of(to))),
                packet,
                Probe::Browse,
            );
        }
    }

    /// A TCP port by which the gateway is managed.
    fn managed_by(&self) -> Option<u16> {
        let manage = self.plan.gateway().manage.as_ref()?;
        let ports = IntervalSet::range(tcp(1), tcp(u16::MAX));
        manage.service.set.v4.intersection(&ports).first()?.destination_port()
    }

    /// Those who manage the gateway can.
    fn managing(&mut self) {
        let (Some(manage), Some(port)) = (&self.plan.gateway().manage, self.managed_by()) else {
            return;
        };
        for family in Family::ALL {
            let sources = example::candidates(self.plan, &manage.from.addresses, family);
            let Some(source) = sources.first().copied() else { continue };
            let Some(id) = self.plan.network_of(source) else { continue };
            let network = self.plan.network(id);
            let gateway = network.subnet(family).map(Subnet::gateway);
            let interface = self.plan.network_interface(id);
            let packet =
                gateway.and_then(|gateway| packet_of(interface, source, gateway, tcp(port)));
            let id_of = format!("manage/itself{}", suffix(family));
            self.add_everyday(Everyday::Manage, id_of, packet, Probe::Tcp(port));
        }
    }

    /// From anywhere on the internet: the gateway must not be managed, nor answer.
    fn outside(&mut self) {
        for (index, uplink) in self.plan.uplinks().iter().enumerate() {
            let interface = self.plan.uplink_interface(index);
            for family in Family::ALL {
                let own = example::first(&uplink.gateway(), family);
                let (Some(own), Some(source)) = (own, self.places.first(interface, family)) else {
                    continue;
                };
                let port = self.managed_by().unwrap_or(22);
                for (what, service, probe) in [
                    ("manage", tcp(port), Probe::Tcp(port)),
                    ("ping", ServicePoint::echo(family), Probe::Ping),
                ] {
                    let packet = packet_of(interface, source, own, service);
                    let id = format!("outside.{}/{what}{}", uplink.name, suffix(family));
                    match probe {
                        Probe::Ping => self.add(id, packet, probe),
                        _ => self.add_everyday(Everyday::ManageOutside(index), id, packet, probe),
                    }
                }
            }
        }
    }

    /// From each network that a guarantee speaks of, a try in each family to each zone and the gateway.
    fn guarantee(&mut self, guarantee: &Guarantee) {
        let (from, to) = (End::of(guarantee.from.clone()), End::of(guarantee.to.clone()));
        let always = IntervalSet::full();
        let Ok(asked) = question(self.meaning, &from, &to, &guarantee.service, &always) else {
            return;
        };
        let mut tried = HashSet::new();
        let word = if guarantee.always { "always" } else { "never" };
        for product in asked.products() {
            for shared in
                self.places.products.iter().filter_map(|p| super::places::shared(p, &product))
            {
                let Some(packet) = example::packet(self.plan, &PacketSet::from(shared)) else {
                    continue;
                };
                let family = packet.family();
                let way = (packet.enters, self.plan.zone_to(packet.destination()), family);
                let Some(probe) = Probe::for_service(packet.service) else { continue };
                if !self.meaning.decide(&packet).verdict.is_filtered() || !tried.insert(way) {
                    continue;
                }
                let (interface, zone) =
                    (self.plan.interface_name(way.0), &self.plan.zone(way.1).name);
                let id = format!("{word}.{}/{interface}>{zone}{}", guarantee.name, suffix(family));
                let candidate = Candidate::new(id, packet, probe).needed();
                self.found.push(Candidate { guarantee: true, ..candidate });
            }
        }
    }
}
