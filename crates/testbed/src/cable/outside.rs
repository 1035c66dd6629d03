//! Our end outside, where we stand in for the provider of the gateway's uplink.

use super::ends::Ends;
use super::frame::{self, Content, EVERYONE, Mac, Packet};
use super::provider::{Handout, LEASE, Provided, Provider};
use bastium_core::space::Family;
use std::collections::BTreeSet;
use std::io;
use std::net::{IpAddr, Ipv6Addr};
use std::time::Instant;

/// The port and the identifier of what is only to be forwarded.
const KNOCKS: u16 = 47_301;

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
        self.providers.get(&lane).is_some_and(Provider::still_listens)
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

    /// Looks whether the gateway has made itself an address of the prefix that we advertise, where it has shown none: from its
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

    /// Whether an address is one that the gateway makes of the prefix that we advertise.
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

/// The half of an address that names an interface.
fn low(address: Ipv6Addr) -> u64 {
    let [.., e, f, g, h] = address.segments();
    [e, f, g, h].into_iter().fold(0, |low, segment| low << 16 | u64::from(segment))
}
