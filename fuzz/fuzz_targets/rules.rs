//! Any text as a rule list that somebody wrote: it is understood as far as it goes, and what was understood
//! can be looked at line by line and held against a plan.

#![no_main]

use bastium_core::proof::planless_changes;
use bastium_gateway::foreign::read_rules;
use libfuzzer_sys::fuzz_target;
use std::sync::LazyLock;

static PLAN: LazyLock<bastium_core::plan::Plan> = LazyLock::new(|| {
    bastium_planfile::read("plan", include_bytes!("../../demo/bare.toml")).expect("a plan")
});

fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    for plan in [None, Some(&*PLAN)] {
        let Ok(foreign) = read_rules(text, plan) else { continue };
        // Long lists are a matter of time, not of safety.
        if foreign.lines.len() > 64 {
            continue;
        }
        let lines = foreign.bare();
        let singles = foreign.singles();
        assert!(singles.shadowed.iter().all(|(place, _)| *place < lines.len()));
        let (changes, _) = planless_changes(foreign.ways.interfaces(), &lines, &lines);
        assert!(changes.is_empty(), "a list differs from itself");
    }
});
