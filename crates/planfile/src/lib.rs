//! The plan file: TOML 1.0 with positions, made into a plan.
//!
//! [`read`] takes the bytes of a file and gives back a [`Plan`], or *everything* that is wrong with
//! it, each with its place. Four steps: the text is parsed as TOML; its shape is checked against the
//! description of the format (`format`, `shape`); its tables become a draft (`tables`); the core resolves
//! the draft.
//!
//! From a file to proved rules and a list of tests:
//!
//! ```
//! use bastium_core::meaning::Meaning;
//! use bastium_core::{checklist, proof, rules};
//!
//! let text = r#"
//! bastium = 1
//! [site]
//! name = "Two networks"
//! space = ["10.44.0.0/16"]
//! tie = "third-octet"
//! [uplink.fibre]
//! address = "dhcp"
//! [zone.people]
//! trust = "medium"
//! uses-gateway-for = ["dns", "dhcp"]
//! [zone.things]
//! trust = "low"
//! [network.desks]
//! zone = "people"
//! vlan = 24
//! dhcp = "100-199"
//! [network.printers]
//! zone = "things"
//! vlan = 48
//! [host.paper-printer]
//! network = "printers"
//! address = "10.44.48.10"
//! [matrix]
//! grid = '''
//!           people  things  internet
//! people    -       block   allow
//! things    block   -       block
//! internet  block   block   -
//! '''
//! [exception.desks-print]
//! from = "desks"
//! to = "printers"
//! service = "ipp"
//! action = "allow"
//! why = "People print"
//! "#;
//! let plan = bastium_planfile::read("plan.toml", text.as_bytes()).expect("a plan");
//! assert_eq!(plan.networks()[0].subnets[0].prefix().to_string(), "10.44.24.0/24");
//!
//! // What the plan decides on a day, and rules that do the same: two ways, compared over every packet.
//! let meaning = Meaning::new(&plan, "2026-06-01".parse()?).expect("no exceptions that contradict each other");
//! let rules = rules::compile(&meaning);
//! let proved = proof::proved(&meaning, &rules).expect("they do what the plan says");
//!
//! // What one person carries to try it.
//! let list = checklist::carried(&meaning, proved);
//! let checks: Vec<&str> =
//!     list.stands.iter().flat_map(|stand| &stand.checks).map(|check| &*check.says).collect();
//! assert!(checks.contains(&"desks can print on paper-printer"));
//! # Ok::<(), jiff::Error>(())
//! ```
//!
//! All that is wrong with a file is reported at once, each with its place and a help:
//!
//! ```
//! let refused = bastium_planfile::read("plan.toml", b"bastium = 1\n[zone.staff]\ntrust = 1\nvlan = 7\n").unwrap_err();
//! let names: Vec<&str> = refused.diagnoses.iter().map(|diagnosis| diagnosis.name).collect();
//! assert!(names.contains(&"unknown-key") && names.contains(&"wrong-kind"));
//! assert!(refused.diagnoses.iter().all(|diagnosis| !diagnosis.help.is_empty()));
//! ```

#![forbid(unsafe_code)]

pub mod edit;
mod entries;
mod fields;
pub mod format;
mod problem;
mod schema;
mod shape;
mod tables;
mod wiring;

pub use problem::ReadProblem;
pub use schema::schema;

use bastium_core::diagnosis::{Diagnose, Diagnosis, Remark};
use bastium_core::plan::{Plan, resolve};
use bastium_core::source::{Source, Span};
use std::collections::HashMap;
use toml::de::DeTable;

/// The most bytes that a plan may have. A site of a thousand networks needs a tenth of it.
pub const LARGEST: usize = 16 << 20;

/// Why a file is not a plan.
#[derive(Clone, Debug)]
pub struct Refused {
    /// The text, for showing the places.
    pub source: Source,
    /// All that is wrong, in the order of the text.
    pub diagnoses: Vec<Diagnosis>,
}

// Its `source` is the text that is shown, not another error, as derived code would take it.
impl std::fmt::Display for Refused {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let first = self.diagnoses.first().map_or("", |one| one.says.as_str());
        write!(f, "{} is not a plan: {first}", self.source.name())
    }
}

impl std::error::Error for Refused {}

/// Reads a plan. `name` is how to call the file in messages.
///
/// # Errors
/// All the problems that the file has.
pub fn read(name: &str, bytes: &[u8]) -> Result<Plan, Box<Refused>> {
    let refuse = |source, problem: ReadProblem| {
        Box::new(Refused { source, diagnoses: vec![problem.diagnose()] })
    };
    if bytes.len() > LARGEST {
        return Err(refuse(Source::new(name, ""), ReadProblem::TooLarge));
    }
    let text = match std::str::from_utf8(bytes) {
        Ok(text) => text.strip_prefix('\u{feff}').unwrap_or(text),
        Err(error) => {
            let good = &bytes[..error.valid_up_to()];
            let text = String::from_utf8_lossy(good).into_owned();
            let at = text.len();
            let problem = ReadProblem::NotText { at: (at..at).into() };
            return Err(refuse(Source::new(name, text), problem));
        }
    };
    let source = Source::new(name, text);
    if text.trim().is_empty() {
        return Err(refuse(source, ReadProblem::Empty));
    }
    let (table, errors) = DeTable::parse_recoverable(text);
    if !errors.is_empty() {
        let diagnoses = errors.iter().map(|error| syntax(error, text).diagnose()).collect();
        return Err(Box::new(Refused { source, diagnoses }));
    }
    let reading = tables::read(table.get_ref(), source.clone());
    // It is several times as large as the text, and nothing looks at it again.
    drop(table);
    let resolved = resolve(reading.draft);
    let reported: Vec<Diagnosis> = reading.problems.iter().map(Diagnose::diagnose).collect();
    match resolved {
        Ok(plan) if reported.is_empty() => Ok(plan),
        Ok(_) => Err(Box::new(Refused { source, diagnoses: reported })),
        Err(problems) => {
            let found = problems.iter().map(Diagnose::diagnose);
            let fresh = found.filter(|d| d.at.is_none_or(|at| !reading.troubled.contains(&at)));
            let mut diagnoses = merged(reported, fresh.collect());
            if diagnoses.is_empty() {
                diagnoses.push(ReadProblem::NotBuilt.diagnose());
            }
            Err(Box::new(Refused { source, diagnoses }))
        }
    }
}

/// Both lists, in the order of the text.
fn merged(mut one: Vec<Diagnosis>, mut other: Vec<Diagnosis>) -> Vec<Diagnosis> {
    one.append(&mut other);
    one.sort_by_key(|diagnosis| diagnosis.at.map_or(0, |at| at.start));
    one
}

/// What is missing in many places, reported once: at the first of them, with all others beside it.
pub fn said_once(diagnoses: Vec<Diagnosis>) -> Vec<Diagnosis> {
    let mut kept: Vec<Diagnosis> = Vec::new();
    let mut first: HashMap<(&str, String), usize> = HashMap::new();
    for diagnosis in diagnoses {
        let may_repeat = diagnosis.name.starts_with("unknown-");
        let place = *first.entry((diagnosis.name, diagnosis.says.clone())).or_insert(kept.len());
        match (kept.get_mut(place).filter(|_| may_repeat), diagnosis.at) {
            (Some(known), Some(at)) => known.also.push(Remark { at, says: "and here".to_owned() }),
            _ => kept.push(diagnosis),
        }
    }
    kept
}

fn syntax(error: &toml::de::Error, text: &str) -> ReadProblem {
    let range = error.span().unwrap_or(0..0);
    let end = range.end.min(text.len());
    let at = Span::from(range.start.min(end)..end);
    ReadProblem::Syntax { says: error.message().to_owned(), at }
}
