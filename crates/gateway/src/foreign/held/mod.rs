//! Lists written by somebody else, as the starting point of a change to the rules of a plan.
//!
//! Every row becomes a rule in the lists of the plan's form, with just the packets that it decides. Rows that together
//! say what one of the plan's rules says become that rule, so that they can stay as they are.

mod acls;
mod alike;
mod lists;
mod plain;

use super::{Foreign, NotUnderstood};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Form};
use bastium_core::proof::never_asked;
use bastium_core::rules::{Matches, Rule, RuleId, RuleSet};
use bastium_core::space::{Match, PacketSet, ServiceSet};
use std::collections::HashMap;

/// The rules of a gateway, in the lists of a plan's form.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct HeldRules<'p> {
    /// The rules. Those that the plan has as well have their ids.
    pub rules: RuleSet<'p>,
    /// What each row is called where it stands.
    pub labels: HashMap<RuleId, String>,
    /// How many rows decide nothing: no packet that begins a conversation comes to them.
    pub idle: usize,
    /// Whether it has to be assumed that replies are let back.
    pub trusts_replies: bool,
}

/// Why no change can begin with a list.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum NotHeld {
    /// Not all of it was understood.
    Unread(Vec<NotUnderstood>),
    /// It was too much to be looked at.
    Exhausted,
    /// It keeps state and the form does not, or the other way round.
    State {
        /// Whether the list does.
        keeps: bool,
    },
    /// The form has ranks, which no list says.
    Ranks,
    /// A row decides for several lists of the form.
    Several {
        /// The row.
        at: String,
        /// Two of the lists.
        lists: [String; 2],
    },
    /// A row is for what leaves by one of several interfaces to which the same addresses lead.
    OneOfSeveralUplinks {
        /// The row.
        at: String,
    },
    /// A row is reached by several ways, so that it stands in several places.
    ByManyWays {
        /// The row.
        at: String,
    },
}

/// A row, as it decides packets of the plan.
#[derive(Clone, Debug)]
struct Row {
    label: String,
    action: Action,
    log: bool,
    limit_mbps: Option<f64>,
    /// Whether it is the end of a list.
    end: bool,
    products: Vec<(Match, Option<ServiceSet>)>,
}

impl Row {
    fn packets(&self) -> PacketSet {
        self.products.iter().map(|(product, _)| product.clone()).collect()
    }
}

impl Foreign {
    /// The rows as rules of a plan's form, whose own rules are `rules`.
    ///
    /// # Errors
    /// Why no change can begin with them.
    pub fn held_rules<'p>(
        &self,
        meaning: &Meaning<'_>,
        rules: &RuleSet<'p>,
    ) -> Result<HeldRules<'p>, NotHeld> {
        if self.exhausted {
            return Err(NotHeld::Exhausted);
        }
        let stateless = rules.form == Form::PerInterface;
        let keeps = self.replies.is_some();
        if rules.form == Form::Ranked {
            return Err(NotHeld::Ranks);
        }
        if keeps && stateless || self.acls.is_some() && !stateless {
            return Err(NotHeld::State { keeps });
        }
        if let Some(acls) = &self.acls {
            return acls::held(meaning, rules, acls);
        }
        if !self.not_understood.is_empty() {
            return Err(NotHeld::Unread(self.not_understood.clone()));
        }
        let rows = plain::rows(self, meaning.plan())?;
        // A table is one list; a gateway's own rules are several, and their rows in the order in which they are asked.
        let single = self.ruleset.is_none();
        let replies = self.replies != Some(false);
        let mut held = lists::held(meaning, rules, rows, replies, single)?;
        held.trusts_replies = self.replies.is_none() && !stateless;
        Ok(held)
    }
}

/// What can come to the lists at all.
fn coming(meaning: &Meaning<'_>, rules: &RuleSet) -> PacketSet {
    let never = never_asked(meaning).into_iter().chain(rules.unseen.products());
    let translated = rules.translations.iter().map(|one| one.takes.clone());
    let translated = translated.filter(|_| !rules.before_translation);
    let never: Vec<Match> = never.chain(translated).collect();
    let possible = rules.possible();
    never.iter().fold(possible, |rest, one| rest.difference(&one.into()))
}

/// Names for rows: that of the plan's rule where a row says the same, its own otherwise; no two alike.
#[derive(Default)]
struct Naming {
    seen: HashMap<String, u32>,
    labels: HashMap<RuleId, String>,
}

impl Naming {
    fn rule(&mut self, row: &Row) -> Rule {
        let matches = Matches::Written(row.products.clone());
        let id = RuleId::new(self.single(&row.label));
        self.labels.insert(id.clone(), id.to_string());
        Rule::typed(id, matches, (row.action, row.log, row.limit_mbps), None, None)
    }

    /// A rule of the plan, for the rows that say the same.
    fn like(&mut self, rule: &Rule, label: &str) -> Rule {
        let label = self.single(label);
        self.labels.insert(rule.id.clone(), label);
        rule.clone()
    }

    fn single(&mut self, label: &str) -> String {
        let count = self.seen.entry(label.to_owned()).or_default();
        *count += 1;
        if *count == 1 { label.to_owned() } else { format!("{label} ({count})") }
    }
}
