//! How long a checklist and its strength take; for the demo plans and for made plans of up to 1,000 rules, of
//! which it also shows that nothing is missed. Run with `cargo bench -p bastium-planfile --bench checklist`.

#[allow(dead_code, reason = "each of the benchmarks uses some of it")]
mod made;

use bastium_core::checklist::{self, Checklist};
use bastium_core::meaning::Meaning;
use bastium_core::plan::Plan;
use bastium_core::rules;
use divan::Bencher;
use jiff::civil::{Date, date};

const DAY: Date = date(2026, 11, 24);
const CLINIC: &str = include_str!("../../../demo/clinic.toml");

#[expect(clippy::print_stdout, reason = "a benchmark tells what it measured")]
fn main() {
    for size in [100, 300, 1_000] {
        let list = build(&read(&made::skewed(size)));
        let strength = &list.strength;
        let checks = list.stands.iter().map(|stand| stand.checks.len()).sum::<usize>();
        println!(
            "{size} rules: {} mistakes, {} caught, {} missed; {checks} checks, at least {}",
            strength.mistakes,
            strength.caught,
            strength.missed.len(),
            list.least
        );
        assert!(strength.missed.is_empty(), "{:?}", strength.missed);
    }
    divan::main();
}

fn read(text: &str) -> Plan {
    bastium_planfile::read("plan", text.as_bytes()).expect("a plan without mistakes")
}

fn build(plan: &Plan) -> Checklist {
    let meaning = Meaning::new(plan, DAY).expect("a meaning");
    checklist::build(
        &meaning,
        bastium_core::proof::proved(&meaning, &rules::compile(&meaning))
            .expect("the rules do what the plan says"),
    )
}

#[divan::bench]
fn clinic(bencher: Bencher<'_, '_>) {
    let plan = read(CLINIC);
    bencher.bench(|| build(&plan).stands.len());
}

#[divan::bench(args = [100, 300, 1_000], max_time = 20)]
fn of_made_plans(bencher: Bencher<'_, '_>, size: usize) {
    let plan = read(&made::skewed(size));
    bencher.bench(|| build(&plan).stands.len());
}
