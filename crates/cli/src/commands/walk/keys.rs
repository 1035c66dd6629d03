//! One key at a time from a terminal; one line at a time from anything else.

use crate::failure::Failure;
use crossterm::event::{self, Event, KeyCode, KeyEventKind, KeyModifiers};
use crossterm::terminal;
use std::io::{self, BufRead, IsTerminal};

/// What the person wants.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Key {
    /// It went as expected.
    Pass,
    /// It did not.
    Fail,
    /// Leave it out.
    Skip,
    /// Remember something.
    Note,
    /// Go back to the one before.
    Back,
    /// Stop here.
    Quit,
    /// No key of these.
    Other,
}

impl Key {
    fn of(c: char) -> Self {
        match c.to_ascii_lowercase() {
            'p' | '+' => Self::Pass,
            'f' | '-' => Self::Fail,
            's' => Self::Skip,
            'n' => Self::Note,
            'b' => Self::Back,
            'q' => Self::Quit,
            _ => Self::Other,
        }
    }
}

/// Waits for a key. The end of the input is the wish to stop. A line may carry more than its key: `n loose
/// cable`, which is then given as well.
///
/// # Errors
/// When the input cannot be read.
pub(super) fn next() -> Result<(Key, Option<String>), Failure> {
    if io::stdin().is_terminal() {
        let raw = Raw::begin()?;
        let key = from_terminal()?;
        drop(raw);
        return Ok((key, None));
    }
    let mut line = String::new();
    if io::stdin().lock().read_line(&mut line)? == 0 {
        return Ok((Key::Quit, None));
    }
    let line = line.trim();
    let Some(first) = line.chars().next() else { return Ok((Key::Other, None)) };
    let rest = line[first.len_utf8()..].trim();
    Ok((Key::of(first), (!rest.is_empty()).then(|| rest.to_owned())))
}

/// Reads a line of text.
///
/// # Errors
/// When the input cannot be read.
pub(super) fn line() -> Result<String, Failure> {
    let mut line = String::new();
    io::stdin().lock().read_line(&mut line)?;
    Ok(line.trim().to_owned())
}

/// A terminal that gives keys as they are pressed, until this goes away.
struct Raw;

impl Raw {
    fn begin() -> io::Result<Self> {
        terminal::enable_raw_mode()?;
        Ok(Self)
    }
}

impl Drop for Raw {
    fn drop(&mut self) {
        // Where the terminal is gone, nothing is left to set right.
        let _ = terminal::disable_raw_mode();
    }
}

fn from_terminal() -> io::Result<Key> {
    loop {
        let Event::Key(key) = event::read()? else { continue };
        if key.kind == KeyEventKind::Release {
            continue;
        }
        let control = key.modifiers.contains(KeyModifiers::CONTROL);
        return Ok(match key.code {
            KeyCode::Char('c' | 'd') if control => Key::Quit,
            KeyCode::Char(c) => Key::of(c),
            KeyCode::Left | KeyCode::Up | KeyCode::Backspace => Key::Back,

            KeyCode::Esc => Key::Quit,
            _ => Key::Other,
        });
    }
}
