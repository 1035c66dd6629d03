//! All lists as one: what decides a packet is the first line that has it.

use crate::plan::Action;
use crate::rules::{Effect, Otherwise, Rule, RuleList};
use crate::space::{Match, Nearby, Packet, PacketSet};

#[derive(Clone, Debug)]
struct Line {
    /// The list and the place in it, for a rule that has to be entered.
    place: Option<(usize, usize)>,
    packets: PacketSet,
    effect: Effect,
    /// Whether it takes only some of its packets, for it is a rule for replies.
    in_part: bool,
    removed: bool,
}

/// The lines of all lists, in the order in which they are asked, with an end for each list that has one.
#[derive(Clone, Debug)]
pub(super) struct Sequence {
    lines: Vec<Line>,
    near: Nearby,
}

impl Sequence {
    pub(super) fn new(lists: &[RuleList]) -> Self {
        // An end for each list, and one for all.
        let most = lists.iter().map(|list| list.rules.len() + 1).sum::<usize>() + 1;
        let mut lines = Vec::with_capacity(most);
        for (number, list) in lists.iter().enumerate() {
            for (place, rule) in list.rules.iter().enumerate() {
                // What has no first packet is not changed by what stands above or below it.
                let Some(packets) = rule.packets() else { continue };
                lines.push(Line {
                    place: (!list.implied).then_some((number, place)),
                    packets: PacketSet::from(packets).intersection(&list.covers),
                    effect: Effect::of(rule),
                    in_part: rule.is_for_replies(),
                    removed: false,
                });
            }
            let end = match list.otherwise {
                Otherwise::GoOn => continue,
                Otherwise::Allow => Action::Allow,
                Otherwise::Block => Action::Block,
            };
            lines.push(Line::end(list.covers.clone(), end));
        }
        lines.push(Line::end(PacketSet::from(Match::everything()), Action::Block));
        let near = Nearby::new(lines.iter().map(|line| &line.packets));
        Self { lines, near }
    }

    pub(super) fn len(&self) -> usize {
        self.lines.len()
    }

    /// Where the rule of a line stands, if it has to be entered and is there still.
    pub(super) fn place(&self, line: usize) -> Option<(usize, usize)> {
        let line = &self.lines[line];
        line.place.filter(|_| !line.removed)
    }

    pub(super) fn remove(&mut self, line: usize) {
        self.lines[line].removed = true;
    }

    /// Gives a line other packets.
    pub(super) fn replace(&mut self, line: usize, packets: PacketSet) {
        self.near.add(line, &packets);
        self.lines[line].packets = packets;
    }

    /// Whether some of a line's packets would fare otherwise if it were not there.
    pub(super) fn is_decided_otherwise_below(&self, line: usize, packets: &Match) -> bool {
        let packets = PacketSet::from(packets).intersection(&self.lines[line].packets);
        self.differs(&packets, line + 1, self.lines[line].effect, &[line])
    }

    /// Whether a line from `from` on is the first to have some of these packets, and does something else than
    /// `effect` with them. Lines of `without` do not count.
    pub(super) fn differs(
        &self,
        packets: &PacketSet,
        from: usize,
        effect: Effect,
        without: &[usize],
    ) -> bool {
        // Most rules are needed, and any packet of theirs shows it.
        if let Some(packet) = packets.sample()
            && let Some(first) = self.first_of(&packet, without)
            && first >= from
            && self.lines[first].effect != effect
        {
            return true;
        }
        let near = self.near(packets, without);
        near.iter().any(|&other| {
            other >= from
                && self.lines[other].effect != effect
                && self.is_first_for_some(packets, other, &near)
        })
    }

    /// Whether some packets of `packets` come first to another line before `to` that does something else with them.
    pub(super) fn differs_between(
        &self,
        packets: &PacketSet,
        (from, to): (usize, usize),
        effect: Effect,
        without: &[usize],
    ) -> bool {
        let near = self.near(packets, without);
        near.iter().any(|&other| {
            (from..to).contains(&other)
                && self.lines[other].effect != effect
                && self.is_first_for_some(packets, other, &near)
        })
    }

    /// The lines that may have some of these packets.
    fn near(&self, packets: &PacketSet, without: &[usize]) -> Vec<usize> {
        let mut near = self.near.to(packets);
        near.retain(|line| self.counts(*line, without));
        near
    }

    fn counts(&self, line: usize, without: &[usize]) -> bool {
        !self.lines[line].removed && !without.contains(&line)
    }

    /// The first line that takes a packet. Lines of `without` do not count.
    fn first_of(&self, packet: &Packet, without: &[usize]) -> Option<usize> {
        let takes = |number: &usize| {
            let line = &self.lines[*number];
            !line.in_part && self.counts(*number, without) && line.packets.contains(packet)
        };
        self.near.around(packet).into_iter().find(takes)
    }

    /// Whether a line is the first of those nearby to take some of these packets. Asked for one such packet, not for all of
    /// them: the lines above are many, and one packet is enough.
    fn is_first_for_some(&self, packets: &PacketSet, line: usize, near: &[usize]) -> bool {
        let own = packets.intersection(&self.lines[line].packets);
        // Those that do the same mostly have most of it, and stand just above.
        let until = near.partition_point(|above| *above < line);
        let above = near[..until].iter().rev().map(|above| &self.lines[*above]);
        let above = above.filter(|above| !above.in_part).map(|above| &above.packets);
        !own.is_empty() && !own.is_covered_by(above)
    }

    /// Takes the rules of removed lines out of their lists.
    pub(super) fn take_removed(self, lists: &mut [RuleList]) -> Vec<Rule> {
        let mut goes: Vec<Vec<bool>> =
            lists.iter().map(|list| vec![false; list.rules.len()]).collect();
        for line in self.lines.iter().filter(|line| line.removed) {
            if let Some((list, place)) = line.place {
                goes[list][place] = true;
            }
        }
        // In place: to move tens of thousands of rules costs more than to find out which of them go.
        let mut taken = Vec::new();
        for (list, goes) in lists.iter_mut().zip(goes) {
            let mut goes = goes.into_iter();
            taken.extend(list.rules.extract_if(.., |_| goes.next().unwrap_or_default()));
        }
        taken
    }
}

impl Line {
    fn end(packets: PacketSet, action: Action) -> Self {
        let effect = Effect::silent(action);
        Self { place: None, packets, effect, in_part: false, removed: false }
    }
}
