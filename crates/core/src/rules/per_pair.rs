//! The form `per-pair`: an opening list, a short list for every pair of zones and for each zone to the
//! gateway, a closing list.

use super::reachability::{Entry, entries, offers, something_passes, translated, with_translated};
use super::restrict::Part;
use super::{
    Applies, CompileContext, Endpoint, Otherwise, Rule, RuleList, RuleSet, Stage, implicit_traffic,
    one_list,
};
use crate::addressing::link_local;
use crate::plan::{Form, Plan, ZoneId};
use crate::space::{AddressSet, Match, PacketSet};
use crate::verdict::Cause;
use std::collections::HashMap;

pub(super) fn compile<'p>(context: &CompileContext<'p>) -> RuleSet<'p> {
    let plan = context.plan;
    let arriving = PacketSet::from(implicit_traffic::arriving(plan));
    let opening = context.base.opening.clone();
    let mut lists =
        vec![RuleList::of_stage(Stage::Opening, opening, Otherwise::GoOn, arriving.clone())];
    let local = implicit_traffic::for_gateway(plan);
    lists.extend(plan.zone_ids().filter_map(|from| to_gateway(context, from, &local)));
    lists.push(closing("closing-to-gateway", Stage::ToGateway, &context.base.to_gateway, local));
    let zones: Vec<AddressSet> =
        plan.zone_ids().map(|zone| plan.zone_prefixes(zone).clone()).collect();
    let sources: Vec<AddressSet> = plan.zone_ids().map(|zone| sources(context, zone)).collect();
    let sorted = Sorted::by(&sources, &zones, &context.base.through);
    for from in plan.zone_ids() {
        let entries = entries(plan, from);
        for to in plan.zone_ids() {
            if something_passes(plan, from, to) || offers(plan, from, to).next().is_some() {
                lists.push(pair(context, &sorted, &entries, (from, to)));
            }
        }
    }
    let rest = arriving.union(&PacketSet::from(translated(plan)));
    lists.push(closing("closing", Stage::Through, &context.base.through, rest));
    lists.push(one_list::from_gateway(context));
    context.finish(Form::PerPair, lists)
}

/// The zones that a rule speaks of at its ends.
struct Touched {
    from: Vec<bool>,
    to: Vec<bool>,
}

impl Touched {
    fn by(sources: &[AddressSet], zones: &[AddressSet], rule: &Rule) -> Self {
        let Some(matches) = rule.packets() else {
            return Self { from: Vec::new(), to: Vec::new() };
        };
        let touches = |all: &[AddressSet], set: &AddressSet| {
            all.iter().map(|zone| !zone.is_disjoint(set)).collect()
        };
        Self { from: touches(sources, &matches.source), to: touches(zones, &matches.destination) }
    }

    fn between(&self, from: ZoneId, to: ZoneId) -> bool {
        let has = |zones: &[bool], zone: ZoneId| zones.get(zone.index()).copied().unwrap_or(false);
        has(&self.from, from) && has(&self.to, to)
    }
}

/// The rules for what is passed on: those of cells by their zones, and those that stand above all cells, with the zones
/// that they speak of.
struct Sorted<'r> {
    above: Vec<(&'r Rule, Touched)>,
    cells: HashMap<(ZoneId, ZoneId), Vec<&'r Rule>>,
}

impl<'r> Sorted<'r> {
    fn by(sources: &[AddressSet], zones: &[AddressSet], rules: &'r [Rule]) -> Self {
        let mut sorted = Self { above: Vec::new(), cells: HashMap::new() };
        for rule in rules {
            match rule.cause {
                Cause::Cell(from, to) => sorted.cells.entry((from, to)).or_default().push(rule),
                Cause::Unmatched => {}
                _ => sorted.above.push((rule, Touched::by(sources, zones, rule))),
            }
        }
        sorted
    }
}

fn pair(
    context: &CompileContext<'_>,
    sorted: &Sorted<'_>,
    entries: &[Entry],
    (from, to): (ZoneId, ZoneId),
) -> RuleList {
    let plan = context.plan;
    let prefixes = plan.zone_prefixes(to);
    let mut part =
        part(plan, from, entries, prefixes, Endpoint::named(plan.zone(to).name.as_str()));
    part.sources = sources(context, from);
    part.anyone[1] = plan.zone_addresses(to).clone();
    let above = sorted.above.iter().filter(|(_, touched)| touched.between(from, to));
    let mut rules: Vec<Rule> =
        above.filter_map(|(rule, _)| part.restrict(plan, &context.base, rule)).collect();
    let cells = sorted.cells.get(&(from, to)).map(Vec::as_slice).unwrap_or_default();
    let decided = !cells.is_empty();
    rules.extend(cells.iter().map(|rule| (*rule).clone()));
    let rules = part.alive(&context.base, rules);
    RuleList {
        name: part.mark.clone(),
        stage: Stage::Through,
        applies: Some(Applies::Pair { from, to }),
        rules,
        otherwise: if decided { Otherwise::Block } else { Otherwise::GoOn },
        implied: false,
        covers: part.packets,
    }
}

/// What packets from a zone can have as their source. Outside that is more than addresses of the internet: the
/// broadcast address of one uplink is an ordinary one seen from another.
fn sources(context: &CompileContext<'_>, zone: ZoneId) -> AddressSet {
    let plan = context.plan;
    if zone != plan.internet() {
        return plan.zone_addresses(zone).clone();
    }
    let uplinks =
        (0..plan.uplinks().len()).map(|index| context.true_sources(plan.uplink_interface(index)));
    uplinks.fold(AddressSet::empty(), |all, sources| all.union(sources))
}

/// A zone's list for the gateway itself; `None` where no packet comes from the zone at all.
fn to_gateway(context: &CompileContext<'_>, from: ZoneId, local: &PacketSet) -> Option<RuleList> {
    let plan = context.plan;
    let mut part = part(plan, from, &entries(plan, from), &AddressSet::full(), Endpoint::Gateway);
    if part.enters.is_empty() {
        return None;
    }
    part.packets = part.packets.intersection(local);
    // What comes without an address of its own, or stays on its link, asks the gateway too.
    part.sources = AddressSet::full();
    part.anyone[0] = AddressSet::full();
    let own = plan.zone_addresses(from);
    let here = own.union(&sources(context, from)).union(&link_local());
    let named = |rule: &&Rule| match rule.cause {
        Cause::Unmatched => false,
        Cause::Manage | Cause::Exception(_) => {
            rule.packets().is_some_and(|m| !m.source.is_disjoint(&here))
        }
        _ => true,
    };
    let rules = context.base.to_gateway.iter().filter(named);
    let rules = rules.filter_map(|rule| {
        let mut restricted = part.restrict(plan, &context.base, rule)?;
        let matches = rule.packets()?;
        let zone = Endpoint::expression(plan.zone(from).name.as_str());
        if own.is_subset(&matches.source) && rule.source != zone {
            restricted.source.clone_from(&rule.source);
        }
        if matches!(rule.cause, Cause::GatewayService(_) | Cause::Discovery(_)) {
            // It is named after its network, which has one zone; what is behind a router may have another.
            let at_home = matches.enters.first().is_some_and(|interface| {
                plan.network_on(interface).is_none_or(|id| plan.network(id).zone == from)
            });
            let elsewhere = rule.id.beside(part.mark.clone());
            restricted.id = if at_home { rule.id.clone() } else { elsewhere };
        }
        Some(restricted)
    });
    Some(RuleList {
        rules: rules.collect(),
        name: part.mark.clone(),
        stage: Stage::ToGateway,
        applies: Some(Applies::ToGateway { from }),
        otherwise: Otherwise::GoOn,
        implied: false,
        covers: part.packets,
    })
}

fn part(
    plan: &Plan,
    from: ZoneId,
    entries: &[Entry],
    destination: &AddressSet,
    to: Endpoint,
) -> Part {
    let from_name = plan.zone(from).name.as_str();
    let entries = entries.iter().cloned().map(|(enters, source)| Match {
        enters: if to == Endpoint::Gateway { enters } else { with_translated(plan, enters) },
        source,
        destination: destination.clone(),
        ..Match::everything()
    });
    let packets: PacketSet = entries.collect();
    Part {
        enters: packets.enters(),
        sources: plan.zone_addresses(from).clone(),
        destination: destination.clone(),
        anyone: [plan.zone_addresses(from).clone(), destination.clone()],
        packets,
        mark: format!("{from_name}>{to}"),
        from: Endpoint::named(from_name),
        to: Some(to),
    }
}

/// The list that takes what no other has: the last rule of those for one kind of traffic.
fn closing(name: &str, stage: Stage, rules: &[Rule], covers: PacketSet) -> RuleList {
    let last = rules.last().filter(|rule| rule.cause == Cause::Unmatched);
    let rules = last.cloned().into_iter().collect();
    let list = RuleList::of_stage(stage, rules, Otherwise::Block, covers);
    RuleList { name: name.to_owned(), ..list }
}
