//! Reads a configuration file for dnsmasq: each line becomes what it says, or is reported as unknown.

use super::LONGEST_LINE;
use std::collections::BTreeSet;
use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// Something that such a file says.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Fact {
    /// A setting for all of it.
    Setting(String),
    /// It answers on an interface.
    Serves(String),
    /// It leases no address on an interface.
    LeasesNone(String),
    /// It leases addresses from one to another, under a tag.
    Pool { tag: String, first: Ipv4Addr, last: Ipv4Addr, mask: Ipv4Addr },
    /// It leases fixed addresses alone.
    Fixed { tag: String, prefix: Ipv4Addr, mask: Ipv4Addr },
    /// It announces a prefix, from which devices make their own addresses.
    Announces { tag: String, prefix: Ipv6Addr, length: u8 },
    /// How often it announces on an interface.
    Interval(String),
    /// What it says along with a lease; `None` where it says that there is none.
    Option { tag: String, name: String, value: Option<IpAddr> },
    /// A fixed address of a device.
    Reservation { mac: String, address: Ipv4Addr, name: String },
    /// An address of a name.
    Name { name: String, address: IpAddr },
    /// Addresses of a domain go into a set for each family.
    Domain { name: String, v4: String, v6: String },
}

impl fmt::Display for Fact {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Setting(word) => write!(f, "`{word}`"),
            Self::Serves(interface) => write!(f, "service on {interface}"),
            Self::LeasesNone(interface) => write!(f, "no leases on {interface}"),
            Self::Pool { tag, first, last, mask } => {
                write!(f, "leases in {tag} from {first} to {last}, mask {mask}")
            }
            Self::Fixed { tag, prefix, mask } => {
                write!(f, "fixed leases in {tag}, {prefix}, mask {mask}")
            }
            Self::Announces { tag, prefix, length } => {
                write!(f, "the prefix {prefix}/{length} announced in {tag}")
            }
            Self::Interval(words) => write!(f, "announcements: {words}"),
            Self::Option { tag, name, value: Some(value) } => {
                write!(f, "the option {name} {value} in {tag}")
            }
            Self::Option { tag, name, value: None } => write!(f, "an empty option {name} in {tag}"),
            Self::Reservation { mac, address, name } => {
                write!(f, "the address {address} for {name}, {mac}")
            }
            Self::Name { name, address } => write!(f, "the address {address} of {name}"),
            Self::Domain { name, v4, v6 } => {
                write!(f, "the domain {name} in the sets {v4} and {v6}")
            }
        }
    }
}

/// What a file says; and its lines that are not understood, or say something twice.
pub(super) fn read(text: &str) -> (BTreeSet<Fact>, Vec<String>) {
    let (mut facts, mut unread) = (BTreeSet::new(), Vec::new());
    for (number, line) in (1..).zip(text.split('\n')) {
        if line.len() > LONGEST_LINE {
            unread.push(format!("line {number}: longer than dnsmasq reads"));
            continue;
        }
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        match of_line(line) {
            Some(said) => {
                for fact in said {
                    let says = format!("line {number}: {fact}, a second time");
                    if !facts.insert(fact) {
                        unread.push(says);
                    }
                }
            }
            None => unread.push(format!("line {number}: `{line}`")),
        }
    }
    (facts, unread)
}

/// What a line says; `None` where that is not known.
fn of_line(line: &str) -> Option<Vec<Fact>> {
    // What follows a space and a hash would be a remark, and a quote would join words.
    if line.contains(|c: char| c.is_whitespace() || c.is_control() || "\"\\".contains(c)) {
        return None;
    }
    let Some((key, value)) = line.split_once('=') else {
        return Some(vec![Fact::Setting(line.to_owned())]);
    };
    let words: Vec<&str> = value.split(',').collect();
    let fact = match (key, words.as_slice()) {
        ("interface", [name]) => Fact::Serves((*name).to_owned()),
        ("no-dhcp-interface", [name]) => Fact::LeasesNone((*name).to_owned()),
        ("ra-param", _) => Fact::Interval(value.to_owned()),
        ("dhcp-range", [tag, first, last, mask, super::LEASE]) => {
            range(tag.strip_prefix("set:")?, first, last, mask)?
        }
        ("dhcp-option", [tag, option, value @ ..]) => {
            let tag = tag.strip_prefix("tag:")?.to_owned();
            let (space, name) = option.split_once(':')?;
            let value = match (space, value) {
                ("option" | "option6", []) => None,
                ("option", [one]) => Some(IpAddr::V4(one.parse().ok()?)),
                ("option6", [one]) => {
                    let inner = one.strip_prefix('[')?.strip_suffix(']')?;
                    Some(IpAddr::V6(inner.parse().ok()?))
                }
                _ => return None,
            };
            Fact::Option { tag, name: format!("{space}:{name}"), value }
        }
        ("dhcp-host", [mac, address, name]) => Fact::Reservation {
            mac: (*mac).to_owned(),
            address: address.parse().ok()?,
            name: (*name).to_owned(),
        },
        ("host-record", [short, long, addresses @ ..]) if !addresses.is_empty() => {
            let own = |address: &&str| -> Option<[Fact; 2]> {
                let address: IpAddr = address.parse().ok()?;
                Some([short, long].map(|name| Fact::Name { name: (*name).to_owned(), address }))
            };
            let all: Option<Vec<[Fact; 2]>> = addresses.iter().map(own).collect();
            return Some(all?.into_iter().flatten().collect());
        }
        ("nftset", [first, second]) => return sets(first, second),
        ("domain" | "local", [_]) => Fact::Setting(line.to_owned()),
        _ => return None,
    };
    Some(vec![fact])
}

fn range(tag: &str, first: &str, last: &str, mask: &str) -> Option<Fact> {
    let tag = tag.to_owned();
    if last == "ra-stateless" {
        return Some(Fact::Announces {
            tag,
            prefix: first.parse().ok()?,
            length: mask.parse().ok()?,
        });
    }
    let (first, mask) = (first.parse().ok()?, mask.parse().ok()?);
    if last == "static" {
        return Some(Fact::Fixed { tag, prefix: first, mask });
    }
    Some(Fact::Pool { tag, first, last: last.parse().ok()?, mask })
}

/// `/name/name/4#inet#table#set` and `6#inet#table#set`.
fn sets(first: &str, second: &str) -> Option<Vec<Fact>> {
    let (names, v4) = first.strip_prefix('/')?.rsplit_once('/')?;
    let (v4, v6) = (v4.strip_prefix("4#")?, second.strip_prefix("6#")?);
    let of =
        |name: &str| Fact::Domain { name: name.to_owned(), v4: v4.to_owned(), v6: v6.to_owned() };
    Some(names.split('/').map(of).collect())
}
