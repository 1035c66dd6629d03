//! The small part of netlink that is needed: sockets to the packet filter, and attributes.

use rustix::net::netlink::{self, SocketAddrNetlink};
use rustix::net::{AddressFamily, SocketFlags, SocketType, bind, socket_with, sockopt};
use std::io;
use std::os::fd::OwnedFd;

/// Room for what the kernel tells, in bytes: some hundred packets with all their steps.
const ROOM: usize = 32 << 20;

/// A socket to the packet filter, that hears of these groups (a mask).
pub(super) fn socket(groups: u32) -> io::Result<OwnedFd> {
    let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
    let family = AddressFamily::NETLINK;
    let socket = socket_with(family, SocketType::RAW, flags, Some(netlink::NETFILTER))?;
    if sockopt::set_socket_recv_buffer_size_force(&socket, ROOM).is_err() {
        sockopt::set_socket_recv_buffer_size(&socket, ROOM)?;
    }
    bind(&socket, &SocketAddrNetlink::new(0, groups))?;
    Ok(socket)
}

/// The messages in what was received: type and content.
pub(super) fn messages(mut bytes: &[u8]) -> impl Iterator<Item = (u16, &[u8])> {
    std::iter::from_fn(move || {
        let length = u32::from_ne_bytes(bytes.get(..4)?.try_into().ok()?) as usize;
        let kind = u16::from_ne_bytes(bytes.get(4..6)?.try_into().ok()?);
        let content = bytes.get(16..length)?;
        bytes = bytes.get(padded(length)..).unwrap_or_default();
        Some((kind, content))
    })
}

/// The attributes in a stretch of bytes: type without flags, and content.
pub(super) fn attributes(mut bytes: &[u8]) -> impl Iterator<Item = (u16, &[u8])> {
    std::iter::from_fn(move || {
        let length = u16::from_ne_bytes(bytes.get(..2)?.try_into().ok()?) as usize;
        let kind = u16::from_ne_bytes(bytes.get(2..4)?.try_into().ok()?) & 0x3fff;
        let content = bytes.get(4..length)?;
        bytes = bytes.get(padded(length)..).unwrap_or_default();
        Some((kind, content))
    })
}

fn padded(length: usize) -> usize {
    length.next_multiple_of(4)
}

/// A message with a header of the packet filter's own and no attributes.
pub(super) fn bare_message(kind: u16, flags: u16) -> Vec<u8> {
    let mut message = Vec::with_capacity(20);
    message.extend_from_slice(&20u32.to_ne_bytes());
    message.extend_from_slice(&kind.to_ne_bytes());
    message.extend_from_slice(&flags.to_ne_bytes());
    message.extend_from_slice(&[0; 8]);
    message.extend_from_slice(&[0; 4]);
    message
}
