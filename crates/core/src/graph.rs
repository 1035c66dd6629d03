//! Things that depend on each other: an order in which each comes after what it needs, or the cycle that prevents
//! one.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashMap};

/// What became of sorting.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Sorted {
    /// Everything that can be put in order, each after all that it needs.
    pub(crate) order: Vec<usize>,
    /// If something was left: things of which each needs the next, the first again at the end.
    pub(crate) circle: Option<Vec<usize>>,
}

/// Sorts the numbers from 0; `needs[n]` are those that have to come before `n`. Of all that may come next,
/// the lowest does.
pub(crate) fn sort(needs: &[Vec<usize>]) -> Sorted {
    let mut waiting: Vec<usize> = needs.iter().map(Vec::len).collect();
    let mut needed_by: Vec<Vec<usize>> = vec![Vec::new(); needs.len()];
    for (index, needs) in needs.iter().enumerate() {
        for &need in needs {
            needed_by[need].push(index);
        }
    }
    let ready = (0..needs.len()).filter(|index| waiting[*index] == 0);
    let mut ready: BinaryHeap<Reverse<usize>> = ready.map(Reverse).collect();
    let mut order = Vec::with_capacity(needs.len());
    while let Some(Reverse(index)) = ready.pop() {
        order.push(index);
        for &next in &needed_by[index] {
            waiting[next] -= 1;
            if waiting[next] == 0 {
                ready.push(Reverse(next));
            }
        }
    }
    let stuck = |index: &usize| waiting[*index] > 0;
    let circle = (0..needs.len()).find(stuck).map(|start| circle(needs, start, stuck));
    Sorted { order, circle }
}

/// Follows from `start` one need that is stuck after the other, until one comes again. Whatever is
/// stuck needs something that is.
fn circle(needs: &[Vec<usize>], start: usize, stuck: impl Fn(&usize) -> bool) -> Vec<usize> {
    let mut path = vec![start];
    let mut places = HashMap::from([(start, 0)]);
    let mut here = start;
    while let Some(next) = needs[here].iter().copied().find(&stuck) {
        path.push(next);
        if let Some(first) = places.insert(next, path.len() - 1) {
            return path.split_off(first);
        }
        here = next;
    }
    path
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_comes_after_what_it_needs() {
        let needs = vec![vec![2], vec![0, 2], vec![]];
        assert_eq!(sort(&needs), Sorted { order: vec![2, 0, 1], circle: None });
    }

    #[test]
    fn a_circle_is_named_and_the_rest_is_sorted() {
        let needs = vec![vec![1], vec![2], vec![1], vec![]];
        assert_eq!(sort(&needs), Sorted { order: vec![3], circle: Some(vec![1, 2, 1]) });
        assert_eq!(sort(&[vec![0]]).circle, Some(vec![0, 0]));
    }

    #[test]
    fn a_long_chain_takes_no_long_time() {
        let needs: Vec<Vec<usize>> =
            (0..200_000).map(|n| if n < 199_999 { vec![n + 1] } else { vec![] }).collect();
        assert_eq!(sort(&needs).order.len(), 200_000);
    }
}
