//! The service line: protocol, destination port and ICMP type and code folded into one number.
//!
//! A packet's service is `protocol << 16 | detail`. The detail is the destination port for the
//! protocols that have ports, `type << 8 | code` for ICMP, and meaningless for all others, which
//! therefore always take their whole stretch of the line. One line makes one dimension of three.

use super::{AddressSet, Family, IntervalSet, Protocol, ServicePoint};
use std::collections::HashSet;

/// A set of services. It differs between the families only where ICMP and DHCP do.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ServiceSet {
    /// What is meant in IPv4, on the service line.
    pub v4: IntervalSet<ServicePoint>,
    /// What is meant in IPv6, on the service line.
    pub v6: IntervalSet<ServicePoint>,
}

impl ServiceSet {
    /// No service.
    pub fn empty() -> Self {
        Self::default()
    }

    /// Every service: any protocol, any port.
    pub fn any() -> Self {
        Self::both(IntervalSet::full())
    }

    /// The same stretch of the line in both families.
    pub fn both(line: IntervalSet<ServicePoint>) -> Self {
        Self { v4: line.clone(), v6: line }
    }

    /// Ports `low` to `high` of a protocol, both included.
    pub fn ports(protocol: Protocol, low: u16, high: u16) -> Self {
        let point = |port| ServicePoint::port(protocol, port);
        Self::both(IntervalSet::range(point(low), point(high)))
    }

    /// Everything of one protocol.
    pub fn protocol(protocol: Protocol) -> Self {
        Self::both(protocol.line())
    }

    /// All of ICMP: protocol 1 in IPv4, 58 in IPv6.
    pub fn icmp() -> Self {
        Self { v4: Self::protocol(Protocol::ICMP).v4, v6: Self::protocol(Protocol::ICMP_V6).v6 }
    }

    /// The echo request ("ping"): type 8 in IPv4 (RFC 792), 128 in IPv6 (RFC 4443).
    pub fn echo() -> Self {
        Self {
            v4: Self::icmp_types(Protocol::ICMP, &[8], Some(0)).v4,
            v6: Self::icmp_types(Protocol::ICMP_V6, &[128], Some(0)).v6,
        }
    }

    /// ICMP messages of these types, of one code or (with `None`) of all.
    pub fn icmp_types(protocol: Protocol, kinds: &[u8], code: Option<u8>) -> Self {
        let span = |&kind: &u8| {
            let (low, high) = code.map_or((0, u8::MAX), |code| (code, code));
            let point = |code| ServicePoint::icmp(protocol, kind, code);
            (point(low), point(high))
        };
        let line = IntervalSet::from_spans(kinds.iter().map(span));
        let mut set = Self::empty();
        if protocol == Protocol::ICMP_V6 {
            set.v6 = line;
        } else {
            set.v4 = line;
        }
        set
    }

    /// What is meant in a family, on the service line.
    pub fn line(&self, family: Family) -> &IntervalSet<ServicePoint> {
        match family {
            Family::V4 => &self.v4,
            Family::V6 => &self.v6,
        }
    }

    /// Whether there is no service in it.
    pub fn is_empty(&self) -> bool {
        self.v4.is_empty() && self.v6.is_empty()
    }

    /// What either set has.
    pub fn union(&self, other: &Self) -> Self {
        Self { v4: self.v4.union(&other.v4), v6: self.v6.union(&other.v6) }
    }

    /// The points that both sets have.
    pub fn intersection(&self, other: &Self) -> Self {
        Self { v4: self.v4.intersection(&other.v4), v6: self.v6.intersection(&other.v6) }
    }

    /// What this set has and `other` has not.
    pub fn difference(&self, other: &Self) -> Self {
        Self { v4: self.v4.difference(&other.v4), v6: self.v6.difference(&other.v6) }
    }

    /// Whether every service of this set is one of `other` too.
    pub fn is_subset(&self, other: &Self) -> bool {
        self.v4.is_subset(&other.v4) && self.v6.is_subset(&other.v6)
    }

    /// The same set, but in a family only where `addresses` has any.
    pub fn for_families_of(&self, addresses: &AddressSet) -> Self {
        let keep = |wanted: bool, line: &IntervalSet<ServicePoint>| {
            if wanted { line.clone() } else { IntervalSet::empty() }
        };
        Self {
            v4: keep(!addresses.v4.is_empty(), &self.v4),
            v6: keep(!addresses.v6.is_empty(), &self.v6),
        }
    }

    /// What is meant in IPv4, in words.
    pub fn v4_words(&self) -> Vec<String> {
        line_words(&self.v4)
    }

    /// The set in words: `any`, `tcp/443`, `udp/5000-5010`, `icmp/echo`, ...
    pub fn words(&self) -> Vec<String> {
        if *self == Self::any() {
            return vec!["any".to_owned()];
        }
        // Else all of a family would be written as what lies around its ICMP.
        match (self.v4.is_full(), self.v6.is_full()) {
            (true, _) if self.v6.is_empty() => return vec!["any (IPv4)".to_owned()],
            (_, true) if self.v4.is_empty() => return vec!["any (IPv6)".to_owned()],
            _ => {}
        }
        let shared = self.v4.intersection(&self.v6);
        let mut words: Vec<String> = Vec::new();
        let mut known: HashSet<String> = HashSet::new();
        let mut add = |line: &IntervalSet<ServicePoint>, mark: &str| {
            for word in line_words(line) {
                let word = format!("{word}{mark}");
                if known.insert(word.clone()) {
                    words.push(word);
                }
            }
        };
        add(&shared, "");
        let (icmp4, icmp6) =
            (Self::protocol(Protocol::ICMP).v4, Self::protocol(Protocol::ICMP_V6).v6);
        let (v4, v6) = (self.v4.difference(&shared), self.v6.difference(&shared));
        add(&v4.intersection(&icmp4), "");
        add(&v6.intersection(&icmp6), "");
        add(&v4.difference(&icmp4), " (IPv4)");
        add(&v6.difference(&icmp6), " (IPv6)");
        // All of ICMP has one word for both families.
        if words.iter().any(|word| word == "icmp") {
            words.retain(|word| word != "icmpv6");
        }
        words
    }
}

/// A piece of the line in words, one protocol at a time.
fn line_words(line: &IntervalSet<ServicePoint>) -> Vec<String> {
    if line.is_full() {
        return vec!["any".to_owned()];
    }
    line.spans().iter().flat_map(|span| span_words(*span)).collect()
}

/// One interval in words. Whole protocols in a row are one word where they are many; only the first
/// and the last protocol of an interval can be there in part.
fn span_words((low, high): (ServicePoint, ServicePoint)) -> Vec<String> {
    let (first, last) = (low.protocol().0, high.protocol().0);
    let part = |number: u8| {
        let protocol = Protocol(number);
        let (start, end) = protocol.stretch();
        stretch_words(protocol, low.max(start), high.min(end))
    };
    let whole = |number: &u8| {
        let (start, end) = Protocol(*number).stretch();
        low <= start && end <= high
    };
    let (Some(whole_from), Some(whole_to)) =
        ((first..=last).find(whole), (first..=last).rev().find(whole))
    else {
        return (first..=last).flat_map(part).collect();
    };
    if whole_to - whole_from < 3 {
        return (first..=last).flat_map(part).collect();
    }
    let mut words: Vec<String> = (first..whole_from).flat_map(part).collect();
    words.push(format!("proto-{whole_from} to proto-{whole_to}"));
    // The last protocol at most is there in part.
    words.extend((whole_to < last).then_some(last).into_iter().flat_map(part));
    words
}

/// A piece of one protocol's stretch in words. Several whole types of ICMP are a word each, if they are
/// few.
fn stretch_words(protocol: Protocol, low: ServicePoint, high: ServicePoint) -> Vec<String> {
    if let (Some((first, 0)), Some((last, u8::MAX))) = (low.icmp_kind(), high.icmp_kind())
        && (low, high) != protocol.stretch()
        && last - first < 4
    {
        return (first..=last).map(|kind| format!("{}/{kind}", protocol.keyword())).collect();
    }
    vec![stretch_word(protocol, low, high)]
}

fn stretch_word(protocol: Protocol, low: ServicePoint, high: ServicePoint) -> String {
    let keyword = protocol.keyword();
    if (low, high) == protocol.stretch() {
        return keyword;
    }
    if low == high {
        return low.to_string();
    }
    if let (Some(from), Some(to)) = (low.destination_port(), high.destination_port()) {
        return format!("{keyword}/{from}-{to}");
    }
    let ((first, code), (last, last_code)) = (low.kind_and_code(), high.kind_and_code());
    if (first, code, last_code) == (last, 0, u8::MAX) {
        return format!("{keyword}/{first}");
    }
    format!("{keyword}/{first}.{code}-{last}.{last_code}")
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Every word that a plan could use for a part says just that part.
    #[test]
    fn words_lead_back_to_the_set() {
        let tcp = |low, high| ServiceSet::ports(Protocol::TCP, low, high);
        let udp = |low, high| ServiceSet::ports(Protocol::UDP, low, high);
        for set in [
            tcp(1, 1),
            tcp(1, 65_535),
            tcp(80, 80).union(&tcp(443, 450)).union(&udp(53, 53)),
            udp(1, 9).union(&ServiceSet::echo()),
            ServiceSet::icmp(),
            ServiceSet::protocol(Protocol(47)).union(&ServiceSet::protocol(Protocol(50))),
            ServiceSet::protocol(Protocol::TCP).union(&udp(5, 6)),
            ServiceSet::any(),
        ] {
            let words = set.words();
            let read = |word: &String| crate::service::parse_literal(word).and_then(Result::ok);
            let parts: Option<Vec<ServiceSet>> = words.iter().map(read).collect();
            let parts = parts.unwrap_or_else(|| panic!("{words:?} can be read"));
            let back = parts.iter().fold(ServiceSet::empty(), |all, part| all.union(part));
            assert_eq!(back, set, "{words:?}");
        }
    }

    #[test]
    fn words_name_ports_ranges_and_messages() {
        let set = ServiceSet::ports(Protocol::TCP, 443, 443)
            .union(&ServiceSet::ports(Protocol::UDP, 5000, 5010))
            .union(&ServiceSet::echo());
        assert_eq!(set.words(), ["tcp/443", "udp/5000-5010", "icmp/echo"]);
        assert_eq!(ServiceSet::any().words(), ["any"]);
        assert_eq!(ServiceSet::protocol(Protocol(50)).words(), ["esp"]);
    }

    #[test]
    fn a_few_whole_types_of_icmp_are_a_word_each() {
        let errors = ServiceSet::icmp_types(Protocol::ICMP, &[3, 11, 12], None);
        assert_eq!(errors.words(), ["icmp/3", "icmp/11", "icmp/12"]);
    }

    #[test]
    fn what_only_one_family_has_is_marked() {
        let mut dhcp = ServiceSet::empty();
        dhcp.v4 = ServiceSet::ports(Protocol::UDP, 67, 67).v4;
        dhcp.v6 = ServiceSet::ports(Protocol::UDP, 547, 547).v6;
        assert_eq!(dhcp.words(), ["udp/67 (IPv4)", "udp/547 (IPv6)"]);
        let only_v4 = ServiceSet { v6: ServiceSet::empty().v6, ..ServiceSet::any() };
        assert_eq!(only_v4.words(), ["any (IPv4)"]);
    }

    #[test]
    fn everything_but_a_port_stays_readable() {
        let rest = ServiceSet::any().difference(&ServiceSet::ports(Protocol::TCP, 443, 443));
        assert_eq!(
            rest.words(),
            ["proto-0 to proto-5", "tcp/0-442", "tcp/444-65535", "proto-7 to proto-255"]
        );
    }

    #[test]
    fn echo_is_another_message_in_each_family() {
        let echo = ServiceSet::echo();
        assert!(echo.v4.contains(ServicePoint::icmp(Protocol::ICMP, 8, 0)));
        assert!(echo.v6.contains(ServicePoint::icmp(Protocol::ICMP_V6, 128, 0)));
        assert!(echo.v4.is_disjoint(&echo.v6));
    }
}
