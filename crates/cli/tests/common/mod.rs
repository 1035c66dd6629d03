//! A folder of its own for each test, and the built program in a clean environment.

#![allow(dead_code, reason = "no test file uses all of it")]

pub(crate) mod walks;

use assert_cmd::Command;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

/// The day that all tests are on.
pub(crate) const DAY: &str = "2026-11-24";

/// A temporary folder with the demo plans in it.
pub(crate) struct Bench {
    folder: TempDir,
}

/// What a run left behind.
pub(crate) struct Run {
    /// Standard output.
    pub(crate) out: String,
    /// Standard error.
    pub(crate) err: String,
    /// The exit code.
    pub(crate) code: i32,
}

impl Bench {
    /// A folder with the demo plans.
    pub(crate) fn new() -> Self {
        let folder = TempDir::new().expect("a temporary folder");
        let bench = Self { folder };
        for name in ["clinic.toml", "bare.toml", "farm.toml"] {
            bench.write(name, demo(name));
        }
        bench
    }

    /// The folder.
    pub(crate) fn path(&self) -> &Path {
        self.folder.path()
    }

    /// A file in the folder.
    pub(crate) fn file(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// Writes a file.
    pub(crate) fn write(&self, name: &str, text: impl AsRef<[u8]>) {
        std::fs::write(self.file(name), text).expect("the folder can be written to");
    }

    /// The program in this folder, with nothing of the outer environment.
    pub(crate) fn command(&self) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_bastium"));
        command.env_clear().env("COLUMNS", "80").current_dir(self.path());
        command
    }

    /// Runs the program with these words, split at spaces.
    pub(crate) fn run(&self, words: &str) -> Run {
        self.run_words(&words.split_whitespace().collect::<Vec<_>>())
    }

    /// Runs the program with these words.
    pub(crate) fn run_words(&self, words: &[&str]) -> Run {
        Run::of(self.command().args(words))
    }

    /// Runs a command on the clinic's plan, on the day of the tests.
    pub(crate) fn clinic(&self, words: &str) -> Run {
        let timeless =
            ["addresses", "ports", "explain", "services", "schema", "set", "matrix --draft"];
        let dated = !timeless.iter().any(|command| words.starts_with(command));
        let day = if dated { format!("--day {DAY}") } else { String::new() };
        self.run(&format!("{words} --plan clinic.toml {day}"))
    }
}

impl Run {
    /// Runs a command.
    pub(crate) fn of(command: &mut Command) -> Self {
        let output = command.output().expect("the program starts");
        Self {
            out: String::from_utf8(output.stdout).expect("standard output is text"),
            err: String::from_utf8(output.stderr).expect("standard error is text"),
            code: output.status.code().expect("the program ends by itself"),
        }
    }

    /// The result as JSON.
    pub(crate) fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.out).unwrap_or_else(|error| panic!("{error}: {}", self.out))
    }

    /// Everything in one text, for a snapshot.
    pub(crate) fn all(&self) -> String {
        let mut text = self.out.clone();
        if !self.err.is_empty() {
            text.push_str(&format!("--- standard error\n{}", self.err));
        }
        format!("{text}--- exit code {}\n", self.code)
    }
}

/// A demo plan of the repository.
pub(crate) fn demo(name: &str) -> String {
    let path = repository().join("demo").join(name);
    std::fs::read_to_string(path).expect("the demo plan is there")
}

/// The repository's root.
pub(crate) fn repository() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}
