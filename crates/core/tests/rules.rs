//! The compiled lists themselves: their order, their ids, and how little a small edit moves.

mod model;

use bastium_core::asking::{End, ask};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Plan, Rows, draft, resolve};
use bastium_core::rules::{self, RuleSet, Stage};
use bastium_core::space::{IntervalSet, Match, PacketSet};
use bastium_core::verdict::Verdict;
use model::{TODAY, any_draft, exception, text, uniform};
use proptest::prelude::*;
use std::collections::HashSet;

fn plan(exceptions: Vec<draft::Exception>) -> Plan {
    let mut draft = uniform("block", true);
    draft.exceptions = exceptions;
    resolve(draft).expect("a plan")
}

/// With a rule for every entry: what is left out or joined is tried in `fewest.rs`.
fn compiled(plan: &Plan) -> RuleSet<'_> {
    let meaning = Meaning::new(plan, TODAY).expect("a meaning");
    let own = plan.gateway().form;
    rules::in_form_with(&meaning, own, Rows::EveryCell).expect("this form says everything")
}

fn ids(rules: &RuleSet, stage: Stage) -> Vec<String> {
    rules
        .list(stage)
        .expect("every list is there")
        .rules
        .iter()
        .map(|rule| rule.id.to_string())
        .collect()
}

fn exceptions_of(rules: &RuleSet) -> Vec<String> {
    let through = ids(rules, Stage::Through);
    through.iter().filter_map(|id| id.strip_prefix("exception.")).map(str::to_owned).collect()
}

#[test]
fn narrow_stands_above_wide_whatever_the_file_says() {
    let wide = exception("wide", "staff", "guests", "any", "block");
    let middle = exception("middle", "desks", "guests", "tcp", "allow");
    let narrow = exception("narrow", "reception", "kiosk", "tcp/80", "block");
    let expected = ["narrow", "middle", "wide"];
    for order in [[0, 1, 2], [2, 1, 0], [1, 0, 2], [1, 2, 0]] {
        let all = [wide.clone(), middle.clone(), narrow.clone()];
        let plan = plan(order.map(|index| all[index].clone()).to_vec());
        assert_eq!(exceptions_of(&compiled(&plan)), expected);
    }
}

#[test]
fn among_equals_the_order_is_the_files() {
    let one = exception("one", "desks", "tills", "tcp/80", "allow");
    let two = exception("two", "printers", "tills", "tcp/80", "allow");
    let three = exception("three", "guests", "tills", "tcp/80", "allow");
    let plan = plan(vec![three.clone(), one.clone(), two.clone()]);
    assert_eq!(exceptions_of(&compiled(&plan)), ["three", "one", "two"]);
}

#[test]
fn a_range_is_not_wider_for_an_address_that_no_device_can_have() {
    // The range also holds the gateway's and the broadcast address, the network place does not.
    let range = exception("range", "10.44.60.0-10.44.60.3", "desks", "tcp/80-90", "allow");
    let place = exception("place", "tills", "desks", "tcp", "block");
    assert_eq!(exceptions_of(&compiled(&plan(vec![place, range]))), ["range", "place"]);
}

#[test]
fn an_exception_has_a_rule_in_each_list_that_it_speaks_of() {
    let both = exception("both", "desks", "gateway + tills", "udp/123", "allow");
    let out = exception("out", "gateway", "internet", "tcp/25", "reject");
    let site = plan(vec![both, out]);
    let rules = compiled(&site);
    assert!(ids(&rules, Stage::ToGateway).contains(&"exception.both@desks>gateway".to_owned()));
    assert!(ids(&rules, Stage::Through).contains(&"exception.both".to_owned()));
    // What the gateway lives by stands above.
    assert_eq!(ids(&rules, Stage::FromGateway), ["from_gateway@needs", "exception.out"]);
}

#[test]
fn lists_begin_with_replies_and_end_with_the_rest() {
    let site = plan(Vec::new());
    let rules = compiled(&site);
    assert_eq!(ids(&rules, Stage::Opening)[0], "reply");
    for stage in [Stage::ToGateway, Stage::Through] {
        let last = ids(&rules, stage).pop();
        assert_eq!(last, Some(format!("unmatched@{}", stage.word())));
    }
    let numbers: Vec<u32> = rules.rules().map(|rule| rule.number).collect();
    assert!(numbers.windows(2).all(|pair| pair[0] + 10 == pair[1]), "numbers have gaps");
}

#[test]
fn a_cell_that_no_packet_can_meet_has_no_rule() {
    let through = ids(&compiled(&plan(Vec::new())), Stage::Through);
    assert!(through.contains(&"cell.staff>staff".to_owned()), "two networks in one zone");
    assert!(!through.contains(&"cell.tills>tills".to_owned()), "one network alone");
    assert!(through.contains(&"cell.internet>guests".to_owned()), "global addresses");
    assert!(!through.contains(&"cell.internet>tills".to_owned()), "private addresses");
}

#[test]
fn ids_stay_when_other_entries_come_and_go() {
    let one = exception("one", "desks", "tills", "tcp/80", "allow");
    let two = exception("two", "reception", "tills", "tcp/80", "block");
    let site = plan(vec![one.clone()]);
    let before = compiled(&site);
    let site = plan(vec![one, two]);
    let after = compiled(&site);
    let set =
        |rules: &RuleSet| rules.rules().map(|rule| rule.id.to_string()).collect::<HashSet<_>>();
    let fresh: Vec<String> = set(&after).difference(&set(&before)).cloned().collect();
    assert_eq!(fresh, ["exception.two"]);
    assert!(set(&before).is_subset(&set(&after)));
    // And the others keep their order.
    let kept: Vec<String> = ids(&after, Stage::Through);
    let kept: Vec<String> = kept.into_iter().filter(|id| id != "exception.two").collect();
    assert_eq!(kept, ids(&before, Stage::Through));
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 100, ..ProptestConfig::default() })]

    /// The lists answer packet by packet and set by set in one way.
    /// A rule that does not hold at all hours says at which, also where it is there for another entry's log.
    #[test]
    fn rules_say_their_hours(draft in any_draft()) {
        let plan = resolve(draft).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::compile(&meaning);
        for rule in rules.rules() {
            let Some(packets) = rule.first_packets() else { continue };
            let said = rule.hours.as_ref().map(|words| {
                let named = plan.hours().iter().find(|hours| hours.name.as_str() == *words);
                named.map_or_else(
                    || IntervalSet::from_words(words).expect("hours"),
                    |hours| hours.minutes.clone(),
                )
            });
            prop_assert_eq!(said.unwrap_or_else(IntervalSet::full), packets.at.clone(), "{}", rule.id);
        }
    }

    #[test]
    fn cutting_a_set_by_rules_is_what_each_packet_meets(draft in any_draft()) {
        let plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::compile(&meaning);
        for (packets, outcome) in rules.parts(&meaning.universe()) {
            let packet = packets.sample().expect("no part is empty");
            let single = rules.first_match(&packet);
            prop_assert_eq!(single.rule.map(|rule| rule.number), outcome.rule.map(|rule| rule.number));
            prop_assert_eq!(single.action, outcome.action);
        }
        let ids: HashSet<_> = rules.rules().map(|rule| &rule.id).collect();
        let shown: HashSet<_> = rules.rules().map(|rule| rule.id.to_string()).collect();
        prop_assert_eq!(ids.len(), shown.len(), "what is shown distinguishes them");
        prop_assert_eq!(ids.len(), rules.rules().count(), "ids are unique");
    }

    /// The parts of an answer are apart, say what the meaning says, and are what was asked about.
    #[test]
    fn an_answer_covers_the_question_and_nothing_else(
        draft in any_draft(),
        from in prop::sample::select(vec!["desks", "staff", "any", "kiosk", "internet", "gateway"]),
        to in prop::sample::select(vec!["printers", "guests", "any", "reception", "internet", "gateway"]),
        service in prop::sample::select(vec!["any", "tcp/80", "dns", "icmp/echo"]),
    ) {
        let plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::compile(&meaning);
        let (from, to) = (End::new(&plan, from).expect("a place"), End::new(&plan, to).expect("a place"));
        let service = plan.service(&[text(service)]).expect("a service");
        let Ok(answer) = ask(&meaning, &rules, &from, &to, &service, &IntervalSet::full()) else { return Ok(()) };
        prop_assert!(answer.differences.is_empty());
        let shares: Vec<_> = answer.shares.iter().chain(&answer.asides).collect();
        for (index, share) in shares.iter().enumerate() {
            prop_assert!(share.packets.contains(&share.packet));
            prop_assert_eq!(meaning.decide(&share.packet), share.decision);
            for other in &shares[index + 1..] {
                prop_assert!(share.packets.is_disjoint(&other.packets));
            }
            let asked = Match { service: service.set.clone(), ..Match::everything() };
            prop_assert!(share.packets.is_subset(&PacketSet::from(asked)));
        }
        let verdicts: HashSet<Verdict> = answer.shares.iter().map(|s| s.decision.verdict).collect();
        prop_assert_eq!(answer.verdict.is_some(), verdicts.len() == 1);
    }
}
