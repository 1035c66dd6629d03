//! Line endings and byte order mark: an edit preserves both.

use similar::{DiffTag, TextDiff};

/// The mark that some programs put at the start of a text (RFC 3629, section 6).
const MARK: char = '\u{feff}';

/// A text without the mark, each line ending in a line feed alone.
pub(super) fn plain(text: &str) -> String {
    text.strip_prefix(MARK).unwrap_or(text).replace("\r\n", "\n")
}

/// An edited plain text with the mark and the line ends that the old one had. Lines that are new end as most of
/// the old ones do.
pub(super) fn restored(old: &str, edited: &str) -> String {
    let (mark, body) = match old.strip_prefix(MARK) {
        Some(body) => ("\u{feff}", body),
        None => ("", old),
    };
    if !body.contains("\r\n") {
        return format!("{mark}{edited}");
    }
    let before: Vec<&str> = body.split_inclusive('\n').collect();
    let after: Vec<&str> = edited.split_inclusive('\n').collect();
    let plain: Vec<String> = before.iter().map(|line| line.replace("\r\n", "\n")).collect();
    let plain: Vec<&str> = plain.iter().map(String::as_str).collect();
    let returns = before.iter().filter(|line| line.ends_with("\r\n")).count();
    let mostly = if returns * 2 >= before.len() { "\r\n" } else { "\n" };
    let mut text = mark.to_owned();
    for change in TextDiff::from_slices(&plain, &after).ops() {
        if change.tag() == DiffTag::Equal {
            text.extend(before[change.old_range()].iter().copied());
            continue;
        }
        for line in &after[change.new_range()] {
            match line.strip_suffix('\n') {
                Some(line) => text.extend([line, mostly]),
                None => text.push_str(line),
            }
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_edited_stays_as_it_is() {
        for text in ["", "a\n", "a\r\nb\r\n", "\u{feff}a\r\nb\nc", "\u{feff}", "a\nb\r\n\r\n"] {
            assert_eq!(restored(text, &plain(text)), text, "{text:?}");
        }
    }

    #[test]
    fn new_lines_end_as_most_do() {
        assert_eq!(restored("a\r\nb\r\n", "a\nx\nb\n"), "a\r\nx\r\nb\r\n");
        assert_eq!(restored("a\nb\nc\r\n", "a\nb\nc\nx\n"), "a\nb\nc\r\nx\n");
        assert_eq!(restored("\u{feff}a\r\nb", "a\nx"), "\u{feff}a\r\nx");
        assert_eq!(restored("a\r\nb\r\n", "b\n"), "b\r\n");
    }
}
