//! What an interrupted run leaves behind: no partial file, and the terminal as it was.

use std::io::{self, IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, Once, PoisonError};

/// Files that are being written, and become something only when they are whole.
static UNFINISHED: Mutex<Vec<PathBuf>> = Mutex::new(Vec::new());

/// What is still to be done for others if the program is interrupted.
static LAST_WISH: Mutex<Option<Wish>> = Mutex::new(None);

/// Something to be done at the end.
type Wish = Box<dyn FnOnce() + Send>;

/// Remembers what is to be done if the program is interrupted before [`no_last_wish`].
#[cfg(unix)]
pub(crate) fn last_wish(wish: Wish) {
    watch();
    *LAST_WISH.lock().unwrap_or_else(PoisonError::into_inner) = Some(wish);
}

/// Does it now.
#[cfg(unix)]
pub(crate) fn last_wish_now() {
    if let Some(wish) = LAST_WISH.lock().unwrap_or_else(PoisonError::into_inner).take() {
        wish();
    }
}

/// Nothing is left to be done.
#[cfg(unix)]
pub(crate) fn no_last_wish() {
    LAST_WISH.lock().unwrap_or_else(PoisonError::into_inner).take();
}

/// Whether a Ctrl-C is meant for another program that has the terminal.
static LEFT_TO_OTHERS: AtomicBool = AtomicBool::new(false);

/// A file that is taken away if the program is interrupted before this is dropped.
pub(crate) struct Unfinished(PathBuf);

impl Unfinished {
    /// Makes a file and remembers it; an interruption meanwhile waits until it is remembered.
    ///
    /// # Errors
    /// When it cannot be made.
    pub(crate) fn make<F: AsRef<Path>>(
        file: impl FnOnce() -> io::Result<F>,
    ) -> io::Result<(F, Self)> {
        watch();
        unfinished(|files| {
            let file = file()?;
            let path = file.as_ref().to_owned();
            files.push(path.clone());
            Ok((file, Self(path)))
        })
    }
}

impl Drop for Unfinished {
    fn drop(&mut self) {
        unfinished(|files| files.retain(|path| *path != self.0));
    }
}

fn unfinished<R>(change: impl FnOnce(&mut Vec<PathBuf>) -> R) -> R {
    change(&mut UNFINISHED.lock().unwrap_or_else(PoisonError::into_inner))
}

/// Waits for an interruption from now on, in a thread of its own. The program then ends as if nobody had waited, so
/// that a shell sees what ended it.
pub(crate) fn watch() {
    static ONCE: Once = Once::new();
    ONCE.call_once(of_the_system::watch);
}

/// Says whether a Ctrl-C is meant for another program that has the terminal now, a pager, and is to be passed over here.
pub(crate) fn is_left_to_others(left: bool) {
    watch();
    LEFT_TO_OTHERS.store(left, Ordering::Relaxed);
}

/// Takes away what is not finished.
#[cfg(unix)]
fn clean_up() {
    wipe();
    if let Some(wish) = LAST_WISH.lock().unwrap_or_else(PoisonError::into_inner).take() {
        wish();
    }
    unfinished(|files| {
        for file in files.drain(..) {
            let _ = std::fs::remove_file(file);
        }
    });
}

#[cfg(unix)]
mod of_the_system {
    use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
    use signal_hook::iterator::Signals;
    use signal_hook::low_level::emulate_default_handler;
    use std::sync::atomic::Ordering;

    pub(super) fn watch() {
        // The parent process may have set the signal to be ignored.
        let heard = [SIGHUP, SIGINT, SIGTERM].into_iter().filter(|signal| !is_ignored(*signal));
        let Ok(mut signals) = Signals::new(heard) else { return };
        let wait = move || {
            let is_left = || super::LEFT_TO_OTHERS.load(Ordering::Relaxed);
            let meant = |signal: &i32| *signal != SIGINT || !is_left();
            if let Some(signal) = signals.forever().find(meant) {
                super::clean_up();
                let _ = emulate_default_handler(signal);
            }
        };
        // Without the thread an interruption ends the program all the same, and the next run cleans up.
        let _ = std::thread::Builder::new().name("interruptions".to_owned()).spawn(wait);
    }

    /// Whether the process was started with a signal ignored, as far as the system tells (Linux: proc(5)).
    fn is_ignored(signal: i32) -> bool {
        let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
        let ignored = status.lines().find_map(|line| line.strip_prefix("SigIgn:"));
        let mask = ignored.and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok());
        mask.is_some_and(|mask| mask >> (signal - 1) & 1 == 1)
    }
}

#[cfg(not(unix))]
mod of_the_system {
    pub(super) fn watch() {}
}

/// Takes away what is shown of progress at a terminal.
pub(crate) fn wipe() {
    if io::stderr().is_terminal() {
        let _ = io::stderr().write_all(b"\r\x1b[K");
    }
}
