//! Addresses as people type them, and how they are read back.

use bastium_core::addressing::Placeholder;
use bastium_core::plan::Plan;
use bastium_core::space::AddressSet;
use std::net::IpAddr;

/// Before what a value does not have.
const ALL_BUT: &str = "all but ";

/// Addresses as they are typed; where that is shorter, what is left out of all.
pub(in crate::sheets) fn address_values(plan: &Plan, set: &AddressSet) -> Vec<String> {
    let (words, others) = (plan.set_words(set), plan.set_words(&set.complement()));
    if words.len() <= 3 || words.len() <= others.len() {
        return words;
    }
    let shorter = vec![format!("{ALL_BUT}{}", others.join(" and "))];
    // Words leave out what only stands for something where others surround it: then it would be left out here.
    let read = read_addresses(plan, &shorter).unwrap_or_default();
    let lost = set.difference(&read);
    let is_lost = lost.ranges().any(|(low, _)| plan.stand_in_words(low).is_some());
    if is_lost { words } else { shorter }
}

/// Values as they are typed; `None` where one of them says nothing.
pub(in crate::sheets) fn read_addresses(plan: &Plan, values: &[String]) -> Option<AddressSet> {
    if let [value] = values
        && let Some(others) = value.strip_prefix(ALL_BUT)
    {
        let others: Option<AddressSet> =
            others.split(" and ").map(|value| read_address(plan, value)).collect();
        return Some(others?.complement());
    }
    values.iter().map(|value| read_address(plan, value)).collect()
}

fn read_address(plan: &Plan, value: &str) -> Option<AddressSet> {
    let leased = plan.uplinks().iter().filter_map(|uplink| uplink.placeholder);
    let mut known = plan.domains().iter().map(|domain| domain.placeholder).chain(leased);
    let says = |one: &Placeholder| plan.stand_in_words(one.addresses()[0]);
    let named = || known.find(|one| says(one).as_deref() == Some(value)).map(Placeholder::set);
    AddressSet::from_word(value).or_else(named)
}

/// Whether addresses that were typed are those of a set. An address that only stands for something that is not known
/// beforehand is none that a gateway could have: it may lie in a range that is typed, and is missed only where it stands for
/// something of this plan.
pub(in crate::sheets) fn are_same(plan: &Plan, typed: &AddressSet, set: &AddressSet) -> bool {
    let stands_in = |low: IpAddr, high: IpAddr| low == high && Placeholder::of(low).is_some();
    let (more, less) = (typed.difference(set), set.difference(typed));
    more.ranges().all(|(low, high)| stands_in(low, high))
        && less
            .ranges()
            .all(|(low, high)| stands_in(low, high) && plan.stand_in_words(low).is_none())
}
