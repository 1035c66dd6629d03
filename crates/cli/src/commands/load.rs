//! `bastium load`: puts rules onto a gateway, and takes them back unless they are confirmed.

mod before;
mod by_netconf;
mod connections;
mod files;
mod steps;
mod wanted;
mod words;

pub(super) use by_netconf::{
    differences as list_differences, sessions as simulated, wanted as wanted_lists,
};

use crate::args::{Load, Target};
use crate::failure::{CallProblem, Exit, Failure};
use crate::session::Session;
use crate::show::{self, style};
use bastium_core::plan::Reach;
use bastium_report::sheets::{LoadSheet, LoadState, LoadStep};
use bastium_wire::netconf::Failed;
use bastium_wire::{LeftOver, LoadId, Ssh, Status, Stopped, back, confirm, status};

pub(super) fn run(args: &Load, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let reach = match &args.host {
        Some(Target::Simulated(folder)) => return by_netconf::simulated(args, folder, session),
        Some(Target::Wire(reach)) => host(Some(reach), session)?,
        None => host(None, session)?,
    };
    if reach.netconf {
        return by_netconf::run(args, &reach, session);
    }
    let host = reach.host;
    let line = Ssh::new(host.clone(), args.ssh_config.clone());
    let mut reporter = Reporter { sheet: LoadSheet::new(host.to_string()), session };
    let exit = match (&args.confirm, &args.back) {
        (Some(id), _) => reporter.confirm(&line, id)?,
        (_, Some(id)) => reporter.back(&line, id)?,
        _ if args.status => reporter.status(&line)?,
        _ => steps::run(args, &line, &mut reporter)?,
    };
    let Reporter { sheet, session } = reporter;
    show::for_programs(session, &sheet, || sheet.tables(), "part")?;
    Ok(exit)
}

/// The gateway that is named, here or in the plan.
pub(super) fn host(named: Option<&Reach>, session: &mut Session<'_>) -> Result<Reach, Failure> {
    if let Some(host) = named {
        return Ok(host.clone());
    }
    session.plan()?.gateway().reach.clone().ok_or_else(|| CallProblem::NoGateway.into())
}

/// Why a gateway could not be read.
pub(super) fn not_read(stopped: &Stopped, session: &mut Session<'_>) -> Exit {
    let (says, help) = words::stopped(stopped);
    session.complain(&says, &help);
    Exit::Unable
}

/// Why a gateway did not speak.
pub(super) fn not_spoken(failed: &Failed, session: &mut Session<'_>) {
    let (says, help) = by_netconf::in_words(failed);
    session.complain(&says, &help);
}

/// What has happened so far, said as it happens to people, and at the end to programs.
struct Reporter<'a, 'w> {
    sheet: LoadSheet,
    session: &'a mut Session<'w>,
}

impl Reporter<'_, '_> {
    /// A step that is as it should be.
    fn step(&mut self, step: &'static str, says: String) -> Result<(), Failure> {
        self.tell(LoadStep { step, says, fine: true })
    }

    /// One that is not.
    fn bad(&mut self, step: &'static str, says: String) -> Result<(), Failure> {
        self.tell(LoadStep { step, says, fine: false })
    }

    fn tell(&mut self, step: LoadStep) -> Result<(), Failure> {
        const WIDEST: usize = 12;
        if self.session.options.format == crate::args::Format::Text {
            let tone = if step.fine { style::PLAIN } else { style::WARN };
            let mut lead = format!("{:WIDEST$}", step.step.replace('-', " "));
            for paragraph in step.says.split('\n') {
                match paragraph.strip_prefix("- ") {
                    Some(item) => self.session.item(tone, &format!("{lead}- "), item)?,
                    None => self.session.item(tone, &lead, paragraph)?,
                }
                lead = " ".repeat(WIDEST);
            }
            self.session.flush()?;
        }
        self.sheet.steps.push(step);
        Ok(())
    }

    /// Why it was stopped.
    fn stopped(&mut self, stopped: &Stopped, state: LoadState) -> Exit {
        let (says, help) = words::stopped(stopped);
        self.sheet.state = state;
        self.session.complain(&says, &help);
        self.sheet.steps.push(LoadStep { step: "end", says, fine: false });
        if matches!(stopped, Stopped::Broken(_) | Stopped::Garbled(_)) {
            Exit::Unable
        } else {
            Exit::No
        }
    }

    fn confirm(&mut self, line: &Ssh, id: &LoadId) -> Result<Exit, Failure> {
        self.sheet.id = Some(id.to_string());
        match confirm(line, id) {
            Ok(left) => self.confirmed(id, left),
            Err(stopped) => Ok(self.stopped(&stopped, words::state_of(&stopped))),
        }
    }

    fn confirmed(&mut self, id: &LoadId, left: LeftOver) -> Result<Exit, Failure> {
        self.sheet.state = LoadState::Confirmed;
        self.sheet.returns_in = None;
        self.step("end", words::confirmed(id))?;
        if left.names {
            self.bad("end", words::NAMES_BY_HAND.to_owned())?;
        }
        if left.cut {
            self.bad("cut", words::NOT_CUT.to_owned())?;
        }
        Ok(Exit::Fine)
    }

    fn back(&mut self, line: &Ssh, id: &LoadId) -> Result<Exit, Failure> {
        self.sheet.id = Some(id.to_string());
        match back(line, id) {
            Ok(()) => {
                self.sheet.state = LoadState::Returned;
                self.step("end", format!("load {id} is undone: the gateway runs its old rules"))?;
                Ok(Exit::Fine)
            }
            Err(stopped) => Ok(self.stopped(&stopped, words::state_of(&stopped))),
        }
    }

    fn status(&mut self, line: &Ssh) -> Result<Exit, Failure> {
        let status: Status = match status(line) {
            Ok(status) => status,
            Err(stopped) => return Ok(self.stopped(&stopped, LoadState::Stopped)),
        };
        self.sheet.kept = status.kept.iter().map(|one| words::plain(one)).collect();
        match &status.holder {
            None => self.step("lock", "nobody is loading rules".to_owned())?,
            Some(holder) => {
                self.sheet.id = Some(words::plain(&holder.id));
                self.sheet.state = words::state(status.state.as_deref().unwrap_or_default());
                self.sheet.returns_in =
                    status.left.filter(|_| self.sheet.state == LoadState::Pending);
                let ago = status.up.saturating_sub(holder.since);
                let (fine, says) = words::held(holder, ago, &status);
                if fine { self.step("lock", says)? } else { self.bad("lock", says)? }
            }
        }
        match self.sheet.kept.as_slice() {
            [] => self.step("kept", "the gateway keeps no earlier state".to_owned())?,
            kept => {
                self.step("kept", format!("states, the last one first: {}", kept.join(", ")))?
            }
        }
        Ok(Exit::Fine)
    }
}
