//! Services read from the words that [`ServiceSet::words`] makes of them.

use super::{IntervalSet, Protocol, ServicePoint, ServiceSet};
use crate::service::parse_literal;

impl ServiceSet {
    /// The set of such words; `None` if one of them says nothing. A word of ICMP is of both families, and a whole or
    /// numbered message of its own, unless it is marked: `ping` in IPv4 alone is written like `ping` in both.
    pub fn from_words(words: &[String]) -> Option<Self> {
        words.iter().try_fold(Self::empty(), |all, word| Some(all.union(&read_service(word)?)))
    }
}

/// A word as [`ServiceSet::words`] writes it.
fn read_service(word: &str) -> Option<ServiceSet> {
    let (bare, mark) = match (word.strip_suffix(" (IPv4)"), word.strip_suffix(" (IPv6)")) {
        (Some(bare), _) => (bare, Some(Mark::V4)),
        (_, Some(bare)) => (bare, Some(Mark::V6)),
        _ => (word, None),
    };
    let set = match parse_literal(bare) {
        // `any`, and messages of ICMP by name.
        Some(Ok(set)) if bare == "any" || bare.starts_with("icmp") => set,
        _ => {
            let (low, high) = stretch(bare)?;
            let both = ServiceSet::both(IntervalSet::range(low, high));
            // Without a mark, a number of ICMP is a message of its own family.
            match (mark, bare.split('/').next()) {
                (None, Some("icmp")) => only(both, Mark::V4),
                (None, Some("icmpv6")) => only(both, Mark::V6),
                _ => both,
            }
        }
    };
    Some(mark.map_or(set.clone(), |mark| only(set, mark)))
}

/// The family that a word is about.
#[derive(Clone, Copy)]
enum Mark {
    V4,
    V6,
}

fn only(set: ServiceSet, mark: Mark) -> ServiceSet {
    match mark {
        Mark::V4 => ServiceSet { v4: set.v4, ..ServiceSet::empty() },
        Mark::V6 => ServiceSet { v6: set.v6, ..ServiceSet::empty() },
    }
}

/// The part of the service line that a word says: protocols, or ports or messages of one.
fn stretch(bare: &str) -> Option<(ServicePoint, ServicePoint)> {
    if let Some((first, last)) = bare.split_once(" to ") {
        return Some((protocol(first)?.stretch().0, protocol(last)?.stretch().1));
    }
    match bare.split_once('/') {
        None => Some(protocol(bare)?.stretch()),
        Some((keyword, rest)) => within(protocol(keyword)?, rest),
    }
}

fn protocol(keyword: &str) -> Option<Protocol> {
    match keyword {
        "icmp" => Some(Protocol::ICMP),
        "icmpv6" => Some(Protocol::ICMP_V6),
        _ => Protocol::from_keyword(keyword)
            .or_else(|| keyword.strip_prefix("proto-")?.parse().ok().map(Protocol)),
    }
}

/// Ports, or types and codes of ICMP, of a protocol.
fn within(protocol: Protocol, rest: &str) -> Option<(ServicePoint, ServicePoint)> {
    let (low, high) = rest.split_once('-').unwrap_or((rest, rest));
    if !protocol.is_icmp() {
        let port = |text: &str| Some(ServicePoint::port(protocol, text.parse().ok()?));
        return Some((port(low)?, port(high)?)).filter(|(low, high)| low <= high);
    }
    let message = |text: &str, code: u8| {
        let (kind, code) = match text.split_once('.') {
            Some((kind, code)) => (kind.parse().ok()?, code.parse().ok()?),
            None => (text.parse().ok()?, code),
        };
        Some(ServicePoint::icmp(protocol, kind, code))
    };
    Some((message(low, 0)?, message(high, u8::MAX)?)).filter(|(low, high)| low <= high)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Family;

    #[test]
    fn words_of_services_are_read_as_they_are_written() {
        let tcp = |low, high| ServiceSet::ports(Protocol::TCP, low, high);
        let only = |set: ServiceSet, family: Family| match family {
            Family::V4 => ServiceSet { v4: set.v4, ..ServiceSet::empty() },
            Family::V6 => ServiceSet { v6: set.v6, ..ServiceSet::empty() },
        };
        for set in [
            tcp(443, 443),
            tcp(1, 65_535).union(&ServiceSet::echo()),
            ServiceSet::any().difference(&tcp(443, 443)),
            only(tcp(22, 25), Family::V6),
            only(tcp(22, 25), Family::V4),
            only(ServiceSet::any(), Family::V4),
            only(ServiceSet::any(), Family::V6),
            ServiceSet::icmp(),
            ServiceSet::icmp_types(Protocol::ICMP_V6, &[133, 134, 135], None),
            ServiceSet::protocol(Protocol(200)).union(&ServiceSet::protocol(Protocol(47))),
        ] {
            assert_eq!(
                ServiceSet::from_words(&set.words()).as_ref(),
                Some(&set),
                "{:?}",
                set.words()
            );
        }
    }

    #[test]
    fn what_is_no_service_is_not_read() {
        for word in [
            "",
            "tcp/",
            "tcp/65536",
            "tcp/x",
            "http",
            "proto-256",
            "icmp/8.300.1",
            "icmp/300.1",
            "tcp/9-7",
            "icmp/9-8",
        ] {
            assert_eq!(read_service(word), None, "{word}");
        }
    }
}
