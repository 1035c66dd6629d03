//! Splits services into what a single entry can express.

use bastium_core::space::{Family, IntervalSet, Protocol, ServicePoint, ServiceSet};

/// A stretch of the service line, as an entry can say it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Service {
    pub(super) protocol: Option<u8>,
    /// Ports, or ICMP type and code.
    pub(super) details: Option<(u16, u16)>,
    /// The ports that it comes from.
    pub(super) from: Option<(u16, u16)>,
    pub(super) flag: Option<&'static str>,
}

impl Service {
    /// The same as a set.
    pub(super) fn set(&self, family: Family) -> ServiceSet {
        let line = match (self.protocol, self.details) {
            (None, _) => return ServiceSet::any(),
            (Some(number), None) => Protocol(number).line(),
            (Some(number), Some((low, high))) => {
                // Of ICMP it is a type and a code, or all codes.
                let (low, high) = match (Protocol(number).is_icmp(), high) {
                    (false, high) => (low, high),
                    (true, u16::MAX) => (low << 8, low << 8 | 0xff),
                    (true, code) => (low << 8 | code, low << 8 | code),
                };
                let point = |detail| ServicePoint::new(Protocol(number), detail);
                IntervalSet::range(point(low), point(high))
            }
        };
        let nothing = IntervalSet::empty();
        let [v4, v6] = match family {
            Family::V4 => [line, nothing],
            Family::V6 => [nothing, line],
        };
        ServiceSet { v4, v6 }
    }

    /// Whether it speaks of ports for which these lists have no words.
    pub(super) fn is_odd(&self) -> bool {
        self.details.is_some() && !matches!(self.protocol, Some(1 | 6 | 17 | 58))
    }

    /// The same as replies from the ports on a line; a service without ports may answer from anywhere.
    pub(super) fn answered_from(&self, line: &IntervalSet<ServicePoint>) -> Vec<Self> {
        let Some(protocol) = self.protocol.map(Protocol).filter(|protocol| protocol.has_ports())
        else {
            return vec![self.clone()];
        };
        let here = line.intersection(&protocol.line());
        let flags: &[Option<&'static str>] =
            if protocol == Protocol::TCP { &[Some("ack"), Some("rst")] } else { &[None] };
        let mut all = Vec::new();
        for (_, first, last) in here.by_protocol() {
            let from = Some((first, last)).filter(|ports| *ports != (0, u16::MAX));
            all.extend(flags.iter().map(|flag| Self { from, flag: *flag, ..self.clone() }));
        }
        all
    }
}

/// The services of one family, as single stretches.
pub(super) fn services(line: &IntervalSet<ServicePoint>) -> Vec<Service> {
    if line.is_full() {
        return vec![Service::default()];
    }
    let mut all = Vec::new();
    for (protocol, from, to) in line.by_protocol() {
        let whole = (from, to) == (0, u16::MAX);
        if whole || !protocol.is_icmp() {
            let details = (!whole).then_some((from, to));
            all.push(Service { protocol: Some(protocol.0), details, ..Service::default() });
            continue;
        }
        // Type by type, as the module has no ranges of them.
        for kind in (from >> 8)..=(to >> 8) {
            let (first, last) = (from.max(kind << 8), to.min(kind << 8 | 0xff));
            all.extend(codes(protocol.0, first, last));
        }
    }
    all
}

fn codes(number: u8, first: u16, last: u16) -> Vec<Service> {
    let protocol = Some(number);
    if first & 0xff == 0 && last & 0xff == 0xff {
        let details = Some((first >> 8, u16::MAX));
        return vec![Service { protocol, details, ..Service::default() }];
    }
    let each = (first..=last).map(|point| Service {
        protocol,
        details: Some((point >> 8, point & 0xff)),
        ..Service::default()
    });
    each.collect()
}
