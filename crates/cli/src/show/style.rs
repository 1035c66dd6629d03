//! Colours and weights. What they carry is always said in words as well.

use anstyle::{AnsiColor, Style};

/// An error.
pub const ERROR: Style = AnsiColor::Red.on_default().bold();
/// Allowed.
pub const GOOD: Style = AnsiColor::Green.on_default();
/// Denied.
pub const BAD: Style = AnsiColor::Red.on_default();
/// To be looked at.
pub const WARN: Style = AnsiColor::Yellow.on_default();
/// Of less weight.
pub const FAINT: Style = Style::new().dimmed();
/// Of more weight.
pub const STRONG: Style = Style::new().bold();

/// A text in a style.
pub fn in_style(style: Style, text: &str) -> String {
    format!("{style}{text}{style:#}")
}
