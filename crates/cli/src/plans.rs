//! Finding, reading and writing plan files.

use crate::args::Writing;
use crate::failure::{CallProblem, Failure, MachineProblem, NeedsFile};
use crate::files::{self, Over};
use crate::session::{Session, day_of};
use bastium_core::diagnosis::{Diagnosis, Severity};
use bastium_core::findings;
use bastium_core::meaning::Meaning;
use bastium_core::plan::Plan;
use bastium_gateway::clean;
use bastium_planfile::LARGEST;
use bastium_planfile::edit::EditProblem;
use bastium_testbed::child;
use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

/// The name that a plan has if nobody says another.
pub(crate) const DEFAULT_NAME: &str = "bastium.toml";

/// The demo plans, as they are in the repository.
pub(crate) mod demo {
    /// The clinic.
    pub(crate) const CLINIC: &str = include_str!("../demo/clinic.toml");
    /// A change of the clinic, as `change` reads it.
    pub(crate) const CLINIC_CHANGE: &str = include_str!("../demo/clinic-change.txt");
    /// The farm.
    pub(crate) const FARM: &str = include_str!("../demo/farm.toml");
    /// Two networks.
    pub(crate) const BARE: &str = include_str!("../demo/bare.toml");
}

impl Session<'_> {
    /// Reads the plan that is meant, and says what of it is not read yet.
    ///
    /// # Errors
    /// When there is none, or it is not a plan.
    pub(crate) fn plan(&mut self) -> Result<Plan, Failure> {
        let plan = load(self.options.plan.as_deref())?;
        if self.options.verbose {
            let (name, networks, exceptions) = {
                let tunnels = plan.networks().iter().filter(|n| n.tunnel.is_some()).count();
                let networks = plan.networks().len() - tunnels;
                (plan.source().name(), networks, plan.exceptions().len() - plan.inbounds().len())
            };
            self.say(&format!(
                "read {}: networks {networks}, hosts {}, exceptions {exceptions}\n",
                clean(name),
                plan.hosts().len(),
            ));
        }
        Ok(plan)
    }
}

/// Reads a plan: the named one, standard input for `-`, or `bastium.toml` here or above.
///
/// # Errors
/// When there is none, it cannot be read, or it is not a plan.
pub(crate) fn load(named: Option<&Path>) -> Result<Plan, Failure> {
    let (name, bytes) = match named {
        Some(path) if path == Path::new("-") => {
            let read = limited(io::stdin().lock());
            ("standard input".to_owned(), read.map_err(|e| failed(Path::new("standard input"), e))?)
        }
        Some(path) => (path.display().to_string(), read_file(path)?),
        None => {
            let path = find(&std::env::current_dir().map_err(|e| failed(Path::new("."), e))?)?;
            (shown(&path), read_file(&path)?)
        }
    };
    bastium_planfile::read(&name, &bytes).map_err(|mut why| {
        why.diagnoses = bastium_planfile::said_once(why.diagnoses);
        refused(why)
    })
}

/// The file of the plan that is meant; `None` for standard input.
///
/// # Errors
/// When there is none.
pub(crate) fn path(named: Option<&Path>) -> Result<Option<std::path::PathBuf>, Failure> {
    match named {
        Some(path) if path == Path::new("-") => Ok(None),
        Some(path) => Ok(Some(path.to_owned())),
        None => {
            let here = std::env::current_dir().map_err(|e| failed(Path::new("."), e))?;
            find(&here).map(Some)
        }
    }
}

/// An older plan: the file of that name, or else the plan `named` as it was in the commit of that name.
///
/// # Errors
/// When it cannot be read, or is no plan.
pub(crate) fn older(old: &Path, named: Option<&Path>) -> Result<Plan, Failure> {
    if old.exists() {
        return load(Some(old));
    }
    let commit = &*old.to_string_lossy();
    Version { commit }.load(named)
}

/// A plan as it was in a commit of git.
pub(crate) struct Version<'a> {
    /// The commit, as git names it.
    pub(crate) commit: &'a str,
}

impl Version<'_> {
    /// Reads the plan as it was: through the `git` command, which knows where it keeps it.
    ///
    /// # Errors
    /// When there is no git, the plan is not in it, or it was no plan then.
    pub(crate) fn load(&self, named: Option<&Path>) -> Result<Plan, Failure> {
        let path = match named {
            Some(path) if path == Path::new("-") => {
                return Err(NeedsFile::Older.into());
            }
            Some(path) => path.to_owned(),
            None => find(&std::env::current_dir().map_err(|e| failed(Path::new("."), e))?)?,
        };
        let path = path.canonicalize().map_err(|error| failed(&path, error))?;
        let (Some(folder), Some(file)) = (path.parent(), path.file_name()) else {
            return Err(failed(&path, io::ErrorKind::NotFound.into()));
        };
        let mut object = std::ffi::OsString::from(format!("{}:./", self.commit));
        object.push(file);
        let mut git = std::process::Command::new("git");
        git.arg("-C").arg(folder).args(["show", "--end-of-options"]).arg(object);
        let shown = child::run(&mut git, "").map_err(MachineProblem::Git)?;
        if !shown.status.success() {
            let reason = String::from_utf8_lossy(&shown.err);
            let reason = reason.lines().next().unwrap_or_default().trim_start_matches("fatal: ");
            return Err(CallProblem::NotInGit {
                commit: self.commit.to_owned(),
                reason: reason.to_owned(),
            }
            .into());
        }
        let name = format!("{} in {}", path.display(), self.commit);
        bastium_planfile::read(&name, &shown.out).map_err(refused)
    }
}

/// What a change did.
pub(crate) struct Changed {
    /// What the file is called in messages.
    pub(crate) name: String,
    /// The text before.
    pub(crate) old: String,
    /// The text after.
    pub(crate) new: String,
    /// Whether the file was written.
    pub(crate) written: bool,
    /// Whether the plan came from standard input.
    pub(crate) piped: bool,
    /// What `check` finds now and did not before.
    pub(crate) fresh: Vec<Diagnosis>,
}

/// Changes a plan file: under a lock, only if the result is a plan, and whole or not at all.
///
/// # Errors
/// When it cannot be read or written, the change cannot be made, or its result is not a plan.
pub(crate) fn change(
    writing: Writing,
    session: &mut Session<'_>,
    edit: impl FnOnce(&str) -> Result<String, Failure>,
) -> Result<Changed, Failure> {
    let named = session.options.plan.clone();
    let named = named.as_deref();
    if named.is_some_and(|path| path == Path::new("-")) {
        let read = limited(io::stdin().lock());
        let bytes = read.map_err(|e| failed(Path::new("standard input"), e))?;
        let (old, new, fresh) = edited("standard input", &bytes, edit)?;
        let name = "standard input".to_owned();
        return Ok(Changed { name, old, new, written: false, piped: true, fresh });
    }
    let here = || std::env::current_dir().map_err(|e| failed(Path::new("."), e));
    let (path, name) = match named {
        Some(path) => (path.to_owned(), path.display().to_string()),
        None => {
            let path = find(&here()?)?;
            let name = shown(&path);
            (path, name)
        }
    };
    // What a link leads to is changed, not the link.
    let path = path.canonicalize().map_err(|error| failed(&path, error))?;
    let lock = files::lock(&path, session)?;
    let bytes = read_file(&path)?;
    let (old, new, fresh) = edited(&name, &bytes, edit)?;
    let written = old != new && !writing.dry_run;
    if written {
        for lost in files::write(&path, &new, Over::edited(writing.force))? {
            session.remark(&lost);
        }
    }
    drop(lock);
    Ok(Changed { name, old, new, written, piped: false, fresh })
}

/// What is found in a plan today, and whether it has a meaning at all.
fn examine(plan: &Plan) -> (Vec<Diagnosis>, bool) {
    let day = day_of(plan, None);
    let meaning = Meaning::new(plan, day);
    let found = findings::find(plan, day, meaning.as_ref().map_err(Vec::as_slice));
    (found.into_iter().filter(|finding| !finding.known).collect(), meaning.is_ok())
}

/// The text before and after, if the latter is a plan; and what is found in it that was not there. A plan
/// that had a meaning keeps one: a change that contradicts what is there is refused.
pub(crate) fn edited(
    name: &str,
    bytes: &[u8],
    edit: impl FnOnce(&str) -> Result<String, Failure>,
) -> Result<(String, String, Vec<Diagnosis>), Failure> {
    let Ok(old) = std::str::from_utf8(bytes) else {
        bastium_planfile::read(name, bytes).map_err(refused)?;
        return Ok(Default::default());
    };
    let new = match edit(old) {
        // Reading the text tells what is wrong with it, and where.
        Err(Failure::Edit(problem @ (EditProblem::NotToml | EditProblem::NoTable { .. }))) => {
            bastium_planfile::read(name, bytes).map_err(refused)?;
            return Err(Failure::Edit(problem));
        }
        other => other?,
    };
    let after = format!("{name}, as it would be");
    let plan = bastium_planfile::read(&after, new.as_bytes()).map_err(refused)?;
    let (found, means) = examine(&plan);
    let before = bastium_planfile::read(name, bytes).ok().map(|plan| examine(&plan));
    let (before, meant) = before.unwrap_or_default();
    if meant && !means {
        let errors = found.into_iter().filter(|f| f.severity == Severity::Error).collect();
        return Err(Failure::Refused { plan: plan.source().clone(), diagnoses: errors });
    }
    let known = |finding: &Diagnosis| before.iter().any(|old| old.says == finding.says);
    let fresh = found.into_iter().filter(|finding| !known(finding)).collect();
    Ok((old.to_owned(), new, fresh))
}

#[expect(clippy::boxed_local, reason = "that is how the reader hands it over")]
pub(crate) fn refused(refused: Box<bastium_planfile::Refused>) -> Failure {
    let bastium_planfile::Refused { source, diagnoses } = *refused;
    Failure::Refused { plan: source, diagnoses }
}

fn failed(path: &Path, error: io::Error) -> Failure {
    Failure::File { path: path.to_owned(), doing: "read", error }
}

/// Reads a file, but no more of it than a plan can have.
///
/// # Errors
/// When it cannot be read.
pub(crate) fn read_file(path: &Path) -> Result<Vec<u8>, Failure> {
    let file = File::open(path).map_err(|error| failed(path, error))?;
    limited(file).map_err(|error| failed(path, error))
}

/// Reads a file, or standard input for `-`, to its end. None that anybody has is larger than what is read; of one that is, nothing is used.
///
/// # Errors
/// When it cannot be read, or is too large.
pub(crate) fn read_whole(path: &Path) -> Result<Vec<u8>, Failure> {
    let bytes = match path == Path::new("-") {
        true => limited(io::stdin().lock()).map_err(|error| failed(path, error))?,
        false => read_file(path)?,
    };
    if bytes.len() > LARGEST {
        return Err(CallProblem::TooLarge { path: path.to_owned(), most: LARGEST }.into());
    }
    Ok(bytes)
}

/// Reads no more than shows that a file is too large.
fn limited(reader: impl Read) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    reader.take(LARGEST as u64 + 1).read_to_end(&mut bytes)?;
    Ok(bytes)
}

fn find(start: &Path) -> Result<PathBuf, Failure> {
    let mut folders = start.ancestors().map(|folder| folder.join(DEFAULT_NAME));
    folders.find(|path| path.is_file()).ok_or(Failure::NoPlan)
}

/// A path as short as it can be said from here.
fn shown(path: &Path) -> String {
    let here = std::env::current_dir().unwrap_or_default();
    path.strip_prefix(here).unwrap_or(path).display().to_string()
}
