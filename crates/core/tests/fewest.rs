//! The fewest rules: the same traffic, no rule too many, and none that an engineer would miss.

mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, Plan, Rows, draft, resolve};
use bastium_core::proof;
use bastium_core::rules::{self, Rule, RuleSet, Stage};
use bastium_core::space::PacketSet;
use bastium_core::verdict::Cause;
use model::{TODAY, any_draft, exception, text, uniform};
use proptest::prelude::*;

fn plan(exceptions: Vec<draft::Exception>) -> Plan {
    let mut draft = uniform("block", true);
    draft.exceptions = exceptions;
    resolve(draft).expect("a plan")
}

fn compiled(plan: &Plan, rows: Rows) -> RuleSet<'_> {
    let meaning = Meaning::new(plan, TODAY).expect("a meaning");
    rules::in_form_with(&meaning, Form::OneList, rows).expect("a list says everything")
}

/// The ids of what the gateway passes on, the rest apart.
fn through(rules: &RuleSet) -> Vec<String> {
    let list = rules.list(Stage::Through).expect("the list is there");
    let own = list.rules.iter().filter(|rule| rule.cause != Cause::Unmatched);
    own.map(|rule| rule.id.to_string()).collect()
}

#[test]
fn what_is_blocked_and_logged_by_the_rest_has_no_rule() {
    let print = exception("print", "desks", "printers", "tcp/631", "allow");
    let site = plan(vec![print]);
    let rules = compiled(&site, Rows::Fewest);
    assert_eq!(through(&rules), ["exception.print"]);
    assert!(rules.left_out.iter().all(|rule| matches!(rule.cause, Cause::Cell(..))));
    assert!(!rules.left_out.is_empty());
}

#[test]
fn a_rule_that_logs_otherwise_than_the_rest_stays() {
    let quiet = draft::Exception {
        log: Some(bastium_core::source::Located { value: false, at: text("").at }),
        ..exception("quiet", "guests", "tills", "tcp/23", "block")
    };
    let site = plan(vec![quiet]);
    let rules = compiled(&site, Rows::Fewest);
    assert_eq!(through(&rules), ["exception.quiet"]);
}

#[test]
fn a_block_above_something_wider_that_is_allowed_stays() {
    let narrow = exception("narrow", "reception", "printers", "tcp/631", "block");
    let wide = exception("wide", "desks", "printers", "tcp/631", "allow");
    let site = plan(vec![wide, narrow]);
    let rules = compiled(&site, Rows::Fewest);
    assert_eq!(through(&rules), ["exception.narrow", "exception.wide"]);
}

#[test]
fn rules_that_differ_in_their_sources_are_one() {
    let one = exception("one", "desks", "printers", "tcp/631", "allow");
    let two = exception("two", "tills", "printers", "tcp/631", "allow");
    let site = plan(vec![one, two]);
    let rules = compiled(&site, Rows::Fewest);
    assert_eq!(through(&rules), ["exception.one+"]);
    let list = rules.list(Stage::Through).expect("the list");
    let causes = list.rules[0].causes().filter(|cause| cause.exception().is_some()).count();
    assert_eq!(causes, 2, "both entries are behind it");
    assert_eq!(list.rules[0].source.to_string(), "desks, tills");
}

/// What stands between the two blocks a part of the lower one: they cannot be joined above it. Below it, the upper one
/// would be blocked too.
#[test]
fn rules_with_something_between_them_are_not_joined() {
    let upper = exception("upper", "reception", "printers", "tcp/631", "allow");
    let between = exception("between", "desks", "printers", "tcp/600-700", "block");
    let lower = exception("lower", "staff", "printers", "any", "allow");
    let site = plan(vec![upper, between, lower]);
    let rules = compiled(&site, Rows::Fewest);
    assert_eq!(through(&rules), ["exception.upper", "exception.between", "exception.lower"]);
}

#[test]
fn rates_and_hours_keep_rules_apart() {
    let timed = |name: &str, from: &str| draft::Exception {
        limit_mbps: Some(bastium_core::source::Located { value: 5.0, at: text("").at }),
        ..exception(name, from, "printers", "tcp/631", "allow")
    };
    let site = plan(vec![timed("one", "desks"), timed("two", "tills")]);
    let rules = compiled(&site, Rows::Fewest);
    assert_eq!(through(&rules), ["exception.one", "exception.two"]);
    // Each counts its own packets, also where one lies in the other.
    let site = plan(vec![timed("in", "reception"), timed("out", "desks")]);
    let rules = compiled(&site, Rows::Fewest);
    assert_eq!(through(&rules), ["exception.in", "exception.out"]);
}

#[test]
fn anti_spoofing_at_all_interfaces_is_one_row_and_never_left_out() {
    let plan = plan(Vec::new());
    let (few, all) = (compiled(&plan, Rows::Fewest), compiled(&plan, Rows::EveryCell));
    let spoofed = |rules: &RuleSet| {
        rules.rules().filter(|rule| matches!(rule.cause, Cause::Spoofed(..))).count()
    };
    assert_eq!(spoofed(&few), spoofed(&all));
    let rows = few.rows().filter(|row| row.len() > 1).count();
    assert_eq!(rows, 1);
    assert!(all.rows().all(|row| row.len() == 1));
}

/// Lists with their rules in the other order, but for those that stand first or last in any case.
fn turned_round<'p>(rules: &RuleSet<'p>) -> RuleSet<'p> {
    let mut turned = rules.clone();
    for list in &mut turned.lists {
        let moves = |rule: &Rule| {
            !matches!(rule.cause, Cause::Reply | Cause::Spoofed(..) | Cause::Unmatched)
        };
        let (mut inner, outer): (Vec<Rule>, Vec<Rule>) = list.rules.drain(..).partition(moves);
        inner.reverse();
        let (last, first): (Vec<Rule>, Vec<Rule>) =
            outer.into_iter().partition(|rule| rule.cause == Cause::Unmatched);
        list.rules = first.into_iter().chain(inner).chain(last).collect();
    }
    turned
}

/// The places of rules that may be left out if they change nothing.
fn optional(rules: &RuleSet) -> Vec<(usize, usize)> {
    let lists = rules.lists.iter().enumerate().filter(|(_, list)| !list.implied);
    let all = lists.flat_map(|(number, list)| {
        list.rules.iter().enumerate().map(move |(place, rule)| ((number, place), rule))
    });
    let stays = |rule: &Rule| {
        matches!(rule.cause, Cause::Unmatched | Cause::Spoofed(..))
            || rule.limit_mbps.is_some()
            || rule.first_packets().is_none()
    };
    all.filter(|(_, rule)| !stays(rule)).map(|(place, _)| place).collect()
}

/// Whether some packet, possible or not, fares otherwise without a rule. In a list without state, one that only looks
/// like a reply may: where a rule for replies has a part of the packets, the rule is not asked about.
fn is_needed(rules: &RuleSet, list: usize, place: usize) -> bool {
    let rule = &rules.lists[list].rules[place];
    let packets = PacketSet::from(rule.first_packets().expect("it is for first packets"));
    let mut without = rules.clone();
    without.lists[list].rules.remove(place);
    let own = rules.parts(&packets).into_iter();
    let mut own = own.filter(|(_, outcome)| outcome.rule.is_some_and(|one| one.id == rule.id));
    let replies = rules.rules().filter(|rule| rule.is_for_replies());
    let mut replies = replies.filter_map(|rule| rule.packets().map(PacketSet::from));
    replies.any(|replies| !replies.is_disjoint(&packets))
        || own.any(|(part, outcome)| {
            without.parts(&part).iter().any(|(_, other)| {
                let limit = other.rule.is_some_and(|rule| rule.limit_mbps.is_some());
                limit || (other.action, other.logged) != (outcome.action, outcome.logged)
            })
        })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 96, ..ProptestConfig::default() })]

    /// In every form: the same for every packet, never more to type, and nothing more that could be left out.
    #[test]
    fn the_fewest_rules_do_the_same_and_none_is_too_many(draft in any_draft()) {
        let plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        for form in Form::ALL {
            let Ok(few) = rules::in_form_with(&meaning, form, Rows::Fewest) else { continue };
            let all = rules::in_form_with(&meaning, form, Rows::EveryCell).expect("as well");
            let differences = proof::differences(&meaning, &few, &meaning.universe());
            prop_assert!(differences.is_empty(), "{}: {differences:?}", form.word());
            prop_assert!(few.rows().count() <= all.rows().count(), "{}", form.word());
            let spoofed = |rules: &RuleSet| rules.rules().filter(|r| matches!(r.cause, Cause::Spoofed(..))).count();
            prop_assert_eq!(spoofed(&few), spoofed(&all), "{}: none is left out", form.word());
            prop_assert!(few.values() <= all.values(), "{}: more to type", form.word());
            for (list, place) in optional(&few) {
                prop_assert!(is_needed(&few, list, place), "{}: {} is not needed", form.word(),
                    few.lists[list].rules[place].id);
            }
        }
    }

    /// A list in which no rule relies on another above it, those against spoofing apart, has at least as many rows as the
    /// bound says: such lists are found by turning the others round.
    #[test]
    fn no_list_that_does_not_build_on_its_order_is_shorter_than_the_bound(draft in any_draft()) {
        let plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let lists = Rows::ALL.map(|rows| compiled(&plan, rows));
        for rules in &lists {
            if !proof::differences(&meaning, &turned_round(rules), &meaning.universe()).is_empty() {
                continue;
            }
            // Whatever list the bound is taken from, it holds for this one.
            for other in &lists {
                let least = rules::fewest::least(other).expect("the list is short");
                prop_assert!(rules.rows().count() >= least, "{} rows, {least}", rules.rows().count());
            }
        }
    }

    /// The replies of every conversation that is allowed come back as before, and no more gets through unasked.
    #[test]
    fn without_state_replies_pass_as_before(draft in any_draft()) {
        let plan = resolve(draft).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let form = |rows| rules::in_form_with(&meaning, Form::PerInterface, rows).ok();
        let (Some(few), Some(all)) = (form(Rows::Fewest), form(Rows::EveryCell)) else { return Ok(()) };
        prop_assert_eq!(
            proof::answers(&meaning, &few).unanswered.is_some(),
            proof::answers(&meaning, &all).unanswered.is_some()
        );
        for leak in proof::leaks(&meaning, &few) {
            let same = |other: &proof::Leak<'_>| other.packets.contains(
                &leak.packets.sample().expect("a leak has a packet"));
            prop_assert!(proof::leaks(&meaning, &all).iter().any(same), "{:?} leaks", leak.packets);
        }
    }
}

/// That the rest of a list is long decides nothing about the proof: what is spoofed is looked at with few of the rules
/// below it.
#[test]
fn many_rules_below_the_first_ones_leave_nothing_undecided() {
    let ports = (0..40).map(|n| (format!("e{n}"), format!("tcp/{}", 2 * n + 1)));
    let many = ports.map(|(name, port)| exception(&name, "desks", "printers", &port, "allow"));
    let plan = plan(many.collect());
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    for rows in Rows::ALL {
        let rules = compiled(&plan, rows);
        let proof = proof::prove(&meaning, &rules);
        assert!(proof.holds(), "{} undecided", proof.undecided);
        assert_eq!(proof.singles.undecided, 0);
    }
}
