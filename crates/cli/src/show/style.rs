//! Colours and weights. What they convey is always said in words as well.

use anstyle::{AnsiColor, Style};

/// An error.
pub(crate) const ERROR: Style = AnsiColor::Red.on_default().bold();
/// Allowed.
pub(crate) const GOOD: Style = AnsiColor::Green.on_default();
/// Denied.
pub(crate) const BAD: Style = AnsiColor::Red.on_default();
/// To be looked at.
pub(crate) const WARN: Style = AnsiColor::Yellow.on_default();
/// Of less weight.
pub(crate) const FAINT: Style = Style::new().dimmed();
/// Of more weight.
pub(crate) const STRONG: Style = Style::new().bold();

/// Nothing in particular.
pub(crate) const PLAIN: Style = Style::new();

/// A text in a style.
pub(crate) fn in_style(style: Style, text: &str) -> String {
    format!("{style}{text}{style:#}")
}
