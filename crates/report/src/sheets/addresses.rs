//! The addressing sheet.

use super::EDITION;
use crate::{Cell, Column, Table, Tone};
use bastium_core::addressing::{Pool, Subnet};
use bastium_core::plan::{Host, Network, NetworkId, Plan, Route};
use bastium_core::space::AddressSet;
use ipnet::{IpNet, Ipv4Net};
use schemars::JsonSchema;
use serde::Serialize;

/// All networks with their addresses.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct AddressSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The site's name.
    pub site: String,
    /// The networks and tunnels, in the plan's order.
    pub networks: Vec<NetworkRow>,
    /// Subnets behind other routers.
    pub routes: Vec<RouteRow>,
    /// What is free of the site's space, where it is asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub free: Option<FreeRow>,
}

/// A subnet behind another router.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct RouteRow {
    /// Its name.
    pub name: String,
    /// The subnet.
    pub to: String,
    /// The router that leads there.
    pub via: String,
    /// The network in which that router is.
    pub network: String,
    /// Its zone.
    pub zone: String,
}

/// One network.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
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
    /// Whether its subnets were carved from the space and do not stand in the file.
    pub carved: bool,
    /// A larger subnet, where more devices are expected than there is room for.
    pub growth: Option<GrowthRow>,
}

/// How a network that has outgrown its subnet can grow.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct GrowthRow {
    /// The larger prefix.
    pub prefix: String,
    /// Whether it holds the old one, so that no device of the network moves.
    pub in_place: bool,
    /// Subnets of others that would have to move, each with where to.
    pub moves: Vec<[String; 2]>,
}

/// What is free.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FreeRow {
    /// The free prefixes, IPv4 first.
    pub prefixes: Vec<String>,
    /// A map of each IPv4 space.
    pub spaces: Vec<SpaceRow>,
}

/// A map of a space.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SpaceRow {
    /// The space.
    pub prefix: String,
    /// What each character of the map means, as a prefix length: `/24`.
    pub each: String,
    /// The first address of each row.
    pub starts: Vec<String>,
    /// The rows: `.` free, `#` taken, `+` taken in part.
    pub map: Vec<String>,
}

/// One subnet.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
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
    pub free: Option<u64>,
}

/// A pool.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct PoolRow {
    /// Its first address.
    pub first: String,
    /// Its last address.
    pub last: String,
    /// How many addresses it has.
    pub size: u64,
}

/// A host with fixed addresses.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FixedRow {
    /// Its name.
    pub name: String,
    /// Its addresses.
    pub addresses: Vec<String>,
    /// Its hardware address.
    pub mac: Option<String>,
    /// How it comes to its addresses.
    pub given: &'static str,
}

/// Numbers up to here are exact in every JSON reader (RFC 8259, section 6).
const EXACT: u128 = 1 << 53;

impl AddressSheet {
    /// Takes the sheet from a plan; `free` says whether to show what is free, too.
    pub fn new(plan: &Plan, free: bool) -> Self {
        Self {
            bastium: EDITION,
            site: plan.site().name.clone(),
            networks: plan.network_ids().map(|id| row(plan, id)).collect(),
            routes: plan.routes().iter().map(|route| route_row(plan, route)).collect(),
            free: free.then(|| free_row(plan)),
        }
    }

    /// The hosts with fixed addresses, if there are any.
    fn hosts(&self) -> Option<Table> {
        let columns = ["host", "network", "address", "MAC address", "given by"];
        let mut table = Table::new(columns.map(Column::text)).titled("hosts");
        for network in &self.networks {
            for host in &network.fixed {
                table.row([
                    Cell::toned(&host.name, Tone::Strong),
                    network.name.clone().into(),
                    host.addresses.join(", ").into(),
                    host.mac.clone().map_or_else(|| Cell::toned("-", Tone::Faint), Cell::from),
                    host.given.into(),
                ]);
            }
        }
        (!table.rows.is_empty()).then_some(table)
    }

    /// As a table. `narrow` leaves out zone and mask, and shortens what the subnet says already.
    pub fn tables(&self, narrow: bool) -> Vec<Table> {
        let all = ["network", "zone", "VLAN", "subnet", "mask", "gateway", "pool", "fixed", "free"];
        let kept = |heading: &&str| !(narrow && matches!(*heading, "zone" | "mask"));
        let mut table = Table::new(all.into_iter().filter(kept).map(|heading| match heading {
            "VLAN" | "fixed" | "free" => Column::numbers(heading),
            _ => Column::whole(heading),
        }))
        .titled("networks");
        for network in &self.networks {
            for (index, subnet) in network.subnets.iter().enumerate() {
                let cells = all.into_iter().zip(subnet_cells(network, subnet, index == 0, narrow));
                table.row(cells.filter(|(heading, _)| kept(heading)).map(|(_, cell)| cell));
            }
        }
        let mut tables = vec![table];
        tables.extend(self.hosts());
        if !self.routes.is_empty() {
            let columns = ["route", "to", "via", "in", "zone"].map(Column::whole);
            let mut table = Table::new(columns).titled("behind other routers");
            for route in &self.routes {
                let words = [&route.name, &route.to, &route.via, &route.network, &route.zone];
                table.row(words.map(Cell::from));
            }
            tables.push(table);
        }
        if let Some(free) = &self.free {
            let mut table = Table::new([Column::whole("free"), Column::numbers("addresses")]);
            table.title = Some("free".to_owned());
            for prefix in &free.prefixes {
                table.row([prefix.clone().into(), addresses_of(prefix).into()]);
            }
            tables.push(table);
        }
        tables
    }
}

/// How many addresses a prefix has, in words.
fn addresses_of(prefix: &str) -> String {
    let Ok(prefix) = prefix.parse::<IpNet>() else { return String::new() };
    match prefix.max_prefix_len() - prefix.prefix_len() {
        bits @ 0..=32 => (1u64 << bits).to_string(),
        bits if prefix.prefix_len() <= 64 => format!("{} of /64", 1u128 << (bits - 64)),
        bits => format!("2^{bits}"),
    }
}

fn free_row(plan: &Plan) -> FreeRow {
    let prefixes = plan.free_space().prefixes().iter().map(ToString::to_string).collect();
    let spaces = plan.site().space.iter().filter_map(|space| match space {
        IpNet::V4(space) => Some(map_of(plan, *space)),
        IpNet::V6(_) => None,
    });
    FreeRow { prefixes, spaces: spaces.collect() }
}

/// At most 16 rows of 16 signs.
fn map_of(plan: &Plan, space: Ipv4Net) -> SpaceRow {
    let taken: AddressSet = plan.taken().into_iter().collect();
    let length = (space.prefix_len() + 8).min(32);
    let sign = |part: Ipv4Net| {
        let part = AddressSet::from(IpNet::V4(part));
        match (part.is_disjoint(&taken), part.is_subset(&taken)) {
            (true, _) => '.',
            (_, true) => '#',
            _ => '+',
        }
    };
    let parts: Vec<Ipv4Net> = space.subnets(length).map(Iterator::collect).unwrap_or_default();
    let rows = parts.chunks(16);
    SpaceRow {
        prefix: space.to_string(),
        each: format!("/{length}"),
        starts: rows.clone().map(|row| row[0].network().to_string()).collect(),
        map: rows.map(|row| row.iter().map(|part| sign(*part)).collect()).collect(),
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
        subnet.free.map_or("plenty".to_owned(), |free| free.to_string()).into(),
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
            given: given(network, host),
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
        carved: network.carved,
        growth: growth(plan, network),
    }
}

/// How a host comes to its fixed addresses. Only IPv4 addresses are leased out.
fn given(network: &Network, host: &Host) -> &'static str {
    let reserved = network.pool.is_some() && host.mac.is_some();
    let has = |v4: bool| host.addresses.iter().any(|address| address.is_ipv4() == v4);
    match (reserved && has(true), has(false)) {
        (true, true) => "IPv4: DHCP reservation; IPv6: set at the device",
        (true, false) => "DHCP reservation",
        (false, _) => "set at the device",
    }
}

fn route_row(plan: &Plan, route: &Route) -> RouteRow {
    RouteRow {
        name: route.name.to_string(),
        to: route.to.to_string(),
        via: route.via.to_string(),
        network: plan.network(route.network).name.to_string(),
        zone: plan.zone(route.zone).name.to_string(),
    }
}

fn growth(plan: &Plan, network: &Network) -> Option<GrowthRow> {
    let v4 = network.subnets.iter().filter(|subnet| subnet.prefix().addr().is_ipv4());
    let room = v4.map(Subnet::room).fold(0u128, u128::saturating_add);
    let crowded = network.expected.is_some_and(|expected| u128::from(expected) > room);
    if !crowded || room == 0 {
        return None;
    }
    let growth = plan.growth(network)?;
    let moves = growth.moves.iter().map(|(from, to)| [from.to_string(), to.to_string()]);
    Some(GrowthRow {
        prefix: growth.prefix.to_string(),
        in_place: growth.in_place,
        moves: moves.collect(),
    })
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
        free: (room <= EXACT).then(|| u64::try_from(room).ok()).flatten(),
    }
}
