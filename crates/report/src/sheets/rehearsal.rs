//! The results of a rehearsal.

use super::{EDITION, SweepPart};
use crate::{Cell, Column, Table, Tone};
use schemars::JsonSchema;
use serde::Serialize;

/// What came of a rehearsal.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct RehearsalSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The site's name.
    pub site: String,
    /// The day that it is for.
    pub day: String,
    /// Whether no packet was sent, and the compiled rules were asked in memory.
    pub on_paper: bool,
    /// Whether everything agrees, and every rule that can match was hit.
    pub agrees: bool,
    /// Where a file of one's own differs from the plan, over every packet there is; empty for the plan's own.
    pub file_differs: Vec<String>,
    /// What was tried.
    pub checks: Vec<TriedRow>,
    /// Every rule, with how often it was hit.
    pub rules: Vec<HitRow>,
    /// What came of a sweep; none where none was made.
    pub sweep: Option<SweepPart>,
    /// How long it took to build the site, in milliseconds.
    pub set_up_ms: u64,
    /// How long the rest took, in milliseconds.
    pub took_ms: u64,
}

/// Something that was tried.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct TriedRow {
    /// The id of the check; `lease/NAME` for a fixed lease, `by-hand/RULE` for a packet that was made for
    /// a rule that no check hits.
    pub id: String,
    /// Where it came from.
    pub from: String,
    /// Where it went.
    pub to: String,
    /// What was asked for.
    pub service: String,
    /// What should come back; none where only the rule matters.
    pub expect: Option<&'static str>,
    /// What came back: `reply`, `refused`, `unreachable`, `silence` or `not_tried`.
    pub seen: &'static str,
    /// The id of the rule that should decide.
    pub proves: Option<String>,
    /// The id of the rule that did decide.
    pub rule: Option<String>,
    /// Whether the two agree; none where nothing was tried.
    pub agrees: Option<bool>,
    /// What is wrong, or why nothing was tried.
    pub says: Option<String>,
}

/// A rule, and how often it was hit.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct HitRow {
    /// Its id.
    pub id: String,
    /// How many packets it decided.
    pub hits: u64,
    /// Whether there is a packet that it decides.
    pub can_match: bool,
    /// Whether none of these can be sent in a rehearsal: no ordinary machine begins one.
    pub beyond: bool,
}

/// What is known of a rehearsal as a whole.
#[derive(Clone, Debug, Default)]
pub struct RehearsalFrame {
    /// The site's name.
    pub site: String,
    /// The day that it is for.
    pub day: String,
    /// Whether no packet was sent.
    pub on_paper: bool,
    /// Whether all agrees.
    pub agrees: bool,
    /// Where a file of one's own differs from the plan.
    pub file_differs: Vec<String>,
    /// Milliseconds for building the site, and for the rest.
    pub took_ms: (u64, u64),
}

impl RehearsalSheet {
    /// A sheet of these rows.
    pub fn new(frame: RehearsalFrame, checks: Vec<TriedRow>, rules: Vec<HitRow>) -> Self {
        let RehearsalFrame { site, day, on_paper, agrees, file_differs, took_ms } = frame;
        let (set_up_ms, took_ms) = took_ms;
        let agrees = agrees && file_differs.is_empty();
        Self {
            bastium: EDITION,
            site,
            day,
            on_paper,
            agrees,
            file_differs,
            checks,
            rules,
            sweep: None,
            set_up_ms,
            took_ms,
        }
    }

    /// The same with what came of a sweep: what it has found does not agree.
    #[must_use]
    pub fn swept(self, sweep: Option<SweepPart>) -> Self {
        let finds = sweep.as_ref().is_some_and(|sweep| !sweep.surprises.is_empty());
        Self { agrees: self.agrees && !finds, sweep, ..self }
    }

    /// The rules that could match and were never hit.
    pub fn unhit(&self) -> impl Iterator<Item = &HitRow> {
        self.rules.iter().filter(|rule| rule.can_match && !rule.beyond && rule.hits == 0)
    }

    /// The rules of which no packet could be sent.
    pub fn beyond(&self) -> impl Iterator<Item = &HitRow> {
        self.rules.iter().filter(|rule| rule.can_match && rule.beyond && rule.hits == 0)
    }

    /// How many were tried, and of these how many agree.
    pub fn counts(&self) -> (usize, usize) {
        let tried = self.checks.iter().filter_map(|check| check.agrees);
        let (all, good): (Vec<bool>, Vec<bool>) =
            (tried.clone().collect(), tried.filter(|a| *a).collect());
        (all.len(), good.len())
    }

    /// Everything, as tables.
    pub fn tables(&self) -> Vec<Table> {
        let mut differs = Table::new([Column::text("says")]).titled("file");
        for says in &self.file_differs {
            differs.row([Cell::from(says)]);
        }
        let mut tables =
            vec![self.table(|_| true).titled("checks"), self.hit_table().titled("rules")];
        tables.extend((!self.file_differs.is_empty()).then_some(differs));
        tables
    }

    /// What was tried and fits, as a table.
    pub fn table(&self, keep: impl Fn(&TriedRow) -> bool) -> Table {
        let mut table = Table::new([
            Column::whole("from"),
            Column::whole("to"),
            Column::whole("service"),
            Column::whole("expect"),
            Column::whole("seen"),
            Column::text("rule"),
            Column::text("says"),
        ]);
        for check in self.checks.iter().filter(|check| keep(check)) {
            let (word, tone) = match check.agrees {
                Some(true) => (check.seen, Tone::Good),
                Some(false) => (check.seen, Tone::Bad),
                None => ("not tried", Tone::Faint),
            };
            let rule = check.rule.as_ref().or(check.proves.as_ref()).cloned();
            table.row([
                Cell::from(&check.from),
                Cell::from(&check.to),
                Cell::from(&check.service),
                Cell::from(check.expect.unwrap_or("")),
                Cell::toned(word, tone),
                Cell::toned(rule.unwrap_or_default(), Tone::Faint),
                Cell::from(check.says.as_deref().unwrap_or("")),
            ]);
        }
        table
    }

    fn hit_table(&self) -> Table {
        let mut table =
            Table::new([Column::whole("rule"), Column::numbers("hits"), Column::text("says")]);
        for rule in &self.rules {
            let says = match (rule.can_match, rule.hits) {
                (false, _) => Cell::toned("no packet comes to it", Tone::Faint),
                (true, 0) if rule.beyond => Cell::toned("no machine sends it", Tone::Faint),
                (true, 0) => Cell::toned("never hit", Tone::Bad),
                _ => Cell::default(),
            };
            table.row([Cell::from(&rule.id), Cell::from(rule.hits), says]);
        }
        table
    }
}
