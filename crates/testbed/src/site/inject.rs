//! Injects raw packets, and observes what becomes of each in the gateway.

use super::Site;
use crate::kernel::filter;
use crate::kernel::frame::{Raw, mark_of};
use crate::kernel::trace::{Kind, Outcome, Step};
use rustix::thread::{CpuSet, sched_getaffinity, sched_getcpu, sched_setaffinity};
use std::collections::{BTreeSet, HashMap, HashSet};
use std::io;
use std::time::{Duration, Instant};

/// What became of a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fate {
    /// The gateway's filter lets it pass.
    Passes,
    /// It is dropped.
    Dropped,
    /// It is dropped, and an answer says so.
    Rejected,
    /// It never came to a chain that decides: the kernel had dropped it before.
    NeverAsked,
}

/// A packet's fate, and the line that decided.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Judged {
    /// What became of it.
    pub fate: Fate,
    /// The chain that the kernel asked by itself, through which it went.
    pub chain: String,
    /// The comment of the line that decided; `None` where a policy or the kernel did.
    pub by: Option<String>,
}

/// How many packets are on their way before the filter is listened to.
const AT_ONCE: usize = 100;
/// How long the last packet of a batch may be under way.
const PATIENCE: Duration = Duration::from_secs(2);

/// Keeps this thread on the processor that it is on, until this is dropped.
struct Pinned(Option<CpuSet>);

impl Pinned {
    fn here() -> Self {
        let (here, before) = (sched_getcpu(), sched_getaffinity(None).ok());
        // A system that does not allow it may mix up the order, no more.
        Self(before.filter(|_| here < CpuSet::MAX_CPU).filter(|_| {
            let mut only = CpuSet::new();
            only.set(here);
            sched_setaffinity(None, &only).is_ok()
        }))
    }
}

impl Drop for Pinned {
    fn drop(&mut self) {
        if let Some(before) = &self.0 {
            let _ = sched_setaffinity(None, before);
        }
    }
}

/// Whether a step is the first of a batch's last packet.
fn is_last(step: &Step) -> bool {
    mark_of(&step.header) == Some((false, filter::LAST.mark))
        && step.header.get(9) == Some(&filter::LAST.protocol)
}

impl Site {
    /// Puts packets on the cable with that number, and tells what became of them. What the kernel knew of
    /// conversations is forgotten again and again, so that each packet is the first of its own.
    ///
    /// # Errors
    /// When the kernel does not take them, or does not tell.
    pub fn judge(&mut self, packets: &[(usize, Raw)]) -> io::Result<Vec<Judged>> {
        let mut judged = Vec::with_capacity(packets.len());
        for batch in packets.chunks(AT_ONCE) {
            judged.extend(self.batch(batch)?);
        }
        Ok(judged)
    }

    fn batch(&mut self, batch: &[(usize, Raw)]) -> io::Result<Vec<Judged>> {
        // Packets of one processor stay in their order.
        let _pinned = Pinned::here();
        for _ in 0..8 {
            self.gateway.within(filter::forget_conversations)?;
            self.trace.drain()?;
            let mut marks = HashMap::new();
            for (number, (cable, packet)) in batch.iter().enumerate() {
                let mark = self.mark();
                marks.insert((packet.source.is_ipv6(), mark), number);
                self.cables[*cable].put(&Raw { mark, ..*packet })?;
            }
            let cables: BTreeSet<usize> = batch.iter().map(|(cable, _)| *cable).collect();
            let Some(steps) = self.reported_until_last(&cables)? else { continue };
            return Ok(self.fates(&steps, &marks, batch.len()));
        }
        Err(io::Error::other("the kernel's trace is incomplete or late"))
    }

    /// All that the filter tells until a last packet has come by each of these cables. `None` where some of
    /// it was lost, or the last ones did not come.
    ///
    /// Mostly a packet is through when the call that sends it returns; but a busy kernel leaves it for later.
    fn reported_until_last(&mut self, cables: &BTreeSet<usize>) -> io::Result<Option<Vec<Step>>> {
        for cable in cables {
            self.cables[*cable].put(&filter::LAST)?;
        }
        let mut reported = Vec::new();
        let mut due = cables.len();
        let until = Instant::now() + PATIENCE;
        loop {
            let Some(steps) = self.trace.drain()? else { return Ok(None) };
            due = due.saturating_sub(steps.iter().filter(|step| is_last(step)).count());
            reported.extend(steps);
            if due == 0 {
                return Ok(Some(reported));
            }
            if Instant::now() >= until {
                return Ok(None);
            }
            std::thread::sleep(Duration::from_micros(100));
        }
    }

    pub(super) fn mark(&mut self) -> u16 {
        self.next_mark = self.next_mark.wrapping_add(1).max(1);
        self.next_mark
    }

    /// The first step that decides in a chain of the filter, packet by packet.
    fn fates(
        &self,
        steps: &[Step],
        marks: &HashMap<(bool, u16), usize>,
        count: usize,
    ) -> Vec<Judged> {
        let unasked = Judged { fate: Fate::NeverAsked, chain: String::new(), by: None };
        let mut fates = vec![unasked; count];
        let mut open: HashMap<u32, usize> = HashMap::new();
        let mut own: HashSet<u32> = HashSet::new();
        for step in steps {
            // What the gateway itself says about a packet may look like one.
            match step.chain.as_str() {
                "out" => own.insert(step.packet),
                "in" => own.remove(&step.packet),
                _ => false,
            };
            if own.contains(&step.packet) {
                open.remove(&step.packet);
                continue;
            }
            if let Some(number) = mark_of(&step.header).and_then(|mark| marks.get(&mark)) {
                open.insert(step.packet, *number);
            } else if !step.header.is_empty() {
                // An answer, or what a device says by itself: the number was used before.
                open.remove(&step.packet);
            }
            let Some(number) = open.get(&step.packet) else { continue };
            if fates[*number].fate == Fate::NeverAsked
                && let Some(judged) = self.decision(step)
            {
                fates[*number] = judged;
            }
        }
        fates
    }

    /// What a step decides; `None` if it decides nothing, or only about an address.
    pub(super) fn decision(&self, step: &Step) -> Option<Judged> {
        let line = (step.kind == Kind::Rule)
            .then(|| self.lines.get(&(step.table.clone(), step.rule)))
            .flatten();
        let translates = matches!(step.chain.as_str(), "inward" | "outward" | "in" | "out");
        if translates || step.kind == Kind::Return {
            return None;
        }
        let fate = match step.outcome {
            Outcome::Accept => Fate::Passes,
            Outcome::Drop if line.is_some_and(|line| line.rejects) => Fate::Rejected,
            Outcome::Drop => Fate::Dropped,
            Outcome::GoesOn => return None,
        };
        let by = line.map(|line| line.comment.clone()).filter(|comment| !comment.is_empty());
        Some(Judged { fate, chain: step.chain.clone(), by })
    }
}
