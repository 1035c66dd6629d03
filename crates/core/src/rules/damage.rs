//! The mistakes that people make while they enter rules, made one at a time.
//!
//! Whoever claims to notice mistakes is held to this list: a proof that calls two rule lists equal, and a
//! checklist that is to catch what went wrong.

use super::{Rule, RuleList, RuleSet, Stage};
use crate::plan::{Action, Plan};
use crate::space::{AddressSet, IntervalSet, Protocol, ServiceSet};
use crate::verdict::Cause;

/// A kind of mistake.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// A rule was forgotten.
    Forgotten,
    /// A rule was entered a second time, further up.
    Doubled,
    /// Two neighbours were swapped.
    Swapped,
    /// Allow was entered for a denial, or the other way round.
    Turned,
    /// The source is wider than it should be.
    SourceWider,
    /// The source is narrower.
    SourceNarrower,
    /// The destination is wider.
    DestinationWider,
    /// The destination is narrower.
    DestinationNarrower,
    /// A port is one off.
    PortOff,
    /// A range of ports was cut or stretched by one.
    RangeOff,
    /// TCP was entered for UDP, or the other way round.
    OtherProtocol,
    /// One service of several was forgotten.
    ServiceForgotten,
    /// Log was set where it should not be, or not set.
    LogAside,
    /// What happens to the rest was turned round.
    DefaultTurned,
    /// The rule for replies is missing.
    NoReplies,
    /// IPv6 was forgotten altogether.
    NoIpv6,
}

/// One mistake.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Damage {
    /// What kind it is.
    pub kind: Kind,
    /// The rule that it was made with, by its id.
    pub rule: String,
    /// The lists with the mistake in them.
    pub rules: RuleSet,
}

/// Where a rule stands: list, place.
type Place = (usize, usize);

/// Makes every mistake of the list with every rule that has to be entered, one after the other.
pub fn damages<'p>(plan: &'p Plan, rules: &'p RuleSet) -> impl Iterator<Item = Damage> + 'p {
    let entered = |list: &(usize, &RuleList)| !list.1.implied;
    let lists = rules.lists.iter().enumerate().filter(entered);
    let places =
        lists.flat_map(|(list, rules)| (0..rules.rules.len()).map(move |rule| (list, rule)));
    let single = places.flat_map(move |place| {
        let of_lists = of_lists(rules, place);
        of_lists.into_iter().chain(of_rule(plan, rules, place))
    });
    single.chain(without_ipv6(rules))
}

fn damage(rules: &RuleSet, kind: Kind, rule: &Rule, change: impl FnOnce(&mut RuleSet)) -> Damage {
    let mut damaged = rules.clone();
    change(&mut damaged);
    Damage { kind, rule: rule.id.clone(), rules: damaged }
}

/// Mistakes with whole rules.
fn of_lists(rules: &RuleSet, (list, place): Place) -> Vec<Damage> {
    let all = &rules.lists[list].rules;
    let rule = &all[place];
    let kind = match rule.cause {
        Cause::Reply => Kind::NoReplies,
        _ => Kind::Forgotten,
    };
    let mut damages =
        vec![damage(rules, kind, rule, |rules| drop(rules.lists[list].rules.remove(place)))];
    if place > 0 {
        damages.push(damage(rules, Kind::Doubled, rule, |rules| {
            let rule = rules.lists[list].rules[place].clone();
            let top = rules.lists[list].rules.iter().position(|r| r.first_packets().is_some());
            rules.lists[list].rules.insert(top.unwrap_or(0), rule);
        }));
    }
    if place + 1 < all.len() {
        damages.push(damage(rules, Kind::Swapped, rule, |rules| {
            rules.lists[list].rules.swap(place, place + 1);
        }));
    }
    if rule.cause == Cause::Unmatched {
        damages.push(with(rules, Kind::DefaultTurned, (list, place), turn));
    }
    damages
}

fn turn(rule: &mut Rule) {
    rule.action = match rule.action {
        Action::Allow => Action::Block,
        Action::Block | Action::Reject => Action::Allow,
    };
}

fn with(
    rules: &RuleSet,
    kind: Kind,
    (list, place): Place,
    change: impl FnOnce(&mut Rule),
) -> Damage {
    let rule = &rules.lists[list].rules[place];
    damage(rules, kind, rule, |rules| change(&mut rules.lists[list].rules[place]))
}

/// Mistakes within one rule.
fn of_rule(plan: &Plan, rules: &RuleSet, at: Place) -> Vec<Damage> {
    let rule = &rules.lists[at.0].rules[at.1];
    let Some(matches) = rule.first_packets() else { return Vec::new() };
    let mut damages = Vec::new();
    if rule.cause != Cause::Unmatched {
        damages.push(with(rules, Kind::Turned, at, turn));
    }
    damages.push(with(rules, Kind::LogAside, at, |rule| rule.log = !rule.log));
    let stage = rules.lists[at.0].stage;
    let mut ends = |wider, narrower, set: &AddressSet, put: fn(&mut Rule, AddressSet)| {
        for (kind, set) in wider_sets(plan, set)
            .map(|set| (wider, set))
            .chain(narrower_sets(plan, set).map(|set| (narrower, set)))
        {
            damages.push(with(rules, kind, at, |rule| put(rule, set)));
        }
    };
    ends(Kind::SourceWider, Kind::SourceNarrower, &matches.source, |rule, set| {
        if let Some(matches) = &mut rule.matches {
            matches.source = set;
        }
    });
    if stage != Stage::ToGateway && stage != Stage::Opening {
        ends(
            Kind::DestinationWider,
            Kind::DestinationNarrower,
            &matches.destination,
            |rule, set| {
                if let Some(matches) = &mut rule.matches {
                    matches.destination = set;
                }
            },
        );
    }
    for (kind, service) in other_services(&matches.service) {
        damages.push(with(rules, kind, at, |rule| {
            if let Some(matches) = &mut rule.matches {
                matches.service = service;
            }
        }));
    }
    damages
}

/// The set with one zone, one network, one host or one bit of a prefix more.
fn wider_sets<'p>(plan: &'p Plan, set: &AddressSet) -> impl Iterator<Item = AddressSet> + use<'p> {
    let set = set.clone();
    let zone = plan.zone_ids().map(|zone| plan.zone_addresses(zone));
    let network = plan.network_ids().map(|id| plan.network_addresses(id).clone());
    let host = plan.hosts().iter().map(|host| host.addresses.iter().copied().collect());
    let more =
        [first_new(&set, zone), first_new(&set, network), first_new(&set, host), bit_wider(&set)];
    let mut found: Vec<AddressSet> = more
        .into_iter()
        .flatten()
        .map(|more| set.union(&more))
        .filter(|wide| *wide != set)
        .collect();
    found.dedup();
    found.into_iter()
}

fn first_new(set: &AddressSet, mut more: impl Iterator<Item = AddressSet>) -> Option<AddressSet> {
    more.find(|more| !more.is_empty() && !more.is_subset(set))
}

/// The first interval doubled: a prefix that is one bit too short.
fn bit_wider(set: &AddressSet) -> Option<AddressSet> {
    let (low, high) = *set.v4.spans().first()?;
    let size = high.checked_sub(low)?.checked_add(1)?;
    let wide = if low % size.checked_mul(2)? == 0 {
        IntervalSet::range(low, high.checked_add(size)?)
    } else {
        IntervalSet::range(low.checked_sub(size)?, high)
    };
    Some(AddressSet { v4: wide, ..AddressSet::empty() })
}

/// The set with one zone, one network, one host or one bit of a prefix less.
fn narrower_sets<'p>(
    plan: &'p Plan,
    set: &AddressSet,
) -> impl Iterator<Item = AddressSet> + use<'p> {
    let set = set.clone();
    let zone = plan.zone_ids().map(|zone| plan.zone_addresses(zone));
    let network = plan.network_ids().map(|id| plan.network_addresses(id).clone());
    let host = plan.hosts().iter().map(|host| host.addresses.iter().copied().collect());
    let less =
        [first_held(&set, zone), first_held(&set, network), first_held(&set, host), half(&set)];
    let mut found: Vec<AddressSet> =
        less.into_iter().flatten().map(|less| set.difference(&less)).collect();
    found.dedup();
    found.into_iter()
}

fn first_held(set: &AddressSet, mut less: impl Iterator<Item = AddressSet>) -> Option<AddressSet> {
    less.find(|less| !less.is_disjoint(set))
}

/// The upper half of the first interval: what a prefix loses that is one bit too long.
fn half(set: &AddressSet) -> Option<AddressSet> {
    let (low, high) = *set.v4.spans().first()?;
    let middle = low + (high - low) / 2 + 1;
    (middle <= high)
        .then(|| AddressSet { v4: IntervalSet::range(middle, high), ..AddressSet::empty() })
}

/// The services with one port off, a range cut or stretched, the other protocol, or one thing forgotten.
fn other_services(service: &ServiceSet) -> Vec<(Kind, ServiceSet)> {
    if *service == ServiceSet::any() {
        return Vec::new();
    }
    let mut found = Vec::new();
    let spans = service.v4.union(&service.v6);
    for &(low, high) in spans.spans() {
        let protocol = Protocol((low >> 16) as u8);
        let whole = (low, high) == protocol.stretch();
        let own = ServiceSet::both(IntervalSet::range(low, high));
        let rest = service.difference(&own);
        let with = |low, high| rest.union(&ServiceSet::both(IntervalSet::range(low, high)));
        if !rest.is_empty() {
            found.push((Kind::ServiceForgotten, rest.clone()));
        }
        if !protocol.has_ports() || whole || high >> 16 != low >> 16 {
            continue;
        }
        let (first, last) = protocol.stretch();
        if low == high {
            found.push((Kind::PortOff, with((low + 1).min(last), (high + 1).min(last))));
            found.push((Kind::PortOff, with(low.max(first + 1) - 1, high.max(first + 1) - 1)));
        } else {
            found.push((Kind::RangeOff, with(low + 1, high)));
            found.push((Kind::RangeOff, with(low, high - 1)));
            found.push((Kind::RangeOff, with(low, (high + 1).min(last))));
        }
        let other = if protocol == Protocol::TCP { Protocol::UDP } else { Protocol::TCP };
        let start = other.stretch().0;
        found.push((Kind::OtherProtocol, with(start | low & 0xffff, start | high & 0xffff)));
    }
    found
}

/// All rules without their IPv6 half.
fn without_ipv6(rules: &RuleSet) -> Option<Damage> {
    let mut damaged = rules.clone();
    let all =
        damaged.lists.iter_mut().filter(|list| !list.implied).flat_map(|list| &mut list.rules);
    let mut any = false;
    for matches in all.filter_map(|rule| rule.matches.as_mut()) {
        any |= !matches.service.v6.is_empty();
        matches.service.v6 = IntervalSet::empty();
    }
    any.then(|| Damage { kind: Kind::NoIpv6, rule: String::new(), rules: damaged })
}
