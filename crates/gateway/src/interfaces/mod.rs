//! The interfaces of a Linux gateway as files: ports, aggregates, VLANs, addresses and routes, as its plan has them.
//!
//! Two programs read such files on most systems: systemd's network manager, and ifupdown. Both are written from the same
//! links, and read back from their bytes to links again before anybody gets them.

mod ifupdown;
mod networkd;

use bastium_core::plan::Plan;
use ipnet::IpNet;
use std::collections::BTreeMap;
use std::net::IpAddr;

/// Which program sets up the interfaces.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Manager {
    /// systemd-networkd, by files in `/etc/systemd/network`.
    Networkd,
    /// ifupdown, by a file in `/etc/network/interfaces.d`.
    Ifupdown,
}

impl Manager {
    /// Where its files are.
    pub fn folder(self) -> &'static str {
        match self {
            Self::Networkd => "/etc/systemd/network",
            Self::Ifupdown => "/etc/network/interfaces.d",
        }
    }
}

/// A file for one of them.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct InterfaceFile {
    /// Its name within [`Manager::folder`]; it holds the word `bastium`.
    pub name: String,
    /// What is in it.
    pub text: String,
}

/// Files that were read back, with what they do not hold.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct InterfaceFiles {
    /// The files, by their names.
    pub files: Vec<InterfaceFile>,
    /// The networks that are tunnels: what makes them is not in a plan.
    pub tunnels: Vec<String>,
    /// The networks and uplinks without a port.
    pub nowhere: Vec<String>,
}

/// How an interface comes to be.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
enum Made {
    /// It is a port.
    #[default]
    Port,
    /// It joins ports (IEEE 802.1AX).
    Aggregate(Vec<String>),
    /// It is a VLAN on another one (IEEE 802.1Q).
    Vlan { on: String, id: u16 },
}

/// An interface of a gateway.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Link {
    made: Made,
    /// Its own addresses, in the plan's order.
    addresses: Vec<IpNet>,
    /// Whether it has addresses from outside, by DHCP or router advertisements.
    leased: bool,
    /// The routers for everything that is not here.
    routers: Vec<IpAddr>,
    /// Subnets that are reached through it, and the router that leads there.
    routes: Vec<(IpNet, IpAddr)>,
}

/// Interfaces by their names.
type Links = BTreeMap<String, Link>;

/// The interfaces of a plan's gateway as files.
///
/// # Errors
/// Where a file, read back, says something else: the names of those interfaces.
pub fn interface_files(plan: &Plan, manager: Manager) -> Result<InterfaceFiles, Vec<String>> {
    let (links, tunnels, nowhere) = links(plan);
    let files = match manager {
        Manager::Networkd => networkd::write(&links),
        Manager::Ifupdown => ifupdown::write(&links),
    };
    let read = match manager {
        Manager::Networkd => networkd::read(&files),
        Manager::Ifupdown => ifupdown::read(&files),
    };
    let names = links.keys().chain(read.keys());
    let differs: Vec<String> =
        names.filter(|name| links.get(*name) != read.get(*name)).cloned().collect();
    if differs.is_empty() { Ok(InterfaceFiles { files, tunnels, nowhere }) } else { Err(differs) }
}

fn links(plan: &Plan) -> (Links, Vec<String>, Vec<String>) {
    let mut links = Links::new();
    let (mut tunnels, mut nowhere) = (Vec::new(), Vec::new());
    for (name, ports) in &plan.gateway().aggregates {
        links.entry(name.clone()).or_default().made = Made::Aggregate(ports.clone());
        for port in ports {
            links.entry(port.clone()).or_default();
        }
    }
    for id in plan.network_ids() {
        let network = plan.network(id);
        if network.tunnel.is_some() {
            tunnels.push(network.name.to_string());
            continue;
        }
        let (Some(port), Some(name)) =
            (&network.port, plan.device_name(plan.network_interface(id)))
        else {
            nowhere.push(network.name.to_string());
            continue;
        };
        links.entry(port.clone()).or_default();
        let link = links.entry(name).or_default();
        if let Some(vlan) = network.vlan {
            link.made = Made::Vlan { on: port.clone(), id: vlan };
        }
        let own = network.subnets.iter();
        link.addresses.extend(
            own.filter_map(|one| IpNet::new(one.gateway(), one.prefix().prefix_len()).ok()),
        );
        let routes = plan.routes().iter().filter(|route| route.network == id);
        link.routes.extend(routes.map(|route| (route.to, route.via)));
    }
    for uplink in plan.uplinks() {
        let Some(port) = &uplink.port else {
            nowhere.push(uplink.name.to_string());
            continue;
        };
        let link = links.entry(port.clone()).or_default();
        link.addresses.extend(&uplink.addresses);
        link.leased = uplink.dhcp;
        link.routers.extend(&uplink.routers);
    }
    for link in links.values_mut() {
        // In an order that both kinds of files can keep.
        link.addresses.sort_by_key(|one| one.addr().is_ipv6());
        link.routers.sort_by_key(IpAddr::is_ipv6);
        link.routes.sort_by_key(|(_, via)| via.is_ipv6());
        if let Made::Aggregate(ports) = &mut link.made {
            ports.sort_unstable();
        }
    }
    (links, tunnels, nowhere)
}

/// The interfaces that are VLANs on one.
fn vlans_on<'a>(links: &'a Links, port: &'a str) -> impl Iterator<Item = &'a str> {
    links.iter().filter_map(move |(name, link)| match &link.made {
        Made::Vlan { on, .. } if on == port => Some(name.as_str()),
        _ => None,
    })
}

/// The aggregate that a port belongs to.
fn joined_in<'a>(links: &'a Links, port: &str) -> Option<&'a str> {
    links.iter().find_map(|(name, link)| match &link.made {
        Made::Aggregate(ports) if ports.iter().any(|one| one == port) => Some(name.as_str()),
        _ => None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plan(name: &str) -> Plan {
        let path = format!("{}/../../demo/{name}.toml", env!("CARGO_MANIFEST_DIR"));
        let text = std::fs::read(&path).expect("the demo plan");
        bastium_planfile::read(name, &text).expect("a plan")
    }

    /// Each line that is left out is noticed, but for those that say nothing of what a plan has.
    #[test]
    fn a_line_less_is_noticed() {
        let silent = [
            "IPv6AcceptRA",
            "LinkLocalAddressing",
            "Mode=",
            "[",
            "auto ",
            "    bond-mode",
            "    accept_ra",
            "#",
            "iface",
        ];
        for name in ["clinic", "farm", "bare"] {
            let (links, ..) = links(&plan(name));
            let mut tried = 0;
            for manager in [Manager::Networkd, Manager::Ifupdown] {
                let read = |files: &[InterfaceFile]| match manager {
                    Manager::Networkd => networkd::read(files),
                    Manager::Ifupdown => ifupdown::read(files),
                };
                let files = interface_files(&plan(name), manager).expect("files").files;
                for place in 0..files.len() {
                    let lines: Vec<&str> = files[place].text.lines().collect();
                    for left_out in 0..lines.len() {
                        let line = lines[left_out];
                        if line.is_empty() || silent.iter().any(|word| line.starts_with(word)) {
                            continue;
                        }
                        let mut damaged = files.clone();
                        damaged[place].text =
                            [&lines[..left_out], &lines[left_out + 1..]].concat().join("\n");
                        assert_ne!(
                            read(&damaged),
                            links,
                            "{name}: {} without {line}",
                            files[place].name
                        );
                        tried += 1;
                    }
                }
            }
            assert!(tried > 10, "{name}: {tried}");
        }
    }
}
