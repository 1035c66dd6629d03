//! Random small plans: the two ways to a verdict, held against each other on every packet that the
//! plan can tell apart.

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Plan, draft, resolve};
use bastium_core::proof;
use bastium_core::rules;
use bastium_core::source::{Located, Span, Text};
use bastium_core::space::{Coordinate, Ends, Leg, Packet, ServicePoint};
use bastium_core::verdict::Verdict;
use jiff::civil::{Date, date};
use proptest::prelude::*;
use proptest::sample::{select, subsequence};
use std::collections::BTreeSet;
use std::net::{Ipv4Addr, Ipv6Addr};

const TODAY: Date = date(2026, 11, 24);

fn text(value: &str) -> Text {
    Text::new(value)
}

fn texts(values: &[&str]) -> Vec<Text> {
    values.iter().map(|value| text(value)).collect()
}

/// A switch, as the file would have it.
fn located<T>(value: T) -> Option<Located<T>> {
    Some(Located { value, at: Span::default() })
}

/// Four networks in three zones: private and global, IPv4 and IPv6, two networks in one zone.
fn frame(uplink: bool, dhcp: bool) -> draft::Draft {
    let network = |name: &str, zone: &str, subnets: &[&str]| draft::Network {
        name: text(name),
        zone: Some(text(zone)),
        subnets: Some(texts(subnets)),
        ..draft::Network::default()
    };
    let zone = |name: &str, uses: Option<&[&str]>| draft::Zone {
        name: text(name),
        trust: Some(text("medium")),
        uses: uses.map(texts),
        ..draft::Zone::default()
    };
    let host = |name: &str, network: &str, addresses: &[&str]| draft::Host {
        name: text(name),
        network: Some(text(network)),
        addresses: texts(addresses),
        ..draft::Host::default()
    };
    let mut draft = draft::Draft {
        zones: vec![
            zone("staff", Some(&["dns", "dhcp", "ping"])),
            zone("guests", Some(&[])),
            zone("tills", None),
        ],
        networks: vec![
            network("desks", "staff", &["10.44.24.0/29", "fd6b:2f4e:91c0:24::/64"]),
            network("printers", "staff", &["10.44.48.0/29"]),
            network("waiting-room", "guests", &["203.0.113.0/29", "2001:db8:80::/64"]),
            network("tills", "tills", &["10.44.60.0/30"]),
        ],
        hosts: vec![
            host("reception", "desks", &["10.44.24.2", "fd6b:2f4e:91c0:24::2"]),
            host("label-printer", "printers", &["10.44.48.3"]),
            host("kiosk", "waiting-room", &["203.0.113.3"]),
        ],
        ..draft::Draft::default()
    };
    draft.site.name = Some(text("Fernside Veterinary Clinic"));
    draft.site.space = texts(&["10.44.0.0/16", "fd6b:2f4e:91c0::/48"]);
    draft.networks[2].uses = Some(texts(&["dns"]));
    if uplink {
        let address: &[&str] =
            if dhcp { &["dhcp"] } else { &["198.51.100.14/30", "2001:db8:9::2/64"] };
        draft.uplinks.push(draft::Uplink {
            name: text("fibre"),
            address: texts(address),
            ..draft::Uplink::default()
        });
    }
    draft
}

const PLACES: &[&str] = &[
    "desks",
    "printers",
    "waiting-room",
    "tills",
    "staff",
    "guests",
    "reception",
    "label-printer",
    "kiosk",
    "internet",
    "any",
    "gateway",
    "any - staff",
    "desks + kiosk",
    "staff - reception",
    "10.44.24.2-10.44.24.5",
    "10.44.24.0/30",
    "fd6b:2f4e:91c0:24::/80",
    "203.0.113.2-203.0.113.9",
    "198.51.100.64/28",
    "gateway + printers",
];
const SERVICES: &[&str] =
    &["any", "tcp/80", "tcp/80-90", "tcp", "udp/53", "dns", "icmp/echo", "icmp", "dhcp", "esp"];
/// Mostly one action, so that many plans have a meaning and many exceptions in it.
const ACTIONS: &[&str] = &["allow", "allow", "allow", "allow", "block", "reject"];
const CELLS: &[&str] = &["allow", "block", "reject", "allow+log", "block+quiet", "-"];

fn any_exception(index: usize) -> impl Strategy<Value = draft::Exception> {
    let ends = (select(PLACES), select(PLACES), select(SERVICES));
    let before = prop::collection::vec(0..6usize, 0..2);
    (ends, select(ACTIONS), any::<(bool, bool)>(), 0..8u8, before).prop_map(
        move |((from, to, service), action, (log, says_log), off, before)| {
            let before = before.into_iter().filter(|other| *other != index);
            draft::Exception {
                name: text(&format!("e{index}")),
                from: texts(&[from]),
                to: texts(&[to]),
                service: Some(texts(&[service])),
                action: Some(text(action)),
                log: if says_log { located(log) } else { None },
                off: located(off == 0),
                until: (off == 1).then(|| text("2026-11-23")),
                before: before.map(|other| text(&format!("e{other}"))).collect(),
                ..draft::Exception::default()
            }
        },
    )
}

fn any_draft() -> impl Strategy<Value = draft::Draft> {
    let exceptions: Vec<_> = (0..6).map(any_exception).collect();
    let shown = subsequence((0..6).collect::<Vec<usize>>(), 0..=6);
    let grid = prop::collection::vec(select(CELLS), 16);
    let frame = (any::<(bool, bool, bool)>(), select(&["block", "reject", "block+quiet"][..]));
    (exceptions, shown, grid, frame).prop_map(
        |(exceptions, shown, cells, ((uplink, dhcp, manage), unmatched))| {
            let mut draft = frame_of(uplink, dhcp, manage);
            let zones = ["staff", "guests", "tills", "internet"];
            let rows = zones
                .iter()
                .zip(cells.chunks(4))
                .map(|(zone, row)| format!("{zone} {}", row.join(" ")));
            let grid = format!("{}\n{}\n", zones.join(" "), rows.collect::<Vec<_>>().join("\n"));
            draft.matrix.grid = Some(text(&grid));
            draft.matrix.unmatched = Some(text(unmatched));
            draft.exceptions = shown.iter().map(|index| exceptions[*index].clone()).collect();
            let known: Vec<String> =
                draft.exceptions.iter().map(|e| e.name.value.clone()).collect();
            for exception in &mut draft.exceptions {
                exception.before.retain(|name| known.contains(&name.value));
            }
            draft
        },
    )
}

fn frame_of(uplink: bool, dhcp: bool, manage: bool) -> draft::Draft {
    let mut draft = frame(uplink, dhcp);
    if manage {
        draft.gateway.manage = Some(draft::Manage {
            from: texts(&["reception"]),
            service: texts(&["ssh", "https"]),
            ..draft::Manage::default()
        });
    }
    draft
}

/// The numbers at which anything changes: the ends of every interval, and their neighbours.
struct Borders {
    v4: BTreeSet<u32>,
    v6: BTreeSet<u128>,
    services: BTreeSet<u32>,
}

impl Borders {
    fn of(plan: &Plan, rules: &rules::RuleSet) -> Self {
        let mut borders =
            Self { v4: BTreeSet::new(), v6: BTreeSet::new(), services: BTreeSet::new() };
        let ends = plan.exceptions().iter().flat_map(|e| [&e.from.addresses, &e.to.addresses]);
        let ruled = rules.rules().filter_map(|rule| rule.matches.as_ref());
        let ruled: Vec<_> = ruled.collect();
        for set in ends.chain(ruled.iter().flat_map(|m| [&m.source, &m.destination])) {
            borders.v4.extend(set.v4.spans().iter().flat_map(|span| around(*span)));
            borders.v6.extend(set.v6.spans().iter().flat_map(|span| around(*span)));
        }
        for set in ruled.iter().map(|m| &m.service) {
            borders.services.extend(set.v4.spans().iter().flat_map(|span| around(*span)));
            borders.services.extend(set.v6.spans().iter().flat_map(|span| around(*span)));
        }
        borders.services.retain(|service| ServicePoint::from_coordinate(*service).is_some());
        borders
    }
}

fn around<T: Coordinate>((low, high): (T, T)) -> impl Iterator<Item = T> {
    [low.previous(), Some(low), Some(high), high.next()].into_iter().flatten()
}

fn pick<T: Copy>(all: &BTreeSet<T>, seed: &mut u64) -> T {
    *seed = seed.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
    let index = (*seed >> 33) as usize % all.len();
    *all.iter().nth(index).expect("the index is below the length")
}

fn packet(borders: &Borders, plan: &Plan, seed: &mut u64) -> Packet {
    *seed = seed.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
    let enters = Leg((*seed >> 40) as u16 % (plan.gateway_leg().0 + 1));
    let service =
        ServicePoint::from_coordinate(pick(&borders.services, seed)).expect("kept only points");
    let ends = if *seed >> 62 == 0 {
        Ends::V6 {
            source: Ipv6Addr::from_bits(pick(&borders.v6, seed)),
            destination: Ipv6Addr::from_bits(pick(&borders.v6, seed)),
        }
    } else {
        Ends::V4 {
            source: Ipv4Addr::from_bits(pick(&borders.v4, seed)),
            destination: Ipv4Addr::from_bits(pick(&borders.v4, seed)),
        }
    };
    Packet { enters, ends, service }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    /// Packet by packet: deciding, cutting and the first matching rule give one answer.
    #[test]
    fn meaning_and_rules_agree_on_every_kind_of_packet(draft in any_draft(), seed in any::<u64>()) {
        let plan = resolve(draft).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::compile(&meaning);
        let borders = Borders::of(&plan, &rules);
        let parts = meaning.parts(&meaning.universe());
        let mut seed = seed;
        for _ in 0..1500 {
            let packet = packet(&borders, &plan, &mut seed);
            let decision = meaning.decide(&packet);
            let holding: Vec<_> = parts.iter().filter(|part| part.packets.contains(&packet)).collect();
            prop_assert_eq!(holding.len(), 1, "{:?} lies in one part", packet);
            prop_assert_eq!(holding[0].decision, decision, "{:?}", packet);
            if decision.verdict.is_filtered() {
                let outcome = rules.first_match(&packet);
                prop_assert!(proof::agrees(decision, outcome), "{packet:?}: {decision:?} but {outcome:?}");
            }
        }
    }

    /// Set by set: the proof finds no difference, in the whole space.
    #[test]
    fn the_proof_finds_no_difference_in_the_whole_space(draft in any_draft()) {
        let plan = resolve(draft).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::compile(&meaning);
        let found = proof::differences(&meaning, &rules, &meaning.universe());
        prop_assert!(found.is_empty(), "{:?}", found.first());
    }

    /// The order of the file changes no verdict.
    #[test]
    fn the_order_of_exceptions_in_the_file_changes_no_verdict(draft in any_draft(), seed in any::<u64>()) {
        let mut turned = draft.clone();
        turned.exceptions.reverse();
        let (one, other) = (resolve(draft).expect("a plan"), resolve(turned).expect("a plan"));
        let (a, b) = (Meaning::new(&one, TODAY), Meaning::new(&other, TODAY));
        prop_assert_eq!(a.is_ok(), b.is_ok());
        let (Ok(a), Ok(b)) = (a, b) else { return Ok(()) };
        let borders = Borders::of(&one, &rules::compile(&a));
        let mut seed = seed;
        for _ in 0..500 {
            let packet = packet(&borders, &one, &mut seed);
            prop_assert_eq!(a.decide(&packet).verdict, b.decide(&packet).verdict);
        }
    }

    /// A refused plan shows a packet for which both exceptions are at the top and differ.
    #[test]
    fn a_contradiction_is_shown_by_a_packet_that_both_match(draft in any_draft()) {
        let plan = resolve(draft).expect("a plan");
        for problem in Meaning::new(&plan, TODAY).err().into_iter().flatten() {
            let bastium_core::meaning::OrderProblem::Contradiction { one, other, packet, .. } = problem else {
                continue;
            };
            prop_assert_ne!(one.action, other.action);
            for party in [one, other] {
                let exception = plan.exceptions().iter().find(|e| e.name == party.name).expect("named");
                let to_gateway = exception.to.gateway && !exception.to.addresses.contains(packet.destination());
                prop_assert!(to_gateway || exception.to.addresses.contains(packet.destination()));
                prop_assert!(exception.from.gateway || exception.from.addresses.contains(packet.source()));
            }
        }
    }
}

/// An exception that stands first in the file but low in the list still says what is logged.
#[test]
fn the_earlier_of_two_that_agree_gives_the_log() {
    let mut draft = frame(true, false);
    draft.matrix.grid = Some(text(
        "staff guests tills internet\nstaff block block block block\nguests block block block block\n\
         tills block block block block\ninternet block block block -\n",
    ));
    let exception =
        |name: &str, from: &str, to: &str, service: &str, action: &str, log| draft::Exception {
            name: text(name),
            from: texts(&[from]),
            to: texts(&[to]),
            service: Some(texts(&[service])),
            action: Some(text(action)),
            log: located(log),
            ..draft::Exception::default()
        };
    draft.exceptions = vec![
        exception("wide-quiet", "staff", "guests", "any", "allow", false),
        exception("crossing-logged", "any", "kiosk", "tcp/80", "allow", true),
        exception("narrow-block", "reception", "guests", "tcp/90", "block", true),
    ];
    let plan = resolve(draft).expect("a plan");
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    let rules = rules::compile(&meaning);
    let ids: Vec<&str> =
        rules.rules().map(|rule| rule.id.as_str()).filter(|id| id.starts_with("exc")).collect();
    let expected =
        ["wide-quiet@log", "wide-quiet@log@2", "crossing-logged", "narrow-block", "wide-quiet"];
    assert_eq!(ids, expected.map(|name| format!("exception.{name}")));
    assert!(proof::differences(&meaning, &rules, &meaning.universe()).is_empty());
}

/// The test itself must be able to fail: rules of another plan differ, and the proof says where.
#[test]
fn the_proof_notices_rules_of_another_plan() {
    let mut draft = frame(true, false);
    let grid = "staff guests tills internet\n\
                staff block block block allow\n\
                guests block block block allow\n\
                tills block block block block\n\
                internet block block block -\n";
    draft.matrix.grid = Some(text(grid));
    let other = draft::Matrix {
        grid: Some(text(
            &grid.replace("tills block block block block", "tills block block block allow"),
        )),
        ..draft.matrix.clone()
    };
    let plan = resolve(draft.clone()).expect("a plan");
    let changed = resolve(draft::Draft { matrix: other, ..draft }).expect("a plan");
    let (meaning, wrong) = (
        Meaning::new(&plan, TODAY).expect("a meaning"),
        Meaning::new(&changed, TODAY).expect("a meaning"),
    );
    let rules = rules::compile(&wrong);
    let found = proof::differences(&meaning, &rules, &meaning.universe());
    assert!(!found.is_empty());
    for difference in found {
        assert_eq!(meaning.decide(&difference.packet).verdict, Verdict::Block);
        assert_eq!(plan.leg_name(difference.packet.enters), "tills");
        assert_eq!(difference.rules.rule.map(|rule| rule.id.as_str()), Some("cell.tills>internet"));
    }
}
