//! Parses frames.

use super::{Content, Heard, Mac, Packet, Segment};
use smoltcp::phy::ChecksumCapabilities;
use smoltcp::wire::{
    ArpOperation, ArpPacket, ArpRepr, EthernetFrame, EthernetProtocol, Icmpv4Message,
    Icmpv6Message, Icmpv6Packet, Icmpv6Repr, IpProtocol, Ipv4Packet, Ipv6Packet,
    NdiscPrefixInfoFlags, NdiscPrefixInformation, NdiscRepr,
};
use std::net::IpAddr;

/// What a frame says, and which hardware address it comes from; `None` for what is nothing that counts here.
pub(in crate::cable) fn read(frame: &[u8]) -> Option<(Mac, Heard)> {
    let frame = EthernetFrame::new_checked(frame).ok()?;
    let mac = frame.src_addr().0;
    let heard = match frame.ethertype() {
        EthernetProtocol::Arp => heard_arp(frame.payload()),
        EthernetProtocol::Ipv4 | EthernetProtocol::Ipv6 => {
            let (packet, body) = packet(frame.payload())?;
            match discovered(mac, &packet, body) {
                Some(heard) => Some(heard),
                None => Some(Heard::Packet(packet)),
            }
        }
        _ => None,
    }?;
    Some((mac, heard))
}

fn heard_arp(body: &[u8]) -> Option<Heard> {
    let says = ArpRepr::parse(&ArpPacket::new_checked(body).ok()?).ok()?;
    let ArpRepr::EthernetIpv4 { operation, source_hardware_addr, source_protocol_addr, .. } = says
    else {
        return None;
    };
    let ArpRepr::EthernetIpv4 { target_protocol_addr, .. } = says else { return None };
    let asks = IpAddr::from(source_protocol_addr);
    // A host that asks for its own address announces it.
    if operation == ArpOperation::Request && source_protocol_addr != target_protocol_addr {
        return Some(Heard::Who { target: target_protocol_addr.into(), asks });
    }
    let to = IpAddr::from(target_protocol_addr);
    Some(Heard::Here { address: asks, mac: source_hardware_addr.0, to })
}

/// A packet with what it carries, and its body as it is.
fn packet(bytes: &[u8]) -> Option<(Packet, &[u8])> {
    let (source, destination, protocol, body): (IpAddr, IpAddr, IpProtocol, &[u8]) =
        match bytes.first()? >> 4 {
            4 => {
                let packet = Ipv4Packet::new_unchecked(bytes);
                let header = usize::from(packet_header(bytes)?);
                let (source, destination) = (packet.src_addr(), packet.dst_addr());
                let end = usize::from(packet.total_len()).clamp(header, bytes.len());
                let body = &bytes[header..end];
                (source.into(), destination.into(), packet.next_header(), body)
            }
            6 if bytes.len() >= 40 => {
                let packet = Ipv6Packet::new_unchecked(bytes);
                let (source, destination) = (packet.src_addr(), packet.dst_addr());
                let end = (40 + usize::from(packet.payload_len())).min(bytes.len());
                (source.into(), destination.into(), packet.next_header(), &bytes[40..end])
            }
            _ => return None,
        };
    let content =
        content(protocol, body).unwrap_or_else(|| Content::Other(protocol.into(), body.to_vec()));
    Some((Packet { source, destination, content }, body))
}

/// The length of a header of IPv4, if it is there.
fn packet_header(bytes: &[u8]) -> Option<u8> {
    let length = (bytes[0] & 0x0f) * 4;
    (length >= 20 && bytes.len() >= usize::from(length)).then_some(length)
}

/// What a body is; of one that a notice gives back only the beginning is there.
fn content(protocol: IpProtocol, body: &[u8]) -> Option<Content> {
    let word = |at: usize| Some(u16::from_be_bytes(body.get(at..at + 2)?.try_into().ok()?));
    let long = |at: usize| Some(u32::from_be_bytes(body.get(at..at + 4)?.try_into().ok()?));
    match protocol {
        IpProtocol::Tcp => {
            let flags = body.get(13).copied().unwrap_or(0);
            let segment = match (flags & 2 != 0, flags & 16 != 0, flags & 4 != 0) {
                (_, _, true) => Segment::Reset,
                (true, false, _) => Segment::Open,
                (true, true, _) => Segment::Accept,
                _ => Segment::Further,
            };
            let answers = long(8).unwrap_or(0);
            Some(Content::Tcp { from: word(0)?, to: word(2)?, segment, number: long(4)?, answers })
        }
        IpProtocol::Udp => {
            let payload = body.get(8..)?.to_vec();
            Some(Content::Udp { from: word(0)?, to: word(2)?, payload })
        }
        IpProtocol::Icmp => {
            let kind = Icmpv4Message::from(*body.first()?);
            let is_port = body.get(1) == Some(&3);
            notice(kind == Icmpv4Message::DstUnreachable, is_port, body).or_else(|| {
                let reply = kind == Icmpv4Message::EchoReply;
                let echoes = reply || kind == Icmpv4Message::EchoRequest;
                echoes.then(|| echo(reply, body)).flatten()
            })
        }
        IpProtocol::Icmpv6 => {
            let kind = Icmpv6Message::from(*body.first()?);
            let is_port = body.get(1) == Some(&4);
            notice(kind == Icmpv6Message::DstUnreachable, is_port, body).or_else(|| {
                let reply = kind == Icmpv6Message::EchoReply;
                let echoes = reply || kind == Icmpv6Message::EchoRequest;
                echoes.then(|| echo(reply, body)).flatten()
            })
        }
        _ => None,
    }
}

fn notice(is_one: bool, port: bool, body: &[u8]) -> Option<Content> {
    // One that is about another is about nothing that was sent here.
    let about = is_one.then(|| quoted(body.get(8..)?)).flatten()?;
    Some(Content::Unreachable { port, about: Box::new(about) })
}

/// The packet that a notice gives back, if it is one that notices are about (RFC 1122 3.2.2).
fn quoted(bytes: &[u8]) -> Option<Packet> {
    let protocol = match bytes.first()? >> 4 {
        4 => (*bytes.get(9)?, bytes.get(usize::from(packet_header(bytes)?))?),
        _ => (*bytes.get(6)?, bytes.get(40)?),
    };
    let is_notice = matches!(protocol, (1, 3 | 4 | 5 | 11 | 12) | (58, 0..=127));
    (!is_notice).then(|| packet(bytes)).flatten().map(|(packet, _)| packet)
}

fn echo(reply: bool, body: &[u8]) -> Option<Content> {
    let word = |at: usize| Some(u16::from_be_bytes(body.get(at..at + 2)?.try_into().ok()?));
    let payload = body.get(8..)?.to_vec();
    Some(Content::Echo { reply, ident: word(4)?, sequence: word(6)?, payload })
}

/// What a packet of neighbour discovery says.
fn discovered(mac: Mac, packet: &Packet, body: &[u8]) -> Option<Heard> {
    let (IpAddr::V6(source), IpAddr::V6(destination)) = (packet.source, packet.destination) else {
        return None;
    };
    if !matches!(packet.content, Content::Other(58, _)) {
        return None;
    }
    let sums = ChecksumCapabilities::ignored();
    let says = Icmpv6Packet::new_checked(body).ok()?;
    match Icmpv6Repr::parse(&source, &destination, &says, &sums).ok()? {
        Icmpv6Repr::Ndisc(NdiscRepr::NeighborSolicit { target_addr, .. }) => {
            Some(Heard::Who { target: target_addr.into(), asks: source.into() })
        }
        Icmpv6Repr::Ndisc(NdiscRepr::NeighborAdvert { target_addr, lladdr, .. }) => {
            // What answers one alone need not say where it is (RFC 4861 4.4).
            let said = lladdr.and_then(|address| address.as_bytes().try_into().ok());
            let (address, to) = (target_addr.into(), destination.into());
            Some(Heard::Here { address, mac: said.unwrap_or(mac), to })
        }
        Icmpv6Repr::Ndisc(NdiscRepr::RouterSolicit { .. }) => Some(Heard::WhoRoutes),
        Icmpv6Repr::Ndisc(NdiscRepr::RouterAdvert { router_lifetime, prefix_info, .. }) => {
            let named = |info: NdiscPrefixInformation| {
                let makes = info.flags.contains(NdiscPrefixInfoFlags::ADDRCONF);
                (info.prefix, info.prefix_len, makes)
            };
            Some(Heard::Router {
                router: source,
                lifetime: router_lifetime.secs(),
                prefix: prefix_info.map(named),
            })
        }
        _ => None,
    }
}
