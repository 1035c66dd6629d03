//! Sets of IPv4 and IPv6 addresses.

use super::{Coordinate, Family, IntervalSet};
use ipnet::{IpNet, Ipv4Subnets, Ipv6Subnets};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// A set of addresses of both families, exact down to the single address.
///
/// The two families are kept apart: a union or a difference works on each by itself, so that an IPv4 address never
/// matches an IPv6 prefix. Sets are equal exactly when they have the same members.
///
/// ```
/// use bastium_core::space::AddressSet;
///
/// let network = AddressSet::from_word("10.44.24.0/24").expect("a prefix");
/// let pool = AddressSet::from_word("10.44.24.100-10.44.24.199").expect("a range");
/// assert!(pool.is_subset(&network));
/// assert_eq!(network.difference(&pool).words(), ["10.44.24.0-10.44.24.99", "10.44.24.200-10.44.24.255"]);
/// assert!(network.only_v6().is_empty());
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct AddressSet {
    /// The IPv4 members, as numbers in network order.
    pub v4: IntervalSet<u32>,
    /// The IPv6 members, as numbers in network order.
    pub v6: IntervalSet<u128>,
}

impl AddressSet {
    /// No address.
    pub fn empty() -> Self {
        Self::default()
    }

    /// Every address of both families.
    pub fn full() -> Self {
        Self { v4: IntervalSet::full(), v6: IntervalSet::full() }
    }

    /// From `first` to `last`, both included. Empty where the two are of different families or in
    /// the wrong order.
    pub fn range(first: IpAddr, last: IpAddr) -> Self {
        let mut set = Self::empty();
        match (first, last) {
            (IpAddr::V4(low), IpAddr::V4(high)) => {
                set.v4 = IntervalSet::range(low.to_bits(), high.to_bits());
            }
            (IpAddr::V6(low), IpAddr::V6(high)) => {
                set.v6 = IntervalSet::range(low.to_bits(), high.to_bits());
            }
            _ => {}
        }
        set
    }

    /// The IPv4 members alone.
    pub fn only_v4(&self) -> Self {
        Self { v4: self.v4.clone(), ..Self::empty() }
    }

    /// The IPv6 members alone.
    pub fn only_v6(&self) -> Self {
        Self { v6: self.v6.clone(), ..Self::empty() }
    }

    /// Whether it has all addresses of a family.
    pub fn has_all_of(&self, family: Family) -> bool {
        match family {
            Family::V4 => self.v4.is_full(),
            Family::V6 => self.v6.is_full(),
        }
    }

    /// The addresses of a family.
    pub fn of_family(&self, family: Family) -> Self {
        match family {
            Family::V4 => self.only_v4(),
            Family::V6 => self.only_v6(),
        }
    }

    /// Whether there is no address in it.
    pub fn is_empty(&self) -> bool {
        self.v4.is_empty() && self.v6.is_empty()
    }

    /// Whether `address` is a member.
    pub fn contains(&self, address: IpAddr) -> bool {
        match address {
            IpAddr::V4(address) => self.v4.contains(address.to_bits()),
            IpAddr::V6(address) => self.v6.contains(address.to_bits()),
        }
    }

    /// Every address that is in either set.
    pub fn union(&self, other: &Self) -> Self {
        Self { v4: self.v4.union(&other.v4), v6: self.v6.union(&other.v6) }
    }

    /// Every address that is in both sets.
    pub fn intersection(&self, other: &Self) -> Self {
        Self { v4: self.v4.intersection(&other.v4), v6: self.v6.intersection(&other.v6) }
    }

    /// Every address that is in this set and not in `other`.
    pub fn difference(&self, other: &Self) -> Self {
        Self { v4: self.v4.difference(&other.v4), v6: self.v6.difference(&other.v6) }
    }

    /// Whether the two share no address.
    pub fn is_disjoint(&self, other: &Self) -> bool {
        self.v4.is_disjoint(&other.v4) && self.v6.is_disjoint(&other.v6)
    }

    /// Whether every address of this set is one of `other` too.
    pub fn is_subset(&self, other: &Self) -> bool {
        self.v4.is_subset(&other.v4) && self.v6.is_subset(&other.v6)
    }

    /// Whether it has more than half of another set, in a family that the other has.
    pub fn has_most_of(&self, whole: &Self) -> bool {
        let shared = self.intersection(whole);
        is_most(&shared.v4, &whole.v4, u128::from) || is_most(&shared.v6, &whole.v6, u128::from)
    }

    /// Every address that is not a member.
    pub fn complement(&self) -> Self {
        Self { v4: self.v4.complement(), v6: self.v6.complement() }
    }

    /// The members as inclusive ranges, IPv4 first, in ascending order.
    pub fn ranges(&self) -> impl Iterator<Item = (IpAddr, IpAddr)> + '_ {
        let v4 = self.v4.spans().iter().map(|&(low, high)| {
            (Ipv4Addr::from_bits(low).into(), Ipv4Addr::from_bits(high).into())
        });
        let v6 = self.v6.spans().iter().map(|&(low, high)| {
            (Ipv6Addr::from_bits(low).into(), Ipv6Addr::from_bits(high).into())
        });
        v4.chain(v6)
    }

    /// The addresses of a word as [`words`](Self::words) writes it: an address, a prefix or `first-last`. `None` if it is
    /// none of these, or the range ends before it begins.
    pub fn from_word(word: &str) -> Option<Self> {
        if let Ok(address) = word.parse::<IpAddr>() {
            return Some(address.into());
        }
        if let Ok(prefix) = word.parse::<IpNet>() {
            return Some(prefix.into());
        }
        let (low, high) = word.split_once('-')?;
        let set = Self::range(low.trim().parse().ok()?, high.trim().parse().ok()?);
        (!set.is_empty()).then_some(set)
    }

    /// The members as words: a single address, a prefix where an interval is one, else `first-last`.
    pub fn words(&self) -> Vec<String> {
        self.ranges().map(|(low, high)| range_words(low, high)).collect()
    }
}

/// Whether a part of a set is more than half of it. Counted in floating point, since all IPv6 addresses are one
/// more than a `u128` can count; near the half it makes no difference.
fn is_most<A: Coordinate>(
    part: &IntervalSet<A>,
    whole: &IntervalSet<A>,
    bits: impl Fn(A) -> u128,
) -> bool {
    let size = |set: &IntervalSet<A>| -> f64 {
        set.spans().iter().map(|(low, high)| (bits(*high) - bits(*low)) as f64 + 1.0).sum()
    };
    size(part) > size(whole) / 2.0
}

fn range_words(low: IpAddr, high: IpAddr) -> String {
    if low == high {
        return low.to_string();
    }
    let mut prefixes: Box<dyn Iterator<Item = IpNet>> = match (low, high) {
        (IpAddr::V4(a), IpAddr::V4(b)) => Box::new(Ipv4Subnets::new(a, b, 0).map(IpNet::from)),
        (IpAddr::V6(a), IpAddr::V6(b)) => Box::new(Ipv6Subnets::new(a, b, 0).map(IpNet::from)),
        _ => Box::new(std::iter::empty()),
    };
    match (prefixes.next(), prefixes.next()) {
        (Some(only), None) => only.to_string(),
        _ => format!("{low}-{high}"),
    }
}

impl From<IpAddr> for AddressSet {
    fn from(address: IpAddr) -> Self {
        Self::range(address, address)
    }
}

impl From<IpNet> for AddressSet {
    fn from(prefix: IpNet) -> Self {
        Self::range(prefix.network(), prefix.broadcast())
    }
}

impl<A: Into<AddressSet>> FromIterator<A> for AddressSet {
    fn from_iter<I: IntoIterator<Item = A>>(parts: I) -> Self {
        let (mut v4, mut v6) = (Vec::new(), Vec::new());
        for part in parts {
            let part: AddressSet = part.into();
            v4.extend_from_slice(part.v4.spans());
            v6.extend_from_slice(part.v6.spans());
        }
        Self { v4: IntervalSet::from_spans(v4), v6: IntervalSet::from_spans(v6) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn net(text: &str) -> AddressSet {
        text.parse::<IpNet>().expect("a prefix").into()
    }

    #[test]
    fn words_are_prefixes_where_they_can_be() {
        let set = net("10.44.24.0/24").union(&net("fd6b:2f4e:91c0:24::/64"));
        assert_eq!(set.words(), ["10.44.24.0/24", "fd6b:2f4e:91c0:24::/64"]);
        let odd = net("10.44.24.0/24").difference(&net("10.44.24.1/32"));
        assert_eq!(odd.words(), ["10.44.24.0", "10.44.24.2-10.44.24.255"]);
        assert_eq!(AddressSet::full().words(), ["0.0.0.0/0", "::/0"]);
    }

    #[test]
    fn words_lead_back_to_the_set() {
        for parts in [
            &["10.44.24.7/32"][..],
            &["10.44.24.0/25", "10.44.24.200/32"],
            &["0.0.0.0/1", "fd6b:2f4e:91c0::/48"],
            &["fd6b::/16", "fd6c::/16", "10.0.0.0/8"],
        ] {
            let set: AddressSet = parts.iter().map(|part| net(part)).collect();
            let words = set.words();
            let back: Option<AddressSet> =
                words.iter().map(|word| AddressSet::from_word(word)).collect();
            let back = back.expect("every word says addresses");
            assert_eq!(back, set, "{words:?}");
        }
    }

    #[test]
    fn what_says_no_addresses_is_not_read() {
        for word in
            ["", "10.44.24", "10.44.24.9-10.44.24.1", "10.44.24.1-fe80::1", "desks", "10.0.0.0/33"]
        {
            assert_eq!(AddressSet::from_word(word), None, "{word}");
        }
    }

    #[test]
    fn the_families_never_mix() {
        let mapped = net("::ffff:10.44.24.0/120");
        assert!(mapped.v4.is_empty());
        assert!(mapped.is_disjoint(&net("10.44.24.0/24")));
    }
}
