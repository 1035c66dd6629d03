//! What changes from one plan to another, compared with both plans packet by packet.

mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Plan, draft, resolve};
use bastium_core::proof::{Changes, RuleChange, changes};
use bastium_core::rules::{self, RuleSet};
use bastium_core::space::Packet;
use bastium_core::verdict::Verdict;
use model::packets::{Borders, packet};
use model::{TODAY, any_draft, any_exception, text, texts};
use proptest::prelude::*;

/// What whoever sends a packet notices: it gets through, is answered, or vanishes.
fn noticed(meaning: &Meaning<'_>, packet: &Packet) -> u8 {
    match meaning.decide(packet).verdict {
        Verdict::Allow | Verdict::NotRouted => 0,
        Verdict::Reject => 1,
        Verdict::Block | Verdict::NoRoute => 2,
    }
}

fn with_both<T>(
    old: &draft::Draft,
    new: &draft::Draft,
    test: impl FnOnce(&Meaning<'_>, &Meaning<'_>, (&RuleSet, &RuleSet), Changes<'_>) -> T,
) -> Option<T> {
    let plan = |draft: &draft::Draft| -> Plan { resolve(draft.clone()).expect("a plan") };
    let (one, other) = (plan(old), plan(new));
    let (old, new) = (Meaning::new(&one, TODAY).ok()?, Meaning::new(&other, TODAY).ok()?);
    let rules = (rules::compile(&old), rules::compile(&new));
    let found = changes(&old, &new, (&rules.0, &rules.1));
    Some(test(&old, &new, (&rules.0, &rules.1), found))
}

/// A change that people make.
#[derive(Clone, Debug)]
enum Edit {
    Add(Box<draft::Exception>),
    Remove(prop::sample::Index),
    Cell(usize),
    Uses,
}

impl Edit {
    fn make(&self, draft: &mut draft::Draft) {
        match self {
            Self::Add(exception) => draft.exceptions.push((**exception).clone()),
            Self::Remove(_) if draft.exceptions.is_empty() => {}
            Self::Remove(index) => {
                let gone = draft.exceptions.remove(index.index(draft.exceptions.len()));
                for other in &mut draft.exceptions {
                    other.before.retain(|name| name.value != gone.name.value);
                }
            }
            Self::Cell(turn) => {
                let grid = draft.matrix.grid.as_mut().expect("the model has a grid");
                let (old, new) =
                    [("allow", "reject"), ("block", "allow"), ("reject", "block")][turn % 3];
                grid.value = grid.value.replacen(old, new, 1 + turn / 3);
            }
            Self::Uses => draft.zones[0].uses = Some(texts(&["dns"])),
        }
    }
}

fn any_change() -> impl Strategy<Value = Edit> {
    let exception = any_exception(7).prop_map(|mut exception| {
        exception.before.clear();
        exception.hours = None;
        exception.from = plain(exception.from);
        exception.to = plain(exception.to);
        Edit::Add(Box::new(exception))
    });
    prop_oneof![
        3 => exception,
        3 => any::<prop::sample::Index>().prop_map(Edit::Remove),
        3 => (0..6usize).prop_map(Edit::Cell),
        1 => Just(Edit::Uses),
    ]
}

/// Places that every plan of the model has.
fn plain(ends: Vec<bastium_core::source::Text>) -> Vec<bastium_core::source::Text> {
    let some = |end: &str| model::EXTENDED.contains(&end) || model::BESIDE.contains(&end);
    if ends.iter().any(|end| some(&end.value)) { texts(&["guests"]) } else { ends }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 250, ..ProptestConfig::default() })]

    /// A packet fares otherwise exactly if it lies in a change, and the change says how.
    #[test]
    fn changes_hold_every_packet_that_fares_otherwise(
        draft in any_draft(), change in any_change(), seed in any::<u64>(),
    ) {
        let mut changed = draft.clone();
        change.make(&mut changed);
        with_both(&draft, &changed, |old, new, rules, found| {
            let borders = Borders::of(old.plan(), rules.0).joined(Borders::of(new.plan(), rules.1));
            let mut seed = seed;
            prop_assert_eq!(found.undecided, 0);
            for _ in 0..800 {
                let packet = packet(&borders, new.plan(), &mut seed);
                let (before, after) = (noticed(old, &packet), noticed(new, &packet));
                let reported: Vec<_> = found.traffic.iter()
                    .filter(|change| change.of_new && change.packets.contains(&packet)).collect();
                prop_assert_eq!(before != after, !reported.is_empty(), "{:?}", packet);
                for change in reported {
                    prop_assert_eq!(change.before.verdict, old.decide(&packet).verdict);
                    prop_assert_eq!(change.after.verdict, new.decide(&packet).verdict);
                    prop_assert_eq!(change.opens(), after == 0);
                    prop_assert_eq!(change.closes(), before == 0);
                }
            }
            Ok(())
        }).unwrap_or(Ok(()))?;
    }

    /// Names, reasons and the order of networks in the file are no change.
    #[test]
    fn nothing_is_reported_where_only_words_change(draft in any_draft()) {
        let mut renamed = draft.clone();
        for exception in &mut renamed.exceptions {
            exception.name = text(&format!("other-{}", exception.name.value));
            exception.why = Some(text("another reason"));
            exception.before = exception.before.iter().map(|name| text(&format!("other-{}", name.value))).collect();
        }
        renamed.domains.iter_mut().for_each(|domain| domain.name = text("register"));
        with_both(&draft, &renamed, |_, _, _, found| {
            prop_assert!(found.traffic.is_empty(), "{:?}", found.traffic.first());
            prop_assert!(found.rules.is_empty(), "{:?}", found.rules.first());
            Ok(())
        }).unwrap_or(Ok(()))?;
    }

    /// Taking the old rules and making the changes to them leaves the new ones, in their order.
    #[test]
    fn rule_changes_lead_from_the_old_list_to_the_new(draft in any_draft(), change in any_change()) {
        let mut changed = draft.clone();
        change.make(&mut changed);
        with_both(&draft, &changed, |_, _, rules, found| {
            let of = |wanted: fn(&RuleChange<'_>) -> Option<u32>| -> Vec<u32> {
                found.rules.iter().filter_map(wanted).collect()
            };
            let gone = of(|c| match c { RuleChange::Removed(rule) => Some(rule.number), _ => None });
            let changed = of(|c| match c { RuleChange::Changed(old, _) => Some(old.number), _ => None });
            let moved = of(|c| match c { RuleChange::Moved(old, _) => Some(old.number), _ => None });
            let added = of(|c| match c { RuleChange::Added(rule) => Some(rule.number), _ => None });
            let count = |rules: &RuleSet| rules.rules().count();
            prop_assert_eq!(count(rules.0) - gone.len() + added.len(), count(rules.1));
            let stayed: Vec<String> = rules.0.rules()
                .filter(|rule| ![&gone, &changed, &moved].iter().any(|list| list.contains(&rule.number)))
                .map(|rule| format!("{:?}", rule.matches)).collect();
            let new: Vec<String> = rules.1.rules().map(|rule| format!("{:?}", rule.matches)).collect();
            let mut ahead = new.iter();
            prop_assert!(stayed.iter().all(|rule| ahead.any(|other| other == rule)));
            Ok(())
        }).unwrap_or(Ok(()))?;
    }
}

/// A domain that is declared anew is not the one that was there, wherever they stand.
#[test]
fn domains_are_reported_apart_whatever_their_order() {
    let mut old = model::frame(true, false);
    let domain = |name: &str| draft::Domain {
        name: text(name),
        names: texts(&[&format!("{name}.example.org")]),
    };
    let pay = |name: &str, to: &str| model::exception(name, "tills", to, "https", "allow");
    old.matrix.grid = Some(text(
        "staff guests tills internet\nstaff block block block allow\nguests block block block allow\n\
         tills block block block block\ninternet block block block -\n",
    ));
    old.domains = vec![domain("hub")];
    old.exceptions = vec![pay("pay", "hub")];
    let mut new = old.clone();
    new.domains.insert(0, domain("register"));
    with_both(&old, &new, |_, _, _, found| {
        assert!(found.traffic.is_empty(), "{:?}", found.traffic.first());
        assert!(found.rules.is_empty(), "{:?}", found.rules.first());
    })
    .expect("both have a meaning");
    new.exceptions.push(pay("look-up", "register"));
    with_both(&old, &new, |_, after, _, found| {
        let [change] = found.traffic.as_slice() else { panic!("{:?}", found.traffic) };
        assert!(change.opens() && change.of_new);
        let packet = change.packets.sample().expect("a packet");
        assert_eq!(after.plan().address_words(packet.destination()), "register");
    })
    .expect("both have a meaning");
    // The other way round: what is gone is reported in the old plan's words.
    with_both(&new, &old, |before, _, _, found| {
        let [change] = found.traffic.as_slice() else { panic!("{:?}", found.traffic) };
        assert!(change.closes() && !change.of_new);
        let packet = change.packets.sample().expect("a packet");
        assert_eq!(before.plan().address_words(packet.destination()), "register");
    })
    .expect("both have a meaning");
}
