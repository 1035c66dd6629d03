//! Where names are named: every place of a plan that speaks of an entry elsewhere.

use toml_edit::{DocumentMut, Item, TableLike, Value};

/// Names that share one space.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Namespace {
    /// Zones, networks, tunnels, routes, hosts, groups, domains, uplinks.
    Place,
    Service,
    /// Exceptions and inbound entries.
    Permission,
    Hours,
    Switch,
    AccessPoint,
    /// Nothing names these.
    Own,
}

impl Namespace {
    /// The space of an entry's name, by its table.
    pub(super) fn of(kind: &str) -> Self {
        match kind {
            "zone" | "network" | "tunnel" | "route" | "host" | "group" | "domain" | "uplink" => {
                Self::Place
            }
            "service" => Self::Service,
            "exception" | "inbound" => Self::Permission,
            "hours" => Self::Hours,
            "switch" => Self::Switch,
            "access-point" => Self::AccessPoint,
            _ => Self::Own,
        }
    }
}

/// A place where a name is named.
#[derive(Clone, Copy, Debug)]
pub(super) struct Reference<'a> {
    /// The table that it stands in.
    pub(super) table: &'a str,
    /// The entry of that table; empty for a table without entries.
    pub(super) entry: &'a str,
    /// The key.
    pub(super) key: &'a str,
    /// What kind of name it is.
    pub(super) namespace: Namespace,
}

impl Reference<'_> {
    /// `exception.desks-print: to`.
    pub(super) fn words(&self) -> String {
        match self.entry {
            "" => format!("{}: {}", self.table, self.key),
            entry => format!("{}.{entry}: {}", self.table, self.key),
        }
    }
}

/// Keys that name entries, by their table.
const KEYS: &[(&str, &[(&str, Namespace)])] = &[
    (
        "exception",
        &[
            ("from", Namespace::Place),
            ("to", Namespace::Place),
            ("service", Namespace::Service),
            ("hours", Namespace::Hours),
            ("before", Namespace::Permission),
        ],
    ),
    (
        "inbound",
        &[
            ("from", Namespace::Place),
            ("host", Namespace::Place),
            ("service", Namespace::Service),
            ("hours", Namespace::Hours),
            ("before", Namespace::Permission),
            ("uplink", Namespace::Place),
        ],
    ),
    ("gateway.manage", &[("from", Namespace::Place), ("service", Namespace::Service)]),
    ("group", &[("members", Namespace::Place)]),
    ("stream", &[("from", Namespace::Place), ("to", Namespace::Place)]),
    (
        "never",
        &[("from", Namespace::Place), ("to", Namespace::Place), ("service", Namespace::Service)],
    ),
    (
        "always",
        &[("from", Namespace::Place), ("to", Namespace::Place), ("service", Namespace::Service)],
    ),
    ("discovery", &[("between", Namespace::Place)]),
    ("network", &[("zone", Namespace::Place), ("uses-gateway-for", Namespace::Service)]),
    (
        "tunnel",
        &[
            ("zone", Namespace::Place),
            ("uses-gateway-for", Namespace::Service),
            ("listens", Namespace::Service),
        ],
    ),
    ("route", &[("zone", Namespace::Place), ("via", Namespace::Place)]),
    ("zone", &[("uses-gateway-for", Namespace::Service)]),
    ("host", &[("network", Namespace::Place)]),
    ("wifi", &[("network", Namespace::Place), ("on", Namespace::AccessPoint)]),
    ("service", &[("includes", Namespace::Service)]),
    ("switch", &[("hangs-on", Namespace::Switch)]),
    ("access-point", &[("hangs-on", Namespace::Switch)]),
];

/// The one kind of entry that a key names, if it names just one.
pub(super) fn kind_named(key: &str) -> Option<&'static str> {
    match key {
        "zone" => Some("zone"),
        "network" | "untagged" | "tagged" => Some("network"),
        _ => None,
    }
}

/// Shows every text that names an entry to `see`, which may give another text for it.
pub(super) fn visit(
    document: &mut DocumentMut,
    see: &mut dyn FnMut(&Reference<'_>, &str) -> Option<String>,
) {
    for (table, keys) in KEYS {
        let Some(entries) = part(document, table) else { continue };
        if table.contains('.') {
            visit_entry(entries, table, "", keys, see);
            continue;
        }
        for (name, item) in entries.iter_mut() {
            if let Some(entry) = item.as_table_like_mut() {
                visit_entry(entry, table, name.get(), keys, see);
            }
        }
    }
    visit_ports(document, see);
}

fn part<'d>(document: &'d mut DocumentMut, table: &str) -> Option<&'d mut dyn TableLike> {
    let mut found: &mut dyn TableLike = document.as_table_mut();
    for word in table.split('.') {
        found = found.get_mut(word)?.as_table_like_mut()?;
    }
    Some(found)
}

fn visit_entry(
    entry: &mut dyn TableLike,
    table: &str,
    name: &str,
    keys: &[(&str, Namespace)],
    see: &mut dyn FnMut(&Reference<'_>, &str) -> Option<String>,
) {
    for (key, namespace) in keys {
        let reference = Reference { table, entry: name, key, namespace: *namespace };
        if let Some(item) = entry.get_mut(key) {
            visit_item(item, &reference, see);
        }
    }
}

/// The networks that switch ports carry.
fn visit_ports(
    document: &mut DocumentMut,
    see: &mut dyn FnMut(&Reference<'_>, &str) -> Option<String>,
) {
    let Some(switches) = part(document, "switch") else { return };
    for (switch, item) in switches.iter_mut() {
        let ports = item.as_table_like_mut().and_then(|switch| switch.get_mut("ports"));
        let Some(ports) = ports.and_then(Item::as_table_like_mut) else { continue };
        for (port, item) in ports.iter_mut() {
            let entry = format!("{}.ports.{}", switch.get(), port.get());
            if let Some(port) = item.as_table_like_mut() {
                let keys = [("tagged", Namespace::Place), ("untagged", Namespace::Place)];
                visit_entry(port, "switch", &entry, &keys, see);
            }
        }
    }
}

fn visit_item(
    item: &mut Item,
    reference: &Reference<'_>,
    see: &mut dyn FnMut(&Reference<'_>, &str) -> Option<String>,
) {
    match item {
        Item::Value(Value::Array(items)) => {
            for value in items.iter_mut() {
                visit_value(value, reference, see);
            }
        }
        Item::Value(value) => visit_value(value, reference, see),
        _ => {}
    }
}

fn visit_value(
    value: &mut Value,
    reference: &Reference<'_>,
    see: &mut dyn FnMut(&Reference<'_>, &str) -> Option<String>,
) {
    let Some(new) = value.as_str().and_then(|text| see(reference, text)) else { return };
    let decor = value.decor().clone();
    *value = Value::from(new);
    *value.decor_mut() = decor;
}

/// Whether a text names that entry.
pub(super) fn names(text: &str, reference: &Reference<'_>, name: &str) -> bool {
    renamed(text, reference, name, name).is_some()
}

/// The text with another name for an entry; `None` where it does not name it.
pub(super) fn renamed(
    text: &str,
    reference: &Reference<'_>,
    old: &str,
    new: &str,
) -> Option<String> {
    match reference.namespace {
        Namespace::Place
            if !matches!(reference.key, "zone" | "network" | "tagged" | "untagged" | "uplink") =>
        {
            in_expression(text, old, new)
        }
        Namespace::Switch => {
            let (switch, port) = text.split_once(':')?;
            (switch.trim() == old).then(|| format!("{new}:{port}"))
        }
        _ => (text == old).then(|| new.to_owned()),
    }
}

/// `staff + guests`: each word between the signs is a name; the spaces stay as they are.
fn in_expression(text: &str, old: &str, new: &str) -> Option<String> {
    let mut found = false;
    let mut result = String::with_capacity(text.len());
    for piece in text.split_inclusive(char::is_whitespace) {
        let word = piece.trim_end();
        if word == old {
            found = true;
            result.push_str(new);
            result.push_str(&piece[word.len()..]);
        } else {
            result.push_str(piece);
        }
    }
    found.then_some(result)
}
