//! A third way to a verdict, as plain as it can be: no sets, no intervals, one address and one prefix
//! at a time, and "narrower" found by trying every kind of packet that there is. Slow, and therefore
//! only for small plans; what it says, the meaning must say.

mod model;

use bastium_core::addressing::StandIn;
use bastium_core::meaning::{Meaning, OrderProblem};
use bastium_core::plan::{Action, Exception, Network, Plan, Route, Uplink, resolve};
use bastium_core::space::{Ends, Leg, Minute, Packet, Protocol, ServicePoint};
use ipnet::IpNet;
use model::{TODAY, any_draft};
use proptest::prelude::*;
use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// Blocks that are not globally reachable, those for documentation left out.
const NOT_GLOBAL: [&str; 15] = [
    "0.0.0.0/8",
    "10.0.0.0/8",
    "100.64.0.0/10",
    "127.0.0.0/8",
    "169.254.0.0/16",
    "172.16.0.0/12",
    "192.168.0.0/16",
    "198.18.0.0/15",
    "240.0.0.0/4",
    "::/127",
    "::ffff:0:0/96",
    "100::/64",
    "5f00::/16",
    "fc00::/7",
    "fe80::/10",
];

fn within(prefixes: &[&str], address: IpAddr) -> bool {
    prefixes.iter().any(|text| text.parse::<IpNet>().expect(text).contains(&address))
}

fn is_multicast(address: IpAddr) -> bool {
    within(&["224.0.0.0/4", "ff00::/8"], address)
}

fn is_link_local(address: IpAddr) -> bool {
    within(&["fe80::/10"], address)
}

/// The world as a plan describes it, asked one address at a time.
struct World<'p> {
    plan: &'p Plan,
}

impl World<'_> {
    fn prefixes(&self) -> impl Iterator<Item = (usize, IpNet, IpAddr)> + '_ {
        self.plan.networks().iter().enumerate().flat_map(|(index, network)| {
            network.subnets.iter().map(move |subnet| (index, subnet.prefix(), subnet.gateway()))
        })
    }

    fn home(&self, address: IpAddr) -> Option<usize> {
        self.prefixes().find(|(_, prefix, _)| prefix.contains(&address)).map(|found| found.0)
    }

    /// The route that leads to an address: the longest, if no network has it.
    fn behind(&self, address: IpAddr) -> Option<&Route> {
        if self.home(address).is_some() {
            return None;
        }
        let leading = self.plan.routes().iter().filter(|route| route.to.contains(&address));
        leading.max_by_key(|route| route.to.prefix_len())
    }

    fn is_inside(&self, address: IpAddr) -> bool {
        self.home(address).is_some() || self.behind(address).is_some()
    }

    fn is_domain(&self, address: IpAddr) -> bool {
        self.plan.domains().iter().any(|domain| domain.stand_in.addresses().contains(&address))
    }

    /// The gateway's addresses outside; those that are leased are only stood in for.
    fn own_outside(&self) -> Vec<IpAddr> {
        let leased = StandIn::Uplink(0).addresses();
        let own = |uplink: &Uplink| match uplink.dhcp {
            true => leased.to_vec(),
            false => uplink.addresses.iter().map(IpNet::addr).collect(),
        };
        self.plan.uplinks().iter().flat_map(own).collect()
    }

    /// What an offered service makes of a packet.
    fn translated(&self, packet: &Packet) -> Option<Packet> {
        if packet.source().is_ipv6()
            || packet.enters == self.plan.gateway_leg()
            || self.same_network(packet)
            || self.forged(packet)
        {
            return None;
        }
        self.plan.inbounds().iter().find_map(|inbound| {
            let (target, port) = (inbound.target?, packet.service.destination_port()?);
            let permission = &self.plan.exceptions()[inbound.exception.index()];
            let asked = self.own_outside().contains(&packet.destination())
                && permission.from.addresses.contains(packet.source())
                && packet.service.protocol() == Protocol::TCP
                && Some(port) == inbound.outside_port;
            asked.then(|| Packet {
                enters: Leg(packet.enters.0 + self.plan.gateway_leg().0 + 1),
                ends: Ends::new(packet.source(), target).expect("one family"),
                service: ServicePoint::port(Protocol::TCP, 80),
                at: packet.at,
            })
        })
    }

    fn is_gateway(&self, address: IpAddr) -> bool {
        self.prefixes().any(|(_, _, gateway)| gateway == address)
            || self.own_outside().contains(&address)
    }

    /// The broadcast address of an IPv4 prefix with room for one.
    fn broadcast(prefix: IpNet) -> Option<IpAddr> {
        let has = prefix.addr().is_ipv4() && prefix.prefix_len() <= 30;
        has.then(|| prefix.broadcast())
    }

    /// The address without host bits, where devices cannot have it.
    fn zero(prefix: IpNet) -> Option<IpAddr> {
        (prefix.max_prefix_len() - prefix.prefix_len() > 1).then(|| prefix.network())
    }

    fn is_anycast(&self, address: IpAddr) -> bool {
        let uplinks = self.plan.uplinks().iter().flat_map(|u| &u.addresses).map(IpNet::trunc);
        let mut all = self.prefixes().map(|(_, p, _)| p).chain(uplinks);
        address.is_ipv6() && all.any(|p| Self::zero(p) == Some(address))
    }

    fn is_internet(&self, address: IpAddr) -> bool {
        if self.is_domain(address) {
            return true;
        }
        let in_space = self.plan.site().space.iter().any(|space| space.contains(&address));
        let mut uplinks = self.plan.uplinks().iter().flat_map(|u| &u.addresses);
        let own = self.is_anycast(address)
            || uplinks.any(|a| a.addr() == address || Self::broadcast(a.trunc()) == Some(address));
        let known = self.is_inside(address) || in_space || own;
        let special = within(&NOT_GLOBAL, address) || is_multicast(address);
        !known && !special
    }

    fn network(&self, leg: Leg) -> Option<&Network> {
        self.plan.networks().get(usize::from(leg.0))
    }

    fn belongs(&self, packet: &Packet) -> bool {
        let source = packet.source();
        if is_link_local(source) {
            return true;
        }
        if self.is_gateway(source) || is_multicast(source) {
            return false;
        }
        if let Some(route) = self.behind(source) {
            let reserved = [Self::broadcast(route.to), Self::zero(route.to)];
            let here = route.network.index() == usize::from(packet.enters.0);
            return here && !reserved.contains(&Some(source));
        }
        match self.network(packet.enters) {
            Some(network) => network.subnets.iter().any(|subnet| {
                let prefix = subnet.prefix();
                prefix.contains(&source)
                    && Self::broadcast(prefix) != Some(source)
                    && Self::zero(prefix) != Some(source)
            }),
            None => {
                let uplink = self.plan.uplink_on(packet.enters).expect("a network or an uplink");
                if self.is_domain(source) {
                    return true;
                }
                let beside = uplink.addresses.iter().find(|own| own.contains(&source));
                if let Some(own) = beside {
                    let own = own.trunc();
                    return Self::broadcast(own) != Some(source) && Self::zero(own) != Some(source);
                }
                !self.is_inside(source) && !within(&NOT_GLOBAL, source)
            }
        }
    }

    fn asks_for_address(packet: &Packet) -> bool {
        match (packet.ends, packet.service.icmp_kind()) {
            (Ends::V4 { .. }, _) => packet.service == ServicePoint::port(Protocol::UDP, 67),
            (_, Some((kind, _))) if packet.service.protocol() == Protocol::ICMP_V6 => {
                [131, 132, 133, 135, 143].contains(&kind)
            }
            _ => false,
        }
    }

    /// `None` where it is not forged.
    fn forged(&self, packet: &Packet) -> bool {
        let source = packet.source();
        let true_source = if source.is_unspecified() {
            Self::asks_for_address(packet)
        } else {
            self.belongs(packet)
        };
        let outside = self.network(packet.enters).is_none();
        let destination = packet.destination();
        let hidden = outside && self.is_inside(destination) && within(&NOT_GLOBAL, destination);
        !true_source || hidden
    }

    fn for_gateway(&self, packet: &Packet) -> bool {
        let destination = packet.destination();
        let broadcast = match self.network(packet.enters) {
            Some(network) => {
                network.subnets.iter().any(|s| Self::broadcast(s.prefix()) == Some(destination))
            }
            None => {
                let uplink = self.plan.uplink_on(packet.enters).expect("an uplink");
                uplink.addresses.iter().any(|own| Self::broadcast(own.trunc()) == Some(destination))
            }
        };
        broadcast
            || self.is_gateway(destination)
            || self.is_anycast(destination)
            || is_multicast(destination)
            || is_link_local(destination)
            || destination == IpAddr::V4(Ipv4Addr::BROADCAST)
    }

    fn needed_by_ipv6(packet: &Packet) -> bool {
        if packet.source().is_ipv4() || packet.service.protocol() != Protocol::ICMP_V6 {
            return false;
        }
        match packet.service.icmp_kind() {
            Some((3, code)) => code == 0,
            Some((4, code)) => code == 1 || code == 2,
            Some((kind, _)) => [1, 2, 130, 131, 132, 133, 135, 136, 143].contains(&kind),
            None => false,
        }
    }

    fn same_network(&self, packet: &Packet) -> bool {
        let Some(network) = self.network(packet.enters) else { return false };
        if network.tunnel.is_some() {
            return false;
        }
        let ordinary = |address: IpAddr| {
            let lies = network.subnets.iter().any(|s| s.prefix().contains(&address));
            let broadcast =
                network.subnets.iter().any(|s| Self::broadcast(s.prefix()) == Some(address));
            lies && !broadcast && !self.is_gateway(address) && !self.is_anycast(address)
        };
        ordinary(packet.source()) && ordinary(packet.destination())
    }

    fn no_way(&self, packet: &Packet) -> bool {
        let (source, destination) = (packet.source(), packet.destination());
        if is_link_local(source) || source.is_unspecified() {
            return true;
        }
        if self.is_inside(destination) {
            let behind = self.behind(destination).map(|route| route.to);
            let near = self.prefixes().map(|(_, prefix, _)| prefix);
            return near.chain(behind).any(|p| Self::broadcast(p) == Some(destination));
        }
        !self.is_internet(destination)
            || self.plan.uplinks().is_empty()
            || within(&["fc00::/7"], source)
    }

    /// Whether the packet gets as far as the exceptions, and this one matches it.
    fn decides(&self, exception: &Exception, packet: &Packet) -> bool {
        let line = match packet.ends {
            Ends::V4 { .. } => &exception.service.set.v4,
            Ends::V6 { .. } => &exception.service.set.v6,
        };
        if !line.contains(packet.service.coordinate()) || !exception.minutes().contains(packet.at) {
            return false;
        }
        let from = exception.from.addresses.contains(packet.source());
        let to = exception.to.addresses.contains(packet.destination());
        if packet.enters == self.plan.gateway_leg() {
            return exception.from.gateway && to;
        }
        if packet.enters > self.plan.gateway_leg() {
            // What was translated: by this entry, or decided by any that speaks of it.
            return from && to;
        }
        if exception.translated && packet.source().is_ipv4() {
            return false;
        }
        if self.same_network(packet) || self.forged(packet) {
            return false;
        }
        if self.for_gateway(packet) {
            return exception.to.gateway && from && !Self::needed_by_ipv6(packet);
        }
        !self.no_way(packet) && from && to
    }

    /// Verdict, kind of cause and whether it is logged, given what the exceptions say.
    fn decide(
        &self,
        packet: &Packet,
        top: Option<&Exception>,
    ) -> (&'static str, &'static str, bool) {
        let said = top.map(|e| {
            let kind = if e.inbound.is_some() { "offered" } else { "exception" };
            (e.action.word(), kind, e.log)
        });
        if packet.enters > self.plan.gateway_leg() {
            return said.unwrap_or_else(|| self.by_cell(packet));
        }
        if packet.enters == self.plan.gateway_leg() {
            return said.unwrap_or(("allow", "from_gateway", false));
        }
        if self.same_network(packet) {
            return ("does_not_pass", "same_network", false);
        }
        if self.forged(packet) {
            return ("block", "forged", true);
        }
        if self.for_gateway(packet) {
            if Self::needed_by_ipv6(packet) {
                return ("allow", "ipv6_needs", false);
            }
            return said.unwrap_or_else(|| self.at_gateway(packet));
        }
        if self.no_way(packet) {
            return ("no_way", "no_route", false);
        }
        said.unwrap_or_else(|| self.by_cell(packet))
    }

    fn by_cell(&self, packet: &Packet) -> (&'static str, &'static str, bool) {
        let unmatched = self.plan.matrix().unmatched();
        let behind = |address| self.behind(address).map(|route| route.zone);
        let home = |address| self.home(address).map(|home| self.plan.networks()[home].zone);
        let base = self.plan.gateway_leg().0 + 1;
        let leg = if packet.enters.0 >= base { Leg(packet.enters.0 - base) } else { packet.enters };
        let near = self.network(leg).map(|network| network.zone);
        let from = near.map(|near| behind(packet.source()).unwrap_or(near));
        let to = home(packet.destination()).or(behind(packet.destination()));
        let internet = self.plan.internet();
        let cell = self.plan.matrix().cell(from.unwrap_or(internet), to.unwrap_or(internet));
        match cell.action {
            Some(action) => (action.word(), "cell", cell.log),
            None => (Action::from(unmatched.denial).word(), "unmatched", unmatched.log),
        }
    }

    fn at_gateway(&self, packet: &Packet) -> (&'static str, &'static str, bool) {
        let destination = packet.destination();
        let has = |set: &bastium_core::space::ServiceSet| {
            let line = if packet.source().is_ipv4() { &set.v4 } else { &set.v6 };
            line.contains(packet.service.coordinate())
        };
        if let Some(manage) = &self.plan.gateway().manage
            && manage.from.addresses.contains(packet.source())
            && self.prefixes().any(|(_, _, gateway)| gateway == destination)
            && has(&manage.service.set)
        {
            return ("allow", "manage", self.plan.matrix().log().logs(Action::Allow));
        }
        let tunnels = self.plan.networks().iter().filter_map(|network| network.tunnel.as_ref());
        let mut listens = tunnels.filter_map(|tunnel| tunnel.listens.as_ref());
        if self.own_outside().contains(&destination) && listens.any(|listens| has(&listens.set)) {
            return ("allow", "tunnel_port", false);
        }
        let entry = usize::from(packet.enters.0);
        let repeated = self.plan.discoveries().iter().flat_map(|discovery| &discovery.between);
        let announces = packet.service == ServicePoint::port(Protocol::UDP, 5353)
            && repeated.map(|network| network.index()).any(|index| index == entry);
        if let Some(network) = self.network(packet.enters) {
            let uses = network.uses.as_ref().or(self.plan.zone(network.zone).uses.as_ref());
            let here = network.subnets.iter().any(|subnet| {
                subnet.gateway() == destination
                    || Self::broadcast(subnet.prefix()) == Some(destination)
                    || (destination.is_ipv6() && Self::zero(subnet.prefix()) == Some(destination))
            });
            let heard = here
                || is_multicast(destination)
                || is_link_local(destination)
                || destination == IpAddr::V4(Ipv4Addr::BROADCAST);
            if heard && announces {
                return ("allow", "discovery", false);
            }
            if heard && uses.is_some_and(|uses| has(&uses.set)) {
                return ("allow", "gateway_service", false);
            }
        } else if self.plan.uplink_on(packet.enters).is_some_and(|uplink| uplink.dhcp) {
            let v4 = packet.service == ServicePoint::port(Protocol::UDP, 68);
            let v6 = packet.service == ServicePoint::port(Protocol::UDP, 546)
                || (packet.service.protocol() == Protocol::ICMP_V6
                    && packet.service.icmp_kind().is_some_and(|kind| kind.0 == 134));
            if if packet.source().is_ipv4() { v4 } else { v6 } {
                return ("allow", "gateway_service", false);
            }
        }
        ("block", "unmatched", self.plan.matrix().unmatched().log)
    }
}

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
    let leased = StandIn::Uplink(0).addresses();
    let named = plan.domains().iter().flat_map(|domain| domain.stand_in.addresses());
    for address in leased.into_iter().filter(|_| plan.uplinks().iter().any(|u| u.dhcp)).chain(named)
    {
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
    let other = |number: u8| {
        ServicePoint::from_coordinate(Protocol(number).stretch().0).expect("on the line")
    };
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
        (0..=plan.gateway_leg().0)
            .flat_map(move |leg| services.map(|service| Packet::new(Leg(leg), ends, service)))
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
