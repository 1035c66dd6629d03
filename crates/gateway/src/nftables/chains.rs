//! Turns rule lists into chains, and dispatches packets to them.

use super::addresses::{
    Known, behind_broadcasts, broadcasts, elements, in_families_of, of_family, to_all_v4,
    unspecified,
};
use super::matching::{ListContext, tcp_apart};
use super::onward::{Chains, Onward, Pairs};
use super::tag::{self, tag};
use super::test::{Chain, End, Entry, Line, Test, Then};
use super::{WriteContext, bytes_per_second, translation};
use bastium_core::addressing::link_local;
use bastium_core::plan::{Action, Plan};
use bastium_core::rules::{Applies, Otherwise, Rule, RuleList, Stage};
use bastium_core::space::{AddressSet, Family, Interface, IntervalSet, Match};
use bastium_core::verdict::{Cause, Spoofing};
use std::collections::HashMap;

/// The chains of all lists.
pub(super) fn all(context: &WriteContext<'_>) -> Chains {
    Writer { context, known: Known::of(context.plan), marks: context.marks() }.all()
}

struct Writer<'d, 'p> {
    context: &'d WriteContext<'p>,
    known: Known,
    marks: HashMap<String, u32>,
}

impl Writer<'_, '_> {
    fn all(&self) -> Chains {
        let lists = &self.context.rules.lists;
        let mut pass = Pairs::default();
        let mut gate = Vec::new();
        let (mut leads_through, mut leads_to_gateway) = (Vec::new(), Vec::new());
        let (mut through_last, mut gateway_last) = (Vec::new(), Vec::new());
        let mut chains = Vec::new();
        // Where the gateway may begin whatever it likes, nothing is asked about it.
        let asked = |list: &&RuleList| list.stage != Stage::FromGateway || !list.rules.is_empty();
        for list in lists.iter().filter(asked) {
            let lead = match list.otherwise {
                Otherwise::GoOn => Then::Jump(chain_name(self.context.plan, list)),
                _ => Then::Goto(chain_name(self.context.plan, list)),
            };
            match (list.stage, list.applies) {
                (_, Some(Applies::Pair { .. })) => {
                    leads_through.extend(self.pass(list, &lead, &mut pass));
                }
                (_, Some(Applies::ToGateway { .. })) => {
                    leads_to_gateway.extend(self.gate(list, &lead, &mut gate));
                }
                (Stage::Through, _) => through_last.push(Line::lead(vec![], lead)),
                (Stage::ToGateway, _) => gateway_last.push(Line::lead(vec![], lead)),
                _ => {}
            }
            chains.push(self.chain(list));
        }
        let onward = pass.together();
        let forward = self.forward(leads_through, !onward.is_empty(), through_last);
        let input = self.input(leads_to_gateway, !gate.is_empty(), gateway_last);
        let output = self.output();
        let mut all = vec![input, forward, output];
        all.extend(translation::chains(self.context, &self.known));
        all.extend(onward.iter().map(Onward::chain));
        all.extend(chains);
        Chains { chains: all, onward, gate, limits: self.limits() }
    }

    /// The chain of a list.
    fn chain(&self, list: &RuleList) -> Chain {
        let context = self.list_context(list);
        let mut entries = Vec::new();
        for rule in &list.rules {
            let lines = self.rule(rule, &context);
            if lines.is_empty() {
                continue;
            }
            entries.push(Entry::Remark(remark(rule)));
            entries.extend(lines.into_iter().map(Entry::Line));
        }
        let about = match list.applies {
            Some(Applies::Pair { .. }) => format!("passed on, {}", list.name.replace('>', " to ")),
            Some(Applies::ToGateway { .. }) => list.name.replace(">gateway", " to the gateway"),
            _ => list.stage.about().to_owned(),
        };
        Chain { name: chain_name(self.context.plan, list), about, hook: None, entries }
    }

    /// What can come to a list's chain.
    fn list_context(&self, list: &RuleList) -> ListContext {
        let around = &self.context.surroundings;
        let packets = list.packets();
        let enters = packets.enters();
        let here = |interface: &Interface| enters.contains(*interface);
        let interfaces: Vec<Interface> = around.interfaces().filter(here).collect();
        let index = |interface: &Interface| usize::from(interface.0);
        let stays = link_local().union(&unspecified());
        let sources = around.sources.iter();
        let (sources, destinations) = match list.stage {
            Stage::Opening => (sources.map(|_| AddressSet::full()).collect(), AddressSet::full()),
            Stage::ToGateway => {
                let gateway =
                    interfaces.iter().map(|interface| around.gateway[index(interface)].clone());
                (sources.cloned().collect(), gateway.collect())
            }
            Stage::Through | Stage::Interface | Stage::Whole => {
                let to: AddressSet = packets.products().map(|p| p.destination).collect();
                let reached: AddressSet = around.reached.iter().cloned().collect();
                let to = to.intersection(&reached);
                // What only goes outward has no source that is of use inside alone.
                let local = around.no_route.get(2).filter(|gone| to.is_subset(&gone.destination));
                let gone = local.map_or(stays.clone(), |gone| stays.union(&gone.source));
                (sources.map(|s| s.difference(&gone)).collect(), to)
            }
            Stage::FromGateway => (vec![AddressSet::full()], AddressSet::full()),
        };
        ListContext { enters, sources, destinations }
    }

    /// The lines of a rule.
    fn rule(&self, rule: &Rule, context: &ListContext) -> Vec<Line> {
        let tag = tag(&rule.id.to_string());
        let mark = rule.limit_mbps.and_then(|_| self.mark(rule));
        let line = |tests: Vec<Test>, then: Then| Line {
            tests,
            counts: true,
            log: rule.log,
            mark,
            then,
            tag: tag.clone(),
            service: rule.service.clone(),
        };
        let Some(matches) = rule.first_packets() else {
            return vec![
                line(vec![Test::State("established,related")], Then::Accept),
                Line::own(vec![Test::State("invalid")], Then::Drop, tag::NO_CONVERSATION),
            ];
        };
        let lines = |product: &Match| self.context.lines(&self.known, product, context);
        if rule.cause == Cause::Unmatched {
            // It takes the rest, be it what the plan knows nothing of.
            return match rule.action {
                Action::Reject => {
                    vec![line(vec![tcp()], Then::Reset), line(vec![], Then::Refuse)]
                }
                action => vec![line(vec![], plain(action))],
            };
        }
        if rule.action == Action::Reject {
            let [tcp_part, rest] = tcp_apart(matches);
            let (tcp_part, rest) = (lines(&tcp_part), lines(&rest));
            let resets = tcp_part.into_iter().map(|tests| line(tests, Then::Reset));
            return resets.chain(rest.into_iter().map(|tests| line(tests, Then::Refuse))).collect();
        }
        let mut lines: Vec<Line> =
            lines(matches).into_iter().map(|tests| line(tests, plain(rule.action))).collect();
        if matches!(rule.cause, Cause::Spoofed(Spoofing::ToPrivate, _)) && self.translates() {
            // Only in IPv4 is anything translated.
            let v4 = |line: &&mut Line| line.tests.iter().any(|t| t.family() == Some(Family::V4));
            for line in lines.iter_mut().filter(v4) {
                line.tests.push(Test::Translated(false));
            }
        }
        lines
    }

    fn translates(&self) -> bool {
        !self.context.rules.translations.is_empty()
    }

    fn mark(&self, rule: &Rule) -> Option<u32> {
        let exception = self.context.plan.exception(rule.cause.exception()?);
        self.marks.get(exception.name.as_str()).copied()
    }

    fn limits(&self) -> Vec<(String, u64)> {
        let limited = self.limited().into_iter();
        limited.map(|(name, mbps, _)| (name, bytes_per_second(mbps))).collect()
    }

    /// The exceptions of the lists that have a limit: the limit's name, megabits a second, the mark.
    fn limited(&self) -> Vec<(String, f64, u32)> {
        let mut limits: Vec<(String, f64, u32)> = Vec::new();
        for rule in self.context.rules.lists.iter().flat_map(|list| &list.rules) {
            let Some((mbps, id)) = rule.limit_mbps.zip(rule.cause.exception()) else { continue };
            let name = format!("limit_{}", self.context.plan.exception(id).name);
            let Some(mark) = self.mark(rule) else { continue };
            if limits.iter().all(|(known, ..)| *known != name) {
                limits.push((name, mbps, mark));
            }
        }
        limits
    }

    /// What leads to the chain of a pair of zones: pairs of interfaces, and lines where interfaces alone
    /// do not tell.
    fn pass(&self, list: &RuleList, lead: &Then, pairs: &mut Pairs) -> Vec<Line> {
        let around = &self.context.surroundings;
        let stays = link_local().union(&unspecified());
        let zone = match list.applies {
            Some(Applies::Pair { from, .. }) => self.context.plan.zone(from).name.as_str(),
            _ => "any",
        };
        let mut lines = Vec::new();
        for (product, interface) in self.entries(list) {
            let sources = around.sources[usize::from(interface.0)].difference(&stays);
            for out in around.interfaces() {
                // In a family that one of the two has not, nothing passes.
                let reached = &around.reached[usize::from(out.0)];
                if product.destination.is_disjoint(reached) {
                    continue;
                }
                let sources = in_families_of(&sources, reached);
                let reached = &in_families_of(reached, &sources);
                let destination = product.destination.intersection(reached);
                let wanted = in_families_of(&product.source.intersection(&sources), &destination);
                if destination.is_empty() || wanted.is_empty() {
                    continue;
                }
                let names = [interface, out]
                    .map(|interface| self.context.interfaces[usize::from(interface.0)].clone());
                let [from, to] = names;
                if sources.is_subset(&product.source) && reached.is_subset(&destination) {
                    pairs.insert(zone, &from, &to, lead);
                    continue;
                }
                let context = self.only(interface, &sources, reached.clone());
                let product =
                    Match { destination, enters: IntervalSet::point(interface), ..product.clone() };
                for mut tests in self.context.lines(&self.known, &product, &context) {
                    tests.splice(0..0, [Test::In(vec![from.clone()]), Test::Out(vec![to.clone()])]);
                    lines.push(Line::lead(tests, lead.clone()));
                }
            }
        }
        lines
    }

    /// The same for the chain from a zone to the gateway.
    fn gate(&self, list: &RuleList, lead: &Then, map: &mut Vec<(String, Then)>) -> Vec<Line> {
        let around = &self.context.surroundings;
        let mut lines = Vec::new();
        for (product, interface) in self.entries(list) {
            let from = self.context.interfaces[usize::from(interface.0)].clone();
            let sources = &around.sources[usize::from(interface.0)];
            if sources.is_subset(&product.source) {
                if !map.iter().any(|(known, _)| *known == from) {
                    map.push((from, lead.clone()));
                }
                continue;
            }
            let context = self.only(interface, sources, AddressSet::full());
            let product = Match {
                destination: AddressSet::full(),
                enters: IntervalSet::point(interface),
                ..product.clone()
            };
            for mut tests in self.context.lines(&self.known, &product, &context) {
                tests.insert(0, Test::In(vec![from.clone()]));
                lines.push(Line::lead(tests, lead.clone()));
            }
        }
        lines
    }

    fn only(
        &self,
        interface: Interface,
        sources: &AddressSet,
        destinations: AddressSet,
    ) -> ListContext {
        let mut all = vec![AddressSet::empty(); self.context.interfaces.len()];
        all[usize::from(interface.0)] = sources.clone();
        ListContext { enters: IntervalSet::point(interface), sources: all, destinations }
    }

    /// The products of a list's packets, interface by interface, each said once.
    fn entries(&self, list: &RuleList) -> Vec<(Match, Interface)> {
        let mut entries: Vec<(Match, Interface)> = Vec::new();
        for product in list.packets().products() {
            for interface in self
                .context
                .surroundings
                .interfaces()
                .filter(|interface| product.enters.contains(*interface))
            {
                let same = |(known, at): &&mut (Match, Interface)| {
                    *at == interface && known.source == product.source
                };
                match entries.iter_mut().find(same) {
                    Some((known, _)) => {
                        known.destination = known.destination.union(&product.destination);
                    }
                    None => entries.push((product.clone(), interface)),
                }
            }
        }
        // Products are of one family each; what is whole in both counts as whole.
        let mut joined: Vec<(Match, Interface)> = Vec::new();
        for (product, interface) in entries {
            let other = |(known, at): &&mut (Match, Interface)| {
                *at == interface && known.source.v4.is_empty() != product.source.v4.is_empty()
            };
            match joined.iter_mut().find(other) {
                Some((known, _)) => {
                    known.source = known.source.union(&product.source);
                    known.destination = known.destination.union(&product.destination);
                    known.service = known.service.union(&product.service);
                }
                None => joined.push((product, interface)),
            }
        }
        joined
    }

    fn input(&self, leads: Vec<Line>, mapped: bool, last: Vec<Line>) -> Chain {
        let lo = Line::lead(vec![Test::In(vec!["lo".to_owned()])], Then::Accept);
        let mut entries = vec![Entry::Line(lo)];
        let to_all = Test::Address {
            end: End::Destination,
            family: Family::V4,
            elements: elements(&to_all_v4()),
            not: false,
        };
        entries.push(Entry::Remark("the gateway's own broadcasts return to it".to_owned()));
        let echo = vec![Test::FromGateway, to_all];
        entries.push(Entry::Line(Line::own(echo, Then::Drop, tag::OWN_BROADCAST)));
        entries.push(Entry::Line(Line::lead(vec![], Then::Jump("opening".to_owned()))));
        let broadcasts = self.other_broadcasts();
        if !broadcasts.is_empty() {
            entries.push(Entry::Remark("another network's broadcast (RFC 2644)".to_owned()));
            entries.extend(broadcasts.into_iter().map(Entry::Line));
        }
        entries.extend(leads.into_iter().map(Entry::Line));
        if mapped {
            let look = Then::Look { key: "iifname", map: "to_gateway".to_owned() };
            entries.push(Entry::Line(Line::lead(vec![], look)));
        }
        entries.extend(last.into_iter().map(Entry::Line));
        Chain {
            name: "input".to_owned(),
            about: "for the gateway itself".to_owned(),
            hook: Some("type filter hook input priority filter; policy drop"),
            entries,
        }
    }

    /// Drops what is for the broadcast address of a network that it did not come from.
    fn other_broadcasts(&self) -> Vec<Line> {
        if broadcasts(self.context.plan).is_empty() {
            return Vec::new();
        }
        vec![Line::own(vec![Test::OthersBroadcast], Then::Drop, tag::NO_WAY)]
    }

    fn forward(&self, leads: Vec<Line>, mapped: bool, last: Vec<Line>) -> Chain {
        let mut entries = Vec::new();
        for (name, mbps, mark) in self.limited() {
            entries.push(Entry::Remark(format!("rate limit: {mbps} Mbit/s in total")));
            let line = Line::own(vec![Test::Mark(mark)], Then::Limit(name.clone()), &tag(&name));
            entries.push(Entry::Line(line));
        }
        entries.push(Entry::Line(Line::lead(vec![], Then::Jump("opening".to_owned()))));
        entries.push(Entry::Remark("no route".to_owned()));
        entries.extend(self.no_route().into_iter().map(Entry::Line));
        entries.extend(leads.into_iter().map(Entry::Line));
        if mapped {
            let look = Then::Look { key: "iifname", map: "passed_on".to_owned() };
            entries.push(Entry::Line(Line::lead(vec![], look)));
        }
        entries.extend(last.into_iter().map(Entry::Line));
        Chain {
            name: "forward".to_owned(),
            about: "passed on".to_owned(),
            hook: Some("type filter hook forward priority filter; policy drop"),
            entries,
        }
    }

    /// What must not be passed on: what would leave by an uplink and is not for the internet, and the rest
    /// of what has no way.
    fn no_route(&self) -> Vec<Line> {
        let plan = self.context.plan;
        let mut lines = Vec::new();
        let out = self.context.uplinks();
        let drop = |tests| Line::own(tests, Then::Drop, tag::NO_WAY);
        let address = |end, family, set: &AddressSet| Test::Address {
            end,
            family,
            elements: elements(&of_family(set, family)),
            not: false,
        };
        if !out.is_empty() {
            // Routes for what is inside are narrower, so of these only what is nowhere comes here.
            let outward: AddressSet = self.context.surroundings.no_route[0].destination.clone();
            let elsewhere = outward.union(plan.inside()).union(self.known.placeholders());
            let elsewhere = elsewhere.difference(plan.gateway_outside());
            for family in [Family::V4, Family::V6] {
                let tests =
                    vec![Test::Out(out.clone()), address(End::Destination, family, &elsewhere)];
                lines.push(drop(tests));
            }
        }
        let behind: AddressSet = behind_broadcasts(plan);
        if !behind.is_empty() {
            lines.push(drop(vec![address(End::Destination, Family::V4, &behind)]));
        }
        let [_, stays, local] = self.context.surroundings.no_route.as_slice() else { return lines };
        for family in [Family::V4, Family::V6] {
            lines.push(drop(vec![address(End::Source, family, &stays.source)]));
        }
        if !out.is_empty() {
            let mut tests = vec![Test::Out(out), address(End::Source, Family::V6, &local.source)];
            let beside = of_family(plan.beside_uplinks(), Family::V6);
            if !beside.is_empty() {
                // On an uplink's own link they are of use.
                let (end, family, elements) = (End::Destination, Family::V6, elements(&beside));
                tests.push(Test::Address { end, family, elements, not: true });
            }
            lines.push(drop(tests));
        }
        lines
    }

    fn output(&self) -> Chain {
        let list = self.context.rules.list(Stage::FromGateway);
        let mut entries = Vec::new();
        if list.is_some_and(|list| !list.rules.is_empty()) {
            let lo = Line::lead(vec![Test::Out(vec!["lo".to_owned()])], Then::Accept);
            entries.push(Entry::Line(lo));
            let replies = vec![Test::State("established,related")];
            entries.push(Entry::Line(Line::lead(replies, Then::Accept)));
            let begun = Then::Jump("from_gateway".to_owned());
            entries.push(Entry::Line(Line::lead(vec![], begun)));
        }
        Chain {
            name: "output".to_owned(),
            about: "begun by the gateway itself".to_owned(),
            hook: Some("type filter hook output priority filter; policy accept"),
            entries,
        }
    }
}

fn tcp() -> Test {
    Test::Protocols { numbers: vec![6], not: false }
}

fn plain(action: Action) -> Then {
    match action {
        Action::Allow => Then::Accept,
        Action::Block | Action::Reject => Then::Drop,
    }
}

/// The name of a list's chain.
fn chain_name(plan: &Plan, list: &RuleList) -> String {
    match list.applies {
        Some(Applies::Pair { from, to }) => {
            format!("pass_{}_{}", plan.zone(from).name, plan.zone(to).name)
        }
        Some(Applies::ToGateway { from }) => format!("gate_{}", plan.zone(from).name),
        _ => list.name.replace('-', "_"),
    }
}

/// What stands above a rule's lines: what it does and why.
fn remark(rule: &Rule) -> String {
    let hours = rule.hours.as_ref().map(|hours| format!(", at hours {hours}")).unwrap_or_default();
    match rule.reason.as_str() {
        "" => format!("{}{hours}", rule.name),
        reason => format!("{}{hours}: {reason}", rule.name),
    }
}
