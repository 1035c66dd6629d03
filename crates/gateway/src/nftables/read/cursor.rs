//! A cursor over the tokens of a text.

use super::lexer::{Placed, Token};
use super::ruleset::{Key, Verdict};
use super::values::Raw;

/// A place in a text.
#[derive(Clone, Copy, Debug)]
pub(super) struct Cursor<'t> {
    tokens: &'t [Placed],
    pub(super) at: usize,
}

impl<'t> Cursor<'t> {
    pub(super) fn new(tokens: &'t [Placed]) -> Self {
        Self { tokens, at: 0 }
    }

    pub(super) fn peek(&self) -> Option<&'t Token> {
        self.tokens.get(self.at).map(|placed| &placed.token)
    }

    /// The line, counted from 1.
    pub(super) fn line(&self) -> usize {
        let last = self.tokens.len().saturating_sub(1);
        self.tokens.get(self.at.min(last)).map_or(1, |placed| placed.line)
    }

    pub(super) fn next(&mut self) -> Option<&'t Token> {
        let token = self.peek()?;
        self.at += 1;
        Some(token)
    }

    /// The next word, or what stands in quotes.
    pub(super) fn word(&mut self) -> Option<String> {
        let (Token::Word(word) | Token::Quoted(word)) = self.peek()? else { return None };
        self.at += 1;
        Some(word.clone())
    }

    pub(super) fn sees(&self, word: &str) -> bool {
        matches!(self.peek(), Some(Token::Word(own)) if own == word)
    }

    pub(super) fn takes(&mut self, word: &str) -> bool {
        let sees = self.sees(word);
        self.at += usize::from(sees);
        sees
    }

    pub(super) fn sees_sign(&self, sign: char) -> bool {
        self.peek() == Some(&Token::Sign(sign))
    }

    pub(super) fn takes_sign(&mut self, sign: char) -> bool {
        let sees = self.sees_sign(sign);
        self.at += usize::from(sees);
        sees
    }

    pub(super) fn is_done(&self) -> bool {
        self.peek().is_none()
    }

    /// Whether a command or a rule ends here.
    pub(super) fn at_end(&self) -> bool {
        matches!(self.peek(), None | Some(Token::NewLine | Token::Sign(';' | '}')))
    }

    pub(super) fn skip_ends(&mut self) {
        while matches!(self.peek(), Some(Token::NewLine | Token::Sign(';'))) {
            self.at += 1;
        }
    }

    pub(super) fn skip_lines(&mut self) {
        while self.peek() == Some(&Token::NewLine) {
            self.at += 1;
        }
    }

    pub(super) fn skip_line(&mut self) {
        while !self.at_end() {
            self.at += 1;
        }
    }

    /// Skips what stands in braces.
    pub(super) fn skip_block(&mut self) -> Result<(), &'static str> {
        let mut depth = 0usize;
        loop {
            match self.next() {
                Some(Token::Sign('{')) => depth += 1,
                Some(Token::Sign('}')) if depth == 1 => return Ok(()),
                Some(Token::Sign('}')) if depth == 0 => return Err("a stray `}`"),
                Some(Token::Sign('}')) => depth -= 1,
                Some(_) => {}
                None => return Err("a block that is not closed"),
            }
        }
    }

    /// A value as it is written, for what is looked at.
    pub(super) fn raw(&mut self, key: Key) -> Option<Raw> {
        let (word, quoted) = match self.next()? {
            Token::Word(word) => (word.clone(), false),
            Token::Quoted(word) => (word.clone(), true),
            _ => return None,
        };
        if quoted && self.takes("-") {
            return Some(Raw::Span(word, self.word()?));
        }
        let named = matches!(key, Key::Interface(_));
        // `iif 7` is the seventh interface of the kernel's, whatever its name; a name of digits stands in quotes.
        if named && !quoted && word.bytes().all(|byte| byte.is_ascii_digit()) {
            return None;
        }
        let whole = quoted || named;
        Some(if whole { Raw::One(word) } else { Raw::of(&word) })
    }

    /// A verdict that a rule or a map can give.
    pub(super) fn verdict(&mut self) -> Option<Verdict> {
        let word = self.word()?;
        Some(match word.as_str() {
            "accept" => Verdict::Accept,
            "drop" => Verdict::Drop,
            "return" => Verdict::Return,
            "jump" => Verdict::Jump(self.word()?),
            "goto" => Verdict::Goto(self.word()?),
            _ => return None,
        })
    }

    /// What stands from one place up to here, in few words.
    pub(super) fn shown_from(&self, from: usize) -> String {
        let mut words = String::new();
        for placed in self.tokens[from..self.at.min(self.tokens.len())].iter().take(24) {
            if !words.is_empty() {
                words.push(' ');
            }
            match &placed.token {
                Token::Word(word) => words.push_str(word),
                Token::Quoted(word) => {
                    words.push('"');
                    words.push_str(word);
                    words.push('"');
                }
                Token::Sign(sign) => words.push(*sign),
                Token::NewLine => {}
            }
        }
        words
    }
}
