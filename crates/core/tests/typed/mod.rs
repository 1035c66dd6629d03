//! Lists of rules as somebody types them, one edit after the other.

use bastium_core::changeover::{Changeover, Edit, Spot};
use bastium_core::plan::{Action, Plan};
use bastium_core::rules::{Matches, Otherwise, Rule, RuleList, RuleSet};
use bastium_core::space::{Ends, Match, Packet, Protocol, ServicePoint, ServiceSet};
use std::net::IpAddr;

/// A packet with what else of it lists without state look at.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Asked {
    packet: Packet,
    /// The service of the port that it comes from, if it looks like a reply.
    from: Option<ServicePoint>,
}

impl Asked {
    /// A packet as it is, and as it looks as a reply from the ports that rules name.
    pub(crate) fn all(packet: &Packet, rules: [&RuleSet; 2]) -> Vec<Self> {
        let named =
            rules.into_iter().flat_map(|rules| rules.rules()).filter_map(Rule::replies_from);
        let v4 = packet.source().is_ipv4();
        let points = named.flat_map(|from| {
            let line = if v4 { &from.v4 } else { &from.v6 };
            line.spans().iter().flat_map(|(low, high)| [*low, *high]).collect::<Vec<_>>()
        });
        let same = points.filter(|point| point.protocol() == packet.service.protocol());
        let mut all = vec![Self { packet: *packet, from: None }];
        all.extend(same.take(6).map(|from| Self { packet: *packet, from: Some(from) }));
        all
    }
}

/// A packet and the reply to it, as they meet the lists, from ports that are often asked and from another one.
pub(crate) fn reply_to(plan: &Plan, packet: &Packet) -> Vec<(Asked, Asked)> {
    let (source, destination) = (packet.source(), packet.destination());
    let protocol = packet.service.protocol();
    let has_ports = protocol == Protocol::TCP || protocol == Protocol::UDP;
    if packet.enters == plan.gateway_interface() || !has_ports {
        return Vec::new();
    }
    let enters = match plan.network_of(destination) {
        Some(network) => plan.network_interface(network),
        None => plan.uplink_interface(0),
    };
    let ends = match (destination, source) {
        (IpAddr::V4(source), IpAddr::V4(destination)) => Ends::V4 { source, destination },
        (IpAddr::V6(source), IpAddr::V6(destination)) => Ends::V6 { source, destination },
        _ => return Vec::new(),
    };
    let pairs = [40_000, 5_050, 53, 443].map(|port| {
        let from = ServicePoint::port(protocol, port);
        // Of TCP, what begins a conversation is no reply, wherever it comes from.
        let asked = (protocol == Protocol::UDP).then_some(from);
        let reply = Packet { enters, ends, service: from, at: packet.at };
        let back = Asked { packet: reply, from: Some(packet.service) };
        (Asked { packet: *packet, from: asked }, back)
    });
    pairs.to_vec()
}

/// What happens to a packet.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Fate {
    pub(crate) action: Action,
    log: bool,
    limit: Option<f64>,
}

/// The lists of a gateway, in the order in which they are asked.
#[derive(Clone, Debug)]
pub(crate) struct Typed {
    lists: Vec<RuleList>,
    there: Vec<bool>,
    /// What lists of that name do in the end, for what is set and not typed.
    new: Vec<RuleList>,
}

fn key(list: &RuleList) -> (String, String) {
    (list.stage.word().to_owned(), list.name.clone())
}

impl Typed {
    /// The old lists (0) or the new ones (1), with room for those of the others.
    pub(crate) fn new(rules: [&RuleSet; 2], which: usize) -> Self {
        let mut lists: Vec<RuleList> = rules[1].lists.clone();
        let mut new = lists.clone();
        // Where an old list is not among the new ones, it stands above the next that is.
        for (place, list) in rules[0].lists.iter().enumerate() {
            if lists.iter().any(|other| key(other) == key(list)) {
                continue;
            }
            let below = rules[0].lists[place..]
                .iter()
                .find_map(|below| lists.iter().position(|other| key(other) == key(below)));
            let at = below.unwrap_or(lists.len());
            lists.insert(at, list.clone());
            let mut none = list.clone();
            none.rules.clear();
            none.otherwise = Otherwise::GoOn;
            new.insert(at, none);
        }
        let own = rules[which];
        let there = lists
            .iter_mut()
            .map(|list| match own.lists.iter().find(|other| key(other) == key(list)) {
                Some(own) => {
                    list.clone_from(own);
                    true
                }
                None => false,
            })
            .collect();
        Self { lists, there, new }
    }

    /// What happens to a packet: the first rule that matches decides.
    pub(crate) fn fate(&self, asked: &Asked) -> Fate {
        let packet = &asked.packet;
        for (list, _) in self.lists.iter().zip(&self.there).filter(|(_, there)| **there) {
            if !list.packets().contains(packet) {
                continue;
            }
            if let Some(rule) = list.rules.iter().find(|rule| matches(rule, asked)) {
                return Fate { action: rule.action, log: rule.log, limit: rule.limit_mbps };
            }
            match list.otherwise {
                Otherwise::GoOn => {}
                Otherwise::Allow => return Fate { action: Action::Allow, log: false, limit: None },
                Otherwise::Block => break,
            }
        }
        Fate { action: Action::Block, log: false, limit: None }
    }

    fn list(&mut self, spot: &Spot) -> &mut Vec<Rule> {
        let list = self.lists.iter_mut().find(|list| list.name == spot.list && !list.implied);
        &mut list.expect("the list is there").rules
    }

    /// Makes an edit, as it is written.
    pub(crate) fn make(&mut self, edit: &Edit<'_>) {
        match edit {
            Edit::Insert { at, rule, above, .. } => {
                let list = self.list(at);
                let below = list.get(at.place).map(|rule| &rule.id);
                assert_eq!(below, above.as_ref().map(|rule| &rule.id), "{edit:?}");
                list.insert(at.place, (***rule).clone());
            }
            Edit::Alter { at, old, new } | Edit::Rename { at, old, new } => {
                let row = &mut self.list(at)[at.place];
                assert_eq!(row.id, old.id);
                *row = (*new).clone();
            }
            Edit::Move { from, to, rule, .. } => {
                let gone = self.list(from).remove(from.place);
                assert_eq!(format!("{:?}", gone.matches), format!("{:?}", rule.matches));
                self.list(to).insert(to.place, (*rule).clone());
            }
            Edit::Delete { at, rule } => {
                let gone = self.list(at).remove(at.place);
                assert_eq!(gone.id, rule.id, "{edit:?}");
            }
            Edit::Attach { at, rules } => {
                *self.list(at) = rules.iter().map(|rule| (*rule).clone()).collect();
                self.put(&at.list, true);
            }
            Edit::Detach { at, rules } => {
                assert_eq!(self.list(at).len(), rules.len());
                self.put(&at.list, false);
            }
            Edit::Set { lists } => {
                for (place, list) in self.lists.iter_mut().enumerate() {
                    if lists.contains(&list.name) {
                        list.otherwise = self.new[place].otherwise;
                        if list.implied {
                            list.clone_from(&self.new[place]);
                            self.there[place] = true;
                        }
                    }
                }
            }
        }
    }

    fn put(&mut self, name: &str, there: bool) {
        for (list, own) in self.lists.iter().zip(&mut self.there) {
            if list.name == name {
                *own = there;
            }
        }
    }

    /// Asserts that the lists are those of another, row for row.
    pub(crate) fn assert_is(&self, other: &Self) {
        let rows = |typed: &Self| -> Vec<String> {
            let lists = typed.lists.iter().zip(&typed.there);
            let lists = lists.filter(|(list, there)| **there && !list.implied);
            lists
                .flat_map(|(list, _)| &list.rules)
                .map(|rule| {
                    format!("{} {:?} {:?} {}", rule.id, rule.matches, rule.action, rule.log)
                })
                .collect()
        };
        assert_eq!(rows(self), rows(other));
    }
}

fn matches(rule: &Rule, asked: &Asked) -> bool {
    match &rule.matches {
        Matches::Established => false,
        Matches::First(packets) => packets.contains(&asked.packet),
        Matches::Replies { packets, from } => is_reply(packets, from, asked),
        Matches::Written(products) => products.iter().any(|(packets, from)| match from {
            None => packets.contains(&asked.packet),
            Some(from) => is_reply(packets, from, asked),
        }),
    }
}

fn is_reply(packets: &Match, from: &ServiceSet, asked: &Asked) -> bool {
    let Some(point) = asked.from else { return false };
    let v4 = asked.packet.source().is_ipv4();
    let line = if v4 { &from.v4 } else { &from.v6 };
    packets.contains(&asked.packet) && line.contains(point)
}

/// A way of one insertion and one deletion below it, the other way round: what many do.
pub(crate) fn deleted_first<'r>(way: &Changeover<'r>) -> Changeover<'r> {
    let mut way = way.clone();
    way.steps.reverse();
    for edit in way.steps.iter_mut().flat_map(|step| &mut step.edits) {
        if let Edit::Insert { at, .. } = edit {
            at.place -= 1;
        }
    }
    way
}
