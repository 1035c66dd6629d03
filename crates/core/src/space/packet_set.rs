//! Packet sets over both families, and the products that rules are made of.

use super::{
    AddressSet, AsPoint, Block, Coordinate, Ends, Interface, IntervalSet, Minute, Packet, Point,
    Protocol, Region, Search, ServicePoint, ServiceSet,
};

/// A product of sets over both families: the packets that enter at one of these interfaces, from one of these
/// sources, to one of these destinations, for one of these services, in one of these minutes of the week.
///
/// This is exactly what one line of a rule list can say. Source and destination of a packet are of the same family,
/// so that a match whose source is IPv4 only and whose destination is IPv6 only has no packets.
///
/// ```
/// use bastium_core::space::{AddressSet, Match, PacketSet, Protocol, ServiceSet};
///
/// let web = Match { service: ServiceSet::ports(Protocol::TCP, 443, 443), ..Match::everything() };
/// let lan = AddressSet::from_word("10.44.24.0/24").expect("a prefix");
/// let from_lan = Match { source: lan, ..Match::everything() };
/// let both = web.intersection(&from_lan);
/// assert!(PacketSet::from(&both).is_subset(&PacketSet::from(&web)));
///
/// // An IPv4 source and an IPv6 destination have no packet in common.
/// let v6 = AddressSet::from_word("fd00::/8").expect("a prefix");
/// assert!(Match { destination: v6, ..from_lan }.is_empty());
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Match {
    /// Where the packet enters.
    pub enters: IntervalSet<Interface>,
    /// Source addresses.
    pub source: AddressSet,
    /// Destination addresses.
    pub destination: AddressSet,
    /// Services.
    pub service: ServiceSet,
    /// Minutes of the week.
    pub at: IntervalSet<Minute>,
}

impl Match {
    /// Every packet that there is.
    pub fn everything() -> Self {
        Self {
            enters: IntervalSet::full(),
            source: AddressSet::full(),
            destination: AddressSet::full(),
            service: ServiceSet::any(),
            at: IntervalSet::full(),
        }
    }

    /// Every packet that enters there.
    pub fn entering(enters: IntervalSet<Interface>) -> Self {
        Self { enters, ..Self::everything() }
    }

    /// What both products have: a product again. It may hold no packet.
    #[must_use]
    pub fn intersection(&self, other: &Self) -> Self {
        Self {
            enters: self.enters.intersection(&other.enters),
            source: self.source.intersection(&other.source),
            destination: self.destination.intersection(&other.destination),
            service: self.service.intersection(&other.service),
            at: self.at.intersection(&other.at),
        }
    }

    /// Whether there is no packet in it, in either family.
    pub fn is_empty(&self) -> bool {
        let no_v4 = self.source.v4.is_empty()
            || self.destination.v4.is_empty()
            || self.service.v4.is_empty();
        let no_v6 = self.source.v6.is_empty()
            || self.destination.v6.is_empty()
            || self.service.v6.is_empty();
        self.enters.is_empty() || self.at.is_empty() || (no_v4 && no_v6)
    }

    /// Whether that packet is in it.
    pub fn contains(&self, packet: &Packet) -> bool {
        let line = match packet.ends {
            Ends::V4 { .. } => &self.service.v4,
            Ends::V6 { .. } => &self.service.v6,
        };
        line.contains(packet.service)
            && self.enters.contains(packet.enters)
            && self.at.contains(packet.at)
            && self.source.contains(packet.source())
            && self.destination.contains(packet.destination())
    }
}

/// An exact set of packets: a union of products in IPv4 and one in IPv6.
///
/// ```
/// use bastium_core::space::{AddressSet, Match, PacketSet, ServiceSet};
///
/// let from = |word: &str| AddressSet::from_word(word).expect("a prefix");
/// let web = ServiceSet::from_words(&["tcp/80".to_owned(), "tcp/443".to_owned()]).expect("services");
/// let all = PacketSet::from(Match { source: from("10.44.24.0/24"), ..Match::everything() });
/// let web = PacketSet::from(Match {
///     source: from("10.44.24.0/25"),
///     service: web,
///     ..Match::everything()
/// });
/// assert!(web.is_subset(&all));
/// let rest = all.difference(&web);
/// assert!(rest.is_disjoint(&web) && rest.union(&web).is_same(&all));
/// assert!(rest.sample().is_some_and(|packet| all.contains(&packet) && !web.contains(&packet)));
/// ```
#[derive(Clone, Debug, Default)]
pub struct PacketSet {
    /// The IPv4 packets.
    pub v4: Region<u32>,
    /// The IPv6 packets.
    pub v6: Region<u128>,
}

impl From<Packet> for PacketSet {
    fn from(packet: Packet) -> Self {
        let line = IntervalSet::point(packet.service);
        let service = match packet.ends {
            Ends::V4 { .. } => ServiceSet { v4: line, ..ServiceSet::empty() },
            Ends::V6 { .. } => ServiceSet { v6: line, ..ServiceSet::empty() },
        };
        Self::from(Match {
            enters: IntervalSet::point(packet.enters),
            source: packet.source().into(),
            destination: packet.destination().into(),
            service,
            at: IntervalSet::point(packet.at),
        })
    }
}

impl From<&Match> for PacketSet {
    fn from(product: &Match) -> Self {
        Self {
            v4: Region::new([Block {
                enters: product.enters.clone(),
                source: product.source.v4.clone(),
                destination: product.destination.v4.clone(),
                service: product.service.v4.clone(),
                at: product.at.clone(),
            }]),
            v6: Region::new([Block {
                enters: product.enters.clone(),
                source: product.source.v6.clone(),
                destination: product.destination.v6.clone(),
                service: product.service.v6.clone(),
                at: product.at.clone(),
            }]),
        }
    }
}

impl From<Match> for PacketSet {
    fn from(product: Match) -> Self {
        Self::from(&product)
    }
}

impl FromIterator<Match> for PacketSet {
    fn from_iter<I: IntoIterator<Item = Match>>(products: I) -> Self {
        let mut all = Self::empty();
        products.into_iter().for_each(|product| all.add(product.into()));
        all
    }
}

impl PacketSet {
    /// No packet.
    pub fn empty() -> Self {
        Self::default()
    }

    /// Every packet that there is.
    pub fn full() -> Self {
        Match::everything().into()
    }

    /// Whether there is no packet in it.
    pub fn is_empty(&self) -> bool {
        self.v4.is_empty() && self.v6.is_empty()
    }

    /// Whether that packet is in it.
    pub fn contains(&self, packet: &Packet) -> bool {
        u32::point(packet).is_some_and(|point| self.v4.contains(point))
            || u128::point(packet).is_some_and(|point| self.v6.contains(point))
    }

    /// What either set has.
    pub fn union(&self, other: &Self) -> Self {
        Self { v4: self.v4.union(&other.v4), v6: self.v6.union(&other.v6) }
    }

    /// Takes all packets of another set in.
    pub fn add(&mut self, other: Self) {
        self.v4.add(other.v4);
        self.v6.add(other.v6);
    }

    /// What both sets have.
    pub fn intersection(&self, other: &Self) -> Self {
        Self { v4: self.v4.intersection(&other.v4), v6: self.v6.intersection(&other.v6) }
    }

    /// What this set has and `other` has not.
    pub fn difference(&self, other: &Self) -> Self {
        Self { v4: self.v4.difference(&other.v4), v6: self.v6.difference(&other.v6) }
    }

    /// Whether the two share no packet.
    pub fn is_disjoint(&self, other: &Self) -> bool {
        self.v4.is_disjoint(&other.v4) && self.v6.is_disjoint(&other.v6)
    }

    /// Whether every packet of this set is one of `other` too.
    pub fn is_subset(&self, other: &Self) -> bool {
        self.v4.is_subset(&other.v4) && self.v6.is_subset(&other.v6)
    }

    /// Whether the two have the same packets.
    pub fn is_same(&self, other: &Self) -> bool {
        self.is_subset(other) && other.is_subset(self)
    }

    /// The same set in fewer products.
    #[must_use]
    pub fn tidied(&self) -> Self {
        Self { v4: self.v4.tidied(), v6: self.v6.tidied() }
    }

    /// The same packets, on interfaces of other numbers.
    pub(crate) fn on_interfaces(&self, number: impl Fn(Interface) -> Interface) -> Self {
        fn moved<A: Coordinate>(
            region: &Region<A>,
            number: &impl Fn(Interface) -> Interface,
        ) -> Region<A> {
            Region::new(region.blocks().iter().map(|block| {
                let spans = block.enters.spans().iter().flat_map(|(low, high)| low.0..=high.0);
                Block {
                    enters: spans.map(|interface| number(Interface(interface))).collect(),
                    ..block.clone()
                }
            }))
        }
        Self { v4: moved(&self.v4, &number), v6: moved(&self.v6, &number) }
    }

    /// Whether others together have all its packets.
    pub fn is_covered_by<'s>(&self, others: impl Iterator<Item = &'s Self> + Clone) -> bool {
        fn covered<'s, A: Coordinate>(
            region: &Region<A>,
            others: impl Iterator<Item = &'s Region<A>> + Clone,
        ) -> Option<bool> {
            let mut undecided = false;
            for block in region.blocks() {
                match block.find_uncovered(others.clone().flat_map(|other| other.blocks())) {
                    Search::Found(_) => return Some(false),
                    Search::Covered => {}
                    Search::Undecided => undecided = true,
                }
            }
            (!undecided).then_some(true)
        }
        let v4 = covered(&self.v4, others.clone().map(|other| &other.v4));
        let v6 = covered(&self.v6, others.clone().map(|other| &other.v6));
        match (v4, v6) {
            (Some(false), _) | (_, Some(false)) => false,
            (Some(true), Some(true)) => true,
            // Too much for a quick answer: work out what is left.
            _ => others.fold(self.clone(), |left, other| left.difference(other)).is_empty(),
        }
    }

    /// Where its packets enter.
    pub fn enters(&self) -> IntervalSet<Interface> {
        let v4 = self.v4.blocks().iter().flat_map(|block| block.enters.spans());
        let v6 = self.v6.blocks().iter().flat_map(|block| block.enters.spans());
        IntervalSet::from_spans(v4.chain(v6).copied())
    }

    /// Where its packets go.
    pub fn destinations(&self) -> AddressSet {
        let v4 = self.v4.blocks().iter().flat_map(|block| block.destination.spans());
        let v6 = self.v6.blocks().iter().flat_map(|block| block.destination.spans());
        AddressSet {
            v4: IntervalSet::from_spans(v4.copied()),
            v6: IntervalSet::from_spans(v6.copied()),
        }
    }

    /// Whether each of its packets is in it at every minute of the week.
    pub fn is_timeless(&self) -> bool {
        let v4 = self.v4.blocks().iter().all(|block| block.at.is_full());
        v4 && self.v6.blocks().iter().all(|block| block.at.is_full())
    }

    /// The set as products, each of one family.
    pub fn products(&self) -> impl Iterator<Item = Match> + '_ {
        let v4 = self.v4.blocks().iter().map(|block| Match {
            enters: block.enters.clone(),
            source: AddressSet { v4: block.source.clone(), ..AddressSet::empty() },
            destination: AddressSet { v4: block.destination.clone(), ..AddressSet::empty() },
            service: ServiceSet { v4: block.service.clone(), ..ServiceSet::empty() },
            at: block.at.clone(),
        });
        let v6 = self.v6.blocks().iter().map(|block| Match {
            enters: block.enters.clone(),
            source: AddressSet { v6: block.source.clone(), ..AddressSet::empty() },
            destination: AddressSet { v6: block.destination.clone(), ..AddressSet::empty() },
            service: ServiceSet { v6: block.service.clone(), ..ServiceSet::empty() },
            at: block.at.clone(),
        });
        v4.chain(v6)
    }

    /// One packet of the set that a person will find ordinary, or `None` where there is none.
    ///
    /// The choice depends on nothing but the set: IPv4 before IPv6, the first block, the lowest
    /// interface and addresses, and of the services one that can be tried by hand where there is one.
    pub fn sample(&self) -> Option<Packet> {
        let v4 = sample_region(&self.v4).map(u32::packet);
        v4.or_else(|| sample_region(&self.v6).map(u128::packet))
    }
}

fn sample_region<A: Coordinate>(region: &Region<A>) -> Option<Point<A>> {
    let block = region.blocks().first()?;
    Some(Point {
        enters: block.enters.first()?,
        source: block.source.first()?,
        destination: block.destination.first()?,
        service: ordinary_service(&block.service)?,
        at: block.at.first()?,
    })
}

/// The service of a set that is easiest to try: HTTPS, a TCP port, a UDP port, a ping, anything.
fn ordinary_service(line: &IntervalSet<ServicePoint>) -> Option<ServicePoint> {
    let lowest = |protocol: Protocol| {
        let start = ServicePoint::port(protocol, 1);
        let ports = IntervalSet::range(start, protocol.stretch().1);
        line.intersection(&ports).first()
    };
    let known = |point: ServicePoint| Some(point).filter(|p| line.contains(*p));
    known(ServicePoint::port(Protocol::TCP, 443))
        .or_else(|| lowest(Protocol::TCP))
        .or_else(|| lowest(Protocol::UDP))
        .or_else(|| known(ServicePoint::icmp(Protocol::ICMP, 8, 0)))
        .or_else(|| known(ServicePoint::icmp(Protocol::ICMP_V6, 128, 0)))
        .or_else(|| line.first())
}
