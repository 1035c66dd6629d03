//! The mistakes that lists are held to: each is what its name says, and nothing else is wrong with its list.

mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Form, resolve};
use bastium_core::proof;
use bastium_core::rules::mistakes::{Change, Kind, Mistake, mistakes};
use bastium_core::rules::{self, Rule, RuleSet};
use bastium_core::space::Match;
use model::{TODAY, any_draft};
use proptest::prelude::*;
use proptest::sample::select;
use std::collections::BTreeSet;

/// What tells two rules apart.
type Essence = (String, Action, bool, Option<Match>);

fn essence(rule: &Rule) -> Essence {
    (rule.id.to_string(), rule.action, rule.log, rule.packets().cloned())
}

fn essences(rules: &RuleSet) -> Vec<(usize, Essence)> {
    let lists = rules.lists.iter().enumerate();
    lists.flat_map(|(list, of)| of.rules.iter().map(move |rule| (list, essence(rule)))).collect()
}

/// Whether a kind of mistake makes just what it says of a rule's packets.
fn is_as_named(kind: Kind, own: &Match, wrong: &Match) -> bool {
    // Whoever names the wrong source for the gateway may name no interface either.
    let entering = own.enters == wrong.enters
        || ([Kind::SourceWider, Kind::ManagementOpen].contains(&kind)
            && own.enters.is_subset(&wrong.enters));
    let rest = |one: &Match, other: &Match| {
        entering
            && [
                one.at == other.at,
                one.source == other.source,
                one.destination == other.destination,
                one.service == other.service,
            ]
            .into_iter()
            .filter(|same| !same)
            .count()
                == 1
    };
    rest(own, wrong)
        && match kind {
            Kind::SourceWider | Kind::ManagementOpen => own.source.is_subset(&wrong.source),
            Kind::AddressLeft => {
                own.source.is_subset(&wrong.source) && own.destination.is_subset(&wrong.destination)
            }
            Kind::DayMissing => wrong.at.is_subset(&own.at),
            Kind::SourceNarrower => wrong.source.is_subset(&own.source),
            Kind::DestinationWider => own.destination.is_subset(&wrong.destination),
            Kind::DestinationNarrower => wrong.destination.is_subset(&own.destination),
            Kind::ServiceForgotten => wrong.service.is_subset(&own.service),
            Kind::PortOff | Kind::OtherProtocol | Kind::DigitTooMany => {
                own.service != wrong.service
            }
            Kind::ServiceAny => wrong.service == bastium_core::space::ServiceSet::any(),
            Kind::HoursForgotten => own.at.is_subset(&wrong.at),
            Kind::HoursOff => own.at != wrong.at,
            Kind::RangeOff => {
                let (more, less) = (
                    wrong.service.difference(&own.service),
                    own.service.difference(&wrong.service),
                );
                let points = |set: &bastium_core::space::ServiceSet| {
                    let span = set.v4.union(&set.v6);
                    span.spans()
                        .iter()
                        .map(|(low, high)| high.number() - low.number() + 1)
                        .sum::<u32>()
                };
                points(&more) + points(&less) == 1
            }
            _ => false,
        }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]

    #[test]
    fn every_mistake_is_what_its_name_says(draft in any_draft(), form in select(&Form::ALL[..])) {
        let plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::in_form(&meaning, form).expect("says everything");
        let right = essences(&rules);
        for mistake in mistakes(&rules) {
            let wrong = essences(&mistake.made_in(&rules));
            let Some(rule) = mistake.rule(&rules) else {
                prop_assert_eq!(&mistake.change, &Change::WithoutIpv6);
                prop_assert_eq!(wrong.len(), right.len());
                continue;
            };
            let (list, _) = mistake.place.expect("it has a rule");
            prop_assert!(!rules.lists[list].implied, "nobody enters {}", rule.id);
            let expected = match mistake.change {
                Change::Missing => right.len() - 1,
                Change::Twice | Change::AllowedAtTop => right.len() + 1,
                _ => right.len(),
            };
            prop_assert_eq!(wrong.len(), expected, "{:?}", mistake.kind);
            let other = |one: &&(usize, _)| !right.contains(one);
            let changed: Vec<_> = wrong.iter().filter(other).collect();
            match &mistake.change {
                Change::Missing | Change::Twice | Change::BelowTheNext => {
                    prop_assert!(changed.is_empty(), "{:?}", mistake.kind);
                }
                Change::Action(action) => {
                    prop_assert_ne!(*action, rule.action);
                    prop_assert_eq!(changed.len(), 1);
                }
                Change::Log => prop_assert_eq!(changed.len(), 1),
                Change::AllowedAtTop => {
                    prop_assert_eq!(changed.len(), 1);
                    prop_assert_eq!(mistake.kind, Kind::AllowedAtTop);
                }
                Change::Matches(matches) => {
                    let own = rule.first_packets().expect("for first packets");
                    prop_assert!(is_as_named(mistake.kind, own, matches), "{:?} of {}", mistake.kind, rule.id);
                    prop_assert_eq!(changed.len(), 1);
                }
                Change::WithoutIpv6 => prop_assert!(false, "it is one of all rules"),
            }
        }
    }

    /// Where what comes back needs a rule, a list without it is known to leave somebody waiting, or the
    /// checklist says that nobody waits.
    #[test]
    fn a_forgotten_rule_for_replies_is_caught_where_anybody_waits(draft in any_draft()) {
        let plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::in_form(&meaning, Form::PerInterface).expect("says everything");
        let list = bastium_core::checklist::build(&meaning, bastium_core::proof::proved(&meaning, &rules).expect("the rules do what the plan says"));
        let caught: BTreeSet<u32> = list
            .stands
            .iter()
            .flat_map(|stand| &stand.checks)
            .flat_map(|check| check.shows.iter().copied())
            .collect();
        let all: Vec<Mistake> = mistakes(&rules).collect();
        let missing = (0u32..).zip(&all).filter(|(_, mistake)| {
            let back = mistake.rule(&rules).is_some_and(|rule| rule.is_for_replies());
            back && mistake.change == Change::Missing
        });
        for (number, mistake) in missing.step_by(3) {
            let waits = proof::answers(&meaning, &mistake.made_in(&rules)).unanswered.is_some();
            let known = list.strength.undetectable.iter().any(|(lapse, _)| lapse.number == number);
            prop_assert_eq!(caught.contains(&number), !known, "{:?}", mistake.rule(&rules).map(|r| &r.id));
            if caught.contains(&number) {
                prop_assert!(waits, "{:?}", mistake.rule(&rules).map(|r| &r.id));
            }
        }
    }
}

/// A plan of some size has mistakes of every kind.
#[test]
fn no_kind_is_forgotten() {
    let mut draft = model::uniform("block", true);
    let mut two = model::exception("two", "desks", "waiting-room", "https", "allow");
    two.service = Some(model::texts(&["https", "dns"]));
    let range = model::exception("range", "tills", "desks", "tcp/5000-5010", "allow");
    draft.exceptions = vec![range, two];
    let early = bastium_core::plan::draft::HourSpan {
        days: model::texts(&["tue", "wed"]),
        from: Some(model::texts(&["06:00"]).remove(0)),
        to: Some(model::texts(&["07:00"]).remove(0)),
        ..Default::default()
    };
    let hours = bastium_core::plan::draft::Hours {
        name: model::texts(&["early"]).remove(0),
        spans: vec![early],
    };
    draft.hours.push(hours);
    draft.exceptions[0].hours = Some(model::texts(&["early"]).remove(0));
    let plan = resolve(draft).expect("a plan");
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    let rules = rules::compile(&meaning);
    let kinds: BTreeSet<&str> = mistakes(&rules).map(|mistake| mistake.kind.word()).collect();
    // Nobody manages its gateway, and no rule is for a part of a network.
    assert_eq!(kinds.len(), 23, "{kinds:?}");
}
