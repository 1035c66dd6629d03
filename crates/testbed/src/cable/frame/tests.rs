//! Round trips of frames, and bytes that are no frame.

use super::*;

const OWN: Mac = [0x02, 0, 0x5e, 0x24, 0, 0x10];
const OTHER: Mac = [0x02, 0, 0x5e, 0x01, 0, 0x01];

fn address(word: &str) -> IpAddr {
    word.parse().expect("an address")
}

/// Everything that is sent, over both families.
fn contents() -> Vec<Content> {
    vec![
        Content::Tcp { from: 20_000, to: 443, segment: Segment::Open, number: 7, answers: 0 },
        Content::Tcp { from: 443, to: 9, segment: Segment::Accept, number: 7, answers: 8 },
        Content::Tcp { from: 9, to: 443, segment: Segment::Reset, number: 8, answers: 0 },
        Content::Udp { from: 20_001, to: 161, payload: b"bastium?1234".to_vec() },
        Content::Echo { reply: false, ident: 3, sequence: 4, payload: b"bastium?".to_vec() },
        Content::Echo { reply: true, ident: 3, sequence: 4, payload: Vec::new() },
        Content::Other(50, b"bastium?".to_vec()),
    ]
}

fn packets() -> Vec<Packet> {
    let families = [("10.44.24.250", "10.44.40.11"), ("fd6b:2f4e:91c0:24::9", "2001:db8::10")];
    let ends = families.map(|(from, to)| (address(from), address(to)));
    let all = ends.into_iter().flat_map(|(source, destination)| {
        contents().into_iter().map(move |content| Packet { source, destination, content })
    });
    all.collect()
}

#[test]
fn what_is_sent_is_understood() {
    for packet in packets() {
        let frame = packet.framed(OTHER, OWN).expect("a frame");
        assert_eq!(frame[..6], OTHER);
        assert_eq!(read(&frame), Some((OWN, Heard::Packet(packet))));
    }
    let mixed = Packet { destination: address("::1"), ..packets()[0].clone() };
    assert_eq!(mixed.framed(OTHER, OWN), None);
}

#[test]
fn a_notice_names_the_packet_that_it_is_about() {
    for packet in packets() {
        let frame = packet.framed(OTHER, OWN).expect("a frame");
        let v6 = packet.source.is_ipv6();
        let (kind, code, protocol) = if v6 { (1, 4, 58) } else { (3, 3, 1) };
        let body = [&[kind, code, 0, 0, 0, 0, 0, 0], &frame[14..]].concat();
        let content = Content::Other(protocol, body);
        let (source, destination) = (packet.destination, packet.source);
        let notice = Packet { source, destination, content }.framed(OWN, OTHER);
        let (_, heard) = read(&notice.expect("a frame")).expect("a packet");
        let about = Box::new(packet);
        let content = Content::Unreachable { port: true, about };
        assert_eq!(heard, Heard::Packet(Packet { source, destination, content }));
    }
}

#[test]
fn neighbours_are_asked_for_and_answered() {
    for (own, target, nobody) in [
        ("10.44.24.250", "10.44.24.1", "0.0.0.0"),
        ("fd6b:2f4e:91c0:24::9", "fd6b:2f4e:91c0:24::1", "::"),
    ] {
        let (own, target) = (address(own), address(target));
        for asks in [own, address(nobody)] {
            let asked = who_has(OWN, asks, target).expect("a frame");
            assert_eq!(read(&asked), Some((OWN, Heard::Who { target, asks })));
        }
        let here = is_here(OTHER, target, (OWN, own)).expect("a frame");
        let says = Heard::Here { address: target, mac: OTHER, to: own };
        assert_eq!(read(&here), Some((OTHER, says)));
        assert_eq!(here[..6], OWN);
    }
    // A host that asks for its own address announces it.
    let announced = who_has(OTHER, address("10.44.24.1"), address("10.44.24.1"));
    let (_, heard) = read(&announced.expect("a frame")).expect("an announcement");
    assert!(matches!(heard, Heard::Here { mac: OTHER, .. }), "{heard:?}");
    assert_eq!(who_has(OWN, address("10.44.24.1"), address("::1")), None);
    let local = link_local(OWN);
    assert_eq!(local, "fe80::5eff:fe24:10".parse::<Ipv6Addr>().expect("an address"));
    assert!(matches!(read(&who_routes(OWN, local)), Some((OWN, Heard::WhoRoutes))));
}

#[test]
fn nothing_that_comes_in_can_do_harm() {
    let mut frames: Vec<Vec<u8>> =
        packets().iter().filter_map(|packet| packet.framed(OTHER, OWN)).collect();
    let (own, target) = (address("fd6b:2f4e:91c0:24::9"), address("fd6b:2f4e:91c0:24::1"));
    frames.extend(who_has(OWN, own, target));
    frames.extend(is_here(OWN, target, (OTHER, own)));
    frames.extend(who_has(OWN, address("10.44.24.250"), address("10.44.24.1")));
    for frame in &frames {
        for length in 0..frame.len() {
            let _ = read(&frame[..length]);
        }
        // Each byte in turn is something else.
        for place in 0..frame.len() {
            for value in [0, 1, 0x0f, 0x45, 0x4f, 0x60, 0x7f, 0x80, 0xff] {
                let mut changed = frame.clone();
                changed[place] = value;
                let _ = read(&changed);
            }
        }
    }
}
