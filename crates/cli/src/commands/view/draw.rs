//! How the screen looks. Nothing depends on colour: the selection is reversed, and a blocked cell is a dot.

use super::snapshot::{Entry, Snapshot};
use super::state::{Areas, Mode, Pane, Ui};
use crate::show::table::columns;
use bastium_report::count;
use bastium_report::sheets::{CellRow, CellRule};
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Position, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Borders, Clear, Paragraph, Wrap};
use std::ops::Range;

/// Below this, nothing can be read.
const SMALLEST: (u16, u16) = (60, 15);
/// From this width on the matrix has what decides a cell beside it; else below.
const SIDE_BY_SIDE: u16 = 118;

const STRONG: Style = Style::new().add_modifier(Modifier::BOLD);
const FAINT: Style = Style::new().add_modifier(Modifier::DIM);
const SELECTED: Style = Style::new().add_modifier(Modifier::REVERSED);

/// Draws everything.
pub(super) fn draw(frame: &mut Frame<'_>, snapshot: &Snapshot, ui: &mut Ui) {
    let all = frame.area();
    if all.width < SMALLEST.0 || all.height < SMALLEST.1 {
        let says = format!(
            "{} by {} is too small; {} by {} is needed",
            all.width, all.height, SMALLEST.0, SMALLEST.1
        );
        frame.render_widget(Paragraph::new(says).wrap(Wrap { trim: true }), all);
        return;
    }
    let rows = [
        Constraint::Length(1),
        Constraint::Length(2),
        Constraint::Min(5),
        Constraint::Length(1),
        Constraint::Length(1),
    ];
    let [title, tabs, body, says, prompt] = Layout::vertical(rows).areas(all);
    ui.areas = Areas { tabs, ..Areas::default() };
    frame.render_widget(Line::styled(snapshot.title.as_str(), STRONG), title);
    frame.render_widget(Paragraph::new(tab_line(snapshot, ui)), tabs);
    match &ui.mode {
        Mode::Help => help(frame, body),
        Mode::Preview(proposal) => {
            let lines = preview_lines(proposal);
            paged(frame, body, lines, ui.scrolled);
        }
        _ => pane(frame, body, snapshot, ui),
    }
    let message = match &ui.trouble {
        Some(trouble) => Line::styled(trouble.as_str(), coloured(STRONG, Color::Red, ui)),
        None => Line::styled(ui.says.as_str(), STRONG),
    };
    frame.render_widget(message, says);
    prompt_line(frame, prompt, ui);
}

fn tab_line<'s>(snapshot: &Snapshot, ui: &Ui) -> Line<'s> {
    let one = |pane: Pane| {
        let style = if pane == ui.pane { SELECTED } else { Style::new() };
        Span::styled(pane.heading(snapshot), style)
    };
    Line::from(Pane::ALL.map(one).to_vec())
}

fn pane(frame: &mut Frame<'_>, body: Rect, snapshot: &Snapshot, ui: &mut Ui) {
    let asking = matches!(ui.mode, Mode::Ask(_));
    let (main, beside) = match ui.pane {
        Pane::Matrix if body.width >= SIDE_BY_SIDE => {
            let [main, beside] =
                Layout::horizontal([Constraint::Fill(3), Constraint::Fill(2)]).areas(body);
            (main, beside)
        }
        Pane::Matrix => {
            let grid = columns(snapshot.zones.len()).saturating_add(2);
            let grid = grid.min(body.height.saturating_sub(6));
            let [main, beside] =
                Layout::vertical([Constraint::Length(grid), Constraint::Fill(1)]).areas(body);
            (main, beside)
        }
        _ => {
            let [main, beside] =
                Layout::vertical([Constraint::Fill(1), Constraint::Length(9.min(body.height / 2))])
                    .areas(body);
            (main, beside)
        }
    };
    match ui.pane {
        Pane::Matrix => matrix(frame, main, snapshot, ui),
        pane => list(frame, main, Ui::list(pane, snapshot), ui),
    }
    let lines = match (asking, ui.pane) {
        (true, _) => ui.answer.iter().map(|line| Line::from(line.clone())).collect(),
        (false, Pane::Matrix) => cell_lines(snapshot, ui.cell),
        (false, pane) => entry_lines(Ui::list(pane, snapshot).get(ui.row())),
    };
    let border = if beside.x > 0 { Borders::LEFT } else { Borders::TOP };
    let block = Block::new().borders(border).border_style(FAINT);
    let inner = block.inner(beside);
    frame.render_widget(block, beside);
    paged(frame, inner, lines, ui.scrolled);
}

/// Lines that are wrapped, from a row on.
fn paged(frame: &mut Frame<'_>, area: Rect, lines: Vec<Line<'_>>, from: u16) {
    frame.render_widget(Paragraph::new(lines).wrap(Wrap { trim: false }).scroll((from, 0)), area);
}

fn matrix(frame: &mut Frame<'_>, area: Rect, snapshot: &Snapshot, ui: &mut Ui) {
    let zones = snapshot.zones.len();
    let names = snapshot.zones.iter().map(|name| name.chars().count()).max().unwrap_or(0);
    let head = columns(names + 4).min(area.width / 3);
    let room = area.width.saturating_sub(head);
    let width = (room / columns(zones.max(1))).clamp(4, 11);
    let across = window(ui.cell.1, zones, usize::from(room / width));
    let rows = window(ui.cell.0, zones, usize::from(area.height.saturating_sub(1)));
    ui.areas.cells =
        Rect::new(area.x + head, area.y + 1, width * columns(across.len()), columns(rows.len()));
    (ui.areas.cell_width, ui.areas.first) = (width, (rows.start, across.start));
    let heading = across.clone().map(|column| {
        let style = if column == ui.cell.1 { STRONG } else { FAINT };
        Span::styled(fitted(&column_name(snapshot, column, width), width), style)
    });
    let corner = Span::raw(fitted("", head));
    let mut lines = vec![Line::from_iter(std::iter::once(corner).chain(heading))];
    for row in rows {
        let style = if row == ui.cell.0 { STRONG } else { Style::new() };
        let name =
            Span::styled(fitted(&format!("{:>2} {}", row + 1, snapshot.zones[row]), head), style);
        let cells = across.clone().map(|column| {
            let cell = snapshot.cell(row, column).map(|(cell, _)| cell);
            let (text, style) =
                cell.map_or((String::new(), Style::new()), |cell| mark(cell, width, ui));
            let selected = (row, column) == ui.cell;
            Span::styled(fitted(&text, width), if selected { style.patch(SELECTED) } else { style })
        });
        lines.push(Line::from_iter(std::iter::once(name).chain(cells)));
    }
    frame.render_widget(Paragraph::new(lines), area);
}

/// The zone of a column by name, where the names of all fit; else its number, which its row has, too.
fn column_name(snapshot: &Snapshot, column: usize, width: u16) -> String {
    let fits = |name: &String| name.chars().count() < usize::from(width);
    match snapshot.zones.iter().all(fits) {
        true => snapshot.zones[column].clone(),
        false => (column + 1).to_string(),
    }
}

/// A style with a colour, if there is colour.
fn coloured(style: Style, colour: Color, ui: &Ui) -> Style {
    if ui.colour { style.fg(colour) } else { style }
}

/// A cell in a word or a letter, with the number of its exceptions.
fn mark(cell: &CellRow, width: u16, ui: &Ui) -> (String, Style) {
    let exceptions = match cell.exceptions.len() {
        0 => String::new(),
        count => format!("*{count}"),
    };
    let (word, letter, style) = match cell.action {
        "allow" => ("allow", "A", coloured(STRONG, Color::Green, ui)),
        "reject" => ("reject", "R", Style::new()),
        "block" => (".", ".", if cell.exceptions.is_empty() { FAINT } else { Style::new() }),
        _ => ("-", "-", FAINT),
    };
    let whole = format!("{word}{exceptions}");
    let fits = whole.chars().count() < usize::from(width);
    (if fits { whole } else { format!("{letter}{exceptions}") }, style)
}

/// A text in so many columns, cut or filled up; one is left free.
fn fitted(text: &str, width: u16) -> String {
    let width = usize::from(width);
    let cut: String = text.chars().take(width.saturating_sub(1)).collect();
    format!("{cut:<width$}")
}

/// So many of a list that the selected one is among them.
fn window(selected: usize, all: usize, room: usize) -> Range<usize> {
    let room = room.max(1).min(all);
    let start = selected.saturating_sub(room.saturating_sub(1)).min(all - room);
    start..start + room
}

fn cell_lines(snapshot: &Snapshot, (row, column): (usize, usize)) -> Vec<Line<'static>> {
    let Some((cell, rules)) = snapshot.cell(row, column) else { return Vec::new() };
    let log = if cell.log { ", logged" } else { "" };
    let title = format!("{} to {}: {}{log} (line {})", cell.from, cell.to, cell.action, cell.line);
    let mut lines = vec![Line::styled(title, STRONG)];
    if rules.is_empty() {
        lines.push(Line::from("No traffic is possible in that direction."));
        return lines;
    }
    lines.push(Line::styled(
        format!("{}; the first one that fits decides", count(rules.len(), "rule")),
        FAINT,
    ));
    for rule in rules {
        lines.extend(rule_lines(rule));
    }
    lines
}

fn rule_lines(rule: &CellRule) -> [Line<'static>; 2] {
    let number = if rule.number == 0 { "-".to_owned() } else { rule.number.to_string() };
    let log = if rule.log { " +log" } else { "" };
    let first = Line::from(vec![
        Span::styled(format!("{number:>4} {}{log} ", rule.action), STRONG),
        Span::raw(format!("{} to {}: {}", rule.source, rule.destination, rule.service)),
    ]);
    let line = rule.because.line.map_or(String::new(), |line| format!(" (line {line})"));
    [first, Line::styled(format!("     {}{line}", rule.reason), FAINT)]
}

fn list(frame: &mut Frame<'_>, area: Rect, entries: &[Entry], ui: &mut Ui) {
    if entries.is_empty() {
        frame.render_widget(Line::styled("None.", FAINT), area);
        return;
    }
    let rows = window(ui.row(), entries.len(), usize::from(area.height));
    (ui.areas.list, ui.areas.first_row) = (area, rows.start);
    let wide = entries.iter().map(|entry| entry.name.chars().count() + 2 * entry.depth).max();
    let wide = wide.unwrap_or(0).min(usize::from(area.width) / 2);
    let line = |row: usize| {
        let entry = &entries[row];
        let name = format!("{}{}", "  ".repeat(entry.depth), entry.name);
        let name = name.chars().take(wide).collect::<String>();
        let style = if entry.counts { Style::new() } else { FAINT };
        let text = format!("{name:<wide$}  {}", entry.says);
        let text: String = text.chars().take(usize::from(area.width)).collect();
        Line::styled(text, if row == ui.row() { style.patch(SELECTED) } else { style })
    };
    frame.render_widget(Paragraph::new(rows.map(line).collect::<Vec<_>>()), area);
}

fn entry_lines(entry: Option<&Entry>) -> Vec<Line<'static>> {
    let Some(entry) = entry else { return Vec::new() };
    let mut lines = vec![Line::styled(format!("{}  {}", entry.name, entry.says), STRONG)];
    let more = entry.more.iter().filter(|line| !line.is_empty());
    lines.extend(more.map(|line| Line::from(line.clone())));
    lines
}

/// What a change would do: openings first, and none left out.
fn preview_lines(proposal: &super::edits::Proposal) -> Vec<Line<'static>> {
    let mut lines = vec![Line::styled(proposal.line.clone(), STRONG)];
    let parts =
        [("opens", &proposal.opens), ("closes", &proposal.closes), ("changes", &proposal.others)];
    for (what, rows) in parts {
        if !rows.is_empty() {
            lines.push(Line::from(""));
            lines.push(Line::styled(format!("It {what}:"), STRONG));
            lines.extend(rows.iter().map(|row| Line::from(format!("  {row}"))));
        }
    }
    if parts.iter().all(|(_, rows)| rows.is_empty()) {
        lines.push(Line::from("It changes no traffic."));
    }
    lines.push(Line::from(""));
    lines.push(Line::styled("In the file:", STRONG));
    lines.extend(proposal.lines.iter().map(|row| Line::from(format!("  {row}"))));
    lines
}

fn help(frame: &mut Frame<'_>, area: Rect) {
    let keys = [
        ("arrows, h j k l", "move the selection; Home and End go to the ends"),
        ("1 2 3 4, Tab", "matrix, exceptions, findings, site"),
        ("Page Up, Page Down", "scroll what is shown about the selection"),
        ("a", "ask: FROM TO SERVICE, answered as you type"),
        ("/", "search everything; Enter goes to the next one"),
        ("e, Enter", "change the selection; first see what that opens"),
        ("c", "any change, in the words of add, set, remove and rename"),
        ("u", "undo the last change"),
        ("mouse", "click a cell, a row or a heading; the wheel scrolls"),
        ("q, Esc", "leave"),
        ("in the matrix", "A allow, R reject, . block, - no traffic; *2: two exceptions"),
    ];
    let line = |(key, does): &(&str, &str)| {
        Line::from(vec![Span::styled(format!("{key:<20}"), STRONG), Span::raw((*does).to_owned())])
    };
    frame.render_widget(Clear, area);
    frame.render_widget(Paragraph::new(keys.iter().map(line).collect::<Vec<_>>()), area);
}

fn prompt_line(frame: &mut Frame<'_>, area: Rect, ui: &Ui) {
    let (label, input) = match &ui.mode {
        Mode::Ask(input) => ("ask: ", input),
        Mode::Search(input) => ("search: ", input),
        Mode::Change(input) => ("change: ", input),
        other => {
            let hint = match other {
                Mode::Preview(_) => "y save   n cancel   e edit   arrows scroll",
                Mode::Help => "any key goes back",
                _ => "? keys   a ask   / search   e change   u undo   q leave",
            };
            frame.render_widget(Line::styled(hint, FAINT), area);
            return;
        }
    };
    let text = input.text();
    let room = usize::from(area.width).saturating_sub(label.len() + 1);
    let skipped = input.cursor().saturating_sub(room);
    let shown: String = text.chars().skip(skipped).take(room).collect();
    frame.render_widget(Line::from(vec![Span::styled(label, STRONG), Span::raw(shown)]), area);
    let column = area.x.saturating_add(columns(label.len() + input.cursor() - skipped));
    frame.set_cursor_position(Position::new(column.min(area.right().saturating_sub(1)), area.y));
}
