//! `bastium verify`

use super::load;
use super::walk::{Results, results_beside};
use crate::args::Verify;
use crate::failure::{Exit, Failure};
use crate::files;
use crate::plans;
use crate::session::{self, Session};
use crate::show::{self, style};
use bastium_core::checklist::{self, Stand};
use bastium_core::plan::Form;
use bastium_core::rules::{self, RuleSet};
use bastium_gateway::nftables::{hits, tag};
use bastium_gateway::read_packet_log;
use bastium_report::markdown;
use bastium_report::sheets::{CounterRow, FileSum, LogRow, Looked, VerifySheet};
use bastium_report::walk::{State, WalkSheet};
use bastium_wire::Ssh;
use sha2::{Digest, Sha256};
use std::collections::{BTreeMap, HashSet};
use std::path::Path;

pub(super) fn run(args: &Verify, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let plan = session.plan()?;
    let meaning = session::meaning(&plan, args.day.day)?;
    let rules = session::in_form(&meaning, Form::PerPair)?;
    let (from, running) = match &args.running {
        Some(path) => {
            let bytes = plans::read_whole(path)?;
            (path.display().to_string(), String::from_utf8_lossy(&bytes).into_owned())
        }
        None => {
            let reach = load::host(args.host.as_ref(), session)?;
            if reach.netconf {
                return Err(Failure::Call {
                    says: "a gateway is verified by what its shell says of its rules".to_owned(),
                    help: "give its lists with --running FILE".to_owned(),
                });
            }
            let host = reach.host;
            match bastium_wire::ruleset(&Ssh::new(host.clone(), args.ssh_config.clone())) {
                Ok(running) => (host.to_string(), running),
                Err(stopped) => return Ok(load::not_read(&stopped, session)),
            }
        }
    };
    let walk_file = results_beside(args.results.as_ref(), session)?;
    let results = Results::open(walk_file.clone(), &args.with, session)?;
    // The lists of a walk are those of the plan's own form; the lines of a Linux gateway are those of another.
    let own = rules::compile(&meaning);
    let proved = session::proved(&meaning, &own)?;
    // A walk makes the one list or the other, or both.
    let (carried, whole) =
        (checklist::carried(&meaning, proved), checklist::build(&meaning, proved));
    let (stands, known) = made(&carried.stands, &whole.stands, &results);
    let walk = WalkSheet::new(&meaning, &own, stands, results.all(), &known);
    let mut sums = vec![sum("plan", plan.source().name(), plan.source().text().as_bytes())];
    sums.push(sum("running", &from, running.as_bytes()));
    for path in args.with.iter().chain(walk_file.exists().then_some(&walk_file)) {
        sums.push(sum("results", &path.display().to_string(), &plans::read_whole(path)?));
    }
    let log = match &args.log {
        Some(path) => {
            let bytes = plans::read_whole(path)?;
            sums.push(sum("log", &path.display().to_string(), &bytes));
            Some(logged(path, &bytes)?)
        }
        None => None,
    };
    let looked = Looked {
        differences: load::differs(&meaning, &running),
        counters: counters(&rules, &[&carried.stands, &whole.stands], &walk, &running),
        log,
        files: sums,
    };
    let sheet = VerifySheet::new(&walk, super::walk::now().to_string(), looked);
    if let Some(page) = &args.page {
        files::put(page, markdown(&sheet.tables()).as_bytes(), args.force, session)?;
        session.remark(&format!("wrote {}", page.display()));
    }
    if !show::for_programs(session, &sheet, || sheet.tables(), "part")? {
        print(&sheet, session)?;
    }
    Ok(if sheet.verified { Exit::Fine } else { Exit::No })
}

/// The list of which most was made, and the ids of both.
fn made<'a>(
    carried: &'a [Stand],
    whole: &'a [Stand],
    results: &Results,
) -> (&'a [Stand], HashSet<String>) {
    let ids = |stands: &[Stand]| -> HashSet<String> {
        stands.iter().flat_map(|stand| &stand.checks).map(|check| check.id.clone()).collect()
    };
    let (short, long) = (ids(carried), ids(whole));
    let only_long =
        results.all().iter().any(|one| long.contains(&one.id) && !short.contains(&one.id));
    (if only_long { whole } else { carried }, short.union(&long).cloned().collect())
}

fn sum(what: &'static str, path: &str, bytes: &[u8]) -> FileSum {
    let digest = Sha256::digest(bytes);
    let sha256 = digest.iter().map(|byte| format!("{byte:02x}")).collect();
    FileSum { what, path: bastium_gateway::clean(path).into_owned(), sha256 }
}

/// The rules that passed checks should have hit, and what their lines have counted.
fn counters(
    rules: &RuleSet,
    lists: &[&[Stand]],
    walk: &WalkSheet,
    running: &str,
) -> Vec<CounterRow> {
    let passed =
        |id: &str| walk.results.iter().any(|row| row.id == id && row.outcome == State::Pass);
    let mut expected: BTreeMap<String, (HashSet<&str>, bool)> = BTreeMap::new();
    let checks = lists.iter().flat_map(|stands| stands.iter()).flat_map(|stand| &stand.checks);
    for check in checks.filter(|check| passed(&check.id)) {
        if let Some(rule) = rules.first_match(&check.packet).rule {
            let entry = expected.entry(rule.id.to_string()).or_default();
            entry.0.insert(&check.id);
            entry.1 |= rule.log;
        }
    }
    let seen = hits(running).unwrap_or_default();
    let row = |(rule, (checks, logs)): (String, (HashSet<&str>, bool))| CounterRow {
        packets: seen.get(&tag(&rule)).copied(),
        checks: checks.len(),
        logs,
        rule,
    };
    expected.into_iter().map(row).collect()
}

/// What a log of packets names, by its tags.
fn logged(path: &Path, bytes: &[u8]) -> Result<Vec<LogRow>, Failure> {
    let mut tags: BTreeMap<String, u64> = BTreeMap::new();
    read_packet_log(bytes, |_, entry| {
        if let Some(tag) = entry.tag {
            *tags.entry(tag.to_owned()).or_default() += 1;
        }
    })
    .map_err(|error| Failure::File { path: path.to_owned(), doing: "read", error })?;
    Ok(tags.into_iter().map(|(tag, packets)| LogRow { tag, packets }).collect())
}

fn print(sheet: &VerifySheet, session: &mut Session<'_>) -> Result<(), Failure> {
    let (style, answer) = match sheet.verified {
        true => (
            style::GOOD,
            "Verified: the gateway runs what the plan says, and its counters agree with the walk.",
        ),
        false => (style::ERROR, "Not verified."),
    };
    session.prose(style, answer)?;
    for fault in &sheet.faults {
        session.prose(style::WARN, &format!("- {fault}"))?;
    }
    for difference in &sheet.differences {
        session.prose(style::PLAIN, &format!("- {difference}"))?;
    }
    session.print("\n")?;
    session.prose(style::PLAIN, &format!("Walk: {}.", sheet.walk))?;
    let hit = sheet.counters.iter().filter(|row| row.packets.unwrap_or(0) > 0).count();
    let says = format!(
        "Counters: {hit} of {} rules that the walk went by were hit.",
        sheet.counters.len()
    );
    session.prose(style::PLAIN, &says)?;
    if !sheet.log.is_empty() {
        let packets: u64 = sheet.log.iter().map(|row| row.packets).sum();
        let says = format!("Log: {packets} packets, of {} rules.", sheet.log.len());
        session.prose(style::PLAIN, &says)?;
    }
    for says in &sheet.not_tried {
        session.prose(style::FAINT, &format!("Not looked at: {says}"))?;
    }
    session.print("\n")?;
    for file in &sheet.files {
        session.prose(style::FAINT, &format!("{:8} {} {}", file.what, file.sha256, file.path))?;
    }
    Ok(())
}
