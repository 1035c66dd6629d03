//! Replies, written out: for gateways that keep no state.
//!
//! A reply comes from where a conversation may go, to where it may come from, and from the port that it
//! asked. Of TCP only what is no opening counts; of UDP and the rest, a first packet can look the same,
//! which is what such lists leak.

use super::{
    CompileContext, Endpoint, Matches, Rule, RuleId, RuleSet, implicit_traffic, outer_interfaces,
    reachability, restrict,
};
use crate::addressing::private_v4;
use crate::plan::{Action, Plan, Uplink};
use crate::space::{
    AddressSet, Family, Interface, IntervalSet, Match, Packet, PacketSet, Protocol, ServicePoint,
    ServiceSet,
};
use crate::verdict::Cause;

/// The least port that the gateway begins conversations of its own from (RFC 6056 3.2).
const LEAST_OWN_PORT: u16 = 1024;

/// The rules that let replies and errors in on an interface, whatever conversation they belong to.
pub(super) fn back_to(context: &CompileContext<'_>, interface: Interface) -> Vec<Rule> {
    let plan = context.plan;
    let mut rules: Vec<Rule> = Vec::new();
    for rule in context.base.through.iter().filter(|rule| rule.action == Action::Allow) {
        rules.extend(reply(context, rule, interface));
    }
    let mut kept = without_covered(rules);
    kept.push(to_own_conversations(plan, interface));
    kept.push(errors(plan, interface));
    kept
}

/// Leaves out what another rule lets back in any case.
fn without_covered(rules: Vec<Rule>) -> Vec<Rule> {
    let sets: Vec<PacketSet> =
        rules.iter().filter_map(|rule| rule.packets()).map(PacketSet::from).collect();
    let covers = |wide: usize, narrow: usize| {
        let ports = |index: usize| rules[index].replies_from().cloned().unwrap_or_default();
        ports(narrow).is_subset(&ports(wide)) && sets[narrow].is_subset(&sets[wide])
    };
    let covered = |index: usize| {
        (0..rules.len()).any(|wide| {
            wide != index && covers(wide, index) && (!covers(index, wide) || wide < index)
        })
    };
    let kept: Vec<bool> = (0..rules.len()).map(|index| !covered(index)).collect();
    rules.into_iter().zip(kept).filter_map(|(rule, keep)| keep.then_some(rule)).collect()
}

/// The replies to what a rule allows, as far as they come in on an interface.
fn reply(context: &CompileContext<'_>, rule: &Rule, interface: Interface) -> Option<Rule> {
    let plan = context.plan;
    let matches = rule.packets()?;
    let source = matches.destination.intersection(context.reached_by(interface));
    let source = source.intersection(context.true_sources(interface));
    if source.is_empty() {
        return None;
    }
    let mut asking = AddressSet::empty();
    for from in outer_interfaces(plan) {
        let inside = plan.translated_interface(from);
        let comes = matches.enters.contains(from) || matches.enters.contains(inside);
        // Two devices of one network do not ask by way of the gateway.
        if comes && (from != interface || reachability::can_turn_round(plan, interface)) {
            asking = asking.union(&context.true_sources(from).intersection(&matches.source));
        }
    }
    let destination = seen_from(plan, interface, asking);
    let service = answers(&matches.service);
    let from = matches.service.clone();
    let packets = Match {
        enters: IntervalSet::point(interface),
        source: source.clone(),
        destination: destination.clone(),
        service: service.clone(),
        at: matches.at.clone(),
    };
    if PacketSet::from(&packets).is_empty() {
        return None;
    }
    let mut back = rule.clone();
    back.id = rule.id.for_replies(plan.interface_name(interface));
    back.name = format!("replies: {}", rule.name);
    back.reason = "The gateway is stateless, so replies need a rule".to_owned();
    (back.from, back.to) = (rule.to.clone(), rule.from.clone());
    back.source = restrict::named(plan, &source);
    back.destination = restrict::named(plan, &destination);
    back.service = format!("replies from {}", rule.service);
    back.ports = service.words();
    back.log = false;
    back.limit_mbps = None;
    back.matches = Matches::Replies { packets, from };
    Some(back)
}

/// Where replies on an interface say that they go: at an uplink, private IPv4 sources were translated.
fn seen_from(plan: &Plan, interface: Interface, asking: AddressSet) -> AddressSet {
    let Some(uplink) = plan.uplink_on(interface) else { return asking };
    let private = private_v4();
    if asking.is_disjoint(&private) {
        return asking;
    }
    let own = uplink.gateway().only_v4();
    asking.difference(&private).union(&own)
}

/// The messages of ICMP that are answered, with what answers them (RFC 792, RFC 4443).
const ANSWERED: [(Protocol, u8, u8); 5] = [
    (Protocol::ICMP, 8, 0),
    (Protocol::ICMP, 13, 14),
    (Protocol::ICMP, 15, 16),
    (Protocol::ICMP, 17, 18),
    (Protocol::ICMP_V6, 128, 129),
];

fn message((protocol, kind): (Protocol, u8)) -> ServicePoint {
    ServicePoint::icmp(protocol, kind, 0)
}

/// The protocols other than ICMP, with their stretches of the service line.
fn protocols() -> impl Iterator<Item = IntervalSet<ServicePoint>> {
    let protocols = (0..=u8::MAX).map(Protocol).filter(|protocol| !protocol.is_icmp());
    protocols.map(Protocol::line)
}

/// What replies look like: of protocols with ports any port may be the one that asked.
fn answers(service: &ServiceSet) -> ServiceSet {
    let family = |line: &IntervalSet<ServicePoint>| {
        let touched = protocols().filter(|stretch| !stretch.is_disjoint(line));
        let whole = touched.flat_map(|stretch| stretch.spans().to_vec());
        let asked = ANSWERED.iter().filter(|(p, ask, _)| line.contains(message((*p, *ask))));
        let replies = asked.map(|(p, _, answer)| message((*p, *answer)));
        IntervalSet::from_spans(whole.chain(replies.map(|point| (point, point))))
    };
    ServiceSet { v4: family(&service.v4), v6: family(&service.v6) }
}

/// What may have been asked, where these replies are let back from these ports.
fn asked(replies: &ServiceSet, from: &ServiceSet) -> ServiceSet {
    let family = |replies: &IntervalSet<ServicePoint>, from: &IntervalSet<ServicePoint>| {
        let whole = protocols().filter(|stretch| stretch.is_subset(replies));
        let ports = whole.flat_map(|stretch| stretch.intersection(from).spans().to_vec());
        let let_back =
            ANSWERED.iter().filter(|(p, _, answer)| replies.contains(message((*p, *answer))));
        let asked = let_back.map(|(p, ask, _)| message((*p, *ask))).filter(|p| from.contains(*p));
        IntervalSet::from_spans(ports.chain(asked.map(|point| (point, point))))
    };
    ServiceSet { v4: family(&replies.v4, &from.v4), v6: family(&replies.v6, &from.v6) }
}

/// What nobody answers: messages of ICMP that ask for nothing.
fn unasked() -> ServiceSet {
    let mut unasked = ServiceSet::protocol(Protocol::ICMP);
    unasked.v6 = ServiceSet::protocol(Protocol::ICMP_V6).v6;
    unasked.v4 = unasked.v4.union(&ServiceSet::protocol(Protocol::ICMP_V6).v4);
    unasked.v6 = unasked.v6.union(&ServiceSet::protocol(Protocol::ICMP).v6);
    let asking = ANSWERED.iter().map(|(p, ask, _)| (message((*p, *ask)), message((*p, *ask))));
    unasked.difference(&ServiceSet::both(IntervalSet::from_spans(asking)))
}

impl RuleSet<'_> {
    /// The rule that lets the reply to an allowed packet back: the one for all replies, or where no state is
    /// kept, one for just these. `None` where the gateway itself replies, past every list.
    pub fn reply_rule(&self, packet: &Packet) -> Option<&Rule> {
        self.reply_rules(packet).first().copied()
    }

    /// All the rules that would let it back, in order.
    pub(crate) fn reply_rules(&self, packet: &Packet) -> Vec<&Rule> {
        let plan = self.plan;
        let mut all = self.lists.iter().flat_map(|list| &list.rules);
        if let Some(stateful) = all.find(|r| r.cause == Cause::Reply && r.packets().is_none()) {
            return vec![stateful];
        }
        let (source, destination) = (packet.source(), packet.destination());
        let own = plan.gateway_addresses();
        if own.contains(destination) {
            return Vec::new();
        }
        let point = packet.service;
        let is_asked = |ports: &ServiceSet| {
            let line = ports.line(Family::of(destination));
            line.contains(point)
        };
        let fits = |rule: &&Rule| {
            let Matches::Replies { packets: matches, from } = &rule.matches else { return false };
            let Some(interface) = matches.enters.first() else { return false };
            if !reachability::reached_by(plan, interface).contains(destination) {
                return false;
            }
            let translated = private_v4().contains(source)
                && plan.uplink_on(interface).is_some_and(|uplink| has_address_of(uplink, matches));
            is_asked(&asked(&matches.service, from))
                && matches.source.contains(destination)
                && matches.at.contains(packet.at)
                && (translated || matches.destination.contains(source))
        };
        self.lists.iter().flat_map(|list| &list.rules).filter(fits).collect()
    }

    /// Of what goes through a gateway without state, the packets whose replies are let back; and all that
    /// has no reply to wait for, or goes to the gateway itself. Each with the rule that lets the replies back, by
    /// its list and its place there; `None` where no rule need do so.
    pub(crate) fn answered(&self) -> Vec<(Option<(usize, usize)>, Match)> {
        let plan = self.plan;
        let mut unasked = vec![Match { service: unasked(), ..Match::everything() }];
        unasked.extend(implicit_traffic::for_gateway(plan).products());
        unasked.push(implicit_traffic::entering(plan.gateway_interface()));
        // Nobody answers where nobody can be.
        let somebody: AddressSet = implicit_traffic::true_sources(plan).into_iter().collect();
        let destination = somebody.complement();
        unasked.push(Match { destination, ..Match::everything() });
        let mut answered: Vec<_> = unasked.into_iter().map(|unasked| (None, unasked)).collect();
        let lists = self.lists.iter().enumerate();
        let rules = lists.flat_map(|(number, list)| {
            list.rules.iter().enumerate().map(move |(place, rule)| ((number, place), rule))
        });
        for (place, rule) in rules {
            let Matches::Replies { packets: matches, from } = &rule.matches else { continue };
            let mut source = matches.destination.clone();
            let uplinks = plan.uplinks().iter().enumerate();
            for (_, uplink) in
                uplinks.filter(|(i, _)| matches.enters.contains(plan.uplink_interface(*i)))
            {
                // Private sources have its address there.
                if has_address_of(uplink, matches) {
                    source = source.union(&private_v4());
                }
            }
            let forward = Match {
                enters: IntervalSet::full(),
                source,
                // A reply comes from where the packet was led to.
                destination: matches.source.intersection(&led_to(plan, &matches.enters)),
                service: asked(&matches.service, from),
                at: matches.at.clone(),
            };
            answered.push((Some(place), forward));
        }
        answered
    }
}

/// The addresses that some interfaces lead to.
fn led_to(plan: &Plan, interfaces: &IntervalSet<Interface>) -> AddressSet {
    let outer = super::outer_interfaces(plan).filter(|interface| interfaces.contains(*interface));
    outer.map(|interface| reachability::reached_by(plan, interface)).collect()
}

/// Whether replies to the address that private sources have outside are let back.
fn has_address_of(uplink: &Uplink, replies: &Match) -> bool {
    let own = uplink.gateway().v4;
    !own.is_empty() && own.is_subset(&replies.destination.v4)
}

/// Replies to what the gateway itself begins. It begins from a port above the well-known ones, so that
/// its own services stay closed.
fn to_own_conversations(plan: &Plan, interface: Interface) -> Rule {
    let high = ServiceSet::ports(Protocol::UDP, LEAST_OWN_PORT, u16::MAX);
    let service = ServiceSet::protocol(Protocol::TCP).union(&high);
    let service = service.union(&answers(&ServiceSet::echo()));
    let destination = plan.gateway_addresses().clone();
    let mut rule = at_large(plan, interface, "own-conversations", service, destination);
    rule.name = "replies to the gateway".to_owned();
    rule.to = Endpoint::Gateway;
    rule.reason = "Its own requests need replies".to_owned();
    rule
}

/// The ICMP errors of connections (RFC 792, RFC 4890 4.3.1).
fn errors(plan: &Plan, interface: Interface) -> Rule {
    let service = ServiceSet::icmp_types(Protocol::ICMP, &[3, 11, 12], None)
        .union(&ServiceSet::icmp_types(Protocol::ICMP_V6, &[1, 2, 3, 4], None));
    let mut rule = at_large(plan, interface, "errors", service, AddressSet::full());
    rule.name = "ICMP errors of connections".to_owned();
    rule.reason = "Without them path MTU discovery fails (RFC 4890)".to_owned();
    rule
}

fn at_large(
    plan: &Plan,
    interface: Interface,
    id: &str,
    service: ServiceSet,
    destination: AddressSet,
) -> Rule {
    let ports = service.words();
    Rule {
        number: 0,
        id: RuleId::new(id).for_replies(plan.interface_name(interface)),
        name: String::new(),
        reason: String::new(),
        from: Endpoint::named(plan.interface_name(interface)),
        source: Endpoint::Any,
        to: Endpoint::Any,
        destination: Endpoint::Any,
        service: ports.join(", "),
        ports,
        action: Action::Allow,
        log: false,
        hours: None,
        limit_mbps: None,
        cause: Cause::Reply,
        also: Vec::new(),
        matches: Matches::Replies {
            packets: Match { destination, service, ..implicit_traffic::entering(interface) },
            from: ServiceSet::any(),
        },
    }
}
