//! Questions: would this get through, which entry decides, and do the rules agree?
//!
//! A question names two ends, a service and the minutes of the week. Its packets are worked out as a set, cut into
//! parts by the meaning, and the parts are reported with one example packet each. Every answer is compared with the
//! rules on the way; a difference would be a fault of Bastium and is reported as one.

mod batch;
mod near_miss;

pub use batch::{Asker, Brief, Unasked};
pub use near_miss::{But, NearMiss, near_misses};

use crate::example;
use crate::meaning::{Meaning, Part};
use crate::plan::{Place, PlaceProblem, Plan, Services};
use crate::proof::{self, Difference};
use crate::rules::{Rule, RuleSet, Stage};
use crate::source::Text;
use crate::space::{AddressSet, Ends, Interface, IntervalSet, Match, Minute, Packet, PacketSet};
use crate::verdict::{Cause, Decision, Expect, Verdict};
use std::net::IpAddr;

/// One end of a question.
#[derive(Clone, Debug)]
pub struct End {
    place: Place,
    /// The gateway's addresses that are meant, where it is asked about by address.
    gateway: AddressSet,
}

impl End {
    /// Resolves the words of one end. Other than in a plan, any single address may be named: one of
    /// the gateway, or one that lies nowhere, for there is an answer about it too.
    ///
    /// # Errors
    /// All the problems that the words have.
    pub fn new(plan: &Plan, words: &str) -> Result<Self, Vec<PlaceProblem>> {
        let Ok(address) = words.trim().parse::<IpAddr>() else {
            let place = plan.place(&[Text::new(words)]);
            let place = place.or_else(|problems| named(plan, words.trim()).ok_or(problems))?;
            return Ok(Self { place, gateway: AddressSet::empty() });
        };
        if plan.stand_in_words(address).is_some() {
            // It stands for something else here, and no packet can have it.
            let (word, at) = (words.trim().to_owned(), Default::default());
            return Err(vec![PlaceProblem::Nowhere { word, at }]);
        }
        let own = plan.gateway_addresses();
        let (alone, is_own) = (AddressSet::from(address), own.contains(address));
        let (addresses, gateway) =
            if is_own { (AddressSet::empty(), alone) } else { (alone, AddressSet::empty()) };
        let text = address.to_string();
        Ok(Self { place: Place { text, addresses, gateway: is_own, ..Place::default() }, gateway })
    }

    /// A place of the plan as an end.
    pub fn of(place: Place) -> Self {
        Self { place, gateway: AddressSet::empty() }
    }

    /// The end in words.
    pub fn text(&self) -> &str {
        &self.place.text
    }
}

/// What else people call places by: a name of a domain, as the name server knows it, and an inbound entry, which
/// stands for the host that it offers.
fn named(plan: &Plan, words: &str) -> Option<Place> {
    let inbound = plan.inbounds().iter().map(|inbound| plan.exception(inbound.exception));
    let mut offered = inbound.filter(|permission| permission.name.as_str() == words);
    if let Some(permission) = offered.next() {
        return Some(Place { text: words.to_owned(), ..permission.to.clone() });
    }
    let name = words.trim_end_matches('.').to_lowercase();
    let domain = plan.domains().iter().find(|domain| domain.names.contains(&name))?;
    let addresses = domain.placeholder.set();
    Some(Place { text: words.to_owned(), addresses, ..Place::default() })
}

/// Why a question has no answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoAnswer {
    /// Nothing is at the first end: a zone without networks.
    #[error("nothing is at the first end")]
    NobodyThere,
    /// Nothing is at the second end.
    #[error("nothing is at the second end")]
    NobodyToReach,
    /// One end has only IPv4 and the other only IPv6, or the service is of the other family.
    #[error("no address family has both ends and the service")]
    NoCommonFamily,
    /// Both ends are the gateway.
    #[error("both ends are the gateway")]
    GatewayToItself,
}

/// A part of an answer: packets to which the same happens for the same reason.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Share {
    /// One of the packets.
    pub packet: Packet,
    /// All of them.
    pub packets: PacketSet,
    /// What happens.
    pub decision: Decision,
}

/// A rule that came close.
#[derive(Clone, Copy, Debug)]
pub struct PassedOver<'r> {
    /// The rule.
    pub rule: &'r Rule,
    /// In what it does not fit: `source`, `destination` or `service`.
    pub differs: &'static str,
}

/// The answer to a question.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Answer<'r> {
    /// What happens to all of the packets; `None` if it is not the same to all.
    pub verdict: Option<Verdict>,
    /// The parts, IPv4 first. What has no way is among them only if nothing else is.
    pub shares: Vec<Share>,
    /// What has no way, where other packets have one.
    pub asides: Vec<Share>,
    /// The rule of the compiled list that decides the packet of the first share.
    pub rule: Option<&'r Rule>,
    /// Rules above it that came close.
    pub passed_over: Vec<PassedOver<'r>>,
    /// Exceptions that would have decided otherwise, but for one thing each.
    pub near_misses: Vec<NearMiss>,
    /// What comes back to the packet of the first share.
    pub reply: Option<Expect>,
    /// The rule that lets the reply back, where one comes through the gateway's lists.
    pub reply_rule: Option<&'r Rule>,
    /// Where plan and rules differ. Always empty, or Bastium has a fault.
    pub differences: Vec<Difference<'r>>,
}

/// Answers a question: would `service` get from one end to the other in the minutes of the week in `at`, and what
/// decides?
///
/// The answer comes from the meaning and is compared with the rules on the way; [`Answer::differences`] would show
/// where they differ. A question may have several answers: then [`Answer::verdict`] is `None`, and the shares say
/// what applies to which packets.
///
/// # Errors
/// Why the question is about nothing, for example two ends that have no address family in common.
///
/// ```
/// use bastium_core::asking::{End, ask};
/// use bastium_core::source::Text;
/// use bastium_core::space::IntervalSet;
/// use bastium_core::{meaning::Meaning, rules, verdict::Verdict};
/// use jiff::civil::date;
///
/// # let text = std::fs::read("tests/two-networks.toml").expect("a file");
/// # let plan = bastium_planfile::read("plan.toml", &text).expect("a plan without errors");
/// let meaning = Meaning::new(&plan, date(2026, 6, 1)).expect("no contradictions");
/// let rules = rules::compile(&meaning);
/// let (from, to) = (End::new(&plan, "printers").expect("a network"), End::new(&plan, "laptop").expect("a host"));
/// let service = plan.service(&[Text::new("https")]).expect("a service");
/// let answer = ask(&meaning, &rules, &from, &to, &service, &IntervalSet::full()).expect("an answer");
/// assert_eq!(answer.verdict, Some(Verdict::Block));
/// assert!(answer.differences.is_empty());
/// ```
pub fn ask<'r>(
    meaning: &Meaning<'_>,
    rules: &'r RuleSet<'r>,
    from: &End,
    to: &End,
    service: &Services,
    at: &IntervalSet<Minute>,
) -> Result<Answer<'r>, NoAnswer> {
    let Found { packets, shares, asides, verdict } = found(meaning, (from, to, service, at))?;
    let first = shares.first().ok_or(NoAnswer::NoCommonFamily)?;
    let filtered = first.decision.verdict.is_filtered();
    let rule = rules.first_match(&first.packet).rule.filter(|_| filtered);
    Ok(Answer {
        verdict,
        rule,
        passed_over: passed_over(rules, rule, &first.packet),
        near_misses: if filtered {
            near_misses(meaning, &first.packet, first.decision)
        } else {
            Vec::new()
        },
        reply_rule: rules
            .reply_rule(&first.packet)
            .filter(|_| first.decision.verdict == Verdict::Allow),
        reply: Expect::of(first.decision.verdict, first.packet.service.protocol()),
        differences: proof::differences(meaning, rules, &packets),
        asides,
        shares,
    })
}

/// What happens to the packets of a question, without what would help to change it.
struct Found {
    packets: PacketSet,
    shares: Vec<Share>,
    asides: Vec<Share>,
    verdict: Option<Verdict>,
}

fn found(
    meaning: &Meaning<'_>,
    (from, to, service, at): (&End, &End, &Services, &IntervalSet<Minute>),
) -> Result<Found, NoAnswer> {
    let packets = question(meaning, from, to, service, at)?;
    let parts = meaning.parts(&packets).into_iter();
    let mut shares: Vec<Share> = parts.filter_map(|part| share(meaning.plan(), part)).collect();
    let has_way = shares.iter().any(|share| share.decision.verdict != Verdict::NoRoute);
    let asides =
        shares.extract_if(.., |s| has_way && s.decision.verdict == Verdict::NoRoute).collect();
    shares.sort_by_key(|share| matches!(share.packet.ends, Ends::V6 { .. }));
    let first = shares.first().ok_or(NoAnswer::NoCommonFamily)?;
    let same = shares.iter().all(|share| share.decision.verdict == first.decision.verdict);
    let verdict = same.then_some(first.decision.verdict);
    Ok(Found { packets, shares, asides, verdict })
}

/// The packets that a question is about: those from where they belong; and what is offered to the outside
/// by the way on which it is translated.
///
/// # Errors
/// Says why the question is about nothing.
pub fn question(
    meaning: &Meaning<'_>,
    from: &End,
    to: &End,
    service: &Services,
    at: &IntervalSet<Minute>,
) -> Result<PacketSet, NoAnswer> {
    Ok(by_what_is_offered(meaning, packets(meaning, from, to, service, at)?))
}

/// The packets that a question is about: from where they belong, to where it is asked.
fn packets(
    meaning: &Meaning<'_>,
    from: &End,
    to: &End,
    service: &Services,
    at: &IntervalSet<Minute>,
) -> Result<PacketSet, NoAnswer> {
    let plan = meaning.plan();
    let mut products = Vec::new();
    let mut product = |interface: Interface, source: AddressSet, destination: AddressSet| {
        let enters = IntervalSet::point(interface);
        let service = service.set.clone();
        products.push(Match { enters, source, destination, service, at: at.clone() });
    };
    let outer = (0..plan.gateway_interface().0).map(Interface);
    let mut sources: Vec<(Interface, AddressSet)> = outer
        .map(|interface| {
            (interface, meaning.sources_on(interface).intersection(&from.place.addresses))
        })
        .filter(|(_, sources)| !sources.is_empty())
        .collect();
    if sources.is_empty() && !from.place.addresses.is_empty() {
        sources = where_it_would_enter(plan, &from.place.addresses);
    }
    for (interface, source) in sources {
        let mut destination = to.place.addresses.clone();
        if to.place.gateway {
            destination = destination.union(&gateway_on(plan, interface, &to.gateway));
        }
        product(interface, source, destination);
    }
    if from.place.gateway {
        let own = plan.gateway_addresses();
        product(plan.gateway_interface(), own.clone(), to.place.addresses.clone());
    }
    let all: PacketSet = products.into_iter().collect();
    if !all.is_empty() {
        return Ok(all);
    }
    let nobody = |place: &Place| place.addresses.is_empty() && !place.gateway;
    Err(match (nobody(&from.place), nobody(&to.place)) {
        (true, _) => NoAnswer::NobodyThere,
        (_, true) => NoAnswer::NobodyToReach,
        _ if from.place.gateway && to.place.gateway => NoAnswer::GatewayToItself,
        _ => NoAnswer::NoCommonFamily,
    })
}

/// To ask for an offered host and its service from outside is to ask about the translated path: that
/// an untranslated packet for it would be spoofed is not what anybody wants to know.
fn by_what_is_offered(meaning: &Meaning<'_>, packets: PacketSet) -> PacketSet {
    let plan = meaning.plan();
    let mut packets = packets;
    for product in meaning.translated().products() {
        let came_by = |interface: &Interface| plan.came_by(*interface);
        let enters = IntervalSet::from_spans(
            product.enters.spans().iter().map(|(low, high)| (came_by(low), came_by(high))),
        );
        if enters.is_disjoint(&plan.uplink_interfaces()) {
            continue;
        }
        let direct = PacketSet::from(Match { enters, ..product.clone() });
        let asked = packets.intersection(&direct);
        if asked.is_empty() {
            continue;
        }
        packets = packets.difference(&direct);
        let inside = asked.products().map(|part| Match { enters: product.enters.clone(), ..part });
        packets = packets.union(&inside.collect());
    }
    packets
}

/// The gateway's addresses as seen from an interface: those asked for, or its own ones there.
fn gateway_on(plan: &Plan, interface: Interface, asked: &AddressSet) -> AddressSet {
    if !asked.is_empty() {
        return asked.clone();
    }
    match plan.network_on(interface) {
        Some(id) => plan.network(id).subnets.iter().map(|subnet| subnet.gateway()).collect(),
        None => plan.gateway_outside().clone(),
    }
}

/// For sources that belong nowhere: the interfaces they would come in by, so that the answer can say so.
fn where_it_would_enter(plan: &Plan, sources: &AddressSet) -> Vec<(Interface, AddressSet)> {
    let inside =
        plan.network_ids().map(|id| (plan.network_interface(id), plan.network(id).prefixes()));
    let outside = (0..plan.uplinks().len())
        .map(|index| (plan.uplink_interface(index), plan.inside().complement()));
    inside
        .chain(outside)
        .map(|(interface, there)| (interface, there.intersection(sources)))
        .filter(|(_, sources)| !sources.is_empty())
        .collect()
}

fn share(plan: &Plan, part: Part) -> Option<Share> {
    let packet = example::packet(plan, &part.packets)?;
    Some(Share { packet, packets: part.packets, decision: part.decision })
}

/// The rules above the one that decides which fit in two of source, destination and service.
fn passed_over<'r>(
    rules: &'r RuleSet<'r>,
    decides: Option<&Rule>,
    packet: &Packet,
) -> Vec<PassedOver<'r>> {
    let Some(decides) = decides else { return Vec::new() };
    let list = rules.lists.iter().find(|list| list.rules.iter().any(|rule| rule.id == decides.id));
    let Some(list) = list.filter(|list| list.stage != Stage::Opening) else { return Vec::new() };
    let above = list.rules.iter().take_while(|rule| rule.number < decides.number);
    let above = above.filter(|rule| !rule.is_for_replies());
    above.filter_map(|rule| came_close(rule, packet)).collect()
}

fn came_close<'r>(rule: &'r Rule, packet: &Packet) -> Option<PassedOver<'r>> {
    let product = rule.packets()?;
    if matches!(rule.cause, Cause::Cell(..) | Cause::Ipv6Needs) {
        return None;
    }
    let anything = Match::everything();
    let service = Match { service: product.service.clone(), ..anything.clone() }.contains(packet);
    let source = product.enters.contains(packet.enters) && product.source.contains(packet.source());
    let destination = product.destination.contains(packet.destination());
    let differs = match (source, destination, service) {
        (false, true, true) => "source",
        (true, false, true) => "destination",
        (true, true, false) => "service",
        _ => return None,
    };
    Some(PassedOver { rule, differs })
}
