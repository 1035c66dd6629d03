//! The file for a Linux gateway, looked at as text: what must hold of it whatever the plan is. Whether the
//! kernel takes it, and does what it should, is tried with the kernel.

#[path = "../../core/tests/model/mod.rs"]
mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, Plan, Rows, draft, resolve};
use bastium_core::rules::{self, RuleSet};
use bastium_core::space::Minute;
use bastium_core::verdict::Verdict;
use bastium_gateway::nftables::{
    Flow, LOG_MARK, NftOptions, NoInterface, may_begin, never_begins, nftables, tag, tags,
};
use model::packets::{Borders, packet};
use model::{TODAY, any_draft, text, texts, wired};
use proptest::prelude::*;
use std::collections::HashSet;

fn plan_of(draft: draft::Draft) -> Plan {
    resolve(wired(draft)).expect("the generator writes plans without mistakes")
}

fn demo(name: &str) -> Plan {
    let path = format!("{}/../../demo/{name}", env!("CARGO_MANIFEST_DIR"));
    let bytes = std::fs::read(path).expect("the demo plan is there");
    bastium_planfile::read(name, &bytes).expect("a plan")
}

/// The file of a plan, with the rules that it is of.
fn written<'p>(meaning: &Meaning<'p>, form: Form, options: NftOptions) -> (String, RuleSet<'p>) {
    let rules = rules::in_form(meaning, form).expect("this form says everything");
    let file = nftables(&rules, options).expect("every cable is named");
    (file, rules)
}

/// What stands in quotes behind a word, in every line that has it.
fn quoted<'f>(file: &'f str, word: &str) -> Vec<&'f str> {
    let behind = format!("{word} \"");
    let lines = file.lines().filter(|line| !line.trim_start().starts_with('#'));
    let found = lines.filter_map(|line| line.split_once(behind.as_str()));
    found.filter_map(|(_, rest)| rest.split_once('"')).map(|(inner, _)| inner).collect()
}

/// The names that are declared as sets, maps, limits or chains.
fn declared(file: &str) -> Vec<&str> {
    let kinds = ["set ", "map ", "limit ", "chain "];
    let lines = file.lines().map(str::trim_start);
    let heads = lines.filter_map(|line| {
        let kind = kinds.iter().find(|kind| line.starts_with(**kind) && line.ends_with('{'))?;
        line[kind.len()..].split(' ').next()
    });
    heads.collect()
}

/// The names that are asked for: `@set`, `jump chain`, `goto chain`.
fn asked_for(file: &str) -> HashSet<&str> {
    let mut found = HashSet::new();
    for line in file.lines().filter(|line| !line.trim_start().starts_with('#')) {
        for word in line.split(' ').filter_map(|word| word.strip_prefix('@')) {
            found.insert(word.trim_end_matches(','));
        }
        for kind in ["jump ", "goto "] {
            let name = line.split_once(kind).and_then(|(_, rest)| rest.split([' ', ',']).next());
            found.extend(name);
        }
    }
    found
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 80, ..ProptestConfig::default() })]

    /// Every name that is asked for is declared, once; and within what the kernel takes.
    #[test]
    fn names_are_declared_once_and_fit(draft in any_draft()) {
        let plan = plan_of(draft);
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        for form in [Form::PerPair, Form::OneList] {
            let (file, _) = written(&meaning, form, NftOptions::default());
            let declared = declared(&file);
            let known: HashSet<&str> = declared.iter().copied().collect();
            prop_assert_eq!(known.len(), declared.len(), "a name stands twice");
            let asked = asked_for(&file);
            for name in &asked {
                prop_assert!(known.contains(name), "{name} is asked for and not there");
            }
            // Nor is a chain there to which nothing leads, but for those that the kernel asks by itself.
            for name in &declared {
                let chain = file.split(&format!("\tchain {name} {{")).nth(1);
                let hook = chain.is_none_or(|chain| chain.trim_start().starts_with("type "));
                prop_assert!(hook || asked.contains(name), "nothing leads to {name}");
            }
            for name in known {
                prop_assert!(name.len() <= 127 && !name.contains(' '), "{name}");
            }
            for comment in quoted(&file, "comment") {
                prop_assert!(comment.len() <= 128, "{comment}");
            }
            for prefix in quoted(&file, "log prefix") {
                prop_assert!(prefix.len() <= 127 && !prefix.contains('$'), "{prefix}");
            }
            prop_assert_eq!(file.matches('{').count(), file.matches('}').count());
        }
    }

    /// A comment leads back to a rule, and every rule that is logged is logged under its own tag.
    #[test]
    fn comments_and_prefixes_lead_back_to_rules(draft in any_draft()) {
        let plan = plan_of(draft);
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let (file, rules) = written(&meaning, Form::PerPair, NftOptions::default());
        let tags = tags(&rules);
        prop_assert_eq!(tags.len(), rules.lists.iter().flat_map(|list| &list.rules).count());
        let own = ["no_route", "own_broadcast", "no_conversation"];
        for comment in quoted(&file, "comment") {
            let translates = ["translate.", "source.", "limit_"].iter().any(|kind| comment.starts_with(kind));
            prop_assert!(
                tags.contains_key(comment) || own.contains(&comment) || translates,
                "{comment}"
            );
        }
        // The log stands in a line of its own above, for the same packets, and cannot be filled by anybody.
        let lines: Vec<&str> = file.lines().collect();
        for pair in lines.windows(2).filter(|pair| pair[1].contains(" comment \"")) {
            let (above, line) = (pair[0], pair[1]);
            let comment = quoted(line, "comment")[0];
            let Some(rule) = tags.get(comment) else { continue };
            prop_assert!(!line.contains("log prefix"), "{line}");
            let logs = format!("limit rate 10/second burst 50 packets log prefix \"{LOG_MARK}{comment}: \"");
            let tests = above.strip_suffix(logs.as_str());
            prop_assert_eq!(tests.is_some_and(|tests| line.starts_with(tests)), rule.log, "{}", line);
        }
    }

    /// The same plan gives the same file.
    #[test]
    fn the_file_is_stable(draft in any_draft()) {
        let plan = plan_of(draft);
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        for form in [Form::PerPair, Form::OneList] {
            let (first, _) = written(&meaning, form, NftOptions::default());
            let (again, _) = written(&meaning, form, NftOptions::default());
            prop_assert_eq!(&first, &again);
        }
    }

    /// Fixed to a minute, no line asks for the time, and what holds at other hours is not there.
    /// No connection counts as one that can be cut if the plan lets it begin: where it comes in, at that hour.
    #[test]
    fn nothing_is_cut_that_may_begin(draft in any_draft(), seed in any::<u64>()) {
        let plan = plan_of(draft);
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::in_form(&meaning, Form::PerPair).expect("this form says everything");
        let borders = Borders::of(&plan, &rules);
        let mut seed = seed;
        for _ in 0..600 {
            let packet = packet(&borders, &plan, &mut seed);
            let (from, to) = (packet.source(), packet.destination());
            let Some(to_port) = packet.service.destination_port() else { continue };
            let own = plan.is_gateway(from);
            let begun = packet.enters < plan.gateway_interface()
                || packet.enters == plan.gateway_interface() && own;
            if begun && meaning.decide(&packet).verdict == Verdict::Allow {
                let protocol = packet.service.protocol().0;
                let flow = Flow { from, to, protocol, from_port: 50_000, to_port };
                prop_assert!(may_begin(&meaning, &flow).is_some(), "{packet:?}");
            }
        }
    }

    #[test]
    fn hours_can_be_fixed(draft in any_draft()) {
        let plan = plan_of(draft);
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let (open, rules) = written(&meaning, Form::PerPair, NftOptions::default());
        let timed: Vec<_> = rules.rules().filter(|rule| rule.hours.is_some()).collect();
        prop_assert_eq!(open.contains("meta hour"), timed.iter().any(|rule| open.contains(&tag(&rule.id.to_string()))));
        for minute in [Minute::new(390), Minute::new(1500)] {
            let (fixed, _) = written(&meaning, Form::PerPair, NftOptions::at(minute));
            prop_assert!(!fixed.contains("meta hour") && !fixed.contains("meta day"));
            for rule in &timed {
                let now = rule.first_packets().is_some_and(|m| m.at.contains(minute));
                let there = fixed.contains(&format!("comment \"{}\"", tag(&rule.id.to_string())));
                prop_assert!(now || !there, "{}", rule.id);
            }
        }
    }
}

/// A gateway that follows a connection from its middle may have it the wrong way round.
#[test]
fn what_may_have_been_begun_from_the_other_end_is_in_doubt() {
    let plan = demo("clinic.toml");
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    let end = |host: &str, port: u16| {
        let host = plan.hosts().iter().find(|one| one.name.as_str() == host).expect("a host");
        (host.addresses[0], port)
    };
    let never = |(from, from_port), (to, to_port)| {
        let flow =
            |from, from_port, to, to_port| Flow { from, to, protocol: 6, from_port, to_port };
        never_begins(
            &meaning,
            &flow(from, from_port, to, to_port),
            &flow(to, to_port, from, from_port),
        )
    };
    let (desk, printer) = (end("reception", 50_000), end("paper-printer", 631));
    assert!(!never(desk, printer), "the plan lets desks print");
    assert!(!never(printer, desk), "and this may be what comes back");
    assert!(never(end("paper-printer", 50_000), end("reception", 22)), "this is not");
    assert!(
        never(end("reception", 50_000), end("records", 2222))
            && never(end("records", 2222), end("reception", 50_000))
    );
}

#[test]
fn what_the_gateway_itself_may_not_begin_is_written_out() {
    let mut draft = wired(model::uniform("block", false));
    draft.exceptions = vec![model::exception("own", "gateway", "desks", "tcp/80", "reject")];
    let plan = resolve(draft).expect("a plan");
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    for form in [Form::PerPair, Form::OneList] {
        let (file, rules) = written(&meaning, form, NftOptions::default());
        let own = rules
            .rules()
            .find(|rule| rule.id.to_string().starts_with("exception.own"))
            .expect("a rule");
        let comment = format!("comment \"{}\"", tag(&own.id.to_string()));
        let mut lines = file.lines().filter(|line| line.ends_with(&comment));
        assert!(
            lines.any(|line| line.contains("tcp dport 80") && line.contains("reject")),
            "{file}"
        );
        assert!(file.contains("jump from_gateway"), "{file}");
    }
}

#[test]
fn hours_are_days_and_seconds_that_end_before_the_next_minute() {
    let plan = demo("farm.toml");
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    let (file, rules) = written(&meaning, Form::PerPair, NftOptions::default());
    let timed = rules.rules().filter(|rule| rule.hours.is_some()).count();
    assert!(timed > 0, "the farm has hours");
    for line in file.lines().filter(|line| line.contains("meta hour")) {
        let words =
            line.split_once("meta hour ").expect("hours").1.split(' ').next().expect("a range");
        let (from, to) = words.trim_matches('"').split_once("\"-\"").expect("from and to");
        assert!(from.ends_with(":00") && to.ends_with(":59"), "{words}");
        assert!(from < to, "{words}: hours past midnight are two lines");
    }
}

#[test]
fn a_chain_does_not_ask_again_what_is_sure_before_it() {
    let plan = demo("clinic.toml");
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    let rules = rules::in_form_with(&meaning, Form::PerPair, Rows::EveryCell).expect("rules");
    let file = nftables(&rules, NftOptions::default()).expect("every cable is named");
    let line = |comment: &str| {
        let behind = format!("comment \"{comment}\"");
        let mut lines = file.lines().filter(|line| line.ends_with(&behind));
        lines.next().unwrap_or_else(|| panic!("{comment}")).trim().to_owned()
    };
    // The whole zone to the whole zone: only what happens is said.
    assert_eq!(line("cell.staff>internet"), "counter accept comment \"cell.staff>internet\"");
    // The desks are all there is in their zone: the source is not asked for.
    let print = line("exception.desks-print@staff>equipment");
    assert!(!print.contains("saddr") && print.contains("daddr"), "{print}");
    // Some of them: it is.
    assert!(line("exception.vets-read-records@staff>clinical").contains("ip saddr 10.44.24.40/29"));
    // What was translated is asked for where a rule is for that alone.
    assert!(line("offered.booking@internet>clinical").contains("ct status dnat"));
}

#[test]
fn what_has_no_interface_is_named_all_at_once() {
    let mut draft = model::frame(true, false);
    draft.matrix.grid = model::uniform("block", false).matrix.grid;
    let plan = resolve(draft).expect("a plan");
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    let rules = rules::in_form(&meaning, Form::PerPair).expect("this form says everything");
    let missing = nftables(&rules, NftOptions::default()).expect_err("nothing has a port");
    let names = ["desks", "printers", "waiting-room", "tills"]
        .map(|name| NoInterface::Network(name.to_owned()));
    assert_eq!(missing[..4], names);
    assert_eq!(missing[4..], [NoInterface::Uplink("fibre".to_owned())]);
}

#[test]
fn interfaces_are_named_from_the_wiring_and_fit() {
    let mut draft = wired(model::frame(true, false));
    draft.matrix.grid = model::uniform("block", false).matrix.grid;
    for name in ["a-tunnel-with-a-long-name", "lan1", "visits"] {
        draft.tunnels.push(draft::Tunnel {
            name: text(name),
            zone: Some(text("guests")),
            clients: texts(&[match name {
                "visits" => "10.44.250.0/29",
                "lan1" => "10.44.251.0/29",
                _ => "10.44.252.0/29",
            }]),
            ..draft::Tunnel::default()
        });
    }
    let plan = resolve(draft).expect("a plan");
    let names: Vec<String> = (0..plan.gateway_interface().0)
        .filter_map(|interface| plan.device_name(bastium_core::space::Interface(interface)))
        .collect();
    assert_eq!(names[..4], ["lan1.20", "lan1.21", "lan1.22", "lan1.23"]);
    assert_eq!(names[4..], ["a-tunnel-with_4", "lan1_5", "visits", "wan1"]);
    let different: HashSet<&String> = names.iter().collect();
    assert_eq!(different.len(), names.len());
    assert!(names.iter().all(|name| name.len() <= 15));
}

/// A file grows with the networks, not with their pairs: every form of it is written once for a site, and once for one
/// with eighty networks more and with twice as many.
#[test]
fn a_file_grows_with_the_networks_and_not_with_their_pairs() {
    let with = |more: usize| {
        let mut draft = model::frame_of(true, true, true);
        draft.matrix.grid = model::uniform("block", false).matrix.grid;
        for number in 0..more {
            let subnet = format!("10.44.{}.{}/29", 200 + number / 16, number % 16 * 16);
            draft.networks.push(draft::Network {
                name: text(&format!("more-{number}")),
                zone: Some(text(["staff", "guests"][number % 2])),
                subnets: Some(texts(&[&subnet])),
                ..draft::Network::default()
            });
        }
        plan_of(draft)
    };
    let [small, medium, large] = [0, 80, 160].map(with);
    for form in Form::ALL {
        let length = |plan| {
            let meaning = Meaning::new(plan, TODAY).expect("exceptions in an order");
            written(&meaning, form, NftOptions::default()).0.len()
        };
        let (first, second) = (length(&medium) - length(&small), length(&large) - length(&medium));
        assert!(second * 4 <= first * 5, "{}: {first} more, then {second} more", form.word());
    }
}
