//! The worksheet, as whoever types it gets it.

mod common;

use common::{Bench, Run};

#[test]
fn it_has_every_step_with_values_ticks_and_what_to_see() {
    let bench = Bench::new();
    let text = bench.clinic("worksheet").out;
    let mut last = 0;
    for step in [
        "1. Interfaces and addresses",
        "2. DHCP",
        "3. Addresses that rules name",
        "4. Services that rules name",
        "5. Hours",
        "6. Rules, in this order",
        "7. Address translation",
        "8. General settings",
        "9. Switch ports and Wi-Fi",
    ] {
        let at = text.find(step).unwrap_or_else(|| panic!("{step}"));
        assert!(at > last || last == 0, "{step} is in its place");
        last = at;
    }
    assert_eq!(text.matches("Afterwards: ").count(), 9);
    for value in [
        "10.44.24.1/24",
        "10.44.24.100",
        "02:00:5E:24:00:10",
        "tcp/9100-9102",
        "mon 06:45 to mon 11:00",
    ] {
        assert!(text.contains(value), "{value}");
    }
}

#[test]
fn one_step_can_be_asked_for_by_number_or_name() {
    let bench = Bench::new();
    for word in ["2", "leases", "dhcp"] {
        let text = bench.clinic(&format!("worksheet {word}")).out;
        assert!(text.contains("2. DHCP") && !text.contains("1. Interfaces"), "{word}: {text}");
        assert!(text.contains("in 1 of 9 steps"), "{text}");
    }
    let rules = bench.clinic("worksheet rules").out;
    assert!(rules.contains("6. Rules") && rules.contains("in 1 of 9 steps"), "{rules}");
    let wrong = bench.clinic("worksheet tea");
    assert_eq!(wrong.code, 2);
    assert!(wrong.err.contains("no step of the worksheet is called `tea`"), "{}", wrong.err);
    assert!(wrong.err.contains("6 rules"), "{}", wrong.err);
}

#[test]
fn every_rule_of_the_list_is_a_row_with_the_names_of_the_steps_before() {
    let bench = Bench::new();
    let sheet = bench.clinic("worksheet --format json").json();
    let list = bench.clinic("rules --format json").json();
    let steps = sheet["steps"].as_array().expect("steps");
    let rows = |name: &str| -> Vec<Vec<String>> {
        let step = steps.iter().find(|step| step["name"] == name).expect("the step");
        let tables = step["tables"].as_array().expect("tables").iter();
        let rows = tables.flat_map(|table| table["rows"].as_array().expect("rows").clone());
        let cell = |cell: &serde_json::Value| {
            let values = cell.as_array().expect("values").iter();
            values
                .map(|value| value.as_str().expect("text").to_owned())
                .collect::<Vec<_>>()
                .join("|")
        };
        rows.map(|row| row.as_array().expect("cells").iter().map(cell).collect()).collect()
    };
    let numbers: std::collections::BTreeSet<String> =
        rows("rules").into_iter().map(|row| row[0].clone()).collect();
    assert_eq!(numbers.len() as u64, list["size"]["rules"].as_u64().expect("a number"));
    let known: Vec<String> = ["addresses", "services", "interfaces", "hours"]
        .iter()
        .flat_map(|step| rows(step))
        .map(|row| row[0].clone())
        .collect();
    for row in rows("rules") {
        for name in row[2..5].iter().flat_map(|cell| cell.split('|')) {
            assert!(
                name == "any" || known.contains(&name.to_owned()),
                "{name} was not made before"
            );
        }
    }
}

#[test]
fn the_key_of_the_gateway_governs_it() {
    let bench = Bench::new();
    let plan = std::fs::read_to_string(bench.file("clinic.toml")).expect("the plan");
    bench.write("all.toml", plan.replace("[gateway]", "[gateway]\nrules = \"every-cell\""));
    let count = |words: &str| {
        let run = Run::of(bench.command().args(words.split(' ')));
        assert_eq!(run.code, 0, "{words}: {}", run.err);
        run.json()
    };
    for command in ["rules", "prove", "worksheet", "checklist"] {
        let few = count(&format!("{command} -p clinic.toml --day 2026-11-24 --format json"));
        let all = count(&format!("{command} -p all.toml --day 2026-11-24 --format json"));
        assert_ne!(few, all, "{command}");
    }
    let size = count("rules -p clinic.toml --day 2026-11-24 --format json")["size"].clone();
    let number = |key: &str| size[key].as_u64().unwrap_or_else(|| panic!("{key}: {size}"));
    assert!(number("rules") <= 50 && number("values") < number("values_for_every_cell"), "{size}");
    assert_eq!(number("rules_for_every_cell"), 122);
    assert!(number("at_least") <= number("rules"), "{size}");
    let file = |plan: &str| {
        Run::of(bench.command().args(["export", "nftables", "-p", plan, "--day", "2026-11-24"])).out
    };
    assert!(file("all.toml").contains("cell.guests>tills"));
    assert!(!file("clinic.toml").contains("cell.guests>tills"));
    bench.write("odd.toml", plan.replace("[gateway]", "[gateway]\nrules = \"few\""));
    let odd = Run::of(bench.command().args(["check", "-p", "odd.toml"]));
    assert_eq!(odd.code, 2);
    assert!(odd.out.contains("write fewest or every-cell"), "{}", odd.out);
}
