//! Access control lists of RFC 8519 that somebody else wrote.

mod common;
#[path = "audit/made.rs"]
#[allow(dead_code, reason = "the audit of gateways uses the rest")]
mod made;

use common::{Bench, DAY};
use made::{audit, found, rows};
use serde_json::{Value, json};

/// The lists of RFC 8519 for the bare plan's two networks.
fn acl(entries: Vec<Value>) -> Value {
    json!({ "ietf-access-control-list:acls": {
        "acl": [{ "name": "in", "type": "ietf-access-control-list:ipv4-acl-type",
            "aces": { "ace": entries } }],
        "attachment-points": { "interface": [{ "interface-id": "core.24",
            "ingress": { "acl-sets": { "acl-set": [{ "name": "in" }] } } }] } } })
}

fn ace(name: &str, forwarding: &str, matches: Value) -> Value {
    json!({ "name": name, "matches": matches,
        "actions": { "forwarding": format!("ietf-access-control-list:{forwarding}") } })
}

#[test]
fn access_lists_are_read_with_all_that_the_module_says_of_ports() {
    let bench = Bench::new();
    let tcp =
        |port: Value| json!({ "ipv4": { "protocol": 6 }, "tcp": { "destination-port": port } });
    let list = acl(vec![
        ace("low", "accept", tcp(json!({ "operator": "lte", "port": 99 }))),
        ace("high", "accept", tcp(json!({ "operator": "gte", "port": 101 }))),
        ace("not 100", "drop", tcp(json!({ "operator": "neq", "port": 100 }))),
        ace("range", "drop", tcp(json!({ "lower-port": 100, "upper-port": 100 }))),
        ace("again", "reject", tcp(json!({ "port": 100 }))),
        ace("odd", "drop", json!({ "ipv4": { "dscp": 7 } })),
        ace("established", "accept", json!({ "ipv4": {}, "tcp": { "flags": "ack" } })),
    ]);
    bench.write("acl.json", list.to_string());
    let json = audit(&bench, "acl.json --alone").json();
    let found = found(&json);
    assert!(found.contains(&"never-matches not 100".to_owned()), "{found:?}");
    assert!(found.contains(&"never-matches again".to_owned()), "{found:?}");
    assert!(!found.contains(&"never-matches range".to_owned()), "{found:?}");
    assert_eq!(rows(&json, "not_understood").len(), 1);
    assert!(json["not_understood"][0]["what"].as_str().is_some_and(|what| what.contains("dscp")));
}

#[test]
fn numbers_that_do_not_fit_are_named_and_never_bent() {
    let bench = Bench::new();
    let list = acl(vec![
        ace("protocol", "accept", json!({ "ipv4": { "protocol": 300 } })),
        ace("type", "accept", json!({ "ipv4": {}, "icmp": { "type": 264 } })),
        ace("code", "accept", json!({ "ipv4": {}, "icmp": { "type": 8, "code": 256 } })),
        ace("alone", "accept", json!({ "ipv6": {}, "icmp": { "code": 1 } })),
        ace("word", "accept", json!({ "ipv4": { "protocol": "tcp" } })),
        ace(
            "back",
            "accept",
            json!({ "ipv4": {}, "udp": { "destination-port":
            { "lower-port": 9, "upper-port": 1 } } }),
        ),
    ]);
    bench.write("acl.json", list.to_string());
    let run = audit(&bench, "acl.json --alone");
    let json = run.json();
    let named: Vec<&str> = rows(&json, "not_understood")
        .iter()
        .map(|row| row["at"].as_str().expect("a place").rsplit(' ').next().expect("a name"))
        .collect();
    assert_eq!(named, ["protocol", "type", "code", "alone", "word", "back"], "{json:#}");
    assert_eq!(run.code, 1);
}

/// A stateless list cannot say all of a plan: what it lacks is reported, and nothing else is found.
#[test]
fn lists_of_the_plans_own_lack_only_what_they_have_no_words_for() {
    let bench = Bench::new();
    let run = bench.run(&format!("export acl-json --plan clinic.toml --day {DAY} --to acl.json"));
    assert_eq!(run.code, 0, "{}", run.err);
    let run = audit(&bench, &format!("acl.json --plan clinic.toml --day {DAY}"));
    let json = run.json();
    assert_eq!(run.code, 1);
    for row in rows(&json, "differences") {
        let says = row["says"].as_str().expect("a sentence");
        let because = row["because"]["name"].as_str().expect("an entry");
        let unsaid = ["phones-to-provider", "deliveries-sign"].contains(&because);
        let rare = row["aspect"] == "replies" && says.contains("proto-0");
        let log = row["aspect"] == "log";
        assert_ne!(row["after"], "allow", "{says}");
        assert!(unsaid || rare || log, "{says}");
    }
    assert!(rows(&json, "findings").is_empty());
    assert!(rows(&json, "not_understood").is_empty());
}

#[test]
fn a_line_too_many_in_the_lists_is_found() {
    let bench = Bench::new();
    let run = bench.run(&format!("export acl-json --plan clinic.toml --day {DAY} --to acl.json"));
    assert_eq!(run.code, 0, "{}", run.err);
    let text = std::fs::read_to_string(bench.file("acl.json")).expect("it was written");
    let mut json: Value = serde_json::from_str(&text).expect("JSON");
    let lists = json["ietf-access-control-list:acls"]["acl"].as_array_mut().expect("lists");
    let list = lists.iter_mut().find(|list| list["name"] == "waiting-room in ipv4");
    let aces = list.expect("guests have a list")["aces"]["ace"].as_array_mut().expect("entries");
    let matches = json!({ "ipv4": { "protocol": 6, "destination-ipv4-network": "10.44.60.0/24" } });
    aces.insert(0, ace("one too many", "accept", matches));
    bench.write("other.json", json.to_string());
    let run = audit(&bench, &format!("other.json --plan clinic.toml --day {DAY}"));
    assert_eq!(run.code, 1);
    let json = run.json();
    let found = rows(&json, "differences").iter().any(|row| {
        row["line"] == "one too many" && row["after"] == "allow" && row["before"] == "block"
    });
    assert!(found, "{json:#}");
}

/// Where the module has words for everything, the lists agree with their plan, and nothing else is said.
#[test]
fn lists_of_a_plan_that_can_be_said_agree_with_it() {
    let bench = Bench::new();
    let plan = common::demo("bare.toml");
    let plan = plan.replace(
        "address = \"dhcp\"",
        "address = \"198.51.100.14/30\"\nrouter = \"198.51.100.13\"",
    );
    // What lets everything through lets rare protocols through, whose replies are left out.
    let plan = plan.replace("people    -       block   allow", "people    -       block   block");
    bench.write("said.toml", &plan);
    let run = bench.run(&format!("export acl-json --plan said.toml --day {DAY} --to acl.json"));
    assert_eq!(run.code, 0, "{}", run.err);
    let run = audit(&bench, &format!("acl.json --plan said.toml --day {DAY}"));
    let json = run.json();
    assert_eq!((run.code, &json["agrees"]), (0, &json!(true)), "{json:#}");
    assert!(rows(&json, "findings").is_empty());
    let text = bench.run(&format!("audit acl.json --plan said.toml --day {DAY}")).out;
    assert!(text.contains("for every first packet, and let back what looks"), "{text}");
    // Without the replies it is no agreement, though every first packet fares the same.
    let text = std::fs::read_to_string(bench.file("acl.json")).expect("it was written");
    let mut json: Value = serde_json::from_str(&text).expect("JSON");
    for list in json["ietf-access-control-list:acls"]["acl"].as_array_mut().expect("lists") {
        let aces = list["aces"]["ace"].as_array_mut().expect("entries");
        aces.retain(|ace| {
            !ace["name"].as_str().is_some_and(|name| name.contains("reply.exception"))
        });
    }
    bench.write("mute.json", json.to_string());
    // Nor is it one where but a part of what comes back over TCP does.
    let whole: Value = serde_json::from_str(&text).expect("JSON");
    for flag in ["ack", "rst"] {
        let mut part = whole.clone();
        let lists = part["ietf-access-control-list:acls"]["acl"].as_array_mut().expect("lists");
        for list in lists {
            let aces = list["aces"]["ace"].as_array_mut().expect("entries");
            aces.retain(|ace| ace["matches"]["tcp"]["flags"] != flag);
        }
        bench.write("part.json", part.to_string());
        let run = audit(&bench, &format!("part.json --plan said.toml --day {DAY}"));
        assert_eq!(run.code, 1, "{flag}: {}", run.out);
        let json = run.json();
        assert!(rows(&json, "differences").iter().any(|row| row["aspect"] == "replies"), "{json}");
    }
    let run = audit(&bench, &format!("mute.json --plan said.toml --day {DAY}"));
    assert_eq!(run.code, 1, "{}", run.out);
    assert!(rows(&run.json(), "differences").iter().any(|row| row["aspect"] == "replies"));
}

/// The published module takes what is exported, interfaces included; and the program that says so sees what is wrong.
#[test]
#[expect(clippy::print_stderr, reason = "what is skipped is said")]
fn the_published_module_takes_them() {
    let modules = common::repository().join("target/python/share/yang/modules");
    let there = modules.join("ietf/ietf-access-control-list.yang").exists();
    let lint = |file: &std::path::Path| {
        let mut lint = std::process::Command::new("yanglint");
        for folder in ["ietf", "iana"] {
            lint.arg("-p").arg(modules.join(folder));
        }
        let features = "match-on-ipv4,match-on-ipv6,match-on-tcp,match-on-udp,match-on-icmp,ipv4,ipv6,interface-attachment";
        lint.arg("-F").arg(format!("ietf-access-control-list:{features}")).args(["-t", "config"]);
        let named = ["ietf/ietf-access-control-list", "iana/iana-if-type", "ietf/ietf-interfaces"];
        lint.args(named.map(|name| modules.join(format!("{name}.yang")))).arg(file).output()
    };
    let bench = Bench::new();
    if !there || lint(&bench.file("clinic.toml")).is_err() {
        assert!(
            std::env::var("BASTIUM_YANG_NEEDED").is_err(),
            "yanglint or the modules are not there"
        );
        eprintln!("skipped: no yanglint, or no published modules");
        return;
    }
    let leased = "--plan farm.toml --uplink-address dish=203.0.113.40/24";
    for (file, words) in [
        ("clinic.json", "--plan clinic.toml"),
        ("farm.json", leased),
        ("list.json", "--plan clinic.toml --form one-list"),
    ] {
        let run = bench.run(&format!("export acl-json --day {DAY} --to {file} {words}"));
        assert_eq!(run.code, 0, "{}", run.err);
        let done = lint(&bench.file(file)).expect("yanglint");
        assert!(done.status.success(), "{file}: {}", String::from_utf8_lossy(&done.stderr));
    }
    let text = std::fs::read_to_string(bench.file("clinic.json")).expect("the lists");
    assert!(text.matches("\"forwarding\"").count() < 4_000, "far fewer than rule by rule");
    for (what, by) in [
        ("\"name\": \"core.10\"", "\"name\": \"core.11\""),
        ("ietf-access-control-list:drop", "ietf-access-control-list:lose"),
        ("\"protocol\": 6", "\"protocol\": 600"),
    ] {
        let wrong = text.replacen(what, by, 1);
        assert_ne!(wrong, text, "{what}");
        bench.write("wrong.json", wrong);
        assert!(!lint(&bench.file("wrong.json")).expect("yanglint").status.success(), "{what}");
    }
}

#[test]
fn an_address_is_known_of_leased_uplinks_alone() {
    let bench = Bench::new();
    for (words, says) in [
        ("--plan farm.toml --uplink-address nowhere=203.0.113.40/24", "there is no uplink nowhere"),
        ("--plan clinic.toml --uplink-address fibre=203.0.113.40/24", "fixed address"),
        ("--plan farm.toml --uplink-address 203.0.113.40", "no uplink with its address"),
        ("--plan farm.toml --uplink-address dish=203.0.113.40/24/7", "bad-uplink-address"),
    ] {
        let run = bench.run(&format!("export acl-json --day {DAY} {words}"));
        assert!(run.code == 2 && run.err.contains(says), "{words}: {}", run.err);
    }
    let run = bench.run(&format!(
        "export nftables --day {DAY} --plan farm.toml --uplink-address dish=203.0.113.40/24"
    ));
    assert_eq!(run.code, 2, "{}", run.err);
}

/// The plan's own lists, with something changed in them.
struct Changed {
    bench: Bench,
    lists: Value,
    /// What is said of them as they are.
    before: Value,
}

impl Changed {
    /// Of a gateway whose uplink has no IPv6.
    fn new() -> Self {
        let bench = Bench::new();
        let plan = std::fs::read_to_string(bench.file("bare.toml")).expect("a plan");
        let fixed = "address = \"203.0.113.9/24\"\nrouter = \"203.0.113.1\"";
        bench.write("static.toml", plan.replacen("address = \"dhcp\"", fixed, 1));
        let run =
            bench.run("export acl-json --plan static.toml --form per-interface --to acl.json");
        assert_eq!(run.code, 0, "{}", run.err);
        let text = std::fs::read_to_string(bench.file("acl.json")).expect("it was written");
        let lists: Value = serde_json::from_str(&text).expect("JSON");
        let before = audit(&bench, "acl.json --plan static.toml").json();
        assert!(rows(&before, "not_understood").is_empty());
        Self { bench, lists, before }
    }

    /// What is said where something is done to the lists.
    fn with(&self, change: impl Fn(&mut Value)) -> Value {
        let mut lists = self.lists.clone();
        change(&mut lists["ietf-access-control-list:acls"]);
        self.bench.write("changed.json", lists.to_string());
        audit(&self.bench, "changed.json --plan static.toml").json()
    }
}

/// An entry of a list, by the beginning of its name.
fn entry<'v>(acls: &'v mut Value, list: &str, name: &str) -> &'v mut Value {
    let lists = acls["acl"].as_array_mut().expect("lists");
    let list = lists.iter_mut().find(|one| one["name"] == list).expect("a list");
    let entries = list["aces"]["ace"].as_array_mut().expect("entries");
    let named = |one: &&mut Value| one["name"].as_str().is_some_and(|own| own.starts_with(name));
    entries.iter_mut().find(named).expect("an entry")
}

#[test]
fn members_that_nobody_reads_are_named_wherever_they_stand() {
    let lists = Changed::new();
    let list = "desks in ipv4";
    for place in [
        "/acl/0/aces/other",
        "/acl/0/aces/ace/0/other",
        "/acl/0/aces/ace/0/actions/other",
        "/acl/0/aces/ace/0/matches/other",
        "/acl/0/other",
        "/attachment-points/other",
        "/attachment-points/interface/0/other",
        "/attachment-points/interface/0/ingress/other",
        "/attachment-points/interface/0/ingress/acl-sets/other",
        "/attachment-points/interface/0/ingress/acl-sets/acl-set/0/other",
        "/other",
    ] {
        let said = lists.with(|acls| {
            let (within, key) = place.rsplit_once('/').expect("a place");
            acls.pointer_mut(within).expect("it is there")[key] = json!("rate 10");
        });
        assert!(said["not_understood"].to_string().contains("`other`"), "{place}: {said:#}");
    }
    for kind in ["eth-acl-type", "ipv7-acl-type"] {
        let said = lists.with(|acls| acls["acl"][0]["type"] = json!(kind));
        assert!(said["not_understood"].to_string().contains(&format!("`type {kind}`")), "{said:#}");
    }
    // What a gateway counts says nothing of packets to come.
    let said = lists.with(|acls| {
        let set = "/attachment-points/interface/0/ingress/acl-sets/acl-set/0";
        acls.pointer_mut(set).expect("a set")["ace-statistics"] = json!([{ "name": "x" }]);
        entry(acls, list, "")["statistics"] = json!({ "matched-packets": "7" });
    });
    assert_eq!(said["not_understood"], json!([]));
    for (header, says) in [("ipv6", "two network headers"), ("udp", "two protocols")] {
        let said = lists.with(|acls| {
            let own = entry(acls, list, "manage");
            own["matches"][header] = json!({});
        });
        assert!(said["not_understood"].to_string().contains(says), "{said:#}");
    }
}

/// What an entry is called says nothing of what it takes.
#[test]
fn an_entry_that_is_called_a_reply_takes_no_more_than_replies() {
    let lists = Changed::new();
    let opened = |said: &Value| {
        let rows = rows(said, "differences");
        rows.iter().any(|row| row["aspect"] == "verdict" && row["after"] == "allow")
    };
    assert!(!opened(&lists.before), "{:#}", lists.before);
    for matches in [json!({}), json!({ "ipv6": {} })] {
        let said = lists.with(|acls| {
            let errors = entry(acls, "fibre in ipv6", "reply.errors");
            errors["matches"] = matches.clone();
        });
        assert!(opened(&said), "{matches}: {said:#}");
    }
    let said = lists.with(|acls| {
        let reply = entry(acls, "printers in ipv4", "reply.exception.desks-print");
        let flags = reply["matches"]["tcp"].as_object_mut().expect("TCP").remove("flags");
        assert!(flags.is_some());
    });
    let unread = said["not_understood"].to_string();
    assert!(unread.contains("`source-port` without `flags`"), "{said:#}");
}
