//! Which rows of a table can be added: all that leave a plan together. What would not is left out, with the reason.

use crate::args::Add;
use crate::failure::Failure;
use bastium_core::diagnosis::{Diagnosis, Severity};
use bastium_core::source::Span;
use bastium_planfile::edit::{
    Edit, Entry, RowProblem, Understood, apply_all, apply_each, entry_around,
};
use std::collections::{HashMap, HashSet};

/// Adds all rows that can be.
pub(super) fn add(text: &str, args: &Add, understood: &mut Understood) -> String {
    let mut rows = Rows { text, args, taken: Vec::new(), unused: Vec::new() };
    let mut open = std::mem::take(&mut understood.entries);
    while !open.is_empty() {
        open = match rows.round(&open) {
            Some(left) => left,
            None => {
                rows.one_by_one(&open);
                Vec::new()
            }
        };
    }
    rows.taken.sort_by_key(|entry| entry.row);
    let added = apply_all(text, &rows.edits(&rows.taken));
    understood.entries = rows.taken;
    understood.unused.append(&mut rows.unused);
    understood.unused.sort_by_key(|problem| problem.row);
    // They were added before, in another order.
    added.unwrap_or_else(|_| text.to_owned())
}

struct Rows<'a> {
    text: &'a str,
    args: &'a Add,
    /// Those that leave a plan together.
    taken: Vec<Entry>,
    unused: Vec<RowProblem>,
}

impl Rows<'_> {
    fn edits(&self, entries: &[Entry]) -> Vec<Edit> {
        let edit = |entry: &Entry| Edit::Add {
            kind: self.args.kind.clone(),
            name: entry.name.clone(),
            settings: entry.settings.clone(),
            open_by_trust: self.args.open_by_trust,
        };
        entries.iter().map(edit).collect()
    }

    /// Tries all of these together. Those that nothing is said against are taken; those at which something is wrong are
    /// left out, or given back where it may be the fault of others that are left out. `None` where it cannot be told
    /// whose fault it is.
    fn round(&mut self, open: &[Entry]) -> Option<Vec<Entry>> {
        let all: Vec<Entry> = self.taken.iter().chain(open).cloned().collect();
        // A zone has its row and its column in the matrix, which stay if the rest cannot be added.
        if self.args.kind == "zone" {
            return None;
        }
        let (text, refused) = apply_each(self.text, &self.edits(&all)).ok()?;
        let mut blamed = Blamed::default();
        for (place, problem) in refused {
            let entry = &all[place];
            // Whether its name is free depends on the one that has it.
            let others = open.iter().take_while(|other| other.row != entry.row);
            let by = others.filter(|other| other.name == entry.name).map(|other| other.row);
            blamed.add(entry.row, Failure::Edit(problem).says(), by.collect());
        }
        if let Err(refused) = bastium_planfile::read("the plan", text.as_bytes()) {
            let rows: HashMap<&str, usize> =
                open.iter().rev().map(|entry| (entry.name.as_str(), entry.row)).collect();
            for diagnosis in refused.diagnoses.iter().filter(|d| d.severity == Severity::Error) {
                blamed.look_at(diagnosis, &text, &self.args.kind, &rows)?;
            }
        } else if blamed.by_row.is_empty() {
            self.taken.extend_from_slice(open);
            return Some(Vec::new());
        }
        let mut again = Vec::new();
        let (mut taken, mut left_out) = (0, 0);
        for entry in open {
            match blamed.by_row.get(&entry.row) {
                None => {
                    self.taken.push(entry.clone());
                    taken += 1;
                }
                Some(blame) if blame.by.iter().any(|row| blamed.by_row.contains_key(row)) => {
                    again.push(entry.clone());
                }
                Some(blame) => {
                    let says = format!("`{}` is left out: {}", entry.name, blame.says);
                    self.unused.push(RowProblem { row: entry.row, says });
                    left_out += 1;
                }
            }
        }
        (taken + left_out > 0).then_some(again)
    }

    /// Adds these together if that leaves a plan; else each half by itself, down to the single row.
    fn one_by_one(&mut self, open: &[Entry]) {
        let all: Vec<Entry> = self.taken.iter().chain(open).cloned().collect();
        let added = apply_all(self.text, &self.edits(&all));
        let added = added.map_err(|problem| Failure::Edit(problem).says());
        let added =
            added.and_then(|new| match bastium_planfile::read("the plan", new.as_bytes()) {
                Ok(_) => Ok(()),
                Err(refused) => Err(refused.diagnoses.first().map_or_else(String::new, says)),
            });
        match (added, open) {
            (Ok(()), _) => self.taken.extend_from_slice(open),
            (Err(says), [only]) => {
                let says = format!("`{}` is left out: {says}", only.name);
                self.unused.push(RowProblem { row: only.row, says });
            }
            (Err(_), _) => {
                let (first, second) = open.split_at(open.len() / 2);
                self.one_by_one(first);
                self.one_by_one(second);
            }
        }
    }
}

/// What is said against rows.
#[derive(Default)]
struct Blamed {
    by_row: HashMap<usize, Blame>,
}

struct Blame {
    says: String,
    /// The rows that it clashes with.
    by: HashSet<usize>,
}

impl Blamed {
    /// The first thing that is said against a row counts, unless a later one is not the fault of another row.
    fn add(&mut self, row: usize, says: String, by: HashSet<usize>) {
        let known = self.by_row.get(&row);
        if known.is_none_or(|known| !known.by.is_empty() && by.is_empty()) {
            self.by_row.insert(row, Blame { says, by });
        }
    }

    /// Finds the row that a diagnosis is about; `None` where it is about none of them.
    fn look_at(
        &mut self,
        diagnosis: &Diagnosis,
        text: &str,
        kind: &str,
        rows: &HashMap<&str, usize>,
    ) -> Option<()> {
        let also = diagnosis.also.iter().map(|remark| remark.at);
        let parties: Vec<Span> = diagnosis.at.into_iter().chain(also).collect();
        let row = |span: &Span| {
            let (table, name) = entry_around(text, span.start)?;
            rows.get(name.as_str()).filter(|_| table == kind).copied()
        };
        let mut concerned = parties.iter().filter_map(row);
        let first = concerned.next()?;
        let by = concerned.filter(|other| *other != first).collect();
        self.add(first, says(diagnosis), by);
        Some(())
    }
}

fn says(diagnosis: &Diagnosis) -> String {
    format!("{}; cure: {}", diagnosis.says, diagnosis.cure)
}
