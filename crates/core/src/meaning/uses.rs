//! What each network may ask the gateway for: addresses, names, the time. It is the meaning that is asked, so
//! exceptions and hours count.

use super::Meaning;
use crate::plan::NetworkId;
use crate::space::{AddressSet, Interface, IntervalSet, Match, PacketSet, Protocol, ServiceSet};
use crate::verdict::Verdict;
use std::net::{IpAddr, Ipv4Addr};

const DNS: u16 = 53;
const NTP: u16 = 123;
/// The port of DHCP servers (RFC 2131).
const DHCP: u16 = 67;

/// Whether somebody there may ask the gateway for names, at some hour.
pub fn names(meaning: &Meaning<'_>, interface: Interface) -> bool {
    let service = ServiceSet::ports(Protocol::UDP, DNS, DNS).union(&ServiceSet::ports(
        Protocol::TCP,
        DNS,
        DNS,
    ));
    let destination = meaning.plan().gateway_addresses().clone();
    let enters = IntervalSet::point(interface);
    let source = meaning.sources_on(interface);
    let asking = Match { enters, source, destination, service, ..Match::everything() };
    let parts = meaning.parts(&PacketSet::from(asking));
    parts.iter().any(|part| part.decision.verdict == Verdict::Allow)
}

/// Whether devices there are leased addresses.
pub fn leases(meaning: &Meaning<'_>, id: NetworkId) -> bool {
    let network = meaning.plan().network(id);
    let any: IpAddr = Ipv4Addr::UNSPECIFIED.into();
    let everyone: IpAddr = Ipv4Addr::BROADCAST.into();
    network.tunnel.is_none() && all_may(meaning, id, DHCP, any.into(), everyone.into())
}

/// Whether every device there may ask the gateway for names, at all hours.
pub fn names_everywhere(meaning: &Meaning<'_>, id: NetworkId) -> bool {
    own_gateway(meaning, id, DNS)
}

/// The same for the time.
pub fn time_everywhere(meaning: &Meaning<'_>, id: NetworkId) -> bool {
    own_gateway(meaning, id, NTP)
}

/// Whether all devices of a network may ask its gateway at a UDP port, in each family that it has.
fn own_gateway(meaning: &Meaning<'_>, id: NetworkId, port: u16) -> bool {
    let network = meaning.plan().network(id);
    network.subnets.iter().all(|subnet| {
        let own = AddressSet::from(subnet.gateway());
        let devices = network.device_addresses();
        let devices = devices.of_family(subnet.family());
        all_may(meaning, id, port, devices, own)
    })
}

fn all_may(
    meaning: &Meaning<'_>,
    id: NetworkId,
    port: u16,
    source: AddressSet,
    destination: AddressSet,
) -> bool {
    let enters = IntervalSet::point(meaning.plan().network_interface(id));
    let service = ServiceSet::ports(Protocol::UDP, port, port);
    let asking = Match { enters, source, destination, service, ..Match::everything() };
    let parts = meaning.parts(&PacketSet::from(asking));
    !parts.is_empty() && parts.iter().all(|part| part.decision.verdict == Verdict::Allow)
}
