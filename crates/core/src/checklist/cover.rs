//! Which checks to make: as few as possible that show every mistake which can be shown.
//!
//! This is the set cover problem. The greedy choice is within a factor ln n of the best (Chvátal, 1979);
//! it is improved by dropping what others make redundant, and by putting one in the place of two. How
//! far from the best the result can be is shown by a lower bound: mistakes no two of which one packet shows.

use super::candidate::Candidate;
use super::detection::{Detection, gain, loss};
use super::evaluate::Place;
use crate::space::{Packet, PacketSet};
use std::cmp::Reverse;
use std::collections::{BTreeSet, BinaryHeap, HashMap, HashSet};

/// What a check costs that needs an address of its own, beside the time that it takes, in seconds.
const MOVE: u32 = 30;

/// Marks the candidates to keep, in place: those that are needed, and as few others as possible.
pub(super) fn choose(
    pool: Vec<Candidate>,
    mistakes: usize,
    cost: impl Fn(&Packet) -> u32,
) -> Vec<Candidate> {
    let mut cover = Cover::new(&pool, mistakes, cost);
    cover.greedy();
    cover.drop_redundant();
    cover.one_for_several();
    cover.drop_redundant();
    let kept = cover.kept;
    pool.into_iter().zip(kept).filter_map(|(candidate, kept)| kept.then_some(candidate)).collect()
}

struct Cover<'c> {
    pool: &'c [Candidate],
    costs: Vec<u32>,
    kept: Vec<bool>,
    /// By mistake, how many of the kept checks show it.
    times: Vec<u32>,
    /// By mistake, the numbers of the kept checks that show it, each once, combined by exclusive or: where one alone
    /// shows it, its number.
    shown_by: Vec<usize>,
}

impl<'c> Cover<'c> {
    fn new(pool: &'c [Candidate], mistakes: usize, cost: impl Fn(&Packet) -> u32) -> Self {
        let costs = pool.iter().map(|candidate| cost(&candidate.packet)).collect();
        let kept = vec![false; pool.len()];
        let (times, shown_by) = (vec![0; mistakes], vec![0; mistakes]);
        let mut cover = Self { pool, costs, kept, times, shown_by };
        for (number, candidate) in pool.iter().enumerate() {
            if candidate.needed {
                cover.keep(number);
            }
        }
        cover
    }

    fn keep(&mut self, number: usize) {
        self.kept[number] = true;
        for &mistake in &self.pool[number].shows {
            self.times[mistake as usize] += 1;
            self.shown_by[mistake as usize] ^= number;
        }
    }

    fn drop(&mut self, number: usize) {
        self.kept[number] = false;
        for &mistake in &self.pool[number].shows {
            self.times[mistake as usize] -= 1;
            self.shown_by[mistake as usize] ^= number;
        }
    }

    /// How much a candidate would add: mistakes that no other shows, by what it costs.
    fn worth(&self, number: usize) -> u64 {
        let new = self.pool[number].shows.iter().filter(|m| self.times[**m as usize] == 0).count();
        new as u64 * 1_000_000 / u64::from(self.costs[number])
    }

    /// Takes the candidate that adds most, until none adds anything.
    fn greedy(&mut self) {
        let free = (0..self.pool.len()).filter(|number| !self.kept[*number]);
        let mut heap: BinaryHeap<(u64, Reverse<usize>)> =
            free.map(|number| (self.worth(number), Reverse(number))).collect();
        while let Some((before, Reverse(number))) = heap.pop() {
            // What is known of the others is at least what they add now.
            let now = self.worth(number);
            if now == 0 {
                continue;
            }
            if now == before {
                self.keep(number);
            } else {
                heap.push((now, Reverse(number)));
            }
        }
    }

    fn is_redundant(&self, number: usize) -> bool {
        let shows = &self.pool[number].shows;
        !self.pool[number].needed && shows.iter().all(|m| self.times[*m as usize] > 1)
    }

    /// Drops what the others make redundant, dear ones first.
    fn drop_redundant(&mut self) {
        let mut kept: Vec<usize> = (0..self.pool.len()).filter(|n| self.kept[*n]).collect();
        kept.sort_by_key(|number| (Reverse(self.costs[*number]), self.pool[*number].shows.len()));
        for number in kept {
            if self.is_redundant(number) {
                self.drop(number);
            }
        }
    }

    /// Takes in a candidate wherever that makes two or more redundant: checks that alone show some mistake which it shows,
    /// too.
    fn one_for_several(&mut self) {
        for number in 0..self.pool.len() {
            if self.kept[number] {
                continue;
            }
            let shows = self.pool[number].shows.iter().map(|mistake| *mistake as usize);
            let alone = shows.filter(|mistake| self.times[*mistake] == 1);
            let rivals: BTreeSet<usize> = alone.map(|mistake| self.shown_by[mistake]).collect();
            if rivals.len() < 2 {
                continue;
            }
            self.keep(number);
            let mut gone = Vec::new();
            for rival in rivals {
                if self.is_redundant(rival) {
                    self.drop(rival);
                    gone.push(rival);
                }
            }
            if gone.len() < 2 {
                gone.into_iter().for_each(|rival| self.keep(rival));
                self.drop(number);
            }
        }
    }
}

/// How long a check takes, its share of a move included.
pub(super) fn cost(seconds: u32, moves: bool) -> u32 {
    seconds + if moves { MOVE } else { 0 }
}

/// The least number of checks that any list needs: those that are needed in any case, and one for each of
/// some mistakes that those do not show and of which no packet shows two.
///
/// A mistake that makes a rule match less, or that turns it, changes only packets which the rule decides.
/// Such packets of two rules are never the same; nor are they of one rule, where the mistakes take
/// different things away from it.
pub(super) fn least(shown: &Detection<'_>, chosen: &[Candidate]) -> usize {
    let needed = chosen.iter().filter(|candidate| candidate.needed);
    let already: HashSet<u32> = needed.clone().flat_map(|c| c.shows.iter().copied()).collect();
    let mut by_rule: HashMap<Place, Vec<u32>> = HashMap::new();
    let others = chosen.iter().flat_map(|candidate| &candidate.shows);
    let others: HashSet<u32> = others.copied().filter(|m| !already.contains(m)).collect();
    for &number in &others {
        let mistake = &shown.mistakes[number as usize];
        let widens = gain(mistake, shown.rules).is_some_and(|gain| !gain.is_empty());
        if let (Some(place), false) = (mistake.place, widens) {
            by_rule.entry(place).or_default().push(number);
        }
    }
    let apart = by_rule.into_values().map(|numbers| apart(shown, numbers)).sum::<usize>();
    needed.count() + apart
}

/// How many of the mistakes with one rule take different things away from it, chosen greedily.
fn apart(shown: &Detection<'_>, mut numbers: Vec<u32>) -> usize {
    numbers.sort_unstable();
    let lost = |number: &u32| loss(&shown.mistakes[*number as usize], shown.rules);
    let losses: Vec<PacketSet> =
        numbers.iter().filter_map(lost).map(|loss| loss.into_iter().collect()).collect();
    // What is part of many others leaves more room than they do.
    let parts_of = |one: &PacketSet| losses.iter().filter(|other| one.is_subset(other)).count();
    let mut ranked: Vec<(Reverse<usize>, usize)> =
        losses.iter().enumerate().map(|(i, loss)| (Reverse(parts_of(loss)), i)).collect();
    ranked.sort_unstable();
    let mut taken: Vec<&PacketSet> = Vec::new();
    for loss in ranked.into_iter().map(|(_, number)| &losses[number]) {
        if taken.iter().all(|other| other.is_disjoint(loss)) {
            taken.push(loss);
        }
    }
    taken.len()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::checklist::Probe;
    use crate::space::{Ends, Interface, Protocol, ServicePoint};
    use proptest::prelude::*;
    use std::net::Ipv4Addr;

    /// Candidates that show these mistakes; the first of them is needed, if `needed`.
    fn pool(shows: &[Vec<u32>], needed: bool) -> Vec<Candidate> {
        let ends = Ends::V4 { source: Ipv4Addr::LOCALHOST, destination: Ipv4Addr::LOCALHOST };
        let candidate = |(number, shows): (u16, &Vec<u32>)| {
            let service = ServicePoint::port(Protocol::TCP, number + 1);
            let packet = Packet::new(Interface(0), ends, service);
            let candidate = Candidate::new(number.to_string(), packet, Probe::Ping);
            Candidate { shows: shows.clone(), needed: needed && number == 0, ..candidate }
        };
        (0..).zip(shows).map(candidate).collect()
    }

    fn shown<'c>(chosen: impl IntoIterator<Item = &'c Candidate>) -> HashSet<u32> {
        chosen.into_iter().flat_map(|candidate| candidate.shows.iter().copied()).collect()
    }

    /// The size of the least cover, by trying all of them.
    fn least_of_all(pool: &[Candidate]) -> u32 {
        let whole = shown(pool);
        let sizes = (0u32..1 << pool.len()).filter(|choice| {
            let chosen = (0..pool.len()).filter(|number| choice >> number & 1 == 1);
            let has_needed = pool.first().is_none_or(|c| !c.needed || choice & 1 == 1);
            has_needed && shown(chosen.map(|number| &pool[number])) == whole
        });
        sizes.map(u32::count_ones).min().unwrap_or(0)
    }

    proptest! {
        #[test]
        fn what_is_chosen_shows_everything_and_is_little_more_than_the_least(
            shows in prop::collection::vec(prop::collection::vec(0u32..12, 0..6), 0..9),
            needed in any::<bool>(),
        ) {
            let shows: Vec<Vec<u32>> = shows
                .into_iter()
                .map(|mut one| {
                    one.sort_unstable();
                    one.dedup();
                    one
                })
                .collect();
            let pool = pool(&shows, needed);
            let chosen = choose(pool.clone(), 12, |_| 2);
            prop_assert_eq!(shown(&chosen), shown(&pool));
            if needed && !pool.is_empty() {
                prop_assert_eq!(&chosen[0].id, "0");
            }
            let (count, least) = (u32::try_from(chosen.len()).expect("few"), least_of_all(&pool));
            prop_assert!(count >= least);
            // The harmonic number of the largest set bounds the greedy choice; sets have five at most.
            prop_assert!(f64::from(count) <= f64::from(least) * 2.3 + 0.01, "{} for {}", count, least);
            for drop in 0..chosen.len() {
                let others = chosen.iter().enumerate().filter(|(n, _)| *n != drop).map(|(_, c)| c);
                let redundant = shown(others) == shown(&chosen);
                prop_assert!(!redundant || chosen[drop].needed, "{} is redundant", chosen[drop].id);
            }
        }
    }

    #[test]
    fn one_takes_the_place_of_two() {
        // Greedily the large one is taken first, and two more for what it leaves.
        let pool = pool(&[vec![0, 1, 2, 3], vec![0, 1, 4], vec![2, 3, 5], vec![4], vec![5]], false);
        let chosen = choose(pool, 6, |_| 2);
        assert_eq!(chosen.len(), 2);
    }

    #[test]
    fn the_cheaper_of_two_is_chosen() {
        let pool = pool(&[vec![0, 1], vec![0, 1]], false);
        let dear_first = |packet: &Packet| {
            if packet.service.destination_port() == Some(1) {
                cost(4, true)
            } else {
                cost(2, false)
            }
        };
        let chosen = choose(pool, 2, dear_first);
        assert_eq!(chosen.iter().map(|c| c.id.as_str()).collect::<Vec<_>>(), ["1"]);
    }
}
