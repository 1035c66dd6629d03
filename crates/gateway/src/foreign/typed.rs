//! Rules that somebody typed from a sheet of this program.

use super::{Foreign, ForeignLine, NotAList, NotUnderstood, Ways, own_lines};
use bastium_core::plan::Action;
use bastium_core::rules::{Rule, RuleSet};

impl Foreign {
    /// Rules that were typed from a sheet of this program, in the lists of a plan.
    ///
    /// # Errors
    /// When the plan has too many interfaces.
    pub fn typed(rules: &RuleSet, not_understood: Vec<NotUnderstood>) -> Result<Self, NotAList> {
        let plan = rules.plan();
        let ways = Ways::of(plan)?;
        // Replies to what was let through are let back before anything else is asked.
        let keeps_state = rules
            .rules()
            .next()
            .is_some_and(|rule| rule.packets().is_none() && rule.action == Action::Allow);
        let stateless = rules.rules().any(Rule::is_for_replies);
        let lines = own_lines(rules, &ways).into_iter().map(|line| ForeignLine {
            at: format!("number {}", line.bare.number),
            sure: true,
            hits: None,
            limit: line.limit,
            end: line.bare.number == 0,
            bare: line.bare,
        });
        Ok(Self {
            lines: lines.collect(),
            ways,
            not_understood,
            replies: (!stateless).then_some(keeps_state),
            tells_limits: true,
            rules: rules.rules().count(),
            exhausted: false,
            ruleset: None,
            acls: None,
        })
    }
}
