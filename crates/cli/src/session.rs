//! The surroundings of a command: where results and messages go, how wide the terminal is, which plan is meant.
//! Writers are handed in, so that the demo can run commands into its own output.

use crate::args::{Color, Options};
use crate::failure::{Exit, Failure};
use crate::pager::Paged;
use crate::progress::Progress;
use crate::show::style::in_style;
use crate::show::{diagnostic, wrap::whole_words};
use anstream::{AutoStream, ColorChoice};
use anstyle::Style;
use bastium_core::diagnosis::Diagnose;
use bastium_core::findings;
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, Plan};
use bastium_core::proof::{self, Proved};
use bastium_core::rules::{self, RuleSet};
use bastium_core::space::Minute;
use bastium_gateway::clean;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ZonedDateTime};
use std::io::{self, IsTerminal, Write};

/// The width where there is no screen: nothing is wrapped.
const WITHOUT_A_SCREEN: u16 = u16::MAX;
/// The least width that tables are made for.
const LEAST_WIDTH: u16 = 40;

/// How many differences between a file and its plan are shown: one is enough not to write it.
const MOST_FAULTS: usize = 10;

/// Everything that is around a command.
pub(crate) struct Session<'w> {
    /// The options of every command.
    pub(crate) options: Options,
    out: Box<dyn Write + 'w>,
    err: Box<dyn Write + 'w>,
    progress: Option<Progress>,
    look: Look,
    /// How many rows the screen has, where the result goes to one.
    rows: Option<u16>,
}

/// How the result is laid out.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Look {
    /// How many columns a line may have.
    pub(crate) width: u16,
    /// Whether there is colour.
    pub(crate) colour: bool,
}

impl Session<'static> {
    /// A session that writes to the process's own standard output and error.
    pub(crate) fn for_terminal(options: Options) -> Self {
        let choice = match options.color {
            Color::Auto => None,
            Color::Always => Some(ColorChoice::Always),
            Color::Never => Some(ColorChoice::Never),
        };
        let (stdout, stderr) = (io::stdout(), io::stderr());
        let out_choice = choice.unwrap_or_else(|| AutoStream::choice(&stdout));
        let err_choice = choice.unwrap_or_else(|| AutoStream::choice(&stderr));
        let size = terminal_size::terminal_size().filter(|_| stdout.is_terminal());
        let out = AutoStream::new(stdout, out_choice);
        let err = AutoStream::new(stderr, err_choice);
        Self {
            progress: Progress::for_terminal(options.quiet),
            options,
            out: Box::new(io::BufWriter::new(out)),
            err: Box::new(err),
            look: Look {
                width: width(size.map(|(width, _)| width.0)),
                colour: out_choice != ColorChoice::Never,
            },
            rows: size.map(|(_, rows)| rows.0),
        }
    }
}

impl<'w> Session<'w> {
    /// A session for a command run by another one, into its output.
    pub(crate) fn inner<'s>(&'s mut self, options: Options) -> Session<'s> {
        Session {
            options,
            out: Box::new(&mut *self.out),
            err: Box::new(&mut *self.err),
            progress: None,
            look: self.look,
            rows: None,
        }
    }

    /// A session that says nothing, for a command that has the screen to itself.
    pub(crate) fn silent(options: Options) -> Session<'static> {
        Session {
            options: Options { quiet: true, ..options },
            out: Box::new(io::sink()),
            err: Box::new(io::sink()),
            progress: None,
            look: Look { width: 80, colour: false },
            rows: None,
        }
    }

    /// Lets what does not fit the screen go through a pager, if it is for people at a terminal.
    pub(crate) fn page(&mut self) {
        let Some(rows) = self.rows.filter(|_| !self.options.no_pager) else { return };
        self.out = Box::new(io::BufWriter::new(Paged::new(rows, self.look.colour)));
    }

    /// How many columns a line may have.
    pub(crate) fn width(&self) -> u16 {
        self.look.width
    }

    /// How the result is laid out.
    pub(crate) fn look(&self) -> Look {
        self.look
    }

    /// Writes a piece of the result.
    ///
    /// # Errors
    /// When it cannot be written.
    pub(crate) fn print(&mut self, text: &str) -> Result<(), Failure> {
        self.progress_ends();
        let written = self.out.write_all(text.as_bytes());
        self.heard(written)
    }

    /// Whether what was written could be. A reader that has gone away takes nothing from the answer, nor from its
    /// exit code: the rest is written to nobody.
    fn heard(&mut self, written: io::Result<()>) -> Result<(), Failure> {
        match written {
            Err(error) if error.kind() == io::ErrorKind::BrokenPipe => {
                self.close_output();
                Ok(())
            }
            other => Ok(other?),
        }
    }

    /// Writes a piece of the result as prose, in lines that fit. Each line of `text` is a paragraph, or an
    /// item where it begins with `- `.
    ///
    /// # Errors
    /// When it cannot be written.
    pub(crate) fn prose(&mut self, style: Style, text: &str) -> Result<(), Failure> {
        for paragraph in text.split('\n') {
            match paragraph.strip_prefix("- ") {
                Some(item) => self.item(style, "- ", item)?,
                None => self.item(style, "", paragraph)?,
            }
        }
        Ok(())
    }

    /// Writes an item: what follows its first line stands under its text.
    ///
    /// # Errors
    /// When it cannot be written.
    pub(crate) fn item(&mut self, style: Style, lead: &str, text: &str) -> Result<(), Failure> {
        let hanging = " ".repeat(lead.chars().count());
        let options = whole_words(usize::from(self.look.width));
        let options = options.initial_indent(lead).subsequent_indent(&hanging);
        let text = clean(text);
        let lines = textwrap::wrap(&text, options).into_iter();
        let wrapped: String = lines.map(|line| format!("{}\n", in_style(style, &line))).collect();
        self.print(&wrapped)
    }

    /// Says something beside the result, on standard error. Nothing can be done if nobody hears it.
    pub(crate) fn say(&mut self, text: &str) {
        self.progress_ends();
        let _ = self.out.flush();
        let _ = self.err.write_all(text.as_bytes());
    }

    /// Shows what has been written so far: somebody is waited for.
    ///
    /// # Errors
    /// When it cannot be written.
    pub(crate) fn flush(&mut self) -> Result<(), Failure> {
        self.progress_ends();
        let written = self.out.flush();
        self.heard(written)
    }

    /// Begins something that may take a while: from a second on, a person at a terminal sees what it is.
    pub(crate) fn doing(&mut self, what: &'static str) {
        if let Some(progress) = &self.progress {
            progress.begin(what);
        }
    }

    /// So much of it is done.
    pub(crate) fn progress(&mut self, done: usize, all: usize) {
        if let Some(progress) = &self.progress {
            progress.done(done, all);
        }
    }

    /// It is done, or something is written: what is shown of it goes away.
    pub(crate) fn progress_ends(&mut self) {
        if let Some(progress) = &self.progress {
            progress.end();
        }
    }

    /// Writes no more of the result: there is no room for it, or nobody who reads it.
    pub(crate) fn close_output(&mut self) {
        self.out = Box::new(io::sink());
    }

    /// Says something beside the result, unless quiet is wanted.
    pub(crate) fn remark(&mut self, text: &str) {
        if !self.options.quiet {
            self.say(&format!("{}\n", clean(text)));
        }
    }

    /// Tells an error that has no place in a file.
    pub(crate) fn complain(&mut self, says: &str, help: &str) {
        let error = crate::show::style::ERROR;
        self.say(&format!("{error}error{error:#}: {}\n", clean(says)));
        if !help.is_empty() {
            self.say(&format!("  help: {}\n", clean(help)));
        }
    }

    /// Tells a failure, and says how to end.
    pub(crate) fn fail(&mut self, failure: &Failure) -> Exit {
        match failure {
            Failure::Refused { plan: source, diagnoses } => {
                let rendered = diagnostic::render(source, diagnoses, self.width());
                self.say(&rendered);
            }
            Failure::Words { diagnoses } => {
                for diagnosis in diagnoses {
                    self.complain(&diagnosis.says, &diagnosis.help);
                }
            }
            Failure::Unproved { faults } => {
                for fault in faults.iter().take(MOST_FAULTS) {
                    self.complain(fault, "this is a fault of bastium: please report it");
                }
                return Exit::No;
            }
            other => {
                if matches!(other, Failure::Output(_)) {
                    self.close_output();
                }
                let (says, help) = other.says_and_help();
                self.complain(&says, &help);
            }
        }
        if matches!(failure, Failure::Machine(_)) { Exit::Unable } else { Exit::Wrong }
    }

    /// Writes out what is left. A reader that has gone away is a quiet end.
    pub(crate) fn finish(mut self, exit: Exit) -> Exit {
        match self.flush() {
            Ok(()) => exit,
            Err(failure) => self.fail(&failure),
        }
    }
}

/// Rules that were shown to do what the plan says.
///
/// # Errors
/// When they do not: then nothing is made of them.
pub(crate) fn proved<'r>(
    meaning: &Meaning<'_>,
    rules: &'r RuleSet<'r>,
) -> Result<Proved<'r>, Failure> {
    proof::proved(meaning, rules).map_err(|why| {
        let plan = meaning.plan();
        let mut faults: Vec<String> = why
            .differences
            .iter()
            .map(|difference| {
                format!(
                    "the rules {} {}, which the plan {}: {}",
                    difference.rules.action.word(),
                    plan.packet_words(&difference.packet),
                    difference.meaning.verdict.word(),
                    difference.meaning.cause.words(plan)
                )
            })
            .collect();
        if why.undecided > 0 {
            let questions = bastium_report::count(why.undecided, "question");
            faults.push(format!("{questions} could not be decided"));
        }
        Failure::Unproved { faults }
    })
}

/// The meaning of a plan on the day that is asked for.
///
/// # Errors
/// When its exceptions leave something open.
pub(crate) fn meaning(plan: &Plan, day: Option<Date>) -> Result<Meaning<'_>, Failure> {
    Meaning::new(plan, day_of(plan, day)).map_err(|problems| Failure::Refused {
        plan: plan.source().clone(),
        diagnoses: problems.iter().map(Diagnose::diagnose).collect(),
    })
}

/// The rules of a plan in a form.
///
/// # Errors
/// When the form cannot say what the plan means.
pub(crate) fn in_form<'p>(meaning: &Meaning<'p>, form: Form) -> Result<RuleSet<'p>, Failure> {
    rules::in_form(meaning, form).map_err(|problems| Failure::Refused {
        plan: meaning.plan().source().clone(),
        diagnoses: findings::inexpressible(meaning.plan(), &problems),
    })
}

/// The day asked for, or today where the site is.
pub(crate) fn day_of(plan: &Plan, day: Option<Date>) -> Date {
    day.unwrap_or_else(|| now_at(plan).date())
}

/// The minute of the week, where the site is.
pub(crate) fn minute_of_week(plan: &Plan) -> Minute {
    Minute::of(now_at(plan).datetime())
}

/// How far the site's clock is from UTC at the moment, in seconds.
pub(crate) fn offset(plan: &Plan) -> i32 {
    now_at(plan).offset().seconds()
}

/// The site's time zone; where the plan names none, that of this machine.
pub(crate) fn zone(plan: &Plan) -> TimeZone {
    plan.site().zone().unwrap_or_else(TimeZone::system)
}

fn now_at(plan: &Plan) -> ZonedDateTime {
    Timestamp::now().to_zoned_datetime(zone(plan))
}

/// How many columns there are, of a terminal that has so many. What goes elsewhere has lines of any length, for whatever
/// reads them next.
fn width(seen: Option<u16>) -> u16 {
    let said = std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
    said.or(seen).unwrap_or(WITHOUT_A_SCREEN).max(LEAST_WIDTH)
}
