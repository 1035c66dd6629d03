//! Differences between the plan's rules and a list in a form of its own: a table, or lists that keep no state.

use super::differences::{DifferenceRow, does};
use crate::sheets::boxes;
use crate::sheets::{Because, BoxRow};
use bastium_core::plan::{Action, Plan};
use bastium_core::proof::{Wording, planless_changes};
use bastium_core::rules::{PlanlessLine, RuleSet};
use bastium_core::space::{Interface, IntervalSet, Match, PacketSet};
use bastium_gateway::foreign::{Alike, Foreign, ForeignLine, OwnLine, beyond, own_lines};
use bastium_gateway::nftables::speed;
use std::collections::BTreeSet;

/// What differs between a list that keeps no state, or a table, and the plan's own rules.
pub(in crate::sheets) fn of_list(
    foreign: &Foreign,
    plan: &Plan,
    rules: &RuleSet,
) -> (Vec<DifferenceRow>, usize) {
    let ways = &foreign.ways;
    // What no list is asked about is not compared.
    let apart: Vec<Match> = beyond(rules, ways).products().collect();
    let apart = PlanlessLine::new("", 0, apart, Action::Block, false);
    let apart = OwnLine::new(apart, None);
    let mut own = vec![apart.clone()];
    own.extend(own_lines(rules, ways));
    let mut theirs = vec![apart];
    theirs.extend(foreign.lines.iter().map(|line| OwnLine::new(line.bare.clone(), line.limit)));
    let comparing = Comparing { foreign, plan, rules, wording: Wording::new(plan), own, theirs };
    let (mut rows, mut undecided) = comparing.verdicts();
    if foreign.tells_limits {
        let (slower, open) = comparing.limits();
        rows.extend(slower);
        undecided += open;
    }
    rows.sort_by_key(DifferenceRow::rank);
    (rows, undecided)
}

/// Two lists over the same ways.
struct Comparing<'c> {
    foreign: &'c Foreign,
    plan: &'c Plan,
    rules: &'c RuleSet<'c>,
    wording: Wording<'c>,
    /// The plan's own lines; the first is what is not compared.
    own: Vec<OwnLine>,
    /// The others, likewise.
    theirs: Vec<OwnLine>,
}

impl Comparing<'_> {
    fn verdicts(&self) -> (Vec<DifferenceRow>, usize) {
        let bare = |line: &OwnLine| line.bare.clone();
        let words = |own: &OwnLine, does: &OwnLine| {
            let (before, after) = (own.bare.action, does.bare.action);
            Some(("verdict", before.word().to_owned(), after.word().to_owned()))
        };
        self.between(bare, words)
    }

    /// What is let through on both sides, but not as fast.
    fn limits(&self) -> (Vec<DifferenceRow>, usize) {
        let all = self.own.iter().chain(&self.theirs);
        let rates: BTreeSet<u64> = all.filter_map(|line| line.limit).collect();
        let (mut rows, mut undecided) = (Vec::new(), 0);
        for rate in rates {
            // Lines of this rate against all others.
            let only = |line: &OwnLine| {
                let own = line.limit == Some(rate) && line.bare.action == Action::Allow;
                let mut bare = line.bare.clone();
                bare.action = if own { Action::Allow } else { Action::Block };
                bare
            };
            let words = |own: &OwnLine, does: &OwnLine| {
                let both = [own, does].iter().all(|line| line.bare.action == Action::Allow);
                // What differs in two rates is said once, with the plan's.
                let here = own.limit.or(does.limit) == Some(rate);
                (both && here).then(|| ("limit", speed(own.limit), speed(does.limit)))
            };
            let (slower, open) = self.between(only, words);
            rows.extend(slower);
            undecided += open;
        }
        (rows, undecided)
    }

    /// What differs between lines as they are taken, with the words for two lines of which one comes instead of the other.
    fn between(
        &self,
        taken: impl Fn(&OwnLine) -> PlanlessLine,
        words: impl Fn(&OwnLine, &OwnLine) -> Option<(&'static str, String, String)>,
    ) -> (Vec<DifferenceRow>, usize) {
        let ways = &self.foreign.ways;
        let [own, theirs] = [&self.own, &self.theirs]
            .map(|lines| lines.iter().map(&taken).collect::<Vec<PlanlessLine>>());
        let alike = Alike::of(&[&own, &theirs], ways.interfaces());
        let (old, new) = (alike.reduced(&own), alike.reduced(&theirs));
        let (changes, undecided) = planless_changes(ways.interfaces(), &old, &new);
        let mut rows = Vec::new();
        for change in &changes {
            let line = change.after.checked_sub(1);
            let line = line.and_then(|place| self.foreign.lines.get(place));
            let Some(line) = line.filter(|line| line.sure) else { continue };
            let (before, after) = (&self.own[change.before], &self.theirs[change.after]);
            let Some(words) = words(before, after) else { continue };
            let packets = alike.on_all(&change.packets);
            let packets = to_plan(self.plan, self.foreign, &packets);
            let because = self.because(&before.bare.id);
            rows.extend(self.rows(&packets, &words, &because, line));
        }
        (rows, undecided)
    }

    fn because(&self, id: &str) -> Because {
        let mut all = self.rules.lists.iter().flat_map(|list| &list.rules);
        match all.find(|rule| rule.id == *id) {
            Some(rule) => Because::new(rule.cause, self.plan),
            None => Because::no_entry("end", id, format!("end of {id}")),
        }
    }

    fn rows(
        &self,
        packets: &PacketSet,
        (aspect, before, after): &(&'static str, String, String),
        because: &Because,
        line: &ForeignLine,
    ) -> Vec<DifferenceRow> {
        let why = because.words_and_line();
        let row = |packets: BoxRow| {
            let what = &packets.short;
            let says = match *aspect {
                "limit" => {
                    format!(
                        "{what} goes {after}; the plan has it {before} ({why}); gateway: {}",
                        line.at
                    )
                }
                _ => format!(
                    "the gateway {} {what}; the plan {} it ({why}); gateway: {}",
                    does(after),
                    does(before),
                    line.at
                ),
            };
            DifferenceRow {
                packets,
                aspect,
                before: before.clone(),
                after: after.clone(),
                because: because.clone(),
                line: line.at.clone(),
                line_says: line.bare.id.clone(),
                says,
            }
        };
        boxes::rows(&self.wording, packets).into_iter().map(row).collect()
    }
}

/// Packets over ways, as the plan's own.
fn to_plan(plan: &Plan, foreign: &Foreign, packets: &PacketSet) -> PacketSet {
    let products = packets.products().map(|product| {
        let interfaces = product.enters.spans().iter();
        let interfaces = interfaces.flat_map(|(low, high)| low.0..=high.0).map(Interface);
        let enters: IntervalSet<_> = interfaces
            .filter_map(|interface| foreign.ways.plan_interface(plan, interface))
            .collect();
        Match { enters, ..product }
    });
    products.collect::<PacketSet>().tidied()
}
