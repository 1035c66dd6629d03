//! Zones, each with its trust.

use super::super::draft::Draft;
use super::super::model::{Trust, Zone};
use super::names::is_reserved;
use super::{NameProblem, Resolver, services};
use crate::name::Name;
use crate::space::ServiceSet;
use std::collections::HashMap;

/// The zones of the draft. One with a bad name or trust is left in, so that the rest can be checked.
pub(super) fn zones(
    draft: &Draft,
    known: &HashMap<String, ServiceSet>,
    resolver: &mut Resolver,
) -> Vec<Zone> {
    let mut zones = Vec::new();
    for zone in &draft.zones {
        let uses = zone.uses.as_ref().and_then(|words| services::uses(words, known, resolver));
        let Some(name) = Name::new(&zone.name.value).ok().filter(|name| !is_reserved(name)) else {
            continue;
        };
        let trust = match &zone.trust {
            None => {
                resolver.problem(NameProblem::NoTrust { zone: name.clone(), at: zone.name.at });
                Trust::None
            }
            Some(word) => {
                Trust::GIVEN.into_iter().find(|t| t.word() == word.value).unwrap_or_else(|| {
                    resolver.problem(NameProblem::Trust { word: word.value.clone(), at: word.at });
                    Trust::None
                })
            }
        };
        let about = zone.about.as_ref().map(|text| text.value.clone()).unwrap_or_default();
        zones.push(Zone { name, trust, about, uses, at: zone.name.at });
    }
    zones
}
