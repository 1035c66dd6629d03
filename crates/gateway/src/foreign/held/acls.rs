//! Access control lists on interfaces, as rules of the form `per-interface`.

use super::super::NotUnderstood;
use super::lists::fill;
use super::{HeldRules, NotHeld, Row};
use crate::acl_json::held::{Line, listed};
use crate::acl_json::read::Acls;
use bastium_core::meaning::Meaning;
use bastium_core::rules::RuleSet;
use bastium_core::space::ServiceSet;

/// The rules, each in the list of its interface.
///
/// # Errors
/// What was not understood.
pub(super) fn held<'p>(
    meaning: &Meaning<'_>,
    rules: &RuleSet<'p>,
    acls: &Acls,
) -> Result<HeldRules<'p>, NotHeld> {
    let (lists, unread) = listed(rules, acls);
    if !unread.is_empty() {
        let unread = unread.into_iter().map(|(at, what)| NotUnderstood { at, what });
        return Err(NotHeld::Unread(unread.collect()));
    }
    let rows = lists
        .into_iter()
        .enumerate()
        .flat_map(|(list, lines)| lines.into_iter().map(move |line| (list, row(line))));
    Ok(fill(meaning, rules, rows.collect()))
}

fn row(line: Line) -> Row {
    let Line { id: name, action, log, back, ends: end, products } = line;
    let from = |from: Option<ServiceSet>| match back {
        true => Some(from.unwrap_or_else(ServiceSet::any)),
        false => from,
    };
    Row {
        label: super::plain::short(&name),
        action,
        log,
        limit_mbps: None,
        end,
        products: products.into_iter().map(|(product, ports)| (product, from(ports))).collect(),
    }
}
