//! Edits of rules as rows to type.

use super::super::rules::{COLUMNS, Entered, EnteredRule, entered};
use super::super::{Values, one};
use bastium_core::changeover::{Changed, Changeover, Edit, Row, Spot, Step};
use bastium_core::rules::{Rule, RuleId};
use std::collections::HashMap;

/// What the first column says, and how the rest of it goes on.
pub(super) mod word {
    pub(in super::super) const INSERT: &str = "insert above ";
    pub(in super::super) const AT_THE_END: &str = "add at the end";
    pub(in super::super) const DELETE: &str = "delete";
    pub(in super::super) const ALTER: &str = "alter";
    pub(in super::super) const MOVE: &str = "move above ";
    pub(in super::super) const MOVE_TO_THE_END: &str = "move to the end";
    pub(in super::super) const FROM: &str = " (it is at ";
    pub(in super::super) const CALLED: &str = ", called ";
    pub(in super::super) const RENAME: &str = "rename, was ";
    pub(in super::super) const FILL: &str = "add; the list is put to use once it is full";
    pub(in super::super) const EMPTY: &str = "delete; the list is put out of use before";
    pub(in super::super) const AT_ONCE: &str = "at once: ";
    pub(in super::super) const SET: &str = "set as the settings say";
}

/// The rows, as tables: one for each stretch of edits of one list.
pub(super) struct Edits {
    pub(super) putting_in: Vec<Values>,
    pub(super) taking_out: Vec<Values>,
}

/// What is needed to put an edit into words.
struct Words<'e, 'p> {
    was: HashMap<&'e RuleId, &'e EnteredRule>,
    is: HashMap<&'e RuleId, &'e EnteredRule>,
    titles: HashMap<&'e str, &'e str>,
    entered: &'e Entered<'p>,
}

impl Edits {
    pub(super) fn new(way: &Changeover<'_>, was: &Entered<'_>, is: &Entered<'_>) -> Self {
        let words = Words::new(was, is);
        let (putting_in, taking_out) = way.steps.split_at(way.putting_in.min(way.steps.len()));
        Self {
            putting_in: words.tables(putting_in, "nothing yet"),
            taking_out: words.tables(taking_out, "nothing"),
        }
    }
}

fn by_id<'e>(entered: &'e Entered<'_>) -> HashMap<&'e RuleId, &'e EnteredRule> {
    entered.lists.iter().flat_map(|list| &list.rules).map(|rule| (&rule.id, rule)).collect()
}

impl<'e, 'p> Words<'e, 'p> {
    fn new(was: &'e Entered<'_>, is: &'e Entered<'p>) -> Self {
        let lists = was.lists.iter().chain(&is.lists);
        let titles = lists.map(|list| (list.name.as_str(), list.title.as_str())).collect();
        Self { was: by_id(was), is: by_id(is), titles, entered: is }
    }

    fn tables(&self, steps: &[Step<'_>], nothing: &'static str) -> Vec<Values> {
        let mut tables: Vec<(&str, Values)> = Vec::new();
        for step in steps {
            for edit in &step.edits {
                let list = list_of(edit);
                if !self.titles.contains_key(list) {
                    // What the gateway does by itself is among the settings.
                    continue;
                }
                let rows = self.rows(edit, step, changes(step.changed, nothing));
                match tables.last_mut().filter(|(last, _)| *last == list) {
                    Some((_, table)) => table.rows.extend(rows),
                    None => {
                        let title = self.titles[list].to_owned();
                        let columns =
                            ["do"].into_iter().chain(COLUMNS).chain(["changes"]).collect();
                        tables.push((list, Values { title, columns, rows }));
                    }
                }
            }
        }
        tables.into_iter().map(|(_, table)| table).collect()
    }

    fn rows(
        &self,
        edit: &Edit<'_>,
        step: &Step<'_>,
        changes: &'static str,
    ) -> Vec<Vec<Vec<String>>> {
        let row = |says: String, at: &Spot, rule: EnteredRule| {
            let says =
                if step.together.is_some() { format!("{}{says}", word::AT_ONCE) } else { says };
            let number = one(at.number);
            let mut row = vec![one(says), number];
            row.extend(rule.cells().into_iter().skip(1));
            row.push(one(changes));
            row
        };
        let above = |rule: &Option<Row<'_>>, before: &str, end: &str| match rule {
            Some(rule) => format!("{before}{}", self.old(rule).name),
            None => end.to_owned(),
        };
        match edit {
            Edit::Insert { at, rule, above: below, .. } => {
                let says = above(below, word::INSERT, word::AT_THE_END);
                vec![row(says, at, self.new_row(rule))]
            }
            Edit::Alter { at, old, new } => {
                let (old, new) = (self.old(old), self.new_row(new));
                vec![row(format!("{}{}", word::ALTER, differences(&old, &new)), at, new)]
            }
            Edit::Move { from, to, old, rule, above: below } => {
                let says = above(below, word::MOVE, word::MOVE_TO_THE_END);
                let (was, is) = (self.old(old), self.new_row(rule));
                let called = match was.name == is.name {
                    true => String::new(),
                    false => format!("{}{}", word::CALLED, was.name),
                };
                vec![row(format!("{says}{}{}{called})", word::FROM, from.number), to, is)]
            }
            Edit::Delete { at, rule } => {
                vec![row(word::DELETE.to_owned(), at, self.old(rule))]
            }
            Edit::Rename { at, old, new } => {
                let says = format!("{}{}", word::RENAME, self.old(old).name);
                vec![row(says, at, self.new_row(new))]
            }
            Edit::Attach { at, rules } => {
                let rows =
                    rules.iter().map(|rule| row(word::FILL.to_owned(), at, self.new_row(rule)));
                numbered(rows.collect(), at, false)
            }
            Edit::Detach { at, rules } => {
                let rows = rules.iter().map(|rule| row(word::EMPTY.to_owned(), at, self.old(rule)));
                numbered(rows.collect(), at, true)
            }
            Edit::Set { lists } => {
                let mut row = vec![one(word::SET)];
                row.extend(COLUMNS.iter().map(|_| Vec::new()));
                row.push(one(changes));
                if let Some(name) = row.get_mut(COLUMNS.len()) {
                    *name = lists.clone();
                }
                vec![row]
            }
        }
    }

    /// A row as it was entered before; a row of now otherwise.
    fn old(&self, rule: &Rule) -> EnteredRule {
        self.was.get(&rule.id).map_or_else(|| self.new_row(rule), |rule| (*rule).clone())
    }

    /// A row as it is entered now.
    fn new_row(&self, rule: &Rule) -> EnteredRule {
        match self.is.get(&rule.id) {
            Some(rule) => (*rule).clone(),
            None => {
                // A rule for the time of the change names what it means by its values.
                let plan = self.entered.plan;
                let mut objects = self.entered.objects.for_rules_of(plan, true);
                entered(plan, &mut objects, rule, false)
            }
        }
    }
}

/// Rows of one list, each with its own number.
fn numbered(mut rows: Vec<Vec<Vec<String>>>, at: &Spot, last_first: bool) -> Vec<Vec<Vec<String>>> {
    let mut number = at.number;
    for row in &mut rows {
        row[1] = one(number);
        number += 10;
    }
    if last_first {
        rows.reverse();
    }
    rows
}

fn list_of<'s>(edit: &'s Edit<'_>) -> &'s str {
    match edit {
        Edit::Insert { at, .. }
        | Edit::Alter { at, .. }
        | Edit::Delete { at, .. }
        | Edit::Rename { at, .. }
        | Edit::Attach { at, .. }
        | Edit::Detach { at, .. }
        | Edit::Move { to: at, .. } => &at.list,
        Edit::Set { lists } => lists.first().map(String::as_str).unwrap_or_default(),
    }
}

/// What differs between two rows, in words: what it was.
fn differences(old: &EnteredRule, new: &EnteredRule) -> String {
    let cells = COLUMNS.iter().zip(old.cells().into_iter().zip(new.cells()));
    let differ = cells.filter(|(column, (was, is))| **column != "no" && was != is);
    let parts: Vec<String> = differ
        .map(|(column, (was, _))| match was.is_empty() {
            true => format!("{column} was empty"),
            false => format!("{column} was {}", was.join(" or ")),
        })
        .collect();
    if parts.is_empty() { String::new() } else { format!(": {}", parts.join("; ")) }
}

fn changes(changed: Changed, nothing: &'static str) -> &'static str {
    match changed {
        Changed { opens: true, closes: true, .. } => "opens and closes",
        Changed { opens: true, .. } => "opens",
        Changed { closes: true, .. } => "closes",
        Changed { otherwise: true, .. } => "log or refusal",
        _ => nothing,
    }
}
