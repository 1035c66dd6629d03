//! Packets at the borders of everything that a plan and its rules tell apart.

#![expect(clippy::cast_possible_truncation, reason = "these numbers are small, or any will do")]

use bastium_core::plan::Plan;
use bastium_core::rules;
use bastium_core::space::{Coordinate, Ends, Interface, Minute, Packet, ServicePoint};
use std::collections::BTreeSet;
use std::net::{Ipv4Addr, Ipv6Addr};

/// The numbers at which anything changes: the ends of every interval, and their neighbours.
pub(crate) struct Borders {
    v4: BTreeSet<u32>,
    v6: BTreeSet<u128>,
    services: BTreeSet<ServicePoint>,
}

impl Borders {
    /// These and others.
    pub(crate) fn joined(mut self, mut other: Self) -> Self {
        self.v4.append(&mut other.v4);
        self.v6.append(&mut other.v6);
        self.services.append(&mut other.services);
        self
    }

    pub(crate) fn of(plan: &Plan, rules: &rules::RuleSet) -> Self {
        let mut borders =
            Self { v4: BTreeSet::new(), v6: BTreeSet::new(), services: BTreeSet::new() };
        let ends = plan.exceptions().iter().flat_map(|e| [&e.from.addresses, &e.to.addresses]);
        let ruled = rules.rules().filter_map(|rule| rule.packets());
        let ruled: Vec<_> = ruled.collect();
        for set in ends.chain(ruled.iter().flat_map(|m| [&m.source, &m.destination])) {
            borders.v4.extend(set.v4.spans().iter().flat_map(|span| around(*span)));
            borders.v6.extend(set.v6.spans().iter().flat_map(|span| around(*span)));
        }
        let own = plan.gateway_outside();
        borders.v4.extend(own.v4.spans().iter().flat_map(|span| around(*span)));
        for set in ruled.iter().map(|m| &m.service) {
            borders.services.extend(set.v4.spans().iter().flat_map(|span| around(*span)));
            borders.services.extend(set.v6.spans().iter().flat_map(|span| around(*span)));
        }
        borders
    }
}

fn around<T: Coordinate>((low, high): (T, T)) -> impl Iterator<Item = T> {
    [low.previous(), Some(low), Some(high), high.next()].into_iter().flatten()
}

fn pick<T: Copy>(all: &BTreeSet<T>, seed: &mut u64) -> T {
    *seed = seed.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
    let index = (*seed >> 33) as usize % all.len();
    *all.iter().nth(index).expect("the index is below the length")
}

/// A packet at the borders, chosen by a seed that moves on.
pub(crate) fn packet(borders: &Borders, plan: &Plan, seed: &mut u64) -> Packet {
    *seed = seed.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
    let enters = Interface((*seed >> 40) as u16 % (plan.gateway_interface().0 + 1));
    let service = pick(&borders.services, seed);
    let ends = if *seed >> 62 == 0 {
        Ends::V6 {
            source: Ipv6Addr::from_bits(pick(&borders.v6, seed)),
            destination: Ipv6Addr::from_bits(pick(&borders.v6, seed)),
        }
    } else {
        Ends::V4 {
            source: Ipv4Addr::from_bits(pick(&borders.v4, seed)),
            destination: Ipv4Addr::from_bits(pick(&borders.v4, seed)),
        }
    };
    // Monday is half past six, or Tuesday.
    let at = Minute::new(if *seed >> 50 & 1 == 0 { 390 } else { 1500 });
    Packet { enters, ends, service, at }
}
