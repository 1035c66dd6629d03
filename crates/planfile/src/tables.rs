//! Reads the tables about zones and networks into a draft.

use crate::entries;
use crate::fields::{Around, Fields};
use crate::format::PLAN;
use crate::problem::ReadProblem;
use crate::shape::{self, Shape};
use crate::wiring;
use bastium_core::plan::draft::{self, Dhcp, Draft};
use bastium_core::source::{Source, Span, Text};
use std::collections::HashSet;
use toml::de::DeTable;

/// What became of a file that is TOML.
pub(crate) struct Reading {
    pub(crate) draft: Draft,
    pub(crate) problems: Vec<ReadProblem>,
    pub(crate) troubled: HashSet<Span>,
}

/// Reads all tables.
pub(crate) fn read(file: &DeTable<'_>, source: Source) -> Reading {
    let Shape { problems, troubled } = shape::of(file);
    let mut draft = Draft { source: source.clone(), ..Draft::default() };
    let around = Around { source: &source, troubled: &troubled };
    let fields = Fields::new(file, &PLAN, Text::default(), around);
    draft.site = fields.table("site").as_ref().map(site).unwrap_or_default();
    draft.gateway = fields.table("gateway").as_ref().map(gateway).unwrap_or_default();
    draft.uplinks = fields.each("uplink", uplink);
    draft.zones = fields.each("zone", zone);
    draft.networks = fields.each("network", network);
    draft.hosts = fields.each("host", host);
    draft.groups = fields.each("group", group);
    draft.services = fields.each("service", service);
    draft.exceptions = fields.each("exception", exception);
    draft.matrix = fields.table("matrix").as_ref().map(matrix).unwrap_or_default();
    entries::read(&fields, &mut draft);
    wiring::read(&fields, &mut draft);
    Reading { draft, problems, troubled }
}

fn site(fields: &Fields<'_, '_>) -> draft::Site {
    draft::Site {
        name: fields.text("name"),
        space: fields.texts("space").unwrap_or_default(),
        tie: fields.text("tie"),
        time_zone: fields.text("time-zone"),
        troubled: fields.is_troubled(),
        at: fields.at(),
    }
}

fn gateway(fields: &Fields<'_, '_>) -> draft::Gateway {
    draft::Gateway {
        form: fields.text("form"),
        rules: fields.text("rules"),
        ports: fields.texts("ports").unwrap_or_default(),
        aggregates: fields.named_lists("aggregate"),
        manage: fields.table("manage").as_ref().map(manage),
        routes_mbps: fields.decimal("routes-mbps"),
        reach: fields.text("reach"),
        matches: fields.text("matches"),
        limits: fields.table("limits").as_ref().map(limits).unwrap_or_default(),
        at: fields.at(),
    }
}

fn limits(fields: &Fields<'_, '_>) -> draft::Limits {
    draft::Limits {
        reject: fields.flag("reject"),
        log: fields.flag("log"),
        hours: fields.flag("hours"),
        domains: fields.flag("domains"),
        ipv6: fields.flag("ipv6"),
        rules: fields.number("rules"),
        name: fields.number("name"),
        insert: fields.flag("insert"),
        duplicates: fields.flag("duplicates"),
        swap_lists: fields.flag("swap-lists"),
    }
}

fn manage(fields: &Fields<'_, '_>) -> draft::Manage {
    draft::Manage {
        from: fields.texts("from").unwrap_or_default(),
        service: fields.texts("service").unwrap_or_default(),
        second_factor: fields.flag("second-factor"),
        at: fields.at(),
    }
}

fn uplink(fields: &Fields<'_, '_>) -> draft::Uplink {
    draft::Uplink {
        name: fields.name(),
        port: fields.text("port"),
        address: fields.texts("address").unwrap_or_default(),
        router: fields.texts("router").unwrap_or_default(),
    }
}

fn zone(fields: &Fields<'_, '_>) -> draft::Zone {
    draft::Zone {
        name: fields.name(),
        trust: fields.text("trust"),
        about: fields.text("about"),
        uses: fields.texts("uses-gateway-for"),
    }
}

fn network(fields: &Fields<'_, '_>) -> draft::Network {
    draft::Network {
        name: fields.name(),
        tags: fields.texts("tags").unwrap_or_default(),
        zone: fields.text("zone"),
        vlan: fields.number("vlan"),
        port: fields.text("port"),
        hosts: fields.number("hosts"),
        dhcp: dhcp(fields),
        subnets: fields.texts("subnet"),
        gateway: fields.texts("gateway").unwrap_or_default(),
        isolate: fields.flag("isolate"),
        uses: fields.texts("uses-gateway-for"),
        troubled: fields.is_troubled(),
    }
}

fn dhcp(fields: &Fields<'_, '_>) -> Option<Dhcp> {
    fields.range_or_off("dhcp").map(|range| range.map_or_else(Dhcp::Off, Dhcp::Range))
}

fn host(fields: &Fields<'_, '_>) -> draft::Host {
    draft::Host {
        name: fields.name(),
        tags: fields.texts("tags").unwrap_or_default(),
        network: fields.text("network"),
        addresses: fields.texts("address").unwrap_or_default(),
        mac: fields.text("mac"),
    }
}

fn group(fields: &Fields<'_, '_>) -> draft::Group {
    draft::Group { name: fields.name(), members: fields.texts("members").unwrap_or_default() }
}

fn service(fields: &Fields<'_, '_>) -> draft::Service {
    draft::Service {
        name: fields.name(),
        tags: fields.texts("tags").unwrap_or_default(),
        ports: fields.texts("ports").unwrap_or_default(),
        includes: fields.texts("includes").unwrap_or_default(),
    }
}

fn matrix(fields: &Fields<'_, '_>) -> draft::Matrix {
    draft::Matrix {
        grid: fields.text("grid"),
        log: fields.text("log"),
        unmatched: fields.text("unmatched"),
        at: fields.at(),
    }
}

fn exception(fields: &Fields<'_, '_>) -> draft::Exception {
    draft::Exception {
        from: fields.texts("from").unwrap_or_default(),
        to: fields.texts("to").unwrap_or_default(),
        action: fields.text("action"),
        ..entries::permission(fields)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::format::{Key, Table, Takes, all_tables};

    /// A draft in words, without the text that it comes from and without places in it.
    fn words(text: &str) -> String {
        let table = DeTable::parse(text).expect("TOML");
        let mut draft = read(table.get_ref(), Source::new("plan", text)).draft;
        draft.source = Source::default();
        let debug = format!("{draft:?}");
        let parts =
            debug.split("Span { ").map(|part| part.split_once('}').map_or(part, |(_, rest)| rest));
        debug.split("Span { ").take(1).chain(parts.skip(1)).collect()
    }

    /// A file in which a table has these lines.
    fn with(table: &Table, lines: &str) -> String {
        let heading = table.heading.replace("NAME", "some").replace("PORT", "7");
        match table.heading {
            "" => lines.to_owned(),
            "hours.NAME.spans" => {
                format!("[hours.some]\nspans = [{{ {} }}]\n", lines.trim_end())
            }
            _ => format!("[{heading}]\n{lines}"),
        }
    }

    /// What people read and nothing else does.
    fn is_for_people(table: &Table, key: &Key) -> bool {
        let of_guarantee = table.heading == "never.NAME" && key.name == "why";
        key.name == "about" && table.heading != "zone.NAME" || of_guarantee
    }

    /// A key that is described and that nobody reads would be passed over without a word.
    #[test]
    fn every_key_that_is_described_is_read_in_its_own_table() {
        let mut held = 0;
        for table in all_tables() {
            let leaf = |key: &&Key| {
                !matches!(
                    key.takes,
                    Takes::Edition | Takes::Table(_) | Takes::Tables(_) | Takes::Entries(_)
                )
            };
            for key in table.keys.iter().filter(leaf).filter(|key| !is_for_people(table, key)) {
                let example = match key.takes {
                    Takes::NamedTexts => "{ finding = \"kept\" }",
                    _ => key.example,
                };
                let with_key = words(&with(table, &format!("{} = {example}\n", key.name)));
                let without = words(&with(table, ""));
                assert_ne!(with_key, without, "[{}] {}", table.heading, key.name);
                held += 1;
            }
        }
        assert!(held > 110, "{held}");
    }
}
