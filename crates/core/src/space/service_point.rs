//! One point of the service line, and the protocols that it is made of.

use super::{Coordinate, Family, IntervalSet};

/// An IP protocol number, from the IANA registry "Assigned Internet Protocol Numbers".
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Protocol(pub u8);

impl Protocol {
    /// ICMP for IPv4 (RFC 792).
    pub const ICMP: Self = Self(1);
    /// TCP (RFC 9293).
    pub const TCP: Self = Self(6);
    /// UDP (RFC 768).
    pub const UDP: Self = Self(17);
    /// ICMP for IPv6 (RFC 4443).
    pub const ICMP_V6: Self = Self(58);

    /// Those whose packets carry a destination port: TCP, UDP, DCCP, SCTP and UDP-Lite (RFC 9293, 768, 4340, 9260, 3828).
    pub const WITH_PORTS: [Self; 5] = [Self::TCP, Self::UDP, Self(33), Self(132), Self(136)];

    /// The protocols that have a keyword here, by IANA's keyword in lower case.
    const KEYWORDS: [(&'static str, u8); 12] = [
        ("tcp", 6),
        ("udp", 17),
        ("sctp", 132),
        ("dccp", 33),
        ("udplite", 136),
        ("igmp", 2),
        ("gre", 47),
        ("esp", 50),
        ("ah", 51),
        ("ospf", 89),
        ("ipip", 4),
        ("vrrp", 112),
    ];

    /// The protocol of that keyword. `icmp` is not among them: it means another number in each family.
    pub fn from_keyword(keyword: &str) -> Option<Self> {
        let found = Self::KEYWORDS.iter().find(|entry| entry.0 == keyword)?;
        Some(Self(found.1))
    }

    /// Whether it is one of [`Self::WITH_PORTS`].
    pub fn has_ports(self) -> bool {
        Self::WITH_PORTS.contains(&self)
    }

    /// Whether it is one of the two ICMPs.
    pub fn is_icmp(self) -> bool {
        self == Self::ICMP || self == Self::ICMP_V6
    }

    /// Its keyword, or `proto-N` where there is none.
    pub fn keyword(self) -> String {
        match self {
            Self::ICMP => "icmp".to_owned(),
            Self::ICMP_V6 => "icmpv6".to_owned(),
            Self(number) => Self::KEYWORDS
                .iter()
                .find(|entry| entry.1 == number)
                .map_or_else(|| format!("proto-{number}"), |entry| entry.0.to_owned()),
        }
    }

    /// The stretch of the service line that this protocol takes.
    pub fn stretch(self) -> (ServicePoint, ServicePoint) {
        (ServicePoint::new(self, 0), ServicePoint::new(self, u16::MAX))
    }

    /// The same, as a set.
    pub fn line(self) -> IntervalSet<ServicePoint> {
        let (first, last) = self.stretch();
        IntervalSet::range(first, last)
    }
}

/// One point of the service line: what a single packet asks for.
///
/// Invariant: its number is at most 2^24 - 1, the last of the last protocol.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ServicePoint(u32);

impl ServicePoint {
    /// The point of a protocol with that detail: a destination port, or ICMP type and code in a row.
    pub fn new(protocol: Protocol, detail: u16) -> Self {
        Self(u32::from(protocol.0) << 16 | u32::from(detail))
    }

    /// A destination port of a protocol that has ports.
    pub fn port(protocol: Protocol, port: u16) -> Self {
        Self::new(protocol, port)
    }

    /// An ICMP message of that type and code.
    pub fn icmp(protocol: Protocol, kind: u8, code: u8) -> Self {
        Self::new(protocol, u16::from_be_bytes([kind, code]))
    }

    /// The echo request of a family ("ping"): type 8 in IPv4 (RFC 792), 128 in IPv6 (RFC 4443).
    pub fn echo(family: Family) -> Self {
        match family {
            Family::V4 => Self::icmp(Protocol::ICMP, 8, 0),
            Family::V6 => Self::icmp(Protocol::ICMP_V6, 128, 0),
        }
    }

    /// The point with that number on the line; `None` past its end.
    pub fn from_number(number: u32) -> Option<Self> {
        (number <= Self::LAST.0).then_some(Self(number))
    }

    /// Its number on the line, from 0.
    pub fn number(self) -> u32 {
        self.0
    }

    /// The point so many further along the line, or back; `None` past one of its ends.
    pub fn moved(self, by: i32) -> Option<Self> {
        Self::from_number(self.0.checked_add_signed(by)?)
    }

    /// The protocol.
    pub fn protocol(self) -> Protocol {
        let [_, protocol, ..] = self.0.to_be_bytes();
        Protocol(protocol)
    }

    /// What follows the protocol: a destination port, ICMP type and code in a row, or nothing that means anything.
    pub fn detail(self) -> u16 {
        let [_, _, high, low] = self.0.to_be_bytes();
        u16::from_be_bytes([high, low])
    }

    /// The destination port, where the protocol has ports.
    pub fn destination_port(self) -> Option<u16> {
        self.protocol().has_ports().then_some(self.detail())
    }

    /// ICMP type and code, where the protocol is an ICMP.
    pub fn icmp_kind(self) -> Option<(u8, u8)> {
        self.protocol().is_icmp().then_some(self.kind_and_code())
    }

    /// What follows the protocol, as an ICMP reads it.
    pub(super) fn kind_and_code(self) -> (u8, u8) {
        let [kind, code] = self.detail().to_be_bytes();
        (kind, code)
    }
}

impl Coordinate for ServicePoint {
    const FIRST: Self = Self(0);
    const LAST: Self = Self(0x00ff_ffff);
    fn next(self) -> Option<Self> {
        (self < Self::LAST).then(|| Self(self.0 + 1))
    }
    fn previous(self) -> Option<Self> {
        self.0.checked_sub(1).map(Self)
    }
}

impl std::fmt::Display for ServicePoint {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let keyword = self.protocol().keyword();
        match (self.destination_port(), self.icmp_kind()) {
            (Some(port), _) => write!(f, "{keyword}/{port}"),
            (_, Some((8, 0))) if self.protocol() == Protocol::ICMP => write!(f, "icmp/echo"),
            (_, Some((128, 0))) if self.protocol() == Protocol::ICMP_V6 => write!(f, "icmp/echo"),
            (_, Some((kind, code))) => write!(f, "{keyword}/{kind}.{code}"),
            _ => write!(f, "{keyword}"),
        }
    }
}

impl IntervalSet<ServicePoint> {
    /// The set in stretches of one protocol each, in order: the protocol, and its first and last detail.
    pub fn by_protocol(&self) -> impl Iterator<Item = (Protocol, u16, u16)> {
        self.spans().iter().flat_map(|&(low, high)| {
            (low.protocol().0..=high.protocol().0).map(Protocol).map(move |protocol| {
                let (first, last) = protocol.stretch();
                (protocol, low.max(first).detail(), high.min(last).detail())
            })
        })
    }

    /// Each stretch so many points further along, or back. A stretch that would pass an end of the line is left out.
    pub fn moved(&self, by: i32) -> Self {
        let stretches = self.spans().iter();
        Self::from_spans(
            stretches.filter_map(|(low, high)| Some((low.moved(by)?, high.moved(by)?))),
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Stretches that begin, end and change protocol anywhere, the ends of the line included.
    fn any_line() -> impl Strategy<Value = IntervalSet<ServicePoint>> {
        let near_an_end = prop_oneof![0..3u32, 0x00ff_fffd..=0x00ff_ffffu32, 0..=0x00ff_ffffu32];
        let number = prop_oneof![near_an_end, (0..4u32, 0..3u32).prop_map(|(p, d)| p << 16 | d)];
        let point =
            number.prop_map(|number| ServicePoint::from_number(number).expect("on the line"));
        prop::collection::vec((point.clone(), point), 0..4)
            .prop_map(|spans| spans.into_iter().map(|(a, b)| (a.min(b), a.max(b))))
            .prop_map(IntervalSet::from_spans)
    }

    proptest! {
        #[test]
        fn stretches_of_protocols_are_the_set_again(line in any_line()) {
            let stretches: Vec<_> = line.by_protocol().collect();
            let back = stretches.iter().map(|&(protocol, first, last)| {
                (ServicePoint::new(protocol, first), ServicePoint::new(protocol, last))
            });
            prop_assert_eq!(IntervalSet::from_spans(back), line);
            prop_assert!(stretches.is_sorted());
            prop_assert!(stretches.iter().all(|(_, first, last)| first <= last));
        }

        #[test]
        fn a_set_that_is_moved_has_the_moved_points(line in any_line(), by in -9i32..9) {
            let stays = |number: u32| ServicePoint::from_number(number).and_then(|p| p.moved(by)).is_some();
            let whole = line.spans().iter().all(|(a, b)| stays(a.number()) && stays(b.number()));
            prop_assume!(whole);
            let moved = line.moved(by);
            prop_assert_eq!(&moved.moved(-by), &line);
            for (low, high) in line.spans() {
                for point in [*low, *high] {
                    prop_assert!(point.moved(by).is_some_and(|point| moved.contains(point)));
                }
            }
        }
    }

    #[test]
    fn the_line_ends_with_the_last_protocol() {
        assert_eq!(ServicePoint::LAST, Protocol(255).stretch().1);
        assert_eq!(ServicePoint::from_number(ServicePoint::LAST.number() + 1), None);
        assert_eq!(ServicePoint::LAST.next(), None);
        assert_eq!(ServicePoint::FIRST.previous(), None);
        assert_eq!(ServicePoint::LAST.moved(1), None);
        assert_eq!(ServicePoint::FIRST.moved(-1), None);
        let whole = IntervalSet::from_spans((0..=u8::MAX).map(|number| Protocol(number).stretch()));
        assert!(whole.is_full());
    }

    #[test]
    fn a_point_is_its_protocol_with_its_detail() {
        let ssh = ServicePoint::port(Protocol::TCP, 22);
        assert_eq!((ssh.protocol(), ssh.detail(), ssh.icmp_kind()), (Protocol::TCP, 22, None));
        let echo = ServicePoint::echo(Family::V6);
        assert_eq!((echo.icmp_kind(), echo.destination_port()), (Some((128, 0)), None));
        assert_eq!(Protocol(50).line().spans(), [Protocol(50).stretch()]);
    }
}
