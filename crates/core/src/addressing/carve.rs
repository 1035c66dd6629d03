//! Carves subnets out of a site's address space: aligned, with little waste, and with room to grow.
//!
//! A network that gives neither a subnet nor a VLAN id to derive one from gets a prefix for the devices that it
//! expects, half as many again, and the gateway.

use crate::space::AddressSet;
use ipnet::{IpNet, Ipv4Net, Ipv4Subnets, Ipv6Net, Ipv6Subnets};
use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// The longest IPv4 prefix that is carved: room for five devices.
const LONGEST: u8 = 29;
/// The prefix for a network that does not say how many devices it expects.
const USUAL: u8 = 24;
/// Every IPv6 network gets a /64 (RFC 7421).
const V6: u8 = 64;

/// The length of an IPv4 prefix for so many devices: half as many again can come, and the network
/// address, the broadcast address and the gateway have their place. `None` where no prefix has room.
///
/// ```
/// use bastium_core::addressing::prefix_for;
///
/// // Forty, twenty more to come, and three: the 63 fit into a /26, and one more would not.
/// assert_eq!(prefix_for(Some(40)), Some(26));
/// assert_eq!(prefix_for(Some(41)), Some(25));
/// assert_eq!(prefix_for(None), Some(24));
/// assert_eq!(prefix_for(Some(u32::MAX)), None);
/// ```
pub fn prefix_for(devices: Option<u32>) -> Option<u8> {
    let Some(devices) = devices else { return Some(USUAL) };
    let needed = u64::from(devices) + u64::from(devices.div_ceil(2)) + 3;
    let bits = needed.next_power_of_two().trailing_zeros();
    let length = 32u32.checked_sub(bits)?;
    Some(u8::try_from(length).ok()?.min(LONGEST))
}

/// What is still free of a space, as prefixes of both families.
///
/// ```
/// use bastium_core::addressing::FreeSpace;
/// use bastium_core::space::AddressSet;
/// use ipnet::IpNet;
///
/// let set = |prefix: &str| prefix.parse::<IpNet>().map(AddressSet::from);
/// let mut free = FreeSpace::new(&set("10.44.0.0/22")?, &set("10.44.1.0/26")?);
/// let taken: Vec<String> =
///     [26, 24, 26, 23].iter().map(|length| free.take_v4(*length).map_or("-".into(), |net| net.to_string())).collect();
/// // Out of what is broken already, as long as that has room; and nothing that is not free.
/// assert_eq!(taken, ["10.44.1.64/26", "10.44.0.0/24", "10.44.1.128/26", "10.44.2.0/23"]);
/// assert_eq!(free.prefixes().len(), 1);
/// # Ok::<(), ipnet::AddrParseError>(())
/// ```
#[derive(Clone, Debug)]
pub struct FreeSpace {
    v4: FreePrefixes,
    v6: FreePrefixes,
}

/// The free prefixes of one family, by length. Bits are those of the address, at the right end.
#[derive(Clone, Debug)]
struct FreePrefixes {
    width: u8,
    by_length: Vec<BTreeSet<u128>>,
}

impl FreeSpace {
    /// What `used` leaves of `space`.
    pub fn new(space: &AddressSet, used: &AddressSet) -> Self {
        let mut free = Self { v4: FreePrefixes::new(32), v6: FreePrefixes::new(128) };
        for (low, high) in space.difference(used).ranges() {
            match (low, high) {
                (IpAddr::V4(low), IpAddr::V4(high)) => {
                    for prefix in Ipv4Subnets::new(low, high, 0) {
                        let bits = prefix.network().to_bits();
                        free.v4.put(bits.into(), prefix.prefix_len());
                    }
                }
                (IpAddr::V6(low), IpAddr::V6(high)) => {
                    for prefix in Ipv6Subnets::new(low, high, 0) {
                        free.v6.put(prefix.network().to_bits(), prefix.prefix_len());
                    }
                }
                _ => {}
            }
        }
        free
    }

    /// Takes an IPv4 prefix of that length: out of the smallest free one that has room, the lowest
    /// of these first.
    pub fn take_v4(&mut self, length: u8) -> Option<IpNet> {
        let bits = u32::try_from(self.v4.take(length)?).ok()?;
        Ipv4Net::new(Ipv4Addr::from_bits(bits), length).ok().map(IpNet::from)
    }

    /// Takes an IPv6 /64.
    pub fn take_v6(&mut self) -> Option<IpNet> {
        Ipv6Net::new(Ipv6Addr::from_bits(self.v6.take(V6)?), V6).ok().map(IpNet::from)
    }

    /// Whether there is any of that family.
    pub fn has_v6(&self) -> bool {
        self.v6.by_length.iter().any(|prefixes| !prefixes.is_empty())
    }

    /// The free prefixes, IPv4 first, by address.
    pub fn prefixes(&self) -> Vec<IpNet> {
        let all = |family: &FreePrefixes| {
            let by_length = (0..).zip(&family.by_length);
            let mut all: Vec<(u128, u8)> = by_length
                .flat_map(|(length, prefixes)| prefixes.iter().map(move |p| (*p, length)))
                .collect();
            all.sort_unstable();
            all
        };
        let v4 = all(&self.v4).into_iter().filter_map(|(bits, length)| {
            let bits = u32::try_from(bits).ok()?;
            Ipv4Net::new(Ipv4Addr::from_bits(bits), length).ok().map(IpNet::from)
        });
        let v6 = all(&self.v6).into_iter().filter_map(|(bits, length)| {
            Ipv6Net::new(Ipv6Addr::from_bits(bits), length).ok().map(IpNet::from)
        });
        v4.chain(v6).collect()
    }
}

impl FreePrefixes {
    fn new(width: u8) -> Self {
        Self { width, by_length: vec![BTreeSet::new(); usize::from(width) + 1] }
    }

    fn put(&mut self, bits: u128, length: u8) {
        self.by_length[usize::from(length)].insert(bits);
    }

    fn take(&mut self, length: u8) -> Option<u128> {
        let fits = (0..=length).rev();
        let mut found = fits.filter(|l| !self.by_length[usize::from(*l)].is_empty()).take(1);
        let from = found.next()?;
        let bits = self.by_length[usize::from(from)].pop_first()?;
        // The lower half is taken further; the upper halves stay free.
        for shorter in from..length {
            self.put(bits | 1 << (self.width - shorter - 1), shorter + 1);
        }
        Some(bits)
    }
}

/// How to give a network that has outgrown its subnet a larger one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Growth {
    /// The larger prefix.
    pub prefix: IpNet,
    /// Whether it holds the old one, so that no address of the network changes.
    pub in_place: bool,
    /// The subnets of others that have to move, each with where it can go.
    pub moves: Vec<(IpNet, IpNet)>,
}

/// Finds a subnet of `length` for a network that has `old`, moving as few others as possible: around
/// the old one if nobody is there; else somewhere free; else around the old one, with the others moved.
/// `taken` holds all subnets, the old one too. `None` where the space has no room.
pub fn grow(old: IpNet, length: u8, space: &AddressSet, taken: &[IpNet]) -> Option<Growth> {
    let IpNet::V4(own) = old else { return None };
    let wide: IpNet = Ipv4Net::new(own.network(), length).ok()?.trunc().into();
    let others = taken.iter().copied().filter(|prefix| *prefix != old);
    let (beside, elsewhere): (Vec<IpNet>, Vec<IpNet>) =
        others.partition(|prefix| wide.contains(prefix) || prefix.contains(&wide));
    let fits = AddressSet::from(wide).is_subset(space);
    if fits && beside.is_empty() {
        return Some(Growth { prefix: wide, in_place: true, moves: Vec::new() });
    }
    let used: AddressSet = elsewhere.iter().copied().collect();
    let all = used.union(&beside.iter().copied().collect());
    if let Some(prefix) = FreeSpace::new(space, &all).take_v4(length) {
        return Some(Growth { prefix, in_place: false, moves: Vec::new() });
    }
    if !fits {
        return None;
    }
    let mut free = FreeSpace::new(space, &used.union(&wide.into()));
    let moved = |from: IpNet| Some((from, free.take_v4(from.prefix_len())?));
    let moves: Option<Vec<(IpNet, IpNet)>> = beside.into_iter().map(moved).collect();
    moves.map(|moves| Growth { prefix: wide, in_place: true, moves })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn net(text: &str) -> IpNet {
        text.parse().expect(text)
    }

    fn set(words: &[&str]) -> AddressSet {
        words.iter().map(|word| net(word)).collect()
    }

    #[test]
    fn a_prefix_has_room_for_half_as_many_again() {
        for (devices, length) in [
            (0, 29),
            (3, 29),
            (4, 28),
            (8, 28),
            (9, 27),
            (18, 27),
            (20, 26),
            (83, 25),
            (84, 24),
            (200, 23),
        ] {
            assert_eq!(prefix_for(Some(devices)), Some(length), "{devices}");
        }
        assert_eq!(prefix_for(None), Some(24));
        assert_eq!(prefix_for(Some(u32::MAX)), None);
    }

    #[test]
    fn the_smallest_hole_that_fits_is_taken() {
        let space = set(&["10.44.0.0/22", "fd6b:2f4e:91c0::/62"]);
        let mut free = FreeSpace::new(&space, &set(&["10.44.0.0/25", "10.44.1.0/24"]));
        assert_eq!(free.take_v4(26), Some(net("10.44.0.128/26")));
        assert_eq!(free.take_v4(24), Some(net("10.44.2.0/24")));
        assert_eq!(free.take_v4(23), None);
        assert_eq!(free.take_v6(), Some(net("fd6b:2f4e:91c0::/64")));
        assert_eq!(free.take_v6(), Some(net("fd6b:2f4e:91c0:1::/64")));
        let left: Vec<String> = free.prefixes().iter().map(ToString::to_string).collect();
        assert_eq!(left, ["10.44.0.192/26", "10.44.3.0/24", "fd6b:2f4e:91c0:2::/63"]);
    }

    #[test]
    fn growing_moves_nobody_where_it_can() {
        let space = set(&["10.44.24.0/22"]);
        let alone = grow(net("10.44.24.0/24"), 23, &space, &[net("10.44.24.0/24")]);
        let in_place = Growth { prefix: net("10.44.24.0/23"), in_place: true, moves: Vec::new() };
        assert_eq!(alone, Some(in_place));
        let beside = [net("10.44.24.0/24"), net("10.44.25.0/24")];
        let away = Growth { prefix: net("10.44.26.0/23"), in_place: false, moves: Vec::new() };
        assert_eq!(grow(beside[0], 23, &space, &beside), Some(away));
        let full = [net("10.44.24.0/24"), net("10.44.25.0/25"), net("10.44.26.0/24")];
        let moved = Growth {
            prefix: net("10.44.24.0/23"),
            in_place: true,
            moves: vec![(full[1], net("10.44.27.0/25"))],
        };
        assert_eq!(grow(full[0], 23, &space, &full), Some(moved));
        assert_eq!(grow(full[0], 21, &space, &full), None);
    }

    proptest! {
        /// What is taken lies in the space, is aligned, and meets nothing else.
        #[test]
        fn carved_prefixes_never_meet(lengths in prop::collection::vec(18u8..30, 1..40)) {
            let space = set(&["10.44.0.0/16"]);
            let used = set(&["10.44.3.0/24", "10.44.128.0/20"]);
            let mut free = FreeSpace::new(&space, &used);
            let mut taken = used.clone();
            for length in lengths {
                let Some(prefix) = free.take_v4(length) else {
                    // Only where no aligned hole of that size is left.
                    let holes = FreeSpace::new(&space, &taken).prefixes();
                    prop_assert!(holes.iter().all(|hole| hole.prefix_len() > length));
                    continue;
                };
                prop_assert_eq!((prefix.prefix_len(), prefix.trunc()), (length, prefix));
                let own = AddressSet::from(prefix);
                prop_assert!(own.is_subset(&space) && own.is_disjoint(&taken));
                taken = taken.union(&own);
                prop_assert_eq!(FreeSpace::new(&space, &taken).prefixes().into_iter().collect::<AddressSet>(),
                    free.prefixes().into_iter().collect::<AddressSet>());
            }
        }
    }
}
