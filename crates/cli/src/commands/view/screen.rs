//! The whole screen, taken and given back: when the command ends, when it panics, when it is ended by a signal, and also
//! when nothing is left of it to give anything back ([`Guard`]).

use crate::interrupt;
use crossterm::cursor::Show;
use crossterm::event::{DisableMouseCapture, EnableMouseCapture};
use crossterm::terminal::{
    self, BeginSynchronizedUpdate, EndSynchronizedUpdate, EnterAlternateScreen,
    LeaveAlternateScreen,
};
use crossterm::{execute, queue};
use ratatui::backend::CrosstermBackend;
use ratatui::{Frame, Terminal};
#[cfg(unix)]
use std::io::Write;
use std::io::{self, Stdout};
#[cfg(unix)]
use std::os::fd::AsFd;
use std::panic;
#[cfg(unix)]
use std::process::{Child, Command, Stdio};
use std::sync::Once;

/// What the guard runs: it waits for a word, and if the pipe ends without one, the process that had the screen was killed. The
/// settings of the terminal are its argument; a process in the background may set them only while it ignores SIGTTOU.
#[cfg(unix)]
const GUARD: &str = r#"trap '' HUP INT QUIT TERM TTOU TTIN
read -r word || { stty "$1" <&2; printf '\033[?2026l\033[?1006l\033[?1015l\033[?1003l\033[?1002l\033[?1000l\033[?1049l\033[?25h' >&2; }"#;

/// The screen, as long as it is ours.
pub(super) struct Screen {
    #[cfg(unix)]
    guard: Option<Guard>,
    terminal: Terminal<CrosstermBackend<Stdout>>,
}

impl Screen {
    /// Takes it.
    ///
    /// # Errors
    /// When the terminal does not let itself be taken; it is as it was then.
    pub(super) fn take() -> io::Result<Self> {
        restored_on_panic();
        #[cfg(unix)]
        let guard = Guard::stand();
        #[cfg(unix)]
        interrupt::last_wish(Box::new(give_back));
        #[cfg(not(unix))]
        interrupt::watch();
        match taken() {
            Ok(terminal) => Ok(Self {
                #[cfg(unix)]
                guard,
                terminal,
            }),
            Err(error) => {
                give_back();
                Err(error)
            }
        }
    }

    /// Draws a picture of what is to be there. A terminal that knows synchronized updates (private mode 2026) shows it
    /// all at once, never the upper half of one and the lower half of another; the rest ignore the mode.
    ///
    /// # Errors
    /// When it cannot be written.
    pub(super) fn draw(&mut self, draw: impl FnOnce(&mut Frame<'_>)) -> io::Result<()> {
        queue!(io::stdout(), BeginSynchronizedUpdate)?;
        self.terminal.draw(draw)?;
        execute!(io::stdout(), EndSynchronizedUpdate)
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        #[cfg(unix)]
        interrupt::no_last_wish();
        give_back();
        #[cfg(unix)]
        if let Some(guard) = self.guard.take() {
            guard.dismiss();
        }
    }
}

/// A process that gives the terminal back when this one is killed in a way that it cannot notice (SIGKILL). There is none
/// where the machine has no `sh` or no `stty`.
#[cfg(unix)]
struct Guard(Child);

#[cfg(unix)]
impl Guard {
    fn stand() -> Option<Self> {
        let settings = Command::new("stty").arg("-g").stdin(Stdio::inherit()).output().ok()?;
        let settings = String::from_utf8(settings.stdout).ok().filter(|text| !text.is_empty())?;
        let terminal = std::io::stdout().as_fd().try_clone_to_owned().ok()?;
        let guard = Command::new("sh")
            .args(["-c", GUARD, "sh", settings.trim()])
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(terminal)
            .spawn();
        guard.ok().map(Self)
    }

    /// Tells it that all went well, and waits until it is gone.
    fn dismiss(mut self) {
        if let Some(mut pipe) = self.0.stdin.take() {
            let _ = pipe.write_all(b"done\n");
        }
        let _ = self.0.wait();
    }
}

fn taken() -> io::Result<Terminal<CrosstermBackend<Stdout>>> {
    terminal::enable_raw_mode()?;
    execute!(io::stdout(), EnterAlternateScreen, EnableMouseCapture)?;
    Terminal::new(CrosstermBackend::new(io::stdout()))
}

/// Leaves the terminal as it was. Nothing more can be done where that fails.
fn give_back() {
    let _ = execute!(
        io::stdout(),
        EndSynchronizedUpdate,
        DisableMouseCapture,
        LeaveAlternateScreen,
        Show
    );
    let _ = terminal::disable_raw_mode();
}

/// A panic is reported on the terminal as it was, or nobody would read it.
fn restored_on_panic() {
    static ONCE: Once = Once::new();
    ONCE.call_once(|| {
        let before = panic::take_hook();
        panic::set_hook(Box::new(move |info| {
            give_back();
            before(info);
        }));
    });
}
