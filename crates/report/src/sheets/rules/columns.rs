//! The rules as tables, with the columns that are wanted or as many as fit a terminal.

use super::{ListRow, RuleRow, RuleSheet, row};
use crate::sheets::matrix::logged;
use crate::{Cell, Column, Table};
use bastium_core::plan::Plan;
use bastium_core::rules::{Endpoint, Rule};

/// A column of the table of rules.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RuleColumn {
    /// Its number.
    Number,
    /// What it does, in words.
    Name,
    /// What happens, and whether it is logged.
    Action,
    /// The service in the plan's words.
    Service,
    /// Protocols and ports.
    Ports,
    /// The hours in which it counts, and how much it lets through.
    When,
    /// Where packets enter.
    Interfaces,
    /// The source in the plan's words.
    From,
    /// The source in addresses.
    SourceAddresses,
    /// The destination in the plan's words.
    To,
    /// The destination in addresses.
    DestinationAddresses,
    /// Its id.
    Id,
    /// The tags of the entries behind it.
    Tags,
    /// Why it is there.
    Reason,
    /// The line of the plan that it comes from.
    Line,
}

impl RuleColumn {
    /// All of them, in the order in which they are shown.
    pub const ALL: [Self; 15] = [
        Self::Number,
        Self::Name,
        Self::Action,
        Self::Service,
        Self::Ports,
        Self::When,
        Self::Interfaces,
        Self::From,
        Self::SourceAddresses,
        Self::To,
        Self::DestinationAddresses,
        Self::Id,
        Self::Tags,
        Self::Reason,
        Self::Line,
    ];

    /// Its heading.
    pub fn heading(self) -> &'static str {
        match self {
            Self::Number => "no",
            Self::Name => "name",
            Self::Action => "action",
            Self::Service => "service",
            Self::Ports => "ports",
            Self::When => "when",
            Self::Interfaces => "interfaces",
            Self::From => "from",
            Self::SourceAddresses => "source addresses",
            Self::To => "to",
            Self::DestinationAddresses => "destination addresses",
            Self::Id => "id",
            Self::Tags => "tags",
            Self::Reason => "reason",
            Self::Line => "line",
        }
    }

    /// Its heading as one word.
    pub fn word(self) -> String {
        self.heading().replace(' ', "-")
    }

    fn column(self) -> Column {
        match self {
            Self::Number | Self::Line => Column::numbers(self.heading()),
            Self::Action | Self::Id => Column::whole(self.heading()),
            _ => Column::text(self.heading()),
        }
    }

    fn cell(self, rule: &RuleRow) -> Cell {
        match self {
            Self::Number => number(rule),
            Self::Name => rule.name.clone().into(),
            Self::Action => logged(Cell::action(rule.action), rule.log),
            Self::Service => rule.service.clone().into(),
            Self::Ports => rule.ports.join(", ").into(),
            Self::When => limits(rule).into(),
            Self::Interfaces => rule.interfaces.join(", ").into(),
            Self::From => end(&rule.from, &rule.source).into(),
            Self::SourceAddresses => rule.source_addresses.join(", ").into(),
            Self::To => end(&rule.to, &rule.destination).into(),
            Self::DestinationAddresses => rule.destination_addresses.join(", ").into(),
            Self::Id => rule.id.clone().into(),
            Self::Tags => rule.tags.join(", ").into(),
            Self::Reason => rule.reason.clone().into(),
            Self::Line => rule.because.line.map_or(String::new(), |line| line.to_string()).into(),
        }
    }
}

/// The words of a rule: its service, where from and where to.
pub(in crate::sheets) fn words(rule: &Rule) -> [String; 3] {
    let ends = |zone: &Endpoint, address: &Endpoint| end(&zone.to_string(), &address.to_string());
    let (from, to) = (ends(&rule.from, &rule.source), ends(&rule.to, &rule.destination));
    [rule.service.clone(), from, to]
}

/// The cells of a rule that stands by itself.
pub(in crate::sheets) fn written(plan: &Plan, rule: &Rule) -> Vec<(&'static str, String)> {
    let row = row::row(plan, std::slice::from_ref(rule));
    RuleColumn::ALL.map(|column| (column.heading(), column.cell(&row).text)).into()
}

impl RuleSheet {
    /// As tables, one per list that has a rule to show, with a column for everything.
    pub fn tables(&self) -> Vec<Table> {
        self.tables_of(&RuleColumn::ALL)
    }

    /// As tables with these columns.
    pub fn tables_of(&self, columns: &[RuleColumn]) -> Vec<Table> {
        let headings = |_: &ListRow| columns.iter().map(|column| column.column()).collect();
        self.each_list(headings, |_, rule| columns.iter().map(|column| column.cell(rule)).collect())
    }

    /// The same for a wide terminal: two lines for each rule, names above the values that they stand for as far as these
    /// fit, with its reason where that is wanted.
    pub fn row_tables(&self, with_reason: bool) -> Vec<Table> {
        let mut columns = vec![
            Column::numbers("no"),
            Column::whole("action"),
            Column::whole("interface"),
            Column::text("source"),
            Column::text("destination"),
            Column::text("service"),
            Column::whole("log"),
            Column::whole("rule"),
        ];
        if with_reason {
            columns.push(Column::text("why"));
        }
        let says_interfaces =
            |list: &ListRow| list.rules.iter().any(|rule| !rule.interfaces.is_empty());
        let headings = |list: &ListRow| {
            let has = says_interfaces(list);
            columns.iter().filter(|column| has || column.heading != "interface").cloned().collect()
        };
        self.each_list(headings, |list, rule| {
            let mut cells = vec![number(rule), Cell::action(rule.action)];
            if says_interfaces(list) {
                cells.push(few(&rule.interfaces, INTERFACES_SHOWN).into());
            }
            cells.push(above(end(&rule.from, &rule.source), &rule.source_addresses).into());
            cells.push(above(end(&rule.to, &rule.destination), &rule.destination_addresses).into());
            cells.push(above(with_limits(rule), &rule.ports).into());
            cells.push(if rule.log { "log" } else { "" }.into());
            cells.push(rule.id.clone().into());
            if with_reason {
                cells.push(rule.reason.clone().into());
            }
            cells
        })
    }

    /// The same for a narrow terminal: what, values, id, line and reason below each other.
    pub fn short_tables(&self) -> Vec<Table> {
        let headings = |_: &ListRow| {
            vec![
                Column::numbers("no"),
                Column::whole("action"),
                Column::text("service"),
                Column::text("rule"),
            ]
        };
        self.each_list(headings, |_, rule| {
            let service = above(rule.service.clone(), &rule.ports);
            let action = logged(Cell::action(rule.action), rule.log);
            vec![number(rule), action, service.into(), in_lines(rule).into()]
        })
    }

    fn each_list(
        &self,
        columns: impl Fn(&ListRow) -> Vec<Column>,
        row: impl Fn(&ListRow, &RuleRow) -> Vec<Cell>,
    ) -> Vec<Table> {
        let shown = self.lists.iter().filter(|list| !list.rules.is_empty());
        let tables = shown.map(|list| {
            let mut table = Table::new(columns(list)).titled(list.name.clone());
            list.rules.iter().for_each(|rule| table.row(row(list, rule)));
            table
        });
        tables.collect()
    }
}

/// So many letters of values are shown below a name; how many more there are is counted.
const VALUES_SHOWN: usize = 32;
/// The same of interfaces.
const INTERFACES_SHOWN: usize = 16;

/// A rule as a few lines below each other.
fn in_lines(rule: &RuleRow) -> String {
    let line = rule.because.line.map(|line| format!(", line {line}")).unwrap_or_default();
    let place = format!("{}{line}", rule.id);
    let (from, to) = (end(&rule.from, &rule.source), end(&rule.to, &rule.destination));
    let mut lines = match rule.because.kind {
        "exception" | "offered" => vec![format!("{from} -> {to}")],
        // The id of a cell says from where and to where.
        "cell" => Vec::new(),
        _ => vec![rule.name.clone()],
    };
    let values = [&rule.source_addresses, &rule.destination_addresses];
    let [source, destination] = values.map(|values| few(values, VALUES_SHOWN));
    let shows = !source.is_empty() && !destination.is_empty();
    if shows && values.iter().any(|values| says_more("", values)) {
        lines.push(format!("{source} -> {destination}"));
    }
    lines.push(place);
    // The reason of a cell is the matrix.
    if rule.because.kind != "cell" {
        lines.push(rule.reason.clone());
    }
    lines.extend(Some(limits(rule)).filter(|limits| !limits.is_empty()));
    lines.join("\n")
}

/// A name, and below it the values that it stands for, where they say more.
fn above(name: String, values: &[String]) -> String {
    if !says_more(&name, values) {
        return name;
    }
    match few(values, VALUES_SHOWN) {
        none if none.is_empty() => name,
        values => format!("{name}\n{values}"),
    }
}

fn says_more(name: &str, values: &[String]) -> bool {
    let values = values.join(", ");
    values != "any" && values != name && !name.ends_with(&format!(": {values}"))
}

/// As many values as have room, and how many more there are; nothing where the first one has none.
fn few(values: &[String], room: usize) -> String {
    let mut text = String::new();
    for (index, value) in values.iter().enumerate() {
        let value = shortened(value);
        let more = values.len() - index - 1;
        let needs = text.len() + 2 + value.len() + if more > 0 { 5 } else { 0 };
        if needs > room && (index > 0 || value.len() > room) {
            return if index > 0 { format!("{text} +{}", more + 1) } else { text };
        }
        if index > 0 {
            text.push_str(", ");
        }
        text.push_str(&value);
    }
    text
}

/// A range of IPv4 addresses with its end's last octet alone, where the rest is the same: `10.44.24.2-.254`.
fn shortened(value: &str) -> String {
    let short = value.split_once('-').and_then(|(first, last)| {
        let (first_net, last_net) = (first.rsplit_once('.')?.0, last.rsplit_once('.')?);
        (first_net == last_net.0).then(|| format!("{first}-.{}", last_net.1))
    });
    short.unwrap_or_else(|| value.to_owned())
}

/// A rule's number; what the gateway does by itself has none.
fn number(rule: &RuleRow) -> Cell {
    if rule.number == 0 { "".into() } else { rule.number.into() }
}

/// The service, and when it counts.
fn with_limits(rule: &RuleRow) -> String {
    match limits(rule) {
        only if only.is_empty() => rule.service.clone(),
        only => format!("{}, {only}", rule.service),
    }
}

/// When a rule counts, and how much it lets through, where that is not always and everything.
fn limits(rule: &RuleRow) -> String {
    let hours = rule.hours.as_ref().map(|hours| format!("only in {hours}"));
    let rate = rule.limit_mbps.map(|rate| format!("at most {rate} Mbit/s"));
    hours.into_iter().chain(rate).collect::<Vec<_>>().join(", ")
}

/// Zone and address in one word where the one says no more than the other.
fn end(zone: &str, address: &str) -> String {
    match (zone, address) {
        (zone, "any") => zone.to_owned(),
        ("any" | "", address) => address.to_owned(),
        (zone, address) if zone == address || zone.contains(" + ") => address.to_owned(),
        // It says already whose it is.
        ("gateway", address) if address.starts_with("gateway in ") => address.to_owned(),
        (zone, address) => format!("{zone}: {address}"),
    }
}
