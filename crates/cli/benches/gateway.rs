//! How long it takes to write rules out for a Linux gateway, to read a gateway's log, and to rehearse. Run
//! with `cargo bench -p bastium --bench gateway`.

#[path = "../../planfile/benches/made.rs"]
#[allow(dead_code, reason = "the engine's benchmarks use the rest")]
mod made;

use bastium_core::blocked::Tally;
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, Plan};
use bastium_core::rules;
use bastium_gateway::foreign::read_rules;
use bastium_gateway::nftables::{self, NftOptions};
use bastium_gateway::read_packet_log;
use divan::Bencher;
use jiff::civil::{Date, date};
use std::process::{Command, Stdio};

const DAY: Date = date(2026, 11, 24);
const CLINIC: &str = include_str!("../../../demo/clinic.toml");

fn main() {
    divan::main();
}

/// A made plan of about so many rules, with cables.
fn plan(rules: usize) -> Plan {
    let text = made::skewed(rules).replace(
        "[uplink.fibre]\n",
        "[gateway]\nports = [\"wan1\", \"lan1\"]\n[uplink.fibre]\nport = \"wan1\"\n",
    );
    let lines = text.lines().map(|line| match line.starts_with("vlan = ") {
        true => format!("{line}\nport = \"lan1\"\n"),
        false => format!("{line}\n"),
    });
    let text: String = lines.collect();
    bastium_planfile::read("plan", text.as_bytes()).expect("a plan without mistakes")
}

#[divan::bench(args = [100, 1_000, 10_000], max_time = 5)]
fn write_nftables(bencher: Bencher<'_, '_>, size: usize) {
    let plan = plan(size);
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let rules = rules::in_form(&meaning, Form::PerPair).expect("this form says everything");
    bencher.bench(|| {
        nftables::nftables(&rules, NftOptions::default()).expect("cables have names").len()
    });
}

/// The text and its lines alone, without any comparison.
#[divan::bench(args = [100, 1_000, 10_000], max_time = 5)]
fn read_back(bencher: Bencher<'_, '_>, size: usize) {
    let plan = plan(size);
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let rules = rules::in_form(&meaning, Form::PerPair).expect("this form says everything");
    let text = nftables::nftables(&rules, NftOptions::default()).expect("cables have names");
    bencher.bench(|| read_rules(&text, Some(&plan)).expect("a rule list").lines.len());
}

/// All that stands between the rules and a file that may be written.
#[divan::bench(args = [100, 1_000, 10_000], max_time = 5)]
fn prove_the_file(bencher: Bencher<'_, '_>, size: usize) {
    let plan = plan(size);
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let rules = rules::in_form(&meaning, Form::PerPair).expect("this form says everything");
    bencher.bench(|| {
        nftables::proven(&meaning, &rules, NftOptions::default())
            .expect("it is proved")
            .text()
            .len()
    });
}

#[divan::bench(args = [10_000, 1_000_000], max_time = 10)]
fn read_a_log(bencher: Bencher<'_, '_>, lines: usize) {
    let plan = bastium_planfile::read("clinic", CLINIC.as_bytes()).expect("the demo plan");
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let rules = rules::in_form(&meaning, Form::PerPair).expect("this form says everything");
    let log: String = (0..lines)
        .map(|number| {
            format!(
                "Nov 24 10:00:00 gateway kernel: bastium cell.staff>clinical: IN=core.24 OUT=core.40 \
                 MAC=02:00:5e:01:00:09 SRC=10.44.24.{} DST=10.44.40.10 LEN=60 TOS=0x00 PREC=0x00 TTL=63 \
                 ID=1 DF PROTO=TCP SPT=40000 DPT={} WINDOW=64240 RES=0x00 SYN URGP=0\n",
                10 + number % 200,
                1 + number % 1000
            )
        })
        .collect();
    bencher.bench(|| {
        let mut tally = Tally::new(&meaning, nftables::tags(&rules));
        let read = read_packet_log(log.as_bytes(), |line, entry| tally.add(line, entry));
        assert_eq!(read.expect("memory"), lines as u64);
        tally.finish().groups.len()
    });
}

/// The whole process, where this machine can.
#[divan::bench(max_time = 20, sample_count = 5)]
fn rehearse_the_clinic(bencher: Bencher<'_, '_>) {
    let plan = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/clinic.toml");
    bencher.bench(|| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_bastium"));
        command.args(["rehearse", "--plan", plan, "--quiet"]).stdout(Stdio::null());
        command.status().expect("the program starts").code()
    });
}
