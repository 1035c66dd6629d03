//! Sets of numbers on a line, kept as sorted intervals that neither overlap nor touch.

use smallvec::{SmallVec, smallvec};
use std::fmt::Debug;

/// A number on a line that an [`IntervalSet`] can speak of: a port, an address, an interface.
pub trait Coordinate: Copy + Ord + Debug + 'static {
    /// The first number of the line.
    const FIRST: Self;
    /// The last number of the line.
    const LAST: Self;
    /// The number after this one; `None` at the end of the line.
    fn next(self) -> Option<Self>;
    /// The number before this one; `None` at the start of the line.
    fn previous(self) -> Option<Self>;
}

macro_rules! coordinate {
    ($($number:ty),*) => {$(
        impl Coordinate for $number {
            const FIRST: Self = <$number>::MIN;
            const LAST: Self = <$number>::MAX;
            fn next(self) -> Option<Self> { self.checked_add(1) }
            fn previous(self) -> Option<Self> { self.checked_sub(1) }
        }
    )*};
}
coordinate!(u8, u16, u32, u128);

/// A set of numbers, as inclusive intervals in ascending order with a gap between any two.
///
/// That form is unique: two sets are equal exactly when their intervals are. Union, intersection and difference take time
/// linear in the intervals of both.
///
/// ```
/// use bastium_core::space::IntervalSet;
///
/// let ports = IntervalSet::from_spans([(80u16, 80), (443, 443)]);
/// let more = ports.union(&IntervalSet::range(81, 90));
/// assert_eq!(more.spans(), [(80, 90), (443, 443)]);
/// assert!(ports.is_subset(&more) && !more.is_subset(&ports));
/// assert_eq!(more.difference(&ports), IntervalSet::range(81, 90));
/// ```
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct IntervalSet<T> {
    /// Most sets are one interval, which then needs no memory of its own.
    spans: SmallVec<[(T, T); 1]>,
}

impl<T> Default for IntervalSet<T> {
    fn default() -> Self {
        Self { spans: SmallVec::new() }
    }
}

impl<T: Debug> Debug for IntervalSet<T> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_set().entries(self.spans.iter().map(|(low, high)| low..=high)).finish()
    }
}

impl<T: Coordinate> IntervalSet<T> {
    /// The set without a member.
    pub fn empty() -> Self {
        Self::default()
    }

    /// The whole line.
    pub fn full() -> Self {
        Self::range(T::FIRST, T::LAST)
    }

    /// The one number.
    pub fn point(number: T) -> Self {
        Self::range(number, number)
    }

    /// Everything from `low` to `high`, both included; empty where `low` lies above `high`.
    pub fn range(low: T, high: T) -> Self {
        let spans = if low <= high { smallvec![(low, high)] } else { SmallVec::new() };
        Self { spans }
    }

    /// The union of any number of inclusive intervals, in any order.
    pub fn from_spans(spans: impl IntoIterator<Item = (T, T)>) -> Self {
        let spans = spans.into_iter().filter(|(l, h)| l <= h);
        let mut spans: SmallVec<[(T, T); 1]> = spans.collect();
        // Sets are often put together of others, and such a sort merges what is in order already.
        spans.sort();
        Self::merged(spans)
    }

    /// Joins sorted intervals that overlap or touch.
    fn merged(sorted: SmallVec<[(T, T); 1]>) -> Self {
        let mut spans: SmallVec<[(T, T); 1]> = SmallVec::new();
        for (low, high) in sorted {
            match spans.last_mut() {
                Some(last) if last.1.next().is_none_or(|next| low <= next) => {
                    last.1 = last.1.max(high);
                }
                _ => spans.push((low, high)),
            }
        }
        Self { spans }
    }

    /// The intervals, in ascending order.
    pub fn spans(&self) -> &[(T, T)] {
        &self.spans
    }

    /// Whether there is no member.
    pub fn is_empty(&self) -> bool {
        self.spans.is_empty()
    }

    /// Whether every number of the line is a member.
    pub fn is_full(&self) -> bool {
        matches!(self.spans.as_slice(), [(low, high)] if *low == T::FIRST && *high == T::LAST)
    }

    /// The lowest member.
    pub fn first(&self) -> Option<T> {
        self.spans.first().map(|span| span.0)
    }

    /// The highest member.
    pub fn last(&self) -> Option<T> {
        self.spans.last().map(|span| span.1)
    }

    /// Whether `number` is a member.
    pub fn contains(&self, number: T) -> bool {
        let after = self.spans.partition_point(|span| span.0 <= number);
        after > 0 && number <= self.spans[after - 1].1
    }

    /// Whether the two sets share no number.
    #[inline]
    pub fn is_disjoint(&self, other: &Self) -> bool {
        // Most sets have one interval.
        if let ([one], [other]) = (self.spans(), other.spans()) {
            return one.1 < other.0 || other.1 < one.0;
        }
        self.first_shared(other).is_none()
    }

    /// The lowest number that the two sets share.
    pub fn first_shared(&self, other: &Self) -> Option<T> {
        let (a, b) = (self.beside(other), other.beside(self));
        let (mut a, mut b) = (a.iter().peekable(), b.iter().peekable());
        while let (Some(x), Some(y)) = (a.peek(), b.peek()) {
            if x.1 < y.0 {
                a.next();
            } else if y.1 < x.0 {
                b.next();
            } else {
                return Some(x.0.max(y.0));
            }
        }
        None
    }

    /// The lowest and the highest member.
    pub(crate) fn ends(&self) -> Option<(T, T)> {
        Some((self.spans.first()?.0, self.spans.last()?.1))
    }

    /// The intervals that can have anything to do with `other`: those not wholly below or above it. In long sets they
    /// are few, mostly.
    #[inline]
    fn beside(&self, other: &Self) -> &[(T, T)] {
        /// Among fewer, looking at each is as fast.
        const FEW: usize = 4;
        let Some((low, high)) = other.ends().filter(|_| self.spans.len() > FEW) else {
            return &self.spans;
        };
        let start = self.spans.partition_point(|span| span.1 < low);
        let end = self.spans.partition_point(|span| span.0 <= high);
        &self.spans[start..end.max(start)]
    }

    /// Whether every member of this set is one of `other` too.
    pub fn is_subset(&self, other: &Self) -> bool {
        let Some((low, high)) = self.ends() else { return true };
        if !other.ends().is_some_and(|wide| wide.0 <= low && high <= wide.1) {
            return false;
        }
        // Most parts of a cell are all of it.
        if other.spans.len() == 1 || self.spans == other.spans {
            return true;
        }
        let mut wide = other.beside(self).iter().peekable();
        self.spans.iter().all(|span| {
            while wide.next_if(|w| w.1 < span.0).is_some() {}
            wide.peek().is_some_and(|w| w.0 <= span.0 && span.1 <= w.1)
        })
    }

    /// What either set has.
    pub fn union(&self, other: &Self) -> Self {
        let mut spans = self.spans.clone();
        spans.extend_from_slice(&other.spans);
        // A stable sort sees that both are sorted, and merges them.
        spans.sort();
        Self::merged(spans)
    }

    /// What both sets have.
    pub fn intersection(&self, other: &Self) -> Self {
        if self.spans == other.spans {
            return self.clone();
        }
        if let ([one], [other]) = (self.spans(), other.spans()) {
            return Self::range(one.0.max(other.0), one.1.min(other.1));
        }
        let (one, two) = (self.beside(other), other.beside(self));
        let (mut i, mut j) = (0, 0);
        let mut spans = SmallVec::new();
        while i < one.len() && j < two.len() {
            let (a, b) = (one[i], two[j]);
            let (low, high) = (a.0.max(b.0), a.1.min(b.1));
            if low <= high {
                spans.push((low, high));
            }
            if a.1 < b.1 { i += 1 } else { j += 1 }
        }
        Self { spans }
    }

    /// What this set has and `other` has not.
    pub fn difference(&self, other: &Self) -> Self {
        let mut spans = SmallVec::new();
        let mut cut = other.spans.iter().copied().peekable();
        for &(low, high) in &self.spans {
            let mut start = Some(low);
            while cut.next_if(|c| c.1 < low).is_some() {}
            let mut ahead = cut.clone();
            while let (Some(from), Some(c)) = (start, ahead.next_if(|c| c.0 <= high)) {
                if let Some(before) = c.0.previous().filter(|before| from <= *before) {
                    spans.push((from, before));
                }
                start = c.1.next().filter(|next| *next <= high).map(|n| n.max(from));
            }
            spans.extend(start.map(|from| (from, high)));
        }
        Self { spans }
    }

    /// Every number of the line that is not a member.
    pub fn complement(&self) -> Self {
        Self::full().difference(self)
    }
}

impl<T: Coordinate> FromIterator<T> for IntervalSet<T> {
    fn from_iter<I: IntoIterator<Item = T>>(numbers: I) -> Self {
        Self::from_spans(numbers.into_iter().map(|number| (number, number)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    /// The model: the members themselves, one by one, on a line of 256 numbers.
    fn members(set: &IntervalSet<u8>) -> BTreeSet<u8> {
        (0..=u8::MAX).filter(|n| set.contains(*n)).collect()
    }

    fn any_set() -> impl Strategy<Value = IntervalSet<u8>> {
        let few = prop::collection::vec((any::<u8>(), any::<u8>()), 0..6);
        // Of many intervals most are skipped at once where the other set has a part of the line only.
        let many = prop::collection::vec((any::<u8>(), 0..5u8), 0..40);
        let ends = |(low, more): (u8, u8)| (low, low.saturating_add(more));
        let many = many.prop_map(move |spans| spans.into_iter().map(ends).collect::<Vec<_>>());
        prop_oneof![few, many].prop_map(IntervalSet::from_spans)
    }

    fn is_tidy(set: &IntervalSet<u8>) -> bool {
        set.spans().iter().all(|(low, high)| low <= high)
            && set
                .spans()
                .windows(2)
                .all(|pair| pair[0].1.next().is_some_and(|next| next < pair[1].0))
    }

    proptest! {
        #[test]
        fn algebra_agrees_with_sets_of_single_numbers(a in any_set(), b in any_set()) {
            let (x, y) = (members(&a), members(&b));
            prop_assert_eq!(members(&a.union(&b)), &x | &y);
            prop_assert_eq!(members(&a.intersection(&b)), &x & &y);
            prop_assert_eq!(members(&a.difference(&b)), &x - &y);
            prop_assert_eq!(members(&a.complement()), &members(&IntervalSet::full()) - &x);
            prop_assert_eq!(a.is_subset(&b), x.is_subset(&y));
            prop_assert_eq!(a.is_disjoint(&b), x.is_disjoint(&y));
            prop_assert_eq!(a.first(), x.first().copied());
            prop_assert_eq!(a.is_empty(), x.is_empty());
            prop_assert_eq!(a.is_full(), x.len() == 256);
        }

        #[test]
        fn results_keep_the_one_tidy_form(a in any_set(), b in any_set()) {
            for set in [a.union(&b), a.intersection(&b), a.difference(&b), a.complement()] {
                prop_assert!(is_tidy(&set), "{:?}", set);
            }
        }
    }

    #[test]
    fn the_ends_of_the_line_do_not_overflow() {
        let top = IntervalSet::point(u128::MAX);
        assert_eq!(top.complement(), IntervalSet::range(0, u128::MAX - 1));
        assert_eq!(top.union(&IntervalSet::range(0, u128::MAX - 1)), IntervalSet::full());
        assert!(IntervalSet::range(5u8, 4).is_empty());
    }
}
