//! Mistakes and risks.

use super::EDITION;
use crate::{Cell, Column, Table, Tone};
use bastium_core::diagnosis::{Diagnosis, Severity};
use bastium_core::source::Source;
use schemars::JsonSchema;
use serde::Serialize;

/// Everything there is to say about a plan.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct FindingSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The findings, in the order of the text.
    pub findings: Vec<Finding>,
}

/// One finding.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Finding {
    /// Its kind, as a stable name.
    pub name: &'static str,
    /// `error`, `warning` or `advice`.
    pub severity: &'static str,
    /// Whether the plan says that it is known and kept.
    pub known: bool,
    /// The line, counted from 1; none if it concerns the file as a whole.
    pub line: Option<usize>,
    /// The column in characters, counted from 1.
    pub column: Option<usize>,
    /// What is wrong.
    pub says: String,
    /// Why it matters.
    pub why: String,
    /// How to put it right.
    pub cure: String,
}

impl FindingSheet {
    /// Takes the sheet from diagnoses of one text.
    pub fn new(source: &Source, diagnoses: &[Diagnosis]) -> Self {
        let finding = |diagnosis: &Diagnosis| Finding {
            name: diagnosis.name,
            severity: diagnosis.severity.word(),
            known: diagnosis.known,
            line: diagnosis.at.map(|at| source.line(at)),
            column: diagnosis.at.map(|at| source.column(at)),
            says: diagnosis.says.clone(),
            why: diagnosis.why.clone(),
            cure: diagnosis.cure.clone(),
        };
        Self { bastium: EDITION, findings: diagnoses.iter().map(finding).collect() }
    }

    /// How many findings there are of a severity, those that the plan keeps not counted.
    pub fn count(&self, severity: Severity) -> usize {
        let counted = self.findings.iter().filter(|finding| !finding.known);
        counted.filter(|finding| finding.severity == severity.word()).count()
    }

    /// How many findings the plan keeps.
    pub fn known(&self) -> usize {
        self.findings.iter().filter(|finding| finding.known).count()
    }

    /// As a table.
    pub fn tables(&self) -> Vec<Table> {
        let mut table = Table::new([
            Column::whole("severity"),
            Column::whole("known"),
            Column::numbers("line"),
            Column::text("name"),
            Column::text("says"),
            Column::text("cure"),
        ]);
        for finding in &self.findings {
            let tone = if finding.severity == "advice" { Tone::Faint } else { Tone::Warn };
            table.row([
                Cell::toned(finding.severity, tone),
                if finding.known { "known" } else { "" }.into(),
                finding.line.map_or(String::new(), |line| line.to_string()).into(),
                finding.name.into(),
                finding.says.clone().into(),
                finding.cure.clone().into(),
            ]);
        }
        vec![table]
    }
}
