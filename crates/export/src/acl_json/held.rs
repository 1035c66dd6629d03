//! Whether lists of RFC 8519, as they were read, do what the rules do that they were written from: first
//! packets in one comparison, replies in another.
//!
//! Such lists keep no state. So they may let first packets through that look like replies, but only those that
//! the rules themselves let through; and where the module has no words for a rule, they may be stricter.

use super::read::{Acls, Entry};
use super::{AclFile, Unsaid, Why};
use crate::foreign::Named;
use bastium_core::addressing::StandIn;
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Plan, Uplink};
use bastium_core::proof::{BareChange, Proved, bare_changes_in, leaks, never_asked};
use bastium_core::rules::{Applies, BareLine, Otherwise, Rule, RuleList, RuleSet, Surroundings};
use bastium_core::space::{
    AddressSet, IntervalSet, Leg, Match, PacketSet, Protocol, ServicePoint, ServiceSet,
};
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

/// More borders between ports to which replies go than this are too many to be told apart.
const MOST_CLASSES: usize = 400;

/// Reads what was written, and holds it against the rules.
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
    astray(plan, rules, acls, &mut held.unread);
    let domains = plan.domains().iter().map(|domain| domain.stand_in.set());
    let uplinks = plan.uplinks().iter().map(Uplink::gateway).map(leased);
    let unknown = domains.chain(uplinks).fold(AddressSet::empty(), |all, own| all.union(&own));
    let (old, new) = sides(plan, &pairs);
    let mut holding = Holding { meaning, rules, old, new, unsaid, unknown, held };
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
        Some(Applies::Interface { leg, out }) => {
            let interface = super::interface(plan, leg);
            let points = acls.points().iter().filter(|point| point.interface == interface);
            points.flat_map(|point| point.lists(out)).filter_map(|name| acls.list(name)).collect()
        }
        _ => {
            let names = [false, true].map(|v6| super::list_name(list, v6));
            names.iter().filter_map(|name| acls.list(name)).collect()
        }
    };
    let mut all: Vec<Entry> = Vec::new();
    for list in lists {
        for mut entry in list.entries() {
            let at = || format!("{}, {}", list.name, entry.name);
            unread.extend(entry.unclear.iter().map(|what| (at(), what.clone())));
            // What leaves by an interface is not told apart here, so that nothing is claimed of it.
            unread.extend(entry.egress.iter().map(|_| (at(), "`egress-interface`".to_owned())));
            entry.source = named.meant_by(entry.source);
            entry.destination = named.meant_by(entry.destination);
            all.push(entry);
        }
    }
    Some(all)
}

/// Lists that are put where the rules have none.
fn astray(plan: &Plan, rules: &RuleSet, acls: &Acls, unread: &mut Vec<(String, String)>) {
    let is_wanted = |interface: &str, out: bool| {
        rules.lists.iter().any(|list| match list.applies {
            Some(Applies::Interface { leg, out: way }) => {
                way == out && !list.implied && super::interface(plan, leg) == interface
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
    rules: &'r RuleSet,
    /// The rules, as lines.
    old: Vec<Line>,
    /// The file, as lines.
    new: Vec<Line>,
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

    fn first_packets(&mut self) {
        let (old, new) = self.lines(None);
        let (changes, undecided) = bare_changes_in(self.meaning, &self.unasked(), &old, &new);
        self.held.undecided += undecided;
        if changes.is_empty() {
            return;
        }
        let leaks = self.whole_leaks();
        let nobody: PacketSet = self.nobody().into_iter().collect();
        for mut change in changes {
            let (rule, entry) = (&old[change.before], &new[change.after]);
            let opens = entry.action == Action::Allow && rule.action != Action::Allow;
            change.packets = match opens {
                true if entry.id.starts_with("reply.") => {
                    change.packets.difference(&leaks).difference(&nobody)
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
    fn lines(&self, class: Option<u16>) -> (Vec<BareLine>, Vec<BareLine>) {
        let of = |lines: &[Line]| lines.iter().map(|line| line.bare(class)).collect();
        (of(&self.old), of(&self.new))
    }

    fn fault(&mut self, change: BareChange, old: &[BareLine], new: &[BareLine], replies: bool) {
        if change.packets.is_empty() {
            return;
        }
        let of =
            |line: &BareLine| Decides { name: line.id.clone(), action: line.action, log: line.log };
        let (rule, entry) = (of(&old[change.before]), of(&new[change.after]));
        // Replies are looked at for each class of ports, and are the same in most.
        let known =
            self.held.faults.iter_mut().find(|fault| {
                fault.replies == replies && fault.rule == rule && fault.entry == entry
            });
        match known {
            Some(known) => known.packets = known.packets.union(&change.packets),
            None => {
                let packets = change.packets;
                self.held.faults.push(ListFault { packets, replies, rule, entry });
            }
        }
    }

    /// What of a change is owed to words that the module does not have: there the lists may be stricter.
    fn without_words(&self, rule: &BareLine, entry: &BareLine) -> PacketSet {
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

    /// First packets that the rules take for replies.
    fn as_replies(&self) -> PacketSet {
        let rules = self.rules.lists.iter().flat_map(|list| &list.rules);
        let of = |rule: &Rule| {
            let matches = rule.matches.as_ref()?;
            let service = matches.service.intersection(&from_anywhere(rule.back.as_ref()?));
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
        all.fold(PacketSet::empty(), |sum, leak| sum.union(&leak))
    }

    /// Replies have the port that they come from in place of the one that they go to; which of those they go
    /// to, class by class.
    fn replies(&mut self) {
        if self.rules.rules().all(|rule| rule.back.is_none() || rule.matches.is_none()) {
            return;
        }
        let classes = self.classes();
        if classes.len() > MOST_CLASSES {
            self.held.undecided += 1;
            return;
        }
        let mut unasked = never_asked(self.meaning);
        unasked.extend(self.nobody());
        for class in classes {
            let (old, new) = self.lines(Some(class));
            let (changes, undecided) = bare_changes_in(self.meaning, &unasked, &old, &new);
            self.held.undecided += undecided;
            for mut change in changes {
                let (rule, entry) = (&old[change.before], &new[change.after]);
                if entry.action != Action::Allow {
                    change.packets = change.packets.difference(&self.without_words(rule, entry));
                }
                self.fault(change, &old, &new, true);
            }
        }
    }

    /// A port of each class: ports between which no line tells replies apart.
    fn classes(&self) -> BTreeSet<u16> {
        let mut borders = BTreeSet::from([0]);
        let mut see = |line: &IntervalSet<u32>| {
            for border in line.spans().iter().flat_map(|(low, high)| [*low, high.saturating_add(1)])
            {
                if Protocol((border >> 16) as u8).has_ports() {
                    borders.insert(border as u16);
                }
            }
        };
        for side in [&self.old, &self.new] {
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

/// A line of either side.
struct Line {
    id: String,
    action: Action,
    log: bool,
    /// Whether it is for replies alone.
    back: bool,
    /// Whether it is the end of a list.
    ends: bool,
    /// What it matches, and the ports that this comes from; `None` for any.
    products: Vec<(Match, Option<ServiceSet>)>,
}

impl Line {
    fn of_rule(rule: &Rule, covers: &[Match]) -> Self {
        let matches = rule.matches.as_ref().map(|matches| within(covers, matches));
        let products = matches.into_iter().flatten().map(|product| (product, rule.back.clone()));
        Self {
            id: rule.id.clone(),
            action: rule.action,
            log: rule.log,
            back: rule.back.is_some(),
            ends: false,
            products: products.collect(),
        }
    }

    fn of_entry(plan: &Plan, entry: &Entry, covers: &[Match]) -> Self {
        let mut product = Match {
            source: entry.source.clone(),
            destination: entry.destination.clone(),
            service: entry.service.clone(),
            ..Match::everything()
        };
        if let Some(name) = &entry.ingress {
            let legs = (0..plan.gateway_leg().0).map(Leg);
            let named = legs.filter(|leg| super::interface(plan, *leg) == *name);
            product.enters = named.flat_map(|leg| [leg, plan.translated_leg(leg)]).collect();
        }
        let matches = within(covers, &product).into_iter();
        Self {
            id: super::rule_of(&entry.name).to_owned(),
            action: entry.action.unwrap_or(Action::Block),
            log: entry.log,
            back: entry.established || entry.from.is_some(),
            ends: false,
            products: matches.map(|product| (product, entry.from.clone())).collect(),
        }
    }

    /// Everything that a list is asked about.
    fn whole(id: &str, action: Action, matches: Vec<Match>) -> Self {
        let products = matches.into_iter().map(|product| (product, None)).collect();
        Self { id: id.to_owned(), action, log: false, back: false, ends: true, products }
    }

    /// As a line for first packets; or for what is answered to a class of ports.
    fn bare(&self, class: Option<u16>) -> BareLine {
        let matches = match class {
            None if self.back => Vec::new(),
            None => self.products.iter().map(|(product, _)| product.clone()).collect(),
            Some(class) => {
                let each = self.products.iter().map(|(product, from)| Match {
                    service: coming_from(&product.service, from.as_ref(), class),
                    ..product.clone()
                });
                each.filter(|product| !product.is_empty()).collect()
            }
        };
        BareLine::new(&self.id, 0, matches, self.action, self.log && class.is_none())
    }
}

/// What of a set is not known because it is leased.
fn leased(set: AddressSet) -> AddressSet {
    let unknown = set.ranges().filter(|(low, _)| StandIn::of(*low).is_some());
    unknown.fold(AddressSet::empty(), |all, (low, high)| all.union(&AddressSet::range(low, high)))
}

/// Both sides' lines, in order.
fn sides(plan: &Plan, pairs: &[Pair<'_>]) -> (Vec<Line>, Vec<Line>) {
    let (mut old, mut new) = (Vec::new(), Vec::new());
    for Pair { list, entries } in pairs {
        let covers: Vec<Match> = list.packets().products().collect();
        let rules = || list.rules.iter().map(|rule| Line::of_rule(rule, &covers));
        old.extend(rules());
        old.extend(end(list, &covers));
        match entries {
            // What the gateway does by itself stands in no file.
            None => new.extend(rules()),
            Some(entries) => {
                let lines = entries.iter().map(|entry| Line::of_entry(plan, entry, &covers));
                new.extend(merged(lines));
                new.extend(bare_families(list, entries, &covers));
            }
        }
        new.extend(end(list, &covers));
    }
    (old, new)
}

/// Lines that follow each other and do the same, as one each, of few products: a rule takes many entries.
fn merged(lines: impl Iterator<Item = Line>) -> Vec<Line> {
    let mut all: Vec<Line> = Vec::new();
    for line in lines {
        let kind = |line: &Line| (line.id.clone(), line.action, line.log, line.back);
        match all.last_mut() {
            Some(last) if kind(last) == kind(&line) => last.products.extend(line.products),
            _ => all.push(line),
        }
    }
    for line in &mut all {
        let products = std::mem::take(&mut line.products);
        let products = joined(products, |p| &mut p.service, |a, b| *a = a.union(b));
        let products = joined(products, |p| &mut p.destination, |a, b| *a = a.union(b));
        line.products = joined(products, |p| &mut p.source, |a, b| *a = a.union(b));
    }
    all
}

/// Products that differ in one dimension alone, as one.
fn joined<T: Default>(
    products: Vec<(Match, Option<ServiceSet>)>,
    dimension: impl Fn(&mut Match) -> &mut T,
    join: impl Fn(&mut T, &T),
) -> Vec<(Match, Option<ServiceSet>)> {
    let mut parts: HashMap<(Match, Option<ServiceSet>), T> = HashMap::new();
    let mut order = Vec::new();
    for (mut product, from) in products {
        let own = std::mem::take(dimension(&mut product));
        let key = (product, from);
        match parts.get_mut(&key) {
            Some(known) => join(known, &own),
            None => {
                order.push(key.clone());
                parts.insert(key, own);
            }
        }
    }
    let put_back = |key: (Match, Option<ServiceSet>)| {
        let own = parts.remove(&key)?;
        let (mut product, from) = key;
        *dimension(&mut product) = own;
        Some((product, from))
    };
    order.into_iter().filter_map(put_back).collect()
}

/// What comes from these ports and goes to that one: of protocols with ports, by the ports that it comes from.
fn coming_from(to: &ServiceSet, from: Option<&ServiceSet>, class: u16) -> ServiceSet {
    let any = IntervalSet::full();
    let family = |to: &IntervalSet<u32>, from: &IntervalSet<u32>| {
        let mut left = to.clone();
        let mut back = Vec::new();
        for protocol in (0..=u8::MAX).map(Protocol).filter(|protocol| protocol.has_ports()) {
            let (low, high) = protocol.stretch();
            let stretch = IntervalSet::range(low, high);
            if to.contains(ServicePoint::port(protocol, class).coordinate()) {
                back.extend(from.intersection(&stretch).spans().to_vec());
            }
            left = left.difference(&stretch);
        }
        left.union(&IntervalSet::from_spans(back))
    };
    let of = |line: fn(&ServiceSet) -> &IntervalSet<u32>| from.map_or(&any, line);
    ServiceSet { v4: family(&to.v4, of(|from| &from.v4)), v6: family(&to.v6, of(|from| &from.v6)) }
}

/// The protocols of which every port is among these, and those that have none.
fn from_anywhere(from: &ServiceSet) -> ServiceSet {
    let family = |line: &IntervalSet<u32>| {
        let all = (0..=u8::MAX).map(Protocol).map(|protocol| (protocol, protocol.stretch()));
        let whole = all.filter(|(protocol, (low, high))| {
            !protocol.has_ports() || IntervalSet::range(*low, *high).is_subset(line)
        });
        IntervalSet::from_spans(whole.map(|(_, stretch)| stretch))
    };
    ServiceSet { v4: family(&from.v4), v6: family(&from.v6) }
}

/// A product, as far as a list is asked about it.
fn within(covers: &[Match], product: &Match) -> Vec<Match> {
    let near = covers.iter().filter(|cover| !cover.enters.is_disjoint(&product.enters));
    near.map(|cover| product.intersection(cover)).filter(|part| !part.is_empty()).collect()
}

/// What the end of a list does.
fn end(list: &RuleList, covers: &[Match]) -> Option<Line> {
    let action = match list.otherwise {
        Otherwise::GoOn => return None,
        Otherwise::Allow => Action::Allow,
        Otherwise::Block => Action::Block,
    };
    let name = format!("the end of {}", list.name);
    Some(Line::whole(&name, action, covers.to_vec()))
}

/// A family of which no list is put on an interface passes there.
fn bare_families(list: &RuleList, entries: &[Entry], covers: &[Match]) -> Option<Line> {
    if !matches!(list.applies, Some(Applies::Interface { .. })) || list.otherwise == Otherwise::GoOn
    {
        return None;
    }
    let spoken: AddressSet = entries.iter().map(|entry| entry.source.clone()).collect();
    let mut silent = AddressSet::empty();
    if spoken.v4.is_empty() {
        silent = silent.union(&AddressSet::full().only_v4());
    }
    if spoken.v6.is_empty() {
        silent = silent.union(&AddressSet::full().only_v6());
    }
    let all = Match { source: silent, ..Match::everything() };
    Some(Line::whole("no list at all", Action::Allow, within(covers, &all)))
}
