//! Packets built byte by byte: whatever a device could send, with any source.

use rustix::net::netdevice::name_to_index;
use rustix::net::{
    AddressFamily, Protocol, SocketFlags, SocketType, addr, bind, send, socket_with,
};
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::os::fd::OwnedFd;

/// A packet to put on a cable.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Raw {
    /// Its source.
    pub source: IpAddr,
    /// Its destination, of the same family.
    pub destination: IpAddr,
    /// The IP protocol number.
    pub protocol: u8,
    /// The destination port, or ICMP type and code (type in the upper half).
    pub detail: u16,
    /// By which it is known again: the identification of IPv4 (RFC 791), or the flow label of IPv6.
    pub mark: u16,
    /// The source port, where it has ports.
    pub source_port: u16,
}

/// The kernel's address of a cable's end (`struct sockaddr_ll`).
#[repr(C)]
pub(crate) struct LinkAddress {
    family: u16,
    protocol: u16,
    index: i32,
    hardware: u16,
    kind: u8,
    length: u8,
    address: [u8; 8],
}

impl LinkAddress {
    /// The end with that index; a socket bound to it hears frames of that type, in network order, and none for 0.
    pub(crate) fn new(protocol: u16, index: i32) -> Self {
        Self {
            family: AddressFamily::PACKET.as_raw(),
            protocol,
            index,
            hardware: 0,
            kind: 0,
            length: 0,
            address: [0; 8],
        }
    }
}

#[expect(unsafe_code, reason = "the kernel is handed an address that the crate does not know")]
// SAFETY: the structure is laid out as the kernel's, and lives during the call.
unsafe impl addr::SocketAddrArg for LinkAddress {
    unsafe fn with_sockaddr<R>(
        &self,
        f: impl FnOnce(*const addr::SocketAddrOpaque, addr::SocketAddrLen) -> R,
    ) -> R {
        f(
            std::ptr::from_ref(self).cast(),
            addr::SocketAddrLen::try_from(size_of::<Self>()).unwrap_or(0),
        )
    }
}

/// The end of a cable, on which frames can be put.
pub struct Cable {
    socket: OwnedFd,
    /// The gateway's hardware address, then the sender's.
    ends: [[u8; 6]; 2],
}

impl Cable {
    /// Takes hold of an interface of the network that this thread is in.
    ///
    /// # Errors
    /// When there is none of that name, or the system does not let it be used so.
    pub fn new(interface: &str, to: [u8; 6], from: [u8; 6]) -> io::Result<Self> {
        let nothing: Option<Protocol> = None;
        let socket =
            socket_with(AddressFamily::PACKET, SocketType::RAW, SocketFlags::CLOEXEC, nothing)?;
        let index = name_to_index(&socket, interface)?;
        bind(&socket, &LinkAddress::new(0, index.cast_signed()))?;
        Ok(Self { socket, ends: [to, from] })
    }

    /// Puts a packet on it.
    ///
    /// # Errors
    /// When the families of its ends differ, or the cable is not there any more.
    pub fn put(&self, packet: &Raw) -> io::Result<()> {
        let mut frame = Vec::with_capacity(128);
        frame.extend_from_slice(&self.hardware(packet.destination));
        frame.extend_from_slice(&self.ends[1]);
        match (packet.source, packet.destination) {
            (IpAddr::V4(source), IpAddr::V4(destination)) => {
                frame.extend_from_slice(&[0x08, 0x00]);
                v4(&mut frame, packet, source, destination);
            }
            (IpAddr::V6(source), IpAddr::V6(destination)) => {
                frame.extend_from_slice(&[0x86, 0xdd]);
                v6(&mut frame, packet, source, destination);
            }
            _ => return Err(io::ErrorKind::InvalidInput.into()),
        }
        send(&self.socket, &frame, rustix::net::SendFlags::empty())?;
        Ok(())
    }

    /// Puts a UDP packet on it that comes from nobody and goes to everyone: a question for a lease.
    ///
    /// # Errors
    /// When the cable is not there any more.
    pub fn put_from_nobody(&self, mark: u16, payload: &[u8]) -> io::Result<()> {
        let mut body = Vec::with_capacity(payload.len() + 8);
        for word in [68, 67, sixteen_bits(payload.len() + 8), 0] {
            body.extend_from_slice(&word.to_be_bytes());
        }
        body.extend_from_slice(payload);
        let ends = (Ipv4Addr::UNSPECIFIED, Ipv4Addr::BROADCAST);
        let pseudo = pseudo(&ends.0.octets(), &ends.1.octets(), 17, body.len());
        let sum = checksum(&body, pseudo);
        body[6..8].copy_from_slice(&sum.to_be_bytes());
        let mut frame = vec![0xff; 6];
        frame.extend_from_slice(&self.ends[1]);
        frame.extend_from_slice(&[0x08, 0x00]);
        frame.extend_from_slice(&v4_header(17, mark, ends.0, ends.1, body.len()));
        frame.extend_from_slice(&body);
        send(&self.socket, &frame, rustix::net::SendFlags::empty())?;
        Ok(())
    }

    /// Where a packet for that address is sent on the cable (RFC 1112 6.4, RFC 2464 7).
    fn hardware(&self, destination: IpAddr) -> [u8; 6] {
        match destination {
            IpAddr::V4(Ipv4Addr::BROADCAST) => [0xff; 6],
            IpAddr::V4(address) if address.is_multicast() => {
                let [_, b, c, d] = address.octets();
                [0x01, 0x00, 0x5e, b & 0x7f, c, d]
            }
            IpAddr::V6(address) if address.is_multicast() => {
                let octets = address.octets();
                [0x33, 0x33, octets[12], octets[13], octets[14], octets[15]]
            }
            _ => self.ends[0],
        }
    }
}

fn v4(frame: &mut Vec<u8>, packet: &Raw, source: Ipv4Addr, destination: Ipv4Addr) {
    let body = body(packet);
    let (protocol, mark) = (packet.protocol, packet.mark);
    frame.extend_from_slice(&v4_header(protocol, mark, source, destination, body.len()));
    let pseudo = pseudo(&source.octets(), &destination.octets(), packet.protocol, body.len());
    frame.extend_from_slice(&summed(packet, body, pseudo));
}

/// A header of IPv4 (RFC 791).
fn v4_header(
    protocol: u8,
    mark: u16,
    source: Ipv4Addr,
    destination: Ipv4Addr,
    length: usize,
) -> Vec<u8> {
    let mut header = Vec::with_capacity(20);
    header.extend_from_slice(&[0x45, 0]);
    header.extend_from_slice(&sixteen_bits(20 + length).to_be_bytes());
    header.extend_from_slice(&mark.to_be_bytes());
    header.extend_from_slice(&[0, 0, 64, protocol, 0, 0]);
    header.extend_from_slice(&source.octets());
    header.extend_from_slice(&destination.octets());
    let sum = checksum(&header, 0);
    header[10..12].copy_from_slice(&sum.to_be_bytes());
    header
}

fn v6(frame: &mut Vec<u8>, packet: &Raw, source: Ipv6Addr, destination: Ipv6Addr) {
    let body = body(packet);
    frame.extend_from_slice(&(0x6000_0000 | u32::from(packet.mark)).to_be_bytes());
    frame.extend_from_slice(&sixteen_bits(body.len()).to_be_bytes());
    // Neighbour discovery is good only with the full hop limit (RFC 4861).
    frame.extend_from_slice(&[packet.protocol, 255]);
    frame.extend_from_slice(&source.octets());
    frame.extend_from_slice(&destination.octets());
    let pseudo = pseudo(&source.octets(), &destination.octets(), packet.protocol, body.len());
    frame.extend_from_slice(&summed(packet, body, pseudo));
}

/// What follows the network header, its checksum not filled in yet.
fn body(packet: &Raw) -> Vec<u8> {
    let [source, port] = [packet.source_port, packet.detail].map(u16::to_be_bytes);
    let mut body = Vec::with_capacity(32);
    match packet.protocol {
        // TCP: a first segment, SYN alone (RFC 9293).
        6 => {
            body.extend_from_slice(&source);
            body.extend_from_slice(&port);
            body.extend_from_slice(&[0, 0, 0, 1, 0, 0, 0, 0, 0x50, 0x02, 0xff, 0xff, 0, 0, 0, 0]);
        }
        // UDP and UDP-Lite, eight bytes of header and eight more.
        17 | 136 => {
            body.extend_from_slice(&source);
            body.extend_from_slice(&port);
            body.extend_from_slice(&[0, 16, 0, 0]);
            body.extend_from_slice(&[0; 8]);
        }
        // SCTP: a common header and an INIT chunk (RFC 9260).
        132 => {
            body.extend_from_slice(&source);
            body.extend_from_slice(&port);
            body.extend_from_slice(&[0; 8]);
            body.extend_from_slice(&[1, 0, 0, 20, 0, 0, 0, 1, 0, 1, 0, 0, 0, 1, 0, 1, 0, 0, 0, 1]);
            let sum = crc32c(&body);
            body[8..12].copy_from_slice(&sum.to_le_bytes());
        }
        // DCCP: a request, with long sequence numbers (RFC 4340).
        33 => {
            body.extend_from_slice(&source);
            body.extend_from_slice(&port);
            body.extend_from_slice(&[5, 0, 0, 0, 0x01, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0]);
        }
        1 | 58 => {
            body.extend_from_slice(&packet.detail.to_be_bytes());
            body.extend_from_slice(&[0, 0]);
            body.extend_from_slice(&packet.source_port.to_be_bytes());
            body.extend_from_slice(&[0, 1]);
            body.extend_from_slice(&[0; 16]);
        }
        _ => body.extend_from_slice(&[0; 16]),
    }
    body
}

/// Fills in the checksum that the protocol has.
fn summed(packet: &Raw, mut body: Vec<u8>, pseudo: u32) -> Vec<u8> {
    let (place, pseudo) = match packet.protocol {
        6 => (16, pseudo),
        17 | 136 => (6, pseudo),
        33 => (6, pseudo),
        1 => (2, 0),
        58 => (2, pseudo),
        _ => return body,
    };
    let sum = checksum(&body, pseudo);
    body[place..place + 2].copy_from_slice(&sum.to_be_bytes());
    body
}

/// The sum over the addresses that the checksums of transport protocols include.
fn pseudo(source: &[u8], destination: &[u8], protocol: u8, length: usize) -> u32 {
    words(source) + words(destination) + u32::from(protocol) + u32::from(sixteen_bits(length))
}

fn words(bytes: &[u8]) -> u32 {
    let pairs = bytes.chunks(2);
    pairs.map(|pair| u32::from(pair[0]) << 8 | u32::from(*pair.get(1).unwrap_or(&0))).sum()
}

/// A number that has sixteen bits in a packet; as many as there can be where it is more.
fn sixteen_bits(number: usize) -> u16 {
    u16::try_from(number).unwrap_or(u16::MAX)
}

/// The Internet checksum (RFC 1071).
pub(crate) fn checksum(bytes: &[u8], more: u32) -> u16 {
    let mut sum = words(bytes) + more;
    while sum > 0xffff {
        sum = (sum & 0xffff) + (sum >> 16);
    }
    !sixteen_bits(sum as usize)
}

/// The checksum of SCTP (RFC 9260, appendix A).
fn crc32c(bytes: &[u8]) -> u32 {
    let mut sum = u32::MAX;
    for byte in bytes {
        sum ^= u32::from(*byte);
        for _ in 0..8 {
            sum = if sum & 1 == 1 { sum >> 1 ^ 0x82f6_3b78 } else { sum >> 1 };
        }
    }
    !sum
}

/// The mark and the family of a packet, by its network header.
pub fn mark_of(header: &[u8]) -> Option<(bool, u16)> {
    match header.first()? >> 4 {
        4 => Some((false, u16::from_be_bytes(header.get(4..6)?.try_into().ok()?))),
        6 => Some((true, u16::from_be_bytes(header.get(2..4)?.try_into().ok()?))),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn raw(protocol: u8, detail: u16) -> Raw {
        Raw {
            source: IpAddr::from([10, 44, 24, 10]),
            destination: IpAddr::from([10, 44, 40, 10]),
            protocol,
            detail,
            mark: 0x1234,
            source_port: 40_000,
        }
    }

    #[test]
    fn checksums_are_those_of_the_standards() {
        // The example of RFC 1071 3.
        assert_eq!(checksum(&[0x00, 0x01, 0xf2, 0x03, 0xf4, 0xf5, 0xf6, 0xf7], 0), !0xddf2);
        // The check value of CRC-32C.
        assert_eq!(crc32c(b"123456789"), 0xe306_9283);
    }

    #[test]
    fn a_packet_of_each_protocol_adds_up() {
        let (source, destination) = (Ipv4Addr::new(10, 44, 24, 10), Ipv4Addr::new(10, 44, 40, 10));
        for protocol in [1, 6, 17, 33, 136] {
            let mut frame = Vec::new();
            v4(&mut frame, &raw(protocol, 443), source, destination);
            assert_eq!(checksum(&frame[..20], 0), 0, "the header of {protocol}");
            let length = usize::from(u16::from_be_bytes([frame[2], frame[3]]));
            assert_eq!(length, frame.len(), "{protocol}");
            let body = &frame[20..];
            let pseudo = pseudo(&source.octets(), &destination.octets(), protocol, body.len());
            let pseudo = if protocol == 1 { 0 } else { pseudo };
            assert_eq!(checksum(body, pseudo), 0, "the body of {protocol}");
        }
        let v6_ends = (Ipv6Addr::LOCALHOST, Ipv6Addr::LOCALHOST);
        for protocol in [6, 17, 58] {
            let mut frame = Vec::new();
            v6(&mut frame, &raw(protocol, 443), v6_ends.0, v6_ends.1);
            let body = &frame[40..];
            assert_eq!(usize::from(u16::from_be_bytes([frame[4], frame[5]])), body.len());
            let pseudo = pseudo(&v6_ends.0.octets(), &v6_ends.1.octets(), protocol, body.len());
            assert_eq!(checksum(body, pseudo), 0, "{protocol}");
        }
    }

    #[test]
    fn ports_and_messages_stand_where_they_belong() {
        let at = |protocol, place: usize| {
            let body = body(&raw(protocol, 0x0801));
            u16::from_be_bytes([body[place], body[place + 1]])
        };
        for protocol in [6, 17, 33, 132, 136] {
            assert_eq!((at(protocol, 0), at(protocol, 2)), (40_000, 0x0801), "{protocol}");
        }
        assert_eq!(at(1, 0), 0x0801, "type and code");
        assert_eq!(at(58, 0), 0x0801);
    }

    #[test]
    fn a_packet_is_known_again_by_its_mark() {
        let (source, destination) = (Ipv4Addr::new(10, 44, 24, 10), Ipv4Addr::new(10, 44, 40, 10));
        let mut frame = Vec::new();
        v4(&mut frame, &raw(17, 53), source, destination);
        assert_eq!(mark_of(&frame), Some((false, 0x1234)));
        let mut frame = Vec::new();
        v6(&mut frame, &raw(17, 53), Ipv6Addr::LOCALHOST, Ipv6Addr::LOCALHOST);
        assert_eq!(mark_of(&frame), Some((true, 0x1234)));
        assert_eq!(mark_of(&[]), None);
        assert_eq!(mark_of(&[0x45]), None);
    }
}
