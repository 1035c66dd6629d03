//! Groups interfaces that no line distinguishes, so that each group is examined once.

use bastium_core::rules::PlanlessLine;
use bastium_core::space::{Interface, IntervalSet, Match, PacketSet};
use std::collections::HashMap;

/// Interfaces, sorted by which lines speak of them.
#[derive(Clone, Debug)]
pub struct Alike {
    /// For each first one of its kind, all that are like it.
    kinds: HashMap<Interface, IntervalSet<Interface>>,
    first: IntervalSet<Interface>,
}

impl Alike {
    /// Sorts so many interfaces by the lines of several lists.
    pub fn of(lists: &[&[PlanlessLine]], interfaces: usize) -> Self {
        let mut speak: Vec<Vec<u32>> = vec![Vec::new(); interfaces];
        let lines = lists.iter().flat_map(|list| list.iter());
        let products = lines.flat_map(|line| &line.matches);
        for (number, product) in (0u32..).zip(products) {
            for (low, high) in product.enters.spans() {
                let last = usize::from(high.0).min(interfaces.saturating_sub(1));
                let here = speak.get_mut(usize::from(low.0)..=last).into_iter().flatten();
                here.for_each(|own| own.push(number));
            }
        }
        let mut known: HashMap<Vec<u32>, Vec<Interface>> = HashMap::new();
        for (interface, own) in (0u16..).zip(speak) {
            known.entry(own).or_default().push(Interface(interface));
        }
        let kinds =
            known.into_values().map(|interfaces| (interfaces[0], interfaces.into_iter().collect()));
        let kinds: HashMap<Interface, IntervalSet<Interface>> = kinds.collect();
        let first = kinds.keys().copied().collect();
        Self { kinds, first }
    }

    /// Lines that speak of the first interface of each kind alone.
    pub fn reduced(&self, lines: &[PlanlessLine]) -> Vec<PlanlessLine> {
        let mut lines = lines.to_vec();
        for line in &mut lines {
            for product in &mut line.matches {
                product.enters = product.enters.intersection(&self.first);
            }
            line.matches.retain(|product| !product.enters.is_empty());
        }
        lines
    }

    /// Packets of the first interfaces, on all that are like them.
    pub fn on_all(&self, packets: &PacketSet) -> PacketSet {
        let products = packets.products().map(|product| {
            let interfaces = product.enters.spans().iter().flat_map(|(low, high)| low.0..=high.0);
            let enters = interfaces.filter_map(|interface| self.kinds.get(&Interface(interface)));
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

    fn line(interfaces: &[u16]) -> PlanlessLine {
        let enters = interfaces.iter().map(|interface| Interface(*interface)).collect();
        let matches = vec![Match { enters, ..Match::everything() }];
        PlanlessLine::new("line", 1, matches, Action::Allow, false)
    }

    #[test]
    fn interfaces_that_no_line_tells_apart_are_one_kind() {
        let lines = [line(&[0, 1, 2]), line(&[2, 3])];
        let alike = Alike::of(&[&lines], 6);
        let mut kinds: Vec<usize> = alike
            .kinds
            .values()
            .map(|interfaces| (0..6).filter(|n| interfaces.contains(Interface(*n))).count())
            .collect();
        kinds.sort_unstable();
        // 0 and 1; 2; 3; 4 and 5.
        assert_eq!(kinds, [1, 1, 2, 2]);
        let reduced = alike.reduced(&lines);
        assert!(reduced[0].matches[0].enters.contains(Interface(0)));
        assert!(!reduced[0].matches[0].enters.contains(Interface(1)));
        let all = alike.on_all(&PacketSet::from(&reduced[0].matches[0]));
        assert!([0, 1, 2].iter().all(|interface| all.enters().contains(Interface(*interface))));
        assert!(!all.enters().contains(Interface(3)));
    }
}
