//! The addressing sheet.

use super::EDITION;
use crate::{Cell, Column, Table, Tone};
use bastium_core::addressing::{Pool, Subnet};
use bastium_core::plan::{NetworkId, Plan};
use schemars::JsonSchema;
use serde::Serialize;

/// All networks with their addresses.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct AddressSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The site's name.
    pub site: String,
    /// The networks, in the plan's order.
    pub networks: Vec<NetworkRow>,
}

/// One network.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct NetworkRow {
    /// Its name.
    pub name: String,
    /// `network` or `tunnel`.
    pub kind: &'static str,
    /// Its zone.
    pub zone: String,
    /// Its VLAN id; none if it is untagged.
    pub vlan: Option<u16>,
    /// Its subnets.
    pub subnets: Vec<SubnetRow>,
    /// The hosts with fixed addresses.
    pub fixed: Vec<FixedRow>,
    /// How many devices are expected.
    pub hosts: Option<u32>,
}

/// One subnet.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct SubnetRow {
    /// The prefix.
    pub prefix: String,
    /// The mask in dotted form; IPv4 only.
    pub mask: Option<String>,
    /// The gateway's address.
    pub gateway: String,
    /// What is leased out; none where nothing is.
    pub pool: Option<PoolRow>,
    /// Addresses that are neither the gateway's, nor fixed, nor in the pool; none where there are
    /// more than 2^53, as in every IPv6 /64.
    pub room: Option<u64>,
}

/// A pool.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct PoolRow {
    /// Its first address.
    pub first: String,
    /// Its last address.
    pub last: String,
    /// How many addresses it has.
    pub size: u64,
}

/// A host with fixed addresses.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct FixedRow {
    /// Its name.
    pub name: String,
    /// Its addresses.
    pub addresses: Vec<String>,
    /// Its hardware address.
    pub mac: Option<String>,
}

/// Numbers up to here are exact in every JSON reader (RFC 8259, section 6).
const EXACT: u128 = 1 << 53;

impl AddressSheet {
    /// Takes the sheet from a plan.
    pub fn new(plan: &Plan) -> Self {
        Self {
            bastium: EDITION,
            site: plan.site().name.clone(),
            networks: plan.network_ids().map(|id| row(plan, id)).collect(),
        }
    }

    /// As a table. `narrow` leaves out zone and mask, and shortens what the subnet says already.
    pub fn tables(&self, narrow: bool) -> Vec<Table> {
        let all = ["network", "zone", "VLAN", "subnet", "mask", "gateway", "pool", "fixed", "room"];
        let kept = |heading: &&str| !(narrow && matches!(*heading, "zone" | "mask"));
        let mut table = Table::new(all.into_iter().filter(kept).map(|heading| match heading {
            "VLAN" | "fixed" | "room" => Column::numbers(heading),
            _ => Column::whole(heading),
        }));
        for network in &self.networks {
            for (index, subnet) in network.subnets.iter().enumerate() {
                let cells = all.into_iter().zip(subnet_cells(network, subnet, index == 0, narrow));
                table.row(cells.filter(|(heading, _)| kept(heading)).map(|(_, cell)| cell));
            }
        }
        vec![table]
    }
}

fn subnet_cells(network: &NetworkRow, subnet: &SubnetRow, first: bool, narrow: bool) -> Vec<Cell> {
    let name_tone = if first { Tone::Strong } else { Tone::Faint };
    let vlan = match (network.vlan, network.kind) {
        (Some(vlan), _) => vlan.to_string(),
        (None, "tunnel") => "tunnel".to_owned(),
        (None, _) => "-".to_owned(),
    };
    let nothing = || Cell::toned("-", Tone::Faint);
    let pool = subnet.pool.as_ref().map_or_else(nothing, |pool| {
        let last = short(&pool.first, &pool.last);
        let first = if narrow { short(&subnet.prefix, &pool.first) } else { pool.first.clone() };
        format!("{first}-{last}").into()
    });
    let gateway =
        if narrow { beyond(&subnet.prefix, &subnet.gateway) } else { subnet.gateway.clone() };
    let v6 = subnet.mask.is_none();
    let in_family = |fixed: &&FixedRow| fixed.addresses.iter().any(|a| a.contains(':') == v6);
    let fixed = network.fixed.iter().filter(in_family).count();
    vec![
        Cell::toned(&network.name, name_tone),
        network.zone.clone().into(),
        vlan.into(),
        subnet.prefix.clone().into(),
        subnet.mask.clone().map_or_else(nothing, Cell::from),
        gateway.into(),
        pool,
        fixed.into(),
        subnet.room.map_or("plenty".to_owned(), |room| room.to_string()).into(),
    ]
}

/// The gateway's address as far as the prefix does not say it already: `.1`, `::1`.
fn beyond(prefix: &str, gateway: &str) -> String {
    let network = prefix.split('/').next().unwrap_or_default();
    if let Some(rest) = network.strip_suffix("::").and_then(|start| gateway.strip_prefix(start)) {
        return rest.to_owned();
    }
    if gateway.contains(':') { gateway.to_owned() } else { short(network, gateway) }
}

/// The last address as far as it differs from the first, in whole octets: `10.44.24.100` to `.199`.
fn short(first: &str, last: &str) -> String {
    match (first.rsplit_once('.'), last.rsplit_once('.')) {
        (Some((a, _)), Some((b, end))) if a == b => format!(".{end}"),
        _ => last.to_owned(),
    }
}

fn row(plan: &Plan, id: NetworkId) -> NetworkRow {
    let network = plan.network(id);
    let hosts = plan.hosts().iter().filter(|host| host.network == id && !host.addresses.is_empty());
    let fixed: Vec<FixedRow> = hosts
        .map(|host| FixedRow {
            name: host.name.to_string(),
            addresses: host.addresses.iter().map(ToString::to_string).collect(),
            mac: host.mac.map(|mac| mac.to_string().to_lowercase()),
        })
        .collect();
    NetworkRow {
        name: network.name.to_string(),
        kind: if network.tunnel.is_some() { "tunnel" } else { "network" },
        zone: plan.zone(network.zone).name.to_string(),
        vlan: network.vlan,
        subnets: network.subnets.iter().map(|subnet| subnet_row(plan, id, subnet)).collect(),
        fixed,
        hosts: network.expected,
    }
}

fn subnet_row(plan: &Plan, id: NetworkId, subnet: &Subnet) -> SubnetRow {
    let here = |pool: &Pool| subnet.prefix().contains(&std::net::IpAddr::from(pool.first()));
    let pool = plan.network(id).pool.filter(here);
    let hosts = plan.hosts().iter().flat_map(|host| &host.addresses);
    let leased = |address: &&std::net::IpAddr| pool.is_some_and(|pool| pool.contains(**address));
    let fixed = hosts.filter(|a| subnet.prefix().contains(*a)).filter(|a| !leased(a)).count();
    let used = fixed as u128 + pool.map_or(0, |pool| u128::from(pool.size()));
    let room = subnet.room().saturating_sub(used);
    SubnetRow {
        prefix: subnet.prefix().to_string(),
        mask: subnet.mask().map(|mask| mask.to_string()),
        gateway: subnet.gateway().to_string(),
        pool: pool.map(|pool| PoolRow {
            first: pool.first().to_string(),
            last: pool.last().to_string(),
            size: pool.size(),
        }),
        room: (room <= EXACT).then(|| u64::try_from(room).ok()).flatten(),
    }
}
