//! Fewer entries with the same effect: entries are dropped if their packets would meet the same fate further down,
//! and merged if one entry can express two.
//!
//! Both are decided over everything that an entry can look at: addresses, protocol, both ports, and the flags of TCP.
//! Besides, no first packet is left to an entry that is for what comes back, which nobody would find there.

use super::row::Row;
use super::services::Service;
use super::words::whole_prefix;
use bastium_core::plan::Action;
use bastium_core::space::{
    AddressSet, Block, Coordinate, Family, Interface, IntervalSet, Minute, Point, Search,
};
use ipnet::IpNet;
use std::collections::BTreeSet;

/// A list with more entries than this stays as it is.
const MOST_ROWS: usize = 2_000;
/// A question that takes more pieces than this (see [`Block::find_uncovered_within`]) is left open, and the entry stays: twelve times
/// as many cost four times as long on generated plans, and leave out one entry in a hundred more.
const PIECES: u32 = 16;

/// The shortened list of one family. Entries of rules that are `wider` here than the rules themselves stay, whatever comes further
/// down: what they decide otherwise than the rules is owed to them alone.
pub(super) fn shortened(rows: Vec<Row>, family: Family, wider: &BTreeSet<&str>) -> Vec<Row> {
    // Entries for different interfaces have nothing to do with each other; they are not distinguished here.
    if rows.len() > MOST_ROWS || rows.iter().any(|row| row.device.is_some()) {
        return rows;
    }
    match family {
        Family::V4 => Shortening::of(rows, family, wider, |set| set.v4.clone()).rows(),
        Family::V6 => Shortening::of(rows, family, wider, |set| set.v6.clone()).rows(),
    }
}

/// What an entry matches. Where packets enter stands for the port that they come from, and the minute for the flags of
/// TCP: a list looks at neither of the two.
fn block<A: Coordinate>(
    row: &Row,
    family: Family,
    addresses: impl Fn(&AddressSet) -> IntervalSet<A>,
) -> Block<A> {
    let end = |prefix: Option<IpNet>| match prefix {
        None => IntervalSet::full(),
        Some(prefix) => addresses(&prefix.into()),
    };
    let [source, destination] = row.ends.map(end);
    let service = row.service.set(family);
    let from = row.service.from;
    Block {
        enters: from.map_or_else(IntervalSet::full, |(low, high)| {
            IntervalSet::range(Interface(low), Interface(high))
        }),
        source,
        destination,
        service: if family == Family::V6 { service.v6 } else { service.v4 },
        at: flags(row.service.flag),
    }
}

/// Of packets with neither flag, with RST, with both, and with ACK, those that have one.
fn flags(flag: Option<&str>) -> IntervalSet<Minute> {
    let range = |low, high| IntervalSet::range(Minute::new(low), Minute::new(high));
    match flag {
        Some("rst") => range(1, 2),
        Some(_) => range(2, 3),
        None => IntervalSet::full(),
    }
}

/// A list while it gets shorter.
struct Shortening<'w, A, F> {
    list: Vec<(Row, Block<A>)>,
    family: Family,
    wider: &'w BTreeSet<&'w str>,
    addresses: F,
}

impl<'w, A: Coordinate, F: Fn(&AddressSet) -> IntervalSet<A>> Shortening<'w, A, F> {
    fn of(rows: Vec<Row>, family: Family, wider: &'w BTreeSet<&'w str>, addresses: F) -> Self {
        let list = rows
            .into_iter()
            .map(|row| {
                let block = block(&row, family, &addresses);
                (row, block)
            })
            .collect();
        Self { list, family, wider, addresses }
    }

    fn rows(mut self) -> Vec<Row> {
        self.drop_repeated();
        while self.join() {
            self.drop_repeated();
        }
        self.list.into_iter().map(|(row, _)| row).collect()
    }

    /// Drops entries whose packets meet the same fate further down, from the last to the first.
    fn drop_repeated(&mut self) {
        for place in (0..self.list.len()).rev() {
            if !self.is_wider(&self.list[place].0)
                && self.repeated(place, |_| true)
                && (self.list[place].0.is_back() || self.repeated(place, |row| !row.is_back()))
            {
                self.list.remove(place);
            }
        }
    }

    fn is_wider(&self, row: &Row) -> bool {
        self.wider.contains(row.rule.as_str())
    }

    /// Whether that holds of an entry, if those take part for which `counts`.
    fn repeated(&self, place: usize, counts: impl Fn(&Row) -> bool) -> bool {
        let (row, own) = &self.list[place];
        // Most entries are needed for what lies at one of their corners.
        let corners = [false, true].into_iter().filter_map(|high| own.corner(high));
        if corners.into_iter().any(|point| self.needed_for(place, point, &counts)) {
            return false;
        }
        let near = |list: &'_ [(Row, Block<A>)]| -> Vec<usize> {
            let meets = |(row, block): &(Row, Block<A>)| counts(row) && !block.is_disjoint(own);
            (0..list.len()).filter(|one| meets(&list[*one])).collect()
        };
        let (above, below) = (&self.list[..place], &self.list[place + 1..]);
        let mut decided: Vec<&Block<A>> =
            near(above).into_iter().map(|one| &above[one].1).collect();
        for one in near(below) {
            let (other, block) = &below[one];
            if fate(other) != fate(row)
                && let Some(shared) = own.intersection(block)
                && !matches!(
                    shared.find_uncovered_within(decided.iter().copied(), PIECES),
                    Search::Covered
                )
            {
                return false;
            }
            if own.is_subset(block) {
                return true;
            }
            decided.push(block);
        }
        // What would come to the end of the list is not repeated there.
        matches!(own.find_uncovered_within(decided.iter().copied(), PIECES), Search::Covered)
    }

    /// Whether an entry decides over a packet, and what follows would do so otherwise, or not at all.
    fn needed_for(&self, place: usize, point: Point<A>, counts: &impl Fn(&Row) -> bool) -> bool {
        let first = |list: &'_ [(Row, Block<A>)]| {
            list.iter().position(|(row, block)| block.contains(point) && counts(row))
        };
        let (above, below) = (&self.list[..place], &self.list[place + 1..]);
        let fate_below = || first(below).map(|next| fate(&below[next].0));
        first(above).is_none() && fate_below() != Some(fate(&self.list[place].0))
    }

    /// Makes one of two entries with the same fate, where that is possible; whether it was anywhere.
    fn join(&mut self) -> bool {
        let before = self.list.len();
        let mut place = 0;
        while place < self.list.len() {
            match self.partner(place) {
                Some((other, joined)) => {
                    let block = block(&joined, self.family, &self.addresses);
                    self.list[place] = (joined, block);
                    self.list.remove(other);
                }
                None => place += 1,
            }
        }
        self.list.len() < before
    }

    /// An entry further down that may be moved up to this one and be one with it.
    fn partner(&self, place: usize) -> Option<(usize, Row)> {
        let (row, _) = &self.list[place];
        (place + 1..self.list.len()).find_map(|other| {
            let (below, block) = &self.list[other];
            let own = row.rule == below.rule || !self.is_wider(row) && !self.is_wider(below);
            let joined = joined(row, below).filter(|_| own)?;
            let passes = self.list[place + 1..other]
                .iter()
                .all(|(between, theirs)| fate(between) == fate(below) || theirs.is_disjoint(block));
            passes.then_some((other, joined))
        })
    }
}

fn fate(row: &Row) -> (Action, bool) {
    (row.action, row.log)
}

/// Both in one entry that matches just what the two match.
fn joined(one: &Row, other: &Row) -> Option<Row> {
    if fate(one) != fate(other) || one.is_back() != other.is_back() {
        return None;
    }
    if one.ends == other.ends {
        let service = joined_services(&one.service, &other.service)?;
        return Some(Row { service, ..one.clone() });
    }
    if one.service != other.service {
        return None;
    }
    let [from, to] = one.ends;
    let ends = match other.ends {
        [same, end] if same == from => [from, whole_prefix(to?, end?)?],
        [end, same] if same == to => [whole_prefix(from?, end?)?, to],
        _ => return None,
    };
    Some(Row { ends, ..one.clone() })
}

fn joined_services(one: &Service, other: &Service) -> Option<Service> {
    let ports = matches!(one.protocol, Some(6 | 17));
    if one.protocol != other.protocol || one.flag != other.flag || !ports {
        return None;
    }
    let mut service = one.clone();
    match (one.details == other.details, one.from == other.from) {
        (true, false) => service.from = Some(joined_ports(one.from?, other.from?)?),
        (false, true) => {
            let ports = joined_ports(one.details?, other.details?)?;
            service.details = Some(ports).filter(|ports| *ports != (0, u16::MAX));
        }
        _ => return None,
    }
    Some(service)
}

/// Two ranges in one; none where something lies between them.
fn joined_ports(one: (u16, u16), other: (u16, u16)) -> Option<(u16, u16)> {
    let (low, high) = (one.min(other), one.max(other));
    let touches = u32::from(low.1) + 1 >= u32::from(high.0);
    touches.then_some((low.0, low.1.max(high.1)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::net::Ipv4Addr;

    /// One packet, with all that an entry can look at.
    #[derive(Clone, Copy, Debug)]
    struct Seen {
        ends: [u8; 2],
        protocol: u8,
        ports: [u16; 2],
        ack: bool,
        rst: bool,
    }

    fn prefix() -> impl Strategy<Value = Option<IpNet>> {
        let some = (0_u8..4, 30_u8..=32).prop_map(|(host, length)| {
            let net = IpNet::new(Ipv4Addr::new(10, 0, 0, host).into(), length).expect("a prefix");
            Some(net.trunc())
        });
        prop_oneof![1 => Just(None), 4 => some]
    }

    fn service() -> impl Strategy<Value = Service> {
        let ports =
            || proptest::option::of((0_u16..3, 0_u16..2).prop_map(|(low, more)| (low, low + more)));
        let of = |protocol| {
            move |(details, from, flag)| Service { protocol: Some(protocol), details, from, flag }
        };
        let flag = proptest::option::of(prop_oneof![Just("ack"), Just("rst")]);
        prop_oneof![
            Just(Service::default()),
            (ports(), ports(), flag).prop_map(of(6)),
            (ports(), ports(), Just(None)).prop_map(of(17)),
        ]
    }

    fn row() -> impl Strategy<Value = Row> {
        let action = prop_oneof![Just(Action::Allow), Just(Action::Block)];
        ([prefix(), prefix()], service(), action, proptest::bool::weighted(0.2)).prop_map(
            |(ends, service, action, log)| Row {
                rule: "r".to_owned(),
                action,
                log,
                ends,
                service,
                device: None,
            },
        )
    }

    fn matches(row: &Row, packet: Seen) -> bool {
        let end = |place: usize| {
            let address = Ipv4Addr::new(10, 0, 0, packet.ends[place]);
            row.ends[place].is_none_or(|prefix| prefix.contains(&std::net::IpAddr::from(address)))
        };
        let within = |range: Option<(u16, u16)>, port: u16| {
            range.is_none_or(|(low, high)| (low..=high).contains(&port))
        };
        let flag = match row.service.flag {
            None => true,
            Some("ack") => packet.ack,
            Some(_) => packet.rst,
        };
        end(0)
            && end(1)
            && row.service.protocol.is_none_or(|own| own == packet.protocol)
            && within(row.service.from, packet.ports[0])
            && within(row.service.details, packet.ports[1])
            && flag
    }

    fn packets() -> impl Iterator<Item = Seen> {
        let numbers = 0..4 * 4 * 2 * 5 * 5 * 2 * 2;
        numbers.map(|mut number: u32| {
            let mut next = |most: u32| {
                let one = number % most;
                number /= most;
                u8::try_from(one).expect("a small number")
            };
            Seen {
                ends: [next(4), next(4)],
                protocol: [6, 17][usize::from(next(2))],
                ports: [next(5).into(), next(5).into()],
                ack: next(2) == 1,
                rst: next(2) == 1,
            }
        })
    }

    fn first<'r>(rows: impl IntoIterator<Item = &'r Row>, packet: Seen) -> Option<(Action, bool)> {
        rows.into_iter().find(|row| matches(row, packet)).map(fate)
    }

    proptest! {
        /// The same fate for every packet, with the entries for what comes back and without them; and nothing that could
        /// still be left out, or be one.
        #[test]
        fn fewer_entries_do_the_same(rows in proptest::collection::vec(row(), 0..12)) {
            let short = shortened(rows.clone(), Family::V4, &BTreeSet::new());
            prop_assert!(short.len() <= rows.len());
            let asked = |rows: &[Row]| -> Vec<Row> { rows.iter().filter(|row| !row.is_back()).cloned().collect() };
            let all: Vec<Seen> = packets().filter(|packet| packet.protocol == 6 || !(packet.ack || packet.rst)).collect();
            for packet in &all {
                prop_assert_eq!(first(&rows, *packet), first(&short, *packet), "{:?}", packet);
                prop_assert_eq!(first(&asked(&rows), *packet), first(&asked(&short), *packet), "{:?}", packet);
            }
            prop_assert_eq!(shortened(short.clone(), Family::V4, &BTreeSet::new()).len(), short.len());
            for (place, pair) in short.windows(2).enumerate() {
                prop_assert!(joined(&pair[0], &pair[1]).is_none(), "{}", place);
            }
        }
    }

    /// What is denied at all hours, since no hours can be said, is not left to the rest, nor made one with what stands beside it.
    #[test]
    fn entries_that_match_more_than_their_rule_stay() {
        let row = |rule: &str, source: Option<&str>| Row {
            rule: rule.to_owned(),
            action: Action::Block,
            log: false,
            ends: [source.map(|source| source.parse().expect("a prefix")), None],
            service: Service::default(),
            device: None,
        };
        let rows = vec![
            row("lunch", Some("10.44.24.0/25")),
            row("other", Some("10.44.24.128/25")),
            row("rest", None),
        ];
        let rules = |wider: &[&str]| -> Vec<String> {
            let wider = wider.iter().copied().collect();
            shortened(rows.clone(), Family::V4, &wider).into_iter().map(|row| row.rule).collect()
        };
        assert_eq!(rules(&[]), ["rest"]);
        assert_eq!(rules(&["lunch"]), ["lunch", "rest"]);
        assert_eq!(rules(&["lunch", "other"]), ["lunch", "other", "rest"]);
    }

    /// Halves of a prefix, and ranges of ports that touch, are one.
    #[test]
    fn neighbours_become_one() {
        let row = |ends: [&str; 2], details, action| Row {
            rule: "r".to_owned(),
            action,
            log: false,
            ends: ends.map(|end| Some(end.parse().expect("a prefix"))),
            service: Service { protocol: Some(6), details, ..Service::default() },
            device: None,
        };
        let server = "10.44.40.10/32";
        let rows = vec![
            row(["10.44.24.0/25", server], Some((80, 80)), Action::Allow),
            row(["10.44.8.0/24", server], Some((22, 22)), Action::Block),
            row(["10.44.24.128/25", server], Some((80, 80)), Action::Allow),
            row(["10.44.24.0/24", server], Some((81, 90)), Action::Allow),
            row(["10.44.24.7/32", server], Some((85, 85)), Action::Allow),
            row(["10.44.24.0/23", server], None, Action::Block),
        ];
        let short = shortened(rows, Family::V4, &BTreeSet::new());
        let expected = row(["10.44.24.0/24", server], Some((80, 90)), Action::Allow);
        assert_eq!(short.len(), 3, "{short:#?}");
        assert_eq!(short[0], expected);
    }
}
