//! Leases, fixed addresses, local names and the address sets of domains, as a configuration file for dnsmasq.
//!
//! It serves what the plan lets networks ask the gateway for, and nothing else: a network that may not ask
//! for leases gets none. Where questions for other names go is left to the machine it runs on. What is written is
//! read back, and compared with the plan, before anybody gets it.

mod held;
mod read;

pub use held::{ServedFile, proven_served};

use crate::clean::remark;
use crate::nftables::TABLE;
use bastium_core::addressing::Subnet;
use bastium_core::meaning::{Meaning, uses};
use bastium_core::plan::{NetworkId, Plan};
use bastium_core::space::Family;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::net::IpAddr;

/// The domain of local names: what is at home, and no business of the internet's (RFC 8375).
pub const LOCAL_DOMAIN: &str = "home.arpa";
/// How long a lease lasts.
const LEASE: &str = "12h";

/// The longest line that is written, in bytes: dnsmasq reads lines of 1,024 (`MAXDNAME` in its
/// `dns-protocol.h`, less the end), and takes the rest of a longer one for the next line.
const LONGEST_LINE: usize = 1_000;
/// How many addresses of a name, and how many bytes of names for a set, stand on one line.
const MOST_ADDRESSES: usize = 8;
const MOST_NAMES: usize = 600;

/// Writes the file, and proves it. Networks whose interface the plan does not name are not served.
///
/// # Errors
/// Where it would serve otherwise than the plan says, a sentence each.
pub fn dnsmasq(meaning: &Meaning<'_>) -> Result<ServedFile, Vec<String>> {
    proven_served(meaning, written(meaning))
}

fn written(meaning: &Meaning<'_>) -> String {
    let plan = meaning.plan();
    let mut out = String::new();
    let mut line = |text: &str| {
        out.push_str(text);
        out.push('\n');
    };
    line(&format!("# Leases and names of {}", remark(&plan.site().name)));
    line("# Written by bastium from the plan: change the plan, not this file");
    line("bind-dynamic\ndomain-needed\nbogus-priv\nexpand-hosts");
    line(&format!("domain={LOCAL_DOMAIN}\nlocal=/{LOCAL_DOMAIN}/"));
    line("dhcp-authoritative");
    for id in plan.network_ids() {
        network(&mut line, meaning, id);
    }
    for (index, uplink) in plan.uplinks().iter().enumerate() {
        let interface = plan.uplink_interface(index);
        // Names alone, and only where an exception lets somebody outside ask for them.
        if let Some(device) = plan.device_name(interface)
            && uses::names(meaning, interface)
        {
            line(&format!("\n# {}", uplink.name));
            line(&format!("interface={device}\nno-dhcp-interface={device}"));
        }
    }
    hosts(&mut line, meaning);
    domains(&mut line, plan);
    out
}

fn network(line: &mut impl FnMut(&str), meaning: &Meaning<'_>, id: NetworkId) {
    let plan = meaning.plan();
    let network = plan.network(id);
    let interface = plan.network_interface(id);
    let Some(device) = plan.device_name(interface) else { return };
    let (names, leases) = (uses::names(meaning, interface), uses::leases(meaning, id));
    if !names && !leases {
        return;
    }
    let name = network.name.as_str();
    line(&format!("\n# {name}\ninterface={device}"));
    let v4 = network.subnet(Family::V4).filter(|_| leases);
    match (v4, network.pool.as_ref()) {
        (Some(subnet), Some(pool)) => {
            let (first, last) = (pool.first(), pool.last());
            line(&format!("dhcp-range=set:{name},{first},{last},{},{LEASE}", mask(subnet)));
        }
        // No pool: only those that have a fixed lease get one.
        (Some(subnet), None) if has_fixed(plan, id) => {
            let prefix = subnet.prefix().network();
            line(&format!("dhcp-range=set:{name},{prefix},static,{},{LEASE}", mask(subnet)));
        }
        _ => {
            line(&format!("no-dhcp-interface={device}"));
            return;
        }
    }
    let may_ask = uses::names_everywhere(meaning, id);
    if let Some(subnet) = v4 {
        let gateway = subnet.gateway();
        line(&format!("dhcp-option=tag:{name},option:router,{gateway}"));
        let names = if may_ask { format!(",{gateway}") } else { String::new() };
        line(&format!("dhcp-option=tag:{name},option:dns-server{names}"));
        if uses::time_everywhere(meaning, id) {
            line(&format!("dhcp-option=tag:{name},option:ntp-server,{gateway}"));
        }
    }
    // A network may have several prefixes of IPv6, and learns all of them.
    let v6: Vec<&Subnet> =
        network.subnets_of(Family::V6).filter(|_| network.pool.is_some()).collect();
    for prefix in v6.iter().map(|subnet| subnet.prefix()) {
        let (start, length) = (prefix.network(), prefix.prefix_len());
        line(&format!("dhcp-range=set:{name},{start},ra-stateless,{length},{LEASE}"));
    }
    if let Some(subnet) = v6.first() {
        line(&format!("ra-param={device},60,1200"));
        let names = if may_ask { format!(",[{}]", subnet.gateway()) } else { String::new() };
        line(&format!("dhcp-option=tag:{name},option6:dns-server{names}"));
    }
}

fn mask(subnet: &Subnet) -> String {
    subnet.mask().map(|mask| mask.to_string()).unwrap_or_default()
}

fn has_fixed(plan: &Plan, id: NetworkId) -> bool {
    plan.hosts().iter().any(|host| host.network == id && host.mac.is_some())
}

/// Fixed leases, and a name for every device that has an address.
fn hosts(line: &mut impl FnMut(&str), meaning: &Meaning<'_>) {
    let plan = meaning.plan();
    let named = plan.hosts().iter().filter(|host| !host.addresses.is_empty());
    let mut lines = String::new();
    for host in named {
        let v4 = host.addresses.iter().find(|address| address.is_ipv4());
        let leases = uses::leases(meaning, host.network);
        if let (Some(mac), Some(address)) = (host.mac.filter(|_| leases), v4) {
            let mac = mac.to_string().to_lowercase();
            let _ = writeln!(lines, "dhcp-host={mac},{address},{}", host.name);
        }
        let name = &host.name;
        for some in host.addresses.chunks(MOST_ADDRESSES) {
            let some: Vec<String> = some.iter().map(IpAddr::to_string).collect();
            let _ = writeln!(lines, "host-record={name},{name}.{LOCAL_DOMAIN},{}", some.join(","));
        }
    }
    if !lines.is_empty() {
        line(&format!("\n# Devices with a name\n{}", lines.trim_end()));
    }
}

/// The sets that rules ask for: each answer for one of the names goes into its set.
fn domains(line: &mut impl FnMut(&str), plan: &Plan) {
    for domain in plan.domains() {
        let name = &domain.name;
        line(&format!("\n# {name}"));
        let mut names = domain.names.iter().peekable();
        while names.peek().is_some() {
            let mut here = String::from("/");
            while let Some(next) =
                names.next_if(|next| here.len() + next.len() < MOST_NAMES || here.len() == 1)
            {
                here.push_str(next);
                here.push('/');
            }
            line(&format!(
                "nftset={here}4#inet#{TABLE}#domain_{name}_v4,6#inet#{TABLE}#domain_{name}_v6"
            ));
        }
    }
}

/// The sets of the packet filter that the second of two files fills with other names than the first. What was found for the
/// names before is of no domain any more.
pub fn refilled(old: &str, new: &str) -> Vec<String> {
    let (old, new) = (filled(old), filled(new));
    let others =
        new.into_iter().filter(|(set, names)| old.get(set).is_some_and(|old| old != names));
    others.map(|(set, _)| set.to_owned()).collect()
}

/// The names whose addresses go into each set.
fn filled(text: &str) -> BTreeMap<&str, BTreeSet<&str>> {
    let mut all: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    for line in text.lines().filter_map(|line| line.strip_prefix("nftset=/")) {
        let Some((names, sets)) = line.rsplit_once('/') else { continue };
        for set in sets.split(',').filter_map(|set| set.rsplit('#').next()) {
            all.entry(set).or_default().extend(names.split('/'));
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sets_are_refilled_where_their_names_are_others() {
        let one = "nftset=/a.example.net/b.example.net/4#inet#bastium#domain_x_v4,6#inet#bastium#domain_x_v6\n";
        let two = "nftset=/b.example.net/4#inet#bastium#domain_x_v4,6#inet#bastium#domain_x_v6\n\
                   nftset=/a.example.net/4#inet#bastium#domain_x_v4,6#inet#bastium#domain_x_v6\n";
        let other = "nftset=/c.example.net/4#inet#bastium#domain_x_v4,6#inet#bastium#domain_x_v6\n";
        assert_eq!(refilled(one, two), Vec::<String>::new());
        assert_eq!(refilled(one, other), ["domain_x_v4", "domain_x_v6"]);
        assert_eq!(refilled(one, &format!("{two}{other}")), ["domain_x_v4", "domain_x_v6"]);
        // A set that was not there has nothing in it.
        assert_eq!(refilled("", other), Vec::<String>::new());
        // Only names of ours are taken, whatever stands in the file that the gateway has.
        assert_eq!(refilled("nftset=/a/4#inet#x#y; flush ruleset", one), Vec::<String>::new());
    }
}
