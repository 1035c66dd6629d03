//! The same document as Markdown. Pictures are described in words, since Markdown cannot contain them.

use super::{Block, Card, Document, Grid, Inline, Section};
use crate::markdown::safe;

/// Writes a report as Markdown.
pub fn markdown(document: &Document) -> String {
    let mut text = format!("# {}\n\n{}\n\n", safe(&document.title), safe(&document.about));
    for section in &document.sections {
        text.push_str(&format!("- [{}](#{})\n", section.title, section.id));
    }
    document.sections.iter().for_each(|section| write_section(&mut text, section));
    text
}

fn write_section(text: &mut String, section: &Section) {
    text.push_str(&format!("\n<a id=\"{}\"></a>\n\n## {}\n", section.id, section.title));
    for block in &section.blocks {
        text.push('\n');
        match block {
            Block::Heading(heading) => text.push_str(&format!("### {}\n", safe(heading))),
            Block::Text(inline) => text.push_str(&format!("{}\n", spans(inline))),
            Block::List(items) => {
                items.iter().for_each(|item| text.push_str(&format!("- {}\n", spans(item))));
            }
            Block::Cards(cards) => cards.iter().for_each(|card| write_card(text, card)),
            Block::Grid(grid) => write_grid(text, grid),
            Block::Picture { id, picture } => text.push_str(&format!(
                "<a id=\"{id}\"></a>\n\n**{}.** {}\n",
                safe(&picture.title),
                safe(&picture.description)
            )),
            Block::Blanks(lines) => {
                lines.iter().for_each(|line| text.push_str(&format!("- {}: \n", safe(line))));
            }
        }
    }
}

fn write_card(text: &mut String, card: &Card) {
    text.push_str(&format!("<a id=\"{}\"></a>\n\n#### {}\n\n", card.id, safe(&card.title)));
    for (heading, inline) in &card.facts {
        text.push_str(&format!("- {}: {}\n", safe(heading), spans(inline)));
    }
    text.push('\n');
}

fn write_grid(text: &mut String, grid: &Grid) {
    if !grid.caption.is_empty() {
        text.push_str(&format!("**{}**\n\n", safe(&grid.caption)));
    }
    let mut line = |cells: Vec<String>| text.push_str(&format!("| {} |\n", cells.join(" | ")));
    line(grid.columns.iter().map(|column| safe(&column.heading)).collect());
    let ruler = |numbers: bool| if numbers { "---:" } else { "---" }.to_owned();
    line(grid.columns.iter().map(|column| ruler(column.numbers)).collect());
    for row in &grid.rows {
        let anchor = row.id.as_ref().map_or(String::new(), |id| format!("<a id=\"{id}\"></a>"));
        let cells = row.cells.iter().enumerate();
        line(
            cells
                .map(|(index, cell)| match index {
                    0 => format!("{anchor}{}", spans(cell)),
                    _ => spans(cell),
                })
                .collect(),
        );
    }
}

fn spans(inline: &Inline) -> String {
    let spans = inline.0.iter().map(|span| match (&span.to, span.strong) {
        (Some(to), _) => format!("[{}](#{to})", safe(&span.text)),
        (None, true) if !span.text.is_empty() => format!("**{}**", safe(&span.text)),
        (None, _) => safe(&span.text),
    });
    spans.collect()
}
