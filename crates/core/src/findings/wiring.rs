//! Cabling: networks that do not reach the ports where they are needed, and devices that depend on a single cable.

use crate::diagnosis::{Diagnose, Diagnosis, advice, warning};
use crate::name::Name;
use crate::plan::{Plan, Wifi};
use crate::source::Span;
use crate::wiring;

/// A finding about cables.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum WiringFinding {
    /// A network is needed further out and missing on a port on the way.
    Missing { network: Name, device: String, port: String, needed_by: String, at: Span },
    /// A network arrives at a switch and comes out nowhere.
    Nowhere { network: Name, at: Span },
    /// Everything behind a switch hangs on one cable.
    SingleCable { port: String, switch: Name, at: Span },
    /// The gateway has ports, and a network does not say on which it arrives.
    NoPort { network: Name, at: Span },
    /// One Wi-Fi name leads into two networks on one access point.
    WifiTwice { shown: String, one: Name, other: Name, at: Span, first: Span },
    /// A network arrives without a tag where others have one.
    UntaggedTrunk { network: Name, port: String, at: Span },
}

impl Diagnose for WiringFinding {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::Missing { network, device, port, needed_by, at } => warning("network-missing", at)
                .says(format!("{needed_by} needs `{network}`, but port {port} of {device} does not carry it"))
                .why("a VLAN that is missing on one link fails silently")
                .help(if device == "gateway" {
                    format!("write `port = \"{port}\"` in `[network.{network}]`, or wire it another way")
                } else {
                    format!("add \"{network}\" to `tagged` of that port, or wire it another way")
                }),
            Self::Nowhere { network, at } => warning("network-nowhere", at)
                .says(format!("`{network}` reaches a switch, but no port or Wi-Fi network uses it"))
                .why("no device can join it")
                .help("assign it to a switch port or a Wi-Fi network, or remove it"),
            Self::SingleCable { port, switch, at } => advice("single-cable", at)
                .says(format!("switch `{switch}` depends on the single cable at {port}"))
                .why("when that cable or port dies, everyone behind it is cut off")
                .help("bundle two ports into an aggregate, as in `aggregate = { core = [\"lan1\", \"lan2\"] }`"),
            Self::NoPort { network, at } => advice("no-port", at)
                .says(format!("`{network}` has no gateway `port`"))
                .why("whoever configures the gateway has to guess")
                .help("add a line like `port = \"lan1\"`"),
            Self::WifiTwice { shown, one, other, at, first } => warning("wifi-twice", at)
                .says(format!("the Wi-Fi name \"{shown}\" leads to both `{one}` and `{other}` on one access point"))
                .why("devices end up in either network, some of them in the wrong VLAN")
                .help("change the `name` of one of the two, or move it to another access point")
                .also(*first, "the other one"),
            Self::UntaggedTrunk { network, port, at } => advice("untagged-trunk", at)
                .says(format!("`{network}` is untagged on {port}, which also carries tagged networks"))
                .why("any device that is plugged in there without configuration joins it")
                .help("give it a `vlan`, or its own port"),
        }
    }
}

pub(super) fn find(plan: &Plan) -> Vec<WiringFinding> {
    let mut found = Vec::new();
    for gap in wiring::gaps(plan) {
        found.push(WiringFinding::Missing {
            network: plan.network(gap.network).name.clone(),
            device: gap.device,
            port: gap.port,
            needed_by: gap.needed_by,
            at: gap.at,
        });
    }
    for id in wiring::nowhere(plan) {
        let network = plan.network(id);
        found.push(WiringFinding::Nowhere { network: network.name.clone(), at: network.at });
    }
    for (port, switch, at) in wiring::single_cables(plan) {
        found.push(WiringFinding::SingleCable { port, switch, at });
    }
    let wifi = &plan.wiring().wifi;
    for (index, second) in wifi.iter().enumerate() {
        let meets = |first: &&Wifi| {
            first.shown == second.shown
                && first.network != second.network
                && first.on.iter().any(|point| second.on.contains(point))
        };
        if let Some(first) = wifi[..index].iter().find(meets) {
            found.push(WiringFinding::WifiTwice {
                shown: second.shown.clone(),
                one: plan.network(first.network).name.clone(),
                other: plan.network(second.network).name.clone(),
                at: second.at,
                first: first.at,
            });
        }
    }
    let networks = plan.networks().iter().filter(|network| network.tunnel.is_none());
    for network in networks.clone() {
        if network.port.is_none() && !plan.gateway().ports.is_empty() {
            found.push(WiringFinding::NoPort { network: network.name.clone(), at: network.at });
        }
        let Some(port) = network.port.clone().filter(|_| network.vlan.is_none()) else { continue };
        let mut others = networks.clone().filter(|other| other.port.as_ref() == Some(&port));
        if others.any(|other| other.vlan.is_some()) {
            let (network, at) = (network.name.clone(), network.at);
            found.push(WiringFinding::UntaggedTrunk { network, port, at });
        }
    }
    found
}
