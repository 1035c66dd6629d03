//! Rules as binary decision diagrams, one variable for each bit of an IPv4 packet.

#![allow(dead_code, reason = "tests and benchmarks use some of it each")]

use bastium_core::plan::Action;
use bastium_core::rules::Rule;
use bastium_core::space::{Coordinate, IntervalSet, Match};
use biodivine_lib_bdd::{Bdd, BddPartialValuation, BddVariable, BddVariableSet};

/// The bits of an IPv4 packet: where it enters, source, destination, service, minute.
const WIDTHS: [usize; 5] = [5, 32, 32, 24, 14];

/// Makes diagrams of rules.
pub(crate) struct Judge {
    variables: BddVariableSet,
    bits: Vec<Vec<BddVariable>>,
}

/// What a list does, as one set of packets for each fate: allow, allow and log, block, ...
pub(crate) type Fates = Vec<(Action, bool, Bdd)>;

impl Judge {
    pub(crate) fn new() -> Self {
        let variables = BddVariableSet::new_anonymous(WIDTHS.iter().sum::<usize>() as u16);
        let mut all = variables.variables().into_iter();
        let bits = WIDTHS.iter().map(|width| all.by_ref().take(*width).collect()).collect();
        Self { variables, bits }
    }

    /// All numbers from `low` to `high`: as prefixes, each a conjunction of bits.
    fn range(&self, part: usize, low: u64, high: u64) -> Bdd {
        let width = WIDTHS[part];
        let mut set = self.variables.mk_false();
        let mut next = low;
        while next <= high {
            let mut size = 0;
            while size < width && next & (1 << size) == 0 && next + (2 << size) - 1 <= high {
                size += 1;
            }
            let mut prefix = BddPartialValuation::empty();
            for bit in size..width {
                let variable = self.bits[part][width - 1 - bit];
                prefix.set_value(variable, next >> bit & 1 == 1);
            }
            set = set.or(&self.variables.mk_conjunctive_clause(&prefix));
            next += 1 << size;
        }
        set
    }

    fn line<T: Coordinate>(
        &self,
        part: usize,
        set: &IntervalSet<T>,
        number: impl Fn(T) -> u64,
    ) -> Bdd {
        let last = (1u64 << WIDTHS[part]) - 1;
        let spans =
            set.spans().iter().map(|(low, high)| (number(*low).min(last), number(*high).min(last)));
        spans.fold(self.variables.mk_false(), |all, (low, high)| {
            all.or(&self.range(part, low, high))
        })
    }

    pub(crate) fn product(&self, matches: &Match) -> Bdd {
        let parts = [
            self.line(0, &matches.enters, |leg| leg.0.into()),
            self.line(1, &matches.source.v4, u64::from),
            self.line(2, &matches.destination.v4, u64::from),
            self.line(3, &matches.service.v4, u64::from),
            self.line(4, &matches.at, |minute| minute.number().into()),
        ];
        parts.iter().fold(self.variables.mk_true(), |all, part| all.and(part))
    }

    /// Goes down one list, rule by rule.
    pub(crate) fn fates<'r>(&self, rules: impl Iterator<Item = &'r Rule>, within: &Bdd) -> Fates {
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
        fates.push((Action::Block, false, rest));
        fates
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
