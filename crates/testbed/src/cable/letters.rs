//! Messages of DHCP servers (RFC 2131) and routers (RFC 4861).

use smoltcp::wire::{DhcpMessageType, DhcpPacket, DhcpRepr};
use std::collections::{BTreeMap, HashMap};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// So many servers are distinguished in a network, and so many routers in all of them.
const MOST_SERVERS: usize = 8;
const MOST_ROUTERS: usize = 1_000;
/// What distinguishes our questions.
pub(super) const TRANSACTION: u32 = 0x6261_7300;

/// What tells networks apart in what is asked there.
pub(super) fn low_byte(lane: usize) -> u8 {
    lane.to_le_bytes()[0]
}

/// What a server offers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Offer {
    /// The server.
    pub server: Ipv4Addr,
    /// The address.
    pub address: Ipv4Addr,
    /// The length of the subnet's prefix.
    pub prefix_length: Option<u8>,
    /// The router.
    pub router: Option<Ipv4Addr>,
    /// The name servers, the first three of them.
    pub name_servers: Vec<Ipv4Addr>,
    /// For how many seconds.
    pub seconds: Option<u32>,
}

/// What came of asking for a lease.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Leased {
    /// All offers, those of one server once.
    pub offers: Vec<Offer>,
    /// The one that was taken and confirmed.
    pub taken: Option<Offer>,
    /// Whether the server took back what it had offered.
    pub refused: bool,
}

/// What a router advertises.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Advertised {
    /// The router, on its link.
    pub router: Ipv6Addr,
    /// For how many seconds it is a default router; it is none for 0.
    pub lifetime: u64,
    /// The prefix that it names, with its length, and whether addresses are to be made of it.
    pub prefix: Option<(Ipv6Addr, u8, bool)>,
}

/// What servers and routers have said, by network.
#[derive(Default)]
pub(super) struct Letters {
    pub(super) leases: HashMap<usize, Leased>,
    pub(super) routers: BTreeMap<(usize, Ipv6Addr), Advertised>,
}

impl Letters {
    pub(super) fn advertised(
        &mut self,
        lane: usize,
        router: Ipv6Addr,
        lifetime: u64,
        prefix: Option<(Ipv6Addr, u8, bool)>,
    ) {
        if self.routers.len() < MOST_ROUTERS || self.routers.contains_key(&(lane, router)) {
            self.routers.insert((lane, router), Advertised { router, lifetime, prefix });
        }
    }

    /// An answer of a server, if it is one to a question of ours.
    pub(super) fn came(&mut self, lane: usize, from: IpAddr, payload: &[u8]) {
        let Some(says) = DhcpPacket::new_checked(payload).ok() else { return };
        let Ok(says) = DhcpRepr::parse(&says) else { return };
        let Some(lease) = self.leases.get_mut(&lane) else { return };
        if says.transaction_id != TRANSACTION | u32::from(low_byte(lane)) {
            return;
        }
        let IpAddr::V4(from) = from else { return };
        let offer = Offer {
            server: says.server_identifier.unwrap_or(from),
            address: says.your_ip,
            prefix_length: says.subnet_mask.and_then(length_of),
            router: says.router,
            name_servers: says.dns_servers.map(|all| all.to_vec()).unwrap_or_default(),
            seconds: says.lease_duration,
        };
        match says.message_type {
            DhcpMessageType::Offer
                if lease.offers.len() >= MOST_SERVERS
                    || lease.offers.iter().any(|known| known.server == offer.server) => {}
            DhcpMessageType::Offer => lease.offers.push(offer),
            DhcpMessageType::Ack => lease.taken = Some(offer),
            DhcpMessageType::Nak => lease.refused = true,
            _ => {}
        }
    }
}

/// The length of a prefix, if a mask is that of one.
fn length_of(mask: Ipv4Addr) -> Option<u8> {
    let bits = mask.to_bits();
    (bits.leading_ones() + bits.trailing_zeros() >= 32)
        .then_some(bits.leading_ones())?
        .try_into()
        .ok()
}
