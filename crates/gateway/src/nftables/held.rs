//! Compares what a Linux gateway's rules do with what a plan means, over every packet: verdicts and logging,
//! translation in both directions, rate limits, replies, ICMP errors, and packets that belong to no conversation.
//!
//! Routing is taken from the plan: a packet leaves by the interface that leads to its destination, one for
//! the internet by any uplink in turn.

mod follow;
mod translation;

use super::bytes_per_second;
use super::cut::{CUT_TABLE, may_begin};
use super::read::{
    ByItself, Conversation, Line, Lowered, PlanWorld, Problem, Ruleset, Value, World, domain_sets,
    lower,
};
use bastium_core::addressing::multicast;
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Plan};
use bastium_core::proof::{Carried, CarriedLine, Divergence, Fate, alike, carried};
use bastium_core::space::{Interface, IntervalSet, Match, Minute, Packet, PacketSet};
use bastium_core::verdict::{Decision, Verdict};
use follow::passes;
use std::collections::HashSet;
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
    /// Whether the gateway lets in what it says to itself.
    Itself,
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

/// How it is compared with the plan.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Manner {
    /// The rules are fixed as they are in this minute.
    pub(crate) at: Option<Minute>,
    /// It is Bastium's own: refusals are of the kind that the plan's rules give.
    pub(crate) own: bool,
}

/// Holds a rule set against a plan.
pub(crate) fn held(meaning: &Meaning<'_>, ruleset: &Ruleset, manner: Manner) -> Held {
    let mut holding = Holding {
        meaning,
        plan: meaning.plan(),
        ruleset,
        manner,
        held: Held::default(),
        known_problems: HashSet::new(),
    };
    holding.domains();
    holding.cut();
    let worlds = PlanWorld::all(meaning.plan());
    for (uplink, world) in worlds.iter().enumerate() {
        let apart = world.apart(uplink);
        let Some(lowered) = holding.lowered(world, Conversation::Begins) else { break };
        holding.verdicts(&lowered, &apart);
        holding.limits(&lowered, &apart);
        holding.translation_out(world, &apart);
        if uplink == 0 {
            // What comes to the gateway is the same in every world.
            let moved = holding.translation_in(world);
            holding.own_announcements(&lowered);
            holding.itself(world);
            holding.spoofed_and_moved(&lowered, &moved);
        }
        // Answers come from where first packets go, whatever they are for.
        if holding.follow(world, &world.apart(0)).is_none() {
            break;
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
    /// What could not be read, so that each is said once.
    known_problems: HashSet<(String, String)>,
}

/// The fate of a refusal that is not of the kind that is wanted.
const ODD_REFUSAL: Fate = Fate::Value(u32::MAX - 1);

impl Holding<'_, '_> {
    fn unread(&mut self, problems: &[Problem]) {
        for problem in problems {
            let one = (problem.at.clone(), problem.what.clone());
            if self.known_problems.insert(one.clone()) {
                self.held.unread.push(one);
            }
        }
    }

    /// What the gateway says to itself is let in, be it the beginning of something or what follows.
    fn itself(&mut self, around: &PlanWorld<'_>) {
        let world = ByItself::of(self.plan, around);
        let expected = [
            CarriedLine::new(vec![world.everything()], Fate::Value(1)),
            CarriedLine::new(vec![Match::everything()], Fate::Unasked),
        ];
        let above = self.above(&[]);
        for which in [Conversation::Begins, Conversation::GoesOn] {
            let Some(lowered) = self.lowered(&world, which) else { return };
            let found = alike(self.meaning, &expected, &passes(&above, &lowered));
            let stopped = !found.divergences.is_empty();
            self.note(Aspect::Itself, found, above.len(), &lowered.lines, |_| None);
            if stopped {
                // What follows need not be reported then.
                return;
            }
        }
    }

    /// The lines for packets of a kind; `None` if they are too many, of which nothing is claimed then.
    fn lowered(&mut self, world: &dyn World, which: Conversation) -> Option<Lowered> {
        let mut lowered = lower(self.ruleset, world, which);
        without_repeats(&mut lowered.lines);
        self.unread(&lowered.problems);
        let Some(at) = &lowered.exhausted else { return Some(lowered) };
        let what = "undecided: too many chains lead into each other".to_owned();
        self.held.unread.push((at.clone(), what));
        self.held.undecided += 1;
        None
    }

    /// The sets of domains hold what the name server finds: single addresses of the internet. Anything else in
    /// them was put there by somebody.
    fn domains(&mut self) {
        let own = domain_sets(self.plan);
        let internet = self.plan.internet_addresses();
        for table in &self.ruleset.tables {
            let sets = table.sets.iter().filter(|(name, _)| own.contains_key(*name));
            for (name, set) in sets {
                let at = format!("{} {name}", table.name);
                let odd = set.elements.iter().flatten().find(|value| match value {
                    Value::Addresses(low, high) => low != high || !internet.contains(*low),
                    _ => true,
                });
                let what = match (&set.unread, odd) {
                    (Some(why), _) => why.clone(),
                    (None, Some(Value::Addresses(low, high))) if low == high => {
                        format!("{low}, which is no address of the internet")
                    }
                    (None, Some(_)) => "more than single addresses".to_owned(),
                    (None, None) => continue,
                };
                self.held.unread.push((at, what));
            }
        }
    }

    /// Of what is cut nothing may begin by the plan, or it would be stopped for as long.
    fn cut(&mut self) {
        for flow in self.ruleset.cut.iter().flatten() {
            let Some(packet) = may_begin(self.meaning, flow) else { continue };
            self.held.faults.push(Fault {
                aspect: Aspect::Verdict,
                packet,
                packets: packet.into(),
                plan: Some(self.meaning.decide(&packet)),
                gateway: Some((Action::Block, false)),
                at: format!("inet {CUT_TABLE}"),
                says: format!(
                    "{} . {} . {} . {} . {}",
                    flow.from, flow.to, flow.protocol, flow.from_port, flow.to_port
                ),
                words: None,
            });
        }
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
        let last = self.plan.gateway_interface().0;
        let enters: IntervalSet<Interface> = (0..last).map(Interface).collect();
        let own = self.plan.gateway_addresses();
        let everyone = multicast().union(&IpAddr::from([255, 255, 255, 255]).into());
        vec![Match {
            enters,
            source: own.only_v4(),
            destination: everyone.only_v4(),
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
            Fate::Value(u32::try_from(place).unwrap_or(u32::MAX))
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
        let plan = self.plan;
        self.note(Aspect::Limit, found, above, &lowered.lines, |divergence| {
            let exception = divergence.meaning.and_then(|decision| decision.cause.exception());
            let wanted = exception.and_then(|id| plan.exception(id).limit_mbps);
            let place = divergence.line.checked_sub(above);
            let line = place.and_then(|place| lowered.lines.get(place));
            let has = line.and_then(|line| line.limit);
            Some((speed(wanted.map(bytes_per_second)), speed(has)))
        });
    }
}

/// The most matches of lines that are not sure which are remembered.
const MOST_REMEMBERED: usize = 64;

/// Whatever a line matches of which nothing is known decides about it, or does not; a further line that matches the same
/// adds nothing. Of a file that is foreign altogether, thousands are alike.
fn without_repeats(lines: &mut [Line]) {
    let mut known: Vec<Match> = Vec::new();
    for line in lines {
        line.matches.retain(|product| !known.contains(product));
        if !line.sure {
            let room = MOST_REMEMBERED.saturating_sub(known.len());
            known.extend(line.matches.iter().take(room).cloned());
        }
    }
}

/// How fast something may go, in bytes a second, in words.
pub fn speed(limit: Option<u64>) -> String {
    match limit {
        None => "as fast as it likes".to_owned(),
        Some(rate) => format!("no faster than {rate} bytes a second"),
    }
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
        Verdict::NotRouted => Fate::Unasked,
        Verdict::NoRoute => Fate::Barred,
    }
}
