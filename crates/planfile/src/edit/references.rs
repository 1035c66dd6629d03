//! Finds every place of a plan that refers to an entry by name.

use crate::format::{Key, Names, PLAN, Table, Takes};
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

impl Names {
    /// The space of the names that a key names.
    pub(super) fn namespace(self) -> Namespace {
        match self {
            Self::Places | Self::Zone | Self::Network | Self::Uplink => Namespace::Place,
            Self::Services => Namespace::Service,
            Self::Permissions => Namespace::Permission,
            Self::Hours => Namespace::Hours,
            Self::SwitchPort => Namespace::Switch,
            Self::AccessPoints => Namespace::AccessPoint,
        }
    }

    /// The one kind of entry that such a key names, if it names just one.
    pub(super) fn kind(self) -> Option<&'static str> {
        match self {
            Self::Zone => Some("zone"),
            Self::Network => Some("network"),
            _ => None,
        }
    }
}

/// A place where a name is named.
#[derive(Clone, Copy, Debug)]
pub(super) struct Reference<'a> {
    /// The table at the top that it stands in.
    pub(super) table: &'static str,
    /// The entry of that table, or the table inside it; empty for a table without.
    pub(super) entry: &'a str,
    /// The key.
    pub(super) key: &'static str,
    /// What it names.
    pub(super) names: Names,
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

/// Shows every text that names an entry to `see`, which may give another text for it.
pub(super) fn visit(
    document: &mut DocumentMut,
    see: &mut dyn FnMut(&Reference<'_>, &str) -> Option<String>,
) {
    for key in PLAN.keys {
        if let Some(item) = document.get_mut(key.name) {
            visit_tables(item, key, (key.name, ""), see);
        }
    }
}

/// The tables under a key: itself, its entries, or those in its list.
fn visit_tables(
    item: &mut Item,
    key: &'static Key,
    (top, path): (&'static str, &str),
    see: &mut dyn FnMut(&Reference<'_>, &str) -> Option<String>,
) {
    let Some(table) = item.as_table_like_mut() else { return };
    match key.takes {
        Takes::Table(format) => visit_table(table, format, (top, path), see),
        Takes::Entries(format) => {
            for (name, item) in table.iter_mut() {
                let path = joined(path, name.get());
                if let Some(entry) = item.as_table_like_mut() {
                    visit_table(entry, format, (top, &path), see);
                }
            }
        }
        _ => {}
    }
}

fn visit_table(
    table: &mut dyn TableLike,
    format: &'static Table,
    (top, path): (&'static str, &str),
    see: &mut dyn FnMut(&Reference<'_>, &str) -> Option<String>,
) {
    for key in format.keys {
        let Some(item) = table.get_mut(key.name) else { continue };
        match key.names {
            Some(names) => {
                let reference = Reference { table: top, entry: path, key: key.name, names };
                visit_item(item, &reference, see);
            }
            None => visit_tables(item, key, (top, &joined(path, key.name)), see),
        }
    }
}

fn joined(path: &str, word: &str) -> String {
    if path.is_empty() { word.to_owned() } else { format!("{path}.{word}") }
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
    match reference.names {
        Names::Places => in_expression(text, old, new),
        Names::SwitchPort => {
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
