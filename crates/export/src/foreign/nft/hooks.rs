//! The chains that the kernel asks by itself. Where several are at one place, what the first lets pass is not
//! through yet: the next is asked. What one denies is gone.

use super::{Reader, of_family, word};
use crate::foreign::ForeignLine;
use bastium_core::plan::Action;
use bastium_core::rules::BareLine;
use bastium_core::space::PacketSet;
use serde_json::Value;

/// What a chain says of packets, while others follow that are asked too.
#[derive(Default)]
pub(super) struct Passing {
    /// What it lets pass.
    allowed: PacketSet,
    /// What a line that is not understood may let pass.
    maybe: PacketSet,
    /// What it denies.
    denied: PacketSet,
}

/// What a line says of the packets that it matches.
pub(super) struct Said<'l> {
    pub(super) at: &'l str,
    pub(super) name: &'l str,
    pub(super) action: Action,
    pub(super) log: bool,
    pub(super) sure: bool,
    pub(super) hits: Option<u64>,
    pub(super) end: bool,
}

impl<'j> Reader<'j> {
    /// Goes through the chains that the kernel asks by itself, in their order.
    pub(super) fn hooks(&mut self, hooks: &[&'j Value]) {
        let mut all: Vec<(&Value, PacketSet)> = Vec::new();
        for hook in hooks {
            let kind = hook["type"].as_str().unwrap_or_default();
            let legs = match hook["hook"].as_str().unwrap_or_default() {
                // Translation, and what only looks or marks, decides nothing.
                _ if kind != "filter" => continue,
                "forward" => self.ways.hook(false, false),
                "input" => self.ways.hook(false, true),
                "output" => self.ways.hook(true, false),
                _ if self.is_harmless(hook) => continue,
                other => {
                    let at = format!("chain {} {}", word(hook, "table"), word(hook, "name"));
                    self.unclear(&at, format!("a chain that filters at {other}"));
                    continue;
                }
            };
            all.push((hook, self.on(legs).intersection(&of_family(&word(hook, "family")))));
        }
        let everywhere = all.iter().fold(PacketSet::empty(), |sum, (_, own)| sum.union(own));
        // What lets all pass matters only where no other chain does anything.
        let decide = all.iter().filter(|(hook, _)| !self.is_harmless(hook));
        let decided = decide.fold(PacketSet::empty(), |sum, (_, own)| sum.union(own));
        let asked: Vec<(&Value, PacketSet)> = all
            .into_iter()
            .map(|(hook, own)| match self.is_harmless(hook) {
                true => (hook, own.difference(&decided)),
                false => (hook, own),
            })
            .collect();
        let mut gone = PacketSet::empty();
        for (place, (hook, region)) in asked.iter().enumerate() {
            let later = asked[place + 1..].iter().map(|(_, region)| region);
            let later = later.fold(PacketSet::empty(), |all, region| all.union(region));
            let (passes_on, last) = (region.intersection(&later), region.difference(&later));
            if !last.is_empty() {
                self.base_chain(hook, &last, &gone);
            }
            if !passes_on.is_empty() {
                self.passing = Some(Passing::default());
                self.base_chain(hook, &passes_on, &gone);
                let denied = self.passing.take().unwrap_or_default().denied;
                gone = gone.union(&denied).tidied();
            }
        }
        if !self.lines.is_empty() {
            self.unasked(&everywhere);
        }
    }

    /// Where there is no chain, the kernel lets everything pass: IPv6 beside a table of IPv4 alone, say.
    fn unasked(&mut self, asked: &PacketSet) {
        let at = "where no chain is asked";
        let rest = self.everything().difference(asked);
        let (action, log, sure, hits, end) = (Action::Allow, false, true, None, true);
        if !rest.is_empty() {
            self.push(&Said { at, name: at, action, log, sure, hits, end }, rest);
        }
    }

    /// Goes through one of them with the packets of its place, of which some are `gone` before.
    fn base_chain(&mut self, hook: &Value, region: &PacketSet, gone: &PacketSet) {
        let key = (word(hook, "family"), word(hook, "table"), word(hook, "name"));
        self.walk(&key, region.clone(), true, 0);
        let at = format!("chain {} {}, its policy", key.1, key.2);
        let action = if hook["policy"] == "drop" { Action::Block } else { Action::Allow };
        let policy =
            Said { at: &at, name: "policy", action, log: false, sure: true, hits: None, end: true };
        self.push(&policy, region.difference(gone));
    }

    /// Whether a chain lets everything pass.
    fn is_harmless(&self, hook: &Value) -> bool {
        let key = (word(hook, "family"), word(hook, "table"), word(hook, "name"));
        let ends = |says: &Value| {
            ["drop", "reject", "jump", "goto", "vmap", "queue"]
                .iter()
                .any(|w| says.get(w).is_some())
        };
        let rules = self.chains.get(&key).into_iter().flatten();
        hook["policy"] != "drop"
            && !rules.filter_map(|rule| rule["expr"].as_array()).flatten().any(ends)
    }

    /// Adds what a line says. Of a chain that others follow, only what it denies is a last word.
    pub(super) fn push(&mut self, said: &Said<'_>, packets: PacketSet) {
        let Some(passing) = &mut self.passing else { return self.add(said, &packets) };
        let packets = packets.difference(&passing.denied);
        if said.action == Action::Allow {
            let known = if said.sure { &mut passing.allowed } else { &mut passing.maybe };
            *known = known.union(&packets);
            return self.add(said, &PacketSet::empty());
        }
        let packets = packets.difference(&passing.allowed);
        let (unsure, sure) = match said.sure {
            true => (packets.intersection(&passing.maybe), packets.difference(&passing.maybe)),
            false => (packets, PacketSet::empty()),
        };
        passing.denied = passing.denied.union(&sure);
        if !unsure.is_empty() {
            self.add(&Said { sure: false, ..*said }, &unsure);
        }
        if said.sure {
            self.add(said, &sure);
        }
    }

    fn add(&mut self, said: &Said<'_>, packets: &PacketSet) {
        let id = if said.name.is_empty() { said.at } else { said.name }.to_owned();
        let number = self.lines.len() as u32 + 1;
        let matches = packets.products().collect();
        let bare = BareLine::new(&id, number, matches, said.action, said.log);
        let (at, sure) = (said.at.to_owned(), said.sure);
        self.lines.push(ForeignLine { bare, at, sure, hits: said.hits, end: said.end });
    }
}
