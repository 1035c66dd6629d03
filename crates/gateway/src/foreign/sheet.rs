//! A table of rules: one a row, the first that matches decides.

use super::{Foreign, ForeignLine, Named, NotAList, NotUnderstood, Ways, action_word, next};
use bastium_core::plan::{Action, Plan};
use bastium_core::rules::PlanlessLine;
use bastium_core::service::{built_in, parse_literal};
use bastium_core::source::Text;
use bastium_core::space::{AddressSet, Interface, IntervalSet, Match, ServiceSet};

/// The columns, each with the headings that people give it.
const COLUMNS: [(&str, &[&str]); 10] = [
    ("action", &["action", "verdict"]),
    ("source", &["source", "src", "source address"]),
    ("destination", &["destination", "dst", "dest", "destination address"]),
    ("service", &["service", "services", "port", "ports"]),
    ("protocol", &["protocol", "proto"]),
    ("from", &["from", "in", "interface", "source zone"]),
    ("to", &["to", "out", "destination zone"]),
    ("name", &["id", "name", "rule", "description"]),
    ("log", &["log", "logged"]),
    ("hits", &["hits", "hit count", "packets"]),
];

/// Reads a table: a plan says what names mean.
pub(super) fn read(text: &str, plan: Option<&Plan>) -> Result<Foreign, NotAList> {
    let mut reader = csv::ReaderBuilder::new().flexible(true).from_reader(text.as_bytes());
    let broken = |error: csv::Error| NotAList::BrokenTable(error.to_string());
    let headings = reader.headers().map_err(broken)?.clone();
    let place = |names: &[&str]| {
        let fits = |heading: &str| names.contains(&heading.trim().to_lowercase().as_str());
        headings.iter().position(fits)
    };
    let columns: Vec<Option<usize>> = COLUMNS.iter().map(|(_, names)| place(names)).collect();
    let missing: Vec<&'static str> =
        (0..3).filter(|n| columns[*n].is_none()).map(|n| COLUMNS[n].0).collect();
    if missing.len() == 3 || headings.len() < 2 {
        return Err(NotAList::Neither);
    }
    if !missing.is_empty() {
        return Err(NotAList::NoColumns(missing));
    }
    let ways = plan.map_or_else(|| Ways::between(Vec::new()), Ways::of)?;
    let mut sheet = Sheet { plan, ways, lines: Vec::new(), not_understood: Vec::new() };
    for record in reader.records() {
        let record = record.map_err(broken)?;
        let row = record.position().map_or(0, csv::Position::line);
        let cell = |column: usize| {
            let place = columns[column];
            place.and_then(|place| record.get(place)).unwrap_or_default().trim().to_owned()
        };
        sheet.row(row, &cell);
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
}

impl Sheet<'_> {
    fn row(&mut self, row: u64, cell: &dyn Fn(usize) -> String) {
        let at = format!("line {row}");
        let mut unclear = Vec::new();
        let Some(action) = action_word(&cell(0)) else {
            self.not_understood
                .push(NotUnderstood { at, what: format!("the action `{}`", cell(0)) });
            return;
        };
        // The gateway stands in either place: where packets go to, or its addresses.
        let is_gateway = |column: usize| cell(column).eq_ignore_ascii_case(super::GATEWAY);
        let end = |column: usize, way: usize| match is_gateway(column) && is_any(&cell(way)) {
            true => (String::new(), super::GATEWAY.to_owned()),
            false => (cell(column), cell(way)),
        };
        let ((source, from), (destination, to)) = (end(1, 5), end(2, 6));
        let source = self.addresses(&source, "source", &mut unclear);
        let destination = self.addresses(&destination, "destination", &mut unclear);
        let service = self.service(&cell(3), &cell(4), &mut unclear);
        let from = self.interfaces(&from, true, &mut unclear);
        let to = self.interfaces(&to, false, &mut unclear);
        let product = Match {
            enters: from.intersection(&to),
            source,
            destination,
            service,
            at: IntervalSet::full(),
        };
        let log = ["yes", "true", "1", "x", "log"].contains(&cell(8).to_lowercase().as_str());
        let name = if cell(7).is_empty() { at.clone() } else { cell(7) };
        let number = next(self.lines.len());
        let bare = PlanlessLine::new(&name, number, vec![product], action, log);
        let (sure, hits) = (unclear.is_empty(), cell(9).parse().ok());
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

    fn service(&self, words: &str, protocol: &str, unclear: &mut Vec<String>) -> ServiceSet {
        let protocol = Some(protocol).filter(|protocol| !is_any(protocol));
        if is_any(words) {
            return match protocol {
                None => ServiceSet::any(),
                Some(word) => self.one_service(&word.to_lowercase()).unwrap_or_else(|| {
                    unclear.push(format!("the protocol `{word}`"));
                    ServiceSet::any()
                }),
            };
        }
        let mut set = ServiceSet::empty();
        for word in words.split([',', ' ']).map(str::trim).filter(|word| !word.is_empty()) {
            let bare = word.starts_with(|c: char| c.is_ascii_digit());
            let literal = match (bare, protocol) {
                (true, Some(protocol)) => format!("{}/{word}", protocol.to_lowercase()),
                _ => word.to_lowercase(),
            };
            match self.one_service(&literal) {
                Some(own) => set = set.union(&own),
                None => {
                    unclear.push(format!("the service `{word}`"));
                    return ServiceSet::any();
                }
            }
        }
        set
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

fn is_any(word: &str) -> bool {
    ["", "any", "*", "-", "all"].contains(&word.trim().to_lowercase().as_str())
}
