//! Faults as people make them, in the rules, in the file for leases, and in the cables.

use crate::practice::Practice;
use crate::tried::{differences, networks};
use bastium_testbed::site::Carried;
use serde_json::Value;

const ALL: &str = "--trunk trunk --outside outside --stand-in * --rate 100000";

/// The beginning of the list for what is passed on.
const FORWARD: &str = "type filter hook forward priority filter; policy drop\n";
/// The beginning of the list for the gateway itself.
const INPUT: &str = "type filter hook input priority filter; policy drop\n";

/// A text with something in it replaced, which has to be there.
fn with(text: &str, old: &str, new: &str) -> String {
    assert!(text.contains(old), "{old} is in the file");
    text.replacen(old, new, 1)
}

/// A rule file with a line at the top of one of its lists.
fn first(text: &str, list: &str, line: &str) -> String {
    with(text, list, &format!("{list}\t\t{line}\n"))
}

/// What the program prints of several faults, in colour.
pub(crate) fn shown() -> String {
    let practice = damaged();
    let mut command = practice.command(&format!("{ALL} --color always"));
    command.env("COLUMNS", "127");
    let done = practice.gateway.made.trunk.tester.within(|| command.output()).expect("the program");
    String::from_utf8(done.stdout).expect("text")
}

/// Several faults that have nothing to do with each other, in one gateway.
fn damaged() -> Practice {
    let mut practice = Practice::new("clinic.toml");
    let rules = practice.export("nftables");
    let lines = [
        // A line from testing, left at the top.
        (FORWARD, "iifname \"core.80\" ip daddr 10.44.40.10 tcp dport 3389 accept"),
        // Something that is to pass, shut out.
        (
            FORWARD,
            "iifname \"core.36\" oifname \"core.40\" ip daddr 10.44.40.11 tcp dport 11112 drop",
        ),
        // Management from where nobody may.
        (INPUT, "iifname \"core.84\" tcp dport 22 accept"),
        // A network whose devices may pose as others.
        (FORWARD, "iifname \"core.64\" ip saddr 10.44.10.0/24 accept"),
    ];
    let rules = lines.iter().fold(rules, |rules, (list, line)| first(&rules, list, line));
    // The one exception for tills, with no destination any more.
    let rules = with(&rules, "ip daddr 203.0.113.80 tcp dport 443", "tcp dport 443");
    // One network left out where private sources become public.
    let rules = with(
        &rules,
        "ip saddr { 10.0.0.0/8, 172.16.0.0/12, 192.168.0.0/16 } counter snat",
        "ip saddr { 10.0.0.0-10.44.79.255, 10.44.81.0-10.255.255.255 } counter snat",
    );
    // What is offered outside leads to another device.
    let rules = with(&rules, "dnat ip to 10.44.40.13", "dnat ip to 10.44.40.12");
    practice.gateway.load(&rules);
    let served = practice.export("dnsmasq");
    let served = with(&served, "10.44.48.1\n", "10.44.48.254\n");
    practice.gateway.serve(&served);
    practice
}

/// Each of several faults at once is reported.
pub(crate) fn several() {
    let (sheet, code) = damaged().tried(ALL);
    assert_eq!(code, 1);
    let found = differences(&sheet);
    for (wrong, from, to, service) in [
        ("gets_through", "waiting-room", "records", "tcp/3389"),
        ("stopped", "xray", "archive", "tcp/11112"),
        ("refused", "trainees", "the gateway", "tcp/22"),
        ("gets_through", "cameras", "", "icmp/echo"),
        ("gets_through", "till", "the internet", "tcp/443"),
        ("not_translated", "waiting-room", "the internet", "tcp/443"),
        ("stopped", "the internet", "the gateway's outside address", "tcp/443"),
    ] {
        assert!(has(&sheet, wrong, from, to, service), "{wrong} {from} {to} {service}: {found:#}");
    }
    let printers = networks(&sheet).find(|one| one["name"] == "printers").expect("printers");
    assert!(printers["faults"].to_string().contains("10.44.48.254 as the router"), "{printers}");
    let faults =
        networks(&sheet).filter(|one| one["faults"].as_array().is_some_and(|all| !all.is_empty()));
    assert_eq!(faults.count(), 1, "{found:#}");
}

/// Whether a sheet tells of that.
fn has(sheet: &Value, wrong: &str, from: &str, to: &str, service: &str) -> bool {
    let surprises = sheet["sweep"]["surprises"].as_array().expect("surprises");
    surprises.iter().any(|one| {
        let says =
            |key: &str, word: &str| one[key].as_str().is_some_and(|text| text.contains(word));
        let services = one["services"].as_array().expect("services");
        one["wrong"] == wrong
            && says("from", from)
            && says("to", to)
            && services.iter().any(|one| spans(one.as_str().unwrap_or_default(), service))
    })
}

/// Whether a service in words has another one in it, both of one protocol.
fn spans(words: &str, service: &str) -> bool {
    let parts = |words: &str| {
        let (protocol, ports) = words.split_once('/')?;
        let ports = ports.split_whitespace().next()?;
        let (low, high) = ports.split_once('-').unwrap_or((ports, ports));
        Some((protocol.to_owned(), low.parse::<u16>().ok()?, high.parse::<u16>().ok()?))
    };
    match (parts(words), parts(service)) {
        (Some(all), Some(one)) => all.0 == one.0 && all.1 <= one.1 && one.2 <= all.2,
        _ => words == service,
    }
}

/// What the checklist says that a cable shows of leases, names and translation, one in each of several networks.
pub(crate) fn set_up() {
    let mut practice = Practice::new("clinic.toml");
    let served = leases(&practice.export("dnsmasq"));
    // Offered outside, on to the port beside; and whatever goes to the printers comes from the gateway.
    let rules = practice.export("nftables");
    let rules = with(&rules, "dnat ip to 10.44.40.13", "dnat ip to 10.44.40.13:444");
    let source = "type nat hook postrouting priority srcnat; policy accept\n";
    let rules = with(&rules, source, &format!("{source}\t\toifname \"core.48\" masquerade\n"));
    practice.gateway.load(&rules);
    practice.gateway.serve(&served);
    let (sheet, code) = practice.tried(&format!("{ALL} --no-sweep"));
    assert_eq!(code, 1, "{:#}", differences(&sheet));
    for (name, says) in [
        ("trainees", "nobody offers an address"),
        ("cameras", "not of the pool"),
        ("phones", "10.44.52.154"),
        ("desks", "no router advertises itself"),
    ] {
        let network = networks(&sheet).find(|one| one["name"] == name).expect("the network");
        assert!(network["faults"].to_string().contains(says), "{name}: {:#}", network["faults"]);
    }
    let results = sheet["walk"]["results"].as_array().expect("results");
    for (id, seen) in [
        // It comes, and from the gateway.
        ("exception.desks-print/itself", "it arrived from 10.44.48.1"),
        ("inbound.booking/itself", "silence"),
    ] {
        let check = results.iter().find(|check| check["id"] == id).expect("the check");
        assert!(check["seen"].as_str().is_some_and(|text| text.contains(seen)), "{check:#}");
    }
    // Results of the list that one person carries stand in the same file, and are of no other plan.
    assert_eq!(sheet["walk"]["not_counted"], serde_json::json!([]));
}

/// A gateway that starts with what is exported for that: with its rules; and with a file of rules that was cut off.
pub(crate) fn boot() {
    let mut practice = Practice::new("bare.toml");
    started(&practice, |rules| rules);
    practice.gateway.serve(&practice.export("dnsmasq"));
    practice.gateway.manage(&[22, 443]);
    let (sheet, code) = practice.tried(ALL);
    assert_eq!(code, 0, "{:#}", differences(&sheet));
    let mut practice = Practice::new("clinic.toml");
    started(&practice, |rules| rules[..rules.len() / 2].to_owned());
    practice.gateway.serve(&practice.export("dnsmasq"));
    practice.gateway.manage(&[22, 443]);
    let (sheet, code) = practice.tried(&format!("{ALL} --no-sweep"));
    assert_eq!(code, 1);
    let results = sheet["walk"]["results"].as_array().expect("results");
    let seen =
        |one: &&Value, word: &str| one["seen"].as_str().is_some_and(|seen| seen.contains(word));
    // Whoever manages the gateway still does; nothing else is let through, and nothing is passed on.
    let managing = results.iter().find(|one| one["id"] == "manage/itself").expect("the check");
    assert_eq!(managing["outcome"], "pass", "{managing}");
    let replies = results.iter().filter(|one| seen(one, "reply") && one["to"] != "gateway");
    assert_eq!(replies.count(), 0, "{results:#?}");
    let silent =
        results.iter().filter(|one| one["expect"] == "silence" && one["outcome"] == "fail");
    assert_eq!(silent.count(), 0);
}

/// Makes the gateway start as its unit says, with what was made of its rules. A step that fails is the last one.
fn started(practice: &Practice, rules: impl Fn(String) -> String) {
    let plan = practice.plan();
    let run = practice.bench.run(&format!("export boot --plan {plan} --to boot"));
    assert_eq!(run.code, 0, "{}", run.err);
    let folder = practice.bench.file("boot");
    let text = std::fs::read_to_string(folder.join("rules.nft")).expect("the rules");
    let wrong = rules(text.clone());
    let is_cut = wrong != text;
    std::fs::write(folder.join("rules.nft"), wrong).expect("the rules");
    let unit = std::fs::read_to_string(folder.join("bastium-gateway.service")).expect("the unit");
    let steps = unit.lines().filter_map(|line| line.strip_prefix("ExecStart="));
    let steps: Vec<String> =
        steps.map(|step| step.replace("/etc/bastium", &folder.display().to_string())).collect();
    let mut done = 0;
    for step in steps.iter().filter(|step| !step.contains("sysctl")) {
        let mut command = std::process::Command::new("sh");
        command.args(["-c", step.as_str()]).stderr(std::process::Stdio::null());
        let status = practice.gateway.made.site.gateway.within(|| command.status());
        if !status.expect("a shell").success() {
            break;
        }
        done += 1;
    }
    assert_eq!(done, if is_cut { 1 } else { 3 }, "{steps:#?}");
}

/// A lease is asked for without a trunk, too: by a machine that has an address in one network.
pub(crate) fn by_itself() {
    for (vlan, network, joined, outcome, says) in [
        (36, "imaging", None, "\"pass\"", "in imaging, by DHCP: 10.44.36.1 offers 10.44.36."),
        (52, "phones", None, "\"fail\"", "DHCP gives the resolver 10.44.52.154"),
        (48, "printers", Some([None, Some(52)]), "\"fail\"", "several DHCP servers answer: 10.44."),
        (36, "imaging", Some([None, Some(80)]), "\"fail\"", "advertises itself as an IPv6 router"),
    ] {
        let untagged = |cables: &mut Vec<Carried>| {
            let mut own = cables.iter_mut().filter(|one| **one == Carried::Together(Some(vlan)));
            *own.next().expect("the VLAN") = Carried::Together(None);
        };
        let mut practice = Practice::wired("clinic.toml", untagged, joined, &[]);
        practice.gateway.load(&practice.export("nftables"));
        let served = leases(&practice.export("dnsmasq"));
        practice.gateway.serve(&served);
        let mut ip = std::process::Command::new("ip");
        ip.args(["address", "add", &format!("10.44.{vlan}.118/24"), "dev", "trunk"]);
        let tester = &practice.gateway.made.trunk.tester;
        assert!(tester.within(|| ip.status()).expect("ip").success());
        let run =
            practice.walk(&format!("--run --from {network} --patience 100ms --results one.jsonl"));
        let line = run.out.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(line.contains(says), "{network}: {}{}", run.out, run.err);
        let kept = std::fs::read_to_string(practice.bench.file("one.jsonl")).expect("results");
        let lease = kept.lines().find(|line| line.contains(&format!("network.{network}/lease")));
        assert!(lease.is_some_and(|line| line.contains(outcome)), "{network}: {lease:?}");
    }
}

/// The file for leases with mistakes in several networks.
fn leases(served: &str) -> String {
    let is_range = |line: &&str| line.starts_with("dhcp-range=set:trainees,10.");
    let range = served.lines().find(is_range).expect("the range").to_owned();
    let served = with(served, &format!("{range}\n"), "");
    let served = with(&served, "10.44.64.100,10.44.64.119", "10.44.64.60,10.44.64.79");
    let resolver = "tag:phones,option:dns-server,10.44.52.1";
    let served = with(&served, &format!("{resolver}\n"), &format!("{resolver}54\n"));
    with(&served, "dhcp-range=set:desks,fd6b:2f4e:91c0:24::,ra-stateless,64,12h\n", "")
}

/// Two VLANs that are swapped, and two that are one.
pub(crate) fn cables() {
    let swapped = |cables: &mut Vec<Carried>| {
        let at = |id: u16| Carried::Together(Some(id));
        for cable in cables {
            *cable = match *cable {
                one if one == at(48) => at(52),
                one if one == at(52) => at(48),
                other => other,
            };
        }
    };
    let mut practice = Practice::wired("clinic.toml", swapped, None, &[]);
    practice.set_up();
    let (sheet, code) = practice.tried("--trunk trunk --rate 100000 --no-sweep");
    assert_eq!(code, 1);
    for (name, other) in [("printers", "phones"), ("phones", "printers")] {
        let network = networks(&sheet).find(|one| one["name"] == name).expect("the network");
        let says = network["faults"].to_string();
        assert!(says.contains(&format!("this is {other}")), "{says}");
    }
    // A VLAN that the port does not carry: that is said, and all others are tried.
    let missing = |cables: &mut Vec<Carried>| {
        let at = |id: u16| Carried::Together(Some(id));
        cables.iter_mut().filter(|cable| **cable == at(48)).for_each(|cable| *cable = at(999));
    };
    let mut practice = Practice::wired("bare.toml", missing, None, &[]);
    practice.set_up();
    let (sheet, code) = practice.tried("--trunk trunk --rate 100000 --stand-in *");
    assert_eq!(code, 1);
    let silent =
        networks(&sheet).filter(|one| one["silent"].as_array().is_some_and(|all| !all.is_empty()));
    assert_eq!(silent.count(), 1);
    assert!(sheet["sweep"]["as_planned"].as_u64() > Some(100), "{}", sheet["sweep"]["as_planned"]);
    let mut practice = Practice::wired("clinic.toml", |_| {}, Some([Some(80), Some(84)]), &[]);
    practice.set_up();
    let (sheet, code) = practice.tried("--trunk trunk --rate 100000 --no-sweep");
    assert_eq!(code, 1);
    let trainees = networks(&sheet).find(|one| one["name"] == "trainees").expect("the network");
    assert!(trainees["faults"].to_string().contains("the two are joined"), "{trainees:#}");
}

/// Seeds that many faults one after the other, and tells which of them are not found.
pub(crate) fn measure(wanted: usize) {
    let mut practice = Practice::faultless("clinic.toml");
    let (rules, served) = (practice.export("nftables"), practice.export("dnsmasq"));
    let all = seeds(&rules, &served);
    let step = (all.len() / wanted).max(1);
    let (mut seeded, mut missed) = (0, Vec::new());
    for (what, rules, served) in all.into_iter().step_by(step) {
        practice.gateway.load(&rules);
        practice.gateway.serve(&served);
        let run = practice.walk(&format!("{ALL} --results {seeded}.jsonl"));
        seeded += 1;
        if run.code != 1 {
            println!("not found ({}): {what} {}", run.code, run.err);
            missed.push(what);
        }
    }
    println!("{} of {seeded} found", seeded - missed.len());
}

/// A fault, with the rules and the file for leases that have it.
type Seed = (String, String, String);

/// All faults of these kinds.
fn seeds(rules: &str, served: &str) -> Vec<Seed> {
    let mut seeds: Vec<Seed> = Vec::new();
    let lines: Vec<&str> = rules.lines().collect();
    let deciding = |line: &&str| line.contains(" counter ") && !line.contains("ct state");
    for (place, line) in lines.iter().enumerate().filter(|(_, line)| deciding(line)) {
        for (what, changed) in changes(line) {
            let mut damaged = lines.clone();
            damaged[place] = &changed;
            let says = format!("{what}: {}", line.trim().chars().take(110).collect::<String>());
            seeds.push((says, damaged.join("\n") + "\n", served.to_owned()));
        }
    }
    let pairs = [(80, 40), (84, 10), (60, 24), (64, 36), (52, 60), (48, 10), (24, 68), (68, 64)];
    for (number, (from, to)) in pairs.into_iter().enumerate() {
        let port = [22, 3389, 445, 80, 5900, 161, 1433, 8080][number];
        let line = format!("iifname \"core.{from}\" oifname \"core.{to}\" tcp dport {port} accept");
        seeds.push((
            format!("left at the top: {line}"),
            first(rules, FORWARD, &line),
            served.to_owned(),
        ));
        let line = format!("iifname \"core.{from}\" tcp dport {port} accept");
        seeds.push((
            format!("open at the gateway: {line}"),
            first(rules, INPUT, &line),
            served.to_owned(),
        ));
    }
    for (place, line) in served.lines().enumerate() {
        let lines: Vec<&str> = served.lines().collect();
        if line.starts_with("dhcp-range")
            || line.starts_with("dhcp-option")
            || line.starts_with("interface=")
        {
            let mut damaged = lines.clone();
            damaged.remove(place);
            seeds.push((format!("not there: {line}"), rules.to_owned(), damaged.join("\n") + "\n"));
        }
    }
    seeds
}

/// What people make of a line.
fn changes(line: &str) -> Vec<(&'static str, String)> {
    let mut changed = vec![("left out", String::new())];
    let mut swap = |what, old: &str, new: &str| {
        if line.contains(old) {
            changed.push((what, line.replacen(old, new, 1)));
        }
    };
    swap("turned", " accept", " drop");
    swap("turned", " drop", " accept");
    swap("one port more", "dport 443 ", "dport 443-444 ");
    swap("a zero too many", "dport 443 ", "dport 443-4430 ");
    swap("another port", "dport 443 ", "dport 8443 ");
    swap("another host", "10.44.40.10 ", "10.44.40.11 ");
    swap("another host", "10.44.48.10 ", "10.44.48.11 ");
    swap("any host", "ip daddr 10.44.40.10 ", "");
    swap("any source", "ip saddr 10.44.36.10 ", "");
    swap("a prefix too wide", "10.44.84.0/24", "10.44.80.0/21");
    swap("to another host", "dnat ip to 10.44.40.13", "dnat ip to 10.44.40.10");
    swap("one private range alone", "172.16.0.0/12, ", "");
    swap("translated too little", "10.0.0.0/8, ", "10.44.10.0/24, ");
    if let Some(at) = line.find("tcp dport 443 ") {
        let any = format!("{}meta l4proto 6 {}", &line[..at], &line[at + "tcp dport 443 ".len()..]);
        changed.push(("any port", any));
    }
    changed
}
