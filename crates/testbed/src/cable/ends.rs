//! Our ends in all networks: which addresses are ours, who else is present, and what is answered to whom.

use super::frame::{self, Content, Heard, Mac, Packet, Segment};
use super::letters::Letters;
use super::port::Port;
use super::provider::Provider;
use super::trials::{Answer, Arrival, Came, Trials};
use bastium_core::space::Family;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::time::{Duration, Instant};

/// How many devices are distinguished outside, where there is to be one.
const MOST_HEARD: usize = 100;

/// A network, as it is reached from here.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lane {
    /// By which port.
    pub port: usize,
    /// With which VLAN id; untagged where there is none.
    pub tag: Option<u16>,
    /// Whether it is the outside: there, everyone but the gateway is here.
    pub outside: bool,
    /// The gateway's addresses there, as far as they are known beforehand.
    pub gateway: Vec<IpAddr>,
}

/// This machine in all networks.
pub struct Ends {
    ports: Vec<Port>,
    lanes: Vec<Lane>,
    /// The hardware address that is ours everywhere, if not each port's own.
    mac: Option<Mac>,
    own: HashSet<(usize, IpAddr)>,
    /// Whom we have asked for, and where he has said that he is: nobody else is kept, however many there are.
    pub(super) there: HashMap<(usize, IpAddr), Option<Mac>>,
    /// Ours that somebody else turned out to have.
    given_up: Vec<(usize, IpAddr)>,
    /// Everyone who was heard outside: whose hardware address.
    outside: HashSet<(usize, Mac)>,
    pub(super) trials: Trials,
    pub(super) letters: Letters,
    /// The providers that we stand in for, by network.
    pub(super) providers: BTreeMap<usize, Provider>,
    /// Networks in which frames of ours came back that were put on in another: in which, and in which they were put on.
    joined: BTreeSet<(usize, usize)>,
    /// How many frames were lost before they could be read.
    lost: u64,
}

impl Ends {
    /// Takes its place in these networks, with no address yet.
    pub fn new(ports: Vec<Port>, lanes: Vec<Lane>, mac: Option<Mac>) -> Self {
        Self {
            ports,
            lanes,
            mac,
            own: HashSet::new(),
            there: HashMap::new(),
            given_up: Vec::new(),
            outside: HashSet::new(),
            trials: Trials::new(),
            letters: Letters::default(),
            providers: BTreeMap::new(),
            joined: BTreeSet::new(),
            lost: 0,
        }
    }

    /// The networks.
    pub fn lanes(&self) -> &[Lane] {
        &self.lanes
    }

    /// Our hardware address in a network.
    pub fn mac(&self, lane: usize) -> Mac {
        self.mac.unwrap_or(self.ports[self.lanes[lane].port].mac)
    }

    /// Whether a hardware address is ours in any network. A gateway puts its own on what it passes on.
    fn is_ours(&self, mac: Mac) -> bool {
        match self.mac {
            Some(own) => own == mac,
            None => self.ports.iter().any(|port| port.mac == mac),
        }
    }

    /// Whether an address in a network is ours.
    pub fn is_own(&self, lane: usize, address: IpAddr) -> bool {
        self.own.contains(&(lane, address))
            || self.lanes[lane].outside && !self.lanes[lane].gateway.contains(&address)
    }

    /// Our addresses inside, each with its network.
    pub(super) fn own(&self) -> impl Iterator<Item = (usize, IpAddr)> + '_ {
        self.own.iter().copied()
    }

    /// Takes an address, of which nobody else is known to have it.
    pub fn take(&mut self, lane: usize, address: IpAddr) {
        self.own.insert((lane, address));
    }

    /// Gives an address back.
    pub fn give_back(&mut self, lane: usize, address: IpAddr) {
        self.own.remove(&(lane, address));
    }

    /// Addresses that were ours until somebody else was seen to have them.
    pub fn given_up(&self) -> &[(usize, IpAddr)] {
        &self.given_up
    }

    /// How many devices were heard outside.
    pub fn heard_outside(&self) -> usize {
        self.outside.len()
    }

    /// Networks that are one: what is put on in the second arrives in the first.
    pub fn joined(&self) -> impl Iterator<Item = (usize, usize)> + '_ {
        self.joined.iter().copied()
    }

    /// How many frames were lost, as this machine did not read them in time.
    pub fn lost(&self) -> u64 {
        self.lost
    }

    /// The gateway's address in a network and family, as far as it is known by now: outside, for want of another, the one that
    /// it has on the link alone.
    pub fn gateway_of(&self, lane: usize, family: Family) -> Option<IpAddr> {
        let all =
            || self.lanes[lane].gateway.iter().copied().filter(|own| Family::of(*own) == family);
        all().find(|own| !is_link_local(*own)).or_else(|| all().next())
    }

    /// The port and the tag of a network.
    pub(super) fn way(&self, lane: usize) -> io::Result<(Port, Option<u16>)> {
        let Lane { port, tag, .. } = self.lanes[lane];
        Ok((self.ports[port].again()?, tag))
    }

    /// Where frames for the gateway go in a network, once it has been heard there.
    pub(super) fn gateway_mac(&self, lane: usize, family: Family) -> Option<Mac> {
        let of = |family: Family| {
            let known =
                self.lanes[lane].gateway.iter().filter(move |own| Family::of(**own) == family);
            known.filter_map(|own| self.there.get(&(lane, *own))?.as_ref()).next()
        };
        let outside = || self.outside.iter().find(|(of, _)| *of == lane).map(|(_, mac)| mac);
        // It is one device in both families.
        of(family).or_else(|| of(family.other())).or_else(outside).copied()
    }

    /// Puts a frame on the cable of a network.
    pub(super) fn put(&self, lane: usize, frame: &[u8]) -> io::Result<()> {
        let Lane { port, tag, .. } = self.lanes[lane];
        for _ in 0..50 {
            match self.ports[port].send(tag, frame) {
                // The interface's queue is full for a moment.
                Err(error)
                    if matches!(error.raw_os_error(), Some(libc::ENOBUFS | libc::EAGAIN)) =>
                {
                    std::thread::sleep(Duration::from_millis(1));
                }
                done => return done,
            }
        }
        Err(io::ErrorKind::TimedOut.into())
    }

    /// Sends a packet to the gateway of a network; whether it could be addressed.
    pub(super) fn send(&self, lane: usize, packet: &Packet) -> io::Result<bool> {
        let Some(to) = self.gateway_mac(lane, Family::of(packet.source)) else { return Ok(false) };
        let Some(frame) = packet.framed(to, self.mac(lane)) else { return Ok(false) };
        self.put(lane, &frame)?;
        Ok(true)
    }

    /// Hears and answers for that long; at least everything that is there already.
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn attend(&mut self, time: Duration) -> io::Result<()> {
        self.attend_until(Instant::now() + time, |_| false)
    }

    /// The same, but no longer than until something is so.
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn attend_until(
        &mut self,
        until: Instant,
        enough: impl Fn(&Self) -> bool,
    ) -> io::Result<()> {
        loop {
            self.hear()?;
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() || enough(self) {
                return Ok(());
            }
            let mut sockets: Vec<PollFd<'_>> =
                self.ports.iter().map(|port| PollFd::new(port, PollFlags::IN)).collect();
            let wait = Timespec {
                tv_sec: i64::try_from(left.as_secs()).unwrap_or(i64::MAX),
                tv_nsec: left.subsec_nanos().into(),
            };
            match poll(&mut sockets, Some(&wait)) {
                Ok(_) | Err(rustix::io::Errno::INTR) => {}
                Err(error) => return Err(error.into()),
            }
        }
    }

    /// Reads all that has come in.
    fn hear(&mut self) -> io::Result<()> {
        self.advertise()?;
        for port in 0..self.ports.len() {
            while let Some((tag, frame)) = self.ports[port].receive()? {
                let here = |lane: &Lane| lane.port == port && lane.tag == tag;
                if let Some(lane) = self.lanes.iter().position(here) {
                    self.heard(lane, &frame)?;
                }
            }
            self.lost += u64::from(self.ports[port].lost()?);
        }
        Ok(())
    }

    fn heard(&mut self, lane: usize, bytes: &[u8]) -> io::Result<()> {
        let Some((from, heard)) = frame::read(bytes) else { return Ok(()) };
        let mac = self.mac(lane);
        if self.is_ours(from) {
            self.came_back(lane, &heard);
            return Ok(());
        }
        if self.lanes[lane].outside && self.outside.len() < MOST_HEARD {
            self.outside.insert((lane, from));
        }
        if let Some(provider) = self.providers.get_mut(&lane) {
            provider.heard(from);
        }
        match heard {
            Heard::Who { target, asks } => self.asked(lane, from, target, asks),
            Heard::Here { address, mac: at, to } => {
                self.has_owner(lane, address);
                if let Some(known) = self.there.get_mut(&(lane, address)) {
                    *known = Some(at);
                }
                self.trials.neighbour(lane, address, to);
                Ok(())
            }
            Heard::Router { router, lifetime, prefix } => {
                self.letters.advertised(lane, router, lifetime, prefix);
                Ok(())
            }
            Heard::WhoRoutes => {
                if let Some(provider) = self.providers.get_mut(&lane) {
                    provider.is_asked_for_routers();
                }
                Ok(())
            }
            Heard::Packet(packet) => {
                if self.provider_hears(lane, from, &packet)? {
                    return Ok(());
                }
                let to = bytes[..6].try_into().unwrap_or(frame::EVERYONE);
                if to == mac {
                    self.came(lane, from, &packet)
                } else {
                    self.overheard(lane, &packet)
                }
            }
        }
    }

    /// A frame of ours that comes in again: where it was put on says whose address it names, if it is not the same network.
    fn came_back(&mut self, lane: usize, heard: &Heard) {
        let named = match heard {
            Heard::Who { asks, .. } => *asks,
            Heard::Here { address, .. } => *address,
            Heard::Packet(packet) => packet.source,
            Heard::Router { .. } | Heard::WhoRoutes => return,
        };
        let owner = self.own.iter().find(|(of, own)| *own == named && *of != lane);
        if let Some((of, _)) = owner.filter(|_| !self.own.contains(&(lane, named))) {
            self.joined.insert((lane, *of));
        }
    }

    /// What is for everyone: only letters of address servers count.
    fn overheard(&mut self, lane: usize, packet: &Packet) -> io::Result<()> {
        if let Content::Udp { from: 67, to: 68, payload } = &packet.content {
            self.letters.came(lane, packet.source, payload);
        }
        Ok(())
    }

    /// Somebody else is heard at an address: its owner is served first.
    fn has_owner(&mut self, lane: usize, address: IpAddr) {
        if self.own.remove(&(lane, address)) {
            self.given_up.push((lane, address));
        }
    }

    /// Answers who asks for an address of ours.
    fn asked(&mut self, lane: usize, from: Mac, target: IpAddr, asks: IpAddr) -> io::Result<()> {
        if self.lanes[lane].outside {
            // Before it takes an address of a prefix, it asks from nobody whether anyone has it (RFC 4862).
            let own = asks.is_unspecified() && self.is_of_prefix(lane, target);
            self.learn(lane, if own { target } else { asks });
        }
        self.has_owner(lane, asks);
        // Outside, a probe may be the gateway's own for its own address.
        let ours = match self.lanes[lane].outside {
            true => !asks.is_unspecified() && self.is_own(lane, target),
            false => self.own.contains(&(lane, target)),
        };
        if !ours {
            return Ok(());
        }
        match frame::is_here(self.mac(lane), target, (from, asks)) {
            Some(frame) => self.put(lane, &frame),
            None => Ok(()),
        }
    }

    /// Outside, only the gateway asks for neighbours: so its address there is known, if it was leased.
    pub(super) fn learn(&mut self, lane: usize, asks: IpAddr) {
        let known = &mut self.lanes[lane].gateway;
        let alike = |own: &IpAddr| {
            own.is_ipv6() == asks.is_ipv6() && (!is_link_local(*own) || is_link_local(asks))
        };
        if !asks.is_unspecified() && !known.iter().any(alike) {
            known.push(asks);
        }
    }

    /// The gateway has taken a lease outside: of that family it has no other address there.
    pub(super) fn leases_outside(&mut self, lane: usize, address: Ipv4Addr, mac: Mac) {
        let known = &mut self.lanes[lane].gateway;
        known.retain(IpAddr::is_ipv6);
        known.push(address.into());
        self.there.insert((lane, address.into()), Some(mac));
    }

    /// A packet for us: what we have asked for is kept, and what is asked of us is answered.
    fn came(&mut self, lane: usize, from: Mac, packet: &Packet) -> io::Result<()> {
        if let Content::Udp { from: 67, to: 68, payload } = &packet.content {
            self.letters.came(lane, packet.source, payload);
            return Ok(());
        }
        if !self.is_own(lane, packet.destination) {
            return Ok(());
        }
        if self.trials.answered(lane, packet).is_some() {
            return self.hang_up(lane, from, packet);
        }
        let Some(answer) = self.trials.arrived(lane, packet) else { return Ok(()) };
        let answer =
            Packet { source: packet.destination, destination: packet.source, content: answer };
        match answer.framed(from, self.mac(lane)) {
            Some(frame) => self.put(lane, &frame),
            None => Ok(()),
        }
    }

    /// Ends a connection that was accepted, so that nobody keeps it open.
    fn hang_up(&self, lane: usize, to: Mac, packet: &Packet) -> io::Result<()> {
        let Content::Tcp { from, to: own, segment: Segment::Accept, answers, .. } = packet.content
        else {
            return Ok(());
        };
        let content = Content::Tcp {
            from: own,
            to: from,
            segment: Segment::Reset,
            number: answers,
            answers: 0,
        };
        let reset = Packet { source: packet.destination, destination: packet.source, content };
        match reset.framed(to, self.mac(lane)) {
            Some(frame) => self.put(lane, &frame),
            None => Ok(()),
        }
    }
}

/// Whether an address is one of the link alone.
pub(super) fn is_link_local(address: IpAddr) -> bool {
    matches!(address, IpAddr::V6(address) if address.is_unicast_link_local())
}

/// The unspecified address of a family.
pub(super) fn nobody(family: Family) -> IpAddr {
    if family == Family::V6 { Ipv6Addr::UNSPECIFIED.into() } else { Ipv4Addr::UNSPECIFIED.into() }
}

impl Came {
    /// Notes that something arrived.
    pub(super) fn arrives(&mut self, lane: usize, packet: &Packet, port: Option<u16>) {
        let (source, destination) = (packet.source, packet.destination);
        self.arrived.get_or_insert(Arrival { lane, source, destination, port });
    }

    /// Notes what came back; a reply counts more than what came before it.
    pub(super) fn answers(&mut self, answer: Answer) {
        if self.answer != Some(Answer::Reply) {
            self.answer = Some(answer);
        }
    }
}
