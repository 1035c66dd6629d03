//! A sweep: every pair of networks, and the gateway, by every service that the catalogue or a rule knows, from both sides of
//! every border.
//!
//! A list of checks looks where the plan speaks. A sweep looks where nobody meant anything, too: it is what finds the line that
//! was left from testing, the range that is one zero too long, the address that belongs to somebody else by now. It needs both
//! ends of everything, so it is for a machine that stands in all networks at once.

use crate::addressing::Subnet;
use crate::example;
use crate::meaning::Meaning;
use crate::plan::{NetworkId, Plan};
use crate::rules::RuleSet;
use crate::service::BUILT_IN;
use crate::space::{
    AddressSet, Coordinate, Ends, Family, Interface, Match, Minute, Packet, Protocol, ServicePoint,
    ServiceSet,
};
use crate::verdict::Verdict;
use ipnet::IpNet;
use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// The most addresses that are wanted in one network and family. Where rules have more borders, these are spread over them.
const MOST_ADDRESSES: usize = 24;
/// What an address is asked for that no rule tells from its neighbours, beside what rules there allow: what people leave open.
const FEW: [u16; 6] = [22, 53, 80, 443, 445, 3389];
/// Ports that no service is known by, spread over all of them: what is too wide has some of them.
const SPREAD: [u16; 12] =
    [1, 1_000, 2_222, 4_444, 9_999, 15_000, 20_000, 30_000, 40_000, 50_000, 60_000, 65_535];

/// The prefixes of addresses for documentation.
const DOCUMENTATION: [&str; 4] =
    ["203.0.113.0/24", "198.51.100.0/24", "192.0.2.0/24", "2001:db8::/32"];

/// Private prefixes.
const NOWHERE: [&str; 4] = ["10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "fd00::/8"];

/// One of the tester's own ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct End {
    /// By which interface the gateway reaches it.
    pub interface: Interface,
    /// Its address.
    pub address: IpAddr,
}

/// The addresses from which to sweep: in each network first one for all that are alike, then one on each side of each border
/// in a rule's source or destination, as far as no host and no gateway has it and no lease gives it.
pub fn wanted(meaning: &Meaning<'_>, rules: &RuleSet) -> Vec<End> {
    let plan = meaning.plan();
    let places = places(rules);
    let mut wanted = Vec::new();
    for id in plan.network_ids().filter(|id| plan.network(*id).tunnel.is_none()) {
        let free = free(plan, id);
        for family in Family::ALL {
            let borders = borders(&places, plan.network_addresses(id), family);
            let addresses = one_between(&free, &borders, family);
            let interface = plan.network_interface(id);
            wanted.extend(addresses.into_iter().map(|address| End { interface, address }));
        }
    }
    wanted
}

/// An address outside that the plan says nothing of, in a family: on no uplink's own link, and nobody's that is named.
pub fn stranger(plan: &Plan, family: Family) -> Option<IpAddr> {
    let free = unsaid(plan);
    let last = spans(&nobodys().intersection(&free), family)
        .last()
        .map(|(low, high)| address(high.saturating_sub(1).max(low), family));
    last.or_else(|| example::candidates(plan, &free, family).first().copied())
}

/// Subnets outside that the plan says nothing of, in a family and with prefixes of that length, no two of which overlap: for
/// a tester who stands in for the providers of uplinks with leased addresses. They are prefixes for documentation, so that nobody
/// outside has them, and there are at most `number` of them. [`stranger`] is in none.
pub fn for_leases(plan: &Plan, family: Family, length: u8, number: usize) -> Vec<IpNet> {
    let stranger = stranger(plan, family).map(AddressSet::from).unwrap_or_default();
    let free = nobodys().intersection(&unsaid(plan)).difference(&stranger);
    let bits: u8 = if family == Family::V6 { 128 } else { 32 };
    let Some(size) = bits.checked_sub(length).and_then(|host| 1_u128.checked_shl(host.into()))
    else {
        return Vec::new();
    };
    let whole = spans(&free, family).flat_map(|(low, high)| {
        let first = low.div_ceil(size).saturating_mul(size);
        (0..number as u128)
            .map(move |place| first.saturating_add(place.saturating_mul(size)))
            .take_while(move |low| high.checked_sub(*low).is_some_and(|room| room >= size - 1))
    });
    let subnets = whole.filter_map(|low| IpNet::new(address(low, family), length).ok());
    subnets.take(number).collect()
}

/// What the plan says nothing of, outside: no uplink's own link, and nobody that is named.
fn unsaid(plan: &Plan) -> AddressSet {
    let exceptions = plan.exceptions().iter();
    let named = exceptions.flat_map(|one| [&one.from.addresses, &one.to.addresses]);
    let narrow = named.filter(|set| !set.has_most_of(plan.internet_addresses()));
    let known = [plan.gateway_outside(), plan.inside()].into_iter();
    let free = known
        .chain(narrow)
        .fold(plan.internet_addresses().clone(), |free, one| free.difference(one));
    let uplinks = plan.uplinks().iter().map(|uplink| uplink.own());
    uplinks.fold(free, |free, own| free.difference(&own))
}

/// Addresses for documentation belong to nobody (RFC 5737, RFC 3849).
fn nobodys() -> AddressSet {
    DOCUMENTATION.iter().filter_map(|word| AddressSet::from_word(word)).collect()
}

/// The addresses of a network that a tester may take: no host's, and none that a lease may give.
fn free(plan: &Plan, id: NetworkId) -> AddressSet {
    let unnamed = plan.unnamed_addresses(id);
    let pool = plan.network(id).pool.map(|pool| {
        let (first, last) = (pool.first(), pool.last());
        AddressSet::range(first.into(), last.into())
    });
    unnamed.difference(&pool.unwrap_or_default())
}

/// Everything that rules and exceptions tell from its neighbours.
fn places(rules: &RuleSet) -> Vec<AddressSet> {
    let plan = rules.plan();
    let packets = rules.rules().filter_map(|rule| rule.packets());
    let ruled = packets.flat_map(|packets| [packets.source.clone(), packets.destination.clone()]);
    let meant = plan.exceptions().iter().flat_map(|one| [&one.from.addresses, &one.to.addresses]);
    ruled.chain(meant.cloned()).collect()
}

fn bits(address: IpAddr) -> u128 {
    match address {
        IpAddr::V4(address) => address.to_bits().into(),
        IpAddr::V6(address) => address.to_bits(),
    }
}

fn address(bits: u128, family: Family) -> IpAddr {
    match family {
        Family::V6 => Ipv6Addr::from_bits(bits).into(),
        Family::V4 => Ipv4Addr::from_bits(u32::try_from(bits).unwrap_or(u32::MAX)).into(),
    }
}

/// The spans of a set in a family.
fn spans(set: &AddressSet, family: Family) -> impl Iterator<Item = (u128, u128)> {
    let ranges = set.ranges().filter(move |(low, _)| Family::of(*low) == family);
    ranges.map(|(low, high)| (bits(low), bits(high))).collect::<Vec<_>>().into_iter()
}

/// Where something else begins, within a network: the first address behind each border.
fn borders(places: &[AddressSet], network: &AddressSet, family: Family) -> BTreeSet<u128> {
    let mut found = BTreeSet::new();
    for place in places {
        for (low, high) in spans(&place.intersection(network), family) {
            found.insert(low);
            found.extend(high.checked_add(1));
        }
    }
    found
}

/// One address between each two borders, the last one first: high addresses are the least likely to be in use.
fn one_between(free: &AddressSet, borders: &BTreeSet<u128>, family: Family) -> Vec<IpAddr> {
    let mut taken: Vec<IpAddr> = Vec::new();
    let mut edges: Vec<u128> = borders.iter().copied().collect();
    edges.insert(0, 0);
    for (place, low) in edges.iter().enumerate() {
        let high = edges.get(place + 1).map_or(u128::MAX, |next| next - 1);
        let here = spans(free, family).filter(|(a, b)| *a <= high && *b >= *low);
        // A border is best seen from just beside it.
        let best = here.map(|(_, b)| b.min(high)).last();
        taken.extend(best.map(|bits| address(bits, family)));
    }
    let widest = spans(free, family).max_by_key(|(low, high)| high - low).map(|(_, high)| high);
    let first = widest.map(|bits| address(bits, family));
    let mut found: Vec<IpAddr> = first.into_iter().collect();
    let step = taken.len().div_ceil(MOST_ADDRESSES - 1).max(1);
    found.extend(taken.into_iter().step_by(step));
    let mut seen = BTreeSet::new();
    found.retain(|address| seen.insert(*address));
    found
}

/// What is asked for, on the service line, by family: each border from both sides.
#[derive(Clone, Debug, Default)]
struct Points {
    v4: BTreeSet<ServicePoint>,
    v6: BTreeSet<ServicePoint>,
}

impl Points {
    /// Adds the ends of what is meant, and not what lies beside it.
    fn add_within(&mut self, set: &ServiceSet) {
        for (line, points) in [(&set.v4, &mut self.v4), (&set.v6, &mut self.v6)] {
            points.extend(line.spans().iter().flat_map(|(low, high)| [*low, *high]));
        }
    }

    /// Adds the ends of what is meant, and what lies just beside them.
    fn add(&mut self, set: &ServiceSet) {
        for (line, points) in [(&set.v4, &mut self.v4), (&set.v6, &mut self.v6)] {
            for (low, high) in line.spans().iter().copied() {
                let all = [low.previous(), Some(low), Some(high), high.next()];
                points.extend(all.into_iter().flatten());
            }
        }
    }

    /// Those that can be asked for.
    fn in_family(&self, family: Family) -> impl Iterator<Item = ServicePoint> + '_ {
        let points = match family {
            Family::V4 => &self.v4,
            Family::V6 => &self.v6,
        };
        points.iter().filter_map(move |point| asked(*point, family))
    }
}

/// What can be asked for between two ends: TCP and UDP, but for what addresses are asked for with, and echo. In other protocols
/// nothing tells one conversation from another between the same two, so that one that is allowed would seem to let another
/// through.
fn asked(point: ServicePoint, family: Family) -> Option<ServicePoint> {
    let leases = [67, 68, 546, 547];
    let fits = match (point.protocol(), point.destination_port(), point.icmp_kind()) {
        (_, Some(0), _) => false,
        (Protocol::UDP, Some(port), _) => !leases.contains(&port),
        (Protocol::TCP, Some(_), _) => true,
        (_, _, Some(_)) => point == ServicePoint::echo(family),
        _ => false,
    };
    fits.then_some(point)
}

/// What packets ask for that rules tell apart at an address, from those that its neighbours ask for.
struct Services {
    /// Of the catalogue, and of all rules.
    all: Points,
    few: Points,
    /// Of each rule and exception, with what it tells apart.
    by_place: Vec<(Match, Points)>,
}

impl Services {
    fn of(rules: &RuleSet) -> Self {
        let plan = rules.plan();
        let (mut all, mut few) = (Points::default(), Points::default());
        BUILT_IN.iter().for_each(|service| all.add_within(&service.set()));
        all.add_within(&ServiceSet::echo());
        for port in SPREAD {
            for protocol in [Protocol::TCP, Protocol::UDP] {
                all.add_within(&ServiceSet::ports(protocol, port, port));
            }
        }
        few.add_within(&ServiceSet::echo());
        for port in FEW {
            few.add_within(&ServiceSet::ports(Protocol::TCP, port, port));
        }
        for inbound in plan.inbounds() {
            all.add(&inbound.outside);
        }
        let mut by_place = Vec::new();
        for packets in rules.rules().filter_map(|rule| rule.packets()) {
            let mut points = Points::default();
            points.add(&packets.service);
            all.add(&packets.service);
            by_place.push((packets.clone(), points));
        }
        for service in plan.exceptions().iter().map(|exception| &exception.service.set) {
            all.add(service);
        }
        Self { all, few, by_place }
    }

    /// What to ask an address for, or from it, that is not like all others in its network.
    fn at(&self, address: IpAddr, network: &AddressSet, is_source: bool) -> BTreeSet<ServicePoint> {
        let family = Family::of(address);
        let mut found: BTreeSet<ServicePoint> = self.few.in_family(family).collect();
        let at = bits(address);
        let near = [Some(at), at.checked_add(1), at.checked_sub(1)].into_iter().flatten();
        let near: Vec<IpAddr> = near.map(|bits| self::address(bits, family)).collect();
        for (packets, points) in &self.by_place {
            let place = if is_source { &packets.source } else { &packets.destination };
            // What is for all of the network is asked for from the end that stands for all of it.
            if !network.is_subset(place) && near.iter().any(|one| place.contains(*one)) {
                found.extend(points.in_family(family));
            }
        }
        found
    }
}

/// The packets of a sweep between these ends at one minute of the week: every pair, by every service of the catalogue
/// and on both sides of every border of a rule.
///
/// `outside` holds ends outside, one for each family. Packets that never reach the gateway, or that no end can send,
/// are left out.
pub fn packets(
    meaning: &Meaning<'_>,
    rules: &RuleSet,
    ends: &[End],
    outside: &[End],
    at: Minute,
) -> Vec<Packet> {
    let plan = meaning.plan();
    let services = Services::of(rules);
    let mut sweep = Sweep { plan, at, found: BTreeSet::new() };
    let (plain, special) = by_kind(ends);
    for from in plain.iter().chain(outside) {
        let family = Family::of(from.address);
        let all: Vec<ServicePoint> = services.all.in_family(family).collect();
        let targets = plain.iter().chain(outside).map(|end| end.address);
        for to in targets.chain(gateways(plan, *from)) {
            all.iter().for_each(|service| sweep.add(*from, to, *service));
        }
    }
    for end in special {
        let network = plan.network_on(end.interface).map(|id| plan.network_addresses(id));
        let network = network.cloned().unwrap_or_default();
        let (sent, asked) =
            (services.at(end.address, &network, true), services.at(end.address, &network, false));
        for other in plain.iter().chain(outside) {
            sent.iter().for_each(|service| sweep.add(end, other.address, *service));
            asked.iter().for_each(|service| sweep.add(*other, end.address, *service));
        }
        for gateway in gateways(plan, end) {
            sent.iter().for_each(|service| sweep.add(end, gateway, *service));
        }
    }
    for (from, to) in plain.iter().flat_map(|from| nowhere(plan).map(|to| (*from, to))) {
        services.few.in_family(Family::of(to)).for_each(|service| sweep.add(from, to, service));
    }
    sweep.rules(rules, ends, outside);
    sweep.spoofed(meaning, &plain, outside);
    sweep.found.into_iter().collect()
}

/// Private addresses that lead nowhere (RFC 1918, RFC 4193): nothing for them may leave the site.
fn nowhere(plan: &Plan) -> impl Iterator<Item = IpAddr> {
    let known = plan.uplinks().iter().map(|uplink| uplink.own());
    let known = known.chain(plan.routes().iter().map(|route| route.reach.clone()));
    let known = known.fold(plan.inside().clone(), |all, one| all.union(&one));
    let in_family = |family: Family| {
        let private = NOWHERE.iter().filter_map(|word| AddressSet::from_word(word));
        let free: AddressSet = private.map(|one| one.difference(&known)).collect();
        let last = spans(&free, family).last();
        last.map(|(low, high)| address(high.saturating_sub(1).max(low), family))
    };
    Family::ALL.into_iter().filter_map(in_family).collect::<Vec<_>>().into_iter()
}

/// The first end in each network and family, and all others.
fn by_kind(ends: &[End]) -> (Vec<End>, Vec<End>) {
    let mut seen = BTreeSet::new();
    ends.iter().copied().partition(|end| seen.insert((end.interface, Family::of(end.address))))
}

/// The gateway's addresses that an end asks: its own there, one of another network, and those outside.
fn gateways(plan: &Plan, from: End) -> Vec<IpAddr> {
    let family = Family::of(from.address);
    let own = plan.network_on(from.interface);
    let in_network = |id: NetworkId| plan.network(id).subnet(family).map(Subnet::gateway);
    let others =
        plan.network_ids().filter(|id| Some(*id) != own && plan.network(*id).tunnel.is_none());
    let mut found: Vec<IpAddr> = own.and_then(in_network).into_iter().collect();
    found.extend(others.filter_map(in_network).take(1));
    let outside = plan.uplinks().iter().map(|uplink| uplink.gateway());
    found.extend(outside.filter_map(|gateway| example::first(&gateway, family)));
    found
}

struct Sweep<'p> {
    plan: &'p Plan,
    at: Minute,
    found: BTreeSet<Packet>,
}

impl Sweep<'_> {
    fn add(&mut self, from: End, to: IpAddr, service: ServicePoint) {
        let Some(ends) = Ends::new(from.address, to).filter(|_| from.address != to) else { return };
        let network = self.plan.network_on(from.interface);
        let gateway = self.plan.gateway_inside().contains(to);
        if network.is_some() && self.plan.network_of(to) == network && !gateway {
            return;
        }
        self.found.insert(Packet { enters: from.interface, ends, service, at: self.at });
    }

    /// What is let through from an end of one network, once from each other network, and from outside, with that end's
    /// address: spoofed (RFC 2827).
    fn spoofed(&mut self, meaning: &Meaning<'_>, plain: &[End], outside: &[End]) {
        // One inside and one outside: from where it goes, it would not pass the gateway.
        let mut allowed: BTreeMap<(End, bool), Packet> = BTreeMap::new();
        for packet in &self.found {
            let own = End { interface: packet.enters, address: packet.source() };
            let inside = self.plan.network_of(packet.destination()).is_some();
            let to = packet.destination();
            let stays = self.plan.is_gateway(to);
            if plain.contains(&own) && !stays && !allowed.contains_key(&(own, inside)) {
                let passes = meaning.decide(packet).verdict == Verdict::Allow;
                if passes {
                    allowed.insert((own, inside), *packet);
                }
            }
        }
        self.posing(plain);
        for ((own, _), packet) in allowed {
            let alike =
                outside.iter().filter(|end| Family::of(end.address) == Family::of(own.address));
            let others: BTreeSet<Interface> =
                plain.iter().chain(alike).map(|end| end.interface).collect();
            let reaches = self.plan.network_of(packet.destination());
            for enters in others.into_iter().filter(|other| *other != own.interface) {
                if reaches.is_none_or(|id| self.plan.network_interface(id) != enters) {
                    self.found.insert(Packet { enters, ..packet });
                }
            }
        }
    }

    /// From each network once with an address of another, to a third: what lets sources through without looking lets that through.
    fn posing(&mut self, plain: &[End]) {
        let interfaces: BTreeSet<Interface> = plain.iter().map(|end| end.interface).collect();
        let sides = interfaces.iter().flat_map(|one| Family::ALL.map(|family| (*one, family)));
        for (enters, family) in sides {
            let mut others = plain
                .iter()
                .filter(|end| end.interface != enters && Family::of(end.address) == family);
            let (Some(owner), Some(to)) = (others.next(), others.next_back()) else { continue };
            if let Some(ends) = Ends::new(owner.address, to.address) {
                self.found.insert(Packet {
                    enters,
                    ends,
                    service: ServicePoint::echo(family),
                    at: self.at,
                });
            }
        }
    }

    /// Each rule by itself: from ends that it means and from some that it does not, to some of each, by each border of what it
    /// allows or blocks.
    fn rules(&mut self, rules: &RuleSet, ends: &[End], outside: &[End]) {
        let all: Vec<End> = ends.iter().chain(outside).copied().collect();
        for packets in rules.rules().filter_map(|rule| rule.packets()) {
            let mut points = Points::default();
            points.add(&packets.service);
            let entering = |end: &&End| packets.enters.contains(end.interface);
            let means = |end: &&End| packets.source.contains(end.address);
            let to = |end: &&End| packets.destination.contains(end.address);
            for family in Family::ALL {
                let here = || all.iter().filter(|end| Family::of(end.address) == family);
                let from = here().filter(entering).filter(means).take(2);
                let beside = here().filter(entering).filter(|end| !means(end)).take(1);
                let meant: Vec<IpAddr> = here().filter(to).take(3).map(|end| end.address).collect();
                for end in from.chain(beside) {
                    for service in points.in_family(family) {
                        meant.iter().for_each(|to| self.add(*end, *to, service));
                    }
                }
            }
        }
    }
}
