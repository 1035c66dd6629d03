//! Which mistakes are noticed by each way of checking: by hand, from a laptop in each network, over one cable, in the
//! rehearsal.

use super::set_up::{Eyes, SetUpMistake, set_up_mistakes};
use super::strength::Undetectable;
use super::{Check, Checklist, Generator, Probe, Standpoint, carried};
use crate::addressing::Placeholder;
use crate::meaning::Meaning;
use crate::plan::{NetworkId, Plan};
use crate::proof::Proved;
use crate::space::{Family, Minute, Packet};
use crate::sweep;
use std::collections::{BTreeMap, HashMap, HashSet};

/// A way of checking.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Way {
    /// The list that one person carries through the building.
    ByHand,
    /// The whole list, from a laptop in each network.
    Laptops,
    /// The whole list as far as it can be made over one cable to all networks, with another outside; and a sweep.
    OneCable,
    /// The whole list and a sweep, against a gateway on this machine that has the rules: before anything is wired.
    Rehearsal,
}

impl Way {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::ByHand, Self::Laptops, Self::OneCable, Self::Rehearsal];

    /// Its name.
    pub fn word(self) -> &'static str {
        match self {
            Self::ByHand => "by hand",
            Self::Laptops => "laptops",
            Self::OneCable => "one cable",
            Self::Rehearsal => "rehearsal",
        }
    }

    fn eyes(self) -> Eyes {
        let (cable, rehearsal) = (self == Self::OneCable, self == Self::Rehearsal);
        Eyes {
            // As root, a laptop asks the server what it gives.
            servers: cable || self == Self::Laptops,
            given: !rehearsal,
            second: self == Self::ByHand,
            arrivals: cable || rehearsal,
            everywhere: cable,
            sockets: !cable && !rehearsal,
        }
    }

    /// Whether a check is made this way, at the hour of the sweep: a device need not answer a laptop by UDP; and no cable leads
    /// into a tunnel, behind another router, or to whatever a name leads to.
    fn makes(self, plan: &Plan, check: &Check) -> bool {
        let tunnel = |id: Option<NetworkId>| id.is_some_and(|id| plan.network(id).tunnel.is_some());
        let destination = check.packet.destination();
        match self {
            Self::ByHand | Self::Rehearsal => true,
            Self::Laptops => !check.may_stay_silent(),
            Self::OneCable => {
                let behind = matches!(check.standpoint, Standpoint::Behind(..));
                let by_name = Placeholder::of(destination).is_some();
                let person = check.probe == Probe::Browse;
                let tunnel =
                    tunnel(check.standpoint.network()) || tunnel(plan.network_of(destination));
                check.when.is_none() && !behind && !by_name && !person && !tunnel
            }
        }
    }
}

/// What becomes of the mistakes of one kind.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Noticed {
    /// The kind, in words joined by hyphens.
    pub kind: &'static str,
    /// Whether it is a mistake with rules; else with what there is beside them.
    pub in_rules: bool,
    /// How many were made.
    pub made: usize,
    /// How many change nothing, or nothing but the log, or show by luck alone.
    pub hidden: usize,
    /// How many others none of the ways shows.
    pub by_none: usize,
    /// How many each way shows, in the order of [`Way::ALL`].
    pub shown: [usize; 4],
}

/// What each way notices of every kind of mistake: those with rules first.
pub fn noticed(meaning: &Meaning<'_>, proved: Proved<'_>) -> Vec<Noticed> {
    let generator = Generator::new(meaning, proved.rules());
    let full = generator.full();
    let hidden: HashMap<u32, Undetectable> =
        full.strength.undetectable.iter().map(|(lapse, why)| (lapse.number, *why)).collect();
    let by_hand = carried::carried(&generator, full.clone());
    let swept = swept(meaning, &generator);
    let of = |list: &Checklist, way: Way| -> Vec<Check> {
        let checks = list.stands.iter().flat_map(|stand| &stand.checks);
        checks.filter(|check| way.makes(meaning.plan(), check)).cloned().collect()
    };
    let lists = Way::ALL.map(|way| of(if way == Way::ByHand { &by_hand } else { &full }, way));
    let seen: HashSet<u32> = swept.iter().flat_map(|packet| generator.shown.by(packet)).collect();
    let shown = Way::ALL.map(|way| {
        let own = lists[way as usize].iter().flat_map(|check| &check.shows).copied();
        let swept = seen.iter().copied().filter(|_| way.eyes().arrivals);
        own.chain(swept).collect::<HashSet<u32>>()
    });
    let mut rows: BTreeMap<_, Noticed> = BTreeMap::new();
    for (number, mistake) in (0u32..).zip(&generator.shown.mistakes) {
        let row = rows.entry(mistake.kind).or_default();
        (row.kind, row.in_rules) = (mistake.kind.word(), true);
        row.made += 1;
        let any = shown.iter().any(|shown| shown.contains(&number));
        // Nothing but the log, or nothing at all.
        let never = hidden.get(&number).is_some_and(|why| *why != Undetectable::NoPlace);
        row.hidden += usize::from(never && !any);
        row.by_none += usize::from(!never && !any);
        for (count, shown) in row.shown.iter_mut().zip(&shown) {
            *count += usize::from(shown.contains(&number));
        }
    }
    rows.into_values().chain(set_up(meaning, &lists, &swept)).collect()
}

/// The packets of a sweep over all ends that a tester could have, and two outside.
fn swept(meaning: &Meaning<'_>, generator: &Generator<'_>) -> Vec<Packet> {
    let plan = meaning.plan();
    let ends = sweep::wanted(meaning, generator.rules);
    let interface = (!plan.uplinks().is_empty()).then(|| plan.uplink_interface(0));
    let outside = Family::ALL.into_iter().filter_map(|family| {
        Some(sweep::End { interface: interface?, address: sweep::stranger(plan, family)? })
    });
    let outside: Vec<sweep::End> = outside.collect();
    sweep::packets(meaning, generator.rules, &ends, &outside, Minute::default())
}

fn set_up(meaning: &Meaning<'_>, lists: &[Vec<Check>; 4], swept: &[Packet]) -> Vec<Noticed> {
    let mut rows: BTreeMap<_, Noticed> = BTreeMap::new();
    for mistake in set_up_mistakes(meaning) {
        let SetUpMistake { kind, .. } = mistake;
        let row = rows.entry(kind).or_default();
        row.kind = kind.word();
        row.made += 1;
        row.hidden += usize::from(mistake.is_luck());
        if mistake.is_luck() {
            continue;
        }
        let shown = Way::ALL.map(|way| {
            let checks: Vec<&Check> = lists[way as usize].iter().collect();
            mistake.is_shown(meaning, &checks, swept, way.eyes())
        });
        row.by_none += usize::from(!shown.contains(&true));
        for (count, shown) in row.shown.iter_mut().zip(shown) {
            *count += usize::from(shown);
        }
    }
    rows.into_values().collect()
}
