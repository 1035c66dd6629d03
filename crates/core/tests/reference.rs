//! A third way to a verdict, as plain as it can be: no sets, no intervals, one address and one prefix
//! at a time, and "narrower" found by trying every kind of packet that there is. Slow, and therefore
//! only for small plans; what it says, the meaning must say.

mod model;
#[path = "reference/world.rs"]
mod world;

use bastium_core::addressing::Placeholder;
use bastium_core::meaning::{Meaning, OrderProblem};
use bastium_core::plan::{Action, Exception, Plan, resolve};
use bastium_core::space::{Ends, Interface, Minute, Packet, Protocol, ServicePoint};
use ipnet::IpNet;
use model::{TODAY, any_draft};
use proptest::prelude::*;
use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use world::World;

/// One packet of every kind that the plan can tell apart: at each number where anything begins.
fn packets(plan: &Plan) -> Vec<Packet> {
    let mut v4: BTreeSet<u32> = BTreeSet::from([0, 1]);
    let mut v6: BTreeSet<u128> = BTreeSet::from([0]);
    let mut add = |first: IpAddr, last: IpAddr| match (first, last) {
        (IpAddr::V4(a), IpAddr::V4(b)) => {
            v4.extend([Some(a.to_bits()), b.to_bits().checked_add(1)].into_iter().flatten())
        }
        (IpAddr::V6(a), IpAddr::V6(b)) => {
            v6.extend([Some(a.to_bits()), b.to_bits().checked_add(1)].into_iter().flatten())
        }
        _ => {}
    };
    for subnet in plan.networks().iter().flat_map(|n| &n.subnets) {
        let prefix = subnet.prefix();
        for address in [prefix.network(), prefix.broadcast(), subnet.gateway()] {
            add(address, address);
        }
        add(prefix.network(), prefix.broadcast());
    }
    for route in plan.routes() {
        for address in [route.to.network(), route.to.broadcast()] {
            add(address, address);
        }
    }
    let leased = (0u16..).zip(plan.uplinks()).filter(|(_, uplink)| uplink.dhcp);
    let leased = leased.flat_map(|(number, _)| Placeholder::Uplink(number).addresses());
    let named = plan.domains().iter().flat_map(|domain| domain.placeholder.addresses());
    for address in leased.chain(named) {
        add(address, address);
    }
    for own in plan.uplinks().iter().flat_map(|u| &u.addresses) {
        for address in [own.addr(), own.network(), own.broadcast()] {
            add(address, address);
        }
    }
    for text in [
        "10.44.0.0/16",
        "172.16.0.0/12",
        "224.0.0.0/4",
        "255.255.255.255/32",
        "fd6b:2f4e:91c0::/48",
        "fe80::/10",
        "ff00::/8",
        "198.51.100.64/28",
    ] {
        let prefix: IpNet = text.parse().expect(text);
        add(prefix.network(), prefix.broadcast());
    }
    for exception in plan.exceptions() {
        for (first, last) in
            exception.from.addresses.ranges().chain(exception.to.addresses.ranges())
        {
            // The borders of the special-purpose prefixes are others' business.
            if plan.network_of(first).is_some() {
                add(first, last);
            }
        }
    }
    let port = ServicePoint::port;
    let (icmp, icmp6) = (Protocol::ICMP, Protocol::ICMP_V6);
    let other = |number: u8| Protocol(number).stretch().0;
    let services = [
        port(Protocol::TCP, 22),
        port(Protocol::TCP, 53),
        port(Protocol::TCP, 80),
        port(Protocol::TCP, 85),
        port(Protocol::UDP, 53),
        port(Protocol::UDP, 5353),
        port(Protocol::UDP, 51820),
        port(Protocol::UDP, 67),
        port(Protocol::UDP, 68),
        port(Protocol::UDP, 546),
        port(Protocol::UDP, 547),
        ServicePoint::icmp(icmp, 8, 0),
        ServicePoint::icmp(icmp, 3, 0),
        ServicePoint::icmp(icmp6, 128, 0),
        ServicePoint::icmp(icmp6, 135, 0),
        ServicePoint::icmp(icmp6, 134, 0),
        ServicePoint::icmp(icmp6, 3, 1),
        other(50),
        other(47),
    ];
    let v4 = v4.iter().flat_map(|a| {
        v4.iter().map(|b| Ends::V4 {
            source: Ipv4Addr::from_bits(*a),
            destination: Ipv4Addr::from_bits(*b),
        })
    });
    let v6 = v6.iter().flat_map(|a| {
        v6.iter().map(|b| Ends::V6 {
            source: Ipv6Addr::from_bits(*a),
            destination: Ipv6Addr::from_bits(*b),
        })
    });
    // A minute inside the hours of the model, and one outside.
    let hours = plan.exceptions().iter().any(|exception| exception.hours.is_some());
    let minutes = if hours { vec![Minute::new(390), Minute::new(0)] } else { vec![Minute::new(0)] };
    let all = v4.chain(v6).flat_map(|ends| {
        (0..=plan.gateway_interface().0).flat_map(move |interface| {
            services.map(|service| Packet::new(Interface(interface), ends, service))
        })
    });
    let all = all.flat_map(|packet| minutes.iter().map(move |at| Packet { at: *at, ..packet }));
    all.collect()
}

/// Which of the exceptions decides a packet, by the relation that was found by trying all of them.
struct Tried {
    /// For each packet, the exceptions that match it, as bits.
    matching: Vec<u32>,
    /// For each exception, those directly above it, as bits.
    above: Vec<u32>,
}

impl Tried {
    fn new(world: &World<'_>, packets: &[Packet]) -> Self {
        let exceptions = world.plan.exceptions();
        let counts: Vec<bool> = exceptions.iter().map(|e| e.counts_on(TODAY)).collect();
        let bits = |packet: &Packet| {
            let one = |(index, e): (usize, &Exception)| {
                u32::from(counts[index] && world.decides(e, packet)) << index
            };
            exceptions.iter().enumerate().map(one).sum()
        };
        let matching: Vec<u32> = packets.iter().map(bits).collect();
        let count = exceptions.len();
        let mut above = vec![0u32; count];
        for wide in 0..count {
            for narrow in (0..count).filter(|narrow| *narrow != wide) {
                let (a, b) = (1u32 << narrow, 1u32 << wide);
                let some = matching.iter().any(|m| m & a != 0);
                let inside = matching.iter().all(|m| m & a == 0 || m & b != 0);
                let strictly = matching.iter().any(|m| m & b != 0 && m & a == 0);
                let says = exceptions[narrow].before.iter().any(|(id, _)| id.index() == wide);
                let before = says && counts[narrow] && counts[wide];
                if (some && inside && strictly) || before {
                    above[wide] |= a;
                }
            }
        }
        Self { matching, above }
    }

    /// The exceptions at the top for a packet, in the file's order.
    fn top(&self, packet: usize) -> impl Iterator<Item = usize> + '_ {
        let matching = self.matching[packet];
        (0..self.above.len())
            .filter(move |i| matching & (1 << i) != 0 && matching & self.above[*i] == 0)
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    #[test]
    fn the_plain_way_and_the_meaning_say_the_same_of_every_kind_of_packet(draft in any_draft()) {
        let plan = resolve(draft).expect("the generator writes plans without mistakes");
        let world = World { plan: &plan };
        let asked = packets(&plan);
        // What asks for an offered service is decided as what becomes of it.
        let packets: Vec<Packet> =
            asked.iter().map(|packet| world.translated(packet).unwrap_or(*packet)).collect();
        let tried = Tried::new(&world, &packets);
        let differ = |index: usize| {
            let actions: BTreeSet<Action> = tried.top(index).map(|i| plan.exceptions()[i].action).collect();
            actions.len() > 1
        };
        match Meaning::new(&plan, TODAY) {
            Err(problems) => {
                let circle = problems.iter().any(|p| matches!(p, OrderProblem::Circle { .. }));
                prop_assert!(circle || (0..packets.len()).any(differ), "refused for no reason: {problems:?}");
            }
            Ok(meaning) => {
                for (index, packet) in packets.iter().enumerate() {
                    prop_assert!(!differ(index), "{packet:?} is open, and the plan was taken");
                    let top = tried.top(index).next().map(|i| &plan.exceptions()[i]);
                    let expected = world.decide(packet, top);
                    let found = meaning.decide(&asked[index]);
                    prop_assert_eq!(meaning.decide(packet), found, "{:?}", packet);
                    let found = (found.verdict.word(), found.cause.kind(), found.logged);
                    prop_assert_eq!(found, expected, "{:?}", packet);
                }
            }
        }
    }
}
