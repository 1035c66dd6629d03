//! Writes files completely or not at all, in place, with their owner and mode.

use crate::failure::{Failure, MachineProblem};
use crate::interrupt::Unfinished;
use crate::session::Session;
use std::ffi::OsStr;
use std::fs::{File, Metadata, TryLockError};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// How often a link may lead to a link.
const MOST_LINKS: usize = 40;
/// What the names of temporary files begin with; the name of the file that they become follows.
const TEMPORARY: &str = ".bastium-";
/// How long another run is waited for in silence, and in all.
const QUIET_WAIT: Duration = Duration::from_secs(1);
const LONGEST_WAIT: Duration = Duration::from_secs(60);

/// What may become of a file that is there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Over {
    /// It is left, and that is an error.
    Nothing,
    /// It is written over, unless it is protected from that.
    Writable,
    /// It is written over.
    Protected,
}

impl Over {
    /// What `--force` says of a plan that is changed.
    pub(crate) fn edited(force: bool) -> Self {
        if force { Self::Protected } else { Self::Writable }
    }
}

/// Writes a result to a file that somebody named; over one that is there only by `--force`.
///
/// # Errors
/// As [`write`].
pub(crate) fn put(
    named: &Path,
    text: impl AsRef<[u8]>,
    force: bool,
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    let over = if force { Over::Protected } else { Over::Nothing };
    for lost in write(named, text, over)? {
        session.remark(&lost);
    }
    Ok(())
}

/// Writes a file: into a temporary one beside it, which then takes its name. Where a link is named, the file that it
/// leads to is written. Mode, owner and further attributes of a file that was there are kept; what could not be kept
/// is given back, a sentence each.
///
/// # Errors
/// When it is there and may not be written over, is no ordinary file, or cannot be written.
pub(crate) fn write(
    named: &Path,
    text: impl AsRef<[u8]>,
    over: Over,
) -> Result<Vec<String>, Failure> {
    let failed = |error| Failure::File { path: named.to_owned(), doing: "write", error };
    // The system follows links that have no text, as those to open files, and knows what is there.
    is_a_file_or_none(named)?;
    let path = followed(named).map_err(failed)?;
    let old = match std::fs::symlink_metadata(&path) {
        Ok(old) => Some(old),
        Err(error) if error.kind() == io::ErrorKind::NotFound => None,
        Err(error) => return Err(failed(error)),
    };
    if let Some(old) = &old {
        may_be_written_over(named, &path, old, over)?;
    }
    let folder = folder_of(&path);
    let name = path.file_name().unwrap_or(OsStr::new("file"));
    sweep(folder, name);
    let (mut file, _unfinished) = Unfinished::make(|| temporary(folder, name)).map_err(failed)?;
    file.write_all(text.as_ref()).map_err(failed)?;
    let lost = old.map(|old| keep(file.as_file(), &path, &old)).transpose().map_err(failed)?;
    file.as_file().sync_all().map_err(failed)?;
    let kept = match over {
        Over::Nothing => file.persist_noclobber(&path),
        Over::Writable | Over::Protected => file.persist(&path),
    };
    match kept {
        Ok(_) => Ok(lost.unwrap_or_default()),
        Err(lost) if lost.error.kind() == io::ErrorKind::AlreadyExists => {
            Err(Failure::Exists { path: named.to_owned() })
        }
        Err(lost) => Err(failed(lost.error)),
    }
}

/// Where a path leads, over all links; the end may not be there yet.
fn followed(path: &Path) -> io::Result<PathBuf> {
    let mut path = path.to_owned();
    for _ in 0..MOST_LINKS {
        match std::fs::read_link(&path) {
            Ok(next) => path = folder_of(&path).join(next),
            Err(_) => return Ok(path),
        }
    }
    Err(io::Error::other("too many links lead to each other"))
}

fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

fn may_be_written_over(
    named: &Path,
    path: &Path,
    old: &Metadata,
    over: Over,
) -> Result<(), Failure> {
    if !old.is_file() {
        return Err(Failure::NoFile { path: named.to_owned(), what: kind(old) });
    }
    match over {
        Over::Nothing => Err(Failure::Exists { path: named.to_owned() }),
        Over::Writable if is_protected(path, old) => {
            Err(Failure::Protected { path: named.to_owned() })
        }
        Over::Writable | Over::Protected => Ok(()),
    }
}

/// Makes sure that a path leads to an ordinary file, or to nothing yet.
///
/// # Errors
/// When it leads to something else: a pipe would wait for a reader, a device would do whatever it does.
pub(crate) fn is_a_file_or_none(named: &Path) -> Result<(), Failure> {
    match std::fs::metadata(named) {
        Ok(found) if !found.is_file() => {
            Err(Failure::NoFile { path: named.to_owned(), what: kind(&found) })
        }
        _ => Ok(()),
    }
}

/// What something is that is no ordinary file.
#[cfg(unix)]
fn kind(found: &Metadata) -> &'static str {
    use std::os::unix::fs::FileTypeExt;
    let kind = found.file_type();
    if kind.is_dir() {
        "a folder"
    } else if kind.is_fifo() {
        "a pipe"
    } else if kind.is_socket() {
        "a socket"
    } else {
        "a device"
    }
}

#[cfg(not(unix))]
fn kind(found: &Metadata) -> &'static str {
    if found.is_dir() { "a folder" } else { "no ordinary file" }
}

/// Whether somebody took care that a file is not written. The mode counts for the superuser as well, whom the system
/// lets write anything.
#[cfg(unix)]
fn is_protected(path: &Path, old: &Metadata) -> bool {
    use rustix::fs::{Access, access};
    old.permissions().readonly() || access(path, Access::WRITE_OK).is_err()
}

#[cfg(not(unix))]
fn is_protected(_: &Path, old: &Metadata) -> bool {
    old.permissions().readonly()
}

/// A temporary file beside the one that it is to become. It is locked as long as its run lives.
fn temporary(folder: &Path, name: &OsStr) -> io::Result<tempfile::NamedTempFile> {
    let mut prefix = std::ffi::OsString::from(TEMPORARY);
    prefix.push(name);
    prefix.push(".");
    loop {
        let mut builder = tempfile::Builder::new();
        builder.prefix(&prefix);
        let file = new_file_mode(&mut builder).tempfile_in(folder)?;
        // Where files cannot be locked nothing is swept away either.
        let locked = !matches!(file.as_file().try_lock(), Err(TryLockError::WouldBlock));
        // Another run may have swept it away before it was locked.
        if locked && file.path().exists() {
            return Ok(file);
        }
    }
}

/// Takes away what runs that were killed have left of a file. What belongs to a run that lives is locked.
fn sweep(folder: &Path, name: &OsStr) {
    let Ok(entries) = std::fs::read_dir(folder) else { return };
    let prefix = [TEMPORARY.as_bytes(), name.as_encoded_bytes(), b"."].concat();
    for entry in entries.flatten() {
        let own = entry.file_name();
        let ours = own.as_encoded_bytes().strip_prefix(prefix.as_slice());
        let ours = ours.is_some_and(|rest| rest.iter().all(u8::is_ascii_alphanumeric));
        if !ours || !entry.file_type().is_ok_and(|kind| kind.is_file()) {
            continue;
        }
        let Ok(left) = File::open(entry.path()) else { continue };
        if left.try_lock().is_ok() {
            let _ = std::fs::remove_file(entry.path());
        }
    }
}

/// Gives a new file what the old one had, as far as it can be given.
#[cfg(unix)]
fn keep(file: &File, path: &Path, old: &Metadata) -> io::Result<Vec<String>> {
    use std::os::unix::fs::{MetadataExt, fchown};
    let mut lost = Vec::new();
    let new = file.metadata()?;
    if (new.uid(), new.gid()) != (old.uid(), old.gid())
        && fchown(file, Some(old.uid()), Some(old.gid())).is_err()
    {
        // The group alone can often be kept.
        let group = fchown(file, None, Some(old.gid())).is_ok();
        let whose = if group { "its owner" } else { "its owner and group" };
        lost.push(format!(
            "{} lost {whose}: only the superuser can give files away",
            path.display()
        ));
    }
    // The mode comes after the owner, since a change of owner takes some of it away.
    file.set_permissions(old.permissions())?;
    if old.nlink() > 1 {
        lost.push(format!("{} had other names: these still lead to what it was", path.display()));
    }
    lost.extend(attributes(file, path));
    Ok(lost)
}

#[cfg(not(unix))]
fn keep(file: &File, _: &Path, old: &Metadata) -> io::Result<Vec<String>> {
    file.set_permissions(old.permissions())?;
    Ok(Vec::new())
}

/// Copies extended attributes, access lists among them; those that could not be copied are named.
#[cfg(target_os = "linux")]
fn attributes(file: &File, path: &Path) -> Option<String> {
    use rustix::fs::{XattrFlags, fsetxattr, getxattr, listxattr};
    /// The most that names of attributes, and the value of one, take up (Linux: `XATTR_LIST_MAX`, `XATTR_SIZE_MAX`).
    const MOST: usize = 65_536;
    let mut names = vec![0u8; MOST];
    let length = listxattr(path, names.as_mut_slice()).unwrap_or(0);
    let mut lost = Vec::new();
    for name in names[..length].split(|byte| *byte == 0).filter(|name| !name.is_empty()) {
        let mut value = vec![0u8; MOST];
        let copied = getxattr(path, name, value.as_mut_slice())
            .and_then(|length| fsetxattr(file, name, &value[..length], XattrFlags::empty()));
        if copied.is_err() {
            lost.push(String::from_utf8_lossy(name).into_owned());
        }
    }
    (!lost.is_empty())
        .then(|| format!("{} lost its attributes {}", path.display(), lost.join(", ")))
}

#[cfg(all(unix, not(target_os = "linux")))]
fn attributes(_: &File, _: &Path) -> Option<String> {
    None
}

/// A new file gets the permissions that the umask leaves.
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

/// Two runs at once on one plan do not lose an edit: the folder is locked while one of them works. The file itself
/// is no place for a lock, since a new one takes its name. After a while a waiting user is shown what for.
///
/// # Errors
/// When the folder cannot be locked, or another holds it for a minute.
pub(crate) fn lock(path: &Path, session: &mut Session<'_>) -> Result<File, Failure> {
    let failed = |error| Failure::File { path: path.to_owned(), doing: "lock", error };
    let lock = File::open(lock_of(path)?).map_err(failed)?;
    let begun = Instant::now();
    let mut reported = false;
    loop {
        match lock.try_lock() {
            Ok(()) => return Ok(lock),
            Err(TryLockError::WouldBlock) => {}
            Err(TryLockError::Error(error)) => return Err(failed(error)),
        }
        let waited = begun.elapsed();
        if waited > LONGEST_WAIT {
            return Err(MachineProblem::Locked(folder_of(path).to_owned()).into());
        }
        if waited > QUIET_WAIT && !reported {
            reported = true;
            let folder = folder_of(path).display().to_string();
            session.say(&format!(
                "waiting: another run is changing a plan in {}; this one goes on when that ends, and gives up \
                 after a minute (Ctrl-C gives up now)\n",
                bastium_gateway::clean(&folder)
            ));
        }
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[cfg(unix)]
fn lock_of(path: &Path) -> Result<PathBuf, Failure> {
    Ok(folder_of(path).to_owned())
}

#[cfg(not(unix))]
fn lock_of(path: &Path) -> Result<PathBuf, Failure> {
    let beside = path.with_extension("lock");
    File::create(&beside).map_err(|error| Failure::File {
        path: beside.clone(),
        doing: "lock",
        error,
    })?;
    Ok(beside)
}
