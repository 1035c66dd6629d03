//! What decides a packet, in any state of the lists between the old and the new.

use super::merged::{Merged, Row};
use crate::plan::Action;
use crate::rules::{Effect, Rule};
use crate::space::{Nearby, PacketSet, ServiceSet};

/// What there is beside the rules: the interfaces and addresses of the gateway.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Surroundings {
    Old,
    /// What is new is there, and what shall go still is.
    Both,
    New,
}

/// A state of the gateway: which rows it has.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct State {
    pub(super) surroundings: Surroundings,
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

/// A kind of packets that rules for replies tell apart.
#[derive(Clone, Debug)]
struct View {
    /// The ports that they come from; `None` for those that no such rule takes for a reply.
    from: Option<ServiceSet>,
    /// Which lines can have one.
    takes: Vec<bool>,
}

/// What passes in one state and not in another.
#[derive(Clone, Debug)]
pub(super) struct Closed {
    /// The row that lets it pass.
    pub(super) row: usize,
    pub(super) packets: PacketSet,
    /// Where it comes from, if it only passes as a reply.
    pub(super) from: Option<ServiceSet>,
    /// What happens to it in the other state.
    pub(super) then: Effect,
}

/// All rows of both lists, laid out.
#[derive(Debug)]
pub(super) struct Lines {
    lines: Vec<Line>,
    of_row: Vec<Vec<usize>>,
    near: Nearby,
    views: Vec<View>,
    /// The packets that can come at all.
    coming: PacketSet,
}

/// Packets that a step would change to something that they shall not become, not even for a moment.
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

    /// What two steps change together.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        Self {
            opens: self.opens || other.opens,
            closes: self.closes || other.closes,
            otherwise: self.otherwise || other.otherwise,
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
        let views = views(&lines);
        let coming = PacketSet::from(merged.coming());
        Self { lines, of_row, near, views, coming }
    }

    fn takes_part(&self, view: usize, state: &State, line: usize) -> bool {
        let Line { row, there, .. } = &self.lines[line];
        self.views[view].takes[line] && state.rows[*row] && there[state.surroundings as usize]
    }

    /// Cuts a set by what happens to its packets in a state.
    fn decided(&self, view: usize, state: &State, set: &PacketSet) -> Vec<(PacketSet, Effect)> {
        let mut parts = Vec::new();
        let mut rest = set.clone();
        for line in self.near.to(set) {
            if !self.takes_part(view, state, line) {
                continue;
            }
            let Line { packets, effect, .. } = &self.lines[line];
            let here = rest.intersection(packets);
            if here.is_empty() {
                continue;
            }
            rest = rest.difference(packets);
            parts.push((here, *effect));
            if rest.is_empty() {
                return parts;
            }
        }
        parts.push((rest, Effect::silent(Action::Block)));
        parts
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
        for (packets, was, is) in self.changes(before, after) {
            changed.add(was.1, is);
            for (packets, goal) in self.decided(was.0, goal, &packets) {
                if goal != is {
                    let clash = Clash { packets, before: was.1, between: is, after: goal };
                    return Err(Box::new(clash));
                }
            }
        }
        Ok(changed)
    }

    /// The packets that fare otherwise in another state, by view, with what happened to them and what does.
    fn changes(&self, before: &State, after: &State) -> Vec<(PacketSet, (usize, Effect), Effect)> {
        let mut changes = Vec::new();
        for view in 0..self.views.len() {
            for line in self.toggled(before, after) {
                let (was, is) =
                    (self.takes_part(view, before, line), self.takes_part(view, after, line));
                let (with, without) = match (was, is) {
                    (false, true) => (after, before),
                    (true, false) => (before, after),
                    _ => continue,
                };
                let own = self.lines[line].effect;
                let first = self.first_at(view, with, line).intersection(&self.coming);
                if first.is_empty() {
                    continue;
                }
                for (packets, other) in self.decided(view, without, &first) {
                    if other != own && !packets.is_empty() {
                        let (was, is) = if was { (own, other) } else { (other, own) };
                        changes.push((packets, (view, was), is));
                    }
                }
            }
        }
        changes
    }

    /// The lines that one of two states has and the other has not.
    fn toggled(&self, before: &State, after: &State) -> Vec<usize> {
        if before.surroundings != after.surroundings {
            return (0..self.lines.len()).collect();
        }
        let rows = before.rows.iter().zip(&after.rows).enumerate();
        let rows = rows.filter(|(_, (was, is))| was != is);
        rows.flat_map(|(row, _)| self.of_row[row].iter().copied()).collect()
    }

    /// What passes in one state and not in another.
    pub(super) fn closed(&self, old: &State, new: &State) -> Vec<Closed> {
        let mut closed: Vec<Closed> = Vec::new();
        for (view, View { from, .. }) in self.views.iter().enumerate() {
            for (number, line) in self.lines.iter().enumerate() {
                if line.effect.action != Action::Allow || !self.takes_part(view, old, number) {
                    continue;
                }
                let first = self.first_at(view, old, number);
                for (packets, then) in self.decided(view, new, &first) {
                    let known = |one: &Closed| {
                        let same = one.row == line.row && one.then == then && one.from.is_none();
                        same && packets.is_subset(&one.packets)
                    };
                    let passes = then.action == Action::Allow || packets.is_empty();
                    if !passes && !closed.iter().any(known) {
                        closed.push(Closed { row: line.row, packets, from: from.clone(), then });
                    }
                }
            }
        }
        closed
    }

    /// The ports that rules for replies name.
    pub(super) fn named(&self) -> ServiceSet {
        let named = self.lines.iter().filter_map(|line| line.from.as_ref());
        named.fold(ServiceSet::empty(), |all, from| all.union(from))
    }
}

/// The lines of a row: one, or several where its list is asked about other packets in other surroundings.
fn lines_of(merged: &Merged<'_>, number: usize, row: &Row<'_>) -> Vec<Line> {
    let list = &merged.lists[row.list];
    let (packets, effect, from) = match (row.rule(), row.end) {
        (_, Some(action)) => (PacketSet::full(), Effect::silent(action), None),
        (Some(rule), None) => match row.packets(merged, rule) {
            Some(packets) => (packets, Effect::of(rule), rule.replies_from().cloned()),
            None => return Vec::new(),
        },
        (None, None) => return Vec::new(),
    };
    let covers = [&list.old, &list.both, &list.new];
    let mut lines: Vec<Line> = Vec::new();
    for (place, covers) in covers.into_iter().enumerate() {
        let own = packets.intersection(covers);
        match lines.iter_mut().find(|line| line.packets.is_same(&own)) {
            Some(line) => line.there[place] = true,
            None => {
                let mut there = [false; 3];
                there[place] = true;
                let from = from.clone();
                lines.push(Line { row: number, there, packets: own, effect, from });
            }
        }
    }
    lines
}

/// The kinds of packets that rules for replies tell apart: those that none takes for a reply, and for each set of
/// ports that some of these rules name alike, what comes from there. Which kinds there are is all that counts: whether a
/// packet can look so is not asked, which makes the checks stricter, never laxer.
fn views(lines: &[Line]) -> Vec<View> {
    let mut parts: Vec<ServiceSet> = vec![ServiceSet::any()];
    let mut seen: Vec<&ServiceSet> = Vec::new();
    for from in lines.iter().filter_map(|line| line.from.as_ref()) {
        if seen.contains(&from) {
            continue;
        }
        seen.push(from);
        let cut = parts.iter().flat_map(|part| [part.intersection(from), part.difference(from)]);
        parts = cut.filter(|part| !part.is_empty()).collect();
    }
    let none = lines.iter().map(|line| line.from.is_none()).collect();
    let mut views = vec![View { from: None, takes: none }];
    if seen.is_empty() {
        return views;
    }
    for part in parts {
        let takes = |line: &Line| line.from.as_ref().is_none_or(|from| part.is_subset(from));
        let takes: Vec<bool> = lines.iter().map(takes).collect();
        match views.iter_mut().find(|view| view.takes == takes) {
            Some(View { from: Some(from), .. }) => *from = from.union(&part),
            Some(_) => {}
            None => views.push(View { from: Some(part), takes }),
        }
    }
    views
}

impl Row<'_> {
    /// The packets of a rule, by the numbers of both plans.
    fn packets(&self, merged: &Merged<'_>, rule: &Rule) -> Option<PacketSet> {
        if self.temporary.is_some() {
            return rule.packets().map(PacketSet::from);
        }
        let entry = if self.new.is_some() { &merged.new } else { &merged.old };
        entry.packets(rule).map(PacketSet::from)
    }
}
