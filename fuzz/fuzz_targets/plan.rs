//! Any bytes as a plan: it is read or refused, and what is read can be checked, compiled and edited.

#![no_main]

use bastium_core::findings;
use bastium_core::meaning::Meaning;
use bastium_core::rules;
use bastium_planfile::edit::{Edit, apply};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let day = jiff::civil::date(2026, 11, 24);
    if let Ok(plan) = bastium_planfile::read("plan", bytes) {
        let meaning = Meaning::new(&plan, day);
        let _ = findings::find(&plan, day, meaning.as_ref().map_err(Vec::as_slice));
        if let Ok(meaning) = &meaning {
            let _ = rules::compile(meaning);
        }
    }
    if let Ok(text) = std::str::from_utf8(bytes) {
        let (kind, name) = ("zone".to_owned(), "staff".to_owned());
        let _ = apply(text, &Edit::Remove { kind, name });
        let (old, new) = ("desks".to_owned(), "tables".to_owned());
        let _ = apply(text, &Edit::Rename { kind: None, old, new });
        let _ = apply(text, &Edit::Draft);
    }
});
