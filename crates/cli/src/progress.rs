//! Progress, for a person at a terminal who waits for longer than a moment.

use crate::interrupt;
use std::io::{self, IsTerminal, Write};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// Nothing is shown of work that takes less.
const PATIENCE: Duration = Duration::from_secs(1);
/// How often what is shown is brought up to date.
const BEAT: Duration = Duration::from_millis(250);

/// Shows what is being done, on standard error, until something else is written.
pub(crate) struct Progress {
    shared: Arc<Shared>,
}

struct Shared {
    work: Mutex<Work>,
    changed: Condvar,
}

struct Work {
    /// What is being done.
    what: Option<&'static str>,
    since: Instant,
    /// How much of it is done, of how much.
    done: Option<(usize, usize)>,
    is_drawn: bool,
    over: bool,
}

impl Shared {
    fn work(&self) -> MutexGuard<'_, Work> {
        self.work.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Progress {
    /// Progress for a person; `None` where nobody sees it.
    pub(crate) fn for_terminal(quiet: bool) -> Option<Self> {
        if quiet || !io::stderr().is_terminal() {
            return None;
        }
        let work =
            Work { what: None, since: Instant::now(), done: None, is_drawn: false, over: false };
        Some(Self { shared: Arc::new(Shared { work: Mutex::new(work), changed: Condvar::new() }) })
    }

    /// Something is begun.
    pub(crate) fn begin(&self, what: &'static str) {
        let mut work = self.shared.work();
        let first = Arc::strong_count(&self.shared) == 1;
        (work.what, work.since, work.done) = (Some(what), Instant::now(), None);
        drop(work);
        if first {
            interrupt::watch();
            let shared = Arc::clone(&self.shared);
            // Where there is no thread to be had nothing is shown.
            let _ = std::thread::Builder::new()
                .name("progress".to_owned())
                .spawn(move || keep_showing(&shared));
        }
        self.shared.changed.notify_one();
    }

    /// So much of it is done.
    pub(crate) fn done(&self, done: usize, all: usize) {
        self.shared.work().done = Some((done, all));
    }

    /// It is done with, or something else is written: what is shown goes away.
    pub(crate) fn end(&self) {
        let mut work = self.shared.work();
        work.what = None;
        if std::mem::take(&mut work.is_drawn) {
            interrupt::wipe();
        }
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        self.end();
        self.shared.work().over = true;
        self.shared.changed.notify_one();
    }
}

fn keep_showing(shared: &Shared) {
    let mut work = shared.work();
    while !work.over {
        let waited = work.since.elapsed();
        if let Some(what) = work.what.filter(|_| waited >= PATIENCE) {
            let how_far = match work.done {
                Some((done, all)) => format!("{done} of {all}, "),
                None => String::new(),
            };
            let line = format!("\r{what}: {how_far}{} s\x1b[K", waited.as_secs());
            work.is_drawn = io::stderr().write_all(line.as_bytes()).is_ok();
        }
        let waited = match work.what {
            Some(_) => shared.changed.wait_timeout(work, BEAT).map(|(work, _)| work).ok(),
            None => shared.changed.wait(work).ok(),
        };
        // The thread that held the lock last has failed, and the program ends.
        let Some(next) = waited else { return };
        work = next;
    }
}
