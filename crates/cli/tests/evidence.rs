//! Which results of a walk count, and what makes silence evidence.

mod common;

use common::walks::{RESULTS, outcome, status, walk};
use common::{Bench, DAY, Run};
use serde_json::Value;

/// A line of a file of results, with some of it changed.
fn line_with(good: &str, change: &[(&str, serde_json::Value)]) -> String {
    let mut line: serde_json::Value = serde_json::from_str(good).expect("a line");
    for (key, value) in change {
        line[*key] = value.clone();
    }
    format!("{line}\n")
}

/// What somebody else hands in counts as far as it can be true, and what is left out is reported even to who wants quiet.
#[test]
fn results_of_others_are_looked_at_before_they_count() {
    let bench = Bench::new();
    walk(&bench, "--from ultrasound --results own.jsonl", "p\nq\n");
    let own = std::fs::read_to_string(bench.file("own.jsonl")).expect("the file");
    let good = own.lines().next().expect("a line");
    let expect = serde_json::from_str::<serde_json::Value>(good).expect("JSON")["expect"].clone();
    let other = if expect == "reply" { "silence" } else { "reply" };
    let status = |bench: &Bench, with: &str| {
        bench.clinic(&format!(
            "walk --full --status --results none.jsonl --with {with} --format json --quiet"
        ))
    };
    for (change, why) in [
        (("at", "2026-11-24 noon".into()), "failed to parse"),
        (("at", "2026-11-24T12:00:00".into()), "offset"),
        (("at", "2199-01-01T00:00:00Z".into()), "has not come yet"),
        (("bastium", 2.into()), "edition 2"),
        (("bastium", 300.into()), "u8"),
        (("seen", other.into()), "was expected"),
        (("seen", "nothing much".into()), "was expected"),
        (("tried", 3.into()), "unknown field"),
        (("outcome", "perhaps".into()), "perhaps"),
    ] {
        bench.write("ben.jsonl", line_with(good, &[change]));
        let run = status(&bench, "ben.jsonl");
        assert!(run.err.contains("ben.jsonl:1") && run.err.contains(why), "{why}: {}", run.err);
        assert_eq!(run.json()["passed"], 0, "{why}");
    }
    // Another expectation, or another plan: it has to be made again. A check that is not in the list is counted.
    for (change, key) in [
        (("expect", other.into()), "changed"),
        (("means", "something else".into()), "changed"),
        (("place", "desks".into()), "changed"),
        (("id", "no-such-check".into()), "of_others"),
    ] {
        bench.write("ben.jsonl", line_with(good, &[change, ("seen", serde_json::Value::Null)]));
        let found = status(&bench, "ben.jsonl").json();
        assert_eq!((&found[key], &found["passed"]), (&1.into(), &0.into()), "{key}");
    }
    // It is named, and so is what is still to be made and what that takes.
    let said = bench.clinic("walk --full --status --results none.jsonl --with ben.jsonl");
    assert!(
        said.out.contains("does not count, since this plan has no such check: no-such-check, "),
        "{}",
        said.out
    );
    assert!(said.out.contains("at xray; needed: the address 10.44.36.10"), "{}", said.out);
    // Instants are compared, not how they are written: noon in Auckland is before noon in London.
    let early = line_with(good, &[("at", "2026-11-24T23:00:00+13:00".into())]);
    let late = line_with(
        good,
        &[
            ("at", "2026-11-24T12:00:00Z".into()),
            ("outcome", "fail".into()),
            ("seen", serde_json::Value::Null),
        ],
    );
    bench.write("ben.jsonl", late + &early);
    assert_eq!(status(&bench, "ben.jsonl").json()["failed"], 1);
    // Reasons are bounded, and so is how many of them are shown.
    let long = line_with(good, &[("seen", "x".repeat(50_000).into())]);
    bench.write("ben.jsonl", long.repeat(40));
    let run = status(&bench, "ben.jsonl");
    assert!(run.err.len() < 5_000 && run.err.contains("30 more are left out"), "{}", run.err);
    assert_eq!(run.json()["unread"], 40);
    // A file that is too large is refused, not cut.
    bench.write("ben.jsonl", good.to_owned() + "\n" + &" ".repeat(17 << 20));
    let run = status(&bench, "ben.jsonl");
    assert!(run.code == 2 && run.err.contains("larger than"), "{}", run.err);
}

/// On a dead network everything is silent: that is no pass until somebody has answered.
#[test]
fn silence_counts_only_once_the_other_end_was_heard() {
    let bench = Bench::new();
    let list = bench.clinic("checklist --format json").json();
    let stands = list["stands"].as_array().expect("rows");
    let checks = || stands.iter().flat_map(|stand| stand["checks"].as_array().expect("rows"));
    let place = |id: &Value| {
        let has = |stand: &&Value| {
            stand["checks"].as_array().expect("rows").iter().any(|check| check["id"] == *id)
        };
        stands.iter().find(has).expect("a place")["place"].clone()
    };
    let silent = checks().find(|check| check["says"] == "waiting-room cannot reach reception");
    let silent = silent.expect("the check");
    let (id, control, own) = (&silent["id"], &silent["control"], &silent["own_end"]);
    assert_ne!(control, own);
    let record = |id: &Value, outcome: &str, at: &str| {
        let place = place(id);
        let check = checks().find(|check| check["id"] == *id).expect("the check");
        let (expect, means) = (&check["expect"], &check["means"]);
        format!(
            "{{\"bastium\":1,\"id\":{id},\"outcome\":\"{outcome}\",\"expect\":{expect},\"by\":\"ana\",\
             \"at\":\"2026-06-01T{at}:00Z\",\"place\":{place},\"means\":{means}}}\n"
        )
    };
    let state = |lines: &[String]| {
        bench.write(RESULTS, lines.concat());
        let run = bench.clinic("walk --status --format json");
        let status = run.json();
        (outcome(&status, id.as_str().expect("an id")), status)
    };
    let alone = [record(id, "pass", "10:00")];
    let (word, status) = state(&alone);
    assert_eq!((word.as_str(), &status["passed"]), ("not_shown", &0.into()));
    let text = bench.clinic("walk --status").out;
    let says = format!("it counts once {} has passed", control.as_str().expect("an id"));
    let one_line = text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(one_line.contains(&says), "{text}");
    let [failed, passed] = ["fail", "pass"].map(|outcome| record(control, outcome, "10:05"));
    assert_eq!(state(&[alone[0].clone(), failed.clone()]).0, "not_shown");
    // The other end is on; but from a socket that is dead everything is silent.
    assert_eq!(state(&[alone[0].clone(), passed.clone()]).0, "not_shown");
    let here = record(own, "pass", "09:58");
    assert_eq!(state(&[here.clone(), alone[0].clone(), passed.clone()]).0, "pass");
    assert_eq!(state(&[here.clone(), alone[0].clone()]).0, "not_shown");
    // The gateway was heard before and after, as a walk by itself does.
    let heard = alone[0].replace("\"place\"", "\"gateway_answered\":true,\"place\"");
    assert_eq!(state(&[heard.clone(), passed.clone()]).0, "pass");
    assert_eq!(state(&[heard]).0, "not_shown");
    // What was heard once and is gone again is no evidence.
    let gone = failed.replace("10:05", "10:09");
    assert_eq!(state(&[here.clone(), alone[0].clone(), passed.clone(), gone]).0, "not_shown");
    // Nor is what was heard on another day, or of what the plan does not mean any more.
    let all = |passed: String| state(&[here.clone(), alone[0].clone(), passed]).0;
    assert_eq!(all(passed.replace("T10:05", "T17:55")), "pass");
    for other in [
        passed.replace("06-01T", "05-31T"),
        passed.replace("06-01T", "06-02T"),
        passed.replace("\"means\":\"", "\"means\":\"other "),
    ] {
        assert_ne!(other, passed);
        assert_eq!(all(other), "not_shown");
    }
}

/// What is to be tried in the small hours is not shown by what came at noon, whether it passed or failed.
#[test]
fn a_result_of_another_hour_does_not_count() {
    let bench = Bench::new();
    let list = bench.clinic("checklist --full --format json").json();
    let stands = list["stands"].as_array().expect("rows");
    let of = |stand: &Value| {
        let checks = stand["checks"].as_array().expect("rows").clone();
        checks.into_iter().map(|check| (stand["place"].clone(), check)).collect::<Vec<_>>()
    };
    let timed: Vec<(Value, Value)> =
        stands.iter().flat_map(of).filter(|(_, check)| !check["when"].is_null()).collect();
    assert!(timed.len() > 3, "{list}");
    let days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
    let mut off_hours = 0;
    for (place, check) in &timed {
        let when = check["when"].as_str().expect("a time");
        let (day, time) = when.split_once(' ').expect("a day and a time");
        let day = days.iter().position(|one| *one == day).expect("a day");
        // 1 June 2026 is a Monday; in June the clinic is an hour ahead of UTC.
        let right = format!("2026-06-{:02}T{time}:00+01:00", day + 1);
        let state = |at: &str, result: &str| {
            let [id, expect, means] = ["id", "expect", "means"].map(|key| &check[key]);
            bench.write(
                RESULTS,
                format!(
                    "{{\"bastium\":1,\"id\":{id},\"outcome\":\"{result}\",\"expect\":{expect},\"by\":\"ana\",\
                     \"at\":\"{at}\",\"place\":{place},\"both_ends\":true,\"means\":{means}}}\n"
                ),
            );
            let status = status(&bench);
            outcome(&status, check["id"].as_str().expect("an id"))
        };
        assert_eq!(state(&right, "pass"), "pass", "{check}");
        assert_eq!(state(&right, "fail"), "fail", "{check}");
        for hour in ["03:00", "10:00", "13:30", "18:30", "23:00"] {
            let at = format!("2026-06-{:02}T{hour}:00+01:00", day + 1);
            let [passed, failed] = ["pass", "fail"].map(|result| state(&at, result));
            assert_eq!(passed == "open", failed == "open", "{check} at {hour}");
            off_hours += usize::from(passed == "open");
        }
    }
    assert!(off_hours >= timed.len(), "{off_hours} of {}", timed.len());
    let text = bench.clinic("walk --full --status").out;
    let one_line = text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(one_line.contains("does not count: the plan means something else"), "{text}");
}

/// A lease that was right is not right for another pool, router, resolver or subnet, nor a connection to a provider that has
/// another name now. What has nothing to do with them still counts.
#[test]
fn a_result_does_not_outlive_what_it_was_held_against() {
    let bench = Bench::new();
    let plan = std::fs::read_to_string(bench.file("clinic.toml")).expect("the plan");
    let status =
        || bench.run(&format!("walk --plan clinic.toml --status --day {DAY} --format json")).json();
    let mut made = bench.command();
    made.args(["walk", "--plan", "clinic.toml", "--day", DAY, "--by", "ana"]);
    Run::of(made.write_stdin("p\n".repeat(200)));
    let lease = "network.phones/lease";
    let call = "exception.phones-to-provider/tcp/5061";
    let other = "network.desks/lease";
    let before = status();
    for id in [lease, call, other] {
        assert_eq!(outcome(&before, id), "pass", "{id}");
    }
    let phones = plan.find("[network.phones]").expect("a network");
    for (from, to, again) in [
        ("vlan = 52", "vlan = 53", lease),
        ("dhcp = \"100-149\"", "dhcp = \"101-149\"", lease),
        ("10.44.52.0/24", "10.44.53.0/24", lease),
        ("\"calls.example.net\"", "\"talks.example.net\"", call),
    ] {
        let (head, rest) = plan.split_at(phones);
        bench.write("clinic.toml", format!("{head}{}", rest.replacen(from, to, 1)));
        let after = status();
        assert_eq!(outcome(&after, again), "changed", "{to}");
        assert_eq!(outcome(&after, other), "pass", "{to}");
    }
}
