//! A line of input while it is typed.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// The line, and where the next character goes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Input {
    text: Vec<char>,
    at: usize,
}

/// How long a line may become: no question and no change is as long.
const LONGEST: usize = 500;

impl Input {
    /// A line that begins with that.
    pub(super) fn starting_with(text: &str) -> Self {
        let text: Vec<char> = text.chars().collect();
        Self { at: text.len(), text }
    }

    /// What is typed.
    pub(super) fn text(&self) -> String {
        self.text.iter().collect()
    }

    /// How many characters stand before the cursor.
    pub(super) fn cursor(&self) -> usize {
        self.at
    }

    /// Takes a key, and says whether it changed the text.
    pub(super) fn key(&mut self, key: KeyEvent) -> bool {
        let control = key.modifiers.contains(KeyModifiers::CONTROL);
        match key.code {
            KeyCode::Char('u') if control => {
                self.text.drain(..self.at);
                self.at = 0;
            }
            KeyCode::Char(c) if !control && !c.is_control() && self.text.len() < LONGEST => {
                self.text.insert(self.at, c);
                self.at += 1;
            }
            KeyCode::Backspace if self.at > 0 => {
                self.at -= 1;
                self.text.remove(self.at);
            }
            KeyCode::Delete if self.at < self.text.len() => {
                self.text.remove(self.at);
            }
            KeyCode::Left => return self.goes(self.at.saturating_sub(1)),
            KeyCode::Right => return self.goes((self.at + 1).min(self.text.len())),
            KeyCode::Home => return self.goes(0),
            KeyCode::End => return self.goes(self.text.len()),
            _ => return false,
        }
        true
    }

    fn goes(&mut self, to: usize) -> bool {
        self.at = to;
        false
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn typed(input: &mut Input, codes: &[KeyCode]) {
        for code in codes {
            input.key(KeyEvent::new(*code, KeyModifiers::NONE));
        }
    }

    #[test]
    fn keys_edit_the_line_where_the_cursor_is() {
        let mut input = Input::starting_with("aé");
        typed(&mut input, &[KeyCode::Left, KeyCode::Char('x'), KeyCode::End, KeyCode::Char('!')]);
        assert_eq!(input.text(), "axé!");
        typed(&mut input, &[KeyCode::Home, KeyCode::Delete, KeyCode::Backspace, KeyCode::Right]);
        assert_eq!((input.text().as_str(), input.cursor()), ("xé!", 1));
        input.key(KeyEvent::new(KeyCode::Char('u'), KeyModifiers::CONTROL));
        assert_eq!((input.text().as_str(), input.cursor()), ("é!", 0));
    }
}
