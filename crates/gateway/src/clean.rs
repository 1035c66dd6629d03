//! Makes text from a plan safe to display.

use std::fmt::Write as _;

use std::borrow::Cow;

/// Writes control characters, and those that change the direction of text or hide it, as `\u{…}`. A
/// name or remark out of a file can then neither move the cursor nor show something else than it is.
pub fn clean(text: &str) -> Cow<'_, str> {
    if !text.contains(is_hostile) {
        return Cow::Borrowed(text);
    }
    let mut safe = String::with_capacity(text.len() + 16);
    for c in text.chars() {
        if is_hostile(c) {
            safe.extend(c.escape_unicode());
        } else {
            safe.push(c);
        }
    }
    Cow::Owned(safe)
}

/// A word as a person can type it in a shell.
pub fn shell_word(text: &str) -> String {
    let text = clean(text);
    // Only a zero byte cannot be typed, and that is no longer there.
    shlex::try_quote(&text).map_or_else(|_| text.to_string(), Cow::into_owned)
}

/// How much of a text stands in a remark, in bytes: well below the shortest line that the readers of our files take,
/// which is dnsmasq's with 1,024 bytes (`MAXDNAME` in its `dns-protocol.h`).
const LONGEST_REMARK: usize = 200;

/// Text of a plan as a remark of a file: on one line that no reader takes for two, and bounded.
pub(crate) fn remark(text: &str) -> String {
    let line = clean(text);
    match line.char_indices().find(|(at, c)| at + c.len_utf8() > LONGEST_REMARK) {
        Some((at, _)) => format!("{}...", &line[..at]),
        None => line.into_owned(),
    }
}

fn is_hostile(c: char) -> bool {
    // Noncharacters (Unicode 23.7) are no text; XML forbids two of them.
    let nobody = (c as u32) & 0xfffe == 0xfffe || matches!(c, '\u{fdd0}'..='\u{fdef}');
    nobody
        || c.is_control()
        || matches!(c,
            '\u{00ad}' | '\u{061c}' | '\u{180e}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}'
            | '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e007f}')
}

/// Writes hidden characters of a JSON text as `\uXXXX`, which is the same to every JSON reader. They
/// can only stand inside its strings.
pub fn escape_hidden(json: &str) -> String {
    let mut text = String::with_capacity(json.len());
    for c in json.chars() {
        let single = c.encode_utf8(&mut [0; 4]).to_owned();
        if c == '\n' || clean(&single) == single {
            text.push(c);
            continue;
        }
        for unit in c.encode_utf16(&mut [0; 2]) {
            let _ = write!(text, "\\u{unit:04x}");
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_for_a_shell_come_back_as_one_word() {
        for text in ["desks", "staff - reception", "it's", "$HOME `x`", "a\u{1b}b", ""] {
            let typed = shell_word(text);
            assert_eq!(shlex::split(&typed), Some(vec![clean(text).into_owned()]), "{typed}");
        }
        assert_eq!(shell_word("10.44.24.50"), "10.44.24.50");
    }

    #[test]
    fn control_characters_and_turned_text_are_spelt_out() {
        assert_eq!(clean("plain, ümlaut, 日本"), "plain, ümlaut, 日本");
        assert_eq!(clean("a\u{1b}[31mb"), "a\\u{1b}[31mb");
        assert_eq!(clean("a\nb\tc"), "a\\u{a}b\\u{9}c");
        assert_eq!(clean("\u{202e}desrever"), "\\u{202e}desrever");
        assert_eq!(clean("\u{9b}2J"), "\\u{9b}2J");
        assert_eq!(
            clean("\u{fffe}\u{1ffff}\u{fdd0}\u{fffd}"),
            "\\u{fffe}\\u{1ffff}\\u{fdd0}\u{fffd}"
        );
    }

    #[test]
    fn remarks_are_of_one_line_and_bounded() {
        for length in [0, 1, 150, 198, 199, 200, 201, 202, 300, 40_000] {
            for text in ["x", "ä", "日", "\n", "\u{2028}"] {
                let remark = remark(&text.repeat(length));
                assert!(remark.len() <= LONGEST_REMARK + 3 && remark.lines().count() <= 1);
            }
        }
    }
}
