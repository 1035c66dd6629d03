//! `bastium rehearse`: the checklist against a copy of the site in the Linux kernel.

use super::running::differs;
use crate::args::Rehearse;
use crate::failure::{CallProblem, Exit, Failure, MachineProblem};
use crate::plans;
use crate::session::{self, Session};
use crate::show::{self, style};
use bastium_core::checklist::{self, Checklist};
use bastium_core::meaning::Meaning;
use bastium_core::plan::Form;
use bastium_core::rules::RuleSet;
use bastium_core::space::Minute;
use bastium_gateway::nftables::{self, NftOptions};
use bastium_report::sheets::{HitRow, RehearsalFrame, RehearsalSheet, SweepPart, TriedRow};
use bastium_report::{count, either};
use bastium_testbed::probe::Seen;
use bastium_testbed::rehearse::{self, Report, Tried, Wrong};
use std::error::Error;
use std::time::Duration;

pub(super) fn run(args: &Rehearse, session: &mut Session<'_>) -> Result<Exit, Failure> {
    if !args.on_paper
        && let Some(exit) = inside()?
    {
        return Ok(exit);
    }
    let plan = session.plan()?;
    let meaning = session::meaning(&plan, args.day.day)?;
    let rules = session::in_form(&meaning, Form::PerPair)?;
    let list = checklist::build(&meaning, session::proved(&meaning, &rules)?);
    let given = match &args.rules {
        Some(path) => {
            let text = plans::read_whole(path)?;
            Some(String::from_utf8_lossy(&text).into_owned())
        }
        None => None,
    };
    let report = match args.on_paper {
        true => rehearse::on_paper(&meaning, &rules, &list),
        false => in_kernel(given.as_deref(), &meaning, &rules, &list, session)?,
    };
    // Packets show what is tried; a line too many is found on paper.
    let differs = given.as_deref().map(|text| differs(&meaning, text)).unwrap_or_default();
    let sheet = sheet(&meaning, &report, args.on_paper, differs);
    let sheet = sheet.swept(match args.sweep {
        true => Some(sweep(given.as_deref(), &meaning, &rules, session)?),
        false => None,
    });
    if !show::for_programs(session, &sheet, || sheet.tables(), "part")? {
        print(&sheet, args.all, session)?;
    }
    Ok(if sheet.agrees { Exit::Fine } else { Exit::No })
}

/// Runs this command again in namespaces of its own. `None` once this process is inside; else how it ended.
#[cfg(target_os = "linux")]
fn inside() -> Result<Option<Exit>, Failure> {
    use bastium_testbed::kernel::space::{Entered, enter};
    match enter() {
        Ok(Entered::Inside) => Ok(None),
        Ok(Entered::Outside(status)) => Ok(Some(match status.code() {
            Some(0) => Exit::Fine,
            Some(1) => Exit::No,
            Some(2) => Exit::Wrong,
            _ => Exit::Unable,
        })),
        Err(why) => Err(unable(why)),
    }
}

#[cfg(not(target_os = "linux"))]
fn inside() -> Result<Option<Exit>, Failure> {
    Err(MachineProblem::NoRehearsal.into())
}

fn unable(why: impl Error + Send + Sync + 'static) -> Failure {
    MachineProblem::Rehearsal(why.into()).into()
}

#[cfg(target_os = "linux")]
fn in_kernel(
    given: Option<&str>,
    meaning: &Meaning<'_>,
    rules: &RuleSet,
    list: &Checklist,
    session: &mut Session<'_>,
) -> Result<Report, Failure> {
    use bastium_testbed::kernel::filter::FilterError;
    use bastium_testbed::rehearse::{Inputs, Unrehearsed, in_kernel};
    use bastium_testbed::site::Undone;
    // What cannot be written is said before anything is built.
    let written = super::export::nftables(meaning, rules, NftOptions::default())?;
    let at_hours = |at: Minute| at_minute(given, meaning, rules, at);
    let served = super::export::names_and_leases(meaning)?;
    let tags = nftables::tags(rules).into_iter();
    let inputs = Inputs {
        rules: given.unwrap_or(written.text()),
        rules_at: &at_hours,
        names_and_leases: &served,
        ids: tags.map(|(tag, rule)| (tag, rule.id.to_string())).collect(),
    };
    session.doing("rehearsing");
    let reported = |done, all| session.progress(done, all);
    let report = in_kernel(meaning, rules, list, &inputs, reported);
    session.progress_ends();
    report.map_err(|why| match why {
        Unrehearsed::Site(Undone::Filter(error @ FilterError::Refused(_))) if given.is_some() => {
            CallProblem::NotLoaded(error.into()).into()
        }
        why => unable(why),
    })
}

/// The rules as they are at a minute of the week.
#[cfg(target_os = "linux")]
fn at_minute(
    given: Option<&str>,
    meaning: &Meaning<'_>,
    rules: &RuleSet,
    at: Minute,
) -> Option<String> {
    match given {
        // Rules of one's own are tried at other hours with their conditions on day and hour answered.
        Some(text) => nftables::at_minute(text, at),
        None => super::export::nftables(meaning, rules, NftOptions::at(at))
            .ok()
            .map(|file| file.text().to_owned()),
    }
}

/// Sweeps a gateway with these rules, at this minute of the week.
#[cfg(target_os = "linux")]
fn sweep(
    given: Option<&str>,
    meaning: &Meaning<'_>,
    rules: &RuleSet,
    session: &mut Session<'_>,
) -> Result<SweepPart, Failure> {
    use super::walk::one_cable::found;
    use bastium_testbed::cable::Pace;
    use bastium_testbed::rehearse::Unrehearsed;
    use bastium_testbed::trunk::{Manner, Practice, Stand, StandIn};
    let plan = meaning.plan();
    let at = session::minute_of_week(plan);
    let text = at_minute(given, meaning, rules, at);
    let text = text.ok_or(MachineProblem::Hours)?;
    let made = Practice::new(plan, |_| {}, None, &[]).map_err(unable)?;
    let mut made = made.ok_or_else(|| unable(Unrehearsed::NoInterfaces))?;
    made.site.load(&text).map_err(unable)?;
    let place = made.ends(plan).map_err(unable)?;
    let (stand_in, pace) = (StandIn::Everyone, Pace(u32::MAX));
    let manner = Manner { stand_in, pace, at, serves: false, provides: false };
    let stand = Stand::take((meaning, rules), place, manner, drop);
    let mut stand = stand.map_err(unable)?;
    session.doing("sweeping");
    let swept = stand.sweep(&mut |done, all| session.progress(done, all));
    session.progress_ends();
    let swept = swept.map_err(unable)?;
    Ok(found::part(rules, &stand, &swept))
}

#[cfg(not(target_os = "linux"))]
fn sweep(
    _: Option<&str>,
    _: &Meaning<'_>,
    _: &RuleSet,
    _: &mut Session<'_>,
) -> Result<SweepPart, Failure> {
    Err(MachineProblem::NoRehearsal.into())
}

#[cfg(not(target_os = "linux"))]
fn in_kernel(
    _: Option<&str>,
    _: &Meaning<'_>,
    _: &RuleSet,
    _: &Checklist,
    _: &mut Session<'_>,
) -> Result<Report, Failure> {
    Err(MachineProblem::NoRehearsal.into())
}

fn sheet(
    meaning: &Meaning<'_>,
    report: &Report,
    on_paper: bool,
    file_differs: Vec<String>,
) -> RehearsalSheet {
    let millis = |time: Duration| u64::try_from(time.as_millis()).unwrap_or(u64::MAX);
    let frame = RehearsalFrame {
        site: meaning.plan().site().name.clone(),
        day: meaning.day().to_string(),
        on_paper,
        agrees: report.agrees(),
        file_differs,
        took_ms: (millis(report.set_up), millis(report.took)),
    };
    let rules = report.rules.iter();
    let rules = rules.map(|rule| HitRow {
        id: rule.id.clone(),
        hits: rule.hits,
        can_match: rule.can_match,
        beyond: rule.beyond,
    });
    RehearsalSheet::new(frame, report.tried.iter().map(row).collect(), rules.collect())
}

fn row(tried: &Tried) -> TriedRow {
    let asked = tried.seen != Seen::NotTried;
    TriedRow {
        id: tried.id.clone(),
        from: tried.from.clone(),
        to: tried.to.clone(),
        service: tried.service.clone(),
        expect: tried.expect.map(checklist::Expect::word),
        seen: seen_word(tried.seen),
        proves: tried.proves.clone(),
        rule: tried.rule.clone(),
        agrees: asked.then_some(tried.wrong.is_none()),
        says: says(tried),
    }
}

fn seen_word(seen: Seen) -> &'static str {
    match seen {
        Seen::Reply => "reply",
        Seen::Refused => "refused",
        Seen::Unreachable => "unreachable",
        Seen::Silence => "silence",
        Seen::NotTried => "not_tried",
    }
}

/// What is wrong, or why nothing was tried.
fn says(tried: &Tried) -> Option<String> {
    let by = |rule: &Option<String>| rule.clone().unwrap_or_else(|| "no rule".to_owned());
    let wrong = match tried.wrong.as_ref() {
        None => return tried.detail.clone(),
        Some(Wrong::Seen) => format!(
            "{} instead of {}; {} decided",
            seen_word(tried.seen),
            tried.expect.map_or("nothing", checklist::Expect::word),
            by(&tried.rule)
        ),
        Some(Wrong::Rule) => format!("{} decided, not {}", by(&tried.rule), by(&tried.proves)),
        Some(Wrong::HeardAs { heard, wanted }) => {
            format!("at the other end it comes from {heard}, not from {wanted}")
        }
        Some(Wrong::Leased { wanted }) => match &tried.detail {
            Some(leased) => format!("it was leased {leased}, not {wanted}"),
            None => format!("it was leased nothing; {wanted} is its own"),
        },
    };
    Some(wrong)
}

fn print(sheet: &RehearsalSheet, all: bool, session: &mut Session<'_>) -> Result<(), Failure> {
    let (tried, good) = sheet.counts();
    let how = match sheet.on_paper {
        true => "On paper: no packets were sent; the compiled rules were evaluated in memory."
            .to_owned(),
        false => format!(
            "In the kernel: site built in {}, tested in {}.",
            seconds(sheet.set_up_ms),
            seconds(sheet.took_ms)
        ),
    };
    session.prose(style::PLAIN, &how)?;
    session.print("\n")?;
    let shown = sheet.checks.iter().filter(|check| all || check.agrees == Some(false));
    let shown: Vec<&TriedRow> = shown.collect();
    for check in &shown {
        let style = if check.agrees == Some(false) { style::BAD } else { style::PLAIN };
        session.prose(style, &line(check))?;
    }
    if !shown.is_empty() {
        session.print("\n")?;
    }
    let verdict = match tried - good {
        0 => format!("{} {} the plan.", count(tried, "test"), either(tried, "matches", "match")),
        wrong => format!(
            "{wrong} of {} {} not match the plan.",
            count(tried, "test"),
            either(wrong, "does", "do")
        ),
    };
    session.prose(if tried == good { style::GOOD } else { style::ERROR }, &verdict)?;
    if !sheet.file_differs.is_empty() {
        let says = "Compared over every packet, the file was not shown to do what the plan says:";
        session.prose(style::ERROR, says)?;
        for says in &sheet.file_differs {
            session.prose(style::BAD, &format!("- {says}"))?;
        }
    }
    for (mood, says) in sheet.sweep.iter().flat_map(show::sweep::lines) {
        session.prose(mood, &says)?;
    }
    not_tested(sheet, session)?;
    hits(sheet, session)
}

/// The checks that were left out and why, and the rules for packets that nothing here can send.
fn not_tested(sheet: &RehearsalSheet, session: &mut Session<'_>) -> Result<(), Failure> {
    let left = sheet.checks.iter().filter(|check| check.agrees.is_none());
    for (reason, number) in reasons(left.filter_map(|check| check.says.as_deref())) {
        session
            .prose(style::FAINT, &format!("Not tested: {}, {reason}.", count(number, "check")))?;
    }
    let beyond: Vec<&str> = sheet.beyond().map(|rule| rule.id.as_str()).collect();
    if !beyond.is_empty() {
        let says = format!(
            "Not tested: {}, because no machine here can send such packets: {}.",
            count(beyond.len(), "rule"),
            beyond.join(", ")
        );
        session.prose(style::FAINT, &says)?;
    }
    Ok(())
}

/// Whether every rule that can match was hit.
fn hits(sheet: &RehearsalSheet, session: &mut Session<'_>) -> Result<(), Failure> {
    let beyond = sheet.beyond().count();
    let can = sheet.rules.iter().filter(|rule| rule.can_match).count() - beyond;
    let unhit: Vec<&str> = sheet.unhit().map(|rule| rule.id.as_str()).collect();
    let hit = match unhit.as_slice() {
        [] => format!("Every rule that can match was hit: {can} of {can}."),
        ids => {
            let were = either(ids.len(), "was", "were");
            let rules = count(can, "rule");
            format!("{} of {rules} {were} never hit: {}.", ids.len(), ids.join(", "))
        }
    };
    session.prose(if unhit.is_empty() { style::GOOD } else { style::ERROR }, &hit)
}

/// `- till -> internet, tcp/443: silence where reply should be; …`
fn line(check: &TriedRow) -> String {
    let what = match (&check.says, check.agrees) {
        (Some(says), Some(false) | None) => says.clone(),
        (says, _) => {
            let by = check.rule.as_deref().map(|rule| format!(", by {rule}")).unwrap_or_default();
            let more = says.as_deref().map(|says| format!(" ({says})")).unwrap_or_default();
            format!("{}{by}{more}", check.seen)
        }
    };
    format!("- {} -> {}, {}: {what}", check.from, check.to, check.service)
}

/// How often each reason is given, in the order in which they come.
fn reasons<'s>(all: impl Iterator<Item = &'s str>) -> Vec<(&'s str, usize)> {
    let mut counted: Vec<(&str, usize)> = Vec::new();
    for reason in all {
        match counted.iter_mut().find(|(known, _)| *known == reason) {
            Some((_, number)) => *number += 1,
            None => counted.push((reason, 1)),
        }
    }
    counted
}

fn seconds(millis: u64) -> String {
    format!("{}.{:02} s", millis / 1000, millis % 1000 / 10)
}
