//! Questions and their answers.

mod common;

use common::{Bench, DAY, demo};

#[test]
fn verdicts_and_exit_codes() {
    let bench = Bench::new();
    for (question, verdict, kind, name, code) in [
        ("desks printers printing", "allow", "exception", "desks-print", 0),
        ("reception paper-printer tcp/9103", "block", "cell", "staff>equipment", 1),
        ("trainees internet ssh", "reject", "exception", "trainees-nothing-else", 1),
        ("desks desks", "not_routed", "same_network", "desks", 1),
        ("desks 10.44.99.5 https", "no_route", "no_route", "nowhere", 1),
        ("imaging internet https", "mixed", "exception", "old-ultrasound-stays-in", 1),
        ("internet tills", "block", "spoofed", "to-private", 1),
        ("internet gateway ssh", "block", "unmatched", "unmatched", 1),
        ("engineer-laptop gateway ssh", "allow", "manage", "manage", 0),
        ("desks gateway dns", "allow", "gateway_service", "desks", 0),
        ("desks 10.44.48.1 dns", "block", "unmatched", "unmatched", 1),
        ("gateway internet ntp", "allow", "from_gateway", "from-gateway", 0),
        ("10.44.24.255 records https", "block", "spoofed", "desks", 1),
    ] {
        let run = bench.clinic(&format!("ask {question} --format json"));
        let json = run.json();
        let because = &json["because"];
        let found = (json["verdict"].as_str(), because["kind"].as_str(), because["name"].as_str());
        assert_eq!(found, (Some(verdict), Some(kind), Some(name)), "{question}");
        assert_eq!(run.code, code, "{question}");
        assert_eq!(json["differences"], serde_json::json!([]), "{question}");
        let filtered = ["allow", "block", "reject"].contains(&verdict) && kind != "from_gateway";
        assert_eq!(json["rule"].is_object(), filtered || verdict == "mixed", "{question}");
        assert_eq!(json["parts"].is_array(), verdict == "mixed", "{question}");
    }
}

#[test]
fn an_answer_is_a_sentence_with_the_line_of_the_plan() {
    let bench = Bench::new();
    let line =
        common::demo("clinic.toml").lines().position(|l| l.starts_with("guests   ")).expect("row")
            + 1;
    let run = bench.clinic("ask guests tills");
    let says = format!("guests cannot reach tills: cell guests -> tills is block (line {line})");
    assert!(run.out.contains(&says), "{}", run.out);
    assert!(run.out.contains("reply         silence"), "{}", run.out);
}

#[test]
fn expressions_lists_and_literals_can_be_asked_about() {
    let bench = Bench::new();
    let ask = |words: &[&str]| {
        let mut all = vec!["ask"];
        all.extend(words);
        all.extend(["--plan", "clinic.toml", "--format", "json", "--day", common::DAY]);
        bench.run_words(&all).json()["verdict"].as_str().map(str::to_owned)
    };
    assert_eq!(
        ask(&["staff + clinical - imaging", "10.44.48.0/24", "ping"]).as_deref(),
        Some("block")
    );
    assert_eq!(ask(&["vets - scanner-cart", "records", "https"]).as_deref(), Some("allow"));
    assert_eq!(ask(&["vets", "records", "https"]).as_deref(), Some("mixed"));
    assert_eq!(ask(&["xray", "archive", "tcp/104", "tcp/11112"]).as_deref(), Some("allow"));
    assert_eq!(ask(&["xray", "archive", "tcp/104,tcp/105"]).as_deref(), Some("mixed"));
    assert_eq!(ask(&["fd6b:2f4e:91c0:10::5", "records", "https"]).as_deref(), Some("allow"));
}

#[test]
fn a_question_about_nothing_is_reported_with_a_help() {
    let bench = Bench::new();
    for (question, says) in [
        ("desk printers", "nothing in the plan is called `desk`\n  help: did you mean `desks`"),
        ("desks printers htps", "no service is called `htps`\n  help: did you mean `https`"),
        ("desk printer htps", "nothing in the plan is called `printer`"),
        ("xray fd6b:2f4e:91c0:40::10", "no traffic is possible from `xray`"),
        ("gateway gateway", "both ends are the gateway"),
        ("desks + printers", "a `+` or `-` stands without a name on each side"),
        ("desks 10.44.24.300", "is not an address"),
    ] {
        let run = bench.clinic(&format!("ask {question}"));
        assert_eq!(run.code, 2, "{question}");
        assert!(run.err.contains(says), "{question}: {}", run.err);
        assert!(run.out.is_empty(), "{question}");
    }
    // A zone in which nothing is yet.
    let moved =
        demo("clinic.toml").replace("zone = \"remote\"\nclients", "zone = \"staff\"\nclients");
    bench.write("clinic.toml", moved);
    for question in ["remote printers", "printers remote"] {
        let run = bench.clinic(&format!("ask {question}"));
        assert_eq!(run.code, 2, "{question}");
        assert!(run.err.contains("`remote` has no networks yet"), "{question}: {}", run.err);
    }
}

#[test]
fn hours_offers_and_domains_are_answered_about() {
    let bench = Bench::new();
    for (question, verdict, kind) in [
        ("delivery-tablet records https --at 07:00", "allow", "exception"),
        ("delivery-tablet records https --at sun,07:00", "block", "cell"),
        ("delivery-tablet records https", "mixed", "exception"),
        ("internet booking https", "allow", "offered"),
        ("internet 198.51.100.14 https", "allow", "offered"),
        ("internet booking ssh", "block", "spoofed"),
        ("internet gateway udp/51820", "allow", "tunnel_port"),
        ("home-visits records https", "allow", "exception"),
        ("phones phone-provider sips", "allow", "exception"),
        ("phones internet sips", "mixed", "exception"),
    ] {
        let words: Vec<String> = question.split(' ').map(|word| word.replace(',', " ")).collect();
        let mut words: Vec<&str> = words.iter().map(String::as_str).collect();
        words.splice(0..0, ["ask"]);
        words.extend(["--plan", "clinic.toml", "--day", DAY, "--format", "json"]);
        let run = bench.run_words(&words);
        let json = run.json();
        assert_eq!(json["verdict"], verdict, "{question}: {}", run.out);
        assert_eq!(json["because"]["kind"], kind, "{question}");
        assert!(!run.out.contains("240."), "no stand-in is shown: {question}");
        assert!(!run.all().contains("100::"), "no stand-in is shown: {question}");
    }
    let offered = bench.clinic("ask internet booking https --format json").json();
    assert_eq!(offered["packet"]["translated"], true);
    let hours = bench.clinic("ask delivery-tablet records https --format json").json();
    assert_eq!(hours["parts"][0]["packet"]["at"], "mon 06:45");
    assert_eq!(bench.clinic("ask desks printers ipp --at noon").code, 2);
}

#[test]
fn what_came_close_is_named() {
    let bench = Bench::new();
    let json = bench.clinic("ask reception paper-printer tcp/9103 --format json").json();
    let passed = json["passed_over"].as_array().expect("a list");
    assert!(
        passed
            .iter()
            .any(|rule| rule["id"] == "exception.desks-print" && rule["differs"] == "service"),
        "{passed:?}"
    );
}
