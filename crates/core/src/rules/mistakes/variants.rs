//! What is entered in place of the right addresses or services: slightly more, slightly less, or something nearby.

use super::Kind;
use crate::plan::{NetworkId, Plan};
use crate::space::{
    AddressBits, AddressSet, IntervalSet, Minute, Protocol, ServicePoint, ServiceSet,
};

/// The set with one zone, one network, one host or one bit of a prefix more.
pub(super) fn wider_sets(things: &Things, set: &AddressSet) -> Vec<AddressSet> {
    if *set == AddressSet::full() {
        return Vec::new();
    }
    let more = things.0.iter().filter_map(|things| next_new(set, things));
    let bits = [
        bit_wider(&set.v4).map(|v4| AddressSet { v4, ..AddressSet::empty() }),
        bit_wider(&set.v6).map(|v6| AddressSet { v6, ..AddressSet::empty() }),
    ];
    let wide = more.chain(bits.into_iter().flatten()).map(|more| set.union(&more));
    distinct(wide.filter(|wide| wide != set))
}

/// The set with one zone, one network, one host or one bit of a prefix less. Of a rule that several were joined to, any
/// zone or network may have been forgotten; else one of each kind stands for all, as hosts always do.
pub(super) fn narrower_sets(things: &Things, set: &AddressSet, any: bool) -> Vec<AddressSet> {
    let [zones, networks, hosts] = &things.0;
    let held = |things: &[AddressSet], most: usize| -> Vec<AddressSet> {
        things.iter().filter(|less| !less.is_disjoint(set)).take(most).cloned().collect()
    };
    let most = if any { usize::MAX } else { 1 };
    let less = [held(zones, most), held(networks, most), held(hosts, 1)].into_iter().flatten();
    let halves = [
        upper_half(&set.v4).map(|v4| AddressSet { v4, ..AddressSet::empty() }),
        upper_half(&set.v6).map(|v6| AddressSet { v6, ..AddressSet::empty() }),
    ];
    distinct(less.chain(halves.into_iter().flatten()).map(|less| set.difference(&less)))
}

/// The set with an address that a device had once, beside those of the network that it has a part of.
pub(super) fn with_address_left(plan: &Plan, set: &AddressSet) -> Option<AddressSet> {
    let narrow = |id: &NetworkId| {
        let all = plan.network_addresses(*id);
        !set.is_disjoint(all) && !all.is_subset(set)
    };
    let network = plan.network_ids().find(narrow)?;
    let free = plan.unnamed_addresses(network).difference(set);
    // Of a pool anybody may have any: what is left over was somebody's own.
    let pool = plan.network(network).pool;
    let pool = pool.map(|pool| AddressSet::range(pool.first().into(), pool.last().into()));
    let free = free.difference(&pool.unwrap_or_default());
    let (_, last) = free.ranges().next()?;
    Some(set.union(&last.into()))
}

fn distinct(sets: impl Iterator<Item = AddressSet>) -> Vec<AddressSet> {
    let mut found: Vec<AddressSet> = Vec::new();
    for set in sets {
        if !found.contains(&set) {
            found.push(set);
        }
    }
    found
}

/// What people enter too much or too little of: the zones, the networks, the hosts.
pub(super) struct Things([Vec<AddressSet>; 3]);

impl Things {
    /// Those of a plan.
    pub(super) fn of(plan: &Plan) -> Self {
        Self([
            plan.zone_ids().map(|zone| plan.zone_addresses(zone).clone()).collect(),
            plan.network_ids().map(|id| plan.network_addresses(id).clone()).collect(),
            plan.hosts().iter().map(|host| host.addresses.iter().copied().collect()).collect(),
        ])
    }
}

/// The next thing of a row that is not in the set: picking from a list, one slips by a line.
fn next_new(set: &AddressSet, things: &[AddressSet]) -> Option<AddressSet> {
    let start = things.iter().position(|thing| !thing.is_disjoint(set)).unwrap_or(0);
    let (before, after) = things.split_at(start);
    let mut around = after.iter().chain(before);
    around.find(|thing| !thing.is_empty() && !thing.is_subset(set)).cloned()
}

/// What the first interval gains by a prefix that is one bit too short.
fn bit_wider<A: AddressBits>(set: &IntervalSet<A>) -> Option<IntervalSet<A>> {
    let (low, high) = *set.spans().first()?;
    let (low, high) = (low.bits(), high.bits());
    let size = high.checked_sub(low)?.checked_add(1)?;
    let (from, to) = if low % size.checked_mul(2)? == 0 {
        (low, high.checked_add(size)?)
    } else {
        (low.checked_sub(size)?, high)
    };
    Some(IntervalSet::range(A::from_bits(from)?, A::from_bits(to)?))
}

/// The upper half of the first interval: what a prefix loses that is one bit too long.
fn upper_half<A: AddressBits>(set: &IntervalSet<A>) -> Option<IntervalSet<A>> {
    let (low, high) = *set.spans().first()?;
    let (from, to) = (low.bits(), high.bits());
    let middle = from + (to - from) / 2 + 1;
    let middle = A::from_bits(middle).filter(|_| middle <= to)?;
    Some(IntervalSet::range(middle, high))
}

/// Hours that were forgotten, or that begin or end an hour early or late.
pub(super) fn other_hours(at: &IntervalSet<Minute>) -> Vec<(Kind, IntervalSet<Minute>)> {
    if *at == IntervalSet::full() {
        return Vec::new();
    }
    let mut found = vec![(Kind::HoursForgotten, IntervalSet::full())];
    let moved = |begins: i32, ends: i32| {
        let bounded = |minute: Minute, by: i32| {
            let moved = i32::from(minute.number()).saturating_add(by);
            let within = moved.clamp(0, i32::from(Minute::PER_WEEK) - 1);
            Minute::new(u16::try_from(within).unwrap_or_default())
        };
        let spans =
            at.spans().iter().map(|(from, to)| (bounded(*from, begins), bounded(*to, ends)));
        IntervalSet::from_spans(spans.filter(|(from, to)| from <= to))
    };
    let hour = 60;
    for (begins, ends) in [(-hour, 0), (hour, 0), (0, -hour), (0, hour)] {
        found.push((Kind::HoursOff, moved(begins, ends)));
    }
    // The first day and the last one: ticking days, one misses one of a row.
    let day = Minute::PER_DAY;
    let days: Vec<IntervalSet<Minute>> = (0..7)
        .filter_map(|number| {
            let (first, last) = (Minute::new(number * day), Minute::new(number * day + day - 1));
            let own = IntervalSet::range(first, last);
            (!own.is_disjoint(at) && !at.is_subset(&own)).then(|| at.difference(&own))
        })
        .collect();
    let ends = days.iter().take(1).chain(days.iter().skip(1).last());
    found.extend(ends.map(|left| (Kind::DayMissing, left.clone())));
    found.retain(|(_, wrong)| wrong != at);
    found
}

/// The services with one port off, a range cut or stretched, the other protocol, or one thing forgotten.
pub(super) fn other_services(service: &ServiceSet) -> Vec<(Kind, ServiceSet)> {
    if *service == ServiceSet::any() {
        return Vec::new();
    }
    let mut found = vec![(Kind::ServiceAny, ServiceSet::any())];
    let (v4, v6) = (service.v4.spans(), service.v6.spans());
    for &(low, high) in v4.iter().chain(v6.iter().filter(|span| !v4.contains(span))) {
        let protocol = low.protocol();
        let whole = (low, high) == protocol.stretch();
        // What both families have is entered once.
        let held = (v4.contains(&(low, high)), v6.contains(&(low, high)));
        let own = in_families(held, (low, high));
        let rest = service.difference(&own);
        let with = |low, high| rest.union(&in_families(held, (low, high)));
        if !rest.is_empty() {
            found.push((Kind::ServiceForgotten, rest.clone()));
        }
        if whole || high.protocol() != protocol {
            continue;
        }
        let (Some(first_port), Some(last_port)) = (low.destination_port(), high.destination_port())
        else {
            continue;
        };
        let of = |protocol, port| ServicePoint::port(protocol, port);
        let ports = |first, last| with(of(protocol, first), of(protocol, last));
        let (more, less) = (|port: u16| port.saturating_add(1), |port: u16| port.saturating_sub(1));
        if low == high {
            found.push((Kind::PortOff, ports(more(first_port), more(last_port))));
            found.push((Kind::PortOff, ports(less(first_port), less(last_port))));
        } else {
            found.push((Kind::RangeOff, ports(first_port + 1, last_port)));
            found.push((Kind::RangeOff, ports(first_port, last_port - 1)));
            found.push((Kind::RangeOff, ports(first_port, more(last_port))));
        }
        if let Some(longer) = last_port.checked_mul(10).filter(|port| *port > 0) {
            let first = if low == high { longer } else { first_port };
            found.push((Kind::DigitTooMany, ports(first, longer)));
        }
        let other = if protocol == Protocol::TCP { Protocol::UDP } else { Protocol::TCP };
        let wrong = with(of(other, first_port), of(other, last_port));
        found.push((Kind::OtherProtocol, wrong));
    }
    // At the end of a line, or beside what is there already, nothing comes of it.
    found.retain(|(_, wrong)| wrong != service);
    found
}

/// A stretch of the service line in one family, or in both.
fn in_families((v4, v6): (bool, bool), (low, high): (ServicePoint, ServicePoint)) -> ServiceSet {
    let line = |held: bool| if held { IntervalSet::range(low, high) } else { IntervalSet::empty() };
    ServiceSet { v4: line(v4), v6: line(v6) }
}
