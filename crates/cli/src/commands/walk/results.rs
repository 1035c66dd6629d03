//! The results file next to the plan. It is append-only; each line is complete and on the disk before anything else
//! happens.

use crate::failure::{Failure, NeedsFile};
use crate::files;
use crate::plans;
use crate::session::{self, Session};
use bastium_core::plan::Plan;
use bastium_report::walk::{Abouts, Record, Recorded, line, read};
use jiff::Timestamp;
use std::fs::{File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

/// So many lines of a file that are no results are named one by one.
const MOST_NAMED: usize = 10;

/// The results so far, and the file that further ones go to.
pub(in crate::commands) struct Results {
    path: PathBuf,
    records: Vec<Record>,
    /// How many lines are no results.
    unread: usize,
    /// Opened when the first result is added.
    file: Option<File>,
}

/// The file that is meant: the named one, or the one beside the plan.
///
/// # Errors
/// When there is no plan beside which it could be.
pub(in crate::commands) fn path(
    named: Option<&PathBuf>,
    session: &Session<'_>,
) -> Result<PathBuf, Failure> {
    if let Some(path) = named {
        return Ok(path.clone());
    }
    let plan = plans::path(session.options.plan.as_deref())?.ok_or(NeedsFile::Results)?;
    Ok(plan.with_extension("walk.jsonl"))
}

/// Who makes the walk, where nobody says so.
pub(super) fn somebody() -> String {
    let named = ["USER", "LOGNAME", "USERNAME"].into_iter().find_map(|key| std::env::var(key).ok());
    named.filter(|name| !name.is_empty()).unwrap_or_else(|| "somebody".to_owned())
}

/// The time, in whole seconds.
pub(in crate::commands) fn now() -> Timestamp {
    let now = Timestamp::now();
    Timestamp::from_second(now.as_second()).unwrap_or(now)
}

impl Results {
    /// Reads what there is: the file, if it is there, and those of others.
    ///
    /// # Errors
    /// When one cannot be read.
    pub(in crate::commands) fn open(
        path: PathBuf,
        others: &[PathBuf],
        session: &mut Session<'_>,
    ) -> Result<Self, Failure> {
        files::is_a_file_or_none(&path)?;
        let (mut records, mut unread) = (Vec::new(), 0);
        let own = path.exists().then_some(&path);
        for file in others.iter().chain(own) {
            let bytes = plans::read_whole(file)?;
            let (found, bad) = read(&String::from_utf8_lossy(&bytes), now());
            records.extend(found);
            unread += bad.len();
            let file = file.display();
            for bad in bad.iter().take(MOST_NAMED) {
                let says = format!("{file}:{}: no result, left out: {}", bad.line, bad.why);
                session.complain(&says, "");
            }
            let more = bad.len().saturating_sub(MOST_NAMED);
            if more > 0 {
                session.complain(&format!("{file}: {more} more are left out"), "");
            }
        }
        Ok(Self { path, records, unread, file: None })
    }

    /// All results, of everybody.
    pub(in crate::commands) fn all(&self) -> &[Record] {
        &self.records
    }

    /// The results, compared with what the checks of a plan are about.
    pub(in crate::commands) fn recorded<'r>(
        &'r self,
        known: &'r Abouts,
        plan: &Plan,
    ) -> Recorded<'r> {
        let zone = session::zone(plan);
        Recorded { records: &self.records, known, unread: self.unread, zone }
    }

    /// The file's name.
    pub(super) fn shown(&self) -> String {
        self.path.display().to_string()
    }

    /// Whether there is a file with any.
    pub(super) fn are_kept(&self) -> bool {
        self.path.exists()
    }

    /// Adds a result to the file, and then to what is known.
    ///
    /// # Errors
    /// When it could not be kept.
    pub(super) fn add(&mut self, record: Record) -> Result<(), Failure> {
        let failed =
            |error| Failure::File { path: self.path.clone(), doing: "add a result to", error };
        if self.file.is_none() {
            self.file = Some(open(&self.path).map_err(failed)?);
        }
        if let Some(file) = &mut self.file {
            // One write, so that lines of two people never mix.
            file.write_all(line(&record).as_bytes()).map_err(failed)?;
            file.sync_data().map_err(failed)?;
        }
        self.records.push(record);
        Ok(())
    }
}

/// Opens the file to add to it. A last line that was cut off gets its end first.
fn open(path: &Path) -> io::Result<File> {
    let mut file = OpenOptions::new().create(true).read(true).append(true).open(path)?;
    if file.metadata()?.len() > 0 {
        let mut last = [0];
        file.seek(SeekFrom::End(-1))?;
        file.read_exact(&mut last)?;
        if last != *b"\n" {
            file.write_all(b"\n")?;
        }
    }
    Ok(file)
}
