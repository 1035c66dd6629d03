//! What the packet filter reports about its decisions, packet by packet.
//!
//! Forwarding between virtual cables runs inside the call that sends a packet. So when that returns, all
//! that the filter did with it can be read already.

use super::netlink::{attributes, messages, socket};
use rustix::net::{RecvFlags, recv};
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

/// `NFNLGRP_NFTRACE`, as a mask.
const GROUP: u32 = 1 << 8;
/// `NFNL_SUBSYS_NFTABLES` and `NFT_MSG_TRACE`.
const MESSAGE: u16 = 10 << 8 | 17;

/// What kind of step it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// A rule matched.
    Rule,
    /// No rule of a chain did, and its policy decided.
    Policy,
    /// A chain was left by its end.
    Return,
}

/// What came of a step.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It passes this hook.
    Accept,
    /// It is gone.
    Drop,
    /// It goes on to other rules.
    GoesOn,
}

/// One step of a packet through the filter.
#[derive(Clone, Debug)]
pub struct Step {
    /// The same for all steps of a packet.
    pub packet: u32,
    /// The table.
    pub table: String,
    /// The chain.
    pub chain: String,
    /// The rule's handle.
    pub rule: u64,
    /// What kind of step it is.
    pub kind: Kind,
    /// What came of it.
    pub outcome: Outcome,
    /// The packet's network header, where this is the first step in a hook.
    pub header: Vec<u8>,
    /// The beginning of what follows that header.
    pub transport: Vec<u8>,
}

/// Listens to the filter of the network that it was opened in.
pub struct Trace {
    socket: OwnedFd,
    buffer: Vec<u8>,
}

impl Trace {
    /// Begins to listen in the network that this thread is in.
    ///
    /// # Errors
    /// When the kernel has no trace, or does not let it be heard.
    pub fn new() -> io::Result<Self> {
        Ok(Self { socket: socket(GROUP)?, buffer: vec![0; 1 << 16] })
    }

    /// Everything that was traced since. `None` where some of it was lost for want of room.
    ///
    /// # Errors
    /// When the kernel does not answer.
    pub fn drain(&mut self) -> io::Result<Option<Vec<Step>>> {
        let mut steps = Vec::new();
        let mut whole = true;
        loop {
            match recv(&self.socket, &mut self.buffer[..], RecvFlags::DONTWAIT) {
                Ok((0, _)) => break,
                Ok((length, _)) => {
                    let reported = messages(&self.buffer[..length]);
                    let reported = reported.filter(|(kind, _)| *kind == MESSAGE);
                    steps.extend(reported.filter_map(|(_, content)| step(content.get(4..)?)));
                }
                Err(rustix::io::Errno::AGAIN) => break,
                Err(rustix::io::Errno::NOBUFS) => whole = false,
                Err(rustix::io::Errno::INTR) => {}
                Err(error) => return Err(error.into()),
            }
        }
        Ok(whole.then_some(steps))
    }
}

impl AsFd for Trace {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.socket.as_fd()
    }
}

fn step(content: &[u8]) -> Option<Step> {
    let mut step = Step {
        packet: 0,
        table: String::new(),
        chain: String::new(),
        rule: 0,
        kind: Kind::Return,
        outcome: Outcome::GoesOn,
        header: Vec::new(),
        transport: Vec::new(),
    };
    let mut known = false;
    for (kind, value) in attributes(content) {
        match kind {
            1 => step.table = text(value),
            2 => step.chain = text(value),
            3 => step.rule = u64::from_be_bytes(value.try_into().ok()?),
            4 => {
                step.kind = match number(value)? {
                    1 => Kind::Policy,
                    3 => Kind::Rule,
                    _ => Kind::Return,
                };
            }
            5 => {
                let code = attributes(value).find(|(kind, _)| *kind == 1)?;
                step.outcome = outcome(number(code.1)?);
            }
            6 => {
                step.packet = number(value)?;
                known = true;
            }
            8 => step.header = value.to_vec(),
            9 => step.transport = value.to_vec(),
            16 => step.outcome = outcome(number(value)?),
            _ => {}
        }
    }
    known.then_some(step)
}

fn outcome(code: u32) -> Outcome {
    match code {
        0 => Outcome::Drop,
        1 => Outcome::Accept,
        _ => Outcome::GoesOn,
    }
}

fn number(value: &[u8]) -> Option<u32> {
    Some(u32::from_be_bytes(value.try_into().ok()?))
}

fn text(value: &[u8]) -> String {
    let end = value.iter().position(|byte| *byte == 0).unwrap_or(value.len());
    String::from_utf8_lossy(&value[..end]).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn attribute(kind: u16, value: &[u8]) -> Vec<u8> {
        let mut bytes = ((value.len() + 4) as u16).to_ne_bytes().to_vec();
        bytes.extend(kind.to_ne_bytes());
        bytes.extend(value);
        bytes.resize(bytes.len().next_multiple_of(4), 0);
        bytes
    }

    fn reported(kind: u32, code: i32) -> Vec<u8> {
        let verdict = attribute(1, &code.to_be_bytes());
        [
            attribute(6, &7u32.to_be_bytes()),
            attribute(1, b"bastium\0"),
            attribute(2, b"forward\0"),
            attribute(3, &42u64.to_be_bytes()),
            attribute(4, &kind.to_be_bytes()),
            attribute(5 | 0x8000, &verdict),
            attribute(8, &[0x45, 0, 0, 20]),
            attribute(99, b"unknown"),
        ]
        .concat()
    }

    #[test]
    fn a_step_is_read_whatever_else_is_reported() {
        let read = step(&reported(3, 0)).expect("a step");
        assert_eq!((read.packet, read.rule), (7, 42));
        assert_eq!((read.table.as_str(), read.chain.as_str()), ("bastium", "forward"));
        assert_eq!((read.kind, read.outcome), (Kind::Rule, Outcome::Drop));
        assert_eq!(read.header, [0x45, 0, 0, 20]);
        assert_eq!(step(&reported(3, 1)).expect("a step").outcome, Outcome::Accept);
        // A jump is a negative number.
        assert_eq!(step(&reported(3, -3)).expect("a step").outcome, Outcome::GoesOn);
        assert_eq!(step(&reported(1, 0)).expect("a step").kind, Kind::Policy);
        assert_eq!(step(&reported(2, -1)).expect("a step").kind, Kind::Return);
    }

    #[test]
    fn what_is_cut_off_is_no_step_and_no_harm() {
        let whole = reported(3, 0);
        for length in 0..whole.len() {
            // Whatever is there is read; nothing is read beyond.
            let _ = step(&whole[..length]);
        }
        assert!(step(&[]).is_none());
        assert!(step(&attribute(1, b"bastium\0")).is_none(), "a step has a packet");
        assert_eq!(attributes(&[0, 0, 0, 0, 0, 0, 0, 0]).count(), 0, "no length, no end");
    }
}
