//! The complete proof: that the rules match the plan over every packet, and what there is to say about single rules.

use super::anomalies::{self, Life};
use super::comparison::{Clash, compare};
use super::lines::{MeaningLines, Reading, RuleLines};
use super::partition::Partition;
use super::{Difference, differences};
use crate::example;
use crate::meaning::Meaning;
use crate::rules::{Rule, RuleSet};
use crate::space::{Interface, Match, Packet, PacketSet};
use crate::verdict::Cause;
use std::collections::HashMap;

/// What a proof came to.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Proof<'r> {
    /// Where rules and plan differ. Empty, and nothing undecided, is a proof that they do not.
    pub differences: Vec<Difference<'r>>,
    /// What was found out about single rules.
    pub singles: Singles<'r>,
    /// How many questions of whether rules and plan are the same could not be decided in the steps that are allowed.
    pub undecided: usize,
}

/// What was found out about single rules.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Singles<'r> {
    /// Rules that no packet comes to.
    pub shadowed: Vec<Idle<'r>>,
    /// Rules that change nothing: without one of them everything would stay as it is.
    pub redundant: Vec<Idle<'r>>,
    /// For each rule that decides anything, a packet: one that would fare otherwise without it, if there is
    /// one.
    pub witnesses: Vec<(&'r Rule, Packet)>,
    /// Pairs of the plan's own rules that depend on their order.
    pub ordered: Vec<Order<'r>>,
    /// For how many rules it could not be decided whether they are needed.
    pub undecided: usize,
}

/// A rule that does nothing.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Idle<'r> {
    /// The rule.
    pub rule: &'r Rule,
    /// The rules that do its work: above it if it never matches, else below it.
    pub covered_by: Vec<&'r Rule>,
    /// Whether it denies what would be denied without it, for clarity or for the log.
    pub defensive: bool,
}

/// Two rules that have to stay in their order.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct Order<'r> {
    /// The upper one.
    pub above: &'r Rule,
    /// The lower one.
    pub below: &'r Rule,
    /// A packet that both match.
    pub packet: Packet,
}

/// Lines that are kept in a cell below the one that takes the rest, to see what would happen without it.
const BELOW: usize = 16;

/// Compares the rules of a plan with its meaning over every packet, and examines every single rule.
///
/// Nothing is sampled: packets are sorted into cells by where they enter and where they go, and within each cell the
/// lines of both sides are compared as sets. The first half of the result is the proof ([`Proof::holds`]); the second
/// ([`Proof::singles`]) says which rules are shadowed or redundant, and has for each of the others a packet that
/// shows what it is for.
///
/// ```
/// use bastium_core::{meaning::Meaning, proof, rules};
/// use jiff::civil::date;
///
/// # let text = std::fs::read("tests/two-networks.toml").expect("a file");
/// # let plan = bastium_planfile::read("plan.toml", &text).expect("a plan without errors");
/// let meaning = Meaning::new(&plan, date(2026, 6, 1)).expect("no contradictions");
/// let rules = rules::compile(&meaning);
/// assert!(proof::prove(&meaning, &rules).holds());
///
/// // The rules without their first exception are found out, with a packet.
/// let without = rules.lists.iter().map(|list| {
///     list.rules.iter().filter(|rule| rule.id.to_string() != "exception.print").cloned().collect()
/// });
/// let damaged = rules.with_rules(without.collect());
/// let (differences, _) = proof::equal(&meaning, &damaged);
/// assert!(differences.iter().all(|one| meaning.decide(&one.packet) == one.meaning));
/// assert!(!differences.is_empty());
/// ```
pub fn prove<'r>(meaning: &Meaning<'_>, rules: &'r RuleSet<'r>) -> Proof<'r> {
    let (differences, undecided) = equal(meaning, rules);
    let singles = singles(meaning, rules);
    Proof { differences, undecided, singles }
}

/// Where rules and plan differ, and how many questions could not be decided.
///
/// Differences between the same two lines are one; each has all its packets, and one of them as an example. No
/// difference and nothing undecided is a proof that there is none. This is the first half of [`prove`], for those who
/// do not ask about single rules.
pub fn equal<'r>(meaning: &Meaning<'_>, rules: &'r RuleSet<'r>) -> (Vec<Difference<'r>>, usize) {
    let partition = Partition::of(meaning);
    let means = MeaningLines::new(meaning, &partition, &Reading::default());
    let does = RuleLines::new(rules, &partition, &[], 0);
    let compared = compare(&means.table, &does.table);
    let clashes = gathered(compared.clashes).into_iter();
    let mut found: Vec<Difference<'r>> =
        clashes.map(|clash| difference(meaning, &means, &does, clash)).collect();
    if rules.before_translation {
        // What asks for offered services is little, and decided as what it becomes.
        let asked: PacketSet = meaning.asked_outside().into_iter().collect();
        found.extend(differences(meaning, rules, &asked));
    }
    (found, compared.undecided)
}

/// Rules that were shown to do what their plan says, over every packet.
///
/// Only [`proved`] makes one. Whatever is handed on to people or gateways (a checklist, a worksheet, a file) takes
/// this instead of a [`RuleSet`], so that nothing unproved can be handed on by mistake.
#[derive(Clone, Copy, Debug)]
pub struct Proved<'r> {
    rules: &'r RuleSet<'r>,
}

impl<'r> Proved<'r> {
    /// The rules.
    pub fn rules(self) -> &'r RuleSet<'r> {
        self.rules
    }
}

/// Why rules are not proved.
#[derive(Clone, Debug)]
pub struct Unproved<'r> {
    /// Where they differ from the plan.
    pub differences: Vec<Difference<'r>>,
    /// How many questions could not be decided in the steps that are allowed.
    pub undecided: usize,
}

/// Shows that rules do what their plan says.
///
/// # Errors
/// Where they do not, each difference with a packet; or how many questions could not be decided within the limits.
/// Both mean that nothing may be claimed about the rules.
pub fn proved<'r>(
    meaning: &Meaning<'_>,
    rules: &'r RuleSet<'r>,
) -> Result<Proved<'r>, Unproved<'r>> {
    let (differences, undecided) = equal(meaning, rules);
    if differences.is_empty() && undecided == 0 {
        Ok(Proved { rules })
    } else {
        Err(Unproved { differences, undecided })
    }
}

/// Which rules never match, which change nothing, and which depend on their order.
///
/// A rule is *shadowed* if the rules above it take all of its packets, alone or together, and *redundant* if
/// everything would stay the same without it. Of every other rule there is a packet that would fare differently
/// without it.
pub fn singles<'r>(meaning: &Meaning<'_>, rules: &'r RuleSet<'r>) -> Singles<'r> {
    let partition = Partition::of(meaning);
    let lines = RuleLines::new(rules, &partition, &never_asked(meaning), BELOW);
    let counts = |owner| {
        lines.rule(owner).is_some_and(|rule| {
            !matches!(rule.cause, Cause::Cell(..) | Cause::Unmatched | Cause::Spoofed(..))
        })
    };
    let found = anomalies::anomalies(&lines.table, lines.outcomes.len(), counts);
    let mut singles = Singles::default();
    for (owner, life) in (0u32..).zip(&found.lives) {
        if let Some(rule) = lines.rule(owner) {
            singles.undecided += usize::from(life.undecided && !stands_in_any_case(rule));
            singles.look_at(rule, life, &lines);
        }
    }
    let pairs = found.ordered.into_iter();
    let named = pairs.filter_map(|pair| {
        let (above, below) = (lines.rule(pair.above)?, lines.rule(pair.below)?);
        Some(Order { above, below, packet: pair.packet })
    });
    singles.ordered = named.collect();
    singles
}

/// Clashes of the same two lines are one.
pub(super) fn gathered(clashes: Vec<Clash>) -> Vec<Clash> {
    let mut places: HashMap<(u32, u32), usize> = HashMap::new();
    let mut all: Vec<Clash> = Vec::new();
    for clash in clashes {
        match places.get(&(clash.one, clash.other)) {
            Some(&place) => all[place].packets.add(clash.packets),
            None => {
                places.insert((clash.one, clash.other), all.len());
                all.push(clash);
            }
        }
    }
    all
}

fn difference<'r>(
    meaning: &Meaning<'_>,
    means: &MeaningLines<'_>,
    does: &RuleLines<'_, 'r>,
    clash: Clash,
) -> Difference<'r> {
    let ordinary = || example::packet(meaning.plan(), &clash.packets);
    // Clashes are never empty.
    let packet = ordinary()
        .or_else(|| clash.packets.sample())
        .unwrap_or_else(|| unreachable!("a clash has at least the packet that was found"));
    Difference {
        packet,
        meaning: means.decisions[clash.one as usize],
        rules: does.outcomes[clash.other as usize],
        packets: clash.packets,
    }
}

/// What no list is asked about, as products.
pub fn never_asked(meaning: &Meaning<'_>) -> Vec<Match> {
    (0..meaning.plan().gateway_interface().0)
        .flat_map(|interface| meaning.never_asked(Interface(interface)))
        .collect()
}

impl Proof<'_> {
    /// Whether rules and plan were shown to be the same.
    pub fn holds(&self) -> bool {
        self.differences.is_empty() && self.undecided == 0
    }
}

/// Rules that take the rest, or what is spoofed, stand there whether anything is left for them or not.
fn stands_in_any_case(rule: &Rule) -> bool {
    matches!(rule.cause, Cause::Unmatched | Cause::Spoofed(..))
}

impl<'r> Singles<'r> {
    fn look_at(&mut self, rule: &'r Rule, life: &Life, lines: &RuleLines<'_, 'r>) {
        let named = |owners: &[u32]| {
            let mut rules: Vec<&'r Rule> =
                owners.iter().filter_map(|owner| lines.rule(*owner)).collect();
            rules.sort_by_key(|rule| rule.number);
            rules
        };
        let stands = stands_in_any_case(rule);
        if life.undecided {
            return;
        }
        self.witnesses.extend(life.flips.or(life.witness).map(|packet| (rule, packet)));
        if life.witness.is_none() {
            let covered_by = named(&life.covered_by);
            self.shadowed.push(Idle { rule, covered_by, defensive: stands });
        } else if life.flips.is_none() {
            let covered_by = named(&life.repeated_by);
            let fate = super::fate::Fate::Decided(rule.action, rule.log);
            let defensive = stands || anomalies::is_defence(fate);
            self.redundant.push(Idle { rule, covered_by, defensive });
        }
    }
}

/// How many packets the proof is about, in words: an order of magnitude for each family.
pub fn packets_covered(meaning: &Meaning<'_>) -> String {
    let interfaces = f64::from(meaning.plan().gateway_interface().0 + 1);
    // Two addresses, the service line, the minutes of the week.
    let count = |bits: f64| {
        let log =
            2.0 * bits * 2f64.log10() + (24.0 * 2f64.log10()) + (7.0 * 1440.0 * interfaces).log10();
        log.floor()
    };
    format!("all of about 10^{} in IPv4 and 10^{} in IPv6", count(32.0), count(128.0))
}
