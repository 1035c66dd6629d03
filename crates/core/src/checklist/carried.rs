//! The list that one person carries.
//!
//! Each topic (a guarantee, an exception, what a network needs) gets the check that costs least on the route that the
//! walk takes anyway; a topic that cannot be tried that way is reported as not tried. A check that expects silence
//! needs a *control*, a check that shows the other end to be alive, and gets one if the list has none yet. The time
//! that is left goes to the checks that show most mistakes per minute.

use super::candidate::Candidate;
use super::control::{controls, needs_one, shows_own_end};
use super::places::tcp;
use super::time::{ADDRESS, MOVE, Point, SET_UP, capped};
use super::topics::topics;
use super::write::Writer;
use super::{
    Check, Checklist, Expect, Generator, NotTried, Probe, SetUp, Stand, Standpoint, control, looks,
    stands, time,
};
use crate::example;
use crate::plan::{NetworkId, ZoneId};
use crate::space::{Ends, Interface, IntervalSet, Match, Packet, Protocol, ServicePoint};
use crate::verdict::Verdict;
use std::collections::{HashMap, HashSet};
use std::net::IpAddr;

/// So many checks there are for each test point, where the topics leave room for more.
const PER_POINT: usize = 6;
/// How many mistakes it is worth to try a way on which nothing is tried yet.
const PAIR: usize = 3;
/// How many times as bad it is if something gets through as if something does not.
const OPENING: usize = 2;
/// So many seconds a mistake is worth that a check shows where another one would not, and so many in all.
const SAVED: u32 = 3;
const MOST_SAVED: u32 = 40;
/// So many addresses are tried for a reply to the own end.
const MOST_TARGETS: usize = 8;
/// Seconds that a control may cost.
const CONTROL: u32 = 120;

/// Chooses from what can be tried, and from the whole list.
pub(super) fn carried(generator: &Generator<'_>, full: Checklist) -> Checklist {
    let mut walk = Walk::new(generator);
    let (topics, mut not_tried) = topics(generator);
    for topic in topics {
        if let Err(why) = walk.take_best(topic.candidates) {
            not_tried.push(NotTried { what: topic.what, why: why.words().to_owned() });
        }
    }
    walk.add_controls();
    walk.add_own_ends();
    walk.fill(full.stands.iter().flat_map(|stand| &stand.checks));
    let mut checks = walk.checks;
    name_apart(&mut checks, &full);
    let mut stands = stands(generator.meaning, checks);
    in_order(&mut stands);
    control::find(&mut stands);
    time::number(&mut stands);
    let mut strength = full.strength;
    let all = stands.iter().flat_map(|stand| &stand.checks);
    strength.measure_again(all.flat_map(|check| check.shows.iter().copied()).collect());
    Checklist { stands, strength, least: full.least, not_tried }
}

/// A check that is made in another way than the one of that name in the whole list has a name of its own, so that results of
/// the one are none of the other.
fn name_apart(checks: &mut [Check], full: &Checklist) {
    let all = full.stands.iter().flat_map(|stand| &stand.checks);
    let whole: HashMap<&str, &Check> = all.map(|check| (check.id.as_str(), check)).collect();
    for check in checks {
        let other = whole.get(check.id.as_str());
        if other.is_some_and(|other| (other.packet, other.probe) != (check.packet, check.probe)) {
            check.id.push_str("/carried");
        }
    }
}

/// The order of the walk: what needs the second laptop comes late, so that it is put up once, and the outside last. At each
/// test point first as any device, then with addresses of others; and first what makes it one of the network, then what is
/// promised.
fn in_order(stands: &mut [Stand]) {
    let points: Vec<Point> = stands.iter().map(|stand| stand.standpoint.point()).collect();
    let with_second: HashSet<Point> = stands
        .iter()
        .filter(|stand| stand.checks.iter().any(|check| check.set_up().is_some()))
        .map(|stand| stand.standpoint.point())
        .collect();
    stands.sort_by_cached_key(|stand| {
        let point = stand.standpoint.point();
        let plain = matches!(stand.standpoint, Standpoint::Network(_) | Standpoint::Outside);
        let first = points.iter().position(|known| *known == point);
        (stand.standpoint.network().is_none(), with_second.contains(&point), first, !plain)
    });
    for stand in stands {
        stand
            .checks
            .sort_by_key(|check| (check.probe != Probe::Lease, !check.guarantee, !check.needed));
    }
}

/// Seconds that a silence without control counts more: another one is better.
const WITHOUT: u32 = 400;

/// Why none of the ways to try something can be carried, the nearest to being possible last.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Why {
    /// Nobody on the site can send it.
    NoWay,
    /// It looks like another check, and only the source or the uplink by which it comes is another.
    Alike,
    /// Only an owner of an address on the internet can send it.
    OthersAddress,
    /// It takes a server of a kind that the plan does not name.
    Server,
    /// By UDP, which nothing answers that the plan names.
    NoAnswer,
    /// It takes a second laptop in another network than others do.
    OtherSecond,
}

impl Why {
    fn words(self) -> &'static str {
        match self {
            Self::NoWay => "no device of the site can send it so that its answer shows anything",
            Self::Alike => "it would look like a check that is in the list",
            Self::OthersAddress => "only whoever has that address on the internet can send it",
            Self::Server => "it takes a server that the plan does not name",
            Self::NoAnswer => "it goes by UDP, and nothing that the plan names answers there",
            Self::OtherSecond => "it takes another laptop in a network where none stands",
        }
    }
}

struct Walk<'w, 'm> {
    generator: &'w Generator<'m>,
    writer: Writer<'w, 'm>,
    checks: Vec<Check>,
    /// The mistakes that some of them shows.
    caught: HashSet<u32>,
    packets: HashSet<(Packet, Probe)>,
    looks: HashSet<String>,
    points: HashSet<Point>,
    places: HashSet<Standpoint>,
    set_up: HashSet<IpAddr>,
    /// Where the second laptop stands.
    second: Option<NetworkId>,
}

impl<'w, 'm> Walk<'w, 'm> {
    fn new(generator: &'w Generator<'m>) -> Self {
        Self {
            generator,
            writer: Writer::new(generator.meaning, &generator.shown.lists),
            checks: Vec::new(),
            caught: HashSet::new(),
            packets: HashSet::new(),
            looks: HashSet::new(),
            points: HashSet::new(),
            places: HashSet::new(),
            set_up: HashSet::new(),
            second: None,
        }
    }

    /// What a check adds to the walk, in seconds.
    fn cost(&self, check: &Check) -> Result<u32, Why> {
        if matches!(check.standpoint, Standpoint::OutsideAt(_) | Standpoint::OutsideBy(..)) {
            return Err(Why::OthersAddress);
        }
        // A tester would take the two for one.
        if self.looks.contains(&looks(check)) {
            return Err(Why::Alike);
        }
        let set_up = match check.set_up() {
            None => 0,
            Some(SetUp::Server(..)) => return Err(Why::Server),
            Some(SetUp::Device(at) | SetUp::Listener(at, _)) => self.second_at(at)?,
        };
        let udp = matches!(check.probe, Probe::Udp(_));
        if udp && check.expect == Expect::Reply && check.set_up().is_none() {
            return Err(Why::NoAnswer);
        }
        let moved = match (
            self.points.contains(&check.standpoint.point()),
            self.places.contains(&check.standpoint),
        ) {
            (false, _) => MOVE,
            (true, false) => ADDRESS,
            (true, true) => 0,
        };
        // Of two that cost the same, IPv4 and any hour are the more ordinary.
        let odd = u32::from(check.packet.source().is_ipv6()) + 60 * u32::from(check.when.is_some());
        Ok(check.seconds() + moved + set_up + odd)
    }

    /// What it costs to have the second laptop at an address.
    fn second_at(&self, at: IpAddr) -> Result<u32, Why> {
        let network = self.generator.meaning.plan().network_of(at).ok_or(Why::Server)?;
        match self.second {
            Some(second) if second != network => Err(Why::OtherSecond),
            _ if self.set_up.contains(&at) => Ok(0),
            Some(_) => Ok(ADDRESS),
            None => Ok(SET_UP),
        }
    }

    fn take(&mut self, check: Check) {
        self.points.insert(check.standpoint.point());
        self.places.insert(check.standpoint.clone());
        if let Some(at) = check.set_up_at() {
            self.second = self.generator.meaning.plan().network_of(at);
            self.set_up.insert(at);
        }
        self.packets.insert((check.packet, check.probe));
        self.looks.insert(looks(&check));
        self.caught.extend(&check.shows);
        self.checks.push(check);
    }

    fn has(&self, check: &Check) -> bool {
        self.packets.contains(&(check.packet, check.probe))
    }

    fn written(&self, mut candidate: Candidate) -> Option<Check> {
        let decision = self.generator.meaning.decide(&candidate.packet);
        if decision.verdict.is_filtered() {
            candidate.shows = self.generator.shown.by(&candidate.packet);
        }
        self.writer.check(candidate)
    }

    /// Takes the best of several checks: that which costs least, where seconds are saved elsewhere for each mistake that no
    /// other check shows yet.
    fn take_best(&mut self, candidates: Vec<Candidate>) -> Result<(), Why> {
        let mut best: Option<(u32, Check)> = None;
        let mut why = Why::NoWay;
        for check in candidates.into_iter().filter_map(|candidate| self.written(candidate)) {
            if self.has(&check) {
                return Ok(());
            }
            let new = self.new_in(&check);
            // No cost is below zero, however much is shown.
            let worth =
                |cost: u32| (cost + MOST_SAVED) - SAVED.saturating_mul(capped(new)).min(MOST_SAVED);
            match self.cost_with_control(&check).map(worth) {
                Ok(cost) if best.as_ref().is_none_or(|(least, _)| cost < *least) => {
                    best = Some((cost, check));
                }
                Ok(_) => {}
                Err(not) => why = why.max(not),
            }
        }
        self.take(best.ok_or(why)?.1);
        Ok(())
    }

    /// How many mistakes a check shows that no other does yet.
    fn new_in(&self, check: &Check) -> usize {
        check.shows.iter().filter(|mistake| !self.caught.contains(mistake)).count()
    }

    /// Adds a check for each silence that nothing else makes evidence, as far as one is near enough.
    fn add_controls(&mut self) {
        let silent: Vec<Check> =
            self.checks.iter().filter(|check| needs_one(check)).cloned().collect();
        for silent in silent {
            if self.is_evidence(&silent) {
                continue;
            }
            if let Some((_, check)) = self.control_for(&silent).filter(|(cost, _)| *cost <= CONTROL)
            {
                self.take(check);
            }
        }
    }

    /// Adds a check that must get a reply for each address from which only silence is expected: from a dead socket it would
    /// come, too.
    fn add_own_ends(&mut self) {
        let silent: Vec<Check> =
            self.checks.iter().filter(|check| needs_one(check)).cloned().collect();
        for silent in silent {
            if self.own_end_lives(&silent) {
                continue;
            }
            if let Some(check) = self.own_end_for(&silent) {
                self.take(check);
            }
        }
    }

    /// A check from the address of another one that must get a reply: by the gateway where there is one.
    fn own_end_for(&self, silent: &Check) -> Option<Check> {
        let (source, family) = (silent.packet.source(), silent.packet.family());
        let asked = Match {
            enters: IntervalSet::point(silent.packet.enters),
            source: source.into(),
            ..Match::everything()
        };
        let plan = self.generator.meaning.plan();
        let udp = [53, 123].map(|port| ServicePoint::port(Protocol::UDP, port));
        let services =
            [ServicePoint::echo(family)].into_iter().chain(udp).chain([tcp(443), tcp(80)]);
        let services: Vec<ServicePoint> = services.collect();
        let mut found: Vec<(u32, Check)> = Vec::new();
        for product in self.generator.places.within(&asked).products() {
            let line = product.service.line(family);
            let gateway = product.destination.intersection(plan.gateway_inside());
            let sets = [gateway, product.destination.clone()];
            let targets = sets.iter().flat_map(|set| example::candidates(plan, set, family));
            let Some(at) = product.at.first() else { continue };
            for target in targets.take(MOST_TARGETS) {
                let Some(ends) = Ends::new(source, target) else { continue };
                for service in services.iter().filter(|one| line.contains(**one)) {
                    let packet = Packet { at, ..Packet::new(silent.packet.enters, ends, *service) };
                    let shows = |check: &Check| shows_own_end(check, silent);
                    found.extend(self.reply_by(packet, silent).filter(|(_, check)| shows(check)));
                }
            }
        }
        found.into_iter().min_by_key(|(cost, _)| *cost).map(|(_, check)| check)
    }

    /// The cheapest check whose reply makes a silence evidence, with what it costs.
    fn control_for(&self, silent: &Check) -> Option<(u32, Check)> {
        let plan = self.generator.meaning.plan();
        let family = silent.packet.family();
        let destination = silent.packet.destination();
        let asked = Match { destination: destination.into(), ..Match::everything() };
        let mut services = vec![silent.packet.service];
        if silent.is_to_gateway {
            let udp = [53, 123].map(|port| ServicePoint::port(Protocol::UDP, port));
            services.extend([ServicePoint::echo(family)].into_iter().chain(udp));
        }
        let mut best: Option<(u32, Check)> = None;
        for product in self.generator.places.within(&asked).products() {
            let line = product.service.line(family);
            let (Some(enters), Some(at)) = (product.enters.first(), product.at.first()) else {
                continue;
            };
            let services = services.iter().filter(|service| line.contains(**service));
            let sources = example::sources(plan, &product.source, family).into_iter().take(2);
            let ends: Vec<Ends> =
                sources.filter_map(|source| Ends::new(source, destination)).collect();
            for (service, ends) in services.flat_map(|one| ends.iter().map(move |ends| (one, ends)))
            {
                let packet = Packet { at, ..Packet::new(enters, *ends, *service) };
                let control = self.reply_by(packet, silent);
                let control = control.filter(|(_, check)| controls(check, silent));
                let Some((cost, check)) = control else { continue };
                if best.as_ref().is_none_or(|(least, _)| cost < *least) {
                    best = Some((cost, check));
                }
            }
        }
        best
    }

    /// The check of a packet that must get a reply, with what it costs.
    fn reply_by(&self, packet: Packet, silent: &Check) -> Option<(u32, Check)> {
        let allowed = self.generator.meaning.decide(&packet).verdict == Verdict::Allow;
        let probe = Probe::of(&packet).filter(|_| allowed)?;
        let id = format!("control.{}", silent.id.replace('/', "."));
        let check = self.written(Candidate::new(id, packet, probe))?;
        let cost = self.cost(&check).ok()?;
        Some((cost, check))
    }

    /// What a check adds to the walk together with the control that it needs.
    fn cost_with_control(&self, check: &Check) -> Result<u32, Why> {
        let cost = self.cost(check)?;
        if !needs_one(check) || self.is_evidence(check) {
            return Ok(cost);
        }
        // Where it will be made from is on the way in the end.
        Ok(cost + if self.control_for(check).is_some() { check.seconds() } else { WITHOUT })
    }

    /// From where to where a check goes.
    fn pair(&self, check: &Check) -> (Interface, ZoneId) {
        let plan = self.generator.meaning.plan();
        (check.packet.enters, plan.zone_to(check.packet.destination()))
    }

    /// Adds what shows most for its time, on the way that the walk takes anyway.
    fn fill<'c>(&mut self, all: impl Iterator<Item = &'c Check>) {
        let plain = |check: &&Check| {
            let odd = matches!(check.probe, Probe::Udp(_) | Probe::Browse | Probe::Tcp(53));
            check.set_up().is_none() && check.when.is_none() && !odd
        };
        let on_the_way = |check: &&Check| {
            self.places.contains(&check.standpoint)
                && !self.has(check)
                && (!needs_one(check) || self.own_end_lives(check))
        };
        // Each with whether its silence, if it is one, is evidence.
        let mut left: Vec<(&Check, bool)> = all
            .filter(plain)
            .filter(on_the_way)
            .map(|check| (check, !needs_one(check) || self.is_evidence(check)))
            .collect();
        let mut pairs: HashSet<(Interface, ZoneId)> =
            self.checks.iter().map(|check| self.pair(check)).collect();
        while self.checks.len() < PER_POINT * self.points.len() {
            let worth = |(check, is_evidence): &(&Check, bool)| {
                let opens = check.expect != Expect::Reply;
                let pair = if pairs.contains(&self.pair(check)) { 0 } else { PAIR };
                let worth = pair + if opens { OPENING } else { 1 } * self.new_in(check);
                if *is_evidence { worth * 1_000 / check.seconds() as usize } else { 0 }
            };
            let best = left.iter().enumerate().map(|(place, one)| (worth(one), place)).max();
            let Some((_, place)) = best.filter(|(worth, _)| *worth > 0) else { return };
            let (best, _) = left.remove(place);
            if self.cost(best).is_err() {
                continue;
            }
            pairs.insert(self.pair(best));
            left.iter_mut().for_each(|(check, is)| *is |= controls(best, check));
            self.take(best.clone());
        }
    }

    /// Whether a check of the list shows that the other end of a silence is there.
    fn is_evidence(&self, silent: &Check) -> bool {
        self.checks.iter().any(|control| controls(control, silent))
    }

    /// Whether one shows that of its own end.
    fn own_end_lives(&self, silent: &Check) -> bool {
        self.checks.iter().any(|reply| shows_own_end(reply, silent))
    }
}
