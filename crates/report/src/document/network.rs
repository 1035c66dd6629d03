//! The sections about the network: pictures, addresses, cabling.

use super::{Block, Builder, Grid, Inline, Section};
use crate::Column;
use crate::sheets::{AddressSheet, matrix_grid, site_tree};
use bastium_picture::{MOST_ZONES, Stance};

impl Builder<'_> {
    pub(super) fn pictures(&self) -> Section {
        let meaning = self.sources.meaning;
        let plan = meaning.plan();
        let mut blocks = Vec::new();
        if plan.zones().len() <= MOST_ZONES {
            let mut map = self.map.clone();
            for area in &mut map.areas {
                area.anchor = Some(format!("zone-{}", area.name));
            }
            blocks.push(Block::Picture { id: "picture-zones".to_owned(), picture: map.picture() });
        }
        let mut grid = matrix_grid(meaning, self.sources.rules);
        let zones = grid.zones.clone();
        for (index, cell) in grid.cells.iter_mut().enumerate() {
            let (from, to) = (&zones[index / zones.len()], &zones[index % zones.len()]);
            let has_row = cell.stance == Stance::Allow || !cell.notes.is_empty();
            cell.anchor = has_row.then(|| format!("cell-{from}.{to}"));
        }
        blocks.push(Block::Picture { id: "picture-matrix".to_owned(), picture: grid.picture() });
        let tree = site_tree(plan).picture();
        blocks.push(Block::Picture { id: "picture-site".to_owned(), picture: tree });
        Section { id: "pictures", title: "Pictures", blocks }
    }

    pub(super) fn addressing(&self) -> Section {
        let sheet = AddressSheet::new(self.sources.meaning.plan(), false);
        let mut networks = Grid::new(
            "Networks",
            ["network", "zone", "VLAN", "subnet", "gateway", "leased to devices"].map(Column::text),
        );
        let mut hosts = Grid::new(
            "Devices with a fixed address",
            ["device", "network", "address", "hardware address", "how"].map(Column::text),
        );
        for network in &sheet.networks {
            let link = |name: &str| Inline::default().link(name, format!("network-{name}"));
            let subnets = |value: &dyn Fn(&crate::sheets::SubnetRow) -> Option<String>| {
                let values: Vec<String> = network.subnets.iter().filter_map(value).collect();
                Inline::from(values.join(", "))
            };
            networks.row(
                Some(format!("network-{}", network.name)),
                [
                    Inline::default().strong(network.name.clone()),
                    Inline::default().link(network.zone.clone(), format!("zone-{}", network.zone)),
                    network.vlan.map_or(network.kind.to_owned(), |vlan| vlan.to_string()).into(),
                    subnets(&|subnet| Some(subnet.prefix.clone())),
                    subnets(&|subnet| Some(subnet.gateway.clone())),
                    subnets(&|subnet| {
                        subnet.pool.as_ref().map(|pool| format!("{} to {}", pool.first, pool.last))
                    }),
                ],
            );
            for fixed in &network.fixed {
                hosts.row(
                    Some(format!("host-{}", fixed.name)),
                    [
                        fixed.name.clone().into(),
                        link(&network.name),
                        fixed.addresses.join(", ").into(),
                        fixed.mac.clone().unwrap_or_default().into(),
                        fixed.given.into(),
                    ],
                );
            }
        }
        let mut routes = Grid::new(
            "Subnets behind other routers",
            ["name", "subnet", "router", "in network", "zone"].map(Column::text),
        );
        for route in &sheet.routes {
            let zone = Inline::default().link(route.zone.clone(), format!("zone-{}", route.zone));
            let network =
                Inline::default().link(route.network.clone(), format!("network-{}", route.network));
            let (to, via) = (route.to.clone().into(), route.via.clone().into());
            routes.row(None, [route.name.clone().into(), to, via, network, zone]);
        }
        let grids = [networks, hosts, routes].into_iter().filter(|grid| !grid.rows.is_empty());
        let blocks = grids.map(Block::Grid).collect();
        Section { id: "addresses", title: "Addresses", blocks }
    }

    /// What is set on each port; nothing where the plan has no wiring.
    pub(super) fn wiring(&self) -> Option<Section> {
        let tables = self.ports.tables(true);
        let grids: Vec<Block> = tables.into_iter().map(|table| Block::Grid(table.into())).collect();
        if grids.is_empty() {
            return None;
        }
        let begin = Inline::from("What each port is set to, device by device; drawn in ")
            .link("the picture of the site", "picture-site")
            .then(".");
        let blocks = std::iter::once(Block::Text(begin)).chain(grids).collect();
        Some(Section { id: "wiring", title: "Wiring", blocks })
    }
}
