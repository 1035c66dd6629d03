//! From a single list that somebody else has written to the rules of a plan: walked through row by row.

mod model;

use bastium_core::changeover::{Changeover, Edit, changeover};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Form, resolve};
use bastium_core::rules::{self, HeldList, Matches, Otherwise, Rule, RuleList, RuleSet, Stage};
use bastium_core::space::{Packet, PacketSet};
use model::packets::{Borders, packet};
use model::{TODAY, any_draft};
use proptest::prelude::*;

/// A row of the gateway's list, with what it decides there.
#[derive(Clone)]
struct Row {
    rule: Rule,
    packets: PacketSet,
}

/// What happens to a packet: the action, and whether it is logged.
type Fate = (Action, bool);

/// A gateway with one list for what comes from outside it.
struct Gateway<'r> {
    rows: Vec<Row>,
    /// The lists of the plan that the single one stands for.
    lists: Vec<&'r RuleList>,
}

fn packets_of(rule: &Rule) -> PacketSet {
    rule.matches.products().into_iter().map(|(product, _)| product.clone()).collect()
}

impl Gateway<'_> {
    fn fate(&self, packet: &Packet) -> Fate {
        let row = self.rows.iter().find(|row| row.packets.contains(packet));
        row.map_or((Action::Block, false), |row| (row.rule.action, row.rule.log))
    }

    /// A row as it is typed: what it is for is what its list in the plan is asked about.
    fn row(&self, rule: &Rule) -> Row {
        let own = self.lists.iter().find(|list| list.rules.iter().any(|one| one.id == rule.id));
        let packets = packets_of(rule);
        let packets = own.map_or(packets.clone(), |list| packets.intersection(list.packets()));
        Row { rule: rule.clone(), packets }
    }

    fn make(&mut self, edit: &Edit<'_>) {
        match edit {
            Edit::Insert { at, rule, .. } => self.rows.insert(at.place, self.row(rule)),
            Edit::Alter { at, new, .. } | Edit::Rename { at, new, .. } => {
                self.rows[at.place] = self.row(new);
            }
            Edit::Move { from, to, rule, .. } => {
                self.rows.remove(from.place);
                self.rows.insert(to.place, self.row(rule));
            }
            Edit::Delete { at, rule } => {
                let gone = self.rows.remove(at.place);
                assert_eq!(gone.rule.id, rule.id);
            }
            Edit::Set { .. } => {}
            Edit::Attach { .. } | Edit::Detach { .. } => panic!("it has one list: {edit:?}"),
        }
    }
}

/// A list that somebody might have: the plan's rules in one list, some gone, some in another place, some the other way
/// round.
fn written(rules: &RuleSet, among: &[usize], mut seed: u64) -> Vec<Rule> {
    let mut next = |most: usize| {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        (seed >> 33) as usize % most
    };
    let mut rows: Vec<Rule> = Vec::new();
    for list in among.iter().map(|place| &rules.lists[*place]) {
        for rule in &list.rules {
            let within = packets_of(rule).intersection(list.packets());
            let products = within.products().map(|product| (product, None)).collect();
            let (matches, kind) = (Matches::Written(products), next(7));
            let name = rules::RuleId::new(format!("row {}", rows.len()));
            let effect = (rule.action, kind == 6, None);
            let row = Rule::typed(name, matches, effect, None, None);
            let place = rows.len() - next(rows.len() + 1) * usize::from([2, 4].contains(&kind));
            match kind {
                0 => {}
                // A row that says the plan's rule is that rule.
                1 | 3 => rows.push(rule.clone()),
                4 => rows.insert(place, rule.clone()),
                _ => rows.insert(place, row),
            }
        }
    }
    rows
}

fn walk(way: &Changeover<'_>, mut gateway: Gateway<'_>, goal: &Gateway<'_>, packets: &[Packet]) {
    let fates = |gateway: &Gateway<'_>| -> Vec<Fate> {
        packets.iter().map(|packet| gateway.fate(packet)).collect()
    };
    let (old, new) = (fates(&gateway), fates(goal));
    let mut before = old.clone();
    for step in &way.steps {
        let of_list = |edit: &&Edit<'_>| match edit {
            Edit::Insert { at, .. } | Edit::Delete { at, .. } | Edit::Alter { at, .. } => {
                at.list == Stage::Whole.word()
            }
            _ => true,
        };
        step.edits.iter().filter(of_list).for_each(|edit| gateway.make(edit));
        let now = fates(&gateway);
        for (place, fate) in now.iter().enumerate() {
            let (was, old, new) = (before[place], old[place], new[place]);
            assert!(*fate == old || *fate == new, "{} {:?}", packets[place].enters.0, step.edits);
            assert!(*fate == was || was == old, "it changed twice: {:?}", step.edits);
        }
        before = now;
    }
    assert_eq!(before, new);
    let ids = |gateway: &Gateway<'_>| -> Vec<String> {
        gateway.rows.iter().map(|row| row.rule.id.to_string()).collect()
    };
    assert_eq!(ids(&gateway), ids(goal));
}

/// Walks from rows in a single list to the plan's rules.
fn becomes_the_plans(
    meaning: &Meaning<'_>,
    rules: &RuleSet,
    among: &[usize],
    rows: Vec<Rule>,
    seed: u64,
) {
    let list = HeldList { rules: rows.clone(), otherwise: Otherwise::Block };
    let held = rules.held_as_one(list, among);
    assert_eq!(rules.stood_for_in(&held), among);
    let way = changeover((meaning, &held), (meaning, rules));
    assert!(way.is_safe());
    let lists: Vec<&RuleList> = among.iter().map(|place| &rules.lists[*place]).collect();
    let goal = Gateway { rows: Vec::new(), lists: lists.clone() };
    let own = |rules: &[Rule]| rules.iter().map(|rule| goal.row(rule)).collect::<Vec<_>>();
    let gateway = Gateway { rows: own(&rows), lists: lists.clone() };
    let new: Vec<Rule> = lists.iter().flat_map(|list| list.rules.clone()).collect();
    let goal = Gateway { rows: own(&new), lists: lists.clone() };
    let plan = meaning.plan();
    let (borders, mut random) = (Borders::of(plan, rules), seed);
    let packets = (0..400).map(|_| packet(&borders, plan, &mut random));
    let outer = |packet: &Packet| packet.enters != plan.gateway_interface();
    walk(&way, gateway, &goal, &packets.filter(outer).collect::<Vec<_>>());
}

/// The lists for what comes from outside the gateway.
fn from_outside(rules: &RuleSet) -> Vec<usize> {
    let outside = |place: &usize| rules.lists[*place].stage != Stage::FromGateway;
    (0..rules.lists.len()).filter(outside).collect()
}

/// The last rules of two lists block all that is left, in the same words: a gateway that has the one has not the other.
#[test]
fn rules_that_say_the_same_for_different_lists_are_told_apart() {
    let plan = resolve(model::uniform("block", true)).expect("a plan");
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    let rules = rules::in_form(&meaning, Form::OneList).expect("rules");
    let among = from_outside(&rules);
    let last =
        |stage| rules.list(stage).and_then(|list| list.rules.last()).expect("a rule").clone();
    let (to_gateway, through) = (last(Stage::ToGateway), last(Stage::Through));
    assert_eq!(format!("{:?}", to_gateway.matches), format!("{:?}", through.matches));
    for rows in [vec![through.clone()], vec![to_gateway.clone()], vec![through, to_gateway]] {
        becomes_the_plans(&meaning, &rules, &among, rows, 5);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 150, ..ProptestConfig::default() })]

    #[test]
    fn a_single_list_becomes_that_of_the_plan_safely(draft in any_draft(), seed in any::<u64>()) {
        let Ok(plan) = resolve(draft) else { return Ok(()) };
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let Ok(rules) = rules::in_form(&meaning, Form::OneList) else { return Ok(()) };
        let among = from_outside(&rules);
        let rows = written(&rules, &among, seed);
        becomes_the_plans(&meaning, &rules, &among, rows, seed);
    }
}
