//! The report on a plan that was changed: what the edit opens and closes.

use crate::failure::Failure;
use crate::plans;
use crate::session::Session;
use crate::show::{self, style};
use bastium_gateway::clean;
use bastium_report::sheets::{ChangeSheet, CompareSheet};

/// Shows what a change did. A plan from standard input goes, changed, to standard output.
pub(super) fn report(
    changed: &plans::Changed,
    traffic: Option<CompareSheet>,
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    let plans::Changed { name, old, new, written, piped, fresh } = changed;
    for finding in fresh {
        let (severity, says) = (finding.severity.word(), &finding.says);
        session.remark(&format!("new for `check`, {severity} [{}]: {says}", finding.name));
    }
    if *piped {
        return session.print(new);
    }
    let sheet = ChangeSheet { traffic, ..ChangeSheet::new(name, old, new, *written) };
    if show::for_programs(session, &sheet, || sheet.tables(), "change")? {
        return Ok(());
    }
    let digits = sheet.lines.iter().map(|line| line.line).max().unwrap_or(0).to_string().len();
    for line in &sheet.lines {
        let style = if line.sign == "+" { style::GOOD } else { style::BAD };
        let text = format!("{} {:>digits$}  {}", line.sign, line.line, clean(&line.text));
        session.print(&format!("{}\n", style::in_style(style, text.trim_end())))?;
    }
    session.remark(&match (sheet.lines.is_empty(), *written) {
        (true, _) => format!("{name} already says so"),
        (false, true) => format!("wrote {name}"),
        (false, false) => format!("dry run: {name} was not changed"),
    });
    Ok(())
}
