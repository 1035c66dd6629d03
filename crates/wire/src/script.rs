//! The script that runs in the gateway's shell.

use std::fmt::{self, Write};
use std::hash::{BuildHasher, RandomState};
use std::str::FromStr;

/// What runs on a gateway.
const GATEWAY: &str = include_str!("gateway.sh");

/// Which load it is: eight hexadecimal digits, which also name its folder on the gateway.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LoadId(String);

/// A text that is no id of a load.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the id of a load has eight digits, 0-9 and a-f")]
pub struct NotAnId;

impl LoadId {
    /// One that was not there before.
    pub fn fresh() -> Self {
        Self(format!("{:08x}", random() & 0xffff_ffff))
    }

    /// The digits.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl FromStr for LoadId {
    type Err = NotAnId;

    fn from_str(text: &str) -> Result<Self, NotAnId> {
        let digits = text.bytes().all(|byte| matches!(byte, b'0'..=b'9' | b'a'..=b'f'));
        if text.len() == 8 && digits { Ok(Self(text.to_owned())) } else { Err(NotAnId) }
    }
}

impl fmt::Display for LoadId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// A number that nobody outside can know: the standard library seeds its hashing by the system's randomness.
fn random() -> u64 {
    RandomState::new().hash_one(std::process::id())
}

/// One step on the gateway, with the files that it needs there.
#[derive(Debug)]
pub(crate) struct Script {
    /// What begins each part of its answer.
    pub(crate) mark: String,
    text: String,
}

impl Script {
    /// A step of a load.
    pub(crate) fn new(verb: &str, id: &LoadId) -> Self {
        Self::with(verb, id, "", 0, &[])
    }

    /// A step with who takes it, a number of seconds, and files with their names.
    pub(crate) fn with(
        verb: &str,
        id: &LoadId,
        who: &str,
        seconds: u32,
        files: &[(&str, &str)],
    ) -> Self {
        let mark = format!("bastium-{:016x}{:016x}", random(), random());
        let head = head(&mark, verb, id, who, seconds);
        // A function is read whole before any of it runs, and the last line calls it: whatever is cut off does nothing.
        let mut text = format!("{head}{GATEWAY}\nfiles() {{\n:\n");
        for (name, body) in files {
            let end = if body.ends_with('\n') || body.is_empty() { "" } else { "\n" };
            let _ =
                writeln!(text, "cat >\"$mine/{name}\" <<'{mark}' || return 1\n{body}{end}{mark}");
        }
        text.push_str("}\nmain </dev/null\n");
        Self { mark, text }
    }

    pub(crate) fn text(&self) -> &str {
        &self.text
    }
}

fn head(mark: &str, verb: &str, id: &LoadId, who: &str, seconds: u32) -> String {
    let plain = |one: &char| one.is_ascii_alphanumeric() || "@._- ".contains(*one);
    let who: String = who.chars().filter(plain).take(100).collect();
    format!("mark={mark}\nverb={verb}\nid={id}\nwho='{who}'\nseconds={seconds}\n")
}

/// The script as a file on the gateway, for what brings the old rules back by itself.
pub(crate) fn watcher(id: &LoadId) -> String {
    format!("{}{GATEWAY}\nmain \"$@\"\n", head("none", "watch", id, "", 0))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_eight_digits_are_an_id() {
        assert!(LoadId::fresh().as_str().parse::<LoadId>().is_ok());
        for text in [
            "",
            "1234567",
            "123456789",
            "../../..",
            "1234567G",
            "12345 78",
            "1234567\n",
            "ABCDEF01",
        ] {
            assert_eq!(text.parse::<LoadId>(), Err(NotAnId), "{text}");
        }
    }

    #[test]
    fn who_loads_is_never_more_than_a_name() {
        let id = LoadId::fresh();
        let script = Script::with("look", &id, "a'; rm -rf /; '$(x)`\n", 0, &[]);
        assert!(script.text().contains("who='a rm -rf  x'\n"));
    }
}
