//! A table of rules: one rule in each row, the first match decides.

use super::columns::{Cells, Column, Columns, is_any, yes_or_no};
use super::{Foreign, ForeignLine, Named, NotAList, NotUnderstood, Ways, action_word, next};
use bastium_core::plan::{Action, Plan};
use bastium_core::rules::PlanlessLine;
use bastium_core::service::{built_in, parse_literal};
use bastium_core::source::Text;
use bastium_core::space::{AddressSet, Interface, IntervalSet, Match, ServiceSet};
use std::collections::HashMap;

/// Reads a table: a plan says what names mean.
pub(super) fn read(text: &str, plan: Option<&Plan>) -> Result<Foreign, NotAList> {
    let mut reader = csv::ReaderBuilder::new().flexible(true).from_reader(text.as_bytes());
    let broken = |error: csv::Error| NotAList::BrokenTable(error.to_string());
    let headings = reader.headers().map_err(broken)?.clone();
    let columns = Columns::of(&headings);
    let missing = columns.missing();
    if missing.len() == 3 || columns.count() < 2 {
        return Err(NotAList::Neither);
    }
    if !missing.is_empty() {
        return Err(NotAList::NoColumns(missing));
    }
    let ways = plan.map_or_else(|| Ways::between(Vec::new()), Ways::of)?;
    let mut sheet =
        Sheet { plan, ways, lines: Vec::new(), not_understood: Vec::new(), last: HashMap::new() };
    for record in reader.records() {
        let record = record.map_err(broken)?;
        let row = record.position().map_or(0, csv::Position::line);
        sheet.row(row, columns.row(&record));
    }
    let all = sheet.ways.some(|from| from != sheet.ways.plain, |_| true);
    let rest = vec![Match { enters: all, ..Match::everything() }];
    let bare = PlanlessLine::new("the end", next(sheet.lines.len()), rest, Action::Block, false);
    if !sheet.lines.is_empty() {
        let at = "the end".to_owned();
        sheet.lines.push(ForeignLine { bare, at, sure: true, hits: None, limit: None, end: true });
    }
    let rules = sheet.lines.iter().filter(|line| !line.end).count();
    Ok(Foreign {
        ways: sheet.ways,
        lines: sheet.lines,
        not_understood: sheet.not_understood,
        replies: None,
        tells_limits: false,
        rules,
        exhausted: false,
        ruleset: None,
        acls: None,
    })
}

struct Sheet<'p> {
    plan: Option<&'p Plan>,
    ways: Ways,
    lines: Vec<ForeignLine>,
    not_understood: Vec<NotUnderstood>,
    /// The last number of each column of numbers.
    last: HashMap<usize, i64>,
}

impl Sheet<'_> {
    fn row(&mut self, row: u64, cells: Cells<'_>) {
        let at = format!("line {row}");
        if cells.is_blank() || cells.is_in_force() == Some(false) {
            return;
        }
        let mut unclear = cells.unread();
        if cells.is_in_force().is_none() {
            unclear.push("whether it is in force".to_owned());
        }
        unclear.extend(self.out_of_order(cells));
        let cell = |column: Column| cells.cell(column);
        let Some(action) = action_word(cell(Column::Action)) else {
            let what = format!("the action `{}`", cell(Column::Action));
            self.not_understood.push(NotUnderstood { at, what });
            return;
        };
        // The gateway stands in either place: where packets go to, or its addresses.
        let is_gateway = |column: Column| cell(column).eq_ignore_ascii_case(super::GATEWAY);
        let end = |column: Column, way: Column| match is_gateway(column) && is_any(cell(way)) {
            true => ("", super::GATEWAY),
            false => (cell(column), cell(way)),
        };
        let (source, from) = end(Column::Source, Column::From);
        let (destination, to) = end(Column::Destination, Column::To);
        let source = self.addresses(source, "source", &mut unclear);
        let destination = self.addresses(destination, "destination", &mut unclear);
        let service = self.service(cell(Column::Service), cell(Column::Protocol), &mut unclear);
        let from = self.interfaces(from, true, &mut unclear);
        let to = self.interfaces(to, false, &mut unclear);
        let product = Match {
            enters: from.intersection(&to),
            source,
            destination,
            service,
            at: IntervalSet::full(),
        };
        let log = yes_or_no(cell(Column::Log)).unwrap_or_else(|| {
            unclear.push(format!("the log `{}`", cell(Column::Log)));
            false
        });
        let name = if cell(Column::Name).is_empty() { &at } else { cell(Column::Name) };
        let number = next(self.lines.len());
        let bare = PlanlessLine::new(name, number, vec![product], action, log);
        let (sure, hits) = (unclear.is_empty(), cell(Column::Hits).parse().ok());
        self.not_understood
            .extend(unclear.into_iter().map(|what| NotUnderstood { at: at.clone(), what }));
        self.lines.push(ForeignLine { bare, at, sure, hits, limit: None, end: false });
    }

    fn addresses(&self, words: &str, end: &str, unclear: &mut Vec<String>) -> AddressSet {
        if is_any(words) {
            return AddressSet::full();
        }
        let mut set = AddressSet::empty();
        for word in words.split(',').map(str::trim).filter(|word| !word.is_empty()) {
            let named = || {
                let place = self.plan?.place(&[Text::new(word)]).ok()?;
                Some(place.addresses).filter(|addresses| !addresses.is_empty())
            };
            match Named::of(self.plan).meant(word).or_else(named) {
                Some(own) => set = set.union(&own),
                None => {
                    unclear.push(format!("the {end} `{word}`"));
                    return AddressSet::full();
                }
            }
        }
        set
    }

    /// What is wrong with a row's numbers.
    fn out_of_order(&mut self, cells: Cells<'_>) -> Vec<String> {
        let wrong = |(column, cell): (usize, &str)| {
            let Ok(number) = cell.parse() else { return Some(format!("the number `{cell}`")) };
            let last = self.last.insert(column, number)?;
            (number <= last).then(|| format!("number {number} below {last}"))
        };
        cells.numbers().filter_map(wrong).collect()
    }

    /// Services by name, and ports of the protocols that are given; nothing of any other protocol.
    fn service(&self, words: &str, protocol: &str, unclear: &mut Vec<String>) -> ServiceSet {
        let protocols: Vec<&str> = match is_any(protocol) {
            true => Vec::new(),
            false => protocol.split([',', '/', '+', ' ']).filter(|one| !one.is_empty()).collect(),
        };
        let mut within = ServiceSet::any();
        if !protocols.is_empty() {
            let sets = protocols.iter().map(|one| self.one_service(&one.to_lowercase()));
            let Some(sets) = sets.collect::<Option<Vec<_>>>() else {
                unclear.push(format!("the protocol `{protocol}`"));
                return ServiceSet::any();
            };
            within = sets.iter().fold(ServiceSet::empty(), |all, one| all.union(one));
        }
        if is_any(words) {
            return within;
        }
        let mut set = ServiceSet::empty();
        for word in words.split([',', ' ']).map(str::trim).filter(|word| !word.is_empty()) {
            let own = match word.starts_with(|c: char| c.is_ascii_digit()) {
                true if !protocols.is_empty() => self.ports(word, &protocols),
                _ => self.one_service(&word.to_lowercase()).map(|own| own.intersection(&within)),
            };
            match own.filter(|own| !own.is_empty()) {
                Some(own) => set = set.union(&own),
                None => {
                    unclear.push(format!("the service `{word}`"));
                    return ServiceSet::any();
                }
            }
        }
        set
    }

    fn ports(&self, word: &str, protocols: &[&str]) -> Option<ServiceSet> {
        let of = |one: &&str| self.one_service(&format!("{}/{word}", one.to_lowercase()));
        let sets: Option<Vec<ServiceSet>> = protocols.iter().map(of).collect();
        Some(sets?.iter().fold(ServiceSet::empty(), |all, one| all.union(one)))
    }

    fn one_service(&self, word: &str) -> Option<ServiceSet> {
        let of_plan = || Some(self.plan?.service(&[Text::new(word)]).ok()?.set);
        let literal = || parse_literal(word)?.ok();
        of_plan().or_else(literal).or_else(|| built_in(word).map(|service| service.set()))
    }

    /// The ways from a zone, a network or an interface; or to one.
    fn interfaces(
        &self,
        word: &str,
        from: bool,
        unclear: &mut Vec<String>,
    ) -> IntervalSet<Interface> {
        let all = self.ways.some(|place| place != self.ways.plain, |_| true);
        if is_any(word) {
            return all;
        }
        let Some(plan) = self.plan else {
            unclear.push(format!("`{word}`, without a plan"));
            return all;
        };
        let mut names: Vec<String> = Vec::new();
        for part in word.split(['+', ',']).map(str::trim) {
            if part == super::GATEWAY {
                names.push(part.to_owned());
                continue;
            }
            let zone = plan.zone_named(part).map(|zone| plan.zone_entries(zone));
            let interfaces = (0..plan.gateway_interface().0).map(Interface);
            let of_zone = |interface: &Interface| {
                zone.as_ref().is_some_and(|entries| {
                    entries.iter().any(|(interfaces, _)| interfaces.contains(*interface))
                })
            };
            let fits = |interface: &Interface| {
                of_zone(interface)
                    || plan.interface_name(*interface) == part
                    || plan.device_name(*interface).as_deref() == Some(part)
            };
            let found = names.len();
            names.extend(
                interfaces.filter(fits).filter_map(|interface| plan.device_name(interface)),
            );
            if names.len() == found {
                unclear.push(format!("`{part}`"));
                return all;
            }
        }
        let fits = |own: &str| names.iter().any(|name| name == own);
        if from { self.ways.entering(fits) } else { self.ways.leaving(fits) }
    }
}
