//! Shortens lists that would otherwise spell out which sources are spoofed.
//!
//! What comes in by an interface with a source that does not belong there is denied first. All addresses but those of a network
//! take dozens of prefixes, in IPv6 hundreds. It is shorter to let every entry that allows something name the network, and to
//! leave the rest to the end of the list, which denies it in the same way.

use super::words::prefixes;
use bastium_core::plan::Plan;
use bastium_core::rules::{Applies, Matches, Rule, RuleList};
use bastium_core::space::{AddressSet, Family, Match, ServiceSet};
use bastium_core::verdict::Cause;

/// More prefixes than this beside those of the network are not worth it.
const FEW: usize = 4;

/// A list that does the same in one family, in which the first rule speaks only of the network's own prefixes. `None` where it
/// has no such first rule, or no end that denies in the same way.
pub(super) fn narrowed(plan: &Plan, list: &RuleList, family: Family) -> Option<RuleList> {
    let Some(Applies::Interface { interface, out: false }) = list.applies else { return None };
    let network = plan.network_on(interface)?;
    let [spoofed, between @ .., end] = list.rules.as_slice() else { return None };
    let same_end = |rule: &Rule| (rule.action, rule.log) == (end.action, end.log);
    let all =
        end.packets().is_some_and(|end| end.source.has_all_of(family) && is_for_all(end, family));
    let sources = spoofed
        .packets()
        .filter(|packets| is_for_all(packets, family))
        .map(|packets| &packets.source);
    if !matches!(spoofed.cause, Cause::Spoofed(..)) || !same_end(spoofed) || !all {
        return None;
    }
    let outside = sources?.of_family(family);
    let belongs = AddressSet::full().of_family(family).difference(&outside);
    let routes = plan.routes().iter().filter(|route| route.network == network);
    let subnets = plan.network(network).subnets.iter().map(|one| one.prefix());
    let inner: AddressSet = subnets.chain(routes.map(|route| route.to)).collect();
    let inner = inner.of_family(family);
    let cover = inner.union(&belongs);
    if prefixes(&belongs.difference(&inner), family).len() > FEW {
        return None;
    }
    let mut rules = Vec::new();
    rules.extend(with_source(spoofed, outside.intersection(&inner)));
    let mut live = belongs;
    for rule in between {
        let packets = rule.packets()?;
        let own = packets.source.of_family(family);
        if same_end(rule) {
            rules.push(rule.clone());
        } else {
            let wanted = own.intersection(&live);
            let within = if wanted.difference(&inner).is_empty() { &inner } else { &cover };
            let narrow = if wanted.is_empty() { wanted } else { own.intersection(within) };
            rules.extend(with_source(rule, narrow));
        }
        if is_for_all(packets, family) && rule.replies_from().is_none() {
            live = live.difference(&own);
        }
    }
    rules.push(end.clone());
    let mut narrow = list.clone();
    narrow.rules = rules;
    Some(narrow)
}

/// Whether a match takes whatever its sources send, in one family.
fn is_for_all(packets: &Match, family: Family) -> bool {
    let services = packets.service.line(family) == ServiceSet::any().line(family);
    packets.destination.has_all_of(family) && services && packets.at.is_full()
}

/// A rule for some sources; none where there are none.
fn with_source(rule: &Rule, source: AddressSet) -> Option<Rule> {
    if source.is_empty() {
        return None;
    }
    let mut rule = rule.clone();
    match &mut rule.matches {
        Matches::First(packets) | Matches::Replies { packets, .. } => packets.source = source,
        _ => return None,
    }
    Some(rule)
}
