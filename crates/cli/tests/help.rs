//! Help, manual pages, completion and the pager: what people meet before the first result.

mod common;

use bastium::args::{OPTIONS_OF_EVERY_COMMAND, examples, program};
use common::{Bench, Run};
use std::process::Command;

/// Every command has an example, and every example is a command line; those that need nothing but a plan run.
#[test]
fn examples_run() {
    let bench = Bench::new();
    bench.write("hosts.csv", "name,network,address\nspare,desks,10.44.24.45\n");
    bench.write("move.txt", "set network desks hosts=20\n");
    bench.write("gateway.log", "");
    bench.write("ruleset.txt", "table inet t {\n}\n");
    bench.write("old.toml", common::demo("clinic.toml"));
    bench.write("new.toml", common::demo("clinic.toml"));
    // What these need is not there: a person, packets, a gateway, a git history.
    let need_more = [
        "walk",
        "listen --",
        "listen tcp",
        "rehearse",
        "compare",
        "audit ",
        "worksheet --since",
        "report --since",
        "view",
        "watch",
        "load",
        "verify",
    ];
    let mut tried = 0;
    for command in program().get_subcommands().map(clap::Command::get_name) {
        let all = examples(command);
        assert_eq!(all.is_empty(), ["help", "schema", "demo"].contains(&command), "{command}");
        for (_, line) in all {
            let words = shlex::split(line).expect("a command line");
            let typed = std::iter::once("bastium".to_owned()).chain(words.iter().cloned());
            program().try_get_matches_from(typed).unwrap_or_else(|error| panic!("{line}: {error}"));
            if need_more.contains(line) || need_more.iter().any(|one| line.starts_with(one)) {
                continue;
            }
            bench.write("clinic.toml", common::demo("clinic.toml"));
            let mut words: Vec<&str> = words.iter().map(String::as_str).collect();
            match command {
                "new" => words.push("--force"),
                "completions" | "man" | "services" | "explain" => {}
                _ => words.extend(["--plan", "clinic.toml"]),
            }
            let run = bench.run_words(&words);
            assert!(run.code <= 1, "{line}: {}{}", run.out, run.err);
            tried += 1;
        }
    }
    assert!(tried > 25, "{tried}");
}

#[test]
fn the_options_of_every_command_are_explained_once() {
    let bench = Bench::new();
    let whole = bench.run("--help").out;
    for option in OPTIONS_OF_EVERY_COMMAND {
        assert!(whole.contains(&format!("--{}", option.replace('_', "-"))), "{option}");
    }
    for words in ["ask --help", "help ask", "ask -h"] {
        let run = bench.run(words);
        assert_eq!(run.code, 0, "{words}");
        assert!(run.out.contains("bastium ask desks printers ipp"), "{words}: {}", run.out);
        assert!(!run.out.contains("--color <"), "{words}: {}", run.out);
        assert!(run.out.lines().count() < 60, "{words}: {}", run.out);
    }
    // They still are options of every command, before its name and behind, long and short.
    for words in ["--plan clinic.toml ports -f json", "ports -p clinic.toml --format json"] {
        assert_eq!(bench.run(words).json()["site"], "Fernside Veterinary Clinic", "{words}");
    }
}

#[test]
fn a_format_that_means_nothing_is_refused() {
    let bench = Bench::new();
    let words = ["new Shop", "completions bash", "man --to pages", "listen tcp/9", "schema"];
    for words in words.into_iter().chain(["export nftables --plan clinic.toml"]) {
        let run = bench.run(&format!("{words} --format csv"));
        assert_eq!(run.code, 2, "{words}");
        assert!(run.err.contains("`--format` has no effect here"), "{words}: {}", run.err);
    }
    // Where something else than the list is shown, that is what a format is for.
    let strength = bench.clinic("checklist --strength --format csv").out;
    assert!(strength.lines().count() < 60 && strength.contains("one cable"), "{strength}");
    assert!(bench.clinic("checklist --strength --format json").json().get("kinds").is_some());
}

#[test]
fn manual_pages_are_written_once() {
    let bench = Bench::new();
    assert_eq!(bench.run("man --to pages").code, 0);
    let commands = program().get_subcommands().filter(|one| one.get_name() != "help").count();
    let pages = std::fs::read_dir(bench.file("pages")).expect("a folder").count();
    assert_eq!(pages, commands + 1);
    let page = std::fs::read_to_string(bench.file("pages/bastium-ask.1")).expect("a page");
    assert!(page.contains(".TH") && page.contains("ask"), "{page}");
    assert!(page.contains("bastium ask desks printers ipp"), "{page}");
    let again = bench.run("man --to pages");
    assert!(again.code == 2 && again.err.contains("already exists"), "{}", again.err);
    assert_eq!(bench.run("man --to pages --force").code, 0);
}

/// A shell asks the program itself, which knows the plan.
#[test]
fn names_of_the_plan_are_completed() {
    let bench = Bench::new();
    let offered = |words: &[&str], plan: Option<&str>| -> Vec<String> {
        let mut command = bench.command();
        command.env("BASTIUM_COMPLETE", "fish").arg("--").arg("bastium").args(words);
        if let Some(plan) = plan {
            command.env("BASTIUM_PLAN", plan);
        }
        let run = Run::of(&mut command);
        run.out.lines().map(|line| line.split('\t').next().unwrap_or(line).to_owned()).collect()
    };
    let clinic = Some("clinic.toml");
    assert!(offered(&["ask", "des"], clinic).contains(&"desks".to_owned()));
    assert!(offered(&["ask", "desks", "print"], clinic).contains(&"printers".to_owned()));
    assert!(offered(&["ask", "desks", "printers", "ip"], clinic).contains(&"ipp".to_owned()));
    assert!(offered(&["matrix", "sta"], clinic).contains(&"staff".to_owned()));
    assert!(
        offered(&["remove", "exception", "desks-pr"], clinic).contains(&"desks-print".to_owned())
    );
    assert!(offered(&["explain", "vlan"], None).iter().any(|name| name.starts_with("vlan-")));
    assert!(offered(&["che"], None).contains(&"checklist".to_owned()));
    assert!(offered(&["remove", "exc"], None).contains(&"exception".to_owned()));
    assert!(offered(&["remove", "group", "vet"], clinic).contains(&"vets".to_owned()));
    assert!(offered(&["rename", "deliv"], clinic).contains(&"deliveries".to_owned()));
    // A variable of a common name is somebody else's.
    let other = Run::of(bench.command().env("COMPLETE", "1").args(["ask", "--help"]));
    assert!(other.code == 0 && other.out.contains("Usage"), "{}", other.err);
    // Where there is no plan, or none that can be read, nothing is offered, and nothing is said.
    bench.write("broken.toml", "nonsense");
    assert!(offered(&["ask", "des"], None).is_empty());
    assert!(offered(&["ask", "des"], Some("broken.toml")).is_empty());
    assert!(offered(&["ask", "des"], Some("-")).is_empty());
    let script = bench.run("completions bash");
    assert!(script.code == 0 && script.out.contains("BASTIUM_COMPLETE"), "{}", script.out);
}

/// What `script` shows of a command at a terminal of 24 rows, with a pager.
#[expect(clippy::print_stderr, reason = "what is skipped is said")]
fn with_pager(bench: &Bench, pager: &str, words: &str) -> Option<String> {
    let program = env!("CARGO_BIN_EXE_bastium");
    let line = format!("stty rows 24 cols 100; PAGER='{pager}' '{program}' {words}");
    let shown = Command::new("script")
        .args(["-qec", &line, "/dev/null"])
        .env_clear()
        .env("PATH", std::env::var_os("PATH").unwrap_or_default())
        .current_dir(bench.path())
        .output();
    match shown {
        Ok(shown) => Some(String::from_utf8_lossy(&shown.stdout).into_owned()),
        Err(_) => {
            eprintln!("skipped: no `script` on this machine to make a terminal with");
            None
        }
    }
}

/// The same, with a pager that says when it begins and ends.
fn at_a_terminal(bench: &Bench, words: &str) -> Option<String> {
    bench.write("page", "#!/bin/sh\necho PAGED; cat; echo END OF PAGES\n");
    with_pager(bench, "sh page", words)
}

#[test]
fn what_does_not_fit_the_screen_goes_through_the_pager() {
    let bench = Bench::new();
    let Some(long) = at_a_terminal(&bench, "rules -p clinic.toml") else { return };
    assert!(long.contains("PAGED") && long.contains("END OF PAGES"), "{long}");
    // All of it, in order, and once.
    let plain = Run::of(bench.command().env("COLUMNS", "100").args(["rules", "-p", "clinic.toml"]));
    let count = |text: &str| text.matches("exception.").count();
    assert!(count(&plain.out) > 15);
    assert_eq!(count(&long), count(&plain.out), "{long}");
    for words in ["ask desks printers ipp -p clinic.toml", "rules -p clinic.toml --no-pager"] {
        let shown = at_a_terminal(&bench, words).expect("a terminal, as before");
        assert!(!shown.contains("PAGED"), "{words}: {shown}");
    }
    // A pager that cannot be started, or that reads nothing, takes nothing from the answer, nor from its exit code.
    let long = "checklist -p clinic.toml; echo code $?";
    let shown = with_pager(&bench, "no-such-pager-is-here", long).expect("a terminal");
    assert!(shown.contains("front-camera") && shown.contains("code 0"), "{shown}");
    let shown = with_pager(&bench, "true", long).expect("a terminal");
    assert!(!shown.contains("front-camera") && shown.contains("code 0"), "{shown}");
}

/// Into a pipe, each rule and each paragraph is one line.
#[test]
fn nothing_is_wrapped_into_a_pipe() {
    let bench = Bench::new();
    let run = Run::of(bench.command().env_remove("COLUMNS").args(["prove", "-p", "clinic.toml"]));
    let assumptions = run.out.lines().filter(|line| line.starts_with("assumption: ")).count();
    assert!(assumptions > 0, "{}", run.out);
    assert!(run.out.lines().any(|line| line.chars().count() > 100), "{}", run.out);
}
