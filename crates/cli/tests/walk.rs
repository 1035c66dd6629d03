//! The walk through the checklist: by hand, by itself in a network of its own, and what is kept of it.

mod common;

use common::walks::{RESULTS, outcome, status, walk};
use common::{Bench, DAY, Run};
use serde_json::Value;
use std::io::Write;
use std::process::{Command, Stdio};
use std::time::Duration;

fn lines(bench: &Bench) -> Vec<String> {
    let text = std::fs::read_to_string(bench.file(RESULTS)).unwrap_or_default();
    text.lines().map(str::to_owned).collect()
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
