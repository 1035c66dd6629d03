//! Runs conversations between our own ends, in batches, each batch between two controls.

use super::ends::Ends;
use super::frame;
use super::trials::{Came, Conversation, End, Pace, Side, Silence, port_of};
use bastium_core::space::Family;
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::io;
use std::net::IpAddr;
use std::time::{Duration, Instant};

/// So many are under way at once; silence is believed between one control before them and one behind.
const AT_ONCE: usize = 200;
/// After so many of these, one after the other, in which none of our ends in a network was answered in a family, no more are
/// begun there.
const MOST_SILENT: u32 = 2;
/// How long it takes until the gateway is asked again where it fell silent.
const AGAIN: Duration = Duration::from_secs(20);
/// How long is waited for what comes late, once all controls are answered.
const GRACE: Duration = Duration::from_millis(30);
/// How long a control may take, each time that it is tried.
const CONTROL: [Duration; 3] =
    [Duration::from_millis(300), Duration::from_millis(700), Duration::from_millis(1500)];
impl Ends {
    /// Makes conversations, at that pace, and tells how many of them are done as they are.
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn make(
        &mut self,
        conversations: &[Conversation],
        pace: Pace,
        mut done: impl FnMut(usize),
    ) -> io::Result<Vec<Came>> {
        let first = self.trials.came.len();
        self.trials.gateways = (0..self.lanes().len())
            .flat_map(|lane| self.lanes()[lane].gateway.iter().map(move |own| (lane, *own)))
            .collect();
        self.look_again()?;
        let mut alive: HashSet<End> = HashSet::new();
        for batch in conversations.chunks(AT_ONCE) {
            if self.is_cut_off() {
                break;
            }
            let lost = self.lost();
            let begun = batch.iter().filter(|conversation| !self.leads_nowhere(conversation));
            let ends: HashSet<End> = begun.flat_map(Conversation::ends).collect();
            let unknown = ends.difference(&alive).copied().collect();
            alive = &alive | &self.alive(&unknown)?;
            let begins = self.trials.came.len();
            self.send_all(batch, pace)?;
            let lives = self.alive(&ends)?;
            let is_done =
                |ends: &Self| ends.trials.came[begins..].iter().all(|came| came.answer.is_some());
            self.attend_until(Instant::now() + GRACE, is_done)?;
            // What was lost on this machine may be just what got through.
            let whole = self.lost() == lost;
            for (conversation, came) in batch.iter().zip(&mut self.trials.came[begins..]) {
                let both = |end: End| alive.contains(&end) && lives.contains(&end);
                came.controlled = whole && conversation.ends().all(both);
            }
            self.note_silence(&ends, &lives)?;
            alive = lives;
            done(self.trials.came.len() - first);
        }
        // What is late counts all the same.
        self.attend(GRACE)?;
        let mut came = self.trials.came[first..].to_vec();
        came.resize(conversations.len(), Came::default());
        Ok(came)
    }

    /// Whether no gateway answers any end of ours any more, in no network.
    pub fn is_cut_off(&self) -> bool {
        let mut sides = self.sides().into_keys().peekable();
        sides.peek().is_some() && sides.all(|side| self.is_gone(side))
    }

    /// Where the gateway answered at first, and then for a while, or for good, no more.
    pub fn fell_silent(&self) -> impl Iterator<Item = Silence> + '_ {
        let sides = self.trials.fell_silent.keys();
        sides.map(|&(lane, family)| Silence { lane, family, over: !self.is_gone((lane, family)) })
    }

    /// Where inside we have ends that the gateway can be asked from, each with one of them.
    fn sides(&self) -> BTreeMap<Side, End> {
        let askers = self.own().filter(|end| self.has_gateway(*end));
        askers.map(|end| (side(end), end)).collect()
    }

    /// Whether the gateway has answered nobody there for so long that nothing more is begun.
    fn is_gone(&self, side: Side) -> bool {
        self.trials.silent.get(&side).is_some_and(|times| *times >= MOST_SILENT)
    }

    fn leads_nowhere(&self, conversation: &Conversation) -> bool {
        conversation.ends().any(|end| self.is_gone(side(end)))
    }

    /// Counts where the gateway has answered none of these ends. Once that is so for long, it is asked from everywhere else,
    /// too: whether it is one network or the whole cable.
    fn note_silence(&mut self, asked: &HashSet<End>, lives: &HashSet<End>) -> io::Result<()> {
        // Where no gateway was ever heard, silence is nothing new.
        let asked = asked.iter().filter(|end| self.has_gateway(**end));
        let asked: BTreeMap<Side, End> = asked.map(|end| (side(*end), *end)).collect();
        let lives: BTreeSet<Side> = lives.iter().map(|end| side(*end)).collect();
        let mut is_new = false;
        for (one, end) in asked {
            if lives.contains(&one) {
                self.trials.silent.remove(&one);
                continue;
            }
            *self.trials.silent.entry(one).or_default() += 1;
            is_new |= self.is_gone(one) && self.trials.fell_silent.insert(one, end).is_none();
        }
        if is_new { self.ask_others() } else { Ok(()) }
    }

    fn ask_others(&mut self) -> io::Result<()> {
        let mut others = self.sides();
        others.retain(|side, _| !self.is_gone(*side));
        for (side, end) in self.without_answer(others)? {
            self.trials.silent.insert(side, MOST_SILENT);
            self.trials.fell_silent.insert(side, end);
        }
        Ok(())
    }

    /// Asks where it was silent: a cable may be in again.
    fn look_again(&mut self) -> io::Result<()> {
        let mut gone = self.trials.fell_silent.clone();
        gone.retain(|side, _| self.is_gone(*side));
        let lately = self.trials.looked.is_some_and(|then| then.elapsed() < AGAIN);
        if gone.is_empty() || lately {
            return Ok(());
        }
        self.trials.looked = Some(Instant::now());
        let still = self.without_answer(gone.clone())?;
        gone.retain(|side, _| !still.contains_key(side));
        for side in gone.keys() {
            self.trials.silent.remove(side);
        }
        Ok(())
    }

    /// Those of them that the gateway does not answer.
    fn without_answer(
        &mut self,
        mut sides: BTreeMap<Side, End>,
    ) -> io::Result<BTreeMap<Side, End>> {
        let lives = self.alive(&sides.values().copied().collect())?;
        sides.retain(|_, end| !lives.contains(end));
        Ok(sides)
    }

    fn send_all(&mut self, batch: &[Conversation], pace: Pace) -> io::Result<()> {
        let between = Duration::from_secs(1) / pace.0.max(1);
        let mut next = Instant::now();
        for conversation in batch {
            let nowhere = self.leads_nowhere(conversation);
            let number = u32::try_from(self.trials.came.len()).unwrap_or(u32::MAX);
            let (lane, from) = (conversation.lane, conversation.from);
            self.trials.came.push(Came::default());
            self.trials.asked.push((lane, from, conversation.to));
            if nowhere {
                continue;
            }
            self.trials.by_port.insert((lane, from, port_of(number)), number);
            let packet = self.trials.first(number, conversation);
            let sent = self.is_own(lane, conversation.near) && self.send(lane, &packet)?;
            self.trials.came[number as usize].sent = sent;
            next += between;
            self.attend_until(next, |_| false)?;
        }
        Ok(())
    }

    /// Whether a gateway was heard where an end of ours is, and can be asked for in its family.
    fn has_gateway(&self, (lane, own): End) -> bool {
        let family = Family::of(own);
        self.gateway_mac(lane, family).is_some() && self.gateway_of(lane, family).is_some()
    }

    /// Which of our ends the gateway answers: by ARP, or neighbour discovery.
    fn alive(&mut self, ends: &HashSet<End>) -> io::Result<HashSet<End>> {
        self.trials.alive.clear();
        // Where no gateway was ever heard, none is waited for.
        let heard = ends.iter().filter(|end| self.has_gateway(**end));
        let ends: &HashSet<End> = &heard.copied().collect();
        let answered = |all: &Self, end: &End| all.trials.alive.contains(&all.asker(*end));
        for patience in CONTROL {
            let left: HashSet<End> = ends
                .iter()
                .filter(|end| !answered(self, end))
                .map(|end| self.asker(*end))
                .collect();
            if left.is_empty() {
                break;
            }
            for (lane, own) in left {
                let Some(gateway) = self.gateway_of(lane, Family::of(own)) else { continue };
                if let Some(frame) = frame::who_has(self.mac(lane), own, gateway) {
                    self.put(lane, &frame)?;
                }
            }
            let all = |own: &Self| ends.iter().all(|end| answered(own, end));
            self.attend_until(Instant::now() + patience, all)?;
        }
        Ok(ends.iter().filter(|end| answered(self, end)).copied().collect())
    }

    /// Who asks for the gateway at an end of ours: outside, its neighbour there, since those that are farther away ask
    /// nobody.
    fn asker(&self, (lane, own): End) -> End {
        match own {
            IpAddr::V6(_) if self.lanes()[lane].outside => {
                (lane, frame::link_local(self.mac(lane)).into())
            }
            own => (lane, own),
        }
    }
}

/// Where an end is, and in which family.
fn side((lane, own): End) -> Side {
    (lane, Family::of(own))
}
