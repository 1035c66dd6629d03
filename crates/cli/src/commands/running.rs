//! What a gateway runs, or a file that is to become its rules: how it differs from the plan, and which form it has.

use crate::failure::Failure;
use crate::session;
use bastium_core::meaning::Meaning;
use bastium_core::plan::Form;
use bastium_core::rules::{self, RuleSet};
use bastium_gateway::foreign::{NotAList, read_rules};
use bastium_gateway::nftables::tags;
use bastium_report::count;
use bastium_report::sheets::fault_sentences;
use std::collections::{BTreeMap, HashSet};

/// A sentence for each difference, and for whatever was not read or not decided. None only where the rules were shown to do
/// what the plan says for every packet.
pub(super) fn differs(meaning: &Meaning<'_>, ruleset: &str) -> Vec<String> {
    let foreign = match read_rules(ruleset, Some(meaning.plan())) {
        Ok(foreign) => foreign,
        Err(NotAList::BrokenText { at, what }) => {
            return vec![format!("its rules were not compared: {at}: {what}")];
        }
        Err(_) => return vec!["its rules cannot be read, and were not compared".to_owned()],
    };
    let Some(held) = foreign.held(meaning) else {
        return vec!["it is no rule set of a whole gateway, and was not compared".to_owned()];
    };
    let mut all = fault_sentences(meaning.plan(), &held.faults);
    let unread = held.unread.iter().map(|(at, what)| (at, what));
    let unread = unread.chain(foreign.not_understood.iter().map(|one| (&one.at, &one.what)));
    all.extend(unread.map(|(at, what)| format!("not understood at {at}: {what}")));
    // Both say what could not be read.
    let mut seen = HashSet::new();
    all.retain(|says| seen.insert(says.clone()));
    if held.undecided > 0 {
        all.push(format!("{} could not be decided", count(held.undecided, "question")));
    }
    all
}

/// The plan's rules in the form that a Linux gateway has them in, by what its lines have counted: a chain for each pair of
/// zones, or one list where more lines bear the names of that.
///
/// # Errors
/// When the plan cannot be said with a chain for each pair.
pub(super) fn as_run<'p>(
    meaning: &Meaning<'p>,
    packets: &BTreeMap<String, u64>,
) -> Result<RuleSet<'p>, Failure> {
    let lines =
        |rules: &RuleSet<'_>| tags(rules).keys().filter(|tag| packets.contains_key(*tag)).count();
    let per_pair = session::in_form(meaning, Form::PerPair)?;
    let one_list = rules::in_form(meaning, Form::OneList).ok();
    Ok(match one_list.filter(|one_list| lines(one_list) > lines(&per_pair)) {
        Some(one_list) => one_list,
        None => per_pair,
    })
}
