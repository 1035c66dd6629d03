//! Why not, and many questions at once.

mod model;

use bastium_core::asking::{Asker, But, End, Unasked, ask, near_misses};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Plan, draft, resolve};
use bastium_core::proof::{Lookup, NamedBox, Wording};
use bastium_core::rules;
use bastium_core::source::Text;
use bastium_core::space::{
    Ends, Interface, IntervalSet, Match, Minute, Packet, PacketSet, Protocol, ServicePoint,
};
use bastium_core::verdict::Verdict;
use model::{PLACES, SERVICES, TODAY, any_draft, exception, extend, located, text, texts, uniform};
use proptest::prelude::*;
use proptest::sample::select;

fn plan(exceptions: Vec<draft::Exception>) -> Plan {
    let mut draft = uniform("block", false);
    let span = draft::HourSpan {
        days: texts(&["mon"]),
        from: Some(text("06:00")),
        to: Some(text("07:00")),
        ..draft::HourSpan::default()
    };
    draft.hours.push(draft::Hours { name: text("early"), spans: vec![span] });
    draft.exceptions = exceptions;
    resolve(draft).expect("a plan")
}

/// From desks to the label printer, by web, at noon on Monday.
fn web() -> Packet {
    let ends = Ends::new("10.44.24.4".parse().expect("one"), "10.44.48.3".parse().expect("one"));
    let service = ServicePoint::port(Protocol::TCP, 80);
    Packet { enters: Interface(0), ends: ends.expect("one family"), service, at: Minute::new(720) }
}

fn buts(exceptions: Vec<draft::Exception>) -> Vec<(String, But)> {
    let plan = plan(exceptions);
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    let decision = meaning.decide(&web());
    let near_misses = near_misses(&meaning, &web(), decision);
    near_misses
        .iter()
        .map(|one| (plan.exception(one.exception).name.to_string(), one.but))
        .collect()
}

#[test]
fn what_came_close_is_off_in_one_thing() {
    let mut off = exception("off", "desks", "label-printer", "tcp/80", "allow");
    off.off = located(true);
    let mut ended = exception("ended", "desks", "label-printer", "tcp/80", "allow");
    ended.until = Some(text("2026-11-23"));
    let mut hours = exception("hours", "desks", "label-printer", "tcp/80", "allow");
    hours.hours = Some(text("early"));
    let found = buts(vec![
        exception("source", "reception", "label-printer", "tcp/80", "allow"),
        exception("destination", "desks", "tills", "tcp/80", "allow"),
        exception("service", "desks", "label-printer", "tcp/81", "allow"),
        exception("two-things", "reception", "label-printer", "tcp/81", "allow"),
        off,
        ended,
        hours,
    ]);
    let expected = [
        ("source", But::Source),
        ("destination", But::Destination),
        ("service", But::Service),
        ("off", But::Off),
        ("ended", But::Ended),
        ("hours", But::Hours),
    ];
    for (name, but) in expected {
        assert!(found.contains(&(name.to_owned(), but)), "{name}: {found:?}");
    }
    assert!(!found.iter().any(|(name, _)| name == "two-things"), "{found:?}");
}

#[test]
fn what_fits_and_is_outranked_names_who_goes_before_it() {
    let plan = plan(vec![
        exception("wide", "desks", "printers", "tcp/80", "allow"),
        exception("narrow", "10.44.24.4", "label-printer", "tcp/80", "block"),
    ]);
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    let decision = meaning.decide(&web());
    let found = near_misses(&meaning, &web(), decision);
    let [one] = found.as_slice() else { panic!("{found:?}") };
    assert!(matches!(one.but, But::Outranked(_)));
    assert_eq!(one.words(&plan), "narrow goes before it");
}

/// An answer that is remembered is one to the same question: at another hour it is another.
#[test]
fn a_question_asked_again_at_another_hour_has_its_own_answer() {
    let mut draft = uniform("block", false);
    extend(&mut draft);
    let by_hours = exception("early-print", "desks", "tills", "tcp/80", "allow");
    draft.exceptions = vec![draft::Exception { hours: Some(text("early")), ..by_hours }];
    let plan = resolve(draft).expect("a plan");
    let meaning = Meaning::new(&plan, TODAY).expect("no contradiction");
    let rules = rules::compile(&meaning);
    let lookup = Lookup::new(&meaning, &rules);
    let mut asker = Asker::new(&meaning, &rules, lookup.ready());
    let mut asked = |minute: u16| {
        let at = IntervalSet::point(Minute::new(minute));
        asker.ask("desks", "tills", "tcp/80", &at).expect("an answer").verdict
    };
    for _ in 0..2 {
        assert_eq!(asked(390), Some(Verdict::Allow), "monday, half past six");
        assert_eq!(asked(1500), Some(Verdict::Block), "tuesday");
    }
}

fn boxes_of(plan: &Plan, set: &PacketSet) -> Vec<NamedBox> {
    Wording::new(plan).boxes(set)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    /// A question among many has the answer that it has alone.
    #[test]
    fn many_questions_have_the_answers_of_single_ones(
        draft in any_draft(),
        questions in prop::collection::vec((select(PLACES), select(PLACES), select(SERVICES), any::<bool>()), 8),
        hosts in prop::collection::vec((0u8..8, 0u8..8, 78u16..92), 8),
    ) {
        let plan = resolve(draft).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::compile(&meaning);
        let lookup = Lookup::new(&meaning, &rules);
        let mut asker = Asker::new(&meaning, &rules, lookup.ready());
        let named = questions.iter().map(|(from, to, service, early)| ((*from).to_owned(), (*to).to_owned(), (*service).to_owned(), *early));
        let single = hosts.iter().map(|(a, b, port)| {
            (format!("10.44.24.{a}"), format!("203.0.113.{b}"), format!("tcp/{port}"), false)
        });
        for (from, to, service, early) in named.chain(single) {
            let at = if early { IntervalSet::point(Minute::new(390)) } else { IntervalSet::full() };
            let many = asker.ask(&from, &to, &service, &at);
            let ends = [&from, &to].map(|words| End::new(&plan, words));
            let [Ok(a), Ok(b)] = ends else {
                prop_assert!(matches!(many, Err(Unasked::Words(_))));
                continue;
            };
            let services = plan.service(&[Text::new(&service)]).expect("a service");
            match (many, ask(&meaning, &rules, &a, &b, &services, &at)) {
                (Ok(brief), Ok(answer)) => {
                    prop_assert!(brief.agrees);
                    prop_assert_eq!(brief.verdict, answer.verdict, "{} {} {}", from, to, service);
                    let first = &answer.shares[0].decision;
                    prop_assert_eq!((brief.logged, brief.cause), (first.logged, first.cause));
                    prop_assert_eq!(brief.rule.map(|rule| &rule.id), answer.rule.map(|rule| &rule.id));
                }
                (Err(Unasked::Nothing(one)), Err(other)) => prop_assert_eq!(one, other),
                (many, single) => prop_assert!(false, "{many:?} {:?}", single.is_ok()),
            }
        }
    }

    /// Boxes leave nothing out and add nothing: tidied products hold just the set's packets.
    #[test]
    fn boxes_are_few_and_hold_the_set(draft in any_draft(), seed in any::<u64>()) {
        let plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::compile(&meaning);
        let borders = model::packets::Borders::of(&plan, &rules);
        let mut seed = seed;
        for part in meaning.parts(&meaning.universe()) {
            let tidied = part.packets.tidied();
            prop_assert!(boxes_of(&plan, &part.packets).len() <= part.packets.products().count());
            for _ in 0..20 {
                let packet = model::packets::packet(&borders, &plan, &mut seed);
                prop_assert_eq!(tidied.contains(&packet), part.packets.contains(&packet));
            }
        }
    }
}

#[test]
fn boxes_are_named_after_the_plan() {
    let plan = plan(Vec::new());
    let set = |enters: u16, source: &str, destination: &str, port: u16| -> PacketSet {
        let place = |words: &str| plan.place(&[Text::new(words)]).expect("a place").addresses;
        let service = bastium_core::space::ServiceSet::ports(Protocol::TCP, port, port);
        Match {
            enters: IntervalSet::point(Interface(enters)),
            source: place(source),
            destination: place(destination),
            service,
            at: IntervalSet::full(),
        }
        .into()
    };
    let both = boxes_of(&plan, &set(0, "desks", "guests", 80));
    let [one] = both.as_slice() else { panic!("{both:?}") };
    assert_eq!((one.from.join(" "), one.source.join(" ")), ("desks".to_owned(), "any".to_owned()));
    assert_eq!((one.to.join(" "), one.family), ("guests".to_owned(), "both"));
    assert_eq!(one.service, ["tcp/80"]);
    // Ports of the same ends are one box, and so are neighbours in one more dimension.
    let ports = set(3, "tills", "internet", 80).union(&set(3, "tills", "internet", 81));
    let ports = boxes_of(&plan, &ports);
    assert_eq!((ports.len(), ports[0].service.join(" ")), (1, "tcp/80-81".to_owned()));
    let except = boxes_of(&plan, &set(0, "staff - reception", "tills", 80));
    assert_eq!(except[0].source, ["staff - reception"]);
    // What comes in by a network is more than its devices, where something is behind a router.
    let mut draft = uniform("block", false);
    extend(&mut draft);
    let plan = resolve(draft).expect("a plan");
    let place = |words: &str| plan.place(&[Text::new(words)]).expect("a place").addresses;
    let source = |source: &str| {
        let source = place(source).only_v4();
        let enters = IntervalSet::point(Interface(1));
        let set = Match { enters, source, destination: place("tills"), ..Match::everything() };
        boxes_of(&plan, &set.into())[0].source.clone()
    };
    assert_eq!(source("printers"), ["devices of printers"]);
    assert_eq!(source("printers + field"), ["any"]);
}
