//! What the gateway itself begins passes no list on its way in. Where the plan says something about it,
//! there is a list for what goes out by the interfaces concerned.

use super::per_interface::named_list;
use super::{Action, Job, Rule, RuleList, frame, outer_legs, ways};
use crate::plan::Plan;
use crate::space::{AddressSet, IntervalSet, Match, PacketSet};
use crate::verdict::Cause;

pub(super) fn lists(job: &Job<'_>) -> Vec<RuleList> {
    let plan = job.plan;
    let own = IntervalSet::point(plan.gateway_leg());
    let mut lists = Vec::new();
    for leg in outer_legs(plan) {
        let destination = job.reached_by(leg).clone();
        let name = plan.leg_name(leg);
        let here = job.base.begun.iter().filter(|rule| {
            rule.matches.as_ref().is_some_and(|m| !m.destination.is_disjoint(&destination))
        });
        let mut rules: Vec<Rule> =
            here.map(|rule| Rule { id: format!("{}@{name}", rule.id), ..rule.clone() }).collect();
        if rules.is_empty() {
            continue;
        }
        let covers =
            Match { enters: own.clone(), destination: destination.clone(), ..Match::everything() };
        rules.push(everything_else(name, covers.clone()));
        lists.push(named_list(plan, leg, true, rules, PacketSet::from(covers)));
    }
    let mut rest = RuleList::of_stage(
        super::Stage::FromGateway,
        Vec::new(),
        super::Otherwise::Allow,
        PacketSet::from(frame::entering(plan.gateway_leg())),
    );
    rest.implied = true;
    lists.push(rest);
    lists
}

/// What the gateway itself begins and no interface leads to.
pub(super) fn leaves_nowhere(plan: &Plan) -> Match {
    let reached: AddressSet = outer_legs(plan).map(|leg| ways::reached_by(plan, leg)).collect();
    Match { destination: reached.complement(), ..frame::entering(plan.gateway_leg()) }
}

/// A list that is there for what the gateway begins lets everything else out.
fn everything_else(name: &str, matches: Match) -> Rule {
    Rule {
        number: 0,
        id: format!("from_gateway@{name}"),
        name: "everything else goes out".to_owned(),
        reason: "What came in was decided there; the gateway itself may begin what it likes"
            .to_owned(),
        from: "any".to_owned(),
        source: "any".to_owned(),
        to: name.to_owned(),
        destination: "any".to_owned(),
        service: "any".to_owned(),
        ports: vec!["any".to_owned()],
        action: Action::Allow,
        log: false,
        hours: None,
        limit_mbps: None,
        cause: Cause::FromGateway,
        matches: Some(matches),
        back: None,
    }
}
