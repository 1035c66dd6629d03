//! Recognises a conversation in what the packet filter reports.

use crate::kernel::frame::mark_of;
use crate::kernel::trace::Step;
use std::net::IpAddr;

/// By what a packet is known in the trace: its ends, protocol and ports; or its mark.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub(super) enum Key {
    Ports(IpAddr, IpAddr, u8, u16, u16),
    Mark(u16),
}

/// By what a packet that is seen first may be known.
pub(super) fn keys(step: &Step) -> Vec<Key> {
    let (header, transport) = (&step.header, &step.transport);
    let mark = mark_of(header).map(|(_, mark)| Key::Mark(mark));
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
