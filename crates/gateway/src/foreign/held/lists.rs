//! Sorts rows into the lists of a plan's form.

use super::alike::{Kinds, Own, Sets, alike};
use super::{HeldRules, Naming, NotHeld, Row, coming};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Form};
use bastium_core::rules::{HeldList, Matches, Otherwise, Rule, RuleSet, Stage};
use bastium_core::space::{Match, PacketSet, ServiceSet};

/// A list of the form that has to be entered.
struct List<'r> {
    /// Its place among all lists.
    place: usize,
    name: &'r str,
    opens: bool,
    rules: &'r [Rule],
    otherwise: Otherwise,
    /// What can come to it.
    asked: PacketSet,
}

/// A row with the packets of it that can come.
struct Deciding {
    row: Row,
    packets: PacketSet,
}

/// Rows that somebody has put into the lists of a form.
struct Filled<'r> {
    lists: Vec<List<'r>>,
    rows: Vec<Deciding>,
    ends: Vec<Deciding>,
    naming: Naming,
    /// Whether replies are let back before anything else is asked.
    replies: bool,
}

/// Puts rows of one list, or of several whose rows are in the order in which they are asked, into the lists of a form.
///
/// # Errors
/// When a row is for several of these.
pub(super) fn held<'p>(
    meaning: &Meaning<'_>,
    rules: &RuleSet<'p>,
    rows: Vec<Row>,
    replies: bool,
    single: bool,
) -> Result<HeldRules<'p>, NotHeld> {
    let coming = coming(meaning, rules);
    let lists = lists_of(rules, &coming);
    let all = rows.len();
    let deciding = rows.into_iter().map(|row| row.deciding(&coming));
    let asked = |one: &Deciding| lists.iter().any(|list| !list.asked.is_disjoint(&one.packets));
    let deciding: Vec<Deciding> = deciding.filter(|one| one.row.end || asked(one)).collect();
    let idle = all - deciding.len();
    let (ends, rows): (Vec<_>, Vec<_>) = deciding.into_iter().partition(|one| one.row.end);
    let mut filled = Filled { lists, rows, ends, naming: Naming::default(), replies };
    let places = filled.places();
    let rules = match places {
        Ok(places) if !(single && rules.form == Form::OneList) => filled.apart(rules, &places),
        Err(several) if rules.form != Form::OneList => return Err(several),
        _ => filled.as_one(rules),
    };
    let labels = filled.naming.labels;
    Ok(HeldRules { rules, labels, idle, trusts_replies: false })
}

/// The same for rows of which it is known in which list they stand, by its place among those that have to be entered.
pub(super) fn fill<'p>(
    meaning: &Meaning<'_>,
    rules: &RuleSet<'p>,
    rows: Vec<(usize, Row)>,
) -> HeldRules<'p> {
    let coming = coming(meaning, rules);
    let lists = lists_of(rules, &coming);
    let (mut places, mut held, mut ends) = (Vec::new(), Vec::new(), Vec::new());
    for (place, row) in rows {
        if row.end {
            ends.push(row.deciding(&coming));
        } else {
            places.push(place);
            held.push(row.deciding(&coming));
        }
    }
    let naming = Naming::default();
    let mut filled = Filled { lists, rows: held, ends, naming, replies: false };
    let rules = filled.apart(rules, &places);
    HeldRules { rules, labels: filled.naming.labels, idle: 0, trusts_replies: false }
}

fn lists_of<'r>(rules: &'r RuleSet<'r>, coming: &PacketSet) -> Vec<List<'r>> {
    let mut left = coming.clone();
    let mut lists = Vec::new();
    for (place, list) in rules.lists.iter().enumerate() {
        let asked = list.packets().intersection(&left);
        if list.otherwise != Otherwise::GoOn {
            left = left.difference(&asked);
        }
        let (name, opens) = (list.name.as_str(), list.stage == Stage::Opening);
        let (rules, otherwise) = (list.rules.as_slice(), list.otherwise);
        if !list.implied {
            lists.push(List { place, name, opens, rules, otherwise, asked });
        }
    }
    lists
}

impl Row {
    fn deciding(self, coming: &PacketSet) -> Deciding {
        let packets = self.packets().intersection(coming);
        Deciding { row: self, packets }
    }
}

impl Filled<'_> {
    /// The list of each row. Rows for several lists can stand in the opening one, as long as no others stand above them.
    fn places(&self) -> Result<Vec<usize>, NotHeld> {
        let opening = self.lists.iter().position(|list| list.opens);
        let mut in_opening = opening.is_some();
        let mut places = Vec::new();
        for Deciding { row, packets } in &self.rows {
            let lists = self.lists.iter().enumerate().filter(|(_, list)| !list.opens);
            let own = lists.filter(|(_, list)| !list.asked.is_disjoint(packets));
            let own: Vec<usize> = own.map(|(place, _)| place).collect();
            in_opening &= opening.is_some_and(|opening| {
                let list = &self.lists[opening];
                let known = |rule: &Rule| {
                    rule.action == row.action
                        && rule.first_packets().is_some_and(|own| packets.is_subset(&own.into()))
                };
                packets.is_subset(&list.asked) && (own.len() > 1 || list.rules.iter().any(known))
            });
            match (in_opening, own.as_slice()) {
                (true, _) => places.extend(opening),
                (false, [own]) => places.push(*own),
                (false, []) => places.push(0),
                (false, [one, other, ..]) => {
                    let lists = [*one, *other].map(|place| self.lists[place].name.to_owned());
                    return Err(NotHeld::Several { at: row.label.clone(), lists });
                }
            }
        }
        Ok(places)
    }

    /// The rows, each in its list.
    fn apart<'p>(&mut self, rules: &RuleSet<'p>, places: &[usize]) -> RuleSet<'p> {
        let lists = 0..self.lists.len();
        let held = lists.map(|list| {
            let rows = (0..self.rows.len()).filter(|row| places[*row] == list).collect::<Vec<_>>();
            let (ends, otherwise) = self.end(&[list], self.lists[list].otherwise);
            let rules = self.rules(&rows, &[list]);
            HeldList { rules: rules.into_iter().chain(ends).collect(), otherwise }
        });
        rules.held(held.collect())
    }

    /// The rows, in a single list for all that they are asked about.
    fn as_one<'p>(&mut self, rules: &RuleSet<'p>) -> RuleSet<'p> {
        let touched = |list: &List<'_>| {
            let mut all = self.rows.iter().chain(&self.ends);
            all.any(|one| !list.asked.is_disjoint(&one.packets))
        };
        let among: Vec<usize> =
            (0..self.lists.len()).filter(|list| touched(&self.lists[*list])).collect();
        let rows: Vec<usize> = (0..self.rows.len()).collect();
        let (ends, otherwise) = self.end(&among, Otherwise::Block);
        let own = self.rules(&rows, &among);
        let held = HeldList { rules: own.into_iter().chain(ends).collect(), otherwise };
        let among: Vec<usize> = among.iter().map(|list| self.lists[*list].place).collect();
        rules.held_as_one(held, &among)
    }

    /// What the end of lists does. Where it does not do the same with everything, with rules for what it lets pass.
    fn end(&mut self, lists: &[usize], own: Otherwise) -> (Vec<Rule>, Otherwise) {
        if own == Otherwise::GoOn {
            return (Vec::new(), own);
        }
        let asked =
            lists.iter().fold(PacketSet::empty(), |all, list| all.union(&self.lists[*list].asked));
        let part = |action: Action| -> PacketSet {
            let ends = self
                .ends
                .iter()
                .filter(|end| (end.row.action == Action::Allow) == (action == Action::Allow));
            ends.fold(PacketSet::empty(), |all, end| all.union(&end.packets.intersection(&asked)))
        };
        let (allowed, blocked) = (part(Action::Allow), part(Action::Block));
        match (allowed.is_empty(), blocked.is_empty()) {
            // Nobody has said what becomes of it: it is as the plan has it.
            (true, true) => (Vec::new(), own),
            (true, false) => (Vec::new(), Otherwise::Block),
            (false, true) => (Vec::new(), Otherwise::Allow),
            (false, false) => {
                let passes = |end: &&Deciding| {
                    end.row.action == Action::Allow && !end.packets.is_disjoint(&asked)
                };
                let ends = self.ends.iter().filter(passes);
                let ends = ends.map(|end| self.naming.rule(&end.row)).collect();
                (ends, Otherwise::Block)
            }
        }
    }

    /// Rows of lists as rules, those that say what rules of the plan say as these.
    fn rules(&mut self, rows: &[usize], lists: &[usize]) -> Vec<Rule> {
        let all = || lists.iter().map(|list| &self.lists[*list]);
        let from = all().flat_map(|list| list.rules).filter_map(Rule::replies_from);
        let rows: Vec<&Deciding> = rows.iter().map(|row| &self.rows[*row]).collect();
        let products = rows.iter().flat_map(|one| &one.row.products);
        let kinds = Kinds::of(from.chain(products.filter_map(|(_, from)| from.as_ref())));
        let found = kinds.map_or_else(Vec::new, |kinds| {
            let own: Vec<Own<'_>> = all()
                .flat_map(|list| list.rules.iter().map(move |rule| (list, rule)))
                .map(|(list, rule)| Own { rule, sets: kinds.sets(&owned(rule), &list.asked) })
                .collect();
            let asked = all().fold(PacketSet::empty(), |all, list| all.union(&list.asked));
            let rows = rows
                .iter()
                .map(|one| Sets { row: &one.row, sets: kinds.sets(&one.row.products, &asked) });
            alike(&rows.collect::<Vec<_>>(), &own)
        });
        let own: Vec<&Rule> = all().flat_map(|list| list.rules).collect();
        let mut rules: Vec<Rule> = Vec::new();
        if self.replies {
            let back = own.iter().filter(|rule| rule.matches == Matches::Established);
            rules.extend(back.map(|rule| (*rule).clone()));
        }
        for (place, one) in rows.iter().enumerate() {
            let Some(like) = found.get(place).copied().flatten() else {
                rules.push(self.naming.rule(&one.row));
                continue;
            };
            // Several rows that say it together count as one, where the first of them stands.
            let together = |other: &usize| found[*other] == Some(like);
            if !(0..place).any(|above| together(&above)) {
                let all = (place..rows.len()).filter(together).map(|row| rows[row]);
                rules.push(self.naming.like(own[like], &labels(&all.collect::<Vec<_>>())));
            }
        }
        rules
    }
}

fn owned(rule: &Rule) -> Vec<(Match, Option<ServiceSet>)> {
    let products = rule.matches.products().into_iter();
    products.map(|(product, from)| (product.clone(), from.cloned())).collect()
}

/// What several rows are called.
fn labels(rows: &[&Deciding]) -> String {
    match rows {
        [one, others @ ..] if others.iter().all(|other| other.row.label == one.row.label) => {
            one.row.label.clone()
        }
        [one, other] => format!("{} and {}", one.row.label, other.row.label),
        [one, others @ ..] => format!("{} and {} more rows", one.row.label, others.len()),
        [] => String::new(),
    }
}
