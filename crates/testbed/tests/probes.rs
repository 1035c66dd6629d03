//! Probes against listeners of this machine: what each of them sees is what is there.

use bastium_testbed::answer::{Port, Visit, listen, visits};
use bastium_testbed::probe::{How, Seen, Task, Whom, run};
use std::io::{Read, Write};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::thread;
use std::time::Duration;

const HERE: IpAddr = IpAddr::V4(Ipv4Addr::LOCALHOST);
const PATIENCE: Duration = Duration::from_millis(400);

fn task(how: How) -> Task {
    Task { how, from: Some(HERE), whom: Whom::Address(HERE) }
}

fn seen(how: How) -> Seen {
    task(how).run(PATIENCE).seen
}

/// A TCP port that nobody has: it was free a moment ago.
fn free_tcp() -> u16 {
    let listener = TcpListener::bind((HERE, 0)).expect("a port");
    listener.local_addr().expect("its number").port()
}

/// A UDP socket that hears and never answers.
fn silent() -> (UdpSocket, u16) {
    let socket = UdpSocket::bind((HERE, 0)).expect("a port");
    let port = socket.local_addr().expect("its number").port();
    (socket, port)
}

#[test]
fn tcp_tells_an_open_port_from_a_closed_one() {
    let listener = TcpListener::bind((HERE, 0)).expect("a port");
    let port = listener.local_addr().expect("its number").port();
    assert_eq!(seen(How::Tcp(port)), Seen::Reply);
    drop(listener);
    assert_eq!(seen(How::Tcp(free_tcp())), Seen::Refused);
}

#[test]
fn udp_tells_an_answer_from_a_refusal_and_from_silence() {
    let (answering, port) = silent();
    thread::spawn(move || {
        let mut buffer = [0; 64];
        while let Ok((length, from)) = answering.recv_from(&mut buffer) {
            let _ = answering.send_to(&buffer[..length], from);
        }
    });
    assert_eq!(seen(How::Udp(port)), Seen::Reply);
    let (quiet, port) = silent();
    assert_eq!(seen(How::Udp(port)), Seen::Silence);
    drop(quiet);
    assert_eq!(seen(How::Udp(port)), Seen::Refused);
}

#[test]
fn echo_is_answered_by_this_machine_or_said_to_need_privilege() {
    let sight = task(How::Echo).run(PATIENCE);
    match sight.seen {
        Seen::Reply => {}
        Seen::NotTried => {
            let why = sight.detail.expect("a reason");
            assert!(why.contains("administrator"), "{why}");
        }
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_name_that_leads_nowhere_is_not_tried() {
    // A name that never exists (RFC 6761).
    let whom = Whom::Name("nobody.invalid".to_owned());
    let sight = Task { how: How::Tcp(443), from: None, whom }.run(PATIENCE);
    assert_eq!(sight.seen, Seen::NotTried);
    assert!(sight.detail.expect("a reason").contains("nobody.invalid"));
}

#[test]
fn a_source_that_this_machine_does_not_have_is_not_tried() {
    let from = Some(IpAddr::from([198, 51, 100, 77]));
    let sight = Task { from, ..task(How::Tcp(free_tcp())) }.run(PATIENCE);
    assert_eq!(sight.seen, Seen::NotTried);
}

/// Half of many probes stay silent: all are made, each is reported once, and together they take about as long
/// as one of them.
#[test]
fn many_probes_are_made_at_once() {
    let (_quiet, silent) = silent();
    let refused = free_tcp();
    let tasks: Vec<Task> = (0..200)
        .map(|number| task(if number % 2 == 0 { How::Udp(silent) } else { How::Tcp(refused) }))
        .collect();
    let mut reported = vec![None; tasks.len()];
    let begun = std::time::Instant::now();
    run(&tasks, PATIENCE, |number, sight| {
        assert!(reported[number].replace(sight.seen).is_none(), "{number} is reported twice");
    });
    for (number, seen) in reported.into_iter().enumerate() {
        let expected = if number % 2 == 0 { Seen::Silence } else { Seen::Refused };
        assert_eq!(seen, Some(expected));
    }
    // One after the other the silent ones alone would take 40 seconds.
    assert!(begun.elapsed() < 50 * PATIENCE, "{:?}", begun.elapsed());
}

#[test]
fn listeners_answer_and_tell_who_reached_them() {
    let (sender, reported_by) = visits();
    let (tcp, udp) = (free_tcp(), silent().1);
    listen(Port::Tcp(tcp), Some(HERE), &sender).expect("the port is free");
    listen(Port::Udp(udp), Some(HERE), &sender).expect("the port is free");
    assert_eq!(seen(How::Tcp(tcp)), Seen::Reply);
    assert_eq!(seen(How::Udp(udp)), Seen::Reply);
    let mut greeting = String::new();
    let mut visitor = TcpStream::connect((HERE, tcp)).expect("it listens");
    visitor.read_to_string(&mut greeting).expect("it greets");
    assert_eq!(greeting, "bastium answer\n");
    let reported: Vec<Visit> =
        (0..3).filter_map(|_| reported_by.next(Some(PATIENCE)).ok()).collect();
    // Each listener tells for itself, so that the order is not known.
    let reported_of = |port| reported.iter().filter(|visit| visit.port == port).count();
    assert_eq!((reported_of(Port::Tcp(tcp)), reported_of(Port::Udp(udp))), (2, 1));
    assert!(reported.iter().all(|visit| visit.from.ip() == HERE));
    assert!(listen(Port::Tcp(tcp), Some(HERE), &sender).is_err(), "the port is taken");
}

/// Whoever asks one of several addresses gets the answer from just that one.
#[test]
fn answers_come_from_the_address_that_was_asked() {
    let (sender, reported_by) = visits();
    let port = silent().1;
    listen(Port::Udp(port), None, &sender).expect("the port is free");
    let mut own = bastium_testbed::here::addresses().expect("addresses");
    own.retain(|address| address.is_ipv4());
    own.push(HERE);
    for address in own {
        let whom = Whom::Address(address);
        let sight = Task { how: How::Udp(port), from: None, whom }.run(PATIENCE);
        assert_eq!(sight.seen, Seen::Reply, "{address}");
        assert!(reported_by.next(Some(PATIENCE)).is_ok(), "{address}");
    }
}

/// A visitor who sends rubbish, or goes away, does not stop a listener.
#[test]
fn listeners_live_through_strange_visitors() {
    let (sender, reported_by) = visits();
    let port = free_tcp();
    listen(Port::Tcp(port), Some(HERE), &sender).expect("the port is free");
    for _ in 0..20 {
        let mut visitor = TcpStream::connect((HERE, port)).expect("it listens");
        let _ = visitor.write_all(&[0xff; 512]);
        drop(visitor);
    }
    let reported = (0..20).filter(|_| reported_by.next(Some(PATIENCE * 25)).is_ok()).count();
    assert_eq!(reported, 20);
    let at: SocketAddr = (HERE, port).into();
    assert!(TcpStream::connect(at).is_ok());
}
