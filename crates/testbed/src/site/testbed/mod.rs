//! Real conversations from real sockets: what devices ask for, who answers, and what comes back.
//!
//! Everything happens in one thread. A socket stays in the namespace in which it was made, so a device
//! is a socket made at the right place. A drop is known at once from the filter's trace; only where neither
//! an answer nor a trace comes is there anything to wait for.

mod answering;
mod asking;
mod known;

use super::inject::Judged;
use super::names::Names;
use super::{Fate, Site};
use crate::kernel::space::Space;
use crate::kernel::trace::Step;
use crate::probe::Seen;
use known::{Key, keys};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use socket2::Socket;
use std::collections::{HashMap, HashSet};
use std::io;
use std::net::IpAddr;
use std::os::fd::AsFd;
use std::time::{Duration, Instant};

/// How long nothing is taken for an answer, where the filter shows nothing either.
const PATIENCE: Duration = Duration::from_millis(300);
/// How long a lease may take: another process has to look it up.
const LEASE_PATIENCE: Duration = Duration::from_millis(1500);
/// How many times as long each try waits: a machine with much else to do can be late.
const TRIES: [u32; 3] = [1, 2, 4];
/// How many conversations are under way at once.
const AT_ONCE: usize = 150;

/// What a device does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Action {
    /// Opens a TCP connection.
    Connect(u16),
    /// Sends a UDP packet and waits for an answer.
    Ask(u16),
    /// Sends an echo request.
    Echo,
    /// Sends a UDP packet to everyone, to which nobody need answer.
    Tell(u16),
    /// Asks a name server for a name.
    Resolve(String),
    /// Asks for a lease, with that hardware address, or the cable's own.
    Lease(Option<[u8; 6]>),
}

/// Something to try.
#[derive(Clone, Debug)]
pub struct Attempt {
    /// The cable at whose end the device is; the gateway itself where there is none.
    pub cable: Option<usize>,
    /// Its address.
    pub from: IpAddr,
    /// Where it sends to.
    pub to: IpAddr,
    /// What it does.
    pub action: Action,
    /// Who answers there, if something gets through.
    pub answers: Option<Expected>,
}

/// Somebody who answers: at the end of a cable, or the gateway itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Expected {
    /// The cable at whose end it is; the gateway itself where there is none.
    pub cable: Option<usize>,
    /// At which address.
    pub at: IpAddr,
    /// Of TCP; else of UDP.
    pub tcp: bool,
    /// At which port.
    pub port: u16,
}

/// What came of it.
#[derive(Clone, Debug)]
pub struct Asked {
    /// What came back.
    pub seen: Seen,
    /// What the gateway's filter did, if it was asked.
    pub judged: Option<Judged>,
    /// The address under which it was heard at the other end.
    pub heard_as: Option<IpAddr>,
    /// More about it: the address that was leased, or why nothing could be tried.
    pub detail: Option<String>,
}

/// Sockets of a site that wait for conversations to get through.
pub struct Testbed<'s> {
    site: &'s mut Site,
    names: Names,
    tcp: Vec<(Socket, Expected)>,
    udp: Vec<(Socket, Expected)>,
    /// Those of the listeners that answer for names.
    name_servers: HashSet<Expected>,
    /// The clients that were heard, by listener and source port; nobody in particular where
    /// two came from the same port.
    heard: HashMap<(Expected, u16), Option<IpAddr>>,
    open: HashSet<Expected>,
    groups: Vec<Socket>,
}

/// A conversation under way.
struct Pending {
    number: usize,
    socket: Socket,
    key: Key,
    kind: Kind,
    until: Instant,
    came: Option<Came>,
    judged: Option<Judged>,
}

/// What came back.
struct Came {
    seen: Seen,
    detail: Option<String>,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Connect,
    Answer,
    Tell,
    Lease(u32),
}

impl<'s> Testbed<'s> {
    /// A testbed on which nobody answers yet. The gateway hears those who speak to everyone.
    ///
    /// # Errors
    /// When the kernel makes no sockets.
    pub fn new(site: &'s mut Site, names: Names) -> io::Result<Self> {
        let mut testbed = Self {
            site,
            names,
            tcp: Vec::new(),
            udp: Vec::new(),
            name_servers: HashSet::new(),
            heard: HashMap::new(),
            open: HashSet::new(),
            groups: Vec::new(),
        };
        testbed.groups =
            testbed.site.gateway.within(|| answering::join_groups(testbed.site.ends.len()))?;
        Ok(testbed)
    }

    fn space(&self, cable: Option<usize>) -> &Space {
        cable.and_then(|number| self.site.ends.get(number)).unwrap_or(&self.site.gateway)
    }

    /// The site itself.
    pub fn site(&mut self) -> &mut Site {
        self.site
    }

    /// Tries all of these, and tells what came of each, in their order. What got no answer though it was let
    /// through, and what left no trace, is tried again, with more patience. `reported` gets how many are done.
    ///
    /// # Errors
    /// When the kernel does not do its part; what a device meets is no error.
    pub fn run(
        &mut self,
        attempts: &[Attempt],
        mut reported: impl FnMut(usize),
    ) -> io::Result<Vec<Asked>> {
        let mut asked: Vec<Option<Asked>> = vec![None; attempts.len()];
        let mut nobody = vec![false; attempts.len()];
        for (number, attempt) in attempts.iter().enumerate() {
            let Some(who) = attempt.answers else { continue };
            match self.listen(who) {
                // A port that something of the gateway's has taken answers by itself.
                Err(error) if error.kind() == io::ErrorKind::AddrInUse => {}
                // No machine can be at the address that names a network, or that is for all in it.
                Err(error) if error.kind() == io::ErrorKind::AddrNotAvailable => {
                    asked[number] = Some(Asked::not_tried(&error));
                    nobody[number] = true;
                }
                listening => listening?,
            }
        }
        for times in TRIES {
            let late = |asked: &Option<Asked>| asked.as_ref().is_none_or(Asked::is_late);
            let due =
                (0..attempts.len()).filter(|number| !nobody[*number] && late(&asked[*number]));
            let due: Vec<usize> = due.collect();
            let done = attempts.len() - due.len();
            let round: Vec<&Attempt> = due.iter().map(|number| &attempts[*number]).collect();
            let came = self.round(&round, times, &mut |now| reported(done + now))?;
            for (number, one) in due.into_iter().zip(came) {
                asked[number] = Some(one);
            }
        }
        Ok(asked.into_iter().flatten().collect())
    }

    /// Tries each of these once.
    fn round(
        &mut self,
        attempts: &[&Attempt],
        times: u32,
        reported: &mut dyn FnMut(usize),
    ) -> io::Result<Vec<Asked>> {
        let mut results: Vec<Option<Asked>> = vec![None; attempts.len()];
        self.site.trace.drain()?;
        let mut pending: Vec<Pending> = Vec::new();
        let mut packets: HashMap<u32, Key> = HashMap::new();
        let mut next = 0;
        while next < attempts.len() || !pending.is_empty() {
            while next < attempts.len() && pending.len() < AT_ONCE {
                match self.begin(next, attempts[next], times) {
                    Ok(one) => pending.push(one),
                    Err(error) => results[next] = Some(Asked::not_tried(&error)),
                }
                next += 1;
            }
            // In this order: a client that gets an answer was heard before, and the filter had seen it before.
            let now = Instant::now();
            for one in &mut pending {
                one.look();
            }
            self.serve()?;
            let steps = self.site.trace.drain()?.unwrap_or_default();
            self.note(&steps, &mut packets, &mut pending);
            let mut left = Vec::new();
            for one in pending {
                match self.outcome(&one, attempts[one.number], now) {
                    Some(asked) => results[one.number] = Some(asked),
                    None => left.push(one),
                }
            }
            pending = left;
            reported(results.iter().flatten().count());
            self.wait(&pending)?;
        }
        Ok(results.into_iter().flatten().collect())
    }

    /// Notes what the filter did with the packets of conversations.
    fn note(&self, steps: &[Step], packets: &mut HashMap<u32, Key>, pending: &mut [Pending]) {
        let places: HashMap<Key, usize> =
            pending.iter().enumerate().map(|(place, one)| (one.key, place)).collect();
        for step in steps {
            let first = !step.header.is_empty();
            if first && matches!(step.chain.as_str(), "in" | "out") {
                let keys = keys(step);
                match keys.into_iter().find(|key| places.contains_key(key)) {
                    Some(key) => packets.insert(step.packet, key),
                    None => packets.remove(&step.packet),
                };
            }
            let Some(place) = packets.get(&step.packet).and_then(|key| places.get(key)) else {
                continue;
            };
            let one = &mut pending[*place];
            if one.judged.is_none() {
                one.judged = self.site.decision(step);
            }
        }
    }

    /// What came of a conversation; `None` while more may still come.
    fn outcome(&mut self, one: &Pending, attempt: &Attempt, now: Instant) -> Option<Asked> {
        let fate = one.judged.as_ref().map(|judged| judged.fate);
        let reported = match (one.kind, fate) {
            (Kind::Tell, Some(Fate::Passes)) => Some(Seen::Reply),
            (_, Some(Fate::Dropped)) | (Kind::Tell, Some(_)) => Some(Seen::Silence),
            _ => None,
        };
        let came = one.came.as_ref();
        let seen = came.map(|came| came.seen).or(reported);
        let answered = seen == Some(Seen::Reply);
        // Who heard it, if that is one of those who answer here.
        let by = attempt.answers.filter(|who| answered && self.open.contains(who));
        let by = by.and_then(|who| match one.key {
            Key::Ports(_, _, _, own, _) => Some((who, own)),
            Key::Mark(_) => None,
        });
        let whole =
            seen.is_some() && fate.is_some() && by.is_none_or(|by| self.heard.contains_key(&by));
        if !whole && now < one.until {
            return None;
        }
        Some(Asked {
            seen: seen.unwrap_or(Seen::Silence),
            judged: one.judged.clone(),
            heard_as: by.and_then(|by| self.heard.remove(&by)).flatten(),
            detail: came.and_then(|came| came.detail.clone()),
        })
    }

    /// Waits until somebody has something to say, but not for long.
    fn wait(&self, pending: &[Pending]) -> io::Result<()> {
        if pending.is_empty() {
            return Ok(());
        }
        let input = PollFlags::IN;
        let mut fds: Vec<PollFd<'_>> =
            self.tcp.iter().map(|(socket, _)| PollFd::new(socket, input)).collect();
        fds.extend(self.udp.iter().map(|(socket, _)| PollFd::new(socket, input)));
        fds.push(PollFd::from_borrowed_fd(self.site.trace.as_fd(), input));
        for one in pending {
            let flags = if one.kind == Kind::Connect { PollFlags::OUT } else { input };
            // What has come need not be waited for again.
            if one.came.is_none() {
                fds.push(PollFd::new(&one.socket, flags));
            }
        }
        let long = Timespec { tv_sec: 0, tv_nsec: 5_000_000 };
        match poll(&mut fds, Some(&long)) {
            Ok(_) | Err(rustix::io::Errno::INTR) => Ok(()),
            Err(error) => Err(error.into()),
        }
    }
}

impl Asked {
    /// Whether it may be that the machine was only too slow.
    fn is_late(&self) -> bool {
        match &self.judged {
            None => self.seen != Seen::NotTried,
            Some(judged) => self.seen == Seen::Silence && judged.fate == Fate::Passes,
        }
    }

    fn not_tried(error: &io::Error) -> Self {
        let seen = match error.kind() {
            io::ErrorKind::ConnectionRefused => Seen::Refused,
            io::ErrorKind::HostUnreachable | io::ErrorKind::PermissionDenied => Seen::Unreachable,
            _ => Seen::NotTried,
        };
        let detail = (seen == Seen::NotTried).then(|| error.to_string());
        Self { seen, judged: None, heard_as: None, detail }
    }
}
