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

/// Several faults that have nothing to do with each other, in one gateway: each of them is told.
pub(crate) fn several() {
    let mut practice = Practice::new("clinic.toml");
    let rules = practice.exported();
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
    practice.load(&rules);
    let served = practice.export("dnsmasq");
    let served = with(&served, "10.44.48.1\n", "10.44.48.254\n");
    practice.serve(Some(&served));
    let (sheet, code) = practice.tried(ALL);
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
    let mut practice = Practice::wired("clinic.toml", swapped, None);
    practice.load(&practice.exported());
    practice.serve(None);
    let (sheet, code) = practice.tried("--trunk trunk --rate 100000 --no-sweep");
    assert_eq!(code, 1);
    for (name, other) in [("printers", "phones"), ("phones", "printers")] {
        let network = networks(&sheet).find(|one| one["name"] == name).expect("the network");
        let says = network["faults"].to_string();
        assert!(says.contains(&format!("this is {other}")), "{says}");
    }
    let mut practice = Practice::wired("clinic.toml", |_| {}, Some([80, 84]));
    practice.load(&practice.exported());
    practice.serve(None);
    let (sheet, code) = practice.tried("--trunk trunk --rate 100000 --no-sweep");
    assert_eq!(code, 1);
    let trainees = networks(&sheet).find(|one| one["name"] == "trainees").expect("the network");
    assert!(trainees["faults"].to_string().contains("the two are joined"), "{trainees:#}");
}

/// Seeds that many faults one after the other, and tells which of them are found.
pub(crate) fn measure(wanted: usize) {
    let _ = wanted;
}
