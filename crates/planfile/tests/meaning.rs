//! What the clinic's plan means for single packets: every step of the way, by hand.

use bastium_core::diagnosis::Diagnose;
use bastium_core::meaning::Meaning;
use bastium_core::plan::Plan;
use bastium_core::proof;
use bastium_core::rules;
use bastium_core::space::{Ends, Interface, Minute, Packet, Protocol, ServicePoint};
use jiff::civil::{Date, date};

const DAY: Date = date(2026, 11, 24);
const CLINIC: &str = include_str!("../../../demo/clinic.toml");
const BARE: &str = include_str!("../../../demo/bare.toml");

fn read(text: &str) -> Plan {
    bastium_planfile::read("plan", text.as_bytes()).unwrap_or_else(|refused| {
        panic!("{:#?}", refused.diagnoses);
    })
}

fn service(word: &str) -> ServicePoint {
    match word.split_once('/').expect("a literal") {
        ("icmp", "echo") => ServicePoint::icmp(Protocol::ICMP, 8, 0),
        ("icmp6", "echo") => ServicePoint::icmp(Protocol::ICMP_V6, 128, 0),
        ("icmp6", kind) => ServicePoint::icmp(Protocol::ICMP_V6, kind.parse().expect("a type"), 0),
        ("tcp", port) => ServicePoint::port(Protocol::TCP, port.parse().expect("a port")),
        (_, port) => ServicePoint::port(Protocol::UDP, port.parse().expect("a port")),
    }
}

fn interface(plan: &Plan, name: &str) -> Interface {
    (0..=plan.gateway_interface().0)
        .map(Interface)
        .find(|interface| plan.interface_name(*interface) == name)
        .expect(name)
}

/// `FROM SOURCE DESTINATION SERVICE` decides as `VERDICT KIND NAME LOGGED`.
const STEPS: &[(&str, &str)] = &[
    // 1: not the gateway's business
    ("desks 10.44.24.100 10.44.24.101 tcp/80", "not_routed same_network desks no"),
    ("desks fd6b:2f4e:91c0:24::a fd6b:2f4e:91c0:24::b tcp/80", "not_routed same_network desks no"),
    // 2: spoofed
    ("desks 10.44.80.20 10.44.40.10 tcp/443", "block spoofed desks yes"),
    ("desks 10.44.24.1 10.44.40.10 tcp/443", "block spoofed desks yes"),
    ("desks 10.44.24.255 10.44.40.10 tcp/443", "block spoofed desks yes"),
    ("desks 10.44.24.0 10.44.40.10 tcp/443", "block spoofed desks yes"),
    ("desks 127.0.0.1 10.44.40.10 tcp/443", "block spoofed desks yes"),
    ("desks 192.0.2.10 10.44.40.10 tcp/443", "block spoofed desks yes"),
    ("desks 0.0.0.0 10.44.40.10 tcp/443", "block spoofed unspecified yes"),
    ("desks :: ff02::1 tcp/443", "block spoofed unspecified yes"),
    ("fibre 10.44.24.100 10.44.40.10 tcp/443", "block spoofed fibre yes"),
    ("fibre 192.168.7.7 198.51.100.14 tcp/443", "block spoofed fibre yes"),
    ("fibre 192.0.2.10 10.44.40.10 tcp/443", "block spoofed to-private yes"),
    ("fibre 192.0.2.10 10.44.24.1 tcp/443", "block spoofed to-private yes"),
    ("fibre 2001:db8::10 fd6b:2f4e:91c0:40::10 tcp/443", "block spoofed to-private yes"),
    // 4: to the gateway
    ("desks fe80::5 ff02::1 icmp6/135", "allow ipv6_needs ipv6-needs no"),
    ("desks :: ff02::1 icmp6/135", "allow ipv6_needs ipv6-needs no"),
    ("desks 0.0.0.0 255.255.255.255 udp/67", "allow gateway_service desks no"),
    ("desks fe80::5 ff02::2 udp/547", "allow gateway_service desks no"),
    ("desks 10.44.24.100 10.44.24.1 udp/53", "allow gateway_service desks no"),
    ("desks 10.44.24.100 10.44.24.1 icmp/echo", "allow gateway_service desks no"),
    ("desks 10.44.24.100 10.44.48.1 udp/53", "block unmatched unmatched yes"),
    ("desks 10.44.24.100 10.44.24.1 udp/123", "allow exception time-for-all no"),
    ("desks 10.44.24.100 10.44.48.1 udp/123", "allow exception time-for-all no"),
    ("desks 10.44.24.100 224.0.0.251 udp/5353", "allow discovery printers no"),
    ("phones 10.44.52.100 224.0.0.251 udp/5353", "block unmatched unmatched yes"),
    ("desks 10.44.24.100 10.44.48.1 udp/5353", "block unmatched unmatched yes"),
    ("fibre 192.0.2.10 198.51.100.14 udp/51820", "allow tunnel_port home-visits no"),
    ("fibre 192.0.2.10 198.51.100.14 tcp/443", "allow offered booking no"),
    ("fibre 192.0.2.10 198.51.100.14 tcp/444", "block unmatched unmatched yes"),
    ("desks 10.44.24.100 198.51.100.14 tcp/443", "block unmatched unmatched yes"),
    ("home-visits 10.44.250.9 10.44.250.10 tcp/443", "block cell remote>remote yes"),
    ("home-visits 10.44.250.9 10.44.40.10 tcp/443", "allow exception visits-read-records no"),
    ("doors 10.44.68.11 10.44.40.10 tcp/443", "block cell premises>clinical yes"),
    ("waiting-room 10.44.80.20 10.44.80.1 icmp/echo", "block unmatched unmatched yes"),
    ("control 10.44.10.10 10.44.10.1 tcp/22", "allow manage manage no"),
    ("control 10.44.10.10 10.44.48.1 tcp/22", "allow manage manage no"),
    ("control 10.44.10.10 198.51.100.14 tcp/22", "block unmatched unmatched yes"),
    ("control 10.44.10.100 10.44.10.1 tcp/22", "block unmatched unmatched yes"),
    ("fibre 192.0.2.10 198.51.100.14 tcp/22", "block unmatched unmatched yes"),
    ("fibre 198.51.100.13 198.51.100.14 icmp/echo", "block unmatched unmatched yes"),
    ("gateway 198.51.100.14 192.0.2.10 udp/123", "allow from_gateway from-gateway no"),
    // 5: ways
    ("desks 10.44.24.100 10.44.99.5 tcp/80", "no_route no_route nowhere no"),
    ("desks 10.44.24.100 172.16.0.1 tcp/80", "no_route no_route nowhere no"),
    ("desks 10.44.24.100 10.44.48.255 udp/9", "no_route no_route broadcast no"),
    ("desks fd6b:2f4e:91c0:24::a 2001:db8::10 tcp/80", "no_route no_route unique-local no"),
    ("desks fe80::5 fd6b:2f4e:91c0:40::10 tcp/80", "no_route no_route link-only no"),
    // 6: exceptions
    ("imaging 10.44.36.10 10.44.40.11 tcp/11112", "allow exception pictures-to-archive yes"),
    ("imaging 10.44.36.11 192.0.2.10 tcp/443", "block exception old-ultrasound-stays-in yes"),
    ("imaging 10.44.36.30 10.44.40.10 tcp/443", "block exception scanner-cart-stays-out yes"),
    ("desks 10.44.24.41 10.44.40.10 tcp/443", "allow exception vets-read-records no"),
    ("trainees 10.44.84.50 192.0.2.10 tcp/443", "allow exception trainees-web no"),
    ("trainees 10.44.84.50 192.0.2.10 tcp/22", "reject exception trainees-nothing-else yes"),
    ("phones 10.44.52.100 198.51.100.200 udp/5060", "block cell equipment>internet yes"),
    // 7: the cell
    ("imaging 10.44.36.10 10.44.40.11 tcp/80", "block cell clinical>clinical yes"),
    ("waiting-room 10.44.80.20 10.44.84.50 tcp/80", "block cell guests>guests yes"),
    ("desks 10.44.24.100 192.0.2.10 tcp/443", "allow cell staff>internet no"),
    ("fibre 192.0.2.10 203.0.113.9 tcp/80", "block unmatched unmatched yes"),
];

#[test]
fn every_step_of_the_way_decides_as_the_plan_says() {
    let plan = read(CLINIC);
    let meaning = Meaning::new(&plan, DAY).expect("the clinic has a meaning");
    let rules = rules::compile(&meaning);
    for (question, expected) in STEPS {
        let words: Vec<&str> = question.split(' ').collect();
        let end = |text: &str| text.parse().expect("an address");
        let packet = Packet {
            at: Minute::default(),
            enters: interface(&plan, words[0]),
            ends: Ends::new(end(words[1]), end(words[2])).expect("one family"),
            service: service(words[3]),
        };
        let decision = meaning.decide(&packet);
        let (verdict, cause) = (decision.verdict.word(), decision.cause);
        let logged = if decision.logged { "yes" } else { "no" };
        let found = format!("{verdict} {} {} {logged}", cause.kind(), cause.name(&plan));
        assert_eq!(found, *expected, "{question}");
        if decision.verdict.is_filtered() {
            assert!(proof::agrees(decision, rules.first_match(&packet)), "{question}");
        }
    }
}

#[test]
fn rules_equal_meaning_over_the_whole_space_of_both_demo_plans() {
    for text in [CLINIC, BARE] {
        let plan = read(text);
        let meaning = Meaning::new(&plan, DAY).expect("a meaning");
        let rules = rules::compile(&meaning);
        assert!(proof::differences(&meaning, &rules, &meaning.universe()).is_empty());
    }
}

/// A provider's box in between: an uplink with an address that is none of the internet's.
#[test]
fn the_own_subnet_of_an_uplink_is_opened_by_exceptions_alone() {
    let text =
        BARE.replace("address = \"dhcp\"", "address = [\"192.168.7.2/29\", \"fd11:5::2/64\"]");
    let (uplink, network) = {
        let plan = read(&text);
        (plan.uplinks()[0].name.to_string(), plan.networks()[0].name.to_string())
    };
    let exception = format!(
        "\n[exception.set-up-the-box]\nfrom = \"{network}\"\nto = \"{uplink}\"\nservice = \"https\"\n\
         action = \"allow\"\nwhy = \"The box is set up by its page\"\n"
    );
    let [shut, open] = [read(&text), read(&(text.clone() + &exception))];
    for (plan, opened) in [(&shut, false), (&open, true)] {
        let meaning = Meaning::new(plan, DAY).expect("no contradictions");
        for form in bastium_core::plan::Form::ALL {
            let rules = rules::in_form(&meaning, form).expect("it says everything");
            assert!(proof::differences(&meaning, &rules, &meaning.universe()).is_empty());
        }
        let inside = plan.networks()[0].subnets[0].gateway();
        let device = match inside {
            std::net::IpAddr::V4(own) => std::net::Ipv4Addr::from_bits(own.to_bits() + 9),
            std::net::IpAddr::V6(_) => panic!("the plan begins with IPv4"),
        };
        let fares = |enters: &str, source: &str, destination: &str, port: u16| {
            let ends = Ends::new(
                source.parse().expect("an address"),
                destination.parse().expect("an address"),
            );
            let service = ServicePoint::port(Protocol::TCP, port);
            let packet = Packet::new(interface(plan, enters), ends.expect("one family"), service);
            let decision = meaning.decide(&packet);
            format!("{:?} {}", decision.verdict, decision.cause.kind())
        };
        let device = device.to_string();
        let https = fares(&network, &device, "192.168.7.1", 443);
        assert_eq!(https, if opened { "Allow exception" } else { "Block beside_uplink" });
        assert_eq!(fares(&network, &device, "192.168.7.1", 80), "Block beside_uplink");
        assert_eq!(fares(&network, &device, "192.168.7.3", 80), "Block beside_uplink");
        // Nobody has these, and what is the gateway's own stays so.
        assert_eq!(fares(&network, &device, "192.168.7.0", 443), "NoRoute no_route");
        assert_eq!(fares(&network, &device, "192.168.7.9", 443), "NoRoute no_route");
        assert_eq!(fares(&network, &device, "192.168.7.2", 443), "Block unmatched");
        assert_eq!(fares(&uplink, "192.0.2.10", "192.168.7.1", 443), "Block beside_uplink");
        assert_eq!(fares(&uplink, "192.168.7.1", &device, 443), "Block spoofed");
    }
}

#[test]
fn without_before_the_clinic_is_refused_with_a_packet_and_both_places() {
    let line = CLINIC.lines().find(|line| line.starts_with("before = ")).expect("the one before");
    let plan = read(&CLINIC.replace(line, ""));
    let problems = Meaning::new(&plan, DAY).expect_err("nothing says which goes first");
    assert_eq!(problems.len(), 1);
    let reported = problems[0].diagnose();
    assert_eq!(reported.name, "contradiction");
    assert!(
        reported.says.contains("tcp/443 from 10.44.36.30 (scanner-cart) to 10.44.40.10 (records)")
    );
    assert!(reported.help.contains("before = [\"vets-read-records\"]"), "{}", reported.help);
    assert_eq!(reported.also.len(), 1);
}

#[test]
fn before_against_containment_is_a_circle_and_is_named() {
    let text = CLINIC.replace(
        "[exception.trainees-nothing-else]",
        "[exception.trainees-nothing-else]\nbefore = [\"trainees-web\"]",
    );
    let plan = read(&text);
    let problems = Meaning::new(&plan, DAY).expect_err("each goes above the other");
    let reported = problems[0].diagnose();
    assert_eq!(reported.name, "order-circle");
    assert!(
        reported
            .says
            .contains("trainees-nothing-else above trainees-web above trainees-nothing-else"),
        "{}",
        reported.says
    );
}

#[test]
fn a_last_day_counts_and_the_day_after_does_not() {
    let plan = read(CLINIC);
    let (last, after) = (date(2029, 3, 31), date(2029, 4, 1));
    let locum = Packet {
        at: Minute::default(),
        enters: interface(&plan, "desks"),
        ends: Ends::new("10.44.24.60".parse().expect("ip"), "10.44.40.10".parse().expect("ip"))
            .expect("one family"),
        service: service("tcp/443"),
    };
    let verdict = |day| {
        let meaning = Meaning::new(&plan, day).expect("a meaning");
        (meaning.decide(&locum).verdict.word(), meaning.changes_on())
    };
    assert_eq!(verdict(last), ("allow", Some(after)));
    assert_eq!(verdict(after), ("block", None));
}
