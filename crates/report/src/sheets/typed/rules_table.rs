//! The rule table, with addresses and ports written out.

use super::tables::{RawRow, RawTable, action, may_have_rate, when};
use super::{InLists, Known, TypedRow, TypedRules, in_lists};
use crate::sheets::rules::{BY_INTERFACE, words, written};
use crate::sheets::worksheet::plain;
use crate::sheets::{RuleColumn, are_same, read_addresses};
use bastium_core::plan::Plan;
use bastium_core::rules::{Endpoint, Matches, Rule, RuleSet};
use bastium_core::space::{AddressSet, Interface, IntervalSet, Match, Minute, ServiceSet};
use bastium_gateway::foreign::is_beside;

pub(super) const RULES: [&str; 7] =
    ["list", "action", "ports", "interfaces", "source addresses", "destination addresses", "id"];

pub(super) fn is_one(table: &RawTable) -> bool {
    table.has(&RULES)
}

pub(super) fn read<'p>(tables: &[RawTable], rules: &RuleSet<'p>) -> TypedRules<'p> {
    let plan = rules.plan();
    let named = rules.rules().map(|rule| (rule.id.to_string(), rule)).collect();
    let known = Known { plan, rules, named };
    let all = tables.iter().filter(|table| is_one(table)).flat_map(RawTable::rows);
    let rows: Vec<RawRow<'_>> = all.filter(|row| !is_by_itself(*row, &known)).collect();
    let columns: Vec<&str> =
        ["list"].into_iter().chain(RuleColumn::ALL.map(RuleColumn::heading)).collect();
    let typed = rows.iter().flat_map(|row| {
        let mut rules = match (row.unread(&columns), by_interface(*row, &known)) {
            (Some(unread), _) => vec![Err(unread)],
            (None, Some(rules)) => rules,
            (None, None) => vec![rule(*row, &known)],
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
        let named = known.named(row.cell("id")).0;
        rules.into_iter().map(move |rule| {
            let id = rule.as_ref().map_or_else(|_| named.clone(), |rule| rule.id.clone());
            TypedRow { list: list.clone(), id, rule, at: row.at() }
        })
    });
    let read = in_lists(rules, |list| list.name.clone(), typed.collect());
    let InLists { rules, not_understood, strange } = read;
    TypedRules { rules, not_understood, rows: rows.len(), strange, entered: None }
}

/// Whether a row is one that nobody enters: what the gateway does by itself is in the table, too, as it is in the plan's.
fn is_by_itself(row: RawRow<'_>, known: &Known<'_>) -> bool {
    let implied =
        known.rules.lists.iter().find(|list| list.implied && list.name == row.cell("list"));
    let mut own = implied.iter().flat_map(|list| &list.rules);
    own.find(|rule| rule.id == *row.cell("id")).is_some_and(|rule| {
        let cells = written(known.plan, rule);
        cells.iter().all(|(column, cell)| {
            ["no", "line"].contains(column) || is_beside(column) || cell.trim() == row.cell(column)
        })
    })
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
    if groups.is_empty() {
        return None;
    }
    if let Some(what) = not_of_all(row, &names, &groups) {
        return Some(vec![Err(what)]);
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

/// What of a row for several interfaces is not what such a row says: it is about all that is sent there, each interface has
/// sources of its own, and its words are always the same.
fn not_of_all(
    row: RawRow<'_>,
    names: &[String],
    groups: &[(String, Vec<String>)],
) -> Option<String> {
    let [from, source] = BY_INTERFACE;
    let from = format!("{from}: {source}");
    let fixed = [
        ("service", "any"),
        ("ports", "any"),
        ("when", ""),
        ("from", from.as_str()),
        ("to", "any"),
        ("destination addresses", "any"),
    ];
    let other = fixed.into_iter().find(|(column, says)| row.cell(column) != *says);
    let own = groups.iter().map(|(name, _)| name);
    let twice = (1..names.len()).any(|place| names[..place].contains(&names[place]));
    let each = !twice && own.eq(names);
    let other = other.map(|(column, _)| column).or_else(|| (!each).then_some("interfaces"))?;
    Some(what(row, other))
}

/// A cell that is not understood.
fn what(row: RawRow<'_>, column: &str) -> String {
    format!("{column} `{}`", row.cell(column))
}

/// What a row says in words, and exactly.
const SAID_TWICE: [(&str, &str); 3] =
    [("service", "ports"), ("from", "source addresses"), ("to", "destination addresses")];

/// Whether a row says `any` in words or exactly, and not in both: that much is known of a row that is not the plan's.
fn any_in_one(row: RawRow<'_>, words: &str, exact: &str) -> bool {
    match [words, exact].map(|column| row.cell(column) == "any") {
        [true, true] | [false, false] => false,
        [true, false] => true,
        // A zone may be given by its interfaces as well, and the gateway by its list.
        [false, true] => match words {
            "service" => true,
            "from" => row.cell("interfaces").is_empty(),
            _ => false,
        },
    }
}

/// Words of a row that are not those of the plan's rule of its name, where what they stand for is: whoever goes by the words
/// enters something else than whoever goes by the addresses and ports.
fn contradicts(row: RawRow<'_>, known: &Known<'_>, like: Option<&Rule>) -> Option<String> {
    let says = SAID_TWICE.map(|(words, _)| row.cell(words));
    if like.is_some_and(|like| words(like).iter().map(|one| one.trim()).eq(says)) {
        return None;
    }
    let own = like.map(|like| written(known.plan, like));
    let differs = |(words, exact): &(&str, &str)| {
        let Some(own) = &own else { return any_in_one(row, words, exact) };
        let as_known = |column: &str| {
            own.iter().any(|(one, cell)| *one == column && cell.trim() == row.cell(column))
        };
        as_known(exact) && !as_known(words)
    };
    let (words, exact) = SAID_TWICE.into_iter().find(differs)?;
    Some(format!("{}, with {}", what(row, words), what(row, exact)))
}

fn rule(row: RawRow<'_>, known: &Known<'_>) -> Result<Rule, String> {
    let plan = known.plan;
    let what = |column: &str| what(row, column);
    let (action, log) = action(row.cell("action")).ok_or_else(|| what("action"))?;
    let times = when(&row.values("when")).filter(|(_, rate)| may_have_rate(action, *rate));
    let (hours, limit) = times.ok_or_else(|| what("when"))?;
    let (id, like) = known.named(row.cell("id"));
    if row.cell("service") == "replies" && row.cell("ports").is_empty() {
        // Replies are let back wherever they come from, at any hour.
        let unbound = [
            ("when", ""),
            ("interfaces", ""),
            ("from", "any"),
            ("source addresses", "any"),
            ("to", "any"),
            ("destination addresses", "any"),
        ];
        if let Some((column, _)) = unbound.into_iter().find(|(one, says)| row.cell(one) != *says) {
            return Err(what(column));
        }
        return Ok(Rule::typed(id, Matches::Established, (action, log, limit), hours, like));
    }
    if let Some(what) = contradicts(row, known, like) {
        return Err(what);
    }
    let ends = ["source addresses", "destination addresses"];
    let [source, destination] =
        ends.map(|column| addresses(plan, &row.values(column)).ok_or_else(|| what(column)));
    let ports = Some(row.values("ports")).filter(|ports| !ports.is_empty());
    let service = ports.and_then(|ports| ServiceSet::from_words(&ports));
    let service = service.ok_or_else(|| what("ports"))?;
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
    // What is empty says neither all nor none.
    let rest = match values.is_empty() {
        true if named.is_empty() => return None,
        true => AddressSet::empty(),
        false => read_addresses(plan, &values)?,
    };
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
