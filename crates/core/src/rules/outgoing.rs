//! Traffic that the gateway itself begins. It passes no list on its way in; where the plan says something about it,
//! there is a list for what leaves by the interfaces concerned.

use super::{
    Action, CompileContext, Endpoint, Matches, Rule, RuleId, RuleList, implicit_traffic,
    outer_interfaces, reachability,
};
use crate::plan::Plan;
use crate::space::{AddressSet, IntervalSet, Match, PacketSet};
use crate::verdict::Cause;

pub(super) fn lists(context: &CompileContext<'_>) -> Vec<RuleList> {
    let plan = context.plan;
    let own = IntervalSet::point(plan.gateway_interface());
    let mut lists = Vec::new();
    for interface in outer_interfaces(plan) {
        let destination = context.reached_by(interface).clone();
        let name = plan.interface_name(interface);
        let here = context.base.begun.iter().filter(|rule| {
            rule.packets().is_some_and(|m| !m.destination.is_disjoint(&destination))
        });
        let mut rules: Vec<Rule> =
            here.map(|rule| Rule { id: rule.id.beside(name), ..rule.clone() }).collect();
        if rules.is_empty() {
            continue;
        }
        let covers =
            Match { enters: own.clone(), destination: destination.clone(), ..Match::everything() };
        rules.push(everything_else(name, covers.clone()));
        lists.push(RuleList::on_interface(plan, interface, true, rules, PacketSet::from(covers)));
    }
    let mut rest = RuleList::of_stage(
        super::Stage::FromGateway,
        Vec::new(),
        super::Otherwise::Allow,
        PacketSet::from(implicit_traffic::entering(plan.gateway_interface())),
    );
    rest.implied = true;
    lists.push(rest);
    lists
}

/// What the gateway itself begins and no interface leads to.
pub(super) fn leaves_nowhere(plan: &Plan) -> Match {
    let reached: AddressSet =
        outer_interfaces(plan).map(|interface| reachability::reached_by(plan, interface)).collect();
    Match {
        destination: reached.complement(),
        ..implicit_traffic::entering(plan.gateway_interface())
    }
}

/// A list that is there for what the gateway begins lets everything else out.
fn everything_else(name: &str, matches: Match) -> Rule {
    Rule {
        number: 0,
        id: RuleId::new("from_gateway").in_list(name),
        name: "allow everything else".to_owned(),
        reason: "Incoming traffic is decided where it enters; the gateway itself may open any connection"
            .to_owned(),
        from: Endpoint::Any,
        source: Endpoint::Any,
        to: Endpoint::named(name),
        destination: Endpoint::Any,
        service: "any".to_owned(),
        ports: vec!["any".to_owned()],
        action: Action::Allow,
        log: false,
        hours: None,
        limit_mbps: None,
        cause: Cause::FromGateway,
        also: Vec::new(),
        matches: Matches::First(matches),
    }
}
