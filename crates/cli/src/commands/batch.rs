//! `bastium ask --batch`: questions in, answers out, one after the other.

use super::times::{date_of, minutes};
use crate::args::{Ask, Format};
use crate::failure::{Exit, Failure, Malformed, Named, Unknown};
use crate::session::{self, Session};
use bastium_core::asking::Asker;
use bastium_core::plan::Plan;
use bastium_core::proof::Lookup;
use bastium_core::rules;
use bastium_core::space::{IntervalSet, Minute};
use bastium_gateway::clean;
use bastium_gateway::escape_hidden;
use bastium_report::sheets::{BriefRow, Question, problem};
use jiff::civil::Date;
use std::collections::HashMap;
use std::fs::File;
use std::io::{self, BufReader, Read};
use std::path::Path;

/// The columns that a table of questions can have; the first two it must have.
const COLUMNS: [&str; 5] = ["from", "to", "service", "at", "expect"];

/// What went wrong on the way.
#[derive(Default)]
struct Tally {
    unanswered: usize,
    unexpected: usize,
    faulty: usize,
}

pub(super) fn run(file: &Path, args: &Ask, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let plan = session.plan()?;
    let meaning = session::meaning(&plan, args.day.day)?;
    let compiled = rules::compile(&meaning);
    let lookup = Lookup::new(&meaning, &compiled);
    let asker = Asker::new(&meaning, &compiled, lookup.ready());
    let day = session::day_of(&plan, args.day.day);
    let failed = |error: io::Error| Failure::File { path: file.to_owned(), doing: "read", error };
    let questions: Box<dyn Read> = if file == Path::new("-") {
        Box::new(io::stdin().lock())
    } else {
        Box::new(BufReader::new(File::open(file).map_err(failed)?))
    };
    let mut reader =
        csv::ReaderBuilder::new().flexible(true).trim(csv::Trim::All).from_reader(questions);
    let places = columns(reader.headers().map_err(|e| unreadable(e, file))?)?;
    let mut batch =
        Batch { plan: &plan, asker, day, times: HashMap::new(), tally: Tally::default() };
    batch.head(session)?;
    let mut record = csv::StringRecord::new();
    while reader.read_record(&mut record).map_err(|e| unreadable(e, file))? {
        let row = record.position().map_or(0, csv::Position::line);
        let cell = |column: usize| places[column].and_then(|place| record.get(place)).unwrap_or("");
        let question = Question {
            row,
            from: cell(0),
            to: cell(1),
            service: if cell(2).is_empty() { "any" } else { cell(2) },
            at: cell(3),
            expect: cell(4),
        };
        // Nobody knows what is asked by a cell that stands below no heading.
        let headed = |place: usize| places.contains(&Some(place));
        let strange = record.iter().enumerate().find(|(n, cell)| !headed(*n) && !cell.is_empty());
        match strange {
            None if record.iter().all(str::is_empty) => {}
            None => batch.answer(question, session)?,
            Some((_, cell)) => {
                batch.refuse(question, format!("`{cell}` is below no heading"), session)?
            }
        }
    }
    Ok(batch.tally.tell(session))
}

/// Where the columns are.
fn columns(headings: &csv::StringRecord) -> Result<[Option<usize>; 5], Failure> {
    let known = |name: &str| headings.iter().position(|heading| heading.eq_ignore_ascii_case(name));
    let stranger = headings.iter().find(|heading| {
        !heading.is_empty() && !COLUMNS.iter().any(|name| name.eq_ignore_ascii_case(heading))
    });
    if let Some(stranger) = stranger {
        return Err(Unknown {
            what: Named::Column,
            word: stranger.to_owned(),
            near: None,
            known: COLUMNS.map(str::to_owned).to_vec(),
        }
        .into());
    }
    let places = COLUMNS.map(known);
    let named = headings.iter().enumerate().filter(|(_, heading)| !heading.is_empty());
    if let Some((_, twice)) = named.into_iter().find(|(place, _)| !places.contains(&Some(*place))) {
        return Err(Malformed::Twice(twice.to_owned()).into());
    }
    if places[..2].iter().any(Option::is_none) {
        return Err(Malformed::Headings.into());
    }
    Ok(places)
}

fn unreadable(error: csv::Error, file: &Path) -> Failure {
    Malformed::Questions { path: file.to_owned(), error }.into()
}

struct Batch<'a> {
    plan: &'a Plan,
    asker: Asker<'a>,
    day: Date,
    /// Times that were read already.
    times: HashMap<String, Option<IntervalSet<Minute>>>,
    tally: Tally,
}

impl Batch<'_> {
    fn head(&self, session: &mut Session<'_>) -> Result<(), Failure> {
        match session.options.format {
            Format::Csv => session.print(&format!("{}\n", BriefRow::COLUMNS.join(","))),
            Format::Md => {
                let rule = vec!["---"; BriefRow::COLUMNS.len()].join(" | ");
                session.print(&format!("| {} |\n| {rule} |\n", BriefRow::COLUMNS.join(" | ")))
            }
            Format::Text | Format::Json => Ok(()),
        }
    }

    fn answer(&mut self, question: Question<'_>, session: &mut Session<'_>) -> Result<(), Failure> {
        let row = match self.time(question.at) {
            None => {
                let says = format!("`{}` is not a time of the week", question.at);
                BriefRow::without(question, says)
            }
            Some(_) if !self.same_day(question.at) => {
                let says = format!("the plan has other entries on the day of `{}`", question.at);
                BriefRow::without(question, says)
            }
            Some(at) => match self.asker.ask(question.from, question.to, question.service, &at) {
                Ok(brief) => {
                    self.tally.faulty += usize::from(!brief.agrees);
                    BriefRow::new(self.plan, question, brief)
                }
                Err(unasked) => BriefRow::without(question, problem(&unasked)),
            },
        };
        self.count(&row, session)
    }

    /// A question that is not asked, and why.
    fn refuse(
        &mut self,
        question: Question<'_>,
        why: String,
        session: &mut Session<'_>,
    ) -> Result<(), Failure> {
        self.count(&BriefRow::without(question, why), session)
    }

    fn count(&mut self, row: &BriefRow<'_>, session: &mut Session<'_>) -> Result<(), Failure> {
        self.tally.unanswered += usize::from(!row.problem.is_empty());
        self.tally.unexpected += usize::from(row.as_expected == Some(false));
        print(row, session)
    }

    /// Whether the entries that count on the day of a time are those of the day that is asked about.
    fn same_day(&self, words: &str) -> bool {
        let Some(date) = date_of(words) else { return true };
        let exceptions = self.plan.exceptions();
        exceptions
            .iter()
            .all(|exception| exception.counts_on(date) == exception.counts_on(self.day))
    }

    fn time(&mut self, words: &str) -> Option<IntervalSet<Minute>> {
        if words.is_empty() {
            return Some(IntervalSet::full());
        }
        if !self.times.contains_key(words) {
            self.times.insert(words.to_owned(), minutes(Some(words), self.day).ok());
        }
        self.times[words].clone()
    }
}

fn print(row: &BriefRow<'_>, session: &mut Session<'_>) -> Result<(), Failure> {
    match session.options.format {
        Format::Json => {
            let json = serde_json::to_string(row).map_err(io::Error::from)?;
            session.print(&format!("{}\n", escape_hidden(&json)))
        }
        Format::Csv => {
            let mut line = csv::Writer::from_writer(Vec::new());
            let written = line.write_record(row.cells().iter().map(|cell| cell.as_bytes()));
            written.map_err(io::Error::from)?;
            let bytes = line.into_inner().map_err(|error| error.into_error())?;
            session.print(&String::from_utf8_lossy(&bytes))
        }
        Format::Md => {
            let cells = row.cells().map(|cell| cell.replace('|', "\\|"));
            session.print(&format!("| {} |\n", cells.join(" | ")))
        }
        Format::Text => {
            let asked = row.question;
            let mark = match row.as_expected {
                Some(false) => format!(" (EXPECTED {})", asked.expect),
                _ => String::new(),
            };
            let at = if asked.at.is_empty() { String::new() } else { format!(" at {}", asked.at) };
            let why = if row.problem.is_empty() { &row.entry } else { row.problem.as_ref() };
            let says = format!(
                "{:<13} {} -> {} {}{at}: {why}{mark}",
                row.verdict.replace('_', " "),
                asked.from,
                asked.to,
                asked.service
            );
            session.print(&format!("{}\n", clean(&says)))
        }
    }
}

impl Tally {
    fn tell(&self, session: &mut Session<'_>) -> Exit {
        if self.faulty > 0 {
            session.complain(
                &format!("THE RULES DO NOT DO WHAT THE PLAN MEANS, in {} answers. This is a fault of Bastium, not of your plan", self.faulty),
                "do not enter these rules; please report the plan and these questions",
            );
            return Exit::Wrong;
        }
        if self.unanswered > 0 {
            let says =
                format!("{} without an answer", bastium_report::count(self.unanswered, "question"));
            session.complain(&says, "look for `none` in the answers");
            return Exit::Wrong;
        }
        if self.unexpected > 0 {
            let says =
                format!("{} not as expected", bastium_report::count(self.unexpected, "answer"));
            session.remark(&says);
            return Exit::No;
        }
        Exit::Fine
    }
}
