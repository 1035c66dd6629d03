//! `bastium demo`: the whole job on the clinic, every step with its real output.

use crate::args::{Cli, Demo};
use crate::failure::{CallProblem, Exit, Failure};
use crate::files;
use crate::plans::demo;
use crate::session::Session;
use crate::show::style;
use bastium_gateway::shell_word;
use bastium_planfile::edit::apply_all;
use clap::Parser;
use std::path::Path;

/// A step: the words after `bastium`, and what the engineer sees in its output.
struct Step {
    words: &'static [&'static str],
    sees: &'static str,
}

/// The job, in its order.
const STEPS: [Step; 25] = [
    Step {
        words: &["addresses"],
        sees: "One VLAN and one subnet per kind of device; the VLAN id shows in the address.",
    },
    Step {
        words: &["ports"],
        sees: "What to set on each port and Wi-Fi name, so that every network comes through to where it is needed.",
    },
    Step {
        words: &["matrix"],
        sees: "One decision for each pair of zones; a star says that exceptions go before it.",
    },
    Step {
        words: &["matrix", "staff", "clinical"],
        sees: "One cell: what really decides there, in order. The cart may do less than the vets it belongs to.",
    },
    Step {
        words: &["draw", "zones", "--to", PICTURE, "--force"],
        sees: "The same as a picture: who may reach whom, and by what. `draw site` and `draw matrix` are the other two.",
    },
    Step {
        words: &["check"],
        sees: "No mistake and no risk that Bastium knows of; each would be shown with its line and what to do.",
    },
    Step {
        words: &["rules", "--find", "exception"],
        sees: "The exceptions as rules, narrow above wide: `trainees-web` stands above the wider block, though the plan has it below.",
    },
    Step {
        words: &["worksheet", "rules"],
        sees: "What to type into the gateway, with a box to tick for each row; the steps before it make what the rules name.",
    },
    Step {
        words: &["prove"],
        sees: "The rules against the plan, over every packet there can be; what must never pass; where the order matters.",
    },
    Step {
        words: &["ask", "reception", "paper-printer", "printing"],
        sees: "A question, with the rule that answers it.",
    },
    Step {
        words: &["ask", "guests", "tills"],
        sees: "A sentence that can be read to the client, with the line of the plan behind it.",
    },
    Step {
        words: &["ask", "imaging", "internet", "https"],
        sees: "Not the same for all of it: the old ultrasound stays in, though its zone may go out.",
    },
    Step {
        words: &["ask", "delivery-tablet", "records", "https"],
        sees: "Hours: the same question has another answer in the afternoon.",
    },
    Step {
        words: &["checklist", "--full", "--strength"],
        sees: "What the checks of everything would catch of the mistakes that people make while they enter the rules: all that a test can show.",
    },
    Step {
        words: &["checklist", "--from", "desks"],
        sees: "Of what one person carries, the part at the desks: what to type, and what to expect; also what must not work.",
    },
    Step {
        words: &["checklist", "--from", "scanner-cart"],
        sees: "The exception and its other side: the cart is kept out where its neighbours are let in.",
    },
    Step {
        words: &["rehearse", "--on-paper"],
        sees: "The whole checklist against the compiled rules; without `--on-paper` it runs with real packets, in the kernel of this machine.",
    },
    Step {
        words: &["load", GATEWAY, "--later"],
        sees: "Onto a gateway, a simulated one here: locked, validated, committed for five minutes, read back. Nobody confirms it.",
    },
    Step {
        words: &[
            "simulate",
            "packet",
            "--state",
            FOLDER,
            "--enters",
            "core.80",
            "10.44.80.20",
            "10.44.60.10",
            "tcp/443",
        ],
        sees: "The lists run: a guest's packet to a till is dropped.",
    },
    Step {
        words: &["verify", GATEWAY],
        sees: "That the lists are there is not enough: nobody has walked the checks, and it says so.",
    },
    Step {
        words: &["simulate", "wait", "--state", FOLDER, "6m"],
        sees: "Somebody was shut out, or went home: the time runs out.",
    },
    Step {
        words: &["simulate", "log", "--state", FOLDER],
        sees: "What the gateway did, and that it took the lists back by itself.",
    },
    Step {
        words: &["compare", OLD, NEW],
        sees: "Later something changes: the locum has gone, reception looks records up, the desks print by IPP alone. What that opens and closes:",
    },
    Step {
        words: &["worksheet", "--since", OLD, "--plan", NEW],
        sees: "What to type for this change, in an order in which no step lets anything through that both plans block, or stops what both allow.",
    },
    Step {
        words: &["report", "--for", "client", "--to", REPORT, "--force"],
        sees: "What is handed over: a page for the client, of which every sentence is proved, tried or in the plan.",
    },
];

/// Stands for the plan, and for the plan after the change.
const OLD: &str = "OLD";
const NEW: &str = "NEW";
/// Stand for a simulated gateway, and for the folder that holds it.
const GATEWAY: &str = "GATEWAY";
const FOLDER: &str = "FOLDER";
/// Stand for files that the demo writes beside the plan.
const PICTURE: &str = "PICTURE";
const REPORT: &str = "REPORT";

pub(super) fn run(args: &Demo, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let path = args.dir.join("clinic.toml");
    write_plan(args, &path, session)?;
    let next = args.dir.join("clinic-next.toml");
    write_next(args, &next, session)?;
    let gateway = args.dir.join("gateway");
    for (index, step) in STEPS.iter().enumerate() {
        let mut words: Vec<String> = vec!["bastium".to_owned()];
        words.extend(step.words.iter().map(|word| match *word {
            OLD => path.display().to_string(),
            NEW => next.display().to_string(),
            GATEWAY => format!("simulated:{}", gateway.display()),
            FOLDER => gateway.display().to_string(),
            PICTURE => args.dir.join("zones.svg").display().to_string(),
            REPORT => args.dir.join("report.html").display().to_string(),
            word => word.to_owned(),
        }));
        if !step.words.contains(&NEW) {
            words.extend(["--plan".to_owned(), path.display().to_string()]);
        }
        let timeless = ["addresses", "ports", "simulate"].contains(&step.words[0]);
        if let Some(day) = args.day.day.filter(|_| !timeless) {
            words.extend(["--day".to_owned(), day.to_string()]);
        }
        let number = format!("{}/{}", index + 1, STEPS.len());
        session.print("\n")?;
        session.prose(style::PLAIN, &format!("{number}  {}", step.sees))?;
        session.print(&style::in_style(style::STRONG, &format!("$ {}\n", shell_words(&words))))?;
        step_output(&words, session)?;
    }
    session.print("\n")?;
    let end = format!(
        "That is the whole way. Change {} and run the commands again; `bastium new` starts a plan of \
         your own.",
        path.display()
    );
    session.prose(style::PLAIN, &end)?;
    Ok(Exit::Fine)
}

/// Runs the very command that is shown, into the same output.
fn step_output(words: &[String], session: &mut Session<'_>) -> Result<(), Failure> {
    let cli = Cli::try_parse_from(words).map_err(CallProblem::Demo)?;
    let mut inner = session.inner(cli.options.clone());
    super::run(&cli.command, &mut inner).map(drop)
}

/// Writes the plan after the change.
fn write_next(args: &Demo, path: &Path, session: &mut Session<'_>) -> Result<(), Failure> {
    let (_, edits) = super::change::read(demo::CLINIC_CHANGE, Path::new("clinic-change.txt"))?;
    let next = apply_all(demo::CLINIC, &edits).map_err(Failure::Edit)?;
    match std::fs::read_to_string(path) {
        Ok(text) if text == next => Ok(()),
        _ => files::put(path, &next, args.force, session),
    }
}

fn write_plan(args: &Demo, path: &Path, session: &mut Session<'_>) -> Result<(), Failure> {
    let failed = |error| Failure::File { path: args.dir.clone(), doing: "make the folder", error };
    std::fs::create_dir_all(&args.dir).map_err(failed)?;
    let unchanged = std::fs::read_to_string(path).is_ok_and(|text| text == demo::CLINIC);
    if !unchanged {
        files::put(path, demo::CLINIC, args.force, session)?;
    }
    let verb = if unchanged { "The plan is in" } else { "Wrote the plan to" };
    let heading = format!(
        "{verb} {}: a veterinary clinic, from its addresses to the checklist.",
        path.display()
    );
    session.prose(style::PLAIN, &heading)
}

/// The words as a person would type them.
fn shell_words(words: &[String]) -> String {
    words.iter().map(|word| shell_word(word)).collect::<Vec<_>>().join(" ")
}
