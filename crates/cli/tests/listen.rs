//! The other end of a check: it stops by itself, answers no answer, and nobody without end.

mod common;

use common::Bench;
use std::process::{Command, Stdio};
use std::time::Duration;

#[test]
fn the_other_end_stops_by_itself() {
    let bench = Bench::new();
    let port = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    let number = port.local_addr().expect("its number").port();
    let taken = bench.run(&format!("listen tcp/{number} --at 127.0.0.1 --for 1s"));
    assert!(taken.code == 3 && taken.err.contains("cannot listen on tcp/"), "{}", taken.err);
    drop(port);
    let begun = std::time::Instant::now();
    let run = bench.run(&format!("listen tcp/{number} --at 127.0.0.1 --for 1s"));
    assert_eq!((run.code, run.out.as_str()), (0, ""), "{}", run.err);
    assert!(begun.elapsed() >= Duration::from_secs(1));
}

/// Two listeners that are sent to in each other's name do not go on for ever; whoever sends without end gets an answer
/// now and then; and nobody who does not read keeps one alive.
#[test]
fn the_other_end_answers_no_answer_and_nobody_without_end() {
    let bench = Bench::new();
    let free = std::net::UdpSocket::bind("127.0.0.1:0").expect("a port");
    let number = free.local_addr().expect("its number").port();
    drop(free);
    let begun = std::time::Instant::now();
    // What it tells goes into a pipe that nobody reads.
    let mut listener = Command::new(env!("CARGO_BIN_EXE_bastium"))
        .args(["listen", &format!("udp/{number}"), "--at", "127.0.0.1", "--for", "4s"])
        .current_dir(bench.path())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .expect("it runs");
    let visitor = std::net::UdpSocket::bind("127.0.0.1:0").expect("a port");
    visitor.connect(("127.0.0.1", number)).expect("an address");
    visitor.set_read_timeout(Some(Duration::from_millis(100))).expect("a limit");
    let mut answer = [0; 2048];
    let first = (0..100).find_map(|_| {
        let _ = visitor.send(b"x");
        let got = visitor.recv(&mut answer).ok();
        // Until it listens, the system refuses at once.
        std::thread::sleep(Duration::from_millis(if got.is_some() { 0 } else { 15 }));
        got
    });
    let answer = answer[..first.expect("an answer")].to_vec();
    // Its own answer, as another listener would give it, gets none.
    visitor.send(&answer).expect("it goes out");
    assert!(visitor.recv(&mut [0; 2048]).is_err(), "an answer was answered");
    let mut answered = 0;
    visitor.set_nonblocking(true).expect("no waiting");
    while begun.elapsed() < Duration::from_millis(3_500) {
        let _ = visitor.send(&[b'y'; 1_000]);
        answered += usize::from(visitor.recv(&mut [0; 2048]).is_ok());
    }
    assert!((1..500).contains(&answered), "{answered} answers");
    assert!(listener.wait().expect("it ends").success());
    assert!(begun.elapsed() < Duration::from_secs(8), "it stops on time");
}
