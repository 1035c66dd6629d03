//! The whole screen, taken and given back: when the command ends, when it panics, and when it is ended by a signal.

use crate::interrupt;
use crossterm::cursor::Show;
use crossterm::event::{DisableMouseCapture, EnableMouseCapture};
use crossterm::execute;
use crossterm::terminal::{self, EnterAlternateScreen, LeaveAlternateScreen};
use ratatui::backend::CrosstermBackend;
use ratatui::{Frame, Terminal};
use std::io::{self, Stdout};
use std::panic;
use std::sync::Once;

/// The screen, as long as it is ours.
pub(super) struct Screen {
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
        interrupt::last_wish(Box::new(give_back));
        #[cfg(not(unix))]
        interrupt::watch();
        let taken = taken();
        if taken.is_err() {
            give_back();
        }
        taken
    }

    /// Draws a picture of what is to be there.
    ///
    /// # Errors
    /// When it cannot be written.
    pub(super) fn draw(&mut self, draw: impl FnOnce(&mut Frame<'_>)) -> io::Result<()> {
        self.terminal.draw(draw).map(drop)
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        #[cfg(unix)]
        interrupt::no_last_wish();
        give_back();
    }
}

fn taken() -> io::Result<Screen> {
    terminal::enable_raw_mode()?;
    execute!(io::stdout(), EnterAlternateScreen, EnableMouseCapture)?;
    Ok(Screen { terminal: Terminal::new(CrosstermBackend::new(io::stdout()))? })
}

/// Leaves the terminal as it was. Nothing more can be done where that fails.
fn give_back() {
    let _ = execute!(io::stdout(), DisableMouseCapture, LeaveAlternateScreen, Show);
    let _ = terminal::disable_raw_mode();
}

/// A panic is told on the terminal as it was, or nobody would read it.
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
