//! Conversations between our own ends as they are made: in batches, each between two controls.

use super::ends::Ends;
use super::frame;
use super::trials::{Came, Conversation, End, Pace, port_of};
use std::collections::HashSet;
use std::io;
use std::net::IpAddr;
use std::time::{Duration, Instant};

/// So many are under way at once; silence is believed between one control before them and one behind.
const AT_ONCE: usize = 200;
/// After so many of these, one after the other, in which no end of ours was answered, no more are begun.
const MOST_SILENT: u32 = 2;
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
        let mut alive: HashSet<End> = HashSet::new();
        for batch in conversations.chunks(AT_ONCE) {
            // Whoever has heard nothing for so long is not connected any more; the rest is not begun.
            if self.is_cut_off() {
                break;
            }
            let lost = self.lost();
            let ends: HashSet<End> = batch.iter().flat_map(Conversation::ends).collect();
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
            // Where no gateway was ever heard, silence is nothing new.
            if ends.iter().any(|end| self.has_gateway(*end)) {
                self.trials.silent = if lives.is_empty() { self.trials.silent + 1 } else { 0 };
            }
            alive = lives;
            done(self.trials.came.len() - first);
        }
        // What is late counts all the same.
        self.attend(GRACE)?;
        let mut came = self.trials.came[first..].to_vec();
        came.resize(conversations.len(), Came::default());
        Ok(came)
    }

    /// Whether no gateway has answered any end of ours for so long that nothing more is begun.
    pub fn is_cut_off(&self) -> bool {
        self.trials.silent >= MOST_SILENT
    }

    fn send_all(&mut self, batch: &[Conversation], pace: Pace) -> io::Result<()> {
        let between = Duration::from_secs(1) / pace.0.max(1);
        let mut next = Instant::now();
        for conversation in batch {
            let number = self.trials.came.len() as u32;
            let (lane, from) = (conversation.lane, conversation.from);
            self.trials.came.push(Came::default());
            self.trials.asked.push((lane, from, conversation.to));
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
        let v6 = own.is_ipv6();
        self.gateway_mac(lane, v6).is_some() && self.gateway_of(lane, v6).is_some()
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
                let Some(gateway) = self.gateway_of(lane, own.is_ipv6()) else { continue };
                if let Some(frame) = frame::who_has(self.mac(lane), own, gateway) {
                    self.put(lane, &frame)?;
                }
            }
            let all = |own: &Self| ends.iter().all(|end| answered(own, end));
            self.attend_until(Instant::now() + patience, all)?;
        }
        Ok(ends.iter().filter(|end| answered(self, end)).copied().collect())
    }

    /// Who asks for the gateway at an end of ours: outside, whoever is its neighbour there, since those that are farther away ask
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
