//! The schema of the plan file, against what the reader really takes.

use serde_json::Value;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn plans() -> Vec<PathBuf> {
    let folders = [root().join("demo"), root().join("demo/broken")];
    let files = folders.iter().flat_map(|folder| std::fs::read_dir(folder).expect("a folder"));
    let files = files.map(|entry| entry.expect("an entry").path());
    files.filter(|path| path.extension().is_some_and(|e| e == "toml")).collect()
}

fn value(text: &str) -> Value {
    toml::from_str(text).unwrap_or_else(|error| panic!("{error}"))
}

/// Whether a plan is valid, by a validator that knows nothing of plans.
fn problems(plan: &Value) -> Option<String> {
    let mut schemas = boon::Schemas::new();
    let mut compiler = boon::Compiler::new();
    compiler.add_resource("plan.json", bastium_planfile::schema()).expect("the schema is JSON");
    let index = compiler.compile("plan.json", &mut schemas).expect("the schema is a schema");
    schemas.validate(plan, index).err().map(|error| error.to_string())
}

#[test]
fn every_plan_of_the_repository_is_valid() {
    let plans = plans();
    assert!(plans.len() > 100);
    for path in plans {
        let text = std::fs::read_to_string(&path).expect("text");
        assert_eq!(problems(&value(&text)), None, "{}", path.display());
    }
}

#[test]
fn what_the_reader_refuses_by_its_shape_is_not_valid() {
    let clinic = std::fs::read_to_string(root().join("demo/clinic.toml")).expect("text");
    for (good, bad) in [
        ("vlan = 24", "vlan = \"24\""),
        ("vlan = 24", "vlan = 4095"),
        ("isolate = true", "isolate = \"yes\""),
        ("trust = \"high\"", "trust = \"total\""),
        ("[zone.staff]", "[zone.Staff]"),
        ("[site]", "[sight]"),
        ("hours = \"deliveries\"", "hour = \"deliveries\""),
        ("form = \"one-list\"", "form = \"two-lists\""),
        ("outside-port = 443", "outside-port = 0"),
        ("mbps = 54", "mbps = \"fast\""),
        ("action = \"allow\"\n", ""),
        ("bastium = 1", "bastium = 2"),
    ] {
        assert!(clinic.contains(good), "{good}");
        assert!(problems(&value(&clinic.replacen(good, bad, 1))).is_some(), "{bad}");
    }
}

/// Every key that the reader asks for is in the schema, and no other is.
#[test]
fn the_schema_has_the_keys_that_are_read() {
    let mut read = BTreeSet::from(["bastium".to_owned()]);
    for file in ["tables.rs", "entries.rs", "wiring.rs"] {
        let path = root().join("crates/planfile/src").join(file);
        let text = std::fs::read_to_string(path).expect("text");
        for mark in [
            "text(\"",
            "texts(\"",
            "flag(\"",
            "number(\"",
            "decimal(\"",
            "day(\"",
            "table(\"",
            "tables(\"",
            "entries(\"",
            "value(\"",
            "(fields, \"",
            "(&mut fields, \"",
        ] {
            let words = text.split(mark).skip(1).filter_map(|rest| rest.split_once('"'));
            read.extend(words.map(|split| split.0.to_owned()));
        }
    }
    let mut written = BTreeSet::new();
    keys(&bastium_planfile::schema(), &mut written);
    assert_eq!(read, written);
}

fn keys(schema: &Value, found: &mut BTreeSet<String>) {
    match schema {
        Value::Object(map) => {
            if let Some(Value::Object(properties)) = map.get("properties") {
                found.extend(properties.keys().cloned());
            }
            map.values().for_each(|value| keys(value, found));
        }
        Value::Array(items) => items.iter().for_each(|value| keys(value, found)),
        _ => {}
    }
}
