//! What there is to say about a rule list written by somebody else.

mod differences;
mod lists;

pub use differences::{DifferenceRow, fault_sentences, list_sentences};
pub(in crate::sheets) use lists::of_list;

use super::EDITION;
use crate::{Cell, Column, Table, Tone, domains};
use bastium_core::diagnosis::Severity;
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Form};
use bastium_core::proof::PlanlessSingles;
use bastium_core::rules::{RuleSet, in_form};
use bastium_core::space::{Match, PacketSet, ServiceSet};
use bastium_gateway::foreign::{Foreign, ForeignLine};
use bastium_gateway::nftables::{is_beside_rules, tags};
use bastium_gateway::rule_of;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::{BTreeMap, HashMap, HashSet};

/// How many pairs that depend on their order are looked at.
const MOST_PAIRS: usize = 2_000;

/// What was found out about a rule list.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct AuditSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// How many lines it has.
    pub lines: usize,
    /// What is wrong, or worth a look, line by line.
    pub findings: Vec<AuditFinding>,
    /// Whether it keeps no state, so that replies are only recognised by what they look like.
    pub stateless: bool,
    /// Whether it was compared with a plan.
    pub compared: bool,
    /// Where gateway and plan differ.
    pub differences: Vec<DifferenceRow>,
    /// Whether everything that the gateway does was read, and is what the plan says.
    pub agrees: bool,
    /// Whether it is all that decides over a gateway's packets, translation and replies included; a list of
    /// its own says nothing of these.
    pub whole: bool,
    /// Whether it says how fast what it lets pass may go.
    pub limits: bool,
    /// The plan's domains. Their addresses are what the gateway's name server finds, and nothing is said of that.
    pub domains: Vec<String>,
    /// What was not understood, and takes part in nothing that is said here.
    pub not_understood: Vec<NotUnderstoodRow>,
    /// How many questions could not be decided in the steps that are allowed.
    pub undecided: usize,
}

/// One finding.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct AuditFinding {
    /// Its kind: `never-matches`, `changes-nothing`, `depends-on-order`, `too-wide`, `not-logged`,
    /// `never-hit`, `no-replies`.
    pub name: &'static str,
    /// `warning` or `advice`.
    pub severity: &'static str,
    /// Where the line stands.
    pub at: String,
    /// What it is called there.
    pub rule: String,
    /// What is wrong.
    pub says: String,
    /// How to put it right.
    pub help: &'static str,
}

/// Something that was not understood.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, JsonSchema)]
pub struct NotUnderstoodRow {
    /// Where it stands.
    pub at: String,
    /// What it is.
    pub what: String,
}

impl AuditSheet {
    /// Looks at a rule list, and compares it with a plan if there is one.
    pub fn new(foreign: &Foreign, own: Option<(&Meaning<'_>, &RuleSet)>) -> Self {
        let not_understood = foreign.not_understood.iter();
        let not_understood = not_understood
            .map(|one| NotUnderstoodRow { at: one.at.clone(), what: one.what.clone() });
        let mut sheet = Self {
            bastium: EDITION,
            lines: foreign.rules,
            findings: Vec::new(),
            stateless: foreign.is_stateless(),
            domains: own.map_or_else(Vec::new, |(meaning, _)| domains(meaning.plan())),
            compared: own.is_some(),
            differences: Vec::new(),
            agrees: false,
            whole: foreign.is_whole(),
            limits: foreign.tells_limits,
            not_understood: not_understood.collect(),
            undecided: usize::from(foreign.exhausted),
        };
        let mut known = HashSet::new();
        if let Some((meaning, rules)) = own {
            known = tags(rules).into_keys().collect();
            let lists =
                foreign.is_stateless().then(|| in_form(meaning, Form::PerInterface).ok()).flatten();
            let of_lists = lists.iter().flat_map(RuleSet::rules);
            known.extend(of_lists.map(|rule| rule.id.to_string()));
            sheet.hold(foreign, meaning, (rules, lists.as_ref()));
        }
        let own = |name: &str| known.contains(name) || is_beside_rules(name);
        // Of the plan's own lines, where nothing differs, nothing is to be said; nor of those of lists that can
        // only say a rule entry by entry.
        let by_entries = foreign.is_stateless();
        let nothing = sheet.compared
            && (sheet.differences.is_empty() || by_entries)
            && foreign.lines.iter().all(|line| line.end || own(rule_of(&line.bare.id)));
        if !foreign.exhausted && !nothing {
            sheet.look_at_lines(foreign);
        }
        sheet.agrees = sheet.compared
            && sheet.differences.is_empty()
            && sheet.not_understood.is_empty()
            && sheet.undecided == 0;
        // For what its own lines are like, the plan answers; what is wrong with one may be why they differ.
        let is_advice = |finding: &AuditFinding| finding.severity == Severity::Advice.word();
        let agrees = sheet.agrees;
        // That replies are not let back is said of the list, not of the rule that it begins with.
        sheet.findings.retain(|one| {
            let is_own = own(rule_of(&one.rule)) && one.name != "no-replies";
            !is_own || !(agrees || by_entries || is_advice(one))
        });
        let rank = |finding: &AuditFinding| usize::from(finding.severity != "warning");
        sheet.findings.sort_by_key(rank);
        sheet
    }

    /// `lists` are the plan's rules in the form of the file, where it is access control lists.
    fn hold(
        &mut self,
        foreign: &Foreign,
        meaning: &Meaning<'_>,
        (rules, lists): (&RuleSet, Option<&RuleSet>),
    ) {
        let Some(held) = foreign.held(meaning) else {
            let found =
                lists.and_then(|lists| differences::of_access_lists(foreign, meaning, lists));
            if let Some((rows, held)) = found {
                self.differences = rows;
                self.undecided += held.undecided;
                // Where a packet comes from is known here, so that nothing of it stays unclear.
                let unread = held.unread.into_iter();
                self.not_understood =
                    unread.map(|(at, what)| NotUnderstoodRow { at, what }).collect();
                return;
            }
            let (rows, undecided) = lists::of_list(foreign, meaning.plan(), rules);
            self.differences = rows;
            self.undecided += undecided;
            return;
        };
        self.differences = differences::of_gateway(meaning.plan(), &held.faults);
        self.undecided = held.undecided;
        let mut known: HashSet<NotUnderstoodRow> = self.not_understood.iter().cloned().collect();
        let unread = held.unread.into_iter().map(|(at, what)| NotUnderstoodRow { at, what });
        self.not_understood.extend(unread.filter(|row| known.insert(row.clone())));
    }

    fn find(
        &mut self,
        (name, severity): (&'static str, Severity),
        foreign: &Foreign,
        line: usize,
        says: String,
        help: &'static str,
    ) {
        let line = &foreign.lines[line];
        self.findings.push(AuditFinding {
            name,
            severity: severity.word(),
            at: line.at.clone(),
            rule: line.bare.id.clone(),
            says,
            help,
        });
    }

    fn look_at_lines(&mut self, foreign: &Foreign) {
        let singles = foreign.singles();
        self.undecided += singles.undecided;
        let lines = &foreign.lines;
        self.shadowed(foreign, &singles);
        self.redundant(foreign, &singles);
        self.ordered(foreign, &singles);
        // Where nothing was counted yet, nothing can be said.
        let counted = lines.iter().any(|line| line.hits.is_some_and(|hits| hits > 0));
        let logs = lines.iter().any(|line| line.bare.log && !line.end);
        for place in 0..lines.len() {
            self.look_at(foreign, place, logs, counted);
        }
        if foreign.replies == Some(false) && !lines.is_empty() {
            let says = "no rule allows replies to established connections".to_owned();
            let help = "allow established connections first";
            self.find(("no-replies", Severity::Warning), foreign, 0, says, help);
        }
    }

    fn shadowed(&mut self, foreign: &Foreign, singles: &PlanlessSingles) {
        let lines = &foreign.lines;
        // A line that is come to by several ways is dead only if it is on all of them.
        let dead: HashSet<usize> = singles.shadowed.iter().map(|(line, _)| *line).collect();
        let lives = (0..lines.len()).filter(|line| !dead.contains(line));
        let lives = lives.filter(|line| !lines[*line].bare.matches.is_empty());
        let lives: HashSet<&str> = lives.map(|line| lines[line].at.as_str()).collect();
        for (line, covered_by) in &singles.shadowed {
            if !lines[*line].end && !lives.contains(lines[*line].at.as_str()) {
                let (by, one) = named(lines, covered_by);
                let take = if one { "takes" } else { "take" };
                let says = format!("it is shadowed: {by} {take} all of its packets");
                let kind = ("never-matches", Severity::Warning);
                self.find(kind, foreign, *line, says, "move it above them, or remove it");
            }
        }
    }

    fn redundant(&mut self, foreign: &Foreign, singles: &PlanlessSingles) {
        let lines = &foreign.lines;
        // What a line that is not understood does below is not known.
        let unsure: PacketSet = unsure(foreign);
        for (line, repeated_by) in &singles.redundant {
            let touched = lines[*line].bare.matches.iter();
            let touched = touched.map(PacketSet::from).any(|own| !own.is_disjoint(&unsure));
            let denies = lines[*line].bare.action != Action::Allow;
            if !lines[*line].end && !touched && !denies {
                let (by, one) = named(lines, repeated_by);
                let does = if one { "does" } else { "do" };
                let says = format!("it is redundant: {by} {does} the same");
                let kind = ("changes-nothing", Severity::Advice);
                self.find(kind, foreign, *line, says, "remove it, or note why it stays");
            }
        }
    }

    /// One finding for each line that has to stay above others.
    fn ordered(&mut self, foreign: &Foreign, singles: &PlanlessSingles) {
        let lines = &foreign.lines;
        let packets = |line: usize| -> PacketSet {
            let own = lines[line].bare.matches.iter().map(PacketSet::from);
            own.fold(PacketSet::empty(), |a, b| a.union(&b))
        };
        let mut above: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
        for (upper, lower, _) in singles.ordered.iter().take(MOST_PAIRS) {
            // A narrow one above a wide one is how exceptions are written.
            if !lines[*lower].end && !packets(*upper).is_subset(&packets(*lower)) {
                above.entry(*upper).or_default().push(*lower);
            }
        }
        for (upper, lower) in above {
            let says = format!(
                "it has to stay above {}: they match common packets and have different actions",
                named(lines, &lower).0
            );
            let kind = ("depends-on-order", Severity::Advice);
            self.find(kind, foreign, upper, says, "keep them in this order");
        }
    }

    /// Looks at one line, where others log or not, and where something was counted or not.
    fn look_at(&mut self, foreign: &Foreign, place: usize, logs: bool, counted: bool) {
        let line = &foreign.lines[place];
        let allows = line.bare.action == Action::Allow;
        let wide = |product: &Match| {
            let any = ServiceSet::any();
            product.source.v4.is_full()
                && product.destination.v4.is_full()
                && any.v4.is_subset(&product.service.v4)
                && product.at.is_full()
                && foreign.ways.are_most(&product.enters)
        };
        if allows && line.sure && !line.end && line.bare.matches.iter().any(wide) {
            let says = "it lets everything through, from anywhere to anywhere".to_owned();
            let help = "name who may reach what, by which services";
            self.find(("too-wide", Severity::Warning), foreign, place, says, help);
        }
        let passes_on = |product: &Match| foreign.ways.are_most(&product.enters);
        if allows && line.end && line.bare.matches.iter().any(passes_on) {
            let says = "traffic that no rule matches is allowed".to_owned();
            let kind = ("too-wide", Severity::Warning);
            self.find(
                kind,
                foreign,
                place,
                says,
                "end the list with a rule that blocks everything else",
            );
        }
        if !allows && !line.bare.log && line.end && !logs {
            let says = "blocked traffic is not logged by any rule".to_owned();
            let kind = ("not-logged", Severity::Advice);
            self.find(kind, foreign, place, says, "log what the last line blocks");
        }
        if !allows && !line.bare.log && !line.end && line.sure && !line.bare.matches.is_empty() {
            let says = "it blocks without logging".to_owned();
            let kind = ("not-logged", Severity::Advice);
            self.find(kind, foreign, place, says, "log it, so that somebody can find out why");
        }
        if counted && line.hits == Some(0) && !line.bare.matches.is_empty() {
            let says = "no packet has matched it since its counter was reset".to_owned();
            let kind = ("never-hit", Severity::Advice);
            self.find(kind, foreign, place, says, "is it still needed?");
        }
    }

    /// The differences that can be said together: the same line, the same entry of the plan.
    pub fn groups(&self) -> Vec<Vec<&DifferenceRow>> {
        let mut groups: Vec<Vec<&DifferenceRow>> = Vec::new();
        let mut places: HashMap<[&str; 6], usize> = HashMap::new();
        for row in &self.differences {
            let place = *places.entry(differences::is_about(row)).or_insert(groups.len());
            match groups.get_mut(place) {
                Some(group) => group.push(row),
                None => groups.push(vec![row]),
            }
        }
        groups
    }

    /// How many findings there are of a severity.
    pub fn count(&self, severity: Severity) -> usize {
        self.findings.iter().filter(|finding| finding.severity == severity.word()).count()
    }

    /// Everything, as tables.
    pub fn tables(&self) -> Vec<Table> {
        let mut findings = Table::new([
            Column::whole("severity"),
            Column::whole("finding"),
            Column::text("where"),
            Column::text("rule"),
            Column::text("says"),
        ])
        .titled("findings");
        for finding in &self.findings {
            let tone = if finding.severity == "warning" { Tone::Warn } else { Tone::Faint };
            findings.row([
                Cell::toned(finding.severity, tone),
                Cell::from(finding.name),
                Cell::toned(finding.at.as_str(), Tone::Faint),
                Cell::from(&finding.rule),
                Cell::from(&finding.says),
            ]);
        }
        let mut differences = Table::new([
            Column::whole("plan"),
            Column::whole("gateway"),
            Column::text("packets"),
            Column::text("because"),
            Column::text("line"),
        ])
        .titled("differences");
        for row in &self.differences {
            differences.row([
                Cell::action(row.before.as_str()),
                Cell::action(row.after.as_str()),
                Cell::from(&row.packets.short),
                Cell::from(row.because.words.clone()),
                Cell::toned(row.line.as_str(), Tone::Faint),
            ]);
        }
        let mut not_understood =
            Table::new([Column::text("where"), Column::text("what")]).titled("not understood");
        for row in &self.not_understood {
            not_understood.row([Cell::from(&row.at), Cell::from(&row.what)]);
        }
        let all = [differences, findings, not_understood];
        all.into_iter().filter(|table| !table.rows.is_empty()).collect()
    }
}

/// The names of lines in a sentence, and whether it is only one. A rule may be on several lines.
fn named(lines: &[ForeignLine], places: &[usize]) -> (String, bool) {
    let mut names: Vec<&str> = Vec::new();
    for name in places.iter().map(|place| lines[*place].bare.id.as_str()) {
        if !names.contains(&name) {
            names.push(name);
        }
    }
    let says = match names.len() {
        0 => "the lines above".to_owned(),
        1..=3 => names.join(", "),
        more => format!("{} and {} more", names[..2].join(", "), more - 2),
    };
    (says, names.len() == 1)
}

/// The packets of all lines that are not understood: what becomes of them is not known.
fn unsure(foreign: &Foreign) -> PacketSet {
    let unsure = foreign.lines.iter().filter(|line| !line.sure);
    unsure.flat_map(|line| &line.bare.matches).cloned().collect()
}
