//! A lower bound: how many rules any list needs whose result does not depend on order.

use crate::rules::{Effect, Rule, RuleList, RuleSet};
use crate::space::{Ends, Packet, PacketSet};
use crate::verdict::{Cause, Spoofing};

/// Lists longer than this are not looked at: every two rules are compared, by up to 32 packets.
const MOST_RULES: usize = 300;

/// A lower bound for the rules of lists that do what these do, if no rule of theirs relies on another one above it,
/// those against spoofing apart. `None` where the lists are too long to tell.
///
/// Two packets need a rule each where any rule for both would also have a packet that fares otherwise: a rule has every
/// combination of its sources, destinations and services (a *fooling set*, as in communication complexity). Lists that
/// let one rule make an exception to the next one can be shorter.
pub fn least(rules: &RuleSet) -> Option<usize> {
    if rules.rows().count() > MOST_RULES {
        return None;
    }
    let lists = rules.lists.iter().enumerate().filter(|(_, list)| !list.implied);
    Some(lists.map(|(number, list)| of_list(rules, number, list)).sum())
}

fn of_list(rules: &RuleSet, number: usize, list: &RuleList) -> usize {
    let end = list.rules.last().filter(|rule| rule.cause == Cause::Unmatched).map(Effect::of);
    // Each interface has sources of its own, and all of them can be one row.
    let by_interface = |rule: &Rule| matches!(rule.cause, Cause::Spoofed(Spoofing::Source, _));
    let mut own = usize::from(list.rules.iter().any(by_interface));
    let mut chosen: Vec<(Packet, Effect)> = Vec::new();
    for (place, rule) in list.rules.iter().enumerate() {
        if by_interface(rule) {
            continue;
        }
        let (effect, Some(_)) = (Effect::of(rule), rule.first_packets()) else {
            own += 1;
            continue;
        };
        if rule.cause == Cause::Unmatched || rule.limit_mbps.is_some() {
            own += 1;
        } else if Some(effect) != end
            && let Some(packet) = witness(rules, number, place)
            && chosen.iter().all(|one| need_two(rules, *one, (packet, effect)))
        {
            chosen.push((packet, effect));
        }
    }
    own + chosen.len()
}

/// A packet that the rule is the first to have.
fn witness(rules: &RuleSet, number: usize, place: usize) -> Option<Packet> {
    let plan = rules.plan();
    let list = &rules.lists[number];
    let mut packets =
        PacketSet::from(list.rules[place].first_packets()?).intersection(&list.covers);
    let above = rules.lists[..number].iter().flat_map(|list| &list.rules);
    for rule in above.chain(&list.rules[..place]).filter_map(Rule::first_packets) {
        let taken = PacketSet::from(rule);
        if !packets.is_disjoint(&taken) {
            packets = packets.difference(&taken);
        }
    }
    crate::example::packet(plan, &packets)
}

/// Whether no rule can have both packets and only such as fare like them.
fn need_two(rules: &RuleSet, one: (Packet, Effect), other: (Packet, Effect)) -> bool {
    if one.1 != other.1 {
        return true;
    }
    let differs = |packet: &Packet| match rules.first_match(packet).rule {
        // Spoofed packets never come as far as the rules below.
        Some(rule) => !matches!(rule.cause, Cause::Spoofed(..)) && Effect::of(rule) != one.1,
        None => false,
    };
    mixed(&one.0, &other.0).iter().any(differs)
}

/// The packets that every product of both has, but for these themselves. None if they are of different families.
fn mixed(one: &Packet, other: &Packet) -> Vec<Packet> {
    let choose = |bits: u32, bit: u32| if bits & (1 << bit) == 0 { one } else { other };
    let ends = |bits: u32| match (choose(bits, 0).ends, choose(bits, 1).ends) {
        (Ends::V4 { source, .. }, Ends::V4 { destination, .. }) => {
            Some(Ends::V4 { source, destination })
        }
        (Ends::V6 { source, .. }, Ends::V6 { destination, .. }) => {
            Some(Ends::V6 { source, destination })
        }
        _ => None,
    };
    let all = (1..31).filter_map(|bits| {
        Some(Packet {
            ends: ends(bits)?,
            enters: choose(bits, 2).enters,
            service: choose(bits, 3).service,
            at: choose(bits, 4).at,
        })
    });
    all.collect()
}
