//! An independent judge: the same rule lists as binary decision diagrams, bit by bit, on a general crate for
//! such. It knows nothing of intervals, blocks or cells.

mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Form, Plan, resolve};
use bastium_core::proof;
use bastium_core::rules::{self, Rule, RuleSet, damage};
use bastium_core::space::{Coordinate, IntervalSet, Match};
use biodivine_lib_bdd::{Bdd, BddPartialValuation, BddVariable, BddVariableSet};
use model::{TODAY, any_draft};
use proptest::prelude::*;

/// The bits of an IPv4 packet: where it enters, source, destination, service, minute.
const WIDTHS: [usize; 5] = [5, 32, 32, 24, 14];

struct Judge {
    variables: BddVariableSet,
    bits: Vec<Vec<BddVariable>>,
}

/// What a list does, as one set of packets for each fate: allow, allow and log, block, ...
type Fates = Vec<(Action, bool, Bdd)>;

impl Judge {
    fn new() -> Self {
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

    fn product(&self, matches: &Match) -> Bdd {
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
    fn fates<'r>(&self, rules: impl Iterator<Item = &'r Rule>, within: &Bdd) -> Fates {
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
    fn same(&self, one: &Fates, other: &Fates) -> bool {
        one.iter().all(|(action, log, set)| {
            other
                .iter()
                .filter(|fate| (fate.0, fate.1) != (*action, *log))
                .all(|fate| set.and(&fate.2).is_false())
        })
    }

    /// What comes before a list by way of the gateway: what its meaning decides by verdict, from outside.
    fn filtered(&self, meaning: &Meaning<'_>) -> Bdd {
        let universe = meaning.universe();
        let outer = (0..meaning.plan().gateway_leg().0).map(bastium_core::space::Leg).collect();
        let outer = Match { enters: outer, ..Match::everything() };
        let set = universe.intersection(&outer.into());
        let parts =
            meaning.parts(&set).into_iter().filter(|part| part.decision.verdict.is_filtered());
        let products: Vec<Match> =
            parts.flat_map(|part| part.packets.products().collect::<Vec<_>>()).collect();
        products
            .iter()
            .fold(self.variables.mk_false(), |all, product| all.or(&self.product(product)))
    }
}

/// The lists of a form that asks one after the other, as one list: those for the gateway alone are cut to it.
fn judged(judge: &Judge, rules: &RuleSet, within: &Bdd, gateway: &Bdd) -> Fates {
    let (mut fates, mut open) = (Fates::new(), within.clone());
    for list in &rules.lists {
        if list.stage == rules::Stage::FromGateway {
            continue;
        }
        let here = match list.stage {
            rules::Stage::ToGateway => open.and(gateway),
            _ => open.clone(),
        };
        for (action, log, set) in judge.fates(list.rules.iter(), &here) {
            let end = action == Action::Block && !log;
            let decided = if end && list.otherwise == rules::Otherwise::GoOn {
                // The rest of the list goes on; what a rule of it blocks without a word does not.
                let silent = list.rules.iter().filter(|r| r.action == Action::Block && !r.log);
                let silent = silent.filter_map(Rule::first_packets);
                let silent =
                    silent.fold(judge.variables.mk_false(), |all, m| all.or(&judge.product(m)));
                set.and(&silent)
            } else {
                set
            };
            open = open.and_not(&decided);
            fates.push((action, log, decided));
        }
    }
    fates
}

fn gateway(judge: &Judge, meaning: &Meaning<'_>) -> Bdd {
    let own = rules::compile(meaning);
    let list = own.list(rules::Stage::ToGateway).expect("the one list has one");
    let covers = list.packets().clone();
    covers
        .products()
        .fold(judge.variables.mk_false(), |all, product| all.or(&judge.product(&product)))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]

    /// The verdict sets of the one list and of the meaning are the same diagrams; and of every damaged list
    /// the judge says what the proof says.
    #[test]
    fn the_judge_and_the_proof_say_the_same(
        draft in any_draft(), picks in prop::collection::vec(any::<prop::sample::Index>(), 6),
    ) {
        let mut draft = draft;
        draft.inbounds.clear();
        let plan: Plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::in_form(&meaning, Form::OneList).expect("says everything");
        let judge = Judge::new();
        let (within, gateway) = (judge.filtered(&meaning), gateway(&judge, &meaning));
        let right = judged(&judge, &rules, &within, &gateway);
        // The meaning, part by part.
        for part in meaning.parts(&meaning.universe()) {
            if !part.decision.verdict.is_filtered() {
                continue;
            }
            let products: Vec<Match> = part.packets.products().collect();
            let set = products.iter().fold(judge.variables.mk_false(), |all, p| all.or(&judge.product(p))).and(&within);
            for (action, log, decided) in &right {
                let same = bastium_core::verdict::Verdict::from(*action) == part.decision.verdict && *log == part.decision.logged;
                prop_assert!(same || set.and(decided).is_false(), "{:?}", part.decision);
            }
        }
        let damages: Vec<damage::Damage> = damage::damages(&plan, &rules).collect();
        for pick in picks {
            let damaged = pick.get(&damages);
            let wrong = judged(&judge, &damaged.rules, &within, &gateway);
            let found = proof::differences(&meaning, &damaged.rules, &meaning.universe());
            let v4 = found.iter().any(|d| !d.packets.v4.is_empty() && d.packet.enters < plan.gateway_leg());
            let v4 = v4 || found.iter().any(|d| d.packets.v4.blocks().iter().any(|b| b.enters.first().is_some_and(|leg| leg < plan.gateway_leg())));
            prop_assert_eq!(judge.same(&right, &wrong), !v4, "{:?} of {}", damaged.kind, damaged.rule);
        }
    }
}
