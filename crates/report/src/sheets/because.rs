//! The entry of a plan that decided, for rows and sentences.

use bastium_core::plan::Plan;
use bastium_core::verdict::Cause;
use schemars::JsonSchema;
use serde::Serialize;

/// The plan entry that decided.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Because {
    /// What kind of entry: `exception`, `cell`, `spoofed`, ...
    pub kind: &'static str,
    /// Its name.
    pub name: String,
    /// Its line in the plan; none where the plan need not say it.
    pub line: Option<usize>,
    /// The entry in a few words: `cell guests>tills`, `no route to it`.
    #[serde(skip)]
    pub words: String,
}

impl Because {
    pub(crate) fn new(cause: Cause, plan: &Plan) -> Self {
        Self {
            kind: cause.kind(),
            name: cause.name(plan),
            line: cause.line(plan),
            words: cause.entry(plan),
        }
    }

    /// What decided is no entry of a plan.
    pub(crate) fn no_entry(kind: &'static str, name: &str, words: impl Into<String>) -> Self {
        Self { kind, name: name.to_owned(), line: None, words: words.into() }
    }

    /// The words with the line: `cell guests>tills, line 298`.
    pub fn words_and_line(&self) -> String {
        let line = self.line.map(|line| format!(", line {line}")).unwrap_or_default();
        format!("{}{line}", self.words)
    }
}
