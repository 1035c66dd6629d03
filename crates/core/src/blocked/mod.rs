//! What a gateway has blocked: the packets of its log, grouped by who wanted what from whom, each group with a
//! verdict (perhaps a permission is missing, the gateway has other rules, a scan, noise ...).
//!
//! Memory does not grow with the log. Packets are counted under names of the plan, of which there is a limited
//! number.

mod address_index;
mod offer;

pub use offer::Offer;

use crate::meaning::Meaning;
use crate::rules::Rule;
use crate::space::{Ends, Interface, Packet, Protocol, ServicePoint};
use crate::verdict::{Cause, Decision, Verdict};
use address_index::{AddressIndex, Spot};
use std::collections::HashMap;
use std::net::IpAddr;

/// A packet as a log tells of it.
#[derive(Clone, Copy, Debug)]
pub struct Entry<'l> {
    /// What the rule that logged it is called there, if it is one of ours.
    pub tag: Option<&'l str>,
    /// The interface it came by; empty for one that the gateway began.
    pub enters: &'l str,
    /// The interface it would have left by; empty for one that is for the gateway.
    pub leaves: &'l str,
    /// Source and destination.
    pub ends: Ends,
    /// What it asks for.
    pub service: ServicePoint,
    /// Whether it can begin a conversation: of TCP, only SYN alone can.
    pub opens: bool,
}

/// What to make of blocked packets.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Sort {
    /// Somebody inside wanted something that nobody decided about in particular: perhaps it is missing.
    Missing,
    /// The plan lets it pass today: the gateway has other rules than the plan.
    Allowed,
    /// An exception lets this pass, at other hours.
    OutsideHours,
    /// An entry of the plan denies just this.
    Meant,
    /// A source that cannot be true where it came from.
    Spoofed,
    /// Somebody tries many things.
    Scan,
    /// From the internet, to what is not offered.
    Stranger,
    /// To everyone on the link: devices that look for each other.
    ToEveryone,
    /// A packet that begins nothing: late, or a part of a conversation that is over.
    Late,
    /// It is for nobody that there is a way to.
    NoRoute,
}

impl Sort {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Missing => "missing",
            Self::Allowed => "allowed",
            Self::OutsideHours => "outside_hours",
            Self::Meant => "meant",
            Self::Spoofed => "spoofed",
            Self::Scan => "scan",
            Self::Stranger => "stranger",
            Self::ToEveryone => "to_everyone",
            Self::Late => "late",
            Self::NoRoute => "no_route",
        }
    }

    /// What it means, in a clause.
    pub fn says(self) -> &'static str {
        match self {
            Self::Missing => "no exception covers this; perhaps a permission is missing",
            Self::Allowed => "the plan lets this pass: the gateway has other rules than the plan",
            Self::OutsideHours => "an exception lets this pass at other hours",
            Self::Meant => "an entry of the plan denies just this",
            Self::Spoofed => "the source cannot be true there: look at the device or the cable",
            Self::Scan => "one device tries many things: look at it",
            Self::Stranger => "noise: from the internet, to what is not offered",
            Self::ToEveryone => "noise: devices that look for others on their link",
            Self::Late => "noise: late packets of conversations that are over",
            Self::NoRoute => "there is no route to its destination",
        }
    }

    /// Whether nobody need do anything.
    pub fn is_noise(self) -> bool {
        matches!(self, Self::Stranger | Self::ToEveryone | Self::Late)
    }
}

/// Packets that want the same of the same.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Group {
    /// Where they come from, in the plan's words.
    pub from: String,
    /// Where they go.
    pub to: String,
    /// What they ask for; `None` where there was too much to tell apart.
    pub service: Option<ServicePoint>,
    /// How many there were.
    pub count: u64,
    /// The first and the last line that tells of one.
    pub lines: (u64, u64),
    /// The rule that blocked them, as the log calls it.
    pub tag: Option<String>,
    /// One of the packets, as it was sent.
    pub packet: Packet,
    /// What the plan means for that packet.
    pub decision: Decision,
    /// What to make of it.
    pub sort: Sort,
    /// The exception that would let it through, where one is missing.
    pub offer: Option<Offer>,
}

impl Group {
    /// Adds another one to it; what is not the same in both is not distinguished any more.
    fn take_in(&mut self, other: Self) {
        self.count += other.count;
        self.lines = (self.lines.0.min(other.lines.0), self.lines.1.max(other.lines.1));
        if self.to != other.to {
            self.to = "several".to_owned();
        }
        self.service = self.service.filter(|service| other.service == Some(*service));
        if self.tag != other.tag {
            self.tag = None;
        }
    }
}

/// A log as a whole.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Blocked {
    /// The groups: what somebody may have to do something about first, and within a sort by number.
    pub groups: Vec<Group>,
    /// How many packets the log tells of.
    pub packets: u64,
    /// How many of them were logged and let pass.
    pub passed: u64,
    /// How many came by an interface that the plan does not know.
    pub strange: u64,
}

/// How many groups are distinguished; what comes beyond is counted without its service.
const MOST: usize = 20_000;
/// From how many services on somebody is taken to be trying things out.
const MANY: usize = 20;

#[derive(Clone, Copy, PartialEq, Eq, Hash)]
struct Key {
    tag: u32,
    interface: Interface,
    from: Spot,
    /// The device by itself, as long as there is room to distinguish devices: one of them may try many things
    /// while its neighbours want something honest.
    device: Option<IpAddr>,
    to: Spot,
    service: Option<ServicePoint>,
    opens: bool,
}

#[derive(Clone)]
struct Count {
    count: u64,
    lines: (u64, u64),
    packet: Packet,
    /// Whether all went to one address, and came from one.
    one_destination: bool,
    one_source: bool,
}

/// Counts what a log tells of.
pub struct Tally<'m, 'r> {
    meaning: &'m Meaning<'m>,
    rules: HashMap<String, &'r Rule>,
    interfaces: HashMap<String, Interface>,
    book: AddressIndex,
    tags: Vec<String>,
    tag_numbers: HashMap<String, u32>,
    counts: HashMap<Key, Count>,
    packets: u64,
    passed: u64,
    strange: u64,
}

impl<'m, 'r> Tally<'m, 'r> {
    /// An empty tally; `rules` are the plan's, by what a log calls them.
    pub fn new(meaning: &'m Meaning<'m>, rules: HashMap<String, &'r Rule>) -> Self {
        let plan = meaning.plan();
        let outer = (0..plan.gateway_interface().0).map(Interface);
        let interfaces =
            outer.filter_map(|interface| Some((plan.device_name(interface)?, interface))).collect();
        Self {
            meaning,
            rules,
            interfaces,
            book: AddressIndex::of(plan),
            tags: Vec::new(),
            tag_numbers: HashMap::new(),
            counts: HashMap::new(),
            packets: 0,
            passed: 0,
            strange: 0,
        }
    }

    /// Counts a packet of that line.
    pub fn add(&mut self, line: u64, entry: &Entry<'_>) {
        self.packets += 1;
        let rule = entry.tag.and_then(|tag| self.rules.get(tag));
        if rule.is_some_and(|rule| rule.action == crate::plan::Action::Allow) {
            self.passed += 1;
            return;
        }
        let plan = self.meaning.plan();
        let interface = match entry.enters {
            "" => plan.gateway_interface(),
            name => match self.interfaces.get(name) {
                Some(interface) => *interface,
                None => {
                    self.strange += 1;
                    return;
                }
            },
        };
        let (source, destination) = (entry.ends.source(), entry.ends.destination());
        let mut key = Key {
            tag: entry.tag.map_or(u32::MAX, |tag| self.number(tag)),
            interface,
            from: if interface == plan.gateway_interface() {
                Spot::Gateway
            } else {
                self.book.spot(source)
            },
            device: Some(source),
            to: self.book.spot(destination),
            service: Some(entry.service),
            opens: entry.opens,
        };
        if self.counts.len() >= MOST / 2 && !self.counts.contains_key(&key) {
            key.device = None;
        }
        if self.counts.len() >= MOST && !self.counts.contains_key(&key) {
            key.service = None;
        }
        let packet = || Packet::new(interface, entry.ends, entry.service);
        let count = self.counts.entry(key).or_insert_with(|| Count {
            count: 0,
            lines: (line, line),
            packet: packet(),
            one_destination: true,
            one_source: true,
        });
        count.count += 1;
        count.lines.1 = line;
        count.one_destination &= count.packet.destination() == destination;
        count.one_source &= count.packet.source() == source;
    }

    /// The number of a tag. What calls itself one of ours but is none is not remembered.
    fn number(&mut self, tag: &str) -> u32 {
        if let Some(number) = self.tag_numbers.get(tag) {
            return *number;
        }
        let Some(number) = u32::try_from(self.tags.len()).ok().filter(|_| self.tags.len() < MOST)
        else {
            return u32::MAX;
        };
        self.tags.push(tag.to_owned());
        self.tag_numbers.insert(tag.to_owned(), number);
        number
    }

    /// What came of it all.
    pub fn finish(self) -> Blocked {
        let mut tried: HashMap<(Interface, Spot, Option<IpAddr>), usize> = HashMap::new();
        for key in self.counts.keys().filter(|key| key.opens) {
            *tried.entry((key.interface, key.from, key.device)).or_default() += 1;
        }
        let tries = |key: &Key| {
            tried.get(&(key.interface, key.from, key.device)).copied().unwrap_or(0) >= MANY
        };
        // Devices that try nothing odd are one with their neighbours.
        let mut counts: HashMap<(Key, bool), Count> = HashMap::new();
        for (key, count) in &self.counts {
            let many = tries(key);
            let device = key.device.filter(|_| many);
            let known = counts.entry((Key { device, ..*key }, many));
            known.and_modify(|own| own.take_in(count)).or_insert_with(|| count.clone());
        }
        let mut groups: Vec<Group> = Vec::with_capacity(counts.len());
        for ((key, many), count) in &counts {
            let group = self.group(key, count, *many);
            // What one device tries is one thing, whatever it tries.
            let same = |other: &&mut Group| {
                let one = group.packet.source() == other.packet.source();
                group.sort == Sort::Scan
                    && other.sort == Sort::Scan
                    && one
                    && other.from == group.from
            };
            match groups.iter_mut().find(same) {
                Some(known) => known.take_in(group),
                None => groups.push(group),
            }
        }
        groups.sort_by(|a, b| {
            let order = |group: &Group| (group.sort, std::cmp::Reverse(group.count));
            order(a)
                .cmp(&order(b))
                .then_with(|| (&a.from, &a.to, a.lines).cmp(&(&b.from, &b.to, b.lines)))
        });
        let (packets, passed, strange) = (self.packets, self.passed, self.strange);
        Blocked { groups, packets, passed, strange }
    }

    fn group(&self, key: &Key, count: &Count, many: bool) -> Group {
        let packet = self.as_filtered(count.packet);
        let decision = self.meaning.decide(&packet);
        let sort = self.sort(key, decision, many, &packet);
        let offer = (sort == Sort::Missing).then(|| {
            let ends = (count.one_source, count.one_destination);
            Offer::of(self.meaning, &self.book, (key.from, key.to), ends, &count.packet)
        });
        Group {
            from: self.book.words(self.meaning.plan(), key.from),
            to: self.book.words(self.meaning.plan(), key.to),
            service: key.service,
            count: count.count,
            lines: count.lines,
            tag: self.tags.get(key.tag as usize).cloned(),
            packet: count.packet,
            decision,
            sort,
            offer: offer.flatten(),
        }
    }

    /// A log tells of packets as the filter sees them: translated, but by the interface they came by.
    fn as_filtered(&self, packet: Packet) -> Packet {
        let plan = self.meaning.plan();
        let offered = self.meaning.translations().any(|inbound| {
            let own = plan.exception(inbound.exception);
            inbound.target == Some(packet.destination())
                && own.service.set.v4.contains(packet.service)
                && own.from.addresses.contains(packet.source())
        });
        let outside = plan.uplink_on(packet.enters).is_some();
        match offered && outside {
            true => Packet { enters: plan.translated_interface(packet.enters), ..packet },
            false => packet,
        }
    }
}

impl Count {
    /// Adds what was counted of another device.
    fn take_in(&mut self, other: &Self) {
        self.count += other.count;
        self.one_destination &=
            other.one_destination && self.packet.destination() == other.packet.destination();
        self.one_source &= other.one_source && self.packet.source() == other.packet.source();
        if other.lines.0 < self.lines.0 {
            self.packet = other.packet;
        }
        self.lines = (self.lines.0.min(other.lines.0), self.lines.1.max(other.lines.1));
    }
}

impl Tally<'_, '_> {
    fn sort(&self, key: &Key, decision: Decision, many: bool, packet: &Packet) -> Sort {
        match sort(key, decision, many, packet) {
            Sort::Missing if self.is_forbidden(packet) => Sort::Meant,
            Sort::Missing | Sort::Meant if self.has_hours(packet) => Sort::OutsideHours,
            sort => sort,
        }
    }

    /// Whether a guarantee says that this never passes.
    fn is_forbidden(&self, packet: &Packet) -> bool {
        let plan = self.meaning.plan();
        let own = || plan.gateway_addresses();
        plan.guarantees().iter().filter(|guarantee| !guarantee.always).any(|guarantee| {
            let to = guarantee.to.addresses.contains(packet.destination())
                || guarantee.to.gateway && own().contains(packet.destination());
            to && guarantee.from.addresses.contains(packet.source())
                && has(&guarantee.service.set, packet)
        })
    }

    /// Whether an exception lets it pass at some other hour.
    fn has_hours(&self, packet: &Packet) -> bool {
        let plan = self.meaning.plan();
        let active = self.meaning.precedence().active().iter();
        active.map(|id| plan.exception(*id)).any(|exception| {
            exception.hours.is_some()
                && exception.action == crate::plan::Action::Allow
                && exception.from.addresses.contains(packet.source())
                && exception.to.addresses.contains(packet.destination())
                && has(&exception.service.set, packet)
        })
    }
}

fn has(services: &crate::space::ServiceSet, packet: &Packet) -> bool {
    let line = services.line(packet.family());
    line.contains(packet.service)
}

fn sort(key: &Key, decision: Decision, many: bool, packet: &Packet) -> Sort {
    let destination = packet.destination();
    let everyone = destination.is_multicast()
        || destination == IpAddr::from([255, 255, 255, 255])
        || key.to == Spot::Everyone;
    match (decision.verdict, decision.cause) {
        // Whatever it says it is part of, it does not come from there.
        (_, Cause::Spoofed(..)) => Sort::Spoofed,
        _ if is_redirect(packet) && key.from != Spot::Gateway => Sort::Spoofed,
        _ if !key.opens || is_answer(packet) => Sort::Late,
        (Verdict::NoRoute | Verdict::NotRouted, _) if !everyone => Sort::NoRoute,
        _ if everyone => Sort::ToEveryone,
        (Verdict::Allow, _) => Sort::Allowed,
        (_, Cause::Exception(_)) => Sort::Meant,
        _ if key.from == Spot::Internet => Sort::Stranger,
        _ if many => Sort::Scan,
        _ => Sort::Missing,
    }
}

/// Whether it is an ICMP message that belongs to something else, and begins nothing: an error or the answer to a request
/// (RFC 792, RFC 950, RFC 4443).
fn is_answer(packet: &Packet) -> bool {
    match (packet.service.protocol(), packet.service.icmp_kind()) {
        (Protocol::ICMP, Some((kind, _))) => matches!(kind, 0 | 3 | 4 | 11 | 12 | 14 | 16 | 18),
        (Protocol::ICMP_V6, Some((kind, _))) => matches!(kind, 1..=4 | 129),
        _ => false,
    }
}

/// Whether it changes the way that somebody's packets take. Only the gateway says that, to its own networks (RFC 1122,
/// 3.2.2.2; RFC 4861, 8.1): what comes to it or through it is from somebody who would be one.
fn is_redirect(packet: &Packet) -> bool {
    match (packet.service.protocol(), packet.service.icmp_kind()) {
        (Protocol::ICMP, Some((kind, _))) => kind == 5,
        (Protocol::ICMP_V6, Some((kind, _))) => kind == 137,
        _ => false,
    }
}
