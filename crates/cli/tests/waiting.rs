//! What a person sees who waits, and what is left behind where nobody does.

#![cfg(target_os = "linux")]

mod common;

use common::Bench;
use rustix::process::{Pid, Signal, kill_process};
use std::fs;
use std::os::unix::process::ExitStatusExt;
use std::process::{Command, Stdio};
use std::thread::sleep;
use std::time::Instant;

const PROGRAM: &str = env!("CARGO_BIN_EXE_bastium");

/// What a terminal shows while a plan takes two seconds and a half to come in; `None` where there is none.
#[expect(clippy::print_stderr, reason = "what is skipped is said")]
fn on_a_terminal(bench: &Bench, words: &str) -> Option<String> {
    let slowly = format!("(sleep 2.5; cat clinic.toml) | {PROGRAM} {words}");
    let shown = Command::new("script")
        .args(["-qec", &slowly, "/dev/null"])
        .env_remove("BASTIUM_PLAN")
        .current_dir(bench.path())
        .stdin(Stdio::null())
        .output();
    if shown.is_err() {
        eprintln!("skipped: no `script` on this machine to make a terminal with");
    }
    Some(String::from_utf8_lossy(&shown.ok()?.stdout).into_owned())
}

#[test]
fn whoever_waits_at_a_terminal_sees_what_for() {
    let bench = Bench::new();
    let words = format!("prove --plan - --day {}", common::DAY);
    let Some(shown) = on_a_terminal(&bench, &words) else { return };
    assert!(shown.contains("\rproving the rules: 1 s\x1b[K"), "{shown:?}");
    // It is gone before the answer comes.
    let (before, answer) = shown.split_once("proved:").expect("an answer");
    let wiped = before.rfind("\r\x1b[K").expect("it is wiped");
    assert!(!before[wiped..].contains(" s\x1b"), "{before:?}");
    assert!(!answer.contains("proving the rules"), "{answer:?}");
    for nobody in [format!("{words} --quiet"), format!("{words} 2>errors")] {
        let shown = on_a_terminal(&bench, &nobody).expect("a terminal");
        assert!(!shown.contains("proving the rules"), "{nobody}: {shown:?}");
    }
    assert_eq!(fs::read_to_string(bench.file("errors")).expect("a file"), "");
}

/// Whenever it comes, an interruption leaves the old file or the new one, and nothing beside it; and whoever started
/// the exit status shows which signal ended the run.
#[test]
fn an_interruption_leaves_nothing_half_done() {
    let bench = Bench::new();
    let whole = |text: &str| text.ends_with("}\n") || text == "old\n";
    let begun = Instant::now();
    let run = bench.clinic("export nftables --to rules.nft");
    assert_eq!(run.code, 0, "{}", run.err);
    let length = begun.elapsed();
    let mut interrupted = 0;
    for step in 0u32..40 {
        fs::write(bench.file("rules.nft"), "old\n").expect("a file");
        let signal = [Signal::INT, Signal::TERM][step as usize % 2];
        let mut child = Command::new(PROGRAM)
            .args(["export", "nftables", "--to", "rules.nft", "--force", "--plan", "clinic.toml"])
            .args(["--day", common::DAY])
            .current_dir(bench.path())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("it starts");
        sleep(length * step / 35);
        let _ = kill_process(Pid::from_child(&child), signal);
        let status = child.wait().expect("it ends");
        let ended_by = status.signal();
        assert!(status.success() || ended_by == Some(signal.as_raw()), "{status:?}");
        interrupted += u32::from(ended_by.is_some());
        let text = fs::read_to_string(bench.file("rules.nft")).expect("a file");
        assert!(whole(&text), "a half: {text}");
        let names = fs::read_dir(bench.path()).expect("a folder").flatten();
        let left: Vec<_> = names
            .map(|entry| entry.file_name().to_string_lossy().into_owned())
            .filter(|name| name.starts_with(".bastium-"))
            .collect();
        assert!(left.is_empty(), "{left:?}");
    }
    assert!(interrupted > 5, "only {interrupted} of 40 were interrupted at all");
}

/// An ignored signal stays ignored.
#[test]
fn a_signal_that_is_ignored_stays_ignored() {
    let bench = Bench::new();
    let script = format!(
        "trap '' INT; (sleep 1; cat clinic.toml) | {PROGRAM} export nftables --plan - --to rules.nft --day {} & \
         sleep 0.5; kill -INT $!; wait $!; echo ended $?",
        common::DAY
    );
    let run = Command::new("sh").args(["-c", &script]).current_dir(bench.path()).output();
    let out = String::from_utf8_lossy(&run.expect("a shell").stdout).into_owned();
    assert!(out.contains("ended 0"), "{out}");
    assert!(bench.file("rules.nft").exists());
}
