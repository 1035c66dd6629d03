//! The document that is handed over: for the client, what is kept apart from what and how it is known;
//! for the engineer, everything.
//!
//! It is data before it is a page: sections of blocks, whose texts may link to each other. [`html`] and
//! [`markdown`] write it down.

mod checks;
mod entries;
mod html;
mod markdown;
mod network;
mod summary;
mod words;

pub use html::html;
pub use markdown::markdown;

use crate::sheets::{
    CellRow, CellRule, ChecklistSheet, CompareSheet, FindingSheet, FormProof, MatrixSheet,
    PortSheet, RuleSheet, zone_map,
};
use crate::walk::WalkSheet;
use crate::{Column, Table, count};
use bastium_core::meaning::Meaning;
use bastium_core::rules::RuleSet;
use bastium_picture::{Picture, ZoneMap};
use std::collections::BTreeMap;

/// For whom a report is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Audience {
    /// Who owns the site: without management, rules and open findings.
    Client,
    /// Who looks after it: all of it.
    Engineer,
}

/// What a gateway printed of its rules, looked at.
#[derive(Clone, Debug)]
pub struct Listed {
    /// By the tag of its line: how many packets each rule has counted.
    pub packets: BTreeMap<String, u64>,
    /// In what it differs from the plan, a sentence each; none where it was shown to do the same for every packet.
    pub differences: Vec<String>,
}

/// What a report is made of.
pub struct Sources<'s> {
    /// The plan on one day.
    pub meaning: &'s Meaning<'s>,
    /// Its rules, in the gateway's form.
    pub rules: &'s RuleSet<'s>,
    /// Their proof.
    pub proof: FormProof,
    /// What was found in the plan, kept or open.
    pub findings: FindingSheet,
    /// The list of checks that one person carries.
    pub checklist: ChecklistSheet,
    /// What came of it, if it was walked.
    pub walk: Option<WalkSheet>,
    /// What the gateway ran, if that is known.
    pub running: Option<Listed>,
    /// What has changed since the last report.
    pub since: Option<CompareSheet>,
    /// For whom it is.
    pub audience: Audience,
}

/// A piece of a text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Span {
    /// The words.
    pub text: String,
    /// The anchor that they link to.
    pub to: Option<String>,
    /// Whether they stand out.
    pub strong: bool,
}

/// A text with links in it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Inline(pub Vec<Span>);

impl Inline {
    /// Adds words.
    #[must_use]
    pub fn then(mut self, text: impl Into<String>) -> Self {
        self.0.push(Span { text: text.into(), to: None, strong: false });
        self
    }

    /// Adds words that stand out.
    #[must_use]
    pub fn strong(mut self, text: impl Into<String>) -> Self {
        self.0.push(Span { text: text.into(), to: None, strong: true });
        self
    }

    /// Adds words that link to an anchor.
    #[must_use]
    pub fn link(mut self, text: impl Into<String>, to: impl Into<String>) -> Self {
        self.0.push(Span { text: text.into(), to: Some(to.into()), strong: false });
        self
    }

    /// Several, with commas between.
    pub fn list(items: impl IntoIterator<Item = Self>) -> Self {
        let mut all = Self::default();
        for item in items {
            if !all.0.is_empty() {
                all = all.then(", ");
            }
            all.0.extend(item.0);
        }
        all
    }

    /// Whether it says nothing.
    pub fn is_empty(&self) -> bool {
        self.0.iter().all(|span| span.text.is_empty())
    }

    /// The words alone.
    pub fn plain(&self) -> String {
        self.0.iter().map(|span| span.text.as_str()).collect()
    }
}

impl From<&str> for Inline {
    fn from(text: &str) -> Self {
        Self::default().then(text)
    }
}

impl From<String> for Inline {
    fn from(text: String) -> Self {
        Self::default().then(text)
    }
}

/// A row of a table, with the anchor that leads to it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Row {
    /// The anchor.
    pub id: Option<String>,
    /// The cells, as many as there are columns.
    pub cells: Vec<Inline>,
}

/// A table.
#[derive(Clone, Debug)]
pub struct Grid {
    /// What it shows.
    pub caption: String,
    /// Its columns.
    pub columns: Vec<Column>,
    /// Its rows.
    pub rows: Vec<Row>,
}

impl Grid {
    /// An empty one.
    pub fn new(caption: impl Into<String>, columns: impl IntoIterator<Item = Column>) -> Self {
        Self { caption: caption.into(), columns: columns.into_iter().collect(), rows: Vec::new() }
    }

    /// Adds a row.
    pub fn row(&mut self, id: Option<String>, cells: impl IntoIterator<Item = Inline>) {
        self.rows.push(Row { id, cells: cells.into_iter().collect() });
    }
}

impl From<Table> for Grid {
    fn from(table: Table) -> Self {
        let table = table.without_empty_columns();
        let row = |cells: Vec<crate::Cell>| Row {
            id: None,
            cells: cells.into_iter().map(|cell| cell.text.into()).collect(),
        };
        Self {
            caption: table.title.unwrap_or_default(),
            columns: table.columns,
            rows: table.rows.into_iter().map(row).collect(),
        }
    }
}

/// Facts about one thing.
#[derive(Clone, Debug)]
pub struct Card {
    /// The anchor that leads to it.
    pub id: String,
    /// What it is about.
    pub title: String,
    /// What is said about it, each with a heading of its own.
    pub facts: Vec<(String, Inline)>,
}

/// A part of a section.
#[derive(Clone, Debug)]
pub enum Block {
    /// A heading below the section's.
    Heading(String),
    /// A paragraph.
    Text(Inline),
    /// A list.
    List(Vec<Inline>),
    /// Facts about several things of one kind.
    Cards(Vec<Card>),
    /// A table.
    Grid(Grid),
    /// A picture.
    Picture {
        /// The anchor that leads to it.
        id: String,
        /// What is drawn.
        picture: Picture,
    },
    /// Lines to be filled in by hand.
    Blanks(Vec<String>),
}

/// A section.
#[derive(Clone, Debug)]
pub struct Section {
    /// The anchor that leads to it.
    pub id: &'static str,
    /// Its heading.
    pub title: &'static str,
    /// What is in it.
    pub blocks: Vec<Block>,
}

/// A whole report.
#[derive(Clone, Debug)]
pub struct Document {
    /// Its title.
    pub title: String,
    /// Whom it is for, and the day that it holds for.
    pub about: String,
    /// Its sections.
    pub sections: Vec<Section>,
}

/// What all sections are made of: the sources, and the sheets that several of them show.
struct Builder<'s> {
    sources: &'s Sources<'s>,
    rule_sheet: RuleSheet,
    ports: PortSheet,
    /// Who reaches whom.
    map: ZoneMap,
    /// The cells of the matrix, each with the rules that decide it.
    cells: Vec<(CellRow, Vec<CellRule>)>,
}

impl Document {
    /// Puts a report together.
    pub fn new(sources: &Sources<'_>) -> Self {
        let plan = sources.meaning.plan();
        let builder = Builder {
            sources,
            rule_sheet: RuleSheet::new(sources.meaning, sources.rules, |_, _| true),
            ports: PortSheet::new(plan),
            map: zone_map(sources.meaning),
            cells: MatrixSheet::every(sources.meaning, sources.rules),
        };
        let all = [
            Some(builder.summary()),
            Some(builder.pictures()),
            Some(builder.addressing()),
            builder.wiring(),
            Some(builder.matrix()),
            builder.exceptions(),
            Some(builder.outside()),
            builder.management(),
            builder.rules(),
            Some(builder.proof()),
            builder.findings(),
            Some(builder.checks()),
            Some(builder.failing()),
            builder.changes(),
            Some(builder.glossary()),
        ];
        let whom = match sources.audience {
            Audience::Client => "For the client",
            Audience::Engineer => "For the engineer",
        };
        Self {
            title: format!("Network report: {}", plan.site().name),
            about: format!("{whom}. The plan as it is on {}.", sources.meaning.day()),
            sections: all.into_iter().flatten().collect(),
        }
    }
}

impl Builder<'_> {
    fn is_for_engineer(&self) -> bool {
        self.sources.audience == Audience::Engineer
    }
}
