//! Temporary rules for a changeover without state: whatever must stop passing is blocked before anything else is let
//! through, by rules that are removed again at the end.

use super::lines::{Clash, Closed, Interfaces, Lines, State};
use super::merged::{Merged, Row};
use super::views::Kind;
use crate::plan::Action;
use crate::rules::{Effect, Endpoint, Matches, Rule, RuleId};
use crate::space::{AddressSet, Match, PacketSet};
use crate::verdict::Cause;

/// The merged lists with rules that block what must stop passing and could be half of a conversation whose other
/// half is let through meanwhile; each just above the row that lets it pass. With a packet of such a conversation. `None`
/// where there is none.
pub(super) fn block_first<'r>(merged: &Merged<'r>) -> Option<(Merged<'r>, Clash)> {
    if !merged.stateless {
        return None;
    }
    let lines = Lines::new(merged);
    let state = |rows: &dyn Fn(&Row<'_>) -> bool| State {
        surroundings: Interfaces::Both,
        rows: merged.rows.iter().map(rows).collect(),
    };
    let (old, new) = (state(&|row| row.is_in_old()), state(&|row| row.is_in_new()));
    let (closed, opened) = (lines.closed(&old, &new), lines.closed(&new, &old));
    let half = |one: Closed| {
        let halves = opened.iter().map(|other| halves(merged, &one, other));
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

/// The packets of what is closed that may belong to one conversation with what is opened, be they what is asked or the
/// reply.
fn halves(merged: &Merged<'_>, closed: &Closed, opened: &Closed) -> PacketSet {
    let mut halves = PacketSet::empty();
    for one in closed.packets.products() {
        for other in opened.packets.products() {
            let (here, there) = ((&one, &closed.kind), (&other, &opened.kind));
            let asked = conversation(merged, here, there).map(|(asked, _)| PacketSet::from(asked));
            let reply = conversation(merged, there, here).map(|(_, reply)| PacketSet::from(reply));
            asked.into_iter().chain(reply).for_each(|half| halves.add(half));
        }
    }
    halves
}

/// Of packets, those that are asked and those that are their replies. At an uplink addresses stand for others, so that they
/// tell nothing there.
fn conversation(
    merged: &Merged<'_>,
    (asked, asked_kind): (&Match, &Kind),
    (reply, reply_kind): (&Match, &Kind),
) -> Option<(Match, Match)> {
    let translates = |packets: &Match| !packets.enters.is_disjoint(&merged.uplinks);
    let (outward, inward) = (translates(reply), translates(asked));
    let (mut asked, mut reply) = (asked.clone(), reply.clone());
    asked.service = asked.service.intersection(&reply_kind.from);
    reply.service = reply.service.intersection(&asked_kind.asks_from());
    if !outward {
        let both = asked.source.intersection(&reply.destination);
        (asked.source, reply.destination) = (both.clone(), both);
    }
    if !inward {
        let both = asked.destination.intersection(&reply.source);
        (asked.destination, reply.source) = (both.clone(), both);
    }
    (!asked.is_empty() && !reply.is_empty()).then_some((asked, reply))
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
    match closed.kind.opens {
        true => Matches::First(packets),
        false => Matches::Replies { packets, from: closed.kind.from.clone() },
    }
}
