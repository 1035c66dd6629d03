//! Whether a gateway runs what was planned, and whether its counters and log confirm a walk.

use super::EDITION;
use crate::walk::WalkSheet;
use crate::{Cell, Column, Table, Tone, count, either, unseen};
use schemars::JsonSchema;
use serde::Serialize;

/// What a gateway runs, counts and logs, compared with a plan and the results of a walk.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct VerifySheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The site's name.
    pub site: String,
    /// The day that the plan is compiled for.
    pub day: String,
    /// When it was looked at (RFC 3339).
    pub at: String,
    /// Whether all of it is as planned.
    pub verified: bool,
    /// What is not as it should be, a sentence each.
    pub faults: Vec<String>,
    /// What was not looked at, a sentence each.
    pub not_tried: Vec<String>,
    /// In what the rules that run differ from the plan, a sentence each.
    pub differences: Vec<String>,
    /// What came of the walk, in a sentence.
    pub walk: String,
    /// The rules that some passed check should have hit.
    pub counters: Vec<CounterRow>,
    /// The rules that the log names.
    pub log: Vec<LogRow>,
    /// The files that this rests on.
    pub files: Vec<FileSum>,
}

/// A rule, and how often it was hit.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct CounterRow {
    /// The rule's id.
    pub rule: String,
    /// How many passed checks should have hit it.
    pub checks: usize,
    /// The fewest packets that these checks can have sent by it.
    pub at_least: usize,
    /// How many packets it has seen; none where the gateway has no such line.
    pub packets: Option<u64>,
    /// Whether it leaves a line in the log.
    pub logs: bool,
}

/// A rule in the log.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct LogRow {
    /// What the log calls it.
    pub tag: String,
    /// Whether the plan has such a rule; none where the gateway names its entries in its own way.
    pub in_plan: Option<bool>,
    /// How many packets it names.
    pub packets: u64,
}

/// A file, and what its bytes come to.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct FileSum {
    /// What it is: `plan`, `running`, `results`, `log`.
    pub what: &'static str,
    /// Where it is.
    pub path: String,
    /// Its SHA-256 (FIPS 180-4), in hexadecimal digits.
    pub sha256: String,
}

/// What is looked at.
#[derive(Clone, Debug, Default)]
pub struct Looked {
    /// In what the rules that run differ from the plan.
    pub differences: Vec<String>,
    /// The rules that passed checks should have hit.
    pub counters: Vec<CounterRow>,
    /// What the log names; `None` where there is none.
    pub log: Option<Vec<LogRow>>,
    /// The plan's domains, whose addresses a name server finds.
    pub domains: Vec<String>,
    /// The files.
    pub files: Vec<FileSum>,
}

impl VerifySheet {
    /// Draws the conclusions.
    pub fn new(walk: &WalkSheet, at: String, looked: Looked) -> Self {
        let faults = faults(walk, &looked);
        Self {
            bastium: EDITION,
            site: walk.site.clone(),
            day: walk.day.clone(),
            at,
            verified: faults.is_empty(),
            not_tried: not_tried(walk, &looked),
            faults,
            differences: looked.differences,
            walk: walk.words(),
            counters: looked.counters,
            log: looked.log.unwrap_or_default(),
            files: looked.files,
        }
    }

    /// Its tables.
    pub fn tables(&self) -> Vec<Table> {
        let list = |title: &str, lines: &[String]| {
            let mut table = Table::new([Column::text(title)]);
            lines.iter().for_each(|line| table.row([Cell::from(line)]));
            table
        };
        let mut counters = Table::new([
            Column::whole("rule"),
            Column::numbers("checks"),
            Column::numbers("packets"),
        ]);
        for row in &self.counters {
            let packets =
                row.packets.map_or("no such line".to_owned(), |packets| packets.to_string());
            let enough = row.packets.is_some_and(|packets| packets >= row.at_least as u64);
            let tone = if !enough { Tone::Bad } else { Tone::Plain };
            counters.row([Cell::from(&row.rule), row.checks.into(), Cell::toned(packets, tone)]);
        }
        let mut log = Table::new([Column::whole("in the log"), Column::numbers("packets")]);
        self.log.iter().for_each(|row| {
            let tone = if row.in_plan == Some(false) { Tone::Bad } else { Tone::Plain };
            log.row([Cell::toned(row.tag.clone(), tone), row.packets.into()]);
        });
        let mut files =
            Table::new([Column::whole("file"), Column::whole("path"), Column::whole("sha-256")]);
        for file in &self.files {
            files.row([Cell::from(file.what), Cell::from(&file.path), Cell::from(&file.sha256)]);
        }
        let mut head = Table::new([
            Column::whole("site"),
            Column::whole("day"),
            Column::whole("at"),
            Column::whole("verified"),
        ]);
        let word = if self.verified { "yes" } else { "no" };
        head.row([
            Cell::from(&self.site),
            Cell::from(&self.day),
            Cell::from(&self.at),
            Cell::from(word),
        ]);
        let mut tables = vec![head];
        for (title, lines) in [
            ("what is not as it should be", &self.faults),
            ("not looked at", &self.not_tried),
            ("what runs differs from the plan", &self.differences),
        ] {
            if !lines.is_empty() {
                tables.push(list(title, lines));
            }
        }
        tables.push(list("the walk", std::slice::from_ref(&self.walk)));
        tables.extend([counters, log, files].into_iter().filter(|table| !table.rows.is_empty()));
        tables
    }
}

/// Everything that keeps the gateway from being verified, a sentence each.
fn faults(walk: &WalkSheet, looked: &Looked) -> Vec<String> {
    let mut faults = Vec::new();
    match looked.differences.len() {
        0 => {}
        1 => faults.push("What runs differs from the plan in one thing.".to_owned()),
        many => faults.push(format!("What runs differs from the plan in {many} things.")),
    }
    faults.extend(faults_of_walk(walk));
    if walk.passed > 0 && looked.counters.is_empty() {
        faults.push("No passed check goes by a rule that counts, so nothing shows that the rules were at work.".to_owned());
    }
    faults.extend(looked.counters.iter().filter_map(fault_of_counter));
    faults.extend(faults_of_log(looked));
    faults
}

fn faults_of_walk(walk: &WalkSheet) -> Vec<String> {
    let mut faults = Vec::new();
    match (walk.passed, walk.failed) {
        (_, 1..) => faults.push(format!("{} of the walk failed.", count(walk.failed, "check"))),
        (0, _) => faults.push(
            "No check of the walk has passed, so nothing shows that the rules were at work."
                .to_owned(),
        ),
        _ => {}
    }
    if walk.of_others > 0 {
        faults.push(format!(
            "{} of the walk {} a check that this plan does not have.",
            count(walk.of_others, "result"),
            either(walk.of_others, "is of", "are each of")
        ));
    }
    if walk.unread > 0 {
        faults.push(format!(
            "{} of the results cannot be read, and may be of {} that failed.",
            count(walk.unread, "line"),
            either(walk.unread, "a check", "checks")
        ));
    }
    faults
}

/// A rule by which checks passed has to have counted their packets.
fn fault_of_counter(row: &CounterRow) -> Option<String> {
    let (rule, checks) = (&row.rule, count(row.checks, "check"));
    match row.packets {
        None => Some(format!("{rule} is not among the rules that run, and {checks} passed by it.")),
        Some(0) => Some(format!("{rule} has counted no packet, and {checks} passed by it.")),
        Some(packets) if packets < row.at_least as u64 => {
            let packets = count(packets, "packet");
            Some(format!("{rule} has counted {packets}, and {checks} passed by it."))
        }
        Some(_) => None,
    }
}

/// The log names rules of this plan only, and every logged rule that was hit.
fn faults_of_log(looked: &Looked) -> Vec<String> {
    let Some(log) = &looked.log else { return Vec::new() };
    let strangers = log.iter().filter(|row| row.in_plan == Some(false)).map(|row| {
        format!(
            "The log names {}, which is no rule of this plan: it is of another time, or of another gateway.",
            row.tag
        )
    });
    let named = |rule: &str| {
        let tag = bastium_gateway::nftables::tag(rule);
        log.iter().any(|row| row.tag == tag)
    };
    let hit = looked.counters.iter().filter(|row| row.logs && row.packets > Some(0));
    let silent = hit.filter(|row| !named(&row.rule)).map(|row| {
        format!("{} was hit and is to be logged, and the log does not name it.", row.rule)
    });
    strangers.chain(silent).collect()
}

fn not_tried(walk: &WalkSheet, looked: &Looked) -> Vec<String> {
    let are = |number: usize, one, several| {
        format!("{} of the walk {}", count(number, "check"), either(number, one, several))
    };
    let mut says = Vec::new();
    let open = walk.open + walk.changed + walk.skipped;
    if open > 0 {
        says.push(format!("{} still to be made.", are(open, "is", "are")));
    }
    if walk.not_shown > 0 {
        let were = are(walk.not_shown, "was", "were");
        says.push(format!("{were} silent, and nothing shows that the other end was there."));
    }
    says.extend(unseen(&looked.domains));
    match &looked.log {
        None => says.push("The gateway's log was not given.".to_owned()),
        Some(log) if log.is_empty() => {
            says.push("The log that was given names no rule.".to_owned());
        }
        Some(_) => {}
    }
    says
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A walk of which so many checks passed.
    fn walk(passed: usize) -> WalkSheet {
        WalkSheet {
            bastium: EDITION,
            site: String::new(),
            day: String::new(),
            passed,
            not_shown: 0,
            failed: 0,
            skipped: 0,
            changed: 0,
            open: 0,
            of_others: 0,
            not_counted: Vec::new(),
            unread: 0,
            results: Vec::new(),
        }
    }

    #[test]
    fn nothing_is_verified_without_a_counter() {
        let row = |packets| CounterRow {
            rule: "cell".to_owned(),
            checks: 2,
            at_least: 2,
            packets,
            logs: false,
        };
        let verified = |passed, counters| {
            let looked = Looked { counters, ..Looked::default() };
            VerifySheet::new(&walk(passed), String::new(), looked).verified
        };
        assert!(verified(2, vec![row(Some(2))]));
        for counters in [vec![], vec![row(Some(1))], vec![row(Some(0))], vec![row(None)]] {
            assert!(!verified(2, counters));
        }
        assert!(!verified(0, vec![row(Some(2))]));
    }
}
