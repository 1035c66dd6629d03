//! Rule lists that somebody else wrote: what is said about them, and what is not guessed.

mod common;
#[path = "audit/made.rs"]
mod made;

use common::{Bench, DAY};
use made::{
    accept, audit, chain, counter, drop_it, field, found, hook, in_table, jump, meta, replies,
    rows, rule, test,
};
use serde_json::{Value, json};

/// Writes a list of the kernel's and looks at it alone.
fn alone(bench: &Bench, objects: Vec<Value>) -> Value {
    bench.write("rules.json", json!({ "nftables": objects }).to_string());
    audit(bench, "rules.json --alone").json()
}

#[test]
fn a_rule_below_the_one_that_covers_it_is_shadowed() {
    let bench = Bench::new();
    let net = json!({ "prefix": { "addr": "10.44.24.0", "len": 24 } });
    let json = alone(
        &bench,
        vec![
            hook("forward", "forward", "drop"),
            replies(),
            rule("forward", "wide block", vec![field("ip", "saddr", net), counter(4), drop_it()]),
            rule(
                "forward",
                "late allow",
                vec![
                    field("ip", "saddr", json!("10.44.24.10")),
                    field("tcp", "dport", json!(443)),
                    counter(0),
                    accept(),
                ],
            ),
        ],
    );
    let found = found(&json);
    assert!(found.contains(&"never-matches late allow".to_owned()), "{found:?}");
    assert!(found.contains(&"never-hit late allow".to_owned()), "{found:?}");
    assert!(!found.iter().any(|one| one.contains("no-replies")), "{found:?}");
    let finding = rows(&json, "findings").iter().find(|one| one["name"] == "never-matches");
    let says = finding.expect("it is there")["says"].as_str().expect("words").to_owned();
    assert_eq!(says, "it is shadowed: wide block takes all of its packets");
    assert_eq!(json["lines"], 3);
}

#[test]
fn several_rules_together_cover_one() {
    let bench = Bench::new();
    let half = |address: &str| json!({ "prefix": { "addr": address, "len": 25 } });
    let from = |set: Value| field("ip", "saddr", set);
    let whole = json!({ "prefix": { "addr": "10.44.24.0", "len": 24 } });
    let json = alone(
        &bench,
        vec![
            hook("forward", "forward", "drop"),
            replies(),
            rule("forward", "lower", vec![from(half("10.44.24.0")), accept()]),
            rule("forward", "upper", vec![from(half("10.44.24.128")), accept()]),
            rule("forward", "all of it", vec![from(whole), drop_it()]),
        ],
    );
    let finding = rows(&json, "findings").iter().find(|one| one["rule"] == "all of it");
    let says = &finding.expect("it is there")["says"];
    assert_eq!(says, "it is shadowed: lower, upper take all of its packets");
}

#[test]
fn a_rule_that_changes_nothing_and_one_that_allows_everything_are_reported() {
    let bench = Bench::new();
    let narrow = vec![field("tcp", "dport", json!(443)), accept()];
    let json = alone(
        &bench,
        vec![
            hook("forward", "forward", "drop"),
            replies(),
            rule("forward", "narrow", narrow),
            rule("forward", "first day", vec![accept()]),
        ],
    );
    let found = found(&json);
    assert!(found.contains(&"changes-nothing narrow".to_owned()), "{found:?}");
    assert!(found.contains(&"too-wide first day".to_owned()), "{found:?}");
}

#[test]
fn rules_that_depend_on_their_order_are_named_in_pairs() {
    let bench = Bench::new();
    let json = alone(
        &bench,
        vec![
            hook("forward", "forward", "drop"),
            replies(),
            rule(
                "forward",
                "from here",
                vec![field("ip", "saddr", json!("10.44.24.10")), drop_it()],
            ),
            rule("forward", "to there", vec![field("ip", "daddr", json!("10.44.40.10")), accept()]),
            // Narrow above wide is how exceptions are written, and no pair.
            rule("forward", "exception", vec![field("udp", "dport", json!(53)), drop_it()]),
            rule("forward", "all udp", vec![meta("l4proto", "udp"), accept()]),
        ],
    );
    let found = found(&json);
    assert!(found.contains(&"depends-on-order from here".to_owned()), "{found:?}");
    let pairs = rows(&json, "findings").iter().filter(|one| one["name"] == "depends-on-order");
    assert!(pairs.clone().all(|one| one["rule"] != "exception"), "{found:?}");
    assert!(pairs.clone().any(|one| one["says"].as_str().is_some_and(|s| s.contains("to there"))));
}

#[test]
fn what_blocks_without_a_trace_and_what_lacks_replies_is_reported() {
    let bench = Bench::new();
    let json = alone(
        &bench,
        vec![
            hook("forward", "forward", "drop"),
            rule("forward", "web", vec![field("tcp", "dport", json!(443)), accept()]),
            rule("forward", "silent", vec![field("tcp", "dport", json!(23)), drop_it()]),
        ],
    );
    let found = found(&json);
    assert!(found.iter().any(|one| one.starts_with("no-replies")), "{found:?}");
    assert!(found.contains(&"not-logged silent".to_owned()), "{found:?}");
    assert!(found.contains(&"not-logged policy".to_owned()), "{found:?}");
}

#[test]
fn chains_jumps_and_maps_are_followed() {
    let bench = Bench::new();
    let map = json!({ "vmap": { "key": { "concat": [{ "meta": { "key": "iifname" } },
        { "meta": { "key": "oifname" } }] }, "data": "@ways" } });
    let ways = json!({ "map": { "family": "inet", "table": "site", "name": "ways",
        "type": ["ifname", "ifname"], "map": "verdict", "elem": [
            [{ "concat": ["lan", "wan"] }, jump("out")],
            [{ "concat": ["guest", "wan"] }, jump("out")] ] } });
    let json = alone(
        &bench,
        vec![
            ways,
            hook("forward", "forward", "drop"),
            chain("out"),
            chain("inner"),
            replies(),
            rule("forward", "look", vec![map]),
            rule("forward", "after", vec![meta("oifname", "wan"), accept()]),
            rule("out", "guests stay", vec![meta("iifname", "guest"), jump("inner")]),
            rule("out", "web", vec![field("tcp", "dport", json!(443)), accept()]),
            rule(
                "inner",
                "back",
                vec![field("udp", "dport", json!(53)), json!({ "return": null })],
            ),
            rule("inner", "no", vec![drop_it()]),
            rule("inner", "dead", vec![accept()]),
        ],
    );
    let found = found(&json);
    // Names come back from `inner` and go on; everything else of the guests ends there.
    assert!(found.contains(&"never-matches dead".to_owned()), "{found:?}");
    assert!(!found.contains(&"never-matches web".to_owned()), "{found:?}");
    assert!(!found.contains(&"never-matches after".to_owned()), "{found:?}");
    assert!(rows(&json, "not_understood").is_empty(), "{}", json["not_understood"]);
}

/// A packet has to pass all chains at a place: what one lets pass, the next may still deny.
#[test]
fn chains_of_several_tables_at_one_place_are_all_asked() {
    let bench = Bench::new();
    let guests = || field("ip", "saddr", json!({ "prefix": { "addr": "10.44.60.0", "len": 22 } }));
    let web = || field("tcp", "dport", json!(443));
    let first = [
        hook("forward", "forward", "accept"),
        rule("forward", "ssh", vec![field("tcp", "dport", json!(22)), accept()]),
        rule("forward", "no-guests", vec![guests(), drop_it()]),
    ];
    let first = first.map(|object| in_table(object, "inet", "early", -10));
    let second = vec![
        hook("forward", "forward", "drop"),
        rule("forward", "guests-web", vec![guests(), web(), accept()]),
        rule("forward", "guests-ssh", vec![guests(), field("tcp", "dport", json!(22)), accept()]),
        rule("forward", "web", vec![web(), accept()]),
    ];
    // In whatever order they are printed, the priority counts.
    let both = second.into_iter().chain(first).collect();
    let sheet = alone(&bench, both);
    assert_eq!(sheet["not_understood"], json!([]));
    let found = found(&sheet);
    assert!(found.contains(&"never-matches guests-web".to_owned()), "{found:?}");
    assert!(!found.iter().any(|one| one.ends_with("-matches guests-ssh")), "{found:?}");
    assert!(!found.contains(&"too-wide policy".to_owned()), "the second chain denies: {found:?}");
    // Tables of one family each do not meet: the policy of each is a last word.
    let v4 = [hook("forward", "forward", "drop"), rule("forward", "web", vec![web(), accept()])];
    let v6 = [hook("forward", "forward", "accept"), rule("forward", "no", vec![web(), drop_it()])];
    let v4 = v4.map(|object| in_table(object, "ip", "filter", 0));
    let v6 = v6.map(|object| in_table(object, "ip6", "filter", 0));
    let sheet = alone(&bench, v4.into_iter().chain(v6).collect());
    assert_eq!(sheet["not_understood"], json!([]));
    let wide = sheet["findings"].as_array().expect("findings").iter();
    let wide: Vec<&Value> = wide.filter(|one| one["name"] == "too-wide").collect();
    assert_eq!(wide.len(), 1, "{wide:?}");
    assert_eq!(wide[0]["says"], "traffic that no rule matches is allowed");
    // Where only IPv4 is filtered, all of IPv6 passes, whether an idle chain says so or none.
    let idle = in_table(hook("forward", "forward", "accept"), "inet", "idle", 0);
    for more in [vec![], vec![idle]] {
        let v4 =
            [hook("forward", "forward", "drop"), rule("forward", "web", vec![web(), accept()])];
        let v4 = v4.map(|object| in_table(object, "ip", "filter", 0));
        let sheet = alone(&bench, v4.into_iter().chain(more).collect());
        let wide: Vec<&Value> =
            rows(&sheet, "findings").iter().filter(|one| one["name"] == "too-wide").collect();
        assert_eq!(wide.len(), 1, "{sheet}");
        assert_eq!(wide[0]["says"], "traffic that no rule matches is allowed");
    }
}

#[test]
fn what_is_not_understood_is_named_and_takes_part_in_no_claim() {
    let bench = Bench::new();
    let limit = json!({ "limit": { "rate": 10, "per": "second", "inv": true } });
    let json = alone(
        &bench,
        vec![
            hook("forward", "forward", "drop"),
            hook("early", "prerouting", "drop"),
            replies(),
            rule("forward", "some of it", vec![limit, drop_it()]),
            rule("forward", "by source port", vec![field("udp", "sport", json!(53)), accept()]),
            rule(
                "forward",
                "by a filled set",
                vec![field("ip", "saddr", json!("@seen")), drop_it()],
            ),
            rule(
                "forward",
                "by mark",
                vec![test(json!({ "meta": { "key": "mark" } }), json!(7)), drop_it()],
            ),
            rule("forward", "web", vec![field("tcp", "dport", json!(443)), accept()]),
            json!({ "set": { "family": "inet", "table": "site", "name": "seen", "type": "ipv4_addr",
                "flags": ["dynamic", "timeout"] } }),
        ],
    );
    let not_understood: Vec<&str> = rows(&json, "not_understood")
        .iter()
        .map(|one| one["what"].as_str().expect("words"))
        .collect();
    for what in ["limit", "udp sport", "set seen", "mark == 7", "prerouting"] {
        assert!(not_understood.iter().any(|one| one.contains(what)), "{what}: {not_understood:?}");
    }
    // The lines above may take all of it, or nothing: neither is claimed.
    let found = found(&json);
    assert!(!found.iter().any(|one| one == "never-matches web"), "{found:?}");
    assert!(!found.iter().any(|one| one.starts_with("changes-nothing")), "{found:?}");
}

#[test]
fn a_table_is_read_with_the_plans_names() {
    let bench = Bench::new();
    bench.write(
        "rules.csv",
        "No,Name,Action,From,To,Source,Destination,Service,Log,Hits\n\
         1,old,block,any,any,10.44.99.0/24,any,any,no,9\n\
         2,printing,allow,staff,equipment,desks,printers,\"tcp/9100-9102, ipp\",no,12\n\
         3,again,permit,staff,equipment,desks,paper-printer,ipp,no,0\n\
         4,guests,deny,guests,any,any,records,any,yes,3\n\
         5,typo,allow,staff,any,recption,any,ssh,no,1\n\
         6,what,perhaps,staff,any,any,any,any,no,1\n",
    );
    let json = audit(&bench, &format!("rules.csv --plan clinic.toml --day {DAY}")).json();
    let not_understood: Vec<&str> = rows(&json, "not_understood")
        .iter()
        .map(|one| one["what"].as_str().expect("words"))
        .collect();
    assert!(
        not_understood.iter().any(|what| what.contains("the source `recption`")),
        "{not_understood:?}"
    );
    assert!(
        not_understood.iter().any(|what| what.contains("the action `perhaps`")),
        "{not_understood:?}"
    );
    let found = found(&json);
    assert!(found.contains(&"never-matches again".to_owned()), "{found:?}");
    assert!(found.contains(&"never-hit again".to_owned()), "{found:?}");
    let differs = |words: &str| {
        rows(&json, "differences")
            .iter()
            .any(|row| row["says"].as_str().is_some_and(|s| s.contains(words)))
    };
    // Nothing in the table lets the desks out.
    assert!(
        differs("from desks to internet") || differs("from staff to internet"),
        "{}",
        json["differences"]
    );
    assert!(!differs("tcp/9100"), "the printers are reached, as the plan says");
}

#[test]
fn a_gateway_that_differs_from_the_plan_is_reported_in_sentences() {
    let bench = Bench::new();
    let objects = vec![
        hook("forward", "forward", "drop"),
        rule(
            "forward",
            "replies",
            vec![
                json!({ "match": { "op": "in", "left": { "ct": { "key": "state" } },
                "right": ["established", "related"] } }),
                accept(),
            ],
        ),
        rule("forward", "out", vec![meta("iifname", "core.24"), meta("oifname", "wan1"), accept()]),
        rule(
            "forward",
            "guests to the records",
            vec![
                meta("iifname", "core.80"),
                field("ip", "daddr", json!("10.44.40.10")),
                field("tcp", "dport", json!(443)),
                accept(),
            ],
        ),
    ];
    bench.write("rules.json", json!({ "nftables": objects }).to_string());
    let run = audit(&bench, &format!("rules.json --plan clinic.toml --day {DAY}"));
    assert_eq!(run.code, 1);
    let json = run.json();
    let opens: Vec<&Value> =
        rows(&json, "differences").iter().filter(|row| row["after"] == "allow").collect();
    let guests = opens.iter().find(|row| {
        row["from"] == "waiting-room"
            && row["destination"] == "records"
            && row["service"] == "tcp/443"
            && row["because"]["kind"] == "cell"
    });
    let guests = guests.unwrap_or_else(|| panic!("{opens:#?}"));
    let says = guests["says"].as_str().expect("a sentence");
    assert!(says.starts_with("the gateway allows tcp/443 from waiting-room to records"), "{says}");
    assert!(says.contains("the plan blocks it (cell guests>clinical, line"), "{says}");
    // The desks may go out: no word about that.
    let out =
        |row: &&Value| row["because"]["name"] == "staff>internet" && row["aspect"] == "verdict";
    assert!(!rows(&json, "differences").iter().any(|row| out(&row)));
    // They are logged otherwise, and nobody translates their sources.
    let aspects: Vec<&Value> =
        rows(&json, "differences").iter().map(|row| &row["aspect"]).collect();
    assert!(aspects.iter().any(|aspect| **aspect == "translation"), "{aspects:?}");
    let text = bench.run(&format!("audit rules.json --plan clinic.toml --day {DAY}"));
    assert!(text.out.contains("Gateway and plan differ"), "{}", text.out);
}

#[test]
fn files_that_are_no_rule_lists_are_reported_with_a_help() {
    let bench = Bench::new();
    let many = "[".repeat(5_000);
    for (text, says) in [
        ("", "is no rule list"),
        ("hello", "is no rule list"),
        ("{", "is no JSON"),
        (many.as_str(), "is no JSON"),
        ("{\"rules\": []}", "is JSON, but no rule list"),
        ("{\"nftables\": []}", "has no rules in it"),
        ("action,color\nallow,red\n", "has no column source, destination"),
        ("action,source,destination\n", "has no rules in it"),
        (
            "{\"nftables\": [{\"rule\": {\"expr\": [7, {\"match\": 3}]}}, 5, {}]}",
            "has no rules in it",
        ),
    ] {
        bench.write("rules", text);
        let run = bench.run("audit rules --alone");
        assert_eq!(run.code, 2, "{text}: {}{}", run.out, run.err);
        assert!(run.err.contains(says), "{text}: {}", run.err);
        assert!(run.err.contains("help:"), "{text}: {}", run.err);
    }
    let run = bench.run("audit not-there --alone");
    assert_eq!(run.code, 2);
}

/// The ways between interfaces are numbered with sixteen bits; more would be mistaken for others.
#[test]
fn more_interfaces_than_can_be_reported_apart_are_refused() {
    let bench = Bench::new();
    let list = |count: usize| {
        let mut objects = vec![hook("forward", "forward", "drop")];
        for number in 0..count {
            let name = format!("lan{number}");
            objects.push(rule("forward", &name, vec![meta("iifname", &name), accept()]));
        }
        bench.write("rules.json", json!({ "nftables": objects }).to_string());
        audit(&bench, "rules.json --alone")
    };
    let run = list(179);
    assert_eq!(run.json()["lines"], 179, "{}", run.err);
    let run = list(180);
    assert_eq!(run.code, 2, "{}", run.err);
    assert!(run.err.contains("180 interfaces; at most 179"), "{}", run.err);
}

#[test]
fn a_list_that_leads_in_circles_ends() {
    let bench = Bench::new();
    let json = alone(
        &bench,
        vec![
            hook("forward", "forward", "drop"),
            chain("a"),
            chain("b"),
            rule("forward", "in", vec![jump("a")]),
            rule("a", "on", vec![jump("b")]),
            rule("b", "back", vec![jump("a")]),
        ],
    );
    let not_understood = json["not_understood"].to_string();
    assert!(not_understood.contains("too deep"), "{not_understood}");
}

#[test]
fn hostile_names_stay_names() {
    let bench = Bench::new();
    let json = json!({ "nftables": [
        hook("forward", "forward", "drop"),
        rule("forward", "\u{1b}[31m=cmd()\n", vec![accept()]),
    ] });
    bench.write("rules.json", json.to_string());
    let run = bench.run("audit rules.json --alone");
    assert!(!run.out.contains('\u{1b}'), "{}", run.out);
    let run = bench.run("audit rules.json --alone --format csv");
    assert!(!run.out.contains('\u{1b}'));
    assert!(!run.out.lines().any(|line| line.contains(",=cmd()")), "{}", run.out);
}

/// A table that sleeps decides nothing, whatever stands in it.
#[test]
fn a_table_that_is_dormant_is_named() {
    let bench = Bench::new();
    let run = bench.run(&format!("export nftables --plan clinic.toml --day {DAY} --to rules.nft"));
    assert_eq!(run.code, 0, "{}", run.err);
    let text = std::fs::read_to_string(bench.file("rules.nft")).expect("it was written");
    let asleep = text.replacen("table inet bastium {", "table inet bastium {\n\tflags dormant", 1);
    assert_ne!(asleep, text);
    bench.write("asleep.nft", asleep);
    let run = audit(&bench, &format!("asleep.nft --plan clinic.toml --day {DAY}"));
    assert_ne!(run.code, 0, "{}", run.out);
    let table = json!({ "table": { "family": "inet", "name": "site", "flags": ["dormant"] } });
    let objects = json!({ "nftables": [table, hook("forward", "forward", "drop"), replies()] });
    bench.write("asleep.json", objects.to_string());
    let run = audit(&bench, "asleep.json --alone");
    assert_eq!(run.code, 1, "{}", run.out);
    assert_eq!(rows(&run.json(), "not_understood").len(), 1, "{}", run.out);
}

/// The connection tracking leaves neighbour discovery alone, so that none of it is ever new.
#[test]
fn neighbour_discovery_begins_no_conversation() {
    let bench = Bench::new();
    let text = bench.run(&format!("export nftables --plan clinic.toml --day {DAY}")).out;
    let audited = |old: &str, new: &str| {
        let changed = text.replace(old, new);
        assert_ne!(changed, text, "{old}");
        bench.write("changed.nft", changed);
        audit(&bench, &format!("changed.nft --plan clinic.toml --day {DAY}"))
    };
    let hook = "type filter hook input priority filter; policy drop\n";
    let anybodys = audited(hook, &format!("{hook}\t\tct state untracked accept\n"));
    assert_eq!(anybodys.code, 1, "router advertisements of anybody: {}", anybodys.out);
    let needs = "icmpv6 type { 1-2, ";
    let nobodys = audited(needs, &format!("ct state new {needs}"));
    assert_eq!(nobodys.code, 1, "no neighbour is found: {}", nobodys.out);
    let both = audited(needs, &format!("ct state new,untracked {needs}"));
    assert_eq!(both.code, 0, "{}", both.out);
}

/// Nobody has neighbours on `lo`: what lets new conversations in there lets in all that the gateway says to itself.
#[test]
fn no_neighbours_are_wanted_on_lo() {
    let bench = Bench::new();
    assert_eq!(bench.run("export nftables --plan bare.toml --to own.nft").code, 0);
    let own = std::fs::read_to_string(bench.file("own.nft")).expect("it was written");
    let with = |states: &str| {
        let line = format!("iifname \"lo\" ct state {states} accept");
        let changed = own.replacen("iifname \"lo\" accept", &line, 1);
        assert_ne!(changed, own);
        bench.write("changed.nft", changed);
        audit(&bench, "changed.nft --plan bare.toml").json()["agrees"].clone()
    };
    assert_eq!(with("new,established,related"), true);
    assert_eq!(with("established,related"), false);
}
