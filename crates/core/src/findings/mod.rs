//! Mistakes and risks of a plan that has a meaning: what will not work, and what is not as safe as it
//! looks. One file per subject; each finding is a value, and reads as a [`Diagnosis`].

mod addressing;
mod effects;
mod exceptions;
pub mod explain;
mod gateway;
mod guarantees;
mod known;
mod limits;
mod matrix;
mod outside;
mod wiring;

pub use addressing::AddressingFinding;
pub use effects::EffectFinding;
pub use exceptions::ExceptionFinding;
pub use gateway::GatewayFinding;
pub use guarantees::{PromiseFinding, Rate};
pub use known::KnownFinding;
pub use limits::LimitFinding;
pub use matrix::MatrixFinding;
pub use outside::OutsideFinding;
pub use wiring::WiringFinding;

use crate::diagnosis::{Diagnose, Diagnosis, Severity};
use crate::meaning::{Meaning, OrderProblem};
use crate::plan::Plan;
use crate::proof;
use crate::rules::{self, Inexpressible, RuleSet};
use jiff::civil::Date;

/// What a form of rules cannot say, as errors: to show its rules all the same would be a lie.
pub fn inexpressible(plan: &Plan, problems: &[Inexpressible]) -> Vec<Diagnosis> {
    let error = |finding: &LimitFinding| {
        let mut diagnosis = finding.diagnose();
        diagnosis.severity = Severity::Error;
        diagnosis
    };
    limits::not_in_form(plan, problems).iter().map(error).collect()
}

/// Rules that do not do what the plan says, in the plan's own form: a fault of the compiler, and nothing that
/// anybody should go on with.
fn rules_differ(meaning: &Meaning<'_>, rules: &RuleSet<'_>) -> Option<Diagnosis> {
    let why = proof::proved(meaning, rules).err()?;
    let packet = why.differences.first().map(|found| meaning.plan().packet_words(&found.packet));
    let says = match packet {
        Some(packet) => format!("the compiled rules do not do what the plan says with {packet}"),
        None => {
            "it could not be decided whether the compiled rules do what the plan says".to_owned()
        }
    };
    let help = "do not enter the rules, and report the plan: this is a fault of Bastium";
    Some(Diagnosis::new("rules-differ", Severity::Error, None).says(says).help(help))
}

/// Everything there is to say about a plan on one day, in the order of its text.
///
/// Errors that leave the plan without a meaning exclude the findings that need one; all others are reported in any
/// case.
///
/// ```
/// use bastium_core::{diagnosis::Severity, findings, meaning::Meaning};
/// use jiff::civil::date;
///
/// # let text = std::fs::read("tests/two-networks.toml").expect("a file");
/// let plan = bastium_planfile::read("plan.toml", &text).expect("a plan without errors");
/// let day = date(2026, 6, 1);
/// let meaning = Meaning::new(&plan, day);
/// let found = findings::find(&plan, day, meaning.as_ref().map_err(Vec::as_slice));
/// assert!(found.iter().all(|finding| finding.severity != Severity::Error));
/// ```
pub fn find(
    plan: &Plan,
    day: Date,
    meaning: Result<&Meaning<'_>, &[OrderProblem]>,
) -> Vec<Diagnosis> {
    match meaning {
        Ok(meaning) => find_with(meaning, &rules::compile(meaning)),
        Err(problems) => {
            let mut all = find_without_meaning(plan, day);
            all.extend(problems.iter().map(Diagnose::diagnose));
            in_order(all)
        }
    }
}

/// The same of a plan that has a meaning, with its rules as [`compile`](rules::compile) makes them: what has them need not
/// have them made again.
pub fn find_with(meaning: &Meaning<'_>, rules: &RuleSet<'_>) -> Vec<Diagnosis> {
    let plan = meaning.plan();
    let mut all = find_without_meaning(plan, meaning.day());
    all.extend(exceptions::find_in_meaning(meaning).iter().map(Diagnose::diagnose));
    all.extend(effects::find_in_meaning(meaning).iter().map(Diagnose::diagnose));
    all.extend(gateway::find_in_meaning(meaning).iter().map(Diagnose::diagnose));
    all.extend(outside::find_in_meaning(meaning).iter().map(Diagnose::diagnose));
    all.extend(guarantees::find_in_meaning(meaning).iter().map(Diagnose::diagnose));
    all.extend(limits::find_in_meaning(meaning, rules).iter().map(Diagnose::diagnose));
    all.extend(rules_differ(meaning, rules));
    known::apply(plan, &mut all);
    in_order(all)
}

/// What there is to say of a plan, whether it has a meaning or not.
fn find_without_meaning(plan: &Plan, day: Date) -> Vec<Diagnosis> {
    let mut all = Vec::new();
    all.extend(addressing::find(plan).iter().map(Diagnose::diagnose));
    all.extend(matrix::find(plan).iter().map(Diagnose::diagnose));
    all.extend(exceptions::find(plan, day).iter().map(Diagnose::diagnose));
    all.extend(gateway::find(plan).iter().map(Diagnose::diagnose));
    all.extend(wiring::find(plan).iter().map(Diagnose::diagnose));
    all.extend(outside::find(plan).iter().map(Diagnose::diagnose));
    all
}

fn in_order(mut all: Vec<Diagnosis>) -> Vec<Diagnosis> {
    all.sort_by_key(|diagnosis| (diagnosis.at.map_or(0, |at| at.start), diagnosis.severity));
    all
}
