//! Finds the rows that say what one rule of a plan says, alone or together.

use super::Row;
use bastium_core::rules::Rule;
use bastium_core::space::{
    IntervalSet, Match, Nearby, PacketSet, Protocol, ServicePoint, ServiceSet,
};

/// The kinds of packets that rows for replies distinguish; without such rows, first packets alone.
pub(super) struct Kinds(Vec<ServiceSet>);

/// More kinds than this are not distinguished: no row is the plan's then.
const MOST_KINDS: usize = 200;

impl Kinds {
    /// The kinds that these ports distinguish.
    pub(super) fn of<'f>(from: impl Iterator<Item = &'f ServiceSet>) -> Option<Self> {
        let mut seen: Vec<&ServiceSet> = Vec::new();
        for one in from {
            if !seen.contains(&one) {
                seen.push(one);
            }
        }
        if seen.is_empty() {
            return Some(Self(Vec::new()));
        }
        let known = [Protocol::TCP, Protocol::UDP].map(ServiceSet::protocol);
        let rest = known.iter().fold(ServiceSet::any(), |rest, one| rest.difference(one));
        let mut parts: Vec<ServiceSet> = known.into_iter().chain([rest]).collect();
        for one in seen {
            let cut = parts.iter().flat_map(|part| [part.intersection(one), part.difference(one)]);
            parts = cut.filter(|part| !part.is_empty()).collect();
            if parts.len() > MOST_KINDS {
                return None;
            }
        }
        Some(Self(parts))
    }

    /// The packets of products by kind: first packets, then each kind of replies.
    pub(super) fn sets(
        &self,
        products: &[(Match, Option<ServiceSet>)],
        within: &PacketSet,
    ) -> Vec<PacketSet> {
        let first = products.iter().filter(|(_, from)| from.is_none());
        let first: PacketSet = first.map(|(product, _)| product.clone()).collect();
        let replies = self.0.iter().map(|kind| {
            let has =
                |from: &Option<ServiceSet>| from.as_ref().is_none_or(|from| kind.is_subset(from));
            let own = products.iter().filter(|(_, from)| has(from)).map(|(product, _)| Match {
                service: product.service.intersection(&protocols(kind)),
                ..product.clone()
            });
            own.filter(|one| !one.is_empty()).collect::<PacketSet>()
        });
        [first].into_iter().chain(replies).map(|set| set.intersection(within)).collect()
    }
}

/// All services of the protocols that some have.
fn protocols(some: &ServiceSet) -> ServiceSet {
    let family = |line: &IntervalSet<ServicePoint>| {
        let all = (0..=u8::MAX).map(Protocol);
        let some = all.filter(|protocol| !line.is_disjoint(&protocol.line()));
        IntervalSet::from_spans(some.map(Protocol::stretch))
    };
    ServiceSet { v4: family(&some.v4), v6: family(&some.v6) }
}

/// Packets by kind, and what happens to them.
pub(super) struct Sets<'r> {
    pub(super) row: &'r Row,
    pub(super) sets: Vec<PacketSet>,
}

/// A rule of the plan, in the same way.
pub(super) struct Own<'r> {
    pub(super) rule: &'r Rule,
    pub(super) sets: Vec<PacketSet>,
}

/// For each row, the place of the rule that it says, alone or with others.
pub(super) fn alike(rows: &[Sets<'_>], own: &[Own<'_>]) -> Vec<Option<usize>> {
    let mut found: Vec<Option<usize>> = vec![None; rows.len()];
    let packets: Vec<PacketSet> = rows.iter().map(|row| row.row.packets()).collect();
    let near = Nearby::new(packets.iter());
    for (place, own) in own.iter().enumerate() {
        let free = near.to(&all(&own.sets)).into_iter().filter(|row| found[*row].is_none());
        let parts: Vec<usize> = free.filter(|row| rows[*row].is_part_of(own)).collect();
        for row in together(rows, &near, own, &parts) {
            found[row] = Some(place);
        }
    }
    found
}

/// Of rows that each say a part of a rule, those that say it together: all, neighbours, or one alone.
fn together(rows: &[Sets<'_>], near: &Nearby, own: &Own<'_>, parts: &[usize]) -> Vec<usize> {
    if is_whole(rows, parts, own) && can_stand_together(rows, near, parts) {
        return parts.to_vec();
    }
    let runs: Vec<&[usize]> = parts.chunk_by(|one, next| one + 1 == *next).collect();
    let singles = parts.chunks(1);
    let mut all = runs.into_iter().chain(singles);
    all.find(|some| is_whole(rows, some, own)).unwrap_or_default().to_vec()
}

/// Whether rows could as well stand where the first of them does: no row between decides a packet of theirs. Lists for each
/// family have the rows of a rule apart.
fn can_stand_together(rows: &[Sets<'_>], near: &Nearby, parts: &[usize]) -> bool {
    let Some(&first) = parts.first() else { return false };
    parts.iter().all(|part| {
        let sets = &rows[*part].sets;
        let above = near.to(&all(sets)).into_iter().filter(|other| (first..*part).contains(other));
        let mut others = above.filter(|other| parts.binary_search(other).is_err());
        others.all(|other| {
            rows[other].sets.iter().zip(sets).all(|(one, other)| one.is_disjoint(other))
        })
    })
}

/// Packets of all kinds.
fn all(sets: &[PacketSet]) -> PacketSet {
    sets.iter().fold(PacketSet::empty(), |all, one| all.union(one))
}

fn is_whole(rows: &[Sets<'_>], some: &[usize], own: &Own<'_>) -> bool {
    let has_any = own.sets.iter().any(|set| !set.is_empty());
    has_any
        && own.sets.iter().enumerate().all(|(kind, set)| {
            let some = some.iter().map(|row| &rows[*row].sets[kind]);
            let all = some.fold(PacketSet::empty(), |all, row| all.union(row));
            set.is_subset(&all)
        })
}

impl Sets<'_> {
    fn is_part_of(&self, own: &Own<'_>) -> bool {
        self.row.does_as(own.rule)
            && self.sets.iter().zip(&own.sets).all(|(row, rule)| row.is_subset(rule))
    }
}

impl Row {
    /// Whether it does with its packets what a rule does.
    fn does_as(&self, rule: &Rule) -> bool {
        let limit = match (self.limit_mbps, rule.limit_mbps) {
            (None, None) => true,
            // Gateways count in whole bytes.
            (Some(one), Some(other)) => (one - other).abs() < 0.000_02,
            _ => false,
        };
        limit && (self.action, self.log) == (rule.action, rule.log)
    }
}
