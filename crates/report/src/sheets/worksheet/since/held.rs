//! Rules that somebody else has entered into a gateway, as rows that can be found there.

use super::super::objects::Objects;
use super::super::rules::{Entered, EnteredList, EnteredRule, title};
use super::super::{Misread, Since, Worksheet, entry};
use super::Rows;
use crate::sheets::address_values;
use bastium_core::changeover::Changeover;
use bastium_core::meaning::Meaning;
use bastium_core::plan::Plan;
use bastium_core::proof::Proved;
use bastium_core::rules::{Rule, RuleId, RuleList, RuleSet, Surroundings};
use bastium_core::space::{AddressSet, Interface, IntervalSet, Match, ServiceSet};
use bastium_gateway::foreign::HeldRules;
use std::collections::{HashMap, HashSet};

/// More values of a row than these do not help to find it.
const MOST_VALUES: usize = 4;

impl Worksheet {
    /// The worksheet of a change of a gateway whose rules somebody else wrote. Interfaces, leases, translation and switch
    /// ports are assumed to be as the plan has them.
    ///
    /// # Errors
    /// Where what is typed would not lead to the new rules, as for [`Worksheet::since`].
    pub fn since_held(
        name: &str,
        held: &HeldRules<'_>,
        (meaning, proved): (&Meaning<'_>, Proved<'_>),
    ) -> Result<Self, Vec<Misread>> {
        let (plan, rules) = (meaning.plan(), proved.rules());
        let plain = Entered::new(rules);
        let mut is = Entered::new(rules);
        as_one(&mut is, rules, &held.rules);
        let was = was(plan, held, &is);
        let called = was.rules().filter_map(|row| {
            let own = is.rules().find(|own| own.id == row.id)?;
            (own.name != row.name).then(|| (row.name.clone(), own.name.clone()))
        });
        let called: HashMap<String, String> = called.collect();
        let rows = Rows { was: &was, is, plain: Some(plain), called };
        let mut sheet = Self::between(name, (meaning, &held.rules), (meaning, proved), rows)?;
        sheet.since = sheet.since.map(|since| Since { assumed: assumed(held), ..since });
        Ok(sheet)
    }
}

/// What no list of rules says, and the sheet rests on.
fn assumed(held: &HeldRules) -> Vec<String> {
    let mut assumed = vec![
        "interfaces, addresses, DHCP, translation and switch ports are as the plan has them"
            .to_owned(),
    ];
    if held.trusts_replies {
        assumed.push("replies to open connections are let back already".to_owned());
    }
    match held.idle {
        0 => {}
        1 => assumed
            .push("the row that no first packet of a conversation reaches may stay".to_owned()),
        idle => assumed.push(format!(
            "the {idle} rows that no first packet of a conversation reaches may stay"
        )),
    }
    assumed
}

/// Rows of lists for which the gateway has a single one stand in that, one list after the other.
fn as_one(is: &mut Entered<'_>, rules: &RuleSet, held: &RuleSet) {
    let among = rules.stood_for_in(held);
    let Some(whole) = held.lists.first().filter(|_| !among.is_empty()) else { return };
    let is_among =
        |list: &EnteredList| among.iter().any(|place| rules.lists[*place].name == list.name);
    let (one, others): (Vec<_>, Vec<_>) = is.lists.drain(..).partition(is_among);
    let rows = one.into_iter().flat_map(|list| list.rules).collect();
    is.lists = vec![EnteredList { rules: rows, ..empty(is.plan, whole) }];
    is.lists.extend(others);
}

fn empty(plan: &Plan, list: &RuleList) -> EnteredList {
    EnteredList { name: list.name.clone(), title: title(plan, list), rules: Vec::new() }
}

/// The rows of now: those that say what a rule of the plan says in its words, under their own names.
fn was<'p>(plan: &'p Plan, held: &HeldRules<'_>, is: &Entered<'_>) -> Entered<'p> {
    let known: HashMap<&RuleId, &EnteredRule> = is.rules().map(|row| (&row.id, row)).collect();
    let entered = held.rules.lists.iter().filter(|list| !list.implied && !list.rules.is_empty());
    let lists = entered.map(|list| {
        let rows = list.rules.iter().map(|rule| {
            let name = held.labels.get(&rule.id).cloned();
            let own = known.get(&rule.id).filter(|_| !is_written(rule));
            let row = own.map_or_else(|| raw(plan, rule), |row| (*row).clone());
            let name = name.unwrap_or_else(|| row.name.clone());
            EnteredRule { name, number: rule.number, ..row }
        });
        EnteredList { rules: rows.collect(), ..empty(plan, list) }
    });
    let lists = lists.collect();
    Entered { plan, objects: Objects::new(plan), lists }
}

fn is_written(rule: &Rule) -> bool {
    matches!(rule.matches, bastium_core::rules::Matches::Written(_))
}

/// A row by its values, as far as that helps to find it.
fn raw(plan: &Plan, rule: &Rule) -> EnteredRule {
    let products = rule.matches.products();
    let enters = products.iter().map(|(product, _)| &product.enters);
    let enters = enters.fold(IntervalSet::<Interface>::empty(), |all, one| all.union(one));
    let addresses = |end: fn(&Match) -> &AddressSet| -> Vec<String> {
        let all: AddressSet = products.iter().map(|(product, _)| end(product).clone()).collect();
        few(called(plan, &all).map_or_else(|| address_values(plan, &all), |name| vec![name]))
    };
    let services = products.iter().map(|(product, _)| &product.service);
    let services = services.fold(ServiceSet::empty(), |all, one| all.union(one));
    EnteredRule {
        id: rule.id.clone(),
        shares: false,
        number: rule.number,
        action: format!("{}{}", rule.action.word(), if rule.log { " +log" } else { "" }),
        interfaces: few(entry::words(plan, &plan.came_by_any(&enters), false)),
        source: addresses(|product| &product.source),
        destination: addresses(|product| &product.destination),
        service: few(services.words()),
        when: rule.limit_mbps.map(|rate| format!("at most {rate} Mbit/s")).into_iter().collect(),
        name: rule.id.to_string(),
    }
}

/// What the plan calls just these addresses, if it does.
fn called(plan: &Plan, set: &AddressSet) -> Option<String> {
    if *set == AddressSet::full() {
        return Some("any".to_owned());
    }
    let zones = plan.zone_ids().map(|id| {
        (&plan.zone(id).name, [plan.zone_addresses(id).clone(), plan.zone_prefixes(id).clone()])
    });
    let networks = plan.network_ids().map(|id| {
        let network = plan.network(id);
        (&network.name, [plan.network_addresses(id).clone(), network.prefixes()])
    });
    let named = zones.chain(networks).find(|(_, sets)| sets.contains(set));
    let around = || Surroundings::of(plan).gateway.into_iter().collect::<AddressSet>();
    let gateway = || set.is_subset(&around()).then(|| "the gateway".to_owned());
    named.map(|(name, _)| name.to_string()).or_else(gateway)
}

fn few(mut values: Vec<String>) -> Vec<String> {
    let more = values.len().saturating_sub(MOST_VALUES);
    if more > 0 {
        values.truncate(MOST_VALUES);
        values.push(format!("and {more} more"));
    }
    values
}

/// Names that only rows use which stay as they are need not be made: the gateway has what they say, under whatever name.
pub(super) fn only_what_is_typed(is: &mut Entered<'_>, way: &Changeover<'_>) {
    use bastium_core::changeover::Edit;
    let mut typed: HashSet<&RuleId> = HashSet::new();
    for edit in way.steps.iter().flat_map(|step| &step.edits) {
        match edit {
            Edit::Insert { rule, .. } => drop(typed.insert(&rule.id)),
            Edit::Alter { new, .. } | Edit::Rename { new, .. } => drop(typed.insert(&new.id)),
            Edit::Move { rule, .. } => drop(typed.insert(&rule.id)),
            Edit::Attach { rules, .. } => typed.extend(rules.iter().map(|rule| &rule.id)),
            Edit::Delete { .. } | Edit::Detach { .. } | Edit::Set { .. } => {}
        }
    }
    let rows = is.lists.iter().flat_map(|list| &list.rules).filter(|row| typed.contains(&row.id));
    let names = rows.flat_map(|row| [&row.source, &row.destination, &row.service, &row.when]);
    let names: HashSet<String> = names.flatten().cloned().collect();
    let objects = &mut is.objects;
    let addresses = objects.addresses.iter_mut().map(|one| (&one.name, &mut one.state));
    let services = objects.services.iter_mut().map(|one| (&one.name, &mut one.state));
    let hours = objects.hours.iter_mut().map(|one| (&one.name, &mut one.state));
    for (name, state) in addresses.chain(services).chain(hours) {
        state.before = !names.contains(name);
    }
}
