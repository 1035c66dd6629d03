//! What is added, changed and removed in the steps other than rules.

use super::super::{Step, Values, one};

/// What identifies a row of a table, by the table's title; else it is the first column.
const KEYS: [(&str, &[&str]); 3] = [
    ("fixed addresses", &["name", "network"]),
    ("port forwards on the way in", &["address", "service"]),
    ("ports", &["device", "port"]),
];

/// What becomes of a row.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Add,
    Alter,
    Remove,
}

/// A table, with what becomes of each of its rows that does not stay.
#[derive(Clone, Debug)]
struct Table {
    title: String,
    columns: Vec<&'static str>,
    rows: Vec<(Kind, Vec<Vec<String>>, Vec<String>)>,
}

/// What differs between two versions of a step.
#[derive(Clone, Debug)]
pub(super) struct Differences {
    tables: Vec<Table>,
}

impl Differences {
    pub(super) fn new(old: &Step, new: &Step) -> Self {
        let tables = old.tables.iter().zip(&new.tables);
        Self { tables: tables.map(|(old, new)| Table::new(old, new)).collect() }
    }

    pub(super) fn added(&self) -> Vec<Values> {
        self.of(&[Kind::Add])
    }

    pub(super) fn altered(&self) -> Vec<Values> {
        self.of(&[Kind::Alter])
    }

    pub(super) fn added_and_altered(&self) -> Vec<Values> {
        self.of(&[Kind::Add, Kind::Alter])
    }

    /// What is altered, and what was made before and is put to use now.
    pub(super) fn switched_on(&self) -> Vec<Values> {
        let mut tables = self.added_and_altered();
        let rows = tables.iter_mut().flat_map(|table| &mut table.rows);
        rows.filter(|row| row[0] == ["add"]).for_each(|row| row[0] = one("switch on"));
        tables
    }

    /// The names of rows that are removed from a table.
    pub(super) fn removed_from(&self, title: &str) -> Vec<String> {
        let tables = self.tables.iter().filter(|table| table.title == title);
        let rows = tables.flat_map(|table| &table.rows);
        rows.filter(|(kind, _, _)| *kind == Kind::Remove)
            .map(|(_, row, _)| row[0].join(", "))
            .collect()
    }

    pub(super) fn removed(&self) -> Vec<Values> {
        self.of(&[Kind::Remove])
    }

    pub(super) fn all(&self) -> Vec<Values> {
        self.of(&[Kind::Add, Kind::Alter, Kind::Remove])
    }

    /// The names of rows that are altered in one of some columns.
    pub(super) fn altered_in(&self, title: &str, columns: &[&str]) -> Vec<String> {
        let tables = self.tables.iter().filter(|table| table.title == title);
        let rows = tables.flat_map(|table| &table.rows).filter(|(kind, _, before)| {
            let concerns =
                |was: &String| columns.iter().any(|column| was.starts_with(&format!("{column}: ")));
            *kind == Kind::Alter && before.iter().any(concerns)
        });
        rows.map(|(_, row, _)| row[0].join(", ")).collect()
    }

    fn of(&self, kinds: &[Kind]) -> Vec<Values> {
        self.tables.iter().map(|table| table.of(kinds)).collect()
    }
}

impl Table {
    fn new(old: &Values, new: &Values) -> Self {
        let key = |row: &[Vec<String>]| -> Vec<Vec<String>> {
            let named = KEYS.iter().find(|(title, _)| *title == new.title);
            let columns = named.map_or(&new.columns[..1], |(_, columns)| *columns);
            let place = |column: &&str| new.columns.iter().position(|other| other == column);
            columns.iter().filter_map(place).map(|place| row[place].clone()).collect()
        };
        let find = |table: &Values, row: &[Vec<String>]| {
            table.rows.iter().find(|other| key(other) == key(row)).cloned()
        };
        let mut rows = Vec::new();
        for row in &new.rows {
            match find(old, row) {
                None => rows.push((Kind::Add, row.clone(), Vec::new())),
                Some(was) if was != *row => {
                    let columns = new.columns.iter().zip(was.iter().zip(row));
                    let differ = columns.filter(|(_, (was, is))| was != is);
                    let before = differ.map(|(column, (was, _))| match was.is_empty() {
                        true => format!("{column}: none"),
                        false => format!("{column}: {}", was.join(", ")),
                    });
                    rows.push((Kind::Alter, row.clone(), before.collect()));
                }
                Some(_) => {}
            }
        }
        let gone = old.rows.iter().filter(|row| find(new, row).is_none());
        rows.extend(gone.map(|row| (Kind::Remove, row.clone(), Vec::new())));
        Self { title: new.title.clone(), columns: new.columns.clone(), rows }
    }

    fn of(&self, kinds: &[Kind]) -> Values {
        let rows = self.rows.iter().filter(|(kind, _, _)| kinds.contains(kind));
        let alters = rows.clone().any(|(kind, _, _)| *kind == Kind::Alter);
        let row = |(kind, cells, before): &(Kind, Vec<Vec<String>>, Vec<String>)| {
            let word = match kind {
                Kind::Add => "add",
                Kind::Alter => "alter",
                Kind::Remove => "remove",
            };
            let mut row = vec![one(word)];
            row.extend(cells.iter().cloned());
            row.extend(alters.then(|| before.clone()));
            row
        };
        let mut columns = vec!["do"];
        columns.extend(&self.columns);
        columns.extend(alters.then_some("before"));
        Values { title: self.title.clone(), columns, rows: rows.map(row).collect() }
    }
}
