//! What a machine may lack: privileges, programs, kernel features.

use super::{reason, shown};
use clap_complete::Shell;
use std::error::Error;
use std::io;
use std::path::PathBuf;

/// Why this machine cannot do what was asked for. Its `Display` says it in a sentence; [`Self::help`] what to do.
#[derive(Debug, thiserror::Error)]
pub(crate) enum MachineProblem {
    /// There is no git that runs.
    #[error("cannot run git: {}", reason(.0))]
    Git(io::Error),
    /// Somebody else works in a folder, and does not end.
    #[error("another program has locked {} for a minute", shown(.0))]
    Locked(PathBuf),
    /// An interface that cannot be opened.
    #[error("cannot use the interface {name}: {}", reason(.error))]
    Interface { name: String, error: io::Error },
    /// A cable that carried and does not any more.
    #[error("the cable does not carry any more: {}", reason(.0))]
    Cable(io::Error),
    /// The system does not tell its addresses.
    #[error("cannot read this machine's addresses: {}", reason(.0))]
    Addresses(io::Error),
    /// A port that cannot be listened on.
    #[error("cannot listen on {port}: {}", reason(.error))]
    Listening { port: String, error: io::Error },
    /// A shell that nothing is completed for.
    #[error("there is no completion for {0}")]
    Completion(Shell),
    /// No site can be built in this kernel.
    #[error(transparent)]
    Rehearsal(Box<dyn Error + Send + Sync>),
    /// Rules for certain hours, of which it is not known whether they hold now.
    #[error("hours in these rules are not understood")]
    Hours,
    /// Another system than Linux, for a site in its kernel.
    #[cfg_attr(target_os = "linux", expect(dead_code, reason = "that is for other systems"))]
    #[error("a rehearsal with packets needs a Linux kernel")]
    NoRehearsal,
    /// There is nobody at a terminal.
    #[error("`bastium view` needs a terminal")]
    NoTerminal,
    /// Another system than Linux.
    #[cfg_attr(target_os = "linux", expect(dead_code, reason = "that is for other systems"))]
    #[error("standing in several networks at once needs Linux")]
    NotLinux,
}

impl MachineProblem {
    /// What to do about it.
    pub(crate) fn help(&self) -> &'static str {
        match self {
            Self::Git(_) => "install git, or name both plans: bastium compare OLD NEW",
            Self::Locked(_) => "end that program, then try again; nothing was changed",
            Self::Interface { error, .. } if error.kind() == io::ErrorKind::PermissionDenied => {
                "frames are put on a cable by root only (CAP_NET_RAW): run it with sudo"
            }
            Self::Interface { .. } => "`ip link` shows the interfaces of this machine",
            Self::Cable(_) => "is the interface up? `ip link` shows it",
            Self::Addresses(_) => "make the walk by hand: bastium walk",
            Self::Listening { .. } => {
                "stop what listens there already; a port below 1024 may need the administrator"
            }
            Self::Completion(_) => "bash, elvish, fish, powershell and zsh have one",
            Self::Rehearsal(_) | Self::Hours | Self::NoRehearsal => {
                "it takes Linux with user namespaces (or root), and the tools ip, nft and dnsmasq; \
                 `bastium rehearse --on-paper` goes through the same list without packets"
            }
            Self::NoTerminal => "`bastium matrix`, `check`, `ask` and `set` say and do the same",
            Self::NotLinux => "from one network at a time: bastium walk --run",
        }
    }
}
