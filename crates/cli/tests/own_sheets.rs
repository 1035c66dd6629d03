//! Worksheets and rules that this program wrote, read again: by `audit`, and as what a gateway has.

mod common;

use common::{Bench, Run, demo};

const FORMS: [&str; 4] = ["one-list", "per-pair", "per-interface", "ranked"];

fn audit(bench: &Bench, file: &str) -> Run {
    bench.run(&format!("audit {file} --plan plan.toml"))
}

#[test]
fn audit_finds_what_it_wrote_itself_to_agree() {
    for plan in ["bare.toml", "clinic.toml", "farm.toml"] {
        let bench = Bench::new();
        bench.write("plan.toml", demo(plan));
        for form in FORMS {
            for sheet in ["worksheet", "rules"] {
                let written = format!("{sheet} --plan plan.toml --form {form} --format csv");
                let written = bench.run(&written);
                if written.code != 0 {
                    continue;
                }
                bench.write("sheet.csv", &written.out);
                let run = audit(&bench, "sheet.csv");
                assert_eq!(run.code, 0, "{plan} {form} {sheet}: {}{}", run.out, run.err);
                assert!(run.out.starts_with("The list"), "{plan} {form} {sheet}: {}", run.out);
                assert!(run.out.contains("the plan says, for every"), "{}", run.out);
            }
        }
        let book = bench.run("export xlsx --plan plan.toml --to book.xlsx");
        assert_eq!(book.code, 0, "{}", book.err);
        let run = audit(&bench, "book.xlsx");
        assert_eq!(run.code, 0, "{plan}: {}{}", run.out, run.err);
    }
}

/// A row that does something else is seen, the one for replies included.
#[test]
fn audit_sees_each_row_that_is_another() {
    let bench = Bench::new();
    bench.write("plan.toml", demo("clinic.toml"));
    for sheet in ["worksheet", "rules"] {
        let text = bench.run(&format!("{sheet} --plan plan.toml --format csv")).out;
        let lines: Vec<&str> = text.lines().collect();
        let mut seen = 0;
        for (place, line) in lines.iter().enumerate() {
            let other = match line {
                line if line.contains(",allow,") => line.replacen(",allow,", ",block,", 1),
                line if line.contains(",block +log,") => {
                    line.replacen(",block +log,", ",allow,", 1)
                }
                _ => continue,
            };
            let is_chosen = line.contains("replies") || place % 7 == 0;
            if !is_chosen {
                continue;
            }
            let mut lines: Vec<&str> = lines.clone();
            lines[place] = &other;
            bench.write("sheet.csv", lines.join("\n"));
            let run = audit(&bench, "sheet.csv");
            assert_eq!(run.code, 1, "{line}: {}{}", run.out, run.err);
            seen += 1;
        }
        assert!(seen >= 5, "{seen}");
    }
}

#[test]
fn what_is_not_understood_is_no_agreement() {
    let bench = Bench::new();
    bench.write("plan.toml", demo("clinic.toml"));
    let text = bench.run("worksheet --plan plan.toml --format csv").out;
    let rules = bench.run("worksheet rules --plan plan.toml --format csv").out;
    // Rules without what their names mean, a name that means nothing, a list that the plan has not.
    for text in [
        rules,
        text.replacen(",not-in-desks,", ",not-in-other,", 1),
        text.replace("6. rules for all traffic, before", "6. rules for some traffic, before"),
        text.replace("tcp/9100-9102", "tcp/99999"),
    ] {
        bench.write("sheet.csv", text);
        let run = audit(&bench, "sheet.csv");
        assert_eq!(run.code, 1, "{}", run.out);
        assert!(run.out.contains("not understood"), "{}", run.out);
    }
}

/// A gateway that has what an older worksheet says is changed as one that has the rules of the older plan.
#[test]
fn a_worksheet_that_was_typed_can_be_what_a_change_begins_with() {
    let bench = Bench::new();
    let plan = demo("clinic.toml");
    bench.write("old.toml", &plan);
    bench.write("plan.toml", plan.replace("service = \"printing\"", "service = \"ipp\""));
    let typed = bench.run("worksheet --plan old.toml --format csv").out;
    bench.write("typed.csv", &typed);
    let json = |words: &str| {
        bench.run(&format!("worksheet --plan plan.toml {words} --format json")).json()
    };
    let (by_plan, by_sheet) = (json("--since old.toml"), json("--since-gateway typed.csv"));
    assert_eq!(by_plan["steps"], by_sheet["steps"]);
    assert_eq!(by_sheet["since"]["old"], "typed.csv");
    // The workbook says the same.
    assert_eq!(bench.run("export xlsx --plan old.toml --to typed.xlsx").code, 0);
    assert_eq!(json("--since-gateway typed.xlsx")["steps"], by_plan["steps"]);
    // A table of rules leads to the same rules by the same edits.
    bench.write("rules.csv", bench.run("rules --plan old.toml --format csv").out);
    let by_rules = json("--since-gateway rules.csv");
    assert_eq!(by_rules["since"]["edits"], by_plan["since"]["edits"]);
    assert_eq!(by_rules["steps"], by_plan["steps"]);
    // Somebody has changed a row by hand: that is put right, too.
    let other = typed.replace(",allow,any,desks,printers,", ",block +log,any,desks,printers,");
    assert_ne!(other, typed);
    bench.write("typed.csv", other);
    let sheet = json("--since-gateway typed.csv");
    let says = sheet["steps"][1]["tables"][0]["rows"][0][0][0].as_str().unwrap_or_default();
    assert!(says.contains("action was block +log"), "{says}");
}

/// Whoever copies a row by hand, or sorts the file, has a gateway that can be put right all the same.
#[test]
fn a_worksheet_with_doubled_and_scattered_rows_can_be_put_right() {
    let bench = Bench::new();
    let plan = demo("clinic.toml");
    bench.write("plan.toml", &plan);
    let typed = bench.run("worksheet --plan plan.toml --format csv").out;
    let mut lines: Vec<&str> = typed.lines().collect();
    let find = |lines: &[&str], name: &str| {
        lines.iter().position(|line| line.starts_with(['6', '"']) && line.ends_with(name))
    };
    let copied = find(&lines, "exception.desks-print").expect("the rule");
    let below = find(&lines, "exception.tills-pay").expect("the rule");
    lines.insert(below, lines[copied]);
    let last = find(&lines, "unmatched-through").expect("the rule");
    let row = lines.remove(find(&lines, "gateway-service.desks").or(Some(copied)).expect("a rule"));
    lines.insert(last, row);
    bench.write("typed.csv", lines.join("\n"));
    let run = bench.run("worksheet rules --plan plan.toml --since-gateway typed.csv --format json");
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    let sheet = run.json();
    assert_eq!(sheet["since"]["safe"], true);
    assert!(sheet["since"]["edits"].as_u64().is_some_and(|edits| edits > 0), "{sheet}");
}
