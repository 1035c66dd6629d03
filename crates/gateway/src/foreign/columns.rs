//! Columns of a rule table: which heading means what, and which columns cannot be interpreted.

use csv::StringRecord;

/// A column that is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Column {
    /// What becomes of the packets.
    Action,
    /// Where they come from: addresses, or names of the plan.
    Source,
    /// Where they go, likewise.
    Destination,
    /// Services by name, or ports.
    Service,
    /// The protocol of a port.
    Protocol,
    /// The interface by which they come.
    From,
    /// The interface by which they leave.
    To,
    /// What the rule is called.
    Name,
    /// Whether it is logged.
    Log,
    /// How many packets it has matched.
    Hits,
    /// Whether it is in force.
    Enabled,
    /// Whether it is out of force.
    Disabled,
}

/// The columns that are read, each with the headings that people give it.
const READ: [(Column, &str, &[&str]); 12] = [
    (Column::Action, "action", &["action", "verdict"]),
    (Column::Source, "source", &["source", "src", "source address"]),
    (Column::Destination, "destination", &["destination", "dst", "dest", "destination address"]),
    (Column::Service, "service", &["service", "services", "port", "ports", "destination port"]),
    (Column::Protocol, "protocol", &["protocol", "proto"]),
    (Column::From, "from", &["from", "in", "interface", "source zone"]),
    (Column::To, "to", &["to", "out", "destination zone"]),
    (Column::Name, "name", &["id", "name", "rule", "description"]),
    (Column::Log, "log", &["log", "logged"]),
    (Column::Hits, "hits", &["hits", "hit count", "packets"]),
    (Column::Enabled, "enabled", &["enabled", "active", "in force"]),
    (Column::Disabled, "disabled", &["disabled", "inactive"]),
];

/// Those without which a table is no list of rules.
const NEEDED: usize = 3;

/// Headings of what says nothing of packets, whatever stands below them.
const BESIDE: [&str; 24] = [
    "id",
    "name",
    "rule",
    "label",
    "description",
    "comment",
    "comments",
    "remark",
    "remarks",
    "note",
    "notes",
    "reason",
    "why",
    "tag",
    "tags",
    "owner",
    "ticket",
    "hits",
    "hit count",
    "packets",
    "bytes",
    "last hit",
    "created",
    "changed",
];

/// Headings of a row's number. Where numbers do not rise, it is not known which row is asked first.
const NUMBERS: [&str; 9] =
    ["no", "no.", "nr", "number", "#", "position", "sequence", "order", "priority"];

/// Whether a column says nothing of packets, whatever stands below its heading.
pub fn is_beside(heading: &str) -> bool {
    BESIDE.contains(&heading)
}

/// What the first line of a table says.
pub(super) struct Columns {
    headings: Vec<String>,
    read: Vec<(Column, usize)>,
}

impl Columns {
    pub(super) fn of(headings: &StringRecord) -> Self {
        let headings: Vec<String> = headings.iter().map(|one| one.trim().to_lowercase()).collect();
        let place = |names: &[&str]| headings.iter().position(|one| names.contains(&one.as_str()));
        let read = READ.iter().filter_map(|(column, _, names)| Some((*column, place(names)?)));
        let read = read.collect();
        Self { headings, read }
    }

    pub(super) fn count(&self) -> usize {
        self.headings.len()
    }

    /// The columns that are needed and not there.
    pub(super) fn missing(&self) -> Vec<&'static str> {
        let needed = READ.iter().take(NEEDED);
        let missing = needed.filter(|(column, ..)| self.place(*column).is_none());
        missing.map(|(_, name, _)| *name).collect()
    }

    fn place(&self, column: Column) -> Option<usize> {
        self.read.iter().find(|(own, _)| *own == column).map(|(_, place)| *place)
    }

    pub(super) fn row<'r>(&'r self, record: &'r StringRecord) -> Cells<'r> {
        Cells { columns: self, record }
    }
}

/// One row below them.
#[derive(Clone, Copy)]
pub(super) struct Cells<'r> {
    columns: &'r Columns,
    record: &'r StringRecord,
}

impl<'r> Cells<'r> {
    pub(super) fn is_blank(self) -> bool {
        self.record.iter().all(|cell| cell.trim().is_empty())
    }

    /// A cell; empty where there is none.
    pub(super) fn cell(self, column: Column) -> &'r str {
        let cell = self.columns.place(column).and_then(|place| self.record.get(place));
        cell.unwrap_or_default().trim()
    }

    /// Whether the rule is in force; `None` where that is not said in words that are known.
    pub(super) fn is_in_force(self) -> Option<bool> {
        let enabled = self.cell(Column::Enabled);
        let disabled = self.cell(Column::Disabled);
        let enabled = if enabled.is_empty() { Some(true) } else { yes_or_no(enabled) };
        Some(enabled? && !yes_or_no(disabled)?)
    }

    /// The cells that may say where it stands among the others, by their columns.
    pub(super) fn numbers(self) -> impl Iterator<Item = (usize, &'r str)> {
        let headings = self.columns.headings.iter().enumerate();
        let numbers = headings.filter(|(_, heading)| NUMBERS.contains(&heading.as_str()));
        let cells =
            numbers.filter_map(move |(place, _)| Some((place, self.record.get(place)?.trim())));
        cells.filter(|(_, cell)| !cell.is_empty())
    }

    /// What stands in it that may say something of packets, and that nobody here can read.
    pub(super) fn unread(self) -> Vec<String> {
        let headings = &self.columns.headings;
        let is_read = |place: usize| self.columns.read.iter().any(|(_, own)| *own == place);
        let known = |place: usize| {
            let heading = headings[place].as_str();
            is_read(place) || is_beside(heading) || NUMBERS.contains(&heading)
        };
        let cells = self.record.iter().map(str::trim).enumerate();
        let strange = cells.filter(|(place, cell)| match headings.get(*place) {
            Some(_) => !known(*place) && !is_any(cell),
            None => !cell.is_empty(),
        });
        let strange = strange.map(|(place, cell)| match headings.get(place) {
            Some(heading) if !heading.is_empty() => format!("the column `{heading}`: `{cell}`"),
            _ => format!("`{cell}`, below no heading"),
        });
        // A row that is broken off would match anything.
        let gone = (self.record.len()..headings.len())
            .filter(|place| is_read(*place))
            .map(|place| format!("the row ends before `{}`", headings[place]));
        strange.chain(gone).collect()
    }
}

/// Whether a word is yes or no; nothing is no.
pub(super) fn yes_or_no(word: &str) -> Option<bool> {
    match word.to_lowercase().as_str() {
        "yes" | "true" | "1" | "x" | "on" | "log" | "logged" | "enabled" | "active" => Some(true),
        "" | "no" | "false" | "0" | "-" | "off" | "none" | "disabled" | "inactive" => Some(false),
        _ => None,
    }
}

/// Whether a word sets no condition.
pub(super) fn is_any(word: &str) -> bool {
    ["", "any", "*", "-", "all"].contains(&word.trim().to_lowercase().as_str())
}
