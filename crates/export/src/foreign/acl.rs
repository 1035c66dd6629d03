//! Access control lists of RFC 8519, in the JSON of RFC 7951.

use super::{Foreign, ForeignLine, Named, NotAList, Obscure, Ways};
use bastium_core::plan::{Action, Plan};
use bastium_core::rules::BareLine;
use bastium_core::space::{AddressSet, IntervalSet, Leg, Match, Protocol, ServiceSet};
use serde_json::Value;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

const MODULE: &str = "ietf-access-control-list";

/// The lists in a file, if it has any.
pub(super) fn lists(json: &Value) -> Option<&Value> {
    json.get(format!("{MODULE}:acls")).or_else(|| json.get("acls"))
}

/// Reads the lists: those that are put on interfaces, on what enters there; else all of them, in order.
pub(super) fn read(acls: &Value, plan: Option<&Plan>) -> Result<Foreign, NotAList> {
    let all: Vec<&Value> = acls["acl"].as_array().into_iter().flatten().collect();
    let points = acls["attachment-points"]["interface"].as_array();
    let points: Vec<&Value> = points.into_iter().flatten().collect();
    let ways = plan.map_or_else(|| Ways::between(names(&all, &points)), Ways::of)?;
    let named = Named::of(plan);
    let mut reader = Reader { ways, named, lines: Vec::new(), obscure: Vec::new() };
    for point in &points {
        let interface = point["interface-id"].as_str().unwrap_or_default();
        // These lists see packets as they come, before anything is translated.
        let here = reader.ways.entering(|name| name == interface);
        let here = here.difference(&reader.ways.translated());
        if !point["egress"]["acl-sets"]["acl-set"].is_null() {
            let at = format!("interface {interface}");
            reader.obscure.push(Obscure { at, what: "lists for what goes out".to_owned() });
        }
        let sets = point["ingress"]["acl-sets"]["acl-set"].as_array();
        let mut any = false;
        for name in sets.into_iter().flatten().filter_map(|set| set["name"].as_str()) {
            if let Some(list) = all.iter().find(|list| list["name"] == name) {
                reader.list(list, &here);
                any = true;
            } else {
                let at = format!("interface {interface}");
                let what = format!("the list {name}, which is not there");
                reader.obscure.push(Obscure { at, what });
            }
        }
        if any {
            reader.end(&format!("interface {interface}, its end"), here);
        }
    }
    if points.is_empty() {
        let from_outside = reader.ways.some(|from| from != reader.ways.plain, |_| true);
        for list in &all {
            reader.list(list, &from_outside);
        }
        reader.end("the end", from_outside);
    }
    let rules = reader.lines.iter().filter(|line| !line.end).count();
    Ok(Foreign {
        ways: reader.ways,
        lines: reader.lines,
        obscure: reader.obscure,
        replies: None,
        rules,
        exhausted: false,
        ruleset: None,
    })
}

fn names(all: &[&Value], points: &[&Value]) -> Vec<String> {
    let mut names: Vec<String> = Vec::new();
    let attached = points.iter().filter_map(|point| point["interface-id"].as_str());
    let aces = all.iter().filter_map(|list| list["aces"]["ace"].as_array()).flatten();
    let matched = aces.flat_map(|ace| {
        ["ingress-interface", "egress-interface"].map(|leaf| ace["matches"][leaf].as_str())
    });
    for name in attached.chain(matched.flatten()) {
        if !names.iter().any(|known| known == name) {
            names.push(name.to_owned());
        }
    }
    names
}

struct Reader {
    ways: Ways,
    named: Named,
    lines: Vec<ForeignLine>,
    obscure: Vec<Obscure>,
}

impl Reader {
    fn list(&mut self, list: &Value, here: &IntervalSet<Leg>) {
        let name = list["name"].as_str().unwrap_or_default();
        for ace in list["aces"]["ace"].as_array().into_iter().flatten() {
            let ace_name = ace["name"].as_str().unwrap_or_default();
            let at = format!("{name}, {ace_name}");
            let leaf = |value: &Value| -> String {
                let word = value.as_str().unwrap_or_default();
                word.rsplit(':').next().unwrap_or_default().to_owned()
            };
            let action = match leaf(&ace["actions"]["forwarding"]).as_str() {
                "accept" => Action::Allow,
                "reject" => Action::Reject,
                "drop" => Action::Block,
                other => {
                    let what = format!("`forwarding {other}`");
                    self.obscure.push(Obscure { at, what });
                    continue;
                }
            };
            let log = leaf(&ace["actions"]["logging"]) == "log-syslog";
            let family = list["type"].as_str().unwrap_or_default();
            let (product, sure) = self.matches(&ace["matches"], family, &at);
            let enters = product.enters.intersection(here);
            let matches = vec![Match { enters, ..product }];
            let number = self.lines.len() as u32 + 1;
            let bare = BareLine::new(ace_name, number, matches, action, log);
            let counted = &ace["statistics"]["matched-packets"];
            let hits = counted.as_u64().or_else(|| counted.as_str()?.parse().ok());
            self.lines.push(ForeignLine { bare, at, sure, hits, end: false });
        }
    }

    /// What no entry takes is dropped.
    fn end(&mut self, at: &str, here: IntervalSet<Leg>) {
        let rest = vec![Match { enters: here, ..Match::everything() }];
        let bare =
            BareLine::new("the end", self.lines.len() as u32 + 1, rest, Action::Block, false);
        self.lines.push(ForeignLine { bare, at: at.to_owned(), sure: true, hits: None, end: true });
    }

    fn matches(&mut self, matches: &Value, family: &str, at: &str) -> (Match, bool) {
        let mut product = Match::everything();
        let mut unclear: Vec<String> = Vec::new();
        let full = |v6: bool| match v6 {
            false => AddressSet::range(Ipv4Addr::UNSPECIFIED.into(), Ipv4Addr::BROADCAST.into()),
            true => AddressSet::range(
                Ipv6Addr::UNSPECIFIED.into(),
                IpAddr::V6(Ipv6Addr::from_bits(u128::MAX)),
            ),
        };
        if family.contains("ipv6") && !family.contains("ipv4") {
            product.source = full(true);
        } else if family.contains("ipv4") && !family.contains("ipv6") {
            product.source = full(false);
        }
        let mut protocol = None;
        for (key, value) in matches.as_object().into_iter().flatten() {
            match key.as_str() {
                "ipv4" | "ipv6" => {
                    product.source = product.source.intersection(&full(key == "ipv6"));
                    for (leaf, value) in value.as_object().into_iter().flatten() {
                        let prefix = value.as_str().and_then(|word| self.named.meant(word));
                        match (leaf.as_str(), prefix) {
                            ("protocol", _) => match number(value) {
                                Some(number) => protocol = Some(number),
                                None => unclear.push(out_of_range("protocol", value)),
                            },
                            (leaf, Some(set)) if leaf.starts_with("source-") => {
                                product.source = product.source.intersection(&set);
                            }
                            (leaf, Some(set)) if leaf.starts_with("destination-") => {
                                product.destination = product.destination.intersection(&set);
                            }
                            _ => unclear.push(format!("`{leaf}`")),
                        }
                    }
                }
                "ingress-interface" => {
                    let name = value.as_str().unwrap_or_default();
                    let legs = self.ways.entering(|own| own == name);
                    product.enters = product.enters.intersection(&legs);
                }
                "egress-interface" => {
                    let name = value.as_str().unwrap_or_default();
                    let legs = self.ways.leaving(|own| own == name);
                    product.enters = product.enters.intersection(&legs);
                }
                "tcp" | "udp" | "icmp" => {}
                other => unclear.push(format!("`{other}`")),
            }
        }
        let mut service = match protocol {
            Some(number) => ServiceSet::protocol(Protocol(number)),
            None => ServiceSet::any(),
        };
        for (kind, number) in [("tcp", 6u8), ("udp", 17)] {
            let header = &matches[kind];
            let Some(leaves) = header.as_object() else { continue };
            if leaves.get("flags").and_then(Value::as_str).is_some_and(answers) {
                // A packet that answers begins no conversation.
                return (Match { enters: IntervalSet::empty(), ..product }, true);
            }
            service = service.intersection(&ServiceSet::protocol(Protocol(number)));
            for (leaf, value) in leaves {
                match (leaf.as_str(), ports(value)) {
                    ("destination-port", Some(spans)) => {
                        let own =
                            spans.iter().map(|(a, b)| ServiceSet::ports(Protocol(number), *a, *b));
                        let own = own.fold(ServiceSet::empty(), |all, one| all.union(&one));
                        service = service.intersection(&own);
                    }
                    _ => unclear.push(format!("`{kind} {leaf}`")),
                }
            }
        }
        if let Some(leaves) = matches["icmp"].as_object() {
            let v6 = matches.get("ipv6").is_some();
            let number_of_icmp = if v6 { Protocol::ICMP_V6 } else { Protocol::ICMP };
            let mut of = |leaf: &str| -> Option<u8> {
                let value = leaves.get(leaf)?;
                let read = number(value);
                if read.is_none() {
                    unclear.push(out_of_range(leaf, value));
                }
                read
            };
            let own = match (of("type"), of("code")) {
                (Some(kind), code) => ServiceSet::icmp_types(number_of_icmp, &[kind], code),
                (None, _) => ServiceSet::protocol(number_of_icmp),
            };
            let others = leaves.keys().filter(|leaf| !["type", "code"].contains(&leaf.as_str()));
            unclear.extend(others.map(|leaf| format!("`icmp {leaf}`")));
            if leaves.contains_key("code") && !leaves.contains_key("type") {
                unclear.push("`icmp code` without a type".to_owned());
            }
            service = service.intersection(&own);
        }
        product.service = service;
        let sure = unclear.is_empty();
        self.obscure.extend(unclear.into_iter().map(|what| Obscure { at: at.to_owned(), what }));
        (product, sure)
    }
}

/// A number of one octet; `None` where it is none, or does not fit.
fn number(value: &Value) -> Option<u8> {
    value.as_u64().and_then(|number| u8::try_from(number).ok())
}

fn out_of_range(leaf: &str, value: &Value) -> String {
    match value {
        Value::Number(number) => format!("`{leaf} {number}`, which is not 0 to 255"),
        _ => format!("`{leaf}`, which is no number"),
    }
}

/// Whether flags of TCP are those of a packet that belongs to a conversation already.
fn answers(flags: &str) -> bool {
    flags.split(' ').all(|flag| flag == "ack" || flag == "rst")
}

/// Ports by an operator, or from and to.
fn ports(value: &Value) -> Option<Vec<(u16, u16)>> {
    let number = |leaf: &str| value[leaf].as_u64().and_then(|n| u16::try_from(n).ok());
    if let (Some(low), Some(high)) = (number("lower-port"), number("upper-port")) {
        return (low <= high).then(|| vec![(low, high)]);
    }
    let port = number("port")?;
    match value["operator"].as_str().unwrap_or("eq") {
        "eq" => Some(vec![(port, port)]),
        "lte" => Some(vec![(0, port)]),
        "gte" => Some(vec![(port, u16::MAX)]),
        "neq" => {
            let below = port.checked_sub(1).map(|last| (0, last));
            let above = port.checked_add(1).map(|first| (first, u16::MAX));
            Some([below, above].into_iter().flatten().collect())
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ports_are_read_by_every_operator() {
        let read = |text: &str| ports(&serde_json::from_str(text).expect("JSON"));
        assert_eq!(read(r#"{"port": 443}"#), Some(vec![(443, 443)]));
        assert_eq!(read(r#"{"operator": "neq", "port": 0}"#), Some(vec![(1, u16::MAX)]));
        assert_eq!(read(r#"{"lower-port": 1, "upper-port": 9}"#), Some(vec![(1, 9)]));
        assert_eq!(read(r#"{"operator": "other", "port": 1}"#), None);
    }
}
