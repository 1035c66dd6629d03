//! The worksheet: what is typed from it is what was proved, and nothing in it can be changed unnoticed.

#[path = "../../core/tests/model/mod.rs"]
mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::draft::Draft;
use bastium_core::plan::{Form, Plan, Rows, resolve};
use bastium_core::proof;
use bastium_core::rules::{self, RuleSet};
use bastium_core::source::Located;
use bastium_report::Table;
use bastium_report::sheets::{RuleSheet, Worksheet, proved_as_typed, read_typed};
use model::{TODAY, any_draft, text, texts};
use proptest::prelude::*;
use std::collections::HashSet;

fn demo(name: &str) -> Plan {
    let path = format!("{}/../../demo/{name}", env!("CARGO_MANIFEST_DIR"));
    let bytes = std::fs::read(path).expect("the demo plan is there");
    bastium_planfile::read(name, &bytes).expect("a plan")
}

fn with(
    plan: &Plan,
    form: Form,
    rows: Rows,
    check: impl FnOnce(&Meaning<'_>, &RuleSet, Worksheet),
) {
    let meaning = Meaning::new(plan, TODAY).expect("a meaning");
    let Ok(rules) = rules::in_form_with(&meaning, form, rows) else { return };
    let proved = proof::proved(&meaning, &rules).expect("the rules match the plan");
    match Worksheet::new(&meaning, proved) {
        Ok(sheet) => check(&meaning, &rules, sheet),
        Err(misread) => panic!("{}: {misread:?}", form.word()),
    }
}

#[test]
fn every_demo_plan_has_a_worksheet_in_every_form() {
    for name in ["bare.toml", "clinic.toml", "farm.toml"] {
        let plan = demo(name);
        for form in Form::ALL {
            for rows in Rows::ALL {
                with(&plan, form, rows, |_, rules, sheet| {
                    let step = sheet.step("rules").expect("there are rules");
                    let typed: usize = step.tables.iter().map(|table| table.rows.len()).sum();
                    assert_eq!(typed, rules.rules().count(), "{name} {}", form.word());
                });
            }
        }
    }
}

/// Whoever mistypes one value of the sheet has other rules; so has a sheet with that value.
#[test]
fn no_value_that_rules_need_can_be_lost_or_changed_unnoticed() {
    with(&demo("clinic.toml"), Form::OneList, Rows::Fewest, |_, rules, sheet| {
        let columns = [
            "no",
            "action",
            "at",
            "source",
            "destination",
            "service",
            "when",
            "values",
            "ports",
            "value",
        ];
        let mut tried = 0;
        for (s, step) in sheet.steps.iter().enumerate() {
            if !["addresses", "services", "hours", "rules"].contains(&step.name) {
                continue;
            }
            for (t, table) in step.tables.iter().enumerate() {
                for (r, row) in table.rows.iter().enumerate() {
                    for (c, cell) in row.iter().enumerate() {
                        let is_zone = row[0] == ["time zone"];
                        if !columns.contains(&table.columns[c]) || cell.is_empty() || is_zone {
                            continue;
                        }
                        let mut lost = sheet.clone();
                        lost.steps[s].tables[t].rows[r][c].pop();
                        assert!(!lost.misread(rules).is_empty(), "{} {row:?}", table.title);
                        let mut other = sheet.clone();
                        other.steps[s].tables[t].rows[r][c][0] = "10.99.99.99".to_owned();
                        assert!(!other.misread(rules).is_empty(), "{} {row:?}", table.title);
                        tried += 2;
                    }
                }
            }
        }
        assert!(tried > 500, "{tried}");
        // The first rule that matches decides: two rows that changed places are other rules.
        let (list, rows) = sheet
            .steps
            .iter()
            .position(|step| step.name == "rules")
            .map(|place| (place, sheet.steps[place].tables[2].rows.len()))
            .expect("there are rules");
        for row in 1..rows {
            let mut swapped = sheet.clone();
            swapped.steps[list].tables[2].rows.swap(row - 1, row);
            assert!(!swapped.misread(rules).is_empty(), "row {row}");
        }
        let mut short = sheet.clone();
        let step = short.steps.iter_mut().find(|step| step.name == "rules").expect("rules");
        step.tables[0].rows.pop();
        assert!(!short.misread(rules).is_empty());
    });
}

#[test]
fn names_fit_the_gateway_and_none_is_there_twice() {
    let text = include_str!("../../../demo/clinic.toml")
        .replace("[gateway]", "[gateway]\nlimits = { name = 16 }");
    let plan = bastium_planfile::read("clinic.toml", text.as_bytes()).expect("a plan");
    with(&plan, Form::PerPair, Rows::Fewest, |_, _, sheet| {
        let mut seen = HashSet::new();
        for name in ["addresses", "services", "rules"] {
            let step = sheet.step(name).expect("it is there");
            for table in step.tables.iter().filter(|table| table.title != "domains") {
                let place = table.columns.iter().position(|column| *column == "name");
                let place = place.expect("things have names");
                for row in &table.rows {
                    let own = &row[place][0];
                    assert!(own.len() <= 16, "{own}");
                    assert!(seen.insert(own.clone()), "{own} is there twice");
                }
            }
        }
    });
}

/// A change that people make.
fn changed(draft: &Draft, kind: u8, which: prop::sample::Index) -> Draft {
    let mut changed = draft.clone();
    let exceptions = &mut changed.exceptions;
    if !exceptions.is_empty() {
        let place = which.index(exceptions.len());
        match kind % 4 {
            0 => {
                let gone = exceptions.remove(place);
                for other in exceptions.iter_mut() {
                    other.before.retain(|name| name.value != gone.name.value);
                }
            }
            1 => exceptions[place].service = Some(texts(&["tcp/1-1000", "ping"])),
            2 => exceptions[place].from = texts(&["guests"]),
            _ => exceptions[place].action = Some(text("block")),
        }
    }
    if let Some(grid) = changed.matrix.grid.as_mut().filter(|_| kind >= 4) {
        let (old, new) = [("allow", "reject"), ("block", "allow")][usize::from(kind % 2)];
        grid.value = grid.value.replacen(old, new, 1 + usize::from(kind / 2 % 3));
    }
    if kind >= 8 {
        changed.networks[0].vlan = Some(Located { value: 777, at: text("").at });
    }
    changed
}

/// What is typed for a change leads from the old rules to the new ones, and back; else there is no sheet.
fn hold_between(plans: [&Plan; 2], form: Form) -> Result<(), TestCaseError> {
    let [Ok(old), Ok(new)] = plans.map(|plan| Meaning::new(plan, TODAY)) else { return Ok(()) };
    let rules = [&old, &new].map(|meaning| rules::in_form(meaning, form));
    let [Ok(before), Ok(after)] = &rules else { return Ok(()) };
    for (from, to) in [((&old, before), (&new, after)), ((&new, after), (&old, before))] {
        let Ok(proved) = proof::proved(to.0, to.1) else {
            return Err(TestCaseError::fail("the rules do not match the plan"));
        };
        let sheet = Worksheet::since("old.toml", from, (to.0, proved));
        prop_assert!(sheet.is_ok(), "{} {:?}", form.word(), sheet.err());
    }
    Ok(())
}

#[test]
fn the_demo_plans_lead_to_each_other() {
    let clinic = demo("clinic.toml");
    let edits = include_str!("../../../demo/clinic.toml")
        .replace("vlan = 60", "vlan = 61")
        .replace("10.44.60.", "10.44.61.")
        .replace("outside-port = 443", "outside-port = 8443");
    let next = bastium_planfile::read("next.toml", edits.as_bytes()).expect("a plan");
    for form in Form::ALL {
        hold_between([&clinic, &next], form).expect("a sheet");
        hold_between([&clinic, &demo("bare.toml")], form).expect("a sheet");
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 64, ..ProptestConfig::default() })]

    #[test]
    fn every_plan_has_a_worksheet_that_says_its_rules(draft in any_draft(), form in 0..4usize) {
        let plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let Ok(rules) = rules::in_form(&meaning, Form::ALL[form]) else { return Ok(()) };
        let Ok(proved) = proof::proved(&meaning, &rules) else {
            return Err(TestCaseError::fail("the rules do not match the plan"));
        };
        let sheet = Worksheet::new(&meaning, proved);
        prop_assert!(sheet.is_ok(), "{:?}", sheet.err());
    }

    #[test]
    fn what_is_typed_for_a_change_leads_there(
        draft in any_draft(), kind in 0..12u8, which in any::<prop::sample::Index>(), form in 0..4usize,
    ) {
        let next = changed(&draft, kind, which);
        let (Ok(old), Ok(new)) = (resolve(draft), resolve(next)) else { return Ok(()) };
        hold_between([&old, &new], Form::ALL[form])?;
    }

    /// Both sheets, read again from their cells, are the rules that they were made of.
    #[test]
    fn what_is_read_from_a_sheet_does_what_the_plan_says(draft in any_draft(), form in 0..4usize) {
        let plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let Ok(rules) = rules::in_form(&meaning, Form::ALL[form]) else { return Ok(()) };
        let Ok(proved) = proof::proved(&meaning, &rules) else { return Ok(()) };
        let Ok(worksheet) = Worksheet::new(&meaning, proved) else { return Ok(()) };
        let table = RuleSheet::new(&meaning, &rules, |_, _| true);
        let typed = proved_as_typed(&table, &meaning);
        prop_assert!(typed.is_ok(), "{}: {:?}", Form::ALL[form].word(), typed.err());
        let sheets = [
            ("step", worksheet.tables()),
            ("list", table.tables()),
        ];
        for (first, tables) in sheets {
            let typed = read_typed(&cells(first, &tables), &meaning).expect("it is a sheet");
            let unread = &typed.not_understood;
            prop_assert!(unread.is_empty(), "{} {first}: {unread:?}", Form::ALL[form].word());
            let found = proof::proved(&meaning, &typed.rules).err();
            let one = found.as_ref().and_then(|one| one.differences.first()).map(|one| {
                (one.packet, one.meaning, one.rules.rule.map(|rule| rule.id.to_string()))
            });
            let form = Form::ALL[form].word();
            prop_assert!(found.is_none(), "{form} {first}: {one:?}");
        }
    }
}

/// The cells of tables, as a file has them.
fn cells(first: &str, tables: &[Table]) -> Vec<Vec<String>> {
    let mut rows = Vec::new();
    for table in tables {
        let headings = table.columns.iter().map(|column| column.heading.clone());
        rows.push([first.to_owned()].into_iter().chain(headings).collect());
        for row in &table.rows {
            let title = table.title.clone().unwrap_or_default();
            let texts = row.iter().map(|cell| cell.text.clone());
            rows.push([title].into_iter().chain(texts).collect());
        }
    }
    rows
}

/// A table whose cell is another is refused: the check can fail.
#[test]
fn a_table_of_rules_that_says_something_else_is_refused() {
    let plan = demo("clinic.toml");
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    let rules = rules::compile(&meaning);
    let table = RuleSheet::new(&meaning, &rules, |_, _| true);
    assert!(proved_as_typed(&table, &meaning).is_ok());
    for list in 0..table.lists.len() {
        for row in 0..table.lists[list].rules.len() {
            let mut other = table.clone();
            let rule = &mut other.lists[list].rules[row];
            rule.action = if rule.action == "allow" { "block" } else { "allow" };
            rule.log = false;
            assert!(proved_as_typed(&other, &meaning).is_err(), "{list} {row}");
        }
    }
}
