//! Names and leases for dnsmasq: what is written is proved, and nothing that is changed in it passes.

#[path = "../../core/tests/model/mod.rs"]
mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::{draft, resolve};
use bastium_export::{dnsmasq, proven_served};
use model::{TODAY, any_draft, text, wired};
use proptest::prelude::*;

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// Whatever the plan is, its file is proved; and each line that is changed is refused.
    #[test]
    fn no_line_can_be_changed(draft in any_draft()) {
        let plan = resolve(wired(draft)).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let file = dnsmasq(&meaning);
        let text = match file {
            Ok(file) => file.text().to_owned(),
            Err(faults) => return Err(TestCaseError::fail(format!("{faults:#?}"))),
        };
        let lines: Vec<&str> = text.split('\n').collect();
        let counts = |line: &str| !line.is_empty() && !line.starts_with('#');
        for place in (0..lines.len()).filter(|place| counts(lines[*place])) {
            let without = [&lines[..place], &lines[place + 1..]].concat();
            let twice = [&lines[..=place], &lines[place..]].concat();
            let line = lines[place];
            let mut changed: Vec<String> =
                vec![format!("{line}0"), format!("{line},x"), format!("x{line}"), line.replace('1', "2")];
            changed.push(line.replacen(',', "", 1));
            for other in changed.iter().filter(|other| *other != line) {
                let mut with = lines.clone();
                with[place] = other;
                prop_assert!(proven_served(&meaning, with.join("\n")).is_err(), "{line} -> {other}");
            }
            for other in [without, twice] {
                prop_assert!(proven_served(&meaning, other.join("\n")).is_err(), "{line}");
            }
        }
        let more = format!("{text}conf-script=/bin/true\n");
        prop_assert!(proven_served(&meaning, more).is_err());
        let long = format!("{text}# {}conf-script=/bin/true\n", "x".repeat(1021));
        prop_assert!(proven_served(&meaning, long).is_err());
    }
}

/// A name of any length stays in the remark that it stands in: dnsmasq takes what goes beyond its longest line for
/// the next one.
#[test]
fn a_sites_name_is_never_a_line_of_its_own() {
    for length in 0..1_200 {
        let mut draft = wired(model::uniform("block", true));
        let name = format!("{}conf-script=/tmp/x", "x".repeat(length));
        draft.site.name = Some(text(&name));
        let Ok(plan) = resolve(draft) else { continue };
        let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
        let file = dnsmasq(&meaning).expect("it is proved");
        assert!(file.text().lines().all(|line| line.len() < 1_000), "{length}");
    }
}

/// Names and addresses that go beyond a line stand on several.
#[test]
fn long_lists_stand_on_several_lines() {
    let mut draft = wired(model::uniform("block", true));
    let names: Vec<String> =
        (0..60).map(|number| format!("{}.{number}.example.org", "a".repeat(60))).collect();
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let names = model::texts(&names);
    draft.domains.push(draft::Domain { name: text("many"), names });
    let plan = resolve(draft).expect("a plan");
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    let file = dnsmasq(&meaning).expect("it is proved");
    assert!(file.text().matches("nftset=").count() > 5);
}
