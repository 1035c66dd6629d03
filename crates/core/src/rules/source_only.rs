//! The form `per-interface` for gateways whose lists match source addresses only. Such lists stand where packets
//! leave, next to their destination; on the way in, only the source is verified.

use super::{
    CompileContext, Endpoint, Inexpressible, Matches, Obstacle, Rule, RuleList, RuleSet, Setting,
    Stage,
};
use super::{implicit_traffic, outer_interfaces, reachability, restrict};
use crate::addressing::{link_local, not_global};
use crate::plan::{Action, Form, Plan};
use crate::space::{AddressSet, Interface, IntervalSet, Match, PacketSet, ServiceSet};
use crate::verdict::{Cause, Spoofing};

pub(super) fn compile<'p>(context: &CompileContext<'p>) -> Result<RuleSet<'p>, Vec<Inexpressible>> {
    let plan = context.plan;
    let mut problems: Vec<Inexpressible> = Vec::new();
    let mut lists: Vec<RuleList> =
        outer_interfaces(plan).map(|interface| incoming(context, interface)).collect();
    lists.push(unfiltered(implicit_traffic::for_gateway(plan)));
    for interface in outer_interfaces(plan) {
        lists.push(outgoing(context, interface, &mut problems));
    }
    problems.extend(
        context
            .base
            .begun
            .iter()
            .filter(|rule| rule.cause != Cause::FromGateway)
            .map(|rule| Inexpressible { cause: rule.cause, why: Obstacle::Service }),
    );
    problems.sort_by_key(|problem| (problem.cause, problem.why));
    problems.dedup();
    if !problems.is_empty() {
        return Err(problems);
    }
    lists.push(unfiltered(PacketSet::from(implicit_traffic::entering(plan.gateway_interface()))));
    let mut rules = context.finish(Form::PerInterface, lists);
    rules.before_translation = true;
    // Where no device can be, nothing answers: a list that counts for a whole interface cannot tell it.
    let answers: AddressSet =
        outer_interfaces(plan).map(|interface| devices(plan, interface)).collect();
    let nowhere = Match { destination: answers.complement(), ..Match::everything() };
    rules.unseen = implicit_traffic::for_gateway(plan).union(&nowhere.into());
    rules.settings.push(Setting::OwnServices);
    Ok(rules)
}

/// On the way in: only what has a true source.
fn incoming(context: &CompileContext<'_>, interface: Interface) -> RuleList {
    let plan = context.plan;
    let truth = |rule: &&Rule| {
        let matches = rule.packets();
        matches.is_some_and(|matches| {
            matches.enters.contains(interface)
                && matches.service == ServiceSet::any()
                && matches.destination == AddressSet::full()
        })
    };
    let mut rules: Vec<Rule> = context.base.opening.iter().filter(truth).cloned().collect();
    for rule in &mut rules {
        if let Some(matches) = rule.packets_mut() {
            matches.enters = IntervalSet::point(interface);
        }
    }
    let mut list = RuleList::on_interface(
        plan,
        interface,
        false,
        rules,
        PacketSet::from(implicit_traffic::entering(interface)),
    );
    list.otherwise = super::Otherwise::GoOn;
    list
}

/// What may go out by an interface, by where it comes from.
fn outgoing(
    context: &CompileContext<'_>,
    interface: Interface,
    problems: &mut Vec<Inexpressible>,
) -> RuleList {
    let plan = context.plan;
    let name = plan.interface_name(interface);
    let destination = context.reached_by(interface).clone();
    let devices = devices(plan, interface);
    let mut rules: Vec<Rule> = spoofed(context, interface, &devices);
    rules.extend(back(context, interface));
    for rule in &context.base.through {
        let Some(matches) = rule.packets() else { continue };
        if matches.destination.is_disjoint(&devices) {
            continue;
        }
        let source = sources(context, matches, interface);
        if source.is_empty() {
            continue;
        }
        let any = ServiceSet::any().for_families_of(&devices).for_families_of(&source);
        let whole = common_families(&devices, &source).is_subset(&matches.destination);
        let why = match (any.is_subset(&matches.service), whole) {
            (false, _) => Some(Obstacle::Service),
            (true, false) => Some(Obstacle::Destination),
            (true, true) => None,
        };
        if let Some(why) = why {
            problems.push(Inexpressible { cause: rule.cause, why });
            continue;
        }
        let all = matches.source == AddressSet::full() && rule.cause == Cause::Unmatched;
        let mut out = rule.clone();
        out.id = rule.id.in_list(name);
        if !all && rule.source == Endpoint::Any {
            out.source = restrict::named(plan, &source);
        }
        out.matches = Matches::First(Match {
            enters: matches.enters.clone(),
            source: if all { AddressSet::full() } else { source },
            destination: destination.clone(),
            service: ServiceSet::any(),
            at: matches.at.clone(),
        });
        rules.push(out);
    }
    let enters: IntervalSet<Interface> = outer_interfaces(plan).collect();
    let covers = Match { enters, destination, ..Match::everything() };
    let mut list = RuleList::on_interface(plan, interface, true, rules, PacketSet::from(covers));
    list.stage = Stage::Through;
    list
}

/// What counts as spoofed whatever its service is: no source at all, and from outside to where no address
/// is global.
fn spoofed(context: &CompileContext<'_>, interface: Interface, devices: &AddressSet) -> Vec<Rule> {
    let plan = context.plan;
    let name = plan.interface_name(interface);
    let private = not_global();
    let uplinks = (0..plan.uplinks().len()).map(|index| plan.uplink_interface(index));
    let outside = uplinks.map(|interface| context.true_sources(interface));
    let mut outside = outside.fold(link_local(), |all, sources| all.union(sources));
    if !devices.v4.is_subset(&private.v4) {
        outside.v4 = IntervalSet::empty();
    }
    if !devices.v6.is_subset(&private.v6) {
        outside.v6 = IntervalSet::empty();
    }
    let mut rules = Vec::new();
    for rule in &context.base.opening {
        let source = match rule.cause {
            Cause::Spoofed(Spoofing::Unspecified, _) => implicit_traffic::unspecified(),
            Cause::Spoofed(Spoofing::ToPrivate, _) => outside.clone(),
            _ => continue,
        };
        let Some(matches) = rule.packets() else { continue };
        let (enters, destination) = (matches.enters.clone(), context.reached_by(interface).clone());
        let mut spoofed = Rule { id: rule.id.narrowed(&format!(".{name}")), ..rule.clone() };
        let packets = Match { enters, source, destination, ..Match::everything() };
        spoofed.matches = Matches::First(packets);
        rules.push(spoofed);
    }
    rules.retain(|rule| rule.packets().is_some_and(|matches| !matches.source.is_empty()));
    rules
}

/// What devices can have that are reached by an interface.
fn devices(plan: &Plan, interface: Interface) -> AddressSet {
    let Some(id) = plan.network_on(interface) else {
        return reachability::reached_by(plan, interface);
    };
    let behind = plan.routes().iter().filter(|route| route.network == id);
    behind.fold(plan.network_addresses(id).clone(), |all, route| all.union(&route.devices))
}

/// The addresses, in the families that the others have too.
fn common_families(addresses: &AddressSet, others: &AddressSet) -> AddressSet {
    let mut common = addresses.clone();
    if others.v4.is_empty() {
        common.v4 = IntervalSet::empty();
    }
    if others.v6.is_empty() {
        common.v6 = IntervalSet::empty();
    }
    common
}

/// The true sources of a rule's packets that can go out by an interface.
fn sources(context: &CompileContext<'_>, matches: &Match, interface: Interface) -> AddressSet {
    let plan = context.plan;
    let mut sources = AddressSet::empty();
    for from in outer_interfaces(plan)
        .filter(|from| *from != interface || reachability::can_turn_round(plan, interface))
    {
        if matches.enters.contains(from) {
            sources = sources.union(&context.true_sources(from).intersection(&matches.source));
        }
    }
    sources
}

/// Replies: hosts that may be asked from here may send anything here, for the list cannot tell.
fn back(context: &CompileContext<'_>, interface: Interface) -> Vec<Rule> {
    let plan = context.plan;
    let here = context.true_sources(interface);
    let mut rules: Vec<Rule> = Vec::new();
    for rule in context.base.through.iter().filter(|rule| rule.action == Action::Allow) {
        let Some(matches) = rule.packets() else { continue };
        if !matches.enters.contains(interface) || matches.source.is_disjoint(here) {
            continue;
        }
        for to in outer_interfaces(plan)
            .filter(|to| *to != interface || reachability::can_turn_round(plan, interface))
        {
            let source = matches.destination.intersection(&devices(plan, to));
            if source.is_empty() {
                continue;
            }
            let mut reply = rule.clone();
            let list = format!("{}>{}", plan.interface_name(to), plan.interface_name(interface));
            reply.id = rule.id.for_replies(list);
            reply.name = format!("replies: {}", rule.name);
            reply.reason = "The gateway is stateless, so replies need a rule".to_owned();
            reply.source = restrict::named(plan, &source);
            (reply.from, reply.to) = (rule.to.clone(), rule.from.clone());
            reply.destination = Endpoint::Any;
            reply.log = false;
            let packets = Match {
                enters: IntervalSet::point(to),
                source,
                destination: context.reached_by(interface).clone(),
                service: ServiceSet::any(),
                at: matches.at.clone(),
            };
            reply.matches = Matches::Replies { packets, from: ServiceSet::any() };
            rules.push(reply);
        }
    }
    rules
}

/// What passes no list at all.
fn unfiltered(covers: PacketSet) -> RuleList {
    let mut list =
        RuleList::of_stage(Stage::ToGateway, Vec::new(), super::Otherwise::Allow, covers);
    list.implied = true;
    list
}
