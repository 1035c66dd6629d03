//! Which chains the kernel consults, in which order, and what their policies do.

use super::limits::marks;
use super::{Lowering, Place, Said};
use crate::nftables::read::ruleset::{Hook, Part, Rule, Verdict};
use bastium_core::plan::Action;
use bastium_core::space::{AddressSet, IntervalSet, Match, PacketSet};

impl<'r> Lowering<'r> {
    /// The chains of a kind at a hook, in the order in which they are asked.
    pub(super) fn hooked(&self, kind: &str, hook: &str) -> Vec<(usize, usize, &'r Hook)> {
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
    pub(super) fn in_family(&self, table: usize, whole: &Match) -> Vec<Match> {
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
    pub(super) fn place(&mut self, place: Place) {
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
                    | Part::SendOn { .. }
                    | Part::Disguise(_)
                    | Part::UnreadDeed(_)
            )
        };
        let rules = &self.ruleset.tables[table].chains[chain].rules;
        !hook.drops && rules.iter().flat_map(|rule| &rule.parts).all(harmless)
    }

    /// Names the chains that filter or translate at places that are not looked at.
    pub(super) fn other_hooks(&mut self) {
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
}
