//! A load over NETCONF, for a gateway that takes access lists of RFC 8519.

use super::{Reporter, words};
use crate::args::Load;
use crate::commands::{export, leased};
use crate::failure::{Exit, Failure, Meaningless};
use crate::plans;
use crate::session::{self, Session};
use crate::show;
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, Reach};
use bastium_core::proof::Proved;
use bastium_report::count;
use bastium_report::sheets::{LoadSheet, LoadState};
use bastium_wire::LoadId;
use bastium_wire::netconf::{Change, Client, Failed, NetconfLoading, to_json, to_xml};
use serde_json::Value;
use std::io::{self, BufRead, IsTerminal};
use std::path::Path;
use std::process::Command;

/// Onto a gateway that is reached by ssh.
pub(super) fn run(args: &Load, reach: &Reach, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let open = || Client::open(&reach.host, args.ssh_config.as_deref());
    over(args, reach.to_string(), &open, session)
}

/// Onto a simulated one, by a session that this program serves itself.
pub(super) fn simulated(
    args: &Load,
    folder: &Path,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let open = sessions(folder, session)?;
    over(args, format!("simulated:{}", folder.display()), &open, session)
}

/// What opens a session with a simulated gateway.
pub(in crate::commands) fn sessions(
    folder: &Path,
    session: &Session<'_>,
) -> Result<impl Fn() -> Result<Client, Failed> + use<>, Failure> {
    let own = std::env::current_exe()?;
    let plan = plans::path(session.options.plan.as_deref())?.ok_or(Failure::NoPlan)?;
    let folder = folder.to_owned();
    Ok(move || {
        let mut command = Command::new(&own);
        command.args(["simulate", "gateway", "--state"]).arg(&folder).arg("--plan").arg(&plan);
        Client::over(command)
    })
}

/// The lists of a plan, as a gateway says them.
pub(in crate::commands) fn wanted(
    meaning: &Meaning<'_>,
    proved: Proved<'_>,
) -> Result<Value, Failure> {
    let proven = export::lists(meaning, proved)?;
    let wanted: Value = serde_json::from_str(&proven.file().text).map_err(io::Error::from)?;
    // As it is written and read: the same words for the same things.
    Ok(to_json(&to_xml(&wanted)))
}

fn over(
    args: &Load,
    shown: String,
    open: &dyn Fn() -> Result<Client, Failed>,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    if args.cut {
        return Err(Meaningless::CutOverNetconf.into());
    }
    let mut reporter = Reporter { sheet: LoadSheet::new(shown), session };
    let exit = match (&args.confirm, &args.back) {
        (Some(id), _) => {
            reporter.ended(open().and_then(|mut client| client.confirm(id)), id, true)?
        }
        (_, Some(id)) => {
            reporter.ended(open().and_then(|mut client| client.cancel(id)), id, false)?
        }
        _ if args.status => {
            return Err(Meaningless::StatusOverNetconf.into());
        }
        _ => reporter.load(args, open)?,
    };
    let Reporter { sheet, session } = reporter;
    show::for_programs(session, &sheet, || sheet.tables(), "part")?;
    Ok(exit)
}

impl Reporter<'_, '_> {
    /// What came of confirming or taking back.
    fn ended(
        &mut self,
        done: Result<(), Failed>,
        id: &LoadId,
        keeps: bool,
    ) -> Result<Exit, Failure> {
        self.sheet.id = Some(id.to_string());
        match done {
            Ok(()) if keeps => {
                self.sheet.state = LoadState::Confirmed;
                self.step("end", format!("load {id} is confirmed: its lists stay"))?;
                Ok(Exit::Fine)
            }
            Ok(()) => {
                self.sheet.state = LoadState::Returned;
                self.step("end", format!("load {id} is undone: the gateway runs its old lists"))?;
                Ok(Exit::Fine)
            }
            Err(failed) => Ok(self.failed(&failed)),
        }
    }

    fn failed(&mut self, failed: &Failed) -> Exit {
        let (says, help) = in_words(failed);
        self.session.complain(&says, &help);
        if matches!(failed, Failed::Refused(_) | Failed::Edited) { Exit::No } else { Exit::Unable }
    }

    fn load(
        &mut self,
        args: &Load,
        open: &dyn Fn() -> Result<Client, Failed>,
    ) -> Result<Exit, Failure> {
        if args.interfaces.is_some() {
            return Err(Meaningless::InterfacesOverNetconf.into());
        }
        let plan = leased::known(self.session.plan()?, &args.uplink_address)?;
        let meaning = session::meaning(&plan, args.day.day)?;
        let rules = session::in_form(&meaning, Form::PerInterface)?;
        let wanted = wanted(&meaning, session::proved(&meaning, &rules)?)?;
        self.sheet.state = LoadState::Stopped;
        let looked = open().and_then(NetconfLoading::look);
        let (mut loading, running) = match looked {
            Ok(looked) => looked,
            Err(failed) => return Ok(self.failed(&failed)),
        };
        let id = loading.id().clone();
        self.sheet.id = Some(id.to_string());
        self.step("lock", format!("what runs and the candidate are locked, for load {id}"))?;
        let Some(running) = running else { return Ok(self.failed(&Failed::Edited)) };
        let change = Change::new(&running, &wanted);
        if !self.describe(&change)? {
            return Ok(Exit::No);
        }
        if let Err(failed) = loading.prepare(&change) {
            return Ok(self.failed(&failed));
        }
        self.step("checks", "the gateway has validated the candidate".to_owned())?;
        if args.dry_run {
            loading.discard();
            loading.close();
            self.sheet.state = LoadState::Tried;
            self.step("end", "nothing was committed, as asked".to_owned())?;
            return Ok(Exit::Fine);
        }
        let time = words::time(args.return_after.into());
        if let Err(failed) = loading.commit(args.return_after) {
            if !matches!(failed, Failed::Refused(_)) {
                self.sheet.state = LoadState::Unsure;
                self.bad("loaded", format!("nobody knows whether the gateway has committed; if it has, the old lists come back after {time}"))?;
            }
            return Ok(self.failed(&failed));
        }
        self.sheet.state = LoadState::Pending;
        self.step(
            "loaded",
            format!("committed; the gateway takes it back after {time}, unless it is confirmed"),
        )?;
        loading.close();
        self.verify(args, &wanted, &id, open)
    }

    /// What becomes of the lists that are there. `false` where the gateway lacks an interface.
    fn describe(&mut self, change: &Change) -> Result<bool, Failure> {
        if !change.missing.is_empty() {
            let missing = words::plain(&change.missing.join(", "));
            self.bad("interfaces", format!("the gateway has no {missing}"))?;
            self.session.complain(
                "interfaces of the plan are not there",
                "set them up, or name them in the plan as the gateway does",
            );
            return Ok(false);
        }
        self.step("interfaces", "all that lists are attached to are there".to_owned())?;
        let mut says = format!("{} from the plan", count(change.lists, "list"));
        if !change.gone.is_empty() {
            says.push_str(&format!(
                "; removed, as no interface uses them any more: {}",
                words::plain(&change.gone.join(", "))
            ));
        }
        if !change.others.is_empty() {
            says.push_str(&format!("; kept: {}", words::plain(&change.others.join(", "))));
        }
        self.step("lines", says)?;
        self.step(
            "others",
            "translation, leases and VLANs are not in these lists: they are typed by hand"
                .to_owned(),
        )?;
        Ok(true)
    }

    fn verify(
        &mut self,
        args: &Load,
        wanted: &Value,
        id: &LoadId,
        open: &dyn Fn() -> Result<Client, Failed>,
    ) -> Result<Exit, Failure> {
        let read = open().and_then(|mut client| client.running().map(|running| (client, running)));
        let (mut client, running) = match read {
            Ok(read) => read,
            Err(failed) => {
                self.sheet.state = LoadState::Unsure;
                self.bad(
                    "reached",
                    "the gateway is not reached any more; the old lists come back by themselves"
                        .to_owned(),
                )?;
                return Ok(self.failed(&failed));
            }
        };
        self.step("reached", "by a new session".to_owned())?;
        let differs = differences(wanted, &running);
        if !differs.is_empty() {
            self.bad(
                "read-back",
                format!("not what was sent: {}", words::plain(&differs.join(", "))),
            )?;
            let undone = client.cancel(id);
            self.ended(undone, id, false)?;
            return Ok(Exit::No);
        }
        self.step("read-back", "what runs is what was proved, entry by entry".to_owned())?;
        self.sheet.returns_in = Some(args.return_after.into());
        let asks = io::stdin().is_terminal() && !args.later;
        if !args.yes_if_verified && !asks {
            let host = &self.sheet.host;
            let time = words::time(args.return_after.into());
            self.step("end", format!("waits: `bastium load {host} --confirm {id}` within {time}, or the old lists come back"))?;
            return Ok(Exit::Fine);
        }
        if !args.yes_if_verified {
            self.session
                .say("Keep these lists? The old ones come back at once if you say no [yes/no] ");
            let mut answer = String::new();
            io::stdin().lock().read_line(&mut answer)?;
            if !matches!(answer.trim(), "y" | "yes") {
                let undone = client.cancel(id);
                self.ended(undone, id, false)?;
                return Ok(Exit::No);
            }
        }
        self.sheet.returns_in = None;
        let done = client.confirm(id);
        self.ended(done, id, true)
    }
}

/// The lists and attachments of a plan that a gateway does not have as they are.
pub(in crate::commands) fn differences(wanted: &Value, running: &Value) -> Vec<String> {
    const ACLS: &str = "ietf-access-control-list:acls";
    let (wanted, running) = (&wanted[ACLS], &running[ACLS]);
    let mut differs = Vec::new();
    let mut compare = |wanted: &Value, running: &Value, key: &str| {
        for one in wanted.as_array().into_iter().flatten() {
            let there = running.as_array().into_iter().flatten().find(|own| own[key] == one[key]);
            if there != Some(one) {
                differs.push(one[key].as_str().unwrap_or_default().to_owned());
            }
        }
    };
    compare(&wanted["acl"], &running["acl"], "name");
    let points = |one: &Value| one["attachment-points"]["interface"].clone();
    compare(&points(wanted), &points(running), "interface-id");
    differs
}

/// What is wrong, in a sentence, and what to do.
pub(in crate::commands) fn in_words(failed: &Failed) -> (String, String) {
    match failed {
        Failed::Refused(refusal) => {
            let says = words::plain(&refusal.message);
            let at = match refusal.path.as_str() {
                "" => String::new(),
                path => format!(" at {}", words::plain(path)),
            };
            let tag = words::plain(&refusal.tag);
            match (tag.as_str(), refusal.session.as_deref()) {
                ("lock-denied" | "in-use", Some("0")) => (
                    "the configuration is locked by something that is no session, or holds changes that nobody has committed".to_owned(),
                    "find out whose they are; nothing was changed".to_owned(),
                ),
                ("lock-denied" | "in-use", Some(session)) => (
                    format!("session {} has locked the gateway's configuration", words::plain(session)),
                    "wait until it ends, or ask whoever it belongs to; nothing was changed".to_owned(),
                ),
                _ => (format!("the gateway refused{at}: {says} ({tag})"), "what runs has not changed by this".to_owned()),
            }
        }
        Failed::Edited => (
            "the gateway's candidate holds changes that somebody has not committed".to_owned(),
            "find out whose they are; Bastium neither takes them away nor commits them".to_owned(),
        ),
        Failed::Cannot(_) => (failed.to_string(), "Bastium loads only where a commit can be tried and goes by itself".to_owned()),
        _ => (failed.to_string(), "try `ssh -s HOST netconf` by hand; `bastium load` uses the same keys and configuration".to_owned()),
    }
}
