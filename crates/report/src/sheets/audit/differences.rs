//! Differences between a gateway and its plan as rows, the worst first, each with the line of the gateway.

use crate::sheets::boxes;
use crate::sheets::{Because, BoxRow};
use bastium_core::meaning::Meaning;
use bastium_core::plan::Plan;
use bastium_core::proof::{Wording, proved};
use bastium_core::rules::RuleSet;
use bastium_core::verdict::{Cause, Decision, Verdict};
use bastium_gateway::foreign::Foreign;
use bastium_gateway::nftables::{Aspect, Fault};
use bastium_gateway::{HeldLists, ListFault};
use schemars::JsonSchema;
use serde::Serialize;

/// Packets that gateway and plan treat differently.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct DifferenceRow {
    /// The packets.
    #[serde(flatten)]
    pub packets: BoxRow,
    /// In what they differ: `verdict`, `log`, `translation`, `replies`, `errors`, `no_conversation`, `itself`,
    /// `limit`.
    pub aspect: &'static str,
    /// What the plan says: for a verdict `allow`, `block`, `reject`.
    pub before: String,
    /// What the gateway does.
    pub after: String,
    /// The entry of the plan.
    pub because: Because,
    /// The line of the gateway: where it stands.
    pub line: String,
    /// The line itself, as much of it as fits.
    pub line_says: String,
    /// The difference in a sentence.
    pub says: String,
}

impl DifferenceRow {
    /// Whether the gateway lets pass what the plan does not.
    pub fn opens(&self) -> bool {
        self.after == "allow" && self.before != "allow" || self.aspect == "no_conversation"
    }

    /// The worst first: what is open, what is cut off, what is translated wrongly; anti-spoofing last.
    pub(super) fn rank(&self) -> (bool, usize) {
        let rank = match self.aspect {
            _ if self.opens() => 0,
            "replies" | "itself" => 1,
            "verdict" if self.before == "allow" => 2,
            "translation" => 3,
            "errors" => 4,
            "limit" => 5,
            "verdict" => 6,
            _ => 7,
        };
        (self.because.kind == "spoofed", rank)
    }
}

/// What a row is about. Rows that are about the same can be said together: one line and one cause. Anti-spoofing is
/// one cause.
pub(super) fn is_about(row: &DifferenceRow) -> [&str; 6] {
    let (line, kind, name) = match row.because.kind {
        "spoofed" => ("", "spoofed", ""),
        kind => (row.line.as_str(), kind, row.because.name.as_str()),
    };
    [row.aspect, &row.before, &row.after, line, kind, name]
}

/// What differs between a whole gateway and its plan.
pub(super) fn of_gateway(plan: &Plan, faults: &[Fault]) -> Vec<DifferenceRow> {
    let mut rows: Vec<DifferenceRow> = Vec::new();
    let wording = Wording::new(plan);
    for fault in faults {
        let words = Words::of(plan, fault);
        for packets in boxes::rows(&wording, &fault.packets) {
            let says = words.sentence(&packets, fault);
            rows.push(DifferenceRow {
                aspect: words.aspect,
                before: words.before.clone(),
                after: words.after.clone(),
                because: words.because.clone(),
                line: fault.at.clone(),
                line_says: fault.says.clone(),
                says,
                packets,
            });
        }
    }
    rows.sort_by_key(DifferenceRow::rank);
    rows
}

/// A sentence for each fault, with one of its packets.
pub fn fault_sentences(plan: &Plan, faults: &[Fault]) -> Vec<String> {
    let wording = Wording::new(plan);
    let say = |fault: &Fault| {
        let words = Words::of(plan, fault);
        let rows = boxes::rows(&wording, &fault.packets);
        let first = rows.first().map(|row| words.sentence(row, fault)).unwrap_or_default();
        format!("{first}; one packet: {}", plan.packet_words(&fault.packet))
    };
    faults.iter().map(say).collect()
}

/// A sentence for each place where lists of RFC 8519 do not do what their rules do, with one of its packets.
pub fn list_sentences(plan: &Plan, faults: &[ListFault]) -> Vec<String> {
    let wording = Wording::new(plan);
    let say = |fault: &ListFault| {
        let rows = boxes::rows(&wording, &fault.packets);
        let what = rows.first().map(|row| row.short.clone()).unwrap_or_default();
        let kind = if fault.replies { "replies, by the port they come from, " } else { "" };
        let (_, says, does) = verdicts(fault);
        let (rule, entry) = (&fault.rule.name, &fault.entry.name);
        format!("{kind}{what}: {says} by `{rule}`, {does} by `{entry}` in the file")
    };
    faults.iter().map(say).collect()
}

/// What is to be said about a fault.
struct Words {
    aspect: &'static str,
    before: String,
    after: String,
    because: Because,
}

impl Words {
    fn of(plan: &Plan, fault: &Fault) -> Self {
        let logged = |log: bool| if log { "logged" } else { "not logged" };
        let because = because(plan, fault);
        let verdict = fault.plan.map_or("block", |decision| verdict(decision));
        let gateway = fault.gateway.map_or("nothing", |(action, _)| action.word());
        let (aspect, before, after) = match (fault.aspect, &fault.words) {
            (Aspect::Verdict, None) if verdict == gateway => {
                let own = fault.plan.is_some_and(|decision| decision.logged);
                let does = fault.gateway.is_some_and(|(_, log)| log);
                ("log", logged(own).to_owned(), logged(does).to_owned())
            }
            (Aspect::Verdict, _) => ("verdict", verdict.to_owned(), gateway.to_owned()),
            (Aspect::TranslationIn | Aspect::TranslationOut, Some((plan, does))) => {
                ("translation", plan.clone(), does.clone())
            }
            (Aspect::Limit, Some((plan, does))) => ("limit", plan.clone(), does.clone()),
            (Aspect::Replies, _) => ("replies", "allow".to_owned(), gateway.to_owned()),
            (Aspect::Itself, _) => ("itself", "allow".to_owned(), gateway.to_owned()),
            (Aspect::Errors, _) => ("errors", "allow".to_owned(), gateway.to_owned()),
            (Aspect::NoConversation, _) => {
                ("no_conversation", "block".to_owned(), gateway.to_owned())
            }
            (_, None) => ("translation", String::new(), String::new()),
        };
        Self { aspect, before, after, because }
    }

    fn sentence(&self, row: &BoxRow, fault: &Fault) -> String {
        let what = &row.short;
        let why = self.because.words_and_line();
        let line = &fault.at;
        match self.aspect {
            "verdict" => format!(
                "the gateway {} {what}; the plan {} it ({why}); gateway: {line}",
                does(&self.after),
                does(&self.before)
            ),
            "log" => format!(
                "{what} is {} by the gateway; in the plan it is {} ({why}); gateway: {line}",
                self.after, self.before
            ),
            "translation" => format!(
                "{what} is {} by the gateway; in the plan it is {}; gateway: {line}",
                self.after, self.before
            ),
            "limit" => format!(
                "{what} goes {}; the plan has it {} ({why}); gateway: {line}",
                self.after, self.before
            ),
            "replies" => format!(
                "the gateway {} what belongs to permitted conversations: {what}; gateway: {line}",
                does(&self.after)
            ),
            "itself" => format!(
                "the gateway {} what it says to itself, over lo: {what}; gateway: {line}",
                does(&self.after)
            ),
            "errors" => format!(
                "the gateway {} the ICMP errors of permitted conversations: {what}; gateway: {line}",
                does(&self.after)
            ),
            _ => format!(
                "the gateway {} what belongs to no conversation: {what}; the plan blocks it ({why}); gateway: {line}",
                does(&self.after)
            ),
        }
    }
}

fn because(plan: &Plan, fault: &Fault) -> Because {
    match fault.plan {
        Some(decision) => Because::new(decision.cause, plan),
        None => {
            let (kind, words) = match fault.aspect {
                Aspect::Replies | Aspect::Errors => (Cause::Reply.kind(), "replies"),
                Aspect::Verdict => ("spoofed", "spoofed source"),
                Aspect::TranslationIn => ("offered", "inbound"),
                _ => ("plan", "plan"),
            };
            Because::no_entry(kind, "", words)
        }
    }
}

fn verdict(decision: Decision) -> &'static str {
    match decision.verdict {
        Verdict::Allow => "allow",
        Verdict::Reject => "reject",
        Verdict::Block | Verdict::NotRouted | Verdict::NoRoute => "block",
    }
}

pub(super) fn does(action: &str) -> &'static str {
    match action {
        "allow" => "allows",
        "reject" => "rejects",
        _ => "blocks",
    }
}

/// What differs between access control lists on interfaces and the plan; `None` where the file is none of
/// these, or the plan cannot be said so.
pub(super) fn of_access_lists(
    foreign: &Foreign,
    meaning: &Meaning<'_>,
    rules: &RuleSet,
) -> Option<(Vec<DifferenceRow>, HeldLists)> {
    let held = foreign.held_lists(meaning, proved(meaning, rules).ok()?)?;
    let plan = meaning.plan();
    let mut rows = Vec::new();
    let wording = Wording::new(plan);
    for fault in &held.faults {
        let id = &fault.rule.name;
        let rule = rules.lists.iter().flat_map(|list| &list.rules).find(|rule| rule.id == *id);
        let because = match rule {
            Some(rule) => Because::new(rule.cause, plan),
            None => Because::no_entry("end", id, format!("end of {id}")),
        };
        let why = because.words_and_line();
        let (aspect, before, after) = verdicts(fault);
        for packets in boxes::rows(&wording, &fault.packets) {
            let what = &packets.short;
            let entry = &fault.entry.name;
            let says = match aspect {
                "log" => format!(
                    "{what} is {after} by the gateway; in the plan it is {before} ({why}); gateway: {entry}"
                ),
                "replies" => format!(
                    "the gateway {} replies, by the port that they come from: {what}; the plan {} them ({why}); \
                     gateway: {entry}",
                    does(after),
                    does(before)
                ),
                _ => format!(
                    "the gateway {} {what}; the plan {} it ({why}); gateway: {entry}",
                    does(after),
                    does(before)
                ),
            };
            rows.push(DifferenceRow {
                packets,
                aspect,
                before: before.to_owned(),
                after: after.to_owned(),
                because: because.clone(),
                line: entry.clone(),
                line_says: String::new(),
                says,
            });
        }
    }
    rows.sort_by_key(DifferenceRow::rank);
    Some((rows, held))
}

/// In what lists differ from their rules, and both sides' words.
fn verdicts(fault: &ListFault) -> (&'static str, &'static str, &'static str) {
    let logged = |log: bool| if log { "logged" } else { "not logged" };
    let (rule, entry) = (&fault.rule, &fault.entry);
    if fault.replies {
        ("replies", rule.action.word(), entry.action.word())
    } else if rule.action == entry.action {
        ("log", logged(rule.log), logged(entry.log))
    } else {
        ("verdict", rule.action.word(), entry.action.word())
    }
}
