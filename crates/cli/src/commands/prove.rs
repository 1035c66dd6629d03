//! `bastium prove`: whether the rules match the plan for every packet.

use crate::args::Prove;
use crate::failure::{Exit, Failure};
use crate::session::{self, Session};
use crate::show::{self, style};
use bastium_core::plan::Form;
use bastium_report::sheets::{FormProof, ProofSheet};
use bastium_report::{count, either};
use std::collections::HashMap;

/// How many of a kind are shown one by one.
const MOST: usize = 8;

pub(super) fn run(args: &Prove, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let plan = session.plan()?;
    let meaning = session::meaning(&plan, args.day.day)?;
    let own = args.form.map_or(plan.gateway().form, Form::from);
    let mut forms = vec![own];
    if args.all_forms {
        forms.extend(Form::ALL.into_iter().filter(|form| *form != own));
    }
    let Some(sheet) = ProofSheet::new(&meaning, &forms) else { return Ok(Exit::Fine) };
    let exit = if sheet.proofs().all(FormProof::holds) { Exit::Fine } else { Exit::No };
    if show::for_programs(session, &sheet, || sheet.tables(), "form")? {
        return Ok(exit);
    }
    for (number, proof) in sheet.proofs().enumerate() {
        if number > 0 {
            session.print("\n")?;
        }
        print(proof, &sheet.day, session)?;
    }
    Ok(exit)
}

fn print(proof: &FormProof, day: &str, session: &mut Session<'_>) -> Result<(), Failure> {
    session.prose(style::STRONG, &format!("form {}, for {day}", proof.form))?;
    verdict(proof, session)?;
    for row in &proof.guarantees {
        let (tone, word) = if row.holds { (style::GOOD, "holds") } else { (style::BAD, "BROKEN") };
        let broken = row.about().map(|about| format!(": {about}"));
        let says = format!("{word}: {} {}{}", row.kind, row.name, broken.unwrap_or_default());
        session.prose(tone, &says)?;
    }
    if !proof.refused.is_empty() {
        return Ok(());
    }
    single_rules(proof, session)?;
    leak(proof, session)?;
    asides(proof, session)
}

/// What is to be said about single rules, the worst first.
fn single_rules(proof: &FormProof, session: &mut Session<'_>) -> Result<(), Failure> {
    let dead = proof.dead().map(|row| {
        let above = row.covered_by.join(", ");
        format!("rule {} {} is shadowed: {above} above it", row.number, row.id)
    });
    let needless = proof.needless().map(|row| {
        let others = row.covered_by.join(", ");
        format!("rule {} {} is redundant: {others} would do the same", row.number, row.id)
    });
    some(dead.chain(needless).collect(), style::WARN, session)?;
    let pairs = proof.order_dependent.iter();
    let pairs =
        pairs.map(|pair| format!("order matters: {} has to stay above {}", pair.above, pair.below));
    some(pairs.collect(), style::PLAIN, session)
}

/// What is worth knowing beside the verdict: rules that only log, rules that are left out, and assumptions.
fn asides(proof: &FormProof, session: &mut Session<'_>) -> Result<(), Failure> {
    let quiet = proof.shadowed.len() + proof.redundant.len()
        - proof.dead().count()
        - proof.needless().count();
    if quiet > 0 {
        let says = format!(
            "{} only for clarity or logging: without {}, the same traffic is denied",
            count(quiet, "rule"),
            either(quiet, "it", "them")
        );
        session.prose(style::FAINT, &says)?;
    }
    if proof.rules_undecided > 0 {
        let rules = count(proof.rules_undecided, "rule");
        let are = either(proof.rules_undecided, "is", "are");
        let says = format!("whether {rules} {are} needed could not be decided within the limits");
        session.prose(style::WARN, &says)?;
    }
    if !proof.left_out.is_empty() {
        let says = format!(
            "left out: {} that would repeat what the others do; `rules = \"every-cell\"` in `[gateway]` keeps them",
            count(proof.left_out.len(), "rule")
        );
        session.prose(style::FAINT, &says)?;
    }
    for assumption in &proof.assumptions {
        session.prose(style::FAINT, &format!("assumption: {assumption}"))?;
    }
    Ok(())
}

/// Whether rules and plan are the same; if not, where.
fn verdict(proof: &FormProof, session: &mut Session<'_>) -> Result<(), Failure> {
    for reason in &proof.refused {
        session.prose(style::BAD, &format!("not possible in this form: {reason}"))?;
    }
    if !proof.refused.is_empty() {
        return Ok(());
    }
    if proof.equal {
        let says = format!(
            "proved: {} the plan for every packet ({})",
            format_args!(
                "{} {}",
                count(proof.rules, "rule"),
                either(proof.rules, "matches", "match")
            ),
            proof.packets
        );
        session.prose(style::GOOD, &says)?;
    }
    if let Some(found) = &proof.counterexample {
        session.prose(style::BAD, "NOT PROVED: the rules do not match the plan")?;
        session.prose(style::PLAIN, &found.says)?;
        let boxes: Vec<String> = proof
            .differences
            .iter()
            .flat_map(|row| row.boxes.iter().map(|one| one.short.clone()))
            .collect();
        some(boxes, style::PLAIN, session)?;
    }
    if proof.undecided > 0 {
        let says = format!(
            "{} could not be decided within the limits: nothing is proved about {}",
            count(proof.undecided, "question"),
            either(proof.undecided, "it", "them")
        );
        session.prose(style::WARN, &says)?;
    }
    replies(proof, session)
}

/// Whether replies to what is allowed pass.
fn replies(proof: &FormProof, session: &mut Session<'_>) -> Result<(), Failure> {
    match &proof.unanswered {
        None if proof.replies_undecided > 0 => {
            let says = format!(
                "whether replies pass could not be decided for {}",
                count(proof.replies_undecided, "case")
            );
            session.prose(style::WARN, &says)
        }
        None => session.prose(style::GOOD, "proved: replies to allowed traffic pass"),
        Some(packet) => session.prose(
            style::BAD,
            &format!(
                "NOT PROVED: replies are blocked for {} from {} to {}",
                packet.protocol, packet.source, packet.destination
            ),
        ),
    }
}

/// What gets through where no state is kept, by rule.
fn leak(proof: &FormProof, session: &mut Session<'_>) -> Result<(), Failure> {
    if proof.leak.is_empty() {
        return Ok(());
    }
    let heading = format!(
        "passes unsolicited traffic that looks like a reply (TCP without SYN only): {}; --format json lists all",
        classes(proof.leak.len())
    );
    session.prose(style::WARN, &heading)?;
    // Rule by rule, with the first box of each.
    let mut rows: Vec<(Option<&str>, String, usize)> = Vec::new();
    let mut places: HashMap<Option<&str>, usize> = HashMap::new();
    for row in &proof.leak {
        let rule = row.rule.as_deref();
        match places.get(&rule) {
            Some(&place) => rows[place].2 += 1,
            None => {
                places.insert(rule, rows.len());
                let from = match row.replies_from.as_slice() {
                    [any] if any == "any" => String::new(),
                    ports => format!(", from port {}", ports.join(", ")),
                };
                rows.push((rule, format!("{}{from}", row.packets.short), 0));
            }
        }
    }
    let reported = rows.into_iter().map(|(rule, first, more)| {
        let rule = rule.unwrap_or("no rule");
        let more = if more > 0 { format!("; and {}", classes(more)) } else { String::new() };
        format!("- {rule}: {first}{more}")
    });
    some(reported.collect(), style::PLAIN, session)
}

/// `1 traffic class`, `2 traffic classes`.
fn classes(number: usize) -> String {
    format!("{number} traffic {}", either(number, "class", "classes"))
}

/// The first few of a kind, and how many more there are.
fn some(rows: Vec<String>, tone: anstyle::Style, session: &mut Session<'_>) -> Result<(), Failure> {
    for row in rows.iter().take(MOST) {
        session.prose(tone, row)?;
    }
    if rows.len() > MOST {
        session.prose(style::FAINT, &format!("and {} more", rows.len() - MOST))?;
    }
    Ok(())
}
