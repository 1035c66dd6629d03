//! Which row decides a packet, in any state of the lists between the old and the new ones.

use super::merged::{Merged, Row};
use super::views::{Kind, Views};
use crate::plan::Action;
use crate::rules::{Effect, Rule};
use crate::space::{Nearby, PacketSet, ServiceSet};

/// What there is beside the rules: the interfaces and addresses of the gateway.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Interfaces {
    Old,
    /// What is new is there, and what shall go still is.
    Both,
    New,
}

/// A state of the gateway: which rows it has.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct State {
    pub(super) surroundings: Interfaces,
    /// By row of [`Merged`].
    pub(super) rows: Vec<bool>,
}

/// A row as far as it decides packets.
#[derive(Clone, Debug)]
struct Line {
    row: usize,
    /// In which surroundings it has these packets: old, both, new.
    there: [bool; 3],
    packets: PacketSet,
    effect: Effect,
    /// For a rule that lets replies back: the ports that they come from.
    from: Option<ServiceSet>,
}

/// Packets that fare otherwise in another state.
#[derive(Clone, Debug)]
struct Change {
    packets: PacketSet,
    kind: Kind,
    was: Effect,
    is: Effect,
}

/// What passes in one state and not in another.
#[derive(Clone, Debug)]
pub(super) struct Closed {
    /// The row that lets it pass.
    pub(super) row: usize,
    pub(super) packets: PacketSet,
    pub(super) kind: Kind,
    /// What happens to it in the other state.
    pub(super) then: Effect,
}

/// All rows of both lists, laid out.
#[derive(Debug)]
pub(super) struct Lines {
    lines: Vec<Line>,
    of_row: Vec<Vec<usize>>,
    near: Nearby,
    views: Views,
    /// The packets that can come at all.
    coming: PacketSet,
}

/// Packets that a step would treat as neither the old nor the new rules do, if only for a moment.
#[derive(Clone, Debug)]
pub(super) struct Clash {
    pub(super) packets: PacketSet,
    pub(super) before: Effect,
    pub(super) between: Effect,
    pub(super) after: Effect,
}

/// What a step changes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Changed {
    /// Something passes that did not.
    pub opens: bool,
    /// Something does not pass any more.
    pub closes: bool,
    /// Something is refused, logged or limited in another way.
    pub otherwise: bool,
}

impl Changed {
    fn add(&mut self, was: Effect, is: Effect) {
        let passes = |effect: Effect| effect.action == Action::Allow;
        match (passes(was), passes(is)) {
            (false, true) => self.opens = true,
            (true, false) => self.closes = true,
            _ => self.otherwise = true,
        }
    }
}

impl Lines {
    pub(super) fn new(merged: &Merged<'_>) -> Self {
        let mut lines = Vec::new();
        for (number, row) in merged.rows.iter().enumerate() {
            lines.extend(lines_of(merged, number, row));
        }
        let mut of_row = vec![Vec::new(); merged.rows.len()];
        for (number, line) in lines.iter().enumerate() {
            of_row[line.row].push(number);
        }
        let near = Nearby::new(lines.iter().map(|line| &line.packets));
        let from: Vec<Option<&ServiceSet>> = lines.iter().map(|line| line.from.as_ref()).collect();
        let views = Views::of(&from);
        let coming = PacketSet::from(merged.coming());
        Self { lines, of_row, near, views, coming }
    }

    fn takes_part(&self, view: usize, state: &State, line: usize) -> bool {
        let Line { row, there, .. } = &self.lines[line];
        self.views.takes(view, line) && state.rows[*row] && there[state.surroundings as usize]
    }

    /// Cuts a set by the lines that decide it in a state; none where no line does.
    fn decided(
        &self,
        view: usize,
        state: &State,
        set: &PacketSet,
    ) -> Vec<(PacketSet, Option<usize>)> {
        let mut parts = Vec::new();
        let mut rest = set.clone();
        for line in self.near.to(set) {
            if !self.takes_part(view, state, line) {
                continue;
            }
            let packets = &self.lines[line].packets;
            let here = rest.intersection(packets);
            if here.is_empty() {
                continue;
            }
            rest = rest.difference(packets);
            parts.push((here, Some(line)));
            if rest.is_empty() {
                return parts;
            }
        }
        parts.push((rest, None));
        parts
    }

    /// What a line does; none is the end of everything.
    fn effect(&self, line: Option<usize>) -> Effect {
        line.map_or(Effect::silent(Action::Block), |line| self.lines[line].effect)
    }

    /// The packets that come first to a line.
    fn first_at(&self, view: usize, state: &State, line: usize) -> PacketSet {
        let mut rest = self.lines[line].packets.clone();
        let near = self.near.to(&rest);
        let above = near.iter().filter(|above| **above < line);
        for &above in above.rev().filter(|above| self.takes_part(view, state, **above)) {
            rest = rest.difference(&self.lines[above].packets);
            if rest.is_empty() {
                break;
            }
        }
        rest
    }

    /// What changes from one state to another, where every packet that changes must become what `goal` does with it.
    ///
    /// # Errors
    /// Packets that become something else.
    pub(super) fn check(
        &self,
        before: &State,
        after: &State,
        goal: &State,
    ) -> Result<Changed, Box<Clash>> {
        let mut changed = Changed::default();
        for change in self.changes(before, after) {
            let Change { packets, kind, was, is } = change;
            changed.add(was, is);
            for (packets, line) in self.decided(kind.view, goal, &packets) {
                let goal = self.effect(line);
                if goal != is && !packets.is_empty() {
                    return Err(Box::new(Clash { packets, before: was, between: is, after: goal }));
                }
            }
        }
        Ok(changed)
    }

    /// The packets that fare otherwise in another state.
    fn changes(&self, before: &State, after: &State) -> Vec<Change> {
        let mut changes = Vec::new();
        for line in self.toggled(before, after) {
            let own = self.lines[line].effect;
            for kind in self.views.of_line(line, &self.near.to(&self.lines[line].packets)) {
                let was = self.takes_part(kind.view, before, line);
                let is = self.takes_part(kind.view, after, line);
                let (with, without) = match (was, is) {
                    (false, true) => (after, before),
                    (true, false) => (before, after),
                    _ => continue,
                };
                let first = self.first_at(kind.view, with, line).intersection(&self.coming);
                if first.is_empty() {
                    continue;
                }
                for (packets, other) in self.decided(kind.view, without, &first) {
                    let other = self.effect(other);
                    if other != own && !packets.is_empty() {
                        let (was, is) = if was { (own, other) } else { (other, own) };
                        changes.push(Change { packets, kind: kind.clone(), was, is });
                    }
                }
            }
        }
        changes
    }

    /// The lines that one of two states has and the other has not.
    fn toggled(&self, before: &State, after: &State) -> Vec<usize> {
        if before.surroundings != after.surroundings {
            let (was, is) = (before.surroundings as usize, after.surroundings as usize);
            let lines = self.lines.iter().enumerate();
            return lines
                .filter(|(_, l)| l.there[was] != l.there[is])
                .map(|(place, _)| place)
                .collect();
        }
        let rows = before.rows.iter().zip(&after.rows).enumerate();
        let rows = rows.filter(|(_, (was, is))| was != is);
        rows.flat_map(|(row, _)| self.of_row[row].iter().copied()).collect()
    }

    /// What passes in one state and not in another.
    pub(super) fn closed(&self, old: &State, new: &State) -> Vec<Closed> {
        let passes = |effect: Effect| effect.action == Action::Allow;
        let mut closed = Vec::new();
        for change in self.changes(old, new) {
            let Change { packets, kind, was, is } = change;
            if !passes(was) || passes(is) {
                continue;
            }
            for (packets, line) in self.decided(kind.view, old, &packets) {
                let Some(line) = line else { continue };
                let (row, kind) = (self.lines[line].row, kind.clone());
                closed.push(Closed { row, packets, kind, then: is });
            }
        }
        closed
    }
}

/// The lines of a row: one, or several where its list is asked about other packets in other surroundings.
fn lines_of(merged: &Merged<'_>, number: usize, row: &Row<'_>) -> Vec<Line> {
    let list = &merged.lists[row.list];
    let (parts, effect) = match (row.rule(), row.end) {
        (_, Some(action)) => (vec![(PacketSet::full(), None)], Effect::silent(action)),
        (Some(rule), None) => (row.parts(merged, rule), Effect::of(rule)),
        (None, None) => return Vec::new(),
    };
    let covers = [&list.old, &list.both, &list.new];
    let mut lines: Vec<Line> = Vec::new();
    for (packets, from) in &parts {
        for (place, covers) in covers.into_iter().enumerate() {
            let own = packets.intersection(covers);
            let same = |line: &&mut Line| line.from == *from && line.packets.is_same(&own);
            match lines.iter_mut().find(same) {
                Some(line) => line.there[place] = true,
                None => {
                    let mut there = [false; 3];
                    there[place] = true;
                    let from = from.clone();
                    lines.push(Line { row: number, there, packets: own, effect, from });
                }
            }
        }
    }
    lines
}

impl Row<'_> {
    /// The packets of a rule, by the numbers of both plans: those that come from certain ports each by themselves.
    fn parts(&self, merged: &Merged<'_>, rule: &Rule) -> Vec<(PacketSet, Option<ServiceSet>)> {
        let entry = if self.new.is_some() { &merged.new } else { &merged.old };
        let products = match self.temporary.is_some() {
            true => rule
                .matches
                .products()
                .into_iter()
                .map(|(own, from)| (own.clone(), from.cloned()))
                .collect(),
            false => entry.products(rule),
        };
        let mut parts: Vec<(PacketSet, Option<ServiceSet>)> = Vec::new();
        for (packets, from) in products {
            match parts.iter_mut().find(|(_, known)| *known == from) {
                Some((part, _)) => part.add(packets.into()),
                None => parts.push((packets.into(), from)),
            }
        }
        parts
    }
}
