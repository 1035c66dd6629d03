//! Network namespaces that disappear with the process.

use rustix::process::{Signal, set_parent_process_death_signal};
use rustix::thread::{LinkNameSpaceType, UnshareFlags, move_into_link_name_space, unshare_unsafe};
use std::fs::{self, File};
use std::io;
use std::os::fd::{AsFd, AsRawFd};
use std::path::PathBuf;
use std::process::{Command, ExitStatus};

/// Tells a process that it is on its way into namespaces of its own, and how far it has come.
const STEP: &str = "BASTIUM_REHEARSAL_STEP";

/// Why no namespace could be made.
#[derive(Debug, thiserror::Error)]
pub enum NoEntry {
    /// The system does not let this user make them.
    #[error("this system does not allow namespaces: {0}")]
    Forbidden(#[source] io::Error),
    /// Something else failed.
    #[error("cannot {0}: {1}")]
    Failed(&'static str, #[source] io::Error),
}

/// Where a process is.
pub enum Entered {
    /// Outside: the same command has run inside meanwhile, and ended so.
    Outside(ExitStatus),
    /// Inside, as the first process of its own.
    Inside,
}

/// Runs this same command again in namespaces of its own: users, processes, network. Must be called
/// before any thread is started.
///
/// All that is inside ends when this process does, however it ends: each process in between asks to be
/// killed with its parent, and the kernel kills everyone in a namespace whose first process is gone.
///
/// # Errors
/// When the system forbids it.
pub fn enter() -> Result<Entered, NoEntry> {
    match std::env::var(STEP).as_deref() {
        Ok("inside") => {
            die_with_parent()?;
            Ok(Entered::Inside)
        }
        Ok("between") => {
            die_with_parent()?;
            own_name_spaces()?;
            run_again("inside").map(Entered::Outside)
        }
        _ => {
            possible()?;
            run_again("between").map(Entered::Outside)
        }
    }
}

fn die_with_parent() -> Result<(), NoEntry> {
    set_parent_process_death_signal(Some(Signal::KILL))
        .map_err(|error| NoEntry::Failed("follow the parent process", error.into()))?;
    // If it ended before that was said, nobody is there to wait for.
    if rustix::process::getppid().is_none() && std::process::id() != 1 {
        std::process::exit(1);
    }
    Ok(())
}

fn run_again(step: &str) -> Result<ExitStatus, NoEntry> {
    let again = || {
        let program = std::env::current_exe()?;
        let mut command = Command::new(program);
        command.args(std::env::args_os().skip(1)).env(STEP, step);
        command.status()
    };
    again().map_err(|error| NoEntry::Failed("start this command again", error))
}

/// Whether namespaces can be made at all, found out by a process that does nothing else.
fn possible() -> Result<(), NoEntry> {
    match fs::read_to_string("/proc/sys/user/max_user_namespaces") {
        Ok(most) if most.trim() == "0" => {
            Err(NoEntry::Forbidden(io::Error::other("/proc/sys/user/max_user_namespaces is 0")))
        }
        _ => Ok(()),
    }
}

fn own_name_spaces() -> Result<(), NoEntry> {
    let (user, group) = (rustix::process::getuid(), rustix::process::getgid());
    let flags = UnshareFlags::NEWUSER | UnshareFlags::NEWNET | UnshareFlags::NEWPID;
    #[expect(unsafe_code, reason = "files stay shared, which is what makes this call unsafe")]
    // SAFETY: no table of file descriptors is unshared, and there is only one thread.
    let unshared = unsafe { unshare_unsafe(flags) };
    unshared.map_err(|error| NoEntry::Forbidden(error.into()))?;
    let write = |file: &str, text: String| {
        fs::write(format!("/proc/self/{file}"), text)
            .map_err(|error| NoEntry::Failed("become root in a namespace", error))
    };
    write("setgroups", "deny".to_owned())?;
    write("uid_map", format!("0 {} 1", user.as_raw()))?;
    write("gid_map", format!("0 {} 1", group.as_raw()))
}

/// A network of the kernel's own, held open as a file. It is gone when that is closed.
pub struct Space {
    file: File,
}

impl Space {
    /// The one that this thread is in.
    ///
    /// # Errors
    /// When `/proc` cannot be read.
    pub fn current() -> io::Result<Self> {
        Ok(Self { file: File::open("/proc/thread-self/ns/net")? })
    }

    /// A new one, with nothing in it. The thread stays where it is.
    ///
    /// # Errors
    /// When the kernel makes none.
    pub fn new() -> io::Result<Self> {
        let home = Self::current()?;
        #[expect(unsafe_code, reason = "files stay shared, which is what makes this call unsafe")]
        // SAFETY: only the network is unshared, no table of file descriptors.
        unsafe { unshare_unsafe(UnshareFlags::NEWNET) }?;
        let made = Self::current();
        home.enter()?;
        made
    }

    /// Moves this thread there.
    ///
    /// # Errors
    /// When the kernel does not let it.
    pub fn enter(&self) -> io::Result<()> {
        Ok(move_into_link_name_space(self.file.as_fd(), Some(LinkNameSpaceType::Network))?)
    }

    /// Does something there, and comes back.
    ///
    /// # Errors
    /// What that has to tell, or when the way there or back is closed.
    pub fn within<T>(&self, work: impl FnOnce() -> io::Result<T>) -> io::Result<T> {
        let home = Self::current()?;
        self.enter()?;
        let done = work();
        home.enter()?;
        done
    }

    /// Where another process finds it.
    pub(crate) fn path(&self) -> io::Result<PathBuf> {
        let own = fs::read_link("/proc/self")?;
        Ok(PathBuf::from("/proc").join(own).join("fd").join(self.file.as_raw_fd().to_string()))
    }
}
