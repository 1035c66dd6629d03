//! Where results and changed plans are written, and what is left as it was.

#![cfg(unix)]

mod common;

use common::{Bench, Run, demo};
use std::fs::{self, File};
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

fn read(bench: &Bench, name: &str) -> String {
    fs::read_to_string(bench.file(name)).expect("a text")
}

#[test]
fn nothing_is_written_into_what_is_no_file() {
    let bench = Bench::new();
    let pipe = Command::new("mkfifo").arg(bench.file("pipe")).status().expect("mkfifo");
    assert!(pipe.success());
    fs::create_dir(bench.file("folder")).expect("a folder");
    symlink("/dev/null", bench.file("to-a-device")).expect("a link");
    for (path, what) in [
        ("/dev/null", "a device"),
        ("to-a-device", "a device"),
        ("pipe", "a pipe"),
        ("folder", "a folder"),
    ] {
        for words in [
            format!("export nftables --to {path} --force"),
            format!("checklist --page {path} --force"),
            format!("walk --from locum-laptop --results {path}"),
        ] {
            let mut command = bench.command();
            command.timeout(Duration::from_secs(20)).write_stdin("p\nq\n");
            let words = format!("{words} --plan clinic.toml --day {}", common::DAY);
            let run = Run::of(command.args(words.split_whitespace()));
            assert_eq!(run.code, 2, "{words}: {}", run.err);
            assert!(run.err.contains(what), "{words}: {}", run.err);
        }
    }
    assert!(fs::metadata("/dev/null").is_ok_and(|found| !found.is_file()), "it is still a device");
    let leads = fs::read_link(bench.file("to-a-device")).expect("still a link");
    assert_eq!(leads.to_str(), Some("/dev/null"));
}

#[test]
fn a_link_stays_and_what_it_leads_to_is_written() {
    let bench = Bench::new();
    fs::create_dir(bench.file("far")).expect("a folder");
    symlink("far/rules.nft", bench.file("near")).expect("a link");
    let run = bench.clinic("export nftables --to near");
    assert_eq!(run.code, 0, "{}", run.err);
    assert!(read(&bench, "far/rules.nft").contains("table inet bastium"));
    assert_eq!(bench.clinic("export nftables --to near").code, 2, "it is there already");
    symlink("clinic.toml", bench.file("plan")).expect("a link");
    let run = bench.run("set network desks hosts=21 --plan plan");
    assert_eq!(run.code, 0, "{}", run.err);
    assert!(read(&bench, "clinic.toml").contains("hosts = 21"));
    for link in ["near", "plan"] {
        assert!(bench.file(link).is_symlink(), "{link} is a link still");
    }
    symlink("circle", bench.file("circle")).expect("a link");
    assert_eq!(bench.clinic("export nftables --to circle --force").code, 2);
}

#[test]
fn mode_and_owner_line_ends_and_the_mark_stay() {
    let bench = Bench::new();
    let plan = format!("\u{feff}{}", demo("bare.toml").replace('\n', "\r\n"));
    bench.write("plan.toml", &plan);
    fs::set_permissions(bench.file("plan.toml"), fs::Permissions::from_mode(0o640)).expect("mine");
    // Only the superuser can give files away.
    let given = std::os::unix::fs::chown(bench.file("plan.toml"), Some(1234), Some(1235)).is_ok();
    let run = bench.run("set network desks hosts=21 --plan plan.toml");
    assert_eq!(run.code, 0, "{}", run.err);
    assert_eq!(read(&bench, "plan.toml"), plan.replace("hosts = 20", "hosts = 21"));
    let found = fs::metadata(bench.file("plan.toml")).expect("it is there");
    assert_eq!(found.mode() & 0o7777, 0o640);
    assert!(!given || (found.uid(), found.gid()) == (1234, 1235));
    // A new entry ends its lines as the others do; a second name still leads to the old text, and that is said.
    fs::hard_link(bench.file("plan.toml"), bench.file("other.toml")).expect("a second name");
    let run = bench.run("add host scanner network=printers address=10.44.48.11 --plan plan.toml");
    assert_eq!(run.code, 0, "{}", run.err);
    assert!(run.err.contains("other names"), "{}", run.err);
    let changed = read(&bench, "plan.toml");
    assert!(changed.starts_with('\u{feff}') && changed.contains("[host.scanner]\r\n"));
    assert!(!changed.replace("\r\n", "").contains('\n'), "every line ends alike");
}

/// Extended attributes go along, access lists among them; where this folder has none there is nothing to see.
#[cfg(target_os = "linux")]
#[test]
fn extended_attributes_stay() {
    use rustix::fs::{XattrFlags, getxattr, setxattr};
    let bench = Bench::new();
    let plan = bench.file("clinic.toml");
    if setxattr(&plan, "user.owner", b"locum", XattrFlags::empty()).is_err() {
        return;
    }
    assert_eq!(bench.clinic("set network desks hosts=21").code, 0);
    let mut value = [0u8; 16];
    let length = getxattr(&plan, "user.owner", &mut value[..]).expect("it is there still");
    assert_eq!(&value[..length], b"locum");
}

#[test]
fn a_protected_plan_is_changed_by_force_alone() {
    let bench = Bench::new();
    let before = read(&bench, "clinic.toml");
    fs::set_permissions(bench.file("clinic.toml"), fs::Permissions::from_mode(0o444))
        .expect("mine");
    let run = bench.clinic("set network desks hosts=21");
    assert_eq!(run.code, 2, "{}", run.out);
    assert!(run.err.contains("protected") && run.err.contains("--force"), "{}", run.err);
    assert_eq!(read(&bench, "clinic.toml"), before);
    assert_eq!(bench.clinic("set network desks hosts=21 --dry-run").code, 0);
    assert_eq!(bench.clinic("set network desks hosts=21 --force").code, 0);
    let found = fs::metadata(bench.file("clinic.toml")).expect("it is there");
    assert_eq!(found.mode() & 0o777, 0o444, "it is protected still");
}

#[test]
fn what_a_killed_run_left_is_taken_away_by_the_next() {
    let bench = Bench::new();
    let names = |bench: &Bench| {
        let entries = fs::read_dir(bench.path()).expect("the folder");
        let names = entries.map(|entry| entry.expect("an entry").file_name());
        let mut names: Vec<String> =
            names.map(|name| name.to_string_lossy().into_owned()).collect();
        names.sort();
        names
    };
    bench.write(".bastium-clinic.toml.Ab12Cd", "left");
    bench.write(".bastium-clinic.toml.in-use", "named by somebody");
    bench.write(".bastium-clinic.toml.Zz99Zz", "of a run that lives");
    bench.write(".bastium-other.toml.Ab12Cd", "of another file");
    let held = File::open(bench.file(".bastium-clinic.toml.Zz99Zz")).expect("it is there");
    held.lock().expect("nobody else has it");
    assert_eq!(bench.clinic("set network desks hosts=21").code, 0);
    let left: Vec<String> =
        names(&bench).into_iter().filter(|name| name.starts_with(".bastium")).collect();
    assert_eq!(
        left,
        [
            ".bastium-clinic.toml.Zz99Zz",
            ".bastium-clinic.toml.in-use",
            ".bastium-other.toml.Ab12Cd"
        ]
    );
}

#[test]
fn whoever_waits_for_another_run_is_reported_so() {
    let bench = Bench::new();
    let folder = File::open(bench.path()).expect("the folder");
    folder.lock().expect("nobody has it");
    let begun = Instant::now();
    let waiting = Command::new(env!("CARGO_BIN_EXE_bastium"))
        .args(["set", "network", "desks", "hosts=21", "--plan", "clinic.toml"])
        .current_dir(bench.path())
        .stderr(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .expect("it runs");
    std::thread::sleep(Duration::from_millis(1_800));
    folder.unlock().expect("it is given back");
    let run = waiting.wait_with_output().expect("it ends");
    assert!(run.status.success() && begun.elapsed() < Duration::from_secs(30));
    let says = String::from_utf8_lossy(&run.stderr);
    assert!(says.contains("waiting: another run") && says.contains("Ctrl-C"), "{says}");
}

#[test]
fn a_reader_that_has_left_takes_nothing_from_the_exit_code() {
    let bench = Bench::new();
    let code = |words: &str| {
        let mut child = Command::new(env!("CARGO_BIN_EXE_bastium"))
            .args(words.split_whitespace())
            .current_dir(bench.path())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("it runs");
        drop(child.stdout.take());
        child.wait().expect("it ends").code()
    };
    bench.write("open.toml", demo("broken/vlan-one.toml"));
    assert_eq!(bench.run("check --plan open.toml").code, 1);
    for words in ["check --plan open.toml", "check --plan open.toml --format json"] {
        assert_eq!(code(words), Some(1), "{words}");
    }
    assert_eq!(code("ask desks printers ssh --plan bare.toml"), Some(1));
    assert_eq!(code("rules --plan clinic.toml"), Some(0));
}

/// Nothing is written, and that is no success.
#[test]
fn a_full_device_is_reported_by_help_as_well() {
    let bench = Bench::new();
    let Ok(full) = File::options().write(true).open("/dev/full") else { return };
    for words in ["--help", "--version", "check --help", "schema", "rules --plan bare.toml"] {
        let full = full.try_clone().expect("another handle");
        let run = Command::new(env!("CARGO_BIN_EXE_bastium"))
            .args(words.split_whitespace())
            .current_dir(bench.path())
            .stdout(full)
            .output()
            .expect("it runs");
        assert_eq!(run.status.code(), Some(2), "{words}");
        assert!(String::from_utf8_lossy(&run.stderr).contains("cannot write"), "{words}");
    }
}

/// What is said of writing belongs to what writes.
#[test]
fn options_of_writing_need_something_to_write() {
    let bench = Bench::new();
    for option in ["--dry-run", "--force"] {
        assert_eq!(bench.run(&format!("addresses {option} --plan bare.toml")).code, 2, "{option}");
    }
    assert_eq!(bench.run("addresses --pin --dry-run --plan bare.toml").code, 0);
}

#[test]
fn an_empty_variable_is_none() {
    let bench = Bench::new();
    fs::copy(bench.file("bare.toml"), bench.file("bastium.toml")).expect("a plan");
    let run = Run::of(bench.command().env("BASTIUM_PLAN", "").arg("rules"));
    assert_eq!(run.code, 0, "{}", run.err);
    let run = Run::of(bench.command().args(["rules", "--plan", ""]));
    assert!(run.code == 2 && run.err.contains("names no file"), "{}", run.err);
}
