//! Whether every allowed packet gets its replies.

use super::fate::Fate;
use super::lines::{MeaningLines, Reading};
use super::partition::{Index, Partition};
use super::table::{Side, Table};
use crate::meaning::Meaning;
use crate::plan::{Action, Form};
use crate::rules::RuleSet;
use crate::space::{AddressBits, Packet, Search};
use crate::verdict::{Cause, Decision};

/// Whether replies pass.
#[derive(Clone, Copy, Debug, Default)]
#[non_exhaustive]
pub struct Answers {
    /// An allowed packet to which no answer would come back.
    pub unanswered: Option<Packet>,
    /// How many questions could not be decided in the steps that are allowed.
    pub undecided: usize,
}

impl Answers {
    /// Whether all that is allowed was shown to get its answers.
    pub fn hold(&self) -> bool {
        self.unanswered.is_none() && self.undecided == 0
    }
}

/// Looks for an allowed packet to which no answer would come back.
pub fn answers(meaning: &Meaning<'_>, rules: &RuleSet) -> Answers {
    let partition = Partition::of(meaning);
    let mut let_back = Table::new(&partition, 0);
    let counts: fn(Decision) -> bool = match rules.form {
        Form::PerInterface => {
            // Where no state is kept, every allowed packet that the gateway passes on has its reply let back.
            for (_, answered) in rules.answered() {
                let_back.push(&answered.into(), Fate::Unasked, 0);
            }
            let_back.push(&rules.unseen, Fate::Unasked, 0);
            goes_through
        }
        _ if replies_come_first(rules) => return Answers::default(),
        _ => |_| true,
    };
    let means = MeaningLines::new(meaning, &partition, &Reading::default());
    let allowed = |owner: u32| means.decisions.get(owner as usize).is_some_and(|d| counts(*d));
    let mut found = Answers::default();
    open(&partition.v4, &means.table.v4, &let_back.v4, &allowed, &mut found);
    open(&partition.v6, &means.table.v6, &let_back.v6, &allowed, &mut found);
    found
}

/// Looks for a packet that a line allows and to which nothing is let back.
fn open<A: AddressBits>(
    index: &Index<A>,
    means: &Side<A>,
    let_back: &Side<A>,
    counts: &impl Fn(u32) -> bool,
    found: &mut Answers,
) {
    for row in 0..means.rows() {
        if found.unanswered.is_some() {
            return;
        }
        for (cell, back) in means.row(index, row).iter().zip(&let_back.row(index, row)) {
            let stack = cell.stack();
            for (place, line) in stack.lines.iter().enumerate() {
                if line.fate.action() != Some(Action::Allow) || !counts(line.owner) {
                    continue;
                }
                match stack.above(place).find_uncovered(back.stack(), &line.block) {
                    Search::Covered => {}
                    Search::Undecided => found.undecided += 1,
                    Search::Found(point) => {
                        found.unanswered.get_or_insert(A::packet(point));
                    }
                }
            }
        }
    }
}

/// Whether the first rule of all lets replies back.
fn replies_come_first(rules: &RuleSet) -> bool {
    let first = rules.lists.first().and_then(|list| list.rules.first());
    first.is_some_and(|rule| {
        rule.cause == Cause::Reply && rule.action == Action::Allow && rule.packets().is_none()
    })
}

/// Whether the gateway passes it on: it neither ends nor begins there.
fn goes_through(decision: Decision) -> bool {
    !matches!(
        decision.cause,
        Cause::Ipv6Needs
            | Cause::Manage
            | Cause::TunnelPort(_)
            | Cause::Discovery(_)
            | Cause::GatewayService(_)
            | Cause::FromGateway
    )
}
