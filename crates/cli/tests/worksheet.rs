//! The worksheet, as whoever types it gets it.

mod common;

use common::{Bench, Run, demo};

#[test]
fn it_has_every_step_with_values_ticks_and_what_to_see() {
    let bench = Bench::new();
    let text = bench.clinic("worksheet").out;
    let mut last = 0;
    for step in [
        "1. Interfaces and addresses",
        "2. DHCP",
        "3. Addresses that rules name",
        "4. Services that rules name",
        "5. Hours",
        "6. Rules, in this order",
        "7. Address translation",
        "8. General settings",
        "9. Switch ports and Wi-Fi",
    ] {
        let at = text.find(step).unwrap_or_else(|| panic!("{step}"));
        assert!(at > last || last == 0, "{step} is in its place");
        last = at;
    }
    assert_eq!(text.matches("Afterwards: ").count(), 9);
    for value in [
        "10.44.24.1/24",
        "10.44.24.100",
        "02:00:5E:24:00:10",
        "tcp/9100-9102",
        "mon 06:45 to mon 11:00",
    ] {
        assert!(text.contains(value), "{value}");
    }
}

#[test]
fn one_step_can_be_asked_for_by_number_or_name() {
    let bench = Bench::new();
    for word in ["2", "leases", "dhcp"] {
        let text = bench.clinic(&format!("worksheet {word}")).out;
        assert!(text.contains("2. DHCP") && !text.contains("1. Interfaces"), "{word}: {text}");
        assert!(text.contains("in 1 of 9 steps"), "{text}");
    }
    let rules = bench.clinic("worksheet rules").out;
    assert!(rules.contains("6. Rules") && rules.contains("in 1 of 9 steps"), "{rules}");
    let wrong = bench.clinic("worksheet tea");
    assert_eq!(wrong.code, 2);
    assert!(wrong.err.contains("no step of the worksheet is called `tea`"), "{}", wrong.err);
    assert!(wrong.err.contains("6 rules"), "{}", wrong.err);
}

#[test]
fn every_rule_of_the_list_is_a_row_with_the_names_of_the_steps_before() {
    let bench = Bench::new();
    let sheet = bench.clinic("worksheet --format json").json();
    let list = bench.clinic("rules --format json").json();
    let steps = sheet["steps"].as_array().expect("steps");
    let rows = |name: &str| -> Vec<Vec<String>> {
        let step = steps.iter().find(|step| step["name"] == name).expect("the step");
        let tables = step["tables"].as_array().expect("tables").iter();
        let rows = tables.flat_map(|table| table["rows"].as_array().expect("rows").clone());
        let cell = |cell: &serde_json::Value| {
            let values = cell.as_array().expect("values").iter();
            values
                .map(|value| value.as_str().expect("text").to_owned())
                .collect::<Vec<_>>()
                .join("|")
        };
        rows.map(|row| row.as_array().expect("cells").iter().map(cell).collect()).collect()
    };
    let numbers: std::collections::BTreeSet<String> =
        rows("rules").into_iter().map(|row| row[0].clone()).collect();
    assert_eq!(numbers.len() as u64, list["size"]["rules"].as_u64().expect("a number"));
    let known: Vec<String> = ["addresses", "services", "interfaces", "hours"]
        .iter()
        .flat_map(|step| rows(step))
        .map(|row| row[0].clone())
        .collect();
    for row in rows("rules") {
        for name in row[2..5].iter().flat_map(|cell| cell.split('|')) {
            let name = name.trim_end_matches(" (not forwarded)");
            assert!(
                name == "any" || known.contains(&name.to_owned()),
                "{name} was not made before"
            );
        }
    }
}

#[test]
fn the_key_of_the_gateway_governs_it() {
    let bench = Bench::new();
    let plan = std::fs::read_to_string(bench.file("clinic.toml")).expect("the plan");
    bench.write("all.toml", plan.replace("[gateway]", "[gateway]\nrules = \"every-cell\""));
    let count = |words: &str| {
        let run = Run::of(bench.command().args(words.split(' ')));
        assert_eq!(run.code, 0, "{words}: {}", run.err);
        run.json()
    };
    for command in ["rules", "prove", "worksheet", "checklist"] {
        let few = count(&format!("{command} -p clinic.toml --day 2026-11-24 --format json"));
        let all = count(&format!("{command} -p all.toml --day 2026-11-24 --format json"));
        assert_ne!(few, all, "{command}");
    }
    let size = count("rules -p clinic.toml --day 2026-11-24 --format json")["size"].clone();
    let number = |key: &str| size[key].as_u64().unwrap_or_else(|| panic!("{key}: {size}"));
    assert!(number("rules") <= 50 && number("values") < number("values_for_every_cell"), "{size}");
    assert_eq!(number("rules_for_every_cell"), 122);
    assert!(number("at_least") <= number("rules"), "{size}");
    let file = |plan: &str| {
        Run::of(bench.command().args(["export", "nftables", "-p", plan, "--day", "2026-11-24"])).out
    };
    assert!(file("all.toml").contains("cell.guests>tills"));
    assert!(!file("clinic.toml").contains("cell.guests>tills"));
    bench.write("odd.toml", plan.replace("[gateway]", "[gateway]\nrules = \"few\""));
    let odd = Run::of(bench.command().args(["check", "-p", "odd.toml"]));
    assert_eq!(odd.code, 2);
    assert!(odd.out.contains("write fewest or every-cell"), "{}", odd.out);
}

/// The clinic, with a change.
fn with_change(bench: &Bench, from: &str, to: &str) {
    let plan = common::demo("clinic.toml");
    bench.write("old.toml", &plan);
    assert!(plan.contains(from), "{from}");
    bench.write("new.toml", plan.replace(from, to));
}

#[test]
fn a_change_is_typed_in_an_order_that_is_safe() {
    let bench = Bench::new();
    with_change(&bench, "service = \"printing\"", "service = \"ipp\"");
    let run = bench.run("worksheet --since old.toml --plan new.toml");
    assert_eq!(run.code, 0, "{}", run.err);
    assert!(
        run.out.starts_with("since old.toml: 1 edit of rules; 51 stay as they are"),
        "{}",
        run.out
    );
    assert!(run.out.contains("safe in this order"), "{}", run.out);
    let sheet = bench.run("worksheet --since old.toml --plan new.toml --format json").json();
    assert_eq!(sheet["since"]["old"], "old.toml");
    assert_eq!(sheet["since"]["safe"], true);
    let names: Vec<&str> = sheet["steps"]
        .as_array()
        .expect("steps")
        .iter()
        .filter_map(|step| step["name"].as_str())
        .collect();
    // What rules name is there before them, and goes after them.
    assert_eq!(names, ["objects", "rules", "objects"]);
    let row = &sheet["steps"][1]["tables"][0]["rows"][0];
    assert_eq!(row[0][0], "alter: service was printing");
    assert_eq!(row[1][0], "230");
}

#[test]
fn a_network_that_gets_another_vlan_says_who_is_cut_off() {
    let bench = Bench::new();
    with_change(&bench, "vlan = 84", "vlan = 85");
    let run = bench.run("worksheet --since old.toml --plan new.toml");
    assert_eq!(run.code, 0, "{}", run.err);
    assert!(run.out.contains("Mind: devices in trainees are cut off from here on"), "{}", run.out);
}

#[test]
fn nothing_is_to_type_where_nothing_has_changed() {
    let bench = Bench::new();
    with_change(&bench, "The locum is here until spring", "The locum is here for now");
    let run = bench.run("worksheet --since old.toml --plan new.toml");
    assert!(run.out.contains("0 edits of rules"), "{}", run.out);
    assert!(run.out.contains("0 rows to type"), "{}", run.out);
}

#[test]
fn a_commit_can_be_what_a_change_begins_with() {
    let bench = Bench::new();
    with_change(&bench, "service = \"printing\"", "service = \"ipp\"");
    let git = |words: &[&str]| {
        let mut git = std::process::Command::new("git");
        git.current_dir(bench.path()).args(["-c", "user.name=a", "-c", "user.email=a@example.org"]);
        git.args(words).output()
    };
    if git(&["init", "-q"]).is_err() {
        return;
    }
    std::fs::copy(bench.path().join("old.toml"), bench.path().join("plan.toml")).expect("a copy");
    git(&["add", "plan.toml"]).expect("git");
    git(&["commit", "-qm", "the plan"]).expect("git");
    std::fs::copy(bench.path().join("new.toml"), bench.path().join("plan.toml")).expect("a copy");
    let run = bench.run("worksheet --since HEAD --plan plan.toml");
    assert!(run.out.starts_with("since HEAD: 1 edit of rules"), "{} {}", run.out, run.err);
    let none = bench.run("worksheet --since no-such-thing --plan plan.toml");
    assert_eq!(none.code, 2);
    assert!(none.err.contains("no-such-thing"), "{}", none.err);
}

/// A page with a box for each row, which no text of a plan can break out of.
#[test]
fn a_page_has_a_box_for_each_row_and_takes_text_as_text() {
    let bench = Bench::new();
    let name = "<script>alert(1)</script> & \"Sons\"";
    let plan = common::demo("clinic.toml");
    bench.write("old.toml", &plan);
    bench
        .write("plan.toml", plan.replace("Fernside Veterinary Clinic", &name.replace('"', "\\\"")));
    let run = bench.run("worksheet --plan plan.toml --page sheet.html");
    assert_eq!((run.code, run.out.as_str()), (0, ""), "{}", run.err);
    let page = std::fs::read_to_string(bench.file("sheet.html")).expect("a page");
    let sheet = bench.run("worksheet --plan plan.toml --format json").json();
    let tables = sheet["steps"].as_array().expect("steps").iter();
    let tables = tables.flat_map(|step| step["tables"].as_array().expect("tables"));
    let rows: usize = tables.map(|table| table["rows"].as_array().map_or(0, Vec::len)).sum();
    assert_eq!(page.matches("type=\"checkbox\"").count(), rows);
    assert_eq!(page.matches("<script").count(), 1);
    // Nothing is written over what is there, and nothing comes from elsewhere.
    assert_eq!(bench.run("worksheet --plan plan.toml --page sheet.html").code, 2);
    assert_eq!(bench.run("worksheet --plan plan.toml --page sheet.html --force").code, 0);
    assert!(!page.contains("://") && !page.contains("src="), "it needs no network");
    let change = bench.run("worksheet --plan plan.toml --since old.toml --page change.html");
    assert_eq!(change.code, 0, "{}", change.err);
    let page = std::fs::read_to_string(bench.file("change.html")).expect("a page");
    assert!(page.contains("0 edits of rules"), "{page}");
}

/// Where a gateway takes no row twice and no order is safe, the rows that have to change at once are marked, with a packet
/// that shows why; and nothing says that one may stop anywhere.
#[test]
fn rows_that_must_change_at_once_are_marked_and_explained() {
    let bench = Bench::new();
    bench.write("old.toml", demo("clinic.toml"));
    bench.write(
        "first.txt",
        "add exception gone from=desks to=cameras service=tcp/800-1000 action=reject\n\
         add exception moving from=desks to=cameras service=tcp/1-900 action=allow before=gone\n\
         add exception keeps-one from=control to=cameras service=tcp/443 action=block\n\
         add exception keeps-two from=control to=doors service=tcp/443 action=block\n\
         set gateway rules=every-cell\n",
    );
    assert_eq!(bench.run("change first.txt --plan old.toml").code, 0);
    let old = std::fs::read_to_string(bench.file("old.toml")).expect("text");
    bench.write("new.toml", old);
    let again = "remove exception moving\n\
                 remove exception gone\n\
                 add exception moving from=desks to=cameras service=tcp/1-900 action=allow\n";
    bench.write("second.txt", again);
    assert_eq!(bench.run("change second.txt --plan new.toml").code, 0);
    let in_one_line = |run: &Run| run.all().split_whitespace().collect::<Vec<_>>().join(" ");
    let free = in_one_line(&bench.run("worksheet --plan new.toml --since old.toml"));
    assert!(!free.contains("at once") && free.contains("you can stop after any of them"), "{free}");
    bench.write("third.txt", "set gateway.limits duplicates=false\n");
    assert_eq!(bench.run("change third.txt --plan new.toml").code, 0);
    let run = bench.run("worksheet --plan new.toml --since old.toml");
    assert_eq!(run.code, 0, "{}", run.err);
    let says = in_one_line(&run);
    assert!(says.contains("not safe at every step"), "{says}");
    assert_eq!(says.matches("at once: ").count(), 3, "{says}");
    let packet = "tcp/800-900 from desks to cameras (IPv4) is allowed before and afterwards, but would be rejected";
    assert!(says.contains(packet), "{says}");
    assert!(says.contains("Make the list anew beside the one in use"), "{says}");
    assert!(!says.contains("you can stop after any"), "{says}");
    // A gateway that cannot do that either is given a pause-free minute instead.
    bench.write("fourth.txt", "set gateway.limits swap-lists=false\n");
    assert_eq!(bench.run("change fourth.txt --plan new.toml").code, 0);
    let says = in_one_line(&bench.run("worksheet --plan new.toml --since old.toml"));
    assert!(says.contains("at an hour when nobody needs the network"), "{says}");
}
