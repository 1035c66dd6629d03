//! Rehearsals of generated plans: whatever `check` accepts agrees with itself in the kernel.

use crate::model::{TODAY, any_draft, wired};
use bastium_core::checklist::{self, Checklist};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, resolve};
use bastium_core::proof;
use bastium_core::rules;
use bastium_gateway::nftables::{self, NftOptions};
use bastium_testbed::rehearse::{Inputs, Report, in_kernel};
use proptest::strategy::{Strategy, ValueTree};
use proptest::test_runner::TestRunner;
use std::time::Instant;

/// Rehearses so many plans, each whole.
pub(crate) fn all(runner: &mut TestRunner, wanted: usize) {
    let begun = Instant::now();
    let (mut plans, mut tried, mut wrong) = (0, 0, Vec::new());
    while plans < wanted {
        let draft = any_draft().new_tree(runner).expect("a draft").current();
        let Ok(plan) = resolve(wired(draft.clone())) else { continue };
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { continue };
        let before = wrong.len();
        let (list, report) = rehearsed(&meaning);
        plans += 1;
        tried += report.tried.len();
        for one in report.tried.iter().filter(|one| one.wrong.is_some()) {
            let sent =
                list.stands.iter().flat_map(|stand| &stand.checks).find(|check| check.id == one.id);
            let sent = sent.map(|check| plan.packet_words(&check.packet));
            let says = format!("plan {plans}: {one:?}, {sent:?}");
            if wrong.len() < 20 {
                eprintln!("{says}");
            }
            wrong.push(says);
        }
        for rule in report.unhit() {
            let by_hand = report.tried.iter().find(|one| one.proves.as_ref() == Some(&rule.id));
            let says = format!("plan {plans}: {} was never hit: {by_hand:?}", rule.id);
            if wrong.len() < 20 {
                eprintln!("{says}");
            }
            wrong.push(says);
        }
        if wrong.len() > before {
            let file = format!("{}/disagrees-{plans}.txt", env!("CARGO_TARGET_TMPDIR"));
            let _ = std::fs::write(file, format!("{draft:#?}"));
        }
    }
    println!(
        "{tried} trials on {plans} plans in {:.1?}, {} disagree",
        begun.elapsed(),
        wrong.len()
    );
    assert!(wrong.is_empty(), "{} disagree", wrong.len());
}

fn rehearsed(meaning: &Meaning<'_>) -> (Checklist, Report) {
    let rules = rules::in_form(meaning, Form::PerPair).expect("this form says everything");
    let proved = proof::proved(meaning, &rules).expect("the rules do what the plan says");
    let list = checklist::build(meaning, proved);
    let file = |options| {
        let file = nftables::proven(meaning, &rules, options).expect("the file is proved");
        file.text().to_owned()
    };
    let written = file(NftOptions::default());
    let tags = nftables::tags(&rules).into_iter();
    let served = bastium_gateway::dnsmasq(meaning).expect("it serves as the plan says");
    let props = Inputs {
        rules: &written,
        rules_at: &|at| Some(file(NftOptions::at(at))),
        names_and_leases: served.text(),
        ids: tags.map(|(tag, rule)| (tag, rule.id.to_string())).collect(),
    };
    let report = in_kernel(meaning, &rules, &list, &props, |_, _| {});
    let report = report.unwrap_or_else(|why| panic!("{why}"));
    (list, report)
}
