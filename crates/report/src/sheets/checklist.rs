//! The connectivity checklist.

use super::EDITION;
use super::strength::Strength;
use crate::{Cell, Column, Table, Tone, either};
use bastium_core::checklist::{
    Check, Checklist, Expect, Probe, SetUp, Stand, Standpoint, Target, points, seconds,
};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Plan, ZoneId};
use bastium_core::rules::RuleSet;
use bastium_core::space::AddressSet;
use schemars::JsonSchema;
use serde::Serialize;
use std::net::IpAddr;

/// All checks, by where to stand.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ChecklistSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The site's name.
    pub site: String,
    /// The day that it is for.
    pub day: String,
    /// The zones, in the order of the matrix.
    pub zones: Vec<String>,
    /// Where to stand, one after the other.
    pub stands: Vec<StandRow>,
    /// How many test points that are: sockets or Wi-Fi names, and outside.
    pub points: usize,
    /// About how long the whole list takes: moves, set-up, typing and waiting.
    pub seconds: u32,
    /// Whether it is chosen from everything that can be tried; else it is what one person carries.
    pub full: bool,
    /// Of what one person carries: where a second laptop stands, with what, and for which test points.
    pub second_laptop: Vec<String>,
    /// What should be tried and is not, with the reason.
    pub not_tried: Vec<NotTriedRow>,
    /// No list that catches as much as the whole one has fewer checks than this.
    pub least: usize,
    /// Whether this is the whole list; else only what was asked for.
    pub whole: bool,
    /// How many mistakes the list would catch.
    pub strength: Strength,
}

/// Something that is not tried.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct NotTriedRow {
    /// What.
    pub what: String,
    /// Why not.
    pub why: String,
}

/// One place to stand.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct StandRow {
    /// The number of its test point: another address at the same socket is the same point.
    pub point: usize,
    /// The place.
    pub place: String,
    /// How to get there.
    pub how: String,
    /// What to set up first, in as few lines as can be.
    pub set_up: Vec<String>,
    /// What to check there.
    pub checks: Vec<CheckRow>,
}

/// One check.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct CheckRow {
    /// Its id.
    pub id: String,
    /// What it shows, in a sentence.
    pub says: String,
    /// What it is about, exactly: a result counts as long as this is the same.
    pub means: String,
    /// Where it is made from.
    pub from: String,
    /// Where it goes.
    pub to: String,
    /// The zone that its packet comes from; none for the gateway itself.
    pub from_zone: Option<String>,
    /// The zone that its packet goes to; none for the gateway itself.
    pub to_zone: Option<String>,
    /// The address it goes to; none where a name is asked for instead.
    pub address: Option<String>,
    /// What is asked for.
    pub service: String,
    /// `IPv4` or `IPv6`.
    pub family: &'static str,
    /// `reply`, `refused`, `unreachable` or `silence`.
    pub expect: &'static str,
    /// For silence: the id of the check whose reply shows that the other end is there; none where no check shows it.
    pub control: Option<String>,
    /// For silence: the id of the check whose reply shows that the own end is connected.
    pub own_end: Option<String>,
    /// Whether silence is expected that no check makes evidence.
    #[serde(skip)]
    pub is_silent_alone: bool,
    /// What to type.
    pub commands: CommandRow,
    /// What to set up first, if nothing of the plan answers there.
    pub set_up: Option<String>,
    /// A remark on the command.
    pub remark: Option<String>,
    /// The id of the rule that it proves; none where no rule decides.
    pub proves: Option<String>,
    /// The number of that rule.
    pub rule: Option<u32>,
    /// What to look at if the check fails.
    pub if_not: String,
    /// About how long it takes.
    pub seconds: u32,
    /// When to make it; none for at any time.
    pub when: Option<String>,
    /// How many mistakes it catches.
    pub catches: usize,
    /// Whether it tries what the plan guarantees.
    pub guarantee: bool,
}

/// What to type, by system.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct CommandRow {
    /// On Linux.
    pub linux: String,
    /// On macOS.
    pub macos: String,
    /// On Windows, in PowerShell.
    pub windows: String,
}

/// The systems whose command a table can show.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the variants are the systems by name")]
pub enum System {
    Linux,
    Macos,
    Windows,
}

impl System {
    /// Its name in a page.
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::Linux => "linux",
            Self::Macos => "macos",
            Self::Windows => "windows",
        }
    }
}

impl ChecklistSheet {
    /// Takes the sheet from a checklist.
    pub fn new(meaning: &Meaning<'_>, rules: &RuleSet, checklist: &Checklist) -> Self {
        let plan = meaning.plan();
        let gateway = plan.gateway_addresses();
        let stand_row = |stand: &Stand| {
            let place = stand.standpoint.name(meaning);
            StandRow {
                point: stand.number,
                how: stand.standpoint.how(meaning),
                set_up: SetUp::lines(
                    &stand.checks.iter().filter_map(Check::set_up).collect::<Vec<_>>(),
                ),
                checks: stand
                    .checks
                    .iter()
                    .map(|check| row(check, &place, (plan, gateway), rules))
                    .collect(),
                place,
            }
        };
        Self {
            bastium: EDITION,
            site: plan.site().name.clone(),
            day: meaning.day().to_string(),
            zones: plan.zones().iter().map(|zone| zone.name.to_string()).collect(),
            stands: checklist.stands.iter().map(stand_row).collect(),
            points: points(&checklist.stands),
            full: true,
            second_laptop: Vec::new(),
            not_tried: checklist
                .not_tried
                .iter()
                .map(|one| NotTriedRow { what: one.what.clone(), why: one.why.clone() })
                .collect(),
            seconds: seconds(&checklist.stands),
            least: checklist.least,
            whole: true,
            strength: Strength::of(&checklist.strength),
        }
    }

    /// The same, as what one person carries.
    pub fn carried(meaning: &Meaning<'_>, rules: &RuleSet, checklist: &Checklist) -> Self {
        let mut sheet = Self::new(meaning, rules, checklist);
        (sheet.full, sheet.whole) = (false, false);
        sheet.second_laptop = second_laptop(meaning, checklist, &sheet.stands);
        // It is said once, for all test points.
        sheet.stands.iter_mut().for_each(|stand| stand.set_up.clear());
        sheet
    }

    /// How many checks there are.
    pub fn count(&self) -> usize {
        self.stands.iter().map(|stand| stand.checks.len()).sum()
    }

    /// What shows something only if the other end is on, and no check of the list shows that it is.
    pub fn without_control(&self) -> Vec<&str> {
        let all = self.stands.iter().flat_map(|stand| &stand.checks);
        let alone = all.filter(|check| check.is_silent_alone);
        alone.map(|check| check.says.as_str()).collect()
    }

    /// For the terminal, one table per place: what to type on one system, and what to expect.
    pub fn short_tables(&self, system: System) -> Vec<Table> {
        let table = |stand: &StandRow| {
            let mut table = Table::new([
                Column::whole("ok"),
                Column::text(if self.full { "to" } else { "check" }),
                Column::text("type"),
                Column::whole("expect"),
                Column::numbers("rule"),
            ])
            .titled(&stand.place);
            for check in &stand.checks {
                table.row([
                    "[ ]".into(),
                    if self.full { check.target_words() } else { check.says.clone() }.into(),
                    check.commands.on(system).into(),
                    expect_cell(check.expect),
                    check.rule.map_or(String::new(), |rule| rule.to_string()).into(),
                ]);
            }
            table
        };
        self.stands.iter().map(table).collect()
    }

    /// For CSV and Markdown: everything.
    pub fn tables(&self) -> Vec<Table> {
        let headings = [
            "done",
            "id",
            "check",
            "to",
            "address",
            "service",
            "family",
            "when",
            "expect",
            "Linux",
            "macOS",
            "Windows",
            "set up",
            "counts if",
            "rule",
            "proves",
            "if not",
            "seconds",
        ];
        let column = |heading: &str| match heading {
            "rule" | "seconds" => Column::numbers(heading),
            _ => Column::text(heading),
        };
        let table = |stand: &StandRow| {
            let mut table = Table::new(headings.map(column)).titled(&stand.place);
            for check in &stand.checks {
                table.row(full_row(check));
            }
            table
        };
        self.stands.iter().map(table).collect()
    }
}

impl ChecklistSheet {
    /// The same tables, with the commands of one system.
    pub fn tables_on(&self, system: System) -> Vec<Table> {
        let word = |system: System| match system {
            System::Linux => "Linux",
            System::Macos => "macOS",
            System::Windows => "Windows",
        };
        let others = [System::Linux, System::Macos, System::Windows];
        let others: Vec<&str> =
            others.into_iter().map(word).filter(|other| *other != word(system)).collect();
        let mut tables = self.tables();
        for table in &mut tables {
            let kept: Vec<bool> = table
                .columns
                .iter()
                .map(|column| !others.contains(&column.heading.as_str()))
                .collect();
            table.keep_columns(&kept);
        }
        tables
    }
}

/// Where the second laptop stands, for each address that it has there.
fn second_laptop(meaning: &Meaning<'_>, list: &Checklist, rows: &[StandRow]) -> Vec<String> {
    let mut all: Vec<(IpAddr, Vec<SetUp>, Vec<String>)> = Vec::new();
    for (stand, row) in list.stands.iter().zip(rows) {
        for check in &stand.checks {
            let Some(set_up) = check.set_up() else { continue };
            let at = check.packet.destination();
            let place = all.iter().position(|(own, ..)| *own == at).unwrap_or(all.len());
            if place == all.len() {
                all.push((at, Vec::new(), Vec::new()));
            }
            all[place].1.push(set_up);
            if !all[place].2.contains(&row.point.to_string()) {
                all[place].2.push(row.point.to_string());
            }
        }
    }
    let lines = all.into_iter().filter_map(|(at, set_ups, points)| {
        let network = meaning.plan().network_of(at)?;
        let how = Standpoint::Address(network, at).how(meaning);
        let run: Vec<String> = SetUp::lines(&set_ups)
            .into_iter()
            .filter_map(|line| Some(line.split_once(" run: ")?.1.to_owned()))
            .collect();
        // Another one, as the gateway's, would mean that it is translated on the way.
        let shows = "which has to show the address that asks";
        let run = run.first().map(|run| format!("; run `{run}`, {shows}")).unwrap_or_default();
        let word = either(points.len(), "point", "points");
        Some(format!("second laptop, for test {word} {}: {how}{run}", points.join(", ")))
    });
    lines.collect()
}

impl CommandRow {
    fn on(&self, system: System) -> &str {
        match system {
            System::Linux => &self.linux,
            System::Macos => &self.macos,
            System::Windows => &self.windows,
        }
    }
}

impl StandRow {
    /// What to set up, or to know, before the checks of the place: each thing once.
    pub fn first(&self) -> Vec<String> {
        let mut first = self.set_up.clone();
        let mut outside: Vec<&str> = Vec::new();
        for check in self.checks.iter().filter(|check| check.remark.is_some()) {
            if !outside.contains(&check.service.as_str()) {
                outside.push(&check.service);
            }
        }
        if !outside.is_empty() {
            first.push(format!(
                "OUTSIDE_ADDRESS means a server on the internet that answers {} where that is allowed",
                outside.join(", ")
            ));
        }
        first
    }
}

impl CheckRow {
    /// Where it goes, for what, and when.
    pub fn target_words(&self) -> String {
        let family = if self.family == "IPv6" { " IPv6" } else { "" };
        let when = self.when.as_ref().map(|at| format!(", {at}")).unwrap_or_default();
        format!("{} {}{family}{when}", self.to, self.service)
    }
}

fn full_row(check: &CheckRow) -> Vec<Cell> {
    let set_up = [check.set_up.as_deref(), check.remark.as_deref()]
        .into_iter()
        .flatten()
        .collect::<Vec<_>>();
    vec![
        "".into(),
        check.id.clone().into(),
        check.says.clone().into(),
        check.to.clone().into(),
        check.address.clone().unwrap_or_default().into(),
        check.service.clone().into(),
        check.family.into(),
        check.when.clone().unwrap_or_default().into(),
        check.expect.into(),
        check.commands.linux.clone().into(),
        check.commands.macos.clone().into(),
        check.commands.windows.clone().into(),
        set_up.join("; ").into(),
        counts_if(check).into(),
        check.rule.map_or(String::new(), |rule| rule.to_string()).into(),
        check.proves.clone().unwrap_or_default().into(),
        check.if_not.clone().into(),
        check.seconds.into(),
    ]
}

/// The checks that have to pass for silence to count.
fn counts_if(check: &CheckRow) -> String {
    let mut ids: Vec<&str> = check.control.iter().chain(&check.own_end).map(|id| &**id).collect();
    ids.dedup();
    ids.join(", ")
}

fn expect_cell(expect: &'static str) -> Cell {
    // What is expected is never red: red is what is wrong.
    Cell::toned(expect, if expect == Expect::Reply.word() { Tone::Good } else { Tone::Faint })
}

fn row(
    check: &Check,
    place: &str,
    (plan, gateway): (&Plan, &AddressSet),
    rules: &RuleSet,
) -> CheckRow {
    let name = |zone: ZoneId| plan.zone(zone).name.to_string();
    let packet = &check.packet;
    let to_gateway = check.to == "gateway" || gateway.contains(packet.destination());
    let commands = check.commands();
    let address = match &check.target {
        Target::Address(address) if check.probe != Probe::Lease => Some(address.to_string()),
        _ => None,
    };
    CheckRow {
        id: check.id.clone(),
        says: check.says.clone(),
        means: check.means(rules),
        control: check.control.clone(),
        own_end: check.own_end.clone(),
        is_silent_alone: check.needs_control()
            && (check.control.is_none() || check.own_end.is_none()),
        from: place.to_owned(),
        to: check.to.clone(),
        from_zone: plan.zone_from(packet.enters, packet.source()).map(name),
        to_zone: (!to_gateway).then(|| name(plan.zone_to(packet.destination()))),
        address,
        service: check.probe.words(),
        family: if check.packet.source().is_ipv6() { "IPv6" } else { "IPv4" },
        expect: check.expect.word(),
        commands: CommandRow {
            linux: commands.linux,
            macos: commands.macos,
            windows: commands.windows,
        },
        set_up: check.set_up().map(|set_up| set_up.to_string()),
        remark: check.target.remark(check.probe),
        proves: check.proves.as_ref().map(|proves| proves.1.clone()),
        rule: check.proves.as_ref().map(|proves| proves.0),
        if_not: check.if_not(rules),
        seconds: check.seconds(),
        when: check.when.map(|at| at.to_string()),
        catches: check.shows.len(),
        guarantee: check.guarantee,
    }
}
