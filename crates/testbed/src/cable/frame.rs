//! Builds and parses frames: Ethernet (without the tag), ARP (RFC 826), neighbour discovery (RFC 4861), and packets.
//!
//! Checksums of what is made are finished; those of what comes are not looked at, since a kernel may hand over frames of its
//! own with checksums that its hardware would have finished.

mod read;
#[cfg(test)]
mod tests;

pub(super) use read::read;

use ipnet::Ipv6Net;
use smoltcp::phy::ChecksumCapabilities;
use smoltcp::time;
use smoltcp::wire::{
    ArpOperation, ArpPacket, ArpRepr, EthernetAddress, EthernetFrame, EthernetProtocol,
    EthernetRepr, Icmpv4Packet, Icmpv4Repr, Icmpv6Packet, Icmpv6Repr, IpAddress, IpProtocol,
    Ipv4Packet, Ipv4Repr, Ipv6Packet, Ipv6Repr, NdiscNeighborFlags, NdiscPrefixInfoFlags,
    NdiscPrefixInformation, NdiscRepr, NdiscRouterFlags, TcpControl, TcpPacket, TcpRepr,
    TcpSeqNumber, UdpPacket, UdpRepr,
};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::time::Duration;

/// A hardware address.
pub type Mac = [u8; 6];

/// Everyone on the link.
pub(super) const EVERYONE: Mac = [0xff; 6];

/// What a packet carries.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Content {
    /// A segment of TCP (RFC 9293).
    Tcp {
        /// From which port.
        from: u16,
        /// To which port.
        to: u16,
        /// What it is.
        segment: Segment,
        /// The sequence number.
        number: u32,
        /// The acknowledgement number.
        answers: u32,
    },
    /// A datagram of UDP.
    Udp {
        /// From which port.
        from: u16,
        /// To which port.
        to: u16,
        /// What it carries.
        payload: Vec<u8>,
    },
    /// An echo request or reply.
    Echo {
        /// Whether it is the reply.
        reply: bool,
        /// The identifier.
        ident: u16,
        /// The sequence number.
        sequence: u16,
        /// What it carries.
        payload: Vec<u8>,
    },
    /// A notice that something does not get where it should.
    Unreachable {
        /// Whether a port is closed; else it is the way that is.
        port: bool,
        /// The packet, as much of it as is given back.
        about: Box<Packet>,
    },
    /// Anything else, with its protocol's number.
    Other(u8, Vec<u8>),
}

/// What a segment of TCP is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Segment {
    /// It opens a connection.
    Open,
    /// It accepts one.
    Accept,
    /// It ends one, or refuses.
    Reset,
    /// Anything else.
    Further,
}

/// A packet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Packet {
    /// Its source.
    pub source: IpAddr,
    /// Its destination, of the same family.
    pub destination: IpAddr,
    /// What it carries.
    pub content: Content,
}

/// What a frame says.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Heard {
    /// Somebody asks who has an address, or probes whether anyone has.
    Who {
        /// The address.
        target: IpAddr,
        /// Who asks; unspecified for a probe.
        asks: IpAddr,
    },
    /// Somebody says that he has an address.
    Here {
        /// The address.
        address: IpAddr,
        /// At which hardware address.
        mac: Mac,
        /// To whom it is said.
        to: IpAddr,
    },
    /// A router makes itself known.
    Router {
        /// Its address on the link.
        router: Ipv6Addr,
        /// For how many seconds it is a default router.
        lifetime: u64,
        /// The prefix that it names, with its length, and whether addresses are to be made of it.
        prefix: Option<(Ipv6Addr, u8, bool)>,
    },
    /// Somebody asks for routers.
    WhoRoutes,
    /// A packet.
    Packet(Packet),
}

/// An ARP request or a neighbour solicitation. Asked from the unspecified address it is a probe (RFC 5227, RFC 4862).
pub(super) fn who_has(mac: Mac, own: IpAddr, target: IpAddr) -> Option<Vec<u8>> {
    match (own, target) {
        (IpAddr::V4(own), IpAddr::V4(target)) => {
            Some(arp(ArpOperation::Request, (mac, own), ([0; 6], target), EVERYONE))
        }
        (IpAddr::V6(own), IpAddr::V6(target)) => {
            let lladdr = (!own.is_unspecified()).then(|| EthernetAddress(mac).into());
            let asked = NdiscRepr::NeighborSolicit { target_addr: target, lladdr };
            let group = solicited_node(target);
            Some(discovery(mac, group_mac(group), own, group, asked))
        }
        _ => None,
    }
}

/// The answer to that: who has the address is here.
pub(super) fn is_here(mac: Mac, target: IpAddr, to: (Mac, IpAddr)) -> Option<Vec<u8>> {
    match (target, to.1) {
        (IpAddr::V4(own), IpAddr::V4(asks)) => {
            Some(arp(ArpOperation::Reply, (mac, own), (to.0, asks), to.0))
        }
        (IpAddr::V6(own), IpAddr::V6(asks)) => {
            let solicited = !asks.is_unspecified();
            let mut flags = NdiscNeighborFlags::OVERRIDE;
            flags.set(NdiscNeighborFlags::SOLICITED, solicited);
            let lladdr = Some(EthernetAddress(mac).into());
            let says = NdiscRepr::NeighborAdvert { flags, target_addr: own, lladdr };
            let (at, asks) =
                if solicited { (to.0, asks) } else { (group_mac(all_nodes()), all_nodes()) };
            Some(discovery(mac, at, own, asks, says))
        }
        _ => None,
    }
}

/// A question for routers.
pub(super) fn who_routes(mac: Mac, own: Ipv6Addr) -> Vec<u8> {
    let all_routers = Ipv6Addr::new(0xff02, 0, 0, 0, 0, 0, 0, 2);
    let asked = NdiscRepr::RouterSolicit { lladdr: Some(EthernetAddress(mac).into()) };
    discovery(mac, group_mac(all_routers), own, all_routers, asked)
}

/// A default router makes itself known, and a prefix to make addresses of (RFC 4861 4.2, RFC 4862), for that long.
pub(super) fn routes(mac: Mac, prefix: Ipv6Net, lasts: Duration) -> Vec<u8> {
    let lasts = time::Duration::from_secs(lasts.as_secs());
    let named = NdiscPrefixInformation {
        prefix_len: prefix.prefix_len(),
        flags: NdiscPrefixInfoFlags::ON_LINK | NdiscPrefixInfoFlags::ADDRCONF,
        valid_lifetime: lasts,
        preferred_lifetime: lasts,
        prefix: prefix.network(),
    };
    let says = NdiscRepr::RouterAdvert {
        hop_limit: 64,
        flags: NdiscRouterFlags::empty(),
        router_lifetime: lasts,
        reachable_time: time::Duration::ZERO,
        retrans_time: time::Duration::ZERO,
        lladdr: Some(EthernetAddress(mac).into()),
        mtu: None,
        prefix_info: Some(named),
    };
    discovery(mac, group_mac(all_nodes()), link_local(mac), all_nodes(), says)
}

/// The link-local address that follows from a hardware address (RFC 4291, appendix A).
pub fn link_local(mac: Mac) -> Ipv6Addr {
    let [a, b, c, d, e, f] = mac.map(u16::from);
    Ipv6Addr::new(0xfe80, 0, 0, 0, (a ^ 2) << 8 | b, c << 8 | 0xff, 0xfe00 | d, e << 8 | f)
}

fn all_nodes() -> Ipv6Addr {
    Ipv6Addr::new(0xff02, 0, 0, 0, 0, 0, 0, 1)
}

/// The group in which the owner of an address listens (RFC 4291 2.7.1).
fn solicited_node(address: Ipv6Addr) -> Ipv6Addr {
    let low = address.to_bits() & 0x00ff_ffff;
    Ipv6Addr::from_bits(Ipv6Addr::new(0xff02, 0, 0, 0, 0, 1, 0xff00, 0).to_bits() | low)
}

/// Where packets for a group go on the link (RFC 2464 7).
fn group_mac(group: Ipv6Addr) -> Mac {
    let octets = group.octets();
    [0x33, 0x33, octets[12], octets[13], octets[14], octets[15]]
}

fn arp(operation: ArpOperation, own: (Mac, Ipv4Addr), other: (Mac, Ipv4Addr), to: Mac) -> Vec<u8> {
    let says = ArpRepr::EthernetIpv4 {
        operation,
        source_hardware_addr: EthernetAddress(own.0),
        source_protocol_addr: own.1,
        target_hardware_addr: EthernetAddress(other.0),
        target_protocol_addr: other.1,
    };
    let mut body = vec![0; says.buffer_len()];
    says.emit(&mut ArpPacket::new_unchecked(&mut body));
    framed(to, own.0, EthernetProtocol::Arp, &body)
}

fn discovery(mac: Mac, to: Mac, own: Ipv6Addr, group: Ipv6Addr, says: NdiscRepr<'_>) -> Vec<u8> {
    let says = Icmpv6Repr::Ndisc(says);
    let mut body = vec![0; says.buffer_len()];
    let sums = ChecksumCapabilities::default();
    says.emit(&own, &group, &mut Icmpv6Packet::new_unchecked(&mut body), &sums);
    let packet = v6(own, group, IpProtocol::Icmpv6, &body);
    framed(to, mac, EthernetProtocol::Ipv6, &packet)
}

fn framed(to: Mac, from: Mac, ethertype: EthernetProtocol, body: &[u8]) -> Vec<u8> {
    let header =
        EthernetRepr { src_addr: EthernetAddress(from), dst_addr: EthernetAddress(to), ethertype };
    let mut frame = vec![0; header.buffer_len() + body.len()];
    let mut made = EthernetFrame::new_unchecked(&mut frame);
    header.emit(&mut made);
    made.payload_mut().copy_from_slice(body);
    frame
}

fn v4(source: Ipv4Addr, destination: Ipv4Addr, protocol: IpProtocol, body: &[u8]) -> Vec<u8> {
    let header = Ipv4Repr {
        src_addr: source,
        dst_addr: destination,
        next_header: protocol,
        payload_len: body.len(),
        hop_limit: 64,
    };
    let mut packet = vec![0; header.buffer_len() + body.len()];
    let mut made = Ipv4Packet::new_unchecked(&mut packet);
    header.emit(&mut made, &ChecksumCapabilities::default());
    made.payload_mut().copy_from_slice(body);
    packet
}

fn v6(source: Ipv6Addr, destination: Ipv6Addr, protocol: IpProtocol, body: &[u8]) -> Vec<u8> {
    let header = Ipv6Repr {
        src_addr: source,
        dst_addr: destination,
        next_header: protocol,
        payload_len: body.len(),
        // Neighbour discovery is good only with the full hop limit.
        hop_limit: if protocol == IpProtocol::Icmpv6 { 255 } else { 64 },
    };
    let mut packet = vec![0; header.buffer_len() + body.len()];
    let mut made = Ipv6Packet::new_unchecked(&mut packet);
    header.emit(&mut made);
    made.payload_mut().copy_from_slice(body);
    packet
}

impl Packet {
    /// The packet in a frame; `None` where its ends are of two families, or it carries a notice, which is only heard here.
    pub(super) fn framed(&self, to: Mac, from: Mac) -> Option<Vec<u8>> {
        if self.source.is_ipv6() != self.destination.is_ipv6() {
            return None;
        }
        let (protocol, body) = self.body()?;
        match (self.source, self.destination) {
            (IpAddr::V4(source), IpAddr::V4(destination)) => {
                let packet = v4(source, destination, protocol, &body);
                Some(framed(to, from, EthernetProtocol::Ipv4, &packet))
            }
            (IpAddr::V6(source), IpAddr::V6(destination)) => {
                let packet = v6(source, destination, protocol, &body);
                Some(framed(to, from, EthernetProtocol::Ipv6, &packet))
            }
            _ => None,
        }
    }

    fn body(&self) -> Option<(IpProtocol, Vec<u8>)> {
        let sums = ChecksumCapabilities::default();
        let (source, destination) =
            (IpAddress::from(self.source), IpAddress::from(self.destination));
        Some(match &self.content {
            Content::Tcp { from, to, segment, number, answers } => {
                let segment = segment_of(*from, *to, *segment, *number, *answers);
                let mut body = vec![0; segment.buffer_len()];
                let mut made = TcpPacket::new_unchecked(&mut body);
                segment.emit(&mut made, &source, &destination, &sums);
                (IpProtocol::Tcp, body)
            }
            Content::Udp { from, to, payload } => {
                let header = UdpRepr { src_port: *from, dst_port: *to };
                let mut body = vec![0; header.header_len() + payload.len()];
                let mut made = UdpPacket::new_unchecked(&mut body);
                let fill = |room: &mut [u8]| room.copy_from_slice(payload);
                header.emit(&mut made, &source, &destination, payload.len(), fill, &sums);
                (IpProtocol::Udp, body)
            }
            Content::Echo { .. } => self.echo()?,
            Content::Other(protocol, payload) => (IpProtocol::from(*protocol), payload.clone()),
            Content::Unreachable { .. } => return None,
        })
    }

    fn echo(&self) -> Option<(IpProtocol, Vec<u8>)> {
        let Content::Echo { reply, ident, sequence, payload } = &self.content else { return None };
        let sums = ChecksumCapabilities::default();
        let (ident, seq_no, data) = (*ident, *sequence, payload.as_slice());
        match (self.source, self.destination) {
            (IpAddr::V4(_), IpAddr::V4(_)) => {
                let says = match reply {
                    true => Icmpv4Repr::EchoReply { ident, seq_no, data },
                    false => Icmpv4Repr::EchoRequest { ident, seq_no, data },
                };
                let mut body = vec![0; says.buffer_len()];
                says.emit(&mut Icmpv4Packet::new_unchecked(&mut body), &sums);
                Some((IpProtocol::Icmp, body))
            }
            (IpAddr::V6(source), IpAddr::V6(destination)) => {
                let says = match reply {
                    true => Icmpv6Repr::EchoReply { ident, seq_no, data },
                    false => Icmpv6Repr::EchoRequest { ident, seq_no, data },
                };
                let mut body = vec![0; says.buffer_len()];
                let mut made = Icmpv6Packet::new_unchecked(&mut body);
                says.emit(&source, &destination, &mut made, &sums);
                Some((IpProtocol::Icmpv6, body))
            }
            _ => None,
        }
    }
}

fn segment_of(from: u16, to: u16, segment: Segment, number: u32, answers: u32) -> TcpRepr<'static> {
    let (control, acknowledges) = match segment {
        Segment::Open => (TcpControl::Syn, false),
        Segment::Accept => (TcpControl::Syn, true),
        Segment::Reset => (TcpControl::Rst, answers != 0),
        Segment::Further => (TcpControl::None, true),
    };
    TcpRepr {
        src_port: from,
        dst_port: to,
        control,
        seq_number: TcpSeqNumber(number.cast_signed()),
        ack_number: acknowledges.then_some(TcpSeqNumber(answers.cast_signed())),
        window_len: 1024,
        window_scale: None,
        max_seg_size: (control == TcpControl::Syn).then_some(1360),
        sack_permitted: false,
        sack_ranges: [None; 3],
        timestamp: None,
        payload: &[],
    }
}
