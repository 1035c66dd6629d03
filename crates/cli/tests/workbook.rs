//! Workbooks: what they hold, and how they lie on paper.

mod common;

use calamine::{Data, Reader, Xlsx, open_workbook};
use common::{Bench, DAY, Run, demo};
use std::collections::HashMap;
use std::io::Write;
use std::process::{Command, Stdio};

fn export(bench: &Bench, plan: &str, words: &str) -> Run {
    bench.run(&format!("export {words} --plan {plan} --day {DAY}"))
}

#[test]
fn a_workbook_holds_what_the_tables_hold() {
    let bench = Bench::new();
    let run = export(&bench, "clinic.toml", "xlsx --to clinic.xlsx");
    assert_eq!((run.code, run.out.as_str()), (0, ""), "{}", run.err);
    let mut book: Xlsx<_> = open_workbook(bench.file("clinic.xlsx")).expect("a workbook");
    assert_eq!(
        book.sheet_names(),
        ["addresses", "groups", "services", "ports", "matrix", "rules", "worksheet", "checklist"]
    );
    for sheet in ["addresses", "matrix", "rules", "checklist"] {
        let csv = export(&bench, "clinic.toml", &format!("csv --sheet {sheet}")).out;
        let mut reader =
            csv::ReaderBuilder::new().has_headers(false).flexible(true).from_reader(csv.as_bytes());
        let expected: Vec<Vec<String>> = reader
            .records()
            .map(|record| record.expect("a row").iter().map(str::to_owned).collect())
            .collect();
        let range = book.worksheet_range(sheet).expect("a sheet");
        let rows: Vec<Vec<String>> = range
            .rows()
            .map(|row| row.iter().map(text).collect::<Vec<_>>())
            .filter(|row| row.iter().any(|cell| !cell.is_empty()))
            .collect();
        let wide = expected[0].len() > 8 && sheet != "matrix";
        let rows = if wide { unfolded(rows) } else { rows };
        assert_eq!(rows.len(), expected.len(), "{sheet}");
        for (row, wanted) in rows.iter().zip(&expected) {
            // CSV marks what a spreadsheet would take for a formula; a workbook need not.
            let wanted = wanted.iter().zip(&expected[0]);
            // Of the checklist it has the commands of one system.
            let wanted =
                wanted.filter(|(_, heading)| !["macOS", "Windows"].contains(&heading.as_str()));
            let wanted: Vec<&str> = wanted.map(|(cell, _)| cell.trim_start_matches('\'')).collect();
            // Rows of the sheet are as long as its longest one.
            let row = row.iter().map(String::as_str).chain(std::iter::repeat(""));
            let row: Vec<&str> = row.take(wanted.len()).collect();
            assert_eq!(row, wanted, "{sheet}");
        }
    }
    let sheets = book.sheet_names();
    let formulas = sheets
        .iter()
        .map(|sheet| book.worksheet_formula(sheet).map_or(0, |range| range.used_cells().count()));
    assert_eq!(formulas.sum::<usize>(), 0);
}

/// Rows of a table that is wider than a page: what does not fit stands below the second column.
fn unfolded(rows: Vec<Vec<String>>) -> Vec<Vec<String>> {
    let mut all: Vec<Vec<String>> = Vec::new();
    for row in rows {
        match all.last_mut().filter(|_| row[0].is_empty()) {
            Some(last) => last.extend(row.into_iter().skip(1)),
            None => all.push(row),
        }
    }
    all
}

fn text(cell: &Data) -> String {
    match cell {
        Data::Float(number) => number.to_string(),
        other => other.to_string(),
    }
}

/// Boxes are ticked from a list, and the file says what it is.
#[test]
fn a_workbook_has_boxes_to_tick_a_title_and_an_author() {
    let bench = Bench::new();
    export(&bench, "bare.toml", "xlsx --to bare.xlsx");
    let parts = unzipped(&std::fs::read(bench.file("bare.xlsx")).expect("a file"));
    let ticked = parts.values().filter(|part| part.contains("\"[ ],[x]\"")).count();
    assert_eq!(ticked, 2, "the worksheet and the checklist have boxes");
    let about = &parts["docProps/core.xml"];
    assert!(about.contains("<dc:title>Two networks</dc:title>"), "{about}");
    assert!(about.contains("<dc:creator>Bastium</dc:creator>"), "{about}");
    let strings = &parts["xl/sharedStrings.xml"];
    assert!(!strings.contains("Test-NetConnection"), "it has commands of other systems");
}

/// On top of a printed page an ampersand begins an instruction; in a site's name it is only itself.
#[test]
fn a_site_with_an_ampersand_keeps_its_name_on_paper() {
    let bench = Bench::new();
    let name = format!("Farm & Sons &P {}", "x".repeat(200));
    let plan = demo("bare.toml").replacen("Two networks", &name, 1);
    assert!(plan.contains(&name));
    bench.write("bare.toml", plan);
    let run = export(&bench, "bare.toml", "xlsx --to bare.xlsx");
    assert_eq!(run.code, 0, "{}", run.err);
    let parts = unzipped(&std::fs::read(bench.file("bare.xlsx")).expect("a file"));
    let sheet = &parts["xl/worksheets/sheet1.xml"];
    assert!(sheet.contains("&amp;LFarm &amp;&amp; Sons &amp;&amp;P x"), "{sheet}");
}

#[test]
fn a_workbook_has_tables_filters_and_headings_that_stay() {
    let bench = Bench::new();
    export(&bench, "bare.toml", "xlsx --to bare.xlsx");
    let bytes = std::fs::read(bench.file("bare.xlsx")).expect("a file");
    let parts = unzipped(&bytes);
    let tables: Vec<&String> = parts.keys().filter(|name| name.starts_with("xl/tables/")).collect();
    assert!(!tables.is_empty(), "{tables:?}");
    for name in tables {
        assert!(parts[name].contains("<autoFilter"), "{name}");
    }
    let sheets = parts.iter().filter(|(name, _)| name.starts_with("xl/worksheets/sheet"));
    for (name, sheet) in sheets {
        assert!(sheet.contains("state=\"frozen\""), "{name}");
        // No row is wider than what a page shows in letters that can be read, the matrix apart.
        let widest = sheet.matches("<col ").count();
        assert!(widest <= 8 || name.ends_with("sheet3.xml"), "{name}: {widest}");
        // Printed, it is as wide as a page.
        assert!(sheet.contains("orientation=\"landscape\""), "{name}");
        assert!(sheet.contains("fitToHeight=\"0\""), "{name}");
    }
    let book = &parts["xl/workbook.xml"];
    // The worksheet has many tables, each with headings of its own.
    assert_eq!(book.matches("_xlnm.Print_Titles").count(), 5, "headings on every page");
    assert!(parts["xl/styles.xml"].contains("FFD9EAD3"), "allowed cells are coloured");
}

/// The parts of a workbook by their names, unpacked by python where that is here.
fn unzipped(bytes: &[u8]) -> HashMap<String, String> {
    let code = "import sys,io,json,zipfile\nz=zipfile.ZipFile(io.BytesIO(sys.stdin.buffer.read()))\n\
                print(json.dumps({n:z.read(n).decode() for n in z.namelist()}))";
    let child = Command::new("python3")
        .args(["-c", code])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn();
    let mut child = child.expect("python3 is installed by the test script");
    child.stdin.take().expect("a pipe").write_all(bytes).expect("it reads");
    let done = child.wait_with_output().expect("it ends");
    serde_json::from_slice(&done.stdout).expect("JSON")
}
