//! The exact search for a packet that shows a mistake.
//!
//! A mistake that no check shows yet is searched for over all packets. If a test point can send one, it becomes a
//! check; if not, the mistake is reported as undetectable, with the reason.

mod replies;

use replies::Answered;

use super::Probe;
use super::candidate::Candidate;
use super::detection::{Detection, gain, loss};
use super::places::{Places, shared, tcp};
use super::strength::Undetectable;
use crate::meaning::Meaning;
use crate::plan::Action;
use crate::proof::partition::Partition;
use crate::proof::witness_search::{END, Wanted, WitnessSearch};
use crate::rules::mistakes::{Change, Mistake, top};
use crate::space::{
    Ends, Family, IntervalSet, Match, Minute, Packet, PacketSet, Protocol, ServicePoint,
};
use std::collections::HashSet;
use std::net::IpAddr;

/// What became of each mistake that no candidate showed at first.
pub(super) struct Searched {
    /// Candidates that show some of them.
    pub(super) found: Vec<Candidate>,
    /// What cannot be shown, by number.
    pub(super) undetectable: Vec<(u32, Undetectable)>,
}

/// Searches for packets that show the mistakes which no candidate shows.
pub(super) fn search(
    meaning: &Meaning<'_>,
    shown: &Detection<'_>,
    places: &Places,
    pool: &[Candidate],
) -> Searched {
    let mut known: HashSet<u32> = pool.iter().flat_map(|c| c.shows.iter().copied()).collect();
    let partition = Partition::of(meaning);
    let showing = WitnessSearch::new(meaning, shown.rules, &partition);
    let offered: PacketSet = shown.rules.translations.iter().map(|t| t.takes.clone()).collect();
    let offered = shown.rules.set_as_filtered(&places.all().intersection(&offered));
    let translated = offered.products().collect();
    let covers = shown.rules.lists.iter().map(|list| list.packets().products().collect()).collect();
    let answered = Answered::by(shown.rules);
    let search = Search { meaning, shown, places, showing, translated, covers, answered };
    let mut searched = Searched { found: Vec::new(), undetectable: Vec::new() };
    for (number, mistake) in (0u32..).zip(&shown.mistakes) {
        if known.contains(&number) {
            continue;
        }
        match search.for_mistake(number, mistake) {
            Ok(candidate) => {
                known.extend(candidate.shows.iter().copied());
                searched.found.push(candidate);
            }
            Err(Some(why)) => searched.undetectable.push((number, why)),
            Err(None) => {}
        }
    }
    searched
}

struct Search<'a> {
    meaning: &'a Meaning<'a>,
    shown: &'a Detection<'a>,
    places: &'a Places,
    showing: WitnessSearch<'a, 'a>,
    /// What can be sent to offered services, as it is once it is translated.
    translated: Vec<Match>,
    /// By list, the packets that it is asked about.
    covers: Vec<Vec<Match>>,
    answered: Answered,
}

impl Search<'_> {
    /// A check that shows a mistake, or why there is none; `Err(None)` if that could not be decided.
    fn for_mistake(
        &self,
        number: u32,
        mistake: &Mistake,
    ) -> Result<Candidate, Option<Undetectable>> {
        if mistake.change == Change::Log {
            return Err(Some(Undetectable::LogOnly));
        }
        let mut undecided = false;
        let mut anywhere = false;
        for (region, wanted) in self.asked(mistake) {
            let within = self.as_lists_see(&region);
            let sightings = self.showing.find(&within, &wanted, 4);
            undecided |= sightings.undecided;
            for seen in &sightings.packets {
                let Some(sent) = self.as_sent(seen) else { continue };
                if let Some(candidate) = self.candidate(number, mistake, sent) {
                    return Ok(candidate);
                }
                undecided = true;
            }
            if !anywhere {
                let all = self.showing.find(&PacketSet::from(&region), &wanted, 1);
                anywhere = !all.packets.is_empty();
                undecided |= all.undecided;
            }
        }
        if self.concerns_replies(mistake) {
            return self.by_reply(number, mistake);
        }
        match (undecided, anywhere) {
            (true, _) => Err(None),
            (false, true) => Err(Some(Undetectable::NoPlace)),
            (false, false) => Err(Some(Undetectable::NoDifference)),
        }
    }

    /// The same, cut down to what the list is asked about at all.
    fn asked(&self, mistake: &Mistake) -> Vec<(Match, Wanted)> {
        let mut cut = Vec::new();
        for (region, wanted) in self.questions(mistake) {
            let covers = self.covers[wanted.before.0].iter();
            cut.extend(covers.filter_map(|cover| Some((shared(cover, &region)?, wanted))));
        }
        cut
    }

    /// The regions in which something else may happen with a mistake, and what to look for there.
    fn questions(&self, mistake: &Mistake) -> Vec<(Match, Wanted)> {
        let rules = self.shown.rules;
        let Some(place) = mistake.place else { return self.of_ipv6() };
        let list = &rules.lists[place.0].rules;
        let rule = &list[place.1];
        let Some(matches) = rule.first_packets() else { return Vec::new() };
        let next = (place.0, place.1 + 1);
        let after = Wanted { before: place, from: next, until: END, unlike: Some(rule.action) };
        match &mistake.change {
            Change::Action(_) => vec![(matches.clone(), Wanted { unlike: None, ..after })],
            Change::Missing | Change::Matches(_) => {
                let regions = [loss(mistake, rules), gain(mistake, rules)];
                regions.into_iter().flatten().flatten().map(|region| (region, after)).collect()
            }
            Change::Twice => {
                let top = (place.0, top(list));
                vec![(matches.clone(), Wanted { before: top, from: top, until: place, ..after })]
            }
            Change::BelowTheNext => {
                let Some(below) = list.get(next.1).filter(|below| below.action != rule.action)
                else {
                    return Vec::new();
                };
                let both = below.first_packets().and_then(|m| shared(m, matches));
                both.map(|both| (both, Wanted { unlike: None, ..after })).into_iter().collect()
            }
            Change::AllowedAtTop => {
                let top = (place.0, top(list));
                let denied =
                    Wanted { before: top, from: top, until: END, unlike: Some(Action::Allow) };
                vec![(Match::everything(), denied)]
            }
            Change::Log | Change::WithoutIpv6 => Vec::new(),
        }
    }

    /// Where anything in IPv6 is decided by a rule at all.
    fn of_ipv6(&self) -> Vec<(Match, Wanted)> {
        let lists = self.shown.rules.lists.iter().enumerate().filter(|(_, list)| !list.implied);
        let rules = lists.flat_map(|(number, list)| {
            let rules = list.rules.iter().enumerate();
            rules.map(move |(place, rule)| ((number, place), rule))
        });
        let mut found = Vec::new();
        for (place, rule) in rules.filter(|(_, rule)| rule.action == Action::Allow) {
            let Some(matches) = rule.first_packets() else { continue };
            let mut matches = matches.clone();
            matches.service.v4 = IntervalSet::empty();
            found.push((matches, Wanted { before: place, from: place, until: END, unlike: None }));
        }
        found
    }

    /// Whether a mistake is one with a rule for replies alone, or with its order.
    fn concerns_replies(&self, mistake: &Mistake) -> bool {
        mistake.rule(self.shown.rules).is_some_and(|rule| rule.first_packets().is_none())
    }

    /// Of what can be sent, what lies in a region once it is translated.
    fn as_lists_see(&self, region: &Match) -> PacketSet {
        let mut seen = self.places.within(region);
        let translated = self.translated.iter().filter_map(|other| shared(other, region));
        seen = seen.union(&translated.collect());
        seen
    }

    /// A packet as it was sent, before the gateway translated it.
    fn as_sent(&self, packet: &Packet) -> Option<Packet> {
        let plan = self.meaning.plan();
        if !plan.is_translated(packet.enters) {
            return Some(*packet);
        }
        let all = self.shown.rules.translations.iter();
        let mut sent = all.filter_map(|translation| translation.undo(plan, packet));
        sent.find(|sent| self.shown.rules.as_filtered(sent) == *packet)
    }

    /// A check with a packet that shows a mistake, made as ordinary as can be.
    fn candidate(&self, number: u32, mistake: &Mistake, packet: Packet) -> Option<Candidate> {
        let good = |packet: &Packet| {
            self.places.can_send(packet)
                && self.meaning.decide(packet).verdict.is_filtered()
                && self.shown.shows(packet, number)
        };
        if !good(&packet) {
            return None;
        }
        let mut packet = packet;
        for plainer in self.plainer(&packet) {
            packet = plainer.apply(&packet).filter(|other| good(other)).unwrap_or(packet);
        }
        let probe = Probe::of(&packet)?;
        let rule = mistake
            .rule(self.shown.rules)
            .map_or_else(|| "all".to_owned(), |rule| rule.id.to_string());
        let family = super::content::suffix(packet.family());
        let id = format!("{rule}/{}{family}", mistake.kind.word());
        let mut candidate = Candidate::new(id, packet, probe);
        candidate.shows = self.shown.by(&packet);
        Some(candidate)
    }

    /// Ways to make a packet more ordinary: at the beginning of the week, from any device, to a host, for
    /// a service that answers.
    fn plainer(&self, packet: &Packet) -> Vec<Plainer> {
        let (plan, family) = (self.meaning.plan(), packet.family());
        let mut ways = vec![Plainer::At(Minute::default())];
        ways.extend(self.places.first(packet.enters, family).map(Plainer::From));
        let near = plan.network_of(packet.destination());
        let hosts = plan.hosts().iter().filter(|host| near == Some(host.network));
        let hosts = hosts.flat_map(|host| &host.addresses).filter(|a| Family::of(**a) == family);
        ways.extend(hosts.take(8).map(|host| Plainer::To(*host)));
        let udp = |port| ServicePoint::port(Protocol::UDP, port);
        let likely = [udp(53), tcp(22), tcp(80), tcp(443), ServicePoint::echo(family)];
        ways.extend(likely.map(Plainer::For));
        ways
    }
}

/// One thing about a packet that could be more ordinary.
#[derive(Clone, Copy, Debug)]
enum Plainer {
    At(Minute),
    From(IpAddr),
    To(IpAddr),
    For(ServicePoint),
}

impl Plainer {
    fn apply(self, packet: &Packet) -> Option<Packet> {
        let packet = *packet;
        Some(match self {
            Self::At(at) => Packet { at, ..packet },
            Self::From(source) => {
                Packet { ends: Ends::new(source, packet.destination())?, ..packet }
            }
            Self::To(destination) => {
                Packet { ends: Ends::new(packet.source(), destination)?, ..packet }
            }
            Self::For(service) => Packet { service, ..packet },
        })
    }
}
