//! Sockets that wait for conversations to get through.

use super::{Expected, Testbed};
use socket2::{Domain, Protocol, SockAddr, Socket, Type};
use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};

impl Testbed<'_> {
    /// Has a name server answer at an address.
    ///
    /// # Errors
    /// When nobody can listen there.
    pub fn serve_names(&mut self, cable: usize, at: IpAddr) -> io::Result<()> {
        let server = Expected { cable: Some(cable), at, tcp: false, port: 53 };
        self.name_servers.insert(server);
        self.listen(server)
    }

    pub(super) fn listen(&mut self, who: Expected) -> io::Result<()> {
        if self.open.contains(&who) {
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
        self.open.insert(who);
        if who.tcp {
            self.tcp.push((socket, who))
        } else {
            self.udp.push((socket, who))
        }
        Ok(())
    }

    /// Lets everyone who listens answer.
    pub(in crate::site) fn serve(&mut self) -> io::Result<()> {
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
}

fn receive(socket: &Socket, buffer: &mut [u8]) -> Option<(usize, SockAddr)> {
    let (length, from) =
        rustix::net::recvfrom(socket, &mut *buffer, rustix::net::RecvFlags::DONTWAIT)
            .ok()
            .and_then(|(length, _, from)| Some((length, SocketAddr::try_from(from?).ok()?)))?;
    Some((length, SockAddr::from(from)))
}

/// Sockets by which the gateway is in the groups that speak of names (RFC 6762), on every cable.
pub(super) fn join_groups(cables: usize) -> io::Result<Vec<Socket>> {
    let (v4, v6) = (Ipv4Addr::new(224, 0, 0, 251), [0xff02, 0, 0, 0, 0, 0, 0, 0xfb].into());
    let one = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
    let other = Socket::new(Domain::IPV6, Type::DGRAM, Some(Protocol::UDP))?;
    // The first interface is the loopback's; the cables follow.
    for (index, _) in (2..).zip(0..=cables * 2) {
        let _ = one.join_multicast_v4_n(&v4, &socket2::InterfaceIndexOrAddress::Index(index));
        let _ = other.join_multicast_v6(&v6, index);
    }
    Ok(vec![one, other])
}
