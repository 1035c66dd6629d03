//! Cables: networks that do not come through, and what hangs on a single one.

use crate::diagnosis::{Diagnose, Diagnosis, Severity};
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
        let warning = |name, at: &Span| Diagnosis::new(name, Severity::Warning, Some(*at));
        let advice = |name, at: &Span| Diagnosis::new(name, Severity::Advice, Some(*at));
        match self {
            Self::Missing { network, device, port, needed_by, at } => warning("network-missing", at)
                .says(format!("{needed_by} needs `{network}`, and port {port} of {device} does not carry it"))
                .why("a network that one cable on the way does not carry silently does not work")
                .cure(if device == "gateway" {
                    format!("write `port = \"{port}\"` in `[network.{network}]`, or wire it another way")
                } else {
                    format!("add \"{network}\" to `tagged` of that port, or wire it another way")
                }),
            Self::Nowhere { network, at } => warning("network-nowhere", at)
                .says(format!("`{network}` arrives at a switch, and no port and no Wi-Fi name leads into it"))
                .why("nobody can join it")
                .cure("give it a switch port or a Wi-Fi name, or take it out"),
            Self::SingleCable { port, switch, at } => advice("single-cable", at)
                .says(format!("all of switch `{switch}` hangs on the one cable at {port}"))
                .why("when that cable or port dies, everyone behind it is cut off")
                .cure("join two ports into an aggregate, as in `aggregate = { core = [\"lan1\", \"lan2\"] }`"),
            Self::NoPort { network, at } => advice("no-port", at)
                .says(format!("`{network}` does not say at which port of the gateway it arrives"))
                .why("whoever sets the gateway up has to guess")
                .cure("add a line like `port = \"lan1\"`"),
            Self::WifiTwice { shown, one, other, at, first } => warning("wifi-twice", at)
                .says(format!("the Wi-Fi name \"{shown}\" leads into `{one}` and into `{other}` on one access point"))
                .why("nobody can tell which network a device ends up in: one of the two is on the wrong VLAN")
                .cure("give one of the two another `name`, or let another access point send it")
                .also(*first, "the other one"),
            Self::UntaggedTrunk { network, port, at } => advice("untagged-trunk", at)
                .says(format!("`{network}` arrives at {port} without a tag, beside networks with one"))
                .why("whatever is plugged in there without being set up lands in it")
                .cure("give it a `vlan`, or a port of its own"),
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
