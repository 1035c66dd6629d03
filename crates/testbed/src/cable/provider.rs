//! The provider of an uplink, where the cable outside leads to nobody else: it leases one address to the gateway (RFC 2131),
//! and makes itself known as a router (RFC 4861).
//!
//! A second server for leases does harm wherever it turns up, so this one begins late, and ends as soon as anything is heard
//! that does not belong on a cable between two devices.

#[cfg(test)]
mod tests;

use super::frame::Mac;
use ipnet::{Ipv4Net, Ipv6Net};
use smoltcp::wire::{
    DhcpFlags, DhcpMessageType, DhcpOpCode, DhcpOption, DhcpPacket, DhcpRepr, EthernetAddress,
};
use std::net::Ipv4Addr;
use std::time::{Duration, Instant};

/// For how long is listened before anything is leased: other servers have answered a question by then, though some look first
/// whether anybody has the address.
pub const LISTENS: Duration = Duration::from_secs(4);
/// For how long an address is leased. It is renewed as long as anybody tries something, and gone soon after.
pub(super) const LEASE: Duration = Duration::from_secs(300);
/// How often a router makes itself known unasked.
const ADVERTISES: Duration = Duration::from_secs(30);
/// What options begin with (RFC 2132, 2).
const MAGIC: u32 = 0x6382_5363;
/// Options of DHCP (RFC 2132).
const REQUESTED: u8 = 50;
const KIND: u8 = 53;
const SERVER: u8 = 54;
const CLIENT: u8 = 61;

/// What the gateway gets on an uplink.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Handout {
    /// The subnet between both: its first address is the provider's, its second one the gateway's.
    pub subnet: Ipv4Net,
    /// The prefix that the provider makes known, of which the gateway makes an address.
    pub prefix: Option<Ipv6Net>,
}

impl Handout {
    /// The address that is leased.
    pub fn leased(&self) -> Ipv4Addr {
        Ipv4Addr::from_bits(self.subnet.network().to_bits().saturating_add(2))
    }

    /// The provider's own.
    fn router(&self) -> Ipv4Addr {
        Ipv4Addr::from_bits(self.subnet.network().to_bits().saturating_add(1))
    }
}

/// How far it has come with a lease.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Provided {
    /// Nobody has asked yet, or the address was offered and not taken yet.
    NotYet,
    /// The gateway has taken it.
    Taken(Ipv4Addr),
    /// Somebody else leases addresses there.
    OtherServer,
    /// Several devices are there.
    SeveralDevices,
}

/// The provider of an uplink.
#[derive(Debug)]
pub(super) struct Provider {
    pub(super) handout: Handout,
    pub(super) state: Provided,
    since: Instant,
    pub(super) advertised: Option<Instant>,
    /// Who is on the cable: the first one that was heard.
    client: Option<Mac>,
}

/// A message to the gateway.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Letter {
    /// From the provider's address.
    pub(super) from: Ipv4Addr,
    /// To which address.
    pub(super) to: Ipv4Addr,
    /// What it says.
    pub(super) payload: Vec<u8>,
}

/// What a client asks.
struct Asked<'l> {
    kind: DhcpMessageType,
    transaction: u32,
    mac: EthernetAddress,
    has: Ipv4Addr,
    broadcast: bool,
    wants: Option<Ipv4Addr>,
    of: Option<Ipv4Addr>,
    /// The client's own name for itself, which has to come back (RFC 6842).
    name: Option<&'l [u8]>,
}

impl Provider {
    pub(super) fn new(handout: Handout, now: Instant) -> Self {
        Self { handout, state: Provided::NotYet, since: now, advertised: None, client: None }
    }

    /// Notes that a device was heard on the cable.
    pub(super) fn heard(&mut self, mac: Mac) {
        if *self.client.get_or_insert(mac) != mac {
            self.state = Provided::SeveralDevices;
        }
    }

    /// Notes that somebody else leases addresses there.
    pub(super) fn other_server(&mut self) {
        if self.state != Provided::SeveralDevices {
            self.state = Provided::OtherServer;
        }
    }

    /// Whether it has not listened for long enough yet.
    pub(super) fn still_listens(&self) -> bool {
        self.state == Provided::NotYet && self.since.elapsed() < LISTENS
    }

    /// Whether it does anything: it has listened long enough, and has heard nobody but one device.
    fn serves(&self, now: Instant) -> bool {
        matches!(self.state, Provided::NotYet | Provided::Taken(_)) && now - self.since >= LISTENS
    }

    /// Whether it is time to make itself known as a router.
    pub(super) fn advertises(&mut self, now: Instant) -> bool {
        let due = self.advertised.is_none_or(|last| now - last >= ADVERTISES);
        if !due || !self.serves(now) || self.handout.prefix.is_none() {
            return false;
        }
        self.advertised = Some(now);
        true
    }

    /// The same once more, since somebody asks for routers.
    pub(super) fn is_asked_for_routers(&mut self) {
        self.advertised = None;
    }

    /// Answers a client; `None` for what takes no answer.
    pub(super) fn answer(&mut self, payload: &[u8], now: Instant) -> Option<Letter> {
        let packet = DhcpPacket::new_checked(payload).ok()?;
        let asked = Asked::read(&packet)?;
        if !self.serves(now) {
            return None;
        }
        let (leased, router) = (self.handout.leased(), self.handout.router());
        let is_for_other = asked.of.is_some_and(|server| server != router);
        match asked.kind {
            DhcpMessageType::Discover => Some(self.letter(&asked, DhcpMessageType::Offer)),
            DhcpMessageType::Request if is_for_other => None,
            DhcpMessageType::Request => {
                // A client that selects an address or remembers one names it; one that renews has it, and gets no answer where it is
                // another server's (RFC 2131 4.3.2).
                match asked.wants {
                    Some(wanted) if wanted != leased => {
                        return Some(self.letter(&asked, DhcpMessageType::Nak));
                    }
                    None if asked.has != leased => return None,
                    _ => {}
                }
                self.state = Provided::Taken(leased);
                Some(self.letter(&asked, DhcpMessageType::Ack))
            }
            DhcpMessageType::Release | DhcpMessageType::Decline if !is_for_other => {
                self.state = Provided::NotYet;
                None
            }
            _ => None,
        }
    }

    fn letter(&self, asked: &Asked<'_>, kind: DhcpMessageType) -> Letter {
        let refuses = kind == DhcpMessageType::Nak;
        let (none, router) = (Ipv4Addr::UNSPECIFIED, self.handout.router());
        let seconds = u32::try_from(LEASE.as_secs()).unwrap_or(u32::MAX);
        let name = asked.name.map(|data| DhcpOption { kind: CLIENT, data });
        let says = DhcpRepr {
            message_type: kind,
            transaction_id: asked.transaction,
            secs: 0,
            client_hardware_address: asked.mac,
            client_ip: if refuses { none } else { asked.has },
            your_ip: if refuses { none } else { self.handout.leased() },
            server_ip: none,
            router: (!refuses).then_some(router),
            subnet_mask: (!refuses).then(|| self.handout.subnet.netmask()),
            relay_agent_ip: none,
            broadcast: asked.broadcast,
            requested_ip: None,
            client_identifier: None,
            server_identifier: Some(router),
            parameter_request_list: None,
            dns_servers: None,
            max_size: None,
            lease_duration: (!refuses).then_some(seconds),
            renew_duration: (!refuses).then_some(seconds / 2),
            rebind_duration: (!refuses).then_some(seconds / 8 * 7),
            additional_options: name.as_slice(),
        };
        let mut payload = vec![0; says.buffer_len().max(300)];
        // The room is enough, which is all that it can fail of.
        let _ = says.emit(&mut DhcpPacket::new_unchecked(&mut payload));
        let everyone = refuses || asked.broadcast && asked.has.is_unspecified();
        let to = match (everyone, asked.has.is_unspecified()) {
            (true, _) => Ipv4Addr::BROADCAST,
            (false, true) => self.handout.leased(),
            (false, false) => asked.has,
        };
        Letter { from: router, to, payload }
    }
}

impl<'l> Asked<'l> {
    fn read(packet: &'l DhcpPacket<&'l [u8]>) -> Option<Self> {
        if packet.opcode() != DhcpOpCode::Request || packet.magic_number() != MAGIC {
            return None;
        }
        let mut options = packet.options();
        let mut asked = Self {
            kind: DhcpMessageType::Unknown(0),
            transaction: packet.transaction_id(),
            mac: packet.client_hardware_address(),
            has: packet.client_ip(),
            broadcast: packet.flags().contains(DhcpFlags::BROADCAST),
            wants: None,
            of: None,
            name: None,
        };
        let address = |data: &[u8]| <[u8; 4]>::try_from(data).ok().map(Ipv4Addr::from);
        options.try_for_each(|DhcpOption { kind, data }| {
            match kind {
                KIND => asked.kind = DhcpMessageType::from(*data.first()?),
                REQUESTED => asked.wants = Some(address(data)?),
                SERVER => asked.of = Some(address(data)?),
                CLIENT => asked.name = Some(data),
                _ => {}
            }
            Some(())
        })?;
        Some(asked)
    }
}
