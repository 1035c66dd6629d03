//! Turns a set of services into tests.

use super::test::Test;
use bastium_core::space::{Family, IntervalSet, Protocol, ServicePoint};

/// The protocols whose ports have a keyword of their own.
const WITH_PORTS: [(u8, &str); 5] =
    [(6, "tcp"), (17, "udp"), (132, "sctp"), (33, "dccp"), (136, "udplite")];

/// The part of a service line that one protocol takes.
struct Part {
    protocol: Protocol,
    /// From and to, within the protocol's stretch.
    spans: Vec<(u16, u16)>,
}

impl Part {
    fn is_whole(&self) -> bool {
        self.spans == [(0, u16::MAX)]
    }
}

fn parts(line: &IntervalSet<ServicePoint>) -> Vec<Part> {
    let mut parts: Vec<Part> = Vec::new();
    for (protocol, from, to) in line.by_protocol() {
        match parts.last_mut().filter(|last| last.protocol == protocol) {
            Some(last) => last.spans.push((from, to)),
            None => parts.push(Part { protocol, spans: vec![(from, to)] }),
        }
    }
    parts
}

/// The tests for the services of one family: one list of tests for each way to pass.
pub(super) fn ways(line: &IntervalSet<ServicePoint>, family: Family) -> Vec<Vec<Test>> {
    if line.is_full() {
        return vec![Vec::new()];
    }
    let (whole, some): (Vec<Part>, Vec<Part>) = parts(line).into_iter().partition(Part::is_whole);
    let mut ways = Vec::new();
    if !whole.is_empty() {
        ways.push(vec![protocols(whole.iter().map(|part| part.protocol.0).collect())]);
    }
    let (icmp, ports): (Vec<Part>, Vec<Part>) =
        some.into_iter().partition(|part| part.protocol.is_icmp());
    ways.extend(by_ports(&ports).map(|test| vec![test]));
    for part in &icmp {
        ways.extend(messages(part).into_iter().map(|test| {
            let strange = (part.protocol == Protocol::ICMP) != (family == Family::V4);
            // Said before it, or the kernel's tool takes the other family for granted.
            if strange { vec![Test::Family(family), test] } else { vec![test] }
        }));
    }
    ways
}

fn protocols(numbers: Vec<u8>) -> Test {
    if numbers.len() <= 128 {
        return Test::Protocols { numbers, not: false };
    }
    let others = (0..=u8::MAX).filter(|number| !numbers.contains(number)).collect();
    Test::Protocols { numbers: others, not: true }
}

fn by_ports(parts: &[Part]) -> Option<Test> {
    let keyword = |part: &Part| {
        let known = WITH_PORTS.iter().find(|(number, _)| *number == part.protocol.0);
        known.map(|(_, word)| *word)
    };
    let named: Vec<(&'static str, &Part)> =
        parts.iter().filter_map(|part| Some((keyword(part)?, part))).collect();
    match named.as_slice() {
        [] => None,
        [(protocol, part)] => {
            Some(Test::Ports { protocol, elements: part.spans.iter().copied().map(span).collect() })
        }
        several => {
            let each = several.iter().flat_map(|(protocol, part)| {
                part.spans.iter().map(move |s| format!("{protocol} . {}", span(*s)))
            });
            Some(Test::AnyPorts(each.collect()))
        }
    }
}

/// A number of sixteen bits that was counted beyond them.
fn low_half(number: u32) -> u16 {
    u16::try_from(number).unwrap_or(u16::MAX)
}

/// The messages of an ICMP: whole types in one test, single codes in another.
fn messages(part: &Part) -> Vec<Test> {
    let family = if part.protocol == Protocol::ICMP { Family::V4 } else { Family::V6 };
    let (mut types, mut codes) = (Vec::new(), Vec::new());
    for &(low, high) in &part.spans {
        let mut from = u32::from(low);
        while from <= u32::from(high) {
            let kind = from >> 8;
            let last_of_kind = (kind << 8 | 0xff).min(u32::from(high));
            if from & 0xff == 0 && last_of_kind & 0xff == 0xff {
                // As many whole types as there are in a row.
                let last = if high & 0xff == 0xff { high >> 8 } else { (high >> 8) - 1 };
                types.push(span((low_half(kind), last)));
                from = (u32::from(last) << 8 | 0xff) + 1;
            } else {
                let within = (low_half(from & 0xff), low_half(last_of_kind & 0xff));
                codes.push(format!("{kind} . {}", span(within)));
                from = last_of_kind + 1;
            }
        }
    }
    let tests = [(types, false), (codes, true)].into_iter();
    let tests = tests.filter(|(elements, _)| !elements.is_empty());
    tests.map(|(elements, codes)| Test::Icmp { family, elements, codes }).collect()
}

fn span((low, high): (u16, u16)) -> String {
    if low == high { low.to_string() } else { format!("{low}-{high}") }
}
