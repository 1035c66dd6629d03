//! Turns the entries of a plan into single rules, in the order in which they are asked. The forms then arrange these
//! rules in lists.

mod to_gateway;

use super::order::{self, Line};
use super::reachability::{Entry, entries, something_passes, translated, with_translated};
use super::{Endpoint, Matches, Rule, RuleId, Stage, implicit_traffic};
use crate::addressing::link_local;
use crate::plan::{Action, Exception, Hours, Plan, ZoneId};
use crate::space::{AddressSet, Interface, IntervalSet, Match, Minute, PacketSet, ServiceSet};
use crate::verdict::{Cause, Spoofing};
use jiff::civil::Date;

/// A rule's words about where packets come from and go to.
struct Words {
    from: Endpoint,
    source: Endpoint,
    to: Endpoint,
    destination: Endpoint,
    service: String,
}

impl Words {
    /// Of everything, for this service.
    fn any(service: &str) -> Self {
        Self {
            from: Endpoint::Any,
            source: Endpoint::Any,
            to: Endpoint::Any,
            destination: Endpoint::Any,
            service: service.to_owned(),
        }
    }
}

/// What is at hand while rules are made.
struct Writer<'p> {
    plan: &'p Plan,
    gateway: PacketSet,
    /// The zones that have addresses, with these.
    zones: Vec<(ZoneId, AddressSet)>,
}

/// All the rules of a plan, before any form has made lists of them.
pub(super) struct Base {
    /// Replies and spoofed sources.
    pub(super) opening: Vec<Rule>,
    /// For what is for the gateway itself; the last one takes the rest.
    pub(super) to_gateway: Vec<Rule>,
    /// For what the gateway passes on; the last one takes the rest.
    pub(super) through: Vec<Rule>,
    /// For what the gateway itself begins.
    pub(super) begun: Vec<Rule>,
    /// The packets that each exception can meet; by its place in the plan's list.
    pub(super) meets: Vec<PacketSet>,
}

impl Base {
    pub(super) fn new(plan: &Plan, day: Date) -> Self {
        let (lines, meets) = order::lines(plan, day);
        let beside = |zone| match zone == plan.internet() {
            true => plan.beside_uplinks().clone(),
            false => AddressSet::empty(),
        };
        let addresses = |zone| plan.zone_addresses(zone).union(&beside(zone));
        let zones = plan.zone_ids().map(|zone| (zone, addresses(zone)));
        let zones = zones.filter(|(_, addresses)| !addresses.is_empty()).collect();
        let gateway = implicit_traffic::for_gateway(plan);
        let writer = Writer { plan, gateway, zones };
        Self {
            opening: writer.opening(),
            to_gateway: writer.arriving(&lines),
            through: writer.through(&lines),
            begun: writer.begun(&lines),
            meets,
        }
    }

    /// Whether an exception's rule can meet a packet of that set at all; true of rules of other entries.
    pub(super) fn meets(&self, rule: &Rule, set: &PacketSet) -> bool {
        rule.cause.exception().is_none_or(|id| !self.meets[id.index()].is_disjoint(set))
    }
}

impl Writer<'_> {
    fn opening(&self) -> Vec<Rule> {
        let plan = self.plan;
        let mut rules = Vec::new();
        let any = Words::any("replies");
        let (id, matches) = (RuleId::new("reply"), Matches::Established);
        let mut reply = self.rule(id, Action::Allow, false, Cause::Reply, any, matches);
        reply.name = "replies to allowed connections".to_owned();
        reply.reason = "Without it no allowed connection would get a reply".to_owned();
        rules.push(reply);
        for id in plan.network_ids() {
            let name = plan.network(id).name.as_str();
            let source = Endpoint::expression(format!("not in {name}"));
            let words = Words { from: Endpoint::named(name), source, ..Words::any("any") };
            let product = implicit_traffic::spoofed_at_network(plan, id);
            let cause = Cause::Spoofed(Spoofing::Source, plan.network_interface(id));
            rules.push(self.spoofed(RuleId::new(format!("spoofed.{name}")), cause, words, product));
        }
        for (index, uplink) in plan.uplinks().iter().enumerate() {
            let (from, source) =
                (Endpoint::named("internet"), Endpoint::expression("inside or special-purpose"));
            let words = Words { from, source, ..Words::any("any") };
            let product = implicit_traffic::spoofed_at_uplink(plan, index);
            let cause = Cause::Spoofed(Spoofing::Source, plan.uplink_interface(index));
            rules.push(self.spoofed(
                RuleId::new("spoofed").in_list(format!("uplink.{}", uplink.name)),
                cause,
                words,
                product,
            ));
        }
        let source = Endpoint::expression("0.0.0.0, ::");
        let words = Words { source, ..Words::any("not address requests") };
        let cause = Cause::Spoofed(Spoofing::Unspecified, Interface(0));
        let id = RuleId::new("spoofed").in_list("unspecified");
        rules.push(self.spoofed(id, cause, words, implicit_traffic::spoofed_unspecified(plan)));
        let product = implicit_traffic::spoofed_to_private(plan);
        if !product.enters.is_empty() && !product.destination.is_empty() {
            let words = Words {
                from: Endpoint::named("internet"),
                to: Endpoint::named("inside"),
                destination: Endpoint::expression("private addresses"),
                ..Words::any("any")
            };
            let cause = Cause::Spoofed(Spoofing::ToPrivate, plan.uplink_interface(0));
            rules.push(self.spoofed(
                RuleId::new("spoofed").in_list("to-private"),
                cause,
                words,
                product,
            ));
        }
        rules
    }

    fn spoofed(&self, id: RuleId, cause: Cause, words: Words, product: Match) -> Rule {
        let mut rule = self.rule(id, Action::Block, true, cause, words, product);
        (rule.name, rule.reason) = match cause {
            Cause::Spoofed(Spoofing::Source, interface) => (
                format!("anti-spoofing at {}", self.plan.interface_name(interface)),
                "Anti-spoofing: the source does not belong there (RFC 2827)".to_owned(),
            ),
            Cause::Spoofed(Spoofing::ToPrivate, _) => (
                "anti-spoofing: outside traffic to private addresses".to_owned(),
                "Private addresses are not reachable from outside (RFC 3704)".to_owned(),
            ),
            _ => (
                "anti-spoofing: no source address".to_owned(),
                "Only DHCP and neighbour discovery start without an address (RFC 2131, RFC 4861)"
                    .to_owned(),
            ),
        };
        rule
    }

    fn through(&self, lines: &[Line]) -> Vec<Rule> {
        let plan = self.plan;
        let cells = plan.zones().len() * plan.zones().len();
        let mut rules = Vec::with_capacity(lines.len() + cells);
        let enters = implicit_traffic::arriving(plan).enters;
        let inside = translated(plan).enters;
        for line in lines {
            let (enters, inside) = (enters.clone(), inside.clone());
            if plan.exception(line.exception).translated {
                // Translated it is seen in IPv4; in IPv6, as it came.
                rules.extend(self.exception_rule(line, Stage::Through, inside));
                rules.extend(self.exception_rule(line, Stage::Through, enters));
                continue;
            }
            rules.extend(self.exception_rule(line, Stage::Through, with_translated(plan, enters)));
        }
        rules.extend((0..plan.uplinks().len()).filter_map(|index| self.beside_uplink(index)));
        for from in plan.zone_ids() {
            let entries = entries(plan, from);
            for to in plan.zone_ids() {
                rules.extend(self.cell(from, to, &entries));
            }
        }
        let unmatched = plan.matrix().unmatched();
        let arriving = implicit_traffic::arriving(plan);
        let enters = with_translated(plan, arriving.enters.clone());
        let rest = Match { enters, ..arriving };
        rules.push(self.closing(Stage::Through, unmatched.denial.into(), rest));
        rules
    }

    /// What goes to the own subnet of an uplink, where that is none of the internet's: no cell opens it.
    fn beside_uplink(&self, index: usize) -> Option<Rule> {
        let plan = self.plan;
        let destination = plan.beside_uplink(index);
        if destination.is_empty() {
            return None;
        }
        let name = plan.uplinks()[index].name.as_str();
        let (to, named) = (Endpoint::named("internet"), Endpoint::expression(name));
        let words = Words { to, destination: named, ..Words::any("any") };
        let unmatched = plan.matrix().unmatched();
        let (action, cause) = (unmatched.denial.into(), Cause::BesideUplink(index));
        let product = Match { destination, ..implicit_traffic::arriving(plan) };
        let id = RuleId::new(format!("beside.{name}"));
        let mut rule = self.rule(id, action, unmatched.log, cause, words, product);
        rule.name = format!("{} the own subnet of {name}", Action::word(action));
        rule.reason = "Devices on an uplink's link need an exception".to_owned();
        Some(rule)
    }

    fn cell(&self, from: ZoneId, to: ZoneId, entries: &[Entry]) -> Vec<Rule> {
        let plan = self.plan;
        let cell = plan.matrix().cell(from, to);
        let Some(action) = cell.action.filter(|_| something_passes(plan, from, to)) else {
            return Vec::new();
        };
        let mut rules = Vec::new();
        for (enters, source) in entries.iter().cloned() {
            let enters = with_translated(plan, enters);
            let destination = plan.zone_prefixes(to);
            let product =
                Match { enters, source, destination: destination.clone(), ..Match::everything() };
            let (from_name, to_name) = (plan.zone(from).name.as_str(), plan.zone(to).name.as_str());
            let (from_zone, to_zone) = (Endpoint::named(from_name), Endpoint::named(to_name));
            let words = Words { from: from_zone, to: to_zone, ..Words::any("any") };
            let id = RuleId::new(format!("cell.{from_name}>{to_name}"));
            let cause = Cause::Cell(from, to);
            let mut rule = self.rule(id, action, cell.log, cause, words, product);
            rule.name = format!("{} {from_name} to {to_name}", action.word());
            rule.reason = if from == to {
                format!("The matrix, between the networks of {from_name}")
            } else {
                "The matrix".to_owned()
            };
            rules.push(rule);
        }
        rules
    }

    fn begun(&self, lines: &[Line]) -> Vec<Rule> {
        let plan = self.plan;
        let own = IntervalSet::point(plan.gateway_interface());
        let mut rules = lines
            .iter()
            .filter(|line| plan.exception(line.exception).from.gateway)
            .filter_map(|line| self.exception_rule(line, Stage::FromGateway, own.clone()))
            .collect::<Vec<_>>();
        if !rules.is_empty() {
            rules.insert(0, self.lives_by(own));
        }
        rules
    }

    /// What the gateway lives by goes out, whatever an exception says about the gateway.
    fn lives_by(&self, own: IntervalSet<Interface>) -> Rule {
        let product = Match {
            enters: own,
            service: implicit_traffic::lives_by(self.plan),
            ..Match::everything()
        };
        let words = Words { from: Endpoint::Gateway, ..Words::any("discovery and DHCP") };
        let (id, cause) = (RuleId::new("from_gateway").in_list("needs"), Cause::FromGateway);
        let mut rule = self.rule(id, Action::Allow, false, cause, words, product);
        rule.name = "what the gateway needs to work".to_owned();
        rule.reason =
            "Without neighbour discovery and DHCP no network works (RFC 4861, RFC 2131)".to_owned();
        rule
    }

    /// The rule of an exception in one list; `None` where it has nothing to say there.
    fn exception_rule(
        &self,
        line: &Line,
        stage: Stage,
        enters: IntervalSet<Interface>,
    ) -> Option<Rule> {
        let source = match stage {
            Stage::FromGateway => AddressSet::full(),
            _ => self.plan.exception(line.exception).from.addresses.clone(),
        };
        self.exception_rule_from(line, stage, enters, &source)
    }

    /// The rules of an exception for what is for the gateway: a device on the link of a network that
    /// it names belongs to it, also with a link-local address.
    fn exception_rules_to_gateway(&self, line: &Line) -> Vec<Rule> {
        let plan = self.plan;
        let (arriving, stage) = (implicit_traffic::arriving(plan).enters, Stage::ToGateway);
        let from = &plan.exception(line.exception).from;
        if from.links.is_empty() || line.part.is_some() {
            return self.exception_rule(line, stage, arriving).into_iter().collect();
        }
        let here = plan.network_ids().filter(|id| from.links.contains(plan.network_interface(*id)));
        let here: AddressSet = here.map(|id| plan.network_addresses(id).clone()).collect();
        if from.addresses.is_subset(&here) {
            let source = from.addresses.union(&link_local());
            let rule = self.exception_rule_from(line, stage, from.links.clone(), &source);
            return rule.into_iter().collect();
        }
        let on_link = self.exception_rule_from(line, stage, from.links.clone(), &link_local());
        self.exception_rule(line, stage, arriving).into_iter().chain(on_link).collect()
    }

    fn exception_rule_from(
        &self,
        line: &Line,
        stage: Stage,
        enters: IntervalSet<Interface>,
        source: &AddressSet,
    ) -> Option<Rule> {
        let plan = self.plan;
        let exception = plan.exception(line.exception);
        let full = AddressSet::full();
        let destination = match stage {
            Stage::ToGateway => &full,
            _ => &exception.to.addresses,
        };
        let mut service = families(&exception.service.set, source, destination);
        if exception.translated {
            let inside = enters.first().is_some_and(|interface| plan.is_translated(interface));
            let other = if inside { &mut service.v6 } else { &mut service.v4 };
            *other = IntervalSet::empty();
        }
        let minutes = exception.minutes();
        let product = order::product(line, enters, source, destination, &service, minutes);
        let packets = PacketSet::from(&product);
        let elsewhere = line.part.is_some()
            && match stage {
                Stage::ToGateway => packets.is_disjoint(&self.gateway),
                _ => packets.is_subset(&self.gateway),
            };
        if packets.is_empty() || elsewhere {
            return None;
        }
        let mut id = exception_id(exception, stage);
        if line.part.is_some() {
            id = id.of_log();
        }
        let words = self.exception_words(exception, stage);
        let (action, log) = (exception.action, exception.log);
        let cause = match exception.inbound {
            Some(_) => Cause::Offered(line.exception),
            None => Cause::Exception(line.exception),
        };
        let mut rule = self.rule(id, action, log, cause, words, product);
        rule.name = format!(
            "{} {} from {} to {}",
            action.word(),
            exception.service.text,
            exception.from.text,
            exception.to.text
        );
        rule.reason.clone_from(&exception.why);
        rule.hours = rule.packets().and_then(|packets| self.hours_words(exception, &packets.at));
        rule.limit_mbps = exception.limit_mbps;
        Some(rule)
    }

    /// What the hours of a rule are called: by those of its exception; where only a part of it is there for the log, in the hours
    /// of another one, by those; written out where the plan has no name for them.
    fn hours_words(&self, exception: &Exception, at: &IntervalSet<Minute>) -> Option<String> {
        if at.is_full() {
            return None;
        }
        let is_own =
            |hours: &&Hours| exception.hours.as_ref().is_some_and(|own| own.name == hours.name);
        let all = self.plan.hours().iter();
        let (own, others): (Vec<&Hours>, Vec<&Hours>) = all.partition(is_own);
        let named = own.into_iter().chain(others).find(|hours| hours.minutes == *at);
        Some(named.map_or_else(|| at.words(), |hours| hours.name.to_string()))
    }

    fn exception_words(&self, exception: &Exception, stage: Stage) -> Words {
        let (from, to) = (&exception.from, &exception.to);
        let from_zone = match stage {
            Stage::FromGateway => Endpoint::Gateway,
            _ => self.zone_words(&from.addresses),
        };
        let to_zone = match stage {
            Stage::ToGateway => Endpoint::Gateway,
            _ => self.zone_words(&to.addresses),
        };
        Words {
            from: from_zone,
            source: Endpoint::expression(&from.text),
            to: to_zone,
            destination: Endpoint::expression(&to.text),
            service: exception.service.text.clone(),
        }
    }

    /// The zones in which some of these addresses lie.
    fn zone_words(&self, addresses: &AddressSet) -> Endpoint {
        let touched = self.zones.iter().filter(|(_, zone)| !zone.is_disjoint(addresses));
        let touched: Vec<String> =
            touched.map(|(zone, _)| self.plan.zone(*zone).name.to_string()).collect();
        if touched.len() == self.zones.len() && self.zones.len() > 1 {
            return Endpoint::Any;
        }
        Endpoint::Named(touched)
    }

    fn closing(&self, stage: Stage, action: Action, product: Match) -> Rule {
        let log = self.plan.matrix().unmatched().log;
        let to = if stage == Stage::ToGateway { Endpoint::Gateway } else { Endpoint::Any };
        let words = Words { to, ..Words::any("any") };
        let id = RuleId::new("unmatched").in_list(stage.word());
        let mut rule = self.rule(id, action, log, Cause::Unmatched, words, product);
        rule.name = format!("{} the rest", action.word());
        rule.reason = "Default deny: nothing in the plan allows it".to_owned();
        rule
    }

    fn rule(
        &self,
        id: RuleId,
        action: Action,
        log: bool,
        cause: Cause,
        words: Words,
        matches: impl Into<Matches>,
    ) -> Rule {
        let matches = matches.into();
        let ports = matches.packets().map(|packets| packets.service.words()).unwrap_or_default();
        let Words { from, source, to, destination, service } = words;
        let (name, reason) = (id.to_string(), String::new());
        Rule {
            number: 0,
            id,
            name,
            reason,
            from,
            source,
            to,
            destination,
            service,
            ports,
            action,
            log,
            hours: None,
            limit_mbps: None,
            cause,
            also: Vec::new(),
            matches,
        }
    }
}

/// The services of a rule, in the families that its addresses have.
fn families(service: &ServiceSet, source: &AddressSet, destination: &AddressSet) -> ServiceSet {
    service.for_families_of(source).for_families_of(destination)
}

fn exception_id(exception: &Exception, stage: Stage) -> RuleId {
    let name = &exception.name;
    if exception.inbound.is_some() {
        return RuleId::new(format!("offered.{name}"));
    }
    let several = !exception.from.addresses.is_empty() && !exception.to.addresses.is_empty();
    let id = RuleId::new(format!("exception.{name}"));
    match stage {
        Stage::ToGateway if several => id.in_list(format!("{}>gateway", exception.from.text)),
        Stage::FromGateway if several || exception.to.gateway => {
            id.in_list(format!("gateway>{}", exception.to.text))
        }
        _ => id,
    }
}
