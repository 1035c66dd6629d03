//! CSV (RFC 4180): one table, or several of the same columns with their titles in front.

use crate::{Cell, Table};
use bastium_gateway::clean;

/// Writes tables as one CSV text. Where there are several, their titles become a first column named
/// `title`. A cell that a spreadsheet would take for a formula is given an apostrophe in front.
///
/// # Panics
/// Never: writing to memory cannot fail.
pub fn csv(tables: &[Table], title: &str) -> String {
    let mut writer = ::csv::WriterBuilder::new().flexible(true).from_writer(Vec::new());
    let titled = tables.iter().any(|table| table.title.is_some());
    let mut head: Option<Vec<String>> = None;
    for table in tables {
        let mut columns: Vec<String> = titled.then(|| title.to_owned()).into_iter().collect();
        columns.extend(table.columns.iter().map(|column| safe(&column.heading)));
        if head.as_ref() != Some(&columns) {
            writer.write_record(&columns).expect("memory takes all that is written");
            head = Some(columns);
        }
        for row in &table.rows {
            let first = titled.then(|| safe(table.title.as_deref().unwrap_or_default()));
            let cells = first.into_iter().chain(row.iter().map(|Cell { text, .. }| safe(text)));
            writer.write_record(cells).expect("memory takes all that is written");
        }
    }
    let bytes = writer.into_inner().expect("memory takes all that is written");
    String::from_utf8_lossy(&bytes).into_owned()
}

/// A cell of CSV: without control characters, and never a formula. A spreadsheet would execute what begins with `=`,
/// `+`, `-` or `@`; such a cell gets an apostrophe in front.
///
/// ```
/// assert_eq!(bastium_report::safe("desks"), "desks");
/// assert_eq!(bastium_report::safe("=HYPERLINK(\"http://192.0.2.1\")"), "'=HYPERLINK(\"http://192.0.2.1\")");
/// ```
pub fn safe(text: &str) -> String {
    let text = clean(text);
    let formula = text.starts_with(['=', '+', '-', '@']) && text.len() > 1;
    if formula { format!("'{text}") } else { text.into_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Column;

    #[test]
    fn no_cell_is_a_formula_and_no_text_breaks_out() {
        let mut table = Table::new([Column::text("name"), Column::text("why")]);
        table.row(["=1+1".into(), "a \"quoted\", text\nnext".into()]);
        table.row(["@SUM(A1)".into(), "-".into()]);
        assert_eq!(
            csv(&[table], "list"),
            "name,why\n'=1+1,\"a \"\"quoted\"\", text\\u{a}next\"\n'@SUM(A1),-\n"
        );
    }

    #[test]
    fn several_tables_carry_their_titles() {
        let mut one = Table::new([Column::text("rule")]).titled("through");
        one.row(["a".into()]);
        let mut two = Table::new([Column::text("rule")]).titled("to-gateway");
        two.row(["b".into()]);
        assert_eq!(csv(&[one, two], "list"), "list,rule\nthrough,a\nto-gateway,b\n");
    }
}
