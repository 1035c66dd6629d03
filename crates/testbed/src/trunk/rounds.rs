//! Rounds of conversations: first all of them, then the surprising ones again and more slowly.

use super::judge::{Expected, Shown, Why, Wrong, judge};
use super::stand::Stand;
use crate::cable::{Came, Conversation, Pace};
use bastium_core::space::{Packet, Protocol};
use std::collections::BTreeSet;
use std::io;

/// How often a surprise is tried.
const TRIES: u32 = 3;
/// How much slower it is tried again: a gateway may have limits of its own.
const SLOWER: u32 = 4;

/// So many are tried again as slowly as notices may be limited, and that is so many a second.
const FEW: usize = 10;
const SLOWEST: u32 = 1;
/// And so many not as fast as all others, however fast these are.
const MANY: usize = 500;
const SLOW: u32 = 200;

/// A packet that can be tried.
pub(super) struct Attempt {
    pub(super) number: usize,
    pub(super) conversation: Conversation,
    pub(super) expected: Expected,
}

/// What came of it so far.
#[derive(Clone, Debug)]
pub(super) struct Outcome {
    pub(super) shown: Shown,
    pub(super) came: Came,
    pub(super) tries: u32,
}

impl Stand<'_, '_> {
    /// Where others from the same network were refused for the same reason, one that was not is no surprise: notices are limited.
    pub(super) fn excuse(&self, packets: &[Packet], outcomes: &mut [(usize, Outcome)]) {
        let like = |number: usize| {
            let packet = &packets[number];
            let notice = packet.service.protocol() != Protocol::TCP;
            notice.then(|| (packet.enters, self.meaning.decide(packet).cause))
        };
        let refused: BTreeSet<_> = outcomes
            .iter()
            .filter(|(_, outcome)| outcome.came.answer.is_some() && outcome.came.arrived.is_none())
            .filter_map(|(number, _)| like(*number))
            .collect();
        for (number, outcome) in outcomes {
            let excused = || like(*number).is_some_and(|like| refused.contains(&like));
            if outcome.shown == Shown::Wrong(Wrong::Silent) && excused() {
                outcome.shown = Shown::Nothing(Why::Limited);
            }
        }
    }

    /// Makes attempts; what surprises, and what could not be controlled, once more and slower.
    pub(super) fn make(
        &mut self,
        mut attempts: Vec<Attempt>,
        sweeps: bool,
        progress: &mut dyn FnMut(usize, usize),
    ) -> io::Result<Vec<(usize, Outcome)>> {
        // One control is good for many that have their ends in common.
        attempts.sort_by_key(|one| {
            let Conversation { lane, from, far, to, .. } = &one.conversation;
            (*lane, *from, *far, *to, one.number)
        });
        let total = attempts.len();
        let mut outcomes: Vec<Option<Outcome>> = attempts.iter().map(|_| None).collect();
        let mut left: Vec<usize> = (0..total).collect();
        for round in 0..TRIES {
            let pace = self.pace_of(round, &left, &outcomes, sweeps);
            let conversations: Vec<Conversation> =
                left.iter().map(|place| attempts[*place].conversation.clone()).collect();
            let came = self.ends.make(&conversations, pace, |done| {
                if round == 0 {
                    progress(done, total);
                }
            })?;
            for (place, came) in left.iter().zip(came) {
                let shown = judge(&attempts[*place].expected, &came);
                let known = &mut outcomes[*place];
                *known = Some(after(known.take(), shown, came));
            }
            left.retain(|place| outcomes[*place].as_ref().is_none_or(is_open));
            if left.is_empty() || self.ends.is_cut_off() {
                break;
            }
        }
        let outcomes = attempts.iter().zip(outcomes);
        Ok(outcomes.filter_map(|(attempt, outcome)| Some((attempt.number, outcome?))).collect())
    }

    /// How fast a round goes: those after the first one slower, and slowest where a notice of the gateway may have been one too
    /// many for its own limit (RFC 4443 2.4 f).
    fn pace_of(
        &self,
        round: u32,
        left: &[usize],
        outcomes: &[Option<Outcome>],
        sweeps: bool,
    ) -> Pace {
        let silent = |place: &usize| {
            let shown = outcomes[*place].as_ref().map(|outcome| outcome.shown);
            shown == Some(Shown::Wrong(Wrong::Silent))
        };
        match round {
            0 => self.manner.pace,
            _ if !left.iter().any(silent) => Pace((self.manner.pace.0 / SLOWER).max(20)),
            _ if !sweeps && left.len() <= FEW => Pace(SLOWEST.min(self.manner.pace.0)),
            _ if left.len() <= MANY => Pace(SLOW.min(self.manner.pace.0)),
            _ => Pace((self.manner.pace.0 / SLOWER).max(20)),
        }
    }
}

/// What is known after one more try: what gets through once does, and what is as planned once is, if nothing gets through.
fn after(known: Option<Outcome>, shown: Shown, came: Came) -> Outcome {
    let Some(known) = known else { return Outcome { shown, came, tries: 1 } };
    let tries = known.tries + 1;
    let stays = match (known.shown, shown) {
        (Shown::Wrong(Wrong::GetsThrough), _) => true,
        (_, Shown::Wrong(Wrong::GetsThrough) | Shown::AsPlanned) => false,
        (Shown::Wrong(_), Shown::Nothing(_)) => false,
        _ => false,
    };
    if stays { Outcome { tries, ..known } } else { Outcome { shown, came, tries } }
}

/// Whether it is worth another try.
fn is_open(outcome: &Outcome) -> bool {
    match outcome.shown {
        Shown::AsPlanned | Shown::Nothing(Why::NobodyAnswers) => false,
        Shown::Nothing(_) | Shown::Wrong(_) => true,
    }
}
