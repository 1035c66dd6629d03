//! What a test of the kernel's tool asks for, as packets.

use super::super::nft_words::{icmp_code, icmp_type, protocol};
use super::{ChainKey, Reader};
use bastium_core::space::{
    AddressSet, IntervalSet, Match, Minute, PacketSet, Protocol, ServiceSet, time_of_day,
};
use serde_json::Value;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

impl Reader<'_> {
    /// The packets that pass a test; `None` where it has no meaning here.
    pub(super) fn test(&self, key: &ChainKey, test: &Value) -> Option<PacketSet> {
        let not = match test["op"].as_str()? {
            "==" | "in" => false,
            "!=" | "!" => true,
            _ => return None,
        };
        let (left, right) = (&test["left"], &test["right"]);
        if let Some(parts) = left["concat"].as_array() {
            let mut all = PacketSet::empty();
            for value in self.values(key, right)? {
                let values = value["concat"].as_array()?.clone();
                let mut one = self.everything();
                let services = self.joint_service(parts, &values);
                for (part, value) in parts.iter().zip(&values) {
                    if services.is_none() || !is_of_service(part) {
                        one = one.intersection(&self.single(part, value)?);
                    }
                }
                if let Some(service) = services {
                    one = one.intersection(&self.services(service));
                }
                all = all.union(&one);
            }
            let whole = if not { self.everything().difference(&all) } else { all };
            return Some(whole.intersection(&self.families_of(parts)));
        }
        if let Some(word) = right.as_str().filter(|_| left["ct"]["key"] == "status") {
            let translated = self.on(self.ways.translated());
            return match (word, not) {
                ("dnat", false) => Some(translated),
                ("dnat", true) => Some(self.everything().difference(&translated)),
                _ => None,
            };
        }
        if left["ct"]["key"] == "state" {
            return self.state(right, not);
        }
        if left["ct"]["key"] == "mark" && !self.marks_decide {
            // What begins a conversation has none.
            let zero = right.as_u64() == Some(0);
            return Some(if zero == not { PacketSet::empty() } else { self.everything() });
        }
        let mut all = PacketSet::empty();
        for value in self.values(key, right)? {
            all = all.union(&self.single(left, &value)?);
        }
        if not {
            // What has no such field passes no test about it.
            let could = self.families_of(std::slice::from_ref(left));
            let could = could.intersection(&self.protocols_of(left));
            return Some(could.difference(&all));
        }
        Some(all)
    }

    /// Of a conversation only the first packet counts.
    fn state(&self, right: &Value, not: bool) -> Option<PacketSet> {
        let words: Vec<&str> = match right {
            Value::String(word) => vec![word],
            Value::Array(all) => all.iter().filter_map(Value::as_str).collect(),
            other => other["set"].as_array()?.iter().filter_map(Value::as_str).collect(),
        };
        let first = words.iter().any(|word| ["new", "untracked"].contains(word));
        Some(if first != not { self.everything() } else { PacketSet::empty() })
    }

    /// The single values that a test asks for.
    fn values(&self, key: &ChainKey, right: &Value) -> Option<Vec<Value>> {
        if let Some(name) = right.as_str().and_then(|word| word.strip_prefix('@')) {
            if self.domains.contains_key(name) {
                return Some(vec![right.clone()]);
            }
            let named = (key.0.clone(), key.1.clone(), name.to_owned());
            let set = self.sets.get(&named)?;
            // One that is filled from outside holds what nobody can know.
            let flags = set["flags"].as_array().into_iter().flatten();
            let mut flags = flags.filter_map(Value::as_str);
            if flags.any(|flag| flag == "dynamic" || flag == "timeout") {
                return None;
            }
            return Some(set["elem"].as_array()?.iter().map(unwrapped).collect());
        }
        match right.get("set").and_then(Value::as_array) {
            Some(all) => Some(all.iter().map(unwrapped).collect()),
            None => match right {
                Value::Array(all) => Some(all.clone()),
                one => Some(vec![one.clone()]),
            },
        }
    }

    /// The packets of which one field has one value, or one of a range.
    fn single(&self, left: &Value, value: &Value) -> Option<PacketSet> {
        let everything = Match::everything();
        if let Some(meta) = left["meta"]["key"].as_str() {
            return self.meta(meta, value);
        }
        let payload = &left["payload"];
        let (protocol, field) = (payload["protocol"].as_str()?, payload["field"].as_str()?);
        match (protocol, field) {
            ("ip" | "ip6", "saddr" | "daddr") => {
                let set = self.addresses(value)?;
                let product = match field {
                    "saddr" => Match { source: set, ..everything },
                    _ => Match { destination: set, ..everything },
                };
                Some(product.into())
            }
            ("ip", "protocol") | ("ip6", "nexthdr") => {
                let family = of_family(protocol);
                Some(self.meta("l4proto", value)?.intersection(&family))
            }
            ("tcp" | "udp" | "sctp" | "dccp" | "udplite" | "th", "dport") => {
                let (low, high) = numbers(value, |_| None)?;
                let all = [6u8, 17, 132, 33, 136];
                let named = super::super::nft_words::protocol(protocol);
                let these = all.into_iter().filter(|number| named.is_none_or(|n| n == *number));
                let spans = these.map(|number| ServiceSet::ports(Protocol(number), low, high));
                Some(self.services(spans.fold(ServiceSet::empty(), |all, own| all.union(&own))))
            }
            ("icmp" | "icmpv6", "type") => {
                let v6 = protocol == "icmpv6";
                let (low, high) = numbers(value, |word| icmp_type(word, v6).map(u16::from))?;
                let kinds: Vec<u8> = (low..=high).filter_map(|n| u8::try_from(n).ok()).collect();
                let number = if v6 { Protocol::ICMP_V6 } else { Protocol::ICMP };
                Some(self.services(ServiceSet::icmp_types(number, &kinds, None)))
            }
            ("icmp" | "icmpv6", "code") => {
                let v6 = protocol == "icmpv6";
                let (low, high) = numbers(value, |word| icmp_code(word, v6).map(u16::from))?;
                let number = if v6 { Protocol::ICMP_V6 } else { Protocol::ICMP };
                let kinds: Vec<u8> = (0..=u8::MAX).collect();
                let each = (low..=high).filter_map(|code| u8::try_from(code).ok());
                let each = each.map(|code| ServiceSet::icmp_types(number, &kinds, Some(code)));
                Some(self.services(each.fold(ServiceSet::empty(), |all, own| all.union(&own))))
            }
            _ => None,
        }
    }

    fn meta(&self, meta: &str, value: &Value) -> Option<PacketSet> {
        match meta {
            "iifname" | "iif" | "oifname" | "oif" => {
                let name = value.as_str()?;
                let fits = |own: &str| match name.strip_suffix('*') {
                    Some(begin) => own.starts_with(begin),
                    None => own == name,
                };
                let legs = match meta.starts_with('i') {
                    true => self.ways.entering(fits),
                    false => self.ways.leaving(fits),
                };
                Some(self.on(legs))
            }
            "l4proto" => {
                let (low, high) = numbers(value, |word| protocol(word).map(u16::from))?;
                let each = (low..=high).filter_map(|number| u8::try_from(number).ok());
                let each = each.map(|number| ServiceSet::protocol(Protocol(number)));
                Some(self.services(each.fold(ServiceSet::empty(), |all, own| all.union(&own))))
            }
            "nfproto" | "protocol" => Some(of_family(match value.as_str()? {
                "ipv4" | "ip" => "ip",
                "ipv6" | "ip6" => "ip6",
                _ => return None,
            })),
            "day" => {
                let names =
                    ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
                let word = value.as_str()?;
                let day = names.iter().position(|name| *name == word)? as u16;
                let first = day * Minute::PER_DAY;
                Some(self.at(&[(first, first + Minute::PER_DAY - 1)]))
            }
            "hour" => {
                let range = value["range"].as_array()?;
                let minute = |value: &Value| -> Option<(u16, bool)> {
                    let word = value.as_str()?;
                    Some((time_of_day(word.get(..5)?)?, word.len() > 5))
                };
                let ((from, odd), (to, exact)) = (minute(range.first()?)?, minute(range.get(1)?)?);
                if odd || !exact || from > to {
                    return None;
                }
                let days =
                    (0..7).map(|day| (day * Minute::PER_DAY + from, day * Minute::PER_DAY + to));
                Some(self.at(&days.collect::<Vec<_>>()))
            }
            _ => None,
        }
    }

    fn at(&self, spans: &[(u16, u16)]) -> PacketSet {
        let spans = spans.iter().map(|(low, high)| (Minute::new(*low), Minute::new(*high)));
        Match { at: IntervalSet::from_spans(spans), ..Match::everything() }.into()
    }

    fn services(&self, service: ServiceSet) -> PacketSet {
        Match { service, ..Match::everything() }.into()
    }

    /// Protocol and port, or ICMP type and code, asked for together.
    fn joint_service(&self, parts: &[Value], values: &[Value]) -> Option<ServiceSet> {
        let field = |part: &Value| part["payload"]["field"].as_str().map(str::to_owned);
        let at = |name: &str| parts.iter().position(|p| field(p).as_deref() == Some(name));
        let kind = parts.iter().position(|p| p["meta"]["key"] == "l4proto");
        if let (Some(kind), Some(port)) = (kind, at("dport")) {
            let number = numbers(&values[kind], |word| protocol(word).map(u16::from))?.0;
            let (low, high) = numbers(&values[port], |_| None)?;
            return Some(ServiceSet::ports(Protocol(u8::try_from(number).ok()?), low, high));
        }
        let (kind, code) = (at("type")?, at("code")?);
        let v6 = parts[kind]["payload"]["protocol"] == "icmpv6";
        let kinds = numbers(&values[kind], |word| icmp_type(word, v6).map(u16::from))?;
        let codes = numbers(&values[code], |word| icmp_code(word, v6).map(u16::from))?;
        let number = if v6 { Protocol::ICMP_V6 } else { Protocol::ICMP };
        let kinds: Vec<u8> = (kinds.0..=kinds.1).filter_map(|n| u8::try_from(n).ok()).collect();
        let each = (codes.0..=codes.1).filter_map(|code| u8::try_from(code).ok());
        let each = each.map(|code| ServiceSet::icmp_types(number, &kinds, Some(code)));
        Some(each.fold(ServiceSet::empty(), |all, own| all.union(&own)))
    }

    fn addresses(&self, value: &Value) -> Option<AddressSet> {
        if let Some(prefix) = value.get("prefix") {
            let (address, length) = (prefix["addr"].as_str()?, prefix["len"].as_u64()?);
            return self.named.meant(&format!("{address}/{length}"));
        }
        if let Some(range) = value["range"].as_array() {
            let (low, high) = (range.first()?.as_str()?, range.get(1)?.as_str()?);
            return self.named.meant(&format!("{low}-{high}"));
        }
        let word = value.as_str()?;
        if let Some(name) = word.strip_prefix('@') {
            return self.domains.get(name).cloned();
        }
        self.named.meant(word)
    }

    /// The packets that have all of these fields, as far as the family goes.
    fn families_of(&self, parts: &[Value]) -> PacketSet {
        let mut all = self.everything();
        for part in parts {
            match part["payload"]["protocol"].as_str() {
                Some("ip" | "icmp") => all = all.intersection(&of_family("ip")),
                Some("ip6" | "icmpv6") => all = all.intersection(&of_family("ip6")),
                _ => {}
            }
        }
        all
    }

    /// The same, as far as the protocol goes.
    fn protocols_of(&self, part: &Value) -> PacketSet {
        let named = part["payload"]["protocol"].as_str().and_then(protocol);
        match named {
            Some(number) => self.services(ServiceSet::protocol(Protocol(number))),
            None => self.everything(),
        }
    }
}

fn is_of_service(part: &Value) -> bool {
    part["meta"]["key"] == "l4proto"
        || matches!(part["payload"]["field"].as_str(), Some("dport" | "type" | "code"))
}

pub(super) fn of_family(family: &str) -> PacketSet {
    let v4 = AddressSet::range(Ipv4Addr::UNSPECIFIED.into(), Ipv4Addr::BROADCAST.into());
    let v6 =
        AddressSet::range(Ipv6Addr::UNSPECIFIED.into(), IpAddr::V6(Ipv6Addr::from_bits(u128::MAX)));
    let source = match family {
        "ip" => v4,
        "ip6" => v6,
        "inet" => AddressSet::full(),
        _ => AddressSet::empty(),
    };
    Match { source, ..Match::everything() }.into()
}

fn unwrapped(value: &Value) -> Value {
    value.get("elem").map_or_else(|| value.clone(), |elem| elem["val"].clone())
}

/// A number, a name for one, or a range of either.
fn numbers(value: &Value, named: impl Fn(&str) -> Option<u16>) -> Option<(u16, u16)> {
    let one = |value: &Value| match value {
        Value::Number(number) => number.as_u64().and_then(|number| u16::try_from(number).ok()),
        Value::String(word) => word.parse().ok().or_else(|| named(word)),
        _ => None,
    };
    if let Some(range) = value["range"].as_array() {
        return Some((one(range.first()?)?, one(range.get(1)?)?));
    }
    let number = one(value)?;
    Some((number, number))
}
