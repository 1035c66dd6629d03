//! Shortens a checklist: the most valuable part of it that fits into a given time or number of checks.

use super::time::{ADDRESS, MOVE, Point, SET_UP, number};
use super::{Check, Checklist, Expect, Stand, Standpoint};
use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashSet};
use std::net::IpAddr;

/// How much a list may be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Limit {
    /// So many checks.
    Checks(usize),
    /// So many seconds, moves included.
    Seconds(u32),
}

/// How much worse it is if something gets through than if something does not.
const OPENING: u64 = 3;

impl Checklist {
    /// Keeps the best checks that fit: first those of guarantees, then by what they guard and how long they
    /// take. What is then no longer caught counts as missed.
    pub fn keep_best(&mut self, limit: Limit) {
        let stands = std::mem::take(&mut self.stands);
        let all: Vec<(Standpoint, Check)> = stands
            .into_iter()
            .flat_map(|Stand { standpoint, checks, .. }| {
                checks.into_iter().map(move |check| (standpoint.clone(), check))
            })
            .collect();
        let mut choice = Choice::new(&all, limit);
        choice.run();
        let kept = choice.kept;
        for ((standpoint, check), kept) in all.into_iter().zip(kept) {
            if !kept {
                continue;
            }
            match self.stands.last_mut().filter(|stand| stand.standpoint == standpoint) {
                Some(stand) => stand.checks.push(check),
                None => self.stands.push(Stand { number: 0, standpoint, checks: vec![check] }),
            }
        }
        number(&mut self.stands);
        let checks = self.stands.iter().flat_map(|stand| &stand.checks);
        self.strength.measure_again(checks.flat_map(|check| check.shows.iter().copied()).collect());
    }
}

struct Choice<'c> {
    all: &'c [(Standpoint, Check)],
    kept: Vec<bool>,
    caught: HashSet<u32>,
    points: HashSet<Point>,
    set_up: HashSet<IpAddr>,
    places: HashSet<&'c Standpoint>,
    left: Limit,
}

impl<'c> Choice<'c> {
    fn new(all: &'c [(Standpoint, Check)], limit: Limit) -> Self {
        Self {
            all,
            kept: vec![false; all.len()],
            caught: HashSet::new(),
            points: HashSet::new(),
            set_up: HashSet::new(),
            places: HashSet::new(),
            left: limit,
        }
    }

    /// What a check costs now, its move and what has to be set up included.
    fn cost(&self, number: usize) -> u32 {
        let (standpoint, check) = &self.all[number];
        let moved =
            match (self.points.contains(&standpoint.point()), self.places.contains(standpoint)) {
                (false, _) => MOVE,
                (true, false) => ADDRESS,
                (true, true) => 0,
            };
        let set_up = check.set_up_at().filter(|at| !self.set_up.contains(at));
        check.seconds() + moved + set_up.map_or(0, |_| SET_UP)
    }

    /// What a check adds, by what it costs; those of guarantees come before all others.
    fn worth(&self, number: usize) -> (bool, u64) {
        let check = &self.all[number].1;
        let new = check.shows.iter().filter(|mistake| !self.caught.contains(mistake)).count();
        let weight = if check.expect == Expect::Reply { 1 } else { OPENING };
        let adds = 1 + 1_000 * new as u64 * weight;
        (check.guarantee, adds * 1_000 / u64::from(self.cost(number)))
    }

    fn run(&mut self) {
        let mut heap: BinaryHeap<((bool, u64), Reverse<usize>)> =
            (0..self.all.len()).map(|number| (self.worth(number), Reverse(number))).collect();
        while let Some((before, Reverse(number))) = heap.pop() {
            let now = self.worth(number);
            if now < before {
                heap.push((now, Reverse(number)));
                continue;
            }
            let cost = self.cost(number);
            match &mut self.left {
                Limit::Checks(0) => return,
                Limit::Checks(left) => *left -= 1,
                Limit::Seconds(left) if cost > *left => continue,
                Limit::Seconds(left) => *left -= cost,
            }
            self.keep(number);
        }
    }

    fn keep(&mut self, number: usize) {
        let (standpoint, check) = &self.all[number];
        self.kept[number] = true;
        self.caught.extend(check.shows.iter().copied());
        self.points.insert(standpoint.point());
        self.set_up.extend(check.set_up_at());
        self.places.insert(standpoint);
    }
}
