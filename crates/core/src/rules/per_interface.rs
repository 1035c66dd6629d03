//! The form `per-interface`: for each interface one list for what comes in there, without state, closest
//! to the source. Replies, ICMP errors and what networks need of the gateway stand in the same list. It
//! sees what asks for an offered service before that is translated.

use super::slice::{Part, named};
use super::{Applies, Job, Otherwise, Rule, RuleList, RuleSet, Setting, Stage, Translation};
use super::{frame, outer_legs, outgoing, replies, ways};
use crate::addressing::link_local;
use crate::plan::{Form, Plan};
use crate::space::{AddressSet, IntervalSet, Leg, Match, PacketSet, ServiceSet};
use crate::verdict::Cause;

pub(super) fn compile(job: &Job<'_>) -> RuleSet {
    let plan = job.plan;
    let mut lists: Vec<RuleList> = outer_legs(plan).map(|leg| incoming(job, leg)).collect();
    lists.extend(outgoing::lists(job));
    let mut rules = job.finish(Form::PerInterface, lists);
    rules.before_translation = true;
    rules.unseen = PacketSet::from(outgoing::leaves_nowhere(plan));
    rules.settings.push(Setting::OwnPorts);
    rules
}

/// The list for what comes in on a leg.
fn incoming(job: &Job<'_>, leg: Leg) -> RuleList {
    let plan = job.plan;
    let here = Here::new(job, leg);
    let mut rules = here.forged(job);
    // What is for the gateway is decided first: then no list that lets replies through to a whole network lets
    // them through to the gateway's own address there.
    let (own, through) = here.replies(job);
    rules.extend(own);
    rules.extend(here.offered(job));
    rules.extend(here.to_gateway(job));
    rules.extend(through);
    rules.extend(here.through(job));
    named_list(plan, leg, false, rules, PacketSet::from(frame::entering(leg)))
}

/// A list of an interface, by its network's or uplink's name.
pub(super) fn named_list(
    plan: &Plan,
    leg: Leg,
    out: bool,
    rules: Vec<Rule>,
    covers: PacketSet,
) -> RuleList {
    RuleList {
        name: format!("{} {}", plan.leg_name(leg), if out { "out" } else { "in" }),
        stage: if out { Stage::FromGateway } else { Stage::Interface },
        applies: Some(Applies::Interface { leg, out }),
        rules,
        otherwise: Otherwise::Block,
        implied: false,
        covers,
    }
}

/// Rules of one leg whose ids already say so, or that exist once for each leg anyway.
fn named_after_leg(rule: &Rule) -> bool {
    match rule.cause {
        Cause::GatewayService(_) | Cause::Discovery(_) => true,
        Cause::Forged(..) => rule.id.starts_with("forged.") || rule.id.contains("uplink."),
        _ => false,
    }
}

struct Here<'p> {
    plan: &'p Plan,
    leg: Leg,
    part: Part,
}

impl<'p> Here<'p> {
    fn new(job: &Job<'p>, leg: Leg) -> Self {
        let plan = job.plan;
        let zones = plan
            .zone_ids()
            .filter(|zone| ways::entries(plan, *zone).iter().any(|(legs, _)| legs.contains(leg)));
        let from: Vec<&str> = zones.map(|zone| plan.zone(zone).name.as_str()).collect();
        let part = Part {
            enters: IntervalSet::point(leg),
            sources: job.true_sources(leg).clone(),
            destination: AddressSet::full(),
            anyone: [job.true_sources(leg).clone(), AddressSet::full()],
            packets: PacketSet::from(frame::entering(leg)),
            mark: plan.leg_name(leg).to_owned(),
            from: from.join(" + "),
            to: None,
        };
        Self { plan, leg, part }
    }

    /// A rule as it stands here, with the id that it has already where that names the leg.
    fn slice(&self, job: &Job<'_>, rule: &Rule) -> Option<Rule> {
        let mut slice = self.part.slice(self.plan, &job.base, rule)?;
        if named_after_leg(rule) {
            slice.id.clone_from(&rule.id);
        }
        Some(slice)
    }

    fn forged(&self, job: &Job<'_>) -> Vec<Rule> {
        let here = |rule: &&Rule| {
            rule.matches.as_ref().is_some_and(|matches| matches.enters.contains(self.leg))
        };
        let rules = job.base.opening.iter().filter(here).map(|rule| {
            let mut slice = rule.clone();
            if !named_after_leg(rule) {
                slice.id = format!("{}.{}", rule.id, self.part.mark);
            }
            if let Some(matches) = &mut slice.matches {
                matches.enters = IntervalSet::point(self.leg);
            }
            slice
        });
        rules.collect()
    }

    /// What lets replies back: to addresses of the gateway's own, which stand for others outside, and to everything
    /// else.
    fn replies(&self, job: &Job<'_>) -> (Vec<Rule>, Vec<Rule>) {
        let gateway = frame::gateway_at(self.plan, self.leg);
        let (mut own, mut through) = (Vec::new(), Vec::new());
        for rule in replies::back_to(job, self.leg) {
            let destination = rule.matches.as_ref().map(|m| m.destination.clone());
            let destination = destination.unwrap_or_default();
            if destination == AddressSet::full() || destination.is_subset(&gateway) {
                own.push(rule);
                continue;
            }
            let to = |destination: AddressSet| {
                let mut part = rule.clone();
                part.destination = named(self.plan, &destination);
                if let Some(matches) = &mut part.matches {
                    matches.destination = destination;
                }
                part
            };
            if !destination.is_disjoint(&gateway) {
                let mut part = to(destination.intersection(&gateway));
                part.id = format!("{}>gateway", part.id);
                own.push(part);
            }
            through.push(to(destination.difference(&gateway)));
        }
        (own, through)
    }

    fn to_gateway(&self, job: &Job<'_>) -> Vec<Rule> {
        let own = frame::gateway_at(self.plan, self.leg);
        // Whoever stands on the link speaks to the gateway with a link-local address, too.
        let sources = self.part.sources.union(&link_local());
        let here = Here { part: Part { sources, ..self.part.clone() }, ..*self };
        let rules = job.base.to_gateway.iter().filter_map(|rule| {
            // What comes without an address of its own asks the gateway, too.
            let any = rule.matches.as_ref()?.source == AddressSet::full();
            let mut slice = if any { self.whole(rule)? } else { here.slice(job, rule)? };
            slice.to = "gateway".to_owned();
            let matches = slice.matches.as_mut()?;
            matches.destination = matches.destination.intersection(&own);
            (!matches.destination.is_empty()).then_some(slice)
        });
        rules.collect()
    }

    fn through(&self, job: &Job<'_>) -> Vec<Rule> {
        let rules = job.base.through.iter().filter_map(|rule| match rule.cause {
            Cause::Cell(..) | Cause::Unmatched => self.whole(rule),
            _ => self.slice(job, rule),
        });
        self.part.alive(&job.base, rules.collect())
    }

    /// A rule for whatever enters here; `None` where it is for others.
    fn whole(&self, rule: &Rule) -> Option<Rule> {
        let mut slice = rule.clone();
        let matches = slice.matches.as_mut()?;
        matches.enters = matches.enters.intersection(&self.part.enters);
        if matches.enters.is_empty() {
            return None;
        }
        if !named_after_leg(rule) {
            slice.id = match rule.cause {
                Cause::Unmatched => format!("{}@{}", rule.id, self.part.mark),
                _ => self.part.id(&rule.id),
            };
        }
        Some(slice)
    }

    /// What decides packets for offered services, as they are before translation.
    fn offered(&self, job: &Job<'_>) -> Vec<Rule> {
        let mut rules = Vec::new();
        for (_, inbound) in super::translations(self.plan, job.day) {
            let Some(translation) = ways::translation(self.plan, inbound) else { continue };
            let takes = &translation.takes;
            let sources = takes.source.intersection(&self.part.sources);
            if sources.is_empty() {
                continue;
            }
            for rule in &job.base.through {
                let Some(outside) = self.outside(&translation, rule) else { continue };
                if outside.matches.as_ref().is_some_and(|m| m.source.is_disjoint(&sources)) {
                    continue;
                }
                let last = outside.matches.as_ref().is_some_and(|matches| {
                    takes.source.is_subset(&matches.source)
                        && takes.service.is_subset(&matches.service)
                        && matches.at.is_full()
                });
                rules.push(outside);
                if last {
                    break;
                }
            }
        }
        rules
    }

    /// A rule for translated packets, as it is for these before translation.
    fn outside(&self, translation: &Translation, rule: &Rule) -> Option<Rule> {
        let matches = rule.matches.as_ref()?;
        let inside = &translation.inside();
        let service = matches.service.v4.intersection(&inside.v4);
        let enters = self.plan.translated_leg(self.leg);
        if !matches.enters.contains(enters)
            || !matches.destination.contains(translation.target)
            || service.is_empty()
        {
            return None;
        }
        let takes = &translation.takes;
        let source = matches.source.v4.intersection(&takes.source.v4);
        let mut outside = rule.clone();
        let entry = translation.id.trim_start_matches("translate.");
        outside.id = match rule.cause {
            Cause::Offered(_) => self.part.id(&rule.id),
            _ => format!("{}@{entry}", self.part.id(&rule.id)),
        };
        outside.from.clone_from(&self.part.from);
        outside.destination = self.plan.set_words(&takes.destination).join(", ");
        let service = ServiceSet { v4: translation.outward(&service), ..ServiceSet::empty() };
        outside.ports = service.v4_words();
        outside.service = outside.ports.join(", ");
        outside.matches = Some(Match {
            enters: IntervalSet::point(self.leg),
            source: AddressSet { v4: source, ..AddressSet::empty() },
            destination: takes.destination.clone(),
            service,
            at: matches.at.clone(),
        });
        if !matches!(rule.cause, Cause::Offered(_)) {
            let v4 = outside.matches.as_ref().map(|m| m.source.clone()).unwrap_or_default();
            if outside.source != "any" {
                outside.source = named(self.plan, &v4);
            }
        }
        Some(outside)
    }
}
