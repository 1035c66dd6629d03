//! What Bastium has to say about a plan: one form for errors, warnings and advice.
//!
//! Problems are enums next to the operation that finds them. A [`Diagnosis`] is how one of them reads: what is wrong,
//! where, why it matters and how to fix it. It has no layout yet; terminals, JSON and SARIF each render the same
//! value.

use crate::source::Span;

/// How bad it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Severity {
    /// The plan has no single meaning: nothing can be worked out from it.
    Error,
    /// Something will not work, or is not as safe as it looks.
    Warning,
    /// Worth a look.
    Advice,
}

impl Severity {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Error => "error",
            Self::Warning => "warning",
            Self::Advice => "advice",
        }
    }
}

/// A second place that belongs to a diagnosis.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Remark {
    /// Where.
    pub at: Span,
    /// What is there.
    pub says: String,
}

/// A problem in words.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Diagnosis {
    /// The kind of problem, as a stable name.
    pub name: &'static str,
    /// How bad it is.
    pub severity: Severity,
    /// Whether the plan keeps it, with a reason.
    pub known: bool,
    /// Where it is; `None` if it concerns the file as a whole.
    pub at: Option<Span>,
    /// Other places that belong to it.
    pub also: Vec<Remark>,
    /// What is wrong, in a sentence.
    pub says: String,
    /// Why it matters; may be empty where that is plain.
    pub why: String,
    /// How to put it right.
    pub help: String,
}

impl Diagnosis {
    /// A diagnosis that still has only its name and its place.
    pub fn new(name: &'static str, severity: Severity, at: Option<Span>) -> Self {
        Self {
            name,
            severity,
            known: false,
            at,
            also: Vec::new(),
            says: String::new(),
            why: String::new(),
            help: String::new(),
        }
    }

    /// With what is wrong.
    #[must_use]
    pub fn says(mut self, says: impl Into<String>) -> Self {
        self.says = says.into();
        self
    }

    /// With why it matters.
    #[must_use]
    pub fn why(mut self, why: impl Into<String>) -> Self {
        self.why = why.into();
        self
    }

    /// With how to put it right.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.help = help.into();
        self
    }

    /// With another place that belongs to it.
    #[must_use]
    pub fn also(mut self, at: Span, says: impl Into<String>) -> Self {
        let says = says.into();
        self.also.push(Remark { at, says });
        self
    }
}

/// A diagnosis of something that leaves a plan without a meaning, at a place.
pub fn error(name: &'static str, at: &Span) -> Diagnosis {
    Diagnosis::new(name, Severity::Error, Some(*at))
}

/// A diagnosis of something that will not work, or is not as safe as it looks, at a place.
pub fn warning(name: &'static str, at: &Span) -> Diagnosis {
    Diagnosis::new(name, Severity::Warning, Some(*at))
}

/// A diagnosis of something that is worth a look, at a place.
pub fn advice(name: &'static str, at: &Span) -> Diagnosis {
    Diagnosis::new(name, Severity::Advice, Some(*at))
}

/// A problem that can be put into words.
pub trait Diagnose {
    /// The problem in words.
    fn diagnose(&self) -> Diagnosis;
}

/// Help with a name that is not known: the nearest one, or what can be done without one.
pub(crate) fn nearest_or(nearest: Option<&String>, otherwise: &str) -> String {
    match nearest {
        Some(name) => format!("did you mean `{name}`?"),
        None => otherwise.to_owned(),
    }
}
