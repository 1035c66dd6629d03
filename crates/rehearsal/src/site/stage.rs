//! Real conversations from real sockets: what devices ask for, who answers, and what comes back.
//!
//! Everything happens in one thread. A socket stays in the name space in which it was made, so a device
//! is a socket made at the right place. A drop is known at once from the filter's trace; only where neither
//! an answer nor a trace comes is there anything to wait for.

use super::inject::Judged;
use super::lease::{self, Offer};
use super::names::{Names, question};
use super::{Fate, Site};
use crate::kernel::space::Space;
use crate::kernel::trace::Step;
use crate::probe::Seen;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use socket2::{Domain, Protocol, SockAddr, Socket, Type};
use std::collections::{HashMap, HashSet};
use std::io::{self, Read};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::os::fd::AsFd;
use std::time::{Duration, Instant};

/// How long nothing is taken for an answer, where the filter told nothing either.
const PATIENCE: Duration = Duration::from_millis(300);
/// How long a lease may take.
const LEASE_PATIENCE: Duration = Duration::from_millis(1500);
/// How many conversations are under way at once.
const AT_ONCE: usize = 150;

/// What a device does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Action {
    /// Opens a TCP connection.
    Connect(u16),
    /// Sends a UDP packet and waits for an answer.
    Ask(u16),
    /// Sends an echo request.
    Echo,
    /// Sends a UDP packet to everyone, to which nobody need answer.
    Tell(u16),
    /// Asks a name server for a name.
    Resolve(String),
    /// Asks for a lease, with that hardware address, or the cable's own.
    Lease(Option<[u8; 6]>),
}

/// Something to try.
#[derive(Clone, Debug)]
pub struct Shot {
    /// The cable at whose end the device is; the gateway itself where there is none.
    pub cable: Option<usize>,
    /// Its address.
    pub from: IpAddr,
    /// Where it sends to.
    pub to: IpAddr,
    /// What it does.
    pub action: Action,
    /// Who answers there, for whoever gets through.
    pub answers: Option<Expected>,
}

/// Somebody who answers: at the end of a cable, or the gateway itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Expected {
    /// The cable at whose end it is; the gateway itself where there is none.
    pub cable: Option<usize>,
    /// At which address.
    pub at: IpAddr,
    /// Of TCP; else of UDP.
    pub tcp: bool,
    /// At which port.
    pub port: u16,
}

/// What came of it.
#[derive(Clone, Debug)]
pub struct Asked {
    /// What came back.
    pub seen: Seen,
    /// What the gateway's filter did, if it was asked.
    pub judged: Option<Judged>,
    /// The address under which it was heard at the other end.
    pub heard_as: Option<IpAddr>,
    /// More about it: the address that was leased, or why nothing could be tried.
    pub detail: Option<String>,
}

/// Sockets of a site, waiting for whoever gets through.
pub struct Stage<'s> {
    site: &'s mut Site,
    names: Names,
    tcp: Vec<(Socket, Expected)>,
    udp: Vec<(Socket, Expected)>,
    /// Those of the listeners that answer for names.
    name_servers: HashSet<Expected>,
    /// Whoever was heard, by who heard them and the port that they came from; nobody in particular where
    /// two came from the same port.
    heard: HashMap<(Expected, u16), Option<IpAddr>>,
    open: HashSet<Expected>,
    groups: Vec<Socket>,
}

/// A conversation under way.
struct Pending {
    number: usize,
    socket: Option<Socket>,
    key: Key,
    kind: Kind,
    until: Instant,
    judged: Option<Judged>,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Connect,
    Answer,
    Tell,
    Lease(u32),
}

/// By what a packet is known in the trace: its ends, protocol and ports; or its mark.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
enum Key {
    Ports(IpAddr, IpAddr, u8, u16, u16),
    Mark(u16),
}

impl<'s> Stage<'s> {
    /// A stage on which nobody answers yet. The gateway hears those who speak to everyone.
    ///
    /// # Errors
    /// When the kernel makes no sockets.
    pub fn new(site: &'s mut Site, names: Names) -> io::Result<Self> {
        let mut stage = Self {
            site,
            names,
            tcp: Vec::new(),
            udp: Vec::new(),
            name_servers: HashSet::new(),
            heard: HashMap::new(),
            open: HashSet::new(),
            groups: Vec::new(),
        };
        stage.groups = stage.site.gateway.within(|| join_groups(stage.site.ends.len()))?;
        Ok(stage)
    }

    fn space(&self, cable: Option<usize>) -> &Space {
        cable.and_then(|number| self.site.ends.get(number)).unwrap_or(&self.site.gateway)
    }

    /// The site itself.
    pub fn site(&mut self) -> &mut Site {
        self.site
    }

    /// Has a name server answer at an address.
    ///
    /// # Errors
    /// When nobody can listen there.
    pub fn serve_names(&mut self, cable: usize, at: IpAddr) -> io::Result<()> {
        let server = Expected { cable: Some(cable), at, tcp: false, port: 53 };
        self.name_servers.insert(server);
        self.listen(server)
    }

    fn listen(&mut self, who: Expected) -> io::Result<()> {
        if !self.open.insert(who) {
            return Ok(());
        }
        let (kind, protocol) = match who.tcp {
            true => (Type::STREAM, Protocol::TCP),
            false => (Type::DGRAM, Protocol::UDP),
        };
        let at = SocketAddr::new(who.at, who.port);
        let socket = self.space(who.cable).within(|| {
            let socket = Socket::new(Domain::for_address(at), kind, Some(protocol))?;
            if at.is_ipv6() {
                socket.set_only_v6(true)?;
            }
            socket.set_reuse_address(true)?;
            socket.set_nonblocking(true)?;
            socket.bind(&SockAddr::from(at))?;
            if who.tcp {
                socket.listen(128)?;
            }
            Ok(socket)
        })?;
        if who.tcp {
            self.tcp.push((socket, who))
        } else {
            self.udp.push((socket, who))
        }
        Ok(())
    }

    /// Tries all of these, and tells what came of each, in their order. `told` hears how many are done.
    ///
    /// # Errors
    /// When the kernel does not do its part; what a device meets is no error.
    pub fn play(&mut self, shots: &[Shot], mut told: impl FnMut(usize)) -> io::Result<Vec<Asked>> {
        for shot in shots {
            if let Some(who) = shot.answers {
                // A port that something of the gateway's has taken answers by itself.
                match self.listen(who) {
                    Err(error) if error.kind() != io::ErrorKind::AddrInUse => return Err(error),
                    _ => {}
                }
            }
        }
        let mut results: Vec<Option<Asked>> = vec![None; shots.len()];
        self.site.trace.drain()?;
        let mut pending: Vec<Pending> = Vec::new();
        let mut packets: HashMap<u32, Key> = HashMap::new();
        let mut next = 0;
        while next < shots.len() || !pending.is_empty() {
            while next < shots.len() && pending.len() < AT_ONCE {
                match self.begin(next, &shots[next]) {
                    Ok(one) => pending.push(one),
                    Err(error) => results[next] = Some(Asked::not_tried(&error)),
                }
                next += 1;
            }
            self.serve()?;
            let steps = self.site.trace.drain()?.unwrap_or_default();
            self.note(&steps, &mut packets, &mut pending);
            let mut left = Vec::new();
            for mut one in pending {
                let number = one.number;
                match self.outcome(&mut one, &shots[number]) {
                    Some(asked) => results[number] = Some(asked),
                    None => left.push(one),
                }
            }
            pending = left;
            told(results.iter().flatten().count());
            self.wait(&pending)?;
        }
        Ok(results.into_iter().flatten().collect())
    }

    /// Begins a conversation.
    fn begin(&mut self, number: usize, shot: &Shot) -> io::Result<Pending> {
        if let Action::Lease(mac) = &shot.action {
            return self.begin_lease(number, shot, *mac);
        }
        let (kind, protocol, port) = match &shot.action {
            Action::Connect(port) => (Type::STREAM, Protocol::TCP, *port),
            Action::Ask(port) | Action::Tell(port) => (Type::DGRAM, Protocol::UDP, *port),
            Action::Resolve(_) => (Type::DGRAM, Protocol::UDP, 53),
            Action::Echo | Action::Lease(_) if shot.to.is_ipv4() => {
                (Type::RAW, Protocol::ICMPV4, 0)
            }
            Action::Echo | Action::Lease(_) => (Type::RAW, Protocol::ICMPV6, 0),
        };
        let to = SocketAddr::new(shot.to, port);
        let echo = shot.action == Action::Echo;
        let made = self.space(shot.cable).within(|| {
            let socket = Socket::new(Domain::for_address(to), kind, Some(protocol))?;
            socket.set_nonblocking(true)?;
            socket.bind(&SockAddr::from(SocketAddr::new(shot.from, 0)))?;
            if let Action::Tell(_) = shot.action {
                speak_to_everyone(&socket, shot.from)?;
            }
            match socket.connect(&SockAddr::from(to)) {
                Err(error) if error.raw_os_error() != Some(IN_PROGRESS) => Err(error),
                _ => Ok(socket),
            }
        });
        // A refusal can be there before the call returns.
        let socket = made?;
        let own = socket.local_addr()?.as_socket().map_or(0, |own| own.port());
        let identity = number as u16;
        match &shot.action {
            Action::Ask(_) | Action::Tell(_) => sent(socket.send(b"bastium"))?,
            Action::Resolve(name) => {
                let asked = question(name, identity, false).ok_or(io::ErrorKind::InvalidInput)?;
                sent(socket.send(&asked))?;
            }
            Action::Echo => sent(socket.send(&echo_request(shot.to, identity)))?,
            Action::Connect(_) | Action::Lease(_) => {}
        }
        let (first, second) = if echo { (identity, 0) } else { (own, port) };
        let number_of = i32::from(protocol) as u8;
        Ok(Pending {
            number,
            socket: Some(socket),
            key: Key::Ports(shot.from, shot.to, number_of, first, second),
            kind: match shot.action {
                Action::Connect(_) => Kind::Connect,
                Action::Tell(_) => Kind::Tell,
                _ => Kind::Answer,
            },
            until: Instant::now() + PATIENCE,
            judged: None,
        })
    }

    fn begin_lease(
        &mut self,
        number: usize,
        shot: &Shot,
        mac: Option<[u8; 6]>,
    ) -> io::Result<Pending> {
        let cable = shot.cable.ok_or(io::ErrorKind::InvalidInput)?;
        let transaction = 0x6261_0000 | number as u32;
        let socket = self.site.ends[cable].within(lease::listener)?;
        let mark = self.site.mark();
        let mac = mac.unwrap_or(super::Wire::device_mac(cable));
        self.site.cables[cable].put_from_nobody(mark, &lease::discover(transaction, mac))?;
        Ok(Pending {
            number,
            socket: Some(socket),
            key: Key::Mark(mark),
            kind: Kind::Lease(transaction),
            until: Instant::now() + LEASE_PATIENCE,
            judged: None,
        })
    }

    /// Notes what the filter did with the packets of conversations.
    fn note(&self, steps: &[Step], packets: &mut HashMap<u32, Key>, pending: &mut [Pending]) {
        let places: HashMap<Key, usize> =
            pending.iter().enumerate().map(|(place, one)| (one.key, place)).collect();
        for step in steps {
            let first = !step.header.is_empty();
            if first && matches!(step.chain.as_str(), "in" | "out") {
                let keys = keys(step);
                match keys.into_iter().find(|key| places.contains_key(key)) {
                    Some(key) => packets.insert(step.packet, key),
                    None => packets.remove(&step.packet),
                };
            }
            let Some(place) = packets.get(&step.packet).and_then(|key| places.get(key)) else {
                continue;
            };
            let one = &mut pending[*place];
            if one.judged.is_none() {
                one.judged = self.site.decision(step);
            }
        }
    }

    /// What came of a conversation; `None` while it may still come.
    fn outcome(&mut self, one: &mut Pending, shot: &Shot) -> Option<Asked> {
        let socket = one.socket.as_ref()?;
        let mut detail = None;
        let seen = match one.kind {
            Kind::Connect => connected(socket),
            Kind::Answer => answered(socket),
            Kind::Tell => one.judged.as_ref().map(|judged| match judged.fate {
                Fate::Passes => Seen::Reply,
                _ => Seen::Silence,
            }),
            Kind::Lease(transaction) => lease::offer(socket, transaction).map(|Offer(address)| {
                detail = Some(address.to_string());
                Seen::Reply
            }),
        };
        let dropped = one.judged.as_ref().is_some_and(|judged| judged.fate == Fate::Dropped);
        let seen = match seen {
            Some(seen) => seen,
            None if dropped || Instant::now() >= one.until => Seen::Silence,
            None => return None,
        };
        let own = match one.key {
            Key::Ports(_, _, _, own, _) => shot.answers.map(|who| (who, own)),
            Key::Mark(_) => None,
        };
        let heard = own.and_then(|own| self.heard.remove(&own)).flatten();
        let heard_as = heard.filter(|_| seen == Seen::Reply);
        Some(Asked { seen, judged: one.judged.clone(), heard_as, detail })
    }

    /// Lets everyone who listens answer.
    pub(super) fn serve(&mut self) -> io::Result<()> {
        let mut heard: Vec<(Expected, SocketAddr)> = Vec::new();
        for (socket, who) in &self.tcp {
            while let Ok((_, from)) = socket.accept() {
                heard.extend(from.as_socket().map(|from| (*who, from)));
            }
        }
        let mut buffer = [0; 2048];
        for (socket, who) in &self.udp {
            while let Some((length, from)) = receive(socket, &mut buffer) {
                heard.extend(from.as_socket().map(|from| (*who, from)));
                let asked = &buffer[..length];
                let answer = if self.name_servers.contains(who) {
                    self.names.answer(asked)
                } else {
                    Some(asked.to_vec())
                };
                if let Some(answer) = answer {
                    // An answer that cannot be sent is one that does not arrive.
                    let _ = socket.send_to(&answer, &from);
                }
            }
        }
        for (who, from) in heard {
            let known = self.heard.entry((who, from.port())).or_insert(Some(from.ip()));
            *known = known.filter(|known| *known == from.ip());
        }
        Ok(())
    }

    /// Waits until somebody has something to say, but not for long.
    fn wait(&self, pending: &[Pending]) -> io::Result<()> {
        if pending.is_empty() {
            return Ok(());
        }
        let input = PollFlags::IN;
        let mut fds: Vec<PollFd<'_>> =
            self.tcp.iter().map(|(socket, _)| PollFd::new(socket, input)).collect();
        fds.extend(self.udp.iter().map(|(socket, _)| PollFd::new(socket, input)));
        fds.push(PollFd::from_borrowed_fd(self.site.trace.as_fd(), input));
        for one in pending {
            let flags = if one.kind == Kind::Connect { PollFlags::OUT } else { input };
            fds.extend(one.socket.as_ref().map(|socket| PollFd::new(socket, flags)));
        }
        let long = Timespec { tv_sec: 0, tv_nsec: 5_000_000 };
        match poll(&mut fds, Some(&long)) {
            Ok(_) | Err(rustix::io::Errno::INTR) => Ok(()),
            Err(error) => Err(error.into()),
        }
    }
}

impl Asked {
    fn not_tried(error: &io::Error) -> Self {
        let seen = match error.kind() {
            io::ErrorKind::ConnectionRefused => Seen::Refused,
            io::ErrorKind::HostUnreachable | io::ErrorKind::PermissionDenied => Seen::Unreachable,
            _ => Seen::NotTried,
        };
        let detail = (seen == Seen::NotTried).then(|| error.to_string());
        Self { seen, judged: None, heard_as: None, detail }
    }
}

/// `EINPROGRESS`.
const IN_PROGRESS: i32 = 115;

/// A connected socket may be told of a refusal by the very call that sends.
fn sent(done: io::Result<usize>) -> io::Result<()> {
    done.map(drop)
}

fn connected(socket: &Socket) -> Option<Seen> {
    match socket.take_error() {
        Ok(Some(error)) | Err(error) => Some(crate::probe::seen_by(&error)),
        Ok(None) => socket.peer_addr().ok().map(|_| Seen::Reply),
    }
}

fn answered(socket: &Socket) -> Option<Seen> {
    let mut buffer = [0; 2048];
    match (&*socket).read(&mut buffer) {
        Ok(length) => is_answer(socket, &buffer[..length]).then_some(Seen::Reply),
        Err(error) if error.kind() == io::ErrorKind::WouldBlock => None,
        Err(error) => Some(crate::probe::seen_by(&error)),
    }
}

/// Whether what was read answers: on a raw socket the reply to an echo request alone does.
fn is_answer(socket: &Socket, read: &[u8]) -> bool {
    if socket.r#type().ok() != Some(Type::RAW) {
        return true;
    }
    let v4 = read.first().is_some_and(|byte| byte >> 4 == 4) && read.len() > 28;
    let kind = if v4 { read.get(20) } else { read.first() };
    matches!((v4, kind), (true, Some(0)) | (false, Some(129)))
}

fn receive(socket: &Socket, buffer: &mut [u8]) -> Option<(usize, SockAddr)> {
    let (length, from) =
        rustix::net::recvfrom(socket, &mut *buffer, rustix::net::RecvFlags::DONTWAIT)
            .ok()
            .and_then(|(length, _, from)| Some((length, SocketAddr::try_from(from?).ok()?)))?;
    Some((length, SockAddr::from(from)))
}

/// An echo request (RFC 792, RFC 4443) with that identity.
fn echo_request(to: IpAddr, identity: u16) -> Vec<u8> {
    let kind = if to.is_ipv4() { 8 } else { 128 };
    let [high, low] = identity.to_be_bytes();
    let mut message = vec![kind, 0, 0, 0, high, low, 0, 1];
    message.extend_from_slice(b"bastium echo request");
    if to.is_ipv4() {
        // In IPv6 the kernel fills it in.
        let sum = crate::kernel::frame::checksum(&message, 0);
        message[2..4].copy_from_slice(&sum.to_be_bytes());
    }
    message
}

/// By what a packet that is seen first may be known.
fn keys(step: &Step) -> Vec<Key> {
    let (header, transport) = (&step.header, &step.transport);
    let mark = crate::kernel::frame::mark_of(header).map(|(_, mark)| Key::Mark(mark));
    let ends = || -> Option<(IpAddr, IpAddr, u8)> {
        if header.first()? >> 4 == 4 {
            let octets = |from: usize| <[u8; 4]>::try_from(header.get(from..from + 4)?).ok();
            Some((octets(12)?.into(), octets(16)?.into(), *header.get(9)?))
        } else {
            let octets = |from: usize| <[u8; 16]>::try_from(header.get(from..from + 16)?).ok();
            Some((octets(8)?.into(), octets(24)?.into(), *header.get(6)?))
        }
    };
    let ports = ends().and_then(|(from, to, protocol)| {
        let word =
            |at: usize| Some(u16::from_be_bytes(transport.get(at..at + 2)?.try_into().ok()?));
        match protocol {
            1 | 58 => Some(Key::Ports(from, to, protocol, word(4)?, 0)),
            _ => Some(Key::Ports(from, to, protocol, word(0)?, word(2)?)),
        }
    });
    ports.into_iter().chain(mark).collect()
}

/// Sockets by which the gateway is in the groups that speak of names (RFC 6762), on every cable.
fn join_groups(cables: usize) -> io::Result<Vec<Socket>> {
    let (v4, v6) = (Ipv4Addr::new(224, 0, 0, 251), [0xff02, 0, 0, 0, 0, 0, 0, 0xfb].into());
    let one = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
    let other = Socket::new(Domain::IPV6, Type::DGRAM, Some(Protocol::UDP))?;
    // The first interface is the loopback's; the cables follow.
    for index in 2..=(cables as u32 * 2 + 2) {
        let _ = one.join_multicast_v4_n(&v4, &socket2::InterfaceIndexOrAddress::Index(index));
        let _ = other.join_multicast_v6(&v6, index);
    }
    Ok(vec![one, other])
}

fn speak_to_everyone(socket: &Socket, from: IpAddr) -> io::Result<()> {
    socket.set_broadcast(true)?;
    match from {
        IpAddr::V4(own) => socket.set_multicast_if_v4(&own),
        IpAddr::V6(_) => {
            let index = rustix::net::netdevice::name_to_index(socket, super::build::DEVICE)?;
            socket.set_multicast_if_v6(index)
        }
    }
}
