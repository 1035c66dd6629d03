//! Builds a site: namespaces, cables, addresses and routes.

use super::Wire;
use crate::child;
use crate::kernel::filter::{self, FilterError, Line};
use crate::kernel::frame::Cable;
use crate::kernel::space::Space;
use crate::kernel::trace::Trace;
use bastium_core::space::Family;
use ipnet::IpNet;
use std::collections::HashMap;
use std::fmt::Write as _;
use std::fs;
use std::io;
use std::net::IpAddr;
use std::process::Command;

/// What a site could not be built for.
#[derive(Debug, thiserror::Error)]
pub enum Undone {
    /// The kernel refused something.
    #[error("cannot {0}: {1}")]
    Kernel(&'static str, #[source] io::Error),
    /// The tool for links and addresses refused, or is not there.
    #[error("ip refuses: {}", .0.trim())]
    Links(String),
    /// The packet filter's tool did.
    #[error(transparent)]
    Filter(#[from] FilterError),
}

/// A site that stands.
pub struct Site {
    /// The gateway's network.
    pub gateway: Space,
    /// The network at the other end of each cable.
    pub ends: Vec<Space>,
    pub(super) cables: Vec<Cable>,
    pub(super) trace: Trace,
    pub(super) lines: HashMap<(String, u64), Line>,
    pub(super) next_mark: u16,
    /// The interfaces of all uplinks but the first, in their order.
    further: Vec<String>,
}

/// What the interface is called at the devices' end.
pub(super) const DEVICE: &str = "lan";

/// What a gateway has to be set to, so that its rules decide and nothing before them.
const GATEWAY: [(&str, &str); 14] = [
    ("ipv4/ip_forward", "1"),
    ("ipv6/conf/all/forwarding", "1"),
    ("ipv4/conf/all/rp_filter", "0"),
    ("ipv4/conf/default/rp_filter", "0"),
    ("ipv4/conf/all/send_redirects", "0"),
    ("ipv4/conf/default/send_redirects", "0"),
    ("ipv4/icmp_ratelimit", "0"),
    ("ipv6/icmp/ratelimit", "0"),
    ("ipv4/icmp_echo_ignore_broadcasts", "0"),
    ("ipv6/conf/default/accept_dad", "0"),
    ("ipv6/conf/default/dad_transmits", "0"),
    ("ipv6/conf/default/accept_ra", "0"),
    ("ipv6/conf/all/accept_ra", "0"),
    ("ipv4/ip_nonlocal_bind", "1"),
];

/// What devices are set to: no waiting for addresses, and sockets from any of them.
const DEVICES: [(&str, &str); 7] = [
    ("ipv4/conf/all/rp_filter", "0"),
    ("ipv4/conf/default/rp_filter", "0"),
    ("ipv4/icmp_ratelimit", "0"),
    ("ipv6/icmp/ratelimit", "0"),
    ("ipv6/conf/default/accept_dad", "0"),
    ("ipv6/conf/default/dad_transmits", "0"),
    ("ipv6/conf/default/accept_ra", "0"),
];

impl Site {
    /// Builds a site of these cables, with a gateway that has no rules yet.
    ///
    /// # Errors
    /// What the kernel or the tool for links says against it.
    pub fn build(wires: &[Wire]) -> Result<Self, Undone> {
        let kernel = |what| move |error| Undone::Kernel(what, error);
        let gateway = Space::new().map_err(kernel("make a namespace"))?;
        gateway.within(|| settings(&GATEWAY)).map_err(kernel("set up the gateway"))?;
        let mut ends = Vec::new();
        for _ in wires {
            let end = Space::new().map_err(kernel("make a namespace"))?;
            end.within(|| settings(&DEVICES)).map_err(kernel("set up the devices"))?;
            ends.push(end);
        }
        let script = gateway_script(wires, &ends).map_err(kernel("find a namespace"))?;
        ip(&gateway, &script)?;
        let mut cables = Vec::new();
        for (number, (wire, end)) in wires.iter().zip(&ends).enumerate() {
            ip(end, &device_script(wire))?;
            let (to, from) = (Wire::gateway_mac(number), Wire::device_mac(number));
            let cable = end.within(|| Cable::new(DEVICE, to, from));
            cables.push(cable.map_err(kernel("take hold of a cable"))?);
        }
        let trace = gateway.within(Trace::new).map_err(kernel("hear the packet filter"))?;
        let further = Vec::new();
        Ok(Self { gateway, ends, cables, trace, lines: HashMap::new(), next_mark: 1, further })
    }

    /// Makes the gateway answer by the uplink that was asked, as providers expect, from the next
    /// [`load`](Self::load) on.
    ///
    /// It is no part of [`build`](Self::build), because a kernel with rules for routes looks closer at
    /// sources: it takes none that is a broadcast address.
    ///
    /// # Errors
    /// What the tool for links says against it.
    pub fn answer_by_uplink(&mut self, wires: &[Wire]) -> Result<(), Undone> {
        self.further = further_uplinks(wires).map(|wire| wire.interface.clone()).collect();
        if self.further.is_empty() {
            return Ok(());
        }
        ip(&self.gateway, &answering_routes(wires))?;
        ["-4", "-6"]
            .into_iter()
            .try_for_each(|family| ip_of(family, &self.gateway, &answering_rules(wires)))
    }

    /// Loads rules into the gateway, as they are, in place of those that are there.
    ///
    /// # Errors
    /// When the packet filter's tool refuses them.
    pub fn load(&mut self, rules: &str) -> Result<(), Undone> {
        let first = self.lines.is_empty();
        let loaded = self.gateway.within(|| {
            // What is known from before would pass by no rule.
            filter::forget_conversations()?;
            Ok(filter::load(rules).and_then(|()| {
                filter::is_whole(rules)?;
                if first {
                    filter::listen(&self.further)?;
                }
                filter::lines()
            }))
        });
        self.lines = loaded.map_err(|error| Undone::Kernel("load the rules", error))??;
        Ok(())
    }

    /// How often each rule was hit since it was loaded, by its comment.
    ///
    /// # Errors
    /// When the packet filter's tool does not say.
    pub fn hits(&self) -> Result<HashMap<String, u64>, Undone> {
        let lines = self.gateway.within(|| Ok(filter::lines()?));
        let lines = lines.map_err(|error| Undone::Kernel("read the counters", error))?;
        let mut hits: HashMap<String, u64> = HashMap::new();
        for line in lines.into_values().filter(|line| !line.comment.is_empty()) {
            *hits.entry(line.comment).or_default() += line.hits.unwrap_or(0);
        }
        Ok(hits)
    }
}

fn settings(all: &[(&str, &str)]) -> io::Result<()> {
    for (name, value) in all {
        match fs::write(format!("/proc/sys/net/{name}"), value) {
            // A kernel without IPv6, or without one of the limits, has nothing to set there.
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
    }
    Ok(())
}

fn mac(octets: [u8; 6]) -> String {
    octets.map(|octet| format!("{octet:02x}")).join(":")
}

fn gateway_script(wires: &[Wire], ends: &[Space]) -> io::Result<String> {
    let mut script = String::from("link set lo up\n");
    for (number, (wire, end)) in wires.iter().zip(ends).enumerate() {
        let name = &wire.interface;
        let (own, other) = (mac(Wire::gateway_mac(number)), mac(Wire::device_mac(number)));
        let _ = writeln!(
            script,
            "link add name {name} address {own} type veth peer name {DEVICE} address {other} netns {}",
            end.path()?.display()
        );
        for address in &wire.gateway {
            let _ = writeln!(script, "addr add {address} dev {name}{}", no_waiting(address.addr()));
        }
        let _ = writeln!(script, "link set {name} up");
    }
    for (number, wire) in wires.iter().enumerate() {
        let name = &wire.interface;
        for (subnet, router) in &wire.behind {
            let _ = writeln!(script, "route add {subnet} via {router} dev {name} onlink");
        }
        for router in &wire.routers {
            let metric = 100 + number;
            let _ = writeln!(
                script,
                "route add default via {router} dev {name} onlink metric {metric}"
            );
        }
    }
    Ok(script)
}

/// The ways back by each further uplink, in tables of their own.
fn answering_routes(wires: &[Wire]) -> String {
    let marks = further_uplinks(wires).zip(filter::FIRST_MARK..);
    let routes = marks.flat_map(|(wire, mark)| {
        let name = &wire.interface;
        wire.routers.iter().map(move |router| {
            format!("route add default via {router} dev {name} onlink table {mark}\n")
        })
    });
    routes.collect()
}

/// Which table of routes what is marked goes by: the same for both families.
fn answering_rules(wires: &[Wire]) -> String {
    let marks = further_uplinks(wires).zip(filter::FIRST_MARK..);
    marks.map(|(_, mark)| format!("rule add fwmark {mark} lookup {mark}\n")).collect()
}

/// The cables of all uplinks but the first.
fn further_uplinks(wires: &[Wire]) -> impl Iterator<Item = &Wire> {
    wires.iter().filter(|wire| !wire.routers.is_empty()).skip(1)
}

fn device_script(wire: &Wire) -> String {
    let mut script = format!("link set lo up\nlink set {DEVICE} up\n");
    for address in &wire.devices {
        let _ = writeln!(script, "addr add {address} dev {DEVICE}{}", no_waiting(address.addr()));
    }
    for address in &wire.beyond {
        let _ = writeln!(script, "addr add {address} dev lo{}", no_waiting(*address));
    }
    for family in Family::ALL {
        let mut own = wire.gateway.iter().map(IpNet::addr).filter(|own| Family::of(*own) == family);
        if let Some(gateway) = own.next() {
            let _ = writeln!(script, "route add default via {gateway} dev {DEVICE} onlink");
        }
    }
    script
}

fn no_waiting(address: IpAddr) -> &'static str {
    if address.is_ipv6() { " nodad" } else { "" }
}

/// Runs the tool for links and addresses in a namespace, for a whole script at once.
pub(super) fn ip(space: &Space, script: &str) -> Result<(), Undone> {
    ran(space, Command::new("ip").args(["-batch", "-"]), script)
}

/// The same for one family, `-4` or `-6`.
fn ip_of(family: &str, space: &Space, script: &str) -> Result<(), Undone> {
    ran(space, Command::new("ip").args([family, "-batch", "-"]), script)
}

fn ran(space: &Space, command: &mut Command, script: &str) -> Result<(), Undone> {
    let run = || child::run(command, script);
    let done = space.within(run).map_err(|error| Undone::Kernel("run ip", error))?;
    if done.status.success() {
        return Ok(());
    }
    Err(Undone::Links(String::from_utf8_lossy(&done.err).into_owned()))
}
