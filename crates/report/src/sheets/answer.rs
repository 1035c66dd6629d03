//! The answer to a question.

use super::{Because, EDITION, PacketView, line_words};
use crate::{Cell, Column, Table, Tone};
use bastium_core::asking::{Answer, End, NearMiss, Share};
use bastium_core::plan::{Plan, Services};
use bastium_core::proof::hours;
use bastium_core::space::{AddressSet, ServiceSet};
use bastium_core::verdict::{Cause, Verdict};
use bastium_gateway::shell_word;
use schemars::JsonSchema;
use serde::Serialize;

/// What happens from one place to another.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct AnswerSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// A packet of the question.
    pub packet: PacketView,
    /// `allow`, `block`, `reject`, `not_routed`, `no_route`, or `mixed`.
    pub verdict: &'static str,
    /// Where the packets do not all fare alike, or not for the same reason: what happens to which.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<PartRow>,
    /// Whether the packet leaves a line in the log.
    pub logged: bool,
    /// The entry that decides the packet.
    pub because: Because,
    /// The rule of the compiled list that decides the packet; none where no rule does.
    pub rule: Option<RuleRef>,
    /// Rules above it that came close.
    pub passed_over: Vec<PassedOverRow>,
    /// Exceptions that would have decided otherwise, but for one thing.
    pub near_misses: Vec<NearMissRow>,
    /// How the plan could be changed so that the answer is another one.
    pub to_change: Vec<String>,
    /// What to expect: `reply`, `refused`, `unreachable`, `silence`; none where nothing is sent.
    pub reply: Option<&'static str>,
    /// The rule that lets the reply back; none where no reply comes, or no list sees it.
    pub reply_rule: Option<RuleRef>,
    /// The answer as a sentence.
    pub says: String,
    /// What has no route, though other packets have one.
    pub asides: Vec<String>,
    /// Where the compiled rules differ from the plan. Anything here is a fault of Bastium.
    pub differences: Vec<String>,
}

/// A part of the answer.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct PartRow {
    /// One of its packets.
    pub packet: PacketView,
    /// Its packets, in words.
    pub covers: String,
    /// What happens to them.
    pub verdict: &'static str,
    /// Whether that is logged.
    pub logged: bool,
    /// The entry that decides.
    pub because: Because,
}

/// A rule of the compiled list.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct RuleRef {
    /// Its number.
    pub number: u32,
    /// Its id.
    pub id: String,
}

/// A rule that came close.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct PassedOverRow {
    /// Its number.
    pub number: u32,
    /// Its id.
    pub id: String,
    /// In what it does not fit: `source`, `destination` or `service`.
    pub differs: &'static str,
}

/// An exception that came close.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct NearMissRow {
    /// The exception, or the inbound entry.
    pub name: String,
    /// Its line in the plan.
    pub line: usize,
    /// In what it differs: `source`, `destination`, `service`, `hours`, `off`, `ended` or `order`.
    pub but: &'static str,
    /// What would have to be otherwise.
    pub says: String,
}

impl AnswerSheet {
    /// Takes the sheet from an answer; `None` if the answer has no part, which no question leads to.
    pub fn new(
        plan: &Plan,
        from: &End,
        to: &End,
        service: &Services,
        answer: &Answer<'_>,
    ) -> Option<Self> {
        let first = answer.shares.first()?;
        let parts = if answer.shares.len() > 1 { answer.shares.as_slice() } else { &[] };
        let differences = answer.differences.iter().map(|difference| {
            let outcome = difference.rules;
            let rule =
                outcome.rule.map_or("no rule".to_owned(), |rule| format!("rule {}", rule.number));
            format!(
                "{}: the plan says {}, but {rule} says {}",
                plan.packet_words(&difference.packet),
                difference.meaning.verdict.word(),
                outcome.action.word()
            )
        });
        Some(Self {
            bastium: EDITION,
            packet: PacketView::new(&first.packet, !first.packets.is_timeless(), plan),
            verdict: answer.verdict.map_or("mixed", Verdict::word),
            parts: parts.iter().map(|share| part(plan, share)).collect(),
            logged: first.decision.logged,
            because: Because::new(first.decision.cause, plan),
            rule: answer.rule.map(|rule| RuleRef { number: rule.number, id: rule.id.to_string() }),
            passed_over: answer
                .passed_over
                .iter()
                .map(|passed| PassedOverRow {
                    number: passed.rule.number,
                    id: passed.rule.id.to_string(),
                    differs: passed.differs,
                })
                .collect(),
            near_misses: answer.near_misses.iter().map(|one| near_miss_row(plan, *one)).collect(),
            to_change: to_change(plan, from, to, service, answer),
            reply: answer.reply.filter(|_| answer.verdict.is_some()).map(|reply| reply.word()),
            reply_rule: answer
                .reply_rule
                .filter(|_| answer.verdict == Some(Verdict::Allow))
                .map(|rule| RuleRef { number: rule.number, id: rule.id.to_string() }),
            says: says(plan, from.text(), to.text(), &service.text, answer),
            asides: answer.asides.iter().map(|share| aside(plan, share)).collect(),
            differences: differences.collect(),
        })
    }

    /// The parts as a table; empty where all packets fare alike.
    pub fn tables(&self) -> Vec<Table> {
        let mut table = Table::new([
            Column::whole("verdict"),
            Column::text("which"),
            Column::text("because"),
            Column::numbers("line"),
        ]);
        for part in &self.parts {
            table.row([
                Cell::action(part.verdict),
                part.covers.clone().into(),
                Cell::toned(part.because.words.clone(), Tone::Plain),
                part.because.line.map_or(String::new(), |line| line.to_string()).into(),
            ]);
        }
        if self.parts.is_empty() {
            table.row([
                Cell::action(self.verdict),
                self.says.clone().into(),
                self.because.words.clone().into(),
                self.because.line.map_or(String::new(), |line| line.to_string()).into(),
            ]);
        }
        vec![table]
    }
}

fn near_miss_row(plan: &Plan, one: NearMiss) -> NearMissRow {
    let exception = plan.exception(one.exception);
    let what = format!("{} {} is {}", exception.table(), exception.name, exception.action.word());
    NearMissRow {
        name: exception.name.to_string(),
        line: plan.line(exception.at),
        but: one.but.word(),
        says: format!("{what}, but {}", one.words(plan)),
    }
}

/// How to get the other answer, as commands where there are some.
fn to_change(
    plan: &Plan,
    from: &End,
    to: &End,
    service: &Services,
    answer: &Answer<'_>,
) -> Vec<String> {
    let Some(first) = answer.shares.first() else { return Vec::new() };
    if answer.verdict == Some(Verdict::Allow) || answer.verdict.is_none() {
        return Vec::new();
    }
    let exception = format!(
        "bastium add exception NAME from={} to={} service={} action=allow why=...",
        shell_word(from.text()),
        shell_word(to.text()),
        shell_word(&service.text.replace(", ", ","))
    );
    match first.decision.cause {
        Cause::Cell(from, to) => {
            let (from, to) = (&plan.zone(from).name, &plan.zone(to).name);
            vec![exception, format!("bastium set cell {from} {to} allow")]
        }
        Cause::Exception(id) => {
            let name = &plan.exception(id).name;
            vec![format!("{exception} before={name}"), format!("bastium set exception {name} ...")]
        }
        Cause::Unmatched if plan.network_on(first.packet.enters).is_some() => vec![exception],
        _ => Vec::new(),
    }
}

fn says(plan: &Plan, from: &str, to: &str, service: &str, answer: &Answer<'_>) -> String {
    let Some(first) = answer.shares.first() else { return String::new() };
    let on = if service == "any" { String::new() } else { format!(" by {service}") };
    let reason = format!(
        "{}{}",
        first.decision.cause.words(plan),
        line_words(first.decision.cause.line(plan))
    );
    let several = answer.shares.len() > 1;
    let more = if several { "; other entries decide parts of it, see below" } else { "" };
    match answer.verdict {
        Some(Verdict::Allow) => format!("{from} can reach {to}{on}: {reason}{more}"),
        Some(Verdict::Block) => format!("{from} cannot reach {to}{on}: {reason}{more}"),
        Some(Verdict::Reject) => {
            format!("{from} cannot reach {to}{on}, and gets a rejection: {reason}{more}")
        }
        Some(Verdict::NotRouted) => {
            format!("{from} to {to}{on} does not pass the gateway: {reason}")
        }
        Some(Verdict::NoRoute) => format!("{from} has no route to {to}{on}: {reason}"),
        None => format!("{from} to {to}{on}: not the same for all of it"),
    }
}

fn aside(plan: &Plan, share: &Share) -> String {
    let cause = share.decision.cause;
    format!("no route for {}: {}", covers(plan, share), cause.words(plan))
}

fn part(plan: &Plan, share: &Share) -> PartRow {
    PartRow {
        packet: PacketView::new(&share.packet, !share.packets.is_timeless(), plan),
        covers: covers(plan, share),
        verdict: share.decision.verdict.word(),
        logged: share.decision.logged,
        because: Because::new(share.decision.cause, plan),
    }
}

/// The packets of a part in words: up to three boxes, by the plan's names where they coincide.
fn covers(plan: &Plan, share: &Share) -> String {
    let mut boxes: Vec<String> = Vec::new();
    for product in share.packets.products() {
        // A product is of one family; said of both, its services need no remark on that.
        let line = product.service.v4.union(&product.service.v6);
        let words = ServiceSet::both(line).words();
        let service = if words == ["any"] { "anything".to_owned() } else { few(&words) };
        let family = if product.source.v4.is_empty() { "IPv6" } else { "IPv4" };
        let when = match product.at.is_full() {
            true => String::new(),
            false => format!(", {}", hours(plan, &product.at)),
        };
        let words = format!(
            "{service} from {} to {} ({family}){when}",
            place(plan, &product.source),
            place(plan, &product.destination)
        );
        if !boxes.contains(&words) {
            boxes.push(words);
        }
    }
    few_joined(&boxes, "; ")
}

pub(super) fn few(words: &[String]) -> String {
    few_joined(words, ", ")
}

fn few_joined(words: &[String], between: &str) -> String {
    const MOST: usize = 3;
    if words.len() <= MOST {
        return words.join(between);
    }
    format!("{}{between}and {} more", words[..MOST].join(between), words.len() - MOST)
}

/// What a set of one family is called: a place of the plan that has just these addresses in that
/// family, or the addresses themselves.
fn place(plan: &Plan, addresses: &AddressSet) -> String {
    plan.name_in_family(addresses).unwrap_or_else(|| few(&plan.set_words(addresses)))
}
