//! Entries that change nothing: whatever they take, one further down takes as well and treats alike.

use ipnet::IpNet;
use serde_json::{Map, Value};

/// What an entry takes, as far as it has to be known here.
struct Taken {
    source: Option<IpNet>,
    destination: Option<IpNet>,
    protocol: Option<u64>,
    /// All but the addresses, as it stands.
    others: Value,
    actions: Value,
}

impl Taken {
    fn of(entry: &Value) -> Self {
        let mut others = entry["matches"].clone();
        let mut ends = [None, None];
        let mut protocol = None;
        for family in ["ipv4", "ipv6"] {
            let Some(Value::Object(own)) = others.get_mut(family) else { continue };
            protocol = own.get("protocol").and_then(Value::as_u64).or(protocol);
            for (end, word) in ends.iter_mut().zip(["source", "destination"]) {
                let key = format!("{word}-{family}-network");
                *end = own.remove(&key).and_then(|one| one.as_str()?.parse().ok());
            }
            if own.is_empty() {
                others.as_object_mut().and_then(|all: &mut Map<String, Value>| all.remove(family));
            }
        }
        let [source, destination] = ends;
        Self { source, destination, protocol, others, actions: entry["actions"].clone() }
    }

    /// Whether the other takes all that this takes.
    fn is_within(&self, other: &Self) -> bool {
        let within = |own: Option<IpNet>, other: Option<IpNet>| match (own, other) {
            (_, None) => true,
            (None, Some(_)) => false,
            (Some(own), Some(other)) => other.contains(&own),
        };
        let anything = other.others.as_object().is_some_and(Map::is_empty);
        within(self.source, other.source)
            && within(self.destination, other.destination)
            && (anything || self.others == other.others)
    }

    /// Whether nothing is taken by both, as far as addresses and protocols tell.
    fn is_apart_from(&self, other: &Self) -> bool {
        let apart = |own: Option<IpNet>, other: Option<IpNet>| match (own, other) {
            (Some(own), Some(other)) => !own.contains(&other) && !other.contains(&own),
            _ => false,
        };
        let protocols = self.protocol.zip(other.protocol);
        apart(self.source, other.source)
            || apart(self.destination, other.destination)
            || protocols.is_some_and(|(own, other)| own != other)
    }
}

/// Leaves out the entries that change nothing, of a list from its top.
pub(super) fn fewer(entries: Vec<Value>) -> Vec<Value> {
    let taken: Vec<Taken> = entries.iter().map(Taken::of).collect();
    // From the bottom: what stays below an entry is known when it is looked at.
    let mut kept: Vec<usize> = Vec::new();
    for place in (0..entries.len()).rev() {
        let own = &taken[place];
        let mut below = kept.iter().rev().map(|below| &taken[*below]);
        let decides = below.find(|one| {
            own.actions == one.actions && own.is_within(one)
                || own.actions != one.actions && !own.is_apart_from(one)
        });
        if !decides.is_some_and(|one| own.actions == one.actions) {
            kept.push(place);
        }
    }
    let mut stays = vec![false; entries.len()];
    kept.into_iter().for_each(|place| stays[place] = true);
    entries.into_iter().zip(stays).filter(|(_, stays)| *stays).map(|(entry, _)| entry).collect()
}

#[cfg(test)]
mod tests {
    use super::fewer;
    use serde_json::{Value, json};

    fn entry(name: &str, action: &str, matches: Value) -> Value {
        json!({ "name": name, "matches": matches, "actions": { "forwarding": action } })
    }

    fn names(entries: Vec<Value>) -> Vec<String> {
        fewer(entries).iter().filter_map(|one| one["name"].as_str().map(str::to_owned)).collect()
    }

    #[test]
    fn only_what_changes_nothing_is_left_out() {
        let net = |net: &str| json!({ "ipv4": { "source-ipv4-network": net } });
        let with = |net: &str, protocol: u8| json!({ "ipv4": { "source-ipv4-network": net, "protocol": protocol } });
        let end = || entry("end", "drop", json!({}));
        let inner = || entry("inner", "drop", net("10.44.24.0/28"));
        assert_eq!(names(vec![inner(), end()]), ["end"]);
        // Something between lets some of it pass.
        let open = |matches| entry("open", "accept", matches);
        assert_eq!(
            names(vec![inner(), open(net("10.44.24.0/24")), end()]),
            ["inner", "open", "end"]
        );
        assert_eq!(names(vec![inner(), open(json!({})), end()]), ["inner", "open", "end"]);
        assert_eq!(names(vec![inner(), open(net("10.44.25.0/24")), end()]), ["open", "end"]);
        let udp = || entry("udp", "drop", with("10.44.24.0/28", 17));
        assert_eq!(names(vec![udp(), open(with("10.44.24.0/24", 6)), end()]), ["open", "end"]);
        assert_eq!(
            names(vec![udp(), open(with("10.44.24.0/24", 17)), end()]),
            ["udp", "open", "end"]
        );
        // Another kind of refusal, and an end that takes less.
        assert_eq!(names(vec![entry("no", "reject", net("10.44.24.0/28")), end()]), ["no", "end"]);
        assert_eq!(
            names(vec![inner(), entry("less", "drop", with("10.44.24.0/24", 6))]),
            ["inner", "less"]
        );
        let port = |port: u16| json!({ "ipv4": { "protocol": 6 }, "tcp": { "destination-port": { "operator": "eq", "port": port } } });
        assert_eq!(names(vec![open(port(80)), open(port(80)), open(port(81))]), ["open", "open"]);
    }
}
