//! The steps of a load: what is examined, tried and reported before, while and after the rules change.

use super::before::{change, items, other_time, others, shut_out, surroundings};
use super::connections::{connections, cut};
use super::files::files;
use super::wanted::{Ended, Wanted};
use super::{Reporter, words};
use crate::args::Load;
use crate::commands::export;
use crate::commands::running::differs;
use crate::failure::{Exit, Failure, Meaningless};
use crate::session;
use bastium_core::plan::Form;
use bastium_gateway::boot::{BootFile, boot_files};
use bastium_gateway::nftables::{self, CUT_TABLE, NftOptions, Transaction, may_begin};
use bastium_gateway::refilled;
use bastium_report::count;
use bastium_report::sheets::LoadState;
use bastium_wire::{Loading, Pending, Running, Ssh, Staged, Stopped, back, confirm};
use std::io::{self, BufRead, IsTerminal};

/// What to do once, so that a restart loads what is confirmed.
const RESTART: &str = "rules are loaded when the gateway starts by a unit that is not enabled yet: once it is confirmed, \
    `systemctl enable /etc/bastium/bastium-gateway.service`";

pub(super) fn run(
    args: &Load,
    line: &Ssh,
    reporter: &mut Reporter<'_, '_>,
) -> Result<Exit, Failure> {
    if !args.uplink_address.is_empty() {
        return Err(Meaningless::UplinkAddress { loading: true }.into());
    }
    let plan = reporter.session.plan()?;
    let meaning = session::meaning(&plan, args.day.day)?;
    let rules = session::in_form(&meaning, Form::PerPair)?;
    let file = export::nftables(&meaning, &rules, NftOptions::default())?;
    let names = export::names_and_leases(&meaning)?;
    let boot = boot_files(&plan, &file);
    let wanted = Wanted { meaning: &meaning, rules: &rules, file, names, boot };
    let (loading, running) = match Loading::look(line, &who()) {
        Ok(looked) => looked,
        Err(stopped) => return Ok(reporter.stopped(&stopped, LoadState::Stopped)),
    };
    reporter.sheet.id = Some(loading.id().to_string());
    reporter.step("lock", format!("taken, as load {}", loading.id()))?;
    match prepared(args, &wanted, &loading, &running, reporter) {
        Ok(()) if args.dry_run => {
            reporter.sheet.state = LoadState::Tried;
            let _ = loading.leave();
            reporter.step("end", "nothing was loaded, as asked".to_owned())?;
            return Ok(Exit::Fine);
        }
        Ok(()) => {}
        Err(ended) => {
            let _ = loading.leave();
            reporter.sheet.state = LoadState::Stopped;
            return match ended {
                Ended::Stopped(stopped) => Ok(reporter.stopped(&stopped, LoadState::Stopped)),
                Ended::Refused => Ok(Exit::No),
                Ended::Failed(failure) => Err(failure),
            };
        }
    }
    if let Err(stopped) = loading.load() {
        // The line may have been cut after the rules were loaded: then they go by themselves.
        let state = if matches!(stopped, Stopped::Refused { .. }) {
            LoadState::Stopped
        } else {
            LoadState::Unsure
        };
        return Ok(reporter.stopped(&stopped, state));
    }
    reporter.sheet.state = LoadState::Pending;
    reporter.step("loaded", "the new rules run".to_owned())?;
    verify(args, &wanted, &loading, &running, line, reporter)
}

/// Everything before the rules change.
fn prepared(
    args: &Load,
    wanted: &Wanted<'_>,
    loading: &Loading<'_, Ssh>,
    running: &Running,
    reporter: &mut Reporter<'_, '_>,
) -> Result<(), Ended> {
    looked_at(args, wanted, running, reporter)?;
    staged_there(args, wanted, loading, running, reporter)?;
    if args.dry_run {
        return Ok(());
    }
    loading.arm(args.return_after)?;
    let time = words::time(args.return_after.into());
    reporter
        .step("way-back", format!("runs on the gateway: the old rules come back after {time}"))?;
    Ok(())
}

/// What speaks against loading these rules onto this gateway, before anything is sent there.
fn looked_at(
    args: &Load,
    wanted: &Wanted<'_>,
    running: &Running,
    reporter: &mut Reporter<'_, '_>,
) -> Result<(), Ended> {
    others(wanted, running, reporter)?;
    change(wanted, running, reporter)?;
    surroundings(wanted.meaning.plan(), running, reporter)?;
    connections(args, wanted.meaning, running, reporter)?;
    if let Some(says) = other_time(wanted.meaning.plan(), running) {
        reporter.bad("hours", says)?;
        reporter.session.complain(
            "the gateway would keep other hours than the plan",
            "set its time zone (`timedatectl set-timezone`), or `time-zone` in the plan",
        );
        return Err(Ended::Refused);
    }
    if let Some(says) = shut_out(wanted.meaning, running) {
        reporter.bad("reached", says)?;
        if !args.although_shut_out {
            reporter.session.complain(
                "the new rules would shut you out",
                "add this address to `gateway.manage`, go where it may be managed from, or take --although-shut-out",
            );
            return Err(Ended::Refused);
        }
    }
    Ok(())
}

/// Sends the files, has them tried there, and keeps the old ones.
fn staged_there(
    args: &Load,
    wanted: &Wanted<'_>,
    loading: &Loading<'_, Ssh>,
    running: &Running,
    reporter: &mut Reporter<'_, '_>,
) -> Result<(), Ended> {
    let (interfaces, gone) = files(args, wanted, running, reporter)?;
    let transaction = nftables::transaction(running.running_table(), wanted.file.text());
    let uncut = taken_away_if_allowed(wanted, running, reporter)?;
    let staged = Staged { interfaces, gone, ..staged(wanted, running, &transaction) };
    let staged = Staged { change: format!("{uncut}{}", staged.change), ..staged };
    let tries_names = staged.names.is_some();
    let restorable = match loading.stage(&staged, running) {
        // The kernel there does not take the difference: then the whole.
        Err(Stopped::Refused { word, .. }) if word == "change-refused" => {
            let whole = nftables::replaced(running.running_table(), wanted.file.text());
            let staged = Staged { change: format!("{uncut}{}", whole.text), ..staged };
            let restorable = loading.stage(&staged, running)?;
            reporter.step("lines", rows(&whole))?;
            restorable
        }
        staged => {
            let restorable = staged?;
            reporter.step("lines", rows(&transaction))?;
            restorable
        }
    };
    reporter.step(
        "checks",
        match tries_names {
            true => "nft and dnsmasq on the gateway accept their files".to_owned(),
            false => "nft on the gateway accepts the rules".to_owned(),
        },
    )?;
    reporter.step("old-rules", words::restorable(restorable).to_owned())?;
    Ok(())
}

/// Takes away the table of connections that are being cut, if the new plan lets one of them begin.
fn taken_away_if_allowed(
    wanted: &Wanted<'_>,
    running: &Running,
    reporter: &mut Reporter<'_, '_>,
) -> Result<String, Failure> {
    let flows = running.cut.as_deref().unwrap_or_default();
    if flows.iter().all(|flow| may_begin(wanted.meaning, flow).is_none()) {
        return Ok(String::new());
    }
    let all = count(flows.len(), "connection");
    let says =
        format!("{all} that an earlier load cut may go on: the plan lets some of them begin");
    reporter.step("cut", says)?;
    Ok(format!("table inet {CUT_TABLE}\ndelete table inet {CUT_TABLE}\n"))
}

fn rows(transaction: &Transaction) -> String {
    let (added, removed) = (count(transaction.added, "line"), transaction.removed);
    match transaction.kept {
        Some(kept) => format!("{added} added, {removed} removed, {kept} kept with their counters"),
        None => format!("{added} in the place of {removed}: the whole table, counters included"),
    }
}

fn staged(wanted: &Wanted<'_>, running: &Running, transaction: &Transaction) -> Staged {
    let plan = wanted.meaning.plan();
    let old_names = running.names.as_deref();
    let names = old_names != Some(wanted.names.as_str());
    Staged {
        change: transaction.text.clone(),
        rules: wanted.file.text().to_owned(),
        boot: wanted.boot.clone(),
        interfaces: Vec::new(),
        gone: Vec::new(),
        refilled: old_names.map_or_else(Vec::new, |old| refilled(old, &wanted.names)),
        names: (names && running.has_dnsmasq).then(|| wanted.names.clone()),
        about: format!(
            "{}\n{}\n{}\n",
            words::plain(&plan.site().name),
            wanted.meaning.day(),
            who()
        ),
    }
}

/// What runs after the load, seen by a connection of its own.
fn verify(
    args: &Load,
    wanted: &Wanted<'_>,
    loading: &Loading<'_, Ssh>,
    running: &Running,
    line: &Ssh,
    reporter: &mut Reporter<'_, '_>,
) -> Result<Exit, Failure> {
    let pending = match loading.reread() {
        Ok(pending) => pending,
        Err(stopped) => {
            reporter.bad("reached", "the gateway is not reached any more".to_owned())?;
            let exit = undo(loading, line, reporter)?;
            let _ = reporter.stopped(&stopped, reporter.sheet.state);
            return Ok(exit);
        }
    };
    reporter.step("reached", "by a new connection".to_owned())?;
    let mut faults = differs(wanted.meaning, &pending.ruleset);
    faults.extend(settings(&wanted.boot, &pending));
    if let Some(beside) = &pending.beside {
        faults.push(format!("{} decides there, too", words::beside_rules(beside)));
    }
    if pending.state != "armed" || !pending.watched {
        faults.push("what would bring the old rules back does not run any more".to_owned());
    }
    if !faults.is_empty() {
        reporter
            .bad("read-back", format!("what runs does not match the plan\n{}", items(&faults)))?;
        return undo(loading, line, reporter);
    }
    reporter.step("read-back", "what runs matches the plan for every packet".to_owned())?;
    if args.cut {
        let connections = pending.connections.as_deref();
        cut(wanted.meaning, running, connections, loading, reporter)?;
    }
    if !running.starts {
        reporter.step("restart", RESTART.to_owned())?;
    }
    reporter.sheet.returns_in = Some(pending.left);
    ask(args, loading, line, pending.left, reporter)
}

/// The settings of the kernel that are not as the rules need them.
fn settings(boot: &[BootFile], pending: &Pending) -> Vec<String> {
    let file = boot.iter().find(|file| file.name == "forwarding.conf");
    let lines = file.into_iter().flat_map(|file| file.text.lines());
    let wanted = lines.filter_map(|line| line.split_once(" = "));
    let differs =
        wanted.filter(|(key, value)| pending.settings.get(*key).is_some_and(|now| now != value));
    differs.map(|(key, value)| format!("{key} is not {value}")).collect()
}

/// Brings the old rules back now, if the gateway can be reached at all.
fn undo(
    loading: &Loading<'_, Ssh>,
    line: &Ssh,
    reporter: &mut Reporter<'_, '_>,
) -> Result<Exit, Failure> {
    match back(line, loading.id()) {
        Ok(()) => {
            reporter.sheet.state = LoadState::Returned;
            reporter.step("end", "the old rules run again".to_owned())?;
        }
        Err(_) => {
            reporter.sheet.state = LoadState::Unsure;
            reporter.bad(
                "end",
                "the old rules come back by themselves when their time has come".to_owned(),
            )?;
        }
    }
    Ok(Exit::No)
}

/// Lets a person decide, or takes the option that has decided before.
fn ask(
    args: &Load,
    loading: &Loading<'_, Ssh>,
    line: &Ssh,
    left: i64,
    reporter: &mut Reporter<'_, '_>,
) -> Result<Exit, Failure> {
    let id = loading.id();
    let time = words::time(left);
    let asks = io::stdin().is_terminal() && !args.later;
    if !args.yes_if_verified && !asks {
        reporter.step(
            "end",
            format!(
                "waits: `bastium load {} --confirm {id}` within {time}, or the old rules come back",
                reporter.sheet.host
            ),
        )?;
        return Ok(Exit::Fine);
    }
    if !args.yes_if_verified {
        reporter.session.say(&format!(
            "Keep these rules? The old ones come back in {time}, or at once if you say no [yes/no] "
        ));
        let mut answer = String::new();
        io::stdin().lock().read_line(&mut answer)?;
        if !matches!(answer.trim(), "y" | "yes") {
            return undo(loading, line, reporter).map(|_| Exit::No);
        }
    }
    match confirm(line, id) {
        Ok(left) => reporter.confirmed(id, left),
        Err(stopped) => Ok(reporter.stopped(&stopped, words::state_of(&stopped))),
    }
}

/// Who loads, for others that find the gateway locked.
fn who() -> String {
    let name = ["USER", "LOGNAME", "USERNAME"].iter().find_map(|name| std::env::var(name).ok());
    format!("{}@{}", name.unwrap_or_else(|| "somebody".to_owned()), machine())
}

#[cfg(unix)]
fn machine() -> String {
    rustix::system::uname().nodename().to_string_lossy().into_owned()
}

#[cfg(not(unix))]
fn machine() -> String {
    std::env::var("COMPUTERNAME").unwrap_or_default()
}
