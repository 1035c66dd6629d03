//! Conditions on protocols, ports and ICMP messages as sets of services.

use super::super::ruleset::{Key, Value};
use bastium_core::space::{Family, IntervalSet, Protocol, ServicePoint, ServiceSet};
use std::ops::RangeInclusive;

/// The ICMP of a family.
pub(super) fn icmp(family: Family) -> Protocol {
    match family {
        Family::V4 => Protocol::ICMP,
        Family::V6 => Protocol::ICMP_V6,
    }
}

/// The protocols in which a port is looked for: that one, or with `th` each that has any.
fn of_ports(protocol: Option<u8>) -> impl Iterator<Item = Protocol> {
    let all = Protocol::WITH_PORTS.into_iter();
    all.filter(move |one| protocol.is_none_or(|own| own == one.0))
}

/// All packets of these protocols.
pub(super) fn with_ports(protocol: Option<u8>) -> ServiceSet {
    ServiceSet::both(IntervalSet::from_spans(of_ports(protocol).map(Protocol::stretch)))
}

/// The stretch of the service line that a value asks for, whichever protocol it is of.
pub(super) fn line_of(key: Key, value: &Value) -> IntervalSet<ServicePoint> {
    let Value::Numbers(low, high) = *value else { return IntervalSet::empty() };
    match key {
        Key::Protocol(_) => protocols(low, high),
        Key::Port(protocol) => IntervalSet::from_spans(of_ports(protocol).map(|protocol| {
            (ServicePoint::port(protocol, low), ServicePoint::port(protocol, high))
        })),
        Key::IcmpType(family) => messages(icmp(family), eight_bits(low, high), Some(0..=u8::MAX)),
        Key::IcmpCode(family) => messages(icmp(family), Some(0..=u8::MAX), eight_bits(low, high)),
        _ => IntervalSet::empty(),
    }
}

/// The messages of an ICMP with these types and codes.
fn messages(
    icmp: Protocol,
    kinds: Option<RangeInclusive<u8>>,
    codes: Option<RangeInclusive<u8>>,
) -> IntervalSet<ServicePoint> {
    let (Some(kinds), Some(codes)) = (kinds, codes) else { return IntervalSet::empty() };
    let point = |kind, code: &u8| ServicePoint::icmp(icmp, kind, *code);
    IntervalSet::from_spans(
        kinds.map(|kind| (point(kind, codes.start()), point(kind, codes.end()))),
    )
}

/// All packets of the protocols with these numbers.
pub(super) fn protocols(low: u16, high: u16) -> IntervalSet<ServicePoint> {
    let Some(numbers) = eight_bits(low, high) else { return IntervalSet::empty() };
    let (first, last) = (Protocol(*numbers.start()), Protocol(*numbers.end()));
    IntervalSet::range(first.stretch().0, last.stretch().1)
}

/// A range of what has eight bits in a packet, without what lies above; `None` where all of it does.
fn eight_bits(low: u16, high: u16) -> Option<RangeInclusive<u8>> {
    Some(u8::try_from(low).ok()?..=u8::try_from(high).unwrap_or(u8::MAX))
}

/// What two conditions leave together, the first of which may be missing.
pub(super) fn joined(
    known: Option<IntervalSet<ServicePoint>>,
    own: IntervalSet<ServicePoint>,
) -> IntervalSet<ServicePoint> {
    match known {
        Some(known) => known.intersection(&own),
        None => own,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_of_more_than_eight_bits_are_no_type_and_no_protocol() {
        let line = |key, low, high| line_of(key, &Value::Numbers(low, high));
        let whole = Protocol::ICMP.line();
        assert_eq!(line(Key::IcmpType(Family::V4), 0, 300), whole);
        assert_eq!(line(Key::IcmpCode(Family::V4), 0, u16::MAX), whole);
        for key in [Key::IcmpType(Family::V6), Key::IcmpCode(Family::V6)] {
            assert!(line(key, 256, 300).is_empty(), "{key:?}");
        }
        assert!(protocols(256, 300).is_empty());
        assert!(protocols(0, u16::MAX).is_full());
    }

    #[test]
    fn a_port_is_looked_for_in_each_protocol_that_has_any() {
        let line = line_of(Key::Port(None), &Value::Numbers(53, 53));
        for protocol in (0..=u8::MAX).map(Protocol) {
            let has = line.contains(ServicePoint::port(protocol, 53));
            assert_eq!(has, protocol.has_ports(), "{protocol:?}");
        }
        let udp = line_of(Key::Port(Some(17)), &Value::Numbers(53, 54));
        assert_eq!(udp, ServiceSet::ports(Protocol::UDP, 53, 54).v4);
    }
}
