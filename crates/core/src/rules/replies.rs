//! Replies, written out: for gateways that keep no state.
//!
//! A reply comes from where a conversation may go, to where it may come from, and from the port that it
//! asked. Of TCP only what is no opening counts; of UDP and the rest, a first packet can look the same,
//! which is what such lists leak.

use super::per_interface::true_sources;
use super::{Job, Rule, frame, outer_legs, slice, ways};
use crate::addressing::private_v4;
use crate::plan::{Action, Plan};
use crate::space::{
    AddressSet, IntervalSet, Leg, Match, PacketSet, Protocol, ServicePoint, ServiceSet,
};
use crate::verdict::Cause;

/// The least port that the gateway begins conversations of its own from (RFC 6056 3.2).
const LEAST_OWN_PORT: u16 = 1024;

/// The rules that let replies and errors in on a leg, whatever conversation they belong to.
pub(super) fn back_to(job: &Job<'_>, leg: Leg) -> Vec<Rule> {
    let plan = job.plan;
    let mut rules: Vec<Rule> = Vec::new();
    for rule in job.base.through.iter().filter(|rule| rule.action == Action::Allow) {
        rules.extend(reply(plan, rule, leg));
    }
    let mut kept = without_covered(rules);
    kept.push(to_own_conversations(plan, leg));
    kept.push(errors(plan, leg));
    kept
}

/// Leaves out what another rule lets back in any case.
fn without_covered(rules: Vec<Rule>) -> Vec<Rule> {
    let sets: Vec<PacketSet> =
        rules.iter().filter_map(|rule| rule.matches.as_ref()).map(PacketSet::from).collect();
    let covers = |wide: usize, narrow: usize| {
        let ports = |index: usize| rules[index].back.clone().unwrap_or_default();
        ports(narrow).is_subset(&ports(wide)) && sets[narrow].is_subset(&sets[wide])
    };
    let covered = |index: usize| {
        (0..rules.len()).any(|wide| {
            wide != index && covers(wide, index) && (!covers(index, wide) || wide < index)
        })
    };
    let kept: Vec<bool> = (0..rules.len()).map(|index| !covered(index)).collect();
    rules.into_iter().zip(kept).filter_map(|(rule, keep)| keep.then_some(rule)).collect()
}

/// The replies to what a rule allows, as far as they come in on a leg.
fn reply(plan: &Plan, rule: &Rule, leg: Leg) -> Option<Rule> {
    let matches = rule.matches.as_ref()?;
    let source = matches.destination.intersection(&ways::reached_by(plan, leg));
    let source = source.intersection(&true_sources(plan, leg));
    if source.is_empty() {
        return None;
    }
    let mut asking = AddressSet::empty();
    for from in outer_legs(plan) {
        let inside = plan.translated_leg(from);
        let comes = matches.enters.contains(from) || matches.enters.contains(inside);
        // Two devices of one network do not ask by way of the gateway.
        if comes && (from != leg || ways::can_turn_round(plan, leg)) {
            asking = asking.union(&true_sources(plan, from).intersection(&matches.source));
        }
    }
    let destination = seen_from(plan, leg, asking);
    let service = answers(&matches.service);
    let matches = Match {
        enters: IntervalSet::point(leg),
        source: source.clone(),
        destination: destination.clone(),
        service: service.clone(),
        at: matches.at.clone(),
    };
    if PacketSet::from(&matches).is_empty() {
        return None;
    }
    let mut back = rule.clone();
    let entry = rule.id.split('@').next().unwrap_or_default();
    back.id = format!("reply.{entry}@{}", plan.leg_name(leg));
    back.name = format!("replies: {}", rule.name);
    back.reason = "The gateway keeps no state, so replies need a rule".to_owned();
    (back.from, back.to) = (rule.to.clone(), rule.from.clone());
    back.source = slice::named(plan, &source);
    back.destination = slice::named(plan, &destination);
    back.service = format!("replies from {}", rule.service);
    back.ports = service.words();
    back.log = false;
    back.limit_mbps = None;
    back.back = rule.matches.as_ref().map(|matches| matches.service.clone());
    back.matches = Some(matches);
    Some(back)
}

/// Where replies on a leg say that they go: at an uplink, private IPv4 sources were translated.
fn seen_from(plan: &Plan, leg: Leg, asking: AddressSet) -> AddressSet {
    let Some(uplink) = plan.uplink_on(leg) else { return asking };
    let private = private_v4();
    if asking.is_disjoint(&private) {
        return asking;
    }
    let own = AddressSet { v4: uplink.gateway().v4, ..AddressSet::empty() };
    asking.difference(&private).union(&own)
}

/// What replies look like: of protocols with ports any port may be the one that asked; an echo request
/// gets an echo reply (RFC 792, RFC 4443), and so for the older pairs of ICMP.
fn answers(service: &ServiceSet) -> ServiceSet {
    const PAIRS: [(u8, u8); 4] = [(8, 0), (13, 14), (15, 16), (17, 18)];
    let family = |line: &IntervalSet<u32>| {
        let mut back: Vec<(u32, u32)> = Vec::new();
        for number in 0..=u8::MAX {
            let protocol = Protocol(number);
            let (low, high) = protocol.stretch();
            if protocol.is_icmp() || line.is_disjoint(&IntervalSet::range(low, high)) {
                continue;
            }
            back.push((low, high));
        }
        let kinds = PAIRS.map(|(ask, answer)| (Protocol::ICMP, ask, answer));
        for (protocol, ask, answer) in kinds.into_iter().chain([(Protocol::ICMP_V6, 128, 129)]) {
            if line.contains(ServicePoint::icmp(protocol, ask, 0).coordinate()) {
                let point = ServicePoint::icmp(protocol, answer, 0).coordinate();
                back.push((point, point));
            }
        }
        IntervalSet::from_spans(back)
    };
    ServiceSet { v4: family(&service.v4), v6: family(&service.v6) }
}

/// Replies to what the gateway itself begins. It begins from a port above the well-known ones, so that
/// its own services stay closed.
fn to_own_conversations(plan: &Plan, leg: Leg) -> Rule {
    let high = ServiceSet::ports(Protocol::UDP, LEAST_OWN_PORT, u16::MAX);
    let service = ServiceSet::protocol(Protocol::TCP).union(&high);
    let service = service.union(&answers(&ServiceSet::echo()));
    let destination = plan.gateway_inside().union(&plan.gateway_outside());
    let mut rule = at_large(plan, leg, "own-conversations", service, destination);
    rule.name = "replies to the gateway itself".to_owned();
    rule.to = "gateway".to_owned();
    rule.reason = "What it asks for itself must get an answer".to_owned();
    rule
}

/// The errors by which conversations are told what is wrong with them (RFC 792, RFC 4890 4.3.1).
fn errors(plan: &Plan, leg: Leg) -> Rule {
    let service = ServiceSet::icmp_types(Protocol::ICMP, &[3, 11, 12], None)
        .union(&ServiceSet::icmp_types(Protocol::ICMP_V6, &[1, 2, 3, 4], None));
    let mut rule = at_large(plan, leg, "errors", service, AddressSet::full());
    rule.name = "errors of conversations".to_owned();
    rule.reason =
        "Without them large packets get lost, and nobody learns why (RFC 4890)".to_owned();
    rule
}

fn at_large(plan: &Plan, leg: Leg, id: &str, service: ServiceSet, destination: AddressSet) -> Rule {
    let ports = service.words();
    Rule {
        number: 0,
        id: format!("reply.{id}@{}", plan.leg_name(leg)),
        name: String::new(),
        reason: String::new(),
        from: plan.leg_name(leg).to_owned(),
        source: "any".to_owned(),
        to: "any".to_owned(),
        destination: "any".to_owned(),
        service: ports.join(", "),
        ports,
        action: Action::Allow,
        log: false,
        hours: None,
        limit_mbps: None,
        cause: Cause::Reply,
        matches: Some(Match { destination, service, ..frame::entering(leg) }),
        back: Some(ServiceSet::any()),
    }
}
