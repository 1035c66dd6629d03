//! Gets addresses as devices do: leases (RFC 2131) that are requested, examined and released, and router
//! advertisements (RFC 4861).

use super::ends::Ends;
use super::frame::{self, Content, EVERYONE, Mac, Packet};
use super::letters::{Advertised, Leased, Offer, TRANSACTION, low_byte};
use bastium_core::space::Family;
use smoltcp::wire::{DhcpMessageType, DhcpPacket, DhcpRepr, EthernetAddress};
use std::collections::BTreeMap;
use std::io;
use std::net::Ipv4Addr;
use std::time::{Duration, Instant};

/// How long an offer may take: some servers look first whether the address answers.
const OFFER: Duration = Duration::from_millis(3_500);
/// How long is waited for a second server once one has answered.
const SECOND: Duration = Duration::from_millis(500);
/// How long the rest may take.
const ACCEPTED: Duration = Duration::from_millis(1_500);
/// How often a question is put.
const TRIES: u32 = 2;
/// The options that are asked for: mask, router, name servers, domain, lease time, server.
const WANTED: [u8; 6] = [1, 3, 6, 15, 51, 54];

/// What is asked.
#[derive(Clone, Copy)]
enum Question<'o> {
    Anyone,
    Take(&'o Offer),
    GiveBack(&'o Offer),
}

impl Ends {
    /// Asks for a lease in each of these networks, takes the first that is offered, and says what came. The addresses are ours
    /// then, until [`release`](Self::release). In `others` is asked, too, though nobody is expected to answer: for them is not
    /// waited, and what is offered there is not taken.
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn lease(
        &mut self,
        lanes: &[usize],
        others: &[usize],
    ) -> io::Result<BTreeMap<usize, Leased>> {
        for lane in lanes.iter().chain(others) {
            self.letters.leases.insert(*lane, Leased::default());
        }
        for lane in others {
            self.ask(*lane, Question::Anyone)?;
        }
        self.hear_offers(lanes)?;
        for _ in 0..TRIES {
            let open = |ends: &Self, lane: &&usize| {
                let lease = &ends.letters.leases[*lane];
                !lease.offers.is_empty() && lease.taken.is_none() && !lease.refused
            };
            let left: Vec<usize> = lanes.iter().filter(|lane| open(self, lane)).copied().collect();
            for lane in &left {
                let offer = self.letters.leases[lane].offers[0].clone();
                self.ask(*lane, Question::Take(&offer))?;
            }
            let all = |ends: &Self| !left.iter().any(|lane| open(ends, &lane));
            self.attend_until(Instant::now() + ACCEPTED, all)?;
        }
        let came = self.leased_in(lanes);
        for (lane, lease) in &came {
            if let Some(taken) = &lease.taken {
                self.take(*lane, taken.address.into());
            }
        }
        Ok(came)
    }

    /// What servers in these networks offer; nothing is taken.
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn offers(&mut self, lanes: &[usize]) -> io::Result<BTreeMap<usize, Leased>> {
        for lane in lanes {
            self.letters.leases.insert(*lane, Leased::default());
        }
        self.hear_offers(lanes)?;
        Ok(self.leased_in(lanes))
    }

    /// Asks for offers until there is one from each network, or none comes; and then a while for further ones.
    fn hear_offers(&mut self, lanes: &[usize]) -> io::Result<()> {
        for _ in 0..TRIES {
            let none = |ends: &Self, lane: &&usize| ends.letters.leases[*lane].offers.is_empty();
            let left: Vec<usize> = lanes.iter().filter(|lane| none(self, lane)).copied().collect();
            if left.is_empty() {
                break;
            }
            for lane in &left {
                self.ask(*lane, Question::Anyone)?;
            }
            let all = |ends: &Self| left.iter().all(|lane| !none(ends, &lane));
            self.attend_until(Instant::now() + OFFER, all)?;
        }
        self.attend(SECOND)
    }

    fn leased_in(&self, lanes: &[usize]) -> BTreeMap<usize, Leased> {
        let of = |lane: &usize| Some((*lane, self.letters.leases.get(lane)?.clone()));
        lanes.iter().filter_map(of).collect()
    }

    /// Gives all leases back.
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn release(&mut self) -> io::Result<()> {
        let leases = std::mem::take(&mut self.letters.leases);
        let taken = leases.into_iter().filter_map(|(lane, lease)| Some((lane, lease.taken?)));
        for (lane, offer) in taken {
            self.ask(lane, Question::GiveBack(&offer))?;
            self.give_back(lane, offer.address.into());
        }
        Ok(())
    }

    /// What gives back all leases without this, for an end that comes in between.
    ///
    /// # Errors
    /// When the system has no room for it.
    pub fn farewell(&self) -> io::Result<impl FnOnce() + Send + 'static> {
        let mut last = Vec::new();
        for (lane, lease) in &self.letters.leases {
            let Some(taken) = &lease.taken else { continue };
            if let Some(frame) = self.framed(*lane, Question::GiveBack(taken)) {
                last.push((self.way(*lane)?, frame));
            }
        }
        Ok(move || {
            for ((port, tag), frame) in last {
                // Nobody is there any more to hear of it.
                let _ = port.send(tag, &frame);
            }
        })
    }

    /// Asks routers in these networks to make themselves known, and says which did; in `others`, too, though none is expected.
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn routers(
        &mut self,
        lanes: &[usize],
        others: &[usize],
    ) -> io::Result<BTreeMap<usize, Vec<Advertised>>> {
        for lane in others {
            let mac = self.mac(*lane);
            self.put(*lane, &frame::who_routes(mac, frame::link_local(mac)))?;
        }
        for _ in 0..TRIES {
            let none =
                |ends: &Self, lane: &usize| !ends.letters.routers.keys().any(|(of, _)| of == lane);
            let left: Vec<usize> = lanes.iter().filter(|lane| none(self, lane)).copied().collect();
            for lane in &left {
                let mac = self.mac(*lane);
                self.put(*lane, &frame::who_routes(mac, frame::link_local(mac)))?;
            }
            let all = |ends: &Self| !left.iter().any(|lane| none(ends, lane));
            self.attend_until(Instant::now() + ACCEPTED, all)?;
        }
        let mut heard: BTreeMap<usize, Vec<Advertised>> = BTreeMap::new();
        for ((lane, _), router) in &self.letters.routers {
            heard.entry(*lane).or_default().push(router.clone());
        }
        Ok(heard)
    }

    /// Asks which servers there are in a network.
    pub(super) fn ask_for_servers(&self, lane: usize) -> io::Result<()> {
        self.ask(lane, Question::Anyone)
    }

    fn ask(&self, lane: usize, question: Question<'_>) -> io::Result<()> {
        self.framed(lane, question).map_or(Ok(()), |frame| self.put(lane, &frame))
    }

    fn framed(&self, lane: usize, question: Question<'_>) -> Option<Vec<u8>> {
        let mac = self.mac(lane);
        let payload = letter(lane, mac, question);
        let (source, destination, to) = match question {
            Question::GiveBack(offer) => {
                let gateway = self.gateway_mac(lane, Family::V4).unwrap_or(EVERYONE);
                (offer.address, offer.server, gateway)
            }
            _ => (Ipv4Addr::UNSPECIFIED, Ipv4Addr::BROADCAST, EVERYONE),
        };
        let packet = Packet {
            source: source.into(),
            destination: destination.into(),
            content: Content::Udp { from: 68, to: 67, payload },
        };
        packet.framed(to, mac)
    }
}

/// A message to servers. In each network we are somebody else to them, though the hardware address is the same.
fn letter(lane: usize, mac: Mac, question: Question<'_>) -> Vec<u8> {
    let [_, b, c, d, e, f] = mac;
    let who = EthernetAddress([0x02 | low_byte(lane) << 2, b, c, d, e, f]);
    let none = Ipv4Addr::UNSPECIFIED;
    let (kind, offer) = match question {
        Question::Anyone => (DhcpMessageType::Discover, None),
        Question::Take(offer) => (DhcpMessageType::Request, Some(offer)),
        Question::GiveBack(offer) => (DhcpMessageType::Release, Some(offer)),
    };
    let releases = kind == DhcpMessageType::Release;
    let says = DhcpRepr {
        message_type: kind,
        transaction_id: TRANSACTION | u32::from(low_byte(lane)),
        secs: 0,
        client_hardware_address: EthernetAddress(mac),
        client_ip: offer.filter(|_| releases).map_or(none, |offer| offer.address),
        your_ip: none,
        server_ip: none,
        router: None,
        subnet_mask: None,
        relay_agent_ip: none,
        broadcast: !releases,
        requested_ip: offer.filter(|_| !releases).map(|offer| offer.address),
        client_identifier: Some(who),
        server_identifier: offer.map(|offer| offer.server),
        parameter_request_list: (!releases).then_some(&WANTED),
        dns_servers: None,
        max_size: (!releases).then_some(1432),
        lease_duration: None,
        renew_duration: None,
        rebind_duration: None,
        additional_options: &[],
    };
    let mut payload = vec![0; says.buffer_len().max(300)];
    // The room is enough, which is all that it can fail of.
    let _ = says.emit(&mut DhcpPacket::new_unchecked(&mut payload));
    payload
}
