//! What the sheets hold, checked against the plan by other means than their own; and that no text out
//! of a plan can break a format.

use bastium_core::asking::{End, ask};
use bastium_core::meaning::Meaning;
use bastium_core::plan::Plan;
use bastium_core::rules::{self, RuleSet};
use bastium_core::source::Text;
use bastium_core::space::IntervalSet;
use bastium_gateway::clean;
use bastium_report::sheets::{
    AddressSheet, AnswerSheet, ChecklistSheet, GridLayout, MatrixSheet, RuleSheet,
};

use bastium_report::{Column, Table, csv, markdown};
use jiff::civil::{Date, date};
use proptest::prelude::*;
use serde_json::{Value, json};

const DAY: Date = date(2026, 11, 24);
const CLINIC: &str = include_str!("../../../demo/clinic.toml");

fn read(text: &str) -> Plan {
    bastium_planfile::read("plan", text.as_bytes())
        .unwrap_or_else(|refused| panic!("{:#?}", refused.diagnoses))
}

fn with_clinic<T>(test: impl Fn(&Meaning<'_>, &RuleSet) -> T) -> T {
    let plan = read(CLINIC);
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    test(&meaning, &rules::compile(&meaning))
}

fn to_json(sheet: &impl serde::Serialize) -> Value {
    serde_json::to_value(sheet).expect("a sheet is JSON")
}

fn answer(from: &str, to: &str, service: &str) -> Value {
    with_clinic(|meaning, rules| {
        let plan = meaning.plan();
        let (from, to) =
            (End::new(plan, from).expect("a place"), End::new(plan, to).expect("a place"));
        let service = plan.service(&[Text::new(service)]).expect("a service");
        let answer =
            ask(meaning, rules, &from, &to, &service, &IntervalSet::full()).expect("an answer");
        to_json(&AnswerSheet::new(plan, &from, &to, &service, &answer))
    })
}

#[test]
fn the_addressing_sheet_counts_every_address_once() {
    let sheet = to_json(&AddressSheet::new(&read(CLINIC), false));
    let networks = sheet["networks"].as_array().expect("networks");
    assert_eq!(networks.len(), 12);
    for network in networks.iter().filter(|network| network["kind"] == "network") {
        let subnet = &network["subnets"][0];
        let name = network["name"].as_str().expect("a name");
        let vlan = network["vlan"].as_u64().expect("a VLAN id");
        assert_eq!(subnet["prefix"], format!("10.44.{vlan}.0/24"), "{name}");
        assert_eq!(subnet["mask"], "255.255.255.0");
        assert_eq!(subnet["gateway"], format!("10.44.{vlan}.1"));
        // 254 usable addresses: the gateway's, the pool's, the fixed ones outside it, and the rest.
        let pool = subnet["pool"]["size"].as_u64().unwrap_or(0);
        let addresses = network["fixed"].as_array().expect("hosts").iter();
        let v4 = addresses
            .flat_map(|host| host["addresses"].as_array().expect("addresses"))
            .filter(|address| address.as_str().is_some_and(|text| text.contains('.')));
        let room = subnet["free"].as_u64().expect("IPv4 has a number");
        assert_eq!(1 + pool + v4.count() as u64 + room, 254, "{name}");
        if let Some(v6) = network["subnets"].get(1) {
            assert_eq!(v6["prefix"], format!("fd6b:2f4e:91c0:{vlan}::/64"));
            assert_eq!(
                (&v6["free"], &v6["pool"], &v6["mask"]),
                (&Value::Null, &Value::Null, &Value::Null)
            );
        }
    }
}

#[test]
fn a_fixed_address_inside_the_pool_is_not_counted_twice() {
    let inside = CLINIC.replace("address = \"10.44.24.60\"", "address = \"10.44.24.160\"");
    let room = |text: &str| {
        let sheet = to_json(&AddressSheet::new(&read(text), false));
        sheet["networks"][1]["subnets"][0]["free"].as_u64().expect("a number")
    };
    assert_eq!(room(&inside), room(CLINIC) + 1);
}

#[test]
fn the_matrix_has_a_cell_for_each_pair_and_names_the_exceptions_in_it() {
    let sheet = with_clinic(|meaning, rules| to_json(&MatrixSheet::whole(meaning, rules)));
    let zones = sheet["zones"].as_array().expect("zones").len();
    let cells = sheet["cells"].as_array().expect("cells");
    assert_eq!((zones, cells.len()), (9, 81));
    let exceptions = |from: &str, to: &str| {
        let found = cells.iter().find(|cell| cell["from"] == from && cell["to"] == to);
        found.expect("a cell")["exceptions"].clone()
    };
    assert_eq!(
        exceptions("staff", "clinical"),
        json!(["vets-read-records", "locum-reads-records"])
    );
    assert_eq!(
        exceptions("clinical", "clinical"),
        json!(["pictures-to-archive", "scanner-cart-stays-out"])
    );
    assert_eq!(exceptions("tills", "internet"), json!(["tills-pay"]));
    assert_eq!(exceptions("guests", "internet"), json!(["trainees-web", "trainees-nothing-else"]));
    assert_eq!(exceptions("guests", "tills"), json!([]));
    // The text of the plan says the same.
    let grid: Vec<&str> =
        CLINIC.lines().skip_while(|line| !line.starts_with("grid")).skip(1).take(10).collect();
    let columns: Vec<&str> = grid[0].split_whitespace().collect();
    for row in &grid[1..] {
        let words: Vec<&str> = row.split_whitespace().collect();
        for (column, action) in columns.iter().zip(&words[1..]) {
            let cell = cells.iter().find(|cell| cell["from"] == words[0] && cell["to"] == *column);
            assert_eq!(cell.expect("a cell")["action"], *action, "{} {column}", words[0]);
        }
    }
}

#[test]
fn one_cell_lists_what_decides_it_in_order() {
    let sheet = with_clinic(|meaning, rules| {
        let zone = |name: &str| meaning.plan().zone_named(name).expect("a zone");
        to_json(&MatrixSheet::one(meaning, rules, zone("clinical"), zone("internet")))
    });
    let ids: Vec<&str> = sheet["rules"]
        .as_array()
        .expect("rules")
        .iter()
        .map(|rule| rule["id"].as_str().expect("an id"))
        .collect();
    assert_eq!(ids, ["exception.old-ultrasound-stays-in", "cell.clinical>internet"]);
    // The cell is one of several that a single rule is entered for.
    assert_eq!(sheet["rules"][1]["entered"], "cell.staff>internet+");
    let blocked = with_clinic(|meaning, rules| {
        let zone = |name: &str| meaning.plan().zone_named(name).expect("a zone");
        to_json(&MatrixSheet::one(meaning, rules, zone("guests"), zone("tills")))
    });
    // Nothing is entered for this one: the rest of the list does the same.
    assert_eq!(blocked["rules"][0]["id"], "cell.guests>tills");
    assert_eq!(
        (&blocked["rules"][0]["number"], &blocked["rules"][0]["entered"]),
        (&json!(0), &Value::Null)
    );
}

#[test]
fn the_grid_is_the_same_in_every_layout() {
    with_clinic(|meaning, rules| {
        let sheet = MatrixSheet::whole(meaning, rules);
        let actions = |layout| {
            let table = sheet.grid(layout, 0..sheet.zones.len());
            let word = |text: &str| text.split('*').next().unwrap_or_default().to_owned();
            let row = |row: &Vec<bastium_report::Cell>| {
                row[1..].iter().map(|cell| word(&cell.text)).collect()
            };
            table.rows.iter().map(row).collect::<Vec<Vec<String>>>()
        };
        let names = actions(GridLayout::Names);
        assert_eq!(actions(GridLayout::Numbers), names);
        assert_eq!(actions(GridLayout::Compact), names);
        let right = sheet.grid(GridLayout::Compact, 4..9);
        for (row, cells) in right.rows.iter().zip(&names) {
            assert_eq!(row.len(), 6);
            assert!(row[1].text.starts_with(&cells[4]));
        }
    });
}

#[test]
fn rules_carry_name_reason_and_line() {
    with_clinic(|meaning, rules| {
        let sheet = RuleSheet::new(meaning, rules, |_, _| true);
        assert_eq!(sheet.count(), rules.rows().count());
        for rule in sheet.lists.iter().flat_map(|list| &list.rules) {
            assert!(!rule.name.is_empty() && !rule.reason.is_empty(), "{}", rule.id);
            let line =
                rule.because.line.map(|line| CLINIC.lines().nth(line - 1).expect("the line"));
            match (rule.because.kind, line) {
                ("exception" | "offered" | "tunnel_port" | "discovery", Some(line)) => {
                    assert!(line.contains(&rule.because.name), "{line}")
                }
                ("cell", Some(line)) => {
                    let first = rule.from.split(" + ").next().expect("a zone");
                    assert!(line.starts_with(first), "{line}");
                }
                ("unmatched", Some(line)) => assert!(line.starts_with("unmatched"), "{line}"),
                ("ipv6_needs" | "reply", None) => {}
                ("manage", Some(line)) => assert!(line.contains("manage"), "{line}"),
                ("spoofed" | "gateway_service", line) => {
                    assert!(line.is_none_or(|line| {
                        ["[network.", "[uplink.", "[tunnel."]
                            .iter()
                            .any(|table| line.starts_with(table))
                    }));
                }
                other => panic!("{}: {other:?}", rule.id),
            }
        }
    });
}

#[test]
fn an_answer_names_its_parts_by_the_plans_words() {
    let mixed = answer("imaging", "internet", "https");
    assert_eq!(mixed["verdict"], "mixed");
    assert_eq!(mixed["reply"], Value::Null);
    let covers: Vec<&str> = mixed["parts"]
        .as_array()
        .expect("parts")
        .iter()
        .map(|p| p["covers"].as_str().expect("words"))
        .collect();
    let expected = [
        "tcp/443 from ultrasound to internet (IPv4)",
        "tcp/443 from imaging - ultrasound to internet (IPv4)",
    ];
    assert_eq!(covers, expected);
    let plain = answer("desks", "internet", "https");
    assert_eq!((&plain["verdict"], &plain["reply"]), (&json!("allow"), &json!("reply")));
    assert_eq!(
        plain["packet"]["destination"], "192.0.2.10",
        "nobody's address stands for the internet"
    );
    let aside = plain["asides"][0].as_str().expect("IPv6 has no way");
    assert!(aside.contains("RFC 4193") && aside.contains("(IPv6)"), "{aside}");
}

#[test]
fn the_checklists_tables_hold_every_check() {
    with_clinic(|meaning, rules| {
        let stands = bastium_core::checklist::build(
            meaning,
            bastium_core::proof::proved(meaning, rules).expect("the rules do what the plan says"),
        );
        let sheet = ChecklistSheet::new(meaning, rules, &stands);
        let rows = |tables: Vec<Table>| tables.iter().map(|table| table.rows.len()).sum::<usize>();
        assert_eq!(rows(sheet.tables()), sheet.count());
        for system in [
            bastium_report::sheets::System::Linux,
            bastium_report::sheets::System::Macos,
            bastium_report::sheets::System::Windows,
        ] {
            assert_eq!(rows(sheet.short_tables(system)), sheet.count());
        }
        let sum: u32 = sheet.stands.iter().flat_map(|s| &s.checks).map(|check| check.seconds).sum();
        assert!(sheet.seconds > sum + 60 * 11, "moves between eleven networks take their time");
    });
}

fn table(cells: &[(String, String)]) -> Table {
    let mut table = Table::new([Column::text("one"), Column::text("two")]);
    for (one, two) in cells {
        table.row([one.into(), two.into()]);
    }
    table
}

proptest! {
    /// Whatever a cell holds, a reader of CSV gets it back, cleaned, and never as a formula.
    #[test]
    fn csv_gives_back_every_cell(cells in prop::collection::vec((any::<String>(), any::<String>()), 1..6)) {
        let text = csv(&[table(&cells)], "list");
        let mut reader = ::csv::Reader::from_reader(text.as_bytes());
        let records: Vec<_> = reader.records().map(|record| record.expect("a record")).collect();
        prop_assert_eq!(records.len(), cells.len());
        for (record, (one, two)) in records.iter().zip(&cells) {
            for (field, cell) in record.iter().zip([one, two]) {
                let formula = field.len() > 1 && field.starts_with(['=', '+', '-', '@', '\t', '\r']);
                prop_assert!(!formula, "{field:?}");
                prop_assert!(field == clean(cell) || field == format!("'{}", clean(cell)), "{field:?} {cell:?}");
            }
        }
    }

    /// Whatever a cell holds, a Markdown table keeps its rows and columns, and holds no mark-up.
    #[test]
    fn markdown_keeps_its_rows(cells in prop::collection::vec((any::<String>(), any::<String>()), 1..6)) {
        let text = markdown(&[table(&cells)]);
        prop_assert_eq!(text.lines().count(), cells.len() + 2);
        for line in text.lines() {
            let bars = line.replace("\\\\", "").replace("\\|", "").matches('|').count();
            prop_assert_eq!(bars, 3, "{:?}", line);
            prop_assert!(!line.contains('<') && !line.contains('>'));
        }
    }

    /// What is cleaned can be looked at, and cleaning it again changes nothing.
    #[test]
    fn cleaned_text_is_harmless(text in any::<String>()) {
        let cleaned = clean(&text).into_owned();
        let turns = |c: char| (0x202a..=0x202e).contains(&u32::from(c));
        let harm = cleaned.chars().any(|c| c.is_control() || turns(c));
        prop_assert!(!harm);
        prop_assert_eq!(clean(&cleaned), cleaned.clone());
    }
}
