//! The old and the new list merged into one, in which each keeps its own order. Every state of a changeover is a
//! selection of its rows.

use super::typed::Entry;
use crate::meaning::Meaning;
use crate::plan::{Action, Form, Plan, Rows};
use crate::proof::{Joint, Side};
use crate::rules::{Effect, Matches, Otherwise, Rule, RuleId, RuleList, RuleSet, Stage};
use crate::space::{Interface, IntervalSet, Match, PacketSet, ServiceSet};
use similar::{Algorithm, DiffTag, capture_diff_slices};
use std::collections::HashMap;
use std::hash::Hash;

/// A list of the old rules, of the new ones, or of both.
#[derive(Clone, Debug)]
pub(super) struct List {
    pub(super) name: String,
    /// Whether the gateway does so by itself.
    pub(super) implied: bool,
    pub(super) in_old: bool,
    pub(super) in_new: bool,
    /// What it is asked about: in the old surroundings, in those of both, in the new ones.
    pub(super) old: PacketSet,
    pub(super) both: PacketSet,
    pub(super) new: PacketSet,
}

/// A row of the old list, of the new one, or of both.
#[derive(Clone, Debug, Default)]
pub(super) struct Row<'r> {
    pub(super) list: usize,
    pub(super) old: Option<&'r Rule>,
    pub(super) new: Option<&'r Rule>,
    /// What its list does with the rest, for the row that stands for it.
    pub(super) end: Option<Action>,
    /// Whether it is there before and after, for a row that stands for the rest.
    pub(super) ends: (bool, bool),
    /// For a row of the new list: the row just above it that it is made of.
    pub(super) alters: Option<usize>,
    /// For a row of the new list: the row of the old one that says the same elsewhere.
    pub(super) moves: Option<usize>,
    /// A rule that is there only while the others are changed.
    pub(super) temporary: Option<Box<Rule>>,
}

/// Both lists as one.
#[derive(Debug)]
pub(super) struct Merged<'r> {
    pub(super) joint: Joint,
    pub(super) old: Entry,
    pub(super) new: Entry,
    pub(super) lists: Vec<List>,
    pub(super) rows: Vec<Row<'r>>,
    /// The uplinks of both plans.
    pub(super) uplinks: IntervalSet<Interface>,
    /// Whether no state is kept, so that a reply needs a rule of its own.
    pub(super) stateless: bool,
    /// Whether rules against spoofed sources share a number.
    pub(super) shared: bool,
    /// Where one list stands for several: the list of each rule of the plan, by its place among [`Self::lists`]. Two rules that
    /// say the same are not the same if their lists are asked about other packets.
    listed: HashMap<RuleId, usize>,
}

/// What a row does, without its name, its number and its reasons.
#[derive(Clone, PartialEq, Eq, Hash)]
struct Content {
    products: Vec<(Match, Option<ServiceSet>)>,
    effect: Effect,
    /// The list of a rule of the plan, where one stands for several.
    listed: Option<usize>,
}

/// A stretch of one list, with the rules in it.
type Stretch<'r> = [&'r Rule];

impl<'r> Merged<'r> {
    /// Merges rules of two plans. Where rows can only be added at the end, everything below the first change is there
    /// twice.
    pub(super) fn new(
        (old, old_rules): (&Meaning<'_>, &'r RuleSet<'r>),
        (new, new_rules): (&Meaning<'_>, &'r RuleSet<'r>),
        at_the_end: bool,
    ) -> Self {
        let joint = Joint::of(old.plan(), new.plan());
        let shared = new.plan().gateway().rules == Rows::Fewest;
        let uplinks = |side: &Side, plan: &Plan| {
            let all = plan.uplink_interfaces();
            let packets = Match { enters: all, ..Match::everything() };
            side.product(&packets).enters
        };
        let before = uplinks(joint.old_side(), old.plan());
        let uplinks = before.union(&uplinks(joint.new_side(), new.plan()));
        let stateless = [old_rules, new_rules].iter().any(|rules| rules.form == Form::PerInterface);
        let (lists, rows) = (Vec::new(), Vec::new());
        let entry = |side: &Side, rules: &RuleSet| Entry::new(side, joint.outer(), rules);
        let old = entry(joint.old_side(), old_rules);
        let new = entry(joint.new_side(), new_rules);
        let listed = HashMap::new();
        let mut merged = Self { joint, old, new, lists, rows, uplinks, stateless, shared, listed };
        let as_one = new_rules.stood_for_in(old_rules);
        let whole = old_rules.list(Stage::Whole);
        if let Some(whole) = whole {
            let lists = as_one.iter().map(|place| &new_rules.lists[*place]);
            merged.add_to_one(whole, &lists.collect::<Vec<_>>(), at_the_end);
        }
        let left = |list: &&RuleList| list.stage != Stage::Whole;
        let old: Vec<&RuleList> = old_rules.lists.iter().filter(left).collect();
        let new = new_rules.lists.iter().enumerate();
        let new: Vec<&RuleList> =
            new.filter(|(place, _)| !as_one.contains(place)).map(|(_, list)| list).collect();
        for (before, after) in paired(&old, &new) {
            merged.add(before, after, at_the_end);
        }
        merged
    }

    /// A single list that stands for several of the new form: their rows are put into it one after the other, each for
    /// what its own list is asked about.
    fn add_to_one(&mut self, old: &'r RuleList, new: &[&'r RuleList], at_the_end: bool) {
        let first = self.lists.len();
        let list = |covers: PacketSet| List {
            name: old.name.clone(),
            implied: false,
            in_old: true,
            in_new: true,
            old: covers.clone(),
            both: covers.clone(),
            new: covers,
        };
        self.lists.push(list(self.old.side().joined(&old.covers)));
        let covers = new.iter().map(|list| self.new.side().joined(&list.covers));
        let covers: Vec<List> = covers.map(list).collect();
        self.lists.extend(covers);
        let before: Vec<&'r Rule> = old.rules.iter().collect();
        let after: Vec<&'r Rule> = new.iter().flat_map(|list| &list.rules).collect();
        let mut of = new.iter().zip(first + 1..).flat_map(|(list, at)| vec![at; list.rules.len()]);
        // A rule of the plan is for what its own list is asked about, wherever the row stands.
        let listed = new.iter().zip(first + 1..);
        let listed = listed.flat_map(|(list, at)| list.rules.iter().map(move |rule| (rule, at)));
        self.listed = listed.map(|(rule, at)| (rule.id.clone(), at)).collect();
        let begins = self.rows.len();
        self.add_rows(first, &before, &after, at_the_end);
        for row in &mut self.rows[begins..] {
            row.list = match (row.new, row.old) {
                (Some(_), _) => of.next().unwrap_or(first),
                (None, Some(old)) if !matches!(old.matches, Matches::Written(_)) => {
                    self.listed.get(&old.id).copied().unwrap_or(first)
                }
                _ => first,
            };
        }
        // What nothing lets pass is blocked in the end: an end that does so can stay.
        let row = |list, end, ends| Row { list, end: Some(end), ends, ..Row::default() };
        for (list, at) in new.iter().zip(first + 1..) {
            let allows = end_of(list).filter(|end| *end == Action::Allow);
            self.rows.extend(allows.map(|end| row(at, end, (false, true))));
        }
        let end = end_of(old);
        self.rows.extend(end.map(|end| row(first, end, (true, end == Action::Block))));
    }

    /// Whether two rows stand in one list of the gateway.
    pub(super) fn in_one_list(&self, one: usize, other: usize) -> bool {
        let (one, other) = (self.rows[one].list, self.rows[other].list);
        one == other || self.lists[one].name == self.lists[other].name
    }

    /// The same lists, with other rows.
    pub(super) fn with_rows(&self, rows: Vec<Row<'r>>) -> Self {
        let (joint, lists, uplinks) =
            (self.joint.clone(), self.lists.clone(), self.uplinks.clone());
        let (old, new) = (self.old.clone(), self.new.clone());
        let listed = self.listed.clone();
        Self { joint, old, new, lists, rows, uplinks, listed, ..*self }
    }

    /// Packets by interfaces that both plans have: by others none comes as long as rules are changed.
    pub(super) fn coming(&self) -> Match {
        let lacks: Vec<Interface> =
            [&self.old, &self.new].iter().flat_map(|entry| entry.side().lacking()).collect();
        let outer = Interface::of_index(self.joint.outer()).0;
        let came_by =
            |number: &u16| Interface(if *number > outer { number - outer - 1 } else { *number });
        let all = (0..=2 * outer + 1).filter(|number| !lacks.contains(&came_by(number)));
        Match { enters: all.map(Interface).collect(), ..Match::everything() }
    }

    fn add(&mut self, old: Option<&'r RuleList>, new: Option<&'r RuleList>, at_the_end: bool) {
        let covers =
            |list: Option<&RuleList>, side: &Side| list.map(|list| side.joined(&list.covers));
        let before = covers(old, self.old.side());
        let after = covers(new, self.new.side());
        let both = match (&before, &after) {
            (Some(one), Some(other)) if one.is_same(other) => one.clone(),
            (Some(one), Some(other)) => one.union(other),
            (one, other) => one.clone().or_else(|| other.clone()).unwrap_or_default(),
        };
        let Some(list) = new.or(old) else { return };
        let number = self.lists.len();
        self.lists.push(List {
            name: list.name.clone(),
            implied: list.implied,
            in_old: old.is_some(),
            in_new: new.is_some(),
            old: before.unwrap_or_else(|| both.clone()),
            new: after.unwrap_or_else(|| both.clone()),
            both,
        });
        let rules = |list: Option<&'r RuleList>| -> Vec<&'r Rule> {
            list.map(|list| list.rules.iter().collect()).unwrap_or_default()
        };
        self.add_rows(number, &rules(old), &rules(new), at_the_end);
        self.add_ends(number, old, new);
    }

    fn add_rows(&mut self, list: usize, old: &Stretch<'r>, new: &Stretch<'r>, at_the_end: bool) {
        let contents = |entry: &Entry, rules: &Stretch<'r>| -> Vec<Content> {
            rules.iter().map(|rule| Content::of(entry, &self.listed, rule)).collect()
        };
        let before = contents(&self.old, old);
        let after = contents(&self.new, new);
        let first = self.rows.len();
        let row = Row { list, ..Row::default() };
        let ops = match at_the_end {
            true => common_beginning(&before, &after),
            false => differences(&before, &after),
        };
        for (tag, was, is) in ops {
            if tag == DiffTag::Equal {
                let pairs = old[was].iter().zip(&new[is]);
                let both = |(one, other): (&&'r Rule, &&'r Rule)| Row {
                    old: Some(*one),
                    new: Some(*other),
                    ..row.clone()
                };
                self.rows.extend(pairs.map(both));
            } else {
                self.add_gap(&row, &old[was], &new[is], at_the_end);
            }
        }
        self.find_moved(first);
    }

    /// Rows of the old list alone and rows of the new one alone, each new one below the old one of its name.
    fn add_gap(&mut self, row: &Row<'r>, old: &Stretch<'r>, new: &Stretch<'r>, at_the_end: bool) {
        let gone = |rule: &&'r Rule| Row { old: Some(*rule), ..row.clone() };
        let added = |rule: &&'r Rule| Row { new: Some(*rule), ..row.clone() };
        if at_the_end {
            self.rows.extend(old.iter().map(gone));
            self.rows.extend(new.iter().map(added));
            return;
        }
        let ids = |rules: &Stretch<'r>| -> Vec<&'r RuleId> {
            rules.iter().map(|rule| &rule.id).collect()
        };
        for (tag, was, is) in differences(&ids(old), &ids(new)) {
            if tag != DiffTag::Equal {
                self.rows.extend(old[was].iter().map(gone));
                self.rows.extend(new[is].iter().map(added));
                continue;
            }
            for (one, other) in old[was].iter().zip(&new[is]) {
                let alters = Some(self.rows.len());
                self.rows.push(gone(one));
                self.rows.push(Row { alters, ..added(other) });
            }
        }
    }

    /// Finds rows that say the same at another place.
    fn find_moved(&mut self, first: usize) {
        let mut left: HashMap<Content, Vec<usize>> = HashMap::new();
        let altered: Vec<usize> = self.rows[first..].iter().filter_map(|row| row.alters).collect();
        for (place, row) in self.rows.iter().enumerate().skip(first) {
            if let (Some(rule), None) = (row.old, row.new)
                && !altered.contains(&place)
            {
                left.entry(Content::of(&self.old, &self.listed, rule)).or_default().push(place);
            }
        }
        for place in first..self.rows.len() {
            let row = &self.rows[place];
            if let (None, Some(rule), None) = (row.old, row.new, row.alters) {
                let content = Content::of(&self.new, &self.listed, rule);
                self.rows[place].moves = left.get_mut(&content).and_then(Vec::pop);
            }
        }
    }

    /// What a list does with the rest.
    fn add_ends(&mut self, list: usize, old: Option<&RuleList>, new: Option<&RuleList>) {
        let (before, after) = (old.and_then(end_of), new.and_then(end_of));
        let row = |end, ends| Row { list, end: Some(end), ends, ..Row::default() };
        match (before, after) {
            (Some(one), Some(other)) if one == other => self.rows.push(row(one, (true, true))),
            _ => {
                self.rows.extend(before.map(|end| row(end, (true, false))));
                self.rows.extend(after.map(|end| row(end, (false, true))));
            }
        }
    }
}

impl<'r> Row<'r> {
    pub(super) fn is_in_old(&self) -> bool {
        self.old.is_some() || self.ends.0
    }

    pub(super) fn is_in_new(&self) -> bool {
        self.new.is_some() || self.ends.1
    }

    /// Its rule, as the new list has it if it is there.
    pub(super) fn rule(&self) -> Option<&Rule> {
        self.temporary.as_deref().or(self.new).or(self.old)
    }
}

impl Content {
    fn of(entry: &Entry, listed: &HashMap<RuleId, usize>, rule: &Rule) -> Self {
        let own = !matches!(rule.matches, Matches::Written(_));
        let listed = listed.get(&rule.id).copied().filter(|_| own);
        Self { products: entry.products(rule), effect: Effect::of(rule), listed }
    }
}

/// What a list does with the rest, if it decides that.
fn end_of(list: &RuleList) -> Option<Action> {
    match list.otherwise {
        Otherwise::GoOn => None,
        Otherwise::Allow => Some(Action::Allow),
        Otherwise::Block => Some(Action::Block),
    }
}

/// The lists of both, those of one stage and name together: in the order of the new ones, and each that is gone below
/// the one that it stood below. Lists for pairs and for interfaces share no packet, so that their order does not count;
/// all others are always in the same order.
fn paired<'r>(
    old: &[&'r RuleList],
    new: &[&'r RuleList],
) -> Vec<(Option<&'r RuleList>, Option<&'r RuleList>)> {
    fn key(list: &RuleList) -> (Stage, &str) {
        (list.stage, list.name.as_str())
    }
    let same = |one: &RuleList| new.iter().position(|other| key(other) == key(one));
    let mut all: Vec<(Option<&'r RuleList>, Option<&'r RuleList>)> = new
        .iter()
        .map(|list| (old.iter().find(|other| key(other) == key(list)).copied(), Some(*list)))
        .collect();
    for (place, list) in old.iter().enumerate().filter(|(_, list)| same(list).is_none()) {
        let above = place.checked_sub(1).map(|above| key(old[above]));
        let is_above = |(one, other): &(Option<&RuleList>, Option<&RuleList>)| {
            one.or(*other).map(key) == above
        };
        let place = all.iter().position(is_above).map_or(0, |place| place + 1);
        all.insert(place, (Some(*list), None));
    }
    all
}

type Op = (DiffTag, std::ops::Range<usize>, std::ops::Range<usize>);

/// The fewest differences between two sequences: what both have in common is as long as it can be.
fn differences<K: Hash + Eq>(old: &[K], new: &[K]) -> Vec<Op> {
    let mut numbers: HashMap<&K, usize> = HashMap::new();
    let mut number = |key| {
        let next = numbers.len();
        *numbers.entry(key).or_insert(next)
    };
    let old: Vec<usize> = old.iter().map(&mut number).collect();
    let new: Vec<usize> = new.iter().map(&mut number).collect();
    let ops = capture_diff_slices(Algorithm::Myers, &old, &new);
    ops.into_iter().map(|op| op.as_tag_tuple()).collect()
}

/// What both begin with, and the rest of each.
fn common_beginning<K: Eq>(old: &[K], new: &[K]) -> Vec<Op> {
    let same = old.iter().zip(new).take_while(|(one, other)| one == other).count();
    vec![(DiffTag::Equal, 0..same, 0..same), (DiffTag::Replace, same..old.len(), same..new.len())]
}
