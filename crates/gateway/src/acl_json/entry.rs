//! One entry of an access control list: what its headers match, leaf by leaf (RFC 8519, 4.2).

use bastium_core::plan::Action;
use bastium_core::space::{AddressSet, Family, Protocol, ServiceSet};
use serde_json::Value;
use std::collections::BTreeMap;

/// The containers of a header, leaf by leaf.
pub(super) type Leaves = BTreeMap<String, Value>;

/// Which segments of TCP an entry takes: those with these flags, whatever else is set.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Segments {
    ack: bool,
    rst: bool,
}

/// What comes back over TCP: no entry that asks for one flag takes both.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Answer {
    /// With ACK, and no reset.
    GoesOn,
    /// A reset without ACK.
    Resets,
}

/// An entry of a list.
#[derive(Clone, Debug)]
pub(crate) struct Entry {
    /// What it is called there.
    pub(crate) name: String,
    /// What it does; `None` where that is not one of the module's three.
    pub(crate) action: Option<Action>,
    pub(crate) log: bool,
    /// Addresses as they stand there, of the entry's families alone.
    pub(crate) source: AddressSet,
    pub(crate) destination: AddressSet,
    /// Where it goes to: protocols, ports, ICMP types.
    pub(crate) service: ServiceSet,
    /// The ports that it comes from; `None` for any.
    pub(crate) from: Option<ServiceSet>,
    /// Which segments of TCP it takes.
    pub(crate) segments: Segments,
    pub(crate) ingress: Option<String>,
    pub(crate) egress: Option<String>,
    /// How many packets it has taken, where that is counted.
    pub(crate) hits: Option<u64>,
    /// What of it was not understood.
    pub(crate) unclear: Vec<String>,
}

impl Entry {
    /// Whether it takes what opens a TCP connection from some ports. Packets are distinguished by the ports that they go to
    /// alone, so that which connections these are cannot be said.
    pub(crate) fn opens_from_ports(&self) -> bool {
        let tcp = ServiceSet::protocol(Protocol::TCP);
        let takes = !self.service.intersection(&tcp).is_empty();
        takes && self.from.is_some() && !self.segments.are_answers()
    }

    pub(super) fn narrow(&mut self, service: &ServiceSet) {
        self.service = self.service.intersection(service);
    }
}

/// The leaves of a network header.
pub(super) fn header(entry: &mut Entry, leaves: &Leaves, family: Family) {
    let word = if family == Family::V6 { "ipv6" } else { "ipv4" };
    for (leaf, value) in leaves {
        let prefix = || -> Option<AddressSet> {
            let net: ipnet::IpNet = value.as_str()?.parse().ok()?;
            (Family::of(net.addr()) == family).then(|| net.into())
        };
        if leaf == "protocol" {
            match number(value) {
                Ok(number) => entry.narrow(&ServiceSet::protocol(Protocol(number))),
                Err(why) => entry.unclear.push(format!("`{leaf}`{why}")),
            }
        } else if *leaf == format!("source-{word}-network") {
            match prefix() {
                Some(set) => entry.source = entry.source.intersection(&set),
                None => entry.unclear.push(format!("`{leaf}`, which is no prefix")),
            }
        } else if *leaf == format!("destination-{word}-network") {
            match prefix() {
                Some(set) => entry.destination = entry.destination.intersection(&set),
                None => entry.unclear.push(format!("`{leaf}`, which is no prefix")),
            }
        } else {
            entry.unclear.push(format!("`{leaf}`"));
        }
    }
}

/// A leaf of the header of TCP or UDP.
pub(super) fn transport(
    entry: &mut Entry,
    protocol: Protocol,
    leaf: &str,
    value: &Value,
) -> Result<(), &'static str> {
    let set = |value: &Value| -> Result<ServiceSet, &'static str> {
        let spans = ports(value).ok_or(", which are no ports")?;
        let each = spans.iter().map(|(low, high)| ServiceSet::ports(protocol, *low, *high));
        Ok(each.fold(ServiceSet::empty(), |all, one| all.union(&one)))
    };
    match leaf {
        "destination-port" => entry.narrow(&set(value)?),
        "source-port" => entry.from = Some(set(value)?),
        "flags" if protocol == Protocol::TCP => {
            entry.segments = value.as_str().and_then(Segments::of_flags).ok_or("")?;
        }
        _ => return Err(""),
    }
    Ok(())
}

pub(super) fn icmp(entry: &mut Entry, leaves: &Leaves, family: Family) {
    // Which of the two it is, the header says; else the family.
    let named = [Protocol::ICMP, Protocol::ICMP_V6].into_iter();
    let mut named = named.filter(|one| entry.service == ServiceSet::protocol(*one));
    let usual = if family == Family::V6 { Protocol::ICMP_V6 } else { Protocol::ICMP };
    let protocol = named.next().unwrap_or(usual);
    let mut of = |leaf: &str| -> Option<u8> {
        let read = number(leaves.get(leaf)?);
        read.map_err(|why| entry.unclear.push(format!("`icmp {leaf}`{why}"))).ok()
    };
    let own = match (of("type"), of("code")) {
        (Some(kind), code) => ServiceSet::icmp_types(protocol, &[kind], code),
        (None, _) => ServiceSet::protocol(protocol),
    };
    let others = leaves.keys().filter(|leaf| !["type", "code"].contains(&leaf.as_str()));
    entry.unclear.extend(others.map(|leaf| format!("`icmp {leaf}`")));
    if leaves.contains_key("code") && !leaves.contains_key("type") {
        entry.unclear.push("`icmp code` without a type".to_owned());
    }
    entry.narrow(&ServiceSet::both(own.v4.union(&own.v6)));
}

/// A number of one octet.
fn number(value: &Value) -> Result<u8, String> {
    match value {
        Value::Number(number) => number
            .as_u64()
            .and_then(|number| u8::try_from(number).ok())
            .ok_or_else(|| format!(" {number}, which is not 0 to 255")),
        _ => Err(", which is no number".to_owned()),
    }
}

impl Segments {
    /// Those with all of these flags; `None` where they may open a connection.
    fn of_flags(flags: &str) -> Option<Self> {
        let mut all = flags.split(' ');
        all.try_fold(Self::default(), |known, flag| match flag {
            "ack" => Some(Self { ack: true, ..known }),
            "rst" => Some(Self { rst: true, ..known }),
            _ => None,
        })
    }

    /// Whether it takes none that opens a connection.
    pub(crate) fn are_answers(self) -> bool {
        self.ack || self.rst
    }

    /// Whether it takes answers of a kind.
    pub(crate) fn have(self, answer: Answer) -> bool {
        match answer {
            Answer::GoesOn => !self.rst,
            Answer::Resets => !self.ack,
        }
    }
}

/// Ports by an operator, or from and to; nothing else may stand beside them.
fn ports(value: &Value) -> Option<Vec<(u16, u16)>> {
    let leaves = value.as_object()?;
    let only = |known: [&str; 2]| leaves.keys().all(|leaf| known.contains(&leaf.as_str()));
    let number = |leaf: &str| value[leaf].as_u64().and_then(|n| u16::try_from(n).ok());
    if only(["lower-port", "upper-port"]) {
        let (low, high) = (number("lower-port")?, number("upper-port")?);
        return (low <= high).then(|| vec![(low, high)]);
    }
    if !only(["operator", "port"]) {
        return None;
    }
    let port = number("port")?;
    let operator = match leaves.get("operator") {
        None => "eq",
        Some(operator) => operator.as_str()?,
    };
    match operator {
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
        assert_eq!(read(r#"{"operator": "eq", "port": 1, "upper-port": 9}"#), None);
        assert_eq!(read(r#"{"lower-port": 1}"#), None);
    }
}
