//! What an address in a list means if the plan has no name for it.

use bastium_core::plan::Plan;
use bastium_core::space::AddressSet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// The addresses that stand for those of a plan's domains. They lie where no real address does, so a list
/// never speaks of them. What it says of the internet at large, it says of them.
#[derive(Clone, Debug, Default)]
pub(crate) struct Named {
    placeholders: AddressSet,
    /// Addresses in the midst of the internet.
    at_large: Vec<IpAddr>,
}

impl Named {
    pub(crate) fn of(plan: Option<&Plan>) -> Self {
        let domains = plan.into_iter().flat_map(Plan::domains);
        let placeholders = domains.map(|domain| domain.placeholder.set()).collect();
        let internet = plan.map(|plan| plan.internet_addresses().clone()).unwrap_or_default();
        let v4 = internet.v4.spans().iter().max_by_key(|(low, high)| high - low);
        let v6 = internet.v6.spans().iter().max_by_key(|(low, high)| high - low);
        let v4 = v4.map(|(low, high)| Ipv4Addr::from_bits(low + (high - low) / 2).into());
        let v6 = v6.map(|(low, high)| Ipv6Addr::from_bits(low + (high - low) / 2).into());
        Self { placeholders, at_large: v4.into_iter().chain(v6).collect() }
    }

    /// What a list means by an address, a prefix or a range.
    pub(crate) fn meant(&self, word: &str) -> Option<AddressSet> {
        Some(self.meant_by(AddressSet::from_word(word)?))
    }

    pub(crate) fn meant_by(&self, written: AddressSet) -> AddressSet {
        let mut set = written.difference(&self.placeholders);
        for address in &self.at_large {
            if !set.contains(*address) {
                continue;
            }
            let own = self.placeholders.only_v4();
            let other = self.placeholders.only_v6();
            set = set.union(if address.is_ipv4() { &own } else { &other });
        }
        set
    }
}
