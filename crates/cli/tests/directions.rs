//! Errors that point the right way: what people write who know other words for it.

mod common;

use common::{Bench, demo};

/// The bare plan with an exception that has these lines.
fn with_exception(lines: &str) -> String {
    let keys = ["from", "to", "service"];
    let own = |key: &&str| lines.lines().any(|line| line.starts_with(&format!("{key} =")));
    let rest: String = keys
        .iter()
        .filter(|key| !own(key))
        .map(|key| match *key {
            "from" => "from = \"desks\"\n",
            "to" => "to = \"printers\"\n",
            _ => "service = \"ipp\"\n",
        })
        .collect();
    let head = "\n[exception.odd]\naction = \"allow\"\nwhy = \"a try\"\n";
    format!("{}{head}{rest}{lines}\n", demo("bare.toml"))
}

fn errors(bench: &Bench, plan: &str) -> Vec<serde_json::Value> {
    bench.write("odd.toml", plan);
    let json = bench.run("check --plan odd.toml --format json").json();
    let all = json["findings"].as_array().expect("findings").clone();
    all.into_iter().filter(|finding| finding["severity"] == "error").collect()
}

fn helps(bench: &Bench, plan: &str) -> Vec<String> {
    let text = |finding: &serde_json::Value| finding["help"].as_str().expect("words").to_owned();
    errors(bench, plan).iter().map(text).collect()
}

#[test]
fn words_of_other_trades_lead_to_services() {
    let bench = Bench::new();
    for (word, help) in [
        ("SMB", "did you mean `smb`?"),
        ("445", "did you mean `smb`?"),
        ("631", "did you mean `ipp`?"),
        ("sip-tls", "did you mean `sips`?"),
        ("SIP_TLS", "did you mean `sips`?"),
        ("wireguard", "did you mean `udp/51820`?"),
        ("airprint", "it usually needs `mdns` and `ipp`; list those"),
        ("voip", "it usually needs `sip`, `sips`, `rtp` and `stun`; list those"),
        ("onvif", "it usually needs `ws-discovery`, `rtsp`, `http` and `https`; list those"),
        ("htps", "did you mean `https`?"),
    ] {
        assert_eq!(helps(&bench, &with_exception(&format!("service = \"{word}\""))), [help]);
    }
    // What is found by such a word, too, and what is offered stands up.
    for word in ["chromecast", "voip", "airprint", "teams"] {
        let found = bench.run(&format!("services {word} --format json")).json();
        assert!(found["services"].as_array().expect("rows").len() > 1, "{word}");
    }
    let plan = with_exception("service = [\"mdns\", \"ipp\", \"udp/51820\"]");
    assert!(errors(&bench, &plan).is_empty());
}

#[test]
fn everything_but_something_is_written_with_a_minus() {
    let bench = Bench::new();
    for word in ["!printers", "not-printers"] {
        let found = helps(&bench, &with_exception(&format!("to = \"{word}\"")));
        assert_eq!(
            found.first().map(String::as_str),
            Some("did you mean `any - printers`?"),
            "{word}"
        );
    }
    assert!(errors(&bench, &with_exception("to = \"any - printers\"")).is_empty());
    // Of something that is not there, nothing is offered.
    let found = helps(&bench, &with_exception("to = \"!nobody\""));
    assert!(!found[0].contains("any -"), "{found:?}");
}

#[test]
fn keys_of_other_words_lead_to_keys() {
    let bench = Bench::new();
    let with = |table: &str, line: &str| {
        let text = demo("bare.toml");
        assert!(text.contains(table), "{table}");
        text.replacen(table, &format!("{table}\n{line}"), 1)
    };
    for (table, line, help) in [
        ("[network.desks]", "vlan_id = 25", "did you mean `vlan`?"),
        ("[network.desks]", "VLAN-ID = 25", "did you mean `vlan`?"),
        ("[network.desks]", "cidr = \"10.44.25.0/24\"", "did you mean `subnet`?"),
        ("[host.engineer-laptop]", "ip = \"10.44.24.9\"", "did you mean `address`?"),
        ("[host.engineer-laptop]", "mac_address = \"02:00:5e:00:00:01\"", "did you mean `mac`?"),
        (
            "[network.desks]",
            "name = \"Desks\"",
            "the name of an entry is in its heading, as in `[network.desks]`; remove the key",
        ),
        ("[network.desks]", "colour = \"blue\"", "remove it; a comment goes behind a `#`"),
    ] {
        assert_eq!(helps(&bench, &with(table, line)), [help], "{line}");
    }
    assert_eq!(helps(&bench, &with_exception("src = \"desks\"")), ["did you mean `from`?"]);
}

#[test]
fn hours_in_place_get_their_lines() {
    let bench = Bench::new();
    for (word, days, from, to) in [
        ("mon-fri 08:00-18:00", "mon-fri", "08:00", "18:00"),
        ("Mon-Fri 8:00-18:00", "mon-fri", "08:00", "18:00"),
        ("06:45-11:00", "mon-sun", "06:45", "11:00"),
        ("sat, sun 10:00-12:00", "sat,sun", "10:00", "12:00"),
    ] {
        let found = helps(&bench, &with_exception(&format!("hours = \"{word}\"")));
        let lines = format!("`days = \"{days}\"`, `from = \"{from}\"` and `to = \"{to}\"`");
        assert!(found.len() == 1 && found[0].contains(&lines), "{word}: {found:?}");
        // Written so, they are taken.
        let hours = format!("[hours.h]\ndays = \"{days}\"\nfrom = \"{from}\"\nto = \"{to}\"\n");
        let plan = format!("{}{hours}", with_exception("hours = \"h\""));
        assert!(errors(&bench, &plan).is_empty(), "{word}");
    }
    let found = helps(&bench, &with_exception("hours = \"25:00-26:00\""));
    assert_eq!(found, ["declare them as `[hours.NAME]`"]);
}

/// A zone that is missing in many places is reported once, with all other places beside the first.
#[test]
fn what_is_missing_everywhere_is_said_once() {
    let bench = Bench::new();
    let mut plan = demo("bare.toml");
    for number in 0..8 {
        plan += &format!("\n[network.more-{number}]\nzone = \"yard\"\nvlan = {}\n", 60 + number);
    }
    let found = errors(&bench, &plan);
    let missing: Vec<_> =
        found.iter().filter(|finding| finding["name"] == "unknown-zone").collect();
    assert_eq!(missing.len(), 1, "{missing:?}");
    // Programs get all places, people the first few.
    assert_eq!(missing[0]["related"].as_array().expect("places").len(), 7);
    let shown = bench.run("check --plan odd.toml").out;
    assert_eq!(shown.matches("and here").count(), 3, "{shown}");
    assert!(shown.contains("also: 4 more places"), "{shown}");
    // Another one that is missing is another one.
    let other = plan.replacen("zone = \"yard\"", "zone = \"roof\"", 1);
    let found = errors(&bench, &other);
    assert_eq!(found.iter().filter(|finding| finding["name"] == "unknown-zone").count(), 2);
}

/// For code review: where a finding ends, what else belongs to it, and what it is called from one run to the next.
#[test]
fn findings_for_code_review_have_both_places() {
    let bench = Bench::new();
    let twice = demo("bare.toml").replace("vlan = 48", "vlan = 24");
    let results = |plan: &str| {
        bench.write("odd.toml", plan);
        let log = bench.run("check --sarif --plan odd.toml").json();
        log["runs"][0]["results"].as_array().expect("results").clone()
    };
    let is_it = |result: &&serde_json::Value| result["ruleId"] == "vlan-taken";
    let first = results(&twice);
    let result = first.iter().find(is_it).unwrap_or_else(|| panic!("{first:?}"));
    let region = &result["locations"][0]["physicalLocation"]["region"];
    let line =
        |text: &str| text.lines().position(|line| line == "vlan = 24").expect("there") as u64;
    assert_eq!(region["endLine"], region["startLine"]);
    assert_eq!(region["endColumn"].as_u64(), region["startColumn"].as_u64().map(|at| at + 2));
    let related = &result["relatedLocations"][0]["physicalLocation"]["region"]["startLine"];
    assert!(related.as_u64().is_some_and(|at| at < region["startLine"].as_u64().expect("a line")));
    assert!(line(&twice) > 0);
    // A line above moves it; it stays the same finding.
    let moved = results(&format!("# a remark\n{twice}"));
    let moved = moved.iter().find(is_it).expect("the same one");
    assert_eq!(moved["partialFingerprints"], result["partialFingerprints"]);
    assert_ne!(moved["locations"], result["locations"]);
}

/// What makes a build fail can be chosen.
#[test]
fn check_fails_on_what_it_is_reported_to() {
    let bench = Bench::new();
    let plans = [
        ("fine.toml", demo("bare.toml"), [0, 0, 0]),
        ("advice.toml", with_exception("until = \"2020-01-01\""), [0, 0, 1]),
        (
            "warned.toml",
            demo("bare.toml").replace("vlan = 24", "vlan = 1").replace("10.44.24.", "10.44.1."),
            [0, 1, 1],
        ),
        ("wrong.toml", demo("bare.toml").replace("vlan = 24", "vlan = 4095"), [2, 2, 2]),
    ];
    for (name, text, codes) in plans {
        bench.write(name, text);
        for (severity, code) in ["error", "warning", "advice"].iter().zip(codes) {
            let run = bench.run(&format!("check --plan {name} --fail-on {severity}"));
            assert_eq!(run.code, code, "{name} {severity}: {}", run.out);
        }
    }
}
