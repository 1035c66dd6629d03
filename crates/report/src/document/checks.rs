//! The evidence that the plan holds (rules, proof, findings, checks), what has changed, and what to do when something
//! fails.

use super::words::GLOSSARY;
use super::{Block, Builder, Grid, Inline, Listed, Section, count};
use crate::sheets::{Because, CheckRow, RuleRow, changed_grid, rule_grid, tried_grid};
use crate::walk::{ResultRow, State};
use crate::{Column, domains, unseen};
use bastium_gateway::nftables::tag;
use std::collections::HashMap;

/// So many differences between gateway and plan are written out.
const MOST_DIFFERENCES: usize = 20;

impl Builder<'_> {
    /// The rules, for the engineer.
    pub(super) fn rules(&self) -> Option<Section> {
        if !self.is_for_engineer() {
            return None;
        }
        let sheet = &self.rule_sheet;
        let begin = format!(
            "{} in the form {}; in each list the first rule that fits decides.",
            count(sheet.count(), "rule"),
            sheet.form
        );
        let mut blocks = vec![Block::Text(begin.into())];
        blocks.extend(self.sources.running.iter().flat_map(|listed| self.listed(listed)));
        let zones: Vec<String> =
            self.sources.meaning.plan().zones().iter().map(|zone| zone.name.to_string()).collect();
        let picture = rule_grid(&zones, &self.cells).picture();
        blocks.push(Block::Picture { id: "picture-rules".to_owned(), picture });
        let checks = self.checks_by_rule();
        for list in sheet.lists.iter().filter(|list| !list.rules.is_empty()) {
            let caption = format!("{}: {}; the rest: {}", list.name, list.about, list.otherwise);
            let headings = ["no", "action", "source", "destination", "service", "for", "checks"];
            let columns = headings.into_iter().map(|heading| match heading {
                "no" => Column::numbers(heading),
                _ => Column::text(heading),
            });
            let counted = self.sources.running.as_ref().map(|_| Column::numbers("packets"));
            let mut grid = Grid::new(caption, columns.chain(counted));
            for rule in &list.rules {
                grid.row(Some(format!("rule-{}", rule.number)), self.rule_cells(rule, &checks));
            }
            blocks.push(Block::Grid(grid));
        }
        Some(Section { id: "rules", title: "Rules", blocks })
    }

    fn rule_cells(&self, rule: &RuleRow, checks: &HashMap<u32, Vec<usize>>) -> Vec<Inline> {
        let log = if rule.log { ", logged" } else { "" };
        let hours = rule.hours.as_ref().map_or(String::new(), |hours| format!(", hours {hours}"));
        let made = checks.get(&rule.number).into_iter().flatten();
        let made = made
            .map(|number| Inline::default().link(number.to_string(), format!("check-{number}")));
        let mut cells = vec![
            rule.number.to_string().into(),
            format!("{}{log}", rule.action).into(),
            rule.source.clone().into(),
            rule.destination.clone().into(),
            format!("{}{hours}", rule.service).into(),
            self.entries(rule),
            Inline::list(made),
        ];
        if let Some(listed) = &self.sources.running {
            let packets = listed.packets.get(&tag(&rule.id));
            cells.push(packets.map_or("no line".to_owned(), u64::to_string).into());
        }
        cells
    }

    /// What the column of packets is worth: how far the gateway ran these rules.
    fn listed(&self, listed: &Listed) -> Vec<Block> {
        let rules = self.rule_sheet.lists.iter().flat_map(|list| &list.rules);
        let missing = rules.filter(|rule| !listed.packets.contains_key(&tag(&rule.id))).count();
        let missing = match missing {
            0 => String::new(),
            1 => " 1 rule has no line there.".to_owned(),
            many => format!(" {many} rules have no line there."),
        };
        let unseen = unseen(&domains(self.sources.meaning.plan()));
        let unseen = unseen.map(|says| format!(" {says}")).unwrap_or_default();
        let many = listed.differences.len();
        if many == 0 {
            let says = "Packets are what the lines with the names of these rules have counted on the gateway. When it \
                        was listed, it did what the plan says, for every packet.";
            return vec![Block::Text(format!("{says}{unseen}{missing}").into())];
        }
        let says = format!(
            " Packets are what its lines with the names of these rules have counted, whatever those lines do.{missing}"
        );
        let begin = Inline::default()
            .strong("The gateway was not shown to do what the plan says.")
            .then(says);
        let shown = listed.differences.iter().take(MOST_DIFFERENCES).cloned().map(Inline::from);
        let more = many.saturating_sub(MOST_DIFFERENCES);
        let more = (more > 0).then(|| format!("and {more} more: `bastium audit` has all").into());
        vec![Block::Text(begin), Block::List(shown.chain(more).collect())]
    }

    /// The entries of the plan that a rule is there for, with links to those that the report shows; else what it is.
    fn entries(&self, rule: &RuleRow) -> Inline {
        let entries = std::iter::once(&rule.because).chain(&rule.also);
        let links = Inline::list(entries.filter_map(|because| self.entry_link(because)));
        if links.is_empty() { rule.name.clone().into() } else { links }
    }

    fn entry_link(&self, because: &Because) -> Option<Inline> {
        let name = because.name.clone();
        match because.kind {
            "exception" | "offered" => {
                Some(Inline::default().link(name.clone(), format!("exception-{name}")))
            }
            "cell" => name.split_once('>').map(|(from, to)| match self.has_cell_row(from, to) {
                true => {
                    Inline::default().link(format!("{from} to {to}"), format!("cell-{from}.{to}"))
                }
                false => format!("{from} to {to}").into(),
            }),
            "manage" => Some(Inline::default().link("management", "management")),
            _ => None,
        }
    }

    /// Whether a cell has a row of its own in the section about the matrix.
    fn has_cell_row(&self, from: &str, to: &str) -> bool {
        let plan = self.sources.meaning.plan();
        let (Some(from), Some(to)) = (plan.zone_named(from), plan.zone_named(to)) else {
            return false;
        };
        let cell = plan.matrix().cell(from, to);
        cell.action.is_some_and(|action| action.word() == "allow")
    }

    /// The checks of the list, numbered from 1 in its order.
    fn numbered(&self) -> impl Iterator<Item = (usize, &str, &CheckRow)> {
        let stands = self.sources.checklist.stands.iter();
        let rows = stands
            .flat_map(|stand| stand.checks.iter().map(move |check| (stand.place.as_str(), check)));
        rows.enumerate().map(|(index, (place, check))| (index + 1, place, check))
    }

    fn checks_by_rule(&self) -> HashMap<u32, Vec<usize>> {
        let mut by_rule: HashMap<u32, Vec<usize>> = HashMap::new();
        for (number, _, check) in self.numbered() {
            if let Some(rule) = check.rule {
                by_rule.entry(rule).or_default().push(number);
            }
        }
        by_rule
    }

    pub(super) fn proof(&self) -> Section {
        let proof = &self.sources.proof;
        let mut lines: Vec<Inline> = Vec::new();
        lines.push(match proof.equal {
            true => format!(
                "{} the plan for every packet: {}.",
                match proof.rules {
                    1 => "1 rule matches".to_owned(),
                    rules => format!("{rules} rules match"),
                },
                proof.packets
            )
            .into(),
            false => {
                let found = proof.counterexample.as_ref().map(|found| found.says.clone());
                Inline::default()
                    .strong("The rules do not match the plan")
                    .then(found.map_or(String::new(), |says| format!(": {says}")))
            }
        });
        if proof.replies_come_back() {
            lines.push("Replies to what is allowed pass, too.".into());
        }
        lines.extend(
            proof.refused.iter().map(|why| format!("Not possible in this form: {why}.").into()),
        );
        let mut blocks = vec![Block::List(lines)];
        if !proof.guarantees.is_empty() {
            let mut grid =
                Grid::new("Guarantees", ["guarantee", "name", "holds"].map(Column::text));
            for row in &proof.guarantees {
                let holds = match row.holds {
                    true => Inline::from("for every packet"),
                    false => Inline::default()
                        .strong("NO")
                        .then(row.about().map_or(String::new(), |about| format!(": {about}"))),
                };
                grid.row(None, [row.kind.into(), row.name.clone().into(), holds]);
            }
            blocks.push(Block::Grid(grid));
        }
        let assumptions = proof.assumptions.iter().map(|one| Inline::from(one.clone()));
        let assumptions: Vec<Inline> = assumptions.chain(["The proof covers the gateway only: not switches that mix networks, not devices with two \
                     network cards, and not traffic inside one network.".into()]).collect();
        blocks.push(Block::Heading("Assumptions".to_owned()));
        blocks.push(Block::List(assumptions));
        Section { id: "proof", title: "Proof", blocks }
    }

    /// Findings that are kept, with the reason; open ones for the engineer.
    pub(super) fn findings(&self) -> Option<Section> {
        let plan = self.sources.meaning.plan();
        let mut kept = Grid::new("Kept, with the reason", ["finding", "why"].map(Column::text));
        for known in plan.known() {
            kept.row(None, [known.finding.clone().into(), known.reason.clone().into()]);
        }
        let mut open = Grid::new(
            "Open",
            ["finding", "severity", "what it says", "line", "what to do"].map(Column::text),
        );
        for finding in self.sources.findings.findings.iter().filter(|finding| !finding.known) {
            let line = finding.line.map_or(String::new(), |line| line.to_string());
            let values = [finding.name, finding.severity, &finding.says, &line, &finding.help];
            open.row(None, values.map(Inline::from));
        }
        let open = Some(open).filter(|_| self.is_for_engineer());
        let grids = std::iter::once(kept).chain(open).filter(|grid| !grid.rows.is_empty());
        let blocks: Vec<Block> = grids.map(Block::Grid).collect();
        (!blocks.is_empty()).then_some(Section { id: "findings", title: "Findings", blocks })
    }

    pub(super) fn checks(&self) -> Section {
        let list = &self.sources.checklist;
        let begin =
            format!("{} at {}.", count(list.count(), "check"), count(list.points, "test point"));
        let mut blocks = vec![Block::Text(begin.into())];
        let picture = tried_grid(list).picture();
        blocks.push(Block::Picture { id: "picture-checks".to_owned(), picture });
        let results: HashMap<&str, &ResultRow> = (self.sources.walk.iter())
            .flat_map(|walk| &walk.results)
            .map(|row| (row.id.as_str(), row))
            .collect();
        let headings = ["no", "from", "check", "expected", "result", "rule"];
        let columns = headings.map(|heading| match heading {
            "no" | "rule" => Column::numbers(heading),
            _ => Column::text(heading),
        });
        let mut grid = Grid::new("Checks", columns);
        for (number, place, check) in self.numbered() {
            if !self.is_for_engineer() && check.id.contains("manage") {
                continue;
            }
            let rule = check.rule.map(|rule| match self.is_for_engineer() {
                true => Inline::default().link(rule.to_string(), format!("rule-{rule}")),
                false => Inline::default(),
            });
            grid.row(
                Some(format!("check-{number}")),
                [
                    number.to_string().into(),
                    place.into(),
                    check.says.clone().into(),
                    check.expect.into(),
                    self.outcome(results.get(check.id.as_str()).copied()),
                    rule.unwrap_or_default(),
                ],
            );
        }
        blocks.push(Block::Grid(grid));
        let not_tried: Vec<Inline> = list
            .not_tried
            .iter()
            .map(|row| Inline::from(format!("{}: {}", row.what, row.why)))
            .collect();
        if !not_tried.is_empty() {
            blocks.push(Block::Heading("Not tried by this list".to_owned()));
            blocks.push(Block::List(not_tried));
        }
        blocks.push(Block::Heading("Sign-off".to_owned()));
        let lines = [
            "Checked by, on",
            "What failed, and how it was mended",
            "What was not tried",
            "Accepted by, on",
        ];
        blocks.push(Block::Blanks(lines.map(str::to_owned).to_vec()));
        Section { id: "checks", title: "Checks and sign-off", blocks }
    }

    pub(super) fn failing(&self) -> Section {
        let mut blocks = Vec::new();
        let failed = self.sources.walk.iter().flat_map(|walk| &walk.results);
        let failed = failed.filter(|row| {
            row.outcome == State::Fail && (self.is_for_engineer() || !row.id.contains("manage"))
        });
        let mut grid = Grid::new(
            "Failed checks, and where to look first",
            ["check", "from", "what came back", "look at"].map(Column::text),
        );
        for row in failed {
            let if_not = row.if_not.clone().filter(|_| self.is_for_engineer());
            grid.row(
                None,
                [
                    row.says.clone().into(),
                    row.place.clone().into(),
                    row.seen.clone().unwrap_or_default().into(),
                    if_not.unwrap_or_default().into(),
                ],
            );
        }
        if !grid.rows.is_empty() {
            blocks.push(Block::Grid(grid));
        }
        let client = [
            "Note which device it is, where it is plugged in or which Wi-Fi name it uses, and the time.",
            "Try the same from a device beside it. If that works, the fault is in the device or its cable.",
            "If nothing in the building reaches the internet, look whether gateway and switch have power, \
             and call the internet provider.",
            "Do not change cables at the gateway or the switch: which port carries what is part of the plan.",
            "Call whoever looks after the network, with the number of the check that is about it.",
        ];
        let engineer = [
            "`bastium ask FROM TO SERVICE` says what the plan decides, and which entry decides it.",
            "`bastium blocked LOG` says what the gateway's log has blocked, by which rule.",
            "`bastium audit FILE` and `bastium verify HOST` compare what the gateway runs with the plan.",
            "`bastium walk --retest` makes the failed checks again.",
            "`bastium load --status` shows a load that waits for its confirmation, and `--return ID` takes it back.",
        ];
        let lines = if self.is_for_engineer() { engineer } else { client };
        blocks.push(Block::List(lines.map(Inline::from).to_vec()));
        Section { id: "failing", title: "When something fails", blocks }
    }

    /// What has changed since the last report.
    pub(super) fn changes(&self) -> Option<Section> {
        let since = self.sources.since.as_ref()?;
        let begin = match (since.is_empty(), since.beside_words()) {
            (true, None) if !since.settings.is_empty() => {
                format!(
                    "Neither traffic nor rules have changed since {}; settings have.",
                    since.old
                )
            }
            (true, None) => {
                format!(
                    "Neither traffic, rules, addresses nor ports have changed since {}.",
                    since.old
                )
            }
            (true, Some(beside)) => {
                format!(
                    "Neither traffic nor rules have changed since {}; {beside} have.",
                    since.old
                )
            }
            (false, _) => format!("From {} to {}.", since.old, since.new),
        };
        let mut blocks = vec![Block::Text(begin.into())];
        let grid = changed_grid(self.sources.meaning.plan(), since);
        // What is about the gateway itself is in no cell.
        if grid.cells.iter().any(Option::is_some) {
            let id = "picture-changes".to_owned();
            blocks.push(Block::Picture { id, picture: grid.picture() });
        }
        let tables = since.tables().into_iter().filter(|table| !table.rows.is_empty());
        let tables = tables
            .filter(|table| self.is_for_engineer() || table.title.as_deref() != Some("rules"));
        blocks.extend(tables.filter_map(|mut table| {
            // Who may speak to the gateway is the engineer's business.
            let to = table.columns.iter().position(|column| column.heading == "to");
            if let Some(to) = to.filter(|_| !self.is_for_engineer()) {
                table.rows.retain(|row| row[to].text != "gateway");
            }
            (!table.rows.is_empty()).then(|| Block::Grid(table.into()))
        }));
        Some(Section { id: "changes", title: "Changes since the last report", blocks })
    }

    /// What came of a check, in words.
    fn outcome(&self, row: Option<&ResultRow>) -> Inline {
        let Some(row) = row else { return "not made".into() };
        let day = row.at.as_deref().and_then(|at| self.day_of(at));
        let by = row.by.as_deref().map_or(String::new(), |by| format!(", {by}"));
        let made = day.map_or(String::new(), |day| format!(" ({day}{by})"));
        match row.outcome {
            State::Fail => {
                let seen = row.seen.as_deref().map_or(String::new(), |seen| format!(": {seen}"));
                Inline::default().strong("FAILED").then(format!("{seen}{made}"))
            }
            State::Open => "not made".into(),
            other => format!("{}{made}", other.word()).into(),
        }
    }

    pub(super) fn glossary(&self) -> Section {
        let mut grid = Grid::new("Words", ["word", "what it means"].map(Column::text));
        for (word, meaning) in GLOSSARY {
            grid.row(None, [Inline::default().strong(word), meaning.into()]);
        }
        Section { id: "glossary", title: "Glossary", blocks: vec![Block::Grid(grid)] }
    }
}
