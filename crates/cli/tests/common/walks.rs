//! Walks through the whole list of the clinic, by hand.

use super::{Bench, DAY, Run};
use serde_json::Value;

/// Where the results of a walk through the clinic are kept.
pub(crate) const RESULTS: &str = "clinic.walk.jsonl";

/// Walks by hand, with these keys.
pub(crate) fn walk(bench: &Bench, words: &str, keys: &str) -> Run {
    let words: Vec<&str> = words.split_whitespace().collect();
    let mut command = bench.command();
    command.args(["walk", "--full"]).args(words).args([
        "--plan",
        "clinic.toml",
        "--day",
        DAY,
        "--by",
        "ana",
    ]);
    Run::of(command.write_stdin(keys))
}

/// What came of the whole list so far.
pub(crate) fn status(bench: &Bench) -> Value {
    bench.clinic("walk --full --status --format json").json()
}

/// What came of one check.
pub(crate) fn outcome(status: &Value, id: &str) -> String {
    let results = status["results"].as_array().expect("rows");
    let row = results.iter().find(|row| row["id"] == id).unwrap_or_else(|| panic!("{id}"));
    row["outcome"].as_str().expect("a word").to_owned()
}
