//! The rules as they are entered: each refers to objects that were created before.

use super::objects::{ANY, Objects};
use super::{entry, one};
use bastium_core::plan::{Plan, ZoneId};
use bastium_core::rules::{Applies, Matches, Rule, RuleId, RuleList, RuleSet};

/// All rules, with the objects that they name.
#[derive(Debug)]
pub(in crate::sheets) struct Entered<'p> {
    pub(super) plan: &'p Plan,
    pub(super) objects: Objects<'p>,
    pub(super) lists: Vec<EnteredList>,
}

/// One list.
#[derive(Debug)]
pub(super) struct EnteredList {
    pub(super) name: String,
    pub(super) title: String,
    pub(super) rules: Vec<EnteredRule>,
}

/// One rule.
#[derive(Clone, Debug)]
pub(in crate::sheets) struct EnteredRule {
    pub(in crate::sheets) id: RuleId,
    /// Whether it may share a number with its neighbours.
    pub(super) shares: bool,
    pub(super) number: u32,
    pub(super) action: String,
    pub(super) interfaces: Vec<String>,
    pub(super) source: Vec<String>,
    pub(super) destination: Vec<String>,
    pub(super) service: Vec<String>,
    pub(super) when: Vec<String>,
    pub(in crate::sheets) name: String,
}

/// The columns of a rule.
pub(in crate::sheets) const COLUMNS: [&str; 8] =
    ["no", "action", "at", "source", "destination", "service", "when", "name"];

/// What stands for replies of connections that are open already.
pub(super) const ESTABLISHED: &str = "replies to open connections";

/// What stands before the services that replies come from.
pub(super) const REPLIES_FROM: &str = "replies from ";

impl<'p> Entered<'p> {
    pub(in crate::sheets) fn new(rules: &RuleSet<'p>) -> Self {
        Self::with(Objects::new(rules.plan()), rules)
    }

    /// Rows as they were typed, in the order of the rules that they are.
    pub(super) fn typed(objects: Objects<'p>, rules: &RuleSet<'p>, rows: Vec<EnteredRule>) -> Self {
        let mut rows = rows.into_iter();
        let lists = lists(rules, |_, rule| {
            let row = rows.next()?;
            let (id, number, shares) = (rule.id.clone(), rule.number, rule.is_of_interface());
            Some(EnteredRule { id, number, shares, ..row })
        });
        Self { plan: rules.plan(), objects, lists }
    }

    /// All rules, in order.
    pub(in crate::sheets) fn rules(&self) -> impl Iterator<Item = &EnteredRule> {
        self.lists.iter().flat_map(|list| &list.rules)
    }

    /// The rules of a plan, where the gateway has objects already.
    pub(super) fn with(mut objects: Objects<'p>, rules: &RuleSet<'p>) -> Self {
        let plan = rules.plan();
        let lists = lists(rules, |list, rule| {
            Some(entered(plan, &mut objects, rule, rules.tells_forwarded(list, rule)))
        });
        Self { plan, objects, lists }
    }
}

/// The lists that are entered, with a row for each rule as long as there are any.
fn lists(
    rules: &RuleSet,
    mut row: impl FnMut(&RuleList, &Rule) -> Option<EnteredRule>,
) -> Vec<EnteredList> {
    let lists = rules.lists.iter().filter(|list| !list.implied && !list.rules.is_empty());
    lists
        .map(|list| EnteredList {
            name: list.name.clone(),
            title: title(rules.plan(), list),
            rules: list.rules.iter().map_while(|rule| row(list, rule)).collect(),
        })
        .collect()
}

/// What a list is called.
pub(in crate::sheets) fn title(plan: &Plan, list: &RuleList) -> String {
    let zone = |id: ZoneId| plan.zone(id).name.as_str();
    match list.applies {
        Some(Applies::Pair { from, to }) => format!("rules from {} to {}", zone(from), zone(to)),
        Some(Applies::ToGateway { from }) => format!("rules from {} to the gateway", zone(from)),
        Some(Applies::Interface { interface, out }) => {
            let way = if out { "leaves" } else { "enters" };
            format!("rules for what {way} at {}", plan.interface_name(interface))
        }
        None => format!("rules {}", list.stage.about()),
    }
}

/// A rule as it is entered.
pub(super) fn entered(
    plan: &Plan,
    objects: &mut Objects<'_>,
    rule: &Rule,
    tells_forwarded: bool,
) -> EnteredRule {
    let any = || vec![ANY.to_owned()];
    let (source, destination, service) = match rule.packets() {
        None => (any(), any(), vec![ESTABLISHED.to_owned()]),
        Some(packets) => (
            objects.of_end((&rule.from, &rule.source), &packets.source),
            objects.of_end((&rule.to, &rule.destination), &packets.destination),
            match &rule.matches {
                Matches::Replies { from, .. } => {
                    vec![format!("{REPLIES_FROM}{}", from.words().join(" or "))]
                }
                _ => objects.of_service(&rule.service, packets),
            },
        ),
    };
    let rate = rule.limit_mbps.map(|rate| format!("at most {rate} Mbit/s"));
    let at = rule.packets().map(|packets| &packets.at);
    let hours = rule.hours.iter().zip(at).map(|(name, at)| objects.of_hours(name, at));
    let when = hours.collect::<Vec<_>>().into_iter().chain(rate).collect();
    EnteredRule {
        id: rule.id.clone(),
        shares: rule.is_of_interface(),
        number: rule.number,
        action: format!("{}{}", rule.action.word(), if rule.log { " +log" } else { "" }),
        interfaces: rule
            .packets()
            .map_or_else(any, |packets| entry::words(plan, &packets.enters, tells_forwarded)),
        source,
        destination,
        service,
        when,
        name: objects.rule_name(&rule.id.to_string()),
    }
}

impl EnteredRule {
    /// A row as it was typed, by its cells in the order of [`COLUMNS`].
    pub(in crate::sheets) fn typed(id: &RuleId, cells: Vec<Vec<String>>) -> Self {
        let mut cells = cells.into_iter();
        let mut next = || cells.next().unwrap_or_default();
        let (_, action) = (next(), next().join(", "));
        Self {
            id: id.clone(),
            shares: false,
            number: 0,
            action,
            interfaces: next(),
            source: next(),
            destination: next(),
            service: next(),
            when: next(),
            name: next().join(", "),
        }
    }

    /// Its cells, in the order of [`COLUMNS`].
    pub(super) fn cells(&self) -> [Vec<String>; 8] {
        [
            one(self.number),
            one(&self.action),
            self.interfaces.clone(),
            self.source.clone(),
            self.destination.clone(),
            self.service.clone(),
            self.when.clone(),
            one(&self.name),
        ]
    }
}
