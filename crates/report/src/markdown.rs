//! Markdown tables.

use crate::Table;
use bastium_gateway::clean;

/// Writes tables as Markdown, each under its title.
pub fn markdown(tables: &[Table]) -> String {
    let mut text = String::new();
    for table in tables {
        if !text.is_empty() {
            text.push('\n');
        }
        if let Some(title) = &table.title {
            text.push_str(&format!("## {}\n\n", safe(title)));
        }
        let headings = table.columns.iter().map(|column| safe(&column.heading));
        line(&mut text, headings);
        let rulers =
            table.columns.iter().map(|c| if c.numbers { "---:" } else { "---" }.to_owned());
        line(&mut text, rulers);
        for row in &table.rows {
            line(&mut text, row.iter().map(|cell| safe(&cell.text)));
        }
    }
    text
}

fn line(text: &mut String, cells: impl Iterator<Item = String>) {
    text.push('|');
    for cell in cells {
        text.push_str(&format!(" {cell} |"));
    }
    text.push('\n');
}

/// Text that stays text: nothing in it is a mark of Markdown or of HTML.
pub(crate) fn safe(text: &str) -> String {
    let mut safe = String::with_capacity(text.len());
    for c in clean(text).chars() {
        match c {
            '&' => safe.push_str("&amp;"),
            '<' => safe.push_str("&lt;"),
            '>' => safe.push_str("&gt;"),
            '|' | '\\' | '`' | '*' | '_' | '[' | ']' | '#' | '~' => {
                safe.push('\\');
                safe.push(c);
            }
            '!' => safe.push_str("\\!"),
            _ => safe.push(c),
        }
    }
    safe
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Column;

    #[test]
    fn text_cannot_leave_its_cell_or_become_a_mark() {
        let mut table = Table::new([Column::text("why"), Column::numbers("n")]).titled("A *b*");
        table.row(["a | b <img src=x> [c](d) `e`".into(), 5.into()]);
        assert_eq!(
            markdown(&[table]),
            "## A \\*b\\*\n\n| why | n |\n| --- | ---: |\n\
             | a \\| b &lt;img src=x&gt; \\[c\\](d) \\`e\\` | 5 |\n"
        );
    }
}
