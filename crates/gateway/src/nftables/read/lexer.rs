//! Splits the text that `nft` takes and prints into words, strings and signs.

use std::ops::Range;

/// A piece of text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Token {
    Word(String),
    /// What stood in quotes.
    Quoted(String),
    /// One of `{ } ( ) , ; = ! < > & |`.
    Sign(char),
    NewLine,
}

/// A piece of text with the line it stands on, counted from 1.
#[derive(Clone, Debug)]
pub(super) struct Placed {
    pub(super) token: Token,
    pub(super) line: usize,
    /// Where it stands in the text, in bytes.
    pub(super) span: Range<usize>,
}

/// Cuts a text into its pieces. Remarks are left out.
///
/// # Errors
/// The line in which a string is not closed, or in which a letter stands that is no text.
pub(super) fn tokens(text: &str) -> Result<Vec<Placed>, (usize, &'static str)> {
    let mut found = Vec::new();
    let place = |part: &str| part.as_ptr() as usize - text.as_ptr() as usize;
    for (number, line) in text.split('\n').enumerate() {
        let line_number = number + 1;
        let mut rest = line.strip_suffix('\r').unwrap_or(line);
        let mut goes_on = false;
        loop {
            rest = rest.trim_start_matches([' ', '\t']);
            let Some(first) = rest.chars().next() else { break };
            let start = place(rest);
            let token = match first {
                '#' => break,
                '\\' if rest.len() == 1 => {
                    goes_on = true;
                    break;
                }
                '"' => {
                    let Some((inner, after)) = rest[1..].split_once('"') else {
                        return Err((line_number, "a string that is not closed"));
                    };
                    rest = after;
                    Token::Quoted(inner.to_owned())
                }
                sign if is_sign(sign) => {
                    rest = &rest[1..];
                    Token::Sign(sign)
                }
                control if control.is_control() => {
                    return Err((line_number, "a control character"));
                }
                _ => {
                    let ends = |c: char| c.is_whitespace() || is_sign(c) || c == '"';
                    let end = rest.find(ends).unwrap_or(rest.len());
                    if end == 0 {
                        return Err((line_number, "a blank that is none of nft's"));
                    }
                    let (word, after) = rest.split_at(end);
                    rest = after;
                    Token::Word(word.to_owned())
                }
            };
            found.push(Placed { token, line: line_number, span: start..place(rest) });
        }
        if !goes_on {
            let end = place(rest);
            found.push(Placed { token: Token::NewLine, line: line_number, span: end..end });
        }
    }
    Ok(found)
}

fn is_sign(letter: char) -> bool {
    "{}(),;=!<>&|".contains(letter)
}
