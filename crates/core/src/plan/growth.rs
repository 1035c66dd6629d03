//! Free address space: what is unassigned, and where a network could grow.

use super::{Network, Plan};
use crate::addressing::{FreeSpace, Growth, Subnet, grow, prefix_for};
use crate::space::{AddressSet, Family};
use ipnet::IpNet;

impl Plan {
    /// Every subnet that is taken: of networks and tunnels, of routes, of uplinks.
    pub fn taken(&self) -> Vec<IpNet> {
        let subnets = self.networks.iter().flat_map(|network| &network.subnets);
        let behind = self.routes.iter().map(|route| route.to);
        let outside = self.uplinks.iter().flat_map(|uplink| &uplink.addresses).map(IpNet::trunc);
        subnets.map(Subnet::prefix).chain(behind).chain(outside).collect()
    }

    /// What is free of the site's space.
    pub fn free_space(&self) -> FreeSpace {
        let space: AddressSet = self.site.space.iter().copied().collect();
        FreeSpace::new(&space, &self.taken().into_iter().collect())
    }

    /// A larger subnet for a network in which more devices are expected than it has room for, moving as
    /// few others as possible; `None` where the space has none, or nothing is expected.
    pub fn growth(&self, network: &Network) -> Option<Growth> {
        let old = network.subnet(Family::V4)?.prefix();
        let length = prefix_for(Some(network.expected?))?.min(old.prefix_len().checked_sub(1)?);
        let space: AddressSet = self.site.space.iter().copied().collect();
        grow(old, length, &space, &self.taken())
    }

    /// Whether packets can pass the gateway within a zone: from one network to another, between clients
    /// of a tunnel, or back through a router.
    pub fn passes_within(&self, zone: super::ZoneId) -> bool {
        let networks = self.networks_of(zone).map(|id| self.network(id));
        let tunnels = networks.clone().filter(|network| network.tunnel.is_some());
        let behind = self.routes.iter().filter(|route| route.zone == zone);
        networks.count() + tunnels.count() + behind.count() > 1
    }
}
