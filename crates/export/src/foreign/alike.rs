//! Legs that no line tells apart: they are looked at once.

use bastium_core::rules::BareLine;
use bastium_core::space::{IntervalSet, Leg, Match, PacketSet};
use std::collections::HashMap;

/// Legs, sorted by which lines speak of them.
pub(crate) struct Alike {
    /// For each first one of its kind, all that are like it.
    kinds: HashMap<Leg, IntervalSet<Leg>>,
    first: IntervalSet<Leg>,
}

impl Alike {
    /// Sorts so many legs by the lines of several lists.
    pub(crate) fn of(lists: &[&[BareLine]], legs: usize) -> Self {
        let mut speak: Vec<Vec<u32>> = vec![Vec::new(); legs];
        let lines = lists.iter().flat_map(|list| list.iter());
        let products = lines.flat_map(|line| &line.matches);
        for (number, product) in (0u32..).zip(products) {
            for (low, high) in product.enters.spans() {
                let last = usize::from(high.0).min(legs.saturating_sub(1));
                let here = speak.get_mut(usize::from(low.0)..=last).into_iter().flatten();
                here.for_each(|own| own.push(number));
            }
        }
        let mut known: HashMap<Vec<u32>, Vec<Leg>> = HashMap::new();
        for (leg, own) in (0u16..).zip(speak) {
            known.entry(own).or_default().push(Leg(leg));
        }
        let kinds = known.into_values().map(|legs| (legs[0], legs.into_iter().collect()));
        let kinds: HashMap<Leg, IntervalSet<Leg>> = kinds.collect();
        let first = kinds.keys().copied().collect();
        Self { kinds, first }
    }

    /// Lines that speak of the first leg of each kind alone.
    pub(crate) fn reduced(&self, lines: &[BareLine]) -> Vec<BareLine> {
        let mut lines = lines.to_vec();
        for line in &mut lines {
            for product in &mut line.matches {
                product.enters = product.enters.intersection(&self.first);
            }
            line.matches.retain(|product| !product.enters.is_empty());
        }
        lines
    }

    /// Packets of the first legs, on all that are like them.
    pub(crate) fn on_all(&self, packets: &PacketSet) -> PacketSet {
        let products = packets.products().map(|product| {
            let legs = product.enters.spans().iter().flat_map(|(low, high)| low.0..=high.0);
            let enters = legs.filter_map(|leg| self.kinds.get(&Leg(leg)));
            let enters = enters.fold(IntervalSet::empty(), |all, own| all.union(own));
            Match { enters, ..product }
        });
        products.collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bastium_core::plan::Action;

    fn line(legs: &[u16]) -> BareLine {
        let enters = legs.iter().map(|leg| Leg(*leg)).collect();
        let matches = vec![Match { enters, ..Match::everything() }];
        BareLine::new("line", 1, matches, Action::Allow, false)
    }

    #[test]
    fn legs_that_no_line_tells_apart_are_one_kind() {
        let lines = [line(&[0, 1, 2]), line(&[2, 3])];
        let alike = Alike::of(&[&lines], 6);
        let mut kinds: Vec<usize> = alike
            .kinds
            .values()
            .map(|legs| (0..6).filter(|n| legs.contains(Leg(*n))).count())
            .collect();
        kinds.sort_unstable();
        // 0 and 1; 2; 3; 4 and 5.
        assert_eq!(kinds, [1, 1, 2, 2]);
        let reduced = alike.reduced(&lines);
        assert!(reduced[0].matches[0].enters.contains(Leg(0)));
        assert!(!reduced[0].matches[0].enters.contains(Leg(1)));
        let all = alike.on_all(&PacketSet::from(&reduced[0].matches[0]));
        assert!([0, 1, 2].iter().all(|leg| all.enters().contains(Leg(*leg))));
        assert!(!all.enters().contains(Leg(3)));
    }
}
