//! The tables of the file, one by one, into a draft: here zones, networks and what goes with them.

use crate::entries;
use crate::fields::{Fields, Notes};
use crate::problem::ReadProblem;
use crate::wiring;
use bastium_core::plan::draft::{self, Dhcp, Draft};
use bastium_core::source::{Source, Span, Text};
use std::collections::HashSet;
use toml::de::{DeTable, DeValue};

/// What became of a file that is TOML.
pub(crate) struct Reading {
    pub(crate) draft: Draft,
    pub(crate) problems: Vec<ReadProblem>,
    pub(crate) troubled: HashSet<Span>,
}

/// Reads all tables.
pub(crate) fn read(file: &DeTable<'_>, source: Source) -> Reading {
    let mut notes = Notes { source: source.clone(), ..Notes::default() };
    let mut draft = Draft { source, ..Draft::default() };
    let mut fields = Fields::new(file, String::new(), Text::default(), &mut notes);
    if let Some((table, at)) = fields.table("site") {
        draft.site = site(table, at, fields.notes());
        draft.site.troubled = !fields.notes().problems.is_empty();
    }
    edition(&mut fields);
    if let Some((table, at)) = fields.table("gateway") {
        draft.gateway = gateway(table, at, fields.notes());
    }
    draft.uplinks = each(&mut fields, "uplink", uplink);
    draft.zones = each(&mut fields, "zone", zone);
    draft.networks = each(&mut fields, "network", network);
    draft.hosts = each(&mut fields, "host", host);
    draft.groups = each(&mut fields, "group", group);
    draft.services = each(&mut fields, "service", service);
    draft.exceptions = each(&mut fields, "exception", exception);
    if let Some((table, at)) = fields.table("matrix") {
        draft.matrix = matrix(table, at, fields.notes());
    }
    entries::read(&mut fields, &mut draft);
    wiring::read(&mut fields, &mut draft);
    fields.finish();
    let problems = notes.problems;
    Reading { draft, problems, troubled: notes.troubled }
}

/// Reads the entries of a table of tables with `read`.
pub(crate) fn each<T>(
    fields: &mut Fields<'_, '_, '_>,
    key: &'static str,
    read: fn(&mut Fields<'_, '_, '_>) -> T,
) -> Vec<T> {
    let mut all = Vec::new();
    for (name, table) in fields.entries(key) {
        let label = format!("[{key}.{}]", name.value);
        let mut entry = Fields::new(table, label, name, fields.notes());
        all.push(read(&mut entry));
        entry.finish();
    }
    all
}

fn edition(fields: &mut Fields<'_, '_, '_>) {
    let problem = match fields.value("bastium") {
        None => ReadProblem::NoEdition,
        Some(value) => match value.get_ref() {
            DeValue::Integer(number) if number.as_str() == "1" => return,
            DeValue::Integer(number) => {
                ReadProblem::Edition { found: number.as_str().to_owned(), at: value.span().into() }
            }
            _ => return fields.wrong_kind("bastium", "the number of the edition, 1", value),
        },
    };
    fields.notes().problems.push(problem);
}

fn site(table: &DeTable<'_>, at: Span, notes: &mut Notes) -> draft::Site {
    let mut fields = Fields::new(table, "[site]".to_owned(), Text { at, ..Text::default() }, notes);
    let site = draft::Site {
        name: fields.text("name"),
        space: fields.texts("space").unwrap_or_default(),
        tie: fields.text("tie"),
        time_zone: fields.text("time-zone"),
        troubled: false,
        at,
    };
    fields.finish();
    site
}

fn gateway(table: &DeTable<'_>, at: Span, notes: &mut Notes) -> draft::Gateway {
    let mut fields =
        Fields::new(table, "[gateway]".to_owned(), Text { at, ..Text::default() }, notes);
    let mut aggregates = Vec::new();
    if let Some((table, at)) = fields.table("aggregate") {
        let label = "gateway.aggregate".to_owned();
        let name = Text { at, ..Text::default() };
        aggregates = aggregate(table, Fields::new(table, label, name, fields.notes()));
    }
    let manage = fields.table("manage");
    let manage = manage.map(|(table, at)| self::manage(table, at, fields.notes()));
    let limits = fields.table("limits");
    let limits = limits.map(|(table, at)| self::limits(table, at, fields.notes()));
    let gateway = draft::Gateway {
        form: fields.text("form"),
        rules: fields.text("rules"),
        ports: fields.texts("ports").unwrap_or_default(),
        aggregates,
        manage,
        routes_mbps: fields.decimal("routes-mbps"),
        matches: fields.text("matches"),
        limits: limits.unwrap_or_default(),
        at,
    };
    fields.finish();
    gateway
}

fn limits(table: &DeTable<'_>, at: Span, notes: &mut Notes) -> draft::Limits {
    let name = Text { at, ..Text::default() };
    let mut fields = Fields::new(table, "gateway.limits".to_owned(), name, notes);
    let limits = draft::Limits {
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
    };
    fields.finish();
    limits
}

fn aggregate(table: &DeTable<'_>, mut fields: Fields<'_, '_, '_>) -> Vec<(Text, Vec<Text>)> {
    let mut aggregates = Vec::new();
    for (name, value) in table.iter() {
        let source = fields.notes().source.clone();
        let located = |text: &str, at| crate::fields::located_text(text, at, &source);
        let members = value.get_ref().as_array().map(|items| {
            let texts = items.iter().map(|item| Some((item.get_ref().as_str()?, item.span())));
            texts.collect::<Option<Vec<_>>>()
        });
        match members.flatten() {
            Some(members) => {
                let members = members.into_iter().map(|(text, at)| located(text, at.into()));
                aggregates.push((located(name.get_ref(), name.span().into()), members.collect()));
            }
            None => fields.wrong_kind(name.get_ref(), "a list of ports", value),
        }
    }
    aggregates
}

fn manage(table: &DeTable<'_>, at: Span, notes: &mut Notes) -> draft::Manage {
    let name = Text { at, ..Text::default() };
    let mut fields = Fields::new(table, "[gateway.manage]".to_owned(), name, notes);
    let manage = draft::Manage {
        from: fields.texts("from").unwrap_or_default(),
        service: fields.texts("service").unwrap_or_default(),
        second_factor: fields.flag("second-factor"),
        at,
    };
    fields.finish();
    manage
}

fn uplink(fields: &mut Fields<'_, '_, '_>) -> draft::Uplink {
    draft::Uplink {
        name: fields.name(),
        port: fields.text("port"),
        address: fields.texts("address").unwrap_or_default(),
        router: fields.texts("router").unwrap_or_default(),
    }
}

fn zone(fields: &mut Fields<'_, '_, '_>) -> draft::Zone {
    draft::Zone {
        name: fields.name(),
        trust: fields.text("trust"),
        about: fields.text("about"),
        uses: fields.texts("uses-gateway-for"),
    }
}

fn network(fields: &mut Fields<'_, '_, '_>) -> draft::Network {
    fields.text("about");
    draft::Network {
        name: fields.name(),
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

fn dhcp(fields: &mut Fields<'_, '_, '_>) -> Option<Dhcp> {
    let value = fields.value("dhcp")?;
    let at = value.span().into();
    match value.get_ref() {
        DeValue::Boolean(false) => Some(Dhcp::Off(at)),
        DeValue::String(text) => {
            Some(Dhcp::Range(crate::fields::located_text(text, at, &fields.notes().source)))
        }
        _ => {
            fields.wrong_kind("dhcp", "a range like \"50-199\", or false", value);
            None
        }
    }
}

fn host(fields: &mut Fields<'_, '_, '_>) -> draft::Host {
    fields.text("about");
    draft::Host {
        name: fields.name(),
        network: fields.text("network"),
        addresses: fields.texts("address").unwrap_or_default(),
        mac: fields.text("mac"),
    }
}

fn group(fields: &mut Fields<'_, '_, '_>) -> draft::Group {
    fields.text("about");
    draft::Group { name: fields.name(), members: fields.texts("members").unwrap_or_default() }
}

fn service(fields: &mut Fields<'_, '_, '_>) -> draft::Service {
    fields.text("about");
    draft::Service {
        name: fields.name(),
        ports: fields.texts("ports").unwrap_or_default(),
        includes: fields.texts("includes").unwrap_or_default(),
    }
}

fn matrix(table: &DeTable<'_>, at: Span, notes: &mut Notes) -> draft::Matrix {
    let mut fields =
        Fields::new(table, "[matrix]".to_owned(), Text { at, ..Text::default() }, notes);
    let matrix = draft::Matrix {
        grid: fields.text("grid"),
        log: fields.text("log"),
        unmatched: fields.text("unmatched"),
        at,
    };
    fields.finish();
    matrix
}

fn exception(fields: &mut Fields<'_, '_, '_>) -> draft::Exception {
    draft::Exception {
        from: fields.texts("from").unwrap_or_default(),
        to: fields.texts("to").unwrap_or_default(),
        action: fields.text("action"),
        ..permission(fields)
    }
}

/// The keys that exceptions and offered services have in common.
pub(crate) fn permission(fields: &mut Fields<'_, '_, '_>) -> draft::Exception {
    draft::Exception {
        name: fields.name(),
        service: fields.texts("service"),
        why: fields.text("why"),
        ticket: fields.text("ticket"),
        owner: fields.text("owner"),
        log: fields.flag("log"),
        until: fields.day("until"),
        off: fields.flag("off"),
        before: fields.texts("before").unwrap_or_default(),
        hours: fields.text("hours"),
        limit_mbps: fields.decimal("limit-mbps"),
        ..draft::Exception::default()
    }
}
