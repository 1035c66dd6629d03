//! Where packets come in, in the words of a row, and read again.
//!
//! A gateway that translates before it filters sees what a port forward let in with the address inside. Where a rule is for
//! such packets alone, or for all but these, its row says so.

use super::objects::ANY;
use bastium_core::plan::Plan;
use bastium_core::space::{Interface, IntervalSet};

/// Behind an interface: only what a port forward has translated.
const FORWARDED: &str = " (forwarded)";

/// Behind an interface: all but what a port forward has translated.
const NOT_FORWARDED: &str = " (not forwarded)";

/// The interfaces by which packets come, and those by which they come translated.
type Entries = (IntervalSet<Interface>, IntervalSet<Interface>);

/// Where the packets of a rule come in.
fn entries(plan: &Plan, enters: &IntervalSet<Interface>, tells: bool) -> Entries {
    let all = 0..=plan.gateway_interface().0;
    let plain: IntervalSet<Interface> =
        all.clone().map(Interface).filter(|one| enters.contains(*one)).collect();
    let translated: IntervalSet<Interface> =
        all.map(Interface).filter(|one| enters.contains(plan.translated_interface(*one))).collect();
    if tells {
        return (plain, translated);
    }
    let both = plain.union(&translated);
    (both.clone(), both)
}

/// The cell of a rule. `tells` is whether the rule tells what was forwarded from what was not.
pub(super) fn words(plan: &Plan, enters: &IntervalSet<Interface>, tells: bool) -> Vec<String> {
    let (plain, translated) = entries(plan, enters, tells);
    let both = plain.intersection(&translated);
    let mut words = named(plan, &both, "");
    words.extend(named(plan, &plain.difference(&translated), NOT_FORWARDED));
    words.extend(named(plan, &translated.difference(&plain), FORWARDED));
    words
}

fn named(plan: &Plan, interfaces: &IntervalSet<Interface>, mark: &str) -> Vec<String> {
    let outer: IntervalSet<Interface> = (0..plan.gateway_interface().0).map(Interface).collect();
    if outer.is_subset(interfaces) {
        return vec![format!("{ANY}{mark}")];
    }
    let all = (0..=plan.gateway_interface().0).map(Interface);
    let own = all.filter(|interface| interfaces.contains(*interface));
    own.map(|interface| format!("{}{mark}", plan.interface_name(interface))).collect()
}

/// What a cell says: interfaces, and those of translated packets. `any` is every interface but the gateway itself.
fn typed(plan: &Plan, cell: &[String]) -> Option<Entries> {
    let outer: IntervalSet<Interface> = (0..plan.gateway_interface().0).map(Interface).collect();
    let mut typed: Entries = (IntervalSet::empty(), IntervalSet::empty());
    for word in cell {
        let marks = (word.strip_suffix(FORWARDED), word.strip_suffix(NOT_FORWARDED));
        let (name, plain, translated) = match marks {
            (_, Some(name)) => (name, true, false),
            (Some(name), None) => (name, false, true),
            (None, None) => (word.as_str(), true, true),
        };
        let mut all = (0..=plan.gateway_interface().0).map(Interface);
        let one = match name == ANY {
            true => outer.clone(),
            false => IntervalSet::point(all.find(|one| plan.interface_name(*one) == name)?),
        };
        typed.0 = if plain { typed.0.union(&one) } else { typed.0 };
        typed.1 = if translated { typed.1.union(&one) } else { typed.1 };
    }
    Some(typed)
}

/// Where packets come in by a cell.
pub(super) fn read(plan: &Plan, cell: &[String]) -> Option<IntervalSet<Interface>> {
    if cell.is_empty() {
        return None;
    }
    let (plain, translated) = typed(plan, cell)?;
    let all = (0..=plan.gateway_interface().0).map(Interface);
    let translated = all.filter(|one| translated.contains(*one) && !plan.inbounds().is_empty());
    let translated = translated.map(|one| plan.translated_interface(one)).collect();
    Some(plain.union(&translated))
}

/// Whether a cell says where the packets of a rule come in. The gateway itself is among `any` or not.
pub(super) fn says(
    plan: &Plan,
    cell: &[String],
    enters: &IntervalSet<Interface>,
    tells: bool,
) -> bool {
    let Some(typed) = typed(plan, cell) else { return false };
    let outer: IntervalSet<Interface> = (0..plan.gateway_interface().0).map(Interface).collect();
    let (plain, translated) = entries(plan, enters, tells);
    let own = IntervalSet::point(plan.gateway_interface());
    let same = |typed: &IntervalSet<Interface>, meant: &IntervalSet<Interface>| {
        let meant = if outer.is_subset(meant) { meant.difference(&own) } else { meant.clone() };
        *typed == meant
    };
    same(&typed.0, &plain) && same(&typed.1, &translated)
}
