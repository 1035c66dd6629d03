//! The provider of an uplink, where the cable outside leads to nobody else: it leases one address to the gateway (RFC 2131),
//! and makes itself known as a router (RFC 4861).
//!
//! A second server for leases does harm wherever it turns up, so this one begins late, and ends as soon as anything is heard
//! that does not belong on a cable between two devices.

#[cfg(test)]
mod tests;

use super::ends::Ends;
use super::frame::{self, Content, EVERYONE, Mac, Packet};
use bastium_core::space::Family;
use ipnet::{Ipv4Net, Ipv6Net};
use smoltcp::wire::{
    DhcpFlags, DhcpMessageType, DhcpOpCode, DhcpOption, DhcpPacket, DhcpRepr, EthernetAddress,
};
use std::collections::BTreeSet;
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::time::{Duration, Instant};

/// For how long is listened before anything is leased: other servers have answered a question by then, though some look first
/// whether anybody has the address.
pub const LISTENS: Duration = Duration::from_secs(4);
/// For how long an address is leased. It is renewed as long as anybody tries something, and gone soon after.
pub(super) const LEASE: Duration = Duration::from_secs(300);
/// How often a router makes itself known unasked.
const ADVERTISES: Duration = Duration::from_secs(30);
/// The port and the identifier of what is only to be forwarded.
const KNOCKS: u16 = 47_301;
/// What options begin with (RFC 2132, 2).
const MAGIC: u32 = 0x6382_5363;
/// Options of DHCP (RFC 2132).
const REQUESTED: u8 = 50;
const KIND: u8 = 53;
const SERVER: u8 = 54;
const CLIENT: u8 = 61;

/// The half of an address that names an interface.
fn low(address: Ipv6Addr) -> u64 {
    let [.., e, f, g, h] = address.segments();
    [e, f, g, h].into_iter().fold(0, |low, segment| low << 16 | u64::from(segment))
}

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
    advertised: Option<Instant>,
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
                // Whoever selects an address or remembers one names it; who renews one has it, and gets no answer where it is
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

impl Ends {
    /// Stands in for the provider of a network outside, from a while from now on, unless somebody else is heard there.
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn provide(&mut self, lane: usize, handout: Handout) -> io::Result<()> {
        self.providers.insert(lane, Provider::new(handout, Instant::now()));
        self.ask_for_servers(lane)
    }

    /// How far the provider of a network outside has come; `None` where nobody stands in for it.
    pub fn provided(&self, lane: usize) -> Option<Provided> {
        self.providers.get(&lane).map(|provider| provider.state)
    }

    /// Whether the provider of a network outside has not listened for long enough yet.
    pub fn still_listens(&self, lane: usize) -> bool {
        self.providers.get(&lane).is_some_and(|provider| {
            provider.state == Provided::NotYet && provider.since.elapsed() < LISTENS
        })
    }

    /// Whether we have made ourselves known as a router in a network outside.
    pub fn is_router(&self, lane: usize) -> bool {
        self.providers.get(&lane).is_some_and(|provider| provider.advertised.is_some())
    }

    /// Makes the provider known as a router, where it is time to.
    pub(super) fn advertise(&mut self) -> io::Result<()> {
        let now = Instant::now();
        let due = self.providers.iter_mut().filter_map(|(lane, provider)| {
            let due = provider.advertises(now);
            due.then_some((*lane, provider.handout.prefix?))
        });
        for (lane, prefix) in due.collect::<Vec<_>>() {
            self.put(lane, &frame::routes(self.mac(lane), prefix, LEASE))?;
        }
        Ok(())
    }

    /// Lets the provider of a network look at a packet; whether that is all that it is for.
    pub(super) fn provider_hears(
        &mut self,
        lane: usize,
        from: Mac,
        packet: &Packet,
    ) -> io::Result<bool> {
        let Some(provider) = self.providers.get_mut(&lane) else { return Ok(false) };
        match &packet.content {
            Content::Udp { from: 67, to: 68, .. } => {
                provider.other_server();
                Ok(false)
            }
            Content::Udp { from: 68, to: 67, payload } => {
                let Some(letter) = provider.answer(payload, Instant::now()) else {
                    return Ok(true);
                };
                if let Provided::Taken(address) = provider.state {
                    self.leases_outside(lane, address, from);
                }
                let to = if letter.to.is_broadcast() { EVERYONE } else { from };
                let content = Content::Udp { from: 67, to: 68, payload: letter.payload };
                let (source, destination) = (letter.from.into(), letter.to.into());
                let frame = Packet { source, destination, content }.framed(to, self.mac(lane));
                frame.map_or(Ok(()), |frame| self.put(lane, &frame))?;
                Ok(true)
            }
            _ => Ok(false),
        }
    }

    /// Looks whether the gateway has made itself an address of the prefix that it was told, where it has shown none: from its
    /// hardware address, or as it has made the one on the link (RFC 4862, 5.3 and 5.5.3).
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn find_made_address(&mut self, lane: usize) -> io::Result<()> {
        let Some(prefix) = self.providers.get(&lane).and_then(|one| one.handout.prefix) else {
            return Ok(());
        };
        let known = self.gateway_of(lane, Family::V6);
        let local = match known {
            Some(IpAddr::V6(address)) if address.is_unicast_link_local() => Some(address),
            Some(_) => return Ok(()),
            None => None,
        };
        let of_mac = self.gateway_mac(lane, Family::V6).map(frame::link_local);
        let made: BTreeSet<IpAddr> = [local, of_mac]
            .into_iter()
            .flatten()
            .map(|link| Ipv6Addr::from_bits(prefix.network().to_bits() | u128::from(low(link))))
            .map(IpAddr::V6)
            .collect();
        let asked: Vec<(usize, IpAddr)> = made.into_iter().map(|made| (lane, made)).collect();
        let found = self.who_is_there(&asked)?;
        for (_, address) in asked.into_iter().filter(|at| found.get(at) == Some(&true)) {
            self.learn(lane, address);
        }
        Ok(())
    }

    /// Whether an address is one that the gateway makes of the prefix that it was told.
    pub(super) fn is_of_prefix(&self, lane: usize, address: IpAddr) -> bool {
        let prefix = self.providers.get(&lane).and_then(|provider| provider.handout.prefix);
        matches!(address, IpAddr::V6(address) if prefix.is_some_and(|own| own.contains(&address)))
    }

    /// Makes the gateway forward something, as far as its rules let it, so that it asks for its neighbours outside.
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn knock(&self, lane: usize, from: IpAddr, to: IpAddr) -> io::Result<()> {
        let open = Content::Tcp {
            from: KNOCKS,
            to: 443,
            segment: frame::Segment::Open,
            number: 1,
            answers: 0,
        };
        let echo = Content::Echo { reply: false, ident: KNOCKS, sequence: 1, payload: vec![0; 8] };
        for content in [open, echo] {
            self.send(lane, &Packet { source: from, destination: to, content })?;
        }
        Ok(())
    }
}
