//! The proof by cells: compared with the proof by sets, packet by packet, and against every mistake that
//! can be made.

mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Form, Plan, draft, resolve};
use bastium_core::proof::{self, CarriedLine, Fate, Lookup, prove};
use bastium_core::rules::{self, Otherwise, PlanlessLine, Rule, RuleList, RuleSet, mistakes};
use bastium_core::space::{Interface, IntervalSet, Match, Protocol, ServiceSet};
use bastium_core::verdict::Verdict;
use model::packets::{Borders, packet};
use model::{TODAY, any_draft, uniform};
use proptest::prelude::*;
use proptest::sample::select;
use std::net::IpAddr;

fn any_form() -> impl Strategy<Value = Form> {
    select(&Form::ALL[..])
}

fn plan_of(draft: draft::Draft) -> Plan {
    resolve(draft).expect("the generator writes plans without mistakes")
}

/// What the proof by cells has to say of rules, in a word.
fn holds(meaning: &Meaning<'_>, rules: &RuleSet) -> bool {
    let proof = prove(meaning, rules);
    assert_eq!(proof.undecided, 0, "small plans are always decided");
    for difference in &proof.differences {
        let decision = meaning.decide(&difference.packet);
        assert!(difference.packets.contains(&difference.packet));
        assert_eq!(decision, difference.meaning, "{:?}", difference.packet);
        let outcome = rules.first_match(&difference.packet);
        assert_eq!(
            (outcome.action, outcome.logged),
            (difference.rules.action, difference.rules.logged)
        );
        assert!(!proof::agrees(decision, outcome));
    }
    proof.holds()
}

/// Whether a list that is asked before the one of a rule decides about all it is asked.
fn ends_above(rules: &RuleSet, rule: &Rule) -> bool {
    let holds = |list: &RuleList| list.rules.iter().any(|other| other.number == rule.number);
    let mut before = rules.lists.iter().take_while(|list| !holds(list));
    before.any(|list| list.otherwise != Otherwise::GoOn)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 120, ..ProptestConfig::default() })]

    #[test]
    fn rules_of_every_form_are_proved(draft in any_draft()) {
        let plan = plan_of(draft);
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        for form in Form::ALL {
            let rules = rules::in_form(&meaning, form).expect("every form but one says everything");
            prop_assert!(holds(&meaning, &rules), "{}", form.word());
            let answers = proof::answers(&meaning, &rules);
            prop_assert!(answers.hold(), "{}: {answers:?}", form.word());
        }
    }

    /// Packet by packet, the cells have what the plan means and what the rules do.
    #[test]
    fn looking_up_is_deciding(draft in any_draft(), form in any_form(), seed in any::<u64>()) {
        let plan = plan_of(draft);
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::in_form(&meaning, form).expect("says everything");
        let lookup = Lookup::new(&meaning, &rules);
        let (ready, borders) = (lookup.ready(), Borders::of(&plan, &rules));
        let mut seed = seed;
        for _ in 0..1500 {
            let packet = packet(&borders, &plan, &mut seed);
            let decision = meaning.decide(&packet);
            prop_assert_eq!(ready.decision(&packet), decision, "{:?}", packet);
            if decision.verdict.is_filtered() {
                prop_assert!(proof::agrees(decision, ready.outcome(&packet)) || !rules.unseen.is_empty());
            }
        }
    }

    /// Every mistake is found, or is none: then the proof by sets has no difference either.
    #[test]
    fn every_mistake_that_changes_anything_is_found(
        draft in any_draft(),
        form in any_form(),
        picks in prop::collection::vec(any::<prop::sample::Index>(), 12),
    ) {
        let plan = plan_of(draft);
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::in_form(&meaning, form).expect("says everything");
        let all: Vec<mistakes::Mistake> = mistakes::mistakes(&rules).collect();
        for pick in picks {
            let damaged = pick.get(&all);
            let wrong = damaged.made_in(&rules);
            let by_sets = proof::differences(&meaning, &wrong, &meaning.universe());
            prop_assert_eq!(
                holds(&meaning, &wrong), by_sets.is_empty(),
                "{:?} of {:?}: {:?}", damaged.kind, damaged.rule(&rules).map(|rule| &rule.id), by_sets.first()
            );
        }
    }

    /// A rule that never matches can be taken out; so can one that changes nothing. Any other cannot.
    #[test]
    fn what_is_said_to_do_nothing_does_nothing(draft in any_draft(), form in any_form()) {
        let plan = plan_of(draft);
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::in_form(&meaning, form).expect("says everything");
        let proof = prove(&meaning, &rules);
        let idle: Vec<String> = proof.singles.shadowed.iter().chain(&proof.singles.redundant)
            .map(|idle| idle.rule.id.to_string()).collect();
        for (list, place) in rules.lists.iter().enumerate().filter(|(_, list)| !list.implied)
            .flat_map(|(number, list)| (0..list.rules.len()).map(move |place| (number, place)))
        {
            let rule = &rules.lists[list].rules[place];
            if rule.first_packets().is_none() {
                continue;
            }
            let mut without = rules.clone();
            without.lists[list].rules.remove(place);
            let found = proof::differences(&meaning, &without, &meaning.universe());
            prop_assert_eq!(
                found.is_empty(), idle.contains(&rule.id.to_string()), "{}: {:?}", rule.id, found.first()
            );
        }
    }

    /// Who is said to do the work of a rule does it: without all of them, the rule is met, or is missed.
    #[test]
    fn who_is_said_to_do_the_work_of_another_rule_does(draft in any_draft(), form in any_form()) {
        let plan = plan_of(draft);
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::in_form(&meaning, form).expect("says everything");
        let singles = proof::singles(&meaning, &rules);
        let without = |ids: &[String]| {
            let mut fewer = rules.clone();
            for list in fewer.lists.iter_mut().filter(|list| !list.implied) {
                list.rules.retain(|rule| !ids.iter().any(|id| rule.id == *id));
            }
            fewer
        };
        for idle in &singles.shadowed {
            let above: Vec<String> = idle.covered_by.iter().map(|rule| rule.id.to_string()).collect();
            prop_assert!(idle.covered_by.iter().all(|rule| rule.number < idle.rule.number));
            // What it is for may not come to the gateway at all, and the end of a list is no rule.
            if above.is_empty() || ends_above(&rules, idle.rule) {
                continue;
            }
            let fewer = without(&above);
            let met = proof::singles(&meaning, &fewer).witnesses.into_iter()
                .any(|(rule, _)| rule.id == idle.rule.id);
            prop_assert!(met, "{} without {above:?}", idle.rule.id);
            for one in &idle.covered_by {
                let matches = one.first_packets().expect("for first packets");
                let own = idle.rule.first_packets().expect("for first packets");
                let both = bastium_core::space::PacketSet::from(matches);
                prop_assert!(!both.is_disjoint(&own.into()), "{} by {}", idle.rule.id, one.id);
            }
        }
        for idle in &singles.redundant {
            for one in &idle.covered_by {
                prop_assert!(one.number > idle.rule.number);
                prop_assert_eq!((one.action, one.log), (idle.rule.action, idle.rule.log));
            }
        }
    }

    /// Of two rules whose order matters, the first packet given is decided by the upper one; and nothing
    /// else is said of pairs.
    #[test]
    fn pairs_that_depend_on_their_order_do(draft in any_draft()) {
        let plan = plan_of(draft);
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::compile(&meaning);
        for pair in proof::singles(&meaning, &rules).ordered {
            let outcome = rules.first_match(&pair.packet);
            prop_assert_eq!(outcome.rule.map(|rule| &rule.id), Some(&pair.above.id));
            let matches = pair.below.first_packets().expect("a rule for first packets");
            prop_assert!(matches.contains(&rules.as_filtered(&pair.packet)));
            prop_assert!((pair.above.action, pair.above.log) != (pair.below.action, pair.below.log));
        }
    }

    /// What gets through beyond the plan is reported exactly: the reply rules' packets that the plan denies.
    #[test]
    fn lists_without_state_leak_what_they_are_said_to(draft in any_draft(), seed in any::<u64>()) {
        let plan = plan_of(draft);
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::in_form(&meaning, Form::PerInterface).expect("says everything");
        let (leaks, borders) = (proof::leaks(&meaning, &rules), Borders::of(&plan, &rules));
        let mut seed = seed;
        for _ in 0..600 {
            let packet = packet(&borders, &plan, &mut seed);
            let decision = meaning.decide(&packet);
            let list = rules.lists.iter().find(|list| {
                list.rules.iter().any(|rule| rule.first_packets().is_some_and(|m| m.enters.contains(packet.enters)))
            });
            let Some(list) = list.filter(|_| packet.enters < plan.gateway_interface()) else { continue };
            // By hand: the rules above the first that decides a first packet.
            let decides = |rule: &&rules::Rule| rule.first_packets().is_some_and(|m| m.contains(&packet));
            let above = list.rules.iter().take_while(|rule| !decides(rule));
            let back = above.filter(|rule| rule.is_for_replies() && rule.packets().is_some_and(|m| m.contains(&packet)));
            let denied = matches!(decision.verdict, Verdict::Block | Verdict::Reject);
            let gets_through = denied && back.count() > 0;
            let reported = leaks.iter().any(|leak| leak.packets.contains(&packet));
            prop_assert_eq!(gets_through, reported, "{:?}", packet);
        }
    }

    /// Without state the plan's rules for replies are all there is: each that is missing is missed.
    #[test]
    fn a_missing_rule_for_replies_is_noticed(draft in any_draft(), form in any_form()) {
        let plan = plan_of(draft);
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let mut rules = rules::in_form(&meaning, form).expect("says everything");
        let through = meaning.parts(&meaning.universe()).into_iter().any(|part| {
            part.decision.verdict == Verdict::Allow && part.decision.cause.kind() == "cell"
        });
        for list in &mut rules.lists {
            list.rules.retain(|rule| !rule.is_for_replies() && rule.cause.kind() != "reply");
        }
        let packet = proof::answers(&meaning, &rules).unanswered;
        prop_assert!(!through || packet.is_some());
        if let Some(packet) = packet {
            prop_assert_eq!(meaning.decide(&packet).verdict, Verdict::Allow);
        }
    }
}

/// What a gateway lets by is so scattered that nobody could say where it differs: one packet stands for it, it does
/// differ, and that the rest was not worked out is reported.
#[test]
fn differences_that_are_too_scattered_are_shown_by_one_packet_and_reported() {
    let plan = plan_of(uniform("allow", false));
    let meaning = Meaning::new(&plan, TODAY).expect("no contradiction");
    let fate = Fate::Value(1);
    let port = |number: u32| u16::try_from(number + 1).expect("a port");
    let single = |number: u32| Match {
        enters: IntervalSet::point(Interface(0)),
        source: IpAddr::from([10, 44, (number % 251) as u8, (number % 241) as u8]).into(),
        destination: IpAddr::from([10, 60, (number % 239) as u8, (number % 233) as u8]).into(),
        service: ServiceSet::ports(Protocol::TCP, port(number), port(number)),
        at: IntervalSet::full(),
    };
    let lines = |count: u32| {
        (0..count).map(|n| CarriedLine::new(vec![single(n)], fate)).collect::<Vec<_>>()
    };
    let expected = [CarriedLine::new(
        vec![Match { enters: IntervalSet::point(Interface(0)), ..Match::everything() }],
        fate,
    )];
    for (count, whole) in [(3, true), (3_000, false)] {
        let own = lines(count);
        let found = proof::alike(&meaning, &expected, &own);
        assert!(!found.holds() && !found.divergences.is_empty(), "{count}");
        assert_eq!(found.undecided == 0, whole, "{count}");
        for divergence in &found.divergences {
            let packet = &divergence.packet;
            assert!(divergence.packets.contains(packet) && divergence.line == own.len());
            assert!(!own.iter().flat_map(|line| &line.matches).any(|m| m.contains(packet)));
        }
    }
}

/// The parts of a rule overlap, and only what they share would fare otherwise without it.
#[test]
fn a_rule_is_needed_for_what_its_parts_share() {
    let tcp = |low, high| {
        let service = ServiceSet::ports(Protocol::TCP, low, high);
        Match { service, ..Match::everything() }
    };
    let line = |id, matches, action| PlanlessLine::new(id, 1, matches, action, false);
    let lines = [
        line("both", vec![tcp(1, 10), tcp(5, 15)], Action::Allow),
        line("low", vec![tcp(1, 4)], Action::Allow),
        line("high", vec![tcp(11, 15)], Action::Allow),
        line("rest", vec![Match::everything()], Action::Block),
    ];
    let singles = proof::planless_singles(2, &lines, |_| true);
    assert!(singles.redundant.iter().all(|(line, _)| *line != 0), "{:?}", singles.redundant);
    let never: Vec<usize> = singles.shadowed.iter().map(|(line, _)| *line).collect();
    assert_eq!(never, [1, 2]);
}
