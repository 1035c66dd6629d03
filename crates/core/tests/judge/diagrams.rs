//! Rules as binary decision diagrams, one variable for each bit of a packet of one family.

#![allow(dead_code, reason = "tests and benchmarks use some of it each")]
#![expect(clippy::cast_possible_truncation, reason = "these numbers are small, or any will do")]

use bastium_core::plan::Action;
use bastium_core::rules::Rule;
use bastium_core::space::{Coordinate, IntervalSet, Match, PacketSet};
use biodivine_lib_bdd::{Bdd, BddPartialValuation, BddVariable, BddVariableSet};

/// An address family.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Of {
    V4,
    V6,
}

impl Of {
    /// The bits of a packet: where it enters, source, destination, service, minute.
    fn widths(self) -> [usize; 5] {
        let address = if self == Self::V4 { 32 } else { 128 };
        [5, address, address, 24, 14]
    }
}

/// The last of the numbers of so many bits.
fn last_of(bits: usize) -> u128 {
    u128::MAX.checked_shr(128 - bits as u32).unwrap_or(0)
}

/// Makes diagrams of rules.
pub(crate) struct Judge {
    family: Of,
    variables: BddVariableSet,
    bits: Vec<Vec<BddVariable>>,
}

/// What a list does, as one set of packets for each fate: allow, allow and log, block, ...
pub(crate) type Fates = Vec<(Action, bool, Bdd)>;

impl Judge {
    pub(crate) fn new(family: Of) -> Self {
        let widths = family.widths();
        let variables = BddVariableSet::new_anonymous(widths.iter().sum::<usize>() as u16);
        let mut all = variables.variables().into_iter();
        let bits = widths.iter().map(|width| all.by_ref().take(*width).collect()).collect();
        Self { family, variables, bits }
    }

    /// All numbers from `low` to `high`: as prefixes, each a conjunction of bits.
    fn range(&self, part: usize, low: u128, high: u128) -> Bdd {
        let width = self.family.widths()[part];
        let mut set = self.variables.mk_false();
        let mut start = Some(low).filter(|low| *low <= high);
        while let Some(next) = start {
            // The numbers that share all bits but the last `size`.
            let last = |size: usize| next | last_of(size);
            let mut size = 0;
            while size < width && next & (1 << size) == 0 && last(size + 1) <= high {
                size += 1;
            }
            let mut prefix = BddPartialValuation::empty();
            for bit in size..width {
                let variable = self.bits[part][width - 1 - bit];
                prefix.set_value(variable, next >> bit & 1 == 1);
            }
            set = set.or(&self.variables.mk_conjunctive_clause(&prefix));
            start = last(size).checked_add(1).filter(|next| *next <= high);
        }
        set
    }

    fn line<T: Coordinate>(
        &self,
        part: usize,
        set: &IntervalSet<T>,
        number: impl Fn(T) -> u128,
    ) -> Bdd {
        let last = last_of(self.family.widths()[part]);
        let spans =
            set.spans().iter().map(|(low, high)| (number(*low).min(last), number(*high).min(last)));
        spans.fold(self.variables.mk_false(), |all, (low, high)| {
            all.or(&self.range(part, low, high))
        })
    }

    pub(crate) fn product(&self, matches: &Match) -> Bdd {
        let (source, destination, service) = match self.family {
            Of::V4 => (
                self.line(1, &matches.source.v4, u128::from),
                self.line(2, &matches.destination.v4, u128::from),
                &matches.service.v4,
            ),
            Of::V6 => (
                self.line(1, &matches.source.v6, |number| number),
                self.line(2, &matches.destination.v6, |number| number),
                &matches.service.v6,
            ),
        };
        let parts = [
            self.line(0, &matches.enters, |interface| interface.0.into()),
            source,
            destination,
            self.line(3, service, |point| point.number().into()),
            self.line(4, &matches.at, |minute| minute.number().into()),
        ];
        parts.iter().fold(self.variables.mk_true(), |all, part| all.and(part))
    }

    /// A whole set.
    pub(crate) fn set(&self, set: &PacketSet) -> Bdd {
        set.products().fold(self.nothing(), |all, product| all.or(&self.product(&product)))
    }

    /// Goes down one list, rule by rule; and what none of them matches.
    pub(crate) fn fates<'r>(
        &self,
        rules: impl Iterator<Item = &'r Rule>,
        within: &Bdd,
    ) -> (Fates, Bdd) {
        let mut fates: Fates = Vec::new();
        let mut rest = within.clone();
        for rule in rules {
            let Some(matches) = rule.first_packets() else { continue };
            let own = self.product(matches);
            let taken = rest.and(&own);
            rest = rest.and_not(&own);
            match fates.iter_mut().find(|fate| (fate.0, fate.1) == (rule.action, rule.log)) {
                Some(fate) => fate.2 = fate.2.or(&taken),
                None => fates.push((rule.action, rule.log, taken)),
            }
        }
        (fates, rest)
    }

    /// Whether two lists do the same with every packet that the meaning leaves to lists.
    pub(crate) fn same(&self, one: &Fates, other: &Fates) -> bool {
        one.iter().all(|(action, log, set)| {
            other
                .iter()
                .filter(|fate| (fate.0, fate.1) != (*action, *log))
                .all(|fate| set.and(&fate.2).is_false())
        })
    }

    /// No packet.
    pub(crate) fn nothing(&self) -> Bdd {
        self.variables.mk_false()
    }

    /// Every packet.
    pub(crate) fn everything(&self) -> Bdd {
        self.variables.mk_true()
    }
}
