//! `bastium report`: the document for the client or the engineer.

use super::compare;
use super::running::{as_run, differs};
use super::verify::made;
use super::walk::{Results, results_beside};
use crate::args::Report;
use crate::failure::{CallProblem, Exit, Failure, shown};
use crate::files;
use crate::plans;
use crate::session::{self, Session};
use bastium_core::checklist::{self, Checklist};
use bastium_core::findings;
use bastium_core::meaning::Meaning;
use bastium_core::proof::Proved;
use bastium_core::rules::{self, RuleSet};
use bastium_gateway::nftables::hits;
use bastium_report::document::{Audience, Document, Listed, Sources, html, markdown};
use bastium_report::sheets::{ChecklistSheet, CompareSheet, FindingSheet, ProofSheet};
use bastium_report::walk::WalkSheet;
use std::path::Path;

/// How a report is written.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Html,
    Markdown,
}

pub(super) fn run(args: &Report, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let kind = args.to.as_deref().map_or(Ok(Kind::Html), kind)?;
    let plan = session.plan()?;
    let meaning = session::meaning(&plan, args.day.day)?;
    let running = args.running.as_deref().map(|path| listed(path, &meaning)).transpose()?;
    let rules = match &running {
        Some(listed) => as_run(&meaning, &listed.packets)?,
        None => rules::compile(&meaning),
    };
    let proved = session::proved(&meaning, &rules)?;
    let Some(proof) = ProofSheet::new(&meaning, &[rules.form]) else { return Ok(Exit::Fine) };
    // What is found is of the plan's own form, whatever the gateway runs.
    let found = match &running {
        Some(_) => findings::find(&plan, meaning.day(), Ok(&meaning)),
        None => findings::find_with(&meaning, &rules),
    };
    let (checklist, walk) = walked(args, (&meaning, &rules), proved, session)?;
    let since =
        args.since.as_deref().map(|old| since(old, &meaning, session)).transpose()?.flatten();
    let document = Document::new(&Sources {
        meaning: &meaning,
        rules: &rules,
        proof: proof.first,
        findings: FindingSheet::new(plan.source(), &found),
        checklist,
        walk,
        running,
        since,
        audience: Audience::from(args.whom),
    });
    let text = match kind {
        Kind::Html => html(&document)
            .map_err(|_| std::io::Error::other("the page could not be put together"))?,
        Kind::Markdown => markdown(&document),
    };
    match &args.to {
        None => session.print(&text)?,
        Some(path) => {
            files::put(path, &text, args.force, session)?;
            session.remark(&format!("wrote {}", path.display()));
        }
    }
    Ok(Exit::Fine)
}

/// How a file is written, by the ending of its name.
fn kind(path: &Path) -> Result<Kind, Failure> {
    let ending = path.extension().map(|ending| ending.to_string_lossy().to_lowercase());
    match ending.as_deref() {
        Some("html" | "htm") => Ok(Kind::Html),
        Some("md") => Ok(Kind::Markdown),
        _ => Err(CallProblem::Ending { path: path.to_owned(), endings: [".html", ".md"] }.into()),
    }
}

/// The list that was walked, or is to be, and what came of it.
fn walked(
    args: &Report,
    (meaning, rules): (&Meaning<'_>, &RuleSet),
    proved: Proved<'_>,
    session: &mut Session<'_>,
) -> Result<(ChecklistSheet, Option<WalkSheet>), Failure> {
    let carried = checklist::carried(meaning, proved);
    let sheet = |list: &Checklist| ChecklistSheet::carried(meaning, rules, list);
    let beside = match &args.results {
        None if plans::path(session.options.plan.as_deref())?.is_none() => None,
        named => Some(results_beside(named.as_ref(), session)?),
    };
    let has_results = beside.as_ref().is_some_and(|path| path.exists());
    if !has_results && args.with.is_empty() && args.results.is_none() {
        return Ok((sheet(&carried), None));
    }
    if let Some(missing) = beside.as_ref().filter(|path| args.results.is_some() && !path.exists()) {
        let error = std::io::ErrorKind::NotFound.into();
        return Err(Failure::File { path: missing.clone(), doing: "read", error });
    }
    let results = match beside.filter(|_| has_results) {
        Some(path) => Results::open(path, &args.with, session)?,
        None => Results::open(args.with[0].clone(), &args.with[1..], session)?,
    };
    let whole = checklist::build(meaning, proved);
    let (stands, known) = made((&carried.stands, &whole.stands), rules, &results);
    let recorded = results.recorded(&known, meaning.plan());
    let walk = WalkSheet::new(meaning, rules, stands, &recorded);
    let list = match std::ptr::eq(stands, whole.stands.as_slice()) {
        true => ChecklistSheet::new(meaning, rules, &whole),
        false => sheet(&carried),
    };
    Ok((list, Some(walk)))
}

/// What a gateway ran, and what its lines have counted.
fn listed(running: &Path, meaning: &Meaning<'_>) -> Result<Listed, Failure> {
    let bytes = plans::read_whole(running)?;
    let text = String::from_utf8_lossy(&bytes);
    let packets = hits(&text).ok_or_else(|| CallProblem::NoCounters(running.to_owned()))?;
    Ok(Listed { packets, differences: differs(meaning, &text) })
}

/// What has changed since an older plan: a file, or a commit of the plan's own.
fn since(
    old: &Path,
    meaning: &Meaning<'_>,
    session: &Session<'_>,
) -> Result<Option<CompareSheet>, Failure> {
    let before = plans::older(old, session.options.plan.as_deref())?;
    // What is wrong with the older one is said as of any plan.
    session::meaning(&before, Some(meaning.day()))?;
    let files = (shown(old), "the plan as it is".to_owned());
    Ok(compare::between((&before, meaning.plan()), files, meaning.day()))
}
