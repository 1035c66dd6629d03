//! One result, and the file that holds them.

use crate::edition::EDITION;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// How far the clocks of two people may differ.
const CLOCKS_DIFFER: SignedDuration = SignedDuration::from_secs(60);

/// The longest reason why a line is no result, in characters.
const LONGEST_REASON: usize = 300;

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
#[serde(deny_unknown_fields)]
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
    pub at: Timestamp,
    /// Where it was made.
    pub place: String,
    /// Whether the gateway answered, from the same address, before and after.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub gateway_answered: bool,
    /// Whether both ends were the tester's own, and the gateway answered both, before and after.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub both_ends: bool,
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

impl BadLine {
    /// As much of the reason as tells what it is: it can quote the line.
    fn new(line: usize, why: &str) -> Self {
        Self { line, why: why.chars().take(LONGEST_REASON).collect() }
    }
}

impl Record {
    /// Why a result cannot be one, at that time; `None` if it can.
    fn fault(&self, now: Timestamp) -> Option<String> {
        if self.bastium != EDITION {
            return Some(format!(
                "it is of edition {}, and this program knows {EDITION}",
                self.bastium
            ));
        }
        if self.at.duration_since(now) > CLOCKS_DIFFER {
            return Some(format!("its time, {}, has not come yet", self.at));
        }
        let seen = self.seen.as_deref()?;
        // After a colon there are details.
        let word = seen.split(':').next().unwrap_or_default();
        match self.outcome {
            Outcome::Pass if word != self.expect => {
                Some(format!("it passed with {seen}, where {} was expected", self.expect))
            }
            Outcome::Fail if seen == self.expect => {
                Some(format!("it failed with {seen}, as expected"))
            }
            _ => None,
        }
    }
}

/// Reads a file of results as they are known at a time. A line that cannot be read, as one that a power cut has cut
/// off, or that contradicts itself, is reported and left out; the others stay.
pub fn read(text: &str, now: Timestamp) -> (Vec<Record>, Vec<BadLine>) {
    let (mut records, mut bad) = (Vec::new(), Vec::new());
    for (index, line) in text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()) {
        match serde_json::from_str::<Record>(line) {
            Ok(record) => match record.fault(now) {
                None => records.push(record),
                Some(why) => bad.push(BadLine::new(index + 1, &why)),
            },
            Err(error) => bad.push(BadLine::new(index + 1, &error.to_string())),
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
