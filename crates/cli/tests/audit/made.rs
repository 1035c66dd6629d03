//! Rules as the kernel's tool prints them, piece by piece.

use super::common::{Bench, Run};
use serde_json::{Value, json};
use std::sync::atomic::{AtomicU64, Ordering};

pub(crate) fn hook(name: &str, hook: &str, policy: &str) -> Value {
    json!({ "chain": { "family": "inet", "table": "site", "name": name, "type": "filter",
        "hook": hook, "prio": 0, "policy": policy } })
}

pub(crate) fn chain(name: &str) -> Value {
    json!({ "chain": { "family": "inet", "table": "site", "name": name } })
}

/// A rule of a chain, with a comment by which it is found again.
pub(crate) fn rule(chain: &str, comment: &str, expr: Vec<Value>) -> Value {
    static NEXT: AtomicU64 = AtomicU64::new(1);
    let handle = NEXT.fetch_add(1, Ordering::Relaxed);
    json!({ "rule": { "family": "inet", "table": "site", "chain": chain, "handle": handle,
        "comment": comment, "expr": expr } })
}

pub(crate) fn test(left: Value, right: Value) -> Value {
    json!({ "match": { "op": "==", "left": left, "right": right } })
}

pub(crate) fn meta(key: &str, value: &str) -> Value {
    test(json!({ "meta": { "key": key } }), json!(value))
}

pub(crate) fn field(protocol: &str, field: &str, value: Value) -> Value {
    test(json!({ "payload": { "protocol": protocol, "field": field } }), value)
}

pub(crate) fn accept() -> Value {
    json!({ "accept": null })
}

pub(crate) fn drop_it() -> Value {
    json!({ "drop": null })
}

pub(crate) fn counter(packets: u64) -> Value {
    json!({ "counter": { "packets": packets, "bytes": 0 } })
}

pub(crate) fn jump(target: &str) -> Value {
    json!({ "jump": { "target": target } })
}

pub(crate) fn replies() -> Value {
    let test = json!({ "match": { "op": "in", "left": { "ct": { "key": "state" } },
        "right": ["established", "related"] } });
    rule("forward", "replies", vec![test, accept()])
}

/// The same object in another table; a chain with another priority.
pub(crate) fn in_table(mut object: Value, family: &str, table: &str, prio: i64) -> Value {
    let body = object.as_object_mut().and_then(|o| o.values_mut().next()).expect("a body");
    body["family"] = json!(family);
    body["table"] = json!(table);
    if body.get("prio").is_some() {
        body["prio"] = json!(prio);
    }
    object
}

/// Runs an audit, for programs.
pub(crate) fn audit(bench: &Bench, words: &str) -> Run {
    bench.run(&format!("audit {words} --format json"))
}

pub(crate) fn rows<'j>(json: &'j Value, key: &str) -> &'j Vec<Value> {
    json[key].as_array().unwrap_or_else(|| panic!("{key} is a list"))
}

/// What was found, as `name at rule`.
pub(crate) fn found(json: &Value) -> Vec<String> {
    let findings = rows(json, "findings").iter();
    let words = findings.map(|one| {
        let word = |key: &str| one[key].as_str().unwrap_or_default().to_owned();
        format!("{} {}", word("name"), word("rule"))
    });
    words.collect()
}
