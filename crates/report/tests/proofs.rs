//! What a proof says when it fails, and what a comparison says of networks that come and go.

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, Plan};
use bastium_core::proof::{self, changes};
use bastium_core::rules::{self, RuleSet, mistakes};
use bastium_report::sheets::{CompareSheet, FormProof, ProofSheet};
use jiff::civil::{Date, date};

const DAY: Date = date(2026, 11, 24);
const CLINIC: &str = include_str!("../../../demo/clinic.toml");

fn read(text: &str) -> Plan {
    bastium_planfile::read("clinic.toml", text.as_bytes()).expect("a plan")
}

fn with_clinic<T>(test: impl FnOnce(&Meaning<'_>, &RuleSet) -> T) -> T {
    let plan = read(CLINIC);
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    test(&meaning, &rules::compile(&meaning))
}

/// The first damage of a kind to a rule whose id begins so.
fn damaged(meaning: &Meaning<'_>, rules: &RuleSet, kind: mistakes::Kind, rule: &str) -> FormProof {
    let mut all = mistakes::mistakes(rules);
    let of_it = |one: &mistakes::Mistake| {
        one.rule(rules).is_none_or(|r| r.id.to_string().starts_with(rule))
    };
    let found = all.find(|one| one.kind == kind && of_it(one));
    let damaged = found.expect("every kind of mistake can be made").made_in(rules);
    FormProof::of(meaning, &damaged, &proof::prove(meaning, &damaged))
}

#[test]
fn a_forgotten_rule_is_reported_with_a_packet_both_reasons_and_boxes() {
    with_clinic(|meaning, rules| {
        let proof = damaged(meaning, rules, mistakes::Kind::Forgotten, "exception.desks-print");
        assert!(!proof.equal && !proof.holds());
        let found = proof.counterexample.as_ref().expect("a packet");
        assert_eq!((found.meaning.verdict, found.rules.verdict), ("allow", "block"));
        assert_eq!(found.meaning.because.as_ref().map(|b| b.name.as_str()), Some("desks-print"));
        assert_eq!(found.rules.rule.as_deref(), Some("unmatched@through"));
        assert!(found.says.contains("the plan says allow"), "{}", found.says);
        let one = &proof.differences[0].boxes[0];
        assert_eq!((one.from.as_str(), one.destination.as_str()), ("desks", "printers"));
    });
}

#[test]
fn a_log_set_aside_is_a_difference_though_every_verdict_stays() {
    with_clinic(|meaning, rules| {
        let proof = damaged(meaning, rules, mistakes::Kind::LogAside, "exception.desks-print");
        let found = proof.counterexample.as_ref().expect("a packet");
        assert_eq!(found.meaning.verdict, found.rules.verdict);
        assert_ne!(found.meaning.logged, found.rules.logged);
        assert!(found.says.contains("and logs it"), "{}", found.says);
    });
}

#[test]
fn missing_replies_are_reported_though_first_packets_fare_as_they_should() {
    with_clinic(|meaning, rules| {
        let proof = damaged(meaning, rules, mistakes::Kind::NoReplies, "reply");
        assert!(proof.equal, "first packets need no rule for replies");
        assert!(proof.unanswered.is_some() && !proof.holds());
    });
}

/// Replies of which it could not be decided whether they come back are no replies that do.
#[test]
fn undecided_replies_are_no_proof() {
    with_clinic(|meaning, rules| {
        let mut proof = FormProof::of(meaning, rules, &proof::prove(meaning, rules));
        assert!(proof.holds() && proof.replies_come_back());
        proof.replies_undecided = 2;
        assert!(proof.equal && !proof.replies_come_back() && !proof.holds());
    });
}

#[test]
fn forgotten_ipv6_is_found_in_ipv6() {
    with_clinic(|meaning, rules| {
        let proof = damaged(meaning, rules, mistakes::Kind::NoIpv6, "");
        assert!(
            proof.differences.iter().flat_map(|row| &row.boxes).all(|one| one.family == "IPv6")
        );
        assert!(!proof.equal);
    });
}

/// Of every mistake with the clinic's exceptions, the proof says no or the sets say that nothing changed.
#[test]
fn every_mistake_with_an_exception_of_the_clinic_is_judged_rightly() {
    with_clinic(|meaning, rules| {
        let all = mistakes::mistakes(rules);
        let of_exception = |one: &mistakes::Mistake| {
            one.rule(rules).is_some_and(|r| r.id.to_string().starts_with("exception."))
        };
        let some = all.filter(of_exception).step_by(5);
        let mut found = 0;
        for one in some {
            let wrong = one.made_in(rules);
            let (differences, undecided) = proof::equal(meaning, &wrong);
            let by_sets = proof::differences(meaning, &wrong, &meaning.universe());
            let differs = !by_sets.is_empty();
            assert_eq!(!differences.is_empty(), differs, "{:?} at {:?}", one.kind, one.place);
            assert_eq!(undecided, 0);
            found += usize::from(!differences.is_empty());
        }
        assert!(found > 20, "{found} mistakes changed anything");
    });
}

#[test]
fn the_tables_say_of_every_form_whether_it_holds() {
    with_clinic(|meaning, _| {
        let sheet = ProofSheet::new(meaning, &Form::ALL).expect("forms are asked about");
        let tables = sheet.tables();
        assert_eq!(tables.len(), Form::ALL.len());
        for (table, form) in tables.iter().zip(Form::ALL) {
            assert_eq!(table.title.as_deref(), Some(form.word()));
            assert!(table.rows.iter().all(|row| row[1].text != "NO"), "{}", form.word());
        }
        assert!(ProofSheet::new(meaning, &[]).is_none());
    });
}

fn compared(old: &str, new: &str) -> CompareSheet {
    let (old, new) = (read(old), read(new));
    let meanings = [&old, &new].map(|plan| Meaning::new(plan, DAY).expect("a meaning"));
    let rules = [&meanings[0], &meanings[1]].map(rules::compile);
    let found = changes(&meanings[0], &meanings[1], (&rules[0], &rules[1]));
    CompareSheet::new(
        (&old, &new),
        ("old".to_owned(), "new".to_owned()),
        (DAY.to_string(), "one-list".to_owned()),
        &found,
    )
}

#[test]
fn a_network_that_comes_opens_and_one_that_goes_closes() {
    let more = format!(
        "{CLINIC}\n[network.lab]\nzone = \"clinical\"\nvlan = 44\nport = \"core\"\nhosts = 4\ndhcp = \"100-119\"\n"
    );
    let opened = compared(CLINIC, &more);
    assert!(opened.closes.is_empty(), "{:?}", opened.closes.first());
    let from: Vec<&str> = opened.opens.iter().map(|row| row.packets.from.as_str()).collect();
    assert!(from.iter().any(|from| from.contains("lab")), "it may go out: {from:?}");
    let to = opened.opens.iter().any(|row| row.packets.destination.contains("lab"));
    assert!(to, "it may be reached");
    let closed = compared(&more, CLINIC);
    assert!(closed.opens.is_empty(), "{:?}", closed.opens.first());
    // What is gone is called what it was called.
    assert!(closed.closes.iter().any(|row| row.packets.from.contains("lab")));
}

#[test]
fn a_refusal_that_is_answered_now_neither_opens_nor_closes() {
    let text = CLINIC.replacen(
        "guests     block    block  block     block      block  block     block   block   allow",
        "guests     reject   block  block     block      block  block     block   block   allow",
        1,
    );
    assert_ne!(text, CLINIC, "the row is there");
    let sheet = compared(CLINIC, &text);
    assert!(sheet.opens.is_empty() && sheet.closes.is_empty());
    let row = &sheet.changes[0];
    assert_eq!((row.before, row.after), ("block", "reject"));
    assert!(row.says.ends_with("was block, is reject"), "{}", row.says);
    assert_eq!(sheet.rules.added[0].id, "cell.guests>control");
}

#[test]
fn the_order_of_entries_in_the_file_moves_no_traffic() {
    let start = CLINIC.find("[exception.desks-print]").expect("there");
    let end = start + CLINIC[start..].find("\n[").expect("an entry after it") + 1;
    let moved = format!("{}{}\n{}", &CLINIC[..start], &CLINIC[end..], &CLINIC[start..end]);
    let sheet = compared(CLINIC, &moved);
    assert!(sheet.no_traffic());
    // What could not be decided is no "nothing".
    let mut undecided = sheet.clone();
    undecided.undecided = 1;
    assert!(!undecided.no_traffic() && !undecided.is_empty());
    let ids: Vec<&str> = sheet.rules.moved.iter().map(|mark| mark.id.as_str()).collect();
    assert_eq!(ids, ["exception.desks-print"]);
    assert!(sheet.rules.added.is_empty() && sheet.rules.removed.is_empty());
}
