//! Problems with the shape of a plan file, found before any of its words is resolved.

use bastium_core::diagnosis::{Diagnose, Diagnosis, Severity, error};
use bastium_core::source::Span;

/// A problem of shape.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum ReadProblem {
    /// It is larger than a plan can be.
    TooLarge,
    /// It is not UTF-8 text.
    NotText { at: Span },
    /// There is nothing in it.
    Empty,
    /// It is not TOML.
    Syntax { says: String, at: Span },
    /// The line `bastium = 1` is missing.
    NoEdition,
    /// It is written for another edition of the format.
    Edition { found: String, at: Span },
    /// A key or table that the format does not have.
    UnknownKey { key: String, table: String, nearest: Option<String>, at: Span },
    /// An entry with a key for its name, which stands in the heading.
    NameInside { table: String, at: Span },
    /// Something could not be built and nothing says why. It is there so that no fault of ours can pass
    /// for a plan in which nothing was found.
    NotBuilt,
    /// A value of another kind than the key takes.
    Kind { key: String, wanted: &'static str, found: &'static str, at: Span },
}

impl Diagnose for ReadProblem {
    fn diagnose(&self) -> Diagnosis {
        let whole = |name| Diagnosis::new(name, Severity::Error, None);
        match self {
            Self::TooLarge => whole("too-large")
                .says(format!(
                    "the file has more than {} bytes, the most that a plan can have",
                    super::LARGEST
                ))
                .help("is it the right file?"),
            Self::NotText { at } => error("not-text", at)
                .says("the file is not text from here on")
                .why("a plan is TOML, which is UTF-8")
                .help("is it the right file? If so, save it as UTF-8"),
            Self::Empty => whole("empty")
                .says("the plan is empty")
                .help("`bastium new` writes a plan to start from"),
            Self::NotBuilt => whole("not-built")
                .says("the plan could not be built, and no line could be found that causes it")
                .why("this is a fault in Bastium, not in the plan")
                .help("undo the last change; if the plan is in git, `git diff` shows it"),
            Self::Syntax { says, at } => error("syntax", at)
                .says(says)
                .why("a plan is written in TOML 1.0")
                .help("correct this first; what follows could not be read"),
            Self::NoEdition => whole("no-edition")
                .says("the plan does not say which edition of the format it uses")
                .why("a later version needs it to read the plan correctly")
                .help("make `bastium = 1` its first line"),
            Self::Edition { found, at } => error("edition", at)
                .says(format!("edition {found} of the format is not known here"))
                .help("this version reads edition 1; a newer one may read this plan"),
            Self::UnknownKey { key, table, nearest, at } => error("unknown-key", at)
                .says(if table.is_empty() {
                    format!("a plan has no table or key `{key}`")
                } else {
                    format!("`{key}` is not a key of {table}")
                })
                .help(match nearest {
                    Some(name) => format!("did you mean `{name}`?"),
                    None => "remove it; a comment goes behind a `#`".to_owned(),
                }),
            Self::NameInside { table, at } => error("unknown-key", at)
                .says(format!("`name` is not a key of {table}"))
                .help("the name of an entry is in its heading, as in `[network.desks]`; remove the key"),
            Self::Kind { key, wanted, found, at } => error("wrong-kind", at)
                .says(format!("`{key}` takes {wanted}, but this is {found}"))
                .help(format!("write {wanted}")),
        }
    }
}
