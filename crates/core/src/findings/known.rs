//! Findings that somebody has looked at and accepted (`[known]`).

use super::explain;
use crate::diagnosis::{Diagnose, Diagnosis, Severity};
use crate::name::nearest;
use crate::plan::{Known, Plan};
use crate::source::Span;

/// A finding about the table of kept findings itself.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum KnownFinding {
    /// No finding has that name.
    NoSuchFinding { word: String, nearest: Option<String>, at: Span },
    /// The finding is not there any more.
    Gone { word: String, at: Span },
}

impl Diagnose for KnownFinding {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::NoSuchFinding { word, nearest, at } => {
                Diagnosis::new("unknown-finding", Severity::Warning, Some(*at))
                    .says(format!("no finding is called `{word}`"))
                    .why("the finding you want to accept is still reported, or never was")
                    .help(match nearest {
                        Some(name) => format!("did you mean `{name}`?"),
                        None => "write the name that `check` shows in square brackets".to_owned(),
                    })
            }
            Self::Gone { word, at } => Diagnosis::new("known-gone", Severity::Advice, Some(*at))
                .says(format!("`{word}` is listed in `[known]`, but is no longer found"))
                .why("if it occurs again, it will not be reported")
                .help("remove the line from `[known]`"),
        }
    }
}

/// Marks the findings that the plan keeps, and tells of entries that keep nothing.
pub(super) fn apply(plan: &Plan, all: &mut Vec<Diagnosis>) {
    let mut own = Vec::new();
    for known in plan.known() {
        let (name, entry) = parts(known);
        if explain::page(name).is_none_or(|page| page.severity == Severity::Error) {
            let names = explain::PAGES.iter().filter(|page| page.severity != Severity::Error);
            let nearest = nearest(name, names.map(|page| page.name)).map(str::to_owned);
            let (word, at) = (known.finding.clone(), known.at);
            own.push(KnownFinding::NoSuchFinding { word, nearest, at });
            continue;
        }
        let mut kept = 0;
        for finding in all.iter_mut().filter(|finding| finding.name == name) {
            let named = |entry: &str| finding.says.contains(&format!("`{entry}`"));
            if entry.is_none_or(named) {
                finding.known = true;
                kept += 1;
            }
        }
        if kept == 0 {
            own.push(KnownFinding::Gone { word: known.finding.clone(), at: known.at });
        }
    }
    all.extend(own.iter().map(Diagnose::diagnose));
}

/// `name`, or `name@entry` for the finding that speaks of that entry.
fn parts(known: &Known) -> (&str, Option<&str>) {
    match known.finding.split_once('@') {
        Some((name, entry)) => (name.trim(), Some(entry.trim())),
        None => (known.finding.as_str(), None),
    }
}
