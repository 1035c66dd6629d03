//! The walk through the checklist: by hand, by itself in a network of its own, and what is kept of it.

mod common;

use common::{Bench, DAY, Run};
use serde_json::Value;
use std::io::Write;
use std::process::{Command, Stdio};
use std::time::Duration;

const RESULTS: &str = "clinic.walk.jsonl";

/// Walks by hand, with these keys.
fn walk(bench: &Bench, words: &str, keys: &str) -> Run {
    let words: Vec<&str> = words.split_whitespace().collect();
    let mut command = bench.command();
    command.args(["walk", "--full"]).args(words).args([
        "--plan",
        "clinic.toml",
        "--day",
        DAY,
        "--by",
        "ana",
    ]);
    Run::of(command.write_stdin(keys))
}

fn status(bench: &Bench) -> Value {
    bench.clinic("walk --full --status --format json").json()
}

fn lines(bench: &Bench) -> Vec<String> {
    let text = std::fs::read_to_string(bench.file(RESULTS)).unwrap_or_default();
    text.lines().map(str::to_owned).collect()
}

fn outcome(status: &Value, id: &str) -> String {
    let results = status["results"].as_array().expect("rows");
    let row = results.iter().find(|row| row["id"] == id).unwrap_or_else(|| panic!("{id}"));
    row["outcome"].as_str().expect("a word").to_owned()
}

#[test]
fn keys_lead_through_the_list_and_each_result_is_kept() {
    let bench = Bench::new();
    let none = bench.clinic("walk --full --status").out;
    assert!(none.contains(&format!("nothing is in {RESULTS} yet")), "{none}");
    let keys = "p\nf printer is off\n?\nn loose cable\ns\nb\nq\n";
    let run = walk(&bench, "--from desks", keys);
    assert_eq!(run.code, 1, "a check failed");
    assert!(run.out.contains("desks (place 1 of"), "{}", run.out);
    assert!(run.out.contains("expect  reply") && run.out.contains("rack ports 3-8"));
    let kept: Vec<Value> =
        lines(&bench).iter().map(|line| serde_json::from_str(line).expect("JSON")).collect();
    let outcomes: Vec<&str> =
        kept.iter().map(|one| one["outcome"].as_str().expect("a word")).collect();
    assert_eq!(outcomes, ["pass", "fail", "note", "skip"]);
    assert!(kept.iter().all(|one| one["by"] == "ana" && one["place"] == "desks"));
    assert_eq!(kept[1]["note"], "printer is off");
    let status = status(&bench);
    assert_eq!(
        (&status["passed"], &status["failed"], &status["skipped"]),
        (&1.into(), &1.into(), &1.into())
    );
    assert_eq!(outcome(&status, "network.desks/lease"), "pass");
    insta::assert_snapshot!(
        "walk_status",
        bench
            .clinic("walk --full --status --from desks")
            .out
            .lines()
            .filter(|line| !line.contains("results are in"))
            .collect::<Vec<_>>()
            .join("\n")
    );
}

#[test]
fn a_walk_goes_on_where_it_ended_and_what_failed_is_tried_again() {
    let bench = Bench::new();
    walk(&bench, "--from ultrasound", "p\nf\n");
    let again = walk(&bench, "--from ultrasound", "p\n");
    assert!(again.out.contains("1/1  "), "only the failed one is left: {}", again.out);
    assert_eq!(again.code, 0);
    assert!(again.out.contains("signed off: every check was made, by ana"), "{}", again.out);
    let nothing = walk(&bench, "--from ultrasound --retest", "");
    assert!(!nothing.out.contains("1/"), "{}", nothing.out);
    assert_eq!(lines(&bench).len(), 3);
}

#[test]
fn a_changed_plan_asks_for_just_what_it_touches_again() {
    let bench = Bench::new();
    let list = bench.clinic("checklist --full --format json").json();
    let stands = list["stands"].as_array().expect("rows");
    let all = stands.iter().flat_map(|stand| stand["checks"].as_array().expect("rows")).count();
    walk(&bench, "", &"p\n".repeat(all));
    let before = status(&bench);
    let not_shown: usize =
        before["not_shown"].as_u64().expect("a number").try_into().expect("a small one");
    // What needs another hour is not asked for.
    let other_hours = before["open"].as_u64().expect("a number");
    let made = all - usize::try_from(other_hours).expect("a small one");
    assert_eq!(before["passed"], made - not_shown);
    assert!(other_hours < 20, "{other_hours}");
    assert!(not_shown < all / 5, "{not_shown}: most silences have a control");
    let plan = std::fs::read_to_string(bench.file("clinic.toml")).expect("the plan");
    let at = plan.find("[exception.desks-print]").expect("the exception");
    let changed = plan[at..].replacen("why = \"", "log = true\nwhy = \"", 1);
    bench.write("clinic.toml", format!("{}{changed}", &plan[..at]));
    let same = status(&bench);
    assert_eq!(
        same["passed"], before["passed"],
        "whether a rule logs is nothing that a check sees"
    );
    let tills = plan.replace("10.44.24.60", "10.44.24.62");
    assert_ne!(tills, plan, "the locum's laptop has another address");
    bench.write("clinic.toml", tills);
    let moved = status(&bench);
    let (touched, open) =
        (moved["changed"].as_u64().expect("a number"), moved["open"].as_u64().expect("a number"));
    let open = open - other_hours;
    assert!(touched + open > 0 && touched + open < 20, "{touched} changed, {open} new");
    let again = walk(&bench, "--retest", "q\n");
    assert!(again.out.contains(&format!("1/{touched}  ")), "{}", again.out);
}

/// What a power cut leaves of the last line is reported and left out; what comes after it is whole. It may have been a
/// check that failed, so that nothing is signed off over it.
#[test]
fn a_torn_line_costs_one_result_and_no_more() {
    let bench = Bench::new();
    walk(&bench, "--from ultrasound", "p\np\n");
    let text = std::fs::read_to_string(bench.file(RESULTS)).expect("results");
    bench.write(RESULTS, &text[..text.len() - 40]);
    let run = walk(&bench, "--from ultrasound", "p\n");
    assert!(run.err.contains("clinic.walk.jsonl:2: no result, left out"), "{}", run.err);
    assert!(!run.out.contains("signed off"), "{}", run.out);
    assert!(run.out.contains("1 line of the results cannot be read"), "{}", run.out);
    let kept = lines(&bench);
    assert_eq!(kept.len(), 3);
    bench.write(RESULTS, format!("{}\n{}\n", kept[0], kept[2]));
    let run = walk(&bench, "--from ultrasound", "");
    assert!(run.out.contains("signed off"), "{}", run.out);
}

#[test]
fn results_of_several_people_are_one_and_become_xml() {
    let bench = Bench::new();
    walk(&bench, "--from ultrasound --results ana.jsonl", "p\nq\n");
    walk(&bench, "--from reception --results ben.jsonl", "f <&\"loose\u{1b}[31m\nq\n");
    let both = bench
        .clinic("walk --full --status --results ana.jsonl --with ben.jsonl --format json")
        .json();
    // Nothing came back to the ultrasound, and nobody has seen yet that there is anyone who could have answered.
    let counted = (&both["passed"], &both["not_shown"], &both["failed"]);
    assert_eq!(counted, (&0.into(), &1.into(), &1.into()));
    let run = bench.clinic("walk --full --results ana.jsonl --with ben.jsonl --junit out.xml");
    assert_eq!(run.code, 1, "{}", run.err);
    let xml = std::fs::read_to_string(bench.file("out.xml")).expect("the file");
    assert!(xml.contains("failures=\"1\"") && xml.contains("&lt;&amp;"), "{xml}");
    assert!(!xml.contains('\u{1b}'));
    let again = bench.clinic("walk --full --results ana.jsonl --junit out.xml");
    assert_eq!(again.code, 2, "a file that is there is not overwritten");
}

#[test]
fn what_cannot_be_walked_is_said() {
    let bench = Bench::new();
    for (words, says) in [
        ("walk --full --from nowhere", "no check runs at `nowhere`"),
        ("walk --results missing/results.jsonl --status --with gone.jsonl", "gone.jsonl"),
        ("listen sctp/80", "only tcp and udp"),
        ("listen tcp/0", "a port is a number from 1 to 65535"),
        ("listen udp/9-1", "the range ends before it begins"),
        ("listen tcp", "it has no port"),
    ] {
        let run = if words.starts_with("walk") { bench.clinic(words) } else { bench.run(words) };
        assert_eq!(run.code, 2, "{words}: {}", run.out);
        assert!(run.err.contains(says), "{words}: {}", run.err);
    }
    let plan = std::fs::read(bench.file("clinic.toml")).expect("the plan");
    let mut command = bench.command();
    let piped = Run::of(command.args(["walk", "--status", "--plan", "-"]).write_stdin(plan));
    assert!(piped.code == 2 && piped.err.contains("--results FILE"), "{}", piped.err);
}

/// Whether this system lets a test have a network of its own, with the tools to set it up.
fn own_network() -> bool {
    let try_it = Command::new("unshare").args(["-rn", "ip", "link", "set", "lo", "up"]).output();
    try_it.is_ok_and(|run| run.status.success())
}

/// In a network of its own, where every address is at home and a few ports answer: what the walk sees is
/// what is there, and what is not there is not made up.
#[test]
fn by_itself_it_finds_its_place_and_tries_what_can_be_tried() {
    if !own_network() {
        return; // `scripts/test` says so.
    }
    let bench = Bench::new();
    let script = "ip link set lo up
        for a in 10.44.24.100 10.44.24.1 10.44.48.10 10.44.48.11; do ip addr add $a/24 dev lo; done
        \"$0\" listen tcp/631 tcp/53 udp/53 udp/123 --for 20s > visits 2> ready & echo $! > answer.pid
        i=0; until grep -q listening ready || [ $i -gt 50 ]; do i=$((i+1)); sleep 0.1; done
        \"$0\" walk --full --run --from desks --plan clinic.toml --patience 300ms --by robot --format json
        code=$?; kill $(cat answer.pid); exit $code";
    let Run { out, err: reported, code } = in_own_network(&bench, script);
    assert_eq!(code, 1, "{reported}");
    let json = &out[out.find('{').unwrap_or_else(|| panic!("{out} {reported}"))..];
    let status: Value = serde_json::from_str(json).expect("JSON");
    let expected = [
        // The address that this machine has is one of the pool.
        ("network.desks/lease", "pass"),
        ("network.desks/gateway", "pass"),
        ("network.desks/dns", "pass"),
        ("network.desks/time", "pass"),
        ("exception.desks-print/itself", "pass"),
        ("discovery.printers@desks+/service-forgotten", "pass"),
        // Nothing filters here: what has to stay silent is refused by the host itself.
        ("network.desks/manage", "fail"),
        ("exception.desks-print/next-port-2", "fail"),
        // Nothing listens on the printer's other port.
        ("exception.desks-print/service-forgotten", "fail"),
        // There is no IPv6 here, and no way out.
        ("network.desks/gateway6", "open"),
        ("cell.staff>guests/ping", "open"),
        // Looking for announced names takes a person.
        ("network.desks/announced", "open"),
    ];
    for (id, word) in expected {
        assert_eq!(outcome(&status, id), word, "{id}: {reported}");
    }
    let rows = status["results"].as_array().expect("rows");
    let of = |id: &str| rows.iter().find(|row| row["id"] == id).expect("the row").clone();
    assert_eq!(of("network.desks/manage")["seen"], "refused");
    let other = of("exception.desks-print/service-forgotten")["note"].to_string();
    assert!(other.contains("nothing listens there"), "{other}");
    let visits = std::fs::read_to_string(bench.file("visits")).expect("who came");
    assert!(visits.contains("tcp/631 reached by 10.44.24.100"), "{visits}");
}

/// Runs a script in a network of its own, with the program as `$0`.
fn in_own_network(bench: &Bench, script: &str) -> Run {
    let mut command = Command::new("unshare");
    command.args(["-rn", "sh", "-c", script, env!("CARGO_BIN_EXE_bastium")]);
    Run::of(assert_cmd::Command::from_std(command).current_dir(bench.path()))
}

/// A network in which nothing answers, the gateway included: no silence is a pass there.
#[test]
fn a_dead_network_passes_nothing() {
    if !own_network() {
        return; // `scripts/test` says so.
    }
    let bench = Bench::new();
    bench.clinic("check");
    let run = in_own_network(
        &bench,
        "ip link add one type veth peer name other && ip link set one up && ip link set other up
        ip addr add 10.44.80.50/24 dev one
        \"$0\" walk --full --run --plan clinic.toml --patience 200ms --by robot",
    );
    assert!(run.out.contains("the gateway answers nothing here"), "{}{}", run.out, run.err);
    let kept: Vec<Value> =
        lines(&bench).iter().map(|line| serde_json::from_str(line).expect("JSON")).collect();
    let passed: Vec<&Value> = kept.iter().filter(|one| one["outcome"] == "pass").collect();
    // Only that the address is one of the pool.
    assert!(passed.iter().all(|one| one["id"] == "network.waiting-room/lease"), "{passed:?}");
    assert!(kept.iter().any(|one| one["outcome"] == "fail"), "replies are missing");
    assert!(!kept.iter().any(|one| one["expect"] == "silence"), "{kept:?}");
}

/// Behind the socket is another network than the plan has there.
#[test]
fn a_socket_of_another_network_is_a_failed_check() {
    if !own_network() {
        return; // `scripts/test` says so.
    }
    let bench = Bench::new();
    bench.clinic("check");
    let run = in_own_network(
        &bench,
        "ip link set lo up; ip addr add 10.44.80.50/24 dev lo
        \"$0\" walk --run --from desks --plan clinic.toml --patience 200ms --by robot",
    );
    assert_eq!(run.code, 1, "{}{}", run.out, run.err);
    let says =
        "this machine is in waiting-room, by its address 10.44.80.50; the plan has desks here";
    let one_line = run.out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(one_line.contains(says), "{}", run.out);
    let kept = lines(&bench).concat();
    assert!(kept.contains("network.desks/lease") && kept.contains("\"fail\""), "{kept}");
    // Whoever has a leg in each is not in the wrong one, not even when nothing is left to try.
    let both = Bench::new();
    let walk = "\"$0\" walk --run --from desks --plan clinic.toml --patience 100ms --by robot";
    let legs =
        "ip link set lo up; for a in 10.44.80.50 10.44.24.100; do ip addr add $a/24 dev lo; done";
    let run = in_own_network(&both, &format!("{legs}; {walk}; {walk}; {walk}"));
    assert!(!run.out.contains("this machine is in"), "{}", run.out);
}

#[test]
fn where_it_stands_nowhere_it_says_so() {
    let bench = Bench::new();
    let run = bench.clinic("walk --full --run --patience 50ms");
    assert_eq!(run.code, 1, "nothing was tried: {}", run.err);
    assert!(run.out.contains("is in no network of the plan"), "{}", run.out);
    assert!(lines(&bench).is_empty());
    // Where a network was asked for, it gives no address: that is a failed check of it.
    let run = bench.clinic("walk --run --from desks --patience 50ms");
    assert_eq!(run.code, 1, "{}", run.err);
    assert!(run.out.contains("has no address of desks"), "{}", run.out);
    let kept = lines(&bench).concat();
    assert!(kept.contains("network.desks/lease") && kept.contains("\"fail\""), "{kept}");
}

/// At a terminal one key is enough, without the end of a line. The terminal is a real one, made by `script`.
#[cfg(target_os = "linux")]
#[test]
fn at_a_terminal_single_keys_are_enough() {
    let bench = Bench::new();
    let program = env!("CARGO_BIN_EXE_bastium");
    let words = format!("walk --full --from ultrasound --plan clinic.toml --day {DAY} --by ana");
    let started = Command::new("script")
        .args(["-qec", &format!("{program} {words}"), "/dev/null"])
        .current_dir(bench.path())
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn();
    let Ok(mut child) = started else { return }; // `scripts/test` says so.
    let mut keys = child.stdin.take().expect("its input");
    // What is typed before the program listens must not be lost, nor what comes key by key.
    for key in [b"x", b"p", b"b", b"f", b"p"] {
        keys.write_all(key).expect("the key goes in");
        std::thread::sleep(Duration::from_millis(300));
    }
    let output = child.wait_with_output().expect("it ends");
    drop(keys);
    let shown = String::from_utf8_lossy(&output.stdout).into_owned();
    let kept: Vec<Value> =
        lines(&bench).iter().map(|line| serde_json::from_str(line).expect("JSON")).collect();
    let outcomes: Vec<&str> = kept.iter().filter_map(|one| one["outcome"].as_str()).collect();
    assert_eq!(outcomes, ["pass", "fail", "pass"], "{shown}");
    assert!(shown.contains("2 of 2 checks passed") || shown.contains("1 failed"), "{shown}");
}

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
