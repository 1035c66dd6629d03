//! What a gateway has blocked, and what to do about it.

use super::{Because, EDITION};
use crate::{Cell, Column, Table, Tone};
use bastium_core::blocked::{Blocked, Group, Offer, Sort};
use bastium_core::plan::Plan;
use bastium_core::rules::Rule;
use bastium_gateway::shell_word;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::HashMap;

/// What a log contains.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct BlockedSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// How many lines the log has.
    pub lines: u64,
    /// How many packets it contains.
    pub packets: u64,
    /// How many of them were logged and let pass.
    pub passed: u64,
    /// How many came by an interface that the plan does not know.
    pub strange: u64,
    /// Packets that want the same, put together; first those that somebody may have to do something about.
    pub groups: Vec<GroupRow>,
}

/// Packets that want the same of the same.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct GroupRow {
    /// Where they come from.
    pub from: String,
    /// Where they go.
    pub to: String,
    /// What they ask for; none where there was too much to tell apart.
    pub service: Option<String>,
    /// How many there were.
    pub count: u64,
    /// The first log line about one of them.
    pub first_line: u64,
    /// The last one.
    pub last_line: u64,
    /// `missing`, `allowed`, `outside_hours`, `meant`, `spoofed`, `scan`, `no_route`; or noise: `stranger`, `to_everyone`, `late`.
    pub sort: &'static str,
    /// What that means.
    pub says: &'static str,
    /// The id of the rule that blocked them; none where the plan has no such rule.
    pub rule: Option<String>,
    /// What the log calls that rule.
    pub tag: Option<String>,
    /// The plan entry that decides about them.
    pub because: Because,
    /// Source and destination of one of them.
    pub example: String,
    /// The exception that would let them through.
    pub offer: Option<OfferRow>,
    /// What that exception would open, in sentences; none where nobody looked.
    pub opens: Option<Vec<String>>,
    /// What would be wrong with the plan then.
    pub breaks: Vec<String>,
}

/// An exception, ready to be added.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct OfferRow {
    /// Its name.
    pub name: String,
    /// As it stands in a plan.
    pub toml: String,
    /// The command that adds it.
    pub command: String,
}

impl BlockedSheet {
    /// Takes the sheet from what a log tells of; `rules` are the plan's, by what a log calls them.
    pub fn new(plan: &Plan, blocked: &Blocked, rules: &HashMap<String, &Rule>, lines: u64) -> Self {
        let groups = blocked.groups.iter().map(|group| row(plan, group, rules));
        Self {
            bastium: EDITION,
            lines,
            packets: blocked.packets,
            passed: blocked.passed,
            strange: blocked.strange,
            groups: groups.collect(),
        }
    }

    /// As a table.
    pub fn tables(&self) -> Vec<Table> {
        vec![self.table(|_| true)]
    }

    /// Some of the groups, as a table.
    pub fn table(&self, keep: impl Fn(&GroupRow) -> bool) -> Table {
        let mut table = Table::new([
            Column::numbers("count"),
            Column::whole("from"),
            Column::whole("to"),
            Column::whole("service"),
            Column::whole("sort"),
            Column::text("rule"),
            Column::text("because"),
        ]);
        for group in self.groups.iter().filter(|group| keep(group)) {
            let because = group.because.words_and_line();
            let rule = group.rule.as_deref().or(group.tag.as_deref()).unwrap_or("-");
            table.row([
                Cell::from(group.count),
                Cell::from(&group.from),
                Cell::from(&group.to),
                Cell::from(group.service.as_deref().unwrap_or("several")),
                Cell::toned(group.sort.replace('_', " "), tone(group.sort)),
                Cell::toned(rule, Tone::Faint),
                Cell::from(because),
            ]);
        }
        table
    }
}

fn tone(sort: &str) -> Tone {
    match sort {
        "missing" => Tone::Warn,
        "allowed" | "spoofed" | "scan" => Tone::Bad,
        "meant" => Tone::Good,
        _ => Tone::Faint,
    }
}

fn row(plan: &Plan, group: &Group, rules: &HashMap<String, &Rule>) -> GroupRow {
    let rule = group.tag.as_ref().and_then(|tag| rules.get(tag));
    GroupRow {
        from: group.from.clone(),
        to: group.to.clone(),
        service: group.service.map(|service| service.to_string()),
        count: group.count,
        first_line: group.lines.0,
        last_line: group.lines.1,
        sort: group.sort.word(),
        says: Sort::says(group.sort),
        rule: rule.map(|rule| rule.id.to_string()),
        tag: group.tag.clone(),
        because: Because::new(group.decision.cause, plan),
        example: format!("{} to {}", group.packet.source(), group.packet.destination()),
        offer: group.offer.as_ref().map(|offer| offer_row(offer, group.count)),
        opens: None,
        breaks: Vec::new(),
    }
}

/// The keys of an offered exception, in the order in which they are written.
pub fn offer_keys(offer: &Offer, count: u64) -> [(&'static str, String); 5] {
    let why = match count {
        1 => "Seen once in the gateway's log".to_owned(),
        count => format!("Seen {count} times in the gateway's log"),
    };
    [
        ("from", offer.from.clone()),
        ("to", offer.to.clone()),
        ("service", offer.service.clone()),
        ("action", "allow".to_owned()),
        ("why", why),
    ]
}

fn offer_row(offer: &Offer, count: u64) -> OfferRow {
    let keys = offer_keys(offer, count);
    let lines = keys.iter().map(|(key, value)| format!("{key} = {value:?}\n"));
    let words = keys.iter().map(|(key, value)| shell_word(&format!("{key}={value}")));
    OfferRow {
        name: offer.name.clone(),
        toml: format!("[exception.{}]\n{}", offer.name, lines.collect::<String>()),
        command: format!(
            "bastium add exception {} {}",
            offer.name,
            words.collect::<Vec<_>>().join(" ")
        ),
    }
}
