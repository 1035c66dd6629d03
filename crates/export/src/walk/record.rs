//! One result, and the file of them.

use serde::{Deserialize, Serialize};

/// How a check went.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Outcome {
    /// As expected.
    Pass,
    /// Not as expected.
    Fail,
    /// It was left out.
    Skip,
    /// Only something to remember.
    Note,
}

/// One line of the file of results.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Record {
    /// The edition of the line.
    pub bastium: u8,
    /// The check's id.
    pub id: String,
    /// How it went.
    pub outcome: Outcome,
    /// What was expected.
    pub expect: String,
    /// What came back, as far as it is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<String>,
    /// Who made it.
    pub by: String,
    /// When (RFC 3339).
    pub at: String,
    /// Where it was made.
    pub place: String,
    /// What the person had to say.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// What the check was about; another one has to be made again.
    pub means: String,
}

/// A line that is no result.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BadLine {
    /// Its number, counted from 1.
    pub line: usize,
    /// What is wrong with it.
    pub why: String,
}

/// Reads a file of results. A line that cannot be read, as one that a power cut has cut off, is told and
/// left out; the others stay.
pub fn read(text: &str) -> (Vec<Record>, Vec<BadLine>) {
    let (mut records, mut bad) = (Vec::new(), Vec::new());
    for (index, line) in text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()) {
        match serde_json::from_str::<Record>(line) {
            Ok(record) => records.push(record),
            Err(error) => bad.push(BadLine { line: index + 1, why: error.to_string() }),
        }
    }
    (records, bad)
}

/// The line of a result, its end included.
pub fn line(record: &Record) -> String {
    // Strings, numbers and words of ours always can be written.
    let json = serde_json::to_string(record).unwrap_or_default();
    format!("{json}\n")
}
