//! Rules joined: several that do the same and differ in their source, their destination or their service alone.

use super::sequence::Sequence;
use crate::rules::{Effect, Endpoint, Matches, Rule, RuleList};
use crate::space::{AddressSet, Interface, IntervalSet, Match, Minute, PacketSet, ServiceSet};
use crate::verdict::Cause;
use std::collections::HashMap;

/// Of a group of rules that cannot be joined as a whole, so many are tried one after the other.
const MOST_TRIED: usize = 64;

/// In what rules may differ that are joined.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
enum Differ {
    Sources,
    Destinations,
    Services,
}

/// What rules have in common that differ in one respect.
#[derive(PartialEq, Eq, Hash)]
struct Common<'r> {
    differ: Differ,
    list: usize,
    effect: Effect,
    hours: Option<&'r str>,
    at: &'r IntervalSet<Minute>,
    from: Option<(&'r IntervalSet<Interface>, &'r AddressSet)>,
    to: Option<&'r AddressSet>,
    service: Option<&'r ServiceSet>,
}

/// Joins rules until no two can be joined.
pub(super) fn join(lists: &mut [RuleList]) {
    while round(lists) {}
}

/// Joins what can be joined among the rules as they are, the largest groups first. Says whether there was any.
fn round(lists: &mut [RuleList]) -> bool {
    let mut sequence = Sequence::new(lists);
    let groups = groups(lists, &sequence);
    let mut joined: Vec<(usize, Rule)> = Vec::new();
    let mut touched = vec![false; sequence.len()];
    for mut group in groups {
        group.retain(|line| !touched[*line]);
        let Some((at, members)) = joinable(lists, &sequence, group) else { continue };
        let rule = rule_of(lists, &sequence, &members);
        let Some(packets) = rule.packets().map(PacketSet::from) else { continue };
        let list = sequence.place(at).map_or(0, |(list, _)| list);
        sequence.replace(at, packets.intersection(&lists[list].covers));
        for member in members {
            touched[member] = true;
            if member != at {
                sequence.remove(member);
            }
        }
        joined.push((at, rule));
    }
    let found = !joined.is_empty();
    for (line, rule) in joined {
        if let Some((list, place)) = sequence.place(line) {
            lists[list].rules[place] = rule;
        }
    }
    sequence.take_removed(lists);
    found
}

/// Lines whose rules differ in one respect alone, the largest groups first.
fn groups(lists: &[RuleList], sequence: &Sequence) -> Vec<Vec<usize>> {
    let mut groups: HashMap<Common<'_>, Vec<usize>> = HashMap::new();
    for line in 0..sequence.len() {
        let Some((list, place)) = sequence.place(line) else { continue };
        let rule = &lists[list].rules[place];
        let Some(packets) = rule.first_packets().filter(|_| may_be_joined(rule)) else { continue };
        for differ in [Differ::Sources, Differ::Destinations, Differ::Services] {
            let common = Common {
                differ,
                list,
                effect: Effect::of(rule),
                hours: rule.hours.as_deref(),
                at: &packets.at,
                from: (differ != Differ::Sources).then_some((&packets.enters, &packets.source)),
                to: (differ != Differ::Destinations).then_some(&packets.destination),
                service: (differ != Differ::Services).then_some(&packets.service),
            };
            groups.entry(common).or_default().push(line);
        }
    }
    let mut groups: Vec<(Differ, Vec<usize>)> = groups
        .into_iter()
        .filter(|(_, lines)| lines.len() > 1)
        .map(|(common, lines)| (common.differ, lines))
        .collect();
    groups.sort_by_key(|(differ, lines)| (std::cmp::Reverse(lines.len()), lines[0], *differ));
    groups.into_iter().map(|(_, lines)| lines).collect()
}

/// A rule with a rate limit counts its own packets alone, and the last rule of a list takes what all others leave.
fn may_be_joined(rule: &Rule) -> bool {
    rule.limit_mbps.is_none()
        && !matches!(rule.cause, Cause::Unmatched | Cause::Reply | Cause::FromGateway)
}

/// Those of a group that can be joined, and the line at which the joined rule stands.
fn joinable(
    lists: &[RuleList],
    sequence: &Sequence,
    group: Vec<usize>,
) -> Option<(usize, Vec<usize>)> {
    if group.len() < 2 {
        return None;
    }
    if let Some(at) = stands_at(lists, sequence, &group) {
        return Some((at, group));
    }
    let (mut members, mut at) = (vec![group[0]], None);
    for line in group.into_iter().skip(1).take(MOST_TRIED) {
        members.push(line);
        match stands_at(lists, sequence, &members) {
            Some(place) => at = Some(place),
            None => drop(members.pop()),
        }
    }
    Some((at?, members))
}

/// Where the rule that members are joined to can stand: in place of the first, or of the last.
fn stands_at(lists: &[RuleList], sequence: &Sequence, members: &[usize]) -> Option<usize> {
    let (first, last) = (*members.first()?, *members.last()?);
    let rules = || members.iter().filter_map(|line| rule_at(lists, sequence, *line));
    let effect = Effect::of(rules().next()?);
    let (list, _) = sequence.place(first)?;
    let own = |packets: &Match| PacketSet::from(packets).intersection(&lists[list].covers);
    let all = own(&product(rules())?);
    if !sequence.differs(&all, first, effect, &[]) {
        return Some(first);
    }
    let stays = members.iter().zip(rules()).all(|(&line, rule)| {
        let own = rule.first_packets().map(own).unwrap_or_default();
        !sequence.differs_between(&own, (line, last), effect, members)
    });
    (stays && !sequence.differs(&all, last, effect, &[])).then_some(last)
}

fn rule_at<'r>(lists: &'r [RuleList], sequence: &Sequence, line: usize) -> Option<&'r Rule> {
    let (list, place) = sequence.place(line)?;
    lists[list].rules.get(place)
}

/// The product that has the packets of all rules.
fn product<'r>(mut rules: impl Iterator<Item = &'r Rule>) -> Option<Match> {
    let mut product = rules.next()?.first_packets()?.clone();
    for packets in rules.filter_map(Rule::first_packets) {
        product.enters = product.enters.union(&packets.enters);
        product.source = product.source.union(&packets.source);
        product.destination = product.destination.union(&packets.destination);
        product.service = product.service.union(&packets.service);
    }
    Some(product)
}

/// The rule that does what these do.
fn rule_of(lists: &[RuleList], sequence: &Sequence, members: &[usize]) -> Rule {
    let rules: Vec<&Rule> =
        members.iter().filter_map(|line| rule_at(lists, sequence, *line)).collect();
    let mut joined = rules[0].clone();
    if let Some(product) = product(rules.iter().copied()) {
        joined.ports = product.service.words();
        joined.matches = Matches::First(product);
    }
    let alike = |end: fn(&Rule) -> &Endpoint| rules.iter().all(|rule| end(rule) == end(rules[0]));
    let (same_source, same_destination) =
        (alike(|rule| &rule.source), alike(|rule| &rule.destination));
    joined.from = zones(rules.iter().map(|rule| &rule.from));
    joined.to = zones(rules.iter().map(|rule| &rule.to));
    if !same_source {
        joined.source = addresses(rules.iter().map(|rule| (&rule.from, &rule.source)));
    }
    if !same_destination {
        joined.destination = addresses(rules.iter().map(|rule| (&rule.to, &rule.destination)));
    }
    joined.service = distinct(rules.iter().map(|rule| rule.service.clone())).join(", ");
    joined.reason = distinct(rules.iter().map(|rule| rule.reason.clone())).join("; ");
    joined.name = format!(
        "{} {}from {} to {}",
        joined.action.word(),
        if joined.service == "any" { String::new() } else { format!("{} ", joined.service) },
        end(&joined.from, &joined.source),
        end(&joined.to, &joined.destination)
    );
    joined.id = joined.id.joined();
    joined.also = distinct(rules.iter().flat_map(|rule| rule.causes()));
    joined.also.retain(|cause| *cause != joined.cause);
    joined
}

/// One end in a few words: its addresses where they are said, else its zones.
fn end<'e>(zones: &'e Endpoint, addresses: &'e Endpoint) -> &'e Endpoint {
    if *addresses == Endpoint::Any { zones } else { addresses }
}

fn zones<'e>(ends: impl Iterator<Item = &'e Endpoint> + Clone) -> Endpoint {
    let mut names: Vec<String> = Vec::new();
    for end in ends.clone() {
        match end {
            Endpoint::Any => return Endpoint::Any,
            Endpoint::Named(more) => names.extend(more.iter().cloned()),
            Endpoint::Gateway | Endpoint::Expression(_) => names.push(end.to_string()),
        }
    }
    let names = distinct(names.into_iter());
    match ends.clone().all(|end| *end == Endpoint::Gateway) {
        true => Endpoint::Gateway,
        false => Endpoint::Named(names),
    }
}

/// The addresses of several ends; where one says any address of its zones, these.
fn addresses<'e>(ends: impl Iterator<Item = (&'e Endpoint, &'e Endpoint)>) -> Endpoint {
    let words = ends.flat_map(|(zones, addresses)| match (addresses, zones) {
        (Endpoint::Any, Endpoint::Named(names)) => names.clone(),
        (Endpoint::Any, _) => vec![zones.to_string()],
        _ => vec![addresses.to_string()],
    });
    let words: Vec<String> = distinct(words);
    if words.iter().any(|word| word == "any") {
        return Endpoint::Any;
    }
    Endpoint::Expression(words.join(", "))
}

fn distinct<T: PartialEq>(all: impl Iterator<Item = T>) -> Vec<T> {
    let mut kept: Vec<T> = Vec::new();
    for one in all {
        if !kept.contains(&one) {
            kept.push(one);
        }
    }
    kept
}
