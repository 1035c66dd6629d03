//! Flattens chains and jumps: for each point at which the kernel consults chains, one list of lines of which the
//! first match decides.
//!
//! A chain that is jumped to becomes its rules, each for the packets that come to it; what leaves a chain
//! early (`return`, `goto` below another chain) is taken out of what follows there. Nothing is sampled.
//! What is not understood becomes an *unsure* line that shields what is below it.

mod hooks;
mod limits;
mod service_line;
mod tests_of;
mod translated;

pub(crate) use translated::{Translated, Translation, translated_in, translated_out};

use super::ruleset::{Hook, Part, Problem, Refusal, Rule, Ruleset, Side, State, Verdict};
use super::world::{Place, World};
use bastium_core::plan::Action;
use bastium_core::space::{Family, Match, PacketSet, Protocol, ServiceSet};
use limits::{Limits, limits_mark};
use std::cell::RefCell;
use std::collections::HashMap;

/// How deep chains may lead into each other, as in the kernel.
const DEEPEST: usize = 16;
/// How many products lines may come to. A list of 100,000 rules needs fewer; chains that jump to each other
/// twice at each step need more than any machine has.
const MOST_PRODUCTS: usize = 400_000;
/// By how many ways one chain may be come to through two others or more. A chain that many rules share, for the log say,
/// lies less deep; what comes by a thousand ways through chains of chains is of a size that takes minutes to compare.
const MOST_WAYS: usize = 1_024;

/// Which packets of a conversation are asked about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Conversation {
    /// The first one.
    Begins,
    /// One of those that follow, in either direction.
    GoesOn,
    /// An error that belongs to one.
    Related,
    /// What belongs to none and begins none.
    Invalid,
}

/// A line: what a rule decides, as far as packets come to it.
#[derive(Clone, Debug)]
pub(crate) struct Line {
    /// Where it stands.
    pub(crate) at: String,
    /// As much of it as fits a line.
    pub(crate) says: String,
    /// The rule's comment.
    pub(crate) name: String,
    pub(crate) matches: Vec<Match>,
    pub(crate) action: Action,
    pub(crate) log: bool,
    /// Whether what it matches and does is known.
    pub(crate) sure: bool,
    /// Whether it refuses as the plan's own rules do.
    pub(crate) as_usual: bool,
    /// The rate that its conversations are held to, in bytes a second.
    pub(crate) limit: Option<u64>,
    pub(crate) hits: Option<u64>,
    /// Whether it is the end of a chain, and no rule.
    pub(crate) end: bool,
}

/// What was made of a rule set.
#[derive(Clone, Debug, Default)]
pub(crate) struct Lowered {
    pub(crate) lines: Vec<Line>,
    pub(crate) problems: Vec<Problem>,
    /// Where it became too much; nothing is claimed then.
    pub(crate) exhausted: Option<String>,
    /// What limits hold: the mark, the rate in bytes a second.
    pub(crate) limits: Vec<(u32, u64)>,
}

/// The lines that decide over packets of a kind, at one place after the other.
pub(crate) fn lower(ruleset: &Ruleset, world: &dyn World, which: Conversation) -> Lowered {
    let mut lowering = Lowering::new(ruleset, world, which);
    for place in [Place::Input, Place::Forward, Place::Output] {
        lowering.place(place);
    }
    if which == Conversation::Begins {
        lowering.other_hooks();
    }
    lowering.done
}

struct Lowering<'r> {
    ruleset: &'r Ruleset,
    world: &'r dyn World,
    which: Conversation,
    done: Lowered,
    products: usize,
    /// By chain, how many ways through others have led to it.
    ways: HashMap<(usize, usize), usize>,
    /// What rules have written to the log that decide nothing.
    logged: Vec<Match>,
    translated: Vec<Translation>,
    limits: Limits,
    /// What interfaces of a name are, once they have been asked for.
    interfaces: RefCell<HashMap<(Side, String), Vec<Match>>>,
    /// Where the lines of the chain that is gone through begin: what it decides there is its last word.
    chain_begins: usize,
}

impl<'r> Lowering<'r> {
    fn new(ruleset: &'r Ruleset, world: &'r dyn World, which: Conversation) -> Self {
        let limits = Limits::of(ruleset);
        let mut done = Lowered { problems: ruleset.unread.clone(), ..Lowered::default() };
        done.problems.extend(limits.problems.iter().cloned());
        done.limits = limits.rates.iter().map(|(mark, rate)| (*mark, *rate)).collect();
        Self {
            ruleset,
            world,
            which,
            done,
            products: 0,
            ways: HashMap::new(),
            logged: Vec::new(),
            translated: Vec::new(),
            limits,
            interfaces: RefCell::default(),
            chain_begins: 0,
        }
    }

    /// What an interface of that name is, asked of the world once.
    fn interface(&self, side: Side, name: &str) -> Vec<Match> {
        let mut known = self.interfaces.borrow_mut();
        let own = known.entry((side, name.to_owned()));
        own.or_insert_with(|| self.world.interface(side, name)).clone()
    }

    fn problem(&mut self, at: &str, what: impl Into<String>) {
        let problem = Problem { at: at.to_owned(), what: what.into() };
        if !self.done.problems.contains(&problem) {
            self.done.problems.push(problem);
        }
    }

    /// Goes through a chain with the packets that come to it.
    fn walk(&mut self, table: usize, chain: usize, region: &[Match], sure: bool, depth: usize) {
        let here = &self.ruleset.tables[table].chains[chain];
        let ways = self.ways.entry((table, chain)).or_default();
        *ways += usize::from(depth > 2);
        if depth > DEEPEST || *ways > MOST_WAYS {
            self.done.exhausted.get_or_insert_with(|| format!("chain {}", here.name));
            return;
        }
        let mut region = region.to_vec();
        for rule in &here.rules {
            if region.is_empty() || self.done.exhausted.is_some() {
                return;
            }
            let gone = self.rule(table, rule, &region, sure, depth);
            if !gone.is_empty() {
                let left: PacketSet = region.into_iter().collect();
                let gone: PacketSet = gone.into_iter().collect();
                region = left.difference(&gone).tidied().products().collect();
            }
        }
    }

    /// Does what a rule says. What leaves its chain early is returned.
    fn rule(
        &mut self,
        table: usize,
        rule: &'r Rule,
        region: &[Match],
        sure: bool,
        depth: usize,
    ) -> Vec<Match> {
        if limits_mark(&self.ruleset.tables[table], rule).is_some() {
            // Of a conversation that was let through, what is too fast is dropped.
            return Vec::new();
        }
        let family = self.ruleset.tables[table].only_family();
        let headers = Headers { family, protocol: false };
        let mut said = Said { sure, as_usual: true, headers, ..Said::default() };
        let mut here = region.to_vec();
        let mut gone = Vec::new();
        for part in &rule.parts {
            if here.is_empty() {
                break;
            }
            let goes_elsewhere = matches!(
                part,
                Part::Test(_)
                    | Part::Look { .. }
                    | Part::Verdict(Verdict::Jump(_) | Verdict::Goto(_))
            );
            if said.log && goes_elsewhere {
                // It is written whatever comes of the rest.
                self.logged.extend(here.iter().cloned());
            }
            match part {
                Part::Test(test) => here = self.narrowed(table, rule, &here, test, &mut said),
                Part::Log { .. } => said.log = true,
                Part::Mark(mark) => said.mark = Some(*mark),
                Part::OverLimit(name) => {
                    said.sure = false;
                    self.problem(&rule.at, format!("limit {name}: it holds at some times only"));
                }
                Part::Rate { says, .. } => {
                    said.sure = false;
                    self.problem(&rule.at, format!("`{says}`"));
                }
                Part::UnreadTest(words) => {
                    said.sure = false;
                    self.problem(&rule.at, format!("`{words}`"));
                }
                Part::UnreadDeed(words) if !may_end(words) => {
                    self.problem(&rule.at, format!("`{words}`"));
                }
                Part::UnreadDeed(words) => {
                    self.problem(&rule.at, format!("`{words}`"));
                    said.sure = false;
                    let matches = std::mem::take(&mut here);
                    self.emit(rule, Action::Allow, matches.clone(), &said);
                    self.push_translated(matches, Translated::Unknown, rule);
                }
                Part::Verdict(verdict) => {
                    let left = self.carry_out(table, rule, verdict, &here, &said, depth);
                    gone.extend(left);
                    here.clear();
                }
                Part::Reject(how) => self.refuse(rule, *how, std::mem::take(&mut here), &said),
                Part::Look { keys, map } => {
                    for (own, verdict) in self.looked(table, rule, keys, map, &mut said) {
                        let own = self.both(&here, &own);
                        gone.extend(self.carry_out(table, rule, &verdict, &own, &said, depth));
                    }
                }
                Part::SendOn { to, ports } => self.send_on(rule, *to, ports, &here, &said),
                Part::Disguise(to) => {
                    let to = to.map_or(Translated::Own, Translated::As);
                    let to = if said.sure { to } else { Translated::Unknown };
                    self.push_translated(std::mem::take(&mut here), to, rule);
                }
            }
        }
        if said.log {
            self.logged.extend(here);
        }
        gone
    }

    fn carry_out(
        &mut self,
        table: usize,
        rule: &'r Rule,
        verdict: &Verdict,
        here: &[Match],
        said: &Said,
        depth: usize,
    ) -> Vec<Match> {
        if here.is_empty() {
            return Vec::new();
        }
        let (chain, stays) = match verdict {
            Verdict::Accept => {
                self.push_translated(here.to_vec(), Translated::No, rule);
                self.emit(rule, Action::Allow, here.to_vec(), said);
                return Vec::new();
            }
            Verdict::Drop => {
                self.push_translated(here.to_vec(), Translated::Unknown, rule);
                self.emit(rule, Action::Block, here.to_vec(), said);
                return Vec::new();
            }
            Verdict::Return => return here.to_vec(),
            Verdict::Jump(chain) => (chain, true),
            Verdict::Goto(chain) => (chain, false),
        };
        match self.ruleset.tables[table].chain(chain) {
            Some(place) => self.walk(table, place, here, said.sure, depth + 1),
            None => self.problem(&rule.at, format!("chain {chain} is not there")),
        }
        if stays { Vec::new() } else { here.to_vec() }
    }

    fn refuse(&mut self, rule: &Rule, how: Refusal, here: Vec<Match>, said: &Said) {
        let tcp = ServiceSet::protocol(Protocol::TCP);
        let part = |service: &ServiceSet| -> Vec<Match> {
            let within = Match { service: service.clone(), ..Match::everything() };
            let all = here.iter().map(|product| product.intersection(&within));
            all.filter(|product| !product.is_empty()).collect()
        };
        let (of_tcp, others) = (part(&tcp), part(&ServiceSet::any().difference(&tcp)));
        let says = |as_usual| Said { as_usual, ..said.clone() };
        self.emit(rule, Action::Reject, of_tcp, &says(how == Refusal::Reset));
        if how != Refusal::Reset {
            // Only TCP has a reset, so that the kernel's tool asks for TCP by itself.
            self.emit(rule, Action::Reject, others, &says(how == Refusal::Prohibited));
        }
    }

    fn emit(&mut self, rule: &Rule, action: Action, matches: Vec<Match>, said: &Said) {
        if matches.is_empty() {
            return;
        }
        let limit = said.mark.and_then(|mark| self.limits.rates.get(&mark).copied());
        let line = |matches: Vec<Match>, log: bool| Line {
            at: rule.at.clone(),
            says: rule.says.clone(),
            name: rule.comment.clone().unwrap_or_default(),
            matches,
            action,
            log,
            sure: said.sure || said.end,
            as_usual: said.as_usual || said.end,
            limit: limit.filter(|_| action == Action::Allow),
            hits: rule.hits,
            end: said.end,
        };
        let mut lines = Vec::new();
        if !said.log && !self.logged.is_empty() {
            let reported = self.both(&matches, &self.logged.clone());
            if !reported.is_empty() {
                lines.push(line(reported, true));
            }
        }
        lines.push(line(matches, said.log));
        self.products += lines.iter().map(|line| line.matches.len()).sum::<usize>();
        if self.products > MOST_PRODUCTS {
            self.done.exhausted.get_or_insert_with(|| rule.at.clone());
        }
        self.done.lines.extend(lines);
    }

    /// What of each product is in any of the others.
    fn both(&self, here: &[Match], other: &[Match]) -> Vec<Match> {
        let pairs = here.iter().flat_map(|a| other.iter().map(move |b| a.intersection(b)));
        pairs.filter(|product| !product.is_empty()).collect()
    }
}

/// What a rule has said up to its verdict.
#[derive(Clone, Debug, Default)]
struct Said {
    sure: bool,
    as_usual: bool,
    log: bool,
    mark: Option<u32>,
    end: bool,
    headers: Headers,
}

/// What a rule has asked of a packet's headers. `icmp type` asks for ICMP, and for IPv4 only where nothing
/// before it has named a family or the protocol: that is how the kernel's tool completes it.
#[derive(Clone, Copy, Debug, Default)]
struct Headers {
    family: Option<Family>,
    protocol: bool,
}

/// Whether something that is done and not understood may be the last thing that happens to a packet.
fn may_end(words: &str) -> bool {
    let ends = ["queue", "tproxy", "redirect", "dnat", "snat", "fwd", "synproxy", "xt", "reject"];
    ends.iter().any(|word| words.split(' ').any(|own| own == *word))
}

/// Whether a state of the connection tracking is that of the packets that are asked about.
fn has_state(which: Conversation, state: State) -> bool {
    matches!(
        (which, state),
        (Conversation::Begins, State::New)
            | (Conversation::GoesOn, State::Established)
            | (Conversation::Related, State::Related)
            | (Conversation::Invalid, State::Invalid)
    )
}
