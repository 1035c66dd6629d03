//! What to set on each port and Wi-Fi name.

use super::EDITION;
use crate::{Cell, Column, Table, Tone};
use bastium_core::plan::{NetworkId, Plan};
use bastium_core::wiring::{self, Port};
use schemars::JsonSchema;
use serde::Serialize;

/// All ports and Wi-Fi names.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct PortSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The site's name.
    pub site: String,
    /// The ports: the gateway's, then those of each switch.
    pub ports: Vec<PortRow>,
    /// The Wi-Fi names.
    pub wifi: Vec<WifiRow>,
    /// Networks that are needed further out and do not come through.
    pub missing: Vec<MissingRow>,
}

/// One port.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct PortRow {
    /// The device: `gateway`, or a switch by its name.
    pub device: String,
    /// The port, or the name of several that act as one.
    pub port: String,
    /// The cables that act as one.
    pub joins: Vec<String>,
    /// The networks that it carries tagged.
    pub tagged: Vec<VlanRow>,
    /// The network that it carries untagged.
    pub untagged: Option<VlanRow>,
    /// What is at the other end.
    pub to: Option<String>,
    /// Whether devices on it must not reach others of their network.
    pub isolate: bool,
}

/// A network by name and VLAN id.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct VlanRow {
    /// The network.
    pub network: String,
    /// Its VLAN id.
    pub vlan: Option<u16>,
}

/// One Wi-Fi name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct WifiRow {
    /// The name as people see it.
    pub name: String,
    /// The network that it leads into.
    pub network: String,
    /// That network's VLAN id.
    pub vlan: Option<u16>,
    /// Its bands in GHz.
    pub bands: Vec<&'static str>,
    /// The access points that send it.
    pub on: Vec<String>,
    /// Whether devices on it must not reach each other.
    pub isolate: bool,
}

/// A network that does not come through.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct MissingRow {
    /// The network.
    pub network: String,
    /// The device on whose port it is missing.
    pub device: String,
    /// That port.
    pub port: String,
    /// What needs it.
    pub needed_by: String,
}

impl PortSheet {
    /// Takes the sheet from a plan.
    pub fn new(plan: &Plan) -> Self {
        let wiring = plan.wiring();
        let name = |id: NetworkId| plan.network(id).name.to_string();
        let wifi = wiring.wifi.iter().map(|wifi| WifiRow {
            name: wifi.shown.clone(),
            network: name(wifi.network),
            vlan: plan.network(wifi.network).vlan,
            bands: wifi.bands.clone(),
            on: wifi.on.iter().map(|id| wiring.access_point(*id).name.to_string()).collect(),
            isolate: plan.network(wifi.network).isolate,
        });
        let missing = wiring::gaps(plan).into_iter().map(|gap| MissingRow {
            network: name(gap.network),
            device: gap.device,
            port: gap.port,
            needed_by: gap.needed_by,
        });
        Self {
            bastium: EDITION,
            site: plan.site().name.clone(),
            ports: wiring::ports(plan).into_iter().map(|port| row(plan, port)).collect(),
            wifi: wifi.collect(),
            missing: missing.collect(),
        }
    }

    /// As tables: one for each device, one for Wi-Fi, one for what is missing. `short` puts ports that
    /// are set alike into one row.
    pub fn tables(&self, short: bool) -> Vec<Table> {
        let mut tables: Vec<Table> = Vec::new();
        let mut rows = self.ports.iter().peekable();
        while let Some(first) = rows.next() {
            let mut last = first;
            while let Some(next) = rows.next_if(|next| short && follows(first, last, next)) {
                last = next;
            }
            let title = Some(first.device.as_str());
            if tables.last().is_none_or(|table| table.title.as_deref() != title) {
                let columns = ["port", "untagged", "tagged", "to"];
                let columns = columns.map(|heading| match heading {
                    "port" => Column::whole(heading),
                    _ => Column::text(heading),
                });
                tables.push(Table::new(columns).titled(&first.device));
            }
            let table = tables.last_mut().expect("one was just added");
            table.row(port_cells(first, last));
        }
        tables.extend(self.wifi_table());
        tables.extend(self.missing_table());
        tables
    }

    fn wifi_table(&self) -> Option<Table> {
        let columns = ["name", "network", "bands", "on"].map(Column::text);
        let mut table = Table::new(columns).titled("Wi-Fi");
        for wifi in &self.wifi {
            let alone = if wifi.isolate { ", isolated" } else { "" };
            let vlan = wifi.vlan.map_or("untagged".to_owned(), |vlan| vlan.to_string());
            table.row([
                Cell::toned(&wifi.name, Tone::Strong),
                format!("{} ({vlan}){alone}", wifi.network).into(),
                wifi.bands.join(", ").into(),
                wifi.on.join(", ").into(),
            ]);
        }
        (!self.wifi.is_empty()).then_some(table)
    }

    fn missing_table(&self) -> Option<Table> {
        let columns = ["network", "missing on", "needed by"].map(Column::text);
        let mut table = Table::new(columns).titled("missing");
        for missing in &self.missing {
            table.row([
                Cell::toned(&missing.network, Tone::Bad),
                format!("{} port {}", missing.device, missing.port).into(),
                missing.needed_by.clone().into(),
            ]);
        }
        (!self.missing.is_empty()).then_some(table)
    }
}

fn port_cells(first: &PortRow, last: &PortRow) -> [Cell; 4] {
    let vlan = |row: &VlanRow| match row.vlan {
        Some(vlan) => format!("{} ({vlan})", row.network),
        None => row.network.clone(),
    };
    let nothing = || Cell::toned("-", Tone::Faint);
    let alone = if first.isolate { ", isolated" } else { "" };
    let name = match (first.port == last.port, first.joins.is_empty()) {
        (true, true) => first.port.clone(),
        (true, false) => format!("{} ({})", first.port, first.joins.join(" + ")),
        (false, _) => format!("{}-{}", first.port, last.port),
    };
    let tagged: Vec<String> = first.tagged.iter().map(vlan).collect();
    [
        Cell::toned(name, Tone::Strong),
        first.untagged.as_ref().map_or_else(nothing, |row| format!("{}{alone}", vlan(row)).into()),
        if tagged.is_empty() { nothing() } else { tagged.join(", ").into() },
        first.to.clone().map_or_else(nothing, Cell::from),
    ]
}

/// Whether a port comes after another one by number, and is set like it.
fn follows(first: &PortRow, last: &PortRow, next: &PortRow) -> bool {
    let number = |port: &PortRow| port.port.parse::<u32>().ok();
    let after = number(last).zip(number(next)).is_some_and(|(a, b)| a + 1 == b);
    let alike = PortRow { port: first.port.clone(), ..next.clone() };
    after && alike == *first
}

fn row(plan: &Plan, port: Port) -> PortRow {
    let vlan = |id: NetworkId| VlanRow {
        network: plan.network(id).name.to_string(),
        vlan: plan.network(id).vlan,
    };
    PortRow {
        device: port.device.name(plan).to_owned(),
        port: port.name,
        joins: port.joins,
        isolate: port.untagged.is_some_and(|id| plan.network(id).isolate),
        tagged: port.tagged.into_iter().map(vlan).collect(),
        untagged: port.untagged.map(vlan),
        to: port.to,
    }
}
