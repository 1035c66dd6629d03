//! Compares two rule lists without their plans: which packets are treated differently.

use super::anomalies;
use super::comparison::compare;
use super::fate::Fate;
use super::partition::Partition;
use super::table::Table;
use crate::meaning::Meaning;
use crate::rules::PlanlessLine;
use crate::space::{Match, Packet, PacketSet};
use std::collections::BTreeMap;

/// Packets that two lists treat differently.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct PlanlessChange {
    /// The line of the old list, by its place.
    pub before: usize,
    /// The line of the new list, by its place.
    pub after: usize,
    /// The packets.
    pub packets: PacketSet,
}

/// What was found out about the lines of a list without a plan.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct PlanlessSingles {
    /// Lines that no packet comes to, with those above that take its packets; by their places.
    pub shadowed: Vec<(usize, Vec<usize>)>,
    /// Lines that change nothing, with those below that do the same; by their places.
    pub redundant: Vec<(usize, Vec<usize>)>,
    /// Lines that have to stay in their order, upper and lower, with a packet that both match.
    pub ordered: Vec<(usize, usize, Packet)>,
    /// How many questions could not be decided.
    pub undecided: usize,
}

/// In a list with more lines than this, pairs that depend on their order are not looked for.
const MOST_ORDERED: usize = 2_000;

/// Looks at every line of a list over so many interfaces. Those for which `counts` is false take no part: what
/// they match is not known for sure. Pairs are distinguished by what they do, the log left aside.
pub fn planless_singles(
    interfaces: usize,
    lines: &[PlanlessLine],
    counts: impl Fn(usize) -> bool,
) -> PlanlessSingles {
    let partition = Partition::plain(interfaces);
    let mut table = Table::new(&partition, 16);
    let mut plain = Table::new(&partition, 0);
    for (owner, line) in (0u32..).zip(lines).filter(|(owner, _)| counts(*owner as usize)) {
        for product in &line.matches {
            table.push(&product.into(), Fate::Decided(line.action, line.log), owner);
            plain.push(&product.into(), Fate::Decided(line.action, false), owner);
        }
    }
    let named = |owners: &[u32]| owners.iter().map(|owner| *owner as usize).collect::<Vec<_>>();
    let mut singles = PlanlessSingles::default();
    let lives = anomalies::anomalies(&table, lines.len(), |_| false).lives;
    for (owner, life) in lives.iter().enumerate() {
        if !counts(owner) || lines[owner].matches.is_empty() {
            continue;
        }
        singles.undecided += usize::from(life.undecided);
        match (life.undecided, life.witness, life.flips) {
            (true, ..) | (_, Some(_), Some(_)) => {}
            (_, None, _) => singles.shadowed.push((owner, named(&life.covered_by))),
            (_, Some(_), None) => singles.redundant.push((owner, named(&life.repeated_by))),
        }
    }
    // In a list of thousands nobody keeps an order by hand.
    if lines.len() <= MOST_ORDERED {
        let pairs = anomalies::anomalies(&plain, 0, |_| true).ordered.into_iter();
        singles.ordered =
            pairs.map(|pair| (pair.above as usize, pair.below as usize, pair.packet)).collect();
    }
    singles
}

/// Compares two lists over interfaces that are numbered alike, and says how many questions could not be decided.
/// What no line of one of them matches is left out. Only what the sender of a packet notices counts, so
/// the log is left aside.
///
/// ```
/// use bastium_core::plan::Action;
/// use bastium_core::proof::planless_changes;
/// use bastium_core::rules::PlanlessLine;
/// use bastium_core::space::{Match, Protocol, ServiceSet};
///
/// let web = Match { service: ServiceSet::ports(Protocol::TCP, 443, 443), ..Match::everything() };
/// let line = |id, matches, action| PlanlessLine::new(id, 0, vec![matches], action, false);
/// let old = [line("web", web.clone(), Action::Allow), line("rest", Match::everything(), Action::Block)];
/// let new = [line("rest", Match::everything(), Action::Block)];
/// let (changes, undecided) = planless_changes(1, &old, &new);
/// assert_eq!((changes.len(), undecided), (1, 0));
/// // Whatever the first line took fares otherwise, and nothing else does.
/// assert_eq!((changes[0].before, changes[0].after), (0, 0));
/// assert!(changes[0].packets.sample().is_some_and(|packet| packet.service.destination_port() == Some(443)));
/// ```
pub fn planless_changes(
    interfaces: usize,
    old: &[PlanlessLine],
    new: &[PlanlessLine],
) -> (Vec<PlanlessChange>, usize) {
    let fate = |line: &PlanlessLine| Fate::Decided(line.action, false);
    between(&Partition::plain(interfaces), &[], fate, [old, new])
}

/// Compares two lists over the interfaces of a plan, the log included; `unasked` is what is not compared.
pub fn planless_changes_in(
    meaning: &Meaning<'_>,
    unasked: &[Match],
    old: &[PlanlessLine],
    new: &[PlanlessLine],
) -> (Vec<PlanlessChange>, usize) {
    let fate = |line: &PlanlessLine| Fate::Decided(line.action, line.log);
    between(&Partition::of(meaning), unasked, fate, [old, new])
}

fn between(
    partition: &Partition,
    unasked: &[Match],
    fate: impl Fn(&PlanlessLine) -> Fate,
    lists: [&[PlanlessLine]; 2],
) -> (Vec<PlanlessChange>, usize) {
    let [old, new] = lists.map(|lines| {
        let mut table = Table::new(partition, 0);
        for product in unasked {
            table.push(&product.into(), Fate::Unasked, u32::MAX);
        }
        for (owner, line) in (0u32..).zip(lines) {
            for product in &line.matches {
                table.push(&product.into(), fate(line), owner);
            }
        }
        table
    });
    let compared = compare(&old, &new);
    let mut gathered: BTreeMap<(u32, u32), PacketSet> = BTreeMap::new();
    for clash in compared.clashes {
        gathered.entry((clash.one, clash.other)).or_default().add(clash.packets);
    }
    let changes = gathered.into_iter().map(|((before, after), packets)| PlanlessChange {
        before: before as usize,
        after: after as usize,
        packets,
    });
    (changes.collect(), compared.undecided)
}
