//! Edits a plan file and keeps what a person wrote: comments, order, layout.
//!
//! An [`Edit`] is applied to the text of a plan and gives a new text. Whether the result is a plan is for
//! [`crate::read`] to say: an edit that leaves a name without its declaration, or a subnet over another,
//! is reported with the line where it shows.

mod comments;
mod grid;
mod line_ends;
mod references;
mod sheet;
mod values;

pub use grid::draft_grid;
pub use sheet::{Entry, FROM_SHEETS, RowProblem, SheetProblem, Understood, read_csv, understand};
pub use values::Setting;

use crate::format;
use bastium_core::name::nearest;
use grid::Grid;
use references::{Namespace, Reference};
use toml_edit::{DocumentMut, Item, Table, TableLike, Value};

/// A change of a plan.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Edit {
    /// A new entry.
    Add {
        /// The table: `network`, `host`, ...
        kind: String,
        /// Its name.
        name: String,
        /// An entry of that table whose keys it has, where it has none of its own.
        like: Option<String>,
        /// Its keys.
        settings: Vec<Setting>,
        /// Of a zone: whether the matrix opens for it what trust says. Else it is blocked everywhere.
        open_by_trust: bool,
    },
    /// Other keys of an entry, or of a table without entries such as `site`.
    Set {
        /// The table.
        kind: String,
        /// The entry; none for a table without entries.
        name: Option<String>,
        /// The keys; one without a value is taken out.
        settings: Vec<Setting>,
    },
    /// Another cell of the matrix, or several.
    Cell {
        /// From this zone; `any` for each.
        from: String,
        /// To this zone; `any` for each.
        to: String,
        /// Whether the way back is set, too.
        both_ways: bool,
        /// What happens: `allow`, `block+log`, ...
        action: String,
    },
    /// The whole matrix anew, from trust.
    Draft,
    /// An entry less.
    Remove {
        /// The table.
        kind: String,
        /// Its name.
        name: String,
    },
    /// Another name for an entry, here and wherever it is named.
    Rename {
        /// The table, where several have an entry of that name.
        kind: Option<String>,
        /// The name that it has.
        old: String,
        /// The name that it gets.
        new: String,
    },
    /// Subnets that were carved, written down: networks with their prefixes.
    Pin(Vec<(String, Vec<String>)>),
}

/// Why a change cannot be made.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum EditProblem {
    /// The text is not TOML; reading it tells more.
    #[error("the text is not TOML")]
    NotToml,
    /// Something that is no table has the name of one.
    #[error("`{name}` is no table")]
    NoTable { name: String },
    /// There is no such table in the format.
    #[error("a plan has no table `{kind}`")]
    UnknownKind { kind: String, nearest: Option<&'static str> },
    /// There is such an entry already.
    #[error("there is a {kind} `{name}` already")]
    AlreadyThere { kind: String, name: String },
    /// There is no such entry.
    #[error("there is no entry `{name}`")]
    NotThere { name: String, nearest: Option<String> },
    /// The entry is named elsewhere.
    #[error("{kind} `{name}` is named by {}", by.join(", "))]
    Used { kind: String, name: String, by: Vec<String> },
    /// Entries of several tables have that name.
    #[error("`{name}` is the name of several entries: {}", kinds.join(", "))]
    WhichKind { name: String, kinds: Vec<&'static str> },
    /// The plan has no grid, or it is not drawn as one.
    #[error("the plan has no grid")]
    NoGrid,
    /// A value that is not one.
    #[error("`{value}` is no value of `{key}`")]
    BadValue { key: String, value: String },
}

/// Makes a change.
///
/// ```
/// use bastium_planfile::edit::{Edit, Setting, apply};
///
/// let text = "[host.printer]  # by the window\nnetwork = \"printers\"\n";
/// let edit = Edit::Set {
///     kind: "host".to_owned(),
///     name: Some("printer".to_owned()),
///     settings: vec![Setting::from_words("address=10.44.48.10").expect("a key")],
/// };
/// let changed = apply(text, &edit).expect("there is such a host");
/// assert!(changed.contains("# by the window") && changed.contains("address = \"10.44.48.10\""));
/// ```
///
/// # Errors
/// Says why it cannot be made.
pub fn apply(text: &str, edit: &Edit) -> Result<String, EditProblem> {
    apply_all(text, std::slice::from_ref(edit))
}

/// Makes several changes, one after the other.
///
/// # Errors
/// Says why the first that cannot be made cannot; then none is.
pub fn apply_all(text: &str, edits: &[Edit]) -> Result<String, EditProblem> {
    let plain = line_ends::plain(text);
    let mut document: DocumentMut = plain.parse().map_err(|_| EditProblem::NotToml)?;
    edits.iter().try_for_each(|edit| change(&mut document, edit))?;
    Ok(line_ends::restored(text, &document.to_string()))
}

/// Makes as many of several changes as can be made, one after the other; and says why the others cannot, each by its
/// place.
///
/// # Errors
/// When the text is not TOML.
pub fn apply_each(
    text: &str,
    edits: &[Edit],
) -> Result<(String, Vec<(usize, EditProblem)>), EditProblem> {
    let plain = line_ends::plain(text);
    let mut document: DocumentMut = plain.parse().map_err(|_| EditProblem::NotToml)?;
    let made = edits.iter().map(|edit| change(&mut document, edit)).enumerate();
    let refused = made.filter_map(|(place, made)| Some((place, made.err()?))).collect();
    Ok((line_ends::restored(text, &document.to_string()), refused))
}

/// The entry in whose lines a place of a plan's text lies: its table and its name.
pub fn entry_around(text: &str, place: usize) -> Option<(String, String)> {
    let line_end = text.get(place..)?.find('\n').map_or(text.len(), |end| place + end);
    let start = match text[..line_end].rfind("\n[") {
        Some(line) => line + 1,
        None if text.starts_with('[') => 0,
        None => return None,
    };
    let header = text[start..].lines().next()?.strip_prefix('[')?;
    let keys = toml_edit::Key::parse(header.rsplit_once(']')?.0).ok()?;
    match keys.as_slice() {
        [table, name] => Some((table.get().to_owned(), name.get().to_owned())),
        _ => None,
    }
}

fn change(document: &mut DocumentMut, edit: &Edit) -> Result<(), EditProblem> {
    match edit {
        Edit::Add { kind, name, like, settings, open_by_trust } => {
            add(document, kind, (name, like.as_deref()), settings)?;
            if kind == "zone" {
                let by_trust = *open_by_trust;
                grid::change(document, |grid, zones| grid.add_zone(name, zones, by_trust))?;
            }
            Ok(())
        }
        Edit::Set { kind, name, settings } => set(document, kind, name.as_deref(), settings),
        Edit::Cell { from, to, both_ways, action } => {
            cell(document, from, to, action)?;
            if *both_ways { cell(document, to, from, action) } else { Ok(()) }
        }
        Edit::Draft => {
            let drafted = draft_grid(document);
            grid::write(table_of(document, "matrix")?, &drafted.to_string());
            Ok(())
        }
        Edit::Remove { kind, name } => remove(document, kind, name),
        Edit::Rename { kind, old, new } => rename(document, kind.as_deref(), old, new),
        Edit::Pin(networks) => {
            for (network, prefixes) in networks {
                let entry = entry(document, "network", network)?;
                let subnets = prefixes.iter().map(String::as_str).collect::<Vec<_>>();
                values::put(entry, "subnet", Some(values::list(&subnets)));
            }
            Ok(())
        }
    }
}

/// The matrix of a plan's text as it would be drafted from trust.
///
/// # Errors
/// When the text is not TOML.
pub fn drafted(text: &str) -> Result<String, EditProblem> {
    let document: DocumentMut = text.parse().map_err(|_| EditProblem::NotToml)?;
    Ok(draft_grid(&document).to_string())
}

fn known_kind(kind: &str) -> Result<(), EditProblem> {
    if format::kinds().any(|known| known == kind) {
        return Ok(());
    }
    let nearest = nearest(kind, format::kinds());
    Err(EditProblem::UnknownKind { kind: kind.to_owned(), nearest })
}

/// The table of that name at the top, made where it is not there.
///
/// # Errors
/// When something else has that name.
fn table_of<'d>(document: &'d mut DocumentMut, name: &str) -> Result<&'d mut Table, EditProblem> {
    let mut table = document.as_table_mut();
    for part in name.split('.') {
        let item = table.entry(part).or_insert_with(|| {
            let mut fresh = Table::new();
            fresh.set_implicit(true);
            Item::Table(fresh)
        });
        if !item.is_table() {
            let own = std::mem::take(item);
            *item = own.into_table().map_or_else(|own| own, Item::Table);
        }
        let other = || EditProblem::NoTable { name: name.to_owned() };
        table = item.as_table_mut().ok_or_else(other)?;
    }
    Ok(table)
}

/// What only one entry can have: it is not taken over from another one.
const OWN_KEYS: [&str; 5] = ["address", "mac", "subnet", "vlan", "ticket"];

fn add(
    document: &mut DocumentMut,
    kind: &str,
    (name, like): (&str, Option<&str>),
    settings: &[Setting],
) -> Result<(), EditProblem> {
    known_kind(kind)?;
    let like = like.map(|like| keys_of(document, kind, like)).transpose()?;
    let entries = table_of(document, kind)?;
    if entries.contains_key(name) {
        let (kind, name) = (kind.to_owned(), name.to_owned());
        return Err(EditProblem::AlreadyThere { kind, name });
    }
    let mut entry = like.unwrap_or_default();
    entry.decor_mut().set_prefix("\n");
    let format = format::Table::of(kind);
    settings.iter().try_for_each(|setting| values::set(&mut entry, format, setting))?;
    entries.insert(name, Item::Table(entry));
    Ok(())
}

/// The keys of an entry that another one may have, too.
fn keys_of(document: &mut DocumentMut, kind: &str, name: &str) -> Result<Table, EditProblem> {
    let mut keys = Table::new();
    for (key, value) in entry(document, kind, name)?.iter() {
        if !OWN_KEYS.contains(&key) {
            keys.insert(key, value.clone());
        }
    }
    Ok(keys)
}

/// An entry of a table, to be changed.
fn entry<'d>(
    document: &'d mut DocumentMut,
    kind: &str,
    name: &str,
) -> Result<&'d mut dyn TableLike, EditProblem> {
    let there = document.get(kind).and_then(Item::as_table_like);
    if there.and_then(|entries| entries.get(name)).is_none() {
        let names: Vec<String> = there
            .map(|entries| entries.iter().map(|(name, _)| name.to_owned()).collect())
            .unwrap_or_default();
        let nearest = nearest(name, names.iter().map(String::as_str)).map(str::to_owned);
        return Err(EditProblem::NotThere { name: format!("{kind}.{name}"), nearest });
    }
    let entries = document.get_mut(kind).and_then(Item::as_table_like_mut);
    let found = entries.and_then(|entries| entries.get_mut(name)?.as_table_like_mut());
    found.ok_or(EditProblem::NotToml)
}

fn set(
    document: &mut DocumentMut,
    kind: &str,
    name: Option<&str>,
    settings: &[Setting],
) -> Result<(), EditProblem> {
    if let (Some(switch), Some(port)) = (kind.strip_prefix("switch."), name) {
        let ports = switch.strip_suffix(".ports").unwrap_or(switch);
        return set_port(document, ports, port, settings);
    }
    let entry: &mut dyn TableLike = match name {
        None if format::single().any(|single| single == kind) => table_of(document, kind)?,
        None => {
            return Err(EditProblem::UnknownKind {
                kind: kind.to_owned(),
                nearest: nearest(kind, format::single()),
            });
        }
        Some(name) => {
            known_kind(kind)?;
            entry(document, kind, name)?
        }
    };
    let format = format::Table::of(kind);
    settings.iter().try_for_each(|setting| values::set(entry, format, setting))
}

/// A port of a switch, which is an entry within an entry.
fn set_port(
    document: &mut DocumentMut,
    switch: &str,
    port: &str,
    settings: &[Setting],
) -> Result<(), EditProblem> {
    let entry = entry(document, "switch", switch)?;
    let ports = entry.entry("ports").or_insert_with(|| Item::Table(Table::new()));
    let ports = ports.as_table_like_mut().ok_or(EditProblem::NotToml)?;
    let own =
        ports.entry(port).or_insert_with(|| Item::Value(Value::InlineTable(Default::default())));
    let own = own.as_table_like_mut().ok_or(EditProblem::NotToml)?;
    let format = format::Table::of("switch.ports");
    settings.iter().try_for_each(|setting| values::set(own, format, setting))
}

fn cell(document: &mut DocumentMut, from: &str, to: &str, action: &str) -> Result<(), EditProblem> {
    let mut outcome = Ok(());
    grid::change(document, |grid, _| outcome = grid.set(from, to, action))?;
    outcome
}

fn remove(document: &mut DocumentMut, kind: &str, name: &str) -> Result<(), EditProblem> {
    known_kind(kind)?;
    entry(document, kind, name)?;
    let namespace = Namespace::of(kind);
    // A zone and its only network may share a name: as long as one of them is there, it means something.
    let elsewhere = declared(document, name)
        .into_iter()
        .any(|other| other != kind && Namespace::of(other) == namespace);
    let mut by = Vec::new();
    references::visit(document, &mut |reference: &Reference<'_>, text| {
        let own = reference.table == kind && reference.entry == name;
        let plain = reference.names.kind() == Some(kind);
        if reference.names.namespace() == namespace
            && !own
            && (plain || !elsewhere)
            && references::names(text, reference, name)
        {
            by.push(reference.words());
        }
        None
    });
    if !by.is_empty() {
        let (kind, name) = (kind.to_owned(), name.to_owned());
        return Err(EditProblem::Used { kind, name, by });
    }
    let entries = document.get_mut(kind).and_then(Item::as_table_like_mut);
    let gone = entries.and_then(|entries| entries.remove(name));
    if let Some(table) = gone.as_ref().and_then(Item::as_table) {
        comments::keep(document, table);
    }
    if kind == "zone" {
        grid::change(document, |grid, _| grid.remove_zone(name))?;
    }
    Ok(())
}

/// The tables that have an entry of that name.
fn declared(document: &DocumentMut, name: &str) -> Vec<&'static str> {
    let has = |kind: &&str| {
        let entries = document.get(kind).and_then(Item::as_table_like);
        entries.is_some_and(|entries| entries.contains_key(name))
    };
    format::kinds().filter(has).collect()
}

fn rename(
    document: &mut DocumentMut,
    kind: Option<&str>,
    old: &str,
    new: &str,
) -> Result<(), EditProblem> {
    let all = declared(document, old);
    let mut kinds: Vec<&'static str> =
        all.iter().copied().filter(|found| kind.is_none_or(|kind| kind == *found)).collect();
    // A Wi-Fi name is often called like its network: it is the network that others name.
    if kinds.iter().any(|kind| Namespace::of(kind) != Namespace::Own) {
        kinds.retain(|kind| Namespace::of(kind) != Namespace::Own);
    }
    let Some(first) = kinds.first() else {
        let names = format::kinds().filter_map(|kind| document.get(kind)?.as_table_like());
        let names: Vec<String> =
            names.flat_map(|entries| entries.iter().map(|(name, _)| name.to_owned())).collect();
        let nearest = nearest(old, names.iter().map(String::as_str)).map(str::to_owned);
        return Err(EditProblem::NotThere { name: old.to_owned(), nearest });
    };
    let namespace = Namespace::of(first);
    if kinds.iter().any(|kind| Namespace::of(kind) != namespace) {
        return Err(EditProblem::WhichKind { name: old.to_owned(), kinds });
    }
    // A zone that has the name of its only network is one place with it: both get the new name, unless
    // one is asked for.
    for kind in &kinds {
        if document.get(kind).and_then(Item::as_table_like).is_some_and(|t| t.contains_key(new)) {
            let (kind, name) = ((*kind).to_owned(), new.to_owned());
            return Err(EditProblem::AlreadyThere { kind, name });
        }
        values::rename_key(document, kind, old, new);
    }
    let left = declared(document, old);
    references::visit(document, &mut |reference: &Reference<'_>, text| {
        let meant = match reference.names.kind() {
            // A key that names one kind only follows that kind.
            Some(kind) => kinds.contains(&kind),
            None => !left.iter().any(|kind| Namespace::of(kind) == namespace),
        };
        (reference.names.namespace() == namespace && meant)
            .then(|| references::renamed(text, reference, old, new))
            .flatten()
    });
    if kinds.contains(&"zone") {
        grid::change(document, |grid: &mut Grid, _| grid.rename_zone(old, new))?;
    }
    Ok(())
}
