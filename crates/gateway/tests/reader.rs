//! The reader of gateways' rule files: what each kind of expression takes and leaves, what is named because
//! nobody reads it, and what hostile text costs.

use bastium_core::plan::Action;
use bastium_core::space::{Interface, Match, Minute, Protocol, ServicePoint};
use bastium_gateway::foreign::{Foreign, NotAList, read_rules};
use std::net::IpAddr;
use std::time::{Duration, Instant};

/// A packet, whatever way it comes.
#[derive(Clone, Copy, Debug)]
struct Probe {
    source: &'static str,
    destination: &'static str,
    service: ServicePoint,
    at: Minute,
}

const DESK: &str = "10.44.24.10";
const PRINTER: &str = "10.44.48.10";
const DESK_V6: &str = "fd6b:2f4e:91c0:24::10";
const PRINTER_V6: &str = "fd6b:2f4e:91c0:48::10";

fn tcp(port: u16) -> Probe {
    probe(ServicePoint::port(Protocol::TCP, port))
}

fn udp(port: u16) -> Probe {
    probe(ServicePoint::port(Protocol::UDP, port))
}

fn other(number: u8) -> Probe {
    probe(ServicePoint::port(Protocol(number), 0))
}

fn ping(kind: u8, code: u8) -> Probe {
    probe(ServicePoint::icmp(Protocol::ICMP, kind, code))
}

fn ping_v6(kind: u8) -> Probe {
    probe(ServicePoint::icmp(Protocol::ICMP_V6, kind, 0)).v6()
}

fn probe(service: ServicePoint) -> Probe {
    Probe { source: DESK, destination: PRINTER, service, at: Minute::default() }
}

impl Probe {
    fn from(self, source: &'static str) -> Self {
        Self { source, ..self }
    }

    fn to(self, destination: &'static str) -> Self {
        Self { destination, ..self }
    }

    fn v6(self) -> Self {
        Self { source: DESK_V6, destination: PRINTER_V6, ..self }
    }

    fn at(self, minute: u16) -> Self {
        Self { at: Minute::new(minute), ..self }
    }

    /// Whether it is taken where it is passed on: the first way is from an interface to another one.
    fn is_in(&self, product: &Match) -> bool {
        let address = |word: &str| word.parse::<IpAddr>().expect("an address");
        let (source, destination) = (address(self.source), address(self.destination));
        let line = if source.is_ipv6() { &product.service.v6 } else { &product.service.v4 };
        product.enters.contains(Interface(0))
            && product.source.contains(source)
            && product.destination.contains(destination)
            && line.contains(self.service)
            && product.at.contains(self.at)
    }
}

/// A gateway of one rule, and of a chain that drops the rest.
fn gateway(rule: &str) -> String {
    format!(
        "table inet site {{\n\tset desks {{\n\t\ttype ipv4_addr\n\t\tflags interval\n\
         \t\telements = {{ 10.44.24.0/24 }}\n\t}}\n\tchain forward {{\n\
         \t\ttype filter hook forward priority filter; policy drop;\n\t\t{rule}\n\t}}\n}}\n"
    )
}

fn read(text: &str) -> Foreign {
    read_rules(text, None).unwrap_or_else(|why| panic!("{why:?}\n{text}"))
}

/// Whether the rule takes a packet; the rule decides if it lets it pass.
fn takes(foreign: &Foreign, probe: &Probe) -> bool {
    let mut lines = foreign.lines.iter();
    let first = lines.find(|line| line.bare.matches.iter().any(|product| probe.is_in(product)));
    first.is_some_and(|line| line.bare.action == Action::Allow)
}

#[test]
fn every_expression_takes_what_it_says_and_nothing_else() {
    let noon = 12 * 60;
    let tuesday = 24 * 60;
    let cases: Vec<(&str, Vec<Probe>, Vec<Probe>)> = vec![
        ("accept", vec![tcp(1), udp(9).v6(), other(89)], vec![]),
        ("tcp dport 80 accept", vec![tcp(80), tcp(80).v6()], vec![tcp(79), tcp(81), udp(80)]),
        ("tcp dport 80-90 accept", vec![tcp(80), tcp(90)], vec![tcp(79), tcp(91)]),
        ("tcp dport != 80 accept", vec![tcp(79), tcp(81)], vec![tcp(80), udp(79)]),
        ("tcp dport { 22, 80-81 } accept", vec![tcp(22), tcp(81)], vec![tcp(23), tcp(82)]),
        ("tcp dport != { 22, 80-81 } accept", vec![tcp(23)], vec![tcp(22), tcp(80), udp(23)]),
        ("th dport 53 accept", vec![tcp(53), udp(53)], vec![tcp(54), other(1)]),
        ("udp dport 53 accept", vec![udp(53)], vec![tcp(53)]),
        ("meta l4proto udp accept", vec![udp(0), udp(65535).v6()], vec![tcp(0), other(47)]),
        ("meta l4proto { tcp, 47 } accept", vec![tcp(9), other(47)], vec![udp(9), other(50)]),
        ("meta l4proto != tcp accept", vec![udp(9), other(47)], vec![tcp(9)]),
        ("ip protocol gre accept", vec![other(47)], vec![other(47).v6(), tcp(9)]),
        ("ip6 nexthdr tcp accept", vec![tcp(9).v6()], vec![tcp(9), udp(9).v6()]),
        ("ip saddr 10.44.24.10 accept", vec![tcp(9)], vec![tcp(9).from(PRINTER), tcp(9).v6()]),
        ("ip saddr 10.44.24.0/24 accept", vec![tcp(9)], vec![tcp(9).from("10.44.25.0")]),
        ("ip saddr != 10.44.24.0/24 accept", vec![tcp(9).from(PRINTER)], vec![tcp(9), tcp(9).v6()]),
        ("ip daddr 10.44.48.9-10.44.48.11 accept", vec![tcp(9)], vec![tcp(9).to("10.44.48.12")]),
        ("ip saddr @desks accept", vec![tcp(9)], vec![tcp(9).from(PRINTER), tcp(9).v6()]),
        ("ip saddr != @desks accept", vec![tcp(9).from(PRINTER)], vec![tcp(9)]),
        ("ip6 daddr fd6b:2f4e:91c0:48::/64 accept", vec![tcp(9).v6()], vec![tcp(9)]),
        ("meta nfproto ipv4 accept", vec![tcp(9)], vec![tcp(9).v6()]),
        ("meta nfproto ipv6 tcp dport 9 accept", vec![tcp(9).v6()], vec![tcp(9), tcp(8).v6()]),
        ("icmp type echo-request accept", vec![ping(8, 0), ping(8, 9)], vec![ping(0, 0), tcp(8)]),
        ("icmp type 3 icmp code 4 accept", vec![ping(3, 4)], vec![ping(3, 3), ping(4, 4)]),
        ("icmpv6 type echo-request accept", vec![ping_v6(128)], vec![ping_v6(129), ping(128, 0)]),
        (
            "ip saddr . ip daddr { 10.44.24.10 . 10.44.48.10 } accept",
            vec![tcp(9)],
            vec![tcp(9).to("10.44.48.11"), tcp(9).from(PRINTER)],
        ),
        (
            "meta l4proto . th dport { tcp . 80, udp . 53 } accept",
            vec![tcp(80), udp(53)],
            vec![tcp(53), udp(80)],
        ),
        (
            "meta hour \"11:00:00\"-\"12:59:59\" accept",
            vec![tcp(9).at(noon)],
            vec![tcp(9).at(noon - 61), tcp(9).at(noon + 60)],
        ),
        (
            "meta day \"Tuesday\" accept",
            vec![tcp(9).at(tuesday)],
            vec![tcp(9).at(tuesday - 1), tcp(9).at(2 * tuesday)],
        ),
        ("ct state new tcp dport 80 accept", vec![tcp(80)], vec![tcp(81)]),
        // Neighbour discovery and listener messages are never new to the kernel.
        ("ct state new accept", vec![tcp(80), ping_v6(128)], vec![ping_v6(135), ping_v6(143)]),
        ("ct state != new accept", vec![ping_v6(135), ping_v6(130)], vec![tcp(80), ping_v6(128)]),
        (
            "ct state untracked accept",
            vec![ping_v6(130), ping_v6(134), ping_v6(143)],
            vec![tcp(80), udp(9).v6(), ping_v6(128), ping_v6(137), ping(134, 0)],
        ),
        ("ct state new,untracked accept", vec![tcp(80), ping_v6(136)], vec![]),
        ("ct state != established accept", vec![tcp(80), ping_v6(136)], vec![]),
        (
            "ct state vmap { new : accept, untracked : drop }",
            vec![tcp(80), ping_v6(128)],
            vec![ping_v6(133)],
        ),
        ("ct state established,related accept", vec![], vec![tcp(80), udp(9).v6()]),
        ("tcp dport vmap { 80 : accept, 81-90 : drop }", vec![tcp(80)], vec![tcp(81), tcp(91)]),
        ("counter packets 7 bytes 420 log prefix \"a: \" accept", vec![tcp(9)], vec![]),
        ("tcp flags syn / syn,ack tcp dport 80 reject with tcp reset", vec![], vec![tcp(80)]),
    ];
    for (rule, inside, outside) in cases {
        let foreign = read(&gateway(rule));
        let readable = rule.starts_with("tcp flags") || foreign.not_understood.is_empty();
        assert!(readable, "{rule}: {:?}", foreign.not_understood);
        for probe in inside {
            assert!(takes(&foreign, &probe), "{rule} takes {probe:?}");
        }
        for probe in outside {
            assert!(!takes(&foreign, &probe), "{rule} leaves {probe:?}");
        }
    }
}

#[test]
fn what_nobody_reads_is_named_and_its_line_is_unsure() {
    for rule in [
        "ip ttl 64 accept",
        "tcp dport http accept",
        "tcp sport 80 accept",
        "meta length 100 accept",
        "ip dscp cs1 accept",
        "limit rate 5/second accept",
        "meta cgroup 7 accept",
        "socket transparent 1 accept",
        "ip saddr @nowhere accept",
        "tcp dport 65536 accept",
        "ip saddr 10.44.24.0/33 accept",
        "icmp type 264 accept",
        "meta l4proto 300 accept",
        "quota over 5 mbytes accept",
        "something entirely else",
        "jump nowhere",
        "iif 7 accept",
        "oif != { 7, 8 } accept",
    ] {
        let text = gateway(rule);
        match read_rules(&text, None) {
            Err(NotAList::BrokenText { at, .. }) => assert!(at.contains("line"), "{rule}: {at}"),
            Err(why) => panic!("{rule}: {why:?}"),
            Ok(foreign) => {
                assert!(!foreign.not_understood.is_empty(), "{rule}: {foreign:#?}");
                let sure = |line: &&bastium_gateway::foreign::ForeignLine| line.sure && !line.end;
                let allows = foreign.lines.iter().filter(sure);
                assert_eq!(allows.count(), 0, "{rule}: {:?}", foreign.lines);
            }
        }
    }
}

/// In JSON a number is no name either, and a name of digits is one.
#[test]
fn an_interface_by_its_number_is_named_in_json_too() {
    let unread = |right: serde_json::Value| {
        let test = serde_json::json!({ "match": {
            "op": "==", "left": { "meta": { "key": "iif" } }, "right": right } });
        let place = serde_json::json!({ "family": "inet", "table": "site", "name": "forward",
            "type": "filter", "hook": "forward", "prio": 0, "policy": "drop" });
        let rule = serde_json::json!({ "family": "inet", "table": "site", "chain": "forward",
            "expr": [test, { "accept": null }] });
        let table = serde_json::json!({ "family": "inet", "name": "site" });
        let all = serde_json::json!({ "nftables":
            [{ "table": table }, { "chain": place }, { "rule": rule }] });
        read(&all.to_string()).not_understood.len()
    };
    assert_eq!(unread(serde_json::json!(7)), 1);
    assert_eq!(unread(serde_json::json!({ "set": [7, 8] })), 1);
    assert_eq!(unread(serde_json::json!({ "set": ["wan1", 8] })), 1);
    assert_eq!(unread(serde_json::json!("7")), 0);
    assert_eq!(unread(serde_json::json!("wan1")), 0);
}

/// What leaves a set by itself is in it for a time only.
#[test]
fn a_set_whose_elements_expire_is_named() {
    let rule = gateway("ip saddr @desks accept");
    assert!(read(&rule).not_understood.is_empty());
    for (was, is) in [
        ("10.44.24.0/24 }", "10.44.24.0/24 timeout 1h expires 59m }"),
        ("flags interval", "flags interval\n\t\ttimeout 1h"),
        ("flags interval", "flags interval,timeout"),
    ] {
        let changed = rule.replacen(was, is, 1);
        assert_ne!(changed, rule, "{is}");
        let foreign = read(&changed);
        assert_eq!(foreign.not_understood.len(), 1, "{is}: {:?}", foreign.not_understood);
        assert!(!foreign.lines.iter().any(|line| line.sure && !line.end), "{is}");
    }
    for other in ["comment \"people\"", "counter packets 7 bytes 420"] {
        let changed = rule.replacen("0/24 }", &format!("0/24 {other} }}"), 1);
        assert!(read(&changed).not_understood.is_empty(), "{other}");
    }
}

#[test]
fn chains_are_followed_through_jumps_returns_and_ends() {
    let text = "table inet site {\n\
        chain web {\n ip saddr 10.44.24.10 return\n tcp dport 80 accept\n }\n\
        chain last {\n udp dport 53 accept\n }\n\
        chain forward {\n type filter hook forward priority 0; policy drop;\n\
        tcp dport { 80, 443 } jump web\n udp dport 53 goto last\n tcp dport 443 accept\n\
        udp dport 53 accept\n }\n}\n";
    let foreign = read(text);
    assert!(foreign.not_understood.is_empty(), "{:?}", foreign.not_understood);
    assert!(takes(&foreign, &tcp(80).from(PRINTER)));
    assert!(!takes(&foreign, &tcp(80)), "it returned, and nothing below lets it pass");
    assert!(takes(&foreign, &tcp(443)));
    assert!(takes(&foreign, &udp(53)));
    assert!(!takes(&foreign, &tcp(81)));
}

#[test]
fn the_policy_of_a_chain_is_what_happens_to_the_rest() {
    for (policy, passes) in [("policy accept;", true), ("policy drop;", false), ("", true)] {
        let text = format!(
            "table inet site {{\nchain forward {{\ntype filter hook forward priority 0; {policy}\n\
             tcp dport 80 drop\n}}\n}}\n"
        );
        let foreign = read(&text);
        assert_eq!(takes(&foreign, &tcp(81)), passes, "{policy}");
        assert!(!takes(&foreign, &tcp(80)), "{policy}");
    }
}

#[test]
fn hostile_text_is_refused_or_read_in_time() {
    let doubling: String = (0..24)
        .map(|n| format!("chain c{n} {{\njump c{}\njump c{}\n}}\n", n + 1, n + 1))
        .chain(["chain c24 {\ntcp dport 80 accept\n}\n".to_owned()])
        .collect();
    let texts = [
        "{".repeat(100_000),
        "table inet a {".repeat(50_000),
        gateway(&format!("tcp dport {{ {} }} accept", "1, ".repeat(200_000))),
        gateway(&format!("ip saddr {{ {} }} accept", "0.0.0.0/0, ".repeat(50_000))),
        gateway(&format!("comment \"{}\" accept", "\u{1b}[2J".repeat(10_000))),
        gateway(&"tcp dport 80 accept\n".repeat(20_000)),
        gateway("tcp dport 99999999999999999999999 accept"),
        gateway("ip saddr \u{0} accept"),
        gateway("\"unclosed accept"),
        format!(
            "table inet a {{\n{doubling}chain f {{\ntype filter hook forward priority 0;\n\
             jump c0\n}}\n}}\n"
        ),
        "table inet a {\nchain a {\njump b\n}\nchain b {\njump a\n}\nchain f {\n\
         type filter hook forward priority 0; policy drop;\njump a\n}\n}\n"
            .to_owned(),
    ];
    for text in texts {
        let begun = Instant::now();
        let read = read_rules(&text, None);
        let took = begun.elapsed();
        let head: String = text.chars().take(80).collect();
        assert!(took < Duration::from_secs(20), "{took:?}: {head}");
        if let Ok(foreign) = read {
            let loops = head.contains("jump b") || text.contains("chain c24");
            assert!(!loops || foreign.exhausted || !foreign.not_understood.is_empty(), "{head}");
        }
    }
}

/// A log that nobody can fill takes two rules; read, they are one that logs. Whatever only looks like it is named.
#[test]
fn a_log_at_a_limited_rate_is_that_of_the_rule_below() {
    let log = |tests: &str, rate: &str| format!("{tests} limit rate {rate} log prefix \"seen: \"");
    let logged = |rules: String| {
        let foreign = read(&gateway(&rules));
        let line = foreign.lines.iter().find(|line| !line.end && line.bare.action == Action::Allow);
        (foreign.not_understood.len(), line.is_some_and(|line| line.bare.log))
    };
    let below = |log: String| logged(format!("{log}\n\t\ttcp dport 80 counter accept"));
    for rate in ["10/second burst 50 packets", "1/minute", "100/hour burst 5 packets"] {
        assert_eq!(below(log("tcp dport 80", rate)), (0, true), "{rate}");
    }
    assert!(takes(
        &read(&gateway(&format!("{}\n\t\ttcp dport 80 accept", log("tcp dport 80", "10/second")))),
        &tcp(80)
    ));
    // Hardly ever; what is above; bytes; other packets; and a rule that lets some pass.
    for rate in ["59/hour", "1/day", "over 10/second", "10 kbytes/second", "10/fortnight"] {
        assert_ne!(below(log("tcp dport 80", rate)).0, 0, "{rate}");
    }
    assert_ne!(below(log("tcp dport 81", "10/second")).0, 0);
    assert_ne!(below(log("", "10/second")).0, 0);
    assert_ne!(logged("tcp dport 80 limit rate 10/second accept".to_owned()).0, 0);
    assert_ne!(logged(log("tcp dport 80", "10/second")).0, 0);
}
