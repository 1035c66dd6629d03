//! The small plans of `demo/broken`: each with one mistake, and with a neighbour that has none.

use bastium_core::diagnosis::Severity;
use bastium_core::findings::{self, explain};
use bastium_core::meaning::Meaning;
use jiff::civil::date;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// The names of what is found in a plan and not kept as known.
fn found(file: &Path) -> Vec<&'static str> {
    let text = std::fs::read(file).expect("the plan is there");
    let plan = bastium_planfile::read("plan", &text)
        .unwrap_or_else(|refused| panic!("{}: {:#?}", file.display(), refused.diagnoses));
    let day = date(2026, 11, 24);
    let meaning = Meaning::new(&plan, day);
    let all = findings::find(&plan, day, meaning.as_ref().map_err(Vec::as_slice));
    all.iter().filter(|finding| !finding.known).map(|finding| finding.name).collect()
}

#[test]
fn every_finding_has_a_plan_that_shows_just_it_and_a_neighbour_that_does_not() {
    let mut wrong = Vec::new();
    for page in explain::PAGES.iter().filter(|page| page.severity != Severity::Error) {
        let broken = found(&root().join(format!("demo/broken/{}.toml", page.name)));
        if broken != [page.name] {
            wrong.push(format!("{}: {broken:?}", page.name));
        }
        let fine = found(&root().join(format!("demo/broken/{}.fine.toml", page.name)));
        if !fine.is_empty() {
            wrong.push(format!("{}.fine: {fine:?}", page.name));
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn no_plan_is_there_for_a_finding_that_is_not() {
    for entry in std::fs::read_dir(root().join("demo/broken")).expect("the folder is there") {
        let name = entry.expect("an entry").file_name().into_string().expect("a plain name");
        let finding = name.trim_end_matches(".toml").trim_end_matches(".fine");
        assert!(explain::page(finding).is_some(), "{name}");
    }
}

/// Whatever is reported has a page, and no page is about something that is never reported.
#[test]
fn every_name_in_the_code_has_a_page() {
    let mut reported = BTreeSet::new();
    for folder in ["crates/core/src", "crates/planfile/src"] {
        names(&root().join(folder), &mut reported);
    }
    let pages: BTreeSet<String> = explain::PAGES.iter().map(|page| page.name.to_owned()).collect();
    let unexplained: Vec<_> = reported.difference(&pages).collect();
    let idle: Vec<_> = pages.difference(&reported).collect();
    assert!(unexplained.is_empty() && idle.is_empty(), "{unexplained:?} {idle:?}");
}

fn names(folder: &Path, reported: &mut BTreeSet<String>) {
    for entry in std::fs::read_dir(folder).expect("a folder") {
        let path = entry.expect("an entry").path();
        if path.is_dir() {
            names(&path, reported);
        } else if path.extension().is_some_and(|e| e == "rs") && !path.ends_with("explain.rs") {
            // What an error of the library is called is no finding.
            let text = std::fs::read_to_string(&path).expect("text").replace("#[error(", "#[");
            for mark in ["error(\"", "warning(\"", "advice(\"", "whole(\"", "Diagnosis::new(\""] {
                let rest = text.split(mark).skip(1);
                let words = rest.filter_map(|rest| rest.split_once('"').map(|split| split.0));
                reported.extend(words.map(str::to_owned));
            }
        }
    }
}
