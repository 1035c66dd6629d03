//! Leases, fixed addresses, local names and the sets of domains, as a file for dnsmasq.
//!
//! It serves what the plan lets networks ask the gateway for, and nothing else: a network that may not ask
//! for leases gets none. Where questions for other names go is left to the machine it runs on.

use crate::clean;
use crate::nftables::TABLE;
use bastium_core::addressing::{Family, Subnet};
use bastium_core::plan::{Network, NetworkId, Plan};
use bastium_core::space::{Protocol, ServicePoint, ServiceSet};
use std::fmt::Write as _;
use std::net::IpAddr;

/// The domain of local names: what is at home, and no business of the internet's (RFC 8375).
pub const LOCAL_DOMAIN: &str = "home.arpa";
/// How long a lease lasts.
const LEASE: &str = "12h";

/// What of the gateway a network may use.
struct Uses {
    names: bool,
    leases: bool,
    time: bool,
}

/// Writes the file. Networks whose interface the plan does not name are not served.
pub fn dnsmasq(plan: &Plan) -> String {
    let mut out = String::new();
    let mut line = |text: &str| {
        out.push_str(text);
        out.push('\n');
    };
    line(&format!("# Leases and names of {}", one_line(&plan.site().name)));
    line("# Written by bastium from the plan: change the plan, not this file");
    line("bind-dynamic\ndomain-needed\nbogus-priv\nexpand-hosts");
    line(&format!("domain={LOCAL_DOMAIN}\nlocal=/{LOCAL_DOMAIN}/"));
    line("dhcp-authoritative");
    for id in plan.network_ids() {
        network(&mut line, plan, id);
    }
    hosts(&mut line, plan);
    domains(&mut line, plan);
    out
}

fn one_line(text: &str) -> String {
    clean(text).replace(['\n', '\r'], " ")
}

/// What a network may use: what it says itself, else what its zone says.
fn uses(plan: &Plan, network: &Network) -> Uses {
    let said = network.uses.as_ref().or(plan.zone(network.zone).uses.as_ref());
    let has = |port| {
        let point = ServicePoint::port(Protocol::UDP, port).coordinate();
        said.is_some_and(|services| services.set.v4.contains(point))
    };
    Uses { names: has(53), leases: has(67), time: has(123) || may_ask_time(plan, network) }
}

/// Whether an exception lets all of a network ask the gateway for the time.
fn may_ask_time(plan: &Plan, network: &Network) -> bool {
    let time = ServiceSet::ports(Protocol::UDP, 123, 123);
    plan.exceptions().iter().any(|exception| {
        !exception.off
            && exception.action == bastium_core::plan::Action::Allow
            && exception.to.gateway
            && time.is_subset(&exception.service.set)
            && network.device_addresses().is_subset(&exception.from.addresses)
    })
}

fn network(line: &mut impl FnMut(&str), plan: &Plan, id: NetworkId) {
    let network = plan.network(id);
    let Some(interface) = plan.interface(plan.network_leg(id)) else { return };
    let uses = uses(plan, network);
    if !uses.names && !uses.leases {
        return;
    }
    let name = network.name.as_str();
    line(&format!("\n# {name}\ninterface={interface}"));
    let leases = uses.leases && network.tunnel.is_none();
    let of = |family| network.subnets.iter().find(move |subnet| subnet.family() == family);
    let v4 = of(Family::V4).filter(|_| leases);
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
            line(&format!("no-dhcp-interface={interface}"));
            return;
        }
    }
    if let Some(subnet) = v4 {
        let gateway = subnet.gateway();
        line(&format!("dhcp-option=tag:{name},option:router,{gateway}"));
        let names = if uses.names { format!(",{gateway}") } else { String::new() };
        line(&format!("dhcp-option=tag:{name},option:dns-server{names}"));
        if uses.time {
            line(&format!("dhcp-option=tag:{name},option:ntp-server,{gateway}"));
        }
    }
    if let Some(subnet) = of(Family::V6).filter(|_| network.pool.is_some()) {
        let prefix = subnet.prefix();
        let (start, length) = (prefix.network(), prefix.prefix_len());
        line(&format!("dhcp-range=set:{name},{start},ra-stateless,{length},{LEASE}"));
        line(&format!("ra-param={interface},60,1200"));
        let names = if uses.names { format!(",[{}]", subnet.gateway()) } else { String::new() };
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
fn hosts(line: &mut impl FnMut(&str), plan: &Plan) {
    let named = plan.hosts().iter().filter(|host| !host.addresses.is_empty());
    let mut lines = String::new();
    for host in named {
        let v4 = host.addresses.iter().find(|address| address.is_ipv4());
        let network = plan.network(host.network);
        let leases = network.tunnel.is_none() && uses(plan, network).leases;
        if let (Some(mac), Some(address)) = (host.mac.filter(|_| leases), v4) {
            let mac = mac.to_string().to_lowercase();
            let _ = writeln!(lines, "dhcp-host={mac},{address},{}", host.name);
        }
        let addresses: Vec<String> = host.addresses.iter().map(IpAddr::to_string).collect();
        let name = &host.name;
        let _ = writeln!(lines, "host-record={name},{name}.{LOCAL_DOMAIN},{}", addresses.join(","));
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
        let names: Vec<&str> = domain.names.iter().map(String::as_str).collect();
        line(&format!(
            "nftset=/{}/4#inet#{TABLE}#domain_{name}_v4,6#inet#{TABLE}#domain_{name}_v6",
            names.join("/")
        ));
    }
}
