//! What decides the packets of one cell of the matrix.

use bastium_core::meaning::Meaning;
use bastium_core::plan::{ExceptionId, Rows, ZoneId};
use bastium_core::rules::{self, Rule, RuleSet, Stage};
use bastium_core::space::{Match, Nearby, PacketSet};
use bastium_core::verdict::Cause;
use std::borrow::Cow;

/// The rules of the list for routed traffic, each with its packets, and what is translated on its way in.
pub(super) struct CellRules<'r> {
    rules: Vec<(&'r Rule, PacketSet)>,
    /// Where the packets of each lie.
    nearby: Nearby,
    translated: PacketSet,
}

impl<'r> CellRules<'r> {
    pub(super) fn of(meaning: &Meaning<'_>, rules: &'r RuleSet<'r>) -> Self {
        let lists = rules.lists.iter().filter(|list| list.stage == Stage::Through);
        let rules = lists.flat_map(|list| &list.rules);
        let rules = rules.filter_map(|rule| Some((rule, PacketSet::from(rule.packets()?))));
        let rules: Vec<(&Rule, PacketSet)> = rules.collect();
        let nearby = Nearby::new(rules.iter().map(|(_, own)| own));
        Self { rules, nearby, translated: meaning.translated() }
    }

    /// Those that decide packets from one zone to the other.
    pub(super) fn deciding(
        &self,
        meaning: &Meaning<'_>,
        from: ZoneId,
        to: ZoneId,
    ) -> impl Iterator<Item = &'r Rule> + use<'r> {
        let rest = packets(meaning, &self.translated, from, to);
        // The cell of two other zones has none of these packets.
        let of_another =
            |rule: &Rule| matches!(rule.cause, Cause::Cell(a, b) if (a, b) != (from, to));
        let near = self.nearby.to(&rest).into_iter().map(|place| &self.rules[place]);
        let near: Vec<_> = near.filter(|(rule, _)| !of_another(rule)).collect();
        let decides = |place: &usize| {
            let here = rest.intersection(&near[*place].1);
            !here.is_covered_by(near[..*place].iter().map(|(_, own)| own))
        };
        let found: Vec<&'r Rule> =
            (0..near.len()).filter(decides).map(|place| near[place].0).collect();
        found.into_iter()
    }

    /// The exceptions that decide packets from one zone to the other, in the order of their rules.
    pub(super) fn exceptions(
        &self,
        meaning: &Meaning<'_>,
        from: ZoneId,
        to: ZoneId,
    ) -> Vec<ExceptionId> {
        let mut found = Vec::new();
        for id in self.deciding(meaning, from, to).filter_map(|rule| rule.cause.exception()) {
            if !found.contains(&id) {
                found.push(id);
            }
        }
        found
    }
}

/// The packets from one zone to another that the gateway decides about, whatever it decides. `translated` are those of
/// [`Meaning::translated`].
pub(super) fn packets(
    meaning: &Meaning<'_>,
    translated: &PacketSet,
    from: ZoneId,
    to: ZoneId,
) -> PacketSet {
    let plan = meaning.plan();
    // What no uplink leads to is not decided by anybody.
    let destination = match to == plan.internet() {
        true => &plan.zone_addresses(to).intersection(&plan.reachable_internet()),
        false => plan.zone_addresses(to),
    };
    let sources = plan.zone_addresses(from);
    let of_cell = |enters, source| Match {
        enters,
        source,
        destination: destination.clone(),
        ..Match::everything()
    };
    let entries = plan
        .zone_entries(from)
        .iter()
        .map(|(interfaces, entering)| of_cell(interfaces.clone(), sources.intersection(entering)));
    let mut rest: PacketSet = entries.collect();
    for product in translated.products() {
        // What is offered to this zone comes by a way of its own.
        let came_by = product.enters.first().map(|interface| plan.came_by(interface));
        let inside = of_cell(product.enters.clone(), sources.clone());
        if came_by.is_some_and(|interface| {
            plan.zone_entries(from).iter().any(|(l, _)| l.contains(interface))
        }) {
            rest = rest.union(&PacketSet::from(inside).intersection(&PacketSet::from(product)));
        }
    }
    if from == to {
        // Inside one network nothing meets the gateway.
        for id in plan.networks_of(from).filter(|id| plan.network(*id).tunnel.is_none()) {
            let own = plan.network_addresses(id);
            let within =
                Match { source: own.clone(), destination: own.clone(), ..Match::everything() };
            rest = rest.difference(&PacketSet::from(within));
        }
    }
    rest
}

/// The rules with one for every cell and exception.
pub(super) fn every_cell<'r, 'p>(
    meaning: &Meaning<'p>,
    rules: &'r RuleSet<'p>,
) -> Cow<'r, RuleSet<'p>> {
    let every = || rules::in_form_with(meaning, rules.form, Rows::EveryCell).ok();
    match meaning.plan().gateway().rules {
        Rows::EveryCell => Cow::Borrowed(rules),
        Rows::Fewest => every().map_or(Cow::Borrowed(rules), Cow::Owned),
    }
}
