//! The matrix as a picture.

use super::{exception_words, service_name, shown};
use crate::sheets::cells::{CellRules, every_cell};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Plan, ZoneId};
use bastium_core::rules::RuleSet;
use bastium_picture::{CellNote, GridCell, MatrixGrid, NamedException, Stance};

/// What the picture of the matrix shows. Exceptions that do what their cell does anyway, as those that are there to be
/// logged, do not stand in it.
pub fn matrix_grid(meaning: &Meaning<'_>, rules: &RuleSet) -> MatrixGrid {
    let plan = meaning.plan();
    let every = every_cell(meaning, rules);
    let deciding = CellRules::of(meaning, &every);
    let pairs = plan.zone_ids().flat_map(|from| plan.zone_ids().map(move |to| (from, to)));
    let cells = pairs.map(|(from, to)| cell(meaning, &deciding, from, to)).collect();
    let active = meaning.precedence().active().iter().map(|id| plan.exception(*id));
    let exceptions = active.map(|exception| NamedException {
        name: exception.name.to_string(),
        words: format!("{}: {}", exception.action.word(), exception_words(exception)),
    });
    MatrixGrid {
        site: shown(&plan.site().name),
        day: meaning.day().to_string(),
        zones: plan.zones().iter().map(|zone| zone.name.to_string()).collect(),
        cells,
        exceptions: exceptions.collect(),
    }
}

/// What a cell does by itself.
pub(super) fn stance(plan: &Plan, from: ZoneId, to: ZoneId) -> Stance {
    match plan.matrix().cell(from, to).action {
        Some(Action::Allow) => Stance::Allow,
        Some(Action::Block) => Stance::Block,
        Some(Action::Reject) => Stance::Reject,
        None => Stance::Nothing,
    }
}

fn cell(meaning: &Meaning<'_>, deciding: &CellRules<'_>, from: ZoneId, to: ZoneId) -> GridCell {
    let plan = meaning.plan();
    let stance = stance(plan, from, to);
    let deciding = deciding.exceptions(meaning, from, to);
    let exceptions: Vec<_> = deciding.into_iter().map(|id| plan.exception(id)).collect();
    let passes = stance == Stance::Allow;
    let differs = |allows: bool| allows != passes;
    // What is allowed again from what another exception refuses is no less an exception.
    let any_differs = exceptions.iter().any(|entry| differs(entry.action == Action::Allow));
    let notes = exceptions.iter().filter(|_| any_differs).map(|exception| CellNote {
        exception: exception.name.to_string(),
        service: service_name(exception),
        from: shown(&exception.from.text),
        hours: exception.hours.as_ref().map(|hours| hours.name.to_string()),
        allows: exception.action == Action::Allow,
    });
    GridCell { stance, notes: notes.collect(), anchor: None }
}
