//! The table of rules: addresses and ports written out.

use super::tables::{RawRow, RawTable, action, when};
use super::{Known, TypedRow, TypedRules, in_lists};
use crate::sheets::worksheet::plain;
use crate::sheets::{are_same, read_addresses};
use bastium_core::plan::Plan;
use bastium_core::rules::{Endpoint, Matches, Rule, RuleSet};
use bastium_core::space::{AddressSet, Interface, IntervalSet, Match, Minute, ServiceSet};

const RULES: [&str; 7] =
    ["list", "action", "ports", "interfaces", "source addresses", "destination addresses", "id"];

pub(super) fn is_one(table: &RawTable) -> bool {
    table.has(&RULES)
}

pub(super) fn read<'p>(tables: &[RawTable], rules: &RuleSet<'p>) -> TypedRules<'p> {
    let plan = rules.plan();
    let named = rules.rules().map(|rule| (rule.id.to_string(), rule)).collect();
    let known = Known { plan, rules, named };
    // What the gateway does by itself is in the table, too.
    let by_itself = |name: &str| rules.lists.iter().any(|list| list.implied && list.name == name);
    let rows: Vec<RawRow<'_>> = tables
        .iter()
        .filter(|table| is_one(table))
        .flat_map(RawTable::rows)
        .filter(|row| !by_itself(row.cell("list")))
        .collect();
    let typed = rows.iter().flat_map(|row| {
        let mut rules = match by_interface(*row, &known) {
            Some(rules) => rules,
            None => vec![rule(*row, &known)],
        };
        // The words of a row are those that names of addresses and services are made of.
        for rule in rules.iter_mut().flatten() {
            rule.service = row.cell("service").to_owned();
            rule.ports = row.values("ports");
            let like = known.named.get(&rule.id.to_string()).filter(|_| rule.is_of_interface());
            // One row stands for several interfaces; its words are of all of them.
            let source = like.map_or_else(|| end(row.cell("from")), |like| like.source.clone());
            (rule.source, rule.destination) = (source, end(row.cell("to")));
        }
        let list = row.cell("list").to_owned();
        rules.into_iter().map(move |rule| TypedRow { list: list.clone(), rule, at: row.at() })
    });
    let (typed, not_understood) = in_lists(rules, |list| list.name.clone(), typed.collect());
    TypedRules { rules: typed, not_understood, rows: rows.len(), entered: None }
}

/// One row for several interfaces: `desks: ADDRESSES, phones: ADDRESSES`. `None` where it is none.
fn by_interface(row: RawRow<'_>, known: &Known<'_>) -> Option<Vec<Result<Rule, String>>> {
    let plan = known.plan;
    let names = row.values("interfaces");
    let mut groups: Vec<(String, Vec<String>)> = Vec::new();
    for value in row.values("source addresses") {
        match names.iter().find_map(|name| Some((name, value.strip_prefix(&format!("{name}: "))?)))
        {
            Some((name, first)) => groups.push((name.clone(), vec![first.to_owned()])),
            None => groups.last_mut()?.1.push(value),
        }
    }
    let rules = groups.into_iter().map(|(name, values)| {
        let interface =
            interfaces(plan, std::slice::from_ref(&name)).ok_or_else(|| format!("`{name}`"))?;
        let source = addresses(plan, &values).ok_or_else(|| format!("the sources of `{name}`"))?;
        let has = |rule: &&&Rule| {
            let own = rule.packets().map(|packets| plan.came_by_any(&packets.enters));
            rule.is_of_interface() && own == Some(interface.clone())
        };
        let id = known
            .named
            .values()
            .find(has)
            .map_or_else(|| format!("spoofed.{name}"), |rule| rule.id.to_string());
        let (id, like) = known.named(&id);
        let (action, log) = action(row.cell("action")).ok_or("the action")?;
        let source = as_in(plan, like.map(|like| (like, true)), source);
        let packets = Match { enters: interface.clone(), source, ..Match::everything() };
        let matches = Matches::First(with_forwarded(plan, like, packets));
        Ok(Rule::typed(id, matches, (action, log, None), None, like))
    });
    Some(rules.collect())
}

fn rule(row: RawRow<'_>, known: &Known<'_>) -> Result<Rule, String> {
    let plan = known.plan;
    let what = |column: &str| format!("{column} `{}`", row.cell(column));
    let (action, log) = action(row.cell("action")).ok_or_else(|| what("action"))?;
    let (hours, limit) = when(&row.values("when")).ok_or_else(|| what("when"))?;
    let (id, like) = known.named(row.cell("id"));
    if row.cell("service") == "replies" && row.cell("ports").is_empty() {
        return Ok(Rule::typed(id, Matches::Established, (action, log, limit), hours, like));
    }
    let ends = ["source addresses", "destination addresses"];
    let [source, destination] =
        ends.map(|column| addresses(plan, &row.values(column)).ok_or_else(|| what(column)));
    let service = ServiceSet::from_words(&row.values("ports")).ok_or_else(|| what("ports"))?;
    let interfaces = row.values("interfaces");
    let enters = match interfaces.is_empty() {
        true => Some(all_interfaces(plan)),
        false => self::interfaces(plan, &interfaces),
    };
    let enters = enters.ok_or_else(|| what("interfaces"))?;
    let at = hours_of(plan, hours.as_deref()).ok_or_else(|| what("when"))?;
    let source = as_in(plan, like.map(|like| (like, true)), source?);
    let destination = as_in(plan, like.map(|like| (like, false)), destination?);
    let packets = Match { enters, source, destination, service, at };
    let packets = with_service(like, packets);
    let packets = with_forwarded(plan, like, packets);
    let matches = match like.map(|like| &like.matches) {
        Some(Matches::Replies { from, .. }) => Matches::Replies { packets, from: from.clone() },
        _ => Matches::First(packets),
    };
    Ok(Rule::typed(id, matches, (action, log, limit), hours, like))
}

/// An end of a rule by its words: `any`, `staff + clinical`, or an expression, with the zone in front where it says more.
fn end(words: &str) -> Endpoint {
    let says = words.split_once(": ").map_or(words, |(_, says)| says);
    match says {
        "any" => Endpoint::Any,
        "gateway" => Endpoint::Gateway,
        _ if says.contains(" + ") && !says.contains(" - ") => {
            Endpoint::Named(says.split(" + ").map(str::to_owned).collect())
        }
        _ => Endpoint::Expression(says.to_owned()),
    }
}

fn all_interfaces(plan: &Plan) -> IntervalSet<Interface> {
    (0..plan.gateway_interface().0).map(Interface).collect()
}

fn interfaces(plan: &Plan, names: &[String]) -> Option<IntervalSet<Interface>> {
    let named = |name: &String| {
        let mut all = (0..=plan.gateway_interface().0).map(Interface);
        all.find(|one| plan.interface_name(*one) == name)
    };
    names.iter().map(named).collect()
}

/// Addresses as they are written here: `any`, the internet by its name, and values.
fn addresses(plan: &Plan, values: &[String]) -> Option<AddressSet> {
    if values == ["any"] {
        return Some(AddressSet::full());
    }
    let internet = plan.zone(plan.internet()).name.to_string();
    let (named, values): (Vec<String>, Vec<String>) =
        values.iter().cloned().partition(|value| *value == internet);
    let own = if named.is_empty() {
        AddressSet::empty()
    } else {
        plan.zone_prefixes(plan.internet()).clone()
    };
    let rest = if values.is_empty() { AddressSet::empty() } else { read_addresses(plan, &values)? };
    Some(own.union(&rest))
}

fn hours_of(plan: &Plan, name: Option<&str>) -> Option<IntervalSet<Minute>> {
    let Some(name) = name else { return Some(IntervalSet::full()) };
    let named = plan.hours().iter().find(|hours| hours.name.as_str() == name);
    // What the plan has no name for is written out.
    named.map_or_else(|| IntervalSet::from_words(name), |hours| Some(hours.minutes.clone()))
}

/// Packets as the plan's rule of that name has them, with those that a port forward has translated: the table does not say
/// which of the two are meant.
fn with_forwarded(plan: &Plan, like: Option<&Rule>, packets: Match) -> Match {
    let same = |like: &&Match| plan.came_by_any(&like.enters) == plan.came_by_any(&packets.enters);
    let like = like.and_then(Rule::packets).filter(same);
    let all = (0..=plan.gateway_interface().0).map(Interface);
    let both = all.filter(|one| packets.enters.contains(*one) && !plan.inbounds().is_empty());
    let translated = both.map(|one| plan.translated_interface(one)).collect();
    let enters = like.map_or_else(|| packets.enters.union(&translated), |like| like.enters.clone());
    Match { enters, ..packets }
}

/// Packets with the services of the plan's rule of that name, where they are the same but for what no packet of these
/// addresses can ask for: words say nothing of that.
fn with_service(like: Option<&Rule>, packets: Match) -> Match {
    let own = like.and_then(Rule::packets).map(|own| &own.service);
    let same = |own: &&ServiceSet| plain(own, &packets) == plain(&packets.service, &packets);
    let service = own.filter(same).unwrap_or(&packets.service).clone();
    Match { service, ..packets }
}

/// Addresses as the plan's rule of that name has them at its source or destination, where they are the same but for what
/// nobody types.
fn as_in(plan: &Plan, like: Option<(&Rule, bool)>, typed: AddressSet) -> AddressSet {
    let packets = like.and_then(|(like, source)| Some((like.packets()?, source)));
    let own = packets
        .map(|(packets, source)| if source { &packets.source } else { &packets.destination });
    own.filter(|own| are_same(plan, &typed, own)).cloned().unwrap_or(typed)
}
