//! A change that begins with rules which never came from a plan.

mod common;

use common::{Bench, demo};
use serde_json::Value;

const PLAIN: &str = "\
action,source,destination,service,from,to,name
allow,desks,internet,any,,,people out
allow,desks,printers,printing,,,print
allow,control,gateway,\"ssh, https\",,,manage
block,any,any,any,,,rest
";

const KERNEL: &str = r#"
table inet site {
  chain input {
    type filter hook input priority 0; policy drop;
    ct state established,related accept
    iifname "core.10" tcp dport 22 accept
  }
  chain forward {
    type filter hook forward priority 0; policy drop;
    ct state established,related accept
    iifname "core.24" oifname "wan1" accept
    iifname "core.10" accept
  }
}
"#;

fn sheet(bench: &Bench, words: &str) -> Value {
    let run = bench.run(&format!("worksheet --plan plan.toml --format json {words}"));
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    run.json()
}

/// What the rows of rules say to do.
fn edits(sheet: &Value) -> Vec<(String, String)> {
    let steps = sheet["steps"].as_array().into_iter().flatten();
    let tables = steps.filter(|step| step["name"] == "rules");
    let tables = tables.flat_map(|step| step["tables"].as_array().into_iter().flatten());
    let rows = tables.flat_map(|table| table["rows"].as_array().into_iter().flatten());
    let word = |cell: &Value| cell[0].as_str().unwrap_or_default().to_owned();
    rows.map(|row| (word(&row[0]), word(&row[8]))).collect()
}

#[test]
fn a_table_that_somebody_else_wrote_gives_way_row_by_row() {
    let bench = Bench::new();
    bench.write("plan.toml", demo("clinic.toml"));
    bench.write("theirs.csv", PLAIN);
    let sheet = sheet(&bench, "--since-gateway theirs.csv");
    assert_eq!(sheet["since"]["safe"], true);
    let edits = edits(&sheet);
    assert_eq!(sheet["since"]["edits"], edits.len());
    let gone: Vec<&str> =
        edits.iter().filter(|(does, _)| does == "delete").map(|(_, name)| name.as_str()).collect();
    // From the bottom up, each by its name and by where it stands.
    assert_eq!(gone, ["rest, line 5", "manage, line 4", "people out, line 2"], "{edits:?}");
    // What the plan says as well stays, and is what other rows are put above.
    assert!(edits.iter().any(|(does, _)| does == "insert above print, line 3"), "{edits:?}");
    let assumed = sheet["since"]["assumed"].to_string();
    assert!(assumed.contains("replies to open connections"), "{assumed}");
    let text = bench.run("worksheet --plan plan.toml --since-gateway theirs.csv").out;
    assert!(text.contains("assumed: interfaces, addresses, DHCP"), "{text}");
}

#[test]
fn rules_of_the_kernel_are_changed_chain_by_chain() {
    let bench = Bench::new();
    bench.write("plan.toml", demo("clinic.toml"));
    bench.write("theirs.nft", KERNEL);
    let sheet = sheet(&bench, "--since-gateway theirs.nft");
    assert_eq!(sheet["since"]["safe"], true);
    let edits = edits(&sheet);
    let gone = edits.iter().filter(|(does, _)| does == "delete").map(|(_, name)| name.as_str());
    let gone: Vec<&str> = gone.collect();
    assert_eq!(
        gone,
        ["site forward, line 12", "site forward, line 11", "site input, line 6"],
        "{edits:?}"
    );
    assert!(!sheet["since"]["assumed"].to_string().contains("replies"), "{sheet}");
}

/// Lists on interfaces have a rule in several entries, those of each family apart: where they say together what a rule of the
/// plan says, they stay. Not all do: what the export says in fewer entries is said for several rules.
#[test]
fn entries_that_say_a_rule_of_the_plan_together_stay() {
    let bench = Bench::new();
    bench.write("plan.toml", demo("clinic.toml"));
    let lists = "export acl-json --plan plan.toml --form per-interface --to lists.json";
    assert_eq!(bench.run(lists).code, 0);
    let sheet = sheet(&bench, "--form per-interface --since-gateway lists.json");
    assert!(sheet["since"]["kept"].as_u64().is_some_and(|kept| kept > 5), "{}", sheet["since"]);
}

/// Names of rows are hostile, as all text of others.
#[test]
fn a_row_is_called_whatever_somebody_likes() {
    let bench = Bench::new();
    bench.write("plan.toml", demo("clinic.toml"));
    for name in [
        "x (it is at 30, called y)",
        "insert above z",
        "=1+1",
        "\u{202e}\u{1b}[2J",
        &"n".repeat(5_000),
    ] {
        let rows = format!(
            "action,source,destination,service,name\nallow,desks,printers,printing,\"{name}\"\nblock,guests,any,any,\"{name}\"\n\
             allow,desks,internet,https,\"{name}\"\nblock,any,any,any,\"{name}\"\n"
        );
        bench.write("theirs.csv", rows);
        let sheet = sheet(&bench, "--since-gateway theirs.csv");
        assert_eq!(sheet["since"]["safe"], true, "{name}");
        let text = sheet.to_string();
        assert!(!text.contains('\u{1b}') && !text.contains('\u{202e}'), "{name}");
    }
}

#[test]
fn what_no_change_can_begin_with_is_refused_with_a_reason() {
    let bench = Bench::new();
    bench.write("plan.toml", demo("clinic.toml"));
    bench.write("theirs.csv", PLAIN);
    bench.write("theirs.nft", KERNEL);
    bench.write("rate.nft", KERNEL.replace("tcp dport 22", "tcp dport 22 limit rate 3/second"));
    bench.write("odd.csv", PLAIN.replace("printing", "carrier-pigeons"));
    let jumps = "chain shared { tcp dport 443 accept }\n  chain input {";
    let jumps =
        KERNEL.replace("chain input {", jumps).replace("accept\n  }", "accept\n jump shared\n  }");
    bench.write("jumps.nft", jumps);
    assert_eq!(bench.run("export nftables --plan plan.toml --to own.nft").code, 0);
    let lists = "export acl-json --plan plan.toml --form per-interface --to lists.json";
    assert_eq!(bench.run(lists).code, 0);
    let text = std::fs::read_to_string(bench.file("lists.json")).expect("it was written");
    let mut part: Value = serde_json::from_str(&text).expect("JSON");
    for list in part["ietf-access-control-list:acls"]["acl"].as_array_mut().expect("lists") {
        let aces = list["aces"]["ace"].as_array_mut().expect("entries");
        aces.retain(|ace| ace["matches"]["tcp"]["flags"] != "rst");
    }
    bench.write("part.json", part.to_string());
    bench.write("empty.csv", "a,b\n1,2\n");
    for (words, says, help) in [
        ("rate.nft", "is not understood in every row", "take these rows out"),
        ("odd.csv", "`carrier-pigeons`", "take these rows out"),
        ("jumps.nft", "reached by several ways", "load the whole file"),
        ("own.nft", "reached by several ways", "load the whole file"),
        ("theirs.csv --form per-pair", "more than one of the plan's lists", "--form one-list"),
        ("theirs.nft --form per-interface", "keeps state", "--form one-list"),
        ("lists.json", "keeps no state", "--form per-interface"),
        ("part.json --form per-interface", "are not let back alike", "take these rows out"),
        ("empty.csv", "is no rule list", "a table with headings"),
    ] {
        let run = bench.run(&format!("worksheet --plan plan.toml --since-gateway {words}"));
        assert_eq!(run.code, 2, "{words}: {}", run.out);
        assert!(run.err.contains(says) && run.err.contains(help), "{words}: {}", run.err);
    }
}
