//! From the meaning to tests that a person can make: where to stand, what to type, what to expect.
//!
//! Nothing is expected by rule of thumb. Each check is one concrete packet; what the plan means for
//! that packet is what the check expects, and the compiled rule that decides it is what it proves.

mod boundary_checks;
mod candidate;
mod carried;
mod commands;
mod content;
mod control;
mod cover;
mod detection;
mod evaluate;
mod limit;
mod places;
mod search;
mod sentence;
mod set_up;
mod standpoint;
mod strength;
mod time;
mod topics;
mod ways;
mod write;

pub use commands::{Commands, Probe, SetUp, System, Target};
pub use limit::Limit;
pub use set_up::{SetUpKind, SetUpMistake, set_up_mistakes};
pub use standpoint::Standpoint;
pub use strength::{Lapse, Strength, Tally, Undetectable};
pub use time::{Point, points, seconds};
pub use ways::{Noticed, Way, noticed};

use crate::meaning::Meaning;
use crate::proof::Proved;
use crate::rules::{Rule, RuleSet};
use crate::space::{Minute, Packet};
pub use crate::verdict::Expect;
use crate::verdict::{Decision, Verdict};
use detection::Detection;
use places::Places;
use std::collections::{HashMap, HashSet};

/// One test.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Check {
    /// Its id, which stays the same when other checks come and go.
    pub id: String,
    /// What it shows, in a sentence.
    pub says: String,
    /// The id of a check whose reply shows that the other end is there: without it, silence shows nothing. `None` where
    /// a reply is expected, or where no check of the list shows it.
    pub control: Option<String>,
    /// The id of a check whose reply shows that the own end is there: from the same address, in the same family. From a
    /// socket that is dead everything is silent. `None` as above.
    pub own_end: Option<String>,
    /// Where it is made from.
    pub standpoint: Standpoint,
    /// The packet that it sends first.
    pub packet: Packet,
    /// Where it goes, in the plan's words.
    pub to: String,
    /// Whether that is the gateway itself.
    pub is_to_gateway: bool,
    /// When to make it, where that matters.
    pub when: Option<Minute>,
    /// Where it is sent.
    pub target: Target,
    /// How it is sent.
    pub probe: Probe,
    /// What comes back.
    pub expect: Expect,
    /// Of a lease, what it is compared with: the pool, router, resolver and prefixes of the network, and its VLAN.
    pub leased: Option<String>,
    /// What the plan means for the packet.
    pub decision: Decision,
    /// Number, id and name of the rule that decides.
    pub proves: Option<(u32, String, String)>,
    /// Whether the plan names the device that answers; if not, one has to be set up.
    pub answered: bool,
    /// Whether it belongs in every list, whatever mistakes it shows.
    pub needed: bool,
    /// Whether it tries what the plan guarantees.
    pub guarantee: bool,
    /// The mistakes that it shows, by number.
    pub shows: Vec<u32>,
}

/// All checks that are made from one place.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Stand {
    /// The number of its test point in the whole list, from 1.
    pub number: usize,
    /// The place.
    pub standpoint: Standpoint,
    /// The checks, in the order in which to make them.
    pub checks: Vec<Check>,
}

/// A checklist, and what it is worth.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Checklist {
    /// Where to stand, one place after the other.
    pub stands: Vec<Stand>,
    /// What it catches.
    pub strength: Strength,
    /// No list that catches as much has fewer checks than this.
    pub least: usize,
    /// What is not tried, with the reason: only of a list to be carried.
    pub not_tried: Vec<NotTried>,
}

/// Something that a list should try, and does not.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct NotTried {
    /// What: `exception tills-pay`.
    pub what: String,
    /// Why not.
    pub why: String,
}

/// Makes the full checklist of a plan: as few checks as show every mistake that any check can show.
///
/// It is meant for a machine that sits in every network (`walk --trunk`, `rehearse`); [`carried`] makes the list for
/// a person. The rules have to be proved, since a check of rules that are wrong themselves shows nothing.
pub fn build(meaning: &Meaning<'_>, proved: Proved<'_>) -> Checklist {
    Generator::new(meaning, proved.rules()).full()
}

/// Makes the list that one person carries through the building.
///
/// First comes what has to be there: each guarantee, exception and offered service, and what every network needs (an
/// address, names, a way out), from sockets and Wi-Fi names, with no device that the plan does not have except a
/// second laptop. Then, as far as the walk allows, the checks that show the most mistakes for their time. What cannot
/// be tried that way is listed in [`Checklist::not_tried`].
///
/// ```
/// use bastium_core::{checklist, meaning::Meaning, proof, rules};
/// use jiff::civil::date;
///
/// # let text = std::fs::read("tests/two-networks.toml").expect("a file");
/// # let plan = bastium_planfile::read("plan.toml", &text).expect("a plan without errors");
/// let meaning = Meaning::new(&plan, date(2026, 6, 1)).expect("no contradictions");
/// let rules = rules::compile(&meaning);
/// let proved = proof::proved(&meaning, &rules).expect("the rules match the plan");
/// let list = checklist::carried(&meaning, proved);
/// let says: Vec<&str> = list.stands.iter().flat_map(|stand| &stand.checks).map(|one| &*one.says).collect();
/// assert!(says.iter().any(|says| says.contains("print")), "{says:?}");
/// ```
pub fn carried(meaning: &Meaning<'_>, proved: Proved<'_>) -> Checklist {
    let generator = Generator::new(meaning, proved.rules());
    let full = generator.full();
    carried::carried(&generator, full)
}

/// What lists are made from.
struct Generator<'m> {
    meaning: &'m Meaning<'m>,
    rules: &'m RuleSet<'m>,
    places: Places,
    shown: Detection<'m>,
}

impl<'m> Generator<'m> {
    fn new(meaning: &'m Meaning<'m>, rules: &'m RuleSet<'m>) -> Self {
        let (places, shown) = (Places::of(meaning), Detection::new(meaning, rules));
        Self { meaning, rules, places, shown }
    }

    /// The whole list.
    fn full(&self) -> Checklist {
        let (meaning, rules, places, shown) = (self.meaning, self.rules, &self.places, &self.shown);
        let mut pool = content::needed(meaning, places);
        pool.extend(boundary_checks::both_sides(meaning, rules));
        let mut seen = HashSet::new();
        pool.retain(|candidate| seen.insert((candidate.packet, candidate.probe)));
        for candidate in &mut pool {
            let decision = meaning.decide(&candidate.packet);
            if decision.verdict.is_filtered() {
                candidate.shows = shown.by(&candidate.packet);
            }
        }
        let searched = search::search(meaning, shown, places, &pool);
        pool.extend(searched.found);
        let chosen = cover::choose(pool, shown.mistakes.len(), |packet| {
            let seconds = Expect::of(meaning.decide(packet).verdict, packet.service.protocol())
                .map_or(1, Expect::seconds);
            let plain = places.first(packet.enters, packet.family()) == Some(packet.source());
            cover::cost(seconds, !plain)
        });
        let strength = Strength::of(shown, &chosen, searched.undetectable);
        let least = cover::least(shown, &chosen);
        let writer = write::Writer::new(meaning, &shown.lists);
        let mut checks: Vec<Check> =
            chosen.into_iter().filter_map(|candidate| writer.check(candidate)).collect();
        tell_apart(&mut checks, meaning.plan());
        let mut stands = stands(meaning, checks);
        control::find(&mut stands);
        time::number(&mut stands);
        Checklist { stands, strength, least, not_tried: Vec::new() }
    }
}

/// What the person who makes a check sees of it.
fn looks(check: &Check) -> String {
    let looks = (&check.standpoint, &check.to, &check.target, check.probe, check.expect);
    format!("{looks:?} {:?}", check.when)
}

/// Checks that a tester would take for one and the same differ in the address that they come from, or in the
/// uplink that they come by, or else in the hour: the second says so.
fn tell_apart(checks: &mut [Check], plan: &crate::plan::Plan) {
    let mut seen = HashSet::new();
    for check in checks {
        loop {
            if seen.insert(looks(check)) {
                break;
            }
            let source = check.packet.source();
            let uplink = usize::from(plan.came_by(check.packet.enters).0);
            let uplink = uplink.checked_sub(plan.networks().len());
            check.standpoint = match (&check.standpoint, uplink) {
                (Standpoint::Network(id), _) => Standpoint::Address(*id, source),
                (Standpoint::Outside, _) => Standpoint::OutsideAt(source),
                (Standpoint::OutsideAt(_), Some(uplink)) => Standpoint::OutsideBy(uplink, source),
                _ if check.when.is_none() => {
                    check.when = Some(check.packet.at);
                    continue;
                }
                _ => break,
            };
        }
    }
}

/// Sorts checks by where they are made: network by network, and the outside last.
fn stands(meaning: &Meaning<'_>, mut checks: Vec<Check>) -> Vec<Stand> {
    let mut used: HashMap<String, u32> = HashMap::new();
    for check in &mut checks {
        let count = used.entry(check.id.clone()).or_default();
        *count += 1;
        if *count > 1 {
            check.id = format!("{}-{count}", check.id);
        }
    }
    let mut stands: Vec<Stand> = Vec::new();
    let networks = meaning.plan().network_ids().map(Some).chain([None]);
    for network in networks {
        let here: Vec<Check> =
            checks.extract_if(.., |check| check.standpoint.network() == network).collect();
        for check in here {
            match stands.iter_mut().find(|stand| stand.standpoint == check.standpoint) {
                Some(stand) => stand.checks.push(check),
                None => {
                    stands.push(Stand {
                        number: 0,
                        standpoint: check.standpoint.clone(),
                        checks: vec![check],
                    });
                }
            }
        }
    }
    stands
}

impl Check {
    /// What to type.
    pub fn commands(&self) -> Commands {
        self.probe.commands(&self.target)
    }

    /// Whether it may be made in that minute of the week: what the plan means for it is then what it means at the time
    /// for which the check is.
    pub fn may_be_made(&self, meaning: &Meaning<'_>, at: Minute) -> bool {
        let verdict = |at| meaning.decide(&Packet { at, ..self.packet }).verdict;
        self.when.is_none_or(|when| verdict(at) == verdict(when))
    }

    /// What the check is about, in one line that changes whenever it has to be made again: another packet,
    /// another name that it goes to, another expectation or lease, or another rule behind it.
    pub fn means(&self, rules: &RuleSet) -> String {
        let packet = self.packet;
        let when = self.when.map(|at| format!(" at {at}")).unwrap_or_default();
        let named = match &self.target {
            Target::Named(name) => format!(" ({name})"),
            Target::Address(_) | Target::Anyone { .. } => String::new(),
        };
        let mut means = format!(
            "{} from {} to {}{named} by {}{when}: {}",
            packet.service,
            packet.source(),
            packet.destination(),
            self.probe.words(),
            self.expect.word()
        );
        if let Some(leased) = &self.leased {
            means.push_str(&format!(", {leased}"));
        }
        let number = self.proves.as_ref().map(|proves| proves.0);
        let rule = rules.rules().find(|rule| Some(rule.number) == number);
        if let Some(rule) = rule {
            let hours = rule.hours.as_deref().map(|hours| format!(", {hours}")).unwrap_or_default();
            means.push_str(&format!(
                "; {}: {} {} -> {}, {}{hours}",
                rule.id,
                rule.action.word(),
                rule.source,
                rule.destination,
                rule.ports.join(" ")
            ));
        }
        means
    }

    /// Whether a reply is expected that need not come: by UDP, a device answers what it understands, and nothing else.
    pub fn may_stay_silent(&self) -> bool {
        let udp = matches!(self.probe, Probe::Udp(_));
        udp && self.expect == Expect::Reply && self.answered && !self.is_to_gateway
    }

    /// What to set up at the other end first, if the plan has nothing there that answers. Silence tells
    /// nothing where nobody is: a device that is there at least refuses.
    pub fn set_up(&self) -> Option<SetUp> {
        let destination = self.packet.destination();
        match self.expect {
            _ if self.answered => None,
            Expect::Reply => self.probe.listener(destination),
            _ => Some(SetUp::Device(destination)),
        }
    }

    /// What to look at if the check fails.
    pub fn if_not(&self, rules: &RuleSet) -> String {
        let Some((number, _, name)) = &self.proves else {
            return "no rule decides this; look at addresses and cables".to_owned();
        };
        let rule = format!("rule {number} ({name})");
        match self.expect {
            Expect::Reply => match self.first_wider(rules) {
                Some(wider) => format!("is {rule} there, and above rule {}?", wider.number),
                None => format!("is {rule} there?"),
            },
            Expect::Silence | Expect::Refused | Expect::Unreachable => {
                format!(
                    "a reply means that a rule above {rule} allows it, or that {rule} is missing"
                )
            }
        }
    }

    /// The next rule further down that would match, and decide otherwise.
    fn first_wider<'r>(&self, rules: &'r RuleSet<'r>) -> Option<&'r Rule> {
        let (number, ..) = self.proves.as_ref()?;
        let list =
            rules.lists.iter().find(|list| list.rules.iter().any(|rule| rule.number == *number))?;
        let later = list.rules.iter().filter(|rule| rule.number > *number);
        let mut matching =
            later.filter(|rule| rule.packets().is_some_and(|m| m.contains(&self.packet)));
        matching.find(|rule| Verdict::from(rule.action) != self.decision.verdict)
    }
}
