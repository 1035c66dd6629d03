//! `bastium watch`: what is said at each save, whatever way an editor writes.

mod common;

use common::{Bench, DAY, demo};
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

const PATIENCE: Duration = Duration::from_secs(20);

/// A watch over the clinic of a bench, line by line.
struct Watch {
    child: Child,
    lines: Receiver<String>,
}

impl Watch {
    fn start(bench: &Bench) -> Self {
        let mut child = Command::new(env!("CARGO_BIN_EXE_bastium"))
            .args(["watch", "--plan", "clinic.toml", "--day", DAY])
            .env_clear()
            .env("COLUMNS", "400")
            .current_dir(bench.path())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("it starts");
        let (send, lines) = channel();
        let outputs: [Box<dyn std::io::Read + Send>; 2] = [
            Box::new(child.stdout.take().expect("its output")),
            Box::new(child.stderr.take().expect("its remarks")),
        ];
        for output in outputs {
            let send = send.clone();
            std::thread::spawn(move || {
                for line in BufReader::new(output).lines().map_while(Result::ok) {
                    if send.send(line).is_err() {
                        break;
                    }
                }
            });
        }
        let watch = Self { child, lines };
        watch.says("watching clinic.toml");
        watch
    }

    /// Waits for a line, and gives what came before it.
    fn says(&self, text: &str) -> Vec<String> {
        let mut before = Vec::new();
        loop {
            match self.lines.recv_timeout(PATIENCE) {
                Ok(line) if line.contains(text) => return before,
                Ok(line) => before.push(line),
                Err(_) => panic!("{text} was not said, but {before:?}"),
            }
        }
    }
}

impl Drop for Watch {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The clinic with its guests let into the printers.
fn opened() -> String {
    let entry = "[exception.guests-print]\nfrom = \"waiting-room\"\nto = \"printers\"\nservice = \"ipp\"\n\
                 action = \"allow\"\nwhy = \"Boarding passes\"\n\n[never.guests-see-inside]";
    demo("clinic.toml").replace("[never.guests-see-inside]", entry)
}

#[test]
fn each_save_says_what_it_opens_and_what_is_found_now() {
    let bench = Bench::new();
    let watch = Watch::start(&bench);
    bench.write("clinic.toml", opened());
    watch.says("save 1");
    watch.says("guarantee-broken");
    watch.says("opens: ");
    // A new file that takes the name.
    bench.write("new", demo("clinic.toml"));
    std::fs::rename(bench.file("new"), bench.file("clinic.toml")).expect("it is renamed");
    watch.says("save 2");
    watch.says("gone: [guarantee-broken]");
    watch.says("closes: ");
    watch.says("since the start: no traffic changes");
}

#[test]
fn it_is_quiet_where_nothing_changes_and_says_what_cannot_be_read() {
    let bench = Bench::new();
    let watch = Watch::start(&bench);
    let plan = demo("clinic.toml");
    // The same again, a comment more, a time of its own, and no file for a moment.
    bench.write("clinic.toml", &plan);
    std::thread::sleep(Duration::from_millis(200));
    bench.write("clinic.toml", format!("{plan}\n# a comment\n"));
    std::thread::sleep(Duration::from_millis(200));
    std::fs::remove_file(bench.file("clinic.toml")).expect("it is there");
    std::thread::sleep(Duration::from_millis(200));
    bench.write("clinic.toml", plan.replace("zone = \"guests\"", "zone = \"ghosts\""));
    let before = watch.says("save 1");
    assert!(before.iter().all(String::is_empty), "{before:?}");
    watch.says("ghosts");
    bench.write("clinic.toml", &plan);
    watch.says("save 2");
    watch.says("the plan is valid again");
    watch.says("no traffic changes");
}

#[test]
fn it_ends_after_so_many_saves() {
    let bench = Bench::new();
    let child = Command::new(env!("CARGO_BIN_EXE_bastium"))
        .args(["watch", "--plan", "clinic.toml", "--day", DAY, "--saves", "1", "--quiet"])
        .current_dir(bench.path())
        .stdout(Stdio::piped())
        .spawn()
        .expect("it starts");
    std::thread::sleep(Duration::from_millis(500));
    bench.write("clinic.toml", opened());
    let output = child.wait_with_output().expect("it ends");
    assert!(output.status.success());
    assert!(String::from_utf8_lossy(&output.stdout).contains("save 1"));
    assert_eq!(bench.run("watch --plan nowhere.toml").code, 2);
}

#[test]
fn a_save_that_moves_no_packet_says_what_it_changes() {
    let bench = Bench::new();
    let watch = Watch::start(&bench);
    let other = demo("clinic.toml").replace("\"calls.example.net\"", "\"talks.example.net\"");
    bench.write("clinic.toml", other);
    let before =
        watch.says("also: domain phone-provider: calls.example.net, media.example.net -> ");
    assert!(!before.iter().any(|line| line.contains("no traffic changes")), "{before:?}");
}
