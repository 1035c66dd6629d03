//! What holds of the project as a whole: licences, the oldest Rust, which crate knows which, and the size of files.

mod common;

use common::repository;
use serde_json::Value;
use std::path::{Path, PathBuf};
use std::process::Command;

/// All packages that the program is built of, with ours; `None` where they are not all at hand.
fn packages() -> Option<Vec<Value>> {
    let host = Command::new("rustc").arg("-vV").output().ok()?;
    let host = String::from_utf8(host.stdout).ok()?;
    let host = host.lines().find_map(|line| line.strip_prefix("host: "))?.to_owned();
    let run = Command::new(env!("CARGO"))
        .args(["metadata", "--format-version", "1", "--offline", "--locked"])
        .args(["--filter-platform", &host])
        .current_dir(repository())
        .output()
        .ok()?;
    let json: Value = serde_json::from_slice(&run.stdout).ok()?;
    Some(json["packages"].as_array()?.clone())
}

#[expect(clippy::print_stderr, reason = "what is skipped is said")]
fn packages_or_skip() -> Vec<Value> {
    packages().unwrap_or_else(|| {
        eprintln!("skipped: cargo cannot say offline what the program is built of");
        Vec::new()
    })
}

/// Whether a licence expression (SPDX, with `/` as people write it) can be met by licences that are allowed.
fn is_allowed(expression: &str, allowed: &[&str]) -> bool {
    let words = expression.replace('/', " OR ").replace(['(', ')'], " ");
    let all = words
        .split(" AND ")
        .map(|part| part.split(" OR ").map(str::trim).any(|licence| allowed.contains(&licence)));
    all.into_iter().all(|one| one)
}

#[test]
fn licences_are_those_that_are_allowed() {
    let deny = std::fs::read_to_string(repository().join("deny.toml")).expect("deny.toml");
    let list = deny.split("allow = [").nth(1).and_then(|rest| rest.split(']').next());
    let allowed: Vec<&str> = list.expect("a list").split('"').skip(1).step_by(2).collect();
    assert!(allowed.contains(&"MIT") && !allowed.contains(&"GPL-3.0-only"));
    assert!(is_allowed("(MIT OR Apache-2.0) AND Unicode-3.0", &allowed));
    assert!(!is_allowed("MIT AND GPL-3.0-only", &allowed) && !is_allowed("SSPL-1.0", &allowed));
    for package in packages_or_skip() {
        let licence = package["license"].as_str().unwrap_or("none");
        assert!(is_allowed(licence, &allowed), "{}: {licence}", package["name"]);
    }
}

/// Nothing that the program is built of takes a newer Rust than the README says.
#[test]
fn the_oldest_rust_is_the_one_that_is_said() {
    let version = |text: &str| -> Vec<u32> {
        text.split('.').take(2).map(|part| part.parse().expect("a number")).collect()
    };
    let ours = version(env!("CARGO_PKG_RUST_VERSION"));
    let readme = std::fs::read_to_string(repository().join("README.md")).expect("the README");
    assert!(readme.contains(&format!("Rust {} or later", env!("CARGO_PKG_RUST_VERSION"))));
    for package in packages_or_skip() {
        if let Some(needed) = package["rust_version"].as_str() {
            assert!(version(needed) <= ours, "{} needs Rust {needed}", package["name"]);
        }
    }
}

/// Arrows between our crates go one way, as docs/architecture.md says.
#[test]
fn crates_know_only_those_below_them() {
    let knows: [(&str, &[&str]); 8] = [
        ("core", &[]),
        ("planfile", &["core"]),
        ("gateway", &["core"]),
        ("picture", &[]),
        ("report", &["core", "gateway", "picture"]),
        ("testbed", &["core", "gateway"]),
        ("wire", &["core", "gateway"]),
        ("cli", &["core", "gateway", "picture", "planfile", "report", "testbed", "wire"]),
    ];
    for (name, allowed) in knows {
        let path = repository().join(format!("crates/{name}/Cargo.toml"));
        let text = std::fs::read_to_string(path).expect("a manifest");
        let own = text.split("[dev-dependencies]").next().expect("the first part");
        let known = own.lines().filter_map(|line| line.strip_prefix("bastium-"));
        for known in known.map(|rest| rest.split(['.', ' ']).next().expect("a name")) {
            assert!(allowed.contains(&known), "{name} knows {known}");
        }
    }
}

fn sources(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).expect("a folder") {
        let path = entry.expect("an entry").path();
        if path.is_dir() {
            sources(&path, found);
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            found.push(path);
        }
    }
}

/// The sources of all crates.
fn all_sources() -> Vec<PathBuf> {
    let mut all = Vec::new();
    for name in ["core", "planfile", "gateway", "picture", "report", "testbed", "wire", "cli"] {
        sources(&repository().join(format!("crates/{name}/src")), &mut all);
    }
    assert!(all.len() > 200, "{}", all.len());
    all
}

/// IPv4 or IPv6 is no yes or no: whoever calls `first(set, true)` does not see which it is.
#[test]
fn families_are_said_by_name() {
    for path in all_sources() {
        let text = std::fs::read_to_string(&path).expect("a source");
        for (number, line) in (1..).zip(text.lines()) {
            let is_flag = line.contains("v6: bool") && !line.contains("ipv6: bool");
            let is_both =
                line.contains("v6 in [false, true]") || line.contains("[false, true].map(|v6|");
            assert!(!is_flag && !is_both, "{}:{number}: {line}", path.display());
        }
    }
}

#[test]
fn files_say_what_they_are_and_stay_short() {
    for path in all_sources() {
        let text = std::fs::read_to_string(&path).expect("a source");
        assert!(text.starts_with("//!"), "{}: it does not say what it is", path.display());
        let lines = text.lines().count();
        assert!(lines <= 520, "{}: {lines} lines", path.display());
    }
}

/// What is compiled in lies in the crate that has it, so that the crate is whole wherever it is put.
#[test]
fn what_is_compiled_in_lies_in_its_crate() {
    let mut count = 0;
    for file in all_sources() {
        let text = std::fs::read_to_string(&file).expect("a source");
        let quoted = ["include_str!(\"", "include_bytes!(\""];
        for path in quoted.iter().flat_map(|start| text.split(start).skip(1)) {
            let path = path.split('"').next().expect("a path");
            let ups = path.split('/').take_while(|part| *part == "..").count();
            let inside = file.strip_prefix(repository().join("crates")).expect("a crate's");
            // The crate's name, and the file's.
            let deep = inside.components().count() - 2;
            assert!(ups <= deep, "{} has {path}", file.display());
            count += 1;
        }
    }
    assert!(count > 5, "{count}");
}
