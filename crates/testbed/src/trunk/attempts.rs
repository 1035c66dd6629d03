//! From packets to conversations, and from their outcomes to faults.

use super::judge::{Expected, Far, Shown, Source, Why, Wrong, is_private};
use super::rounds::{Attempt, Outcome};
use super::stand::Stand;
use crate::cable::{Answer, Ask, Came, Conversation, Words};
use bastium_core::checklist::{self, Check, Expect, Probe};
use bastium_core::space::{Ends, Family, Interface, Packet, Protocol, ServicePoint};
use bastium_core::sweep;
use bastium_core::verdict::{Decision, Verdict};
use std::collections::BTreeMap;
use std::io;
use std::net::IpAddr;

/// How far from the border of an hour something is tried, in minutes, at the least: clocks differ.
const MINUTES: u16 = 10;
/// And so many conversations it takes, at most, until all are tried.
const CONVERSATIONS: u32 = 100_000;
/// The longest that is asked about, in minutes.
const DAY: u32 = 24 * 60;
/// Why something was not tried.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Untried {
    /// The network is not reached from here, by its name.
    Unreached(String),
    /// It takes an end outside.
    NoOutside,
    /// It takes a device that is not there, and that nobody stands in for.
    Absent(IpAddr),
    /// Somebody else has the address that it is to come from.
    Taken(IpAddr),
    /// It goes to whatever a name leads to.
    ByName,
    /// It is for another hour.
    OtherHour,
    /// It takes a person.
    Person,
    /// A real device would have to understand it, and nobody here speaks its language.
    Unspoken,
    /// It comes by one uplink from an address on the link of another, so that its answers leave there.
    OtherUplink(IpAddr),
    /// The gateway's address outside is not known.
    UnknownOutside,
}

/// A check, and what it has shown.
#[derive(Clone, Debug)]
pub struct Tried {
    /// Its test point, by its place in the list.
    pub stand: usize,
    /// The check, by its place there.
    pub check: usize,
    /// What it has shown, or why it was not tried.
    pub shown: Result<Shown, Untried>,
    /// What came, where something was tried.
    pub came: Came,
    /// How often it was tried.
    pub tries: u32,
}

/// Something that is not as planned.
#[derive(Clone, Debug)]
pub struct Surprise {
    /// The packet.
    pub packet: Packet,
    /// What the plan means for it.
    pub decision: Decision,
    /// What is wrong.
    pub wrong: Wrong,
    /// What came.
    pub came: Came,
}

/// What a sweep has come to.
#[derive(Clone, Debug, Default)]
pub struct Swept {
    /// How many conversations there were.
    pub tried: usize,
    /// How many of them were as planned.
    pub as_planned: usize,
    /// How many showed nothing, by reason.
    pub nothing: BTreeMap<Why, usize>,
    /// How many could not be tried, by reason.
    pub untried: BTreeMap<Untried, usize>,
    /// What is not as planned.
    pub surprises: Vec<Surprise>,
}

impl Attempt {
    /// The same as what a check of a list expects: where that is a reply of the gateway in a language that is spoken here, a
    /// refusal is none.
    fn of_check(mut self, check: &Check) -> Self {
        let service = check.packet.service;
        let is_tcp = service.protocol() == Protocol::TCP;
        if let Far::Gateway { answers } = &mut self.expected.far {
            let spoken = is_tcp || is_echo(service) || spoken(service).is_some();
            *answers = spoken && check.expect == Expect::Reply;
        }
        self
    }
}

impl Stand<'_, '_> {
    /// Makes the checks of a list that can be made from here.
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn list(
        &mut self,
        stands: &[checklist::Stand],
        progress: &mut dyn FnMut(usize, usize),
    ) -> io::Result<Vec<Tried>> {
        let mut tried = Vec::new();
        let mut attempts = Vec::new();
        for (stand, at) in stands.iter().enumerate() {
            for (check, one) in at.checks.iter().enumerate() {
                let number = tried.len();
                let made = self.check(one).and_then(|packet| self.attempt(number, &packet));
                let made = made.map(|attempt| attempt.of_check(one));
                let shown = match made {
                    Ok(attempt) => {
                        attempts.push(attempt);
                        Ok(Shown::Nothing(Why::NotSent))
                    }
                    Err(why) => Err(why),
                };
                tried.push(Tried { stand, check, shown, came: Came::default(), tries: 0 });
            }
        }
        for (number, outcome) in self.make(attempts, false, progress)? {
            let one = &mut tried[number];
            let check = &stands[one.stand].checks[one.check];
            let replied =
                check.expect != Expect::Reply || outcome.came.answer == Some(Answer::Reply);
            // A pass is a reply, and not only that nothing speaks against one.
            let shown = match outcome.shown {
                Shown::AsPlanned if !replied => Shown::Nothing(Why::NobodyAnswers),
                shown => shown,
            };
            (one.shown, one.came, one.tries) = (Ok(shown), outcome.came, outcome.tries);
        }
        Ok(tried)
    }

    /// Sweeps.
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn sweep(&mut self, progress: &mut dyn FnMut(usize, usize)) -> io::Result<Swept> {
        let outside = self.outside();
        let packets = sweep::packets(self.meaning, self.rules, &self.own, &outside, self.manner.at);
        let mut swept = Swept::default();
        let mut attempts = Vec::new();
        for (number, packet) in packets.iter().enumerate() {
            match self.attempt(number, packet) {
                // A device of the site gets nothing but the checks of the list.
                Ok(attempt) if attempt.expected.far == Far::Device => {}
                Ok(attempt) => attempts.push(attempt),
                Err(why) => *swept.untried.entry(why).or_default() += 1,
            }
        }
        swept.tried = attempts.len();
        let mut outcomes = self.make(attempts, true, progress)?;
        outcomes.sort_by_key(|(number, _)| *number);
        self.excuse(&packets, &mut outcomes);
        for (number, Outcome { shown, came, .. }) in outcomes {
            match shown {
                Shown::AsPlanned => swept.as_planned += 1,
                Shown::Nothing(why) => *swept.nothing.entry(why).or_default() += 1,
                Shown::Wrong(wrong) => {
                    let packet = packets[number];
                    let decision = self.meaning.decide(&packet);
                    swept.surprises.push(Surprise { packet, decision, wrong, came });
                }
            }
        }
        Ok(swept)
    }

    /// The packet of a check, as it can be sent from here and now.
    fn check(&self, check: &Check) -> Result<Packet, Untried> {
        match check.probe {
            Probe::Browse => return Err(Untried::Person),
            Probe::Lease => return Err(Untried::Person),
            _ => {}
        }
        if !check.may_be_made(self.meaning, self.manner.at) {
            return Err(Untried::OtherHour);
        }
        let packet = Packet { at: self.manner.at, ..check.packet };
        Ok(self.with_own_ends(&packet))
    }

    /// The same packet between ends of ours, where any device of a network may be one of them.
    fn with_own_ends(&self, packet: &Packet) -> Packet {
        let same = |other: &Packet| {
            let (one, other) = (self.meaning.decide(packet), self.meaning.decide(other));
            one == other
        };
        let plan = self.plan();
        let mut best = *packet;
        let source = packet.source();
        let nobodys = |address: IpAddr| plan.host_at(address).is_none();
        if nobodys(source) {
            let here = self.own.iter().filter(|end| end.interface == packet.enters);
            let others = here.filter_map(|end| Ends::new(end.address, packet.destination()));
            let mut fitting = others.map(|ends| Packet { ends, ..best }).filter(same);
            best = fitting.next().unwrap_or(best);
        }
        let network = plan.network_of(packet.destination());
        let gateway = plan.gateway_inside().contains(packet.destination());
        if let Some(id) = network.filter(|_| !gateway && nobodys(packet.destination())) {
            let here = self.own.iter().filter(|end| end.interface == plan.network_interface(id));
            let others = here.filter_map(|end| Ends::new(best.source(), end.address));
            let mut fitting = others.map(|ends| Packet { ends, ..best }).filter(same);
            best = fitting.next().unwrap_or(best);
        }
        best
    }

    /// The conversation that a packet begins, and what is expected of it.
    fn attempt(&mut self, number: usize, packet: &Packet) -> Result<Attempt, Untried> {
        let plan = self.plan();
        let named =
            |address| plan.domains().iter().any(|one| one.placeholder.set().contains(address));
        if named(packet.source()) || named(packet.destination()) {
            return Err(Untried::ByName);
        }
        let lane = self.lane(packet.enters)?;
        let from = packet.source();
        if self.lanes.lanes[lane].outside && self.ends.gateway_of(lane, Family::of(from)).is_none()
        {
            return Err(Untried::UnknownOutside);
        }
        let near = self.source(lane, from)?;
        let decision = self.meaning.decide(packet);
        self.stays(packet, decision.verdict)?;
        let inner = Some(decision.verdict).filter(|verdict| *verdict == Verdict::Allow);
        let inner = inner.and_then(|_| self.meaning.translate(packet)).unwrap_or(*packet);
        let far = self.far(packet, &inner)?;
        let to = match plan.uplinks().iter().position(|uplink| {
            uplink.placeholder.is_some_and(|one| one.set().contains(packet.destination()))
        }) {
            Some(uplink) => self.gateway_outside(uplink, packet.family())?,
            None => packet.destination(),
        };
        let ask = ask(packet.service, &far)?;
        let own = match far {
            Far::Own { lane, address, .. } => Some((lane, address)),
            _ => None,
        };
        let conversation = Conversation { lane, from, near, to, ask, far: own };
        Ok(Attempt { number, conversation, expected: Expected { verdict: decision.verdict, far } })
    }

    /// Whether what is decided of a packet stays so for as long as all of this may take.
    fn stays(&self, packet: &Packet, verdict: Verdict) -> Result<(), Untried> {
        let takes = CONVERSATIONS / self.manner.pace.0.max(1) / 60;
        let until = i16::try_from((u32::from(MINUTES) + takes).min(DAY)).unwrap_or(i16::MAX);
        let near = (-MINUTES.cast_signed()..=until).step_by(MINUTES.into());
        let beside = near.chain([until]).map(|minutes| self.manner.at.moved(minutes));
        let mut others = beside.map(|at| self.meaning.decide(&Packet { at, ..*packet }).verdict);
        if others.all(|other| other == verdict) { Ok(()) } else { Err(Untried::OtherHour) }
    }

    fn lane(&self, interface: Interface) -> Result<usize, Untried> {
        let plan = self.plan();
        self.lanes.lane_of(interface).ok_or_else(|| match plan.network_on(interface) {
            Some(id) => Untried::Unreached(plan.network(id).name.to_string()),
            None => Untried::NoOutside,
        })
    }

    /// Our end that something comes from: at that address, if it is ours, or lies behind a router that we stand in for. What is
    /// spoofed comes from the first end that we have there.
    fn source(&mut self, lane: usize, address: IpAddr) -> Result<IpAddr, Untried> {
        let outside = self.lanes.lanes[lane].outside;
        if outside
            && self.way_out(address).is_ok_and(|other| other != lane && self.is_beside(address))
        {
            return Err(Untried::OtherUplink(address));
        }
        let spoofed = outside && self.plan().inside().contains(address);
        if !spoofed && self.ends.is_own(lane, address) || self.is_behind(lane, address) {
            self.ends.take(lane, address);
            return Ok(address);
        }
        let owner = self.plan().network_of(address);
        let elsewhere = owner.is_some() && owner != self.network(lane);
        let all = || self.own.iter().copied().chain(self.outside());
        let here = || all().filter(|end| end.interface == self.lanes.interfaces[lane]);
        let alike = here().find(|end| end.address.is_ipv6() == address.is_ipv6());
        let first = alike.or_else(|| here().next());
        if let Some(end) = first.filter(|_| elsewhere) {
            return Ok(end.address);
        }
        let present = self.networks[lane].present.contains(&address);
        Err(if present { Untried::Taken(address) } else { Untried::Absent(address) })
    }

    /// Whether an address lies on an uplink's own link.
    fn is_beside(&self, address: IpAddr) -> bool {
        self.plan().uplinks().iter().any(|uplink| uplink.own().contains(address))
    }

    /// Whether an address lies behind a router in a network that we stand in for.
    fn is_behind(&self, lane: usize, address: IpAddr) -> bool {
        let network = self.network(lane);
        let mut routes = self.plan().routes().iter();
        routes.any(|route| {
            Some(route.network) == network
                && route.reach.contains(address)
                && self.ends.is_own(lane, route.via)
        })
    }

    /// Who is at the other end of a packet, which is `inner` once it is translated.
    fn far(&mut self, packet: &Packet, inner: &Packet) -> Result<Far, Untried> {
        let plan = self.plan();
        let to = inner.destination();
        if plan.is_gateway(to) {
            // Names and the time are there for clients in their own network.
            let own = plan.network_on(packet.enters).filter(|id| plan.network_of(to) == Some(*id));
            let serves = self.manner.serves && own.is_some() && spoken(inner.service).is_some();
            return Ok(Far::Gateway { answers: serves || is_echo(inner.service) });
        }
        let port = inner.service.destination_port();
        let route = plan.routes().iter().find(|route| route.reach.contains(to));
        let network = plan.network_of(to).or(route.map(|route| route.network));
        let Some(id) = network else {
            let lane = self.way_out(to)?;
            // Without an address there, the gateway sends nothing out in that family, and answers nobody.
            self.ends.gateway_of(lane, Family::of(to)).ok_or(Untried::UnknownOutside)?;
            let source = match is_private(packet.source()) {
                true => Source::Gateway(self.ends.gateway_of(lane, Family::V4)),
                false => Source::Kept(packet.source()),
            };
            return Ok(Far::Own { lane, address: to, port, source });
        };
        let lane = self.lane(plan.network_interface(id))?;
        if self.is_behind(lane, to) {
            self.ends.take(lane, to);
        }
        if self.ends.is_own(lane, to) {
            let turns_round =
                inner != packet && self.plan().network_of(packet.source()) == Some(id);
            let source = if turns_round { Source::Any } else { Source::Kept(packet.source()) };
            return Ok(Far::Own { lane, address: to, port, source });
        }
        match self.networks[lane].present.contains(&to) {
            true => Ok(Far::Device),
            false => Err(Untried::Absent(to)),
        }
    }

    /// The network outside by which an address there is reached.
    fn way_out(&self, to: IpAddr) -> Result<usize, Untried> {
        let plan = self.plan();
        let beside = plan.uplinks().iter().position(|uplink| uplink.own().contains(to));
        let uplink = plan.uplink_interface(beside.unwrap_or(0));
        self.lanes.lane_of(uplink).ok_or(Untried::NoOutside)
    }

    fn gateway_outside(&self, uplink: usize, family: Family) -> Result<IpAddr, Untried> {
        let lane = self.lane(self.plan().uplink_interface(uplink))?;
        let known = self.ends.gateway_of(lane, family);
        let known =
            known.filter(|own| !matches!(own, IpAddr::V6(own) if own.is_unicast_link_local()));
        known.ok_or(Untried::UnknownOutside)
    }
}

/// The protocol of a service, if it is spoken here.
fn spoken(service: ServicePoint) -> Option<Words> {
    match (service.protocol(), service.destination_port()) {
        (Protocol::UDP, Some(53)) => Some(Words::Name),
        (Protocol::UDP, Some(123)) => Some(Words::Time),
        _ => None,
    }
}

fn is_echo(service: ServicePoint) -> bool {
    matches!(
        (service.protocol(), service.icmp_kind()),
        (Protocol::ICMP, Some((8, 0))) | (Protocol::ICMP_V6, Some((128, 0)))
    )
}

/// How a service is asked for at that end.
fn ask(service: ServicePoint, far: &Far) -> Result<Ask, Untried> {
    let own = matches!(far, Far::Own { .. });
    match (service.protocol(), service.destination_port()) {
        (Protocol::TCP, Some(port)) => Ok(Ask::Tcp(port)),
        (Protocol::UDP, Some(port)) if own => Ok(Ask::Udp(port)),
        (Protocol::UDP, Some(port)) => match (spoken(service), far) {
            (Some(words), _) => Ok(Ask::Words(port, words)),
            (None, Far::Gateway { .. }) => Ok(Ask::Udp(port)),
            (None, _) => Err(Untried::Unspoken),
        },
        _ if is_echo(service) => Ok(Ask::Echo),
        (protocol, _) if own || matches!(far, Far::Gateway { .. }) => Ok(Ask::Other(protocol.0)),
        _ => Err(Untried::Unspoken),
    }
}
