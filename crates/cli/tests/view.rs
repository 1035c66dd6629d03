//! `bastium view`, through a pseudo-terminal: what stands on the screen, what keys do, and what is left behind.

#![cfg(unix)]

mod common;

use common::{Bench, DAY, demo};
use portable_pty::{Child, CommandBuilder, MasterPty, PtySize, native_pty_system};
use std::io::{Read, Write};
use std::num::NonZero;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How long something may take to appear on a machine that is busy.
const PATIENCE: Duration = Duration::from_secs(20);

const BEGINS: &[u8] = b"\x1b[?2026h";
const ENDS: &[u8] = b"\x1b[?2026l";

/// How many of some bytes a terminal shows that knows synchronized updates: it waits for the end of one that has begun,
/// or that may just begin.
fn whole(bytes: &[u8]) -> usize {
    let last = |mark: &[u8]| bytes.windows(mark.len()).rposition(|window| window == mark);
    match (last(BEGINS), last(ENDS)) {
        (Some(begun), ended) if ended.is_none_or(|ended| ended < begun) => begun,
        _ => {
            let cut = (1..BEGINS.len()).rev().find(|length| bytes.ends_with(&BEGINS[..*length]));
            bytes.len() - cut.unwrap_or(0)
        }
    }
}

#[test]
fn a_picture_is_shown_when_it_is_whole() {
    let text = [b"a".as_slice(), BEGINS, b"b", ENDS, b"c", BEGINS, b"d"].concat();
    let ends = text.len();
    assert_eq!(whole(&text), ends - 1 - BEGINS.len());
    assert_eq!(whole(&text[..ends - 1]), whole(&text));
    assert_eq!(whole(&text[..ends - 3]), whole(&text));
    assert_eq!(whole(&text[..4]), 1);
    let bench = Bench::new();
    let terminal = Terminal::view(&bench, (24, 80));
    let written = terminal.written.lock().unwrap_or_else(PoisonError::into_inner);
    assert!(
        written.windows(ENDS.len()).any(|window| window == ENDS),
        "the screen is drawn in parts"
    );
}

/// A program on a terminal of its own.
struct Terminal {
    master: Box<dyn MasterPty + Send>,
    keys: Box<dyn Write + Send>,
    child: Box<dyn Child + Send + Sync>,
    parser: Arc<Mutex<vt100::Parser>>,
    /// Everything that was written.
    written: Arc<Mutex<Vec<u8>>>,
    /// The settings of the terminal before anything was started on it.
    before: String,
}

impl Terminal {
    fn start(bench: &Bench, words: &str, (rows, cols): (u16, u16)) -> Self {
        let size = PtySize { rows, cols, pixel_width: 0, pixel_height: 0 };
        let words: Vec<&str> = words.split_whitespace().collect();
        Self::of(env!("CARGO_BIN_EXE_bastium"), &words, bench, size)
    }

    fn of(program: &str, words: &[&str], bench: &Bench, size: PtySize) -> Self {
        let (rows, cols) = (size.rows, size.cols);
        let pair = native_pty_system().openpty(size).expect("a terminal");
        let mut command = CommandBuilder::new(program);
        command.env_clear();
        command.env("TERM", "xterm-256color");
        command.env("PATH", std::env::var("PATH").unwrap_or_default());
        command.cwd(bench.path());
        command.args(words);
        let before = settings(&*pair.master);
        let child = pair.slave.spawn_command(command).expect("it starts");
        let mut reader = pair.master.try_clone_reader().expect("what it writes");
        let parser = Arc::new(Mutex::new(vt100::Parser::new(some(rows), some(cols), 0)));
        let written = Arc::new(Mutex::new(Vec::new()));
        let (into, kept) = (Arc::clone(&parser), Arc::clone(&written));
        std::thread::spawn(move || {
            let mut bytes = [0; 4096];
            let mut held = Vec::new();
            while let Ok(count @ 1..) = reader.read(&mut bytes) {
                kept.lock().unwrap_or_else(PoisonError::into_inner).extend(&bytes[..count]);
                held.extend(&bytes[..count]);
                let shown: Vec<u8> = held.drain(..whole(&held)).collect();
                into.lock().unwrap_or_else(PoisonError::into_inner).process(&shown);
            }
        });
        let keys = pair.master.take_writer().expect("a keyboard");
        Self { master: pair.master, keys, child, parser, written, before }
    }

    fn view(bench: &Bench, size: (u16, u16)) -> Self {
        let terminal = Self::start(bench, &format!("view --plan clinic.toml --day {DAY}"), size);
        terminal.shows("q leave");
        terminal
    }

    fn press(&mut self, keys: &str) {
        self.keys.write_all(keys.as_bytes()).expect("keys arrive");
        self.keys.flush().expect("keys arrive");
    }

    fn with<R>(&self, ask: impl FnOnce(&vt100::Screen) -> R) -> R {
        ask(self.parser.lock().unwrap_or_else(PoisonError::into_inner).screen())
    }

    /// What stands on the screen, without blanks at the ends of lines.
    fn screen(&self) -> String {
        let text = self.with(vt100::Screen::contents);
        text.lines().map(|line| format!("{}\n", line.trim_end())).collect()
    }

    /// Waits until the screen holds a text.
    fn shows(&self, text: &str) {
        self.until(|screen| screen.contains(text), text);
    }

    fn until(&self, is_so: impl Fn(&str) -> bool, what: &str) {
        let begun = Instant::now();
        while !is_so(&self.screen()) {
            assert!(begun.elapsed() < PATIENCE, "{what} did not come:\n{}", self.screen());
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    /// Waits until the program ends, and says whether the terminal is as it was.
    fn ends(&mut self) {
        let begun = Instant::now();
        while self.child.try_wait().expect("it can be asked").is_none() {
            assert!(begun.elapsed() < PATIENCE, "it does not end");
            std::thread::sleep(Duration::from_millis(10));
        }
        self.is_as_it_was();
    }

    /// Waits until the terminal is as it was: what is written last may be read last.
    fn is_as_it_was(&self) {
        let begun = Instant::now();
        let differs = || {
            self.with(|screen| {
                [
                    (screen.alternate_screen(), "the screen is not given back"),
                    (screen.hide_cursor(), "the cursor is hidden"),
                    (
                        screen.mouse_protocol_mode() != vt100::MouseProtocolMode::None,
                        "the mouse is not given back",
                    ),
                    (self.is_taken(), "the terminal is set otherwise"),
                ]
                .into_iter()
                .find_map(|(differs, what)| differs.then_some(what))
            })
        };
        while let Some(what) = differs() {
            assert!(begun.elapsed() < PATIENCE, "{what}");
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    /// Whether something has set it for itself.
    fn is_taken(&self) -> bool {
        settings(&*self.master) != self.before
    }
}

fn settings(master: &dyn MasterPty) -> String {
    format!("{:?}", master.get_termios().expect("settings"))
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = self.child.kill();
    }
}

/// A size that is not nothing.
fn some(size: u16) -> NonZero<u16> {
    NonZero::new(size).expect("a size")
}

const UP: &str = "\u{1b}[A";
const DOWN: &str = "\u{1b}[B";
const RIGHT: &str = "\u{1b}[C";

#[test]
fn the_matrix_and_what_decides_a_cell() {
    let bench = Bench::new();
    let mut terminal = Terminal::view(&bench, (24, 80));
    terminal.shows("control to control");
    terminal.press(&format!("{DOWN}{RIGHT}{RIGHT}"));
    terminal.shows("staff to clinical");
    insta::assert_snapshot!(terminal.screen());
    terminal.press("2");
    terminal.shows("Pictures are stored as they are taken");
    insta::assert_snapshot!(terminal.screen());
    terminal.press("?");
    terminal.shows("undo the last change");
    insta::assert_snapshot!(terminal.screen());
}

#[test]
fn a_wide_screen_has_both_beside_each_other() {
    let bench = Bench::new();
    let mut terminal = Terminal::view(&bench, (34, 125));
    terminal.press(DOWN);
    terminal.shows("staff to control");
    // For the picture in docs/screenshots.
    if let Some(path) = std::env::var_os("BASTIUM_VIEW_SHOWN") {
        let written = terminal.written.lock().unwrap_or_else(PoisonError::into_inner);
        std::fs::write(path, &*written).expect("it is written");
    }
    insta::assert_snapshot!(terminal.screen());
    terminal.press("4");
    terminal.shows("access point surgery");
    insta::assert_snapshot!(terminal.screen());
}

#[test]
fn a_question_is_answered_as_it_is_typed() {
    let bench = Bench::new();
    let mut terminal = Terminal::view(&bench, (24, 80));
    terminal.press("adesks printers ip");
    terminal.shows("ask: desks printers ip");
    terminal.press("p");
    terminal.shows("ALLOW: ");
    terminal.shows("because of exception desks-print");
    terminal.press("\u{7f}\u{7f}\u{7f}ssh");
    terminal.shows("BLOCK: ");
    terminal.press("\u{1b}");
    terminal.shows("q leave");
}

#[test]
fn a_change_shows_what_it_opens_before_it_is_kept_and_can_be_taken_back() {
    let bench = Bench::new();
    let before = demo("clinic.toml");
    let now = || std::fs::read_to_string(bench.file("clinic.toml")).expect("the plan");
    let mut terminal = Terminal::view(&bench, (30, 100));
    terminal.press(&format!("{DOWN}{RIGHT}{RIGHT}"));
    terminal.shows("staff to clinical: block");
    terminal.press("e");
    terminal.shows("change: set cell staff clinical allow");
    terminal.press("\r");
    terminal.shows("It opens:");
    terminal.shows("y save");
    assert_eq!(now(), before, "nothing is written before it is kept");
    terminal.press("n");
    terminal.shows("nothing changed");
    assert_eq!(now(), before);
    terminal.press("e\r");
    terminal.shows("y save");
    terminal.press("y");
    terminal.shows("staff to clinical: allow");
    terminal.shows("saved");
    let changed = now();
    assert_ne!(changed, before);
    let comments = |text: &str| text.matches('#').count();
    assert_eq!(comments(&changed), comments(&before), "comments are kept");
    terminal.press("u");
    terminal.shows("staff to clinical: block");
    terminal.shows("undone");
    assert_eq!(now(), before, "byte by byte");
    // What somebody else has written meanwhile is not taken back.
    terminal.press("e\r");
    terminal.shows("y save");
    terminal.press("y");
    terminal.shows("staff to clinical: allow");
    bench.write("clinic.toml", format!("{}\n# mine\n", now()));
    terminal.press("u");
    terminal.shows("changed since");
    assert!(now().ends_with("# mine\n"));
}

#[test]
fn a_change_is_not_kept_for_another_file_than_it_was_shown_for() {
    let bench = Bench::new();
    let mut terminal = Terminal::view(&bench, (30, 100));
    terminal.press("c");
    terminal.shows("change: set");
    terminal.press("network desks hosts=21\r");
    terminal.shows("y save");
    let other = demo("clinic.toml").replace("Fernside Veterinary Clinic", "Other Name");
    bench.write("clinic.toml", &other);
    terminal.shows("Other Name");
    terminal.press("y");
    terminal.shows("changed since");
    let now = std::fs::read_to_string(bench.file("clinic.toml")).expect("the plan");
    assert_eq!(now, other);
}

#[test]
fn a_change_that_cannot_be_made_says_why_and_is_typed_on() {
    let bench = Bench::new();
    let mut terminal = Terminal::view(&bench, (24, 100));
    terminal.press("cnetwork nowhere vlan=7\r");
    terminal.shows("nowhere");
    terminal.shows("change: set network nowhere vlan=7");
    terminal.press("\u{15}set network desks vlan=40\r");
    terminal.shows("40");
    terminal.until(|screen| !screen.contains("y save"), "no preview");
    assert_eq!(
        std::fs::read_to_string(bench.file("clinic.toml")).expect("the plan"),
        demo("clinic.toml")
    );
}

#[test]
fn it_follows_the_file_however_it_is_written() {
    let bench = Bench::new();
    let mut terminal = Terminal::view(&bench, (24, 80));
    let plan = demo("clinic.toml");
    // In place.
    bench.write("clinic.toml", plan.replace("Fernside Veterinary Clinic", "Second Name"));
    terminal.shows("Second Name");
    // A new file that takes the name.
    bench.write("new", plan.replace("Fernside Veterinary Clinic", "Third Name"));
    std::fs::rename(bench.file("new"), bench.file("clinic.toml")).expect("it is renamed");
    terminal.shows("Third Name");
    // Half of it: the last plan stays, and it is said.
    bench.write("clinic.toml", &plan[..plan.len() / 2]);
    terminal.shows("the file has a mistake");
    assert!(terminal.screen().contains("Third Name"));
    // Gone, and there again.
    std::fs::remove_file(bench.file("clinic.toml")).expect("it is there");
    terminal.shows("cannot be read");
    bench.write("clinic.toml", plan);
    terminal.shows("Fernside Veterinary Clinic");
    terminal.until(|screen| !screen.contains("cannot be read"), "no complaint");
    terminal.press("q");
}

#[test]
fn search_goes_through_all_panes() {
    let bench = Bench::new();
    let mut terminal = Terminal::view(&bench, (24, 80));
    terminal.press("/ultrasound");
    terminal.shows("old-ultrasound-stays-in");
    terminal.shows("1 of ");
    terminal.press("\u{1b}/tills\r");
    terminal.shows("tills");
    terminal.press("\u{1b}/zzz");
    terminal.shows("no match for");
}

#[test]
fn a_click_selects_and_the_wheel_scrolls() {
    let bench = Bench::new();
    let mut terminal = Terminal::view(&bench, (24, 80));
    let find = |text: &str| {
        terminal.screen().lines().position(|line| line.contains(text)).expect("it is there") + 1
    };
    let guests = find(" 7 guests");
    terminal.press(&format!("\u{1b}[<0;20;{guests}M\u{1b}[<0;20;{guests}m"));
    terminal.shows("guests to ");
    terminal.press("\u{1b}[<0;20;2M");
    terminal.shows("Pictures are stored");
    terminal.press("\u{1b}[<65;20;5M");
    terminal.shows("Reception and vets print");
}

#[test]
fn sizes_from_small_to_large() {
    let bench = Bench::new();
    let terminal = Terminal::view(&bench, (24, 80));
    for (rows, cols) in [(15, 60), (24, 80), (60, 200), (24, 118)] {
        let size = PtySize { rows, cols, pixel_width: 0, pixel_height: 0 };
        let whole = || terminal.parser.lock().unwrap_or_else(PoisonError::into_inner);
        whole().screen_mut().set_size(some(rows), some(cols));
        terminal.master.resize(size).expect("it is resized");
        terminal.shows("control to control");
        terminal.shows("q leave");
    }
    let size = PtySize { rows: 10, cols: 40, pixel_width: 0, pixel_height: 0 };
    terminal
        .parser
        .lock()
        .unwrap_or_else(PoisonError::into_inner)
        .screen_mut()
        .set_size(some(10), some(40));
    terminal.master.resize(size).expect("it is resized");
    terminal.shows("too small");
}

#[test]
fn the_terminal_is_left_as_it_was() {
    let bench = Bench::new();
    for end in ["q", "\u{3}", "TERM", "INT", "HUP"] {
        let mut terminal = Terminal::view(&bench, (24, 80));
        assert!(terminal.is_taken());
        assert!(terminal.with(vt100::Screen::alternate_screen));
        match end {
            "TERM" | "INT" | "HUP" => {
                let id = terminal.child.process_id().expect("it runs").to_string();
                let kill =
                    std::process::Command::new("kill").args([&format!("-{end}"), &id]).status();
                assert!(kill.expect("kill runs").success());
            }
            keys => terminal.press(keys),
        }
        terminal.ends();
    }
}

/// Whoever is killed outright cannot give anything back; a guard beside it does.
#[test]
fn the_terminal_is_left_as_it_was_even_by_a_kill() {
    let bench = Bench::new();
    let size = PtySize { rows: 24, cols: 80, pixel_width: 0, pixel_height: 0 };
    // As at a prompt: a shell has the terminal, and gets it back.
    let shell = format!(
        "{} view --plan clinic.toml --day {DAY}; sleep 1; echo back; sleep 9",
        env!("CARGO_BIN_EXE_bastium")
    );
    let mut terminal = Terminal::of("sh", &["-c", &shell], &bench, size);
    terminal.shows("q leave");
    assert!(terminal.is_taken());
    let shell = terminal.child.process_id().expect("it runs");
    let children = std::fs::read_to_string(format!("/proc/{shell}/task/{shell}/children"));
    let children = children.expect("it has children");
    let id = children.split_whitespace().next().expect("a child").to_owned();
    assert!(std::process::Command::new("kill").args(["-9", &id]).status().expect("kill").success());
    terminal.shows("back");
    terminal.is_as_it_was();
    let _ = terminal.child.kill();
}

#[test]
fn without_a_terminal_it_says_what_else_there_is() {
    let bench = Bench::new();
    let run = bench.run("view --plan clinic.toml");
    assert_eq!(run.code, 3);
    assert!(
        run.err.contains("needs a terminal") && run.err.contains("bastium matrix"),
        "{}",
        run.err
    );
}

#[test]
fn words_of_a_plan_do_not_steer_the_terminal() {
    let bench = Bench::new();
    let hostile = "\\u001b]0;stolen\\u0007\\u001b[2J\\u202E";
    let plan = demo("clinic.toml")
        .replace("name = \"Fernside Veterinary Clinic\"", &format!("name = \"{hostile}\""))
        .replace("Pictures are stored", hostile)
        .replace("\"Fernside Guests\"", "\"\\u001b[31m\"");
    bench.write("clinic.toml", plan);
    let mut terminal = Terminal::view(&bench, (24, 80));
    for keys in ["2", "3", "4", DOWN, UP] {
        terminal.press(keys);
        std::thread::sleep(Duration::from_millis(100));
        terminal.with(|screen| assert!(!screen.contents().contains('\u{202e}')));
    }
    terminal.press("2");
    terminal.shows("u{1b}");
}
