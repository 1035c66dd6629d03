//! How the cost of whole commands grows with what they are given: the built program on made plans and files, on one
//! core. Prints a table with the median of the runs, the peak of the memory, and the exponent of the growth from the
//! first size to the last: 1 is linear, 2 is quadratic. Run with `cargo bench -p bastium --bench growth`; a word after
//! `--` chooses the rows that have it.

#![cfg(target_os = "linux")]
#![allow(clippy::print_stdout, reason = "a benchmark tells what it measured")]

#[allow(dead_code, reason = "each of the benchmarks uses some of it")]
#[path = "../../planfile/benches/made.rs"]
mod made;
#[path = "growth/sites.rs"]
mod sites;

use rustix::thread::{CpuSet, sched_setaffinity};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// The built program, and the plan of the demo site.
const PROGRAM: &str = env!("CARGO_BIN_EXE_bastium");
const CLINIC: &str = include_str!("../../../demo/clinic.toml");
/// Runs are repeated until they have taken so long together, and a few times at least; after so long no more is begun.
const ENOUGH: Duration = Duration::from_secs(3);
const AT_LEAST: usize = 3;
const TOO_LONG: Duration = Duration::from_secs(20);

/// What is written for a size: files by name.
type Files = fn(usize) -> Vec<(&'static str, String)>;

/// Something that is measured at several sizes.
struct Row {
    what: &'static str,
    /// What the sizes count.
    of: &'static str,
    words: &'static str,
    sizes: &'static [usize],
    files: Files,
}

const RULES: &[usize] = &[100, 1_000, 10_000, 100_000];
const TO_TEN_THOUSAND: &[usize] = &[100, 1_000, 10_000];

fn made(size: usize) -> Vec<(&'static str, String)> {
    vec![("plan.toml", made::skewed(size))]
}

/// With a rule for every cell and every exception.
fn made_unreduced(size: usize) -> Vec<(&'static str, String)> {
    let gateway = "[gateway]\nrules = \"every-cell\"\n[uplink.";
    vec![("plan.toml", made::skewed(size).replacen("[uplink.", gateway, 1))]
}

fn of_networks(size: usize) -> Vec<(&'static str, String)> {
    vec![("plan.toml", sites::networks(size, 6))]
}

fn of_zones(size: usize) -> Vec<(&'static str, String)> {
    vec![("plan.toml", sites::networks(size, size))]
}

fn of_demo(_: usize) -> Vec<(&'static str, String)> {
    vec![("plan.toml", CLINIC.to_owned())]
}

macro_rules! foreign {
    ($made:path) => {
        |size| vec![("plan.toml", CLINIC.to_owned()), ("given", $made(size))]
    };
}

const ROWS: &[Row] = &[
    Row { what: "check", of: "demo", words: "check", sizes: &[1], files: of_demo },
    Row { what: "ask", of: "demo", words: "ask desks records https", sizes: &[1], files: of_demo },
    Row {
        what: "prove --all-forms",
        of: "demo",
        words: "prove --all-forms",
        sizes: &[1],
        files: of_demo,
    },
    Row { what: "export md", of: "demo", words: "export md", sizes: &[1], files: of_demo },
    Row { what: "checklist", of: "demo", words: "checklist", sizes: &[1], files: of_demo },
    Row {
        what: "checklist --full",
        of: "demo",
        words: "checklist --full",
        sizes: &[1],
        files: of_demo,
    },
    Row {
        what: "draw zones",
        of: "demo",
        words: "draw zones --to p.svg --force",
        sizes: &[1],
        files: of_demo,
    },
    Row {
        what: "draw site, PNG",
        of: "demo",
        words: "draw site --to p.png --force",
        sizes: &[1],
        files: of_demo,
    },
    Row { what: "report", of: "demo", words: "report", sizes: &[1], files: of_demo },
    Row {
        what: "report",
        of: "networks",
        words: "report",
        sizes: &[10, 30, 100, 300],
        files: of_networks,
    },
    Row {
        what: "draw matrix",
        of: "zones",
        words: "draw matrix",
        sizes: &[10, 50, 200],
        files: of_zones,
    },
    Row { what: "check", of: "rules", words: "check", sizes: RULES, files: made },
    Row { what: "prove", of: "rules", words: "prove", sizes: RULES, files: made },
    Row {
        what: "prove, rules = \"every-cell\"",
        of: "rules",
        words: "prove",
        sizes: RULES,
        files: made_unreduced,
    },
    Row {
        what: "prove --form per-interface",
        of: "rules",
        words: "prove --form per-interface",
        sizes: TO_TEN_THOUSAND,
        files: made,
    },
    Row {
        what: "prove",
        of: "networks",
        words: "prove",
        sizes: &[10, 100, 1_000],
        files: of_networks,
    },
    Row {
        what: "export nftables",
        of: "networks",
        words: "export nftables",
        sizes: &[10, 100, 300, 1_000],
        files: of_networks,
    },
    Row {
        what: "draw zones",
        of: "rules",
        words: "draw zones --to p.svg --force",
        sizes: TO_TEN_THOUSAND,
        files: made,
    },
    Row { what: "export md", of: "rules", words: "export md", sizes: TO_TEN_THOUSAND, files: made },
    Row { what: "matrix", of: "zones", words: "matrix", sizes: &[10, 50, 200], files: of_zones },
    Row { what: "matrix", of: "rules", words: "matrix", sizes: RULES, files: made },
    Row {
        what: "ask --batch",
        of: "questions",
        words: "ask --batch given",
        sizes: &[100, 1_000, 10_000, 100_000],
        files: foreign!(sites::questions),
    },
    Row {
        what: "ask --batch, 2,000 questions",
        of: "rules",
        words: "ask --batch given",
        sizes: TO_TEN_THOUSAND,
        files: |size| {
            vec![("plan.toml", made::skewed(size)), ("given", sites::questions_of_hosts(2_000))]
        },
    },
    Row {
        what: "checklist --full",
        of: "rules",
        words: "checklist --full",
        sizes: &[100, 1_000, 3_000],
        files: made,
    },
    Row {
        what: "checklist",
        of: "zones",
        words: "checklist",
        sizes: &[10, 30, 100],
        files: of_zones,
    },
    Row {
        what: "checklist --full",
        of: "zones",
        words: "checklist --full",
        sizes: &[10, 30, 100],
        files: of_zones,
    },
    Row {
        what: "checklist --full",
        of: "odd ports of a service",
        words: "checklist --full",
        sizes: &[10, 100, 1_000],
        files: |size| vec![("plan.toml", sites::odd_ports(size))],
    },
    Row {
        what: "check",
        of: "nested exceptions",
        words: "check",
        sizes: &[50, 200, 800],
        files: |size| vec![("plan.toml", sites::nested(size))],
    },
    Row {
        what: "audit",
        of: "foreign rules",
        words: "audit given",
        sizes: &[100, 1_000, 4_000],
        files: foreign!(sites::foreign),
    },
    Row {
        what: "audit",
        of: "ports of a foreign set",
        words: "audit given",
        sizes: &[80, 800, 8_000],
        files: foreign!(sites::foreign_set),
    },
    Row {
        what: "audit",
        of: "foreign lines of a port each",
        words: "audit given",
        sizes: &[10, 100, 400],
        files: foreign!(sites::foreign_ports),
    },
    Row {
        what: "audit",
        of: "lines that cannot be read",
        words: "audit given",
        sizes: &[100, 1_000, 10_000],
        files: foreign!(sites::foreign_words),
    },
    Row {
        what: "audit",
        of: "chains that lead into each other",
        words: "audit given",
        sizes: &[4, 6, 8, 10],
        files: foreign!(sites::foreign_chains),
    },
    Row {
        what: "add --table, most clash",
        of: "rows",
        words: "add host --table given.csv --dry-run",
        sizes: &[20, 200, 2_000],
        files: |size| {
            vec![("plan.toml", sites::networks(4, 2)), ("given.csv", sites::clashing_hosts(size))]
        },
    },
];

/// What a size came to.
struct Measured {
    size: usize,
    time: Duration,
    /// In KiB.
    memory: u64,
}

fn main() {
    // One core for all runs; where that cannot be had they have what there is.
    let mut one = CpuSet::new();
    one.set(0);
    let _ = sched_setaffinity(None, &one);
    let chosen: Vec<String> =
        std::env::args().skip(1).filter(|word| !word.starts_with('-')).collect();
    println!("| command | by | sizes | median, ms | peak, MB | exponent |");
    println!("|---|---|---|---|---|---|");
    for row in ROWS.iter().filter(|row| {
        chosen.iter().all(|word| [row.what, row.of].iter().any(|text| text.contains(word.as_str())))
    }) {
        let mut all: Vec<Measured> = Vec::new();
        for &size in row.sizes {
            all.push(measure(row, size));
            if all.last().is_some_and(|last| last.time > TOO_LONG) {
                break;
            }
        }
        println!("{}", line(row, &all));
    }
}

fn line(row: &Row, all: &[Measured]) -> String {
    let list =
        |word: &dyn Fn(&Measured) -> String| all.iter().map(word).collect::<Vec<_>>().join(" / ");
    let millis = |one: &Measured| match one.time.as_secs_f64() * 1_000.0 {
        few if few < 10.0 => format!("{few:.1}"),
        many => format!("{many:.0}"),
    };
    let exponent = match all {
        [first, .., last] => {
            let (times, sizes) = (
                last.time.as_secs_f64() / first.time.as_secs_f64(),
                last.size as f64 / first.size as f64,
            );
            format!("{:.2}", times.ln() / sizes.ln())
        }
        _ => String::new(),
    };
    format!(
        "| {} | {} | {} | {} | {} | {exponent} |",
        row.what,
        row.of,
        list(&|one| one.size.to_string()),
        list(&millis),
        list(&|one| (one.memory / 1_024).to_string()),
    )
}

/// The median of some runs, and the peak of all.
fn measure(row: &Row, size: usize) -> Measured {
    let folder = tempfile::tempdir().expect("a folder");
    for (name, text) in (row.files)(size) {
        std::fs::write(folder.path().join(name), text).expect("a file");
    }
    let (mut times, mut memory) = (Vec::new(), 0);
    let begun = Instant::now();
    while times.len() < AT_LEAST || begun.elapsed() < ENOUGH {
        let (time, peak) = run(row.words, folder.path());
        times.push(time);
        memory = memory.max(peak);
        if begun.elapsed() > TOO_LONG {
            break;
        }
    }
    times.sort_unstable();
    Measured { size, time: times[times.len() / 2], memory }
}

/// Runs the program once: how long it takes, and the most memory that it was seen to have.
fn run(words: &str, folder: &Path) -> (Duration, u64) {
    let mut command = Command::new(PROGRAM);
    command.args(words.split(' ')).args(["--plan", "plan.toml"]);
    // An edit is of no day.
    if !words.starts_with("add ") {
        command.args(["--day", "2026-11-24"]);
    }
    command.current_dir(folder).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    let begun = Instant::now();
    let mut child = command.spawn().expect("the program starts");
    let status = format!("/proc/{}/status", child.id());
    let mut peak = 0;
    loop {
        // A process that has ended has no memory any more.
        let now = std::fs::read_to_string(&status).unwrap_or_default();
        let now = now
            .lines()
            .find_map(|line| line.strip_prefix("VmHWM:")?.trim().split(' ').next()?.parse().ok());
        peak = peak.max(now.unwrap_or(0));
        if let Some(ended) = child.try_wait().expect("it can be waited for") {
            let time = begun.elapsed();
            assert!(ended.code().is_some_and(|code| code < 2), "{words}: {ended}");
            return (time, peak);
        }
        std::thread::sleep(Duration::from_micros(500));
    }
}
