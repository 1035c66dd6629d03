//! Sheets of this program that somebody has changed: whatever a row says, it is read, or it is named.

mod common;

use common::Bench;
use serde_json::Value;
use std::io::{Cursor, Write};
use zip::write::SimpleFileOptions;

/// A sheet of a plan's, as rows of cells.
struct Sheet {
    bench: Bench,
    plan: &'static str,
    rows: Vec<Vec<String>>,
}

impl Sheet {
    fn of(command: &str, plan: &'static str) -> Self {
        let bench = Bench::new();
        let run = bench.run(&format!("{command} --plan {plan} --format csv"));
        assert_eq!(run.code, 0, "{}", run.err);
        let mut reader = csv::ReaderBuilder::new();
        let mut reader = reader.has_headers(false).flexible(true).from_reader(run.out.as_bytes());
        let rows =
            reader.records().map(|row| row.expect("a row").iter().map(str::to_owned).collect());
        Self { bench, plan, rows: rows.collect() }
    }

    /// The row in which a cell is this, and the headings above it.
    fn row(&self, cell: &str) -> (usize, Vec<String>) {
        let place = self.rows.iter().position(|row| row.iter().any(|one| one == cell));
        let place = place.unwrap_or_else(|| panic!("{cell}"));
        let is_head = |row: &&Vec<String>| ["list", "step"].contains(&row[0].as_str());
        let head = self.rows[..place].iter().rev().find(is_head).expect("headings");
        (place, head.clone())
    }

    /// What the audit says of these rows.
    fn audited(&self, rows: &[Vec<String>]) -> (i32, Value) {
        let mut writer = csv::WriterBuilder::new().flexible(true).from_writer(Vec::new());
        rows.iter().for_each(|row| writer.write_record(row).expect("a row"));
        let text = String::from_utf8(writer.into_inner().expect("rows")).expect("text");
        self.bench.write("changed.csv", text);
        let run = self.bench.run(&format!("audit changed.csv --plan {} --format json", self.plan));
        (run.code, serde_json::from_str(&run.out).expect("JSON"))
    }

    /// What is said where one cell of the row that has another cell is changed.
    fn changed(&self, row: &str, column: &str, to: &str) -> (i32, Value) {
        let (place, head) = self.row(row);
        let cell = head.iter().position(|one| one == column).expect("a column");
        let mut rows = self.rows.clone();
        assert_ne!(rows[place][cell], to, "{row}");
        to.clone_into(&mut rows[place][cell]);
        self.audited(&rows)
    }

    fn is_not_understood(&self, row: &str, column: &str, to: &str, says: &str) {
        let (code, sheet) = self.changed(row, column, to);
        let all = sheet["not_understood"].as_array().expect("a list");
        let named =
            all.iter().any(|one| one["what"].as_str().is_some_and(|what| what.contains(says)));
        assert!(code == 1 && named, "{row}, {column} `{to}`: {code} {all:?}");
    }

    fn is_as_planned(&self, row: &str, column: &str, to: &str) {
        let (code, sheet) = self.changed(row, column, to);
        assert!(code == 0 && sheet["agrees"] == true, "{row}, {column} `{to}`: {sheet:#}");
    }
}

#[test]
fn words_and_values_of_a_row_may_not_say_two_things() {
    let rules = Sheet::of("rules", "farm.toml");
    assert_eq!(rules.audited(&rules.rows).0, 0);
    let cell = "cell.family>internet";
    rules.is_not_understood(cell, "from", "any", "from `any`, with source addresses");
    rules.is_not_understood(cell, "service", "https", "service `https`, with ports `any`");
    rules.is_not_understood(cell, "to", "any", "to `any`, with destination addresses `internet`");
    // What is not the plan's cannot say `any` once.
    let (place, head) = rules.row(cell);
    let at = |column: &str| head.iter().position(|one| one == column).expect("a column");
    let mut rows = rules.rows.clone();
    rows[place][at("id")] = "mine".to_owned();
    rows[place][at("service")] = "https".to_owned();
    let (code, sheet) = rules.audited(&rows);
    assert!(
        code == 1 && sheet["not_understood"].to_string().contains("service `https`"),
        "{sheet:#}"
    );
}

/// What the gateway does by itself stands in the table, and nobody can enter anything there.
#[test]
fn rows_of_what_a_gateway_does_by_itself_are_those_of_the_plan() {
    let rules = Sheet::of("rules --form ranked", "bare.toml");
    assert_eq!(rules.audited(&rules.rows).0, 0);
    let place = rules.rows.iter().position(|row| row[0] == "by-rank").expect("a rule by rank");
    let head = &rules.rows[0];
    let at = |column: &str| head.iter().position(|one| one == column).expect("a column");
    for (column, to) in
        [("action", "block +log"), ("ports", "tcp/443"), ("from", "any"), ("id", "mine")]
    {
        let mut rows = rules.rows.clone();
        assert_ne!(rows[place][at(column)], to);
        to.clone_into(&mut rows[place][at(column)]);
        let (code, sheet) = rules.audited(&rows);
        assert!(
            code == 1 && sheet["not_understood"] != serde_json::json!([]),
            "{column}: {sheet:#}"
        );
    }
    let mut more = rules.rows.clone();
    let mut row = more[1].clone();
    "by-rank".clone_into(&mut row[0]);
    more.push(row);
    let (code, sheet) = rules.audited(&more);
    let unread = sheet["not_understood"].to_string();
    assert!(code == 1 && unread.contains("the list `by-rank`"), "{unread}");
    let mut noted = rules.rows.clone();
    "as the vet wants it".clone_into(&mut noted[place][at("reason")]);
    assert_eq!(rules.audited(&noted).0, 0);
}

#[test]
fn a_zone_may_be_given_by_its_interfaces() {
    let rules = Sheet::of("rules", "farm.toml");
    let (place, head) = rules.row("cell.family>internet");
    let at = |column: &str| head.iter().position(|one| one == column).expect("a column");
    let mut rows = rules.rows.clone();
    rows[place][at("id")] = "mine".to_owned();
    assert_eq!(rules.audited(&rows).1["not_understood"], serde_json::json!([]));
    rows[place][at("interfaces")].clear();
    let (code, sheet) = rules.audited(&rows);
    let unread = sheet["not_understood"].to_string();
    assert!(code == 1 && unread.contains("from `family`, with source addresses `any`"), "{unread}");
}

#[test]
fn a_row_for_several_interfaces_says_nothing_else() {
    let rules = Sheet::of("rules", "farm.toml");
    for (column, to) in [
        ("service", "https"),
        ("ports", "tcp/1"),
        ("when", "Mo-Fr 08:00-18:00"),
        ("from", "any"),
        ("to", "internet"),
        ("destination addresses", "10.61.10.0/24"),
        ("interfaces", "office, office"),
    ] {
        rules.is_not_understood("spoofed", column, to, &format!("{column} `{to}`"));
    }
}

#[test]
fn replies_come_from_everywhere_at_any_hour() {
    let rules = Sheet::of("rules", "farm.toml");
    let worksheet = Sheet::of("worksheet", "farm.toml");
    for (column, to) in [
        ("when", "Mo-Fr 08:00-18:00"),
        ("when", "at most 3 Mbit/s"),
        ("interfaces", "office"),
        ("source addresses", "10.61.10.0/24"),
        ("destination addresses", ""),
    ] {
        rules.is_not_understood("reply", column, to, &format!("{column} `{to}`"));
    }
    for (column, to) in
        [("when", "at most 3 Mbit/s"), ("at", "office"), ("source", "office"), ("destination", "")]
    {
        worksheet.is_not_understood("reply", column, to, &format!("{column} `{to}`"));
    }
}

#[test]
fn an_empty_cell_is_neither_all_nor_nothing() {
    let rules = Sheet::of("rules", "farm.toml");
    // The last rule does what happens without it: any cell of it could be nothing, and nothing would be wrong.
    for column in ["ports", "source addresses", "destination addresses"] {
        rules.is_not_understood("unmatched@through", column, "", &format!("{column} ``"));
    }
    let worksheet = Sheet::of("worksheet", "farm.toml");
    for column in ["at", "source", "destination", "service"] {
        worksheet.is_not_understood("unmatched-through", column, "", &format!("{column} ``"));
    }
    worksheet.is_not_understood(
        "private-addresses",
        "values",
        "",
        "destination `private-addresses`",
    );
}

#[test]
fn a_name_for_two_things_stands_for_none() {
    let worksheet = Sheet::of("worksheet", "farm.toml");
    let (place, head) = worksheet.row("private-addresses");
    let values = head.iter().position(|one| one == "values").expect("a column");
    let mut rows = worksheet.rows.clone();
    rows.insert(place, rows[place].clone());
    assert_eq!(worksheet.audited(&rows).0, 0, "twice the same is no harm");
    rows[place][values] = "10.61.10.0/24".to_owned();
    let (code, sheet) = worksheet.audited(&rows);
    let unread = sheet["not_understood"].to_string();
    assert!(code == 1 && unread.contains("destination `private-addresses`"), "{unread}");
}

#[test]
fn what_no_packet_shows_is_held_against_the_plan_too() {
    let worksheet = Sheet::of("worksheet", "farm.toml");
    let zone = "the time zone, which is Europe/Dublin in the plan";
    worksheet.is_not_understood("time zone", "value", "Europe/Paris", zone);
    worksheet.is_not_understood("time zone", "name", "zone", zone);
    let names = "the domain names of `weather-map`, which are readings.example.net in the plan";
    let domain = "readings.example.net";
    worksheet.is_not_understood(domain, "domain names", "readings.example.org", names);
    worksheet.is_not_understood(domain, "domain names", "readings.example.net, example.org", names);
    worksheet.is_not_understood(domain, "name", "weather", names);
    worksheet.is_as_planned("time zone", "done", "[x]");
    // Without the rows.
    for cell in [domain, "time zone"] {
        let (place, _) = worksheet.row(cell);
        let mut rows = worksheet.rows.clone();
        rows.remove(place);
        let (code, sheet) = worksheet.audited(&rows);
        let said = sheet["not_understood"].to_string();
        assert!(code == 1 && (said.contains(names) || said.contains(zone)), "{sheet:#}");
    }
}

#[test]
fn rates_are_held_against_the_plan() {
    for command in ["rules", "worksheet"] {
        let sheet = Sheet::of(command, "farm.toml");
        let cell = if command == "rules" { "cell.family>internet" } else { "cell.family-internet" };
        let (code, says) = sheet.changed(cell, "when", "at most 3 Mbit/s");
        let row = &says["differences"][0];
        assert_eq!((code, row["aspect"].as_str()), (1, Some("limit")), "{says:#}");
        assert_eq!(row["after"], "no faster than 375000 bytes a second");
        assert_eq!(row["before"], "as fast as it likes");
        // Nobody knows what becomes of blocked packets above a rate.
        let last = if command == "rules" { "unmatched@through" } else { "unmatched-through" };
        sheet.is_not_understood(last, "when", "at most 3 Mbit/s", "when `at most 3 Mbit/s`");
    }
    // And where the plan has one, that it is gone, or another.
    for command in ["rules", "worksheet"] {
        let sheet = Sheet::of(command, "clinic.toml");
        let is_limited = |cell: &&String| cell.contains("at most 50 Mbit/s");
        let limited = sheet.rows.iter().flatten().find(is_limited).expect("a limit").clone();
        for (to, after) in [
            (String::new(), "as fast as it likes"),
            (limited.replace("50", "60"), "no faster than 7500000 bytes a second"),
        ] {
            let (code, says) = sheet.changed(&limited, "when", &to);
            let rows = says["differences"].as_array().expect("a list");
            let all = rows.iter().all(|row| row["aspect"] == "limit" && row["after"] == after);
            assert!(code == 1 && all && !rows.is_empty(), "{says:#}");
            assert_eq!(rows[0]["before"], "no faster than 6250000 bytes a second");
        }
    }
}

#[test]
fn rows_and_columns_that_nobody_reads_are_named() {
    let rules = Sheet::of("rules", "farm.toml");
    let (place, _) = rules.row("cell.family>internet");
    let with = |heading: &str, cell: &str| {
        let mut rows = rules.rows.clone();
        rows[0].push(heading.to_owned());
        rows[place].push(cell.to_owned());
        rules.audited(&rows)
    };
    for (heading, cell) in
        [("enabled", "no"), ("schedule", "nights"), ("", "nights"), ("when", "at most 3 Mbit/s")]
    {
        let (code, sheet) = with(heading, cell);
        assert!(code == 1 && sheet["not_understood"].to_string().contains(cell), "{sheet:#}");
    }
    assert_eq!(with("comment", "entered by the vet").0, 0);
    let worksheet = Sheet::of("worksheet", "farm.toml");
    let (row, _) = worksheet.row("cell.family-internet");
    let mut rows = worksheet.rows.clone();
    let heads = rows.iter_mut().filter(|head| head.contains(&"action".to_owned()));
    heads.for_each(|head| head.push("enabled".to_owned()));
    rows[row].push("no".to_owned());
    let (code, sheet) = worksheet.audited(&rows);
    assert!(code == 1 && sheet["not_understood"].to_string().contains("enabled"), "{sheet:#}");
    // A rule above the headings, or below others.
    let mut above = rules.rows.clone();
    above.swap(0, 1);
    let (code, sheet) = rules.audited(&above);
    assert!(code == 1 && sheet["not_understood"].to_string().contains("below other headings"));
    let mut below = rules.rows.clone();
    let mut strange = below[0].clone();
    strange[1] = "number".to_owned();
    strange.retain(|heading| heading != "ports");
    below.push(strange);
    below.push(rules.rows[place].clone());
    let (code, sheet) = rules.audited(&below);
    assert!(code == 1 && sheet["not_understood"].to_string().contains("below other headings"));
}

#[test]
fn what_says_the_same_passes() {
    let rules = Sheet::of("rules", "farm.toml");
    rules.is_as_planned("cell.family>internet", "reason", "the vet asked for it");
    rules.is_as_planned("cell.family>internet", "name", "people out");
    let worksheet = Sheet::of("worksheet", "farm.toml");
    worksheet.is_as_planned("cell.family-internet", "done", "[x]");
}

/// A workbook with these sheets.
fn workbook(sheets: &[(&str, Vec<Vec<String>>)]) -> Vec<u8> {
    const MAIN: &str = "http://schemas.openxmlformats.org/spreadsheetml/2006/main";
    const LINKS: &str = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";
    const PACKAGE: &str = "http://schemas.openxmlformats.org/package/2006/relationships";
    let link = |id: &str, kind: &str, target: &str| {
        format!("<Relationship Id=\"{id}\" Type=\"{LINKS}/{kind}\" Target=\"{target}\"/>")
    };
    let links = |all: String| format!("<Relationships xmlns=\"{PACKAGE}\">{all}</Relationships>");
    let (mut book, mut targets) = (String::new(), String::new());
    let mut archive = zip::ZipWriter::new(Cursor::new(Vec::new()));
    let mut part = |name: &str, text: String| {
        archive.start_file(name, SimpleFileOptions::default()).expect("a part");
        archive.write_all(text.as_bytes()).expect("room for it");
    };
    part("_rels/.rels", links(link("r0", "officeDocument", "xl/workbook.xml")));
    for (number, (name, rows)) in (1..).zip(sheets) {
        let row = |row: &Vec<String>| {
            let cells = row.iter().map(|cell| {
                let cell = cell.replace('&', "&amp;").replace('<', "&lt;");
                format!("<c t=\"inlineStr\"><is><t xml:space=\"preserve\">{cell}</t></is></c>")
            });
            format!("<row>{}</row>", cells.collect::<String>())
        };
        let rows: String = rows.iter().map(row).collect();
        let text = format!("<worksheet xmlns=\"{MAIN}\"><sheetData>{rows}</sheetData></worksheet>");
        part(&format!("xl/worksheets/sheet{number}.xml"), text);
        book += &format!("<sheet name=\"{name}\" sheetId=\"{number}\" r:id=\"r{number}\"/>");
        targets +=
            &link(&format!("r{number}"), "worksheet", &format!("worksheets/sheet{number}.xml"));
    }
    part("xl/_rels/workbook.xml.rels", links(targets));
    part(
        "xl/workbook.xml",
        format!(
            "<workbook xmlns=\"{MAIN}\" xmlns:r=\"{LINKS}\"><sheets>{book}</sheets></workbook>"
        ),
    );
    archive.finish().expect("an archive").into_inner()
}

/// A workbook may have its rules twice: whoever changes the one and not the other has changed the workbook.
#[test]
fn both_sheets_of_a_workbook_are_read() {
    let rules = Sheet::of("rules", "farm.toml");
    let worksheet = Sheet::of("worksheet", "farm.toml");
    let bench = Bench::new();
    let audited = |sheets: &[(&str, &Vec<Vec<String>>)]| {
        let sheets: Vec<_> = sheets.iter().map(|(name, rows)| (*name, (*rows).clone())).collect();
        std::fs::write(bench.file("site.xlsx"), workbook(&sheets)).expect("a file");
        let run = bench.run("audit site.xlsx --plan farm.toml --format json");
        let sheet: Value = serde_json::from_str(&run.out).expect("JSON");
        (run.code, sheet["not_understood"].to_string())
    };
    let notes = vec![vec!["ask the vet".to_owned()]];
    let all = [("notes", &notes), ("rules", &rules.rows), ("worksheet", &worksheet.rows)];
    assert_eq!(audited(&all), (0, "[]".to_owned()));
    let (place, head) = rules.row("cell.family>internet");
    let cell = |column: &str| head.iter().position(|one| one == column).expect("a column");
    for (column, to) in [("action", "block"), ("when", "at most 3 Mbit/s"), ("ports", "")] {
        let mut changed = rules.rows.clone();
        to.clone_into(&mut changed[place][cell(column)]);
        let (code, unread) = audited(&[("rules", &changed), ("worksheet", &worksheet.rows)]);
        let says = "it says something else than the sheet `worksheet`";
        assert!(code == 1 && unread.contains("sheet `rules`") && unread.contains(says), "{unread}");
    }
    // Whatever a third sheet of rules is called.
    let mut block = rules.rows.clone();
    "block".clone_into(&mut block[place][cell("action")]);
    let (code, unread) = audited(&[("rules", &rules.rows), ("rules (2)", &block)]);
    assert!(code == 1 && unread.contains("sheet `rules (2)`"), "{unread}");
    // Of somebody else's workbook one sheet is read.
    let theirs = |cells: [&str; 3]| vec![cells.map(str::to_owned).to_vec()];
    let mut list = theirs(["action", "source", "destination"]);
    list.extend(theirs(["allow", "any", "any"]));
    list.push(vec!["block".to_owned(), "any".to_owned()]);
    let (_, unread) = audited(&[("in", &list), ("empty", &Vec::new())]);
    assert_eq!(unread, "[]", "what a workbook leaves out at the end of a row is empty");
    let (code, unread) = audited(&[("in", &list), ("out", &list)]);
    assert!(code == 1 && unread.contains("sheet `out`"), "{unread}");
}

#[test]
fn a_sheet_that_is_too_long_is_refused_and_not_cut() {
    let bench = Bench::new();
    let head = "list,action,ports,interfaces,source addresses,destination addresses,id\n";
    bench.write(
        "long.csv",
        format!("{head}{}", "opening,allow,any,,any,any,mine\n".repeat(200_000)),
    );
    let run = bench.run("audit long.csv --plan farm.toml");
    assert!(run.code == 2 && run.err.contains("more than 200000 rows"), "{}", run.err);
}

/// Packets to it lead to a zone, though it is none of the zone's addresses: it was shown as nothing at all.
#[test]
fn an_address_that_nobody_has_keeps_its_words() {
    let bench = Bench::new();
    let plan = std::fs::read_to_string(bench.file("bare.toml")).expect("a plan");
    let more = "[exception.to-nobody]\nfrom = \"printers\"\nto = \"10.44.24.0\"\nservice = \"any\"\naction = \"allow\"\n\
                why = \"to show it\"\n\n[exception.";
    bench.write("nobody.toml", plan.replacen("[exception.", more, 1));
    let run = bench.run("rules --plan nobody.toml --form per-pair --format csv");
    assert_eq!(run.code, 0, "{}", run.err);
    let row = run.out.lines().find(|line| line.contains("exception.to-nobody")).expect("a rule");
    assert!(row.contains(",people: 10.44.24.0,10.44.24.0,"), "{row}");
}
