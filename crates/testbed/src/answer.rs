//! Listeners at the far end of a check: they answer, and report who reached them.

use crate::here;
use socket2::{Domain, Protocol, SockAddr, Socket, Type};
use std::io::{self, Write};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, TcpListener, UdpSocket};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, TrySendError, sync_channel};
use std::thread;
use std::time::{Duration, Instant};

/// A port to listen on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Port {
    /// Of TCP.
    Tcp(u16),
    /// Of UDP.
    Udp(u16),
}

impl std::fmt::Display for Port {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Tcp(port) => write!(f, "tcp/{port}"),
            Self::Udp(port) => write!(f, "udp/{port}"),
        }
    }
}

/// Somebody got through.
#[derive(Clone, Copy, Debug)]
pub struct Visit {
    /// To which port.
    pub port: Port,
    /// From where.
    pub from: SocketAddr,
}

/// What is written to a client that connects or sends something. What begins like this is an answer itself, and gets none:
/// two listeners would go on for ever.
const GREETING: &[u8] = b"bastium answer\n";
/// How many visitors of a port get an answer within a second. A client that sends more, perhaps in the name of another, gets
/// none.
const MOST_A_SECOND: u32 = 50;
/// How many visits wait to be reported. While nobody listens, more are only counted.
const WAITING: usize = 256;
/// How long a write to a visitor may take.
const PATIENCE: Duration = Duration::from_secs(1);

/// Who got through, as it comes in.
#[derive(Debug)]
pub struct Visits {
    reported: Receiver<Visit>,
    untold: Arc<AtomicU64>,
}

impl Visits {
    /// The next one, waited for no longer than that; for ever without a limit.
    ///
    /// # Errors
    /// When there was none in time.
    pub fn next(&self, patience: Option<Duration>) -> Result<Visit, RecvTimeoutError> {
        match patience {
            Some(patience) => self.reported.recv_timeout(patience),
            None => self.reported.recv().map_err(|_| RecvTimeoutError::Disconnected),
        }
    }

    /// How many came too fast to be reported or answered, since this was asked last.
    pub fn untold(&self) -> u64 {
        self.untold.swap(0, Ordering::Relaxed)
    }
}

/// Where listeners tell who got through.
#[derive(Clone, Debug)]
pub struct Teller {
    visits: SyncSender<Visit>,
    untold: Arc<AtomicU64>,
}

/// A way for listeners to tell who got through.
pub fn visits() -> (Teller, Visits) {
    let (sender, reported) = sync_channel(WAITING);
    let untold = Arc::new(AtomicU64::new(0));
    (Teller { visits: sender, untold: Arc::clone(&untold) }, Visits { reported, untold })
}

impl Teller {
    /// Tells of a visit; whether anybody will ever hear.
    fn tell(&self, visit: Visit) -> bool {
        match self.visits.try_send(visit) {
            Ok(()) => true,
            Err(TrySendError::Full(_)) => {
                self.untold.fetch_add(1, Ordering::Relaxed);
                true
            }
            Err(TrySendError::Disconnected(_)) => false,
        }
    }
}

/// Counts what happens within a second.
struct Pace {
    since: Instant,
    count: u32,
}

impl Pace {
    fn new() -> Self {
        Self { since: Instant::now(), count: 0 }
    }

    /// Whether one more is within the limit.
    fn allows_one(&mut self) -> bool {
        if self.since.elapsed() >= Duration::from_secs(1) {
            *self = Self::new();
        }
        self.count = self.count.saturating_add(1);
        self.count <= MOST_A_SECOND
    }
}

/// Listens on a port of this machine, on all addresses that it has now or on one, for as long as the
/// process lives. Each visit is reported to `visits`.
///
/// # Errors
/// When no listener could be opened: the port is taken, or it needs privilege.
pub fn listen(port: Port, at: Option<IpAddr>, visits: &Teller) -> io::Result<()> {
    let addresses = match (at, port) {
        (Some(at), _) => vec![at],
        (None, Port::Tcp(_)) => vec![Ipv4Addr::UNSPECIFIED.into(), Ipv6Addr::UNSPECIFIED.into()],
        // A visitor takes only an answer that comes from the address it asked; a socket for all addresses
        // would let the system choose one.
        (None, Port::Udp(_)) => {
            let loopback = [IpAddr::from(Ipv4Addr::LOCALHOST), Ipv6Addr::LOCALHOST.into()];
            here::addresses()?.into_iter().chain(loopback).collect()
        }
    };
    let mut failed = None;
    let mut open = 0;
    for address in addresses {
        match listen_at(port, address, visits.clone()) {
            Ok(()) => open += 1,
            // A machine without IPv6 still listens in IPv4; an address of one link needs more than itself.
            Err(error) => failed = failed.or(Some(error)),
        }
    }
    match failed {
        Some(error) if open == 0 => Err(error),
        _ => Ok(()),
    }
}

fn listen_at(port: Port, address: IpAddr, visits: Teller) -> io::Result<()> {
    let (kind, protocol, number) = match port {
        Port::Tcp(number) => (Type::STREAM, Protocol::TCP, number),
        Port::Udp(number) => (Type::DGRAM, Protocol::UDP, number),
    };
    let at = SocketAddr::new(address, number);
    let socket = Socket::new(Domain::for_address(at), kind, Some(protocol))?;
    if at.is_ipv6() {
        socket.set_only_v6(true)?;
    }
    if kind == Type::STREAM {
        // A listener that was just closed does not keep the port from the next one.
        socket.set_reuse_address(true)?;
    }
    socket.bind(&SockAddr::from(at))?;
    if kind == Type::STREAM {
        socket.listen(128)?;
        let listener = TcpListener::from(socket);
        thread::spawn(move || greet(port, &listener, &visits));
    } else {
        let socket = UdpSocket::from(socket);
        thread::spawn(move || echo(port, &socket, &visits));
    }
    Ok(())
}

fn greet(port: Port, listener: &TcpListener, visits: &Teller) {
    let mut pace = Pace::new();
    for stream in listener.incoming() {
        let Ok(mut stream) = stream else { continue };
        let Ok(from) = stream.peer_addr() else { continue };
        if !pace.allows_one() {
            visits.untold.fetch_add(1, Ordering::Relaxed);
            continue;
        }
        if !visits.tell(Visit { port, from }) {
            return;
        }
        // A client that only checks whether the port is open need not stay for the greeting.
        let _ = stream.set_write_timeout(Some(PATIENCE));
        let _ = stream.write_all(GREETING);
    }
}

fn echo(port: Port, socket: &UdpSocket, visits: &Teller) {
    let (mut buffer, mut pace) = ([0; 2048], Pace::new());
    loop {
        let Ok((length, from)) = socket.recv_from(&mut buffer) else { continue };
        if buffer[..length].starts_with(GREETING.trim_ascii_end()) {
            continue;
        }
        if !pace.allows_one() {
            visits.untold.fetch_add(1, Ordering::Relaxed);
            continue;
        }
        if !visits.tell(Visit { port, from }) {
            return;
        }
        // An answer that cannot be sent is one that does not arrive.
        let _ = socket.send_to(GREETING, from);
    }
}
