//! Results of a walk: what is written is read again, the last one counts, and none of it is mark-up.

use bastium_core::checklist;
use bastium_core::meaning::Meaning;
use bastium_core::plan::Plan;
use bastium_core::rules::{self, RuleSet};
use bastium_report::walk::{
    Outcome, Record, Recorded, State, WalkSheet, abouts, junit, line, read,
};
use jiff::Timestamp;
use jiff::civil::{Date, date};
use jiff::tz::TimeZone;
use proptest::prelude::*;
use quick_xml::Reader;
use quick_xml::events::Event;

const DAY: Date = date(2026, 11, 24);
/// Ten in the morning of that day.
const NOW: Timestamp = Timestamp::constant(1_795_514_400, 0);
const BARE: &str = include_str!("../../../demo/bare.toml");

fn plan() -> Plan {
    bastium_planfile::read("bare.toml", BARE.as_bytes()).expect("a plan")
}

/// The sheet of the smallest demo plan with these results.
fn sheet(records: impl FnOnce(&[checklist::Stand], &RuleSet) -> Vec<Record>) -> WalkSheet {
    let plan = plan();
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let rules = rules::compile(&meaning);
    let stands = checklist::build(
        &meaning,
        bastium_core::proof::proved(&meaning, &rules).expect("the rules do what the plan says"),
    )
    .stands;
    let records = records(&stands, &rules);
    let known = abouts(&stands, &rules);
    let recorded = Recorded { records: &records, known: &known, unread: 0, zone: TimeZone::UTC };
    WalkSheet::new(&meaning, &rules, &stands, &recorded)
}

/// A result of the first check of all.
fn of_first(stands: &[checklist::Stand], rules: &RuleSet, outcome: Outcome, at: &str) -> Record {
    let check = &stands[0].checks[0];
    Record {
        bastium: 1,
        id: check.id.clone(),
        outcome,
        expect: check.expect.word().to_owned(),
        seen: Some("reply".to_owned()),
        by: "ana".to_owned(),
        at: at.parse().expect("a time"),
        place: "desks".to_owned(),
        note: None,
        gateway_answered: false,
        both_ends: false,
        means: check.means(rules),
    }
}

fn any_record() -> impl Strategy<Value = Record> {
    let outcome =
        prop::sample::select(vec![Outcome::Pass, Outcome::Fail, Outcome::Skip, Outcome::Note]);
    let words = (any::<String>(), any::<String>(), any::<String>(), any::<String>());
    let maybe = (any::<Option<String>>(), any::<Option<String>>());
    (outcome, words, maybe).prop_map(|(outcome, (id, by, place, means), (seen, note))| Record {
        bastium: 1,
        id,
        outcome,
        expect: "reply".to_owned(),
        // What has passed was seen as it was expected.
        seen: seen.map(|seen| format!("reply: {seen}")),
        by,
        at: NOW,
        place,
        note,
        gateway_answered: false,
        both_ends: false,
        means,
    })
}

proptest! {
    /// Whatever a result holds, its line is one line, and is read as it was.
    #[test]
    fn what_is_written_is_read_again(records in prop::collection::vec(any_record(), 0..5)) {
        let text: String = records.iter().map(line).collect();
        prop_assert_eq!(text.lines().count(), records.len());
        let (found, bad) = read(&text, NOW);
        prop_assert_eq!(found, records);
        prop_assert!(bad.is_empty());
    }

    /// A file that ends anywhere gives all the results before that, and tells at most one bad line.
    #[test]
    fn a_file_that_is_cut_off_loses_one_result(
        records in prop::collection::vec(any_record(), 1..5), cut in any::<prop::sample::Index>(),
    ) {
        let text: String = records.iter().map(line).collect();
        let end = (0..=cut.index(text.len())).rev().find(|end| text.is_char_boundary(*end)).unwrap_or(0);
        let (found, bad) = read(&text[..end], NOW);
        let whole = text[..end].matches('\n').count();
        prop_assert!(found.len() >= whole && found.len() <= whole + 1);
        prop_assert_eq!(&found[..], &records[..found.len()]);
        prop_assert!(bad.len() <= 1);
    }

    /// Whatever people write, the XML is well formed, and every check is in it once.
    #[test]
    fn the_xml_is_well_formed(note in any::<String>(), by in any::<String>()) {
        let sheet = sheet(|stands, rules| {
            let record = of_first(stands, rules, Outcome::Fail, "2026-11-24T10:00:00Z");
            vec![Record { note: Some(note), by, ..record }]
        });
        let xml = junit(&sheet).expect("it is written");
        let mut reader = Reader::from_str(&xml);
        let (mut cases, mut depth) = (0, 0i32);
        loop {
            match reader.read_event().expect("well formed") {
                Event::Eof => break,
                Event::Start(tag) => {
                    depth += 1;
                    cases += usize::from(tag.name().as_ref() == "testcase");
                }
                Event::Empty(tag) => cases += usize::from(tag.name().as_ref() == "testcase"),
                Event::End(_) => depth -= 1,
                _ => {}
            }
        }
        prop_assert_eq!((cases, depth), (sheet.results.len(), 0));
    }
}

#[test]
fn the_last_result_of_a_check_counts_whoever_made_it() {
    let state = |outcomes: &[(Outcome, &str)]| {
        let sheet = sheet(|stands, rules| {
            outcomes.iter().map(|(outcome, at)| of_first(stands, rules, *outcome, at)).collect()
        });
        sheet.results[0].outcome
    };
    let (early, late) = ("2026-11-24T10:00:00Z", "2026-11-24T11:00:00Z");
    assert_eq!(state(&[]), State::Open);
    assert_eq!(state(&[(Outcome::Fail, early), (Outcome::Pass, late)]), State::Pass);
    assert_eq!(
        state(&[(Outcome::Pass, late), (Outcome::Fail, early)]),
        State::Pass,
        "files in any order"
    );
    assert_eq!(
        state(&[(Outcome::Pass, early), (Outcome::Fail, early)]),
        State::Fail,
        "the later line"
    );
    assert_eq!(
        state(&[(Outcome::Pass, early), (Outcome::Note, late)]),
        State::Pass,
        "a note is no result"
    );
    assert_eq!(state(&[(Outcome::Note, late)]), State::Open);
    assert_eq!(state(&[(Outcome::Skip, early)]), State::Skip);
}

#[test]
fn a_result_of_another_packet_or_rule_has_to_be_made_again() {
    let sheet = sheet(|stands, rules| {
        let record = of_first(stands, rules, Outcome::Pass, "2026-11-24T10:00:00Z");
        vec![Record { means: record.means.replace("allow", "block"), ..record }]
    });
    assert_eq!(sheet.results[0].outcome, State::Changed);
    assert_eq!((sheet.changed, sheet.passed), (1, 0));
    assert!(
        sheet.words().contains("1 to make again since the plan has changed"),
        "{}",
        sheet.words()
    );
}

#[test]
fn notes_stay_with_their_check_and_the_sheet_is_signed_off_when_all_pass() {
    let noted = sheet(|stands, rules| {
        let note = of_first(stands, rules, Outcome::Note, "2026-11-24T10:00:00Z");
        vec![Record { note: Some("loose cable".to_owned()), ..note }]
    });
    assert_eq!(noted.results[0].note.as_deref(), Some("loose cable"));
    assert_eq!(noted.remarkable().count(), 1);
    let all = sheet(|stands, rules| {
        let plan = plan();
        let meaning = Meaning::new(&plan, DAY).expect("a meaning");
        let checks = stands.iter().flat_map(|stand| &stand.checks);
        let first = of_first(stands, rules, Outcome::Pass, "2026-11-24T10:00:00Z");
        let pass = |check: &checklist::Check| Record {
            id: check.id.clone(),
            place: check.standpoint.name(&meaning),
            expect: check.expect.word().to_owned(),
            means: check.means(rules),
            ..first.clone()
        };
        checks.map(pass).collect()
    });
    assert!(all.is_done() && all.open == 0, "{}", all.words());
    assert_eq!(all.tables()[0].rows.len(), all.results.len());
}
