//! What the plan decides: zones and cells, exceptions, what is offered outside, management.

use super::{Block, Builder, Card, Grid, Inline, Section};
use crate::Column;
use crate::sheets::RuleRow;
use bastium_core::plan::Exception;

impl Builder<'_> {
    pub(super) fn matrix(&self) -> Section {
        let plan = self.sources.meaning.plan();
        let mut zones = Grid::new("Zones", ["zone", "trust", "what is in it"].map(Column::text));
        for zone in plan.zones().iter().filter(|zone| zone.name != plan.zone(plan.internet()).name)
        {
            let name = zone.name.to_string();
            let link = Inline::default().link(name.clone(), format!("zone-{name}"));
            zones.row(None, [link, zone.trust.word().into(), zone.about.clone().into()]);
        }
        let mut cells = Grid::new(
            "Cells that allow something, or have exceptions",
            ["from", "to", "does", "exceptions", "rules"].map(Column::text),
        );
        for (cell, _) in &self.cells {
            if cell.action != "allow" && cell.exceptions.is_empty() {
                continue;
            }
            let exceptions = cell.exceptions.iter();
            let exceptions = exceptions
                .map(|name| Inline::default().link(name.clone(), format!("exception-{name}")));
            let name = format!("{}>{}", cell.from, cell.to);
            cells.row(
                Some(format!("cell-{}.{}", cell.from, cell.to)),
                [
                    cell.from.clone().into(),
                    cell.to.clone().into(),
                    cell.action.into(),
                    Inline::list(exceptions),
                    self.rules_of("cell", &name),
                ],
            );
        }
        if !self.is_for_engineer() {
            drop_column(&mut cells, "rules");
        }
        let begin = Inline::from(
            "Rows are sources and columns are destinations; replies pass automatically. Cells that are \
             not listed are blocked. Drawn in ",
        )
        .link("the picture of the matrix", "picture-matrix")
        .then(".");
        let blocks = vec![Block::Text(begin), Block::Grid(zones), Block::Grid(cells)];
        Section { id: "matrix", title: "Zones and matrix", blocks }
    }

    pub(super) fn exceptions(&self) -> Option<Section> {
        let meaning = self.sources.meaning;
        let plan = meaning.plan();
        if plan.exceptions().is_empty() {
            return None;
        }
        let headings =
            ["name", "from", "to", "service", "does", "why", "owner", "ticket", "ends", "rules"];
        let mut grid = Grid::new("Exceptions", headings.map(Column::text));
        for (index, exception) in plan.exceptions().iter().enumerate() {
            let is_active = meaning.precedence().active().iter().any(|id| id.index() == index);
            let kind = if exception.inbound.is_some() { "offered" } else { "exception" };
            let name = exception.name.to_string();
            let text = |value: &Option<String>| Inline::from(value.clone().unwrap_or_default());
            grid.row(
                Some(format!("exception-{name}")),
                [
                    Inline::default().strong(name.clone()),
                    exception.from.text.clone().into(),
                    exception.to.text.clone().into(),
                    service_words(exception).into(),
                    exception.action.word().into(),
                    exception.why.clone().into(),
                    text(&exception.owner),
                    text(&exception.ticket),
                    ends(exception, is_active).into(),
                    self.rules_of(kind, &name),
                ],
            );
        }
        if !self.is_for_engineer() {
            drop_column(&mut grid, "rules");
        }
        let begin = "Narrow things that go against what their zones may otherwise do.";
        let blocks = vec![Block::Text(begin.into()), Block::Grid(grid)];
        Some(Section { id: "exceptions", title: "Exceptions", blocks })
    }

    pub(super) fn outside(&self) -> Section {
        let plan = self.sources.meaning.plan();
        let mut uplinks = Grid::new("Uplinks", ["uplink", "port", "address"].map(Column::text));
        for uplink in plan.uplinks() {
            let addresses: Vec<String> = uplink.addresses.iter().map(ToString::to_string).collect();
            let leased = if uplink.dhcp { "leased by DHCP".to_owned() } else { String::new() };
            let address = if addresses.is_empty() { leased } else { addresses.join(", ") };
            let port = uplink.port.clone().unwrap_or_default();
            uplinks.row(None, [uplink.name.to_string().into(), port.into(), address.into()]);
        }
        let mut offered = Grid::new(
            "Offered to the internet",
            ["name", "outside address", "service", "goes to", "address", "service inside"]
                .map(Column::text),
        );
        for row in &self.rule_sheet.translations {
            let name = row.id.strip_prefix("translate.").unwrap_or(&row.id);
            let link = Inline::default().link(name, format!("exception-{name}"));
            let values = [
                row.at.join(", "),
                row.outside.clone(),
                row.to.clone(),
                row.address.clone(),
                row.inside.clone(),
            ];
            offered.row(None, std::iter::once(link).chain(values.map(Inline::from)));
        }
        let mut tunnels = Grid::new("Tunnels", ["tunnel", "for", "listens on"].map(Column::text));
        for network in plan.networks() {
            let Some(tunnel) = &network.tunnel else { continue };
            let name = network.name.to_string();
            let listens = tunnel.listens.as_ref().map(|at| at.text.clone()).unwrap_or_default();
            let link = Inline::default().link(name.clone(), format!("network-{name}"));
            tunnels.row(None, [link, plan.zone(network.zone).about.clone().into(), listens.into()]);
        }
        let grids = [uplinks, offered, tunnels].into_iter().filter(|grid| !grid.rows.is_empty());
        let mut blocks: Vec<Block> = grids.map(Block::Grid).collect();
        let settings = self.rule_sheet.settings.iter().map(|line| Inline::from(line.clone()));
        let settings: Vec<Inline> = settings.collect();
        if !settings.is_empty() && self.is_for_engineer() {
            blocks.push(Block::Heading("Settings beside the rules".to_owned()));
            blocks.push(Block::List(settings));
        }
        if blocks.is_empty() {
            blocks.push(Block::Text("The plan has no uplink.".into()));
        }
        Section { id: "outside", title: "Towards the internet", blocks }
    }

    /// Who may manage the gateway: for the engineer alone.
    pub(super) fn management(&self) -> Option<Section> {
        let gateway = self.sources.meaning.plan().gateway();
        if !self.is_for_engineer() {
            return None;
        }
        let mut facts = Vec::new();
        match &gateway.manage {
            Some(manage) => {
                facts.push(("From".to_owned(), Inline::from(manage.from.text.clone())));
                facts.push(("By".to_owned(), manage.service.text.clone().into()));
                let factor = if manage.second_factor { "yes" } else { "no" };
                facts.push(("Second factor".to_owned(), factor.into()));
                facts.push(("Rules".to_owned(), self.rules_of("manage", "manage")));
            }
            None => facts.push(("From".to_owned(), "the plan does not say".into())),
        }
        if let Some(reach) = &gateway.reach {
            facts.push(("Reached at".to_owned(), reach.to_string().into()));
        }
        let title = "The gateway".to_owned();
        let blocks = vec![Block::Cards(vec![Card { id: "gateway".to_owned(), title, facts }])];
        Some(Section { id: "management", title: "Management", blocks })
    }

    /// Links to the rules that are there for an entry.
    pub(super) fn rules_of(&self, kind: &str, name: &str) -> Inline {
        let is_for = |row: &&RuleRow| {
            let mut entries = std::iter::once(&row.because).chain(&row.also);
            entries.any(|because| because.kind == kind && because.name == name)
        };
        let rules = self.rule_sheet.lists.iter().flat_map(|list| &list.rules).filter(is_for);
        let mut numbers: Vec<u32> =
            rules.map(|row| row.number).filter(|number| *number > 0).collect();
        numbers.dedup();
        Inline::list(
            numbers
                .into_iter()
                .map(|number| Inline::default().link(number.to_string(), format!("rule-{number}"))),
        )
    }
}

fn service_words(exception: &Exception) -> String {
    let mut words = exception.service.text.clone();
    if let Some(hours) = &exception.hours {
        words.push_str(&format!(", hours {}", hours.name));
    }
    if let Some(limit) = exception.limit_mbps {
        words.push_str(&format!(", up to {limit} Mbit/s"));
    }
    words
}

/// When an exception ends, or why it does not count.
fn ends(exception: &Exception, is_active: bool) -> String {
    match (exception.off, is_active, exception.until) {
        (true, ..) => "switched off".to_owned(),
        (false, false, Some(until)) => format!("ended on {until}"),
        (false, false, None) => "does not count".to_owned(),
        (false, true, Some(until)) => until.to_string(),
        (false, true, None) => String::new(),
    }
}

fn drop_column(grid: &mut Grid, heading: &str) {
    if let Some(at) = grid.columns.iter().position(|column| column.heading == heading) {
        grid.columns.remove(at);
        grid.rows.iter_mut().for_each(|row| drop(row.cells.remove(at)));
    }
}
