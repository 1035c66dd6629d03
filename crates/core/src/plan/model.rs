//! The parts of a plan, as plain data. They are only ever reached through a [`super::Plan`], which
//! nobody can change, so their fields can be read without asking.

use super::ids::{ExceptionId, NetworkId, ZoneId};
use super::ssh_host::Reach;
use super::{Action, Hours, Limits, Place, Services, Tunnel};
use crate::addressing::{Placeholder, Pool, Subnet, Tie, link_local};
use crate::name::Name;
use crate::source::Span;
use crate::space::{AddressSet, Family, IntervalSet, Minute, ServiceSet};
use ipnet::IpNet;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::{TimeZone, TimeZoneDatabase};
use macaddr::MacAddr6;
use std::net::IpAddr;

/// The site as a whole.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Site {
    /// What it is called.
    pub name: String,
    /// Where subnets may lie; may be empty.
    pub space: Vec<IpNet>,
    /// How subnets follow from VLAN ids.
    pub tie: Tie,
    /// The time zone that dates are in, by its IANA name.
    pub time_zone: Option<String>,
}

impl Site {
    /// Its time zone, with the rules of the tz database; `None` where the plan names none.
    pub fn zone(&self) -> Option<TimeZone> {
        TimeZoneDatabase::bundled().get(self.time_zone.as_ref()?).ok()
    }

    /// The day at the site in a moment; that of UTC where the plan names no time zone.
    pub fn day(&self, at: Timestamp) -> Date {
        at.to_zoned_datetime(self.zone().unwrap_or(TimeZone::UTC)).date()
    }
}

/// The form in which a gateway takes its rules.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Form {
    /// One ordered list for all routed traffic, one for traffic to the gateway.
    #[default]
    OneList,
    /// A short list for every pair of zones.
    PerPair,
    /// A stateless list for each interface and direction.
    PerInterface,
    /// Ranks by trust decide where no rule does.
    Ranked,
}

impl Form {
    /// All forms.
    pub const ALL: [Self; 4] = [Self::OneList, Self::PerPair, Self::PerInterface, Self::Ranked];

    /// Its name in the plan.
    pub fn word(self) -> &'static str {
        match self {
            Self::OneList => "one-list",
            Self::PerPair => "per-pair",
            Self::PerInterface => "per-interface",
            Self::Ranked => "ranked",
        }
    }
}

/// How many rules a gateway gets for the same.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Rows {
    /// The fewest that can be found.
    #[default]
    Fewest,
    /// One for every cell of the matrix and every exception, for the record.
    EveryCell,
}

impl Rows {
    /// Both.
    pub const ALL: [Self; 2] = [Self::Fewest, Self::EveryCell];

    /// Its name in the plan.
    pub fn word(self) -> &'static str {
        match self {
            Self::Fewest => "fewest",
            Self::EveryCell => "every-cell",
        }
    }
}

/// The gateway.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Gateway {
    /// How it takes its rules.
    pub form: Form,
    /// Whether rules that change nothing are left out.
    pub rules: Rows,
    /// Its ports, by name.
    pub ports: Vec<String>,
    /// Ports joined into one (IEEE 802.1AX), by the name of the whole.
    pub aggregates: Vec<(String, Vec<String>)>,
    /// Who may manage it.
    pub manage: Option<Manage>,
    /// Whether its lists can look at source addresses only (form `per-interface`).
    pub source_only: bool,
    /// What it cannot do.
    pub limits: Limits,
    /// What it can carry between networks, in megabits a second.
    pub routes_mbps: Option<f64>,
    /// Where it is reached by SSH.
    pub reach: Option<Reach>,
    /// Where it is declared.
    pub at: Span,
}

/// Who may manage the gateway, and by what.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Manage {
    /// From where.
    pub from: Place,
    /// By which services.
    pub service: Services,
    /// Whether a second factor is asked for.
    pub second_factor: bool,
    /// Where the plan says so.
    pub at: Span,
}

/// A way out.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Uplink {
    /// Its name.
    pub name: Name,
    /// The gateway's port it is on.
    pub port: Option<String>,
    /// The gateway's own addresses there, each with its prefix length; empty if they come by DHCP.
    pub addresses: Vec<IpNet>,
    /// The routers on the other side.
    pub routers: Vec<IpAddr>,
    /// Whether its address comes by DHCP.
    pub dhcp: bool,
    /// What stands for its address, where that comes by DHCP.
    pub placeholder: Option<Placeholder>,
    /// Where it is declared.
    pub at: Span,
}

impl Uplink {
    /// The gateway's own addresses there, known or stood in for.
    pub fn gateway(&self) -> AddressSet {
        let known: AddressSet = self.addresses.iter().map(IpNet::addr).collect();
        known.union(&self.placeholder.map(Placeholder::set).unwrap_or_default())
    }

    /// The part of a set of addresses that this uplink leads to: in the families that it has. A leased one
    /// has both.
    pub fn in_its_families(&self, set: &AddressSet) -> AddressSet {
        let has = |v4: bool| self.dhcp || self.addresses.iter().any(|a| a.addr().is_ipv4() == v4);
        AddressSet {
            v4: if has(true) { set.v4.clone() } else { IntervalSet::empty() },
            v6: if has(false) { set.v6.clone() } else { IntervalSet::empty() },
        }
    }

    /// The subnets that the uplink itself lies in, as far as they are known.
    pub fn subnets(&self) -> impl Iterator<Item = Subnet> + '_ {
        self.addresses.iter().filter_map(|a| Subnet::new(a.trunc(), a.addr()))
    }

    /// The subnets that the uplink itself lies in, and its routers.
    pub fn own(&self) -> AddressSet {
        let prefixes: AddressSet = self.addresses.iter().map(IpNet::trunc).collect();
        prefixes.union(&self.routers.iter().copied().collect())
    }

    /// The addresses that others can have on the uplink's own link, as far as they are known: in its subnets,
    /// and its routers'.
    pub fn neighbours(&self) -> AddressSet {
        let nobody = |s: Subnet| [s.network_address(), s.broadcast(), s.anycast()];
        let nobody: AddressSet = self.subnets().flat_map(nobody).flatten().collect();
        self.own().difference(&nobody).difference(&self.gateway()).difference(&link_local())
    }
}

/// How far a zone is trusted. The internet ranks below `none`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Trust {
    /// The internet's own rank.
    Internet,
    /// Not at all.
    None,
    /// A little.
    Low,
    /// Somewhat.
    Medium,
    /// Fully.
    High,
}

impl Trust {
    /// The ranks that a plan can give.
    pub const GIVEN: [Self; 4] = [Self::High, Self::Medium, Self::Low, Self::None];

    /// Its name in the plan.
    pub fn word(self) -> &'static str {
        match self {
            Self::Internet => "internet",
            Self::None => "none",
            Self::Low => "low",
            Self::Medium => "medium",
            Self::High => "high",
        }
    }
}

/// Networks that one decision serves.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Zone {
    /// Its name.
    pub name: Name,
    /// How far it is trusted.
    pub trust: Trust,
    /// What is in it.
    pub about: String,
    /// What its networks may use the gateway for.
    pub uses: Option<Services>,
    /// Where it is declared; the internet is not.
    pub at: Span,
}

/// One VLAN with its subnets; or a tunnel, which has no VLAN and whose devices are its clients.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Network {
    /// Its name.
    pub name: Name,
    /// Words to find it by.
    pub tags: Vec<Name>,
    /// The zone it belongs to.
    pub zone: ZoneId,
    /// Its VLAN id, 1 to 4094 (IEEE 802.1Q); `None` if it is untagged.
    pub vlan: Option<u16>,
    /// The gateway's port or aggregate it arrives on.
    pub port: Option<String>,
    /// Its subnets.
    pub subnets: Vec<Subnet>,
    /// What the gateway leases out.
    pub pool: Option<Pool>,
    /// Whether the plan says a word about leases at all, be it `false`.
    pub dhcp_said: bool,
    /// How many devices are expected.
    pub expected: Option<u32>,
    /// Whether switch and access point keep its devices apart.
    pub isolate: bool,
    /// What it may use the gateway for, instead of what its zone may.
    pub uses: Option<Services>,
    /// Where it is declared.
    pub at: Span,
    /// Where its VLAN id stands.
    pub vlan_at: Span,
    /// What makes it a tunnel, if it is one.
    pub tunnel: Option<Tunnel>,
    /// Whether its subnets were carved from the site's space and do not stand in the file yet.
    pub carved: bool,
    pub(super) devices: AddressSet,
}

impl Network {
    /// The addresses that its devices can have: without the gateway's and the reserved ones.
    pub fn device_addresses(&self) -> &AddressSet {
        &self.devices
    }

    /// Its subnets of a family, in the plan's order.
    pub fn subnets_of(&self, family: Family) -> impl Iterator<Item = &Subnet> {
        self.subnets.iter().filter(move |subnet| subnet.family() == family)
    }

    /// The first of them.
    pub fn subnet(&self, family: Family) -> Option<&Subnet> {
        self.subnets_of(family).next()
    }

    /// Whether it has IPv6.
    pub fn has_v6(&self) -> bool {
        self.subnet(Family::V6).is_some()
    }

    /// The same for subnets that are no network yet.
    pub(super) fn devices_in(subnets: &[Subnet]) -> AddressSet {
        let usable: AddressSet = subnets.iter().map(Subnet::usable).collect();
        let gateway: AddressSet = subnets.iter().map(Subnet::gateway).collect();
        usable.difference(&gateway)
    }

    /// Everything in its subnets.
    pub fn prefixes(&self) -> AddressSet {
        self.subnets.iter().map(Subnet::prefix).collect()
    }
}

/// A device with a name.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Host {
    /// Its name.
    pub name: Name,
    /// Words to find it by.
    pub tags: Vec<Name>,
    /// The network it is in.
    pub network: NetworkId,
    /// Its fixed addresses; empty if it takes any.
    pub addresses: Vec<IpAddr>,
    /// Its hardware address.
    pub mac: Option<MacAddr6>,
    /// Where it is declared.
    pub at: Span,
}

/// A named set of places.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Group {
    /// Its name.
    pub name: Name,
    /// What it holds.
    pub place: Place,
    /// Where it is declared.
    pub at: Span,
}

/// A service that the plan declares.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Service {
    /// Its name.
    pub name: Name,
    /// Words to find it by.
    pub tags: Vec<Name>,
    /// What it stands for.
    pub set: ServiceSet,
    /// Where it is declared.
    pub at: Span,
}

/// A narrow thing that goes against its cell.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Exception {
    /// Its name.
    pub name: Name,
    /// Words to find it by.
    pub tags: Vec<Name>,
    /// From where.
    pub from: Place,
    /// To where.
    pub to: Place,
    /// Which services.
    pub service: Services,
    /// What happens.
    pub action: Action,
    /// Whether it is logged.
    pub log: bool,
    /// Why it is there.
    pub why: String,
    /// The ticket it comes from.
    pub ticket: Option<String>,
    /// Who wanted it.
    pub owner: Option<String>,
    /// The last day on which it counts.
    pub until: Option<Date>,
    /// Where that day stands.
    pub until_at: Span,
    /// Whether it is switched off.
    pub off: bool,
    /// The hours at which it counts; all of them if it does not say.
    pub hours: Option<Hours>,
    /// How much it lets through, in megabits a second.
    pub limit_mbps: Option<f64>,
    /// Whether it is the permission that an `inbound` entry amounts to, by its place in their list.
    pub inbound: Option<usize>,
    /// Whether that entry translates what arrives for it.
    pub translated: bool,
    /// The exceptions that it goes before, though it is not narrower.
    pub before: Vec<(ExceptionId, Span)>,
    /// Where it is declared.
    pub at: Span,
}

impl Exception {
    /// Whether it takes part on that day.
    pub fn counts_on(&self, day: Date) -> bool {
        !self.off && self.until.is_none_or(|last| day <= last)
    }

    /// The minutes of the week at which it counts.
    pub fn minutes(&self) -> IntervalSet<Minute> {
        self.hours.as_ref().map_or_else(IntervalSet::full, |hours| hours.minutes.clone())
    }

    /// `exception`, or `inbound` for the permission that such an entry amounts to.
    pub fn table(&self) -> &'static str {
        if self.inbound.is_some() { "inbound" } else { "exception" }
    }
}
