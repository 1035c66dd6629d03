//! Any text as a gateway's rule file: it is proved to do what a plan says, or it is not, and whatever of it
//! cannot be read is named.

#![no_main]

use bastium_core::meaning::Meaning;
use bastium_gateway::nftables::{NftOptions, prove};
use libfuzzer_sys::fuzz_target;
use std::sync::LazyLock;

static PLAN: LazyLock<bastium_core::plan::Plan> = LazyLock::new(|| {
    bastium_planfile::read("plan", include_bytes!("../../demo/bare.toml")).expect("a plan")
});

fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let meaning = Meaning::new(&PLAN, jiff::civil::date(2026, 3, 2)).expect("it has a meaning");
    if let Err(held) = prove(&meaning, text.to_owned(), NftOptions::default()) {
        assert!(!held.holds(), "refused without a reason");
    }
});
