//! The times at which packets are sent. The kernel has one clock, and the rules ask it; so what depends on
//! the time is tried under rules that are fixed as they hold then.

use super::Runner;
use bastium_core::checklist::Check;
use bastium_core::space::{Minute, Packet};

/// Checks that are made under the same rules.
#[derive(Default)]
pub(super) struct TimeSlot {
    /// When it is; at no time in particular, under the rules as they are, where there is none.
    pub(super) at: Option<Minute>,
    /// Which checks, by their numbers.
    pub(super) checks: Vec<usize>,
    /// Which of the plan's hours it is.
    hold: Vec<bool>,
}

impl Runner<'_, '_> {
    /// The checks by the time at which they are made, and a scene for every time at which a rule has to be
    /// tried. The one at no time in particular is the first.
    pub(super) fn scenes(&self, checks: &[&Check]) -> Vec<TimeSlot> {
        let mut scenes = vec![TimeSlot::default()];
        let checks = checks
            .iter()
            .enumerate()
            .map(|(number, check)| (Some(number), check.when.or(self.time_of(&check.packet))));
        let witnesses = self.alive.values().map(|packet| (None, self.time_of(packet)));
        for (number, at) in checks.chain(witnesses) {
            let hold = at.map_or_else(Vec::new, |at| self.hold(at));
            let same =
                |scene: &&mut TimeSlot| scene.at.is_some() == at.is_some() && scene.hold == hold;
            match scenes.iter_mut().find(same) {
                Some(scene) => scene.checks.extend(number),
                None => scenes.push(TimeSlot { at, checks: number.into_iter().collect(), hold }),
            }
        }
        scenes
    }

    /// When a packet has to come for the rule to decide it that decides it; `None` where it may come at any
    /// time.
    pub(super) fn time_of(&self, packet: &Packet) -> Option<Minute> {
        let decides = |at: Minute| {
            let outcome = self.rules.first_match(&Packet { at, ..*packet });
            outcome.rule.map(|rule| &rule.id)
        };
        let rule = decides(packet.at);
        self.moments.iter().any(|at| decides(*at) != rule).then_some(packet.at)
    }

    /// Whether what is to come at one time may come at another: at the same of the plan's hours.
    pub(super) fn may_come(&self, then: Option<Minute>, now: Option<Minute>) -> bool {
        match (then, now) {
            (Some(then), Some(now)) => self.hold(then) == self.hold(now),
            (then, now) => then == now,
        }
    }

    fn hold(&self, at: Minute) -> Vec<bool> {
        let hours = self.meaning.plan().hours();
        hours.iter().map(|hours| hours.minutes.contains(at)).collect()
    }
}
