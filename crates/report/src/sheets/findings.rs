//! Mistakes and risks in a plan.

use super::EDITION;
use crate::{Cell, Column, Table, Tone};
use bastium_core::diagnosis::{Diagnosis, Remark, Severity};
use bastium_core::source::{Source, Span};
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
    /// The line in which it ends.
    pub end_line: Option<usize>,
    /// The column behind its last character.
    pub end_column: Option<usize>,
    /// Other places that belong to it.
    pub related: Vec<RelatedPlace>,
    /// What is wrong.
    pub says: String,
    /// Why it matters.
    pub why: String,
    /// How to put it right.
    pub help: String,
}

/// Another place that belongs to a finding.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct RelatedPlace {
    /// The line, counted from 1.
    pub line: usize,
    /// The column in characters, counted from 1.
    pub column: usize,
    /// What is there.
    pub says: String,
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
            end_line: diagnosis.at.map(|at| source.line(behind(at))),
            end_column: diagnosis.at.map(|at| source.column(behind(at))),
            related: diagnosis.also.iter().map(|remark| related(source, remark)).collect(),
            says: diagnosis.says.clone(),
            why: diagnosis.why.clone(),
            help: diagnosis.help.clone(),
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
            Column::text("help"),
        ]);
        for finding in &self.findings {
            let tone = if finding.severity == "advice" { Tone::Faint } else { Tone::Warn };
            table.row([
                Cell::toned(finding.severity, tone),
                if finding.known { "known" } else { "" }.into(),
                finding.line.map_or(String::new(), |line| line.to_string()).into(),
                finding.name.into(),
                finding.says.clone().into(),
                finding.help.clone().into(),
            ]);
        }
        vec![table]
    }
}

/// The place behind a span.
fn behind(at: Span) -> Span {
    (at.end..at.end).into()
}

fn related(source: &Source, remark: &Remark) -> RelatedPlace {
    let Remark { at, says } = remark;
    RelatedPlace { line: source.line(*at), column: source.column(*at), says: says.clone() }
}
