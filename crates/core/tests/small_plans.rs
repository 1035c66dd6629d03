//! Random small plans: the two ways to a verdict, compared with each other on every packet that the
//! plan can tell apart.

mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Rows, draft, resolve};
use bastium_core::proof;
use bastium_core::rules;
use bastium_core::verdict::Verdict;
use model::packets::{Borders, packet};
use model::{TODAY, any_draft, frame, located, text, texts, uniform};
use proptest::prelude::*;

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    /// Packet by packet: deciding, cutting and the first matching rule give one answer.
    #[test]
    fn meaning_and_rules_agree_on_every_kind_of_packet(draft in any_draft(), seed in any::<u64>()) {
        let plan = resolve(draft).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::compile(&meaning);
        let borders = Borders::of(&plan, &rules);
        let parts = meaning.parts(&meaning.universe());
        let mut seed = seed;
        for _ in 0..1500 {
            let packet = packet(&borders, &plan, &mut seed);
            let decision = meaning.decide(&packet);
            let holding: Vec<_> = parts.iter().filter(|part| part.packets.contains(&packet)).collect();
            prop_assert_eq!(holding.len(), 1, "{:?} lies in one part", packet);
            prop_assert_eq!(holding[0].decision, decision, "{:?}", packet);
            if decision.verdict.is_filtered() {
                let outcome = rules.first_match(&packet);
                prop_assert!(proof::agrees(decision, outcome), "{packet:?}: {decision:?} but {outcome:?}");
            }
            if let Some(inside) = meaning.translate(&packet).filter(|_| decision.cause.exception().is_some()) {
                prop_assert_eq!(rules.as_filtered(&packet), inside);
                prop_assert_eq!(meaning.decide(&inside), decision);
            }
        }
    }

    /// Set by set: the proof finds no difference, in the whole space.
    #[test]
    fn the_proof_finds_no_difference_in_the_whole_space(draft in any_draft()) {
        let plan = resolve(draft).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::compile(&meaning);
        let found = proof::differences(&meaning, &rules, &meaning.universe());
        prop_assert!(found.is_empty(), "{:?}", found.first());
    }

    /// The order of the file changes no verdict.
    #[test]
    fn the_order_of_exceptions_in_the_file_changes_no_verdict(draft in any_draft(), seed in any::<u64>()) {
        let mut turned = draft.clone();
        turned.exceptions.reverse();
        let (one, other) = (resolve(draft).expect("a plan"), resolve(turned).expect("a plan"));
        let (a, b) = (Meaning::new(&one, TODAY), Meaning::new(&other, TODAY));
        prop_assert_eq!(a.is_ok(), b.is_ok());
        let (Ok(a), Ok(b)) = (a, b) else { return Ok(()) };
        let borders = Borders::of(&one, &rules::compile(&a));
        let mut seed = seed;
        for _ in 0..500 {
            let packet = packet(&borders, &one, &mut seed);
            prop_assert_eq!(a.decide(&packet).verdict, b.decide(&packet).verdict);
        }
    }

    /// A refused plan shows a packet for which both exceptions are at the top and differ.
    #[test]
    fn a_contradiction_is_shown_by_a_packet_that_both_match(draft in any_draft()) {
        let plan = resolve(draft).expect("a plan");
        for problem in Meaning::new(&plan, TODAY).err().into_iter().flatten() {
            let bastium_core::meaning::OrderProblem::Contradiction { one, other, packet, .. } = problem else {
                continue;
            };
            prop_assert_ne!(one.action, other.action);
            for party in [one, other] {
                let exception = plan.exceptions().iter().find(|e| e.name == party.name).expect("named");
                prop_assert!(exception.minutes().contains(packet.at));
                let to_gateway = exception.to.gateway && !exception.to.addresses.contains(packet.destination());
                prop_assert!(to_gateway || exception.to.addresses.contains(packet.destination()));
                prop_assert!(exception.from.gateway || exception.from.addresses.contains(packet.source()));
            }
        }
    }
}

/// An exception that stands first in the file but low in the list still says what is logged.
#[test]
fn the_earlier_of_two_that_agree_gives_the_log() {
    let mut draft = uniform("block", false);
    let exception =
        |name: &str, from: &str, to: &str, service: &str, action: &str, log| draft::Exception {
            name: text(name),
            from: texts(&[from]),
            to: texts(&[to]),
            service: Some(texts(&[service])),
            action: Some(text(action)),
            log: located(log),
            ..draft::Exception::default()
        };
    draft.exceptions = vec![
        exception("wide-quiet", "staff", "guests", "any", "allow", false),
        exception("crossing-logged", "any", "kiosk", "tcp/80", "allow", true),
        exception("narrow-block", "reception", "guests", "tcp/90", "block", true),
    ];
    let plan = resolve(draft).expect("a plan");
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    let rules = rules::in_form_with(&meaning, plan.gateway().form, Rows::EveryCell).expect("rules");
    let ids = rules.rules().map(|rule| rule.id.to_string());
    let ids: Vec<String> = ids.filter(|id| id.starts_with("exc")).collect();
    let expected =
        ["wide-quiet@log", "wide-quiet@log@2", "crossing-logged", "narrow-block", "wide-quiet"];
    assert_eq!(ids, expected.map(|name| format!("exception.{name}")));
    assert!(proof::differences(&meaning, &rules, &meaning.universe()).is_empty());
}

/// The test itself must be able to fail: rules of another plan differ, and the proof says where.
#[test]
fn the_proof_notices_rules_of_another_plan() {
    let mut draft = frame(true, false);
    let grid = "staff guests tills internet\n\
                staff block block block allow\n\
                guests block block block allow\n\
                tills block block block block\n\
                internet block block block -\n";
    draft.matrix.grid = Some(text(grid));
    draft.gateway.rules = Some(text("every-cell"));
    let other = draft::Matrix {
        grid: Some(text(
            &grid.replace("tills block block block block", "tills block block block allow"),
        )),
        ..draft.matrix.clone()
    };
    let plan = resolve(draft.clone()).expect("a plan");
    let changed = resolve(draft::Draft { matrix: other, ..draft }).expect("a plan");
    let (meaning, wrong) = (
        Meaning::new(&plan, TODAY).expect("a meaning"),
        Meaning::new(&changed, TODAY).expect("a meaning"),
    );
    let rules = rules::compile(&wrong);
    let found = proof::differences(&meaning, &rules, &meaning.universe());
    assert!(!found.is_empty());
    for difference in found {
        assert_eq!(meaning.decide(&difference.packet).verdict, Verdict::Block);
        assert_eq!(plan.interface_name(difference.packet.enters), "tills");
        assert_eq!(
            difference.rules.rule.map(|rule| rule.id.to_string()).as_deref(),
            Some("cell.tills>internet")
        );
    }
}
