//! `check` and `explain`: what is found, what is kept, and what other tools read.

mod common;

use common::{Bench, DAY, demo, repository};
use serde_json::json;

fn broken(name: &str) -> String {
    let path = repository().join("demo/broken").join(format!("{name}.toml"));
    std::fs::read_to_string(path).expect("the broken plan is there")
}

#[test]
fn a_finding_is_reported_with_its_place_its_reason_and_its_help() {
    let bench = Bench::new();
    for name in ["guarantee-broken", "network-missing", "subnet-too-small"] {
        bench.write("broken.toml", broken(name));
        let run = bench.run(&format!("check --plan broken.toml --day {DAY}"));
        insta::assert_snapshot!(format!("broken_{name}"), run.all());
        assert_eq!(run.code, 1, "{name}");
    }
}

#[test]
fn a_finding_that_is_known_is_counted_and_not_reported_again() {
    let bench = Bench::new();
    bench.write("kept.toml", broken("known-gone.fine"));
    let run = bench.run(&format!("check --plan kept.toml --day {DAY}"));
    assert_eq!(run.code, 0, "{}", run.out);
    assert!(run.out.contains("nothing found, and 1 kept as known"), "{}", run.out);
    let json = bench.run(&format!("check --plan kept.toml --day {DAY} --format json")).json();
    let finding = &json["findings"][0];
    assert_eq!((&finding["name"], &finding["known"]), (&json!("no-second-factor"), &json!(true)));

    let text = broken("no-reason")
        + "[exception.third]\nfrom = \"desks\"\nto = \"printers\"\n\
        service = \"http\"\naction = \"allow\"\n\n[known]\n\"no-reason@second\" = \"Everybody knows\"\n";
    bench.write("one.toml", text);
    let run = bench.run(&format!("check --plan one.toml --day {DAY}"));
    assert_eq!(run.code, 1);
    assert!(run.out.contains("exception `third` has no `why`"), "{}", run.out);
    assert!(!run.out.contains("`second` has no `why`"), "{}", run.out);
}

#[test]
fn review_tools_get_the_same_findings() {
    let bench = Bench::new();
    bench.write("my plan.toml", broken("vlan-one"));
    let words = ["check", "--sarif", "--plan", "my plan.toml", "--day", DAY];
    let run = bench.run_words(&words);
    assert_eq!(run.code, 1);
    let log = run.json();
    assert_eq!(log["version"], "2.1.0");
    let results = log["runs"][0]["results"].as_array().expect("results");
    let result = results.iter().find(|one| one["ruleId"] == "vlan-one").expect("it is found");
    assert_eq!(result["level"], "warning");
    let place = &result["locations"][0]["physicalLocation"];
    assert_eq!(place["artifactLocation"]["uri"], "my%20plan.toml");
    let line: usize =
        place["region"]["startLine"].as_u64().expect("a line").try_into().expect("a small one");
    assert_eq!(broken("vlan-one").lines().nth(line - 1), Some("vlan = 1"));
    let known = log["runs"][0]["tool"]["driver"]["rules"].as_array().expect("rules");
    assert!(known.iter().any(|rule| rule["id"] == "vlan-one"));
    // A plan that cannot be read is reported in the same way.
    bench.write("bad.toml", demo("bare.toml").replace("vlan = 24", "vlan = 4095"));
    let bad = bench.run("check --sarif --plan bad.toml");
    assert_eq!(bad.code, 2);
    assert_eq!(bad.json()["runs"][0]["results"][0]["ruleId"], "vlan-out-of-range");
}

#[test]
fn every_finding_can_be_explained() {
    let bench = Bench::new();
    let page = bench.run("explain never-matches");
    assert!(page.out.starts_with("never-matches (warning)\n"), "{}", page.out);
    assert_eq!(bench.run("explain").code, 0);
    let unknown = bench.run("explain never-match");
    assert_eq!(unknown.code, 2);
    assert!(unknown.err.contains("did you mean `never-matches`"), "{}", unknown.err);
    let all = bench.run("explain --format json").json();
    assert!(all["pages"].as_array().expect("pages").len() > 100);
}

#[test]
fn ports_say_what_is_missing_and_that_the_answer_is_no() {
    let bench = Bench::new();
    bench.write("gap.toml", broken("network-missing"));
    let run = bench.run("ports --plan gap.toml");
    assert_eq!(run.code, 1);
    assert!(run.out.contains("waiting-room  rack port 11  Wi-Fi guests"), "{}", run.out);
    let json = bench.clinic("ports --format json").json();
    let rack = json["ports"].as_array().expect("ports");
    let port = |name: &str| rack.iter().find(|p| p["device"] == "rack" && p["port"] == name);
    let hall = port("25").expect("port 25");
    assert_eq!(hall["untagged"], json!({ "network": "control", "vlan": 10 }));
    assert_eq!(hall["to"], "access point hall");
    assert_eq!(port("1").expect("port 1")["tagged"].as_array().map(Vec::len), Some(11));
    assert_eq!(port("19").expect("port 19")["isolate"], true);
    assert_eq!(json["wifi"][0]["on"], json!(["hall", "surgery", "theatre"]));
}
