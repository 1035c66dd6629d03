//! Several changes as one: checked at the end, written whole or not at all.

mod common;

use common::{Bench, Run};

fn change(bench: &Bench, lines: &str, more: &[&str]) -> Run {
    bench.write("move.txt", lines);
    let words = ["change", "move.txt", "-p", "clinic.toml"];
    Run::of(bench.command().args(words).args(more))
}

fn plan(bench: &Bench) -> String {
    std::fs::read_to_string(bench.file("clinic.toml")).expect("the plan")
}

/// Alone, neither is a plan: the hosts of the network have addresses in its subnet.
const RENUMBERED: &str = "\
# The doors get another VLAN.
set network doors vlan=70 subnet=10.44.70.0/24

set host intercom address=10.44.70.10
bastium set host delivery-tablet address=10.44.70.11
";

#[test]
fn what_makes_sense_only_together_is_made_together() {
    let bench = Bench::new();
    let alone = bench
        .command()
        .args("set network doors subnet=10.44.70.0/24 -p clinic.toml".split(' '))
        .output();
    assert_ne!(alone.expect("it runs").status.code(), Some(0), "alone it is refused");
    let run = change(&bench, RENUMBERED, &[]);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    let plan = plan(&bench);
    assert!(plan.contains("vlan = 70") && plan.contains("10.44.70.11"), "{plan}");
    assert!(run.out.contains("vlan = 70"), "the difference is shown: {}", run.out);
    assert!(run.out.contains("opens") && run.out.contains("closes"), "{}", run.out);
    assert!(run.err.contains("wrote clinic.toml"), "{}", run.err);
}

#[test]
fn a_dry_run_writes_nothing_and_says_what_would_open() {
    let bench = Bench::new();
    let before = plan(&bench);
    let run = change(&bench, "set cell guests staff allow\n", &["--dry-run"]);
    assert_eq!(run.code, 0, "{}", run.err);
    assert!(run.out.contains("opens 4 traffic classes, closes 0"), "{}", run.out);
    assert!(run.out.contains("guests>staff"), "{}", run.out);
    assert_eq!(plan(&bench), before);
    let quiet = change(&bench, "set host till mac=02:00:5E:60:00:77\n", &["-n"]);
    assert!(quiet.out.contains("no traffic changes"), "{}", quiet.out);
}

#[test]
fn all_that_is_wrong_is_reported_with_its_line_and_nothing_is_written() {
    let bench = Bench::new();
    let before = plan(&bench);
    let run = change(
        &bench,
        "set network doors vlan\nask guests tills\n\nremove host \"x\nnonsense\n",
        &[],
    );
    assert_eq!(run.code, 2);
    for line in
        ["move.txt:1: ", "move.txt:2: that changes no plan", "move.txt:4: a quote", "move.txt:5: "]
    {
        assert!(run.err.contains(line), "{line}: {}", run.err);
    }
    let run =
        change(&bench, "set network doors hosts=3\nremove host nobody\nrename nothing else\n", &[]);
    assert_eq!(run.code, 2);
    assert!(
        run.err.contains("move.txt:2: there is no") && run.err.contains("move.txt:3: "),
        "{}",
        run.err
    );
    let run = change(
        &bench,
        "set network doors hosts=6 --dry-run\nset network desks hosts=7 -p other.toml\n",
        &[],
    );
    assert_eq!(run.code, 2);
    assert_eq!(run.err.matches("options that are for all changes").count(), 2, "{}", run.err);
    // What comes of them is no plan.
    let run =
        change(&bench, "set network doors subnet=10.44.70.0/24\nset network doors hosts=3\n", &[]);
    assert_ne!(run.code, 0);
    assert!(run.err.contains("10.44.68.10 is not in network"), "{}", run.err);
    assert_eq!(change(&bench, "# nothing\n", &[]).code, 2);
    assert_eq!(plan(&bench), before);
}

#[test]
fn changes_come_from_standard_input_too() {
    let bench = Bench::new();
    let mut command = bench.command();
    command.args(["change", "-", "-p", "clinic.toml", "--format", "json"]).write_stdin(RENUMBERED);
    let run = Run::of(&mut command);
    assert_eq!(run.code, 0, "{}", run.err);
    let json = run.json();
    assert!(json["lines"].as_array().is_some_and(|lines| lines.len() >= 6), "{}", run.out);
    let opens = json["traffic"]["opens"].as_array().expect("rows");
    assert!(opens.iter().any(|row| row["says"].to_string().contains("10.44.70.1")), "{}", run.out);
}

/// What changes without any packet faring otherwise is said, too.
#[test]
fn what_no_packet_shows_is_said() {
    let bench = Bench::new();
    let run = change(&bench, "remove never tills-go-elsewhere\n", &[]);
    assert!(run.code == 0 && run.out.contains("no traffic changes"), "{}{}", run.out, run.err);
    let says = "- guarantee never.tills-go-elsewhere: tills to any - payment-hub -> none";
    assert!(run.out.contains(says), "{}", run.out);
}
