//! Cabling: which device is connected to which, and which networks each port carries.

use super::NetworkId;
use super::ids::numbers;
use crate::name::Name;
use crate::source::Span;

numbers! {
    /// A switch of one plan.
    SwitchId,
    /// An access point of one plan.
    AccessPointId
}

/// The other end of a cable.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Hang {
    /// A port or aggregate of the gateway.
    Gateway(String),
    /// A port of a switch.
    Switch(SwitchId, String),
}

/// What a port carries with tags.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Tagged {
    /// Every network that arrives at this switch.
    All,
    /// These.
    These(Vec<NetworkId>),
}

/// A port of a switch.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct SwitchPort {
    /// Its name: usually a number.
    pub name: String,
    /// The networks that it carries tagged (IEEE 802.1Q).
    pub tagged: Tagged,
    /// The network that it carries untagged.
    pub untagged: Option<NetworkId>,
    /// Where it is declared.
    pub at: Span,
}

/// A switch.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Switch {
    /// Its name.
    pub name: Name,
    /// What it hangs on.
    pub hangs_on: Hang,
    /// Its own ports that lead there, where the plan says so.
    pub uplinks: Vec<String>,
    /// How many ports it has, numbered from 1, where the plan says so.
    pub has_ports: Option<u16>,
    /// Its ports, in order.
    pub ports: Vec<SwitchPort>,
    /// Where it is declared.
    pub at: Span,
}

/// An access point.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct AccessPoint {
    /// Its name.
    pub name: Name,
    /// What it hangs on.
    pub hangs_on: Hang,
    /// Where it is declared.
    pub at: Span,
}

/// A Wi-Fi name (SSID).
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Wifi {
    /// Its name in the plan.
    pub name: Name,
    /// The name that people see, at most 32 bytes (IEEE 802.11).
    pub shown: String,
    /// The network that it leads into.
    pub network: NetworkId,
    /// Its bands, in GHz: `2.4`, `5` or `6`.
    pub bands: Vec<&'static str>,
    /// The access points that send it.
    pub on: Vec<AccessPointId>,
    /// Where it is declared.
    pub at: Span,
}

/// All of it.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Wiring {
    /// The switches, in the file's order.
    pub switches: Vec<Switch>,
    /// The access points, in the file's order.
    pub access_points: Vec<AccessPoint>,
    /// The Wi-Fi names, in the file's order.
    pub wifi: Vec<Wifi>,
}

impl Wiring {
    /// The switch of that number.
    pub fn switch(&self, id: SwitchId) -> &Switch {
        &self.switches[id.0]
    }

    /// The numbers of all switches.
    pub fn switch_ids(&self) -> impl Iterator<Item = SwitchId> + use<> {
        (0..self.switches.len()).map(SwitchId)
    }

    /// The numbers of all access points.
    pub fn access_point_ids(&self) -> impl Iterator<Item = AccessPointId> + use<> {
        (0..self.access_points.len()).map(AccessPointId)
    }

    /// The access point of that number.
    pub fn access_point(&self, id: AccessPointId) -> &AccessPoint {
        &self.access_points[id.0]
    }
}

impl Switch {
    /// The port of that name.
    pub fn port(&self, name: &str) -> Option<&SwitchPort> {
        self.ports.iter().find(|port| port.name == name)
    }
}
