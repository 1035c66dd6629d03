//! What changes from one plan to another.

mod settings;

use super::boxes::{self, BoxRow, rows};
use super::products::Names;
use super::{AddressSheet, Because, EDITION, PortSheet};
use crate::{Cell, Column, Table, Tone};
use bastium_core::plan::{Action, Plan};
use bastium_core::proof::{
    Change, Changes, LineChange, MovedHost, RuleChange, Wording, line_changes, planless_changes,
};
use bastium_core::rules::{PlanlessLine, Rule};
use schemars::JsonSchema;
use serde::Serialize;
pub use settings::SettingRow;
use settings::settings;

/// What changes: traffic and rules.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct CompareSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// What is compared: the name of the old one.
    pub old: String,
    /// The name of the new one.
    pub new: String,
    /// The day that both plans are taken on.
    pub day: String,
    /// The form that the rules are in.
    pub form: String,
    /// What gets through now, and did not.
    pub opens: Vec<ChangeRow>,
    /// What got through, and does not any more.
    pub closes: Vec<ChangeRow>,
    /// What is denied in both, with a rejection in one of them only.
    pub changes: Vec<ChangeRow>,
    /// Hosts that have other addresses, and what each of them loses and gains by that.
    pub moved: Vec<MovedRow>,
    /// The rules.
    pub rules: RuleChanges,
    /// The sheets that differ beside that: `addresses`, `ports`. Of two rule lists, which have none, there are none.
    pub beside: Vec<&'static str>,
    /// What the plans say otherwise though no packet in their words fares otherwise on the day.
    pub settings: Vec<SettingRow>,
    /// How many questions could not be decided in the steps that are allowed.
    pub undecided: usize,
}

/// A box of packets that fare otherwise.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ChangeRow {
    /// The packets.
    #[serde(flatten)]
    pub packets: BoxRow,
    /// What happened to them.
    pub before: &'static str,
    /// What happens to them now.
    pub after: &'static str,
    /// The entry of the old plan that decided.
    pub because_before: Because,
    /// The entry of the new plan that decides.
    pub because_after: Because,
    /// The change in a sentence.
    pub says: String,
}

/// A host that has other addresses.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct MovedRow {
    /// Its name.
    pub host: String,
    /// Its addresses before.
    pub before: Vec<String>,
    /// Its addresses now.
    pub after: Vec<String>,
    /// What got through from it or to it, and does not any more; it stands there with its new address.
    pub loses: Vec<BoxRow>,
    /// What gets through now, and did not.
    pub gains: Vec<BoxRow>,
}

impl MovedRow {
    fn of(wording: &Wording<'_>, moved: &MovedHost) -> Self {
        let words = |all: &[std::net::IpAddr]| all.iter().map(ToString::to_string).collect();
        Self {
            host: moved.name.to_string(),
            before: words(&moved.before),
            after: words(&moved.after),
            loses: boxes::rows(wording, &moved.loses),
            gains: boxes::rows(wording, &moved.gains),
        }
    }
}

/// Rules that are others.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct RuleChanges {
    /// Rules that are new.
    pub added: Vec<RuleMark>,
    /// Rules that are not there any more.
    pub removed: Vec<RuleMark>,
    /// Rules that stand elsewhere.
    pub moved: Vec<RuleMark>,
    /// Rules that say something else.
    pub changed: Vec<RuleMark>,
}

/// A rule, and what became of it.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct RuleMark {
    /// Its id.
    pub id: String,
    /// Its number before; none if it is new.
    pub before: Option<u32>,
    /// Its number now; none if it was removed.
    pub after: Option<u32>,
    /// What it does.
    pub name: String,
    /// What it says otherwise than before.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub what: Vec<String>,
}

impl CompareSheet {
    /// Takes the sheet from the changes between two plans.
    pub fn new(
        (old, new): (&Plan, &Plan),
        (old_name, new_name): (String, String),
        (day, form): (String, String),
        changes: &Changes<'_>,
    ) -> Self {
        let wording = (Wording::new(old), Wording::new(new));
        let rows = |kind: fn(&Change) -> bool| -> Vec<ChangeRow> {
            let here = changes.traffic.iter().filter(|change| kind(change));
            here.flat_map(|change| change_rows((old, &wording.0), (new, &wording.1), change))
                .collect()
        };
        Self {
            bastium: EDITION,
            old: old_name,
            new: new_name,
            day,
            form,
            opens: rows(Change::opens),
            closes: rows(Change::closes),
            changes: rows(|change| !change.opens() && !change.closes()),
            moved: changes.moved.iter().map(|moved| MovedRow::of(&wording.1, moved)).collect(),
            rules: rule_changes(&changes.rules),
            beside: beside(old, new),
            settings: settings(old, new),
            undecided: changes.undecided,
        }
    }

    /// Compares two rule lists that were written to files. There is no plan to name things after.
    pub fn of_lists(
        (old_name, new_name): (String, String),
        (day, form): (String, String),
        names: &Names,
        old: &[PlanlessLine],
        new: &[PlanlessLine],
    ) -> Self {
        let (changes, undecided) = planless_changes(names.interfaces.len(), old, new);
        let (mut opens, mut closes, mut others) = (Vec::new(), Vec::new(), Vec::new());
        for change in &changes {
            let (before, after) = (&old[change.before], &new[change.after]);
            let (list, word) = match (before.action, after.action) {
                (_, Action::Allow) => (&mut opens, "opens"),
                (Action::Allow, _) => (&mut closes, "closes"),
                _ => (&mut others, "changes"),
            };
            for product in change.packets.tidied().products() {
                let packets = boxes::bare(names, &product);
                let because = |line: &PlanlessLine| {
                    Because::no_entry("rule", &line.id, format!("rule {}", line.id))
                };
                list.push(ChangeRow {
                    says: format!("{word}: {}", packets.short),
                    packets,
                    before: before.action.word(),
                    after: after.action.word(),
                    because_before: because(before),
                    because_after: because(after),
                });
            }
        }
        let rules = bare_rules(old, new);
        Self {
            bastium: EDITION,
            old: old_name,
            new: new_name,
            day,
            form,
            opens,
            closes,
            changes: others,
            moved: Vec::new(),
            rules,
            beside: Vec::new(),
            settings: Vec::new(),
            undecided,
        }
    }

    /// The sheets that differ beside traffic and rules, in words: `addresses and ports`.
    pub fn beside_words(&self) -> Option<String> {
        (!self.beside.is_empty()).then(|| self.beside.join(" and "))
    }

    /// Whether traffic and rules are the same.
    pub fn is_empty(&self) -> bool {
        let rules = &self.rules;
        let lists = [&rules.added, &rules.removed, &rules.moved, &rules.changed];
        self.no_traffic() && self.moved.is_empty() && lists.into_iter().all(Vec::is_empty)
    }

    /// Whether all traffic fares as before.
    pub fn no_traffic(&self) -> bool {
        self.no_classes() && !self.settings.iter().any(SettingRow::moves_traffic)
    }

    /// Whether no packet fares otherwise, in the plans' own words.
    pub fn no_classes(&self) -> bool {
        self.opens.is_empty()
            && self.closes.is_empty()
            && self.changes.is_empty()
            && self.undecided == 0
    }

    /// Whether both plans mean the same on all days, and guarantee the same: what is set up otherwise counts for nothing.
    pub fn same_policy(&self) -> bool {
        self.is_empty() && self.settings.iter().all(|row| row.kind == "uplink")
    }

    /// The changes as two tables: traffic, rules.
    pub fn tables(&self) -> Vec<Table> {
        let mut traffic = Table::new([
            Column::whole("what"),
            Column::text("from"),
            Column::text("source"),
            Column::text("to"),
            Column::text("destination"),
            Column::text("service"),
            Column::whole("family"),
            Column::text("hours"),
            Column::text("because"),
        ])
        .titled("traffic");
        let kinds = [("opens", &self.opens), ("closes", &self.closes), ("changes", &self.changes)];
        for (kind, row) in kinds.iter().flat_map(|(kind, rows)| rows.iter().map(move |r| (kind, r)))
        {
            let one = &row.packets;
            traffic.row([
                kind_cell(kind),
                one.from.clone().into(),
                one.source.clone().into(),
                one.to.clone().into(),
                one.destination.clone().into(),
                one.service.clone().into(),
                one.family.into(),
                one.hours.clone().unwrap_or_default().into(),
                because(row).into(),
            ]);
        }
        let mut moved =
            Table::new([Column::whole("host"), Column::whole("what"), Column::text("traffic")])
                .titled("moved hosts");
        for host in &self.moved {
            for (what, rows) in [("loses", &host.loses), ("gains", &host.gains)] {
                for row in rows {
                    let traffic = Cell::from(&row.short);
                    moved.row([Cell::from(&host.host), Cell::from(what), traffic]);
                }
            }
        }
        let mut beside = Table::new([Column::whole("sheet")]).titled("other sheets that differ");
        self.beside.iter().for_each(|sheet| beside.row([Cell::from(*sheet)]));
        let headings = ["what", "name", "before", "after"].map(Column::whole);
        let mut settings = Table::new(headings).titled("settings");
        for row in &self.settings {
            settings.row([row.kind, &row.name, &row.before, &row.after].map(Cell::from));
        }
        let mut tables = vec![traffic, moved, self.rule_table(), settings, beside];
        let always = ["traffic", "rules"].map(Some);
        tables.retain(|table| always.contains(&table.title.as_deref()) || !table.rows.is_empty());
        tables
    }

    /// The changes of rules as a table.
    pub fn rule_table(&self) -> Table {
        let mut table = Table::new([
            Column::whole("rule"),
            Column::numbers("before"),
            Column::numbers("after"),
            Column::text("which"),
        ])
        .titled("rules");
        let rules = &self.rules;
        let kinds = [
            ("added", &rules.added),
            ("removed", &rules.removed),
            ("moved", &rules.moved),
            ("changed", &rules.changed),
        ];
        let number = |number: Option<u32>| number.map(|n| n.to_string()).unwrap_or_default();
        for (kind, mark) in
            kinds.iter().flat_map(|(kind, marks)| marks.iter().map(move |m| (kind, m)))
        {
            let what: String = mark.what.iter().map(|what| format!("\n{what}")).collect();
            table.row([
                kind_cell(kind),
                number(mark.before).into(),
                number(mark.after).into(),
                format!("{}{what}", mark.id).into(),
            ]);
        }
        table
    }
}

/// The sheets of two plans that differ. What a site is called is in both of them, and no change of theirs.
fn beside(old: &Plan, new: &Plan) -> Vec<&'static str> {
    let site = &new.site().name;
    let addresses = AddressSheet { site: site.clone(), ..AddressSheet::new(old, false) };
    let ports = PortSheet { site: site.clone(), ..PortSheet::new(old) };
    let pairs = [
        ("addresses", addresses == AddressSheet::new(new, false)),
        ("ports", ports == PortSheet::new(new)),
    ];
    pairs.into_iter().filter(|(_, same)| !same).map(|(sheet, _)| sheet).collect()
}

fn kind_cell(kind: &str) -> Cell {
    let tone = match kind {
        "opens" | "added" => Tone::Warn,
        "closes" | "removed" => Tone::Bad,
        _ => Tone::Plain,
    };
    Cell::toned(kind, tone)
}

/// `cell guests>tills` -> `exception x`, with the lines.
fn because(row: &ChangeRow) -> String {
    let (before, after) = (&row.because_before, &row.because_after);
    format!("{} -> {}", before.words_and_line(), after.words_and_line())
}

/// The rows of a change, between plans each of which has its words.
fn change_rows(
    (old, old_words): (&Plan, &Wording<'_>),
    (new, new_words): (&Plan, &Wording<'_>),
    change: &Change,
) -> Vec<ChangeRow> {
    let words = if change.of_new { new_words } else { old_words };
    let (before, after) = (change.before.verdict, change.after.verdict);
    let row = |packets: BoxRow| {
        let says = if change.opens() {
            format!("opens: {}", packets.short)
        } else if change.closes() {
            format!("closes: {}", packets.short)
        } else {
            format!("{}: was {}, is {}", packets.short, before.word(), after.word())
        };
        ChangeRow {
            packets,
            before: before.word(),
            after: after.word(),
            because_before: Because::new(change.before.cause, old),
            because_after: Because::new(change.after.cause, new),
            says,
        }
    };
    rows(words, &change.packets).into_iter().map(row).collect()
}

fn rule_changes(changes: &[RuleChange<'_>]) -> RuleChanges {
    let mut rules = RuleChanges {
        added: Vec::new(),
        removed: Vec::new(),
        moved: Vec::new(),
        changed: Vec::new(),
    };
    for change in changes {
        match change {
            RuleChange::Added(rule) => rules.added.push(mark(None, Some(rule))),
            RuleChange::Removed(rule) => rules.removed.push(mark(Some(rule), None)),
            RuleChange::Moved(old, new) => rules.moved.push(mark(Some(old), Some(new))),
            RuleChange::Changed(old, new) => {
                let mut changed = mark(Some(old), Some(new));
                changed.what = what(old, new);
                rules.changed.push(changed);
            }
            _ => {}
        }
    }
    rules
}

/// Which rules of two lists are others; the ends of lists are none.
fn bare_rules(old: &[PlanlessLine], new: &[PlanlessLine]) -> RuleChanges {
    let rules = |lines: &'_ [PlanlessLine]| -> Vec<PlanlessLine> {
        lines.iter().filter(|line| line.number > 0).cloned().collect()
    };
    let (old, new) = (rules(old), rules(new));
    let keys = |lines: &[PlanlessLine]| -> Vec<_> {
        lines.iter().map(|line| (line.matches.clone(), line.action, line.log)).collect()
    };
    let ids =
        |lines: &'_ [PlanlessLine]| -> Vec<String> { lines.iter().map(|l| l.id.clone()).collect() };
    let (old_ids, new_ids) = (ids(&old), ids(&new));
    let old_ids: Vec<&str> = old_ids.iter().map(String::as_str).collect();
    let new_ids: Vec<&str> = new_ids.iter().map(String::as_str).collect();
    let reported = line_changes((&keys(&old), &old_ids), (&keys(&new), &new_ids));
    let mark = |before: Option<usize>, after: Option<usize>| {
        let line = after.map(|place| &new[place]).or(before.map(|place| &old[place]));
        let id = line.map(|line| line.id.clone()).unwrap_or_default();
        RuleMark {
            name: id.clone(),
            id,
            before: before.map(|place| old[place].number),
            after: after.map(|place| new[place].number),
            what: Vec::new(),
        }
    };
    let mut rules = RuleChanges::default();
    for change in reported {
        match change {
            LineChange::Added(new) => rules.added.push(mark(None, Some(new))),
            LineChange::Removed(old) => rules.removed.push(mark(Some(old), None)),
            LineChange::Moved(old, new) => rules.moved.push(mark(Some(old), Some(new))),
            LineChange::Changed(old, new) => rules.changed.push(mark(Some(old), Some(new))),
        }
    }
    rules
}

fn mark(old: Option<&Rule>, new: Option<&Rule>) -> RuleMark {
    let rule = new.or(old);
    RuleMark {
        id: rule.map(|rule| rule.id.to_string()).unwrap_or_default(),
        before: old.map(|rule| rule.number),
        after: new.map(|rule| rule.number),
        name: rule.map(|rule| rule.name.clone()).unwrap_or_default(),
        what: Vec::new(),
    }
}

/// What a rule says otherwise.
fn what(old: &Rule, new: &Rule) -> Vec<String> {
    let log = |rule: &Rule| if rule.log { "logged" } else { "not logged" }.to_owned();
    let limit =
        |rule: &Rule| rule.limit_mbps.map_or("none".to_owned(), |most| format!("{most} Mbit/s"));
    let hours = |rule: &Rule| rule.hours.clone().unwrap_or_else(|| "always".to_owned());
    let pairs = [
        ("source", old.source.to_string(), new.source.to_string()),
        ("destination", old.destination.to_string(), new.destination.to_string()),
        ("service", old.service.clone(), new.service.clone()),
        ("ports", old.ports.join(", "), new.ports.join(", ")),
        ("action", old.action.word().to_owned(), new.action.word().to_owned()),
        ("log", log(old), log(new)),
        ("limit", limit(old), limit(new)),
        ("hours", hours(old), hours(new)),
    ];
    let differ = pairs.into_iter().filter(|(_, old, new)| old != new);
    let mut what: Vec<String> =
        differ.map(|(about, old, new)| format!("{about}: {old} -> {new}")).collect();
    if what.is_empty() {
        what.push("the addresses behind its words".to_owned());
    }
    what
}
