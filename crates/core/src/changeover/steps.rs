//! Works out the steps of a changeover: new rows go in from the top down, old rows come out from the bottom up, and
//! two edits become one (a move, a replacement) where that is just as safe.

use super::lines::{Changed, Clash, Interfaces, Lines, State};
use super::merged::Merged;
use super::temporary::block_first;
use super::{Changeover, Edit, Interim, Row, Spot, Step};
use crate::plan::Limits;
use std::borrow::Cow;

/// Of rows that have to change at once, so many are tried to do without.
const MOST_TRIED: usize = 200;

/// Works out the steps. Rows are taken in the order of the merged list.
pub(super) fn make<'r>(merged: &Merged<'r>, limits: &Limits) -> Changeover<'r> {
    let Some((with_temporary, clash)) = block_first(merged) else {
        return Way::new(merged, limits).made();
    };
    let way = Way::new(&with_temporary, limits).made();
    if way.is_safe() {
        return way;
    }
    // Such rules would cut what passes before and afterwards.
    let way = Way::new(merged, limits);
    let conversation = way.interim(&clash);
    Changeover { conversation, ..way.made() }
}

/// The way so far.
struct Way<'m, 'r> {
    merged: &'m Merged<'r>,
    lines: Lines,
    limits: &'m Limits,
    state: State,
    /// What shall be in the end.
    goal: State,
    steps: Vec<Step<'r>>,
    clash: Option<Interim>,
}

impl<'m, 'r> Way<'m, 'r> {
    fn new(merged: &'m Merged<'r>, limits: &'m Limits) -> Self {
        let rows = merged.rows.iter();
        let state = State {
            surroundings: Interfaces::Old,
            rows: rows.map(|row| row.is_in_old()).collect(),
        };
        let rows = merged.rows.iter();
        let goal = State {
            surroundings: Interfaces::New,
            rows: rows.map(|row| row.is_in_new()).collect(),
        };
        let lines = Lines::new(merged);
        Self { merged, lines, limits, state, goal, steps: Vec::new(), clash: None }
    }

    fn made(mut self) -> Changeover<'r> {
        self.block();
        self.insert();
        let putting_in = self.steps.len();
        self.surroundings(Interfaces::Both);
        self.uncover();
        self.set();
        self.delete();
        self.surroundings(Interfaces::New);
        self.rename();
        let rows = self.merged.rows.iter();
        let kept = rows.filter(|row| row.old.is_some() && row.new.is_some()).count();
        let (steps, surroundings) = (self.steps, self.clash);
        Changeover { steps, putting_in, kept, surroundings, conversation: None }
    }

    /// The goal as it is in the surroundings of now.
    fn goal(&self) -> State {
        State { surroundings: self.state.surroundings, rows: self.goal.rows.clone() }
    }

    fn with(&self, rows: &[usize]) -> State {
        let mut state = self.state.clone();
        rows.iter().for_each(|row| state.rows[*row] = !state.rows[*row]);
        state
    }

    /// What is changed by rows that come or go at once; or a packet that shows why that is not safe.
    fn check(&self, rows: &[usize]) -> Result<Changed, Box<Clash>> {
        self.lines.check(&self.state, &self.with(rows), &self.goal())
    }

    /// Makes a step, be it safe or not.
    fn step(&mut self, rows: &[usize], edits: impl FnOnce(&Self, &State) -> Vec<Edit<'r>>) {
        let (changed, together) = match self.check(rows) {
            Ok(changed) => (changed, None),
            Err(clash) => (Changed::default(), self.interim(&clash)),
        };
        let before = std::mem::replace(&mut self.state, self.goal.clone());
        self.state = before.clone();
        rows.iter().for_each(|row| self.state.rows[*row] = !self.state.rows[*row]);
        let edits = edits(self, &before);
        self.steps.push(Step { edits, changed, together });
    }

    /// Networks and addresses of the gateway come, or go.
    fn surroundings(&mut self, surroundings: Interfaces) {
        let after = State { surroundings, rows: self.state.rows.clone() };
        if let Err(clash) = self.lines.check(&self.state, &after, &self.goal) {
            self.clash = self.clash.take().or_else(|| self.interim(&clash));
        }
        self.state = after;
    }

    /// Blocks, for the time of the change, what must stop passing.
    fn block(&mut self) {
        for row in 0..self.merged.rows.len() {
            if self.merged.rows[row].temporary.is_some() {
                self.step(&[row], |way, _| vec![way.inserted(row, false)]);
            }
        }
    }

    fn insert(&mut self) {
        for place in 0..self.merged.rows.len() {
            let row = &self.merged.rows[place];
            let list = &self.merged.lists[row.list];
            if list.implied || self.state.rows[place] || !row.is_in_new() {
                continue;
            }
            if !list.in_old {
                self.attach(row.list);
            } else if row.end.is_some() {
                self.step(&[place], |way, _| vec![way.end(place)]);
            } else {
                self.insert_row(place);
            }
        }
    }

    fn insert_row(&mut self, place: usize) {
        let row = &self.merged.rows[place];
        let is_there = |row: &usize| self.state.rows[*row];
        let (alters, moves) = (row.alters.filter(is_there), row.moves.filter(is_there));
        if let Some(old) = alters.or(moves)
            && self.check(&[place, old]).is_ok()
        {
            return self.at_once(&[old, place], alters.is_some());
        }
        if moves.is_some() && !self.limits.duplicates {
            return self.together(place, moves);
        }
        self.step(&[place], |way, _| vec![way.inserted(place, moves.is_some())]);
    }

    /// A row takes the place of another, or another place.
    fn at_once(&mut self, rows: &[usize; 2], in_place: bool) {
        let [old, new] = *rows;
        self.step(rows, |way, before| match in_place {
            true => way.altered(old, new),
            false => way.moved(old, new, before),
        });
    }

    /// Rows that can only change at once: that of `place`, the one that says the same elsewhere, and as few others as it
    /// takes.
    fn together(&mut self, place: usize, other: Option<usize>) {
        let first: Vec<usize> = other.into_iter().chain([place]).collect();
        let clash = self.check(&first).err();
        let is_open =
            |row: &usize| self.state.rows[*row] != self.goal.rows[*row] && !first.contains(row);
        let is_entered = |row: &usize| {
            let list = &self.merged.lists[self.merged.rows[*row].list];
            list.in_old && list.in_new && !self.is_set(*row)
        };
        let rows = || (0..self.merged.rows.len()).filter(is_open);
        let mut group: Vec<usize> = rows().filter(is_entered).collect();
        let with_all: Vec<usize> = first.iter().chain(&group).copied().collect();
        if self.check(&with_all).is_err() {
            // What the gateway does by itself has to change with them.
            group = rows().filter(|row| is_entered(row) || self.is_set(*row)).collect();
        }
        let near = |row: &usize| row.abs_diff(place);
        group.sort_by_key(|row| std::cmp::Reverse(near(row)));
        // What the gateway does by itself is set as a whole, or not at all.
        let single: Vec<usize> = group.iter().copied().filter(|row| !self.is_set(*row)).collect();
        for row in single.into_iter().take(MOST_TRIED) {
            let fewer: Vec<usize> = group.iter().copied().filter(|other| *other != row).collect();
            let all: Vec<usize> = first.iter().chain(&fewer).copied().collect();
            if self.check(&all).is_ok() {
                group = fewer;
            }
        }
        let mut all: Vec<usize> = first.into_iter().chain(group).collect();
        all.sort_unstable();
        let interim = clash.and_then(|clash| self.interim(&clash));
        self.step(&all, |way, before| way.all_at_once(&all, before));
        if let Some(step) = self.steps.last_mut() {
            step.together = step.together.take().or(interim);
        }
    }

    /// Whether a row is no rule that is entered, but what the gateway does by itself or at the end of a list.
    fn is_set(&self, row: usize) -> bool {
        let row = &self.merged.rows[row];
        row.end.is_some() || self.merged.lists[row.list].implied
    }

    /// Takes old rows out that would decide as soon as the gateway does something else by itself: a cut-off stands above all
    /// rows, and what it covers comes to them once it is gone. As few as it takes, the lowest first.
    fn uncover(&mut self) {
        let set = self.to_set();
        for place in (0..self.merged.rows.len()).rev() {
            if set.is_empty() || self.check(&set).is_ok() {
                return;
            }
            let row = &self.merged.rows[place];
            let list = &self.merged.lists[row.list];
            let is_old = self.state.rows[place] && !self.goal.rows[place];
            let is_entered = !list.implied && list.in_new && row.end.is_none();
            if is_old && is_entered && self.check(&[place]).is_ok() {
                self.step(&[place], |way, before| way.deleted(place, before));
            }
        }
    }

    /// The rows that stand for what the gateway does by itself, as far as that changes.
    fn to_set(&self) -> Vec<usize> {
        (0..self.merged.rows.len())
            .filter(|row| self.merged.lists[self.merged.rows[*row].list].implied)
            .filter(|row| self.state.rows[*row] != self.goal.rows[*row])
            .collect()
    }

    /// What the gateway does by itself.
    fn set(&mut self) {
        let rows = self.to_set();
        if rows.is_empty() {
            return;
        }
        self.step(&rows, |way, _| {
            let lists = rows.iter().map(|row| way.merged.rows[*row].list);
            let mut lists: Vec<String> =
                lists.map(|list| way.merged.lists[list].name.clone()).collect();
            lists.dedup();
            vec![Edit::Set { lists }]
        });
    }

    fn delete(&mut self) {
        for place in (0..self.merged.rows.len()).rev() {
            let row = &self.merged.rows[place];
            let list = &self.merged.lists[row.list];
            if list.implied || !self.state.rows[place] || self.goal.rows[place] {
                continue;
            }
            if !list.in_new {
                self.detach(row.list);
            } else if row.end.is_some() {
                self.step(&[place], |way, _| vec![way.end(place)]);
            } else {
                self.step(&[place], |way, before| way.deleted(place, before));
            }
        }
    }

    fn rows_of(&self, list: usize) -> Vec<usize> {
        (0..self.merged.rows.len()).filter(|row| self.merged.rows[*row].list == list).collect()
    }

    fn attach(&mut self, list: usize) {
        let rows = self.rows_of(list);
        self.step(&rows, |way, _| {
            let rules = rows.iter().filter_map(|row| way.merged.rows[*row].new).collect();
            vec![Edit::Attach { at: way.spot(rows[0], &way.state), rules }]
        });
    }

    fn detach(&mut self, list: usize) {
        let rows = self.rows_of(list);
        self.step(&rows, |way, before| {
            let rules = rows.iter().filter_map(|row| way.merged.rows[*row].old).collect();
            vec![Edit::Detach { at: way.spot(rows[0], before), rules }]
        });
    }

    /// Names that are others, where the rows are the same.
    fn rename(&mut self) {
        let rows = self.merged.rows.iter().enumerate();
        let named = rows.filter_map(|(place, row)| {
            let (old, new) = (row.old?, row.new?);
            let is_entered = !self.merged.lists[row.list].implied;
            (is_entered && old.id != new.id).then_some((place, old, new))
        });
        let renamed: Vec<Step<'r>> = named
            .map(|(place, old, new)| {
                let edit = Edit::Rename { at: self.spot(place, &self.state), old, new };
                Step { edits: vec![edit], changed: Changed::default(), together: None }
            })
            .collect();
        self.steps.extend(renamed);
    }

    /// A packet that shows a clash.
    fn interim(&self, clash: &Clash) -> Option<Interim> {
        let Clash { packets, before, between, after } = clash;
        let (of_new, packets) = self.merged.joint.apart(packets).into_iter().next()?;
        let (before, between, after) = (*before, *between, *after);
        Some(Interim { packets, of_new, before, between, after })
    }
}

/// The edits.
impl<'r> Way<'_, 'r> {
    fn entered(&self, place: usize, new: bool) -> Option<Row<'r>> {
        let row = &self.merged.rows[place];
        if let Some(rule) = &row.temporary {
            return Some(Box::new(Cow::Owned((**rule).clone())));
        }
        let (first, second) = if new { (row.new, row.old) } else { (row.old, row.new) };
        first.or(second).map(|rule| Box::new(Cow::Borrowed(rule)))
    }

    fn inserted(&self, place: usize, again: bool) -> Edit<'r> {
        let temporary = self.merged.rows[place].temporary.is_some();
        let at = self.spot(place, &self.state);
        let Some(rule) = self.entered(place, true) else { return self.end(place) };
        Edit::Insert { at, rule, above: self.above(place), again, temporary }
    }

    fn altered(&self, old: usize, new: usize) -> Vec<Edit<'r>> {
        let at = self.spot(new, &self.state);
        let rows = (self.merged.rows[old].old, self.merged.rows[new].new);
        let (Some(old), Some(new)) = rows else { return Vec::new() };
        vec![Edit::Alter { at, old, new }]
    }

    fn moved(&self, old: usize, new: usize, before: &State) -> Vec<Edit<'r>> {
        let (from, to) = (self.spot(old, before), self.spot(new, &self.state));
        let rows = (self.merged.rows[old].old, self.merged.rows[new].new);
        let (Some(old), Some(rule)) = rows else { return Vec::new() };
        vec![Edit::Move { from, to, old, rule, above: self.above(new) }]
    }

    fn deleted(&self, place: usize, before: &State) -> Vec<Edit<'r>> {
        let at = self.spot(place, before);
        self.entered(place, false).map(|rule| Edit::Delete { at, rule }).into_iter().collect()
    }

    fn end(&self, place: usize) -> Edit<'r> {
        Edit::Set { lists: vec![self.merged.lists[self.merged.rows[place].list].name.clone()] }
    }

    /// Rows that go, from the bottom up, then rows that come, from the top down: each at its place at that moment.
    /// What the gateway does by itself is set last.
    fn all_at_once(&self, rows: &[usize], before: &State) -> Vec<Edit<'r>> {
        let mut state = before.clone();
        let mut edits = Vec::new();
        let (set, rows): (Vec<usize>, Vec<usize>) = rows.iter().partition(|row| self.is_set(**row));
        for &row in rows.iter().rev().filter(|row| before.rows[**row]) {
            edits.extend(self.deleted(row, &state));
            state.rows[row] = false;
        }
        for &row in rows.iter().filter(|row| !before.rows[**row]) {
            state.rows[row] = true;
            let Some(rule) = self.entered(row, true) else { continue };
            let (at, above) = (self.spot(row, &state), self.above_in(row, &state));
            edits.push(Edit::Insert { at, rule, above, again: false, temporary: false });
        }
        let name = |row: &usize| self.merged.lists[self.merged.rows[*row].list].name.clone();
        let mut lists: Vec<String> = set.iter().map(name).collect();
        lists.dedup();
        edits.extend((!lists.is_empty()).then_some(Edit::Set { lists }));
        edits
    }

    /// The row that stands below a place.
    fn above(&self, place: usize) -> Option<Row<'r>> {
        self.above_in(place, &self.state)
    }

    fn above_in(&self, place: usize, state: &State) -> Option<Row<'r>> {
        let below = (place + 1..self.merged.rows.len())
            .take_while(|row| self.merged.in_one_list(*row, place));
        let mut there =
            below.filter(|row| state.rows[*row] && self.merged.rows[*row].end.is_none());
        there.next().and_then(|row| self.entered(row, false))
    }

    /// Where a row stands in a state that has it, with its number through all lists.
    fn spot(&self, place: usize, state: &State) -> Spot {
        let own = self.merged.rows[place].list;
        let (mut number, mut in_list, mut shared, mut list) = (0, 0, false, usize::MAX);
        for (other, row) in self.merged.rows.iter().enumerate().take(place + 1) {
            let rule = self.entered(other, state.rows[other] && !row.is_in_old());
            let Some(rule) = rule.filter(|_| state.rows[other] && row.end.is_none()) else {
                continue;
            };
            if self.merged.lists[row.list].implied {
                continue;
            }
            let shares = self.merged.shared && rule.is_of_interface();
            if !(shares && shared && list == row.list) {
                number += 10;
            }
            (shared, list) = (shares, row.list);
            in_list += usize::from(self.merged.in_one_list(other, place) && other < place);
        }
        Spot { list: self.merged.lists[own].name.clone(), place: in_list, number }
    }
}
