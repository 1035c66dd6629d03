//! Mistakes that people make outside the rules: translation, DHCP, services of the gateway, switch ports and Wi-Fi
//! names.
//!
//! Each is described by what would look different to the person who makes checks. Where that is a matter of chance, such as
//! which address of a range is leased next, no check is said to show it.

use super::{Check, Expect, Probe, SetUp, Standpoint};
use crate::addressing::not_global;
use crate::meaning::{Meaning, uses};
use crate::plan::{Inbound, NetworkId, Plan};
use crate::space::{AddressSet, Family, Packet, Protocol, ServicePoint};
use crate::wiring::{self, Device};
use std::net::IpAddr;

/// A kind of mistake beside the rules.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum SetUpKind {
    /// What goes out by an uplink keeps its private source.
    NoTranslation,
    /// What goes from network to network gets the gateway's address for a source.
    TranslationTooWide,
    /// An offered service is not forwarded.
    NoForward,
    /// It is forwarded to the address beside the host.
    ForwardToOtherHost,
    /// It is forwarded to the port beside.
    ForwardToOtherPort,
    /// A network gives no addresses.
    NoLeases,
    /// It gives addresses from another range.
    RangeElsewhere,
    /// It gives addresses from a wider range.
    RangeWider,
    /// It names another router.
    OtherRouter,
    /// It names another resolver.
    OtherResolver,
    /// The gateway answers no DNS in a network.
    NoNames,
    /// A network has no IPv6.
    NoIpv6InNetwork,
    /// Two ports of a switch have each other's network.
    PortsSwapped,
    /// A Wi-Fi name leads to another network.
    WifiElsewhere,
    /// Two networks are joined.
    NetworksJoined,
}

/// What a mistake was made with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Subject {
    Uplink(usize),
    Site,
    /// The place among the plan's offered services.
    Offered(usize),
    Network(NetworkId),
    Two(NetworkId, NetworkId),
    /// Whether there is no other place in these networks.
    Only([Option<NetworkId>; 2]),
}

/// One mistake.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct SetUpMistake {
    /// What kind it is.
    pub kind: SetUpKind,
    /// What it was made with, in the plan's words.
    pub of: String,
    subject: Subject,
}

impl SetUpKind {
    /// What it is called, in words joined by hyphens.
    pub fn word(self) -> &'static str {
        match self {
            Self::NoTranslation => "no-translation",
            Self::TranslationTooWide => "translation-too-wide",
            Self::NoForward => "no-forward",
            Self::ForwardToOtherHost => "forward-to-other-host",
            Self::ForwardToOtherPort => "forward-to-other-port",
            Self::NoLeases => "no-dhcp",
            Self::RangeElsewhere => "range-elsewhere",
            Self::RangeWider => "range-wider",
            Self::OtherRouter => "other-router",
            Self::OtherResolver => "other-resolver",
            Self::NoNames => "no-dns",
            Self::NoIpv6InNetwork => "no-ipv6-in-network",
            Self::PortsSwapped => "ports-swapped",
            Self::WifiElsewhere => "wifi-elsewhere",
            Self::NetworksJoined => "networks-joined",
        }
    }
}

/// All mistakes of the list that can be made with a plan.
pub fn set_up_mistakes(meaning: &Meaning<'_>) -> Vec<SetUpMistake> {
    let plan = meaning.plan();
    let mut all = Vec::new();
    let mut add = |kind, of: String, subject| all.push(SetUpMistake { kind, of, subject });
    for (place, uplink) in plan.uplinks().iter().enumerate() {
        add(SetUpKind::NoTranslation, uplink.name.to_string(), Subject::Uplink(place));
    }
    if plan.networks().len() > 1 {
        add(SetUpKind::TranslationTooWide, "the site".to_owned(), Subject::Site);
    }
    for (place, inbound) in plan.inbounds().iter().enumerate() {
        if inbound.target.is_none() {
            continue;
        }
        let name = plan.exception(inbound.exception).name.to_string();
        for kind in
            [SetUpKind::NoForward, SetUpKind::ForwardToOtherHost, SetUpKind::ForwardToOtherPort]
        {
            add(kind, name.clone(), Subject::Offered(place));
        }
    }
    for id in plan.network_ids().filter(|id| plan.network(*id).tunnel.is_none()) {
        let network = plan.network(id);
        let mut kinds = Vec::new();
        if network.pool.is_some() {
            kinds.extend([
                SetUpKind::NoLeases,
                SetUpKind::RangeElsewhere,
                SetUpKind::RangeWider,
                SetUpKind::OtherRouter,
            ]);
            // Where the gateway answers no questions, any resolver may be meant.
            kinds.extend(uses::names_everywhere(meaning, id).then_some(SetUpKind::OtherResolver));
        }
        let uses = network.uses.as_ref().or(plan.zone(network.zone).uses.as_ref());
        let dns = ServicePoint::port(Protocol::UDP, 53);
        if uses.is_some_and(|uses| uses.set.v4.contains(dns)) {
            kinds.push(SetUpKind::NoNames);
        }
        if network.has_v6() {
            kinds.push(SetUpKind::NoIpv6InNetwork);
        }
        for kind in kinds {
            add(kind, network.name.to_string(), Subject::Network(id));
        }
    }
    wiring_mistakes(plan, &mut add);
    all
}

/// Neighbouring ports that have each other's network, Wi-Fi names, and neighbouring networks that are joined.
fn wiring_mistakes(plan: &Plan, add: &mut impl FnMut(SetUpKind, String, Subject)) {
    let ports = wiring::ports(plan);
    let access: Vec<_> = ports.iter().filter(|port| port.untagged.is_some()).collect();
    let wifis = plan.wiring().wifi.iter();
    let only = |id: NetworkId| {
        let ports = access.iter().filter(|port| port.untagged == Some(id)).count();
        let names = wifis.clone().filter(|wifi| wifi.network == id).count();
        (ports + names == 1).then_some(id)
    };
    for pair in access.windows(2) {
        let [one, other] = [pair[0], pair[1]];
        let same = one.device == other.device && matches!(one.device, Device::Switch(_));
        if let (true, Some(here), Some(there)) = (same, one.untagged, other.untagged)
            && here != there
        {
            let of = format!("{} {} and {}", one.device.name(plan), one.name, other.name);
            add(SetUpKind::PortsSwapped, of, Subject::Only([only(here), only(there)]));
        }
    }
    for wifi in plan.wiring().wifi.iter().filter(|_| plan.networks().len() > 1) {
        let of = wifi.name.to_string();
        add(SetUpKind::WifiElsewhere, of, Subject::Only([only(wifi.network), None]));
    }
    let wired: Vec<NetworkId> =
        plan.network_ids().filter(|id| plan.network(*id).tunnel.is_none()).collect();
    for pair in wired.windows(2) {
        let of = format!("{} and {}", plan.network(pair[0]).name, plan.network(pair[1]).name);
        add(SetUpKind::NetworksJoined, of, Subject::Two(pair[0], pair[1]));
    }
}

/// What of a way of checking counts beside its packets.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Eyes {
    /// Whether it asks for a lease itself, and hears all servers that answer.
    pub(super) servers: bool,
    /// Whether it looks at all that comes with a lease, and at what routers advertise.
    pub(super) given: bool,
    /// Whether it sees with which source a packet arrives, wherever one does.
    pub(super) arrivals: bool,
    /// Whether it sees that at the second laptop, which listens.
    pub(super) second: bool,
    /// Whether it stands in all networks at once.
    pub(super) everywhere: bool,
    /// Whether it stands at sockets and in Wi-Fi.
    pub(super) sockets: bool,
}

impl SetUpMistake {
    /// Whether no check can be relied on to show it.
    pub fn is_luck(&self) -> bool {
        self.kind == SetUpKind::RangeWider
    }

    /// Whether somebody who makes these checks, and sees so much, notices it.
    pub(super) fn is_shown(
        &self,
        meaning: &Meaning<'_>,
        checks: &[&Check],
        swept: &[Packet],
        eyes: Eyes,
    ) -> bool {
        let plan = meaning.plan();
        let replies = || checks.iter().filter(|check| check.expect == Expect::Reply);
        let in_network = |id: NetworkId, probe: Probe| {
            replies()
                .any(|check| check.probe == probe && check.standpoint == Standpoint::Network(id))
        };
        match (self.kind, self.subject) {
            (SetUpKind::NoTranslation, Subject::Uplink(_)) => {
                replies().any(|check| needs_translation(plan, &check.packet))
            }
            (SetUpKind::TranslationTooWide, _) => {
                let inside = |packet: &Packet| {
                    let known = |address| plan.network_of(address).is_some();
                    known(packet.source())
                        && known(packet.destination())
                        && !plan.gateway_inside().contains(packet.destination())
                };
                let listens = |check: &Check| {
                    eyes.arrivals
                        || eyes.second && matches!(check.set_up(), Some(SetUp::Listener(..)))
                };
                replies().any(|check| inside(&check.packet) && listens(check))
                    || eyes.arrivals && swept.iter().any(inside)
            }
            (kind, Subject::Offered(place)) => {
                let inbound = &plan.inbounds()[place];
                let asks = |check: &&&Check| asks_for(plan, inbound, &check.packet);
                let beside = kind == SetUpKind::ForwardToOtherHost && is_somebody(plan, inbound);
                replies().any(|check| asks(&check)) && (!beside || eyes.arrivals)
            }
            (SetUpKind::NoLeases | SetUpKind::RangeElsewhere, Subject::Network(id)) => {
                in_network(id, Probe::Lease)
            }
            (SetUpKind::OtherRouter, Subject::Network(id)) => {
                let leaves = |check: &&Check| {
                    check.standpoint == Standpoint::Network(id)
                        && plan.network_of(check.packet.destination()) != Some(id)
                };
                // A tester who sets an address by hand takes the router from the plan.
                in_network(id, Probe::Lease)
                    && (eyes.given || replies().copied().any(|check| leaves(&check)))
            }
            (SetUpKind::OtherResolver, Subject::Network(id)) => {
                eyes.given && in_network(id, Probe::Lease) || in_network(id, Probe::Web)
            }
            (SetUpKind::NoNames, Subject::Network(id)) => in_network(id, Probe::Dns),
            (SetUpKind::NoIpv6InNetwork, Subject::Network(id)) => {
                let v6 = |check: &&&Check| check.packet.family() == Family::V6;
                replies().filter(v6).any(|check| check.standpoint.network() == Some(id))
            }
            (SetUpKind::PortsSwapped | SetUpKind::WifiElsewhere, Subject::Only(networks)) => {
                let mut only = networks.into_iter().flatten();
                eyes.sockets && only.any(|id| in_network(id, Probe::Lease))
            }
            (SetUpKind::NetworksJoined, Subject::Two(one, other)) => {
                let gives =
                    |id: NetworkId| plan.network(id).pool.is_some() && uses::leases(meaning, id);
                let v6 = |id: NetworkId| plan.network(id).has_v6();
                // There a second server answers, or a router advertises a prefix of the other network.
                let is_seen = |here: NetworkId, there: NetworkId| {
                    in_network(here, Probe::Lease)
                        && gives(there)
                        && (eyes.servers && gives(here) || eyes.given && v6(there))
                };
                eyes.everywhere || is_seen(one, other) || is_seen(other, one)
            }
            _ => false,
        }
    }
}

/// Whether the reply to a packet can only come back where its source is translated.
fn needs_translation(plan: &Plan, packet: &Packet) -> bool {
    let (source, destination) = (packet.source(), packet.destination());
    source.is_ipv4()
        && plan.network_of(source).is_some()
        && not_global().contains(source)
        && plan.internet_addresses().contains(destination)
}

/// Whether a packet asks for an offered service, from outside.
fn asks_for(plan: &Plan, inbound: &Inbound, packet: &Packet) -> bool {
    let line = inbound.outside.line(packet.family());
    let uplink = plan.uplinks().get(inbound.uplink);
    let offered = uplink.is_some_and(|uplink| uplink.gateway().contains(packet.destination()));
    offered && line.contains(packet.service)
}

/// Whether somebody might answer at the address beside that of an offered host.
fn is_somebody(plan: &Plan, inbound: &Inbound) -> bool {
    let beside = |address: IpAddr| -> AddressSet {
        let (low, high) = match address {
            IpAddr::V4(own) => {
                let bits = own.to_bits();
                let of = |bits: u32| IpAddr::from(std::net::Ipv4Addr::from_bits(bits));
                (of(bits.saturating_sub(1)), of(bits.saturating_add(1)))
            }
            IpAddr::V6(own) => {
                let bits = own.to_bits();
                let of = |bits: u128| IpAddr::from(std::net::Ipv6Addr::from_bits(bits));
                (of(bits.saturating_sub(1)), of(bits.saturating_add(1)))
            }
        };
        [low, high].into_iter().collect()
    };
    let hosts: AddressSet = plan.hosts().iter().flat_map(|host| host.addresses.clone()).collect();
    inbound.target.is_some_and(|target| !beside(target).is_disjoint(&hosts))
}
