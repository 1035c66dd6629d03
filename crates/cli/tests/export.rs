//! Every format, for every demo plan; and what other programs say of the files.

#![allow(clippy::print_stderr, reason = "what is skipped is said")]

mod common;

use common::{Bench, DAY, Run, demo};
use serde_json::Value;
use std::collections::HashSet;
use std::io::Write;
use std::process::{Command, Stdio};

const PLANS: [&str; 3] = ["bare.toml", "farm.toml", "clinic.toml"];

fn export(bench: &Bench, plan: &str, words: &str) -> Run {
    bench.run(&format!("export {words} --plan {plan} --day {DAY}"))
}

/// What a tool of this machine says of a text; `None` where it is not here or may not be used.
fn says(tool: &str, arguments: &[&str], text: &str) -> Option<Result<(), String>> {
    let path = format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap_or_default());
    let mut words = vec!["-rn", tool];
    words.extend(arguments);
    let child = Command::new("unshare")
        .args(words)
        .env("PATH", path)
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .spawn();
    let mut child = child.ok()?;
    child.stdin.take()?.write_all(text.as_bytes()).ok()?;
    let done = child.wait_with_output().ok()?;
    let error = String::from_utf8_lossy(&done.stderr).into_owned();
    if error.contains("unshare")
        || error.contains("No such file")
        || error.contains("not permitted")
    {
        assert!(std::env::var("BASTIUM_KERNEL_NEEDED").is_err(), "{error}");
        eprintln!("skipped: {tool}: {error}");
        return None;
    }
    Some(if done.status.success() { Ok(()) } else { Err(error) })
}

#[test]
fn the_kernels_tool_takes_the_rules_of_every_demo_plan() {
    let bench = Bench::new();
    for plan in PLANS {
        for form in ["per-pair", "one-list"] {
            let run = export(&bench, plan, &format!("nftables --form {form}"));
            assert_eq!(run.code, 0, "{plan}: {}", run.err);
            let Some(said) = says("nft", &["-c", "-f", "-"], &run.out) else { return };
            assert_eq!(said, Ok(()), "{plan} {form}");
        }
    }
}

#[test]
fn the_name_server_takes_its_file_for_every_demo_plan() {
    let bench = Bench::new();
    for plan in PLANS {
        let run = export(&bench, plan, "dnsmasq");
        assert_eq!(run.code, 0, "{plan}: {}", run.err);
        let Some(said) = says("dnsmasq", &["--test", "--conf-file=-"], &run.out) else { return };
        assert_eq!(said, Ok(()), "{plan}");
    }
}

#[test]
fn rules_for_a_linux_gateway_read_like_rules() {
    let bench = Bench::new();
    insta::assert_snapshot!("nftables_bare", export(&bench, "bare.toml", "nftables").out);
    let clinic = export(&bench, "clinic.toml", "nftables").out;
    let lines = [
        // Maps by interfaces, chains by zones.
        "\"core.24\" : jump onward_staff",
        "\"core.48\" : jump pass_staff_equipment",
        "\"core.24\" : jump gate_staff",
        // Names, comments and prefixes lead back to the plan.
        "chain pass_staff_equipment {",
        "# allow printing from desks to printers: Reception and vets print letters and labels",
        "comment \"exception.desks-print@staff>equipment\"",
        "counter drop comment \"unmatched@through\"",
        // Anybody outside can be blocked as often as he likes, and fills no disk.
        "limit rate 10/second burst 50 packets log prefix \"bastium unmatched@through: \"",
        // Replies first, spoofed sources next.
        "ct state established,related counter accept comment \"reply\"",
        "comment \"spoofed.desks\"",
        // ICMPv6 that IPv6 needs, and the gateway's services.
        "icmpv6 type { 1-2, 130-133, 135-136, 143 } counter accept",
        // Hours, a limit, a set that the name server fills.
        "meta hour \"06:45:00\"-\"10:59:59\"",
        "limit name \"limit_visits-read-records\"",
        "rate over 6250000 bytes/second",
        "ip daddr @domain_phone-provider_v4",
        // Translation in and out.
        "dnat ip to 10.44.40.13 comment \"translate.booking\"",
        "snat ip to 198.51.100.14 comment \"source.fibre\"",
        // Answered, in both ways.
        "reject with tcp reset",
        "reject with icmpx admin-prohibited",
    ];
    for line in lines {
        assert!(clinic.contains(line), "{line}");
    }
    assert!(!clinic.contains("counter log prefix"), "every log has a limit");
    // The file replaces its table, whole and at once.
    assert!(
        clinic.contains("table inet bastium\ndelete table inet bastium\n\ntable inet bastium {")
    );
}

#[test]
fn a_small_change_of_the_plan_is_a_small_change_of_the_file() {
    let bench = Bench::new();
    let before = export(&bench, "clinic.toml", "nftables").out;
    let run = bench.run(
        "add exception cameras-clock from=cameras to=records service=tcp/8443 action=allow \
         why=x --plan clinic.toml",
    );
    assert_eq!(run.code, 0, "{}", run.err);
    let after = export(&bench, "clinic.toml", "nftables").out;
    let lines = |text: &str| text.lines().map(str::to_owned).collect::<HashSet<_>>();
    let (before, after) = (lines(&before), lines(&after));
    let gone: Vec<&String> = before.difference(&after).collect();
    let new: Vec<&String> = after.difference(&before).collect();
    assert!(gone.is_empty(), "{gone:?}");
    assert_eq!(new.len(), 2, "{new:?}");
}

#[test]
fn hostile_text_stays_text_in_every_format() {
    let bench = Bench::new();
    let text = demo("bare.toml").replacen(
        "name = \"",
        "name = \"=cmd()\\n} table x { \\u001b[31m\\\" $evil ",
        1,
    );
    assert_ne!(text, demo("bare.toml"));
    bench.write("hostile.toml", &text);
    for format in ["nftables", "dnsmasq", "md", "json"] {
        let run = export(&bench, "hostile.toml", format);
        assert_eq!(run.code, 0, "{format}: {}", run.err);
        assert!(!run.out.contains('\u{1b}'), "{format}");
    }
    let nft = export(&bench, "hostile.toml", "nftables").out;
    let first = nft.lines().find(|line| line.contains("cmd()")).expect("the name");
    assert!(first.starts_with("# "), "{first}");
    if let Some(said) = says("nft", &["-c", "-f", "-"], &nft) {
        assert_eq!(said, Ok(()));
    }
}

#[test]
fn leases_names_and_sets_are_in_the_name_servers_file() {
    let bench = Bench::new();
    let clinic = export(&bench, "clinic.toml", "dnsmasq").out;
    let lines: HashSet<&str> = clinic.lines().collect();
    for line in [
        "interface=core.24",
        "dhcp-range=set:desks,10.44.24.100,10.44.24.199,255.255.255.0,12h",
        "dhcp-option=tag:desks,option:router,10.44.24.1",
        "dhcp-option=tag:desks,option:dns-server,10.44.24.1",
        "dhcp-range=set:desks,fd6b:2f4e:91c0:24::,ra-stateless,64,12h",
        "dhcp-host=02:00:5e:36:00:10,10.44.36.10,xray",
        "host-record=records,records.home.arpa,10.44.40.10,fd6b:2f4e:91c0:40::10",
        // A zone that may not ask for names gets no resolver.
        "dhcp-option=tag:cameras,option:dns-server",
        // A network without leases gets none.
        "no-dhcp-interface=core.40",
        "nftset=/calls.example.net/media.example.net/4#inet#bastium#domain_phone-provider_v4,6#inet#bastium#domain_phone-provider_v6",
    ] {
        assert!(lines.contains(line), "{line}");
    }
    insta::assert_snapshot!("dnsmasq_bare", export(&bench, "bare.toml", "dnsmasq").out);
}

/// What the module `ietf-access-control-list` of RFC 8519 allows, as far as these files use it.
fn is_valid_acl(json: &Value) -> Result<usize, String> {
    let acls = &json["ietf-access-control-list:acls"];
    let mut names = HashSet::new();
    let mut entries = 0;
    for list in acls["acl"].as_array().ok_or("no lists")? {
        let name = list["name"].as_str().ok_or("a list without a name")?;
        let new = names.insert(name);
        if !new || name.is_empty() || name.len() > 64 {
            return Err(format!("the name {name}"));
        }
        let kinds = ["ipv4-acl-type", "ipv6-acl-type"];
        let kind =
            list["type"].as_str().and_then(|word| word.strip_prefix("ietf-access-control-list:"));
        if !kind.is_some_and(|kind| kinds.contains(&kind)) {
            return Err(format!("the type of {name}"));
        }
        let mut own = HashSet::new();
        for ace in list["aces"]["ace"].as_array().ok_or("a list without entries")? {
            let at = ace["name"].as_str().ok_or("an entry without a name")?;
            if !own.insert(at) || at.is_empty() || at.len() > 64 {
                return Err(format!("the name {at} in {name}"));
            }
            is_valid_entry(ace).map_err(|why| format!("{name}, {at}: {why}"))?;
            entries += 1;
        }
    }
    for point in acls["attachment-points"]["interface"].as_array().into_iter().flatten() {
        let sets = point["ingress"]["acl-sets"]["acl-set"].as_array().ok_or("no lists attached")?;
        for set in sets {
            let name = set["name"].as_str().unwrap_or_default();
            if !names.contains(name) {
                return Err(format!("{name} is attached and not there"));
            }
        }
    }
    Ok(entries)
}

fn is_valid_entry(ace: &Value) -> Result<(), String> {
    let identity = |value: &Value, all: &[&str]| {
        let word = value.as_str().and_then(|word| word.strip_prefix("ietf-access-control-list:"));
        word.is_some_and(|word| all.contains(&word))
    };
    if !identity(&ace["actions"]["forwarding"], &["accept", "drop", "reject"]) {
        return Err("forwarding".to_owned());
    }
    if !identity(&ace["actions"]["logging"], &["log-syslog", "log-none"]) {
        return Err("logging".to_owned());
    }
    let matches = ace["matches"].as_object().ok_or("no matches")?;
    if matches.contains_key("ipv4") == matches.contains_key("ipv6") {
        return Err("one network header".to_owned());
    }
    let transports = ["tcp", "udp", "icmp"].iter().filter(|kind| matches.contains_key(**kind));
    if transports.count() > 1 {
        return Err("one transport header".to_owned());
    }
    for (header, leaves) in matches {
        let known: &[&str] = match header.as_str() {
            "ipv4" => &["protocol", "source-ipv4-network", "destination-ipv4-network"],
            "ipv6" => &["protocol", "source-ipv6-network", "destination-ipv6-network"],
            "tcp" => &["source-port", "destination-port", "flags"],
            "udp" => &["source-port", "destination-port"],
            "icmp" => &["type", "code"],
            "ingress-interface" => continue,
            other => return Err(format!("the header {other}")),
        };
        for (leaf, value) in leaves.as_object().ok_or("a header")? {
            if !known.contains(&leaf.as_str()) {
                return Err(format!("the leaf {header} {leaf}"));
            }
            is_valid_leaf(leaf, value)?;
        }
    }
    Ok(())
}

fn is_valid_leaf(leaf: &str, value: &Value) -> Result<(), String> {
    let number = |value: &Value, most: u64| value.as_u64().is_some_and(|number| number <= most);
    let good = match leaf {
        "protocol" | "type" | "code" => number(value, 255),
        "flags" => value.as_str().is_some_and(|word| ["ack", "rst"].contains(&word)),
        "source-port" | "destination-port" => match value["operator"].as_str() {
            Some(word) => word == "eq" && number(&value["port"], 65_535),
            None => {
                let (low, high) = (&value["lower-port"], &value["upper-port"]);
                number(low, 65_535) && number(high, 65_535) && low.as_u64() < high.as_u64()
            }
        },
        prefix => {
            let text = value.as_str().unwrap_or_default();
            let parsed: Result<ipnet::IpNet, _> = text.parse();
            parsed.is_ok_and(|net| {
                net.trunc() == net && prefix.contains("ipv6") == net.addr().is_ipv6()
            })
        }
    };
    if good { Ok(()) } else { Err(format!("{leaf}: {value}")) }
}

#[test]
fn access_lists_keep_to_their_module_and_are_no_flood() {
    let bench = Bench::new();
    for plan in ["farm.toml", "clinic.toml"] {
        for form in ["per-interface", "one-list", "per-pair"] {
            let run = export(&bench, plan, &format!("acl-json --form {form}"));
            if run.code == 2 {
                assert!(run.err.contains("RFC 8519 cannot express"), "{plan} {form}: {}", run.err);
                continue;
            }
            assert_eq!(run.code, 0, "{plan} {form}: {}", run.err);
            let entries = is_valid_acl(&run.json());
            let entries = entries.unwrap_or_else(|why| panic!("{plan} {form}: {why}"));
            assert!(entries < 6_000, "{plan} {form}: {entries}");
            assert!(run.err.contains(&format!("entries: {entries}")), "{}", run.err);
        }
    }
}

#[test]
fn what_access_lists_cannot_say_is_reported_and_what_would_open_is_refused() {
    let bench = Bench::new();
    // One reason, one error, however many rules it keeps from being said.
    let run = export(&bench, "farm.toml", "acl-json");
    assert_eq!((run.code, run.out.as_str()), (2, ""));
    assert_eq!(run.err.matches("error: ").count(), 1, "{}", run.err);
    assert!(run.err.contains("more rules: a leased address is not known"), "{}", run.err);
    let run = export(&bench, "clinic.toml", "acl-json --form one-list");
    for what in [
        "reply, the device has to let replies back by itself",
        "exception.phones-to-provider, there are no names, only addresses",
        "exception.deliveries-sign, there are no hours",
        "exception.visits-read-records, there are no rates",
    ] {
        assert!(run.err.contains(&format!("not in these lists: {what}")), "{what}: {}", run.err);
    }
    let run = bench.run(
        "add exception no-calls from=desks to=phone-provider action=block why=x --plan clinic.toml",
    );
    assert_eq!(run.code, 0, "{}", run.err);
    let run = export(&bench, "clinic.toml", "acl-json --form one-list");
    assert_eq!(run.code, 2, "a block by name that is left out would open something");
    assert!(run.err.contains("exception.no-calls"), "{}", run.err);
    assert!(run.out.is_empty());
}

#[test]
fn one_document_and_one_object_hold_all_sheets() {
    let bench = Bench::new();
    let document = export(&bench, "farm.toml", "md").out;
    let headings: Vec<&str> = document.lines().filter(|line| line.starts_with("## ")).collect();
    let parts = [
        "## addresses",
        "## groups",
        "## services",
        "## ports",
        "## matrix",
        "## rules",
        "## worksheet",
        "## checklist",
    ];
    assert_eq!(headings, parts);
    assert!(document.starts_with("# Hollin Farm\n"));
    let json = export(&bench, "farm.toml", "json").json();
    assert_eq!(json["bastium"], 1);
    for part in ["addresses", "ports", "matrix", "rules", "worksheet", "checklist"] {
        let own = bench.run(&format!("{part} --plan farm.toml --format json"));
        let own: Value = own.json();
        let keys = |value: &Value| {
            value.as_object().expect("an object").keys().cloned().collect::<Vec<_>>()
        };
        assert_eq!(keys(&json[part]), keys(&own), "{part}");
    }
    let one = export(&bench, "farm.toml", "json --sheet matrix").json();
    assert!(one["rules"].is_null() && one["matrix"].is_object());
}

#[test]
fn a_folder_gets_a_file_for_each_sheet_and_nothing_is_written_over() {
    let bench = Bench::new();
    let run = export(&bench, "bare.toml", "csv --to sheets");
    assert_eq!(run.code, 0, "{}", run.err);
    for name in
        ["addresses", "groups", "services", "ports", "matrix", "rules", "worksheet", "checklist"]
    {
        assert!(bench.file(&format!("sheets/{name}.csv")).is_file(), "{name}");
    }
    let run = export(&bench, "bare.toml", "csv --to sheets");
    assert_eq!(run.code, 2);
    assert!(run.err.contains("already exists"), "{}", run.err);
    assert_eq!(export(&bench, "bare.toml", "csv --to sheets --force").code, 0);
    let run = export(&bench, "bare.toml", "nftables --to rules.nft");
    assert_eq!((run.code, run.out.as_str()), (0, ""));
    assert_eq!(export(&bench, "bare.toml", "nftables --to rules.nft").code, 2);
}

#[test]
fn calls_that_make_no_sense_are_reported_with_a_help() {
    let bench = Bench::new();
    for (words, says) in [
        ("csv", "choose one with --sheet"),
        ("xlsx", "name a file with --to"),
        ("nftables --form per-interface", "--form per-pair"),
        ("nftables --form ranked", "--form per-pair"),
        ("nftables --force", "--to"),
        ("pdf", "possible values"),
    ] {
        let run = export(&bench, "clinic.toml", words);
        assert_eq!(run.code, 2, "{words}");
        assert!(run.err.contains(says), "{words}: {}", run.err);
        assert!(run.out.is_empty(), "{words}");
    }
}

/// What a gateway starts with is a folder, in which nothing is written over.
#[test]
fn what_a_gateway_starts_with_is_a_folder() {
    let bench = Bench::new();
    let run = export(&bench, "clinic.toml", "boot");
    assert!(run.code == 2 && run.err.contains("name a folder"), "{}", run.err);
    assert_eq!(export(&bench, "clinic.toml", "boot --to boot").code, 0);
    let file =
        |name: &str| std::fs::read_to_string(bench.file(&format!("boot/{name}"))).expect("it");
    assert_eq!(file("rules.nft"), export(&bench, "clinic.toml", "nftables").out);
    let unit = file("bastium-gateway.service");
    let place = |word: &str| unit.find(word).unwrap_or_else(|| panic!("{word} in {unit}"));
    assert!(place("closed.nft") < place("rules.nft\nExecStart"));
    assert!(place("delete table") < place("forwarding.conf\n"));
    if let Some(taken) = says("nft", &["-c", "-f", "-"], &file("closed.nft")) {
        assert_eq!(taken, Ok(()));
    }
    let again = export(&bench, "clinic.toml", "boot --to boot");
    assert_eq!(again.code, 2, "{}", again.err);
    assert_eq!(export(&bench, "clinic.toml", "boot --to boot --force").code, 0);
    // A site's name is nothing but a remark.
    let hostile = demo("bare.toml")
        .replace("name = \"Two networks\"", "name = \"x\\nExecStart=/bin/false\\\\\"");
    bench.write("hostile.toml", hostile);
    assert_eq!(export(&bench, "hostile.toml", "boot --to other").code, 0);
    let unit = std::fs::read_to_string(bench.file("other/bastium-gateway.service")).expect("it");
    assert_eq!(unit.lines().filter(|line| line.starts_with("ExecStart=")).count(), 4, "{unit}");
    assert!(unit.lines().next().is_some_and(|line| line.starts_with("# ")), "{unit}");
}
