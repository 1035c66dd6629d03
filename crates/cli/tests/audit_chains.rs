//! Chains of a foreign rule list that lead into each other: followed as far as that can be, and undecided beyond.

mod common;

use common::Bench;

/// Chains of which each leads into the next by two ways: twice as many ways with every one.
fn two_ways_each(chains: usize) -> String {
    let mut text = "table inet t {\n".to_owned();
    for number in 0..chains {
        let next = number + 1;
        text += &format!(
            " chain c{number} {{\n  ip saddr != 10.44.{number}.1 jump c{next}\n  tcp dport != {next} jump c{next}\n }}\n"
        );
    }
    text + &format!(" chain c{chains} {{\n  ip daddr 10.44.9.9 drop\n }}\n")
        + " chain f {\n  type filter hook forward priority 0; policy drop;\n  jump c0\n }\n}\n"
}

#[test]
fn ways_without_end_are_undecided_and_never_clean() {
    let bench = Bench::new();
    for chains in [14, 40] {
        bench.write("rules.nft", two_ways_each(chains));
        let begun = std::time::Instant::now();
        let run = bench.clinic("audit rules.nft --format json");
        assert_eq!(run.code, 1, "{}", run.all());
        let json = run.json();
        assert!(json["undecided"].as_u64() > Some(0) && json["agrees"] == false, "{json}");
        let unclear =
            json["not_understood"].as_array().into_iter().flatten().map(ToString::to_string);
        assert!(unclear.into_iter().any(|one| one.contains("chain c")), "{json}");
        assert!(begun.elapsed().as_secs() < 120, "it has a budget");
        let shown = bench.clinic("audit rules.nft").out;
        assert!(
            shown.contains("could not be decided") && !shown.contains("No difference"),
            "{shown}"
        );
    }
    // What few ways lead to is looked at whole.
    bench.write("rules.nft", two_ways_each(4));
    let run = bench.clinic("audit rules.nft --format json");
    let json = run.json();
    assert_eq!(json["undecided"], 0, "{}", json["not_understood"]);
    assert!(json["differences"].as_array().is_some_and(|rows| !rows.is_empty()));
}

#[test]
fn a_chain_that_thousands_of_rules_share_is_no_reason_to_give_up() {
    let bench = Bench::new();
    let rules: String = (0..3_000)
        .map(|n| format!("  ip saddr 10.44.24.{} tcp dport {} jump note\n", n % 200 + 10, n + 1))
        .collect();
    bench.write(
        "rules.nft",
        format!(
            "table inet t {{\n chain note {{\n  log prefix \"noted \" accept\n }}\n chain sorted {{\n{rules} }}\n \
             chain f {{\n  type filter hook forward priority 0; policy drop;\n  jump sorted\n }}\n}}\n"
        ),
    );
    let run = bench.clinic("audit rules.nft --format json");
    let json = run.json();
    assert_eq!(json["undecided"], 0, "{}", json["not_understood"]);
    assert!(json["differences"].as_array().is_some_and(|rows| !rows.is_empty()));
}

/// What is translated where the plan translates nothing is no part of what was compared, and said to be none.
#[test]
fn what_translates_at_other_places_is_named() {
    let bench = Bench::new();
    let own = bench.clinic("export nftables").out;
    let audited = |hook: &str, rule: &str| {
        let chain = format!("chain other {{\n type nat hook {hook}; policy accept;\n {rule}\n }}");
        bench.write("rules.nft", format!("{own}\ntable ip other {{\n {chain}\n}}\n"));
        bench.clinic("audit rules.nft --format json")
    };
    for (hook, rule) in [
        ("output priority -100", "tcp dport 80 dnat to 10.44.24.10"),
        ("input priority 100", "snat to 10.44.24.10"),
    ] {
        let run = audited(hook, rule);
        assert_eq!(run.code, 1, "{hook}: {}", run.all());
        let json = run.json();
        let unclear = json["not_understood"].to_string();
        assert!(unclear.contains("other other"), "{hook}: {unclear}");
        // Without a rule, it is there for the translation to work.
        assert_eq!(audited(hook, "").code, 0, "{hook}");
    }
    // What an earlier chain accepts comes to the next one; what it translates does not.
    let before = "postrouting priority 99";
    let accepted = audited(before, "ip saddr 10.44.24.10 accept");
    assert_eq!(accepted.code, 0, "{}", accepted.all());
    let disguised = audited(before, "ip saddr 10.44.24.10 snat to 198.51.100.15");
    assert_eq!(disguised.code, 1, "{}", disguised.all());
    let shadowed = "ip saddr 10.44.24.0/24 accept\n ip saddr 10.44.24.10 snat to 198.51.100.15";
    let shadowed = audited(before, shadowed);
    assert_eq!(shadowed.code, 0, "{}", shadowed.all());
}

/// A file that is foreign altogether is named line by line, each of them once. While each was held
/// against all the others, four thousand took 18 seconds.
#[test]
fn thousands_of_lines_that_cannot_be_read_are_all_named() {
    let bench = Bench::new();
    let lines: String = (0..5_000).map(|line| format!("  frob{line} accept\n")).collect();
    bench.write(
        "foreign.nft",
        format!(
            "table inet t {{\n chain f {{\n  type filter hook forward priority 0; policy drop;\n{lines} }}\n}}\n"
        ),
    );
    let run = bench.run("audit foreign.nft --plan clinic.toml --format json");
    let sheet = run.json();
    let named = sheet["not_understood"].as_array().expect("rows");
    let of_lines = named.iter().filter(|row| row["what"].to_string().contains("frob")).count();
    assert_eq!((run.code, of_lines), (1, 5_000), "{}", named.len());
    let at: std::collections::HashSet<String> = named.iter().map(ToString::to_string).collect();
    assert_eq!(at.len(), named.len());
}

/// The addresses of a domain are in no rule, and an answer about rules says so: the same rules serve a plan whose domain
/// stands for other names.
#[test]
fn what_a_name_server_looks_up_is_left_out_of_the_answer() {
    let bench = Bench::new();
    let rules = bench.clinic("export nftables").out;
    bench.write("clinic.nft", rules);
    let plan = std::fs::read_to_string(bench.file("clinic.toml")).expect("the plan");
    bench.write("other.toml", plan.replace("\"calls.example.net\"", "\"talks.example.net\""));
    for plan in ["clinic.toml", "other.toml"] {
        let run = bench.run(&format!("audit clinic.nft --plan {plan} --day {}", common::DAY));
        let says = run.out.replace('\n', " ");
        assert!(
            run.code == 0
                && says.contains(
                    "Rules do not show what the gateway's name server looks up for phone-provider."
                ),
            "{says}"
        );
    }
    let bare = bench.run(&format!("export nftables --plan bare.toml --day {}", common::DAY)).out;
    bench.write("bare.nft", bare);
    let run = bench.run(&format!("audit bare.nft --plan bare.toml --day {}", common::DAY));
    assert!(run.code == 0 && !run.out.contains("looks up"), "{}{}", run.out, run.err);
}
