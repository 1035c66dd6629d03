//! What a Linux gateway's rules do, held against what a plan means: verdicts and the log, translation both
//! ways, limits, replies, errors, and what belongs to no conversation. Each of them over every packet.
//!
//! Routing is taken from the plan: a packet leaves by the interface that leads to its destination, one for
//! the internet by any uplink in turn.

use super::read::{
    Conversation, Line, Lowered, Place, PlanWorld, Problem, Ruleset, Translated, World, lower,
    translated_in, translated_out,
};
use bastium_core::addressing::{multicast, private_v4};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Plan};
use bastium_core::proof::{Carried, CarriedLine, Divergence, Fate, alike, carried};
use bastium_core::space::{
    AddressSet, Ends, IntervalSet, Leg, Match, Minute, Packet, PacketSet, Protocol, ServicePoint,
    ServiceSet,
};
use bastium_core::verdict::{Decision, Verdict};
use std::collections::HashMap;
use std::net::IpAddr;

/// In what a gateway can differ from its plan.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Aspect {
    /// Whether a packet passes, how it is refused, and whether that is logged.
    Verdict,
    /// Where the destination of a packet is translated to.
    TranslationIn,
    /// Which source a packet gets on its way out.
    TranslationOut,
    /// Whether what belongs to a permitted conversation passes.
    Replies,
    /// Whether the errors that belong to one do.
    Errors,
    /// Whether something passes that belongs to no conversation and may begin none.
    NoConversation,
    /// How fast a conversation may be.
    Limit,
}

/// Packets that a gateway treats otherwise than its plan.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Fault {
    /// In what it differs.
    pub aspect: Aspect,
    /// One of the packets.
    pub packet: Packet,
    /// All of them.
    pub packets: PacketSet,
    /// What the plan says of them.
    pub plan: Option<Decision>,
    /// What the gateway does; `None` where that is no verdict.
    pub gateway: Option<(Action, bool)>,
    /// The gateway's line: where it stands.
    pub at: String,
    /// The line, as much of it as fits.
    pub says: String,
    /// Both sides in words, where they are no verdicts: what the plan has, what the gateway has.
    pub words: Option<(String, String)>,
}

/// What came of it.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Held {
    /// Where they differ.
    pub faults: Vec<Fault>,
    /// What could not be read. Nothing is claimed about it.
    pub unread: Vec<(String, String)>,
    /// How many questions could not be decided in the steps that are allowed.
    pub undecided: usize,
}

impl Held {
    /// Whether both were shown to be the same in everything.
    pub fn holds(&self) -> bool {
        self.faults.is_empty() && self.unread.is_empty() && self.undecided == 0
    }
}

/// How it is held against the plan.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Manner {
    /// The rules are fixed as they are in this minute.
    pub(crate) at: Option<Minute>,
    /// It is Bastium's own: refusals are of the kind that the plan's rules give.
    pub(crate) own: bool,
}

/// Holds a rule set against a plan.
pub(crate) fn held(meaning: &Meaning<'_>, ruleset: &Ruleset, manner: Manner) -> Held {
    let mut holding =
        Holding { meaning, plan: meaning.plan(), ruleset, manner, held: Held::default() };
    let worlds = PlanWorld::all(meaning.plan());
    let Some(first) = worlds.first() else { return holding.held };
    let moved = holding.translation_in(first);
    for (uplink, world) in worlds.iter().enumerate() {
        let apart = world.apart(uplink);
        let lowered = lower(ruleset, world, Conversation::Begins);
        if holding.is_too_much(&lowered) {
            return holding.held;
        }
        holding.verdicts(&lowered, &apart);
        holding.limits(&lowered, &apart);
        holding.translation_out(world, &apart);
        if uplink == 0 {
            holding.own_announcements(&lowered);
            holding.spoofed_and_moved(&lowered, &moved);
            holding.follow(world, &apart);
        }
    }
    holding.held
}

struct Holding<'m, 'p> {
    meaning: &'m Meaning<'p>,
    plan: &'p Plan,
    ruleset: &'m Ruleset,
    manner: Manner,
    held: Held,
}

/// The fate of a refusal that is not of the kind that is wanted.
const ODD_REFUSAL: Fate = Fate::Value(u32::MAX - 1);

impl Holding<'_, '_> {
    fn unread(&mut self, problems: &[Problem]) {
        for problem in problems {
            let known = (problem.at.clone(), problem.what.clone());
            if !self.held.unread.contains(&known) {
                self.held.unread.push(known);
            }
        }
    }

    fn is_too_much(&mut self, lowered: &Lowered) -> bool {
        self.unread(&lowered.problems);
        if let Some(at) = &lowered.exhausted {
            let what = "undecided: too many chains lead into each other".to_owned();
            self.held.unread.push((at.clone(), what));
            self.held.undecided += 1;
        }
        lowered.exhausted.is_some()
    }

    /// What stands above a gateway's lines, so that it is not compared.
    fn above(&self, apart: &[Match]) -> Vec<CarriedLine> {
        let mut lines = Vec::new();
        if !apart.is_empty() {
            lines.push(CarriedLine::new(apart.to_vec(), Fate::Unasked));
        }
        if let Some(now) = self.manner.at {
            let at = IntervalSet::point(now).complement();
            let others = Match { at, ..Match::everything() };
            lines.push(CarriedLine::new(vec![others], Fate::Unasked));
        }
        lines
    }

    fn note(
        &mut self,
        aspect: Aspect,
        found: Carried,
        above: usize,
        lines: &[Line],
        words: impl Fn(&Divergence) -> Option<(String, String)>,
    ) {
        self.held.undecided += found.undecided;
        for divergence in found.divergences {
            let line = divergence.line.checked_sub(above).and_then(|place| lines.get(place));
            let words = words(&divergence);
            self.held.faults.push(Fault {
                aspect,
                packet: divergence.packet,
                packets: divergence.packets,
                plan: divergence.meaning,
                gateway: line.map(|line| (line.action, line.log)),
                at: line.map_or("no line at all".to_owned(), |line| line.at.clone()),
                says: line.map_or(String::new(), |line| line.says.clone()),
                words,
            });
        }
    }

    fn verdicts(&mut self, lowered: &Lowered, apart: &[Match]) {
        let mut lines = self.above(apart);
        // What comes back of the gateway's own announcements is looked at by itself.
        lines.push(CarriedLine::new(self.announced(), Fate::Unasked));
        let above = lines.len();
        lines.extend(lowered.lines.iter().map(|line| {
            let fate = match line {
                line if !line.sure => Fate::Unasked,
                line if self.manner.own && !line.as_usual => ODD_REFUSAL,
                line => Fate::Decided(line.action, line.log),
            };
            CarriedLine::new(line.matches.clone(), fate)
        }));
        let found = carried(self.meaning, &lines, &|decision, packets| {
            vec![(packets.clone(), fate(decision))]
        });
        self.note(Aspect::Verdict, found, above, &lowered.lines, |_| None);
    }

    /// The gateway's own broadcasts and multicasts, as they come back to it.
    fn announced(&self) -> Vec<Match> {
        let last = self.plan.gateway_leg().0;
        let enters: IntervalSet<Leg> = (0..last).map(Leg).collect();
        let own = self.plan.gateway_inside().union(&self.plan.gateway_outside());
        let everyone = multicast().union(&IpAddr::from([255, 255, 255, 255]).into());
        let only_v4 = |set: AddressSet| AddressSet { v4: set.v4, ..AddressSet::empty() };
        vec![Match {
            enters,
            source: only_v4(own),
            destination: only_v4(everyone),
            ..Match::everything()
        }]
    }

    /// Nothing of that may be taken for a stranger's and let in.
    fn own_announcements(&mut self, lowered: &Lowered) {
        // Our own rules drop it without a line in the log: it happens all the time.
        let quietly =
            if self.manner.own { Fate::Decided(Action::Block, false) } else { Fate::Barred };
        let expected = [
            CarriedLine::new(self.announced(), quietly),
            CarriedLine::new(vec![Match::everything()], Fate::Unasked),
        ];
        let mut lines = self.above(&[]);
        let above = lines.len();
        lines.extend(
            lowered.lines.iter().map(|line| CarriedLine::new(line.matches.clone(), does(line))),
        );
        let found = alike(self.meaning, &expected, &lines);
        self.note(Aspect::Verdict, found, above, &lowered.lines, |_| None);
    }

    fn limits(&mut self, lowered: &Lowered, apart: &[Match]) {
        let limited = self.plan.exceptions().iter().any(|exception| exception.limit_mbps.is_some());
        if !limited && lowered.limits.is_empty() {
            return;
        }
        let mut rates: Vec<u64> = vec![0];
        let mut known = |rate: u64| {
            let place = rates.iter().position(|own| *own == rate).unwrap_or_else(|| {
                rates.push(rate);
                rates.len() - 1
            });
            Fate::Value(place as u32)
        };
        let of_exception: Vec<Fate> = self
            .plan
            .exceptions()
            .iter()
            .map(|exception| known(exception.limit_mbps.map_or(0, bytes_per_second)))
            .collect();
        let mut lines = self.above(apart);
        let above = lines.len();
        for line in &lowered.lines {
            let allows = line.sure && line.action == Action::Allow;
            let fate = if allows { known(line.limit.unwrap_or(0)) } else { Fate::Unasked };
            lines.push(CarriedLine::new(line.matches.clone(), fate));
        }
        let found = carried(self.meaning, &lines, &|decision, packets| {
            let fate = match (decision.verdict, decision.cause.exception()) {
                (Verdict::Allow, Some(id)) => of_exception[id.index()],
                (Verdict::Allow, None) => Fate::Value(0),
                _ => Fate::Unasked,
            };
            vec![(packets.clone(), fate)]
        });
        let words = |rate: u64| match rate {
            0 => "as fast as it likes".to_owned(),
            rate => format!("no faster than {rate} bytes a second"),
        };
        let plan = self.plan;
        self.note(Aspect::Limit, found, above, &lowered.lines, |divergence| {
            let exception = divergence.meaning.and_then(|decision| decision.cause.exception());
            let wanted = exception.and_then(|id| plan.exception(id).limit_mbps);
            let place = divergence.line.checked_sub(above);
            let line = place.and_then(|place| lowered.lines.get(place));
            let has = line.and_then(|line| line.limit).unwrap_or(0);
            Some((words(wanted.map_or(0, bytes_per_second)), words(has)))
        });
    }

    /// Holds the translation of destinations against the plan. What it takes is returned, as it comes to
    /// the filter: that part of it which the plan would never let come so far.
    fn translation_in(&mut self, world: &PlanWorld<'_>) -> PacketSet {
        let (lines, problems) = translated_in(self.ruleset, world);
        self.unread(&problems);
        let mut targets = Targets::default();
        let never = PacketSet::empty;
        let asked = self.meaning.asked_outside();
        if asked.is_empty() && lines.len() == 1 {
            return never();
        }
        let early = self.meaning.decided_untranslated();
        let mut expected = vec![CarriedLine::new(early.clone(), Fate::Unasked)];
        for (asked, inbound) in asked.into_iter().zip(self.meaning.translations()) {
            let Some(target) = inbound.target else { continue };
            for (outside, inside) in ports(&inbound.outside, inbound.shift) {
                let to = Translated::To(target, inside);
                let product = Match { service: outside, ..asked.clone() };
                expected.push(CarriedLine::new(vec![product], targets.fate(&to)));
            }
        }
        let outer = world.at(Place::Prerouting);
        expected.push(CarriedLine::new(vec![outer], targets.fate(&Translated::No)));
        expected.push(CarriedLine::new(vec![Match::everything()], Fate::Unasked));
        let mut actual = self.above(&[]);
        let above = actual.len();
        for (matches, to, _) in &lines {
            actual.push(CarriedLine::new(matches.clone(), targets.fate(to)));
        }
        let last = vec![Match::everything()];
        actual.push(CarriedLine::new(last, Fate::Unasked));
        let found = alike(self.meaning, &expected, &actual);
        self.translated_faults(Aspect::TranslationIn, found, above, &lines, |divergence| {
            expected_target(&expected, divergence.expected, &targets)
        });
        self.moved(&early, &lines)
    }

    fn translated_faults(
        &mut self,
        aspect: Aspect,
        found: Carried,
        above: usize,
        lines: &[(Vec<Match>, Translated, String)],
        expected: impl Fn(&Divergence) -> String,
    ) {
        self.held.undecided += found.undecided;
        for divergence in found.divergences {
            let line = divergence.line.checked_sub(above).and_then(|place| lines.get(place));
            let does = line.map_or("not translated".to_owned(), |(_, to, _)| words(to));
            self.held.faults.push(Fault {
                aspect,
                words: Some((expected(&divergence), does)),
                packet: divergence.packet,
                packets: divergence.packets,
                plan: divergence.meaning,
                gateway: None,
                at: line.map_or("no line at all".to_owned(), |(.., at)| at.clone()),
                says: String::new(),
            });
        }
    }

    /// Of what is translated, that which the plan decides before: as it comes to the filter.
    fn moved(&self, early: &[Match], lines: &[(Vec<Match>, Translated, String)]) -> PacketSet {
        let early: PacketSet = early.iter().cloned().collect();
        let (mut taken, mut moved) = (PacketSet::empty(), PacketSet::empty());
        for (matches, to, _) in lines {
            let set: PacketSet = matches.iter().cloned().collect();
            if let Translated::To(IpAddr::V4(target), port) = to {
                let own = set.intersection(&early).difference(&taken);
                let parts = own.products().filter(|product| !product.source.v4.is_empty());
                let there = parts.map(|product| Match {
                    enters: self.moved_legs(&product.enters),
                    destination: IpAddr::V4(*target).into(),
                    service: port
                        .map_or(product.service.clone(), |port| with_port(&product.service, port)),
                    ..product
                });
                moved = moved.union(&there.collect());
            }
            if *to != Translated::No {
                taken = taken.union(&set);
            }
        }
        moved
    }

    fn moved_legs(&self, legs: &IntervalSet<Leg>) -> IntervalSet<Leg> {
        let moved = |leg: Leg| self.plan.translated_leg(leg);
        IntervalSet::from_spans(legs.spans().iter().map(|(low, high)| (moved(*low), moved(*high))))
    }

    /// A spoofed source stays one, whatever its packet is translated to: blocked, and logged.
    fn spoofed_and_moved(&mut self, lowered: &Lowered, moved: &PacketSet) {
        let mut rest = moved.clone();
        for line in &lowered.lines {
            if rest.is_empty() {
                return;
            }
            let own: PacketSet = line.matches.iter().cloned().collect();
            let hit = rest.intersection(&own);
            let Some(packet) = hit.sample() else { continue };
            if line.sure && (line.action != Action::Block || !line.log) {
                self.held.faults.push(Fault {
                    aspect: Aspect::Verdict,
                    packet,
                    packets: hit.clone(),
                    plan: None,
                    gateway: Some((line.action, line.log)),
                    at: line.at.clone(),
                    says: line.says.clone(),
                    words: Some(("block, logged: its source is spoofed".to_owned(), {
                        let log = if line.log { ", logged" } else { "" };
                        format!("{}{log}", line.action.word())
                    })),
                });
            }
            rest = rest.difference(&own);
        }
    }

    fn translation_out(&mut self, world: &PlanWorld<'_>, apart: &[Match]) {
        let (lines, problems) = translated_out(self.ruleset, world);
        self.unread(&problems);
        let lines = named_own(self.plan, world, lines);
        let mut targets = Targets::default();
        let (own, none) = (targets.fate(&Translated::Own), targets.fate(&Translated::No));
        let wanted = own_sources(self.plan, world);
        let mut actual = self.above(apart);
        let above = actual.len();
        for (matches, to, _) in &lines {
            actual.push(CarriedLine::new(matches.clone(), targets.fate(to)));
        }
        actual.push(CarriedLine::new(vec![Match::everything()], Fate::Unasked));
        let found = carried(self.meaning, &actual, &|decision, packets| {
            if decision.verdict != Verdict::Allow {
                return vec![(packets.clone(), Fate::Unasked)];
            }
            let mut parts: Vec<(PacketSet, Fate)> = Vec::new();
            for region in &wanted {
                let part = packets.intersection(region);
                if !part.is_empty() {
                    parts.push((part, own));
                }
            }
            parts.push((packets.clone(), none));
            parts
        });
        self.translated_faults(Aspect::TranslationOut, found, above, &lines, |divergence| {
            let own = wanted.iter().any(|region| region.contains(&divergence.packet));
            words(if own { &Translated::Own } else { &Translated::No })
        });
    }

    /// What follows the first packet of a conversation, and what belongs to none.
    fn follow(&mut self, world: &PlanWorld<'_>, apart: &[Match]) {
        let goes_on = lower(self.ruleset, world, Conversation::GoesOn);
        self.unread(&goes_on.problems);
        let everything = [CarriedLine::new(vec![Match::everything()], Fate::Value(1))];
        let found = alike(self.meaning, &everything, &self.passes(apart, &goes_on));
        self.held.undecided += found.undecided;
        for divergence in found.divergences {
            let Some(packet) = self.of_permitted(world, &divergence.packets) else { continue };
            self.not_passed(Aspect::Replies, packet, &divergence, &goes_on.lines);
        }
        let related = lower(self.ruleset, world, Conversation::Related);
        self.unread(&related.problems);
        let errors = [
            CarriedLine::new(vec![errors()], Fate::Value(1)),
            CarriedLine::new(vec![Match::everything()], Fate::Unasked),
        ];
        let found = alike(self.meaning, &errors, &self.passes(apart, &related));
        self.held.undecided += found.undecided;
        for divergence in found.divergences {
            if let Some(packet) = self.arriving_rightly(world, &divergence.packets).sample() {
                self.not_passed(Aspect::Errors, packet, &divergence, &related.lines);
            }
        }
        let invalid = lower(self.ruleset, world, Conversation::Invalid);
        self.unread(&invalid.problems);
        let first = CarriedLine::new(apart.to_vec(), Fate::Unasked);
        let own =
            invalid.lines.iter().map(|line| CarriedLine::new(line.matches.clone(), does(line)));
        let lines: Vec<CarriedLine> = std::iter::once(first).chain(own).collect();
        let found = carried(self.meaning, &lines, &|decision, packets| {
            let fate = match fate(decision) {
                Fate::Decided(Action::Allow, _) | Fate::Unasked => Fate::Unasked,
                _ => Fate::Barred,
            };
            vec![(packets.clone(), fate)]
        });
        self.note(Aspect::NoConversation, found, 1, &invalid.lines, |_| None);
    }

    /// Lines as far as they let pass or do not, below what is not looked at.
    fn passes(&self, apart: &[Match], lowered: &Lowered) -> Vec<CarriedLine> {
        let fate = |line: &Line| match (line.sure, line.action) {
            (false, _) => Fate::Unasked,
            (true, Action::Allow) => Fate::Value(1),
            (true, _) => Fate::Value(2),
        };
        let own = lowered.lines.iter();
        let own = own.map(|line| CarriedLine::new(line.matches.clone(), fate(line)));
        let first = CarriedLine::new(apart.to_vec(), Fate::Unasked);
        std::iter::once(first).chain(own).collect()
    }

    fn not_passed(
        &mut self,
        aspect: Aspect,
        packet: Packet,
        divergence: &Divergence,
        lines: &[Line],
    ) {
        let line = divergence.line.checked_sub(1).and_then(|place| lines.get(place));
        self.held.faults.push(Fault {
            aspect,
            packet,
            packets: divergence.packets.clone(),
            plan: None,
            gateway: line.map(|line| (line.action, line.log)),
            at: line.map_or("no line at all".to_owned(), |line| line.at.clone()),
            says: line.map_or(String::new(), |line| line.says.clone()),
            words: None,
        });
    }

    /// Of packets that are not let through, those whose source leads back where they come from.
    fn arriving_rightly(&self, world: &PlanWorld<'_>, packets: &PacketSet) -> PacketSet {
        let legs = (0..self.plan.gateway_leg().0).map(Leg);
        let all = legs.map(|leg| {
            let enters = [leg, self.plan.translated_leg(leg)].into_iter().collect();
            let source = world.reached(leg).clone();
            packets.intersection(&Match { enters, source, ..Match::everything() }.into())
        });
        let own = Match::entering(IntervalSet::point(self.plan.gateway_leg()));
        let begun = packets.intersection(&own.into());
        all.fold(begun, |sum, part| sum.union(&part))
    }

    /// A packet of a conversation that the plan permits, among packets that do not pass: one that goes the
    /// same way as the first, or one that answers it.
    fn of_permitted(&self, world: &PlanWorld<'_>, packets: &PacketSet) -> Option<Packet> {
        let permitted = |set: &PacketSet| -> Option<Packet> {
            let parts = self.meaning.parts(set).into_iter();
            let mut parts = parts.filter(|part| part.decision.verdict == Verdict::Allow);
            parts.find_map(|part| part.packets.sample())
        };
        if let Some(packet) = permitted(packets) {
            return Some(packet);
        }
        let answers = self.arriving_rightly(world, packets);
        answers.products().find_map(|product| {
            let first = self.answered(world, &product);
            permitted(&first).and_then(|asked| answer_to(self.plan, world, &asked))
        })
    }

    /// The first packets that a product would answer.
    fn answered(&self, world: &PlanWorld<'_>, product: &Match) -> PacketSet {
        let whole = |line: &IntervalSet<u32>| {
            let spans = line.spans().iter();
            IntervalSet::from_spans(spans.map(|(low, high)| (low >> 16 << 16, high | 0xffff)))
        };
        let service = ServiceSet { v4: whole(&product.service.v4), v6: whole(&product.service.v6) };
        let legs = (0..self.plan.gateway_leg().0).map(Leg);
        let back = legs.map(|leg| Match {
            enters: IntervalSet::point(leg),
            source: product.destination.intersection(world.reached(leg)),
            destination: product.source.clone(),
            service: service.clone(),
            at: product.at.clone(),
        });
        back.filter(|product| !product.is_empty()).collect()
    }
}

/// The answer to a packet, by where it comes from.
fn answer_to(plan: &Plan, world: &PlanWorld<'_>, asked: &Packet) -> Option<Packet> {
    let from = asked.destination();
    let enters = (0..plan.gateway_leg().0).map(Leg).find(|leg| world.reached(*leg).contains(from));
    Some(Packet {
        enters: enters.unwrap_or(plan.gateway_leg()),
        ends: Ends::new(from, asked.source())?,
        ..*asked
    })
}

/// What a line does, if that is known.
fn does(line: &Line) -> Fate {
    if line.sure { Fate::Decided(line.action, line.log) } else { Fate::Unasked }
}

/// What has to become of packets by a decision. What has no way must not get through, if the kernel finds one.
fn fate(decision: Decision) -> Fate {
    match decision.verdict {
        Verdict::Allow => Fate::Decided(Action::Allow, decision.logged),
        Verdict::Block => Fate::Decided(Action::Block, decision.logged),
        Verdict::Reject => Fate::Decided(Action::Reject, decision.logged),
        Verdict::DoesNotPass => Fate::Unasked,
        Verdict::NoWay => Fate::Barred,
    }
}

/// The errors of both ICMPs (RFC 792, RFC 4443).
fn errors() -> Match {
    let v4 = ServiceSet::icmp_types(Protocol::ICMP, &[3, 11, 12], None);
    let v6 = ServiceSet::icmp_types(Protocol::ICMP_V6, &[1, 2, 3, 4], None);
    Match { service: v4.union(&v6), ..Match::everything() }
}

fn bytes_per_second(mbps: f64) -> u64 {
    (mbps * 125_000.0).ceil() as u64
}

/// The ports of an offered service, those apart that become another one: outside, and what each becomes.
fn ports(outside: &ServiceSet, shift: i32) -> Vec<(ServiceSet, Option<u16>)> {
    if shift == 0 {
        return vec![(outside.clone(), None)];
    }
    let points = outside.v4.spans().iter().flat_map(|(low, high)| *low..=*high);
    points
        .filter_map(|point| {
            let inside = ServicePoint::from_coordinate(point.checked_add_signed(shift)?)?;
            let one = ServiceSet { v4: IntervalSet::point(point), ..ServiceSet::empty() };
            Some((one, inside.destination_port()))
        })
        .collect()
}

fn with_port(service: &ServiceSet, port: u16) -> ServiceSet {
    let line = service.v4.spans().iter().flat_map(|(low, high)| low >> 16..=high >> 16);
    let points = line.map(|protocol| protocol << 16 | u32::from(port));
    ServiceSet { v4: points.collect(), ..ServiceSet::empty() }
}

/// What things are translated to, by number.
#[derive(Default)]
struct Targets {
    known: HashMap<Translated, u32>,
}

impl Targets {
    fn fate(&mut self, to: &Translated) -> Fate {
        if *to == Translated::Unknown {
            return Fate::Unasked;
        }
        let next = self.known.len() as u32;
        Fate::Value(*self.known.entry(to.clone()).or_insert(next))
    }
}

fn expected_target(expected: &[CarriedLine], place: usize, targets: &Targets) -> String {
    let fate = expected.get(place).map(|line| line.fate);
    let found = targets.known.iter().find(|(_, number)| fate == Some(Fate::Value(**number)));
    found.map_or(String::new(), |(to, _)| words(to))
}

fn words(to: &Translated) -> String {
    match to {
        Translated::No => "not translated".to_owned(),
        Translated::To(address, None) => format!("sent on to {address}"),
        Translated::To(address, Some(port)) => format!("sent on to {address}, port {port}"),
        Translated::Own => "from the gateway's own address".to_owned(),
        Translated::As(address) => format!("from {address}"),
        Translated::Unknown => "nobody knows".to_owned(),
    }
}

/// Sources that are translated to the gateway's only address on the way out are so by whatever name.
fn named_own(
    plan: &Plan,
    world: &PlanWorld<'_>,
    lines: Vec<(Vec<Match>, Translated, String)>,
) -> Vec<(Vec<Match>, Translated, String)> {
    let mut all = Vec::new();
    for (matches, to, at) in lines {
        if let Translated::As(address) = &to {
            let legs = (0..plan.gateway_leg().0).map(Leg);
            for leg in legs.filter(|leg| world.address_on(*leg) == Some(*address)) {
                let reached = world.reached(leg).clone();
                let here = Match { destination: reached, ..Match::everything() };
                let own = matches.iter().map(|product| product.intersection(&here));
                let own: Vec<Match> = own.filter(|product| !product.is_empty()).collect();
                if !own.is_empty() {
                    all.push((own, Translated::Own, at.clone()));
                }
            }
        }
        all.push((matches, to, at));
    }
    all
}

/// The packets whose sources become the gateway's own address: private IPv4 ones towards an uplink, and what
/// turns round to a host in the network where it came from.
fn own_sources(plan: &Plan, world: &PlanWorld<'_>) -> Vec<PacketSet> {
    let mut wanted = Vec::new();
    for index in 0..plan.uplinks().len() {
        let destination = world.reached(plan.uplink_leg(index)).clone();
        let outward = Match { source: private_v4(), destination, ..Match::everything() };
        wanted.push(outward.into());
    }
    for id in plan.network_ids() {
        let own = plan.network(id).prefixes();
        let own = AddressSet { v4: own.v4, ..AddressSet::empty() };
        let moved = world.translated();
        let round = Match { source: own.clone(), destination: own, ..moved };
        wanted.push(round.into());
    }
    wanted
}
