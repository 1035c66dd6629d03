//! Probes: one packet or connection each, and what comes back.

mod echo;
pub(crate) mod wire;

use std::collections::VecDeque;
use std::fmt;
use std::io;
use std::net::{IpAddr, SocketAddr, ToSocketAddrs};
use std::sync::{Mutex, mpsc};
use std::thread;
use std::time::{Duration, Instant};

/// How to try.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum How {
    /// Open a TCP connection; on port 80, ask for a page too.
    Tcp(u16),
    /// Send a UDP packet and wait for any answer.
    Udp(u16),
    /// Send an echo request (RFC 792, RFC 4443).
    Echo,
    /// Ask a resolver (RFC 1035).
    Dns,
    /// Ask for the time (RFC 5905).
    Time,
}

/// Whom to try.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Whom {
    /// The host with that address.
    Address(IpAddr),
    /// The hosts that the name resolves to.
    Name(String),
}

/// One probe.
#[derive(Clone, Debug)]
pub struct Task {
    /// How to try.
    pub how: How,
    /// From which of this machine's addresses; from whichever the system takes where there is none.
    pub from: Option<IpAddr>,
    /// Whom to try.
    pub whom: Whom,
}

/// What came back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Seen {
    /// An answer.
    Reply,
    /// A refusal: a reset, or a notice that nobody listens there.
    Refused,
    /// A notice that it cannot be reached, or is not allowed.
    Unreachable,
    /// Nothing, until the time was out.
    Silence,
    /// It could not be tried.
    NotTried,
}

/// What came back, and more about it.
#[derive(Clone, Debug)]
pub struct Sight {
    /// What.
    pub seen: Seen,
    /// How long it took.
    pub took: Duration,
    /// More about it: the status of a page, or why it could not be tried.
    pub detail: Option<String>,
}

/// Probes that are under way at one time.
const AT_ONCE: usize = 200;

impl fmt::Display for Seen {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Reply => "reply",
            Self::Refused => "refused",
            Self::Unreachable => "unreachable",
            Self::Silence => "silence",
            Self::NotTried => "not tried",
        })
    }
}

/// Makes all probes, many at a time, and tells each result as soon as it is there: the probe's place in
/// the list, and what came back. Each waits `patience` for an answer.
pub fn run(tasks: &[Task], patience: Duration, mut reported: impl FnMut(usize, Sight)) {
    let waiting: Mutex<VecDeque<usize>> = Mutex::new((0..tasks.len()).collect());
    let next = || waiting.lock().ok()?.pop_front();
    let (results, arriving) = mpsc::channel();
    thread::scope(|scope| {
        for _ in 0..tasks.len().min(AT_ONCE) {
            let results = results.clone();
            scope.spawn(move || {
                while let Some(number) = next() {
                    if results.send((number, tasks[number].run(patience))).is_err() {
                        return;
                    }
                }
            });
        }
        drop(results);
        for (number, sight) in arriving {
            reported(number, sight);
        }
    });
}

impl Task {
    /// Makes the probe.
    pub fn run(&self, patience: Duration) -> Sight {
        let begun = Instant::now();
        let (seen, detail) = match self.address() {
            Ok(to) => self.try_it(to, patience),
            Err(why) => (Seen::NotTried, Some(why)),
        };
        Sight { seen, took: begun.elapsed(), detail }
    }

    fn port(&self) -> u16 {
        match self.how {
            How::Tcp(port) | How::Udp(port) => port,
            How::Echo => 0,
            How::Dns => 53,
            How::Time => 123,
        }
    }

    /// Where it goes: a name's first address of the family that it is sent from.
    fn address(&self) -> Result<SocketAddr, String> {
        let name = match &self.whom {
            Whom::Address(address) => return Ok(SocketAddr::new(*address, self.port())),
            Whom::Name(name) => name,
        };
        let found = (name.as_str(), self.port()).to_socket_addrs();
        let found = found.map_err(|error| format!("{name} cannot be resolved: {error}"))?;
        let fits = |to: &SocketAddr| self.from.is_none_or(|from| from.is_ipv4() == to.is_ipv4());
        let mut fitting = found.filter(fits);
        fitting.next().ok_or_else(|| format!("{name} has no address in the family of the sender"))
    }

    fn try_it(&self, to: SocketAddr, patience: Duration) -> (Seen, Option<String>) {
        let tried = match self.how {
            How::Tcp(_) => wire::connect(self.from, to, patience),
            How::Udp(_) => wire::ask(self.from, to, b"bastium", patience).map(|_| None),
            How::Dns => wire::resolve(self.from, to, patience),
            How::Time => wire::ask(self.from, to, &wire::time_question(), patience).map(|_| None),
            How::Echo => echo::ping(self.from, to.ip(), patience).map(|()| None),
        };
        match tried {
            Ok(detail) => (Seen::Reply, detail),
            Err(error) => seen(&error),
        }
    }
}

/// What an error of a socket says about the network, in a word.
pub(crate) fn seen_by(error: &io::Error) -> Seen {
    seen(error).0
}

/// What an error of a socket says about the network.
fn seen(error: &io::Error) -> (Seen, Option<String>) {
    use io::ErrorKind as Kind;
    match error.kind() {
        Kind::ConnectionRefused | Kind::ConnectionReset => (Seen::Refused, None),
        Kind::TimedOut | Kind::WouldBlock | Kind::Interrupted => (Seen::Silence, None),
        // IPv6 tells "administratively prohibited" as "permission denied".
        Kind::HostUnreachable | Kind::PermissionDenied => (Seen::Unreachable, None),
        Kind::NetworkUnreachable => {
            (Seen::NotTried, Some("this machine has no route to it".to_owned()))
        }
        _ => (Seen::NotTried, Some(error.to_string())),
    }
}
