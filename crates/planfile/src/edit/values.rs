//! Values from the command line, as the format wants them.

use super::EditProblem;
use toml_edit::{Array, DocumentMut, Item, Key, TableLike, Value};

/// A key with its new value; without one it is taken out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Setting {
    /// The key.
    pub key: String,
    /// The value as it is typed.
    pub value: Option<String>,
}

impl Setting {
    /// Reads `key=value`, or `key=` for a key to take out.
    pub fn from_words(words: &str) -> Option<Self> {
        let (key, value) = words.split_once('=')?;
        let value = Some(value.trim()).filter(|value| !value.is_empty());
        let key = key.trim();
        (!key.is_empty()).then(|| Self { key: key.to_owned(), value: value.map(str::to_owned) })
    }
}

/// Keys whose values are whole numbers.
const WHOLE: [&str; 4] = ["vlan", "hosts", "outside-port", "rules"];
/// Keys whose values are numbers.
const NUMBERS: [&str; 3] = ["mbps", "limit-mbps", "routes-mbps"];
/// Keys whose values are true or false.
const FLAGS: [&str; 9] =
    ["isolate", "log", "off", "translate", "second-factor", "reject", "domains", "ipv6", "hours"];
/// Keys whose values are always lists.
const LISTS: [&str; 11] = [
    "space",
    "ports",
    "members",
    "includes",
    "names",
    "between",
    "before",
    "uses-gateway-for",
    "bands",
    "on",
    "by",
];
/// Keys whose values may hold a comma that is no separator.
const PROSE: [&str; 6] = ["why", "about", "name", "ticket", "owner", "days"];

/// Sets a key, or takes it out.
pub(super) fn set(table: &mut dyn TableLike, setting: &Setting) -> Result<(), EditProblem> {
    let value = match &setting.value {
        Some(typed) => Some(value(&setting.key, typed)?),
        None => None,
    };
    put(table, &setting.key, value);
    Ok(())
}

/// Puts a value where the old one was, so that what stands around it stays.
pub(super) fn put(table: &mut dyn TableLike, key: &str, value: Option<Value>) {
    let Some(mut value) = value else {
        table.remove(key);
        return;
    };
    if let Some(old) = table.get(key).and_then(Item::as_value) {
        *value.decor_mut() = old.decor().clone();
    }
    match table.get_mut(key) {
        Some(item) => *item = Item::Value(value),
        None => drop(table.insert(key, Item::Value(value))),
    }
}

/// A list of texts.
pub(super) fn list(items: &[&str]) -> Value {
    Value::Array(items.iter().copied().collect::<Array>())
}

/// What was typed, as a value of that key. What begins with a quote, a bracket or a brace is TOML.
fn value(key: &str, typed: &str) -> Result<Value, EditProblem> {
    let bad = || EditProblem::BadValue { key: key.to_owned(), value: typed.to_owned() };
    if typed.starts_with(['"', '\'', '[', '{']) {
        return typed.parse::<Value>().map_err(|_| bad());
    }
    if WHOLE.contains(&key) {
        return typed.parse::<i64>().map(Value::from).map_err(|_| bad());
    }
    if NUMBERS.contains(&key) {
        let whole = typed.parse::<i64>().map(Value::from);
        return whole.or_else(|_| typed.parse::<f64>().map(Value::from)).map_err(|_| bad());
    }
    match (key, typed) {
        ("dhcp", "false") => return Ok(Value::from(false)),
        (key, "true" | "false") if FLAGS.contains(&key) => return Ok(Value::from(typed == "true")),
        _ => {}
    }
    if PROSE.contains(&key) {
        return Ok(Value::from(typed));
    }
    let items: Vec<&str> =
        typed.split(',').map(str::trim).filter(|item| !item.is_empty()).collect();
    if LISTS.contains(&key) || items.len() > 1 {
        return Ok(list(&items));
    }
    Ok(Value::from(typed))
}

/// Gives an entry another name; its place and what stands around it stay.
pub(super) fn rename_key(document: &mut DocumentMut, kind: &str, old: &str, new: &str) {
    let Some(entries) = document.get_mut(kind) else { return };
    if let Some(table) = entries.as_table_mut() {
        // Entries are written in the order of their positions; the order of keys does not matter.
        if let Some((key, item)) = table.remove_entry(old) {
            table.insert_formatted(&renamed(&key, new), item);
        }
    } else if let Some(table) = entries.as_inline_table_mut() {
        let keys: Vec<String> = table.iter().map(|(key, _)| key.to_owned()).collect();
        for key in keys {
            if let Some(value) = table.remove(&key) {
                table.insert(if key == old { new } else { &key }, value);
            }
        }
    }
}

fn renamed(key: &Key, new: &str) -> Key {
    Key::new(new)
        .with_leaf_decor(key.leaf_decor().clone())
        .with_dotted_decor(key.dotted_decor().clone())
}
