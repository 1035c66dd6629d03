//! The rehearsal: with real packets where this machine can, and on paper.

#![allow(clippy::print_stderr, reason = "what is skipped is said")]

mod common;

use common::{Bench, DAY, Run, demo};
use serde_json::Value;
use std::process::Command;
use std::time::{Duration, Instant};

/// Runs a rehearsal with the tools of this machine at hand. `None` where it cannot be done here.
fn rehearse(bench: &Bench, plan: &str, words: &[&str]) -> Option<Run> {
    let mut command = bench.command();
    command.env("PATH", format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap_or_default()));
    command.args(["rehearse", "--plan", plan, "--day", DAY]).args(words);
    let run = Run::of(&mut command);
    if run.code == 3 {
        assert!(std::env::var("BASTIUM_KERNEL_NEEDED").is_err(), "{}", run.err);
        eprintln!("skipped: {}", run.err);
        return None;
    }
    Some(run)
}

fn rows<'j>(json: &'j Value, key: &str) -> &'j Vec<Value> {
    json[key].as_array().unwrap_or_else(|| panic!("{key} is a list"))
}

/// The rules as exported, with a change made in them.
fn changed(bench: &Bench, plan: &str, change: impl Fn(&str) -> String) -> String {
    let run = bench.run(&format!("export nftables --plan {plan} --day {DAY}"));
    assert_eq!(run.code, 0, "{}", run.err);
    let changed = change(&run.out);
    assert_ne!(changed, run.out, "the change found nothing to change");
    bench.write("changed.nft", &changed);
    changed
}

fn without(text: &str, word: &str) -> String {
    text.lines().filter(|line| !line.contains(word)).map(|line| format!("{line}\n")).collect()
}

#[test]
fn every_demo_plan_passes_its_rehearsal_and_every_rule_is_hit() {
    let bench = Bench::new();
    for plan in ["bare.toml", "farm.toml", "clinic.toml"] {
        let Some(run) = rehearse(&bench, plan, &["--format", "json"]) else { return };
        assert_eq!(run.code, 0, "{plan}: {}", run.out);
        let json = run.json();
        assert_eq!(json["on_paper"], false);
        assert_eq!(json["agrees"], true);
        for check in rows(&json, "checks") {
            let tried = check["seen"] != "not_tried";
            assert_eq!(check["agrees"].as_bool(), tried.then_some(true), "{check}");
            assert!(tried || check["says"].is_string(), "{check}");
        }
        for rule in rows(&json, "rules") {
            let hit = rule["hits"].as_u64().expect("a number") > 0;
            assert!(hit || rule["can_match"] == false, "{plan}: {rule}");
        }
    }
}

/// The kernel's rules ask its own clock, so a rehearsal at night meets other rules than one by day. What it
/// says must not depend on that.
#[test]
fn a_rehearsal_says_the_same_at_every_hour() {
    const HOURS: &str = "[hours.evenings-off]\nspans = [\n";
    let bench = Bench::new();
    let farm = demo("farm.toml");
    let (before, rest) = farm.split_once(HOURS).expect("the farm has hours");
    let (_, after) = rest.split_once("\n]\n").expect("they end");
    // One plan whose hours are now, whatever day it is here or for the kernel; one whose hours are not.
    let days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
    let since = std::time::UNIX_EPOCH.elapsed().expect("the clock runs").as_secs() / 86_400;
    // The first of January 1970 was a Thursday.
    let today = (since as usize + 3) % 7;
    let span = |day: usize| {
        format!("  {{ days = \"{}\", from = \"00:00\", to = \"24:00\" }},", days[day % 7])
    };
    let plan = |name: &str, from: usize, count: usize| {
        let spans: Vec<String> = (from..from + count).map(span).collect();
        bench.write(name, format!("{before}{HOURS}{}\n]\n{after}", spans.join("\n")));
    };
    plan("now.toml", today + 6, 3);
    plan("not-now.toml", today + 2, 3);
    for plan in ["now.toml", "not-now.toml"] {
        let Some(run) = rehearse(&bench, plan, &["--format", "json"]) else { return };
        assert_eq!(run.code, 0, "{plan}: {}", run.out);
        let json = run.json();
        let by_hand = |check: &&Value| check["id"] == "by-hand/cell.children>internet";
        let check = rows(&json, "checks").iter().find(by_hand);
        let agrees = check.is_none_or(|check| check["seen"] != "not_tried");
        assert!(agrees, "{plan}: {check:?}");
        for rule in rows(&json, "rules") {
            assert!(rule["hits"] != 0 || rule["can_match"] == false, "{plan}: {rule}");
        }
    }
}

#[test]
fn a_rehearsal_tries_all_that_the_checklist_has() {
    let bench = Bench::new();
    let Some(run) = rehearse(&bench, "clinic.toml", &["--format", "json"]) else { return };
    let json = run.json();
    let list = bench.clinic("rehearse --on-paper --format json").json();
    let ids = |json: &Value| -> Vec<String> {
        let checks = rows(json, "checks").iter().map(|check| check["id"].as_str().expect("an id"));
        let checks = checks.filter(|id| !id.starts_with("lease/") && !id.starts_with("by-hand/"));
        checks.map(str::to_owned).collect()
    };
    assert_eq!(ids(&json), ids(&list));
    // Every device with a fixed lease gets its own address.
    let leases: Vec<&Value> = rows(&json, "checks")
        .iter()
        .filter(|check| check["id"].as_str().is_some_and(|id| id.starts_with("lease/")))
        .collect();
    assert!(leases.len() > 10);
    let xray = leases.iter().find(|check| check["id"] == "lease/xray").expect("the x-ray");
    assert_eq!(xray["says"], "10.44.36.10");
    // What is out of the gateway's hands is not tried, and said so.
    let apart = rows(&json, "checks").iter().find(|check| check["id"] == "network.tills/apart");
    assert_eq!(apart.expect("a check")["seen"], "not_tried");
}

/// What goes wrong when somebody touches the rules, and how the rehearsal tells of it.
#[test]
fn whatever_is_broken_in_the_rules_is_noticed() {
    let bench = Bench::new();
    if rehearse(&bench, "bare.toml", &[]).is_none() {
        return;
    }
    type Change = fn(&str) -> String;
    let broken: [(&str, Change, &str, &str); 10] = [
        (
            "the hours are turned round",
            |text| text.replace("meta hour \"06:45:00\"", "meta hour != \"06:45:00\""),
            "delivery-tablet",
            "silence instead of reply",
        ),
        (
            "an allow is lost",
            |text| without(text, "comment \"exception.tills-pay@tills>internet\""),
            "till",
            "silence instead of reply; unmatched@through decided",
        ),
        (
            "a block is lost",
            |text| without(text, "comment \"exception.old-ultrasound-stays-in"),
            "ultrasound",
            "reply instead of silence; cell.clinical>internet decided",
        ),
        (
            "nothing is translated on its way out",
            |text| text.replace("snat ip to 198.51.100.14", "accept"),
            "desks",
            "at the other end it comes from",
        ),
        (
            "what is offered goes to another host",
            |text| text.replace("dnat ip to 10.44.40.13", "dnat ip to 10.44.40.12"),
            "internet",
            "silence instead of reply",
        ),
        (
            "replies are not let back",
            |text| without(text, "ct state established,related"),
            "control",
            "silence instead of reply",
        ),
        (
            "neighbour discovery is lost",
            |text| without(text, "comment \"ipv6_needs@staff>gateway\""),
            "desks",
            "silence instead of reply",
        ),
        (
            "a refusal became silence",
            |text| text.replace("reject with icmpx admin-prohibited", "drop"),
            "trainees",
            "silence instead of unreachable",
        ),
        (
            "a port is one off",
            |text| {
                text.replace(
                    "10.44.40.11 tcp dport { 104, 11112 }",
                    "10.44.40.11 tcp dport { 105, 11112 }",
                )
            },
            "xray",
            "silence instead of reply",
        ),
        (
            "a wider line stands above",
            |text| {
                text.replace(
                    "chain pass_staff_clinical {",
                    "chain pass_staff_clinical {\n\t\tcounter accept comment \"quick fix\"",
                )
            },
            "desks",
            "reply instead of silence; quick fix decided",
        ),
    ];
    for (what, change, from, says) in broken {
        changed(&bench, "clinic.toml", change);
        let words = ["--rules", "changed.nft", "--format", "json"];
        let run = rehearse(&bench, "clinic.toml", &words).expect("it could be done before");
        assert_eq!(run.code, 1, "{what}");
        let json = run.json();
        let found = rows(&json, "checks").iter().any(|check| {
            check["agrees"] == false
                && check["from"].as_str().is_some_and(|own| own.starts_with(from))
                && check["says"].as_str().is_some_and(|own| own.contains(says))
        });
        let wrong: Vec<&Value> =
            rows(&json, "checks").iter().filter(|check| check["agrees"] == false).take(5).collect();
        assert!(found, "{what}: {wrong:#?}");
    }
}

/// A line from testing that no check of the list looks for is found by a sweep; without it nothing is.
#[test]
fn a_sweep_finds_what_nobody_meant() {
    let bench = Bench::new();
    let Some(run) = rehearse(&bench, "bare.toml", &["--sweep", "--format", "json"]) else { return };
    let json = run.json();
    assert_eq!((run.code, &json["agrees"]), (0, &true.into()), "{}", json["sweep"]);
    assert!(json["sweep"]["tried"].as_u64() > Some(1_000), "{}", json["sweep"]["tried"]);
    assert!(rows(&json["sweep"], "surprises").is_empty(), "{}", json["sweep"]);
    // Nothing that is allowed need answer at the gateway here.
    let nothing: u64 =
        rows(&json["sweep"], "not_shown").iter().filter_map(|one| one["count"].as_u64()).sum();
    let shown = json["sweep"]["as_planned"].as_u64().map(|shown| shown + nothing);
    assert_eq!(json["sweep"]["tried"].as_u64(), shown);
    let policy = "type filter hook forward priority filter; policy drop\n";
    changed(&bench, "bare.toml", |text| {
        text.replacen(policy, &format!("{policy}tcp dport 4444 accept\n"), 1)
    });
    let words = ["--sweep", "--rules", "changed.nft"];
    let Some(run) = rehearse(&bench, "bare.toml", &words) else { return };
    assert_eq!(run.code, 1);
    assert!(run.out.contains("tcp/4444 from"), "{}", run.out);
}

#[test]
fn rules_that_cannot_be_loaded_are_reported_with_the_reason() {
    let bench = Bench::new();
    if rehearse(&bench, "bare.toml", &[]).is_none() {
        return;
    }
    bench.write("broken.nft", "table inet bastium {\n\tchain input { nonsense }\n}\n");
    let run = rehearse(&bench, "bare.toml", &["--rules", "broken.nft"]);
    let run = run.expect("it could be done before");
    assert_eq!(run.code, 2);
    assert!(run.err.contains("these rules cannot be loaded: nft refuses"), "{}", run.err);
}

#[test]
fn a_rehearsal_is_quick_and_leaves_nothing_behind() {
    let bench = Bench::new();
    let begun = Instant::now();
    if rehearse(&bench, "clinic.toml", &[]).is_none() {
        return;
    }
    // Generous: the figures are in the benchmarks; this notices what waits for time-outs.
    assert!(begun.elapsed() < Duration::from_secs(20));
    let mut child = Command::new(env!("CARGO_BIN_EXE_bastium"))
        .args(["rehearse", "--plan", "clinic.toml", "--day", DAY, "--quiet"])
        .env("PATH", format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap_or_default()))
        .env("BASTIUM_REHEARSAL_MARK", bench.path())
        .current_dir(bench.path())
        .stdout(std::process::Stdio::null())
        .spawn()
        .expect("the program starts");
    std::thread::sleep(Duration::from_millis(150));
    child.kill().expect("it can be killed");
    child.wait().expect("it ends");
    let mark = format!("BASTIUM_REHEARSAL_MARK={}", bench.path().display());
    let left = || {
        let processes = std::fs::read_dir("/proc").expect("processes").flatten();
        let own = processes.filter(|process| {
            let environment = std::fs::read(process.path().join("environ")).unwrap_or_default();
            String::from_utf8_lossy(&environment).contains(&mark)
        });
        own.count()
    };
    let until = Instant::now() + Duration::from_secs(5);
    while left() > 0 && Instant::now() < until {
        std::thread::sleep(Duration::from_millis(20));
    }
    assert_eq!(left(), 0, "something of the rehearsal goes on");
}

#[test]
fn without_the_tools_it_says_what_is_needed_and_offers_paper() {
    let bench = Bench::new();
    let mut command = bench.command();
    let run = Run::of(command.env("PATH", "/nowhere").args(["rehearse", "--plan", "bare.toml"]));
    assert_eq!(run.code, 3, "{}{}", run.out, run.err);
    assert!(run.err.contains("--on-paper"), "{}", run.err);
    assert!(run.out.is_empty());
}

#[test]
fn on_paper_the_compiled_rules_are_asked_and_it_says_so() {
    let bench = Bench::new();
    for plan in ["bare.toml", "farm.toml", "clinic.toml"] {
        let run = bench.run(&format!("rehearse --on-paper --plan {plan} --day {DAY}"));
        assert_eq!(run.code, 0, "{plan}: {}", run.out);
        assert!(run.out.starts_with("On paper: no packets were sent"), "{}", run.out);
        assert!(run.out.contains("Every rule that can match was hit"), "{}", run.out);
    }
    insta::assert_snapshot!("rehearse_on_paper", bench.clinic("rehearse --on-paper").all());
    let json = bench.clinic("rehearse --on-paper --format json").json();
    assert_eq!(json["on_paper"], true);
    let csv = bench.clinic("rehearse --on-paper --format csv");
    assert!(csv.out.starts_with("part,from,to,service,expect,seen,rule,says\n"), "{}", csv.out);
}

#[test]
fn a_plan_without_ports_cannot_be_built_and_is_reported_what_lacks() {
    let bench = Bench::new();
    let text = common::demo("bare.toml").replace("port = \"lan1\"", "");
    bench.write("portless.toml", &text);
    let export = bench.run(&format!("export nftables --plan portless.toml --day {DAY}"));
    assert_eq!(export.code, 2);
    assert!(export.err.contains("has no port"), "{}", export.err);
    if let Some(run) = rehearse(&bench, "portless.toml", &[]) {
        assert_eq!(run.code, 2);
        assert!(run.err.contains("has no port"), "{}", run.err);
    }
}

#[test]
fn a_file_of_rules_is_for_packets_alone() {
    let bench = Bench::new();
    let run = bench.run("rehearse --on-paper --rules x.nft --plan bare.toml");
    assert_eq!(run.code, 2);
    let run = bench.run("rehearse --rules nothing-there.nft --plan bare.toml");
    assert!(run.code == 2 || run.code == 3, "{}", run.err);
}

/// A site of so many networks that its rules do not go to the kernel in one message, with two uplinks of both
/// families, devices that are reached from the internet by IPv6, and something offered at the second uplink.
fn large() -> String {
    let mut text = String::from(
        "bastium = 1\n\
         [site]\nname = \"Fernside, all houses\"\nspace = [\"10.44.0.0/16\", \"2001:db8:44::/48\"]\n\
         tie = \"third-octet\"\n\
         [gateway]\nform = \"per-pair\"\nports = [\"wan1\", \"wan2\", \"lan1\"]\n\
         [uplink.fibre]\nport = \"wan1\"\naddress = [\"198.51.100.14/30\", \"2001:db8:9::2/64\"]\n\
         [uplink.mobile]\nport = \"wan2\"\naddress = [\"192.0.2.14/29\", \"2001:db8:a::2/64\"]\n\
         [zone.people]\ntrust = \"medium\"\nuses-gateway-for = [\"dns\", \"dhcp\", \"ntp\", \"ping\"]\n\
         [zone.things]\ntrust = \"low\"\nuses-gateway-for = [\"dns\", \"dhcp\"]\n\
         [zone.guests]\ntrust = \"low\"\nuses-gateway-for = [\"dns\", \"dhcp\"]\n\
         [zone.servers]\ntrust = \"high\"\nuses-gateway-for = [\"dns\", \"ntp\"]\n",
    );
    for number in 0..22 {
        let zone = ["people", "things", "guests", "servers"][number % 4];
        text.push_str(&format!(
            "[network.house-{number}]\nzone = \"{zone}\"\nvlan = {}\nport = \"lan1\"\nhosts = 5\n",
            10 + number
        ));
        text.push_str(if zone == "servers" { "dhcp = false\n" } else { "dhcp = \"100-119\"\n" });
    }
    text.push_str(
        "[host.booking]\nnetwork = \"house-3\"\naddress = [\"10.44.13.10\", \"2001:db8:44:13::10\"]\n\
         [inbound.booking]\nservice = \"https\"\nhost = \"booking\"\nuplink = \"mobile\"\nwhy = \"Clients book\"\n\
         [matrix]\nlog = \"block\"\nunmatched = \"block+log\"\ngrid = '''\n\
                   people  things  guests  servers  internet\n\
         people    allow   reject  block   allow    allow\n\
         things    block   block   block   block    block\n\
         guests    block   block   block   block    allow\n\
         servers   block   block   block   allow    allow\n\
         internet  block   block   block   block    block\n'''\n\
         [exception.seen-from-outside]\nfrom = \"internet\"\nto = \"booking\"\nservice = \"ping\"\n\
         action = \"allow\"\nwhy = \"Whether it is there\"\n",
    );
    text
}

#[test]
fn a_large_site_with_two_uplinks_is_rehearsed_whole() {
    let bench = Bench::new();
    bench.write("large.toml", large());
    let Some(run) = rehearse(&bench, "large.toml", &["--format", "json"]) else { return };
    assert_eq!(run.code, 0, "{}\n{}", run.out, run.err);
    let json = run.json();
    assert_eq!(json["agrees"], true);
    // What came by the second uplink was answered by it, over both families.
    let answered: Vec<&Value> = rows(&json, "checks")
        .iter()
        .filter(|check| check["from"].as_str().is_some_and(|from| from.contains("internet")))
        .filter(|check| check["seen"] == "reply")
        .collect();
    assert!(answered.len() >= 2, "{answered:#?}");
}
