//! Generated plans, each on a gateway that does what the plan says: nothing is found.

use crate::model::{TODAY, any_draft, wired};
use crate::practice::Gateway;
use bastium_core::checklist;
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, resolve};
use bastium_core::proof;
use bastium_core::rules;
use bastium_core::space::Minute;
use bastium_gateway::nftables::{self, NftOptions};
use bastium_testbed::cable::{Answer, Pace};
use bastium_testbed::trunk::{Manner, Shown, Stand, StandIn, faults};
use proptest::strategy::{Strategy, ValueTree};
use proptest::test_runner::{Config, RngSeed, TestRunner};
use std::time::Instant;

/// Tries so many plans.
pub(crate) fn all(wanted: usize) {
    let begun = Instant::now();
    let seed = std::env::var("BASTIUM_CABLE_SEED").ok().and_then(|words| words.parse().ok());
    let rng_seed = RngSeed::Fixed(seed.unwrap_or(20_261_129));
    let mut runner = TestRunner::new(Config { rng_seed, ..Config::default() });
    let only: Option<usize> =
        std::env::var("BASTIUM_CABLE_PLAN").ok().and_then(|words| words.parse().ok());
    let (mut plans, mut tried, mut found) = (0, 0, Vec::new());
    while plans < wanted {
        let draft = any_draft().new_tree(&mut runner).expect("a draft").current();
        let Ok(plan) = resolve(wired(draft)) else { continue };
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { continue };
        plans += 1;
        // Of many, a single one can be looked at.
        if only.is_some_and(|only| only != plans) {
            continue;
        }
        // Another minute of the week each time; rules for hours are written for just that one.
        let at = Minute::new(u16::try_from(plans * 487 % 10_080).expect("a minute"));
        let (count, wrong) = one(&meaning, at);
        tried += count;
        found.extend(wrong.into_iter().map(|says| format!("plan {plans} at {at}: {says}")));
        if found.len() > 20 {
            break;
        }
    }
    println!(
        "{tried} conversations on {plans} plans in {:.1?}, {} false alarms",
        begun.elapsed(),
        found.len()
    );
    found.truncate(20);
    assert!(found.is_empty(), "{}", found.join("\n"));
}

/// Tries one: how many conversations there were, and what was found.
fn one(meaning: &Meaning<'_>, at: Minute) -> (usize, Vec<String>) {
    let plan = meaning.plan();
    let rules = rules::in_form(meaning, Form::PerPair).expect("this form says everything");
    let proved = proof::proved(meaning, &rules).expect("the rules do what the plan says");
    let list = checklist::build(meaning, proved);
    let file = nftables::proven(meaning, &rules, NftOptions::at(at)).expect("the file is proved");
    let served = bastium_gateway::dnsmasq(meaning).expect("it serves as the plan says");
    let mut gateway = Gateway::new(plan, |_| {}, None, &[]);
    gateway.load(file.text());
    gateway.serve(served.text());
    let place = gateway.made.ends(plan).expect("the cables");
    let (stand_in, pace) = (StandIn::Everyone, Pace(100_000));
    let manner = Manner { stand_in, pace, at, serves: true, provides: false };
    let stand = Stand::take((meaning, &rules), place, manner, drop);
    let mut stand = stand.expect("a place");
    let tried = stand.list(&list.stands, &mut |_, _| {}).expect("the list");
    let swept = stand.sweep(&mut |_, _| {}).expect("a sweep");
    stand.leave().expect("an end");
    let mut found = Vec::new();
    for one in tried.iter().filter(|one| matches!(one.shown, Ok(Shown::Wrong(_)))) {
        let check = &list.stands[one.stand].checks[one.check];
        // At the gateway nothing listens that the plan only allows.
        if check.is_to_gateway && one.came.answer == Some(Answer::Refused) {
            continue;
        }
        let words = plan.packet_words(&check.packet);
        found.push(format!("{}: {words}: {:?} {:?}", check.id, one.shown, one.came));
    }
    for one in &swept.surprises {
        let (words, cause) = (plan.packet_words(&one.packet), one.decision.cause.words(plan));
        found.push(format!("{words}: {:?} {:?} {cause}", one.wrong, one.came));
    }
    for (lane, network) in stand.networks.iter().enumerate() {
        let Some(id) = stand.network(lane) else { continue };
        let wrong = faults(meaning, id, network.leased.as_ref(), &network.routers);
        found.extend(wrong.iter().map(|fault| format!("{}: {fault:?}", stand.name(lane))));
    }
    (swept.tried + tried.len(), found)
}
