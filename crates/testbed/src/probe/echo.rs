//! Echo requests, by the kind of socket that needs no privilege, or else by a raw one.

use socket2::{Domain, Protocol, SockAddr, Socket, Type};
use std::io::{self, Read};
use std::net::{IpAddr, SocketAddr};
use std::time::{Duration, Instant};

/// The payload, by which an answer is known.
const PAYLOAD: &[u8] = b"bastium echo request";
/// Type of an echo request and of its reply, in IPv4 (RFC 792) and in IPv6 (RFC 4443).
const V4: (u8, u8) = (8, 0);
const V6: (u8, u8) = (128, 129);

/// Sends one echo request and waits for the reply to it.
pub(super) fn ping(from: Option<IpAddr>, to: IpAddr, patience: Duration) -> io::Result<()> {
    let (domain, protocol, kinds) = match to {
        IpAddr::V4(_) => (Domain::IPV4, Protocol::ICMPV4, V4),
        IpAddr::V6(_) => (Domain::IPV6, Protocol::ICMPV6, V6),
    };
    let (mut socket, raw) = open(domain, protocol)?;
    if let Some(from) = from {
        socket.bind(&SockAddr::from(SocketAddr::new(from, 0)))?;
    }
    // Only a connected socket receives ICMP errors.
    socket.connect(&SockAddr::from(SocketAddr::new(to, 0)))?;
    let [low, high, ..] = std::process::id().to_le_bytes();
    let number = u16::from_le_bytes([low, high]);
    socket.send(&request(kinds.0, number))?;
    let until = Instant::now() + patience;
    let mut buffer = [0; 2048];
    loop {
        let left = until.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return Err(io::ErrorKind::TimedOut.into());
        }
        socket.set_read_timeout(Some(left))?;
        let length = socket.read(&mut buffer)?;
        let answer = message(&buffer[..length], raw && to.is_ipv4());
        if answer.is_some_and(|answer| answer[0] == kinds.1 && answer.ends_with(PAYLOAD)) {
            return Ok(());
        }
        if let Some(error) = answer.and_then(|answer| notice(answer, to.is_ipv4())) {
            return Err(error);
        }
    }
}

/// Opens the socket; the second is whether it is a raw one.
fn open(domain: Domain, protocol: Protocol) -> io::Result<(Socket, bool)> {
    if let Ok(socket) = Socket::new(domain, Type::DGRAM, Some(protocol)) {
        return Ok((socket, false));
    }
    let raw = Socket::new(domain, Type::RAW, Some(protocol)).map_err(|error| {
        io::Error::other(format!(
            "this system lets only its administrator send echo requests: {error}"
        ))
    })?;
    Ok((raw, true))
}

fn request(kind: u8, number: u16) -> Vec<u8> {
    let mut packet = vec![kind, 0, 0, 0];
    packet.extend(number.to_be_bytes());
    packet.extend([0, 1]);
    packet.extend(PAYLOAD);
    // In IPv6 the system writes the sum, since it is about the addresses as well.
    let sum = checksum(&packet).to_be_bytes();
    packet[2..4].copy_from_slice(&sum);
    packet
}

/// The Internet checksum (RFC 1071).
fn checksum(packet: &[u8]) -> u16 {
    let words = packet
        .chunks(2)
        .map(|pair| u32::from(pair[0]) << 8 | pair.get(1).map_or(0, |b| u32::from(*b)));
    let mut sum: u32 = words.sum();
    while sum > 0xffff {
        sum = (sum & 0xffff) + (sum >> 16);
    }
    !u16::try_from(sum).unwrap_or(u16::MAX)
}

/// The message in what was received: a raw socket of IPv4 gives the header before it.
fn message(packet: &[u8], with_header: bool) -> Option<&[u8]> {
    let start = if with_header { usize::from(packet.first()? & 0x0f) * 4 } else { 0 };
    packet.get(start..).filter(|message| message.len() >= 8)
}

/// What a message of the network itself says, where a raw socket sees it.
fn notice(message: &[u8], v4: bool) -> Option<io::Error> {
    let unreachable = if v4 { 3 } else { 1 };
    (message[0] == unreachable).then(|| io::ErrorKind::HostUnreachable.into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_checksum_of_a_packet_with_its_checksum_is_zero() {
        for number in [0, 1, 0x1234, 0xffff] {
            assert_eq!(checksum(&request(V4.0, number)), 0);
        }
        assert_eq!(
            checksum(&[0x00, 0x01, 0xf2, 0x03, 0xf4, 0xf5, 0xf6, 0xf7]),
            0x220d,
            "RFC 1071, 3"
        );
    }

    #[test]
    fn a_message_is_found_behind_a_header_of_any_length() {
        let mut packet = vec![0x46; 24];
        packet.extend(request(V4.1, 7));
        assert_eq!(message(&packet, true), Some(&request(V4.1, 7)[..]));
        assert_eq!(message(&[0x4f; 20], true), None, "cut off");
        assert_eq!(message(&[], true), None);
    }
}
