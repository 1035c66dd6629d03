//! The JSON Schema of the plan file, from the description of the format.

use crate::format::{Key, PLAN, Table, Takes, all_tables};
use serde_json::{Map, Value, json};

/// The form of a name.
const NAME: &str = "^[a-z][a-z0-9]*(-[a-z0-9]+)*$";

/// The schema (JSON Schema, draft 2020-12).
pub fn schema() -> Value {
    let mut schema = table(&PLAN);
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema".into();
    schema["title"] = "A plan of Bastium".into();
    let inner = all_tables().into_iter().skip(1);
    schema["$defs"] = inner.map(|inner| (inner.heading.to_owned(), table(inner))).collect();
    schema
}

fn table(format: &'static Table) -> Value {
    let properties: Map<String, Value> =
        format.keys.iter().map(|key| (key.name.to_owned(), property(key))).collect();
    let needed: Vec<&str> =
        format.keys.iter().filter(|key| key.needed).map(|key| key.name).collect();
    let mut schema = json!({
        "type": "object",
        "description": format.about,
        "properties": properties,
        "additionalProperties": false,
    });
    if !needed.is_empty() {
        schema["required"] = needed.into();
    }
    schema
}

fn property(key: &'static Key) -> Value {
    let mut schema = takes(key.takes);
    schema["description"] = match key.default {
        "" => key.about.into(),
        default => format!("{} Default: {default}.", key.about).into(),
    };
    if let Some(example) = example(key) {
        schema["examples"] = vec![example].into();
    }
    schema
}

/// A key's example as JSON has it.
fn example(key: &Key) -> Option<Value> {
    let mut written: Map<String, Value> = toml::from_str(&format!("it = {}", key.example)).ok()?;
    written.remove("it")
}

fn takes(takes: Takes) -> Value {
    let named = |values: Value| json!({ "type": "object", "additionalProperties": values });
    let texts = || json!({ "type": "array", "items": { "type": "string" } });
    match takes {
        Takes::Text | Takes::Prose | Takes::Day => json!({ "type": "string" }),
        Takes::Name => json!({ "type": "string", "pattern": NAME }),
        Takes::Choice(words) => json!({ "enum": words }),
        Takes::Texts | Takes::List | Takes::Days => {
            json!({ "anyOf": [{ "type": "string" }, texts()] })
        }
        Takes::Edition => json!({ "const": 1 }),
        Takes::Whole(least, u32::MAX) => json!({ "type": "integer", "minimum": least }),
        Takes::Whole(least, most) => {
            json!({ "type": "integer", "minimum": least, "maximum": most })
        }
        Takes::Number => json!({ "type": "number" }),
        Takes::Flag => json!({ "type": "boolean" }),
        Takes::RangeOrOff => json!({ "anyOf": [{ "const": false }, { "type": "string" }] }),
        Takes::NamedTexts => named(json!({ "type": "string" })),
        Takes::NamedLists => named(texts()),
        Takes::Table(inner) => reference(inner),
        Takes::Tables(inner) => json!({ "type": "array", "items": reference(inner) }),
        Takes::Entries(inner) => {
            let mut entries = named(reference(inner));
            // The ports of a switch have names of the switch's own.
            if inner.heading.ends_with(".NAME") {
                entries["propertyNames"] = json!({ "pattern": NAME });
            }
            entries
        }
    }
}

fn reference(inner: &Table) -> Value {
    json!({ "$ref": format!("#/$defs/{}", inner.heading) })
}
