//! Mistakes in the rules that let replies back: the search is for an allowed packet whose reply would be lost.

use super::{Search, shared};
use crate::checklist::candidate::Candidate;
use crate::checklist::evaluate::replies_to;
use crate::checklist::strength::Undetectable;
use crate::plan::Action;
use crate::proof::witness_search::{END, Wanted};
use crate::rules::RuleSet;
use crate::rules::mistakes::{Change, Mistake};
use crate::space::{Ends, Match, Nearby, Packet, PacketSet};
use crate::verdict::{Cause, Verdict};

/// What asks for replies that are let back, by the rule that does so.
pub(super) struct Answered {
    rules: Vec<Option<(usize, usize)>>,
    sets: Vec<PacketSet>,
    nearby: Nearby,
}

impl Answered {
    /// Lays out what is answered where no state is kept.
    pub(super) fn by(rules: &RuleSet) -> Self {
        let (rules, sets): (_, Vec<PacketSet>) =
            rules.answered().into_iter().map(|(rule, set)| (rule, set.into())).unzip();
        let nearby = Nearby::new(&sets);
        Self { rules, sets, nearby }
    }
}

/// What a search among the replies came to.
#[derive(Default)]
struct Waiting {
    /// A check whose reply would be lost.
    candidate: Option<Candidate>,
    /// Whether anything would.
    anything: bool,
    /// Whether some of it could not be decided.
    undecided: bool,
}

impl Search<'_> {
    /// A check that shows a mistake with a rule for replies, or why there is none.
    pub(super) fn by_reply(
        &self,
        number: u32,
        mistake: &Mistake,
    ) -> Result<Candidate, Option<Undetectable>> {
        if self.is_harmless(mistake) {
            return Err(Some(Undetectable::NoDifference));
        }
        let sent = self.shown.rules.set_as_filtered(&self.places.all());
        // Where no state is kept, each rule is for some replies: what others let back as well is no loss.
        let alone = self.shown.replies.is_none().then(|| self.by_this_rule_alone(mistake));
        let of_it = |set: &PacketSet| match &alone {
            Some(alone) => set.intersection(alone),
            None => set.clone(),
        };
        let here = self.waiting(number, mistake, &of_it(&sent));
        if let Some(candidate) = here.candidate {
            return Ok(candidate);
        }
        let anywhere = self.waiting(number, mistake, &of_it(&self.meaning.universe()));
        match (here.undecided || here.anything || anywhere.undecided, anywhere.anything) {
            (true, _) => Err(None),
            (false, true) => Err(Some(Undetectable::NoPlace)),
            (false, false) => Err(Some(Undetectable::NoDifference)),
        }
    }

    /// Whether no reply is affected: all rules for replies let them pass, and none comes spoofed.
    fn is_harmless(&self, mistake: &Mistake) -> bool {
        let next = mistake
            .place
            .and_then(|(list, place)| self.shown.rules.lists[list].rules.get(place + 1));
        match (&mistake.change, next) {
            (Change::BelowTheNext, Some(next)) => {
                next.action == Action::Allow || matches!(next.cause, Cause::Spoofed(..))
            }
            (change, _) => *change != Change::Missing,
        }
    }

    /// Of a set, what is allowed and would get no reply with a mistake.
    fn waiting(&self, number: u32, mistake: &Mistake, set: &PacketSet) -> Waiting {
        let parts = self.meaning.parts(set).into_iter();
        let allowed = parts.filter(|part| part.decision.verdict == Verdict::Allow);
        let mut found = Waiting::default();
        if self.shown.replies.is_none() && mistake.change == Change::Missing {
            self.without_state(number, mistake, allowed.map(|part| part.packets), &mut found);
            return found;
        }
        for part in allowed {
            for (reply, asked) in part
                .packets
                .products()
                .flat_map(|product| replies_to(self.meaning.plan(), &product))
            {
                self.one(number, mistake, (&reply, &asked), &mut found);
                if found.candidate.is_some() {
                    return found;
                }
            }
        }
        found
    }

    fn one(
        &self,
        number: u32,
        mistake: &Mistake,
        (reply, asked): (&Match, &Match),
        found: &mut Waiting,
    ) {
        let replies: PacketSet = match (&mistake.change, mistake.place) {
            (Change::BelowTheNext, Some((list, place))) => {
                let rules = &self.shown.rules.lists[list].rules;
                // Only what the rule itself lets back can meet the next one in its place.
                let own = match rules[place].packets() {
                    Some(own) => shared(own, reply),
                    None => Some(reply.clone()),
                };
                let next = rules[place + 1].first_packets();
                let met = own.and_then(|own| next.and_then(|next| shared(next, &own)));
                met.into_iter().collect()
            }
            _ => reply.into(),
        };
        let denied =
            Wanted { before: (0, 0), from: (0, 0), until: END, unlike: Some(Action::Allow) };
        let sightings = self.showing.find(&replies, &denied, 4);
        found.undecided |= sightings.undecided;
        found.anything |= !sightings.packets.is_empty();
        let asking = sightings.packets.iter().filter_map(|reply| {
            let line = asked.service.line(reply.family());
            let ends = Ends::new(reply.destination(), reply.source())?;
            let service = line.first()?;
            Some(Packet { enters: asked.enters.first()?, ends, service, at: reply.at })
        });
        let mut sent = asking.filter_map(|packet| self.as_sent(&packet));
        found.candidate = sent.find_map(|packet| self.candidate(number, mistake, packet));
    }

    /// What asks for replies that no rule but this one lets back, by whichever uplink they come; as the lists see it.
    fn by_this_rule_alone(&self, mistake: &Mistake) -> PacketSet {
        let own =
            self.answered.rules.iter().position(|rule| *rule == mistake.place && rule.is_some());
        let Some(own) = own else { return PacketSet::empty() };
        let sets = &self.answered.sets;
        let others = self.answered.nearby.to(&sets[own]).into_iter().filter(|other| *other != own);
        others.fold(sets[own].clone(), |alone, other| alone.difference(&sets[other]))
    }

    /// The same, where the rule is forgotten: nothing of that is answered.
    fn without_state(
        &self,
        number: u32,
        mistake: &Mistake,
        alone: impl Iterator<Item = PacketSet>,
        found: &mut Waiting,
    ) {
        for packets in alone {
            for product in packets.products() {
                found.anything = true;
                let packet = crate::example::packet(self.meaning.plan(), &product.into());
                let sent = packet.and_then(|packet| self.as_sent(&packet));
                found.candidate = sent.and_then(|packet| self.candidate(number, mistake, packet));
                if found.candidate.is_some() {
                    return;
                }
            }
        }
    }
}
