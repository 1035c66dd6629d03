//! What the screen shows of one state of the plan.

use bastium_core::findings;
use bastium_core::meaning::Meaning;
use bastium_core::rules::RuleSet;
use bastium_gateway::clean;
use bastium_picture::SiteNode;
use bastium_report::count;
use bastium_report::sheets::{CellRow, CellRule, FindingSheet, MatrixSheet, site_tree};

/// Everything about one plan that the screen can show, in words.
pub(super) struct Snapshot {
    /// The site's name, the day, and how much is in it.
    pub(super) title: String,
    /// The zones, in the matrix's order.
    pub(super) zones: Vec<String>,
    /// The cells, row by row, each with the rules that decide it.
    pub(super) cells: Vec<(CellRow, Vec<CellRule>)>,
    /// The exceptions.
    pub(super) exceptions: Vec<Entry>,
    /// What `check` finds.
    pub(super) findings: Vec<Entry>,
    /// What hangs on what, a line each.
    pub(super) site: Vec<Entry>,
}

/// A row of a list, with what is shown below it.
#[derive(Clone, Debug, Default)]
pub(super) struct Entry {
    /// What it is called.
    pub(super) name: String,
    /// What stands behind that.
    pub(super) says: String,
    /// More about it, a paragraph each.
    pub(super) more: Vec<String>,
    /// How far it is indented.
    pub(super) depth: usize,
    /// Whether it counts today.
    pub(super) counts: bool,
}

impl Snapshot {
    /// Takes everything from a plan.
    pub(super) fn new(meaning: &Meaning<'_>, rules: &RuleSet) -> Self {
        let plan = meaning.plan();
        let site = clean(&plan.site().name).into_owned();
        let found = findings::find_with(meaning, rules);
        let findings = FindingSheet::new(plan.source(), &found);
        let entry = |finding: &bastium_report::sheets::Finding| Entry {
            name: finding.name.to_owned(),
            says: clean(&finding.says).into_owned(),
            more: vec![
                format!("{}{}", finding.severity, if finding.known { ", kept" } else { "" }),
                finding.line.map_or(String::new(), |line| format!("line {line}")),
                format!("why: {}", clean(&finding.why)),
                format!("help: {}", clean(&finding.help)),
            ],
            depth: 0,
            counts: !finding.known,
        };
        let findings: Vec<Entry> = findings.findings.iter().map(entry).collect();
        let open = findings.iter().filter(|finding| finding.counts).count();
        let mut tree = Vec::new();
        lines(&site_tree(plan).root, 0, &mut tree);
        Self {
            title: format!("{site}, {}: {}", meaning.day(), count(open, "open finding")),
            zones: plan.zones().iter().map(|zone| zone.name.to_string()).collect(),
            cells: MatrixSheet::every(meaning, rules),
            exceptions: exceptions(meaning),
            findings,
            site: tree,
        }
    }

    /// The cell of a row and a column.
    pub(super) fn cell(&self, row: usize, column: usize) -> Option<&(CellRow, Vec<CellRule>)> {
        self.cells.get(row * self.zones.len() + column)
    }
}

fn exceptions(meaning: &Meaning<'_>) -> Vec<Entry> {
    let plan = meaning.plan();
    let active = meaning.precedence().active();
    let entry = |(index, exception): (usize, &bastium_core::plan::Exception)| {
        let counts = active.iter().any(|id| id.index() == index);
        let hours = exception.hours.as_ref().map(|hours| format!("hours {}", hours.name));
        let until = exception.until.map(|until| format!("until {until}"));
        let off = exception.off.then(|| "switched off".to_owned());
        let owner = exception.owner.as_ref().map(|owner| format!("owner: {owner}"));
        let ticket = exception.ticket.as_ref().map(|ticket| format!("ticket: {ticket}"));
        let line = Some(format!("{} on line {}", exception.table(), plan.line(exception.at)));
        let more = [Some(exception.why.clone()), hours, until, off, owner, ticket, line];
        Entry {
            name: exception.name.to_string(),
            says: clean(&format!(
                "{} {} to {}: {}",
                exception.action.word(),
                exception.from.text,
                exception.to.text,
                exception.service.text
            ))
            .into_owned(),
            more: more.into_iter().flatten().map(|line| clean(&line).into_owned()).collect(),
            depth: 0,
            counts,
        }
    };
    plan.exceptions().iter().enumerate().map(entry).collect()
}

/// A node of the site and everything on it, a line each.
fn lines(node: &SiteNode, depth: usize, into: &mut Vec<Entry>) {
    let says: Vec<&str> = std::iter::once(node.aside.as_str())
        .chain(node.lines.iter().map(String::as_str))
        .filter(|line| !line.is_empty())
        .collect();
    into.push(Entry {
        name: node.title.clone(),
        says: says.join("; "),
        more: node.cable.clone(),
        depth,
        counts: true,
    });
    node.children.iter().for_each(|child| lines(child, depth + 1, into));
}
