//! How long it takes from text to plan, from plan to rules, and to an answer: for the clinic and for a
//! made plan of 1,000 rules. Run with `cargo bench -p bastium-planfile`.

#[allow(dead_code, reason = "each of the benchmarks uses some of it")]
mod made;

use bastium_core::asking::{End, ask};
use bastium_core::findings;
use bastium_core::meaning::Meaning;
use bastium_core::plan::Plan;
use bastium_core::rules;
use bastium_core::source::Text;
use divan::Bencher;
use jiff::civil::{Date, date};

const DAY: Date = date(2026, 11, 24);
const CLINIC: &str = include_str!("../../../demo/clinic.toml");

fn main() {
    let plan = read(&made::plan(1_000));
    let meaning = Meaning::new(&plan, DAY).expect("the made plan has a meaning");
    let count = rules::compile(&meaning).rules().count();
    assert!((950..=1_050).contains(&count), "the made plan has {count} rules");
    divan::main();
}

fn text(name: &str) -> String {
    if name == "clinic" { CLINIC.to_owned() } else { made::plan(1_000) }
}

fn read(text: &str) -> Plan {
    bastium_planfile::read("plan", text.as_bytes()).expect("a plan without mistakes")
}

#[divan::bench(args = ["clinic", "made"])]
fn parse(bencher: Bencher<'_, '_>, name: &str) {
    let text = text(name);
    bencher.bench(|| read(&text));
}

#[divan::bench(args = ["clinic", "made"])]
fn settle_the_meaning(bencher: Bencher<'_, '_>, name: &str) {
    let plan = read(&text(name));
    bencher.bench(|| Meaning::new(&plan, DAY).is_ok());
}

#[divan::bench(args = ["clinic", "made"])]
fn compile(bencher: Bencher<'_, '_>, name: &str) {
    let plan = read(&text(name));
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    bencher.bench(|| rules::compile(&meaning).lists.len());
}

#[divan::bench(args = ["clinic", "made"])]
fn ask_one_question(bencher: Bencher<'_, '_>, name: &str) {
    let plan = read(&text(name));
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let rules = rules::compile(&meaning);
    let (from, to) = if name == "clinic" { ("desks", "printers") } else { ("n0", "n3") };
    let ends = [from, to].map(|words| End::new(&plan, words).expect("a place"));
    let service = plan.service(&[Text::new("any")]).expect("a service");
    let at = bastium_core::space::IntervalSet::full();
    bencher.bench(|| ask(&meaning, &rules, &ends[0], &ends[1], &service, &at).is_ok());
}

#[divan::bench(args = ["clinic", "made"])]
fn check(bencher: Bencher<'_, '_>, name: &str) {
    let plan = read(&text(name));
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    bencher.bench(|| findings::find(&plan, DAY, Ok(&meaning)).len());
}

/// From text to findings: 100 networks, 2,000 hosts, 2,000 exceptions.
#[divan::bench]
fn check_a_wide_plan(bencher: Bencher<'_, '_>) {
    let text = made::wide(2_000, 2_000);
    bencher.bench(|| {
        let plan = read(&text);
        let meaning = Meaning::new(&plan, DAY).expect("a meaning");
        findings::find(&plan, DAY, Ok(&meaning)).len()
    });
}

/// From text to subnets: 10,000 networks, none of which has one.
#[divan::bench]
fn carve_ten_thousand_networks(bencher: Bencher<'_, '_>) {
    let text = made::carved(10_000);
    bencher.bench(|| read(&text).networks().len());
}
