//! How the program behaves: where the plan comes from, what goes where, colour, exit codes, files.

mod common;

use common::{Bench, DAY, Run, demo};

#[test]
fn the_plan_is_found_here_or_above_or_is_named() {
    let bench = Bench::new();
    let none = bench.run("addresses");
    assert_eq!(none.code, 2);
    assert!(none.err.contains("no bastium.toml was found"), "{}", none.err);
    bench.write("bastium.toml", demo("bare.toml"));
    std::fs::create_dir_all(bench.file("a/b")).expect("folders");
    let below = Run::of(bench.command().current_dir(bench.file("a/b")).arg("addresses"));
    assert!(below.out.starts_with("Two networks"), "{}", below.out);
    let named = Run::of(bench.command().env("BASTIUM_PLAN", "clinic.toml").arg("addresses"));
    assert!(named.out.starts_with("Fernside"), "{}", named.out);
    let both = Run::of(bench.command().env("BASTIUM_PLAN", "clinic.toml").args([
        "addresses",
        "--plan",
        "bare.toml",
    ]));
    assert!(both.out.starts_with("Two networks"), "{}", both.out);
    let reported = bench.run("addresses --plan clinic.toml --verbose");
    assert_eq!(reported.err, "read clinic.toml: networks 11, hosts 19, exceptions 18\n");
    let piped =
        Run::of(bench.command().args(["addresses", "--plan", "-"]).write_stdin(demo("bare.toml")));
    assert!(piped.out.starts_with("Two networks"), "{}", piped.out);
}

#[test]
fn colour_is_for_terminals_and_for_those_who_ask() {
    let bench = Bench::new();
    let matrix = |extra: &str, variable: Option<(&str, &str)>| {
        let mut command = bench.command();
        command.args(["matrix", "--plan", "clinic.toml"]).args(extra.split_whitespace());
        if let Some((name, value)) = variable {
            command.env(name, value);
        }
        Run::of(&mut command).out
    };
    let plain = matrix("", None);
    assert!(!plain.contains('\u{1b}'));
    assert!(matrix("--color always", None).contains('\u{1b}'));
    assert!(
        matrix("--color always", Some(("NO_COLOR", "1"))).contains('\u{1b}'),
        "asked for by name"
    );
    assert!(!matrix("--color never", Some(("CLICOLOR_FORCE", "1"))).contains('\u{1b}'));
    // What colour says is said in words as well.
    let coloured = matrix("--color always", None);
    let stripped: String = anstream::adapter::strip_str(&coloured).to_string();
    let words = |text: &str| text.split_whitespace().map(str::to_owned).collect::<Vec<_>>();
    assert_eq!(words(&stripped), words(&plain));
}

#[test]
fn exit_codes_tell_fine_from_found_from_wrong() {
    let bench = Bench::new();
    assert_eq!(bench.clinic("check").code, 0);
    bench.write("risky.toml", demo("bare.toml").replace("second-factor = true", ""));
    let found = bench.run("check --plan risky.toml");
    assert_eq!(found.code, 1);
    assert!(found.out.contains("advice[no-second-factor]"), "{}", found.out);
    bench.write("wrong.toml", demo("bare.toml").replace("vlan = 24", "vlan = 4095"));
    for command in ["check", "addresses", "matrix", "rules", "ask desks printers", "checklist"] {
        let run = bench.run(&format!("{command} --plan wrong.toml"));
        assert_eq!(run.code, 2, "{command}");
        let reported = if command == "check" { &run.out } else { &run.err };
        assert!(reported.contains("error[vlan-out-of-range]"), "{command}: {reported}");
        assert!(command == "check" || run.out.is_empty(), "{command}");
    }
    let json = bench.run("check --plan wrong.toml --format json");
    assert_eq!(json.code, 2);
    let finding = &json.json()["findings"][0];
    assert_eq!(
        (finding["name"].as_str(), finding["severity"].as_str()),
        (Some("vlan-out-of-range"), Some("error"))
    );
    assert_eq!((finding["line"].as_u64(), finding["known"].as_bool()), (Some(33), Some(false)));
}

#[test]
fn a_contradiction_is_shown_with_both_places_and_a_packet() {
    let bench = Bench::new();
    let plan = demo("clinic.toml");
    let before = plan.lines().find(|line| line.starts_with("before = ")).expect("the one before");
    bench.write("open.toml", plan.replace(before, ""));
    let run = bench.run(&format!("check --plan open.toml --day {DAY}"));
    insta::assert_snapshot!("contradiction", run.all());
    assert_eq!(bench.run("rules --plan open.toml").code, 2);
}

#[test]
fn a_new_plan_is_whole_has_the_name_given_and_is_not_written_over() {
    let bench = Bench::new();
    let run = bench.run_words(&["new", "Hollin \"Farm\"\u{1b} = x"]);
    assert_eq!((run.code, run.out.as_str()), (0, ""), "{}", run.err);
    let check = bench.run("check");
    assert_eq!(check.code, 0, "{}", check.out);
    let sheet = bench.run("addresses --format json").json();
    assert_eq!(sheet["site"], "Hollin \"Farm\"\u{1b} = x");
    let again = bench.run("new");
    assert_eq!(again.code, 2);
    assert!(again.err.contains("bastium.toml already exists"), "{}", again.err);
    assert_eq!(bench.run("new --force --from clinic").code, 0);
    assert_eq!(
        std::fs::read_to_string(bench.file("bastium.toml")).expect("written"),
        format!("#:schema ./bastium.schema.json\n{}", demo("clinic.toml"))
    );
    let printed = bench.run("new --plan -");
    assert!(printed.out.ends_with(&demo("bare.toml")), "{}", printed.out);
    assert_eq!(bench.run_words(&["new", " "]).code, 2);
}

#[test]
fn a_folder_that_cannot_be_written_to_leaves_nothing_behind() {
    let bench = Bench::new();
    let missing = bench.run("new --plan nowhere/plan.toml");
    assert_eq!(missing.code, 2);
    assert!(missing.err.contains("cannot write nowhere/plan.toml"), "{}", missing.err);
    bench.write("file", "");
    assert_eq!(bench.run("demo --dir file").code, 2);
    assert_eq!(bench.run("demo --dir file/below").code, 2);
    let left: Vec<_> = std::fs::read_dir(bench.path()).expect("readable").collect();
    assert_eq!(left.len(), 4, "no temporary file is left");
}

#[test]
fn a_reader_that_goes_away_is_a_quiet_end() {
    let bench = Bench::new();
    let mut child = std::process::Command::new(env!("CARGO_BIN_EXE_bastium"))
        .args(["checklist", "--format", "json", "--plan", "clinic.toml"])
        .current_dir(bench.path())
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .expect("the program starts");
    drop(child.stdout.take());
    let output = child.wait_with_output().expect("the program ends");
    assert_eq!(String::from_utf8_lossy(&output.stderr), "");
}

#[test]
fn completions_are_there_for_every_shell() {
    let bench = Bench::new();
    for shell in ["bash", "zsh", "fish", "elvish", "powershell"] {
        let run = bench.run(&format!("completions {shell}"));
        assert_eq!(run.code, 0, "{shell}");
        assert!(run.out.contains("bastium") && run.out.contains("BASTIUM_COMPLETE"), "{shell}");
    }
}

#[test]
fn rules_can_be_searched_by_word_number_and_ends() {
    let bench = Bench::new();
    let ids = |words: &str| -> Vec<String> {
        let json = bench.clinic(&format!("rules {words} --format json")).json();
        let lists = json["lists"].as_array().expect("lists").clone();
        let rules = lists.iter().flat_map(|list| list["rules"].as_array().expect("rules").clone());
        rules.map(|rule| rule["id"].as_str().expect("an id").to_owned()).collect()
    };
    assert_eq!(ids("--find dicom"), ["exception.pictures-to-archive"]);
    assert_eq!(ids("desks printers"), ["exception.desks-print", "unmatched@through"]);
    assert!(ids("desks gateway").contains(&"discovery.printers@desks+".to_owned()));
    assert_eq!(ids("--find nothing-like-it"), Vec::<String>::new());
    let pictures = bench.clinic("rules --find dicom --format json").json();
    let number = pictures["lists"][2]["rules"][0]["number"].as_u64().expect("a number");
    let found = bench.clinic(&format!("rules --find {number}")).out;
    assert!(found.contains("exception.pictures-to-archive"), "{found}");
    assert_eq!(ids("--find deliveries"), ["exception.deliveries-sign"]);
}

#[test]
fn a_zone_or_a_place_that_is_not_there_is_reported_with_the_nearest() {
    let bench = Bench::new();
    for (words, says) in [
        ("matrix staf clinical", "did you mean `staff`"),
        ("matrix desks clinical", "`desks` is a network; its zone is `staff`"),
        ("checklist --from desk", "did you mean `desks`"),
        ("rules desk printers", "did you mean `desks`"),
        ("matrix staff", "required"),
    ] {
        let run = bench.clinic(words);
        assert_eq!(run.code, 2, "{words}");
        assert!(run.err.contains(says), "{words}: {}", run.err);
    }
}
