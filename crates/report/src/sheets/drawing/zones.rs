//! Which zone can reach which, as a picture.

use super::matrix::stance;
use super::{exception_words, shown};
use crate::sheets::cells::packets;
use bastium_core::meaning::{Meaning, Part};
use bastium_core::plan::{Action, Exception, ExceptionId, NetworkId, Plan, ZoneId};
use bastium_core::space::PacketSet;
use bastium_core::verdict::{Cause, Verdict};
use bastium_picture::{Arrow, ArrowKind, Stance, ZoneArea, ZoneMap};

/// What the picture of the zones shows. Arrows follow from what the plan decides about the packets between two zones,
/// so that an entry that decides nothing, or about packets that cannot be sent, has none.
pub fn zone_map(meaning: &Meaning<'_>) -> ZoneMap {
    let plan = meaning.plan();
    let translated = meaning.translated();
    let internet = plan.internet();
    let mut zones: Vec<ZoneId> = plan.zone_ids().filter(|id| *id != internet).collect();
    // By trust, and else as the plan has them.
    zones.sort_by_key(|id| std::cmp::Reverse(plan.zone(*id).trust));
    let place = |id: ZoneId| zones.iter().position(|other| *other == id);
    let mut arrows = Vec::new();
    for from in plan.zone_ids() {
        for to in plan.zone_ids().filter(|to| *to != from) {
            let traffic = Traffic::of(meaning, &translated, from, to);
            let (from_place, to_place) = (place(from), place(to));
            let between = between(plan, (from, to), &traffic).into_iter();
            arrows.extend(between.map(|arrow| Arrow { from: from_place, to: to_place, ..arrow }));
        }
    }
    name_sources(&mut arrows, |index| plan.zone(zones[index]).name.as_str());
    ZoneMap {
        site: shown(&plan.site().name),
        day: meaning.day().to_string(),
        areas: zones.iter().map(|id| area(meaning, &translated, *id)).collect(),
        outside: plan.zone(internet).name.to_string(),
        arrows,
        notes: notes(meaning),
    }
}

/// Where two arrows that arrive at one of our zones would say the same, as those of an exception about a group from several
/// zones, each says which zone it comes from.
fn name_sources<'n>(arrows: &mut [Arrow], name: impl Fn(usize) -> &'n str) {
    let known: Vec<Arrow> = arrows.to_vec();
    let alike = |one: &Arrow| {
        let same = |other: &&Arrow| other.to == one.to && other.words == one.words;
        one.to.is_some() && known.iter().filter(same).count() > 1
    };
    for arrow in arrows.iter_mut().filter(|arrow| alike(arrow)) {
        let from = arrow.from.map_or("outside", &name);
        arrow.words.push_str(&format!(", from {from}"));
    }
}

/// What decides about the packets from one zone to another.
struct Traffic<'p> {
    /// Whether the cell lets some of them pass.
    cell_allows: bool,
    /// The exceptions that let some pass, in the plan's order.
    allowed: Vec<&'p Exception>,
    /// Those that refuse some.
    refused: Vec<&'p Exception>,
}

impl<'p> Traffic<'p> {
    fn of(meaning: &Meaning<'p>, translated: &PacketSet, from: ZoneId, to: ZoneId) -> Self {
        let plan = meaning.plan();
        let parts = meaning.parts(&packets(meaning, translated, from, to));
        let causes = |passes: bool| {
            let of = move |part: &&Part| match part.decision.verdict {
                Verdict::Allow => passes,
                Verdict::Block | Verdict::Reject => !passes,
                Verdict::NotRouted | Verdict::NoRoute => false,
            };
            parts.iter().filter(of).map(|part| part.decision.cause)
        };
        let exceptions = |passes: bool| {
            let mut ids: Vec<ExceptionId> = causes(passes).filter_map(Cause::exception).collect();
            ids.sort_by_key(|id| id.index());
            ids.dedup();
            ids.into_iter().map(|id| plan.exception(id)).collect()
        };
        Self {
            cell_allows: causes(true).any(|cause| cause == Cause::Cell(from, to)),
            allowed: exceptions(true),
            refused: exceptions(false),
        }
    }
}

/// What passes from one zone to another: what the cell allows, and what exceptions do. Both ends are still to be set.
fn between(plan: &Plan, (from, to): (ZoneId, ZoneId), traffic: &Traffic<'_>) -> Vec<Arrow> {
    let arrow = |kind, exception, words| Arrow { from: None, to: None, kind, exception, words };
    let refused: Vec<&str> =
        traffic.refused.iter().map(|exception| exception.name.as_str()).collect();
    let mut arrows = Vec::new();
    if traffic.cell_allows {
        let outward = to == plan.internet();
        let whom = if outward { String::new() } else { format!(" from {}", plan.zone(from).name) };
        let but = match refused.as_slice() {
            [] => String::new(),
            names => format!(" except {}", names.join(", ")),
        };
        arrows.push(arrow(ArrowKind::Cell, None, format!("everything{whom}{but}")));
    }
    // Where the cell allows, an exception opens something only if another one has closed it.
    let opens = !traffic.cell_allows || !refused.is_empty();
    arrows.extend(traffic.allowed.iter().filter(|_| opens).map(|exception| {
        let name = exception.name.to_string();
        arrow(ArrowKind::Exception, Some(name), exception_words(exception))
    }));
    arrows
}

fn area(meaning: &Meaning<'_>, translated: &PacketSet, id: ZoneId) -> ZoneArea {
    let plan = meaning.plan();
    let zone = plan.zone(id);
    ZoneArea {
        name: zone.name.to_string(),
        trust: zone.trust.word().to_owned(),
        networks: plan.networks_of(id).map(|network| network_words(plan, network)).collect(),
        within: within(meaning, translated, id),
        guarantees: guarantees(plan, id),
        anchor: None,
    }
}

fn network_words(plan: &Plan, id: NetworkId) -> String {
    let network = plan.network(id);
    match (network.vlan, &network.tunnel) {
        (Some(vlan), _) => format!("{}, VLAN {vlan}", network.name),
        (None, Some(_)) => format!("{}, tunnel", network.name),
        (None, None) => network.name.to_string(),
    }
}

/// What passes between the networks of one zone, and inside networks that keep their devices apart.
fn within(meaning: &Meaning<'_>, translated: &PacketSet, id: ZoneId) -> Vec<String> {
    let plan = meaning.plan();
    let traffic = Traffic::of(meaning, translated, id, id);
    let mut lines = Vec::new();
    if plan.networks_of(id).count() > 1 {
        lines.push(match stance(plan, id, id) {
            Stance::Allow => "The networks reach each other.".to_owned(),
            _ => "The networks are kept apart.".to_owned(),
        });
    }
    let apart = plan.networks_of(id).filter(|network| plan.network(*network).isolate);
    let apart: Vec<String> = apart.map(|network| plan.network(network).name.to_string()).collect();
    if !apart.is_empty() {
        lines.push(format!("Devices are isolated in {}.", apart.join(", ")));
    }
    let action = |exception: &Exception| match exception.action {
        Action::Allow => "allowed",
        Action::Block => "blocked",
        Action::Reject => "rejected",
    };
    let inside = |exception: &&Exception| {
        format!("Within: {}, {}.", exception_words(exception), action(exception))
    };
    lines.extend(traffic.allowed.iter().chain(&traffic.refused).map(inside));
    lines
}

/// The guarantees whose sources are in that zone.
fn guarantees(plan: &Plan, id: ZoneId) -> Vec<String> {
    let own = plan.zone_addresses(id);
    let concerns = plan
        .guarantees()
        .iter()
        .filter(|guarantee| !guarantee.from.addresses.intersection(own).is_empty());
    let words = concerns.map(|guarantee| {
        let (from, to) = (shown(&guarantee.from.text), shown(&guarantee.to.text));
        let service = match guarantee.service.text.as_str() {
            "" | "any" => String::new(),
            text => format!(", {}", shown(text)),
        };
        format!("Guarantee: {} {from} to {to}{service}.", guarantee.word())
    });
    words.collect()
}

/// What has no arrow, since one end is the gateway itself.
fn notes(meaning: &Meaning<'_>) -> Vec<String> {
    let plan = meaning.plan();
    let active = meaning.precedence().active().iter().map(|id| plan.exception(*id));
    let to_gateway = active.filter(|exception| exception.to.gateway || exception.from.gateway);
    let named: Vec<String> = to_gateway
        .map(|exception| format!("{} ({})", exception_words(exception), exception.action.word()))
        .collect();
    let mut notes = vec!["Traffic to the gateway itself has no arrow.".to_owned()];
    if !named.is_empty() {
        notes[0] = format!(
            "Traffic to the gateway itself has no arrow. Exceptions about it: {}.",
            named.join("; ")
        );
    }
    notes
}
