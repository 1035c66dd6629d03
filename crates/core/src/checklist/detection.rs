//! Which mistakes a packet shows: those with which the sender would see something else come back, compared with what
//! the plan expects.
//!
//! Mistakes are indexed by what they add to a rule or take away from it, so that a packet is compared only with those
//! that can concern it.

use super::evaluate::{self, Lists, Met, Place};
use crate::meaning::Meaning;
use crate::plan::Action;
use crate::rules::mistakes::{Change, Mistake, mistakes, top};
use crate::rules::{Rule, RuleSet};
use crate::space::{Match, Nearby, Packet, PacketSet};
use std::collections::HashMap;

/// All mistakes with the rules of a plan, ready to be asked about.
pub(super) struct Detection<'a> {
    meaning: &'a Meaning<'a>,
    /// The rules as they should be.
    pub(super) rules: &'a RuleSet<'a>,
    /// The mistakes.
    pub(super) mistakes: Vec<Mistake>,
    /// By rule, its mistakes.
    of_rule: HashMap<Place, Vec<u32>>,
    /// By rule, those of its mistakes by which it does not just match something else.
    not_matching: HashMap<Place, Vec<u32>>,
    /// By list, the mistake that allows anything at its top.
    at_tops: Vec<(usize, u32)>,
    /// The mistakes by which rules match less.
    losers: Vec<u32>,
    /// Where what they lose lies.
    near_losses: Nearby,
    /// What rules would match by mistake, with the mistakes.
    gains: Vec<(u32, Match)>,
    /// Where each of these lies.
    near_gains: Nearby,
    /// The rules, laid out.
    pub(super) lists: Lists<'a>,
    /// The rule for all replies, where state is kept.
    pub(super) replies: Option<Place>,
}

impl<'a> Detection<'a> {
    /// Makes all mistakes.
    pub(super) fn new(meaning: &'a Meaning<'a>, rules: &'a RuleSet<'a>) -> Self {
        let mistakes: Vec<Mistake> = mistakes(rules).collect();
        let mut of_rule: HashMap<Place, Vec<u32>> = HashMap::new();
        let mut not_matching: HashMap<Place, Vec<u32>> = HashMap::new();
        let mut at_tops = Vec::new();
        let (mut gains, mut losers, mut losses) = (Vec::new(), Vec::new(), Vec::new());
        for (number, mistake) in (0u32..).zip(&mistakes) {
            let Some(place) = mistake.place else { continue };
            of_rule.entry(place).or_default().push(number);
            if mistake.change == Change::AllowedAtTop {
                at_tops.push((place.0, number));
            }
            if !matches!(mistake.change, Change::Matches(_)) {
                not_matching.entry(place).or_default().push(number);
                continue;
            }
            let own = gain(mistake, rules).into_iter().flatten();
            gains.extend(own.map(|gain| (number, gain)));
            for loss in loss(mistake, rules).into_iter().flatten() {
                losers.push(number);
                losses.push(PacketSet::from(loss));
            }
        }
        let sets: Vec<PacketSet> = gains.iter().map(|(_, gain)| gain.into()).collect();
        Self {
            meaning,
            rules,
            mistakes,
            of_rule,
            not_matching,
            at_tops,
            losers,
            near_losses: Nearby::new(&losses),
            gains,
            near_gains: Nearby::new(&sets),
            lists: Lists::new(rules),
            replies: evaluate::rule_for_replies(rules),
        }
    }

    /// The numbers of the mistakes that a packet shows.
    pub(super) fn by(&self, packet: &Packet) -> Vec<u32> {
        let packet = &self.rules.as_filtered(packet);
        if self.rules.unseen.contains(packet) {
            return Vec::new();
        }
        let met = self.lists.met(packet);
        let Some(&decides) = met.first() else { return Vec::new() };
        let lost = self.near_losses.around(packet).into_iter().map(|loss| self.losers[loss]);
        let lost = lost.filter(|n| self.mistakes[*n as usize].place == Some(decides.place));
        let others = self.not_matching.get(&decides.place).into_iter().flatten().copied();
        let mut found: Vec<u32> =
            others.chain(lost).filter(|number| self.takes_away(*number, packet, &met)).collect();
        self.taken_from_below(packet, &met, &mut found);
        self.without_ipv6(packet, &met, &mut found);
        self.allowed_at_top(packet, decides, &mut found);
        if decides.action == Action::Allow {
            self.reply(packet, &mut found);
        }
        found.sort_unstable();
        found.dedup();
        found
    }

    /// Whether a packet shows one mistake.
    pub(super) fn shows(&self, packet: &Packet, number: u32) -> bool {
        let mistake = &self.mistakes[number as usize];
        let (Some(place), Change::Matches(_)) = (mistake.place, &mistake.change) else {
            return self.by(packet).contains(&number);
        };
        let packet = &self.rules.as_filtered(packet);
        if self.rules.unseen.contains(packet) {
            return false;
        }
        let met = self.lists.met(packet);
        let Some(&decides) = met.first() else { return false };
        if decides.place == place {
            return self.takes_away(number, packet, &met);
        }
        let gained = || gain(mistake, self.rules).into_iter().flatten();
        place < decides.place && gained().any(|gain| self.would_take(place, &gain, packet, decides))
    }

    /// Whether a mistake with the rule that decides lets something else happen.
    fn takes_away(&self, number: u32, packet: &Packet, met: &[Met]) -> bool {
        let decides = met[0];
        let next = met.get(1);
        let otherwise = next.map_or(Action::Block, |next| next.action);
        match &self.mistakes[number as usize].change {
            Change::Missing => otherwise != decides.action,
            Change::Action(_) => true,
            Change::Matches(other) => otherwise != decides.action && !other.contains(packet),
            Change::BelowTheNext => {
                let below = (decides.place.0, decides.place.1 + 1);
                next.is_some_and(|next| next.place == below && next.action != decides.action)
            }
            Change::Twice | Change::Log | Change::AllowedAtTop | Change::WithoutIpv6 => false,
        }
    }

    /// Whether a rule that matches too much would take a packet from the one that decides.
    fn would_take(&self, place: Place, gain: &Match, packet: &Packet, decides: Met) -> bool {
        let list = &self.rules.lists[place.0];
        list.rules[place.1].action != decides.action
            && gain.contains(packet)
            && list.packets().contains(packet)
    }

    /// The mistakes with a rule.
    pub(super) fn of(&self, place: Place) -> &[u32] {
        self.of_rule.get(&place).map_or(&[], Vec::as_slice)
    }

    /// Rules that would take the packet away from the one that decides: a second time at the top of the
    /// list, or since they match too much.
    fn taken_from_below(&self, packet: &Packet, met: &[Met], found: &mut Vec<u32>) {
        let decides = met[0];
        for lower in met[1..].iter().take_while(|lower| lower.place.0 == decides.place.0) {
            let above_all = top(&self.rules.lists[decides.place.0].rules) <= decides.place.1;
            let twice = self
                .of(lower.place)
                .iter()
                .filter(|number| matches!(self.mistakes[**number as usize].change, Change::Twice));
            if lower.action != decides.action && above_all {
                found.extend(twice);
            }
        }
        for gain in self.near_gains.around(packet) {
            let (number, gain) = &self.gains[gain];
            let Some(place) = self.mistakes[*number as usize].place else { continue };
            if place < decides.place && self.would_take(place, gain, packet, decides) {
                found.push(*number);
            }
        }
    }

    /// A line at the top of a list that allows anything takes every packet that is denied there, or in a list below.
    fn allowed_at_top(&self, packet: &Packet, decides: Met, found: &mut Vec<u32>) {
        if decides.action == Action::Allow {
            return;
        }
        let above = |(list, _): &&(usize, u32)| {
            let asked = &self.rules.lists[*list];
            (*list, top(&asked.rules)) <= decides.place && asked.packets().contains(packet)
        };
        found.extend(self.at_tops.iter().filter(above).map(|(_, number)| *number));
    }

    fn without_ipv6(&self, packet: &Packet, met: &[Met], found: &mut Vec<u32>) {
        if packet.source().is_ipv4() {
            return;
        }
        let is_left = |met: &&Met| !met.is_rule() || self.rules.lists[met.place.0].implied;
        let left = met.iter().find(is_left).map_or(Action::Block, |met| met.action);
        let all = u32::try_from(self.mistakes.len()).unwrap_or(u32::MAX);
        let last = self.mistakes.last().is_some_and(|m| m.change == Change::WithoutIpv6);
        found.extend((last && left != met[0].action).then_some(all.saturating_sub(1)));
    }

    /// Mistakes by which the reply to an allowed packet would not come back.
    fn reply(&self, packet: &Packet, found: &mut Vec<u32>) {
        let plan = self.meaning.plan();
        let with = |place: Place, change: Change| {
            let all = self.of(place).iter().copied();
            all.filter(move |number| self.mistakes[*number as usize].change == change)
        };
        let missing = |place: Place| with(place, Change::Missing);
        let Some(all) = self.replies else {
            if let [only] = self.rules.reply_rules(packet)[..]
                && let Some(place) = place_of(self.rules, only)
            {
                found.extend(missing(place));
                let next = self.rules.lists[place.0].rules.get(place.1 + 1);
                let denies = next.filter(|next| next.action != Action::Allow);
                let meets =
                    denies.and_then(Rule::first_packets).zip(evaluate::reply_to(plan, packet));
                if meets.is_some_and(|(denies, reply)| denies.contains(&reply)) {
                    found.extend(with(place, Change::BelowTheNext));
                }
            }
            return;
        };
        let Some(reply) = evaluate::reply_to(plan, packet) else { return };
        let meets = self.lists.met(&reply);
        if meets.first().is_none_or(|met| met.action == Action::Allow) {
            return;
        }
        found.extend(missing(all));
        let next = (all.0, all.1 + 1);
        if meets.first().is_some_and(|met| met.place == next) {
            found.extend(with(all, Change::BelowTheNext));
        }
    }
}

fn place_of(rules: &RuleSet, rule: &Rule) -> Option<Place> {
    rules.lists.iter().enumerate().find_map(|(number, list)| {
        let place = list.rules.iter().position(|other| std::ptr::eq(other, rule))?;
        Some((number, place))
    })
}

/// What a rule matches with a mistake, and without it not.
pub(super) fn gain(mistake: &Mistake, rules: &RuleSet) -> Option<Vec<Match>> {
    let own = mistake.rule(rules)?.first_packets()?;
    let Change::Matches(other) = &mistake.change else { return None };
    Some(without(other, own))
}

/// What a rule matches without a mistake, and with it not.
pub(super) fn loss(mistake: &Mistake, rules: &RuleSet) -> Option<Vec<Match>> {
    let own = mistake.rule(rules)?.first_packets()?;
    match &mistake.change {
        Change::Missing | Change::Action(_) => Some(vec![own.clone()]),
        Change::Matches(other) => Some(without(own, other)),
        _ => None,
    }
}

/// What one product has and another has not, as far as places, addresses and services distinguish them: a part
/// for each of these. Parts may overlap.
fn without(one: &Match, other: &Match) -> Vec<Match> {
    if one.is_empty() {
        return Vec::new();
    }
    let enters = one.enters.difference(&other.enters);
    let source = one.source.difference(&other.source);
    let destination = one.destination.difference(&other.destination);
    let service = one.service.difference(&other.service);
    let at = one.at.difference(&other.at);
    // Only what is left of something is made whole: a service can have a thousand ports.
    let parts = [
        (!enters.is_empty()).then(|| Match { enters, ..one.clone() }),
        (!source.is_empty()).then(|| Match { source, ..one.clone() }),
        (!destination.is_empty()).then(|| Match { destination, ..one.clone() }),
        (!service.is_empty()).then(|| Match { service, ..one.clone() }),
        (!at.is_empty()).then(|| Match { at, ..one.clone() }),
    ];
    parts.into_iter().flatten().collect()
}
