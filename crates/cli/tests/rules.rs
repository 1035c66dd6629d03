//! `rules`: its columns, what it shows of a list, and tags.

mod common;

use common::{Bench, Run, demo};

fn rules(bench: &Bench, words: &str) -> Run {
    let run = bench.run(&format!("rules --plan plan.toml {words}"));
    assert_eq!(run.code, 0, "{words}: {}", run.err);
    run
}

fn bench(plan: &str) -> Bench {
    let bench = Bench::new();
    bench.write("plan.toml", demo(plan));
    bench
}

/// The ids in a CSV of two columns or more, of which the last is the id.
fn ids(csv: &str) -> Vec<String> {
    let mut reader = csv::Reader::from_reader(csv.as_bytes());
    let rows = reader.records().map(|row| row.expect("a row"));
    rows.map(|row| row.get(row.len() - 1).expect("an id").to_owned()).collect()
}

#[test]
fn text_has_the_values_below_the_names() {
    let bench = bench("clinic.toml");
    let text = rules(&bench, "--find desks-print").out;
    for value in ["desks", "10.44.24.2-.254", "10.44.48.2-.254", "tcp/631", "printing"] {
        assert!(text.contains(value), "{value} is not in {text}");
    }
    // What has no room is counted: the gateway's 17 addresses, of which two are shown.
    let wide =
        bench.command().args(["rules", "--plan", "plan.toml"]).env("COLUMNS", "200").output();
    let wide = String::from_utf8(wide.expect("it runs").stdout).expect("text");
    let row = wide.lines().skip_while(|line| !line.contains(" manage")).nth(1).expect("values");
    assert!(row.contains("10.44.10.1, 10.44.24.1 +15") && row.contains("tcp/22, tcp/443"), "{row}");
    // An interface is named where a rule counts at one alone.
    assert!(wide.lines().any(|line| line.contains("interface") && line.contains("destination")));
    let spoofed = wide.lines().find(|line| line.contains("  spoofed")).expect("a row");
    assert!(spoofed.contains("control +12"), "{spoofed}");
}

#[test]
fn columns_are_those_that_are_asked_for_in_every_format() {
    let bench = bench("clinic.toml");
    let csv = rules(&bench, "--columns source-addresses,ports,id --format csv desks printers").out;
    let first: Vec<&str> = csv.lines().take(2).collect();
    assert_eq!(first[0], "list,source addresses,ports,id");
    let print = csv.lines().find(|line| line.ends_with("exception.desks-print")).expect("the rule");
    assert!(
        print.starts_with("through,\"10.44.24.2-10.44.24.254, fd6b:2f4e:91c0:24::2-"),
        "{print}"
    );
    let markdown = rules(&bench, "--columns no,id --format md").out;
    assert!(markdown.contains("| no | id |"), "{markdown}");
    let text = rules(&bench, "--columns destination-addresses --find manage").out;
    assert!(text.contains("10.44.84.1"), "values are not shortened here: {text}");
    let refused = bench.run("rules --plan plan.toml --columns sources");
    assert_eq!(refused.code, 2);
    assert!(refused.err.contains("source-addresses"), "{}", refused.err);
}

#[test]
fn what_is_chosen_and_what_is_left_out_are_all_rules() {
    let bench = bench("clinic.toml");
    let all = ids(&rules(&bench, "--columns id --format csv").out);
    for choice in ["--action allow", "--action reject", "--find printers", "desks printers"] {
        let some = ids(&rules(&bench, &format!("{choice} --columns id --format csv")).out);
        let rest = ids(&rules(&bench, &format!("{choice} --not --columns id --format csv")).out);
        assert!(!some.is_empty() && !rest.is_empty(), "{choice}");
        let mut together: Vec<&String> = some.iter().chain(&rest).collect();
        together.sort();
        let mut every: Vec<&String> = all.iter().collect();
        every.sort();
        assert_eq!(together, every, "{choice}");
    }
    let rejected = rules(&bench, "--action reject --format json").json();
    let lists = rejected["lists"].as_array().expect("lists");
    let rows = lists.iter().flat_map(|list| list["rules"].as_array().expect("rules"));
    assert!(rows.clone().count() > 0 && rows.clone().all(|row| row["action"] == "reject"));
    assert_eq!(bench.run("rules --plan plan.toml --not").code, 2);
}

/// A tag of an entry, of a network, of a host and of a service: each finds the rules that belong to it, and no verdict
/// depends on any.
#[test]
fn tags_find_rules_and_change_nothing() {
    let bench = bench("clinic.toml");
    let before = rules(&bench, "--format json").json();
    bench.write(
        "tags.txt",
        "set exception tills-pay tags=audit,cards\n\
         set network tills tags=cards\n\
         set host records tags=patients\n\
         set service printing tags=paper\n\
         set inbound booking tags=audit\n",
    );
    assert_eq!(bench.run("change tags.txt --plan plan.toml").code, 0);
    let text = std::fs::read_to_string(bench.file("plan.toml")).expect("text");
    assert!(text.contains("tags = [\"audit\", \"cards\"]") && text.contains("tags = [\"paper\"]"));
    let tagged = |tag: &str| {
        let run = rules(&bench, &format!("--tag {tag} --columns tags,id --format csv"));
        ids(&run.out)
    };
    assert_eq!(tagged("audit"), ["exception.tills-pay", "offered.booking"]);
    assert_eq!(tagged("cards"), ["spoofed", "gateway_service.tills", "exception.tills-pay"]);
    assert_eq!(tagged("paper"), ["exception.desks-print"]);
    let patients = tagged("patients");
    assert!(patients.contains(&"exception.deliveries-sign".to_owned()), "{patients:?}");
    assert!(!patients.contains(&"exception.tills-pay".to_owned()));
    let mut after = rules(&bench, "--format json").json();
    let said = after.to_string();
    assert!(said.contains("\"tags\":[\"audit\",\"cards\"]"), "{said}");
    // But for the tags and the lines of the plan, everything is as before.
    let mut before = before;
    for sheet in [&mut before, &mut after] {
        without(sheet, &["tags", "line"]);
    }
    assert_eq!(before, after);
    let unknown = bench.run("rules --plan plan.toml --tag card");
    assert_eq!(unknown.code, 2);
    assert!(unknown.err.contains("did you mean `cards`?"), "{}", unknown.err);
    let bad = bench.run("set network tills tags=PCI/DSS --plan plan.toml");
    assert_eq!(bad.code, 2, "{}", bad.out);
    assert!(bad.err.contains("PCI/DSS"), "{}", bad.err);
}

fn without(value: &mut serde_json::Value, keys: &[&str]) {
    match value {
        serde_json::Value::Object(map) => {
            keys.iter().for_each(|key| drop(map.remove(*key)));
            map.values_mut().for_each(|value| without(value, keys));
        }
        serde_json::Value::Array(items) => items.iter_mut().for_each(|item| without(item, keys)),
        _ => {}
    }
}

/// Groups, domains and hours, and the services that the plan names, are sheets; hosts are in that of addresses.
#[test]
fn what_rules_name_is_in_the_sheets() {
    let bench = bench("clinic.toml");
    let run = bench.run("export csv --to sheets --plan plan.toml");
    assert_eq!(run.code, 0, "{}", run.err);
    let sheet = |name: &str| {
        std::fs::read_to_string(bench.file(&format!("sheets/{name}.csv"))).expect("a sheet")
    };
    assert!(sheet("groups").contains("imaging-devices,\"xray, ultrasound\",10.44.36.10/31"));
    assert!(sheet("groups").contains("phone-provider,\"calls.example.net, media.example.net\""));
    assert!(sheet("services").contains("printing,\"tcp/631, tcp/9100-9102\""));
    assert!(sheet("services").contains("\nrtsp,tcp/554,"));
    assert!(!sheet("services").contains("\nbgp,"), "nothing in the plan speaks of it");
    let addresses = sheet("addresses");
    assert!(
        addresses.contains("hosts,xray,imaging,10.44.36.10,02:00:5e:36:00:10,DHCP reservation")
    );
    assert!(addresses.contains("10.44.40.10, fd6b:2f4e:91c0:40::10\",-,set at the device"));
}
