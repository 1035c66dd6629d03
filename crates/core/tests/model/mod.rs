//! Random small plans, for the tests that hold the ways to a verdict against each other.

#![allow(dead_code, reason = "no test file uses all of it")]

pub(crate) mod packets;

use bastium_core::plan::draft;
use bastium_core::source::{Located, Span, Text};
use jiff::civil::{Date, date};
use proptest::prelude::*;
use proptest::sample::{select, subsequence};

pub(crate) const TODAY: Date = date(2026, 11, 24);

pub(crate) fn text(value: &str) -> Text {
    Text::new(value)
}

pub(crate) fn texts(values: &[&str]) -> Vec<Text> {
    values.iter().map(|value| text(value)).collect()
}

/// An exception with what every one has.
pub(crate) fn exception(
    name: &str,
    from: &str,
    to: &str,
    service: &str,
    action: &str,
) -> draft::Exception {
    draft::Exception {
        name: text(name),
        from: texts(&[from]),
        to: texts(&[to]),
        service: Some(texts(&[service])),
        action: Some(text(action)),
        ..draft::Exception::default()
    }
}

/// The model's plan, in which this matrix says the same between all zones.
pub(crate) fn uniform(cell: &str, dhcp: bool) -> draft::Draft {
    let mut draft = frame(true, dhcp);
    let zones = ["staff", "guests", "tills", "internet"];
    let rows = zones.map(|zone| format!("{zone} {cell} {cell} {cell} {cell}"));
    draft.matrix.grid = Some(text(&format!("{}\n{}\n", zones.join(" "), rows.join("\n"))));
    draft
}

/// A switch, as the file would have it.
pub(crate) fn located<T>(value: T) -> Option<Located<T>> {
    Some(Located { value, at: Span::default() })
}

/// The same plan with cables, so that the gateway's interfaces have names.
pub(crate) fn wired(mut draft: draft::Draft) -> draft::Draft {
    draft.gateway.ports = texts(&["wan1", "wan2", "lan1"]);
    for (vlan, network) in (20..).zip(draft.networks.iter_mut()) {
        network.port = Some(text("lan1"));
        network.vlan = located(vlan);
    }
    for (uplink, port) in draft.uplinks.iter_mut().zip(["wan1", "wan2"]) {
        uplink.port = Some(text(port));
    }
    draft
}

/// Four networks in three zones: private and global, IPv4 and IPv6, two networks in one zone.
pub(crate) fn frame(uplink: bool, dhcp: bool) -> draft::Draft {
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
    // Pools that some of the exceptions' ranges cut through.
    draft.networks[0].dhcp = Some(draft::Dhcp::Range(text("3-6")));
    draft.networks[2].dhcp = Some(draft::Dhcp::Range(text("4-6")));
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

/// What a plan can hold beside networks: a tunnel, nested routes of two zones, a domain, hours, repeated
/// names.
pub(crate) fn extend(draft: &mut draft::Draft) {
    draft.tunnels.push(draft::Tunnel {
        name: text("visits"),
        zone: Some(text("guests")),
        clients: texts(&["10.44.250.0/29"]),
        listens: Some(texts(&["udp/51820"])),
        ..draft::Tunnel::default()
    });
    // A network of IPv6 alone, in a zone that has IPv4 behind a device of another zone's network.
    draft.networks.push(draft::Network {
        name: text("lab"),
        zone: Some(text("guests")),
        subnets: Some(texts(&["fd6b:2f4e:91c0:70::/64"])),
        ..draft::Network::default()
    });
    let route = |name: &str, to: &str, via: &str, zone: Option<&str>| draft::Route {
        name: text(name),
        to: Some(text(to)),
        via: Some(text(via)),
        zone: zone.map(text),
    };
    draft.routes = vec![
        route("field", "10.44.128.0/28", "10.44.48.3", Some("guests")),
        route("barn", "10.44.128.0/29", "10.44.24.3", Some("tills")),
    ];
    let names = texts(&["register.example.org"]);
    draft.domains.push(draft::Domain { name: text("register"), names });
    let span = draft::HourSpan {
        days: texts(&["mon"]),
        from: Some(text("06:00")),
        to: Some(text("07:00")),
        ..draft::HourSpan::default()
    };
    draft.hours.push(draft::Hours { name: text("early"), spans: vec![span] });
    let between = texts(&["desks", "waiting-room"]);
    draft.discoveries.push(draft::Discovery { name: text("casting"), between });
}

/// A host offered outside by another port, to strangers or to a network as well; or one with a global
/// address of its own.
pub(crate) fn offer(kind: u8) -> Vec<draft::Inbound> {
    let offered = |from: &str| draft::Inbound {
        permission: draft::Exception {
            name: text("offer"),
            from: texts(&[from]),
            to: texts(&["label-printer"]),
            service: Some(texts(&["tcp/80"])),
            action: Some(text("allow")),
            ..draft::Exception::default()
        },
        outside_port: located(85),
        ..draft::Inbound::default()
    };
    let plain = draft::Inbound {
        permission: draft::Exception {
            name: text("plain"),
            to: texts(&["kiosk"]),
            service: Some(texts(&["tcp/80", "icmp/echo"])),
            ..offered("internet").permission
        },
        translate: located(false),
        ..draft::Inbound::default()
    };
    match kind {
        0 => vec![offered("internet")],
        1 => vec![offered("internet + desks + printers"), plain],
        2 => vec![plain],
        _ => Vec::new(),
    }
}

/// Places that are there only in an extended plan.
pub(crate) const EXTENDED: &[&str] =
    &["visits", "barn", "field", "register", "internet - register", "any - barn", "lab"];

/// Places on an uplink's own link, that are there only where that is known.
pub(crate) const BESIDE: &[&str] = &["fibre", "any - fibre", "desks + fibre"];

pub(crate) const PLACES: &[&str] = &[
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
    "visits",
    "barn",
    "field",
    "register",
    "internet - register",
    "any - barn",
    "lab",
    "guests - kiosk",
    "10.44.24.0",
    "fd6b:2f4e:91c0:24::2",
    "fibre",
    "any - fibre",
    "desks + fibre",
];
pub(crate) const SERVICES: &[&str] =
    &["any", "tcp/80", "tcp/80-90", "tcp", "udp/53", "dns", "icmp/echo", "icmp", "dhcp", "esp"];
/// Mostly one action, so that many plans have a meaning and many exceptions in it.
pub(crate) const ACTIONS: &[&str] = &["allow", "allow", "allow", "allow", "block", "reject"];
pub(crate) const CELLS: &[&str] = &["allow", "block", "reject", "allow+log", "block+quiet", "-"];

pub(crate) fn any_exception(index: usize) -> impl Strategy<Value = draft::Exception> {
    let ends = (select(PLACES), select(PLACES), select(SERVICES));
    let before = prop::collection::vec(0..6usize, 0..2);
    let flags = any::<(bool, bool)>();
    (ends, select(ACTIONS), flags, (0..8u8, 0..4u8), before).prop_map(
        move |((from, to, service), action, (log, says_log), (off, hours), before)| {
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
                hours: (hours == 0).then(|| text("early")),
                before: before.map(|other| text(&format!("e{other}"))).collect(),
                ..draft::Exception::default()
            }
        },
    )
}

/// Any site. Each feature is drawn by itself, so that every pair of them comes together: `tests/coverage.rs` counts
/// them, and fails where one of those that can stand in one plan does not.
pub(crate) fn any_draft() -> impl Strategy<Value = draft::Draft> {
    let exceptions: Vec<_> = (0..6).map(any_exception).collect();
    let shown = subsequence((0..6).collect::<Vec<usize>>(), 0..=6);
    let grid = prop::collection::vec(select(CELLS), 16);
    let frame = ((0..8u8, any::<bool>()), select(&["block", "reject", "block+quiet"][..]));
    let more = (any::<bool>(), 0..5u8);
    (exceptions, shown, grid, frame, more).prop_map(
        |(exceptions, shown, cells, ((uplinks, manage), unmatched), (extended, offered))| {
            let uplink = uplinks > 0;
            let mut draft = frame_of(uplink, uplinks == 1, manage);
            match uplinks {
                2 => draft.uplinks[0].address = texts(&["198.51.100.14/30"]),
                3 => draft.uplinks.push(second_uplink(&["192.0.2.14/29"])),
                4 => draft.uplinks.push(second_uplink(&["dhcp"])),
                6 => draft.uplinks[0].address = texts(PRIVATE_UPLINK),
                7 => {
                    draft.uplinks[0].address = texts(PRIVATE_UPLINK);
                    draft.uplinks.push(second_uplink(&["192.0.2.14/29"]));
                }
                _ => {}
            }
            let zones = ["staff", "guests", "tills", "internet"];
            let rows = zones
                .iter()
                .zip(cells.chunks(4))
                .map(|(zone, row)| format!("{zone} {}", row.join(" ")));
            let grid = format!("{}\n{}\n", zones.join(" "), rows.collect::<Vec<_>>().join("\n"));
            draft.matrix.grid = Some(text(&grid));
            draft.matrix.unmatched = Some(text(unmatched));
            draft.exceptions = shown.iter().map(|index| exceptions[*index].clone()).collect();
            if uplink {
                draft.inbounds = offer(offered);
                for inbound in &mut draft.inbounds {
                    inbound.uplink = Some(text("fibre"));
                }
            }
            if extended {
                extend(&mut draft);
                if offered == 0 {
                    // Offered at some hours only: at others the cell decides.
                    for inbound in &mut draft.inbounds {
                        inbound.permission.hours = Some(text("early"));
                    }
                }
            } else {
                without(EXTENDED, &mut draft.exceptions);
                for exception in &mut draft.exceptions {
                    exception.hours = None;
                }
            }
            if uplinks < 2 {
                without(BESIDE, &mut draft.exceptions);
            }
            let known: Vec<String> =
                draft.exceptions.iter().map(|e| e.name.value.clone()).collect();
            for exception in &mut draft.exceptions {
                exception.before.retain(|name| known.contains(&name.value));
            }
            draft
        },
    )
}

fn second_uplink(address: &[&str]) -> draft::Uplink {
    draft::Uplink { name: text("mobile"), address: texts(address), ..draft::Uplink::default() }
}

/// A provider's box in between, with addresses that are not the internet's.
pub(crate) const PRIVATE_UPLINK: &[&str] = &["192.168.7.2/29", "fd11:5::2/64"];

/// Without places that only some plans have.
fn without(places: &[&str], exceptions: &mut [draft::Exception]) {
    for exception in exceptions {
        for end in [&mut exception.from, &mut exception.to] {
            if end.iter().any(|word| places.contains(&word.value.as_str())) {
                *end = texts(&["desks"]);
            }
        }
    }
}

pub(crate) fn frame_of(uplink: bool, dhcp: bool, manage: bool) -> draft::Draft {
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
