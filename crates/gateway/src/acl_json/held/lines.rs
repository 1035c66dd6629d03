//! Both sides of that comparison as lines over the interfaces of the plan.

use super::super::read::{Answer, Entry};
use super::super::{device_on, rule_of};
use super::Pair;
use bastium_core::plan::{Action, Plan};
use bastium_core::rules::{Applies, Otherwise, PlanlessLine, Rule, RuleList};
use bastium_core::space::{
    AddressSet, Interface, IntervalSet, Match, Protocol, ServicePoint, ServiceSet,
};
use std::collections::HashMap;

/// A line of either side.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Line {
    /// The rule, or what its entries are called.
    pub(crate) id: String,
    pub(crate) action: Action,
    pub(crate) log: bool,
    /// Whether it is for replies alone.
    pub(crate) back: bool,
    /// Whether it is the end of a list.
    pub(crate) ends: bool,
    /// What it matches, and the ports that this comes from; `None` for any.
    pub(crate) products: Vec<(Match, Option<ServiceSet>)>,
}

impl Line {
    fn of_rule(rule: &Rule, covers: &[Match]) -> Self {
        let matches = rule.packets().map(|matches| within(covers, matches));
        let products =
            matches.into_iter().flatten().map(|product| (product, rule.replies_from().cloned()));
        Self {
            id: rule.id.to_string(),
            action: rule.action,
            log: rule.log,
            back: rule.is_for_replies(),
            ends: false,
            products: products.collect(),
        }
    }

    fn of_entry(plan: &Plan, entry: &Entry, covers: &[Match]) -> Self {
        let mut product = Match {
            source: entry.source.clone(),
            destination: entry.destination.clone(),
            service: entry.service.clone(),
            ..Match::everything()
        };
        if let Some(name) = &entry.ingress {
            let interfaces = (0..plan.gateway_interface().0).map(Interface);
            let named = interfaces.filter(|interface| device_on(plan, *interface) == *name);
            product.enters = named
                .flat_map(|interface| [interface, plan.translated_interface(interface)])
                .collect();
        }
        let matches = within(covers, &product).into_iter();
        Self {
            id: rule_of(&entry.name).to_owned(),
            action: entry.action.unwrap_or(Action::Block),
            log: entry.log,
            back: entry.segments.are_answers() || entry.from.is_some(),
            ends: false,
            products: matches.map(|product| (product, entry.from.clone())).collect(),
        }
    }

    /// Everything that a list is asked about.
    fn whole(id: &str, action: Action, matches: Vec<Match>) -> Self {
        let products = matches.into_iter().map(|product| (product, None)).collect();
        Self { id: id.to_owned(), action, log: false, back: false, ends: true, products }
    }

    /// As a line for first packets; or for what is answered to a class of ports.
    pub(super) fn bare(&self, class: Option<u16>) -> PlanlessLine {
        let matches = match class {
            None if self.back => Vec::new(),
            None => self.products.iter().map(|(product, _)| product.clone()).collect(),
            Some(class) => {
                let each = self.products.iter().map(|(product, from)| Match {
                    service: coming_from(&product.service, from.as_ref(), class),
                    ..product.clone()
                });
                each.filter(|product| !product.is_empty()).collect()
            }
        };
        PlanlessLine::new(&self.id, 0, matches, self.action, self.log && class.is_none())
    }
}

/// The rules as lines, in order.
pub(super) fn of_rules(pairs: &[Pair<'_>]) -> Vec<Line> {
    let lines = pairs.iter().flat_map(|Pair { list, .. }| {
        let covers: Vec<Match> = list.packets().products().collect();
        rule_lines(list, &covers)
    });
    lines.collect()
}

/// The file as lines, in order, as far as they can take answers of a kind.
pub(super) fn of_file(plan: &Plan, pairs: &[Pair<'_>], answer: Answer) -> Vec<Line> {
    let lines = pairs.iter().flat_map(|Pair { list, entries }| {
        let covers: Vec<Match> = list.packets().products().collect();
        // What the gateway does by itself stands in no file.
        let Some(entries) = entries else { return rule_lines(list, &covers) };
        let mut lines = entry_lines(plan, entries, &covers, answer);
        lines.extend(bare_families(list, entries, &covers));
        lines.extend(end(list, &covers));
        lines
    });
    lines.collect()
}

fn rule_lines(list: &RuleList, covers: &[Match]) -> Vec<Line> {
    let lines = list.rules.iter().map(|rule| Line::of_rule(rule, covers));
    lines.chain(end(list, covers)).collect()
}

fn entry_lines(plan: &Plan, entries: &[Entry], covers: &[Match], answer: Answer) -> Vec<Line> {
    let taking = entries.iter().filter(|entry| entry.segments.have(answer));
    merged(taking.map(|entry| Line::of_entry(plan, entry, covers)))
}

/// The lines of a list, as far as they can take answers of a kind, and last what becomes of the rest.
pub(super) fn lines_of(
    plan: &Plan,
    list: &RuleList,
    entries: &[Entry],
    covers: &[Match],
    answer: Answer,
) -> Vec<Line> {
    let mut lines = entry_lines(plan, entries, covers, answer);
    let ends = list.otherwise != Otherwise::GoOn;
    let rest = ends.then(|| Line::whole("the end", Action::Block, covers.to_vec()));
    lines.extend(bare_families(list, entries, covers).into_iter().chain(rest));
    lines
}

/// Lines that follow each other and do the same, as one each, of few products: a rule takes many entries.
fn merged(lines: impl Iterator<Item = Line>) -> Vec<Line> {
    let mut all: Vec<Line> = Vec::new();
    for line in lines {
        let kind = |line: &Line| (line.id.clone(), line.action, line.log, line.back);
        match all.last_mut() {
            Some(last) if kind(last) == kind(&line) => last.products.extend(line.products),
            _ => all.push(line),
        }
    }
    for line in &mut all {
        let products = std::mem::take(&mut line.products);
        let products = joined(products, |p| &mut p.service, |a, b| *a = a.union(b));
        let products = joined(products, |p| &mut p.destination, |a, b| *a = a.union(b));
        line.products = joined(products, |p| &mut p.source, |a, b| *a = a.union(b));
    }
    all
}

/// Products that differ in one dimension alone, as one.
fn joined<T: Default>(
    products: Vec<(Match, Option<ServiceSet>)>,
    dimension: impl Fn(&mut Match) -> &mut T,
    join: impl Fn(&mut T, &T),
) -> Vec<(Match, Option<ServiceSet>)> {
    let mut parts: HashMap<(Match, Option<ServiceSet>), T> = HashMap::new();
    let mut order = Vec::new();
    for (mut product, from) in products {
        let own = std::mem::take(dimension(&mut product));
        let key = (product, from);
        match parts.get_mut(&key) {
            Some(known) => join(known, &own),
            None => {
                order.push(key.clone());
                parts.insert(key, own);
            }
        }
    }
    let put_back = |key: (Match, Option<ServiceSet>)| {
        let own = parts.remove(&key)?;
        let (mut product, from) = key;
        *dimension(&mut product) = own;
        Some((product, from))
    };
    order.into_iter().filter_map(put_back).collect()
}

/// What comes from these ports and goes to that one: of protocols with ports, by the ports that it comes from.
fn coming_from(to: &ServiceSet, from: Option<&ServiceSet>, class: u16) -> ServiceSet {
    let any = IntervalSet::full();
    let family = |to: &IntervalSet<ServicePoint>, from: &IntervalSet<ServicePoint>| {
        let mut left = to.clone();
        let mut back = Vec::new();
        for protocol in (0..=u8::MAX).map(Protocol).filter(|protocol| protocol.has_ports()) {
            let stretch = protocol.line();
            if to.contains(ServicePoint::port(protocol, class)) {
                back.extend(from.intersection(&stretch).spans().to_vec());
            }
            left = left.difference(&stretch);
        }
        left.union(&IntervalSet::from_spans(back))
    };
    let of = |line: fn(&ServiceSet) -> &IntervalSet<ServicePoint>| from.map_or(&any, line);
    ServiceSet { v4: family(&to.v4, of(|from| &from.v4)), v6: family(&to.v6, of(|from| &from.v6)) }
}

/// A product, as far as a list is asked about it.
fn within(covers: &[Match], product: &Match) -> Vec<Match> {
    let near = covers.iter().filter(|cover| !cover.enters.is_disjoint(&product.enters));
    near.map(|cover| product.intersection(cover)).filter(|part| !part.is_empty()).collect()
}

/// What the end of a list does.
fn end(list: &RuleList, covers: &[Match]) -> Option<Line> {
    let action = match list.otherwise {
        Otherwise::GoOn => return None,
        Otherwise::Allow => Action::Allow,
        Otherwise::Block => Action::Block,
    };
    let name = format!("the end of {}", list.name);
    Some(Line::whole(&name, action, covers.to_vec()))
}

/// A family of which no list is put on an interface passes there.
fn bare_families(list: &RuleList, entries: &[Entry], covers: &[Match]) -> Option<Line> {
    if !matches!(list.applies, Some(Applies::Interface { .. })) || list.otherwise == Otherwise::GoOn
    {
        return None;
    }
    let spoken: AddressSet = entries.iter().map(|entry| entry.source.clone()).collect();
    let mut silent = AddressSet::empty();
    if spoken.v4.is_empty() {
        silent = silent.union(&AddressSet::full().only_v4());
    }
    if spoken.v6.is_empty() {
        silent = silent.union(&AddressSet::full().only_v6());
    }
    let all = Match { source: silent, ..Match::everything() };
    Some(Line::whole("no list at all", Action::Allow, within(covers, &all)))
}
