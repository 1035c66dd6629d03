//! The form `per-interface` for gateways whose lists look at source addresses only. Their lists stand
//! where packets go out, next to the destination; on the way in there is only the truth of sources.

use super::per_interface::named_list;
use super::{Inexpressible, Job, Obstacle, Rule, RuleList, RuleSet, Setting, Stage};
use super::{frame, outer_legs, slice, ways};
use crate::addressing::{link_local, not_global};
use crate::plan::{Action, Form, Plan};
use crate::space::{AddressSet, IntervalSet, Leg, Match, PacketSet, ServiceSet};
use crate::verdict::{Cause, Forgery};

pub(super) fn compile(job: &Job<'_>) -> Result<RuleSet, Vec<Inexpressible>> {
    let plan = job.plan;
    let mut problems: Vec<Inexpressible> = Vec::new();
    let mut lists: Vec<RuleList> = outer_legs(plan).map(|leg| incoming(job, leg)).collect();
    lists.push(unfiltered(frame::for_gateway(plan)));
    for leg in outer_legs(plan) {
        lists.push(outgoing(job, leg, &mut problems));
    }
    problems.extend(
        job.base
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
    lists.push(unfiltered(PacketSet::from(frame::entering(plan.gateway_leg()))));
    let mut rules = job.finish(Form::PerInterface, lists);
    rules.before_translation = true;
    // Where no device can be, nothing answers: a list that counts for a whole interface cannot tell it.
    let answers: AddressSet = outer_legs(plan).map(|leg| devices(plan, leg)).collect();
    let nowhere = Match { destination: answers.complement(), ..Match::everything() };
    rules.unseen = frame::for_gateway(plan).union(&nowhere.into());
    rules.settings.push(Setting::OwnServices);
    Ok(rules)
}

/// On the way in: only what has a true source.
fn incoming(job: &Job<'_>, leg: Leg) -> RuleList {
    let plan = job.plan;
    let truth = |rule: &&Rule| {
        let matches = rule.matches.as_ref();
        matches.is_some_and(|matches| {
            matches.enters.contains(leg)
                && matches.service == ServiceSet::any()
                && matches.destination == AddressSet::full()
        })
    };
    let mut rules: Vec<Rule> = job.base.opening.iter().filter(truth).cloned().collect();
    for rule in &mut rules {
        if let Some(matches) = &mut rule.matches {
            matches.enters = IntervalSet::point(leg);
        }
    }
    let mut list = named_list(plan, leg, false, rules, PacketSet::from(frame::entering(leg)));
    list.otherwise = super::Otherwise::GoOn;
    list
}

/// What may go out by a leg, by where it comes from.
fn outgoing(job: &Job<'_>, leg: Leg, problems: &mut Vec<Inexpressible>) -> RuleList {
    let plan = job.plan;
    let name = plan.leg_name(leg);
    let destination = job.reached_by(leg).clone();
    let devices = devices(plan, leg);
    let mut rules: Vec<Rule> = forged(job, leg, &devices);
    rules.extend(back(job, leg));
    for rule in &job.base.through {
        let Some(matches) = &rule.matches else { continue };
        if matches.destination.is_disjoint(&devices) {
            continue;
        }
        let source = sources(job, matches, leg);
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
        out.id = format!("{}@{name}", rule.id);
        if !all && rule.source == "any" {
            out.source = slice::named(plan, &source);
        }
        out.matches = Some(Match {
            enters: matches.enters.clone(),
            source: if all { AddressSet::full() } else { source },
            destination: destination.clone(),
            service: ServiceSet::any(),
            at: matches.at.clone(),
        });
        rules.push(out);
    }
    let enters: IntervalSet<Leg> = outer_legs(plan).collect();
    let covers = Match { enters, destination, ..Match::everything() };
    let mut list = named_list(plan, leg, true, rules, PacketSet::from(covers));
    list.stage = Stage::Through;
    list
}

/// What counts as forged whatever its service is: no source at all, and from outside to where no address
/// is global.
fn forged(job: &Job<'_>, leg: Leg, devices: &AddressSet) -> Vec<Rule> {
    let plan = job.plan;
    let name = plan.leg_name(leg);
    let private = not_global();
    let uplinks = (0..plan.uplinks().len()).map(|index| plan.uplink_leg(index));
    let outside = uplinks.map(|leg| job.true_sources(leg));
    let mut outside = outside.fold(link_local(), |all, sources| all.union(sources));
    if !devices.v4.is_subset(&private.v4) {
        outside.v4 = IntervalSet::empty();
    }
    if !devices.v6.is_subset(&private.v6) {
        outside.v6 = IntervalSet::empty();
    }
    let mut rules = Vec::new();
    for rule in &job.base.opening {
        let source = match rule.cause {
            Cause::Forged(Forgery::Unspecified, _) => frame::unspecified(),
            Cause::Forged(Forgery::ToPrivate, _) => outside.clone(),
            _ => continue,
        };
        let Some(matches) = &rule.matches else { continue };
        let (enters, destination) = (matches.enters.clone(), job.reached_by(leg).clone());
        let mut forged = Rule { id: format!("{}.{name}", rule.id), ..rule.clone() };
        forged.matches = Some(Match { enters, source, destination, ..Match::everything() });
        rules.push(forged);
    }
    rules.retain(|rule| rule.matches.as_ref().is_some_and(|matches| !matches.source.is_empty()));
    rules
}

/// What devices can have that are reached by a leg.
fn devices(plan: &Plan, leg: Leg) -> AddressSet {
    let Some(id) = plan.network_on(leg) else { return ways::reached_by(plan, leg) };
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

/// The true sources of a rule's packets that can go out by a leg.
fn sources(job: &Job<'_>, matches: &Match, leg: Leg) -> AddressSet {
    let plan = job.plan;
    let mut sources = AddressSet::empty();
    for from in outer_legs(plan).filter(|from| *from != leg || ways::can_turn_round(plan, leg)) {
        if matches.enters.contains(from) {
            sources = sources.union(&job.true_sources(from).intersection(&matches.source));
        }
    }
    sources
}

/// Replies: whoever may be asked from here may send anything here, for the list cannot tell.
fn back(job: &Job<'_>, leg: Leg) -> Vec<Rule> {
    let plan = job.plan;
    let here = job.true_sources(leg);
    let mut rules: Vec<Rule> = Vec::new();
    for rule in job.base.through.iter().filter(|rule| rule.action == Action::Allow) {
        let Some(matches) = &rule.matches else { continue };
        if !matches.enters.contains(leg) || matches.source.is_disjoint(here) {
            continue;
        }
        for to in outer_legs(plan).filter(|to| *to != leg || ways::can_turn_round(plan, leg)) {
            let source = matches.destination.intersection(&devices(plan, to));
            if source.is_empty() {
                continue;
            }
            let mut reply = rule.clone();
            let entry = rule.id.split('@').next().unwrap_or_default();
            reply.id = format!("reply.{entry}@{}>{}", plan.leg_name(to), plan.leg_name(leg));
            reply.name = format!("replies: {}", rule.name);
            reply.reason = "The gateway keeps no state, so replies need a rule".to_owned();
            reply.source = slice::named(plan, &source);
            (reply.from, reply.to) = (rule.to.clone(), rule.from.clone());
            reply.destination = "any".to_owned();
            reply.log = false;
            reply.back = Some(ServiceSet::any());
            reply.matches = Some(Match {
                enters: IntervalSet::point(to),
                source,
                destination: job.reached_by(leg).clone(),
                service: ServiceSet::any(),
                at: matches.at.clone(),
            });
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
