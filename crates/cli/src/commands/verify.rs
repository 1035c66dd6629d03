//! `bastium verify`: whether a gateway runs the plan, and whether its counters confirm the walk.

use super::running::{as_run, differs};
use super::walk::{Results, results_beside};
use super::{leased, load};
use crate::args::{Target, Verify};
use crate::failure::{Exit, Failure};
use crate::files;
use crate::plans;
use crate::session::{self, Session};
use crate::show::{self, style};
use bastium_core::checklist::{self, Check, Probe, Stand};
use bastium_core::meaning::Meaning;
use bastium_core::plan::Form;
use bastium_core::rules::{self, RuleSet};
use bastium_gateway::nftables::{hits, tag, tags};
use bastium_gateway::{clean, decided_by_lists, read_packet_log};
use bastium_report::sheets::{CounterRow, FileSum, LogRow, Looked, VerifySheet};
use bastium_report::walk::{Abouts, State, WalkSheet, abouts};
use bastium_report::{count, domains, markdown};
use bastium_wire::Ssh;
use bastium_wire::netconf::{Client, Failed};
use serde_json::Value;
use sha2::{Digest, Sha256};
use std::collections::{BTreeMap, HashSet};
use std::path::Path;

pub(super) fn run(args: &Verify, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let plan = leased::known(session.plan()?, &args.uplink_address)?;
    let meaning = session::meaning(&plan, args.day.day)?;
    let walk_file = results_beside(args.results.as_ref(), session)?;
    let results = Results::open(walk_file.clone(), &args.with, session)?;
    // The lists of a walk are those of the plan's own form; the lines of a gateway may be those of another.
    let own = rules::compile(&meaning);
    let proved = session::proved(&meaning, &own)?;
    // A walk makes the one list or the other, or both.
    let (carried, whole) =
        (checklist::carried(&meaning, proved), checklist::build(&meaning, proved));
    let (stands, known) = made((&carried.stands, &whole.stands), &own, &results);
    let walk = WalkSheet::new(&meaning, &own, stands, &results.recorded(&known, &plan));
    let checks =
        [&carried.stands, &whole.stands].into_iter().flatten().flat_map(|stand| &stand.checks);
    let passed: Vec<&Check> = checks.filter(|check| has_passed(&walk, check)).collect();
    let Some(Gateway { from, running, differences, counters, tags }) =
        gateway(args, &meaning, &passed, session)?
    else {
        return Ok(Exit::Unable);
    };
    let mut sums = vec![sum("plan", plan.source().name(), plan.source().text().as_bytes())];
    sums.push(sum("running", &from, running.as_bytes()));
    for path in args.with.iter().chain(walk_file.exists().then_some(&walk_file)) {
        sums.push(sum("results", &path.display().to_string(), &plans::read_whole(path)?));
    }
    let log = match &args.log {
        Some(path) => {
            let bytes = plans::read_whole(path)?;
            sums.push(sum("log", &path.display().to_string(), &bytes));
            Some(logged(path, &bytes, tags.as_ref())?)
        }
        None => None,
    };
    let domains = domains(&plan);
    let looked = Looked { differences, counters, log, domains, files: sums };
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

/// What a gateway runs and counts.
struct Gateway {
    /// Where that is from.
    from: String,
    /// What runs, as it was read.
    running: String,
    /// In what it differs from the plan.
    differences: Vec<String>,
    counters: Vec<CounterRow>,
    /// What its log may call the rules; `None` where it names them in its own way.
    tags: Option<HashSet<String>>,
}

/// Reads a gateway, or what it printed. `None` where it cannot be read, which has been said.
fn gateway(
    args: &Verify,
    meaning: &Meaning<'_>,
    passed: &[&Check],
    session: &mut Session<'_>,
) -> Result<Option<Gateway>, Failure> {
    if let Some(path) = &args.running {
        let bytes = plans::read_whole(path)?;
        let running = String::from_utf8_lossy(&bytes).into_owned();
        return linux(path.display().to_string(), running, meaning, passed).map(Some);
    }
    let reach = match &args.host {
        Some(Target::Simulated(folder)) => {
            let open = load::simulated(folder, session)?;
            return with_lists(
                format!("simulated:{}", folder.display()),
                &open,
                meaning,
                passed,
                session,
            );
        }
        Some(Target::Wire(reach)) => load::host(Some(reach), session)?,
        None => load::host(None, session)?,
    };
    if reach.netconf {
        let open = || Client::open(&reach.host, args.ssh_config.as_deref());
        return with_lists(reach.to_string(), &open, meaning, passed, session);
    }
    match bastium_wire::ruleset(&Ssh::new(reach.host.clone(), args.ssh_config.clone())) {
        Ok(running) => linux(reach.to_string(), running, meaning, passed).map(Some),
        Err(stopped) => {
            load::not_read(&stopped, session);
            Ok(None)
        }
    }
}

/// A Linux gateway, by what `nft` lists.
fn linux(
    from: String,
    running: String,
    meaning: &Meaning<'_>,
    passed: &[&Check],
) -> Result<Gateway, Failure> {
    let hits = hits(&running).unwrap_or_default();
    let rules = as_run(meaning, &hits)?;
    let differences = differs(meaning, &running);
    let counters = counters(&rules, passed, &hits);
    let tags = Some(tags(&rules).into_keys().collect());
    Ok(Gateway { from, running, differences, counters, tags })
}

/// A gateway with lists of RFC 8519: entry by entry what was proved, and the entries that decide about the checks.
fn with_lists(
    from: String,
    open: &dyn Fn() -> Result<Client, Failed>,
    meaning: &Meaning<'_>,
    passed: &[&Check],
    session: &mut Session<'_>,
) -> Result<Option<Gateway>, Failure> {
    let rules = session::in_form(meaning, Form::PerInterface)?;
    let wanted = load::wanted_lists(meaning, session::proved(meaning, &rules)?)?;
    let read = open().and_then(|mut client| Ok((client.running()?, client.counted()?)));
    let (running, counted) = match read {
        Ok(read) => read,
        Err(failed) => {
            load::not_spoken(&failed, session);
            return Ok(None);
        }
    };
    let says = |name: String| format!("{} is not what the plan says", clean(&name));
    let differences = load::list_differences(&wanted, &running).into_iter().map(says).collect();
    let counters = entries(meaning, &wanted, passed, &counted);
    Ok(Some(Gateway { from, running: running.to_string(), differences, counters, tags: None }))
}

/// The entries that decide about passed checks, and what they have counted.
fn entries(
    meaning: &Meaning<'_>,
    wanted: &Value,
    passed: &[&Check],
    counted: &Value,
) -> Vec<CounterRow> {
    let mut expected: BTreeMap<(String, String), Expected<'_>> = BTreeMap::new();
    for check in passed {
        let Some(device) = meaning.plan().device_name(check.packet.enters) else { continue };
        let Some(verdict) = decided_by_lists(wanted, &device, false, &check.packet) else {
            continue;
        };
        expected.entry((verdict.list, verdict.entry)).or_default().take(check, verdict.logs);
    }
    let row = |((list, entry), expected): ((String, String), Expected<'_>)| {
        let packets = matched(counted, &list, &entry);
        expected.row(format!("{list}, {entry}"), packets)
    };
    expected.into_iter().map(row).collect()
}

/// What is expected of the counter of a rule.
#[derive(Default)]
struct Expected<'c> {
    /// The checks that passed by it, by id.
    checks: HashSet<&'c str>,
    /// Those of them that send a packet of their own. A lease may be from before, and what is announced comes by itself.
    sending: HashSet<&'c str>,
    /// Whether the rule logs.
    logs: bool,
}

impl<'c> Expected<'c> {
    fn take(&mut self, check: &'c Check, logs: bool) {
        self.checks.insert(&check.id);
        if !matches!(check.probe, Probe::Lease | Probe::Browse) {
            self.sending.insert(&check.id);
        }
        self.logs |= logs;
    }

    fn row(self, rule: String, packets: Option<u64>) -> CounterRow {
        let (checks, at_least) = (self.checks.len(), self.sending.len().max(1));
        CounterRow { rule, checks, at_least, packets, logs: self.logs }
    }
}

/// How many packets an entry has matched (RFC 8519, `matched-packets`).
fn matched(counted: &Value, list: &str, entry: &str) -> Option<u64> {
    let named =
        |all: &Value, name: &str| all.as_array()?.iter().find(|one| one["name"] == name).cloned();
    let list = named(&counted["ietf-access-control-list:acls"]["acl"], list)?;
    let entry = named(&list["aces"]["ace"], entry)?;
    let packets = &entry["statistics"]["matched-packets"];
    packets.as_u64().or_else(|| packets.as_str()?.parse().ok())
}

fn has_passed(walk: &WalkSheet, check: &Check) -> bool {
    walk.results.iter().any(|row| row.id == check.id && row.outcome == State::Pass)
}

/// The list of which most was made, and what the checks of both are about.
pub(super) fn made<'a>(
    (carried, whole): (&'a [Stand], &'a [Stand]),
    rules: &RuleSet,
    results: &Results,
) -> (&'a [Stand], Abouts) {
    let (short, mut long) = (abouts(carried, rules), abouts(whole, rules));
    let is_only_long = |id: &str| long.contains_key(id) && !short.contains_key(id);
    if results.all().iter().any(|one| is_only_long(&one.id)) {
        let others = short.into_iter().filter(|(id, _)| !long.contains_key(id));
        let others: Vec<(String, String)> = others.collect();
        long.extend(others);
        return (whole, long);
    }
    long.extend(short);
    (carried, long)
}

fn sum(what: &'static str, path: &str, bytes: &[u8]) -> FileSum {
    let digest = Sha256::digest(bytes);
    let sha256 = digest.iter().map(|byte| format!("{byte:02x}")).collect();
    FileSum { what, path: clean(path).into_owned(), sha256 }
}

/// The rules that passed checks should have hit, and what their lines have counted.
fn counters(rules: &RuleSet, passed: &[&Check], hits: &BTreeMap<String, u64>) -> Vec<CounterRow> {
    let mut expected: BTreeMap<String, Expected<'_>> = BTreeMap::new();
    for check in passed {
        if let Some(rule) = rules.first_match(&check.packet).rule {
            expected.entry(rule.id.to_string()).or_default().take(check, rule.log);
        }
    }
    let row = |(rule, expected): (String, Expected<'_>)| {
        let packets = hits.get(&tag(&rule)).copied();
        expected.row(rule, packets)
    };
    expected.into_iter().map(row).collect()
}

/// What a log of packets names, by its tags, and whether the plan has that.
fn logged(
    path: &Path,
    bytes: &[u8],
    known: Option<&HashSet<String>>,
) -> Result<Vec<LogRow>, Failure> {
    let mut tags: BTreeMap<String, u64> = BTreeMap::new();
    read_packet_log(bytes, |_, entry| {
        if let Some(tag) = entry.tag {
            *tags.entry(tag.to_owned()).or_default() += 1;
        }
    })
    .map_err(|error| Failure::File { path: path.to_owned(), doing: "read", error })?;
    Ok(tags
        .into_iter()
        .map(|(tag, packets)| {
            let in_plan = known.map(|known| known.contains(&tag));
            LogRow { tag: clean(&tag).into_owned(), in_plan, packets }
        })
        .collect())
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
        let says =
            format!("Log: {}, of {}.", count(packets, "packet"), count(sheet.log.len(), "rule"));
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
