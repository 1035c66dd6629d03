//! Lists of RFC 8519 onto a simulated gateway by NETCONF. In the place of `ssh` stands a script that starts the gateway itself,
//! so that nothing but the built program is needed; `tests/load.rs` has the real one.
#![cfg(unix)]

mod common;

use common::{Bench, Run};
use serde_json::Value;
use std::os::unix::fs::PermissionsExt;

/// A bench with a gateway that is reached by what is called `ssh` there.
fn bench(faults: &str) -> Bench {
    let bench = Bench::new();
    let program = env!("CARGO_BIN_EXE_bastium");
    let folder = bench.path().display();
    ssh(
        &bench,
        &format!(
            "exec {program} simulate gateway --state {folder}/gateway --plan {folder}/clinic.toml {faults}"
        ),
    );
    bench
}

/// Puts a script in the place of `ssh`.
fn ssh(bench: &Bench, script: &str) {
    bench.write("ssh", format!("#!/bin/sh\n{script}\n"));
    let executable = std::fs::Permissions::from_mode(0o755);
    std::fs::set_permissions(bench.file("ssh"), executable).expect("a script");
}

fn run(bench: &Bench, words: &str) -> Run {
    let mut command = bench.command();
    let path = format!("{}:/usr/bin:/bin", bench.path().display());
    command.env("PATH", path).args(words.split_whitespace()).args([
        "--plan",
        "clinic.toml",
        "--day",
        common::DAY,
    ]);
    Run::of(&mut command)
}

fn load(bench: &Bench, words: &str) -> (Value, i32) {
    let run = run(bench, &format!("load netconf://gw.example --format json {words}"));
    assert!(!run.out.is_empty(), "{}", run.err);
    (run.json(), run.code)
}

/// What becomes of a packet at the gateway.
fn sent(bench: &Bench, words: &str) -> Run {
    bench.run(&format!("simulate packet --state gateway {words}"))
}

#[test]
fn lists_are_loaded_confirmed_and_decide() {
    let bench = bench("");
    let (sheet, code) = load(&bench, "--yes-if-verified");
    assert_eq!((code, &sheet["state"]), (0, &"confirmed".into()), "{sheet:#}");
    // Guests do not reach the tills; the vets do reach the records; both are counted.
    let guests = sent(&bench, "--enters core.80 10.44.80.20 10.44.60.10 tcp/443");
    assert_eq!(guests.code, 1, "{}", guests.out);
    let question = "10.44.36.20 10.44.40.10 tcp/443";
    let clinical = sent(&bench, &format!("--enters core.36 {question}"));
    let plan = run(&bench, "ask 10.44.36.20 10.44.40.10 tcp/443");
    assert_eq!(clinical.code, plan.code, "{} {}", clinical.out, plan.out);
    let nowhere = sent(&bench, &format!("--enters nowhere {question}"));
    assert!(nowhere.out.contains("no list is attached"), "{}", nowhere.out);
    let log = bench.run("simulate log --state gateway").out;
    assert!(log.contains("committed for 300 s") && log.contains("dropped 10.44.80.20"), "{log}");
    // Once more changes nothing, and says so by the same words.
    let (again, code) = load(&bench, "--yes-if-verified");
    assert_eq!(code, 0, "{again:#}");
}

#[test]
fn a_load_waits_until_somebody_confirms_or_returns() {
    let bench = bench("");
    let (sheet, code) = load(&bench, "");
    assert_eq!((code, &sheet["state"]), (0, &"pending".into()), "{sheet:#}");
    assert_eq!(sheet["returns_in"], 300);
    let id = sheet["id"].as_str().expect("an id").to_owned();
    let guests = "--enters core.80 10.44.80.20 10.44.60.10 tcp/443";
    assert_eq!(sent(&bench, guests).code, 1, "it runs already");
    let wrong = run(&bench, "load netconf://gw.example --confirm 00000000");
    assert_eq!(wrong.code, 1, "{}", wrong.err);
    assert_eq!(run(&bench, &format!("load netconf://gw.example --return {id}")).code, 0);
    assert!(sent(&bench, guests).out.contains("no list is attached"), "the old lists run");
    let late = run(&bench, &format!("load netconf://gw.example --confirm {id}"));
    assert_eq!(late.code, 1, "{}", late.err);
    assert!(late.err.contains("invalid-value"), "{}", late.err);
    let (sheet, _) = load(&bench, "");
    let id = sheet["id"].as_str().expect("an id");
    assert_eq!(run(&bench, &format!("load netconf://gw.example --confirm {id}")).code, 0);
    assert_eq!(sent(&bench, guests).code, 1);
    let twice = run(&bench, &format!("load netconf://gw.example --return {id}"));
    assert_eq!(twice.code, 1, "{}", twice.err);
}

/// A commit takes what is in the candidate: what somebody else put there meanwhile is neither committed nor taken away.
#[test]
fn changes_of_somebody_else_are_not_committed() {
    let bench = bench("");
    let (sheet, _) = load(&bench, "");
    let id = sheet["id"].as_str().expect("an id");
    let base = "xmlns=\"urn:ietf:params:xml:ns:netconf:base:1.0\"";
    let messages = [
        format!(
            "<hello {base}><capabilities><capability>urn:ietf:params:netconf:base:1.0</capability></capabilities></hello>"
        ),
        format!(
            "<rpc message-id=\"1\" {base}><edit-config><target><candidate/></target><config>\
             <acls xmlns=\"urn:ietf:params:xml:ns:yang:ietf-access-control-list\"><acl><name>mine</name></acl></acls>\
             </config></edit-config></rpc>"
        ),
        format!("<rpc message-id=\"2\" {base}><close-session/></rpc>"),
    ];
    let mut somebody = bench.command();
    somebody.args(["simulate", "gateway", "--state", "gateway"]);
    let done = Run::of(somebody.write_stdin(messages.map(|one| one + "]]>]]>").concat()));
    assert_eq!(done.out.matches("<ok/>").count(), 2, "{}", done.out);
    let confirmed = run(&bench, &format!("load netconf://gw.example --confirm {id}"));
    assert_eq!(confirmed.code, 1, "{}", confirmed.out);
    assert!(confirmed.err.contains("somebody has not committed"), "{}", confirmed.err);
    assert_eq!(run(&bench, &format!("load netconf://gw.example --return {id}")).code, 0);
}

#[test]
fn nothing_is_left_by_a_dry_run() {
    let bench = bench("");
    let (sheet, code) = load(&bench, "--dry-run");
    assert_eq!((code, &sheet["state"]), (0, &"tried".into()), "{sheet:#}");
    assert!(
        sent(&bench, "--enters core.80 10.44.80.20 10.44.60.10 tcp/443").out.contains("no list")
    );
    assert_eq!(load(&bench, "--yes-if-verified").1, 0, "and the candidate is clean");
}

#[test]
fn what_goes_wrong_is_said_and_nothing_stays() {
    for (fault, code, state, says) in [
        ("locked", 1, "stopped", "session 4294967295 has locked"),
        ("edited", 1, "stopped", "nobody has committed"),
        ("refuses", 1, "stopped", "refused, as asked"),
        ("drops", 3, "unsure", "session with the gateway ended"),
        ("forgets", 1, "returned", ""),
    ] {
        let bench = bench(&format!("--fault {fault}"));
        let run = run(&bench, "load netconf://gw.example --yes-if-verified --format json");
        let sheet = run.json();
        assert_eq!(
            (run.code, &sheet["state"]),
            (code, &state.into()),
            "{fault}: {sheet:#} {}",
            run.err
        );
        assert!(run.err.contains(says), "{fault}: {}", run.err);
        if fault != "drops" {
            assert!(
                sent(&bench, "--enters core.80 10.44.80.20 10.44.60.10 tcp/443")
                    .out
                    .contains("no list"),
                "{fault}"
            );
        }
    }
}

#[test]
fn interfaces_that_are_not_there_are_named() {
    let bench = bench("--interface core.10");
    let (sheet, code) = load(&bench, "--yes-if-verified");
    assert_eq!((code, &sheet["state"]), (1, &"stopped".into()), "{sheet:#}");
    assert!(sheet.to_string().contains("core.24"), "{sheet:#}");
}

#[test]
fn servers_that_are_none_are_endured() {
    let bench = Bench::new();
    for script in [
        "exit 1",
        "echo hello",
        "printf '<hello>]]>]]>'",
        "printf '<!DOCTYPE a [<!ENTITY b \"c\">]><hello>&b;</hello>]]>]]>'",
        "head -c 100000000 /dev/zero",
        "printf '\\033[2J'; exit 0",
    ] {
        ssh(&bench, script);
        let run = run(&bench, "load netconf://gw.example --yes-if-verified");
        assert_eq!(run.code, 3, "{script}: {}{}", run.out, run.err);
        assert!(!run.err.contains('\u{1b}'), "{script}");
    }
}

/// A gateway that has counted what the walk saw is verified; one that has not, or runs something else, is not.
#[test]
fn counters_are_read_back_and_held_against_the_walk() {
    let bench = bench("");
    assert_eq!(load(&bench, "--yes-if-verified").1, 0);
    let mut walk = bench.command();
    walk.args(["walk", "--plan", "clinic.toml", "--day", common::DAY, "--by", "Kim"]);
    Run::of(walk.write_stdin("p\n".repeat(500)));
    let verify = || {
        let run = run(&bench, "verify netconf://gw.example --format json");
        (run.json(), run.code)
    };
    let (sheet, code) = verify();
    assert_eq!((code, sheet["differences"].as_array().map(Vec::len)), (1, Some(0)), "{sheet:#}");
    let silent = sheet["counters"]
        .as_array()
        .expect("rows")
        .iter()
        .filter(|row| row["packets"] == 0)
        .count();
    assert!(silent > 20, "nothing has been sent yet: {sheet:#}");
    // Now what the walk tried is really sent.
    let addresses = bench.run("addresses --plan clinic.toml --format json").json();
    let networks = addresses["networks"].as_array().expect("networks");
    let results = std::fs::read_to_string(bench.file("clinic.walk.jsonl")).expect("results");
    for line in results.lines() {
        let record: Value = serde_json::from_str(line).expect("a result");
        let words: Vec<&str> = record["means"].as_str().expect("words").split(' ').collect();
        let [service, "from", from, "to", to, ..] = words[..] else { continue };
        // By the source's network; one that has no address yet, by the place.
        let place = record["place"].as_str().expect("a place");
        let part = if from.contains(':') { 3 } else { 2 };
        let inner = from.starts_with("10.44.") || from.starts_with("fd6b:2f4e:91c0:");
        let number = from.split(['.', ':']).nth(part).filter(|_| inner).unwrap_or_default();
        let is_it = |one: &&Value| match from {
            "0.0.0.0" => place.starts_with(one["name"].as_str().expect("a name")),
            _ => one["vlan"].as_u64().is_some_and(|vlan| number.parse() == Ok(vlan)),
        };
        let enters = match (networks.iter().find(is_it), inner) {
            (Some(network), _) => format!("core.{}", network["vlan"]),
            (None, true) => "home-visits".to_owned(),
            (None, false) => "wan1".to_owned(),
        };
        sent(&bench, &format!("--enters {enters} {from} {to} {service}"));
    }
    let (sheet, code) = verify();
    assert_eq!(
        (code, &sheet["verified"]),
        (0, &true.into()),
        "{:#} {:#}",
        sheet["faults"],
        sheet["counters"]
    );
    // Other lists than those of the plan.
    let changed = bench.run("add exception extra from=desks to=servers service=tcp/2222 action=allow why=Test --plan clinic.toml");
    assert_eq!(changed.code, 0, "{}", changed.err);
    let (sheet, code) = verify();
    assert_eq!(code, 1);
    assert!(sheet["differences"].to_string().contains("desks in ipv4"), "{sheet:#}");
}

#[test]
#[expect(clippy::print_stderr, reason = "what is skipped is said")]
fn an_independent_client_finds_nothing_to_object_to() {
    let folder = common::repository().join("target/python");
    let python = |words: &[&str]| {
        let mut python = std::process::Command::new("python3");
        python.args(words).env("PYTHONPATH", &folder).output()
    };
    let there = python(&["-c", "import ncclient"]).is_ok_and(|done| done.status.success());
    if !there {
        assert!(std::env::var("BASTIUM_NCCLIENT_NEEDED").is_err(), "ncclient is not there");
        eprintln!("skipped: no ncclient for python3");
        return;
    }
    let bench = Bench::new();
    let script = common::repository().join("crates/cli/tests/netconf/second_opinion.py");
    let (script, plan) =
        (script.display().to_string(), bench.file("clinic.toml").display().to_string());
    let done = python(&[&script, env!("CARGO_BIN_EXE_bastium"), &plan]).expect("python3");
    let said = String::from_utf8_lossy(&done.stdout);
    assert!(done.status.success(), "{said}{}", String::from_utf8_lossy(&done.stderr));
    assert!(said.contains("nothing to object to"), "{said}");
}
