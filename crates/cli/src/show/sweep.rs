//! The results of a sweep, on a terminal.

use super::style;
use anstyle::Style;
use bastium_report::count;
use bastium_report::sheets::SweepPart;

/// What came of a sweep, a line each.
pub(crate) fn lines(sweep: &SweepPart) -> Vec<(Style, String)> {
    let mut lines = Vec::new();
    let tried = count(sweep.tried, "conversation");
    lines.push((style::PLAIN, format!("sweep: {tried} tried, {} as planned", sweep.as_planned)));
    for row in &sweep.surprises {
        let mood = if row.opens { style::BAD } else { style::WARN };
        lines.push((mood, row.says()));
        lines.push((style::PLAIN, format!("- {}", row.against())));
        lines.push((style::FAINT, format!("- {}", row.example())));
    }
    for one in &sweep.not_shown {
        lines.push((style::FAINT, format!("- {} show nothing: {}", one.count, one.why)));
    }
    for one in &sweep.not_tried {
        lines.push((style::FAINT, format!("- {} not tried: {}", one.count, one.why)));
    }
    lines
}
