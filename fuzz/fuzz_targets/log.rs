//! Any bytes as a packet log: whatever is in it is counted, and every offer can be added to the plan.

#![no_main]

use bastium_core::blocked::Tally;
use bastium_core::meaning::Meaning;
use bastium_core::rules;
use bastium_gateway::{nftables, read_packet_log};
use libfuzzer_sys::fuzz_target;
use std::sync::LazyLock;

static PLAN: LazyLock<bastium_core::plan::Plan> = LazyLock::new(|| {
    bastium_planfile::read("plan", include_bytes!("../../demo/bare.toml")).expect("a plan")
});

fuzz_target!(|bytes: &[u8]| {
    let day = jiff::civil::date(2026, 11, 24);
    let meaning = Meaning::new(&PLAN, day).expect("a meaning");
    let rules = rules::compile(&meaning);
    let mut tally = Tally::new(&meaning, nftables::tags(&rules));
    let mut packets = 0;
    let lines = read_packet_log(bytes, |line, entry| {
        packets += 1;
        tally.add(line, entry);
    });
    let lines = lines.expect("memory can be read");
    assert!(packets <= lines);
    let counted: u64 = tally.finish().groups.iter().map(|group| group.count).sum();
    assert!(counted <= packets);
});
