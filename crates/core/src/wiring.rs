//! What has to be set on every port, and what is missing on the way to the gateway.
//!
//! A network that is made on the gateway works only where each cable between there and its devices
//! carries it. From the plan's wiring follows what each port carries ([`ports`]), and where a network
//! that is needed further out does not come through ([`gaps`]).

use crate::name::Name;
use crate::plan::{AccessPointId, Hang, Network, NetworkId, Plan, SwitchId, SwitchPort, Tagged};
use crate::source::Span;
use std::collections::BTreeSet;

/// A device that has ports.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Device {
    /// The gateway.
    Gateway,
    /// A switch.
    Switch(SwitchId),
}

/// What to set on one port.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Port {
    /// The device that it belongs to.
    pub device: Device,
    /// Its name.
    pub name: String,
    /// The cables that it joins, where it is an aggregate (IEEE 802.1AX).
    pub joins: Vec<String>,
    /// The networks that it carries tagged (IEEE 802.1Q), by VLAN id.
    pub tagged: Vec<NetworkId>,
    /// The network that it carries untagged.
    pub untagged: Option<NetworkId>,
    /// What is at the other end, where the plan says so.
    pub to: Option<String>,
}

/// A network that does not come through.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Gap {
    /// The network.
    pub network: NetworkId,
    /// The device on whose port it is missing.
    pub device: String,
    /// That port.
    pub port: String,
    /// What needs it further out.
    pub needed_by: String,
    /// Where the plan declares what needs it.
    pub at: Span,
}

impl Device {
    /// What it is called.
    pub fn name<'p>(&self, plan: &'p Plan) -> &'p str {
        match self {
            Self::Gateway => "gateway",
            Self::Switch(id) => plan.wiring().switch(*id).name.as_str(),
        }
    }
}

/// What to set on every port: the gateway's ports first, then those of each switch.
///
/// A port carries a network if a device, a Wi-Fi name or another switch behind it needs that network; it follows from
/// the cabling in the plan and is never entered by hand.
pub fn ports(plan: &Plan) -> Vec<Port> {
    let mut ports = gateway_ports(plan);
    for (index, switch) in plan.wiring().switches.iter().enumerate() {
        let id = SwitchId(index);
        let arriving = arriving(plan, id);
        ports.extend(switch.ports.iter().map(|port| Port {
            device: Device::Switch(id),
            name: port.name.clone(),
            joins: Vec::new(),
            tagged: tagged(port, &arriving),
            untagged: port.untagged,
            to: other_end(plan, id, port),
        }));
    }
    ports
}

fn gateway_ports(plan: &Plan) -> Vec<Port> {
    let gateway = plan.gateway();
    let joined: Vec<&String> = gateway.aggregates.iter().flat_map(|entry| &entry.1).collect();
    let single = gateway.ports.iter().filter(|port| !joined.contains(port));
    let single = single.map(|port| (port.clone(), Vec::new()));
    let whole = gateway.aggregates.iter().map(|(name, members)| (name.clone(), members.clone()));
    let port = |(name, joins): (String, Vec<String>)| {
        let here = on_port(plan, &name);
        let untagged = here.iter().copied().find(|id| plan.network(*id).vlan.is_none());
        let uplink = plan.uplinks().iter().find(|uplink| uplink.port.as_ref() == Some(&name));
        let outward = uplink.map(|uplink| format!("uplink {}", uplink.name));
        let hang = Hang::Gateway(name.clone());
        Port {
            device: Device::Gateway,
            joins,
            tagged: here.into_iter().filter(|id| plan.network(*id).vlan.is_some()).collect(),
            untagged,
            to: outward.or_else(|| hanging(plan, &hang)),
            name,
        }
    };
    single.chain(whole).map(port).collect()
}

/// The networks that arrive at a port of the gateway.
fn on_port(plan: &Plan, port: &str) -> Vec<NetworkId> {
    plan.network_ids().filter(|id| plan.network(*id).port.as_deref() == Some(port)).collect()
}

/// The networks that arrive at a switch, as far as the ports on the way carry them.
fn arriving(plan: &Plan, id: SwitchId) -> BTreeSet<NetworkId> {
    through(plan, &plan.wiring().switch(id).hangs_on)
}

/// The networks that come through the port that something hangs on.
fn through(plan: &Plan, hang: &Hang) -> BTreeSet<NetworkId> {
    match hang {
        Hang::Gateway(port) => on_port(plan, port).into_iter().collect(),
        Hang::Switch(above, name) => {
            let there = arriving(plan, *above);
            let Some(port) = plan.wiring().switch(*above).port(name) else {
                return BTreeSet::new();
            };
            let carried = tagged(port, &there).into_iter().chain(port.untagged);
            carried.filter(|id| there.contains(id)).collect()
        }
    }
}

fn tagged(port: &SwitchPort, arriving: &BTreeSet<NetworkId>) -> Vec<NetworkId> {
    match &port.tagged {
        Tagged::All => arriving.iter().copied().filter(|id| port.untagged != Some(*id)).collect(),
        Tagged::These(these) => these.clone(),
    }
}

/// What hangs on a port.
fn hanging(plan: &Plan, hang: &Hang) -> Option<String> {
    let wiring = plan.wiring();
    let switches = wiring.switches.iter().filter(|switch| switch.hangs_on == *hang);
    let points = wiring.access_points.iter().filter(|point| point.hangs_on == *hang);
    let names: Vec<String> = switches
        .map(|switch| format!("switch {}", switch.name))
        .chain(points.map(|point| format!("access point {}", point.name)))
        .collect();
    (!names.is_empty()).then(|| names.join(", "))
}

/// A port of a switch leads to what hangs on it, or, where it carries everything, to where the switch
/// itself hangs.
fn other_end(plan: &Plan, id: SwitchId, port: &SwitchPort) -> Option<String> {
    let switch = plan.wiring().switch(id);
    let outward = hanging(plan, &Hang::Switch(id, port.name.clone()));
    let inward = switch.uplinks.contains(&port.name)
        || (switch.uplinks.is_empty() && port.tagged == Tagged::All);
    outward.or_else(|| inward.then(|| hang_words(plan, &switch.hangs_on)))
}

/// `gateway core`, `rack port 13`.
pub fn hang_words(plan: &Plan, hang: &Hang) -> String {
    match hang {
        Hang::Gateway(port) => format!("gateway {port}"),
        Hang::Switch(id, port) => format!("{} port {port}", plan.wiring().switch(*id).name),
    }
}

/// A network that something far out needs.
struct Need {
    network: NetworkId,
    by: String,
    at: Span,
    hang: Hang,
}

/// Where a network does not reach a port that needs it: one gap for each port on the way that does not carry it.
pub fn gaps(plan: &Plan) -> Vec<Gap> {
    let mut gaps: Vec<Gap> = Vec::new();
    for need in needs(plan) {
        let mut hang = need.hang.clone();
        loop {
            if let Some((device, port)) = missing(plan, &hang, need.network) {
                let known = |gap: &Gap| {
                    gap.network == need.network && gap.device == device && gap.port == port
                };
                if !gaps.iter().any(known) {
                    let (network, needed_by, at) = (need.network, need.by.clone(), need.at);
                    gaps.push(Gap { network, device, port, needed_by, at });
                }
            }
            match hang {
                Hang::Switch(above, _) => hang = plan.wiring().switch(above).hangs_on.clone(),
                Hang::Gateway(_) => break,
            }
        }
    }
    gaps
}

/// The device and the port on which a network is missing, if it is missing just there.
fn missing(plan: &Plan, hang: &Hang, network: NetworkId) -> Option<(String, String)> {
    match hang {
        Hang::Gateway(port) => (plan.network(network).port.as_ref() != Some(port))
            .then(|| ("gateway".to_owned(), port.clone())),
        Hang::Switch(id, name) => {
            let switch = plan.wiring().switch(*id);
            let carried = switch.port(name).is_some_and(|port| match &port.tagged {
                Tagged::All => true,
                Tagged::These(these) => these.contains(&network) || port.untagged == Some(network),
            });
            (!carried).then(|| (switch.name.to_string(), name.clone()))
        }
    }
}

/// What each switch port and each Wi-Fi name needs to come through to where it hangs.
fn needs(plan: &Plan) -> Vec<Need> {
    let wiring = plan.wiring();
    let mut needs = Vec::new();
    for switch in &wiring.switches {
        for port in &switch.ports {
            let these: &[NetworkId] = match &port.tagged {
                Tagged::These(these) => these,
                Tagged::All => &[],
            };
            needs.extend(these.iter().copied().chain(port.untagged).map(|network| Need {
                network,
                by: format!("port {} of {}", port.name, switch.name),
                at: port.at,
                hang: switch.hangs_on.clone(),
            }));
        }
    }
    for wifi in &wiring.wifi {
        needs.extend(wifi.on.iter().map(|AccessPointId(point)| Need {
            network: wifi.network,
            by: format!("Wi-Fi {}", wifi.name),
            at: wifi.at,
            hang: wiring.access_points[*point].hangs_on.clone(),
        }));
    }
    needs
}

/// The networks of a port on which something hangs that comes out nowhere: no switch port and no Wi-Fi
/// name leads into them.
pub fn nowhere(plan: &Plan) -> Vec<NetworkId> {
    let wiring = plan.wiring();
    let untagged = wiring.switches.iter().flat_map(|s| &s.ports).filter_map(|port| port.untagged);
    let tagged =
        wiring.switches.iter().flat_map(|s| &s.ports).flat_map(|port| match &port.tagged {
            Tagged::These(these) => these.clone(),
            Tagged::All => Vec::new(),
        });
    let sent = wiring.wifi.iter().map(|wifi| wifi.network);
    let out: BTreeSet<NetworkId> = untagged.chain(tagged).chain(sent).collect();
    let reached = |network: &Network| {
        let port = network.port.as_deref();
        let hangs = wiring.switches.iter().filter(|switch| !switch.ports.is_empty());
        hangs.map(|switch| &switch.hangs_on).any(|hang| match hang {
            Hang::Gateway(name) => Some(name.as_str()) == port,
            Hang::Switch(..) => false,
        })
    };
    plan.network_ids().filter(|id| reached(plan.network(*id)) && !out.contains(id)).collect()
}

/// The one plain cable on which everything behind a switch hangs, with the switch: each such port of
/// the gateway that carries two networks or more.
pub fn single_cables(plan: &Plan) -> Vec<(String, Name, Span)> {
    let aggregates = &plan.gateway().aggregates;
    let mut found = Vec::new();
    for switch in &plan.wiring().switches {
        let Hang::Gateway(port) = &switch.hangs_on else { continue };
        let joined = aggregates.iter().any(|entry| entry.0 == *port);
        if !joined && on_port(plan, port).len() > 1 {
            found.push((port.clone(), switch.name.clone(), switch.at));
        }
    }
    found
}
