//! Tables that somebody hands in: workbooks that ask for more memory than there is, and text without end.

mod common;

use common::{Bench, Run};
use proptest::prelude::*;
use std::io::{Cursor, Write};
use zip::write::SimpleFileOptions;

const SHEETS: &str = "http://schemas.openxmlformats.org/spreadsheetml/2006/main";
const LINKS: &str = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";

/// A workbook with these rows in its sheet, these shared strings, and perhaps one part more.
fn workbook(rows: &str, strings: &str, more: Option<(&str, &[u8])>) -> Vec<u8> {
    let mut archive = zip::ZipWriter::new(Cursor::new(Vec::new()));
    let types = "<Types xmlns=\"http://schemas.openxmlformats.org/package/2006/content-types\"/>";
    let package = "http://schemas.openxmlformats.org/package/2006/relationships";
    let root = format!(
        "<Relationships xmlns=\"{package}\"><Relationship Id=\"rId1\" Type=\"{LINKS}/officeDocument\" Target=\"xl/workbook.xml\"/></Relationships>"
    );
    let book = format!(
        "<workbook xmlns=\"{SHEETS}\" xmlns:r=\"{LINKS}\"><sheets><sheet name=\"one\" sheetId=\"1\" r:id=\"rId1\"/></sheets></workbook>"
    );
    let links = format!(
        "<Relationships xmlns=\"{package}\"><Relationship Id=\"rId1\" Type=\"{LINKS}/worksheet\" Target=\"worksheets/sheet1.xml\"/>\
         <Relationship Id=\"rId2\" Type=\"{LINKS}/sharedStrings\" Target=\"sharedStrings.xml\"/></Relationships>"
    );
    let sheet = format!("<worksheet xmlns=\"{SHEETS}\"><sheetData>{rows}</sheetData></worksheet>");
    let parts = [
        ("[Content_Types].xml", types.as_bytes()),
        ("_rels/.rels", root.as_bytes()),
        ("xl/workbook.xml", book.as_bytes()),
        ("xl/_rels/workbook.xml.rels", links.as_bytes()),
        ("xl/worksheets/sheet1.xml", sheet.as_bytes()),
        ("xl/sharedStrings.xml", strings.as_bytes()),
    ];
    for (name, text) in parts.into_iter().chain(more) {
        archive.start_file(name, SimpleFileOptions::default()).expect("a part");
        archive.write_all(text).expect("room for it");
    }
    archive.finish().expect("an archive").into_inner()
}

fn text(cell: &str, words: &str) -> String {
    format!("<c r=\"{cell}\" t=\"inlineStr\"><is><t>{words}</t></is></c>")
}

fn head() -> String {
    let names = ["name", "network", "address"];
    let cells = ["A1", "B1", "C1"].iter().zip(names).map(|(cell, name)| text(cell, name));
    format!("<row r=\"1\">{}</row>", cells.collect::<String>())
}

fn row(number: usize) -> String {
    let cells = [
        ("A", format!("device-{number}")),
        ("B", "desks".to_owned()),
        ("C", format!("10.44.24.{number}")),
    ];
    let cells = cells.map(|(column, words)| text(&format!("{column}{number}"), &words));
    format!("<row r=\"{number}\">{}</row>", cells.concat())
}

fn strings(count: &str) -> String {
    format!("<sst xmlns=\"{SHEETS}\" uniqueCount=\"{count}\"><si><t>x</t></si></sst>")
}

/// Adds the hosts of a workbook, in an address space of 1.5 GB: what asks for more ends at once.
fn add(bench: &Bench, book: &[u8]) -> (i32, String) {
    bench.write("made.xlsx", book);
    let program = env!("CARGO_BIN_EXE_bastium");
    let run = std::process::Command::new("sh")
        .args(["-c", "ulimit -v 1500000; exec \"$0\" \"$@\"", program])
        .args(["add", "host", "--table", "made.xlsx", "--plan", "bare.toml", "--dry-run"])
        .current_dir(bench.path())
        .output()
        .expect("it runs");
    let said =
        format!("{}{}", String::from_utf8_lossy(&run.stdout), String::from_utf8_lossy(&run.stderr));
    (run.status.code().unwrap_or(-1), said)
}

#[test]
fn a_workbook_takes_no_more_room_than_it_needs() {
    let bench = Bench::new();
    let (code, said) = add(&bench, &workbook(&(head() + &row(2)), &strings("1"), None));
    assert!(code == 0 && said.contains("device-2"), "{said}");
    // A cell far away without anything in it takes no room.
    let far = head() + &row(2) + "<row r=\"1048576\"><c r=\"XFD1048576\"/></row>";
    let (code, said) = add(&bench, &workbook(&far, &strings("1"), None));
    assert!(code == 0 && said.contains("device-2"), "{said}");
    let zeros = vec![b' '; 80 << 20];
    let stray = |cell: &str, number: &str| {
        format!("{}{}<row r=\"{number}\">{}</row>", head(), row(2), text(cell, "x"))
    };
    for (what, book, says) in [
        (
            "a stray cell",
            workbook(&stray("XFD1048576", "1048576"), &strings("1"), None),
            "column 16384",
        ),
        ("beyond the sheet", workbook(&stray("XFE1048577", "3"), &strings("1"), None), "no place"),
        (
            "far beyond",
            workbook(&stray("ZZZZZZZZZZ99999999999999999999", "3"), &strings("1"), None),
            "no place",
        ),
        (
            "a row beyond",
            workbook(&stray("A3", "99999999999999999999"), &strings("1"), None),
            "no place",
        ),
        ("promised strings", workbook(&head(), &strings("13000000000"), None), "no room"),
        (
            "a part that unpacks",
            workbook(&head(), &strings("1"), Some(("xl/more.bin", &zeros))),
            "64 MiB",
        ),
        (
            "a stray cell behind what is not well formed",
            workbook(
                &format!("<x></y>{}", stray("ZZZZZZZ9999999999999", "3")),
                &strings("1"),
                None,
            ),
            "no place",
        ),
        (
            "a cell whose place is not written as one",
            workbook(
                &(head() + "<row r=3><c r=ZZZZZZZ99999999999><v>1</v></c></row>"),
                &strings("1"),
                None,
            ),
            "attribute",
        ),
        ("nothing", workbook("", &strings("0"), None), "nothing in it"),
    ] {
        let (code, said) = add(&bench, &book);
        assert_eq!(code, 2, "{what}: {said}");
        assert!(said.contains(says) && said.contains("help: "), "{what}: {said}");
        assert!(!said.contains("panicked"), "{what}: {said}");
    }
    // A good workbook that is cut off, or has a byte changed, ends with an exit code.
    let whole = workbook(&(head() + &row(2)), &strings("1"), None);
    for place in (0..whole.len()).step_by(37) {
        let (code, said) = add(&bench, &whole[..place]);
        assert!((0..=2).contains(&code), "{place}: {said}");
        let mut other = whole.clone();
        other[place] ^= 0x55;
        let (code, said) = add(&bench, &other);
        assert!((0..=2).contains(&code), "{place}: {said}");
    }
}

/// Rows beyond what is looked at are no part of an answer that says nothing of them.
#[test]
fn a_table_that_is_too_long_is_refused_and_not_cut() {
    let bench = Bench::new();
    let long: String = (0..20_002).map(|number| format!("device-{number},desks\n")).collect();
    bench.write("long.csv", format!("name,network\n{long}"));
    let run = bench.run("add host --table long.csv --plan bare.toml --dry-run");
    assert!(run.code == 2 && run.err.contains("more than 20000 rows"), "{}", run.err);
    bench.write("wide.csv", format!("name,network\nx,desks{}\n", ",".repeat(5_000)));
    let run = bench.run("add host --table wide.csv --plan bare.toml --dry-run");
    assert!(run.code == 2 && run.err.contains("more than 1000 cells"), "{}", run.err);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    /// Of rows that clash, those stay that would have stayed had each been added by itself, one after the other.
    #[test]
    fn a_table_adds_what_its_rows_would_add_one_by_one(
        rows in prop::collection::vec((0usize..7, 0usize..4, 0usize..7, 0usize..4), 1..14),
    ) {
        let together = Bench::new();
        let apart = Bench::new();
        let mut table = "name,network,address\n".to_owned();
        let mut added = Vec::new();
        for (number, (name, network, address, kind)) in rows.iter().enumerate() {
            // Some names are taken, some networks unknown, some addresses outside, some lists of two.
            let name = ["reception", "a", "b", "c", "d", "e", "f"][*name];
            let network = ["desks", "guests", "tills", "nowhere"][*network];
            let first = format!("10.44.24.{}", 30 + address);
            let address = match kind {
                0 => format!("{first}, 10.44.24.{}", 31 + address),
                1 => format!("10.44.80.{}", 30 + address),
                _ => first,
            };
            table += &format!("{name},{network},\"{address}\"\n");
            let mut command = apart.command();
            command.args(["add", "host", name, &format!("network={network}"), &format!("address={address}")]);
            if Run::of(command.args(["--plan", "clinic.toml"])).code == 0 {
                added.push(number + 2);
            }
        }
        std::fs::write(together.file("hosts.csv"), table).expect("a table");
        let run = together.run("add host --table hosts.csv --plan clinic.toml");
        let left_out = (2..rows.len() + 2).filter(|row| run.err.contains(&format!("row {row}: ")));
        let stayed: Vec<usize> =
            (2..rows.len() + 2).filter(|row| !left_out.clone().any(|other| other == *row)).collect();
        prop_assert_eq!(&stayed, &added, "{}", run.err);
        prop_assert_eq!(run.code, i32::from(added.len() < rows.len()));
        let text = |bench: &Bench| std::fs::read_to_string(bench.file("clinic.toml")).expect("a plan");
        prop_assert_eq!(text(&together), text(&apart));
    }
}
