//! Ways in and out, and times, on plans written out: what each table does to a verdict, and to rules.

use bastium_core::asking::{End, ask};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Plan, Rows};
use bastium_core::proof;
use bastium_core::rules;
use bastium_core::source::Text;
use bastium_core::space::{IntervalSet, Minute};
use jiff::civil::{Date, date};

const DAY: Date = date(2026, 11, 24);
const CLINIC: &str = include_str!("../../../demo/clinic.toml");
const FARM: &str = include_str!("../../../demo/farm.toml");

fn read(text: &str) -> Plan {
    bastium_planfile::read("plan", text.as_bytes())
        .unwrap_or_else(|refused| panic!("{:#?}", refused.diagnoses))
}

/// `verdict kind name` for a question, or `mixed`; the rules are compared on the way.
fn answer(plan: &Plan, question: &str, at: Option<&str>) -> String {
    let meaning = Meaning::new(plan, DAY).expect("a meaning");
    let rules = rules::compile(&meaning);
    let words: Vec<&str> = question.split(" | ").collect();
    let ends = [words[0], words[1]].map(|words| End::new(plan, words).expect("a place"));
    let service = plan.service(&[Text::new(words[2])]).expect("a service");
    let at = at.map_or(IntervalSet::full(), |words| {
        IntervalSet::point(Minute::from_words(words, "mon").expect("a minute"))
    });
    let answer = ask(&meaning, &rules, &ends[0], &ends[1], &service, &at).expect("an answer");
    assert!(answer.differences.is_empty(), "{question}");
    let cause = answer.shares[0].decision.cause;
    match answer.verdict {
        Some(verdict) => format!("{} {} {}", verdict.word(), cause.kind(), cause.name(plan)),
        None => "mixed".to_owned(),
    }
}

#[test]
fn hours_open_and_close() {
    let plan = read(FARM);
    for (at, expected) in [
        ("sun 20:29", "allow cell children>internet"),
        ("sun 20:30", "reject exception children-sleep"),
        ("mon 06:29", "reject exception children-sleep"),
        ("mon 06:30", "allow cell children>internet"),
        ("thu 23:00", "reject exception children-sleep"),
        ("fri 06:29", "reject exception children-sleep"),
        ("fri 21:59", "allow cell children>internet"),
        ("fri 22:00", "reject exception children-sleep"),
        ("sun 07:29", "reject exception children-sleep"),
        ("sun 07:30", "allow cell children>internet"),
    ] {
        assert_eq!(answer(&plan, "children | internet | https", Some(at)), expected, "{at}");
    }
    assert_eq!(answer(&plan, "children | internet | https", None), "mixed");
    // What they may do at all hours stays the same.
    assert_eq!(
        answer(&plan, "children | television | casting", None),
        "allow exception children-watch"
    );
}

/// An exception that holds at certain hours is narrower than the same without: it goes above by itself.
#[test]
fn narrower_hours_go_above_wider_ones() {
    let text = format!(
        "{CLINIC}\n[hours.morning]\ndays = \"mon-fri\"\nfrom = \"08:00\"\nto = \"12:00\"\n\
         [hours.early]\ndays = \"mon\"\nfrom = \"08:00\"\nto = \"09:00\"\n\
         [exception.wide]\nfrom = \"doors\"\nto = \"servers\"\nservice = \"ssh\"\naction = \"allow\"\n\
         hours = \"morning\"\n\
         [exception.narrow]\nfrom = \"doors\"\nto = \"servers\"\nservice = \"ssh\"\naction = \"block\"\n\
         hours = \"early\"\n"
    );
    let plan = read(&text);
    for (at, expected) in [
        ("mon 08:30", "block exception narrow"),
        ("mon 09:00", "allow exception wide"),
        ("fri 11:59", "allow exception wide"),
        ("fri 12:00", "block cell premises>clinical"),
        ("sat 10:00", "block cell premises>clinical"),
    ] {
        assert_eq!(answer(&plan, "doors | records | ssh", Some(at)), expected, "{at}");
    }
    // Hours that only overlap leave it open, and the packet says when.
    let open = text.replace("days = \"mon\"", "days = \"mon, sun\"");
    let plan = read(&open);
    let problems = Meaning::new(&plan, DAY).expect_err("neither is narrower");
    let bastium_core::meaning::OrderProblem::Contradiction { packet, .. } = &problems[0] else {
        panic!("{problems:?}");
    };
    assert_eq!(packet.at.to_string(), "mon 08:00");
}

#[test]
fn what_is_behind_a_router_has_its_own_zone_and_turns_round() {
    let plan = read(FARM);
    for (question, expected) in [
        ("robots | herd-server | https", "allow exception robots-report"),
        ("robots | herd-server | ssh", "block cell milking>milking"),
        ("parlour | dairy | ping", "block cell milking>milking"),
        ("office | robots | ping", "allow cell office>milking"),
        ("robots | internet | https", "block cell milking>internet"),
        ("robot-service | robots | ssh", "allow exception maker-looks-after-robots"),
        ("robots | gateway | dns", "block unmatched unmatched"),
    ] {
        // The robots have the gateway's services only where they enter: they are not in the network.
        let expected = if question == "robots | gateway | dns" {
            "allow gateway_service parlour"
        } else {
            expected
        };
        assert_eq!(answer(&plan, question, None), expected, "{question}");
    }
    let moved = FARM.replace(
        "via = \"10.61.40.9\"\nzone = \"milking\"",
        "via = \"10.61.40.9\"\nzone = \"gadgets\"",
    );
    let plan = read(&moved);
    assert_eq!(answer(&plan, "office | robots | ping", None), "allow cell office>gadgets");
    assert_eq!(answer(&plan, "parlour | dairy | ping", None), "block cell milking>gadgets");
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let rules = rules::in_form_with(&meaning, plan.gateway().form, Rows::EveryCell).expect("rules");
    let has = |id: &str| rules.rules().any(|rule| rule.id == *id);
    assert!(has("cell.gadgets>internet") && has("cell.gadgets>internet@2"));
    assert!(proof::differences(&meaning, &rules, &meaning.universe()).is_empty());
}

#[test]
fn an_offer_is_open_just_as_far_as_it_says() {
    let other = CLINIC.replace("outside-port = 443", "outside-port = 8443");
    for (text, question, expected) in [
        (CLINIC, "internet | booking | https", "allow offered booking"),
        (CLINIC, "internet | booking | tcp/444", "block spoofed to-private"),
        (CLINIC, "internet | 198.51.100.14 | tcp/444", "block unmatched unmatched"),
        (CLINIC, "desks | 198.51.100.14 | https", "block unmatched unmatched"),
        (CLINIC, "desks | booking | https", "block cell staff>clinical"),
        (&other, "internet | 198.51.100.14 | tcp/8443", "allow offered booking"),
        (&other, "internet | 198.51.100.14 | https", "block unmatched unmatched"),
        (&other, "internet | booking | https", "allow offered booking"),
    ] {
        assert_eq!(answer(&read(text), question, None), expected, "{question}");
    }
    // Whom it is offered to, for how long, and whether at all.
    let offer = "why = \"Clients book from home\"";
    for (line, question, expected) in [
        (
            "from = \"203.0.113.5\"",
            "internet - 203.0.113.5 | 198.51.100.14 | https",
            "block unmatched unmatched",
        ),
        ("from = \"203.0.113.5\"", "203.0.113.5 | 198.51.100.14 | https", "allow offered booking"),
        ("from = \"internet + desks\"", "desks | 198.51.100.14 | https", "allow offered booking"),
        ("off = true", "internet | 198.51.100.14 | https", "block unmatched unmatched"),
        ("until = \"2026-11-23\"", "internet | 198.51.100.14 | https", "block unmatched unmatched"),
        ("until = \"2026-11-24\"", "internet | 198.51.100.14 | https", "allow offered booking"),
        ("hours = \"deliveries\"", "internet | 198.51.100.14 | https", "mixed"),
    ] {
        let plan = read(&CLINIC.replace(offer, &format!("{offer}\n{line}")));
        assert_eq!(answer(&plan, question, None), expected, "{line}: {question}");
    }
    // An exception can take strangers out again: narrower, so it goes above.
    let barred = format!(
        "{CLINIC}\n[exception.barred]\nfrom = \"203.0.113.64/26\"\nto = \"booking\"\nservice = \"https\"\n\
         action = \"block\"\nwhy = \"They try passwords\"\n"
    );
    let plan = read(&barred);
    assert_eq!(
        answer(&plan, "203.0.113.70 | 198.51.100.14 | https", None),
        "block exception barred"
    );
    assert_eq!(answer(&plan, "203.0.113.7 | 198.51.100.14 | https", None), "allow offered booking");
}

#[test]
fn a_leased_uplink_has_an_address_that_can_be_asked_about() {
    let plan = read(FARM);
    assert_eq!(
        answer(&plan, "internet | gateway | udp/51820", None),
        "allow tunnel_port robot-service"
    );
    assert_eq!(answer(&plan, "internet | gateway | ssh", None), "block unmatched unmatched");
    assert_eq!(plan.gateway_outside().words().len(), 2);
    let words = plan.set_words(plan.gateway_outside());
    assert_eq!(words, ["the address of dish"]);
}

#[test]
fn a_domain_is_a_block_of_its_own() {
    let plan = read(FARM);
    assert_eq!(answer(&plan, "weather | weather-map | https", None), "allow exception weather-out");
    assert_eq!(
        answer(&plan, "weather | internet - weather-map | https", None),
        "block cell gadgets>internet"
    );
    assert_eq!(answer(&plan, "family | weather-map | https", None), "allow cell family>internet");
    // The address that stands for it is none that can be asked about.
    assert!(
        End::new(&plan, "240.1.0.0").is_err()
            || !answer(&plan, "weather | 240.1.0.0 | https", None).starts_with("allow")
    );
}

#[test]
fn announced_names_are_heard_only_where_they_are_repeated() {
    let plan = read(FARM);
    for (question, expected) in [
        ("family | gateway | mdns", "allow discovery living-room"),
        ("media | gateway | mdns", "allow discovery living-room"),
        ("shop | gateway | mdns", "block unmatched unmatched"),
        ("robot-service | gateway | mdns", "block unmatched unmatched"),
    ] {
        assert_eq!(answer(&plan, question, None), expected, "{question}");
    }
}
