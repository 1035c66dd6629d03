//! The networks of a plan as they are reached through a few ports.

use crate::cable::Lane;
use bastium_core::plan::{NetworkId, Plan};
use bastium_core::space::Interface;
use std::collections::HashMap;
use std::net::IpAddr;

/// The networks that are reached, and which of the plan's interfaces each of them is.
#[derive(Clone, Debug, Default)]
pub struct Lanes {
    /// The networks, as they are reached.
    pub lanes: Vec<Lane>,
    /// The plan's interface of each.
    pub interfaces: Vec<Interface>,
    /// Those that are not reached.
    pub unplaced: Vec<(NetworkId, Unplaced)>,
}

/// Why a network is not reached.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Unplaced {
    /// It is a tunnel, and no cable carries it.
    Tunnel,
    /// It has no VLAN id, and neither have others, so that nobody knows which of them is untagged here.
    Untagged,
    /// No port was named for it.
    NoPort,
}

impl Lanes {
    /// The networks of a plan by a port that carries all of them, by ports of their own, and the uplinks by theirs. Ports are
    /// numbers here.
    pub fn of(
        plan: &Plan,
        trunk: Option<usize>,
        own: &HashMap<NetworkId, usize>,
        outside: &[(usize, usize)],
    ) -> Self {
        let mut lanes = Self::default();
        let untagged: Vec<NetworkId> = plan
            .network_ids()
            .filter(|id| plan.network(*id).vlan.is_none() && plan.network(*id).tunnel.is_none())
            .collect();
        for id in plan.network_ids() {
            let network = plan.network(id);
            let gateway = network.subnets.iter().map(|subnet| subnet.gateway()).collect();
            let by = match (own.get(&id), trunk) {
                (Some(port), _) => Ok((*port, None)),
                _ if network.tunnel.is_some() => Err(Unplaced::Tunnel),
                (None, None) => Err(Unplaced::NoPort),
                (None, Some(_)) if network.vlan.is_none() && untagged.len() > 1 => {
                    Err(Unplaced::Untagged)
                }
                (None, Some(port)) => Ok((port, network.vlan)),
            };
            match by {
                Ok((port, tag)) => {
                    let lane = Lane { port, tag, outside: false, gateway };
                    lanes.add(lane, plan.network_interface(id));
                }
                Err(why) => lanes.unplaced.push((id, why)),
            }
        }
        for (uplink, port) in outside {
            let own = &plan.uplinks()[*uplink];
            let gateway: Vec<IpAddr> = own.addresses.iter().map(|address| address.addr()).collect();
            let lane = Lane { port: *port, tag: None, outside: true, gateway };
            lanes.add(lane, plan.uplink_interface(*uplink));
        }
        lanes
    }

    fn add(&mut self, lane: Lane, interface: Interface) {
        self.lanes.push(lane);
        self.interfaces.push(interface);
    }

    /// The number of the network that is that interface of the plan.
    pub fn lane_of(&self, interface: Interface) -> Option<usize> {
        self.interfaces.iter().position(|own| *own == interface)
    }
}
