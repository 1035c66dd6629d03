//! What stands in the lists of a form, line by line.

use super::super::read::{Acls, Answer};
use super::lines::{Line, lines_of};
use super::{astray, entries};
use crate::named::Named;
use bastium_core::rules::RuleSet;
use bastium_core::space::{Match, ServiceSet};

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
        let from = |entry: &&super::Entry| entry.from.is_some() && !entry.segments.are_answers();
        let tcp = ServiceSet::protocol(super::Protocol::TCP);
        for entry in
            entries.iter().filter(from).filter(|one| !one.service.intersection(&tcp).is_empty())
        {
            // What opens a connection is not distinguished by the port that it comes from.
            unread.push((entry.name.clone(), "`source-port` without `flags`".to_owned()));
        }
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
