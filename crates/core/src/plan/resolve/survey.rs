//! Sorts all addresses: inside the site, on the internet, or the gateway's own.

use super::super::model::{Network, Site, Uplink};
use super::super::place::Directory;
use super::super::traffic::{Domain, Route};
use crate::addressing::{Placeholder, Subnet, multicast, not_global};
use crate::space::AddressSet;

/// Works all of it out, for places to be made of.
pub(super) fn survey(
    site: &Site,
    networks: &[Option<Network>],
    routes: &[Route],
    uplinks: &[Uplink],
    domains: &[Domain],
    directory: &mut Directory,
) {
    let subnets = || networks.iter().flatten().flat_map(|network| &network.subnets);
    let devices = networks.iter().flatten().map(|network| network.device_addresses().clone());
    directory.devices = devices.chain(routes.iter().map(|route| route.devices.clone())).collect();
    let within: AddressSet = subnets().map(Subnet::prefix).collect();
    directory.inside = routes.iter().fold(within, |all, route| all.union(&route.reach));
    directory.gateway_inside = subnets().map(Subnet::gateway).collect();
    directory.gateway_outside = uplinks.iter().map(Uplink::gateway).collect();
    directory.gateway = directory.gateway_inside.union(&directory.gateway_outside);
    let space: AddressSet = site.space.iter().copied().collect();
    let named: AddressSet =
        domains.iter().map(|domain| domain.placeholder).map(Placeholder::set).collect();
    let leased = uplinks.iter().filter_map(|uplink| uplink.placeholder).map(Placeholder::set);
    directory.placeholders = named.union(&leased.collect());
    // What is for everyone on an uplink's cable is nobody on the internet.
    let everyone = uplinks.iter().flat_map(Uplink::subnets);
    let everyone: AddressSet =
        everyone.flat_map(|s| [s.broadcast(), s.anycast()]).flatten().collect();
    directory.internet = AddressSet::full()
        .difference(&directory.inside)
        .difference(&space)
        .difference(&not_global())
        .difference(&multicast())
        .difference(&directory.gateway_outside)
        .difference(&everyone)
        .union(&named);
    let devices: AddressSet = uplinks.iter().map(Uplink::neighbours).collect();
    directory.beside = devices
        .difference(&directory.internet)
        .difference(&directory.inside)
        .difference(&directory.gateway)
        .difference(&everyone);
}
