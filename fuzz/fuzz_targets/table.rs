//! Any bytes as a table of devices or networks: rows are understood or reported of, and what is added leaves
//! a text that can be read.

#![no_main]

use bastium_planfile::edit::{Edit, apply, read_csv, understand};
use libfuzzer_sys::fuzz_target;
use std::sync::LazyLock;

static PLAN: LazyLock<bastium_core::plan::Plan> = LazyLock::new(|| {
    bastium_planfile::read("plan", include_bytes!("../../demo/bare.toml")).expect("a plan")
});

fuzz_target!(|bytes: &[u8]| {
    let Ok(mut rows) = read_csv(bytes, 200) else { return };
    if rows.is_empty() {
        return;
    }
    let headings = rows.remove(0);
    for kind in ["host", "network"] {
        let Ok(understood) = understand(kind, &headings, &rows, &PLAN) else { continue };
        let mut text = include_str!("../../demo/bare.toml").to_owned();
        for entry in understood.entries.into_iter().take(5) {
            let edit = Edit::Add {
                kind: kind.to_owned(),
                name: entry.name,
                settings: entry.settings,
                like: None,
                open_by_trust: false,
            };
            if let Ok(new) = apply(&text, &edit) {
                let _ = bastium_planfile::read("plan", new.as_bytes());
                text = new;
            }
        }
    }
});
