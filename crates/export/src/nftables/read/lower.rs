//! From chains and jumps to lines: for each place where the kernel asks chains, one list of which the first
//! line that matches decides.
//!
//! A chain that is jumped to becomes its rules, each for the packets that come to it; what leaves a chain
//! early (`return`, `goto` below another chain) is taken out of what follows there. Nothing is sampled.
//! What is not understood becomes an *unsure* line that shields what is below it.

mod tests_of;
mod translated;

pub(crate) use translated::{Translated, Translation, translated_in, translated_out};

use super::ruleset::{
    Chain, Hook, Key, Part, Problem, Refusal, Rule, Ruleset, State, Table, Value, Values, Verdict,
};
use super::world::World;
use bastium_core::plan::Action;
use bastium_core::space::{AddressSet, IntervalSet, Match, PacketSet, Protocol, ServiceSet};
use std::collections::HashMap;

/// How deep chains may lead into each other, as in the kernel.
const DEEPEST: usize = 16;
/// How many products lines may come to. A list of 100,000 rules needs fewer; chains that jump to each other
/// twice at each step need more than any machine has.
const MOST_PRODUCTS: usize = 400_000;

/// Where the kernel asks chains.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Place {
    /// Before a route is looked up.
    Prerouting,
    /// What is for the gateway.
    Input,
    /// What is passed on.
    Forward,
    /// What the gateway begins.
    Output,
    /// On the way out.
    Postrouting,
}

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
    /// What rules have written to the log that decide nothing.
    logged: Vec<Match>,
    translated: Vec<Translation>,
    /// By mark: the rate in bytes a second.
    limits: HashMap<u32, u64>,
    /// Whether a packet that begins a conversation may have a mark when a rule asks for it.
    marks_decide: bool,
    /// Where the lines of the chain that is gone through begin: what it decides there is its last word.
    chain_begins: usize,
}

impl<'r> Lowering<'r> {
    fn new(ruleset: &'r Ruleset, world: &'r dyn World, which: Conversation) -> Self {
        let all = || ruleset.tables.iter().flat_map(|t| t.chains.iter().map(move |c| (t, c)));
        let rules = || all().flat_map(|(t, c)| c.rules.iter().map(move |rule| (t, rule)));
        let mut limits: HashMap<u32, u64> = HashMap::new();
        for (mark, rate) in rules().filter_map(|(table, rule)| limits_mark(table, rule)) {
            let known = limits.entry(mark).or_insert(rate);
            *known = (*known).min(rate);
        }
        let marks_decide = rules().any(|(_, rule)| {
            let marks = rule.parts.iter().any(|part| matches!(part, Part::Mark(_)));
            let ends = |part: &Part| {
                matches!(part, Part::Verdict(Verdict::Accept | Verdict::Drop) | Part::Reject(_))
            };
            marks && !rule.parts.iter().any(ends)
        });
        let mut done = Lowered { problems: ruleset.unread.clone(), ..Lowered::default() };
        done.limits = limits.iter().map(|(mark, rate)| (*mark, *rate)).collect();
        Self {
            ruleset,
            world,
            which,
            done,
            products: 0,
            logged: Vec::new(),
            translated: Vec::new(),
            limits,
            marks_decide,
            chain_begins: 0,
        }
    }

    fn problem(&mut self, at: &str, what: impl Into<String>) {
        let problem = Problem { at: at.to_owned(), what: what.into() };
        if !self.done.problems.contains(&problem) {
            self.done.problems.push(problem);
        }
    }

    /// The chains of a kind at a hook, in the order in which they are asked.
    fn hooked(&self, kind: &str, hook: &str) -> Vec<(usize, usize, &'r Hook)> {
        let tables = self.ruleset.tables.iter().enumerate();
        let all = tables.flat_map(|(t, table)| {
            table.chains.iter().enumerate().filter_map(move |(c, chain)| {
                let own = chain.hook.as_ref()?;
                (own.kind == kind && own.hook == hook).then_some((t, c, own))
            })
        });
        let mut all: Vec<_> = all.collect();
        all.sort_by_key(|(_, _, hook)| hook.priority);
        all
    }

    /// A product, as far as a table sees its family.
    fn in_family(&self, table: usize, whole: &Match) -> Vec<Match> {
        let mut part = whole.clone();
        match self.ruleset.tables[table].family.as_str() {
            "inet" => {}
            "ip" => part.source.v6 = IntervalSet::empty(),
            "ip6" => part.source.v4 = IntervalSet::empty(),
            _ => part.source = AddressSet::empty(),
        }
        if part.is_empty() { Vec::new() } else { vec![part] }
    }

    /// Goes through the chains that filter at a place. What one denies is gone; what it lets pass, the next
    /// is asked about. Where there is none at all, the kernel lets everything pass.
    fn place(&mut self, place: Place) {
        let hook = match place {
            Place::Input => "input",
            Place::Forward => "forward",
            _ => "output",
        };
        let whole = self.world.at(place);
        let all = self.hooked("filter", hook);
        let deciding: Vec<_> =
            all.iter().filter(|(t, c, hook)| !self.is_harmless(*t, *c, hook)).copied().collect();
        let families: &[fn(&mut AddressSet)] =
            &[|set| set.v6 = IntervalSet::empty(), |set| set.v4 = IntervalSet::empty()];
        let split = deciding.len() != 1 || self.ruleset.tables[deciding[0].0].family != "inet";
        let parts: Vec<Match> = if split {
            let only = |cut: &fn(&mut AddressSet)| {
                let mut part = whole.clone();
                cut(&mut part.source);
                part
            };
            families.iter().map(only).collect()
        } else {
            vec![whole]
        };
        for part in parts.into_iter().filter(|part| !part.is_empty()) {
            let seen: Vec<_> = deciding
                .iter()
                .filter(|(table, ..)| !self.in_family(*table, &part).is_empty())
                .copied()
                .collect();
            let Some(((t, c, hook), before)) = seen.split_last() else {
                self.end_line("where no chain is asked", vec![part], Action::Allow);
                continue;
            };
            for (t, c, hook) in before {
                self.asked_before(*t, *c, hook, &part);
            }
            self.base_chain(*t, *c, hook, &part);
        }
    }

    fn base_chain(&mut self, table: usize, chain: usize, hook: &Hook, region: &Match) {
        self.chain_begins = self.done.lines.len();
        if hook.priority <= -200 {
            // Before that, the kernel does not know which packets belong together.
            let (table, chain) =
                (&self.ruleset.tables[table], &self.ruleset.tables[table].chains[chain]);
            let at = format!("{} {}", table.name, chain.name);
            self.problem(&at, "it is asked before the connection tracking");
        }
        self.walk(table, chain, std::slice::from_ref(region), true, 0);
        self.policy(table, chain, hook, vec![region.clone()]);
    }

    /// A chain that others follow: of what it says, only denials stand.
    fn asked_before(&mut self, table: usize, chain: usize, hook: &Hook, region: &Match) {
        let first = self.done.lines.len();
        self.base_chain(table, chain, hook, region);
        let own = self.done.lines.split_off(first);
        let mut taken = PacketSet::empty();
        for mut line in own {
            let set: PacketSet = line.matches.iter().cloned().collect();
            let left = set.difference(&taken).tidied();
            taken = taken.union(&set).tidied();
            if line.sure && line.action == Action::Allow {
                if line.log {
                    self.logged.extend(left.products());
                }
                continue;
            }
            line.matches = left.products().collect();
            if !line.matches.is_empty() {
                self.done.lines.push(line);
            }
        }
    }

    fn policy(&mut self, table: usize, chain: usize, hook: &Hook, matches: Vec<Match>) {
        let table = &self.ruleset.tables[table];
        let at = format!("{} {}, its policy", table.name, table.chains[chain].name);
        let action = if hook.drops { Action::Block } else { Action::Allow };
        self.end_line(&at, matches, action);
    }

    fn end_line(&mut self, at: &str, matches: Vec<Match>, action: Action) {
        let rule = Rule { at: at.to_owned(), says: at.to_owned(), ..Rule::default() };
        self.emit(&rule, action, matches, &Said { end: true, ..Said::default() });
    }

    /// Whether a chain lets everything pass, untouched and unseen.
    fn is_harmless(&self, table: usize, chain: usize, hook: &Hook) -> bool {
        let harmless = |part: &Part| {
            !matches!(
                part,
                Part::Verdict(Verdict::Drop | Verdict::Jump(_) | Verdict::Goto(_))
                    | Part::Look { .. }
                    | Part::Reject(_)
                    | Part::Log { .. }
                    | Part::UnreadDeed(_)
            )
        };
        let rules = &self.ruleset.tables[table].chains[chain].rules;
        !hook.drops && rules.iter().flat_map(|rule| &rule.parts).all(harmless)
    }

    /// Names the chains that filter or translate at places that are not looked at.
    fn other_hooks(&mut self) {
        let mut odd = Vec::new();
        for (t, table) in self.ruleset.tables.iter().enumerate() {
            for (c, chain) in table.chains.iter().enumerate() {
                let Some(hook) = &chain.hook else { continue };
                let at = format!("{} {}", table.name, chain.name);
                let known_family = ["inet", "ip", "ip6"].contains(&table.family.as_str());
                let read = match (hook.kind.as_str(), hook.hook.as_str()) {
                    _ if !known_family => false,
                    ("filter", "input" | "forward" | "output") => true,
                    ("nat", "prerouting" | "postrouting") => !hook.drops,
                    // Without a rule, it is there for the translation to work.
                    ("nat", _) => !hook.drops && chain.rules.is_empty(),
                    _ => false,
                };
                if !read && (marks(chain) || !self.is_harmless(t, c, hook)) {
                    odd.push((at, format!("a chain of type {} at {}", hook.kind, hook.hook)));
                }
            }
        }
        for (at, what) in odd {
            self.problem(&at, what);
        }
    }

    /// Goes through a chain with the packets that come to it.
    fn walk(&mut self, table: usize, chain: usize, region: &[Match], sure: bool, depth: usize) {
        let here = &self.ruleset.tables[table].chains[chain];
        if depth > DEEPEST {
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
        let mut said = Said { sure, as_usual: true, ..Said::default() };
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
        let limit = said.mark.and_then(|mark| self.limits.get(&mark).copied());
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
            let told = self.both(&matches, &self.logged.clone());
            if !told.is_empty() {
                lines.push(line(told, true));
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
}

/// A rule that holds the conversations with a mark to a rate: the mark, and bytes a second.
fn limits_mark(table: &Table, rule: &Rule) -> Option<(u32, u64)> {
    let [Part::Test(test), Part::OverLimit(name), Part::Verdict(Verdict::Drop)] =
        rule.parts.as_slice()
    else {
        return None;
    };
    let limit = table.limits.get(name).filter(|limit| limit.over)?;
    match (&test.keys[..], test.not, &test.values) {
        ([Key::Mark], false, Values::Given(values)) => match values.as_slice() {
            [value] => match value.as_slice() {
                // A burst has to hold a packet, or nothing gets through at all.
                [Value::Mark(mark)] if *mark != 0 && limit.burst_bytes >= 1514 => {
                    Some((*mark, limit.bytes_per_second))
                }
                _ => None,
            },
            _ => None,
        },
        _ => None,
    }
}

/// Whether something that is done and not understood may be the last thing that happens to a packet.
fn may_end(words: &str) -> bool {
    let ends = ["queue", "tproxy", "redirect", "dnat", "snat", "fwd", "synproxy", "xt", "reject"];
    ends.iter().any(|word| words.split(' ').any(|own| own == *word))
}

fn marks(chain: &Chain) -> bool {
    chain.rules.iter().flat_map(|rule| &rule.parts).any(|part| matches!(part, Part::Mark(_)))
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
