//! Guarantees that do not hold, names that are announced to a network which may not connect, and streams that are
//! blocked.

use crate::asking::{End, question};
use crate::diagnosis::{Diagnose, Diagnosis, advice, warning};
use crate::meaning::Meaning;
use crate::name::Name;
use crate::plan::{NetworkId, Plan, Stream};
use crate::proof;
use crate::service::built_in;
use crate::source::{Span, Text};
use crate::space::{AddressSet, IntervalSet, Match, PacketSet};
use crate::verdict::Verdict;

/// A finding about what the plan promises.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum PromiseFinding {
    /// A packet breaks a guarantee.
    Broken { word: &'static str, guarantee: Name, packet: String, because: String, at: Span },
    /// Nothing that should always pass can arrive.
    Nothing { guarantee: Name, why: &'static str, at: Span },
    /// Some members of an end have no way to the other.
    WithoutWay { guarantee: Name, members: Vec<String>, at: Span },
    /// What must never pass may, within a network, where the gateway has no say.
    Within { guarantee: Name, network: Name, at: Span },
    /// Names are repeated between networks that may not talk to each other at all.
    AnnouncedInVain { discovery: Name, lonely: Vec<Name>, at: Span },
    /// Printing is let through to where nobody can find the printer by name.
    NotAnnounced { exception: Name, from: Name, to: Name, at: Span },
    /// A stream that nothing lets through.
    StreamBlocked { stream: Name, at: Span },
    /// Streams take a large part of what the gateway can carry.
    HeavyStreams { mbps: Rate, routes: Rate, at: Span },
    /// Nobody knows what the gateway can carry.
    UnknownCapacity { mbps: Rate, at: Span },
}

/// A rate in megabits a second that can be compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Rate(u64);

impl Rate {
    fn new(rate: f64) -> Self {
        Self(rate.to_bits())
    }

    /// The rate.
    pub fn rate(self) -> f64 {
        f64::from_bits(self.0)
    }
}

fn names(names: &[Name]) -> String {
    let names: Vec<String> = names.iter().map(|name| format!("`{name}`")).collect();
    names.join(", ")
}

/// Streams through the gateway beyond this, in megabits a second, are worth a look.
const HEAVY: f64 = 100.0;

impl Diagnose for PromiseFinding {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::Broken { word, guarantee, packet, because, at } => warning("guarantee-broken", at)
                .says(format!("`{word}.{guarantee}` does not hold: {packet} {}", match *word {
                    "never" => "is allowed",
                    _ => "is not allowed",
                }))
                .why(format!("{because}; a guarantee must hold whatever else the plan says"))
                .help("change the deciding entry, or remove the guarantee"),
            Self::Nothing { guarantee, why, at } => warning("guarantee-broken", at)
                .says(format!("`always.{guarantee}` does not hold: no packet arrives, {why}"))
                .why("traffic that must always pass cannot pass at all")
                .help("add what is missing, or remove the guarantee"),
            Self::WithoutWay { guarantee, members, at } => warning("guarantee-in-part", at)
                .says(format!("`always.{guarantee}` does not cover {}: there is no route to the other end", members.join(", ")))
                .why("it holds for the others only")
                .help("give them an address in the family of the other end, or leave them out of the guarantee"),
            Self::Within { guarantee, network, at } => advice("never-within", at)
                .says(format!("`never.{guarantee}` says nothing within `{network}`"))
                .why("traffic within a network does not pass the gateway")
                .help(format!("add `isolate = true` to `{network}`, and set it on switch and access point")),
            Self::AnnouncedInVain { discovery, lonely, at } => warning("announced-in-vain", at)
                .says(format!("discovery `{discovery}` announces devices of {}, but nothing may connect to them", names(lonely)))
                .why("people see the devices, but cannot use them")
                .help("add the exception that allows it, or remove the network from `between`"),
            Self::NotAnnounced { exception, from, to, at } => advice("not-announced", at)
                .says(format!("exception `{exception}` lets `{from}` print to `{to}`, but no discovery entry announces the printers there"))
                .why("mDNS announcements stay within their own network (RFC 6762)")
                .help(format!("add `[discovery.NAME]` with `between = [\"{from}\", \"{to}\"]`, or set up the printers by address and list this finding in [known]")),
            Self::StreamBlocked { stream, at } => warning("stream-blocked", at)
                .says(format!("stream `{stream}` is not allowed in either direction"))
                .why("the plan reserves capacity for traffic that is blocked")
                .help("add the exception that allows it, or remove the stream"),
            Self::HeavyStreams { mbps, routes, at } => warning("heavy-streams", at)
                .says(format!("streams take {} of the {} Mbit/s that the gateway can carry", mbps.rate(), routes.rate()))
                .why("all other traffic between networks will be slow")
                .help("put the ends of the heaviest stream into one network, or plan for a larger gateway"),
            Self::UnknownCapacity { mbps, at } => advice("unknown-capacity", at)
                .says(format!("streams of {} Mbit/s pass the gateway, but the plan does not say how much it can route", mbps.rate()))
                .why("small gateways often route much less than their port speed")
                .help("add `routes-mbps = …` to `[gateway]`, from its data sheet"),
        }
    }
}

/// All of them; each needs the meaning.
pub(super) fn find_in_meaning(meaning: &Meaning<'_>) -> Vec<PromiseFinding> {
    let mut found = Vec::new();
    guarantees(meaning, &mut found);
    discoveries(meaning, &mut found);
    not_announced(meaning, &mut found);
    streams(meaning, &mut found);
    found
}

fn guarantees(meaning: &Meaning<'_>, found: &mut Vec<PromiseFinding>) {
    let plan = meaning.plan();
    for guarantee in plan.guarantees() {
        let kept = proof::guarantee(meaning, guarantee);
        let (name, at) = (guarantee.name.clone(), guarantee.at);
        if let Some((packet, decision)) = kept.broken_by {
            found.push(PromiseFinding::Broken {
                word: guarantee.word(),
                guarantee: name.clone(),
                packet: match kept.at_hours {
                    true => format!("{}, {},", plan.packet_words(&packet), packet.at),
                    false => plan.packet_words(&packet),
                },
                because: decision.cause.words(plan),
                at,
            });
        }
        if let Some(nothing) = kept.nothing {
            let (guarantee, why) = (name.clone(), nothing.words());
            found.push(PromiseFinding::Nothing { guarantee, why, at });
        }
        if !kept.without_way.is_empty() {
            let (guarantee, members) = (name.clone(), kept.without_way);
            found.push(PromiseFinding::WithoutWay { guarantee, members, at });
        }
        for id in kept.within.into_iter().filter(|id| !plan.network(*id).isolate) {
            let (guarantee, network) = (name.clone(), plan.network(id).name.clone());
            found.push(PromiseFinding::Within { guarantee, network, at });
        }
    }
}

/// Whether anything is let through from one network to the other.
fn connects(meaning: &Meaning<'_>, from: NetworkId, to: NetworkId) -> bool {
    let plan = meaning.plan();
    let all = Match {
        enters: IntervalSet::point(plan.network_interface(from)),
        source: plan.network_addresses(from).clone(),
        destination: plan.network_addresses(to).clone(),
        ..Match::everything()
    };
    let parts = meaning.parts(&PacketSet::from(all));
    parts.iter().any(|part| part.decision.verdict == Verdict::Allow)
}

/// Networks that nobody of the others may connect to, nor they to them.
fn discoveries(meaning: &Meaning<'_>, found: &mut Vec<PromiseFinding>) {
    let plan = meaning.plan();
    for discovery in plan.discoveries() {
        let between = &discovery.between;
        let lonely = |one: &&NetworkId| {
            let others = between.iter().filter(|other| other != one);
            !others
                .into_iter()
                .any(|other| connects(meaning, **one, *other) || connects(meaning, *other, **one))
        };
        let lonely: Vec<Name> =
            between.iter().filter(lonely).map(|id| plan.network(*id).name.clone()).collect();
        if !lonely.is_empty() {
            let (discovery, at) = (discovery.name.clone(), discovery.at);
            found.push(PromiseFinding::AnnouncedInVain { discovery, lonely, at });
        }
    }
}

/// Where a plan repeats some names, one that lets people print across networks without is reported.
fn not_announced(meaning: &Meaning<'_>, found: &mut Vec<PromiseFinding>) {
    let plan = meaning.plan();
    let printing = built_in("ipp").map(|service| service.set()).unwrap_or_default();
    for &id in meaning.precedence().active() {
        let exception = plan.exception(id);
        let allows = exception.action == crate::plan::Action::Allow && exception.inbound.is_none();
        if !allows
            || !printing.is_subset(&exception.service.set)
            || is_wide(plan, &exception.to.addresses)
        {
            continue;
        }
        let whole = |addresses: &AddressSet| {
            plan.network_ids().find(|id| plan.network_addresses(*id).v4 == addresses.v4)
        };
        let (Some(from), Some(to)) =
            (whole(&exception.from.addresses), whole(&exception.to.addresses))
        else {
            continue;
        };
        let repeated =
            |d: &crate::plan::Discovery| d.between.contains(&from) && d.between.contains(&to);
        if plan.discoveries().is_empty() || plan.discoveries().iter().any(repeated) {
            continue;
        }
        found.push(PromiseFinding::NotAnnounced {
            exception: exception.name.clone(),
            from: plan.network(from).name.clone(),
            to: plan.network(to).name.clone(),
            at: exception.at,
        });
    }
}

fn is_wide(plan: &Plan, addresses: &AddressSet) -> bool {
    !addresses.is_disjoint(plan.internet_addresses())
}

fn streams(meaning: &Meaning<'_>, found: &mut Vec<PromiseFinding>) {
    let plan = meaning.plan();
    let mut routed: Vec<&Stream> = Vec::new();
    for stream in plan.streams() {
        let verdicts: Vec<Verdict> = [(&stream.from, &stream.to), (&stream.to, &stream.from)]
            .into_iter()
            .flat_map(|(from, to)| {
                let (from, to) = (End::of(from.clone()), End::of(to.clone()));
                let any = plan.service(&[Text::new("any")]).ok();
                let always = IntervalSet::full();
                let packets = any.and_then(|any| question(meaning, &from, &to, &any, &always).ok());
                packets.map(|packets| meaning.parts(&packets)).unwrap_or_default()
            })
            .map(|part| part.decision.verdict)
            .collect();
        if verdicts.iter().any(|verdict| verdict.is_filtered()) {
            routed.push(stream);
            if !verdicts.iter().any(|v| matches!(v, Verdict::Allow | Verdict::NotRouted)) {
                let (stream, at) = (stream.name.clone(), stream.at);
                found.push(PromiseFinding::StreamBlocked { stream, at });
            }
        }
    }
    let total: f64 = routed.iter().map(|stream| stream.mbps).sum();
    let heaviest = routed.iter().max_by(|a, b| a.mbps.total_cmp(&b.mbps));
    let Some(at) = heaviest.map(|stream| stream.at) else { return };
    let mbps = Rate::new(total);
    match plan.gateway().routes_mbps {
        Some(routes) if total > routes / 2.0 => {
            let routes = Rate::new(routes);
            found.push(PromiseFinding::HeavyStreams { mbps, routes, at });
        }
        None if total > HEAVY => found.push(PromiseFinding::UnknownCapacity { mbps, at }),
        _ => {}
    }
}
