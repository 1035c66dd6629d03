//! The pictures: readable for every plan, and true.

#[path = "../../core/tests/model/mod.rs"]
mod model;

use bastium_core::checklist;
use bastium_core::meaning::Meaning;
use bastium_core::plan::draft::Draft;
use bastium_core::plan::{Plan, ZoneId, resolve};
use bastium_core::space::{Match, PacketSet};
use bastium_core::verdict::{Decision, Verdict};
use bastium_core::{proof, rules};
use bastium_picture::{ArrowKind, MOST_ZONES, Picture, Stance, flaws};
use bastium_report::sheets::{ChecklistSheet, matrix_grid, site_tree, tried_grid, zone_map};
use model::{TODAY, any_draft};
use proptest::prelude::*;

fn demo(name: &str) -> Option<Plan> {
    let path = format!("{}/../../demo/{name}", env!("CARGO_MANIFEST_DIR"));
    let bytes = std::fs::read(path).expect("the demo plan is there");
    bastium_planfile::read(name, &bytes).ok()
}

fn pictures(meaning: &Meaning<'_>) -> [Picture; 3] {
    let rules = rules::compile(meaning);
    let site = site_tree(meaning.plan()).picture();
    [site, zone_map(meaning).picture(), matrix_grid(meaning, &rules).picture()]
}

#[test]
fn the_demo_plans_are_drawn_well() {
    for name in ["bare.toml", "clinic.toml", "farm.toml"] {
        let plan = demo(name).expect("a plan");
        let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
        let pictures = pictures(&meaning);
        for picture in &pictures {
            assert!(flaws(picture).is_empty(), "{name}: {:#?}", flaws(picture));
            // A4 across, 297 mm less two margins of 1 cm, is 1,047 px; 9 points are 12 px.
            let smallest = picture.texts().map(|text| text.size).fold(f32::INFINITY, f32::min);
            let printed = smallest * (1_047.0 / picture.width).min(1.0);
            assert!(printed >= 12.0, "{name}: {} prints with {printed} px", picture.title);
            assert_eq!(picture.texts().filter(|text| text.text.contains('…')).count(), 0);
        }
        let [site, zones, _] = pictures;
        assert_eq!(site.crossings(), 0, "{name}");
        assert!(zones.crossings() <= 40, "{name}: {} crossings", zones.crossings());
    }
}

#[test]
fn plans_with_problems_are_drawn_well_too() {
    let folder = format!("{}/../../demo/broken", env!("CARGO_MANIFEST_DIR"));
    let mut drawn = 0;
    for entry in std::fs::read_dir(folder).expect("the folder is there") {
        let name = entry.expect("an entry").file_name().into_string().expect("a name");
        let plan = name.ends_with(".toml").then(|| demo(&format!("broken/{name}"))).flatten();
        let Some(plan) = plan else { continue };
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { continue };
        for picture in pictures(&meaning) {
            assert!(flaws(&picture).is_empty(), "{name}: {:#?}", flaws(&picture));
        }
        drawn += 1;
    }
    assert!(drawn > 70, "only {drawn} plans were drawn");
}

#[test]
fn each_check_is_counted_once_and_in_its_own_zone() {
    for name in ["bare.toml", "clinic.toml", "farm.toml"] {
        let plan = demo(name).expect("a plan");
        let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
        let rules = rules::compile(&meaning);
        let proved = proof::proved(&meaning, &rules).expect("the rules match the plan");
        let sheet = ChecklistSheet::new(&meaning, &rules, &checklist::build(&meaning, proved));
        let checks: Vec<_> = sheet.stands.iter().flat_map(|stand| &stand.checks).collect();
        let grid = tried_grid(&sheet);
        let counted: usize = grid
            .cells
            .iter()
            .flatten()
            .map(|mark| mark.text.parse::<usize>().expect("a number"))
            .sum();
        let elsewhere: usize =
            grid.about.split(' ').filter_map(|word| word.parse::<usize>().ok()).sum();
        assert_eq!(counted + elsewhere, checks.len(), "{name}: {}", grid.about);
        let zone_of = |end: &str| {
            let end = end.split(" as ").next().expect("a name");
            let host = plan.hosts().iter().find(|host| host.name.as_str() == end);
            let network = plan.networks().iter().find(|network| network.name.as_str() == end);
            let network = network.or_else(|| host.map(|host| plan.network(host.network)));
            network.map(|network| plan.zone(network.zone).name.to_string())
        };
        let mut held = 0;
        for check in checks {
            for (end, zone) in [(&check.from, &check.from_zone), (&check.to, &check.to_zone)] {
                if let Some(expected) = zone_of(end) {
                    assert_eq!(zone.as_ref(), Some(&expected), "{name}: {}", check.id);
                    held += 1;
                }
            }
            assert!(check.to != "gateway" || check.to_zone.is_none(), "{name}: {}", check.id);
        }
        assert!(held > 0);
    }
}

/// The packets from one zone to another, whatever becomes of them.
fn traffic(plan: &Plan, from: ZoneId, to: ZoneId) -> PacketSet {
    let of = |(enters, sources): &(_, _)| Match {
        enters: Clone::clone(enters),
        source: plan.zone_addresses(from).intersection(sources),
        destination: plan.zone_addresses(to).clone(),
        ..Match::everything()
    };
    plan.zone_entries(from).iter().map(of).collect()
}

/// Holds arrows and cells against what the plan decides about every packet.
fn is_true(draft: &Draft) -> Result<(), TestCaseError> {
    let Ok(plan) = resolve(draft.clone()) else { return Ok(()) };
    let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
    let rules = rules::compile(&meaning);
    let (map, grid) = (zone_map(&meaning), matrix_grid(&meaning, &rules));
    let internet = plan.internet();
    let place =
        |id: ZoneId| map.areas.iter().position(|area| area.name == plan.zone(id).name.as_str());
    for from in plan.zone_ids() {
        for to in plan.zone_ids().filter(|to| *to != from) {
            let packets = traffic(&plan, from, to);
            let mut parts = meaning.parts(&packets);
            // Pictures are about who somebody is, not about who he pretends to be.
            let counts = |decision: Decision| {
                decision.verdict.is_filtered() && decision.cause.kind() != "spoofed"
            };
            parts.retain(|part| counts(part.decision));
            let passing = parts.iter().filter(|part| part.decision.verdict == Verdict::Allow);
            let passes = passing.clone().count() > 0;
            let all_pass = passing.count() == parts.len() && passes;
            let arrows: Vec<_> = (map.arrows.iter())
                .filter(|arrow| (arrow.from, arrow.to) == (place(from), place(to)))
                .collect();
            let (from_name, to_name) = (&plan.zone(from).name, &plan.zone(to).name);
            if passes {
                prop_assert!(!arrows.is_empty(), "{from_name} reaches {to_name} without an arrow");
            }
            // What is offered to the outside passes only once it is translated.
            if from != internet && !passes {
                prop_assert!(arrows.is_empty(), "{from_name} does not reach {to_name}: {arrows:?}");
            }
            let everything = arrows
                .iter()
                .any(|arrow| arrow.kind == ArrowKind::Cell && !arrow.words.contains(" except "));
            let is_routed = parts.iter().any(|part| part.decision.verdict == Verdict::Allow);
            if everything && is_routed {
                prop_assert!(all_pass, "not everything passes from {from_name} to {to_name}");
            }
            let cell = &grid.cells[from.index() * plan.zones().len() + to.index()];
            let says_so = cell.stance == Stance::Allow || cell.notes.iter().any(|note| note.allows);
            prop_assert!(says_so || !passes, "the cell {from_name} {to_name} hides what passes");
            if cell.stance == Stance::Allow && cell.notes.is_empty() && is_routed {
                prop_assert!(all_pass, "the cell {from_name} {to_name} hides what does not pass");
            }
        }
    }
    if map.areas.len() <= MOST_ZONES {
        prop_assert!(flaws(&map.picture()).is_empty());
    }
    prop_assert!(flaws(&grid.picture()).is_empty());
    prop_assert!(flaws(&site_tree(&plan).picture()).is_empty());
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 120, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn pictures_say_what_the_plan_decides(draft in any_draft()) {
        is_true(&draft)?;
    }
}
