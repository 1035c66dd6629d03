//! What the words of nft(8) mean for each thing that a condition can test. A word without meaning or a number out of
//! range is reported, never approximated.

use super::ruleset::{End, Key, Side, State, Value};
use bastium_core::space::{Family, time_of_day};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// A value as it is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Raw {
    One(String),
    Span(String, String),
    Prefix(String, String),
}

impl Raw {
    /// A word, which may be a prefix or a range by itself.
    pub(super) fn of(word: &str) -> Self {
        if let Some((address, length)) = word.split_once('/') {
            return Self::Prefix(address.to_owned(), length.to_owned());
        }
        match word.split_once('-') {
            Some((low, high)) if !low.is_empty() && low.chars().all(of_address) => {
                Self::Span(low.to_owned(), high.to_owned())
            }
            _ => Self::One(word.to_owned()),
        }
    }

    fn shown(&self) -> String {
        match self {
            Self::One(word) => word.clone(),
            Self::Span(low, high) => format!("{low}-{high}"),
            Self::Prefix(address, length) => format!("{address}/{length}"),
        }
    }
}

/// Numbers and addresses can be ends of ranges; words with hyphens in them are words.
fn of_address(letter: char) -> bool {
    letter.is_ascii_hexdigit() || letter == '.' || letter == ':' || letter == 'x'
}

/// What the values of a type are looked at as.
pub(super) fn typed(word: &str) -> Option<Key> {
    Some(match word {
        "ipv4_addr" => Key::Address(Family::V4, End::Source),
        "ipv6_addr" => Key::Address(Family::V6, End::Source),
        "inet_proto" => Key::Protocol(None),
        "inet_service" => Key::Port(None),
        "ifname" => Key::Interface(Side::In),
        "icmp_type" => Key::IcmpType(Family::V4),
        "icmpv6_type" => Key::IcmpType(Family::V6),
        "icmp_code" => Key::IcmpCode(Family::V4),
        "icmpv6_code" => Key::IcmpCode(Family::V6),
        "mark" => Key::Mark,
        "ct_state" => Key::State,
        _ => return None,
    })
}

/// What a written value means where a key is looked at.
///
/// # Errors
/// The words, where they mean nothing there.
pub(super) fn value(key: Key, raw: &Raw) -> Result<Value, String> {
    let odd = || raw.shown();
    match key {
        Key::Interface(_) => match raw {
            Raw::One(name) if (1..=15).contains(&name.len()) => Ok(Value::Name(name.clone())),
            _ => Err(odd()),
        },
        Key::Family => match raw {
            Raw::One(word) => match word.as_str() {
                "ipv4" | "ip" | "2" => Ok(Value::Family(Family::V4)),
                "ipv6" | "ip6" | "10" => Ok(Value::Family(Family::V6)),
                _ => Err(odd()),
            },
            _ => Err(odd()),
        },
        Key::Protocol(_) => numbers(raw, 255, protocol).ok_or_else(odd),
        Key::Port(_) => numbers(raw, 65_535, |_| None).ok_or_else(odd),
        Key::IcmpType(family) => numbers(raw, 255, |word| icmp_type(word, family)).ok_or_else(odd),
        Key::IcmpCode(family) => numbers(raw, 255, |word| icmp_code(word, family)).ok_or_else(odd),
        Key::Address(family, _) => addresses(raw, family).ok_or_else(odd),
        Key::Day => day(raw).ok_or_else(odd),
        Key::Hour => hours(raw).ok_or_else(odd),
        Key::State => match raw {
            Raw::One(word) => state(word).map(Value::State).ok_or_else(odd),
            _ => Err(odd()),
        },
        Key::Status => match raw {
            Raw::One(word) if word == "dnat" => Ok(Value::Translated),
            _ => Err(odd()),
        },
        Key::Mark => match raw {
            Raw::One(word) => mark(word).map(Value::Mark).ok_or_else(odd),
            _ => Err(odd()),
        },
        Key::Local(_) => match raw {
            Raw::One(word) if word == "local" => Ok(Value::Local),
            _ => Err(odd()),
        },
    }
}

/// A mark, in decimal or with 0x.
pub(super) fn mark(word: &str) -> Option<u32> {
    match word.strip_prefix("0x") {
        Some(digits) => u32::from_str_radix(digits, 16).ok(),
        None => digits(word)?.parse().ok(),
    }
}

/// A word of nothing but digits: `+5` and the like are no numbers of nft.
fn digits(word: &str) -> Option<&str> {
    (!word.is_empty() && word.bytes().all(|b| b.is_ascii_digit())).then_some(word)
}

fn numbers(raw: &Raw, most: u16, named: impl Fn(&str) -> Option<u8>) -> Option<Value> {
    let one = |word: &str| -> Option<u16> {
        let number = match digits(word) {
            Some(word) => word.parse().ok()?,
            None => match word.strip_prefix("0x") {
                Some(hex) => u16::from_str_radix(hex, 16).ok()?,
                None => named(word).map(u16::from)?,
            },
        };
        (number <= most).then_some(number)
    };
    match raw {
        Raw::One(word) => one(word).map(|number| Value::Numbers(number, number)),
        Raw::Span(low, high) => {
            let (low, high) = (one(low)?, one(high)?);
            (low <= high).then_some(Value::Numbers(low, high))
        }
        Raw::Prefix(..) => None,
    }
}

fn addresses(raw: &Raw, family: Family) -> Option<Value> {
    let one = |word: &str| -> Option<IpAddr> {
        let address = word.parse().ok()?;
        let is_v4 = matches!(address, IpAddr::V4(_));
        (is_v4 == (family == Family::V4)).then_some(address)
    };
    match raw {
        Raw::One(word) => one(word).map(|address| Value::Addresses(address, address)),
        Raw::Span(low, high) => {
            let (low, high) = (one(low)?, one(high)?);
            (low <= high).then_some(Value::Addresses(low, high))
        }
        Raw::Prefix(address, length) => {
            let prefix = ipnet::IpNet::new(one(address)?, digits(length)?.parse().ok()?).ok()?;
            let last = match (prefix.network(), prefix.netmask()) {
                (IpAddr::V4(first), IpAddr::V4(mask)) => {
                    Ipv4Addr::from_bits(first.to_bits() | !mask.to_bits()).into()
                }
                (IpAddr::V6(first), IpAddr::V6(mask)) => {
                    Ipv6Addr::from_bits(first.to_bits() | !mask.to_bits()).into()
                }
                _ => return None,
            };
            Some(Value::Addresses(prefix.network(), last))
        }
    }
}

fn day(raw: &Raw) -> Option<Value> {
    const DAYS: [&str; 7] =
        ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];
    let Raw::One(word) = raw else { return None };
    let word = word.to_ascii_lowercase();
    let named = (0..).zip(DAYS).find(|(_, name)| *name == word).map(|(number, _)| number);
    // nft counts days from Sunday.
    let number = named.or_else(|| Some((word.parse::<u16>().ok().filter(|n| *n < 7)? + 6) % 7));
    number.map(Value::Day)
}

/// Hours of the day. They have to begin with a minute's first second and to end with a minute's last one:
/// time is known in whole minutes here.
fn hours(raw: &Raw) -> Option<Value> {
    let Raw::Span(low, high) = raw else { return None };
    let (low, from) = clock(low)?;
    let (high, until) = clock(high)?;
    (from == 0 && until == 59 && low <= high).then_some(Value::Minutes(low, high))
}

/// A time as minute of the day and second.
fn clock(word: &str) -> Option<(u16, u16)> {
    let minute = time_of_day(word.get(..5)?).filter(|minute| *minute < 24 * 60)?;
    match word.get(5..)? {
        "" => Some((minute, 0)),
        rest => {
            let second: u16 = digits(rest.strip_prefix(':')?)?.parse().ok()?;
            (rest.len() == 3 && second < 60).then_some((minute, second))
        }
    }
}

fn state(word: &str) -> Option<State> {
    Some(match word {
        "new" => State::New,
        "established" => State::Established,
        "related" => State::Related,
        "invalid" => State::Invalid,
        "untracked" => State::Untracked,
        _ => return None,
    })
}

/// ICMP types by name (RFC 792).
const ICMP: [(&str, u8); 15] = [
    ("echo-reply", 0),
    ("destination-unreachable", 3),
    ("source-quench", 4),
    ("redirect", 5),
    ("echo-request", 8),
    ("router-advertisement", 9),
    ("router-solicitation", 10),
    ("time-exceeded", 11),
    ("parameter-problem", 12),
    ("timestamp-request", 13),
    ("timestamp-reply", 14),
    ("info-request", 15),
    ("info-reply", 16),
    ("address-mask-request", 17),
    ("address-mask-reply", 18),
];

/// ICMPv6 types by name (RFC 4443, RFC 2710, RFC 4861, RFC 3810).
const ICMP_V6: [(&str, u8); 20] = [
    ("destination-unreachable", 1),
    ("packet-too-big", 2),
    ("time-exceeded", 3),
    ("parameter-problem", 4),
    ("echo-request", 128),
    ("echo-reply", 129),
    ("mld-listener-query", 130),
    ("mld-listener-report", 131),
    ("mld-listener-done", 132),
    ("mld-listener-reduction", 132),
    ("nd-router-solicit", 133),
    ("nd-router-advert", 134),
    ("nd-neighbor-solicit", 135),
    ("nd-neighbor-advert", 136),
    ("nd-redirect", 137),
    ("router-renumbering", 138),
    ("ind-neighbor-solicit", 141),
    ("ind-neighbor-advert", 142),
    ("mld2-listener-report", 143),
    ("mld2-listener-query", 130),
];

/// Codes of "destination unreachable" by name, in IPv4 and in IPv6.
const CODES: [(&str, u8); 8] = [
    ("net-unreachable", 0),
    ("host-unreachable", 1),
    ("prot-unreachable", 2),
    ("port-unreachable", 3),
    ("frag-needed", 4),
    ("net-prohibited", 9),
    ("host-prohibited", 10),
    ("admin-prohibited", 13),
];
const CODES_V6: [(&str, u8); 6] = [
    ("no-route", 0),
    ("admin-prohibited", 1),
    ("addr-unreachable", 3),
    ("port-unreachable", 4),
    ("policy-fail", 5),
    ("reject-route", 6),
];

/// Protocols by the names that nft prints for them, numbers from the IANA registry.
const PROTOCOLS: [(&str, u8); 13] = [
    ("tcp", 6),
    ("udp", 17),
    ("icmp", 1),
    ("ipv6-icmp", 58),
    ("icmpv6", 58),
    ("udplite", 136),
    ("sctp", 132),
    ("dccp", 33),
    ("esp", 50),
    ("ah", 51),
    ("gre", 47),
    ("igmp", 2),
    ("comp", 108),
];

fn find(table: &[(&str, u8)], word: &str) -> Option<u8> {
    table.iter().find(|(name, _)| *name == word).map(|(_, number)| *number)
}

fn icmp_type(word: &str, family: Family) -> Option<u8> {
    match family {
        Family::V4 => find(&ICMP, word),
        Family::V6 => find(&ICMP_V6, word),
    }
}

fn icmp_code(word: &str, family: Family) -> Option<u8> {
    match family {
        Family::V4 => find(&CODES, word),
        Family::V6 => find(&CODES_V6, word),
    }
}

/// A protocol by its name.
pub(super) fn protocol(word: &str) -> Option<u8> {
    find(&PROTOCOLS, word)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(key: Key, word: &str) -> Result<Value, String> {
        value(key, &Raw::of(word))
    }

    #[test]
    fn numbers_that_do_not_fit_are_named() {
        for (key, word) in [
            (Key::Protocol(None), "300"),
            (Key::Port(None), "65536"),
            (Key::IcmpType(Family::V4), "264"),
            (Key::IcmpCode(Family::V6), "256"),
            (Key::Port(None), "90-80"),
            (Key::Port(None), "+80"),
            (Key::Address(Family::V4, End::Source), "10.0.0.0/33"),
            (Key::Address(Family::V4, End::Source), "fd00::1"),
            (Key::Mark, "0x100000000"),
        ] {
            assert_eq!(read(key, word), Err(word.to_owned()), "{word}");
        }
    }

    #[test]
    fn prefixes_ranges_and_names_are_read() {
        let v4 = Key::Address(Family::V4, End::Source);
        let ip = |word: &str| -> IpAddr { word.parse().expect(word) };
        let all = |low, high| Ok(Value::Addresses(ip(low), ip(high)));
        assert_eq!(read(v4, "10.0.0.0/30"), all("10.0.0.0", "10.0.0.3"));
        assert_eq!(read(v4, "10.0.0.5-10.0.0.9"), all("10.0.0.5", "10.0.0.9"));
        let v6 = Key::Address(Family::V6, End::Destination);
        assert_eq!(read(v6, "fd00::1-fd00::9"), all("fd00::1", "fd00::9"));
        assert_eq!(read(Key::Protocol(None), "ipv6-icmp"), Ok(Value::Numbers(58, 58)));
        let codes = Key::IcmpCode(Family::V4);
        assert_eq!(read(codes, "admin-prohibited"), Ok(Value::Numbers(13, 13)));
    }

    #[test]
    fn hours_are_whole_minutes() {
        let read = |low: &str, high: &str| {
            value(Key::Hour, &Raw::Span(low.to_owned(), high.to_owned())).ok()
        };
        assert_eq!(read("06:45", "10:59:59"), Some(Value::Minutes(405, 659)));
        assert_eq!(read("06:45:00", "10:59:59"), Some(Value::Minutes(405, 659)));
        for (low, high) in [("06:45", "11:00"), ("06:45:01", "10:59:59"), ("10:00", "09:59:59")] {
            assert_eq!(read(low, high), None, "{low} {high}");
        }
    }
}
