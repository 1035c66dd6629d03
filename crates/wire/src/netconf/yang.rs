//! Converts data of two modules, access lists (RFC 8519) and interfaces (RFC 8343), from JSON (RFC 7951) to XML (RFC
//! 7950) and back.

use super::tree::{Element, XMLNS};
use serde_json::{Map, Value};

/// The modules, with their namespaces.
pub const MODULES: [(&str, &str); 3] = [
    ("ietf-access-control-list", ACL),
    ("ietf-interfaces", INTERFACES),
    ("iana-if-type", "urn:ietf:params:xml:ns:yang:iana-if-type"),
];
/// The namespace of access lists.
pub const ACL: &str = "urn:ietf:params:xml:ns:yang:ietf-access-control-list";
/// The namespace of interfaces.
pub const INTERFACES: &str = "urn:ietf:params:xml:ns:yang:ietf-interfaces";

/// Lists, by what holds them: an entry's key comes first.
const LISTS: [(&str, &str, &str); 6] = [
    ("acls", "acl", "name"),
    ("aces", "ace", "name"),
    ("attachment-points", "interface", "interface-id"),
    ("acl-sets", "acl-set", "name"),
    ("interfaces", "interface", "name"),
    ("interfaces-state", "interface", "name"),
];

/// Leaves that are texts, whatever they look like.
const TEXTS: [&str; 6] =
    ["name", "interface-id", "description", "matched-packets", "matched-octets", "last-change"];

/// The key of a list's entries; none for what is no list.
pub(crate) fn key_of(parent: &str, name: &str) -> Option<&'static str> {
    let found = LISTS.iter().find(|(holder, own, _)| *holder == parent && *own == name);
    found.map(|(_, _, key)| *key)
}

/// The top elements of a JSON object: one for each of its members.
pub fn to_xml(json: &Value) -> Vec<Element> {
    let members = json.as_object().into_iter().flatten();
    members.flat_map(|(name, value)| elements(name, value, "")).collect()
}

fn elements(name: &str, value: &Value, namespace: &str) -> Vec<Element> {
    let (namespace, name) = match name.split_once(':') {
        Some((module, name)) => (namespace_of(module).unwrap_or(namespace), name),
        None => (namespace, name),
    };
    match value {
        // `[null]` is the value of a leaf without one.
        Value::Array(entries) => {
            entries.iter().flat_map(|entry| elements(name, entry, namespace)).collect()
        }
        Value::Object(members) => {
            let mut element = Element::new(namespace, name);
            // Keys come first (RFC 7950, section 7.8.5).
            let is_key =
                |own: &str| LISTS.iter().any(|(_, list, key)| *list == name && *key == own);
            let (keys, others): (Vec<_>, Vec<_>) = members.iter().partition(|(own, _)| is_key(own));
            let all = keys.into_iter().chain(others);
            element.children =
                all.flat_map(|(own, value)| elements(own, value, namespace)).collect();
            vec![element]
        }
        Value::Null => vec![Element::new(namespace, name)],
        Value::String(text) => vec![leaf(namespace, name, text)],
        other => vec![Element::new(namespace, name).saying(other.to_string())],
    }
}

/// A leaf. A name of another module has its prefix; one of the same module needs none.
fn leaf(namespace: &str, name: &str, text: &str) -> Element {
    let element = Element::new(namespace, name);
    let identity = text.split_once(':').filter(|_| !TEXTS.contains(&name));
    match identity.and_then(|(module, own)| Some((module, namespace_of(module)?, own))) {
        Some((_, other, own)) if other == namespace => element.saying(own),
        Some((module, other, own)) => {
            let prefix: String = module.chars().filter(char::is_ascii_alphabetic).collect();
            element.having(XMLNS, &prefix, other).saying(format!("{prefix}:{own}"))
        }
        None => element.saying(text),
    }
}

fn namespace_of(module: &str) -> Option<&'static str> {
    MODULES.iter().find(|(name, _)| *name == module).map(|(_, namespace)| *namespace)
}

/// The JSON of top elements.
pub fn to_json(elements: &[Element]) -> Value {
    let mut members = Map::new();
    for element in elements {
        let module = MODULES.iter().find(|(_, namespace)| *namespace == element.namespace);
        let name = match module {
            Some((module, _)) => format!("{module}:{}", element.name),
            None => element.name.clone(),
        };
        members.insert(name, value(element));
    }
    Value::Object(members)
}

fn value(element: &Element) -> Value {
    if element.children.is_empty() && !element.text.trim().is_empty() {
        let text = element.text.trim();
        let number = text.parse::<u64>().ok().filter(|_| !TEXTS.contains(&element.name.as_str()));
        return number.map_or_else(|| Value::String(text.to_owned()), Value::from);
    }
    let mut members = Map::new();
    for child in &element.children {
        let own = value(child);
        if key_of(&element.name, &child.name).is_none() {
            members.insert(child.name.clone(), own);
            continue;
        }
        let list = members.entry(child.name.clone()).or_insert_with(|| Value::Array(Vec::new()));
        if let Value::Array(entries) = list {
            entries.push(own);
        }
    }
    Value::Object(members)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_and_leaves_come_back_as_they_were() {
        let json = serde_json::json!({ "ietf-access-control-list:acls": {
            "acl": [{ "name": "7", "type": "ietf-access-control-list:ipv4-acl-type", "aces": { "ace": [
                { "name": "1", "matches": { "ipv4": { "protocol": 6 }, "tcp": { "destination-port": { "operator": "eq", "port": 80 } } },
                  "actions": { "forwarding": "ietf-access-control-list:accept" } },
            ] } }],
            "attachment-points": { "interface": [{ "interface-id": "7", "ingress": { "acl-sets": { "acl-set": [{ "name": "7" }] } } }] },
        } });
        let xml = to_xml(&json);
        let read = Element::read(&xml[0].write()).expect("XML");
        let again = to_json(&[read]);
        // Names of the same module need no prefix.
        let plain: Value = serde_json::from_str(
            &json
                .to_string()
                .replace("\"ietf-access-control-list:ipv4", "\"ipv4")
                .replace("\"ietf-access-control-list:accept", "\"accept"),
        )
        .expect("JSON");
        assert_eq!(again, plain);
        assert_eq!(
            xml[0].child("acl").map(|acl| acl.children[0].name.as_str()),
            Some("name"),
            "keys come first"
        );
    }
}
