//! Changing the plan from the command line: shown, checked first, written whole, and never lost.

mod common;

use common::{Bench, Run, demo};
use serde_json::json;

fn text(bench: &Bench, name: &str) -> String {
    std::fs::read_to_string(bench.file(name)).expect("the plan is there")
}

#[test]
fn a_change_is_shown_and_written() {
    let bench = Bench::new();
    let words = ["add", "host", "label-printer", "network=printers", "address=10.44.48.11"];
    let run = bench.run_words(&[&words[..], &["--plan", "bare.toml"]].concat());
    insta::assert_snapshot!("add_host", run.all());
    assert!(text(&bench, "bare.toml").contains("[host.label-printer]"));
    let again = bench.run_words(&[&words[..], &["--plan", "bare.toml"]].concat());
    assert_eq!(again.code, 2);
    assert!(again.err.contains("host `label-printer` already exists"), "{}", again.err);
    let same = bench.run("set host label-printer address=10.44.48.11 --plan bare.toml");
    assert!(same.out.is_empty() && same.err.contains("already says so"), "{}", same.err);
    let json = bench.run("set cell things people allow --plan bare.toml --format json").json();
    assert_eq!(json["written"], true);
    assert!(json["lines"].as_array().expect("lines").iter().any(|line| line["sign"] == "+"));
}

#[test]
fn nothing_is_written_where_the_result_is_no_plan_or_nobody_wants_it() {
    let bench = Bench::new();
    let before = text(&bench, "bare.toml");
    for words in [
        "set network desks vlan=48",
        "set network desks vlan=4095",
        "set network desks colour=red",
        "add network hall",
        "remove network printers",
        "remove zone people",
        "rename desks printers",
        "set cell people thing allow",
        "set cell people things maybe",
        "set cell people",
        "set desks vlan=3",
        "add networks hall zone=people",
        "set network desks vlan",
        "add host",
        "set network desks hosts=25 --dry-run",
    ] {
        let run = bench.run(&format!("{words} --plan bare.toml"));
        let shown = words.ends_with("--dry-run");
        assert_eq!(run.code, if shown { 0 } else { 2 }, "{words}: {}{}", run.out, run.err);
        assert_eq!(text(&bench, "bare.toml"), before, "{words}");
        assert!(shown || run.err.contains("help: "), "{words}: {}", run.err);
    }
    let refused = bench.run("set network desks vlan=48 --plan bare.toml");
    assert!(refused.err.contains("bare.toml, as it would be:"), "{}", refused.err);
    let folder = std::fs::read_dir(bench.path()).expect("the folder");
    assert_eq!(folder.count(), 3, "nothing is left behind");
}

/// A change that leaves something open is refused, like one that is no plan; a risk is reported, and kept.
#[test]
fn a_change_is_held_against_what_the_plan_means() {
    let bench = Bench::new();
    let before = text(&bench, "clinic.toml");
    let run = bench.run("set exception scanner-cart-stays-out before= --plan clinic.toml");
    assert_eq!(run.code, 2, "{}", run.out);
    assert!(run.err.contains("error[contradiction]"), "{}", run.err);
    assert_eq!(text(&bench, "clinic.toml"), before);
    let risky = bench.run("set network waiting-room isolate=false --plan clinic.toml");
    assert_eq!(risky.code, 0);
    assert!(risky.err.contains("new for `check`, advice [not-isolated]"), "{}", risky.err);
    assert!(!risky.err.contains("unsaid"), "only what is new: {}", risky.err);
    // A plan that has no meaning yet can be changed until it has one.
    let open = before.replace("before = [\"vets-read-records\"]", "");
    bench.write("open.toml", open);
    assert_eq!(bench.run("set network desks hosts=19 --plan open.toml").code, 0);
    let mended = "set exception scanner-cart-stays-out before=vets-read-records --plan open.toml";
    assert_eq!(bench.run(mended).code, 0);
    assert_eq!(bench.run("check --plan open.toml").code, 0);
}

/// Two runs at once on one plan do not lose an edit.
#[test]
fn edits_at_the_same_time_are_all_kept() {
    let bench = Bench::new();
    let program = env!("CARGO_BIN_EXE_bastium");
    let runs: Vec<_> = (20..36)
        .map(|number| {
            let words = [
                "add".to_owned(),
                "host".to_owned(),
                format!("desk-{number}"),
                "network=desks".to_owned(),
                format!("address=10.44.24.{number}"),
                "--plan".to_owned(),
                "bare.toml".to_owned(),
            ];
            let mut command = std::process::Command::new(program);
            let quiet = std::process::Stdio::null;
            command.args(words).current_dir(bench.path()).stdout(quiet()).stderr(quiet());
            command.spawn().expect("the program starts")
        })
        .collect();
    for mut run in runs {
        assert!(run.wait().expect("it ends").success());
    }
    let plan = text(&bench, "bare.toml");
    for number in 20..36 {
        assert!(plan.contains(&format!("[host.desk-{number}]")), "desk-{number}");
    }
    assert_eq!(bench.run("rules --plan bare.toml").code, 0);
}

#[test]
fn a_plan_from_standard_input_goes_changed_to_standard_output() {
    let bench = Bench::new();
    let run = Run::of(
        bench
            .command()
            .args(["set", "cell", "things", "people", "reject", "--plan", "-"])
            .write_stdin(demo("bare.toml")),
    );
    assert_eq!(run.code, 0);
    assert!(run.out.contains("things    reject  -       block\n"), "{}", run.out);
    assert_eq!(run.out.lines().count(), demo("bare.toml").lines().count());
}

#[cfg(unix)]
#[test]
fn a_link_stays_a_link_and_permissions_stay() {
    use std::os::unix::fs::PermissionsExt;
    let bench = Bench::new();
    std::os::unix::fs::symlink(bench.file("bare.toml"), bench.file("link.toml")).expect("a link");
    let mode = std::fs::Permissions::from_mode(0o640);
    std::fs::set_permissions(bench.file("bare.toml"), mode).expect("permissions");
    assert_eq!(bench.run("set network desks hosts=21 --plan link.toml").code, 0);
    assert!(bench.file("link.toml").is_symlink());
    assert!(text(&bench, "bare.toml").contains("hosts = 21 "));
    let mode = std::fs::metadata(bench.file("bare.toml")).expect("the file").permissions().mode();
    assert_eq!(mode & 0o777, 0o640);
}

#[test]
fn carved_subnets_are_pinned_and_then_stay() {
    let bench = Bench::new();
    let loose = demo("bare.toml")
        .replace("tie = \"third-octet\"", "tie = \"none\"")
        .replace("address = \"10.44.24.10\"", "address = \"10.44.0.10\"")
        .replace("address = \"10.44.48.10\"", "address = \"10.44.0.70\"")
        .replace("dhcp = \"100-199\"", "dhcp = \"12-40\"")
        .replace("dhcp = \"100-119\"", "dhcp = \"2-6\"");
    bench.write("loose.toml", &loose);
    let shown = bench.run("addresses --plan loose.toml");
    assert!(
        shown.out.contains("10.44.0.0/26") && shown.out.contains("10.44.0.64/28"),
        "{}",
        shown.out
    );
    assert!(
        shown.err.contains("carved, and not in the file yet: desks, printers"),
        "{}",
        shown.err
    );
    let pinned = bench.run("addresses --pin --plan loose.toml");
    assert_eq!(pinned.code, 0, "{}", pinned.err);
    let plan = text(&bench, "loose.toml");
    assert!(
        plan.contains("subnet = [\"10.44.0.0/26\"]")
            && plan.contains("subnet = [\"10.44.0.64/28\"]"),
        "{plan}"
    );
    // A larger network that comes later moves nobody.
    let words =
        ["add", "network", "hall", "zone=people", "vlan=90", "hosts=100", "--plan", "loose.toml"];
    assert_eq!(bench.run_words(&words).code, 0);
    let json = bench.run("addresses --plan loose.toml --free --format json").json();
    let prefix = |index: usize| json["networks"][index]["subnets"][0]["prefix"].clone();
    assert_eq!(
        [prefix(0), prefix(1), prefix(2)],
        ["10.44.0.0/26", "10.44.0.64/28", "10.44.1.0/24"]
    );
    assert_eq!(json["networks"][2]["carved"], true);
    assert_eq!(json["free"]["prefixes"][0], "10.44.0.80/28");
    assert_eq!(json["free"]["spaces"][0]["map"][0], "+#..............");
}

#[test]
fn devices_come_in_from_a_table() {
    let bench = Bench::new();
    bench.write(
        "devices.csv",
        "\u{feff}Hostname;IP;MAC Address;VLAN;Remark\r\n\
         Label Printer 2;10.44.48.12;02-00-5E-48-00-12;48;=1+1 at reception\r\n\
         Badge reader;10.44.68.20/24;02:00:5e:68:00:20;doors;\r\n\
         Lost thing;10.44.99.2;;99;\r\n\
         paper printer;10.44.48.99;;printers;\r\n\
         !!;10.44.48.14;;48;\r\n\
         ;;;;\r\n",
    );
    let run = bench.run("add host --table devices.csv --plan clinic.toml");
    insta::assert_snapshot!("add_table", run.all());
    let plan = text(&bench, "clinic.toml");
    assert!(plan.contains("[host.label-printer-2]\naddress = \"10.44.48.12\"\nmac = \"02:00:5e:48:00:12\"\nnetwork = \"printers\""), "{plan}");
    assert!(plan.contains("[host.badge-reader]") && !plan.contains("lost-thing"));
    assert!(plan.contains("# --- Exceptions: the narrow things"), "comments stay");

    let workbook = common::repository().join("crates/cli/tests/data/devices.xlsx");
    std::fs::copy(workbook, bench.file("devices.xlsx")).expect("a copy");
    bench.write("clinic.toml", demo("clinic.toml"));
    let run = bench.run("add host --table devices.xlsx --plan clinic.toml --format json");
    assert_eq!(run.code, 1);
    assert!(
        run.err.contains("Device -> name, VLAN -> network, IP address -> address"),
        "{}",
        run.err
    );
    assert!(run.err.contains("ignored: Asset no."), "{}", run.err);
    assert!(run.err.contains("row 4: `lost-thing` is left out"), "{}", run.err);
    let added = run.json()["lines"]
        .as_array()
        .expect("lines")
        .iter()
        .filter(|line| line["text"].as_str().is_some_and(|text| text.starts_with("[host.")))
        .count();
    assert_eq!(added, 2);
    assert_eq!(run.json()["written"], json!(true));
}

#[test]
fn a_table_that_is_none_is_reported() {
    let bench = Bench::new();
    for (name, bytes, says) in [
        ("empty.csv", &b""[..], "there is nothing in it"),
        ("odd.csv", &b"colour,size\nred,3\n"[..], "no column of the table is the name"),
        ("two.csv", &b"Name,name\na,b\n"[..], "both mean `name`"),
        ("binary.csv", &b"\xff\xfe\x00"[..], "it is not UTF-8 text"),
        ("broken.xlsx", &b"PK\x03\x04rubbish"[..], "cannot read broken.xlsx as a table"),
    ] {
        bench.write(name, bytes);
        let run = bench.run(&format!("add host --table {name} --plan clinic.toml"));
        assert_eq!(run.code, 2, "{name}");
        assert!(run.err.contains(says), "{name}: {}", run.err);
    }
    assert_eq!(bench.run("add exception --table odd.csv --plan clinic.toml").code, 2);
    assert_eq!(bench.run("add host --table missing.csv --plan clinic.toml").code, 2);
    assert_eq!(text(&bench, "clinic.toml"), demo("clinic.toml"));
}

/// A zone is closed both ways with one command, which says what still stands above.
#[test]
fn a_zone_that_is_closed_says_which_exceptions_go_before() {
    let bench = Bench::new();
    bench.write("plan.toml", common::demo("clinic.toml"));
    let run = bench.run("set cell remote any block --both-ways --plan plan.toml");
    assert_eq!(run.code, 0, "{}", run.err);
    assert!(run.err.contains("exceptions go before these cells"), "{}", run.err);
    assert!(run.err.contains("visits-read-records"), "{}", run.err);
    assert!(!run.err.contains("trainees-web"), "{}", run.err);
    let wrong = bench.run("set network desks hosts=4 --both-ways --plan plan.toml");
    assert_eq!(wrong.code, 2);
    assert!(wrong.err.contains("only a cell has two ways"), "{}", wrong.err);
}

#[test]
fn an_exception_can_be_made_like_another() {
    let bench = Bench::new();
    bench.write("plan.toml", common::demo("clinic.toml"));
    let words = "add exception tills-print --like desks-print from=tills --plan plan.toml";
    let run = bench.run(words);
    assert_eq!(run.code, 0, "{}", run.err);
    assert!(run.out.contains("to = \"printers\""), "{}", run.out);
    assert!(run.out.contains("from = \"tills\""), "{}", run.out);
    // In a file of changes, too.
    bench.write("changes.txt", "add exception phones-print --like desks-print from=phones\n");
    let run = bench.run("change changes.txt --plan plan.toml");
    assert_eq!(run.code, 0, "{}", run.err);
    assert!(run.out.contains("[exception.phones-print]"), "{}", run.out);
}
