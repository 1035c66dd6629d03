//! Examines what a network offers newcomers, from an interface that is in use: nothing is taken, so nothing has to be
//! given back.

use super::leases::{LeaseFault, faults};
use crate::cable::{Advertised, Ends, Lane, Leased, Port};
use bastium_core::meaning::Meaning;
use bastium_core::plan::NetworkId;
use std::io;

/// What was seen.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Looked {
    /// What was offered; the first offer stands for what would be taken.
    pub leased: Leased,
    /// The routers that advertise themselves.
    pub routers: Vec<Advertised>,
    /// What of it is not as the plan has it.
    pub faults: Vec<LeaseFault>,
}

/// Asks servers and routers in the network behind an interface of this machine what they would give.
///
/// # Errors
/// When the interface is not there, is down, or may not be used so by this user.
pub fn look(interface: &str, meaning: &Meaning<'_>, id: NetworkId) -> io::Result<Looked> {
    let gateway = meaning.plan().network(id).subnets.iter().map(|subnet| subnet.gateway());
    let lane = Lane { port: 0, tag: None, outside: false, gateway: gateway.collect() };
    let mut ends = Ends::new(vec![Port::open(interface)?], vec![lane], None);
    let mut leased = ends.offers(&[0])?.remove(&0).unwrap_or_default();
    leased.taken = leased.offers.first().cloned();
    let routers = ends.routers(&[0], &[])?.remove(&0).unwrap_or_default();
    let faults = faults(meaning, id, Some(&leased), &routers);
    Ok(Looked { leased, routers, faults })
}
