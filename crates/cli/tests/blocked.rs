//! What a gateway's log says was blocked.

mod common;

use common::{Bench, DAY, Run};
use serde_json::Value;
use std::fmt::Write as _;

/// A line as the kernel writes it, with what a logger puts in front.
struct Packet<'l> {
    tag: &'l str,
    enters: &'l str,
    leaves: &'l str,
    ends: (&'l str, &'l str),
    asks: &'l str,
}

impl Packet<'_> {
    fn line(&self) -> String {
        let Self { tag, enters, leaves, ends: (from, to), asks } = self;
        format!(
            "Nov 24 10:00:00 gateway kernel: [ 12.5] {tag}IN={enters} OUT={leaves} \
             MAC=02:00:5e:01:00:09:02:00:5e:02:00:09:08:00 SRC={from} DST={to} LEN=60 TOS=0x00 \
             PREC=0x00 TTL=63 ID=1 DF {asks}\n"
        )
    }
}

fn tcp(port: u16) -> String {
    format!("PROTO=TCP SPT=40000 DPT={port} WINDOW=64240 RES=0x00 SYN URGP=0")
}

fn udp(port: u16) -> String {
    format!("PROTO=UDP SPT=40000 DPT={port} LEN=40")
}

fn packet(tag: &str, ways: (&str, &str), ends: (&str, &str), asks: &str) -> String {
    let tag = if tag.is_empty() { String::new() } else { format!("bastium {tag}: ") };
    Packet { tag: &tag, enters: ways.0, leaves: ways.1, ends, asks }.line()
}

fn blocked(bench: &Bench, log: &str) -> Value {
    bench.write("gateway.log", log);
    let run = bench.clinic("blocked gateway.log --format json");
    assert_eq!(run.code, 0, "{}", run.err);
    run.json()
}

fn groups(json: &Value) -> &Vec<Value> {
    json["groups"].as_array().expect("groups")
}

fn only(json: &Value) -> &Value {
    let all = groups(json);
    assert_eq!(all.len(), 1, "{all:#?}");
    &all[0]
}

const DESKS_TO_SERVERS: (&str, &str) = ("core.24", "core.40");
const RECEPTION_TO_RECORDS: (&str, &str) = ("10.44.24.10", "10.44.40.10");

#[test]
fn packets_that_want_the_same_are_one_group_with_rule_entry_and_offer() {
    let bench = Bench::new();
    let line = packet("cell.staff>clinical", DESKS_TO_SERVERS, RECEPTION_TO_RECORDS, &tcp(443));
    let json = blocked(&bench, &line.repeat(3));
    let group = only(&json);
    assert_eq!((&group["from"], &group["to"]), (&"reception".into(), &"records".into()));
    assert_eq!((&group["service"], &group["count"]), (&"tcp/443".into(), &3.into()));
    assert_eq!((&group["first_line"], &group["last_line"]), (&1.into(), &3.into()));
    assert_eq!(group["sort"], "missing");
    assert_eq!(group["rule"], "cell.staff>clinical");
    assert_eq!(group["because"]["name"], "staff>clinical");
    assert!(group["because"]["line"].as_u64().is_some_and(|line| line > 100));
    let toml = group["offer"]["toml"].as_str().expect("text");
    assert!(
        toml.starts_with("[exception.reception-records-https]\nfrom = \"reception\"\n"),
        "{toml}"
    );
    let opens = group["opens"].as_array().expect("sentences");
    assert_eq!(opens, &[Value::from("tcp/443 from reception to records (IPv4)")]);
    assert_eq!(group["breaks"], Value::Array(Vec::new()));
}

#[test]
fn the_offered_exception_lets_it_through_once_it_is_added() {
    let bench = Bench::new();
    let line = packet("cell.staff>clinical", DESKS_TO_SERVERS, RECEPTION_TO_RECORDS, &tcp(8443));
    let json = blocked(&bench, &line);
    let command = only(&json)["offer"]["command"].as_str().expect("a command").to_owned();
    let words = shlex::split(&command).expect("words of a shell");
    let before = bench.clinic("ask reception records tcp/8443 --format json").json();
    assert_eq!(before["verdict"], "block");
    let words: Vec<&str> =
        words[1..].iter().map(String::as_str).chain(["--plan", "clinic.toml"]).collect();
    let run = bench.run_words(&words);
    assert_eq!(run.code, 0, "{}", run.err);
    let after = bench.clinic("ask reception records tcp/8443 --format json").json();
    assert_eq!(after["verdict"], "allow");
    // And the same log is now about a gateway that lags behind its plan.
    let json = blocked(&bench, &line);
    assert_eq!(only(&json)["sort"], "allowed");
    assert!(only(&json)["offer"].is_null());
}

/// What a guarantee forbids is meant, whether a cell or an exception denies it; nothing is offered that breaks it.
#[test]
fn what_a_guarantee_forbids_is_meant() {
    let bench = Bench::new();
    let line = packet(
        "cell.guests>tills",
        ("core.80", "core.60"),
        ("10.44.80.33", "10.44.60.10"),
        &tcp(443),
    );
    let json = blocked(&bench, &line);
    assert_eq!(only(&json)["sort"], "meant");
    assert!(only(&json)["offer"].is_null());
}

/// What an exception lets pass at other hours is said to be outside its hours.
#[test]
fn what_has_hours_is_outside_them() {
    let bench = Bench::new();
    let line = packet(
        "cell.premises>clinical",
        ("core.68", "core.40"),
        ("10.44.68.11", "10.44.40.10"),
        &tcp(443),
    );
    let json = blocked(&bench, &line);
    assert_eq!(only(&json)["sort"], "outside_hours", "{json}");
    assert!(only(&json)["offer"].is_null());
}

/// Every sort that a packet can be of.
#[test]
fn noise_is_reported_from_what_somebody_has_to_look_at() {
    let bench = Bench::new();
    let late = "PROTO=TCP SPT=443 DPT=50000 WINDOW=501 RES=0x00 ACK FIN URGP=0";
    let error =
        "PROTO=ICMP TYPE=3 CODE=1 [SRC=10.44.24.101 DST=10.44.40.10 PROTO=TCP SPT=1 DPT=2 ]";
    let redirect = "PROTO=ICMP TYPE=5 CODE=1 GATEWAY=10.44.24.66 [SRC=10.44.40.10 DST=10.44.24.101 PROTO=TCP SPT=1 DPT=2 ]";
    let cut_off = "PROTO=TCP INCOMPLETE [6 bytes] ";
    let cases: [(&str, String); 13] = [
        (
            "missing",
            packet(
                "cell.equipment>internet",
                ("core.52", "wan1"),
                ("10.44.52.101", "203.0.113.9"),
                &udp(5061),
            ),
        ),
        (
            "allowed",
            packet(
                "cell.tills>internet",
                ("core.60", "wan1"),
                ("10.44.60.10", "203.0.113.80"),
                &tcp(443),
            ),
        ),
        (
            "meant",
            packet(
                "exception.old-ultrasound-stays-in@clinical>internet",
                ("core.36", "wan1"),
                ("10.44.36.11", "203.0.113.7"),
                &tcp(443),
            ),
        ),
        (
            "spoofed",
            packet("spoofed.desks", ("core.24", "wan1"), ("10.44.36.10", "203.0.113.7"), &tcp(80)),
        ),
        (
            "stranger",
            packet(
                "unmatched@to-gateway",
                ("wan1", ""),
                ("203.0.113.77", "198.51.100.14"),
                &tcp(23),
            ),
        ),
        (
            "to_everyone",
            packet(
                "unmatched@to-gateway",
                ("core.24", ""),
                ("10.44.24.101", "224.0.0.251"),
                &udp(5355),
            ),
        ),
        (
            "to_everyone",
            packet(
                "unmatched@to-gateway",
                ("core.24", ""),
                ("10.44.24.101", "10.44.24.255"),
                &udp(137),
            ),
        ),
        (
            "late",
            packet(
                "cell.clinical>staff",
                ("core.40", "core.24"),
                ("10.44.40.10", "10.44.24.101"),
                late,
            ),
        ),
        (
            "late",
            packet(
                "cell.clinical>staff",
                ("core.40", "core.24"),
                ("10.44.40.10", "10.44.24.101"),
                error,
            ),
        ),
        // Part of a conversation or not, it cannot come from there.
        (
            "spoofed",
            packet("spoofed.desks", ("core.24", "wan1"), ("10.44.36.10", "203.0.113.7"), late),
        ),
        // Nobody but the gateway says which way to go.
        (
            "spoofed",
            packet(
                "cell.clinical>staff",
                ("core.40", "core.24"),
                ("10.44.40.10", "10.44.24.101"),
                redirect,
            ),
        ),
        // What could not be read is no late packet.
        (
            "missing",
            packet(
                "cell.clinical>staff",
                ("core.40", "core.24"),
                ("10.44.40.10", "10.44.24.101"),
                cut_off,
            ),
        ),
        (
            "no_route",
            packet(
                "unmatched@through",
                ("core.24", "wan1"),
                ("10.44.24.101", "10.44.99.9"),
                &tcp(443),
            ),
        ),
    ];
    for (sort, line) in cases {
        let json = blocked(&bench, &line);
        let group = only(&json);
        assert_eq!(group["sort"], sort, "{line}");
        assert_eq!(group["offer"].is_object(), sort == "missing", "{line}");
        assert!(group["says"].as_str().is_some_and(|says| !says.is_empty()));
    }
}

#[test]
fn one_who_tries_many_things_is_one_group() {
    let bench = Bench::new();
    let log: String = (0..40)
        .map(|number| {
            let to = if number % 2 == 0 { "10.44.40.11" } else { "10.44.40.10" };
            packet(
                "cell.premises>clinical",
                ("core.64", "core.40"),
                ("10.44.64.10", to),
                &tcp(1000 + number),
            )
        })
        .collect();
    let json = blocked(&bench, &log);
    let group = only(&json);
    assert_eq!((&group["sort"], &group["count"]), (&"scan".into(), &40.into()));
    assert_eq!((&group["from"], &group["to"]), (&"front-camera".into(), &"several".into()));
    assert!(group["service"].is_null());
}

#[test]
fn what_was_logged_and_let_pass_and_what_is_from_elsewhere_is_counted_apart() {
    let bench = Bench::new();
    let mut log = packet(
        "exception.pictures-to-archive@clinical>clinical",
        ("core.36", "core.40"),
        ("10.44.36.10", "10.44.40.11"),
        &tcp(104),
    );
    log.push_str(&packet(
        "unmatched@through",
        ("core.99", "wan1"),
        ("10.44.99.1", "203.0.113.7"),
        &tcp(443),
    ));
    log.push_str("Nov 24 10:00:00 gateway dnsmasq[1]: query[A] example.org from 10.44.24.10\n");
    let json = blocked(&bench, &log);
    assert!(groups(&json).is_empty());
    assert_eq!(
        (&json["packets"], &json["passed"], &json["strange"]),
        (&2.into(), &1.into(), &1.into())
    );
    assert_eq!(json["lines"], 3);
}

#[test]
fn rules_are_known_by_the_tags_of_both_forms_and_of_none() {
    let bench = Bench::new();
    for (tag, rule) in [
        ("cell.staff>clinical", Some("cell.staff>clinical")),
        ("exception.scanner-cart-stays-out", Some("exception.scanner-cart-stays-out")),
        ("cell.gone>clinical", None),
        ("", None),
    ] {
        let line = packet(tag, DESKS_TO_SERVERS, RECEPTION_TO_RECORDS, &tcp(443));
        let json = blocked(&bench, &line);
        let group = only(&json);
        assert_eq!(group["rule"].as_str(), rule, "{tag}");
        // What the plan means is known without the tag.
        assert_eq!(group["because"]["name"], "staff>clinical", "{tag}");
    }
}

#[test]
fn what_is_offered_to_the_outside_is_seen_translated() {
    let bench = Bench::new();
    let ends = ("203.0.113.50", "10.44.40.13");
    let line = packet("unmatched@through", ("wan1", "core.40"), ends, &tcp(443));
    let json = blocked(&bench, &line);
    assert_eq!(only(&json)["sort"], "allowed", "it is offered, and lets through");
    let line = packet("spoofed@to-private", ("wan1", "core.40"), ends, &tcp(80));
    let json = blocked(&bench, &line);
    assert_eq!(only(&json)["sort"], "spoofed");
}

#[test]
fn ipv6_and_other_protocols_are_read_as_well() {
    let bench = Bench::new();
    let ends =
        ("fd6b:2f4e:91c0:0024:0000:0000:0000:0077", "fd6b:2f4e:91c0:0040:0000:0000:0000:0010");
    for (asks, service) in [
        ("PROTO=TCP SPT=40000 DPT=443 WINDOW=64800 RES=0x00 SYN URGP=0".to_owned(), "tcp/443"),
        ("PROTO=ICMPv6 TYPE=128 CODE=0 ID=1 SEQ=1".to_owned(), "icmp/echo"),
        ("PROTO=47".to_owned(), "gre"),
        ("PROTO=ESP SPI=0x1".to_owned(), "esp"),
    ] {
        let line = packet("cell.staff>clinical", DESKS_TO_SERVERS, ends, &asks);
        let json = blocked(&bench, &line);
        let group = only(&json);
        assert_eq!((&group["from"], &group["to"]), (&"desks".into(), &"records".into()), "{asks}");
        assert_eq!(group["service"], service, "{asks}");
        assert_eq!(group["sort"], "missing", "{asks}");
    }
}

#[test]
fn a_log_comes_by_standard_input_and_in_every_coat() {
    let bench = Bench::new();
    let kernel = packet("cell.staff>clinical", DESKS_TO_SERVERS, RECEPTION_TO_RECORDS, &tcp(443));
    let message = kernel.split_once("kernel: ").expect("a prefix").1.trim_end();
    let json = serde_json::to_string(message).expect("text");
    let mut log = format!("<4>1 2026-11-24T10:00:00.1Z gateway kernel - - - {message}\n");
    let _ =
        writeln!(log, "{{\"__REALTIME_TIMESTAMP\":\"1\",\"MESSAGE\":{json},\"PRIORITY\":\"4\"}}");
    let _ = writeln!(log, "{message}\r");
    log.push_str(&kernel);
    let mut command = bench.command();
    command.args(["blocked", "-", "--plan", "clinic.toml", "--day", DAY, "--format", "json"]);
    let run = Run::of(command.write_stdin(log));
    assert_eq!(only(&run.json())["count"], 4);
}

#[test]
fn hostile_logs_harm_nobody() {
    let bench = Bench::new();
    let mut log = String::from("bastium \u{1b}[31m=cmd(): IN=core.24 OUT=core.40 SRC=10.44.24.10 ");
    log.push_str("DST=10.44.40.10 PROTO=TCP SPT=1 DPT=443 SYN\n");
    log.push_str("IN=core.24 SRC=999.1.1.1 DST=x PROTO=TCP\n");
    log.push_str("{\"MESSAGE\": {\"a\": 1}}\n{\"MESSAGE\": \"IN=\"}\n{{{{\n\n");
    log.push_str(&"x".repeat(200_000));
    log.push('\n');
    bench.write("gateway.log", [log.as_bytes(), b"\xff\xfe IN=core.24 \xff\n"].concat());
    for format in ["text", "json", "csv", "md"] {
        let run = bench.clinic(&format!("blocked gateway.log --format {format}"));
        assert_eq!(run.code, 0, "{}", run.err);
        assert!(!run.out.contains('\u{1b}'), "{format}: {}", run.out);
    }
    let csv = bench.clinic("blocked gateway.log --format csv").out;
    assert!(!csv.contains(",=cmd()"), "{csv}");
}

#[test]
fn a_flood_of_different_things_is_counted_and_does_not_grow() {
    let bench = Bench::new();
    let mut log = String::new();
    for number in 0..60_000u32 {
        let [_, b, c, d] = number.to_be_bytes();
        let from = format!("203.0.{}.{}", 113 + b, d);
        let to = "198.51.100.14";
        let port = 1 + (number % 60_000) as u16;
        let line = packet("unmatched@to-gateway", ("wan1", ""), (&from, to), &tcp(port));
        log.push_str(&line);
        let _ = c;
    }
    let json = blocked(&bench, &log);
    let counted: u64 = groups(&json).iter().filter_map(|group| group["count"].as_u64()).sum();
    assert_eq!(counted, 60_000);
    assert!(groups(&json).len() <= 20_001, "{}", groups(&json).len());
}

#[test]
fn the_text_is_for_people() {
    let bench = Bench::new();
    let mut log =
        packet("cell.staff>clinical", DESKS_TO_SERVERS, RECEPTION_TO_RECORDS, &tcp(443)).repeat(37);
    log.push_str(
        &packet("unmatched@to-gateway", ("wan1", ""), ("203.0.113.77", "198.51.100.14"), &tcp(23))
            .repeat(400),
    );
    log.push_str(&packet(
        "spoofed.desks",
        ("core.24", "wan1"),
        ("10.44.36.10", "203.0.113.7"),
        &tcp(80),
    ));
    bench.write("gateway.log", &log);
    insta::assert_snapshot!("blocked", bench.clinic("blocked gateway.log").all());
    let all = bench.clinic("blocked gateway.log --all").out;
    assert!(all.contains("stranger"), "{all}");
    let none = bench.clinic("blocked gateway.log --offers 0").out;
    assert!(!none.contains("bastium add exception"), "{none}");
}

#[test]
fn a_log_that_is_not_there_is_an_error() {
    let bench = Bench::new();
    let run = bench.clinic("blocked nothing.log");
    assert_eq!(run.code, 2);
    assert!(run.err.contains("cannot read nothing.log"), "{}", run.err);
    bench.write("empty.log", "");
    let run = bench.clinic("blocked empty.log");
    assert_eq!(run.code, 0);
    assert!(run.out.starts_with("0 packets blocked, in 0 groups."), "{}", run.out);
}
