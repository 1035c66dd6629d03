//! Finding, reading and writing plan files.

use crate::failure::Failure;
use bastium_core::plan::Plan;
use bastium_planfile::LARGEST;
use std::fs::File;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

/// The name that a plan has if nobody says another.
pub(crate) const DEFAULT_NAME: &str = "bastium.toml";

/// The demo plans, as they are in the repository.
pub(crate) mod demo {
    /// The clinic.
    pub(crate) const CLINIC: &str = include_str!("../../../demo/clinic.toml");
    /// Two networks.
    pub(crate) const BARE: &str = include_str!("../../../demo/bare.toml");
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
    bastium_planfile::read(&name, &bytes).map_err(|refused| Failure::Refused {
        source: refused.source,
        diagnoses: refused.diagnoses,
    })
}

fn failed(path: &Path, error: io::Error) -> Failure {
    Failure::File { path: path.to_owned(), doing: "read", error }
}

fn read_file(path: &Path) -> Result<Vec<u8>, Failure> {
    let file = File::open(path).map_err(|error| failed(path, error))?;
    limited(file).map_err(|error| failed(path, error))
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

/// Writes a file whole or not at all: into a temporary one beside it, which then takes its name.
///
/// # Errors
/// When it is there and `force` is not given, or it cannot be written.
pub(crate) fn write(path: &Path, text: &str, force: bool) -> Result<(), Failure> {
    let failed = |error| Failure::File { path: path.to_owned(), doing: "write", error };
    let folder = path.parent().filter(|parent| !parent.as_os_str().is_empty());
    let folder = folder.unwrap_or(Path::new("."));
    let mut file = tempfile::Builder::new();
    let mut file = new_file_mode(&mut file).tempfile_in(folder).map_err(failed)?;
    file.write_all(text.as_bytes()).map_err(failed)?;
    file.as_file().sync_all().map_err(failed)?;
    let kept = if force { file.persist(path) } else { file.persist_noclobber(path) };
    match kept {
        Ok(_) => Ok(()),
        Err(lost) if lost.error.kind() == io::ErrorKind::AlreadyExists => {
            Err(Failure::Exists { path: path.to_owned() })
        }
        Err(lost) => Err(failed(lost.error)),
    }
}

/// A new plan can be read by whoever the system's own mask lets read it, like any new file.
#[cfg(unix)]
fn new_file_mode<'b, 'p, 's>(
    builder: &'b mut tempfile::Builder<'p, 's>,
) -> &'b mut tempfile::Builder<'p, 's> {
    use std::os::unix::fs::PermissionsExt;
    builder.permissions(std::fs::Permissions::from_mode(0o666))
}

#[cfg(not(unix))]
fn new_file_mode<'b, 'p, 's>(
    builder: &'b mut tempfile::Builder<'p, 's>,
) -> &'b mut tempfile::Builder<'p, 's> {
    builder
}
