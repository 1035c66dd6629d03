//! The contents of the lists of a form, line by line.

use super::super::read::{Acls, Answer};
use super::lines::{Line, lines_of};
use super::{astray, entries};
use crate::named::Named;
use bastium_core::rules::RuleSet;
use bastium_core::space::Match;

/// Where something was not understood, and what.
type Unread = Vec<(String, String)>;

/// The lines of each list of a form that has to be entered.
pub(crate) fn listed(rules: &RuleSet, acls: &Acls) -> (Vec<Vec<Line>>, Unread) {
    let plan = rules.plan();
    let named = Named::of(Some(plan));
    let mut unread = acls.unclear();
    astray(rules, acls, &mut unread);
    let lists = rules.lists.iter().filter(|list| !list.implied);
    let lists = lists.map(|list| {
        let entries = entries(plan, list, acls, &named, &mut unread).unwrap_or_default();
        let covers: Vec<Match> = list.packets().products().collect();
        let of = |answer| lines_of(plan, list, &entries, &covers, answer);
        let lines = of(Answer::GoesOn);
        if lines != of(Answer::Resets) {
            let what = "`flags ack` and `flags rst` are not let back alike";
            unread.push((list.name.clone(), what.to_owned()));
        }
        lines
    });
    let lists = lists.collect();
    (lists, unread)
}
