//! From one set of rules to another: whoever makes the edits one by one never has, not even for a moment, what neither
//! the old rules do nor the new ones.
//!
//! The edits are made here on plain lists of rules, and packets are put to these: nothing of the program's own search
//! for an order is used to judge it.

mod model;
mod typed;

use bastium_core::changeover::{Changeover, Edit, changeover};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Form, Plan, draft, resolve};
use bastium_core::rules::{self, Rule, RuleSet};
use bastium_core::space::{Packet, PacketSet};
use model::packets::{Borders, packet};
use model::{TODAY, any_draft, any_exception, exception, text, texts, uniform};
use proptest::prelude::*;
use typed::{Asked, Fate, Typed, reply_to};

/// Old and new plan with their rules in a form.
fn with_both<T>(
    drafts: [&draft::Draft; 2],
    form: Form,
    test: impl FnOnce(&Meaning<'_>, &Meaning<'_>, [&RuleSet; 2]) -> T,
) -> Option<T> {
    let [one, other] = drafts.map(|draft| -> Plan { resolve(draft.clone()).expect("a plan") });
    let (old, new) = (Meaning::new(&one, TODAY).ok()?, Meaning::new(&other, TODAY).ok()?);
    let before = rules::in_form(&old, form).ok()?;
    let after = rules::in_form(&new, form).ok()?;
    Some(test(&old, &new, [&before, &after]))
}

/// A change that people make.
#[derive(Clone, Debug)]
enum Change {
    Add(Box<draft::Exception>),
    Remove(prop::sample::Index),
    Turn(prop::sample::Index),
    Widen(prop::sample::Index),
    Log(prop::sample::Index),
    Cell(usize),
    Uses,
}

impl Change {
    fn make(&self, draft: &mut draft::Draft) {
        let all = &mut draft.exceptions;
        let one = |index: &prop::sample::Index, all: &[draft::Exception]| {
            (!all.is_empty()).then(|| index.index(all.len()))
        };
        match self {
            Self::Add(exception) => all.push((**exception).clone()),
            Self::Remove(index) => {
                let Some(place) = one(index, all) else { return };
                let gone = all.remove(place);
                for other in all {
                    other.before.retain(|name| name.value != gone.name.value);
                }
            }
            Self::Turn(index) => {
                let Some(place) = one(index, all) else { return };
                let allows = all[place].action.as_ref().is_some_and(|word| word.value == "allow");
                all[place].action = Some(text(if allows { "block" } else { "allow" }));
            }
            Self::Widen(index) => {
                let Some(place) = one(index, all) else { return };
                all[place].service = Some(texts(&["tcp/1-1000"]));
            }
            Self::Log(index) => {
                let Some(place) = one(index, all) else { return };
                let at = text("").at;
                let value = !all[place].log.as_ref().is_some_and(|log| log.value);
                all[place].log = Some(bastium_core::source::Located { value, at });
            }
            Self::Cell(turn) => {
                let Some(grid) = draft.matrix.grid.as_mut() else { return };
                let (old, new) =
                    [("allow", "reject"), ("block", "allow"), ("reject", "block")][turn % 3];
                grid.value = grid.value.replacen(old, new, 1 + turn / 3);
            }
            Self::Uses => draft.zones[0].uses = Some(texts(&["dns"])),
        }
    }
}

fn any_change() -> impl Strategy<Value = Change> {
    let index = any::<prop::sample::Index>;
    prop_oneof![
        3 => any_exception(7).prop_map(|mut exception| {
            exception.before.clear();
            Change::Add(Box::new(exception))
        }),
        3 => index().prop_map(Change::Remove),
        2 => index().prop_map(Change::Turn),
        2 => index().prop_map(Change::Widen),
        1 => index().prop_map(Change::Log),
        3 => (0..9usize).prop_map(Change::Cell),
        1 => Just(Change::Uses),
    ]
}

/// The packets to watch: those at all borders, each as it is and as what looks like a reply from some ports.
fn watched(plans: [&Plan; 2], rules: [&RuleSet; 2], mut seed: u64, count: usize) -> Vec<Packet> {
    let borders = Borders::of(plans[0], rules[0]).joined(Borders::of(plans[1], rules[1]));
    let mut packets: Vec<Packet> =
        (0..count).map(|_| packet(&borders, plans[1], &mut seed)).collect();
    packets.extend(at_changed_rules(rules));
    packets
}

/// Packets that rules of one of both have that the other lacks: with each other rule, and without it.
fn at_changed_rules(rules: [&RuleSet; 2]) -> Vec<Packet> {
    let says = |rule: &Rule| format!("{:?} {:?} {}", rule.matches, rule.action, rule.log);
    let [old, new] = rules.map(|rules| rules.rules().map(says).collect::<Vec<_>>());
    let all: Vec<&Rule> = rules.into_iter().flat_map(RuleSet::rules).collect();
    let changed = all.iter().filter(|rule| {
        let says = says(rule);
        old.contains(&says) != new.contains(&says)
    });
    let sets = |rule: &Rule| rule.packets().map(PacketSet::from);
    let mut packets = Vec::new();
    for own in changed.filter_map(|rule| sets(rule)).take(12) {
        for other in all.iter().filter_map(|rule| sets(rule)) {
            packets.extend(own.intersection(&other).sample());
            packets.extend(own.difference(&other).sample());
        }
    }
    packets
}

/// Makes all edits, looking at every packet after each step. Says how many packets changed.
fn hold(way: &Changeover<'_>, plan: &Plan, rules: [&RuleSet; 2], packets: &[Packet]) -> usize {
    let asked: Vec<Asked> = packets.iter().flat_map(|packet| Asked::all(packet, rules)).collect();
    let stateless = rules.iter().any(|rules| rules.rules().any(Rule::is_for_replies));
    let pairs: Vec<(Asked, Asked)> = match stateless && way.conversation.is_none() {
        true => packets.iter().flat_map(|packet| reply_to(plan, packet)).collect(),
        false => Vec::new(),
    };
    let (mut typed, goal) = (Typed::new(rules, 0), Typed::new(rules, 1));
    let fates = |typed: &Typed| -> Vec<Fate> { asked.iter().map(|one| typed.fate(one)).collect() };
    let open = |typed: &Typed| -> Vec<bool> {
        let passes = |one: &Asked| typed.fate(one).action == Action::Allow;
        pairs.iter().map(|(first, reply)| passes(first) && passes(reply)).collect()
    };
    let (old, new) = (fates(&typed), fates(&goal));
    let (old_open, new_open) = (open(&typed), open(&goal));
    let mut before = old.clone();
    for step in &way.steps {
        step.edits.iter().for_each(|edit| typed.make(edit));
        let now = fates(&typed);
        for (place, fate) in now.iter().enumerate() {
            let (was, old, new) = (before[place], old[place], new[place]);
            let as_in_one = *fate == old || *fate == new;
            assert!(as_in_one, "{:?}: {fate:?}, not {old:?} nor {new:?}", asked[place]);
            assert!(*fate == was || was == old, "it changed twice: {:?}", asked[place]);
        }
        for (place, is_open) in open(&typed).into_iter().enumerate() {
            let (old, new) = (old_open[place], new_open[place]);
            assert!(is_open == old || is_open == new, "{:?} {:?}", pairs[place], step.edits);
        }
        before = now;
    }
    typed.assert_is(&goal);
    old.iter().zip(&new).filter(|(old, new)| old != new).count()
}

fn edits(way: &Changeover<'_>) -> Vec<&'static str> {
    let word = |edit: &Edit<'_>| match edit {
        Edit::Insert { temporary: true, .. } => "block",
        Edit::Insert { again: true, .. } => "insert again",
        Edit::Insert { .. } => "insert",
        Edit::Alter { .. } => "alter",
        Edit::Move { .. } => "move",
        Edit::Delete { .. } => "delete",
        Edit::Attach { .. } => "attach",
        Edit::Detach { .. } => "detach",
        Edit::Rename { .. } => "rename",
        Edit::Set { .. } => "set",
    };
    way.steps.iter().flat_map(|step| &step.edits).map(word).collect()
}

fn blocking(exceptions: Vec<draft::Exception>) -> draft::Draft {
    draft::Draft { exceptions, ..uniform("block", true) }
}

fn with_limits(mut draft: draft::Draft, set: impl FnOnce(&mut draft::Limits)) -> draft::Draft {
    set(&mut draft.gateway.limits);
    draft
}

fn no() -> Option<bastium_core::source::Located<bool>> {
    Some(bastium_core::source::Located { value: false, at: text("").at })
}

#[test]
fn nothing_is_edited_where_nothing_changes() {
    let draft = blocking(vec![exception("print", "desks", "printers", "tcp/631", "allow")]);
    for form in Form::ALL {
        with_both([&draft, &draft], form, |old, new, rules| {
            let way = changeover((old, rules[0]), (new, rules[1]));
            assert!(way.steps.is_empty() && way.is_safe(), "{:?}", edits(&way));
            assert!(way.kept > 0);
        });
    }
}

#[test]
fn a_rule_that_is_made_wider_is_altered_in_its_place() {
    let old = blocking(vec![exception("print", "desks", "printers", "tcp/631", "allow")]);
    let new = blocking(vec![exception("print", "desks", "printers", "tcp/600-700", "allow")]);
    with_both([&old, &new], Form::OneList, |old, new, rules| {
        let way = changeover((old, rules[0]), (new, rules[1]));
        assert_eq!(edits(&way), ["alter"]);
        assert!(way.is_safe() && way.steps[0].changed.opens && !way.steps[0].changed.closes);
    })
    .expect("both have a meaning");
}

/// The block stands above the allow in the new list. Were the allow there first, what it takes from the block would pass
/// for a moment.
#[test]
fn a_block_comes_before_what_it_is_an_exception_to() {
    let old = blocking(Vec::new());
    let new = blocking(vec![
        exception("all", "desks", "printers", "any", "allow"),
        exception("not-telnet", "desks", "printers", "telnet", "block"),
    ]);
    with_both([&old, &new], Form::OneList, |old, new, rules| {
        let way = changeover((old, rules[0]), (new, rules[1]));
        let ids: Vec<String> = way
            .steps
            .iter()
            .flat_map(|step| &step.edits)
            .map(|edit| match edit {
                Edit::Insert { rule, .. } => rule.id.to_string(),
                other => panic!("{other:?}"),
            })
            .collect();
        assert_eq!(ids, ["exception.not-telnet", "exception.all"]);
        // And back: first what is wide goes.
        let way = changeover((new, rules[1]), (old, rules[0]));
        let gone: Vec<String> = way
            .steps
            .iter()
            .flat_map(|step| &step.edits)
            .map(|edit| match edit {
                Edit::Delete { rule, .. } => rule.id.to_string(),
                other => panic!("{other:?}"),
            })
            .collect();
        assert_eq!(gone, ["exception.all", "exception.not-telnet"]);
    })
    .expect("both have a meaning");
}

/// The two change places: what both block or both allow does so all the time, so one of them stands twice for a while, or
/// is moved in one go where that is as safe.
#[test]
fn a_gateway_that_takes_no_row_twice_is_given_none() {
    let rules = [
        exception("a", "desks", "printers", "tcp/1-900", "allow"),
        exception("b", "desks", "printers", "tcp/800-1000", "block"),
    ];
    let ordered = |first: usize| {
        let mut both = rules.to_vec();
        both[first].before = texts(&[rules[1 - first].name.value.as_str()]);
        with_limits(blocking(both), |limits| limits.duplicates = no())
    };
    with_both([&ordered(0), &ordered(1)], Form::OneList, |old, new, rules| {
        let way = changeover((old, rules[0]), (new, rules[1]));
        assert!(!edits(&way).contains(&"insert again"), "{:?}", edits(&way));
        assert!(way.is_safe(), "{way:?}");
        let packets = watched([old.plan(), new.plan()], rules, 7, 2_000);
        assert!(hold(&way, new.plan(), rules, &packets) > 0);
    })
    .expect("both have a meaning");
}

/// A row goes down, past one that goes: what falls from the first to the second would be blocked for a moment.
#[test]
fn where_no_row_may_stand_twice_as_few_as_can_be_change_at_once() {
    let moving = draft::Exception {
        before: texts(&["gone"]),
        ..exception("moving", "desks", "printers", "tcp/1-900", "allow")
    };
    let stays = |name: &str, to: &str| exception(name, "tills", to, "tcp/443", "allow");
    let stay = [stays("one", "printers"), stays("two", "guests")];
    let gone = exception("gone", "desks", "printers", "tcp/800-1000", "reject");
    let [one, two] = stay;
    let old = blocking(vec![moving.clone(), one.clone(), two.clone(), gone]);
    let new = blocking(vec![one, two, draft::Exception { before: Vec::new(), ..moving }]);
    with_both([&old, &new], Form::OneList, |old, new, rules| {
        let way = changeover((old, rules[0]), (new, rules[1]));
        assert!(edits(&way).contains(&"insert again") && way.is_safe(), "{:?}", edits(&way));
        let packets = watched([old.plan(), new.plan()], rules, 7, 500);
        hold(&way, new.plan(), rules, &packets);
    })
    .expect("both have a meaning");
    let new = with_limits(new, |limits| limits.duplicates = no());
    with_both([&old, &new], Form::OneList, |old, new, rules| {
        let way = changeover((old, rules[0]), (new, rules[1]));
        assert!(!edits(&way).contains(&"insert again"), "{:?}", edits(&way));
        let at_once: Vec<_> = way.steps.iter().filter(|step| step.together.is_some()).collect();
        let [step] = at_once.as_slice() else { panic!("{:?}", edits(&way)) };
        assert_eq!(step.edits.len(), 3, "{:?}", step.edits);
        let interim = step.together.as_ref().expect("it has a reason");
        assert_eq!((interim.before, interim.after), (interim.after, interim.before));
        assert_ne!(interim.before, interim.between);
        let packets = watched([old.plan(), new.plan()], rules, 7, 500);
        hold(&way, new.plan(), rules, &packets);
    })
    .expect("both have a meaning");
}

#[test]
fn where_rows_are_only_added_at_the_end_none_stands_above_another() {
    let old = blocking(vec![exception("print", "desks", "printers", "tcp/631", "allow")]);
    let mut new = old.clone();
    new.exceptions.push(exception("copy", "desks", "printers", "tcp/80", "allow"));
    let new = with_limits(new, |limits| limits.insert = no());
    with_both([&old, &new], Form::OneList, |old, new, rules| {
        let way = changeover((old, rules[0]), (new, rules[1]));
        let above = way.steps.iter().flat_map(|step| &step.edits).any(|edit| {
            matches!(edit, Edit::Insert { above: Some(_), .. } | Edit::Move { above: Some(_), .. })
        });
        assert!(!above && way.is_safe(), "{:?}", edits(&way));
        let packets = watched([old.plan(), new.plan()], rules, 3, 2_000);
        assert!(hold(&way, new.plan(), rules, &packets) > 0);
    })
    .expect("both have a meaning");
}

/// Rules without those that let replies back, by a mask that is read again and again.
fn without_replies<'p>(rules: &RuleSet<'p>, mask: u64) -> RuleSet<'p> {
    let mut fewer = rules.clone();
    let mut place = 0;
    for list in &mut fewer.lists {
        list.rules.retain(|rule| {
            place += usize::from(rule.is_for_replies());
            !rule.is_for_replies() || mask >> (place % 64) & 1 == 0
        });
    }
    fewer
}

/// Without state a conversation needs the rule for its reply, too. Here old and new each let one of the two through, and
/// in between both must not pass.
#[test]
fn without_state_nothing_is_opened_before_what_closes_is_closed() {
    let old = blocking(vec![exception("back", "printers", "desks", "udp", "allow")]);
    let new = blocking(vec![exception("there", "desks", "printers", "udp/5000-5100", "allow")]);
    with_both([&old, &new], Form::PerInterface, |old, new, rules| {
        let rules = rules.map(|rules| without_replies(rules, u64::MAX));
        let rules = [&rules[0], &rules[1]];
        let way = changeover((old, rules[0]), (new, rules[1]));
        let unsafe_step = way.steps.iter().find_map(|step| step.together.as_ref());
        assert!(way.is_safe(), "{:?} {unsafe_step:?} {:?}", edits(&way), way.surroundings);
        assert!(edits(&way).contains(&"block"), "{:?}", edits(&way));
        let closed = way.steps.iter().rposition(|step| step.changed.closes).expect("it closes");
        let opened = way.steps.iter().position(|step| step.changed.opens).expect("it opens");
        assert!(closed < opened, "{:?}", edits(&way));
        let packets = watched([old.plan(), new.plan()], rules, 11, 3_000);
        assert!(hold(&way, new.plan(), rules, &packets) > 0);
    })
    .expect("both have a meaning");
}

/// Old rows deleted first, or all new ones in their order from the bottom up: what people do. That it can be seen to be
/// wrong is what makes the other tests worth something.
#[test]
fn orders_that_are_not_safe_are_seen_not_to_be() {
    let old = blocking(vec![
        exception("narrow", "desks", "printers", "tcp/631", "block"),
        exception("wide", "desks", "printers", "tcp/600-700", "allow"),
    ]);
    let new = blocking(vec![
        exception("narrow-2", "desks", "printers", "tcp/630-631", "block"),
        exception("wide", "desks", "printers", "tcp/600-700", "allow"),
    ]);
    with_both([&old, &new], Form::OneList, |old, new, rules| {
        let way = changeover((old, rules[0]), (new, rules[1]));
        assert_eq!(edits(&way), ["insert", "delete"]);
    })
    .expect("both have a meaning");
    let seen = std::panic::catch_unwind(|| {
        with_both([&old, &new], Form::OneList, |old, new, rules| {
            let way = typed::deleted_first(&changeover((old, rules[0]), (new, rules[1])));
            let packets = watched([old.plan(), new.plan()], rules, 5, 3_000);
            hold(&way, new.plan(), rules, &packets)
        });
    });
    assert!(seen.is_err(), "deleting first lets through what both block");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 120, ..ProptestConfig::default() })]

    /// Thousands of changes, walked through list by list.
    #[test]
    fn no_packet_ever_fares_as_in_neither_list(
        draft in any_draft(),
        changes in prop::collection::vec(any_change(), 1..5),
        form in 0..4usize,
        limits in 0..4u8,
        lost in prop_oneof![Just([0, 0]), any::<[u64; 2]>()],
        seed in any::<u64>(),
    ) {
        let mut changed = draft.clone();
        changes.iter().for_each(|change| change.make(&mut changed));
        if limits & 1 == 1 { changed.gateway.limits.insert = no(); }
        if limits & 2 == 2 { changed.gateway.limits.duplicates = no(); }
        if resolve(changed.clone()).is_err() { return Ok(()) }
        with_both([&draft, &changed], Form::ALL[form], |old, new, rules| {
            let rules = [without_replies(rules[0], lost[0]), without_replies(rules[1], lost[1])];
            let rules = [&rules[0], &rules[1]];
            let way = changeover((old, rules[0]), (new, rules[1]));
            if limits == 0 && lost == [0, 0] {
                let together = way.steps.iter().find(|step| step.together.is_some());
                let why = (&way.surroundings, &way.conversation, together);
                // Without state, rules that block half of a conversation meanwhile can cut another one. That is said then.
                let stateless = Form::ALL[form] == Form::PerInterface;
                let said = why.0.is_none() && why.2.is_none() && stateless && way.conversation.is_some();
                prop_assert!(way.is_safe() || said, "{why:?}");
            }
            let packets = watched([old.plan(), new.plan()], rules, seed, 250);
            hold(&way, new.plan(), rules, &packets);
            Ok(())
        }).unwrap_or(Ok(()))?;
    }
}
