//! Conversations between our own ends through the gateway, many at a time, each identified by a number in its first
//! packet.
//!
//! Both ends are here, so that what gets through is seen where it arrives. What does not is only believed of a network that
//! lives: before and after, the gateway answers both ends.

use super::frame::{Content, Packet, Segment};
use bastium_core::space::Family;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::net::IpAddr;
use std::time::Instant;

/// What begins the payload of what is asked, and of what is answered.
const ASKED: &[u8; 8] = b"bastium?";
const ANSWERED: &[u8; 8] = b"bastium!";
/// The first of the ports that are asked from, and how many there are.
const FIRST_PORT: u32 = 20_000;
const PORTS: u32 = 40_000;

/// What is asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Ask {
    /// A connection to a TCP port.
    Tcp(u16),
    /// An answer at a UDP port.
    Udp(u16),
    /// An answer at a UDP port, in the words that are spoken there.
    Words(u16, Words),
    /// An echo.
    Echo,
    /// An answer by another protocol, with its number.
    Other(u8),
}

/// What is spoken at a port.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Words {
    /// A question for a name (RFC 1035).
    Name,
    /// A question for the time (RFC 5905).
    Time,
}

/// Something to try.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Conversation {
    /// The network in which it begins.
    pub lane: usize,
    /// From which address: mostly ours there; another, if it is to look like somebody else's.
    pub from: IpAddr,
    /// Our end there, which the gateway has to answer.
    pub near: IpAddr,
    /// To which address.
    pub to: IpAddr,
    /// What is asked for.
    pub ask: Ask,
    /// Where it would arrive, if that is one of our own ends.
    pub far: Option<(usize, IpAddr)>,
}

/// What has come of it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Came {
    /// Where it has arrived, if at an end of ours.
    pub arrived: Option<Arrival>,
    /// What has come back.
    pub answer: Option<Answer>,
    /// Whether the gateway answered both ends, before and after; without that, silence shows nothing.
    pub controlled: bool,
    /// Whether it could be sent at all.
    pub sent: bool,
}

/// An arrival.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Arrival {
    /// In which network.
    pub lane: usize,
    /// Under which source, which the gateway may have translated.
    pub source: IpAddr,
    /// To which address.
    pub destination: IpAddr,
    /// To which port, if it has one.
    pub port: Option<u16>,
}

/// What came back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answer {
    /// An answer to what was asked.
    Reply,
    /// A refusal: a reset, or a notice that a port is closed.
    Refused,
    /// A notice that there is no way, or that it is forbidden.
    Unreachable,
}

/// How many packets a second.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Pace(pub u32);

/// An end, and the gateway's address that it asks for as a control.
pub(super) type End = (usize, IpAddr);

/// A network, as it is reached, and a family.
pub type Side = (usize, Family);

/// Where the gateway answered at first, and then nobody for so long that nothing more was begun there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Silence {
    /// The network, as it is reached.
    pub lane: usize,
    /// The family in which that was so.
    pub family: Family,
    /// Whether it answers again.
    pub over: bool,
}

/// What is under way.
pub(super) struct Trials {
    /// What distinguishes this run from others.
    pub(super) key: u32,
    pub(super) asked: Vec<(usize, IpAddr, IpAddr)>,
    pub(super) came: Vec<Came>,
    /// Which of them was asked last from a port.
    pub(super) by_port: HashMap<(usize, IpAddr, u16), u32>,
    /// Which of our ends the gateway has answered since that was emptied.
    pub(super) alive: HashSet<End>,
    /// Who has answered whom about neighbours.
    pub(super) gateways: HashSet<(usize, IpAddr)>,
    /// In how many batches, one after the other, no end of ours there was answered.
    pub(super) silent: HashMap<Side, u32>,
    /// Where that was so for long, be it over or not, and an end of ours there.
    pub(super) fell_silent: BTreeMap<Side, End>,
    /// When it was last asked there.
    pub(super) looked: Option<Instant>,
}

impl Trials {
    pub(super) fn new() -> Self {
        let since = std::time::UNIX_EPOCH
            .elapsed()
            .map_or(0, |time| u64::from(time.subsec_nanos()) ^ time.as_secs() << 30);
        let key = (since ^ u64::from(std::process::id()).rotate_left(32))
            .wrapping_mul(0x9e37_79b9_7f4a_7c15);
        Self {
            key: (key >> 32) as u32,
            asked: Vec::new(),
            came: Vec::new(),
            by_port: HashMap::new(),
            alive: HashSet::new(),
            gateways: HashSet::new(),
            silent: HashMap::new(),
            fell_silent: BTreeMap::new(),
            looked: None,
        }
    }

    /// Somebody has answered a question for neighbours.
    pub(super) fn neighbour(&mut self, lane: usize, address: IpAddr, to: IpAddr) {
        if self.gateways.contains(&(lane, address)) {
            self.alive.insert((lane, to));
        }
    }

    /// The number of a conversation, in what its first packet carries.
    fn number(&self, word: u32) -> Option<u32> {
        let number = word ^ self.key;
        ((number as usize) < self.came.len()).then_some(number)
    }

    fn in_payload(&self, begins: &[u8; 8], payload: &[u8]) -> Option<u32> {
        let rest = payload.strip_prefix(begins)?;
        self.number(u32::from_be_bytes(rest.get(..4)?.try_into().ok()?))
    }

    fn payload(&self, begins: &[u8; 8], number: u32) -> Vec<u8> {
        [&begins[..], &(number ^ self.key).to_be_bytes()].concat()
    }

    /// A packet that arrives at an end of ours: what to answer, if it belongs to a conversation of this run.
    pub(super) fn arrived(&mut self, lane: usize, packet: &Packet) -> Option<Content> {
        let (number, port, answer) = match &packet.content {
            Content::Tcp { from, to, segment: Segment::Open, number: word, .. } => {
                let number = self.number(*word)?;
                let (from, to, answers) = (*to, *from, word.wrapping_add(1));
                let segment = Segment::Accept;
                (number, Some(from), Content::Tcp { from, to, segment, number: *word, answers })
            }
            Content::Udp { from, to, payload } => {
                let number = self.in_payload(ASKED, payload)?;
                let payload = self.payload(ANSWERED, number);
                (number, Some(*to), Content::Udp { from: *to, to: *from, payload })
            }
            Content::Echo { reply: false, ident, sequence, payload } => {
                let number = self.in_payload(ASKED, payload)?;
                let (ident, sequence, payload) = (*ident, *sequence, payload.clone());
                (number, None, Content::Echo { reply: true, ident, sequence, payload })
            }
            Content::Other(protocol, payload) => {
                let number = self.in_payload(ASKED, payload)?;
                (number, None, Content::Other(*protocol, self.payload(ANSWERED, number)))
            }
            _ => return None,
        };
        self.came[number as usize].arrives(lane, packet, port);
        Some(answer)
    }

    /// A packet that answers a conversation of this run, at the end where it began: its number.
    pub(super) fn answered(&mut self, lane: usize, packet: &Packet) -> Option<u32> {
        let (number, answer) = self.answer(lane, packet)?;
        let (of, from, to) = self.asked[number as usize];
        let notice = matches!(packet.content, Content::Unreachable { .. });
        // Nobody answers for another; notices come from routers on the way.
        if (of, from) != (lane, packet.destination) || !notice && to != packet.source {
            return None;
        }
        self.came[number as usize].answers(answer);
        Some(number)
    }

    fn answer(&self, lane: usize, packet: &Packet) -> Option<(u32, Answer)> {
        match &packet.content {
            Content::Tcp {
                segment: segment @ (Segment::Accept | Segment::Reset), answers, ..
            } => {
                let answer = match segment {
                    Segment::Accept => Answer::Reply,
                    _ => Answer::Refused,
                };
                Some((self.number(answers.wrapping_sub(1))?, answer))
            }
            Content::Udp { to, payload, .. } => {
                let number = self.in_payload(ANSWERED, payload).or_else(|| {
                    let asked = payload.starts_with(ASKED);
                    let known = self.by_port.get(&(lane, packet.destination, *to));
                    known.copied().filter(|_| !asked)
                });
                Some((number?, Answer::Reply))
            }
            Content::Echo { reply: true, payload, .. } => {
                Some((self.in_payload(ASKED, payload)?, Answer::Reply))
            }
            Content::Other(_, payload) => {
                Some((self.in_payload(ANSWERED, payload)?, Answer::Reply))
            }
            Content::Unreachable { port, about } => {
                let answer = if *port { Answer::Refused } else { Answer::Unreachable };
                Some((self.about(lane, about)?, answer))
            }
            _ => None,
        }
    }

    /// The conversation that a notice is about.
    fn about(&self, lane: usize, about: &Packet) -> Option<u32> {
        match &about.content {
            Content::Tcp { number, .. } => self.number(*number),
            Content::Udp { from, .. } => self.by_port.get(&(lane, about.source, *from)).copied(),
            Content::Echo { payload, .. } | Content::Other(_, payload) => {
                self.in_payload(ASKED, payload)
            }
            Content::Unreachable { .. } => None,
        }
    }

    /// The first packet of a conversation.
    pub(super) fn first(&self, number: u32, conversation: &Conversation) -> Packet {
        let from = port_of(number);
        let content = match conversation.ask {
            Ask::Tcp(to) => {
                let (segment, word) = (Segment::Open, number ^ self.key);
                Content::Tcp { from, to, segment, number: word, answers: 0 }
            }
            Ask::Udp(to) => Content::Udp { from, to, payload: self.payload(ASKED, number) },
            Ask::Words(to, Words::Name) => {
                Content::Udp { from, to, payload: name_question(number) }
            }
            Ask::Words(to, Words::Time) => {
                Content::Udp { from, to, payload: crate::probe::wire::time_question().to_vec() }
            }
            Ask::Echo => Content::Echo {
                reply: false,
                // Gateways know echoes by their identifier alone.
                ident: low_half(number) ^ low_half(self.key),
                sequence: low_half(number >> 16),
                payload: self.payload(ASKED, number),
            },
            Ask::Other(protocol) => Content::Other(protocol, self.payload(ASKED, number)),
        };
        Packet { source: conversation.from, destination: conversation.to, content }
    }
}

/// The lower sixteen bits.
fn low_half(number: u32) -> u16 {
    let [low, high, ..] = number.to_le_bytes();
    u16::from_le_bytes([low, high])
}

/// The port that a conversation begins from.
pub(super) fn port_of(number: u32) -> u16 {
    low_half(FIRST_PORT + number % PORTS)
}

fn name_question(number: u32) -> Vec<u8> {
    let name = "example.org";
    crate::site::names::question(name, low_half(number), Family::V4).unwrap_or_default()
}

impl Conversation {
    /// Our own ends in it.
    pub(super) fn ends(&self) -> impl Iterator<Item = End> + use<> {
        [Some((self.lane, self.near)), self.far].into_iter().flatten()
    }
}

#[cfg(test)]
mod tests;
