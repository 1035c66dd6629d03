//! Converts values from the command line into what the format expects.

use super::EditProblem;
use crate::format::{Table, Takes};
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

/// Sets a key, or takes it out.
pub(super) fn set(
    table: &mut dyn TableLike,
    format: Option<&Table>,
    setting: &Setting,
) -> Result<(), EditProblem> {
    let value = match &setting.value {
        Some(typed) => Some(value(format, &setting.key, typed)?),
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

/// What was typed, as a value of that key of a table. What begins with a quote, a bracket or a brace is TOML; a key that
/// the format does not have is for reading to report.
fn value(format: Option<&Table>, key: &str, typed: &str) -> Result<Value, EditProblem> {
    let bad = || EditProblem::BadValue { key: key.to_owned(), value: typed.to_owned() };
    if typed.starts_with(['"', '\'', '[', '{']) {
        return typed.parse::<Value>().map_err(|_| bad());
    }
    let items = || typed.split(',').map(str::trim).filter(|item| !item.is_empty());
    let whole = || typed.parse::<i64>().map(Value::from);
    Ok(match format.and_then(|table| table.key(key)).map(|key| key.takes) {
        Some(Takes::Whole(..) | Takes::Edition) => whole().map_err(|_| bad())?,
        Some(Takes::Number) => {
            whole().or_else(|_| typed.parse::<f64>().map(Value::from)).map_err(|_| bad())?
        }
        Some(Takes::Flag) if matches!(typed, "true" | "false") => Value::from(typed == "true"),
        Some(Takes::RangeOrOff) if typed == "false" => Value::from(false),
        Some(Takes::Prose | Takes::Days) => Value::from(typed),
        Some(Takes::List) => list(&items().collect::<Vec<_>>()),
        _ if items().count() > 1 => list(&items().collect::<Vec<_>>()),
        _ => Value::from(typed),
    })
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
