//! The simplest way to say a rule, knowing what can still come to it.
//!
//! A list is read from the top, so what a rule above has taken never comes further down; and what has no
//! way comes to no list. How a rule speaks of such packets does not matter, and is chosen so that it takes
//! few words.

use bastium_core::plan::Plan;
use bastium_core::rules::{RuleList, Stage, Surroundings};
use bastium_core::space::{AddressSet, IntervalSet, Leg, Match, PacketSet, Region, ServiceSet};
use ipnet::{IpNet, Ipv4Net, Ipv6Net};
use std::net::{Ipv4Addr, Ipv6Addr};

/// What can still come to a rule of a list, in one family: what has a way, and no rule above has taken.
pub(super) struct Rest {
    packets: Option<PacketSet>,
    /// Addresses that nobody has.
    nobody: AddressSet,
    v6: bool,
}

/// In a list longer than this no rule is looked at closely.
const MOST_RULES: usize = 200;

impl Rest {
    pub(super) fn of(plan: &Plan, around: &Surroundings, list: &RuleList, v6: bool) -> Self {
        let packets = (list.rules.len() <= MOST_RULES).then(|| {
            let here = of_one_family(coming(plan, around, list), v6);
            without_way(plan, around, here)
        });
        Self { packets, nobody: nobody(plan), v6 }
    }

    /// A match with ends that take few prefixes, for one that lets replies back: addresses that nobody has
    /// may be in them or not.
    pub(super) fn plainest(&self, product: &Match) -> Match {
        let plain = |set: &AddressSet| cover(set, &set.union(&self.nobody).complement(), self.v6);
        Match {
            source: plain(&product.source),
            destination: plain(&product.destination),
            ..product.clone()
        }
    }

    /// The simplest match that does the same with what can still come; then takes that off. `None` where
    /// nothing of it can.
    pub(super) fn simplest(&mut self, product: &Match) -> Option<Match> {
        let v6 = self.v6;
        let Some(rest) = &mut self.packets else { return Some(product.clone()) };
        let own = PacketSet::from(product);
        let taken = rest.intersection(&own);
        if taken.is_empty() {
            return None;
        }
        let others = rest.difference(&own);
        let mut simple = product.clone();
        let clashes =
            |wider: &Match| others.intersection(&of_one_family(PacketSet::from(wider), v6));
        let wider = Match { service: ServiceSet::any(), ..simple.clone() };
        if clashes(&wider).is_empty() {
            simple = wider;
        }
        let wider = Match { enters: IntervalSet::full(), ..simple.clone() };
        if clashes(&wider).is_empty() {
            simple = wider;
        }
        let all = || AddressSet::full();
        let apart = clashes(&Match { destination: all(), ..simple.clone() });
        let ends =
            |set: &PacketSet| -> AddressSet { set.products().map(|p| p.destination).collect() };
        simple.destination = cover(&ends(&taken), &ends(&apart), v6);
        let apart = clashes(&Match { source: all(), ..simple.clone() });
        let ends = |set: &PacketSet| -> AddressSet { set.products().map(|p| p.source).collect() };
        simple.source = cover(&ends(&taken), &ends(&apart), v6);
        *rest = others;
        Some(simple)
    }
}

/// What comes to a list at all. Before those that are for one kind of traffic, forged sources have been
/// denied, and the kinds been told apart.
fn coming(plan: &Plan, around: &Surroundings, list: &RuleList) -> PacketSet {
    let stays = around.no_way.get(1).map(|gone| gone.source.clone()).unwrap_or_default();
    let both =
        |leg: Leg| -> IntervalSet<Leg> { [leg, plan.translated_leg(leg)].into_iter().collect() };
    let by_leg = around.legs().zip(&around.sources).zip(&around.gateway);
    let kind = |through: bool| -> PacketSet {
        by_leg
            .map(|((leg, sources), gateway)| Match {
                enters: if through { both(leg) } else { IntervalSet::point(leg) },
                source: if through { sources.difference(&stays) } else { sources.clone() },
                destination: if through { gateway.complement() } else { gateway.clone() },
                ..Match::everything()
            })
            .collect()
    };
    match list.stage {
        Stage::Through | Stage::ToGateway => {
            list.packets().intersection(&kind(list.stage == Stage::Through))
        }
        _ => list.packets().clone(),
    }
}

/// Without what has no way. What is for the gateway itself needs none.
fn without_way(plan: &Plan, around: &Surroundings, packets: PacketSet) -> PacketSet {
    let gone = around.no_way.iter().flat_map(|gone| {
        around.legs().zip(&around.gateway).map(move |(leg, gateway)| Match {
            enters: [leg, plan.translated_leg(leg)].into_iter().collect(),
            destination: gone.destination.difference(gateway),
            ..gone.clone()
        })
    });
    gone.fold(packets, |rest, gone| rest.difference(&gone.into()))
}

/// What is neither a device's address nor one of the internet.
fn nobody(plan: &Plan) -> AddressSet {
    let devices = plan.zone_ids().map(|zone| plan.zone_addresses(zone));
    devices.fold(AddressSet::empty(), |all, zone| all.union(&zone)).complement()
}

fn of_one_family(set: PacketSet, v6: bool) -> PacketSet {
    match v6 {
        true => PacketSet { v4: Region::default(), ..set },
        false => PacketSet { v6: Region::default(), ..set },
    }
}

/// Addresses that hold all that are wanted and none that is not, in as few prefixes as can be.
fn cover(wanted: &AddressSet, unwanted: &AddressSet, v6: bool) -> AddressSet {
    let whole: IpNet = match v6 {
        true => Ipv6Net::new_assert(Ipv6Addr::UNSPECIFIED, 0).into(),
        false => Ipv4Net::new_assert(Ipv4Addr::UNSPECIFIED, 0).into(),
    };
    let mut found = Vec::new();
    descend(whole, wanted, unwanted, &mut found);
    found.into_iter().collect()
}

fn descend(prefix: IpNet, wanted: &AddressSet, unwanted: &AddressSet, found: &mut Vec<IpNet>) {
    let here = AddressSet::from(prefix);
    let wanted = wanted.intersection(&here);
    if wanted.is_empty() {
        return;
    }
    let unwanted = unwanted.intersection(&here);
    if unwanted.is_empty() {
        found.push(prefix);
        return;
    }
    let Ok(halves) = prefix.subnets(prefix.prefix_len() + 1) else { return };
    for half in halves {
        descend(half, &wanted, &unwanted, found);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn set(words: &[&str]) -> AddressSet {
        words.iter().map(|word| word.parse::<IpNet>().expect("a prefix")).collect()
    }

    #[test]
    fn a_cover_holds_what_is_wanted_and_nothing_that_is_not() {
        let wanted = set(&["10.44.24.0/25", "10.44.24.128/26"]);
        assert_eq!(cover(&wanted, &set(&["10.44.0.0/24"]), false).words(), ["10.44.16.0/20"]);
        let rest = AddressSet::full().difference(&set(&["10.0.0.0/8"]));
        assert_eq!(cover(&rest, &set(&["10.44.24.0/24"]), false).v4.spans().len(), 2);
        assert_eq!(
            cover(&wanted, &AddressSet::empty(), false),
            AddressSet { v6: IntervalSet::empty(), ..AddressSet::full() }
        );
    }
}
