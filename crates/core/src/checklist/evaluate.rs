//! Which rules a packet meets on its way, in order, and which ones its reply meets. Mistakes are evaluated on these
//! few rules instead of on the whole list.

use crate::plan::{Action, Plan};
use crate::rules::{Otherwise, Rule, RuleSet};
use crate::space::{
    AddressSet, Coordinate, Ends, Interface, IntervalSet, Match, Nearby, Packet, PacketSet,
    Protocol, ServicePoint, ServiceSet,
};
use crate::verdict::Cause;

/// Where something stands in the lists: its list, its place there.
pub(super) type Place = (usize, usize);

/// A rule that matches, or the end of a list.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Met {
    /// Where it stands; the end of a list stands behind its rules.
    pub(super) place: Place,
    /// What happens there.
    pub(super) action: Action,
}

/// The end of a list, or of all of them.
const END: usize = usize::MAX;

impl Met {
    /// Whether it is a rule.
    pub(super) fn is_rule(self) -> bool {
        self.place.1 != END
    }
}

/// Rule lists, laid out for following packets through them.
pub(super) struct Lists<'r> {
    rules: &'r RuleSet<'r>,
    /// Where the packets lie that each list is asked about.
    covers: Nearby,
    /// Where those lie that each rule matches; the rules of all lists in a row.
    matched: Nearby,
    /// By list, the number of its first rule in that row; and at the end how many there are.
    starts: Vec<usize>,
}

impl<'r> Lists<'r> {
    /// Lays rules out.
    pub(super) fn new(rules: &'r RuleSet<'r>) -> Self {
        let covers: Vec<PacketSet> =
            rules.lists.iter().map(|list| list.packets().clone()).collect();
        let all = rules.lists.iter().flat_map(|list| &list.rules);
        let matched = all.map(|rule| rule.first_packets().map(PacketSet::from).unwrap_or_default());
        let mut starts = vec![0];
        for list in &rules.lists {
            starts.push(starts[starts.len() - 1] + list.rules.len());
        }
        let matched: Vec<PacketSet> = matched.collect();
        Self { rules, covers: Nearby::new(&covers), matched: Nearby::new(&matched), starts }
    }

    /// All that a packet meets, in order, up to the first end of a list that decides. It is given as the
    /// lists see it.
    pub(super) fn met(&self, packet: &Packet) -> Vec<Met> {
        let mut found = Vec::new();
        let matched = self.matched.around(packet);
        for number in self.covers.around(packet) {
            let list = &self.rules.lists[number];
            if !list.packets().contains(packet) {
                continue;
            }
            let (start, end) = (self.starts[number], self.starts[number + 1]);
            let first = matched.partition_point(|rule| *rule < start);
            for rule in matched[first..].iter().take_while(|rule| **rule < end) {
                let place = rule - start;
                let rule = &list.rules[place];
                if rule.first_packets().is_some_and(|matches| matches.contains(packet)) {
                    found.push(Met { place: (number, place), action: rule.action });
                }
            }
            let action = match list.otherwise {
                Otherwise::GoOn => continue,
                Otherwise::Allow => Action::Allow,
                Otherwise::Block => Action::Block,
            };
            found.push(Met { place: (number, END), action });
            return found;
        }
        found.push(Met { place: (END, END), action: Action::Block });
        found
    }

    /// The first rule that a packet meets, if one decides it. The packet is given as it is sent.
    pub(super) fn decides(&self, packet: &Packet) -> Option<&'r Rule> {
        let (list, place) = self.met(&self.rules.as_filtered(packet)).first()?.place;
        self.rules.lists.get(list)?.rules.get(place)
    }
}

/// The place of the rule that lets all replies back, where state is kept.
pub(super) fn rule_for_replies(rules: &RuleSet) -> Option<Place> {
    rules.lists.iter().enumerate().find_map(|(number, list)| {
        let is_it = |rule: &Rule| rule.cause == Cause::Reply && rule.packets().is_none();
        Some((number, list.rules.iter().position(is_it)?))
    })
}

/// A port that a conversation may begin from (RFC 6335).
const BEGUN_FROM: u16 = 50_000;

/// The reply to a packet, as the lists would see it if they kept no state.
pub(super) fn reply_to(plan: &Plan, packet: &Packet) -> Option<Packet> {
    let ends = Ends::new(packet.destination(), packet.source())?;
    let interface = |interface: &Interface| led_to(plan, *interface).contains(packet.destination());
    let service = answer(packet.service)?;
    Some(Packet {
        enters: interfaces_of_replies(plan).find(interface)?,
        ends,
        service,
        at: packet.at,
    })
}

/// What a reply looks like to a filter; `None` if there is none to be seen.
fn answer(asked: ServicePoint) -> Option<ServicePoint> {
    match (asked.protocol(), asked.icmp_kind()) {
        (Protocol::ICMP, Some((8, _))) => Some(ServicePoint::icmp(Protocol::ICMP, 0, 0)),
        (Protocol::ICMP_V6, Some((128, _))) => Some(ServicePoint::icmp(Protocol::ICMP_V6, 129, 0)),
        (Protocol::ICMP | Protocol::ICMP_V6, _) => None,
        (protocol, _) if protocol.has_ports() => Some(ServicePoint::port(protocol, BEGUN_FROM)),
        _ => Some(asked),
    }
}

/// Where replies enter: by the networks and the uplinks, and from the gateway.
fn interfaces_of_replies(plan: &Plan) -> impl Iterator<Item = Interface> {
    let networks = plan.network_ids().map(|id| plan.network_interface(id));
    let outside = (0..plan.uplinks().len()).map(|index| plan.uplink_interface(index));
    std::iter::once(plan.gateway_interface()).chain(networks).chain(outside)
}

/// Who answers from an interface: the internet by the first uplink, its neighbours by each.
fn led_to(plan: &Plan, interface: Interface) -> AddressSet {
    if interface == plan.gateway_interface() {
        return plan.gateway_addresses().clone();
    }
    let Some(id) = plan.network_on(interface) else {
        let index = usize::from(interface.0) - plan.networks().len();
        let beside = plan.beside_uplink(index);
        return if index == 0 { beside.union(plan.internet_addresses()) } else { beside };
    };
    let behind = plan.routes().iter().filter(|route| route.network == id);
    behind.fold(plan.network_addresses(id).clone(), |all, route| all.union(&route.reach))
}

/// The replies to a product of packets; with each the packets that it is a reply to.
pub(super) fn replies_to(plan: &Plan, asked: &Match) -> Vec<(Match, Match)> {
    let mut found = Vec::new();
    for interface in interfaces_of_replies(plan) {
        let source = asked.destination.intersection(&led_to(plan, interface));
        if source.is_empty() {
            continue;
        }
        for (asking, service) in answers(&asked.service) {
            let reply = Match {
                enters: IntervalSet::point(interface),
                source: source.clone(),
                destination: asked.source.clone(),
                service,
                at: asked.at.clone(),
            };
            found.push((
                reply,
                Match { service: asking, destination: source.clone(), ..asked.clone() },
            ));
        }
    }
    found
}

/// What is asked for, by what the replies to it look like.
fn answers(asked: &ServiceSet) -> Vec<(ServiceSet, ServiceSet)> {
    let of = |line: &IntervalSet<ServicePoint>,
              set: fn(IntervalSet<ServicePoint>) -> ServiceSet| {
        let mut found = Vec::new();
        for &(low, high) in line.spans() {
            let mut next = Some(low).filter(|low| *low <= high);
            while let Some(point) = next {
                let last = point.protocol().stretch().1.min(high);
                // All that is alike: the ports of a protocol; messages one by one.
                let last = if point.protocol().is_icmp() { point } else { last };
                let own = set(IntervalSet::range(point, last));
                if let Some(reply) = answer(point) {
                    found.push((own, set(IntervalSet::point(reply))));
                }
                next = last.next().filter(|next| *next <= high);
            }
        }
        found
    };
    let mut found = of(&asked.v4, |v4| ServiceSet { v4, ..ServiceSet::empty() });
    found.extend(of(&asked.v6, |v6| ServiceSet { v6, ..ServiceSet::empty() }));
    found
}
