//! `new`: a first plan, by flags or by questions.

mod common;

use common::{Bench, demo};
use std::io::Write;
use std::process::{Command, Stdio};

fn text(bench: &Bench, name: &str) -> String {
    std::fs::read_to_string(bench.file(name)).expect("the plan is there")
}

#[test]
fn flags_say_what_the_plan_is_like() {
    let bench = Bench::new();
    let words = ["new", "Corner \"Shop\"", "--space", "192.168.0.0/16", "--plan", "shop.toml"];
    let run = bench.run_words(&words);
    assert_eq!(run.code, 0, "{}", run.err);
    let plan = text(&bench, "shop.toml");
    assert!(
        plan.contains("space = [\"192.168.0.0/16\"]") && plan.contains("192.168.24.10"),
        "{plan}"
    );
    assert!(!plan.contains("10.44."));
    let check = bench.run("check --plan shop.toml");
    assert_eq!(check.code, 0, "{}", check.out);
    let addresses = bench.run("addresses --plan shop.toml");
    assert!(addresses.out.starts_with("Corner \"Shop\": 2 networks"), "{}", addresses.out);
    for (from, networks) in [("clinic", 11), ("farm", 9)] {
        let run = bench.run(&format!("new --from {from} --plan {from}-2.toml"));
        assert_eq!(run.code, 0, "{}", run.err);
        let written = text(&bench, &format!("{from}-2.toml"));
        let demo = demo(&format!("{from}.toml"));
        assert_eq!(
            written.split_once('\n'),
            Some(("#:schema ./bastium.schema.json", demo.as_str()))
        );
        let reported = bench.run(&format!("check --plan {from}-2.toml"));
        assert!(reported.out.contains(&format!("{networks} networks")), "{}", reported.out);
    }
}

#[test]
fn what_cannot_be_is_reported_and_nothing_is_written() {
    let bench = Bench::new();
    for (words, says) in [
        ("new --space 8.8.0.0/16", "is not a private /16"),
        ("new --space 10.44.0.0/20", "is not a private /16"),
        ("new --from clinic --space 10.61.0.0/16", "the addresses of a demo plan are its own"),
        ("new --plan bare.toml", "bare.toml already exists"),
    ] {
        let run = bench.run(words);
        assert_eq!(run.code, 2, "{words}");
        assert!(run.err.contains(says), "{words}: {}", run.err);
    }
    assert!(!bench.file("bastium.toml").exists());
    assert_eq!(text(&bench, "bare.toml"), demo("bare.toml"));
}

/// With a person at a terminal it asks. The terminal is a real pseudo-terminal, made by `script`.
#[cfg(target_os = "linux")]
#[expect(clippy::print_stderr, reason = "what is skipped is said")]
#[test]
fn a_person_at_a_terminal_is_asked() {
    let bench = Bench::new();
    let program = env!("CARGO_BIN_EXE_bastium");
    let started = Command::new("script")
        .args(["-qec", &format!("{program} new"), "/dev/null"])
        .env_remove("BASTIUM_PLAN")
        .current_dir(bench.path())
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn();
    let Ok(mut child) = started else {
        eprintln!("skipped: no `script` on this machine to make a terminal with");
        return;
    };
    let mut keys = child.stdin.take().expect("its input");
    keys.write_all(b"Corner Shop\nshop\nbare\n10.61.0.0\n10.61.0.0/16\n").expect("the keys go in");
    let output = child.wait_with_output().expect("it ends");
    drop(keys);
    let shown = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(shown.contains("name of the site [Two networks]:"), "{shown}");
    assert!(shown.contains("`shop` is none of them"), "{shown}");
    assert!(
        shown.contains("is not a private /16") && shown.contains("wrote bastium.toml"),
        "{shown}"
    );
    let plan = text(&bench, "bastium.toml");
    assert!(plan.contains("name = \"Corner Shop\"") && plan.contains("10.61.24.10"), "{plan}");
    assert_eq!(bench.run("check").code, 0);
}

#[test]
fn services_are_found_by_word_and_port() {
    let bench = Bench::new();
    let printing = bench.clinic("services print");
    insta::assert_snapshot!("services_print", printing.all());
    let json = bench.clinic("services 5061 --format json").json();
    let names: Vec<&str> = json["services"]
        .as_array()
        .expect("services")
        .iter()
        .map(|service| service["name"].as_str().expect("a name"))
        .collect();
    assert_eq!(names, ["calls", "sips"]);
    assert_eq!(bench.run("services no-such-thing").code, 1);
    assert_eq!(bench.run("services").code, 0);
    let schema = bench.run("schema").json();
    assert_eq!(schema["$schema"], "https://json-schema.org/draft/2020-12/schema");
}
