//! What a load did on a gateway, step by step.

use super::change::LineRow;
use super::{ChangeSheet, EDITION};
use crate::{Cell, Column, Table, Tone};
use schemars::JsonSchema;
use serde::Serialize;

/// A load of rules onto a gateway, or how far one is.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct LoadSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The gateway, as `ssh` takes it.
    pub host: String,
    /// The id of the load; none where there is none.
    pub id: Option<String>,
    /// How far it is.
    pub state: LoadState,
    /// In how many seconds the old rules come back, unless the load is confirmed.
    pub returns_in: Option<i64>,
    /// What was done, in this order.
    pub steps: Vec<LoadStep>,
    /// The files that change on the gateway once the load is confirmed, the rules apart.
    pub files: Vec<LoadFile>,
    /// The states that the gateway keeps, the last one first.
    pub kept: Vec<String>,
}

/// A file that changes.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct LoadFile {
    /// Its path on the gateway.
    pub path: String,
    /// The lines that go and come.
    pub lines: Vec<LineRow>,
}

impl LoadFile {
    /// Compares two texts of a file; `None` where they are the same. One that is not there is empty.
    pub fn new(path: &str, old: &str, new: &str) -> Option<Self> {
        let lines = ChangeSheet::new(path, old, new, false).lines;
        (!lines.is_empty()).then(|| Self { path: path.to_owned(), lines })
    }

    /// How many lines come and go.
    pub fn counts(&self) -> (usize, usize) {
        let come = self.lines.iter().filter(|line| line.sign == "+").count();
        (come, self.lines.len() - come)
    }
}

/// How far a load is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum LoadState {
    /// No load is going on.
    None,
    /// Everything was tried, and nothing loaded, as asked.
    Tried,
    /// It was stopped before anything was loaded.
    Stopped,
    /// Somebody is about to load.
    Begun,
    /// The new rules run, and wait for a confirmation.
    Pending,
    /// The new rules run, and a restart loads them.
    Confirmed,
    /// The old rules run.
    Returned,
    /// The new rules run, and could not be shown to be right; the old ones come back by themselves.
    Unsure,
}

/// A step.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct LoadStep {
    /// Its name: `lock`, `others`, `change`, `interfaces`, `connections`, `lines`, `files`, `checks`, `old-rules`, `way-back`, `loaded`, `reached`,
    /// `read-back`, `restart`, `kept`, `end`.
    pub step: &'static str,
    /// What came of it.
    pub says: String,
    /// Whether it is as it should be.
    pub fine: bool,
}

impl LoadSheet {
    /// A load of which nothing is known yet.
    pub fn new(host: String) -> Self {
        Self {
            bastium: EDITION,
            host,
            id: None,
            state: LoadState::None,
            returns_in: None,
            steps: Vec::new(),
            files: Vec::new(),
            kept: Vec::new(),
        }
    }

    /// A row for each step.
    pub fn tables(&self) -> Vec<Table> {
        let mut table = Table::new(["step", "result"].into_iter().map(Column::whole));
        for step in &self.steps {
            let says = match step.fine {
                true => Cell::from(step.says.as_str()),
                false => Cell::toned(step.says.as_str(), Tone::Bad),
            };
            table.row([Cell::from(step.step), says]);
        }
        vec![table]
    }
}
