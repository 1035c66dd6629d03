//! `bastium view`: the plan on the whole screen.
//!
//! Everything that is shown is taken from a plan once, as a [`Snapshot`](snapshot::Snapshot), so that a key
//! is answered at once; [`state`] says what a key does, [`draw`] how it looks, and neither knows a
//! terminal. Changes go the way of the command line ([`edits`]).

mod draw;
mod edits;
mod input;
mod screen;
mod snapshot;
mod state;

use crate::args::View;
use crate::failure::{Exit, Failure, MachineProblem, NeedsFile};
use crate::plans;
use crate::session::{self, Session};
use bastium_core::diagnosis::Diagnose;
use bastium_core::meaning::Meaning;
use bastium_core::plan::Plan;
use bastium_core::rules;
use crossterm::event::{self, Event, KeyEventKind, MouseButton, MouseEventKind};
use edits::Edits;
use screen::Screen;
use snapshot::Snapshot;
use state::{Ui, Wish};
use std::io::IsTerminal;
use std::time::Duration;

/// How often the file is looked at: well below what a person takes for a delay.
const LOOK: Duration = Duration::from_millis(150);

/// Why the screen of one plan ends.
enum Ended {
    /// The person leaves.
    Left,
    /// The file holds another plan.
    Replaced(Box<Plan>),
}

pub(super) fn run(args: &View, session: &mut Session<'_>) -> Result<Exit, Failure> {
    if !std::io::stdin().is_terminal() || !std::io::stdout().is_terminal() {
        return Err(MachineProblem::NoTerminal.into());
    }
    let named = session.options.plan.clone();
    let Some(path) = plans::path(named.as_deref())? else {
        return Err(NeedsFile::View.into());
    };
    let mut plan = session.plan()?;
    // A plan without a meaning is refused, as by every command, before the screen is taken.
    session::meaning(&plan, args.day.day)?;
    let mut edits = Edits::new(session.options.clone());
    let mut ui = Ui::new(session.look().colour);
    let mut screen = Screen::take()?;
    loop {
        let (day, known) = (session::day_of(&plan, args.day.day), plan.source().text().to_owned());
        let Ok(meaning) = Meaning::new(&plan, day) else { break };
        let mut file = Followed { path: path.clone(), known };
        match one_plan(&meaning, &mut ui, &mut edits, &mut file, &mut screen)? {
            Ended::Left => break,
            Ended::Replaced(new) => plan = *new,
        }
    }
    drop(screen);
    Ok(Exit::Fine)
}

/// Shows one plan until the person leaves, or the file holds another one.
fn one_plan(
    meaning: &Meaning<'_>,
    ui: &mut Ui,
    edits: &mut Edits,
    file: &mut Followed,
    screen: &mut Screen,
) -> Result<Ended, Failure> {
    let compiled = rules::compile(meaning);
    let snapshot = Snapshot::new(meaning, &compiled);
    ui.fit(&snapshot);
    loop {
        screen.draw(|frame| draw::draw(frame, &snapshot, ui))?;
        let mut wish = Wish::Nothing;
        if event::poll(LOOK)? {
            wish = match event::read()? {
                Event::Key(key) if key.kind != KeyEventKind::Release => ui.key(key, &snapshot),
                Event::Mouse(mouse) => match mouse.kind {
                    MouseEventKind::Down(MouseButton::Left) => {
                        ui.click(mouse.column, mouse.row, &snapshot)
                    }
                    MouseEventKind::ScrollDown => ui.scroll(1, &snapshot),
                    MouseEventKind::ScrollUp => ui.scroll(-1, &snapshot),
                    _ => Wish::Nothing,
                },
                _ => Wish::Nothing,
            };
        }
        match wish {
            Wish::Nothing => {}
            Wish::Leave => return Ok(Ended::Left),
            Wish::Ask(words) => ui.answer(edits::answer(&words, meaning, &compiled)),
            Wish::Propose(line) => ui.proposed(edits.propose(&line)),
            Wish::Keep => ui.kept(edits.keep()),
            Wish::Undo => ui.kept(edits.undo()),
        }
        if let Some(new) = file.look(meaning, ui) {
            return Ok(Ended::Replaced(Box::new(new)));
        }
    }
}

/// The file, and what was last read in it.
struct Followed {
    path: std::path::PathBuf,
    known: String,
}

impl Followed {
    /// The plan in the file, if that is another one now. However an editor writes, what counts is what is there;
    /// where that is no plan, the last one stays on the screen, and the problem is shown.
    fn look(&mut self, meaning: &Meaning<'_>, ui: &mut Ui) -> Option<Plan> {
        let Ok(text) = plans::read_whole(&self.path) else {
            ui.trouble(Some("showing the last valid plan; the file cannot be read".to_owned()));
            return None;
        };
        if text == self.known.as_bytes() {
            if meaning.plan().source().text().as_bytes() == text {
                ui.trouble(None);
            }
            return None;
        }
        self.known = String::from_utf8_lossy(&text).into_owned();
        let name = meaning.plan().source().name().to_owned();
        let problem = match bastium_planfile::read(&name, &text) {
            Ok(plan) => match Meaning::new(&plan, meaning.day()) {
                Ok(_) => {
                    ui.trouble(None);
                    return Some(plan);
                }
                Err(problems) => {
                    let diagnoses: Vec<_> = problems.iter().map(Diagnose::diagnose).collect();
                    edits::first_said(plan.source(), &diagnoses)
                }
            },
            Err(refused) => edits::first_said(&refused.source, &refused.diagnoses),
        };
        ui.trouble(Some(format!("showing the last valid plan; the file has a mistake: {problem}")));
        None
    }
}
