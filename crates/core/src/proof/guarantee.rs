//! Guarantees: whether what must never pass never does, and what must always pass always does, over every packet.

use crate::asking::{End, NoAnswer, question};
use crate::example;
use crate::meaning::Meaning;
use crate::plan::{Guarantee, NetworkId, Place, Plan};
use crate::space::{AddressSet, IntervalSet, Match, Packet, PacketSet};
use crate::verdict::{Cause, Decision, NoRoute, Spoofing, Verdict};

/// How a guarantee fares.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Kept {
    /// A packet that breaks it, with what decides that packet; `None` if it holds.
    pub broken_by: Option<(Packet, Decision)>,
    /// Whether that depends on when the packet is sent.
    pub at_hours: bool,
    /// Why nothing that it speaks of can arrive at all, where it says that something always does.
    pub nothing: Option<Nothing>,
    /// Of what always passes: the members of an end that have no way to the other at all, by name.
    pub without_way: Vec<String>,
    /// Networks in which devices meet without the gateway though they never should.
    pub within: Vec<NetworkId>,
}

impl Kept {
    /// Whether the guarantee holds.
    pub fn holds(&self) -> bool {
        self.broken_by.is_none() && self.nothing.is_none()
    }
}

/// Why no packet of a guarantee can arrive.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Nothing {
    /// There is nobody at one end, or no family in common.
    Nobody(NoAnswer),
    /// There is no way.
    NoRoute(NoRoute),
    /// Nothing is offered there, so that it cannot be addressed from outside.
    NotOffered,
    /// Nobody can be where it should come from.
    Spoofed,
}

impl Nothing {
    /// The reason as a clause.
    pub fn words(self) -> &'static str {
        match self {
            Self::Nobody(NoAnswer::NobodyThere) => "the source is empty",
            Self::Nobody(NoAnswer::NobodyToReach) => "the destination is empty",
            Self::Nobody(NoAnswer::NoCommonFamily) => {
                "the two ends have no address family in common"
            }
            Self::Nobody(NoAnswer::GatewayToItself) => {
                "the gateway's traffic to itself is not filtered"
            }
            Self::NoRoute(NoRoute::NoUplink) => "no uplink leads there",
            Self::NoRoute(_) => "no route leads there",
            Self::NotOffered => "nothing is offered there",
            Self::Spoofed => "no true source is there",
        }
    }
}

/// Whether a guarantee of the plan holds, over every packet that it speaks of: both families, all hours.
///
/// What stays within a network counts neither way, since the gateway has no say in it. Of what must always pass, a
/// packet that has no route, or whose source could not be there, does not count; but a guarantee of which no packet
/// counts is broken, because it would promise nothing.
///
/// ```
/// use bastium_core::{meaning::Meaning, proof};
/// use jiff::civil::date;
///
/// # let text = std::fs::read("tests/two-networks.toml").expect("a file");
/// # let plan = bastium_planfile::read("plan.toml", &text).expect("a plan without errors");
/// let meaning = Meaning::new(&plan, date(2026, 6, 1)).expect("no contradictions");
/// let promise = &plan.guarantees()[0];
/// assert_eq!(promise.name.as_str(), "printers-leave");
/// assert!(proof::guarantee(&meaning, promise).holds());
/// ```
pub fn guarantee(meaning: &Meaning<'_>, guarantee: &Guarantee) -> Kept {
    let (from, to) = (End::of(guarantee.from.clone()), End::of(guarantee.to.clone()));
    let always = IntervalSet::full();
    let mut kept = Kept::default();
    let asked = question(meaning, &from, &to, &guarantee.service, &always);
    let packets = match (asked, guarantee.always) {
        (Ok(packets), true) => packets,
        (Err(why), true) => return Kept { nothing: Some(Nothing::Nobody(why)), ..kept },
        (asked, false) => {
            let service = &guarantee.service.set;
            let to_gateway = meaning.to_gateway_from(&guarantee.from, &guarantee.to, service);
            asked.unwrap_or_default().union(&to_gateway)
        }
    };
    let mut arriving = PacketSet::empty();
    let mut lost = None;
    for part in meaning.parts(&packets) {
        let (verdict, cause) = (part.decision.verdict, part.decision.cause);
        let counts = match (verdict, cause) {
            (Verdict::NoRoute, Cause::NoRoute(why)) => Err(Nothing::NoRoute(why)),
            (_, Cause::Spoofed(Spoofing::ToPrivate, _)) => Err(Nothing::NotOffered),
            (_, Cause::Spoofed(..)) => Err(Nothing::Spoofed),
            _ => Ok(()),
        };
        match counts {
            Ok(()) => arriving = arriving.union(&part.packets),
            // That it is not offered says more than that some source is not true.
            Err(why) if lost.is_none() || why == Nothing::NotOffered => lost = Some(why),
            Err(_) => {}
        }
        let breaks = match (guarantee.always, verdict) {
            // What IPv6 cannot do without passes, whatever is guaranteed.
            (false, verdict) => verdict == Verdict::Allow && cause != Cause::Ipv6Needs,
            (true, Verdict::Block | Verdict::Reject) => counts.is_ok(),
            (true, _) => false,
        };
        if let (Cause::SameNetwork(id), false) = (cause, guarantee.always) {
            kept.within.push(id);
        }
        if breaks && kept.broken_by.is_none() {
            let packet = example::packet(meaning.plan(), &part.packets);
            kept.broken_by = packet.map(|packet| (packet, part.decision));
            kept.at_hours = !part.packets.is_timeless();
        }
    }
    if guarantee.always {
        if arriving.is_empty() {
            let nobody = Nothing::Nobody(NoAnswer::NoCommonFamily);
            kept.nothing = Some(lost.unwrap_or(nobody));
        } else {
            kept.without_way = without_way(meaning.plan(), guarantee, &arriving);
        }
    }
    kept
}

/// The members of both ends of which no packet arrives.
fn without_way(plan: &Plan, guarantee: &Guarantee, arriving: &PacketSet) -> Vec<String> {
    let mut found = Vec::new();
    for (place, source) in [(&guarantee.from, true), (&guarantee.to, false)] {
        for (name, addresses) in members(plan, place) {
            let own = match source {
                true => Match { source: addresses, ..Match::everything() },
                false => Match { destination: addresses, ..Match::everything() },
            };
            if arriving.is_disjoint(&own.into()) {
                found.push(name);
            }
        }
    }
    found
}

/// What a place is made of, by name: its hosts, and the networks that it has addresses of beside these.
fn members(plan: &Plan, place: &Place) -> Vec<(String, AddressSet)> {
    let hosts = place.hosts.iter().map(|id| plan.host(*id));
    let mut all: Vec<(String, AddressSet)> = hosts
        .map(|host| (host.name.to_string(), host.addresses.iter().copied().collect()))
        .collect();
    let of_hosts: AddressSet = all.iter().map(|(_, addresses)| addresses.clone()).collect();
    let rest = place.addresses.difference(&of_hosts);
    let networks = plan.network_ids().map(|id| {
        let own = plan.network_addresses(id).intersection(&rest);
        (plan.network(id).name.to_string(), own)
    });
    let routes = plan
        .routes()
        .iter()
        .map(|route| (route.name.to_string(), route.devices.intersection(&rest)));
    all.extend(networks.chain(routes).filter(|(_, addresses)| !addresses.is_empty()));
    all
}
