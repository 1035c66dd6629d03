//! Ranks for the form `ranked`: chosen from trust, so that as few cells as can be need a rule.

use super::reachability::{can_turn_round, something_passes};
use super::{CompileContext, outer_interfaces};
use crate::plan::{Action, NetworkId, Plan, Trust, ZoneId};
use crate::space::{Interface, IntervalSet, Match, PacketSet};
use crate::verdict::Cause;
use std::cmp::Ordering;
use std::collections::BTreeSet;

/// What a gateway of this form does with what no rule matches.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Default {
    /// It passes, and is not logged.
    Passes,
    /// It is blocked, and is not logged.
    Blocked,
    /// It is blocked and not logged, whatever the rules say.
    CutOff,
}

/// The ranks of all networks, and the two general settings.
pub(super) struct Ranks {
    /// By network; the uplinks have rank 0.
    ranks: Vec<u32>,
    /// Whether networks of one rank reach each other by themselves.
    pub(super) equals: bool,
    /// Whether packets may leave where they came in.
    pub(super) turning: bool,
}

/// What happens from one interface to another, as far as it bears on ranks.
struct Wanted<'p> {
    plan: &'p Plan,
    /// By in and out: whether something other than a silent block may be decided by an exception, or for what
    /// stands beside an uplink.
    busy: Vec<Vec<bool>>,
}

impl Ranks {
    pub(super) fn choose(context: &CompileContext<'_>) -> Self {
        let wanted = Wanted::new(context);
        let turning = wanted.turning();
        let arranged = |equals| {
            let (cost, order) = wanted.order(equals)?;
            Some((cost, Self::new(context.plan, &order, equals, turning)))
        };
        let on = arranged(true);
        let cost = on.as_ref().map_or(u32::MAX, |(cost, _)| *cost);
        // Silence between equals is the gateway's own state: kept where it costs nothing.
        let off = arranged(false).filter(|off| off.0 <= cost && wanted.are_kept_by(&off.1));
        let chosen = off.or(on).map(|(_, ranks)| ranks);
        chosen.unwrap_or_else(|| Self::new(context.plan, &[], true, turning))
    }

    fn new(plan: &Plan, order: &[Vec<ZoneId>], equals: bool, turning: bool) -> Self {
        let rank = |zone: ZoneId| {
            let level = order.iter().rev().zip(1..).find(|(group, _)| group.contains(&zone));
            level.map_or(0, |(_, level)| level * 10)
        };
        let ranks = plan.networks().iter().map(|network| rank(network.zone)).collect();
        Self { ranks, equals, turning }
    }

    /// The rank of an interface.
    pub(super) fn of(&self, plan: &Plan, interface: Interface) -> u32 {
        plan.network_on(interface).map_or(0, |network| self.ranks[network.index()])
    }

    /// What happens to what no rule matches, from one interface to another.
    pub(super) fn default(&self, plan: &Plan, enters: Interface, leaves: Interface) -> Default {
        let outside = |interface| plan.uplink_on(interface).is_some();
        let round = enters == leaves || outside(enters) && outside(leaves);
        let silent = |on: bool| if on { Default::Passes } else { Default::CutOff };
        match self.of(plan, enters).cmp(&self.of(plan, leaves)) {
            _ if round => silent(self.turning),
            Ordering::Greater => Default::Passes,
            Ordering::Less => Default::Blocked,
            Ordering::Equal => silent(self.equals),
        }
    }
}

impl<'p> Wanted<'p> {
    fn new(context: &CompileContext<'p>) -> Self {
        let plan = context.plan;
        let interfaces: Vec<Interface> = outer_interfaces(plan).collect();
        let mut busy = vec![vec![false; interfaces.len()]; interfaces.len()];
        let reach: Vec<_> =
            interfaces.iter().map(|interface| context.reached_by(*interface)).collect();
        for rule in &context.base.through {
            let silent = rule.action == Action::Block && !rule.log;
            let meets = match (rule.cause, rule.packets()) {
                _ if silent => continue,
                (Cause::BesideUplink(_), Some(matches)) => matches.into(),
                (cause, _) => match cause.exception() {
                    Some(id) => context.base.meets[id.index()].clone(),
                    None => continue,
                },
            };
            let enters = meets.enters();
            for (i, &interface) in interfaces.iter().enumerate() {
                let interfaces: IntervalSet<Interface> =
                    [interface, plan.translated_interface(interface)].into_iter().collect();
                if enters.is_disjoint(&interfaces) {
                    continue;
                }
                for (o, &destination) in reach.iter().enumerate() {
                    busy[i][o] = busy[i][o] || {
                        let (enters, destination) = (interfaces.clone(), destination.clone());
                        let way = Match { enters, destination, ..Match::everything() };
                        !meets.is_disjoint(&PacketSet::from(way))
                    };
                }
            }
        }
        Self { plan, busy }
    }

    /// Whether the cell is as the default is.
    fn agrees(&self, from: ZoneId, to: ZoneId, default: Default) -> bool {
        let (action, log) = said(self.plan, from, to);
        match default {
            Default::Passes => action == Action::Allow && !log,
            Default::Blocked | Default::CutOff => action == Action::Block && !log,
        }
    }

    /// Whether nothing is cut off that should pass, be answered or be logged, by whichever interfaces it comes.
    fn are_kept_by(&self, ranks: &Ranks) -> bool {
        let zones = || self.plan.zone_ids();
        zones().all(|from| {
            zones().all(|to| {
                let ways = ways(self.plan, from, to);
                let cut = |(i, o): &&(Interface, Interface)| {
                    ranks.default(self.plan, *i, *o) == Default::CutOff
                };
                let spoilt = |(i, o): &(Interface, Interface)| {
                    !self.agrees(from, to, Default::CutOff)
                        || self.busy[usize::from(i.0)][usize::from(o.0)]
                };
                !ways.iter().filter(cut).any(spoilt)
            })
        })
    }

    fn busy_between(&self, from: ZoneId, to: ZoneId) -> bool {
        let interfaces = |zone| self.plan.networks_of(zone).map(NetworkId::index);
        interfaces(from).any(|i| interfaces(to).any(|o| i != o && self.busy[i][o]))
    }

    /// How many cells between two zones need a rule, the first standing above, beside or below the
    /// other; `None` where it cannot be.
    fn cost(&self, one: ZoneId, other: ZoneId, rank: Ordering, equals: bool) -> Option<u32> {
        let default = |order| match order {
            Ordering::Greater => Default::Passes,
            Ordering::Less => Default::Blocked,
            Ordering::Equal if equals => Default::Passes,
            Ordering::Equal => Default::CutOff,
        };
        let ways = [(one, other, rank), (other, one, rank.reverse())];
        let ways = if one == other { &ways[..1] } else { &ways[..] };
        let mut cost = 0;
        for &(from, to, order) in ways {
            let (default, agrees) = (default(order), self.agrees(from, to, default(order)));
            if default == Default::CutOff && (!agrees || self.busy_between(from, to)) {
                return None;
            }
            cost += u32::from(!agrees);
        }
        Some(cost)
    }

    /// The zones that have networks, in groups of equal rank from the highest down, with the number of
    /// cells that then need a rule.
    fn order(&self, equals: bool) -> Option<(u32, Vec<Vec<ZoneId>>)> {
        let plan = self.plan;
        let mut groups = Vec::new();
        let mut total = 0;
        for trust in Trust::GIVEN {
            let here = |zone: &ZoneId| plan.zone(*zone).trust == trust;
            let inhabited = |zone: &ZoneId| plan.networks_of(*zone).next().is_some();
            let zones: Vec<ZoneId> = plan.zone_ids().filter(here).filter(inhabited).collect();
            for zone in &zones {
                if plan.networks_of(*zone).count() > 1 {
                    total += self.cost(*zone, *zone, Ordering::Equal, equals)?;
                }
            }
            let cost =
                |one: usize, other: usize, rank| self.cost(zones[one], zones[other], rank, equals);
            let (cost, order) = weak_order(zones.len(), &cost)?;
            total += cost;
            let named = |group: Vec<usize>| group.into_iter().map(|zone| zones[zone]).collect();
            groups.extend(order.into_iter().map(named));
        }
        Some((total, groups))
    }

    /// Whether anything that turns round is to pass, or to be answered or logged.
    fn turning(&self) -> bool {
        let plan = self.plan;
        let busy = (0..self.busy.len()).any(|interface| self.busy[interface][interface]);
        busy || plan.zone_ids().any(|from| {
            plan.zone_ids().any(|to| {
                let ways = ways(plan, from, to);
                let round = |(i, o): &(Interface, Interface)| {
                    i == o || plan.uplink_on(*i).is_some() && plan.uplink_on(*o).is_some()
                };
                ways.iter().any(round) && !self.agrees(from, to, Default::CutOff)
            })
        })
    }
}

/// The cheapest way to put things into groups one above the other; of equally cheap ones, one with the
/// fewest groups. Exact for up to ten things; more are put in one after the other, each at its best place.
fn weak_order(
    count: usize,
    cost: &impl Fn(usize, usize, Ordering) -> Option<u32>,
) -> Option<(u32, Vec<Vec<usize>>)> {
    if count > 10 {
        return one_by_one(count, cost);
    }
    let all = (1usize << count) - 1;
    let members = |mask: usize| (0..count).filter(move |i| mask >> i & 1 == 1);
    // For each set of things that are placed already: cost, number of groups, the last group.
    let mut best: Vec<Option<(u32, u32, usize)>> = vec![None; all + 1];
    best[0] = Some((0, 0, 0));
    for placed in 0..=all {
        let Some((so_far, groups, _)) = best[placed] else { continue };
        let rest = all & !placed;
        let mut group = rest;
        while group != 0 {
            let beside = members(group).flat_map(|i| {
                members(group).filter(move |j| i < *j).map(move |j| cost(i, j, Ordering::Equal))
            });
            let below = members(placed)
                .flat_map(|i| members(group).map(move |j| cost(i, j, Ordering::Greater)));
            let added: Option<u32> = beside.chain(below).sum();
            if let Some(added) = added {
                let found = (so_far + added, groups + 1, group);
                let known = &mut best[placed | group];
                if known.is_none_or(|known| (found.0, found.1) < (known.0, known.1)) {
                    *known = Some(found);
                }
            }
            group = (group - 1) & rest;
        }
    }
    let (total, ..) = best[all]?;
    let mut order = Vec::new();
    let mut placed = all;
    while placed != 0 {
        let group = best[placed]?.2;
        order.push(members(group).collect());
        placed &= !group;
    }
    order.reverse();
    Some((total, order))
}

fn one_by_one(
    count: usize,
    cost: &impl Fn(usize, usize, Ordering) -> Option<u32>,
) -> Option<(u32, Vec<Vec<usize>>)> {
    let price = |order: &[Vec<usize>]| -> Option<u32> {
        let mut total = 0;
        for (place, group) in order.iter().enumerate() {
            for (index, &one) in group.iter().enumerate() {
                for &other in &group[index + 1..] {
                    total += cost(one, other, Ordering::Equal)?;
                }
                for &lower in order[place + 1..].iter().flatten() {
                    total += cost(one, lower, Ordering::Greater)?;
                }
            }
        }
        Some(total)
    };
    let mut order: Vec<Vec<usize>> = Vec::new();
    for thing in 0..count {
        let beside = (0..order.len()).map(|place| {
            let mut with = order.clone();
            with[place].push(thing);
            with
        });
        let between = (0..=order.len()).map(|place| {
            let mut with = order.clone();
            with.insert(place, vec![thing]);
            with
        });
        let priced = beside.chain(between).filter_map(|order| Some((price(&order)?, order)));
        order = priced.min_by_key(|(price, order)| (*price, order.len()))?.1;
    }
    Some((price(&order)?, order))
}

/// What the matrix says from one zone to another, be it that nothing is spoken of.
pub(super) fn said(plan: &Plan, from: ZoneId, to: ZoneId) -> (Action, bool) {
    let cell = plan.matrix().cell(from, to);
    let unmatched = plan.matrix().unmatched();
    cell.action.map_or((unmatched.denial.into(), unmatched.log), |action| (action, cell.log))
}

/// By which interfaces packets from one zone to another enter and leave, as far as any can.
pub(super) fn ways(plan: &Plan, from: ZoneId, to: ZoneId) -> Vec<(Interface, Interface)> {
    if !something_passes(plan, from, to) {
        return Vec::new();
    }
    let interfaces = |zone: ZoneId| -> BTreeSet<Interface> {
        if zone == plan.internet() {
            return (0..plan.uplinks().len()).map(|index| plan.uplink_interface(index)).collect();
        }
        let routes = plan.routes().iter().filter(|route| route.zone == zone);
        let networks = plan.networks_of(zone).chain(routes.map(|route| route.network));
        networks.map(|id| plan.network_interface(id)).collect()
    };
    let (enter, leave) = (interfaces(from), interfaces(to));
    let ways = enter.iter().flat_map(|i| leave.iter().map(move |o| (*i, *o)));
    ways.filter(|(i, o)| i != o || can_turn_round(plan, *i)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// All ways to put `count` things into groups one above the other.
    fn all_orders(count: usize) -> Vec<Vec<Vec<usize>>> {
        let mut orders = vec![Vec::new()];
        for thing in 0..count {
            let mut next = Vec::new();
            for order in &orders {
                let order: &Vec<Vec<usize>> = order;
                for place in 0..order.len() {
                    let mut with = order.clone();
                    with[place].push(thing);
                    next.push(with);
                }
                for place in 0..=order.len() {
                    let mut with = order.clone();
                    with.insert(place, vec![thing]);
                    next.push(with);
                }
            }
            orders = next;
        }
        orders
    }

    #[test]
    fn no_order_is_cheaper_than_the_chosen_one() {
        for seed in 0..60_usize {
            let price = |one: usize, other: usize, rank: Ordering| {
                let (a, b) = (one.min(other), one.max(other));
                let rank = if one < other { rank } else { rank.reverse() };
                let mix = seed * 31
                    + a * 7
                    + b * 13
                    + usize::from(rank.is_ge()) * 5
                    + usize::from(rank.is_gt()) * 5;
                let mix = mix.wrapping_mul(2_654_435_761) % 97;
                (mix > 9).then_some([0, 1, 2][mix % 3])
            };
            let total = |order: &[Vec<usize>]| {
                let mut sum = 0;
                for (place, group) in order.iter().enumerate() {
                    for (index, &one) in group.iter().enumerate() {
                        for &other in &group[index + 1..] {
                            sum += price(one, other, Ordering::Equal)?;
                        }
                        for &other in order[place + 1..].iter().flatten() {
                            sum += price(one, other, Ordering::Greater)?;
                        }
                    }
                }
                Some(sum)
            };
            let cheapest = all_orders(4).iter().filter_map(|order| total(order)).min();
            let chosen = weak_order(4, &price);
            assert_eq!(chosen.as_ref().map(|(cost, _)| *cost), cheapest, "seed {seed}");
            assert_eq!(chosen.and_then(|(_, order)| total(&order)), cheapest, "seed {seed}");
        }
    }
}
