//! Uplinks with leased addresses: the tester stands in for their providers, and waits until the gateway has its address.

use super::stand::Stand;
use crate::cable::{Ends, Handout, LISTENS, Provided};
use bastium_core::space::Family;
use bastium_core::sweep;
use ipnet::IpNet;
use std::io;
use std::time::{Duration, Instant};

/// How long a gateway may take to ask for its address. Clients ask again after 64 seconds at the latest (RFC 2131, 4.1).
const LONGEST: Duration = Duration::from_secs(70);
/// How often the gateway is given something to forward meanwhile.
const KNOCKS: Duration = Duration::from_secs(5);
/// How long it takes at most to make an address of a prefix and to be sure that nobody else has it (RFC 4862, 5.4).
const MADE: Duration = Duration::from_millis(2_500);
/// The lengths of the subnet and of the prefix that an uplink gets.
const LENGTH_V4: u8 = 30;
const LENGTH_V6: u8 = 64;

impl Stand<'_, '_> {
    /// Stands in for the provider of each uplink outside that has a leased address.
    pub(super) fn provide(&mut self) -> io::Result<()> {
        let plan = self.plan();
        let leased = self.leased_outside();
        let subnets = sweep::for_leases(plan, Family::V4, LENGTH_V4, leased.len());
        let prefixes = sweep::for_leases(plan, Family::V6, LENGTH_V6, leased.len());
        for (place, (lane, uplink)) in leased.into_iter().enumerate() {
            let Some(IpNet::V4(subnet)) = subnets.get(place).copied() else { continue };
            let fixed = plan.uplinks()[uplink].addresses.iter().any(|own| own.addr().is_ipv6());
            let prefix = match prefixes.get(place) {
                Some(IpNet::V6(prefix)) if !fixed => Some(*prefix),
                _ => None,
            };
            self.ends.provide(lane, Handout { subnet, prefix })?;
        }
        Ok(())
    }

    /// How far the provider of a network outside has come; `None` where the tester stands in for none.
    pub fn provided(&self, lane: usize) -> Option<Provided> {
        self.ends.provided(lane)
    }

    /// Whether the gateway has no address in a network over IPv4, as far as it is known.
    pub fn has_no_address(&self, lane: usize) -> bool {
        self.ends.gateway_of(lane, Family::V4).is_none()
    }

    /// Whether the gateway has no address yet on an uplink where it gets one from the tester.
    pub fn awaits_addresses(&self) -> bool {
        (0..self.networks.len()).any(|lane| awaits(&self.ends, lane))
    }

    /// Waits until the gateway has its addresses outside, as far as it gets them from the tester, or it is no use to wait any
    /// longer.
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn await_addresses(&mut self) -> io::Result<()> {
        let lanes = self.networks.len();
        // What a router says comes once, and not in the middle of what is tried.
        let listening = |ends: &Ends| (0..lanes).any(|lane| ends.still_listens(lane));
        self.ends.attend_until(Instant::now() + LISTENS, |ends| !listening(ends))?;
        let until = Instant::now() + LONGEST;
        while self.awaits_addresses() && Instant::now() < until {
            self.knock()?;
            let next = until.min(Instant::now() + KNOCKS);
            self.ends.attend_until(next, |ends| !(0..lanes).any(|lane| awaits(ends, lane)))?;
        }
        let leased: Vec<usize> = self.leased_outside().into_iter().map(|(lane, _)| lane).collect();
        if leased.iter().any(|lane| self.ends.is_router(*lane)) {
            self.ends.attend(MADE)?;
        }
        for lane in leased {
            self.ends.find_made_address(lane)?;
        }
        Ok(())
    }

    /// Has the gateway forward something from each network: one that has its address from elsewhere shows it so.
    fn knock(&self) -> io::Result<()> {
        let Some(to) = sweep::stranger(self.plan(), Family::V4) else { return Ok(()) };
        for lane in self.inside() {
            let own = self.networks[lane].own.iter().find(|own| own.is_ipv4());
            if let Some(from) = own {
                self.ends.knock(lane, *from, to)?;
            }
        }
        Ok(())
    }

    /// The networks outside with leased addresses, each with the number of its uplink.
    fn leased_outside(&self) -> Vec<(usize, usize)> {
        let plan = self.plan();
        let uplinks = plan.uplinks().iter().enumerate().filter(|(_, uplink)| uplink.dhcp);
        let reached = |place: usize| self.lanes.lane_of(plan.uplink_interface(place));
        uplinks.filter_map(|(place, _)| Some((reached(place)?, place))).collect()
    }
}

/// Whether the gateway has no address yet outside, and may still ask for one.
fn awaits(ends: &Ends, lane: usize) -> bool {
    ends.provided(lane) == Some(Provided::NotYet) && ends.gateway_of(lane, Family::V4).is_none()
}
