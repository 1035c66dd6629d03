//! `bastium new`

use crate::args::{Example, New};
use crate::failure::{Exit, Failure};
use crate::plans::{self, demo};
use crate::session::Session;
use std::path::Path;

pub(super) fn run(args: &New, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let text = match args.from {
        Example::Bare => demo::BARE,
        Example::Clinic => demo::CLINIC,
        Example::Farm => demo::FARM,
    };
    let text = match &args.name {
        Some(name) => named(text, name)?,
        None => text.to_owned(),
    };
    let path = session.options.plan.clone().unwrap_or_else(|| plans::DEFAULT_NAME.into());
    if path == Path::new("-") {
        session.print(&text)?;
        return Ok(Exit::Fine);
    }
    plans::write(&path, &text, args.force)?;
    session.remark(&format!("wrote {}", path.display()));
    let plan = if path == Path::new(plans::DEFAULT_NAME) {
        String::new()
    } else {
        format!(" --plan {}", path.display())
    };
    session.remark(&format!("next: change it to what you have, then `bastium check{plan}`"));
    Ok(Exit::Fine)
}

/// The plan with another name of the site.
fn named(text: &str, name: &str) -> Result<String, Failure> {
    if name.trim().is_empty() {
        return Err(Failure::Call {
            says: "the name of the site is empty".to_owned(),
            cure: "give it one, or leave it out".to_owned(),
        });
    }
    let line = text.lines().find(|line| line.starts_with("name = ")).unwrap_or_default();
    // A JSON string is a TOML basic string too, but for the one escape that JSON need not write.
    let quoted =
        serde_json::to_string(name).map_err(std::io::Error::from)?.replace('\u{7f}', "\\u007f");
    Ok(text.replacen(line, &format!("name = {quoted}"), 1))
}
