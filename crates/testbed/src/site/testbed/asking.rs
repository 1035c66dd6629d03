//! Sockets that begin conversations, and what has come of each so far.

use super::known::Key;
use super::{Action, Attempt, Came, Kind, LEASE_PATIENCE, PATIENCE, Pending, Testbed};
use crate::probe::Seen;
use crate::site::lease::{self, Offer};
use crate::site::names::question;
use crate::site::{Wire, build};
use bastium_core::space::Family;
use socket2::{Domain, Protocol, SockAddr, Socket, Type};
use std::io::{self, Read};
use std::net::{IpAddr, SocketAddr};
use std::time::Instant;

/// `EINPROGRESS`.
const IN_PROGRESS: i32 = 115;

impl Testbed<'_> {
    /// Begins a conversation.
    pub(super) fn begin(
        &mut self,
        number: usize,
        attempt: &Attempt,
        times: u32,
    ) -> io::Result<Pending> {
        if let Action::Lease(mac) = &attempt.action {
            return self.begin_lease(number, attempt, *mac, times);
        }
        let (kind, protocol, port) = match &attempt.action {
            Action::Connect(port) => (Type::STREAM, Protocol::TCP, *port),
            Action::Ask(port) | Action::Tell(port) => (Type::DGRAM, Protocol::UDP, *port),
            Action::Resolve(_) => (Type::DGRAM, Protocol::UDP, 53),
            Action::Echo | Action::Lease(_) if attempt.to.is_ipv4() => {
                (Type::RAW, Protocol::ICMPV4, 0)
            }
            Action::Echo | Action::Lease(_) => (Type::RAW, Protocol::ICMPV6, 0),
        };
        let to = SocketAddr::new(attempt.to, port);
        let echo = attempt.action == Action::Echo;
        let made = self.space(attempt.cable).within(|| {
            let socket = Socket::new(Domain::for_address(to), kind, Some(protocol))?;
            socket.set_nonblocking(true)?;
            socket.bind(&SockAddr::from(SocketAddr::new(attempt.from, 0)))?;
            if let Action::Tell(_) = attempt.action {
                speak_to_everyone(&socket, attempt.from)?;
            }
            match socket.connect(&SockAddr::from(to)) {
                Err(error) if error.raw_os_error() != Some(IN_PROGRESS) => Err(error),
                _ => Ok(socket),
            }
        });
        // A refusal can be there before the call returns.
        let socket = made?;
        let own = socket.local_addr()?.as_socket().map_or(0, |own| own.port());
        let [low, high, ..] = number.to_le_bytes();
        let identity = u16::from_le_bytes([low, high]);
        match &attempt.action {
            Action::Ask(_) | Action::Tell(_) => sent(socket.send(b"bastium"))?,
            Action::Resolve(name) => {
                let asked =
                    question(name, identity, Family::V4).ok_or(io::ErrorKind::InvalidInput)?;
                sent(socket.send(&asked))?;
            }
            Action::Echo => sent(socket.send(&echo_request(attempt.to, identity)))?,
            Action::Connect(_) | Action::Lease(_) => {}
        }
        let (first, second) = if echo { (identity, 0) } else { (own, port) };
        let number_of = u8::try_from(i32::from(protocol)).unwrap_or(u8::MAX);
        Ok(Pending {
            number,
            socket,
            key: Key::Ports(attempt.from, attempt.to, number_of, first, second),
            kind: match attempt.action {
                Action::Connect(_) => Kind::Connect,
                Action::Tell(_) => Kind::Tell,
                _ => Kind::Answer,
            },
            until: Instant::now() + PATIENCE * times,
            came: None,
            judged: None,
        })
    }

    fn begin_lease(
        &mut self,
        number: usize,
        attempt: &Attempt,
        mac: Option<[u8; 6]>,
        times: u32,
    ) -> io::Result<Pending> {
        let cable = attempt.cable.ok_or(io::ErrorKind::InvalidInput)?;
        let transaction = 0x6261_0000 | u32::try_from(number).unwrap_or(u32::MAX);
        let socket = self.site.ends[cable].within(lease::listener)?;
        let mark = self.site.mark();
        let mac = mac.unwrap_or(Wire::device_mac(cable));
        self.site.cables[cable].put_from_nobody(mark, &lease::discover(transaction, mac))?;
        Ok(Pending {
            number,
            socket,
            key: Key::Mark(mark),
            kind: Kind::Lease(transaction),
            until: Instant::now() + LEASE_PATIENCE * times,
            came: None,
            judged: None,
        })
    }
}

impl Pending {
    /// Looks whether something has come back, and keeps the first that has.
    pub(super) fn look(&mut self) {
        if self.came.is_some() {
            return;
        }
        let plain = |seen| Came { seen, detail: None };
        self.came = match self.kind {
            Kind::Connect => connected(&self.socket).map(plain),
            Kind::Answer => answered(&self.socket).map(plain),
            Kind::Tell => None,
            Kind::Lease(transaction) => lease::offer(&self.socket, transaction)
                .map(|Offer(at)| Came { seen: Seen::Reply, detail: Some(at.to_string()) }),
        };
    }
}

/// A connected socket may get a refusal from the very call that sends.
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

fn speak_to_everyone(socket: &Socket, from: IpAddr) -> io::Result<()> {
    socket.set_broadcast(true)?;
    match from {
        IpAddr::V4(own) => socket.set_multicast_if_v4(&own),
        IpAddr::V6(_) => {
            let index = rustix::net::netdevice::name_to_index(socket, build::DEVICE)?;
            socket.set_multicast_if_v6(index)
        }
    }
}
