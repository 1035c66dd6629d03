//! Finds the simplest way to express a rule, given what can still reach it.
//!
//! A list is read from the top, so what a rule above has taken never comes further down; and what has no
//! way comes to no list. How a rule speaks of such packets does not matter, and is chosen so that it takes
//! few words.

use bastium_core::addressing::not_global;
use bastium_core::plan::Plan;
use bastium_core::rules::{RuleList, Stage, Surroundings};
use bastium_core::space::{
    AddressSet, Family, Interface, IntervalSet, Match, PacketSet, Region, ServiceSet,
};
use ipnet::{IpNet, Ipv4Net, Ipv6Net};
use std::net::{Ipv4Addr, Ipv6Addr};

/// What can still come to a rule of a list, in one family: what has a way, and no rule above has taken.
pub(super) struct Rest {
    packets: Option<PacketSet>,
    /// The devices' addresses, and those of the internet.
    devices: AddressSet,
    /// What counts as the gateway.
    gateway: AddressSet,
    family: Family,
}

/// What is said for a rule, or for a part of it.
pub(super) struct Part {
    /// The rule's place in its list.
    pub(super) place: usize,
    pub(super) product: Match,
    /// What can come to it; `None` where that is not known.
    taken: Option<PacketSet>,
}

impl Part {
    /// Whether something of a match can come to it, so that it is worth an entry.
    pub(super) fn meets(&self, product: &Match) -> bool {
        self.taken.as_ref().is_none_or(|taken| !taken.is_disjoint(&product.into()))
    }
}

/// More entries than this are worth a closer look.
const FEW: usize = 24;
/// In a list longer than this no rule is looked at closely.
const MOST_RULES: usize = 200;

impl Rest {
    pub(super) fn of(plan: &Plan, around: &Surroundings, list: &RuleList, family: Family) -> Self {
        let packets = (list.rules.len() <= MOST_RULES).then(|| {
            let here = of_one_family(coming(plan, around, list), family);
            without_way(plan, around, here)
        });
        Self { packets, devices: devices(plan), gateway: gateway(around), family }
    }

    /// Takes off what something else has decided.
    pub(super) fn take(&mut self, packets: &PacketSet) {
        if let Some(rest) = &mut self.packets {
            *rest = rest.difference(packets);
        }
    }

    /// Whether packets that come so could be taken for those that were translated first, and only these are
    /// meant: a list sees where a packet entered, and not what became of it.
    pub(super) fn mistakes_translated(&self, plan: &Plan, product: &Match) -> bool {
        let outer = (0..plan.gateway_interface().0).map(Interface);
        let only_translated = outer.filter(|interface| {
            product.enters.contains(plan.translated_interface(*interface))
                && !product.enters.contains(*interface)
        });
        let direct: PacketSet = only_translated
            .map(|interface| {
                // From outside, nothing gets as far as this for an address that is not global.
                let near = match plan.uplink_on(interface) {
                    Some(_) => product.destination.difference(&not_global()),
                    None => product.destination.clone(),
                };
                Match {
                    enters: IntervalSet::point(interface),
                    destination: near,
                    ..product.clone()
                }
            })
            .collect();
        match &self.packets {
            Some(rest) => !rest.is_disjoint(&of_one_family(direct, self.family)),
            None => !of_one_family(direct, self.family).is_empty(),
        }
    }

    /// The simplest ends for a match that lets replies back; `None` where nothing of it can come. Addresses
    /// that nobody has may be among them or not.
    pub(super) fn plainest(&self, place: usize, product: &Match) -> Option<Part> {
        let own = PacketSet::from(product);
        // What is for the gateway has been decided above, but for replies to itself.
        let own_too = !product.destination.is_disjoint(&self.gateway);
        let somebody = match own_too {
            true => self.devices.union(&self.gateway),
            false => self.devices.clone(),
        };
        let (taken, others) = match &self.packets {
            Some(rest) => (rest.intersection(&own), rest.difference(&own)),
            None => (own.clone(), PacketSet::from(&Match::everything()).difference(&own)),
        };
        let between =
            Match { source: somebody.clone(), destination: somebody, ..Match::everything() };
        let others = others.intersection(&between.into());
        let product = few_prefixes(product, &taken, &others, self.family);
        (!taken.is_empty()).then(|| Part { place, product, taken: Some(taken) })
    }

    /// The simplest matches that together do the same with what can still come, in order; then takes that off.
    ///
    /// There are no ranges of protocols in these lists, so all but a few services take hundreds of entries.
    /// There it is shorter to say first what the rules further down do with these few, and then all.
    pub(super) fn said(&mut self, list: &RuleList, place: usize, product: &Match) -> Vec<Part> {
        let Some(rest) = &self.packets else {
            return vec![Part { place, product: product.clone(), taken: None }];
        };
        let own = PacketSet::from(product);
        let taken = rest.intersection(&own);
        if taken.is_empty() {
            return Vec::new();
        }
        let others = rest.difference(&own);
        let plain = simplest(product, &taken, &others, self.family);
        let size = super::count(&plain, self.family);
        if size.is_some_and(|size| size > FEW)
            && let Some((parts, left)) = self.with_exceptions(list, place, &plain, rest, &others)
            && parts
                .iter()
                .map(|part| super::count(&part.product, self.family))
                .sum::<Option<usize>>()
                < size
        {
            self.packets = Some(left);
            return parts;
        }
        self.packets = Some(others);
        vec![Part { place, product: plain, taken: Some(taken) }]
    }

    /// All services between the same ends, after what the rules further down do with those that are not the
    /// rule's; and what can come after that. `None` where that cannot be said in a few matches.
    fn with_exceptions(
        &self,
        list: &RuleList,
        place: usize,
        plain: &Match,
        rest: &PacketSet,
        others: &PacketSet,
    ) -> Option<(Vec<Part>, PacketSet)> {
        let all = Match { service: ServiceSet::any(), ..plain.clone() };
        let mut open = others.intersection(&PacketSet::from(&all));
        let mut parts = Vec::new();
        let mut left = rest.clone();
        for (place, rule) in list.rules.iter().enumerate().skip(place + 1) {
            if open.is_empty() {
                break;
            }
            let Some(product) = rule.packets() else { continue };
            let own = PacketSet::from(product);
            let piece = open.intersection(&own);
            if piece.is_empty() {
                continue;
            }
            // Replies have to meet the rules in their order; hours cannot be said at all.
            if rule.is_for_replies() || !product.at.is_full() {
                return None;
            }
            let apart = left.difference(&piece);
            for product in piece.products() {
                let taken = PacketSet::from(&product);
                let product = simplest(&product, &taken, &apart, self.family);
                parts.push(Part { place, product, taken: Some(taken) });
            }
            if parts.len() > FEW {
                return None;
            }
            left = apart;
            open = open.difference(&own);
        }
        let taken = left.intersection(&PacketSet::from(&all));
        let after = left.difference(&taken);
        let product = simplest(&all, &taken, &after, self.family);
        parts.push(Part { place, product, taken: Some(taken) });
        open.is_empty().then_some((parts, after))
    }
}

/// The simplest match that takes in all that is `taken`, and none of the `others`; beginning with one that
/// does.
fn simplest(product: &Match, taken: &PacketSet, others: &PacketSet, family: Family) -> Match {
    let mut simple = product.clone();
    let clashes =
        |wider: &Match| !others.is_disjoint(&of_one_family(PacketSet::from(wider), family));
    let wider = Match { service: ServiceSet::any(), ..simple.clone() };
    if !clashes(&wider) {
        simple = wider;
    }
    let wider = Match { enters: IntervalSet::full(), ..simple.clone() };
    if !clashes(&wider) {
        simple = wider;
    }
    few_prefixes(&simple, taken, others, family)
}

/// The same match with ends that take few prefixes.
fn few_prefixes(product: &Match, taken: &PacketSet, others: &PacketSet, family: Family) -> Match {
    let mut simple = product.clone();
    let near = |wider: &Match| others.intersection(&of_one_family(PacketSet::from(wider), family));
    let all = AddressSet::full;
    let apart = near(&Match { destination: all(), ..simple.clone() });
    let ends = |set: &PacketSet| -> AddressSet { set.products().map(|p| p.destination).collect() };
    simple.destination = cover(&ends(taken), &ends(&apart), family);
    let apart = near(&Match { source: all(), ..simple.clone() });
    let ends = |set: &PacketSet| -> AddressSet { set.products().map(|p| p.source).collect() };
    simple.source = cover(&ends(taken), &ends(&apart), family);
    simple
}

/// What comes to a list at all. Before those that are for one kind of traffic, spoofed sources have been
/// denied, and the kinds are distinguished.
fn coming(plan: &Plan, around: &Surroundings, list: &RuleList) -> PacketSet {
    let stays = around.no_route.get(1).map(|gone| gone.source.clone()).unwrap_or_default();
    let both = |interface: Interface| -> IntervalSet<Interface> {
        [interface, plan.translated_interface(interface)].into_iter().collect()
    };
    let by_interface = around.interfaces().zip(&around.sources).zip(&around.gateway);
    let kind = |through: bool| -> PacketSet {
        by_interface
            .map(|((interface, sources), gateway)| Match {
                enters: if through { both(interface) } else { IntervalSet::point(interface) },
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
    let gone = around.no_route.iter().flat_map(|gone| {
        around.interfaces().zip(&around.gateway).map(move |(interface, gateway)| Match {
            enters: [interface, plan.translated_interface(interface)].into_iter().collect(),
            destination: gone.destination.difference(gateway),
            ..gone.clone()
        })
    });
    gone.fold(packets, |rest, gone| rest.difference(&gone.into()))
}

/// What comes from no device and nowhere of the internet; what goes there, nor to the gateway.
pub(super) fn nobody(plan: &Plan, around: &Surroundings) -> [Match; 2] {
    let devices = devices(plan);
    let source = devices.complement();
    let destination = devices.union(&gateway(around)).complement();
    [Match { source, ..Match::everything() }, Match { destination, ..Match::everything() }]
}

/// What goes to an address that is the gateway's, but not by the interface where it comes in: another network's broadcast
/// address is nobody's there (RFC 2644).
pub(super) fn nobody_here(plan: &Plan, around: &Surroundings) -> PacketSet {
    let of_some = gateway(around).difference(&devices(plan));
    let by_interface = around.interfaces().zip(&around.gateway).map(|(interface, own)| Match {
        enters: [interface, plan.translated_interface(interface)].into_iter().collect(),
        destination: of_some.difference(own),
        ..Match::everything()
    });
    by_interface.collect()
}

fn devices(plan: &Plan) -> AddressSet {
    let zones = plan.zone_ids().map(|zone| plan.zone_addresses(zone));
    zones.fold(AddressSet::empty(), |all, zone| all.union(zone))
}

fn gateway(around: &Surroundings) -> AddressSet {
    around.gateway.iter().fold(AddressSet::empty(), |all, own| all.union(own))
}

fn of_one_family(set: PacketSet, family: Family) -> PacketSet {
    match family {
        Family::V6 => PacketSet { v4: Region::default(), ..set },
        Family::V4 => PacketSet { v6: Region::default(), ..set },
    }
}

/// Addresses that hold all that are wanted and none that is not, in as few prefixes as can be.
fn cover(wanted: &AddressSet, unwanted: &AddressSet, family: Family) -> AddressSet {
    let whole: IpNet = match family {
        Family::V6 => Ipv6Net::new_assert(Ipv6Addr::UNSPECIFIED, 0).into(),
        Family::V4 => Ipv4Net::new_assert(Ipv4Addr::UNSPECIFIED, 0).into(),
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
        assert_eq!(cover(&wanted, &set(&["10.44.0.0/24"]), Family::V4).words(), ["10.44.16.0/20"]);
        let rest = AddressSet::full().difference(&set(&["10.0.0.0/8"]));
        assert_eq!(cover(&rest, &set(&["10.44.24.0/24"]), Family::V4).v4.spans().len(), 2);
        assert_eq!(
            cover(&wanted, &AddressSet::empty(), Family::V4),
            AddressSet { v6: IntervalSet::empty(), ..AddressSet::full() }
        );
    }
}
