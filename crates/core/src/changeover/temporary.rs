//! Rules for the time of a change: where no state is kept, what shall not pass any more is blocked before anything is let
//! through.

use super::lines::{Clash, Closed, Lines, State, Surroundings};
use super::merged::{Merged, Row};
use crate::plan::Action;
use crate::rules::{Effect, Endpoint, Matches, Rule, RuleId};
use crate::space::{AddressSet, Match, PacketSet, Protocol, ServiceSet};
use crate::verdict::Cause;

/// The merged lists with rules that block what shall not pass any more and could be half of a conversation whose other
/// half is let through meanwhile; each just above the row that lets it pass. With a packet of such a conversation. `None`
/// where there is none.
pub(super) fn block_first<'r>(merged: &Merged<'r>) -> Option<(Merged<'r>, Clash)> {
    if !merged.stateless {
        return None;
    }
    let lines = Lines::new(merged);
    let state = |rows: &dyn Fn(&Row<'_>) -> bool| State {
        surroundings: Surroundings::Both,
        rows: merged.rows.iter().map(rows).collect(),
    };
    let (old, new) = (state(&|row| row.is_in_old()), state(&|row| row.is_in_new()));
    let (closed, opened) = (lines.closed(&old, &new), lines.closed(&new, &old));
    let ports = Ports::besides(lines.named());
    let half = |one: Closed| {
        let halves = opened.iter().map(|other| ports.halves(merged, &one, other));
        let packets = halves.fold(PacketSet::empty(), |all, half| all.union(&half));
        Closed { packets, ..one }
    };
    let closed: Vec<Closed> = closed.into_iter().map(half).collect();
    let closed: Vec<Closed> = closed.into_iter().filter(|one| !one.packets.is_empty()).collect();
    let first = closed.first()?;
    let is = Effect::silent(Action::Allow);
    let clash = Clash {
        packets: first.packets.clone(),
        before: first.then,
        between: is,
        after: first.then,
    };
    let mut rows = Vec::new();
    // Where each row went.
    let mut places = Vec::new();
    for (place, row) in merged.rows.iter().enumerate() {
        let own = closed.iter().filter(|closed| closed.row == place);
        rows.extend(own.enumerate().flat_map(|(number, own)| temporary(row, number, own)));
        places.push(rows.len());
        rows.push(row.clone());
    }
    for row in &mut rows {
        row.alters = row.alters.map(|old| places[old]);
        row.moves = row.moves.map(|old| places[old]);
    }
    Some((merged.with_rows(rows), clash))
}

/// The ports that no rule for replies names.
struct Ports {
    others: ServiceSet,
    /// Those that packets come from which no such rule can have. What opens a connection of TCP is no reply, wherever it
    /// comes from; of ICMP nothing is known.
    of_first: ServiceSet,
}

impl Ports {
    fn besides(named: ServiceSet) -> Self {
        let others = ServiceSet::any().difference(&named);
        let free = [Protocol::TCP, Protocol::ICMP, Protocol::ICMP_V6].map(ServiceSet::protocol);
        let of_first = free.iter().fold(others.clone(), |all, one| all.union(one));
        Self { others, of_first }
    }

    /// The packets of what is closed that may belong to one conversation with what is opened, be they what is asked or
    /// the reply.
    fn halves(&self, merged: &Merged<'_>, closed: &Closed, opened: &Closed) -> PacketSet {
        let mut halves = PacketSet::empty();
        for one in closed.packets.products() {
            for other in opened.packets.products() {
                let asked = self.is_one(merged, (&one, &closed.from), (&other, &opened.from));
                halves.add(asked.map(|(asked, _)| PacketSet::from(asked)).unwrap_or_default());
                let reply = self.is_one(merged, (&other, &opened.from), (&one, &closed.from));
                halves.add(reply.map(|(_, reply)| PacketSet::from(reply)).unwrap_or_default());
            }
        }
        halves
    }

    /// Of packets, those that are asked and those that are their replies. At an uplink addresses stand for others, so that
    /// they tell nothing there.
    fn is_one(
        &self,
        merged: &Merged<'_>,
        (there, there_from): (&Match, &Option<ServiceSet>),
        (back, back_from): (&Match, &Option<ServiceSet>),
    ) -> Option<(Match, Match)> {
        let translates = |packets: &Match| !packets.enters.is_disjoint(&merged.uplinks);
        let tcp = ServiceSet::protocol(Protocol::TCP);
        let asked_from = there_from.as_ref().map(|from| from.difference(&tcp));
        let asked_from = asked_from.as_ref().unwrap_or(&self.of_first);
        let (mut there, mut back) = (there.clone(), back.clone());
        there.service = there.service.intersection(back_from.as_ref().unwrap_or(&self.others));
        back.service = back.service.intersection(asked_from);
        let (to_outside, outside) = (translates(&back), translates(&there));
        if !to_outside {
            let both = there.source.intersection(&back.destination);
            (there.source, back.destination) = (both.clone(), both);
        }
        if !outside {
            let both = there.destination.intersection(&back.source);
            (there.destination, back.source) = (both.clone(), both);
        }
        (!there.is_empty() && !back.is_empty()).then_some((there, back))
    }
}

/// Rules that block packets as they are blocked in the end.
fn temporary<'r>(row: &Row<'r>, number: usize, closed: &Closed) -> Vec<Row<'r>> {
    let Some(rule) = row.rule() else { return Vec::new() };
    let blocks = closed.packets.tidied();
    let rules = blocks.products().enumerate().map(|(part, packets)| Rule {
        id: RuleId::new(format!("temporary.{}-{}-{}", closed.row + 1, number + 1, part + 1)),
        name: "for the time of the change".to_owned(),
        reason: "At no moment may more pass than before and afterwards".to_owned(),
        service: packets.service.words().join(", "),
        ports: packets.service.words(),
        source: addresses(&packets.source),
        destination: addresses(&packets.destination),
        action: closed.then.action,
        log: closed.then.log,
        hours: None,
        limit_mbps: None,
        also: Vec::new(),
        matches: matches(closed, packets),
        cause: Cause::Unmatched,
        ..rule.clone()
    });
    rules
        .map(|rule| Row { list: row.list, temporary: Some(Box::new(rule)), ..Row::default() })
        .collect()
}

fn addresses(set: &AddressSet) -> Endpoint {
    if *set == AddressSet::full() {
        Endpoint::Any
    } else {
        Endpoint::expression(set.words().join(", "))
    }
}

fn matches(closed: &Closed, packets: Match) -> Matches {
    match &closed.from {
        Some(from) => Matches::Replies { packets, from: from.clone() },
        None => Matches::First(packets),
    }
}
