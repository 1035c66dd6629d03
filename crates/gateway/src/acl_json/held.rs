//! Checks that access control lists of RFC 8519, read back from their file, do what the rules do that they were
//! written from: first packets in one comparison, replies in another.
//!
//! Such lists keep no state. So they may let first packets through that look like replies, but only those that
//! the rules themselves let through; and where the module has no words for a rule, they may be stricter.

mod lines;
mod listed;

pub(crate) use lines::Line;
pub(crate) use listed::listed;

use super::read::{Acls, Answer, Entry};
use super::{AclFile, Unsaid, Why};
use crate::named::Named;
use bastium_core::addressing::Placeholder;
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Plan, Uplink};
use bastium_core::proof::{PlanlessChange, Proved, leaks, never_asked, planless_changes_in};
use bastium_core::rules::{Applies, PlanlessLine, Rule, RuleList, RuleSet, Surroundings};
use bastium_core::space::{
    AddressSet, Coordinate, Family, Interface, IntervalSet, Match, PacketSet, Protocol,
    ServicePoint, ServiceSet,
};
use lines::{of_file, of_rules};
use std::collections::{BTreeSet, HashMap};

/// Packets with which the lists do not do what the rules do.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct ListFault {
    /// The packets. Of replies, the port is the one that they come from.
    pub packets: PacketSet,
    /// Whether they are replies; else first packets of conversations.
    pub replies: bool,
    /// The rule that decides.
    pub rule: Decides,
    /// The entry that does, or the end of a list.
    pub entry: Decides,
}

/// What decides over packets, and how.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Decides {
    /// A rule's id, or the name of a list's end.
    pub name: String,
    /// What it does.
    pub action: Action,
    /// Whether it logs.
    pub log: bool,
}

/// What came of it.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct HeldLists {
    /// Where they differ.
    pub faults: Vec<ListFault>,
    /// What could not be read: where, and what.
    pub unread: Vec<(String, String)>,
    /// How many questions could not be decided.
    pub undecided: usize,
}

impl HeldLists {
    /// Whether the lists were shown to do the same.
    pub fn holds(&self) -> bool {
        self.faults.is_empty() && self.unread.is_empty() && self.undecided == 0
    }
}

/// More borders between ports to which replies go than this are too many to be distinguished.
const MOST_CLASSES: usize = 400;

/// Reads what was written, and compares it with the rules.
pub(super) fn written(meaning: &Meaning<'_>, proved: Proved<'_>, file: &AclFile) -> HeldLists {
    match super::read::read(&file.text) {
        Ok(acls) => held(meaning, proved, &acls, &file.unsaid),
        Err(error) => HeldLists {
            unread: vec![("the file".to_owned(), error.to_string())],
            ..HeldLists::default()
        },
    }
}

/// Holds lists against rules that were proved.
pub(crate) fn held(
    meaning: &Meaning<'_>,
    proved: Proved<'_>,
    acls: &Acls,
    unsaid: &[Unsaid],
) -> HeldLists {
    let plan = meaning.plan();
    let rules = proved.rules();
    let named = Named::of(Some(plan));
    let mut held = HeldLists { unread: acls.unclear(), ..HeldLists::default() };
    let pairs: Vec<Pair<'_>> = rules
        .lists
        .iter()
        .map(|list| Pair { list, entries: entries(plan, list, acls, &named, &mut held.unread) })
        .collect();
    astray(rules, acls, &mut held.unread);
    let domains = plan.domains().iter().map(|domain| domain.placeholder.set());
    let uplinks = plan.uplinks().iter().map(Uplink::gateway).map(leased);
    let unknown = domains.chain(uplinks).fold(AddressSet::empty(), |all, own| all.union(&own));
    let old = of_rules(&pairs);
    let [new, resets] =
        [Answer::GoesOn, Answer::Resets].map(|answer| of_file(plan, &pairs, answer));
    let mut holding = Holding { meaning, rules, old, new, resets, unsaid, unknown, held };
    holding.first_packets();
    holding.replies();
    holding.held
}

/// A list of the rules beside what stands for it in the file; nothing where the gateway does it by itself.
struct Pair<'r> {
    list: &'r RuleList,
    entries: Option<Vec<Entry>>,
}

/// The entries that stand for a list, of both families, in order.
fn entries(
    plan: &Plan,
    list: &RuleList,
    acls: &Acls,
    named: &Named,
    unread: &mut Vec<(String, String)>,
) -> Option<Vec<Entry>> {
    if list.implied {
        return None;
    }
    let lists: Vec<_> = match list.applies {
        Some(Applies::Interface { interface, out }) => {
            let device = super::device_on(plan, interface);
            let points = acls.points().iter().filter(|point| point.interface == device);
            points.flat_map(|point| point.lists(out)).filter_map(|name| acls.list(name)).collect()
        }
        _ => {
            let names = Family::ALL.map(|family| super::list_name(list, family));
            names.iter().filter_map(|name| acls.list(name)).collect()
        }
    };
    let mut all: Vec<Entry> = Vec::new();
    for list in lists {
        for mut entry in list.entries() {
            let at = || format!("{}, {}", list.name, entry.name);
            unread.extend(entry.unclear.iter().map(|what| (at(), what.clone())));
            // What leaves by an interface is not distinguished here, so that nothing is claimed of it.
            unread.extend(entry.egress.iter().map(|_| (at(), "`egress-interface`".to_owned())));
            if entry.opens_from_ports() {
                unread.push((at(), "`source-port` without `flags`".to_owned()));
            }
            entry.source = named.meant_by(entry.source);
            entry.destination = named.meant_by(entry.destination);
            all.push(entry);
        }
    }
    Some(all)
}

/// Lists that are put where the rules have none.
fn astray(rules: &RuleSet, acls: &Acls, unread: &mut Vec<(String, String)>) {
    let plan = rules.plan();
    let is_wanted = |device: &str, out: bool| {
        rules.lists.iter().any(|list| match list.applies {
            Some(Applies::Interface { interface, out: way }) => {
                way == out && !list.implied && super::device_on(plan, interface) == device
            }
            _ => false,
        })
    };
    for point in acls.points() {
        for out in [false, true] {
            for name in point.lists(out).filter(|_| !is_wanted(&point.interface, out)) {
                let what = format!("the list {name}, where the plan has none");
                unread.push((point.at(), what));
            }
        }
    }
}

struct Holding<'m, 'p, 'r> {
    meaning: &'m Meaning<'p>,
    rules: &'r RuleSet<'r>,
    /// The rules, as lines.
    old: Vec<Line>,
    /// The file, as lines.
    new: Vec<Line>,
    /// The same, where a reset comes back.
    resets: Vec<Line>,
    /// What the module has no words for, rule by rule.
    unsaid: &'m [Unsaid],
    /// Addresses that nobody knows beforehand.
    unknown: AddressSet,
    held: HeldLists,
}

impl Holding<'_, '_, '_> {
    /// What no list is asked about.
    fn unasked(&self) -> Vec<Match> {
        let mut unasked = never_asked(self.meaning);
        unasked.extend(self.rules.unseen.products());
        if !self.rules.before_translation {
            unasked.extend(self.rules.translations.iter().map(|one| one.takes.clone()));
        }
        unasked
    }

    /// What goes where nobody is, or comes from there. Lines for replies may take it in or not: nothing follows.
    fn nobody(&self) -> [Match; 2] {
        let plan = self.meaning.plan();
        super::rest::nobody(plan, &Surroundings::of(plan))
    }

    /// The same by the interface where it comes in. That is asked of what differs alone: it cuts packets into many pieces.
    fn nobody_here(&self) -> PacketSet {
        let plan = self.meaning.plan();
        super::rest::nobody_here(plan, &Surroundings::of(plan))
    }

    fn first_packets(&mut self) {
        let (old, new) = self.lines(&self.new, None);
        let (changes, undecided) = planless_changes_in(self.meaning, &self.unasked(), &old, &new);
        self.held.undecided += undecided;
        if changes.is_empty() {
            return;
        }
        let leaks = self.whole_leaks();
        let nobody: PacketSet = self.nobody().into_iter().collect();
        let (here, back) = (self.nobody_here(), self.services_of_replies());
        for mut change in changes {
            let (rule, entry) = (&old[change.before], &new[change.after]);
            let opens = entry.action == Action::Allow && rule.action != Action::Allow;
            change.packets = match opens {
                true if entry.id.starts_with("reply.") => {
                    // By services that come back there, and not whatever is called so.
                    let rest = change.packets.difference(&leaks);
                    if rest.is_empty() {
                        continue;
                    }
                    let theirs = rest.intersection(&nobody).union(&rest.intersection(&here));
                    rest.difference(&theirs.intersection(&back))
                }
                true => change.packets.difference(&leaks),
                // What looks like a reply is let in before anything logs it, by the rules as well.
                false if rule.action == entry.action && entry.id.starts_with("reply.") => {
                    change.packets.difference(&self.as_replies()).difference(&nobody)
                }
                false => change.packets.difference(&self.without_words(rule, entry)),
            };
            self.fault(change, &old, &new, false);
        }
    }

    /// Both sides' lines for first packets; or for what is answered to a class of ports.
    fn lines(&self, new: &[Line], class: Option<u16>) -> (Vec<PlanlessLine>, Vec<PlanlessLine>) {
        let of = |lines: &[Line]| lines.iter().map(|line| line.bare(class)).collect();
        (of(&self.old), of(new))
    }

    fn fault(
        &mut self,
        change: PlanlessChange,
        old: &[PlanlessLine],
        new: &[PlanlessLine],
        replies: bool,
    ) {
        if change.packets.is_empty() {
            return;
        }
        let of = |line: &PlanlessLine| Decides {
            name: line.id.clone(),
            action: line.action,
            log: line.log,
        };
        let (rule, entry) = (of(&old[change.before]), of(&new[change.after]));
        // Replies are looked at for each class of ports, and are the same in most.
        let known =
            self.held.faults.iter_mut().find(|fault| {
                fault.replies == replies && fault.rule == rule && fault.entry == entry
            });
        match known {
            Some(known) => known.packets.add(change.packets),
            None => {
                let packets = change.packets;
                self.held.faults.push(ListFault { packets, replies, rule, entry });
            }
        }
    }

    /// What of a change is owed to words that the module does not have: there the lists may be stricter.
    fn without_words(&self, rule: &PlanlessLine, entry: &PlanlessLine) -> PacketSet {
        let own = self.unsaid.iter().filter(|one| one.rule == rule.id || one.rule == entry.id);
        own.flat_map(|one| self.unsayable(one.why)).collect()
    }

    /// The packets that a reason is about.
    fn unsayable(&self, why: Why) -> Vec<Match> {
        let of = |service| vec![Match { service, ..Match::everything() }];
        let protocols = |which: &dyn Fn(Protocol) -> bool| {
            let all = (0..=u8::MAX).map(Protocol).filter(|protocol| which(*protocol));
            ServiceSet::both(IntervalSet::from_spans(all.map(Protocol::stretch)))
        };
        match why {
            Why::State | Why::Rate => Vec::new(),
            Why::Hours | Why::Translated => vec![Match::everything()],
            Why::Names | Why::Leased => {
                let unknown = &self.unknown;
                let (source, destination) = (unknown.clone(), unknown.clone());
                vec![
                    Match { source, ..Match::everything() },
                    Match { destination, ..Match::everything() },
                ]
            }
            Why::Ports => of(protocols(&|protocol| {
                protocol.has_ports() && ![Protocol::TCP, Protocol::UDP].contains(&protocol)
            })),
            Why::Rare => of(protocols(&|protocol| !super::USUAL.contains(&protocol.0))),
        }
    }

    /// Packets of the services that the rules take for replies, by interface and family, from anybody to anybody: an entry of
    /// the file may stand for several rules, and for more addresses.
    fn services_of_replies(&self) -> PacketSet {
        let mut by_interface: HashMap<Interface, ServiceSet> = HashMap::new();
        for rule in self.rules.lists.iter().flat_map(|list| &list.rules) {
            let Some((packets, from)) = rule.packets().zip(rule.replies_from()) else { continue };
            let mut service = packets.service.intersection(&from_anywhere(from));
            if packets.source.v6.is_empty() || packets.destination.v6.is_empty() {
                service.v6 = IntervalSet::empty();
            }
            if packets.source.v4.is_empty() || packets.destination.v4.is_empty() {
                service.v4 = IntervalSet::empty();
            }
            let interfaces = packets.enters.spans().iter().flat_map(|(low, high)| low.0..=high.0);
            for interface in interfaces.map(Interface) {
                let own = by_interface.entry(interface).or_insert_with(ServiceSet::empty);
                *own = own.union(&service);
            }
        }
        let of = |(interface, service)| {
            let enters = IntervalSet::point(interface);
            Match { enters, service, ..Match::everything() }
        };
        by_interface.into_iter().map(of).collect()
    }

    /// First packets that the rules take for replies.
    fn as_replies(&self) -> PacketSet {
        let rules = self.rules.lists.iter().flat_map(|list| &list.rules);
        let of = |rule: &Rule| {
            let matches = rule.packets()?;
            let service = matches.service.intersection(&from_anywhere(rule.replies_from()?));
            Some(Match { service, ..matches.clone() })
        };
        rules.filter_map(of).collect()
    }

    /// What the rules themselves let through beyond the plan whatever port it comes from.
    fn whole_leaks(&self) -> PacketSet {
        let all = leaks(self.meaning, self.rules).into_iter().map(|leak| {
            let service = from_anywhere(&leak.from);
            leak.packets.intersection(&Match { service, ..Match::everything() }.into())
        });
        let mut sum = PacketSet::empty();
        all.for_each(|leak| sum.add(leak));
        sum
    }

    /// Replies have the port that they come from in place of the one that they go to; which of those they go
    /// to, class by class.
    fn replies(&mut self) {
        if self.rules.rules().all(|rule| !rule.is_for_replies() || rule.packets().is_none()) {
            return;
        }
        let classes = self.classes();
        if classes.len() > MOST_CLASSES {
            self.held.undecided += 1;
            return;
        }
        let mut unasked = never_asked(self.meaning);
        unasked.extend(self.nobody());
        let here = self.nobody_here();
        let mut files = vec![std::mem::take(&mut self.new)];
        if self.resets != files[0] {
            files.push(std::mem::take(&mut self.resets));
        }
        for (file, class) in
            files.iter().flat_map(|file| classes.iter().map(move |class| (file, *class)))
        {
            let (old, new) = self.lines(file, Some(class));
            let (changes, undecided) = planless_changes_in(self.meaning, &unasked, &old, &new);
            self.held.undecided += undecided;
            for mut change in changes {
                let (rule, entry) = (&old[change.before], &new[change.after]);
                change.packets = match entry.action {
                    Action::Allow => change.packets.difference(&here),
                    _ => change.packets.difference(&self.without_words(rule, entry)),
                };
                self.fault(change, &old, &new, true);
            }
        }
    }

    /// A port of each class: ports between which no line distinguishes replies.
    fn classes(&self) -> BTreeSet<u16> {
        let mut borders = BTreeSet::from([0]);
        let mut see = |line: &IntervalSet<ServicePoint>| {
            let around = line.spans().iter().flat_map(|(low, high)| [Some(*low), high.next()]);
            borders.extend(around.flatten().filter_map(ServicePoint::destination_port));
        };
        for side in [&self.old, &self.new, &self.resets] {
            // Below the last line for replies of a list, what the lines do with first packets says it all.
            let (mut v4, mut v6) = (false, false);
            for line in side.iter().rev() {
                (v4, v6) = (v4 && !line.ends, v6 && !line.ends);
                for (product, _) in &line.products {
                    v4 |= line.back && !product.source.v4.is_empty();
                    v6 |= line.back && !product.source.v6.is_empty();
                }
                for (product, _) in &line.products {
                    if v4 && !product.source.v4.is_empty() {
                        see(&product.service.v4);
                    }
                    if v6 && !product.source.v6.is_empty() {
                        see(&product.service.v6);
                    }
                }
            }
        }
        borders
    }
}

/// What of a set is not known because it is leased.
fn leased(set: AddressSet) -> AddressSet {
    let unknown = set.ranges().filter(|(low, _)| Placeholder::of(*low).is_some());
    unknown.fold(AddressSet::empty(), |all, (low, high)| all.union(&AddressSet::range(low, high)))
}

/// The protocols of which every port is among these, and those that have none.
fn from_anywhere(from: &ServiceSet) -> ServiceSet {
    let family = |line: &IntervalSet<ServicePoint>| {
        let whole = (0..=u8::MAX)
            .map(Protocol)
            .filter(|protocol| !protocol.has_ports() || protocol.line().is_subset(line));
        IntervalSet::from_spans(whole.map(Protocol::stretch))
    };
    ServiceSet { v4: family(&from.v4), v6: family(&from.v6) }
}
