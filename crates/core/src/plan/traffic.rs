//! What a plan says about traffic besides zones and exceptions: offered services, hours, guarantees, streams.

use super::Place;
use super::ids::{ExceptionId, NetworkId, ZoneId};
use crate::addressing::Placeholder;
use crate::name::Name;
use crate::source::Span;
use crate::space::{AddressSet, IntervalSet, Minute, ServicePoint, ServiceSet};
use ipnet::IpNet;
use std::net::IpAddr;

/// What a plan says where it asks for services.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Services {
    /// As it is written, items joined by `, `.
    pub text: String,
    /// The single items: their words and what they stand for.
    pub items: Vec<(String, ServiceSet)>,
    /// All of them together.
    pub set: ServiceSet,
}

/// What makes a network a tunnel: its devices arrive from outside.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Tunnel {
    /// Where the gateway listens for it, at its addresses outside.
    pub listens: Option<Services>,
}

/// A subnet behind another router.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Route {
    /// Its name.
    pub name: Name,
    /// The subnet.
    pub to: IpNet,
    /// The router that leads there.
    pub via: IpAddr,
    /// The network in which that router is.
    pub network: NetworkId,
    /// The zone it belongs to.
    pub zone: ZoneId,
    /// The addresses that lead there: those of the subnet without what a longer prefix leads
    /// elsewhere.
    pub reach: AddressSet,
    /// Of these, the ones that a device can have.
    pub devices: AddressSet,
    /// Where it is declared.
    pub at: Span,
}

/// Something on the internet that is known by name only.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Domain {
    /// Its name in the plan.
    pub name: Name,
    /// Its DNS names.
    pub names: Vec<String>,
    /// What stands for the addresses that the names lead to.
    pub placeholder: Placeholder,
    /// Where it is declared.
    pub at: Span,
}

/// Minutes of the week with a name.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Hours {
    /// Its name.
    pub name: Name,
    /// The minutes.
    pub minutes: IntervalSet<Minute>,
    /// Where it is declared.
    pub at: Span,
}

/// A service of an inside host that is offered at an uplink's address.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Inbound {
    /// The permission that it amounts to, at the end of the plan's list of exceptions.
    pub exception: ExceptionId,
    /// The host's address that translated packets go to; `None` if nothing is translated.
    pub target: Option<IpAddr>,
    /// The uplink whose addresses offer it, by its place in the plan's list.
    pub uplink: usize,
    /// What is asked for at the outside.
    pub outside: ServiceSet,
    /// Added to a point of the service line on the way in: the inside port less the outside one.
    pub shift: i32,
    /// The port outside, where it is another than inside.
    pub outside_port: Option<u16>,
}

impl Inbound {
    /// What is asked for inside, for points of the line that are offered outside.
    pub fn inward(&self, line: &IntervalSet<ServicePoint>) -> IntervalSet<ServicePoint> {
        line.moved(self.shift)
    }

    /// The way back.
    pub fn outward(&self, line: &IntervalSet<ServicePoint>) -> IntervalSet<ServicePoint> {
        line.moved(-self.shift)
    }
}

/// Names that are announced in some networks and repeated into the others (mDNS, RFC 6762).
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Discovery {
    /// Its name.
    pub name: Name,
    /// The networks.
    pub between: Vec<NetworkId>,
    /// Where it is declared.
    pub at: Span,
}

/// A steady load.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Stream {
    /// Its name.
    pub name: Name,
    /// Who sends the bytes.
    pub from: Place,
    /// Who takes them.
    pub to: Place,
    /// How much, in megabits a second.
    pub mbps: f64,
    /// Where it is declared.
    pub at: Span,
}

/// Something that holds whatever else is written.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Guarantee {
    /// Its name.
    pub name: Name,
    /// Whether it is one of what must always pass; else of what must never.
    pub always: bool,
    /// From where.
    pub from: Place,
    /// To where.
    pub to: Place,
    /// Which services.
    pub service: Services,
    /// Where it is declared.
    pub at: Span,
}

impl Guarantee {
    /// `always` or `never`.
    pub fn word(&self) -> &'static str {
        if self.always { "always" } else { "never" }
    }
}

/// A finding that was looked at and is kept.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Known {
    /// The finding's name, or `name@entry` for the one that stands at that entry.
    pub finding: String,
    /// Why it is kept.
    pub reason: String,
    /// Where the plan says so.
    pub at: Span,
}

/// What a gateway cannot do.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Limits {
    /// Whether it can answer what it refuses.
    pub reject: bool,
    /// Whether it can log.
    pub log: bool,
    /// Whether a rule can hold at certain hours only.
    pub hours: bool,
    /// Whether a rule can name a domain.
    pub domains: bool,
    /// Whether it filters IPv6.
    pub ipv6: bool,
    /// How many rules it takes.
    pub rules: Option<u32>,
    /// How long a rule's name may be, in bytes.
    pub name: Option<u32>,
    /// Whether a rule can be put above others; else only at the end of its list.
    pub insert: bool,
    /// Whether a list may have two rules that say the same, or two of one name.
    pub duplicates: bool,
    /// Whether a list that is ready can take the place of another at once.
    pub swap_lists: bool,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            reject: true,
            log: true,
            hours: true,
            domains: true,
            ipv6: true,
            rules: None,
            name: None,
            insert: true,
            duplicates: true,
            swap_lists: true,
        }
    }
}
