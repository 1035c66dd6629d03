//! What can be wrong with the shape of a plan file, before any of its words is looked up.

use bastium_core::diagnosis::{Diagnose, Diagnosis, Severity};
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
    /// Something could not be built and nothing says why. It is there so that no fault of ours can pass
    /// for a plan in which nothing was found.
    NotBuilt,
    /// A value of another kind than the key takes.
    Kind { key: String, wanted: &'static str, found: &'static str, at: Span },
}

impl Diagnose for ReadProblem {
    fn diagnose(&self) -> Diagnosis {
        let error = |name, at: &Span| Diagnosis::new(name, Severity::Error, Some(*at));
        let whole = |name| Diagnosis::new(name, Severity::Error, None);
        match self {
            Self::TooLarge => whole("too-large")
                .says(format!(
                    "the file has more than {} bytes, the most that a plan can have",
                    super::LARGEST
                ))
                .cure("is it the right file?"),
            Self::NotText { at } => error("not-text", at)
                .says("from here on the file is not text")
                .why("a plan is TOML, which is UTF-8")
                .cure("is it the right file? If so, save it as UTF-8"),
            Self::Empty => whole("empty")
                .says("there is nothing in the plan")
                .cure("`bastium new` writes a first one"),
            Self::NotBuilt => whole("not-built")
                .says("the plan could not be built, and no line was found that is to blame")
                .why("this is a fault in Bastium, not in the plan")
                .cure("take back the last change; `git diff` shows it, if the plan is kept there"),
            Self::Syntax { says, at } => error("syntax", at)
                .says(says)
                .why("a plan is written in TOML 1.0")
                .cure("put this place right; what follows it could not be read"),
            Self::NoEdition => whole("no-edition")
                .says("the plan does not say which edition of the format it is written in")
                .why("so that a later version can read it as it was meant")
                .cure("make `bastium = 1` its first line"),
            Self::Edition { found, at } => error("edition", at)
                .says(format!("edition {found} of the format is not known here"))
                .cure("this version reads edition 1; a newer one may read this plan"),
            Self::UnknownKey { key, table, nearest, at } => error("unknown-key", at)
                .says(if table.is_empty() {
                    format!("a plan has no table or key `{key}`")
                } else {
                    format!("`{key}` is not a key of {table}")
                })
                .cure(match nearest {
                    Some(name) => format!("write `{name}`, if that is meant"),
                    None => "take it out; a remark goes behind a `#`".to_owned(),
                }),
            Self::Kind { key, wanted, found, at } => error("wrong-kind", at)
                .says(format!("`{key}` takes {wanted}, and this is {found}"))
                .cure(format!("write {wanted}")),
        }
    }
}
