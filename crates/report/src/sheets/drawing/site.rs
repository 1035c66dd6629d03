//! The site as a picture: which device is connected to which.

use super::shown;
use crate::count;
use bastium_core::plan::{Hang, NetworkId, Plan, SwitchId};
use bastium_core::wiring::{self, Device, Port};
use bastium_picture::{NodeKind, SiteNode, SiteTree};
use std::collections::BTreeSet;

/// With more networks than this, what comes out at a port is one node.
const MOST_CHIPS: usize = 4;

/// What the picture of the site shows.
pub fn site_tree(plan: &Plan) -> SiteTree {
    let mut tree = Tree { plan, ports: wiring::ports(plan), shown: BTreeSet::new() };
    let gateway = tree.gateway();
    let root = SiteNode {
        kind: NodeKind::Outside,
        title: plan.zone(plan.internet()).name.to_string(),
        aside: String::new(),
        lines: Vec::new(),
        cable: Vec::new(),
        anchor: None,
        children: vec![gateway],
    };
    let missing = plan.network_ids().filter(|id| !tree.shown.contains(id));
    let missing: Vec<String> = missing.map(|id| plan.network(id).name.to_string()).collect();
    let mut notes = Vec::new();
    if !missing.is_empty() {
        notes.push(format!("Not on any port or Wi-Fi name: {}.", missing.join(", ")));
    }
    notes.extend(wiring::gaps(plan).into_iter().map(|gap| {
        let network = &plan.network(gap.network).name;
        format!(
            "{network} is missing on {} port {}; {} needs it.",
            shown(&gap.device),
            shown(&gap.port),
            shown(&gap.needed_by)
        )
    }));
    SiteTree { site: shown(&plan.site().name), root, notes }
}

/// How a network leaves a port.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Tag {
    Tagged,
    Untagged,
}

struct Tree<'p> {
    plan: &'p Plan,
    ports: Vec<Port>,
    /// The networks that are in the tree.
    shown: BTreeSet<NetworkId>,
}

impl Tree<'_> {
    fn gateway(&mut self) -> SiteNode {
        let plan = self.plan;
        let mut lines = Vec::new();
        let mut children = Vec::new();
        for port in self.ports_of(&Device::Gateway) {
            let joins = port.joins.join(" + ");
            let name = match port.joins.len() {
                0 => shown(&port.name),
                _ => format!("{} ({})", shown(&port.name), shown(&joins)),
            };
            let hangs = self.hanging(&Hang::Gateway(port.name.clone()), &port, &name);
            if !hangs.is_empty() {
                children.extend(hangs);
            } else if port.tagged.is_empty() && port.untagged.is_none() {
                if port.to.is_none() {
                    lines.push(format!("{name}: unused"));
                }
            } else {
                children.extend(self.chips(&port, &name));
            }
        }
        children.extend(self.tunnels());
        children.extend(self.routes());
        let cable = plan.uplinks().iter().flat_map(|uplink| {
            let port = uplink.port.as_deref().map(|port| format!("port {}", shown(port)));
            let leased =
                (uplink.addresses.is_empty() && uplink.dhcp).then(|| "address by DHCP".to_owned());
            let addresses = uplink.addresses.iter().map(ToString::to_string).chain(leased);
            std::iter::once(format!("uplink {}", uplink.name)).chain(port).chain(addresses)
        });
        let cable = cable.collect();
        device("gateway", lines, cable, children)
    }

    fn ports_of(&self, device: &Device) -> Vec<Port> {
        self.ports.iter().filter(|port| port.device == *device).cloned().collect()
    }

    /// What hangs on a port: switches and access points, each with everything behind it.
    fn hanging(&mut self, hang: &Hang, port: &Port, name: &str) -> Vec<SiteNode> {
        let wiring = self.plan.wiring();
        let networks: Vec<NetworkId> = port.tagged.iter().copied().chain(port.untagged).collect();
        let cable = vec![format!("port {name}"), count(networks.len(), "network")];
        let mut nodes = Vec::new();
        for id in wiring.switch_ids().filter(|id| wiring.switch(*id).hangs_on == *hang) {
            let title = format!("switch {}", wiring.switch(id).name);
            let children = self.behind_switch(id);
            nodes.push(device(&title, self.carries(port), cable.clone(), children));
        }
        for id in wiring.access_point_ids().filter(|id| wiring.access_point(*id).hangs_on == *hang)
        {
            let title = format!("access point {}", wiring.access_point(id).name);
            let sent = wiring.wifi.iter().filter(|wifi| wifi.on.contains(&id));
            let children: Vec<SiteNode> = sent
                .map(|wifi| {
                    let bands = wifi.bands.join(" + ");
                    let bands = if bands.is_empty() { bands } else { format!(", {bands} GHz") };
                    let name = format!("“{}”", shown(&wifi.shown));
                    self.chip(wifi.network, vec![name, format!("Wi-Fi{bands}")])
                })
                .collect();
            nodes.push(device(&title, self.carries(port), cable.clone(), children));
        }
        nodes
    }

    /// What a cable to a device carries, or, where that is less to read, what it lacks.
    fn carries(&self, port: &Port) -> Vec<String> {
        let plan = self.plan;
        let name = |id: &NetworkId| plan.network(*id).name.to_string();
        let wired: Vec<NetworkId> =
            plan.network_ids().filter(|id| plan.network(*id).tunnel.is_none()).collect();
        let has = |id: &NetworkId| port.tagged.contains(id) || port.untagged == Some(*id);
        let lacks: Vec<String> = wired.iter().filter(|id| !has(id)).map(name).collect();
        let mut lines = Vec::new();
        if lacks.is_empty() {
            lines.push("carries every network".to_owned());
        } else if lacks.len() * 2 <= wired.len() {
            lines.push(format!("lacks {}", lacks.join(", ")));
        } else if !port.tagged.is_empty() {
            let tagged: Vec<String> = port.tagged.iter().map(name).collect();
            lines.push(format!("tagged: {}", tagged.join(", ")));
        }
        lines.extend(port.untagged.as_ref().map(|id| format!("untagged: {}", name(id))));
        lines
    }

    fn behind_switch(&mut self, id: SwitchId) -> Vec<SiteNode> {
        let ports = self.ports_of(&Device::Switch(id));
        let inward = wiring::hang_words(self.plan, &self.plan.wiring().switch(id).hangs_on);
        let mut children = Vec::new();
        let mut rest = ports.as_slice();
        while let Some(first) = rest.first() {
            let alike = 1 + rest.windows(2).take_while(|pair| follows(&pair[0], &pair[1])).count();
            let name = match &rest[alike - 1].name {
                last if alike > 1 => format!("{}-{}", shown(&first.name), shown(last)),
                _ => shown(&first.name),
            };
            let hangs = self.hanging(&Hang::Switch(id, first.name.clone()), first, &name);
            if !hangs.is_empty() {
                children.extend(hangs);
            } else if first.to.as_ref() != Some(&inward) {
                children.extend(self.chips(first, &name));
            }
            rest = &rest[alike..];
        }
        children
    }

    /// The networks that come out at a port.
    fn chips(&mut self, port: &Port, name: &str) -> Vec<SiteNode> {
        let tagged = port.tagged.iter().map(|id| (*id, Tag::Tagged));
        let networks: Vec<(NetworkId, Tag)> =
            port.untagged.map(|id| (id, Tag::Untagged)).into_iter().chain(tagged).collect();
        let ports = if name.contains('-') && port.name != name { "ports" } else { "port" };
        if networks.len() > MOST_CHIPS {
            self.shown.extend(networks.iter().map(|(id, _)| *id));
            let names = networks.iter().map(|(id, tag)| {
                let untagged = if *tag == Tag::Untagged { " (untagged)" } else { "" };
                format!("{}{untagged}", self.plan.network(*id).name)
            });
            let names: Vec<String> = names.collect();
            return vec![SiteNode {
                kind: NodeKind::Network,
                title: count(networks.len(), "network"),
                aside: String::new(),
                lines: vec![names.join(", ")],
                cable: vec![format!("{ports} {name}")],
                anchor: None,
                children: Vec::new(),
            }];
        }
        let chip = |(id, tag): (NetworkId, Tag)| {
            let tag = if tag == Tag::Tagged { "tagged" } else { "untagged" };
            self.chip(id, vec![format!("{ports} {name}"), tag.to_owned()])
        };
        networks.into_iter().map(chip).collect()
    }

    fn chip(&mut self, id: NetworkId, cable: Vec<String>) -> SiteNode {
        self.shown.insert(id);
        let network = self.plan.network(id);
        let vlan = network.vlan.map_or_else(String::new, |vlan| format!("VLAN {vlan}, "));
        let zone = &self.plan.zone(network.zone).name;
        SiteNode {
            kind: NodeKind::Network,
            title: network.name.to_string(),
            aside: format!("{vlan}{zone}"),
            lines: network.subnets.iter().map(|subnet| subnet.prefix().to_string()).collect(),
            cable,
            anchor: None,
            children: Vec::new(),
        }
    }

    fn tunnels(&mut self) -> Vec<SiteNode> {
        let plan = self.plan;
        let tunnels =
            plan.network_ids().filter_map(|id| Some((id, plan.network(id).tunnel.as_ref()?)));
        let node = |(id, tunnel): (NetworkId, &bastium_core::plan::Tunnel)| {
            let listens =
                tunnel.listens.as_ref().map(|at| format!("listens on {}", shown(&at.text)));
            self.chip(id, std::iter::once("tunnel".to_owned()).chain(listens).collect())
        };
        tunnels.map(node).collect()
    }

    /// Subnets behind other routers.
    fn routes(&self) -> Vec<SiteNode> {
        let plan = self.plan;
        let node = |route: &bastium_core::plan::Route| SiteNode {
            kind: NodeKind::Network,
            title: route.name.to_string(),
            aside: plan.zone(route.zone).name.to_string(),
            lines: vec![route.to.to_string()],
            cable: vec![
                format!("route by {}", route.via),
                format!("in {}", plan.network(route.network).name),
            ],
            anchor: None,
            children: Vec::new(),
        };
        plan.routes().iter().map(node).collect()
    }
}

fn device(
    title: &str,
    lines: Vec<String>,
    cable: Vec<String>,
    children: Vec<SiteNode>,
) -> SiteNode {
    SiteNode {
        kind: NodeKind::Device,
        title: title.to_owned(),
        aside: String::new(),
        lines,
        cable,
        anchor: None,
        children,
    }
}

/// Whether a port comes after another one by number, and is set like it, with nothing on it that hangs there alone.
fn follows(one: &Port, next: &Port) -> bool {
    let number = |port: &Port| port.name.parse::<u32>().ok();
    let after = number(one).zip(number(next)).is_some_and(|(a, b)| a.checked_add(1) == Some(b));
    after && one.tagged == next.tagged && one.untagged == next.untagged && one.to == next.to
}
