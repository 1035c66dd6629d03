//! `bastium new`: a commented plan to start from.

use crate::args::{Example, New};
use crate::failure::{Exit, Failure, Malformed, Meaningless};
use crate::files;
use crate::plans::{self, demo};
use crate::session::Session;
use std::io::{self, BufRead, IsTerminal};
use std::net::Ipv4Addr;
use std::path::Path;

/// The first two numbers of the addresses in the bare plan.
const OWN: &str = "10.44.";

pub(super) fn run(args: &New, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let path = session.options.plan.clone().unwrap_or_else(|| plans::DEFAULT_NAME.into());
    if path.exists() && !args.force && path != Path::new("-") {
        return Err(Failure::Exists { path });
    }
    let nothing_said = args.name.is_none() && args.from.is_none() && args.space.is_none();
    let person = io::stdin().is_terminal() && io::stdout().is_terminal() && !session.options.quiet;
    let args = if nothing_said && person { ask(args, session)? } else { args.clone() };
    let text = text(&args)?;
    if path == Path::new("-") {
        session.print(&text)?;
        return Ok(Exit::Fine);
    }
    files::put(&path, &text, args.force, session)?;
    session.remark(&format!("wrote {}", path.display()));
    let plan = if path == Path::new(plans::DEFAULT_NAME) {
        String::new()
    } else {
        format!(" --plan {}", path.display())
    };
    session.remark(&format!("next: adapt it to your site, then run `bastium check{plan}`"));
    Ok(Exit::Fine)
}

/// Tells editors what the keys are, once `bastium schema > bastium.schema.json` has been run beside the plan.
const SCHEMA_LINE: &str = "#:schema ./bastium.schema.json\n";

/// The plan that is asked for.
fn text(args: &New) -> Result<String, Failure> {
    let example = args.from.unwrap_or_default();
    let text = match example {
        Example::Bare => demo::BARE,
        Example::Clinic => demo::CLINIC,
        Example::Farm => demo::FARM,
    };
    let text = match &args.name {
        Some(name) => named(text, name)?,
        None => text.to_owned(),
    };
    let text = format!("{SCHEMA_LINE}{text}");
    match &args.space {
        None => Ok(text),
        Some(_) if example != Example::Bare => Err(Meaningless::Space.into()),
        Some(space) => Ok(text.replace(OWN, &beginning(space)?)),
    }
}

/// Asks a person for what was not said. An empty answer takes what stands in brackets.
fn ask(args: &New, session: &mut Session<'_>) -> Result<New, Failure> {
    let mut args = args.clone();
    session.say("A new plan. Press Enter to accept the value in brackets.\n");
    let name = question("name of the site", "Two networks", session)?;
    args.name = name.filter(|name| !name.is_empty());
    args.from = loop {
        match question("begin with bare, clinic or farm", "bare", session)?.as_deref() {
            None | Some("" | "bare") => break Some(Example::Bare),
            Some("clinic") => break Some(Example::Clinic),
            Some("farm") => break Some(Example::Farm),
            Some(other) => {
                session.say(&format!("`{}` is none of them\n", bastium_gateway::clean(other)))
            }
        }
    };
    if args.from == Some(Example::Bare) {
        args.space = loop {
            match question("private /16 for its subnets", "10.44.0.0/16", session)? {
                None => break None,
                Some(space) if space.is_empty() => break None,
                Some(space) => match beginning(&space) {
                    Ok(_) => break Some(space),
                    Err(failure) => session.say(&format!("{}\n", failure)),
                },
            }
        };
    }
    Ok(args)
}

/// One answer; none where the input has ended.
fn question(
    what: &str,
    otherwise: &str,
    session: &mut Session<'_>,
) -> Result<Option<String>, Failure> {
    session.say(&format!("{what} [{otherwise}]: "));
    let mut answer = String::new();
    let read = io::stdin().lock().read_line(&mut answer)?;
    Ok((read > 0).then(|| answer.trim().to_owned()))
}

/// `10.61.` of `10.61.0.0/16`.
fn beginning(space: &str) -> Result<String, Failure> {
    let network = space.strip_suffix("/16").and_then(|network| network.parse::<Ipv4Addr>().ok());
    match network.map(|network| (network.is_private(), network.octets())) {
        Some((true, [a, b, 0, 0])) => Ok(format!("{a}.{b}.")),
        _ => Err(Malformed::Space(space.to_owned()).into()),
    }
}

/// The plan with another name of the site.
fn named(text: &str, name: &str) -> Result<String, Failure> {
    if name.trim().is_empty() {
        return Err(Malformed::SiteName.into());
    }
    let line = text.lines().find(|line| line.starts_with("name = ")).unwrap_or_default();
    // A JSON string is a TOML basic string too, but for the one escape that JSON need not write.
    let quoted =
        serde_json::to_string(name).map_err(std::io::Error::from)?.replace('\u{7f}', "\\u007f");
    Ok(text.replacen(line, &format!("name = {quoted}"), 1))
}
