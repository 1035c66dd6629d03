//! Decides which rows of a table can be added: as many as leave a valid plan together. The others are reported with
//! the reason.

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
    let open = std::mem::take(&mut understood.entries);
    let most_rounds = open.len() + 2;
    let mut rows = Rows { text, args, taken: Vec::new(), open, unused: Vec::new() };
    let settled = (0..most_rounds).find_map(|_| match rows.round() {
        Some(true) => Some(true),
        Some(false) => None,
        None => Some(false),
    });
    if settled != Some(true) {
        let mut left = std::mem::take(&mut rows.taken);
        left.append(&mut rows.open);
        rows.one_by_one(&left);
    }
    let added = apply_all(text, &rows.edits(&rows.taken));
    understood.entries = rows.taken;
    understood.unused.append(&mut rows.unused);
    understood.unused.sort_by_key(|problem| problem.row);
    // The same was done before.
    added.unwrap_or_else(|_| text.to_owned())
}

struct Rows<'a> {
    text: &'a str,
    args: &'a Add,
    /// Those that nothing is said against so far, in their order.
    taken: Vec<Entry>,
    /// Those that are not decided yet, below them.
    open: Vec<Entry>,
    unused: Vec<RowProblem>,
}

impl Rows<'_> {
    fn edits(&self, entries: &[Entry]) -> Vec<Edit> {
        let edit = |entry: &Entry| Edit::Add {
            kind: self.args.kind.clone(),
            name: entry.name.clone(),
            settings: entry.settings.clone(),
            like: None,
            open_by_trust: self.args.open_by_trust,
        };
        entries.iter().map(edit).collect()
    }

    /// Tries all of these together, and decides about as many as can be, in their order: a row stands back behind those
    /// above it. A row that only clashes with one that is left out has to be tried again, and so have those below it,
    /// for nobody knows yet what they clash with. Whether all are decided, and leave a plan; `None` where that is not known
    /// whose fault it is.
    fn round(&mut self) -> Option<bool> {
        // A zone has its row and its column in the matrix, which stay if the rest cannot be added.
        if self.args.kind == "zone" {
            return None;
        }
        let all: Vec<Entry> = self.taken.iter().chain(&self.open).cloned().collect();
        let (text, refused) = apply_each(self.text, &self.edits(&all)).ok()?;
        let mut blamed = Blamed::default();
        for (place, problem) in refused {
            let entry = &all[place];
            // Whether its name is free may depend on a row above it that has the same.
            let above = all[..place].iter().filter(|other| other.name == entry.name);
            let by = above.map(|other| other.row).collect();
            blamed.add(entry.row, Failure::Edit(problem).to_string(), by);
        }
        if let Err(refused) = bastium_planfile::read("the plan", text.as_bytes()) {
            let rows: HashMap<&str, usize> =
                all.iter().rev().map(|entry| (entry.name.as_str(), entry.row)).collect();
            for diagnosis in refused.diagnoses.iter().filter(|d| d.severity == Severity::Error) {
                blamed.look_at(diagnosis, &text, &self.args.kind, &rows)?;
            }
        }
        let done = blamed.by_row.is_empty();
        let mut taken: HashSet<usize> = HashSet::new();
        (self.taken, self.open) = (Vec::new(), Vec::new());
        for entry in all {
            let blames = blamed.by_row.get(&entry.row).map(Vec::as_slice).unwrap_or_default();
            // It is at fault by itself, or clashes with one that stays.
            let at_fault = blames.iter().find(|blame| {
                blame.by.is_empty() || blame.by.iter().any(|row| taken.contains(row))
            });
            if let Some(blame) = at_fault {
                let says = format!("`{}` is left out: {}", entry.name, blame.says);
                self.unused.push(RowProblem { row: entry.row, says });
            } else if blames.is_empty() && self.open.is_empty() {
                taken.insert(entry.row);
                self.taken.push(entry);
            } else {
                self.open.push(entry);
            }
        }
        Some(done)
    }

    /// Adds these together if that leaves a plan; else each half by itself, down to the single row.
    fn one_by_one(&mut self, open: &[Entry]) {
        let all: Vec<Entry> = self.taken.iter().chain(open).cloned().collect();
        let added = apply_all(self.text, &self.edits(&all));
        let added = added.map_err(|problem| Failure::Edit(problem).to_string());
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
    by_row: HashMap<usize, Vec<Blame>>,
}

struct Blame {
    says: String,
    /// The rows above that it clashes with; none if it is at fault by itself.
    by: Vec<usize>,
}

impl Blamed {
    fn add(&mut self, row: usize, says: String, by: Vec<usize>) {
        self.by_row.entry(row).or_default().push(Blame { says, by });
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
        // Of two rows, the lower one stands back.
        let mut concerned: Vec<usize> = parties.iter().filter_map(row).collect();
        concerned.sort_unstable();
        concerned.dedup();
        let last = concerned.pop()?;
        self.add(last, says(diagnosis), concerned);
        Some(())
    }
}

fn says(diagnosis: &Diagnosis) -> String {
    format!("{}; help: {}", diagnosis.says, diagnosis.help)
}
