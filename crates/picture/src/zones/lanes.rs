//! Orders lanes so that few lines cross.

use crate::scene::Point;

/// An upright line on the right of the areas, with the heights at which lines lead to it from the left.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Lane {
    /// Where its source is.
    pub(super) start: f32,
    /// Where its destinations are.
    pub(super) ends: Vec<f32>,
}

impl Lane {
    fn heights(&self) -> impl Iterator<Item = f32> + '_ {
        self.ends.iter().copied().chain([self.start])
    }

    /// Its lines, from the edge of the areas to the lane at `x` and back: each piece drawn once, since dashes over
    /// dashes are no dashes. The first and the last destination have the upright piece, the others branch off.
    pub(super) fn lines(&self, x: f32, edge: f32) -> Vec<Vec<Point>> {
        let mut ends = self.ends.clone();
        ends.sort_by(f32::total_cmp);
        let (top, bottom) = (ends.first().copied(), ends.last().copied());
        let mut has_begun = false;
        let mut lines = Vec::new();
        for end in ends {
            let outermost = Some(end) == top.filter(|top| *top < self.start)
                || Some(end) == bottom.filter(|bottom| *bottom > self.start);
            let mut points = Vec::new();
            if outermost && !has_begun {
                points.push(Point::new(edge, self.start));
            }
            if outermost {
                points.push(Point::new(x, self.start));
                has_begun = true;
            }
            points.extend([Point::new(x, end), Point::new(edge, end)]);
            lines.push(points);
        }
        lines
    }

    /// How many lines to `other`, which stands further right, cross this one.
    fn crossed_by(&self, other: &Self) -> usize {
        let top = self.heights().fold(f32::INFINITY, f32::min);
        let bottom = self.heights().fold(f32::NEG_INFINITY, f32::max);
        other.heights().filter(|height| top < *height && *height < bottom).count()
    }
}

/// By lane, how many lines to each other one cross it if that stands further right.
struct Crossings(Vec<Vec<usize>>);

impl Crossings {
    fn of(lanes: &[Lane]) -> Self {
        let by = |lane: &Lane| lanes.iter().map(|other| lane.crossed_by(other)).collect();
        Self(lanes.iter().map(by).collect())
    }

    /// How many lines cross if the lanes stand in this order.
    fn in_order(&self, order: &[usize]) -> usize {
        let pairs = (0..order.len()).flat_map(|a| (a + 1..order.len()).map(move |b| (a, b)));
        pairs.map(|(a, b)| self.0[order[a]][order[b]]).sum()
    }
}

/// An order of the lanes, from left to right, in which no single one could be put elsewhere with fewer crossings:
/// insertion until nothing improves, from the order given. What crosses is counted, not guessed: once for each pair, since a
/// lane can have thousands of lines. There are two dozen lanes at the most.
pub(super) fn ordered(lanes: &[Lane]) -> Vec<usize> {
    let mut order: Vec<usize> = (0..lanes.len()).collect();
    let crossings = Crossings::of(lanes);
    let mut fewest = crossings.in_order(&order);
    loop {
        let mut better = None;
        for from in 0..order.len() {
            for to in 0..order.len() {
                let mut other = order.clone();
                let lane = other.remove(from);
                other.insert(to, lane);
                let count = crossings.in_order(&other);
                if count < better.as_ref().map_or(fewest, |(count, _)| *count) {
                    better = Some((count, other));
                }
            }
        }
        match better {
            Some((count, other)) => (fewest, order) = (count, other),
            None => return order,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lane(start: f32, ends: &[f32]) -> Lane {
        Lane { start, ends: ends.to_vec() }
    }

    #[test]
    fn a_short_lane_stands_inside_a_long_one() {
        let lanes = [lane(0.0, &[10.0]), lane(4.0, &[6.0])];
        let order = ordered(&lanes);
        assert_eq!(order, [1, 0]);
        assert_eq!(Crossings::of(&lanes).in_order(&order), 0);
        assert_eq!(Crossings::of(&lanes).in_order(&[0, 1]), 2);
    }

    #[test]
    fn no_order_of_five_lanes_is_missed_by_much() {
        let lanes = [
            lane(0.0, &[30.0, 50.0]),
            lane(10.0, &[70.0]),
            lane(20.0, &[5.0, 60.0]),
            lane(40.0, &[15.0]),
            lane(65.0, &[25.0, 45.0]),
        ];
        let mut best = usize::MAX;
        let mut orders = vec![Vec::new()];
        for _ in 0..5 {
            orders = orders
                .into_iter()
                .flat_map(|order: Vec<usize>| {
                    let left = (0..5).filter(|lane| !order.contains(lane)).collect::<Vec<_>>();
                    left.into_iter().map(move |lane| [order.clone(), vec![lane]].concat())
                })
                .collect();
        }
        let crossings = Crossings::of(&lanes);
        for order in &orders {
            best = best.min(crossings.in_order(order));
        }
        assert!(crossings.in_order(&ordered(&lanes)) <= best + 1);
    }
}
