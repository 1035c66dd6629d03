//! The demo, and every command on every demo plan in every format.

mod common;

use common::{Bench, DAY, demo};

#[test]
fn the_demo_walks_through_the_whole_job() {
    let bench = Bench::new();
    let run = bench.run(&format!("demo --dir walk --day {DAY}"));
    insta::assert_snapshot!("demo", with_plain_ids(&run.all()));
    assert_eq!(
        std::fs::read_to_string(bench.file("walk/clinic.toml")).expect("written"),
        demo("clinic.toml")
    );
    for command in ["addresses", "ports", "matrix", "check", "rules", "ask", "checklist", "load"] {
        assert!(run.out.contains(&format!("$ bastium {command}")), "{command}");
    }
}

/// Each load has an id that was not there before.
fn with_plain_ids(text: &str) -> String {
    let is_id = |word: &str| {
        word.len() == 8 && word.bytes().all(|byte| matches!(byte, b'0'..=b'9' | b'a'..=b'f'))
    };
    let plain = |line: &str| {
        let words = line.split(' ').map(|word| {
            let bare = word.trim_matches('`');
            if is_id(bare) { word.replace(bare, "3f9a01c7") } else { word.to_owned() }
        });
        words.collect::<Vec<_>>().join(" ")
    };
    text.split('\n').map(plain).collect::<Vec<_>>().join("\n")
}

#[test]
fn the_demo_can_be_run_again_but_writes_over_no_changed_plan() {
    let bench = Bench::new();
    assert_eq!(bench.run("demo --dir walk").code, 0);
    assert_eq!(bench.run("demo --dir walk").code, 0);
    bench.write("walk/clinic.toml", demo("bare.toml"));
    let refused = bench.run("demo --dir walk");
    assert_eq!(refused.code, 2);
    assert!(refused.err.contains("already exists"), "{}", refused.err);
    assert_eq!(
        std::fs::read_to_string(bench.file("walk/clinic.toml")).expect("kept"),
        demo("bare.toml")
    );
    assert_eq!(bench.run("demo --dir walk --force").code, 0);
}

const COMMANDS: [&str; 10] = [
    "addresses",
    "ports",
    "check",
    "matrix",
    "matrix staff clinical",
    "rules",
    "rules desks printers",
    "ask imaging internet https",
    "ask desks gateway dns",
    "checklist",
];

#[test]
fn every_command_prints_the_same_in_every_format() {
    let bench = Bench::new();
    for command in COMMANDS {
        let name = command.replace(' ', "_");
        for format in ["text", "csv", "md"] {
            let run = bench.clinic(&format!("{command} --format {format}"));
            insta::assert_snapshot!(format!("{name}.{format}"), run.all());
        }
        let json = bench.clinic(&format!("{command} --format json"));
        assert_eq!(json.json()["bastium"], 1, "{command}");
        assert!(json.out.starts_with("{\n  \"bastium\": 1,"), "the edition comes first: {command}");
        assert!(json.err.is_empty());
    }
}

#[test]
fn every_line_for_people_fits_eighty_columns() {
    let bench = Bench::new();
    for command in
        COMMANDS.iter().chain(&["checklist --system windows", "checklist --system macos"])
    {
        let run = bench.clinic(command);
        for line in run.out.lines() {
            assert!(line.chars().count() <= 80, "{command}: {line}");
        }
    }
}

/// The farm has what the clinic has not: routes, leased uplink addresses, another form, spans of hours.
#[test]
fn every_command_works_on_the_farm() {
    let bench = Bench::new();
    for command in COMMANDS.map(|command| match command {
        "matrix staff clinical" => "matrix family media",
        "rules desks printers" => "rules robot-service robots",
        "ask imaging internet https" => "ask children internet https",
        "ask desks gateway dns" => "ask internet gateway udp/51820",
        other => other,
    }) {
        let dated = !["addresses", "ports"].contains(&command);
        let day = if dated { format!("--day {DAY}") } else { String::new() };
        let run = bench.run(&format!("{command} --plan farm.toml {day}"));
        insta::assert_snapshot!(format!("farm_{}", command.replace([' ', '/'], "_")), run.all());
        assert!(run.code < 2, "{command}: {}", run.err);
        assert!(run.out.lines().all(|line| line.chars().count() <= 80), "{command}");
        assert!(!run.out.contains("240.") && !run.out.contains("100::ba57"), "{command}");
        for format in ["json", "csv", "md"] {
            let run = bench.run(&format!("{command} --plan farm.toml --format {format} {day}"));
            assert!(run.code < 2, "{command}: {}", run.err);
            // In the exact sets of rules they are no words of their own, but can end a range.
            let words = ["\"240.", "\"100::ba57:0"].map(|start| run.out.contains(start));
            let exact = format == "json" && command.starts_with("rules");
            assert!(exact || words == [false, false], "{command}: {}", run.out);
            assert!(!run.out.contains("\"240.1.0.0\"") && !run.out.contains("\"240.2.0.0\""));
        }
    }
}

#[test]
fn a_wider_terminal_is_used() {
    let bench = Bench::new();
    let wide = |words: &[&str]| {
        common::Run::of(
            bench.command().env("COLUMNS", "180").args(words).args(["--plan", "clinic.toml"]),
        )
    };
    let matrix = wide(&["matrix", "--day", DAY]);
    assert!(matrix.out.starts_with("from       control"), "{}", matrix.out);
    let addresses = wide(&["addresses"]);
    assert!(addresses.out.contains("255.255.255.0"), "{}", addresses.out);
}

#[test]
fn the_formats_tell_of_the_same_rules_and_checks() {
    let bench = Bench::new();
    let rules = bench.clinic("rules --format json").json();
    let lists = rules["lists"].as_array().expect("lists");
    let ids: Vec<&str> = lists
        .iter()
        .flat_map(|list| list["rules"].as_array().expect("rules"))
        .map(|rule| rule["id"].as_str().expect("an id"))
        .collect();
    let unique: std::collections::HashSet<&&str> = ids.iter().collect();
    assert_eq!(unique.len(), ids.len(), "ids are unique");
    for format in ["text", "csv"] {
        let shown = bench.clinic(&format!("rules --format {format}")).out;
        assert!(ids.iter().all(|id| shown.contains(id)), "{format}");
    }
    let checks = bench.clinic("checklist --format json").json();
    let stands = checks["stands"].as_array().expect("stands");
    let count: usize =
        stands.iter().map(|stand| stand["checks"].as_array().expect("checks").len()).sum();
    let csv = bench.clinic("checklist --format csv").out;
    let mut reader = csv::Reader::from_reader(csv.as_bytes());
    assert_eq!(reader.records().filter(|record| record.is_ok()).count(), count);
}
