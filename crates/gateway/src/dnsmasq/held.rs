//! Checks that a file for dnsmasq serves what the plan lets networks ask the gateway for, and nothing else.

use super::LOCAL_DOMAIN;
use super::read::{Fact, read};
use crate::nftables::TABLE;
use bastium_core::addressing::Subnet;
use bastium_core::meaning::{Meaning, uses};
use bastium_core::plan::{NetworkId, Plan};
use std::collections::BTreeSet;
use std::net::IpAddr;

/// A file for dnsmasq that was read back and says what the plan says. Only [`proven_served`] makes one.
#[derive(Clone, Debug)]
pub struct ServedFile {
    text: String,
}

impl ServedFile {
    /// The file.
    pub fn text(&self) -> &str {
        &self.text
    }
}

/// The settings that stand in every file: answers on the interfaces that are named and no other, local names
/// stay here (RFC 8375, RFC 6303).
const SETTINGS: [&str; 5] =
    ["bind-dynamic", "domain-needed", "bogus-priv", "expand-hosts", "dhcp-authoritative"];

/// Shows that a file serves as the plan says.
///
/// # Errors
/// Where it does not, a sentence each.
pub fn proven_served(meaning: &Meaning<'_>, text: String) -> Result<ServedFile, Vec<String>> {
    let (found, mut faults) = read(&text);
    let wanted = wanted(meaning);
    faults.extend(wanted.difference(&found).map(|fact| format!("it lacks {fact}")));
    faults.extend(
        found.difference(&wanted).map(|fact| format!("it has {fact}, and the plan has not")),
    );
    faults.extend(found.iter().filter_map(|fact| out_of_place(meaning.plan(), fact)));
    if faults.is_empty() { Ok(ServedFile { text }) } else { Err(faults) }
}

/// A lease that nobody there could use, or that is somebody else's.
fn out_of_place(plan: &Plan, fact: &Fact) -> Option<String> {
    let (tag, first, last) = match fact {
        Fact::Pool { tag, first, last, .. } => (tag, *first, *last),
        Fact::Reservation { address, name, .. } => {
            let host = plan.hosts().iter().find(|host| host.name.as_str() == name)?;
            (&plan.network(host.network).name.to_string(), *address, *address)
        }
        _ => return None,
    };
    let id = plan.network_ids().find(|id| plan.network(*id).name.as_str() == tag)?;
    let leased = bastium_core::space::AddressSet::range(first.into(), last.into());
    let fits = !leased.is_empty() && leased.is_subset(plan.network(id).device_addresses());
    (!fits).then(|| format!("{fact} has addresses that no device there can have"))
}

/// What a file for the plan has to say.
fn wanted(meaning: &Meaning<'_>) -> BTreeSet<Fact> {
    let plan = meaning.plan();
    let mut facts: BTreeSet<Fact> =
        SETTINGS.iter().map(|word| Fact::Setting((*word).to_owned())).collect();
    facts.insert(Fact::Setting(format!("domain={LOCAL_DOMAIN}")));
    facts.insert(Fact::Setting(format!("local=/{LOCAL_DOMAIN}/")));
    for id in plan.network_ids() {
        of_network(meaning, id, &mut facts);
    }
    for index in 0..plan.uplinks().len() {
        let interface = plan.uplink_interface(index);
        if let Some(device) =
            plan.device_name(interface).filter(|_| uses::names(meaning, interface))
        {
            facts.insert(Fact::Serves(device.clone()));
            facts.insert(Fact::LeasesNone(device));
        }
    }
    for host in plan.hosts() {
        for address in &host.addresses {
            let long = format!("{}.{LOCAL_DOMAIN}", host.name);
            for name in [host.name.to_string(), long] {
                facts.insert(Fact::Name { name, address: *address });
            }
        }
        let v4 = host.addresses.iter().find_map(|address| match address {
            IpAddr::V4(address) => Some(*address),
            IpAddr::V6(_) => None,
        });
        let mac = host.mac.filter(|_| uses::leases(meaning, host.network));
        if let (Some(mac), Some(address)) = (mac, v4) {
            let (mac, name) = (mac.to_string().to_lowercase(), host.name.to_string());
            facts.insert(Fact::Reservation { mac, address, name });
        }
    }
    for domain in plan.domains() {
        let set = |family: &str| format!("inet#{TABLE}#domain_{}_{family}", domain.name);
        let of = |name: &String| Fact::Domain { name: name.clone(), v4: set("v4"), v6: set("v6") };
        facts.extend(domain.names.iter().map(of));
    }
    facts
}

fn of_network(meaning: &Meaning<'_>, id: NetworkId, facts: &mut BTreeSet<Fact>) {
    let plan = meaning.plan();
    let network = plan.network(id);
    let interface = plan.network_interface(id);
    let Some(device) = plan.device_name(interface) else { return };
    let (names, leases) = (uses::names(meaning, interface), uses::leases(meaning, id));
    if names || leases {
        facts.insert(Fact::Serves(device.clone()));
    }
    let tag = network.name.to_string();
    let v4 = network.subnets.iter().find_map(|subnet| Some((subnet, subnet.mask()?)));
    let fixed = plan.hosts().iter().any(|host| host.network == id && host.mac.is_some());
    let (Some((subnet, mask)), true) = (v4.filter(|_| leases), network.pool.is_some() || fixed)
    else {
        if names || leases {
            facts.insert(Fact::LeasesNone(device));
        }
        return;
    };
    match (&network.pool, subnet.prefix().network()) {
        (Some(pool), _) => {
            let (first, last) = (pool.first(), pool.last());
            facts.insert(Fact::Pool { tag: tag.clone(), first, last, mask });
        }
        (None, IpAddr::V4(prefix)) => {
            facts.insert(Fact::Fixed { tag: tag.clone(), prefix, mask });
        }
        (None, IpAddr::V6(_)) => {}
    }
    let mut option = |name: &str, subnet: &Subnet, offered: bool| {
        let value = Some(subnet.gateway()).filter(|_| offered);
        facts.insert(Fact::Option { tag: tag.clone(), name: name.to_owned(), value });
    };
    let may_ask = uses::names_everywhere(meaning, id);
    option("option:router", subnet, true);
    option("option:dns-server", subnet, may_ask);
    if uses::time_everywhere(meaning, id) {
        option("option:ntp-server", subnet, true);
    }
    let v6 = network.subnets.iter().filter(|subnet| subnet.mask().is_none());
    let v6: Vec<&Subnet> = v6.filter(|_| network.pool.is_some()).collect();
    if let Some(subnet) = v6.first() {
        option("option6:dns-server", subnet, may_ask);
        facts.insert(Fact::Interval(format!("{device},60,1200")));
    }
    for own in v6.into_iter().map(Subnet::prefix) {
        if let IpAddr::V6(prefix) = own.network() {
            let length = own.prefix_len();
            facts.insert(Fact::Announces { tag: tag.clone(), prefix, length });
        }
    }
}
