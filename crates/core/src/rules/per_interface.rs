//! The form `per-interface`: for each interface one list for what comes in there, without state, closest
//! to the source. Replies, ICMP errors and what networks need of the gateway stand in the same list. It
//! sees what asks for an offered service before that is translated.

use super::restrict::{Part, named};
use super::{CompileContext, Endpoint, Matches, Rule, RuleList, RuleSet, Setting, Translation};
use super::{implicit_traffic, outer_interfaces, outgoing, reachability, replies};
use crate::addressing::link_local;
use crate::plan::{Form, Plan};
use crate::space::{AddressSet, Interface, IntervalSet, Match, PacketSet, ServiceSet};
use crate::verdict::{Cause, Spoofing};

pub(super) fn compile<'p>(context: &CompileContext<'p>) -> RuleSet<'p> {
    let plan = context.plan;
    let mut lists: Vec<RuleList> =
        outer_interfaces(plan).map(|interface| incoming(context, interface)).collect();
    lists.extend(outgoing::lists(context));
    let mut rules = context.finish(Form::PerInterface, lists);
    rules.before_translation = true;
    rules.unseen = PacketSet::from(outgoing::leaves_nowhere(plan));
    rules.settings.push(Setting::OwnPorts);
    rules
}

/// The list for what comes in on an interface.
fn incoming(context: &CompileContext<'_>, interface: Interface) -> RuleList {
    let plan = context.plan;
    let here = Here::new(context, interface);
    let mut rules = here.spoofed(context);
    // What is for the gateway is decided first: then no list that lets replies through to a whole network lets
    // them through to the gateway's own address there.
    let (own, through) = here.replies(context);
    rules.extend(own);
    rules.extend(here.offered(context));
    rules.extend(here.to_gateway(context));
    rules.extend(through);
    rules.extend(here.through(context));
    RuleList::on_interface(
        plan,
        interface,
        false,
        rules,
        PacketSet::from(implicit_traffic::entering(interface)),
    )
}

/// Rules of one interface whose ids already say so, or that exist once for each interface anyway.
fn named_after_interface(rule: &Rule) -> bool {
    matches!(
        rule.cause,
        Cause::GatewayService(_) | Cause::Discovery(_) | Cause::Spoofed(Spoofing::Source, _)
    )
}

struct Here<'p> {
    plan: &'p Plan,
    interface: Interface,
    part: Part,
}

impl<'p> Here<'p> {
    fn new(context: &CompileContext<'p>, interface: Interface) -> Self {
        let plan = context.plan;
        let zones = plan.zone_ids().filter(|zone| {
            reachability::entries(plan, *zone)
                .iter()
                .any(|(interfaces, _)| interfaces.contains(interface))
        });
        let from = zones.map(|zone| plan.zone(zone).name.to_string()).collect();
        let part = Part {
            enters: IntervalSet::point(interface),
            sources: context.true_sources(interface).clone(),
            destination: AddressSet::full(),
            anyone: [context.true_sources(interface).clone(), AddressSet::full()],
            packets: PacketSet::from(implicit_traffic::entering(interface)),
            mark: plan.interface_name(interface).to_owned(),
            from: Endpoint::Named(from),
            to: None,
        };
        Self { plan, interface, part }
    }

    /// A rule as it stands here, with the id that it has already where that names the interface.
    fn restrict(&self, context: &CompileContext<'_>, rule: &Rule) -> Option<Rule> {
        let mut restricted = self.part.restrict(self.plan, &context.base, rule)?;
        if named_after_interface(rule) {
            restricted.id.clone_from(&rule.id);
        }
        Some(restricted)
    }

    fn spoofed(&self, context: &CompileContext<'_>) -> Vec<Rule> {
        let here = |rule: &&Rule| {
            rule.packets().is_some_and(|matches| matches.enters.contains(self.interface))
        };
        let rules = context.base.opening.iter().filter(here).map(|rule| {
            let mut restricted = rule.clone();
            if !named_after_interface(rule) {
                restricted.id = rule.id.narrowed(&format!(".{}", self.part.mark));
            }
            if let Some(matches) = restricted.packets_mut() {
                matches.enters = IntervalSet::point(self.interface);
            }
            restricted
        });
        rules.collect()
    }

    /// What lets replies back: to addresses of the gateway's own, which stand for others outside, and to everything
    /// else.
    fn replies(&self, context: &CompileContext<'_>) -> (Vec<Rule>, Vec<Rule>) {
        let gateway = implicit_traffic::gateway_at(self.plan, self.interface);
        let (mut own, mut through) = (Vec::new(), Vec::new());
        for rule in replies::back_to(context, self.interface) {
            let destination = rule.packets().map(|m| m.destination.clone());
            let destination = destination.unwrap_or_default();
            if destination == AddressSet::full() || destination.is_subset(&gateway) {
                own.push(rule);
                continue;
            }
            let to = |destination: AddressSet| {
                let mut part = rule.clone();
                part.destination = named(self.plan, &destination);
                if let Some(matches) = part.packets_mut() {
                    matches.destination = destination;
                }
                part
            };
            if !destination.is_disjoint(&gateway) {
                let mut part = to(destination.intersection(&gateway));
                part.id = part.id.narrowed(">gateway");
                own.push(part);
            }
            through.push(to(destination.difference(&gateway)));
        }
        (own, through)
    }

    fn to_gateway(&self, context: &CompileContext<'_>) -> Vec<Rule> {
        let own = implicit_traffic::gateway_at(self.plan, self.interface);
        // Devices on the link speak to the gateway with link-local addresses, too.
        let sources = self.part.sources.union(&link_local());
        let here = Here { part: Part { sources, ..self.part.clone() }, ..*self };
        let rules = context.base.to_gateway.iter().filter_map(|rule| {
            // What comes without an address of its own asks the gateway, too.
            let any = rule.packets()?.source == AddressSet::full();
            let mut restricted =
                if any { self.whole(rule)? } else { here.restrict(context, rule)? };
            restricted.to = Endpoint::Gateway;
            let matches = restricted.packets_mut()?;
            matches.destination = matches.destination.intersection(&own);
            (!matches.destination.is_empty()).then_some(restricted)
        });
        rules.collect()
    }

    fn through(&self, context: &CompileContext<'_>) -> Vec<Rule> {
        let rules = context.base.through.iter().filter_map(|rule| match rule.cause {
            Cause::Cell(..) | Cause::Unmatched => self.whole(rule),
            _ => self.restrict(context, rule),
        });
        self.part.alive(&context.base, rules.collect())
    }

    /// A rule for whatever enters here; `None` where it is for others.
    fn whole(&self, rule: &Rule) -> Option<Rule> {
        let mut restricted = rule.clone();
        let matches = restricted.packets_mut()?;
        matches.enters = matches.enters.intersection(&self.part.enters);
        if matches.enters.is_empty() {
            return None;
        }
        if !named_after_interface(rule) {
            restricted.id = match rule.cause {
                Cause::Unmatched => rule.id.beside(self.part.mark.clone()),
                _ => self.part.id(&rule.id),
            };
        }
        Some(restricted)
    }

    /// What decides packets for offered services, as they are before translation.
    fn offered(&self, context: &CompileContext<'_>) -> Vec<Rule> {
        let mut rules = Vec::new();
        for (_, inbound) in super::translations(self.plan, context.day) {
            let Some(translation) = reachability::translation(self.plan, inbound) else { continue };
            let takes = &translation.takes;
            let sources = takes.source.intersection(&self.part.sources);
            if sources.is_empty() {
                continue;
            }
            for rule in &context.base.through {
                let Some(outside) = self.outside(&translation, rule) else { continue };
                if outside.packets().is_some_and(|m| m.source.is_disjoint(&sources)) {
                    continue;
                }
                let last = outside.packets().is_some_and(|matches| {
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
        let matches = rule.packets()?;
        let inside = &translation.inside();
        let service = matches.service.v4.intersection(&inside.v4);
        let enters = self.plan.translated_interface(self.interface);
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
            _ => self.part.id(&rule.id).beside(entry),
        };
        outside.from.clone_from(&self.part.from);
        outside.destination =
            Endpoint::expression(self.plan.set_words(&takes.destination).join(", "));
        let service = ServiceSet { v4: translation.outward(&service), ..ServiceSet::empty() };
        outside.ports = service.v4_words();
        outside.service = outside.ports.join(", ");
        outside.matches = Matches::First(Match {
            enters: IntervalSet::point(self.interface),
            source: AddressSet { v4: source, ..AddressSet::empty() },
            destination: takes.destination.clone(),
            service,
            at: matches.at.clone(),
        });
        if !matches!(rule.cause, Cause::Offered(_)) {
            let v4 = outside.packets().map(|m| m.source.clone()).unwrap_or_default();
            if outside.source != Endpoint::Any {
                outside.source = named(self.plan, &v4);
            }
        }
        Some(outside)
    }
}
