//! Long results at a terminal: through the pager that the user has chosen, as other command-line tools do.

use crate::interrupt;
use anstream::adapter::StripBytes;
use std::io::{self, Write};
use std::process::{Child, ChildStdin, Command, Stdio};

/// Where a result goes that may be longer than the screen. So much of it as the screen has room for is held back; the
/// pager is started with the line after that.
pub(crate) struct Paged {
    state: State,
    /// How many lines the screen has for a result, the prompt left aside.
    lines: usize,
    /// Takes colours out, where there shall be none.
    strip: Option<StripBytes>,
}

enum State {
    /// Nothing has been shown yet.
    Held(Vec<u8>),
    /// It is short, or there is no pager.
    Direct,
    /// The pager has it.
    Pager(Child, ChildStdin),
}

/// The command of the pager: `$PAGER`, else `less`. `None` where none is wanted.
fn pager() -> Option<Command> {
    let words = std::env::var("PAGER").unwrap_or_else(|_| "less".to_owned());
    let mut words = words.split_whitespace();
    let program = words.next().filter(|program| *program != "cat")?;
    let mut command = Command::new(program);
    command.args(words).stdin(Stdio::piped());
    if std::env::var_os("LESS").is_none() {
        // It ends by itself where one screen is enough, shows colours, and leaves what it showed.
        command.env("LESS", "FRX");
    }
    Some(command)
}

impl Paged {
    /// For a screen of so many rows.
    pub(crate) fn new(rows: u16, colour: bool) -> Self {
        let lines = usize::from(rows).saturating_sub(1).max(1);
        let strip = (!colour).then(StripBytes::new);
        Self { state: State::Held(Vec::new()), lines, strip }
    }

    fn pass_on(&mut self, bytes: &[u8]) -> io::Result<()> {
        match &mut self.state {
            State::Held(held) => {
                held.extend_from_slice(bytes);
                let is_long = held.iter().filter(|byte| **byte == b'\n').count() > self.lines;
                if is_long { self.start() } else { Ok(()) }
            }
            State::Direct => io::stdout().write_all(bytes),
            State::Pager(_, pipe) => pipe.write_all(bytes),
        }
    }

    /// Starts the pager with what is held back; without one, it is shown as it is.
    fn start(&mut self) -> io::Result<()> {
        let State::Held(held) = &mut self.state else { return Ok(()) };
        let held = std::mem::take(held);
        let started = pager().and_then(|mut command| command.spawn().ok());
        let with_input = started.and_then(|mut child| child.stdin.take().map(|pipe| (child, pipe)));
        match with_input {
            Some((child, mut pipe)) => {
                // From here on a Ctrl-C is meant for the pager.
                interrupt::is_left_to_others(true);
                let written = pipe.write_all(&held);
                self.state = State::Pager(child, pipe);
                written
            }
            None => {
                self.state = State::Direct;
                io::stdout().write_all(&held)
            }
        }
    }
}

impl Write for Paged {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self.strip.as_mut().map(|strip| strip.strip_next(bytes).collect::<Vec<_>>().concat())
        {
            Some(plain) => self.pass_on(&plain)?,
            None => self.pass_on(bytes)?,
        }
        Ok(bytes.len())
    }

    /// The user who asks for that wants to see what there is so far.
    fn flush(&mut self) -> io::Result<()> {
        match &mut self.state {
            State::Held(held) if held.is_empty() => Ok(()),
            State::Held(held) => {
                let held = std::mem::take(held);
                self.state = State::Direct;
                io::stdout().write_all(&held)?;
                io::stdout().flush()
            }
            State::Direct => io::stdout().flush(),
            State::Pager(_, pipe) => pipe.flush(),
        }
    }
}

impl Drop for Paged {
    /// Waits until the user has closed the pager.
    fn drop(&mut self) {
        let _ = self.flush();
        if let State::Pager(mut child, pipe) = std::mem::replace(&mut self.state, State::Direct) {
            drop(pipe);
            let _ = child.wait();
            interrupt::is_left_to_others(false);
        }
    }
}
