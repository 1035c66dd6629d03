//! An interface of this machine as the raw end of a cable: frames are sent and received with their VLAN tag (IEEE
//! 802.1Q).
//!
//! Tags are taken off and put on here, so that no VLAN device is needed, and nothing is left on this machine when this process
//! ends, whatever ends it. The kernel strips the tag of what comes in and tells it beside the frame (`packet(7)`).

use crate::kernel::frame::LinkAddress;
use rustix::net::netdevice::name_to_index;
use socket2::{Domain, MaybeUninitSlice, MsgHdrMut, Protocol, SockAddr, Socket, Type};
use std::io;
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd};

/// `ETH_P_ALL`, in network order.
const EVERYTHING: u16 = sixteen_bits(libc::ETH_P_ALL).to_be();
/// The tag protocol identifier of IEEE 802.1Q.
const TAGGED: [u8; 2] = [0x81, 0x00];
/// Where a frame's type, or its tag, stands: behind both hardware addresses.
const BEHIND_ADDRESSES: usize = 12;
/// The VLAN id within the tag control information.
const ID: u16 = 0x0fff;
/// The longest frame that is looked at.
const LONGEST: usize = 2048;
/// How many bytes of frames may wait to be read.
const WAITING: libc::c_int = 8 << 20;

/// An interface, held open.
pub struct Port {
    socket: Socket,
    /// Its hardware address.
    pub mac: [u8; 6],
    buffer: Vec<u8>,
}

/// A frame that came in: its VLAN id, if it had one, and the frame without the tag.
pub(crate) type Received = (Option<u16>, Vec<u8>);

impl Port {
    /// Takes hold of an interface of the network that this thread is in.
    ///
    /// # Errors
    /// When there is none of that name, or the system does not let it be used so.
    pub fn open(interface: &str) -> io::Result<Self> {
        // Nothing is heard before it is bound, or the frames of other interfaces would be among it.
        let socket = Socket::new(Domain::PACKET, Type::RAW, Some(Protocol::from(0)))?;
        let index = name_to_index(&socket, interface)?;
        set(&socket, libc::SOL_PACKET, libc::PACKET_AUXDATA, &1)?;
        set(&socket, libc::SOL_PACKET, libc::PACKET_IGNORE_OUTGOING, &1)?;
        // Only root may take larger buffers.
        if set(&socket, libc::SOL_SOCKET, libc::SO_RCVBUFFORCE, &WAITING).is_err() {
            socket.set_recv_buffer_size(WAITING as usize)?;
        }
        rustix::net::bind(&socket, &LinkAddress::new(EVERYTHING, index.cast_signed()))?;
        let groups = libc::packet_mreq {
            mr_ifindex: index.cast_signed(),
            mr_type: sixteen_bits(libc::PACKET_MR_ALLMULTI),
            mr_alen: 0,
            mr_address: [0; 8],
        };
        set(&socket, libc::SOL_PACKET, libc::PACKET_ADD_MEMBERSHIP, &groups)?;
        socket.set_nonblocking(true)?;
        let mac = hardware_address(&socket.local_addr()?);
        Ok(Self { socket, mac, buffer: Vec::with_capacity(LONGEST) })
    }

    /// Makes the port hear frames for other hardware addresses than its own, too.
    ///
    /// # Errors
    /// When the system does not let it.
    pub fn hear_all(&self, interface: &str) -> io::Result<()> {
        let all = libc::packet_mreq {
            mr_ifindex: name_to_index(&self.socket, interface)?.cast_signed(),
            mr_type: sixteen_bits(libc::PACKET_MR_PROMISC),
            mr_alen: 0,
            mr_address: [0; 8],
        };
        set(&self.socket, libc::SOL_PACKET, libc::PACKET_ADD_MEMBERSHIP, &all)
    }

    /// The same port, only to send.
    ///
    /// # Errors
    /// When the system has no room for it.
    pub(crate) fn again(&self) -> io::Result<Self> {
        Ok(Self { socket: self.socket.try_clone()?, mac: self.mac, buffer: Vec::new() })
    }

    /// Puts a frame on the cable, with a tag or without.
    ///
    /// # Errors
    /// When the interface is down or gone.
    pub(crate) fn send(&self, tag: Option<u16>, frame: &[u8]) -> io::Result<()> {
        let Some(id) = tag else { return self.socket.send(frame).map(drop) };
        let (addresses, rest) = frame.split_at(BEHIND_ADDRESSES);
        let tagged = [addresses, &TAGGED, &id.to_be_bytes(), rest].concat();
        self.socket.send(&tagged).map(drop)
    }

    /// The next frame that has come in; `None` if there is none now.
    ///
    /// # Errors
    /// When the interface is down or gone.
    pub(crate) fn receive(&mut self) -> io::Result<Option<Received>> {
        let mut control = [MaybeUninit::<u8>::uninit(); 128];
        self.buffer.clear();
        let (length, beside) = {
            let mut parts = [MaybeUninitSlice::new(self.buffer.spare_capacity_mut())];
            let mut message = MsgHdrMut::new().with_buffers(&mut parts).with_control(&mut control);
            match self.socket.recvmsg(&mut message, libc::MSG_DONTWAIT) {
                Ok(length) => (length, message.control_len()),
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => return Ok(None),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => return Ok(None),
                Err(error) => return Err(error),
            }
        };
        #[expect(
            unsafe_code,
            reason = "the crate does not say how much of the control part it filled"
        )]
        // SAFETY: the kernel has filled that many bytes of both, and no more than there is room for.
        let beside: &[u8] = unsafe {
            self.buffer.set_len(length.min(self.buffer.capacity()));
            std::slice::from_raw_parts(control.as_ptr().cast(), beside.min(control.len()))
        };
        let stripped = tag_beside(beside);
        Ok(Some(match stripped {
            Some(tci) => (Some(tci & ID), self.buffer.clone()),
            None => untagged(&self.buffer),
        }))
    }

    /// How many frames were lost since this was asked last, as there was no room for them.
    ///
    /// # Errors
    /// When the system does not say.
    pub(crate) fn lost(&self) -> io::Result<u32> {
        let mut counted = libc::tpacket_stats { tp_packets: 0, tp_drops: 0 };
        let mut length = length_of::<libc::tpacket_stats>();
        #[expect(unsafe_code, reason = "no crate knows this option")]
        // SAFETY: the structure is the kernel's own, and as long as is said.
        let done = unsafe {
            libc::getsockopt(
                self.socket.as_raw_fd(),
                libc::SOL_PACKET,
                libc::PACKET_STATISTICS,
                std::ptr::from_mut(&mut counted).cast(),
                &mut length,
            )
        };
        if done == 0 { Ok(counted.tp_drops) } else { Err(io::Error::last_os_error()) }
    }
}

impl AsFd for Port {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.socket.as_fd()
    }
}

/// A frame whose tag was left in it, as some drivers do.
fn untagged(frame: &[u8]) -> Received {
    match frame.get(BEHIND_ADDRESSES..BEHIND_ADDRESSES + 4) {
        Some([first, second, high, low]) if [*first, *second] == TAGGED => {
            let rest = [&frame[..BEHIND_ADDRESSES], &frame[BEHIND_ADDRESSES + 4..]].concat();
            (Some(u16::from_be_bytes([*high, *low]) & ID), rest)
        }
        _ => (None, frame.to_vec()),
    }
}

/// The tag control information that the kernel tells beside a frame (`struct tpacket_auxdata`).
fn tag_beside(control: &[u8]) -> Option<u16> {
    const HEADER: usize = size_of::<libc::cmsghdr>();
    const STATUS: usize = HEADER;
    const TCI: usize = HEADER + 16;
    let level = HEADER - 2 * size_of::<libc::c_int>();
    let number = |at: usize| Some(u32::from_ne_bytes(control.get(at..at + 4)?.try_into().ok()?));
    let ours = number(level)? == libc::SOL_PACKET as u32
        && number(level + 4)? == libc::PACKET_AUXDATA as u32;
    let has_tag = number(STATUS)? & libc::TP_STATUS_VLAN_VALID != 0;
    let tci = u16::from_ne_bytes(control.get(TCI..TCI + 2)?.try_into().ok()?);
    (ours && has_tag).then_some(tci)
}

/// A number of the kernel's that has sixteen bits, and is written with more.
#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "the rest is zero")]
const fn sixteen_bits(number: i32) -> u16 {
    number as u16
}

/// The length of a structure of the kernel's.
fn length_of<T>() -> libc::socklen_t {
    libc::socklen_t::try_from(size_of::<T>()).unwrap_or(0)
}

fn set<T>(socket: &Socket, level: i32, name: i32, value: &T) -> io::Result<()> {
    #[expect(unsafe_code, reason = "no crate knows these options")]
    // SAFETY: the value is of the kernel's type for the option, and lives during the call.
    let done = unsafe {
        libc::setsockopt(
            socket.as_raw_fd(),
            level,
            name,
            std::ptr::from_ref(value).cast(),
            length_of::<T>(),
        )
    };
    if done == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}

/// The hardware address in an address of the kernel's for a link (`struct sockaddr_ll`).
fn hardware_address(own: &SockAddr) -> [u8; 6] {
    #[expect(unsafe_code, reason = "the crate gives addresses of this family only as bytes")]
    // SAFETY: that many bytes are there.
    let bytes: &[u8] =
        unsafe { std::slice::from_raw_parts(own.as_ptr().cast(), own.len() as usize) };
    let at = std::mem::offset_of!(libc::sockaddr_ll, sll_addr);
    bytes.get(at..at + 6).and_then(|mac| mac.try_into().ok()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tag_is_found_in_the_frame_and_beside_it() {
        let frame = [&[1; 12][..], &[0x81, 0, 0x60, 24], &[8, 0, 0x45]].concat();
        assert_eq!(untagged(&frame), (Some(24), [&[1; 12][..], &[8, 0, 0x45]].concat()));
        assert_eq!(untagged(&frame[..14]), (None, frame[..14].to_vec()), "cut off");
        let beside = |status: u32, kind: i32| {
            let mut bytes = 36usize.to_ne_bytes().to_vec();
            bytes.extend([libc::SOL_PACKET, kind].iter().flat_map(|word| word.to_ne_bytes()));
            bytes.extend([status, 60, 60, 0].iter().flat_map(|word| word.to_ne_bytes()));
            bytes.extend([24u16, 0x8100].iter().flat_map(|word| word.to_ne_bytes()));
            bytes
        };
        let valid = libc::TP_STATUS_VLAN_VALID;
        assert_eq!(tag_beside(&beside(valid, libc::PACKET_AUXDATA)), Some(24));
        assert_eq!(tag_beside(&beside(0, libc::PACKET_AUXDATA)), None);
        assert_eq!(tag_beside(&beside(valid, 1)), None);
        assert_eq!(tag_beside(&beside(valid, libc::PACKET_AUXDATA)[..20]), None);
    }
}
