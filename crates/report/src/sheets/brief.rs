//! Short answers to many questions, one line each.

use super::Because;
use crate::safe;
use bastium_core::asking::{Brief, Unasked};
use bastium_core::diagnosis::Diagnosis;
use bastium_core::plan::Plan;
use bastium_core::verdict::Verdict;
use schemars::JsonSchema;
use serde::Serialize;
use std::borrow::Cow;

/// One question with its answer: a line of CSV, or of JSON (one object a line).
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct BriefRow<'q> {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The question.
    #[serde(flatten)]
    pub question: Question<'q>,
    /// `allow`, `block`, `reject`, `not_routed`, `no_route` or `mixed`; `none` where there is no answer.
    pub verdict: &'static str,
    /// Whether it is the one that was expected; none if none was named.
    pub as_expected: Option<bool>,
    /// Whether it leaves a line in the log.
    pub logged: bool,
    /// The kind of entry that decides: `exception`, `cell`, ...
    pub kind: &'static str,
    /// Its name.
    pub name: Cow<'q, str>,
    /// Its line in the plan.
    pub line: Option<usize>,
    /// The rule's id.
    pub rule: Cow<'q, str>,
    /// Why there is no answer.
    pub problem: Cow<'q, str>,
    /// The entry that decides, in a few words and with its line.
    #[serde(skip)]
    pub entry: String,
}

/// What a question says.
#[derive(Clone, Copy, Debug, Default, Serialize, JsonSchema)]
pub struct Question<'q> {
    /// Its line in its file.
    pub row: u64,
    /// From where.
    pub from: &'q str,
    /// To where.
    pub to: &'q str,
    /// Which services.
    pub service: &'q str,
    /// At which time; empty for any.
    pub at: &'q str,
    /// Which verdict is expected; empty if none is.
    pub expect: &'q str,
}

impl<'q> BriefRow<'q> {
    /// The columns, in order.
    pub const COLUMNS: [&'static str; 14] = [
        "row",
        "from",
        "to",
        "service",
        "at",
        "verdict",
        "expect",
        "as_expected",
        "logged",
        "kind",
        "name",
        "line",
        "rule",
        "problem",
    ];

    /// Takes a row from an answer.
    pub fn new(plan: &Plan, question: Question<'q>, brief: Brief<'q>) -> Self {
        let verdict = brief.verdict.map_or("mixed", Verdict::word);
        let expect = question.expect;
        Self {
            bastium: super::EDITION,
            question,
            verdict,
            as_expected: (!expect.is_empty()).then(|| same_verdict(expect, verdict)),
            logged: brief.logged,
            kind: brief.cause.kind(),
            name: brief.cause.name(plan).into(),
            line: brief.cause.line(plan),
            rule: brief.rule.map_or(Cow::Borrowed(""), |rule| rule.id.to_string().into()),
            problem: Cow::Borrowed(""),
            entry: Because::new(brief.cause, plan).words_and_line(),
        }
    }

    /// A row without an answer.
    pub fn without(question: Question<'q>, problem: String) -> Self {
        let expect = question.expect;
        Self {
            bastium: super::EDITION,
            question,
            verdict: "none",
            as_expected: (!expect.is_empty()).then_some(false),
            logged: false,
            kind: "",
            name: Cow::Borrowed(""),
            line: None,
            rule: Cow::Borrowed(""),
            problem: problem.into(),
            entry: String::new(),
        }
    }

    /// The cells of the row, as CSV has them.
    pub fn cells(&self) -> [Cow<'_, str>; 14] {
        // Almost no text needs anything done to it.
        let text = |text: &'_ str| -> String { safe(text) };
        let yes = |yes: bool| Cow::Borrowed(if yes { "yes" } else { "no" });
        let Question { row, from, to, service, at, expect } = self.question;
        [
            row.to_string().into(),
            text(from).into(),
            text(to).into(),
            text(service).into(),
            text(at).into(),
            self.verdict.into(),
            text(expect).into(),
            self.as_expected.map_or(Cow::Borrowed(""), yes),
            yes(self.logged),
            self.kind.into(),
            text(&self.name).into(),
            self.line.map_or(Cow::Borrowed(""), |line| line.to_string().into()),
            text(&self.rule).into(),
            text(&self.problem).into(),
        ]
    }
}

/// Why a question has no answer, in a sentence.
pub fn problem(unasked: &Unasked) -> String {
    match unasked {
        Unasked::Words(diagnoses) => {
            let says = |one: &Diagnosis| format!("{}; {}", one.says, one.help);
            diagnoses.iter().map(says).collect::<Vec<_>>().join("; ")
        }
        Unasked::Nothing(reason) => {
            use bastium_core::asking::NoAnswer;
            match reason {
                NoAnswer::NobodyThere => "no network is there yet to ask from",
                NoAnswer::NobodyToReach => "no network is there yet to reach",
                NoAnswer::NoCommonFamily => "no traffic is possible there for that service",
                NoAnswer::GatewayToItself => "both ends are the gateway",
            }
            .to_owned()
        }
    }
}

/// Whether two words mean the same verdict: as JSON has it, or as it is printed.
fn same_verdict(one: &str, other: &str) -> bool {
    let plain = |word: &str| word.trim().to_lowercase().replace([' ', '-'], "_");
    plain(one) == plain(other)
}
