//! Requests a lease (RFC 2131): the question, and the first answer to it.

use socket2::{Domain, Protocol, SockAddr, Socket, Type};
use std::io;
use std::net::{Ipv4Addr, SocketAddr};

/// The magic cookie before the options (RFC 2131 3).
const COOKIE: [u8; 4] = [99, 130, 83, 99];
/// The longest fixed part of a message.
const FIXED: usize = 236;

/// The address that somebody offers.
pub(super) struct Offer(pub(super) Ipv4Addr);

/// A question for a lease; the answer is to be sent to everyone.
pub(super) fn discover(transaction: u32, mac: [u8; 6]) -> Vec<u8> {
    let mut message = vec![0; FIXED];
    message[..4].copy_from_slice(&[1, 1, 6, 0]);
    message[4..8].copy_from_slice(&transaction.to_be_bytes());
    message[10] = 0x80;
    message[28..34].copy_from_slice(&mac);
    message.extend_from_slice(&COOKIE);
    // DHCPDISCOVER; wanted are mask, router and name server; the end.
    message.extend_from_slice(&[53, 1, 1, 55, 3, 1, 3, 6, 255]);
    message.resize(300, 0);
    message
}

/// A socket at which answers to everyone arrive, in the network that this thread is in.
pub(super) fn listener() -> io::Result<Socket> {
    let socket = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
    socket.set_reuse_address(true)?;
    socket.set_broadcast(true)?;
    socket.set_nonblocking(true)?;
    socket.bind(&SockAddr::from(SocketAddr::new(Ipv4Addr::UNSPECIFIED.into(), 68)))?;
    Ok(socket)
}

/// The offer that has come for a question, if one has.
pub(super) fn offer(socket: &Socket, transaction: u32) -> Option<Offer> {
    use std::io::Read;
    let mut buffer = [0; 1500];
    loop {
        let length = (&*socket).read(&mut buffer).ok()?;
        let message = &buffer[..length];
        let own = message.first() == Some(&2)
            && message.get(4..8) == Some(&transaction.to_be_bytes()[..])
            && message.get(FIXED..FIXED + 4) == Some(&COOKIE[..]);
        if own && kind(&message[FIXED + 4..]) == Some(2) {
            let address: [u8; 4] = message.get(16..20)?.try_into().ok()?;
            return Some(Offer(address.into()));
        }
    }
}

/// The kind of a message, among its options.
fn kind(mut options: &[u8]) -> Option<u8> {
    loop {
        match options {
            [255, ..] | [] => return None,
            [0, rest @ ..] => options = rest,
            [53, 1, kind, ..] => return Some(*kind),
            [_, length, rest @ ..] => options = rest.get(usize::from(*length)..)?,
            [_] => return None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_question_is_one_that_servers_read() {
        let mac = [0x02, 0, 0x5e, 0x36, 0, 0x10];
        let question = discover(0x6261_0007, mac);
        assert_eq!(question.len(), 300, "the least that all servers take (RFC 1542 2.1)");
        assert_eq!(question[..4], [1, 1, 6, 0]);
        assert_eq!(question[4..8], 0x6261_0007u32.to_be_bytes());
        assert_eq!(question[10], 0x80, "the answer is to be for everyone");
        assert_eq!(question[28..34], mac);
        assert_eq!(question[FIXED..FIXED + 4], COOKIE);
        assert_eq!(kind(&question[FIXED + 4..]), Some(1));
    }

    #[test]
    fn the_kind_of_a_message_is_found_among_its_options() {
        assert_eq!(kind(&[0, 0, 1, 4, 255, 255, 255, 0, 53, 1, 2, 255]), Some(2));
        assert_eq!(kind(&[1, 4, 255, 255, 255, 0, 255, 53, 1, 2]), None, "behind the end");
        assert_eq!(kind(&[1, 200, 0]), None, "cut off");
        assert_eq!(kind(&[53]), None);
        assert_eq!(kind(&[]), None);
    }
}
