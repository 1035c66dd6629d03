//! How long the engine takes: proofs, single rules, a damaged list, one change, many questions; for made
//! plans of up to 100,000 rules. Run with `cargo bench -p bastium-planfile --bench engine`.

#[path = "../../core/tests/judge/diagrams.rs"]
mod diagrams;
#[allow(dead_code, reason = "each of the benchmarks uses some of it")]
mod made;

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Plan};
use bastium_core::proof::{self, Lookup};
use bastium_core::rules::{self, Stage};
use diagrams::{Judge, Of};
use divan::Bencher;
use jiff::civil::{Date, date};

const DAY: Date = date(2026, 11, 24);
const SIZES: [usize; 4] = [100, 1_000, 10_000, 100_000];

fn main() {
    for size in [100, 1_000, 10_000] {
        let plan = read(&made::skewed(size));
        let meaning = Meaning::new(&plan, DAY).expect("the made plan has a meaning");
        let count = rules::compile(&meaning).rules().count();
        assert!((size * 8 / 10..=size * 12 / 10).contains(&count), "{size}: {count} rules");
    }
    divan::main();
}

fn read(text: &str) -> Plan {
    bastium_planfile::read("plan", text.as_bytes()).expect("a plan without mistakes")
}

#[divan::bench(args = SIZES, max_time = 5)]
fn read_a_plan(bencher: Bencher<'_, '_>, size: usize) {
    let text = made::skewed(size);
    bencher.bench(|| read(&text).exceptions().len());
}

#[divan::bench(args = SIZES, max_time = 5)]
fn settle_the_meaning(bencher: Bencher<'_, '_>, size: usize) {
    let plan = read(&made::skewed(size));
    bencher.bench(|| Meaning::new(&plan, DAY).is_ok());
}

#[divan::bench(args = SIZES, max_time = 5)]
fn compile(bencher: Bencher<'_, '_>, size: usize) {
    let plan = read(&made::skewed(size));
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    bencher.bench(|| rules::compile(&meaning).lists.len());
}

#[divan::bench(args = SIZES, max_time = 5)]
fn prove_equal(bencher: Bencher<'_, '_>, size: usize) {
    let plan = read(&made::skewed(size));
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let rules = rules::compile(&meaning);
    bencher.bench(|| proof::equal(&meaning, &rules).0.is_empty());
}

#[divan::bench(args = SIZES, max_time = 5)]
fn look_at_every_rule(bencher: Bencher<'_, '_>, size: usize) {
    let plan = read(&made::skewed(size));
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let rules = rules::compile(&meaning);
    bencher.bench(|| proof::singles(&meaning, &rules).shadowed.len());
}

#[divan::bench(args = [1_000, 10_000], max_time = 5)]
fn look_at_every_rule_of_one_cell(bencher: Bencher<'_, '_>, size: usize) {
    let plan = read(&made::hot(size));
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let rules = rules::compile(&meaning);
    bencher.bench(|| proof::singles(&meaning, &rules).shadowed.len());
}

#[divan::bench(args = SIZES, max_time = 5)]
fn look_up(bencher: Bencher<'_, '_>, size: usize) {
    let plan = read(&made::skewed(size));
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let rules = rules::compile(&meaning);
    let lookup = Lookup::new(&meaning, &rules);
    let ready = lookup.ready();
    let found = proof::singles(&meaning, &rules);
    let packets: Vec<_> = found.witnesses.into_iter().map(|(_, packet)| packet).collect();
    bencher
        .counter(packets.len())
        .bench(|| packets.iter().filter(|packet| ready.outcome(packet).logged).count());
}

/// A list in which the last exception's rule was turned round, to be found out.
#[divan::bench(args = SIZES, max_time = 5)]
fn find_a_counterexample(bencher: Bencher<'_, '_>, size: usize) {
    let plan = read(&made::skewed(size));
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let mut rules = rules::compile(&meaning);
    let through = rules.lists.iter_mut().find(|list| list.stage == Stage::Through).expect("a list");
    let last = through.rules.iter_mut().rfind(|rule| rule.cause.exception().is_some());
    let last = last.expect("the made plans have exceptions");
    last.log = !last.log;
    bencher.bench(|| proof::equal(&meaning, &rules).0.len());
}

/// One exception more.
#[divan::bench(args = SIZES, max_time = 5)]
fn compare_after_one_change(bencher: Bencher<'_, '_>, size: usize) {
    let text = made::skewed(size);
    let more = "[exception.more]\nfrom = \"h0-1\"\nto = \"h5-2\"\nservice = \"sctp/9\"\naction = \"allow\"\n";
    let (old, new) = (read(&text), read(&format!("{text}{more}")));
    let meanings = [&old, &new].map(|plan| Meaning::new(plan, DAY).expect("a meaning"));
    let rules = [&meanings[0], &meanings[1]].map(rules::compile);
    bencher
        .bench(|| proof::changes(&meanings[0], &meanings[1], (&rules[0], &rules[1])).traffic.len());
}

/// The yardstick: the through list alone, as general binary decision diagrams.
#[divan::bench(args = [100, 1_000], max_time = 5)]
fn the_same_by_decision_diagrams(bencher: Bencher<'_, '_>, size: usize) {
    let plan = read(&made::skewed(size));
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let rules = rules::compile(&meaning);
    let through = rules.list(Stage::Through).expect("a list");
    bencher.bench(|| {
        let judge = Judge::new(Of::V4);
        let fates = || {
            let (mut fates, rest) = judge.fates(through.rules.iter(), &judge.everything());
            fates.push((Action::Block, false, rest));
            fates
        };
        judge.same(&fates(), &fates())
    });
}
