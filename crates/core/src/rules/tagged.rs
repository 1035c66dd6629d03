//! The rules that belong to a tag: a word that people put on what they want to find again.

use super::Rule;
use crate::plan::{ExceptionId, NetworkId, Plan};
use crate::space::{AddressSet, Interface, IntervalSet, ServiceSet};
use crate::verdict::Cause;

/// What has a tag.
#[derive(Clone, Debug)]
pub struct Tagged {
    /// Exceptions and services offered to the outside.
    entries: Vec<ExceptionId>,
    /// The addresses of networks and hosts.
    addresses: AddressSet,
    /// The interfaces of networks.
    interfaces: IntervalSet<Interface>,
    services: ServiceSet,
}

impl Tagged {
    /// What has this tag in a plan; `None` if nothing has.
    pub fn with(plan: &Plan, tag: &str) -> Option<Self> {
        let has = |tags: &[crate::name::Name]| tags.iter().any(|own| own.as_str() == tag);
        let entries: Vec<ExceptionId> = plan
            .exceptions()
            .iter()
            .enumerate()
            .filter(|(_, entry)| has(&entry.tags))
            .map(|(index, _)| ExceptionId(index))
            .collect();
        let networks = plan.networks().iter().enumerate();
        let networks: Vec<NetworkId> = networks
            .filter(|(_, network)| has(&network.tags))
            .map(|(index, _)| NetworkId(index))
            .collect();
        let hosts = plan.hosts().iter().filter(|host| has(&host.tags));
        let hosts: AddressSet =
            hosts.flat_map(|host| &host.addresses).map(|one| AddressSet::from(*one)).collect();
        let services = plan.services().iter().filter(|service| has(&service.tags));
        let services: Vec<&ServiceSet> = services.map(|service| &service.set).collect();
        let none = entries.is_empty() && networks.is_empty() && hosts.is_empty();
        if none && services.is_empty() {
            return None;
        }
        let devices = networks.iter().map(|id| plan.network(*id).device_addresses());
        Some(Self {
            entries,
            addresses: devices.fold(hosts, |all, devices| all.union(devices)),
            interfaces: networks.iter().map(|id| plan.network_interface(*id)).collect(),
            services: services.iter().fold(ServiceSet::empty(), |all, one| all.union(one)),
        })
    }

    /// Every tag of a plan, each once, in the order of the letters.
    pub fn words(plan: &Plan) -> Vec<&str> {
        let networks = plan.networks().iter().map(|one| &one.tags);
        let hosts = plan.hosts().iter().map(|one| &one.tags);
        let services = plan.services().iter().map(|one| &one.tags);
        let entries = plan.exceptions().iter().map(|one| &one.tags);
        let all = networks.chain(hosts).chain(services).chain(entries).flatten();
        let mut words: Vec<&str> = all.map(|tag| tag.as_str()).collect();
        words.sort_unstable();
        words.dedup();
        words
    }

    /// Whether a rule belongs to it: an entry behind it has the tag; or all that it matches comes from, goes to, or is for
    /// what has it.
    pub fn covers(&self, rule: &Rule) -> bool {
        let of_entry = |cause: &Cause| match cause {
            Cause::Exception(id) | Cause::Offered(id) => self.entries.contains(id),
            _ => false,
        };
        let causes = [rule.cause];
        if causes.iter().chain(&rule.also).any(of_entry) {
            return true;
        }
        rule.packets().is_some_and(|packets| {
            packets.source.is_subset(&self.addresses)
                || packets.destination.is_subset(&self.addresses)
                || packets.enters.is_subset(&self.interfaces)
                || packets.service.is_subset(&self.services)
        })
    }
}
