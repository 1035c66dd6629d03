//! The form `ranked`: rules first, and where none matches, a network of higher rank reaches one of lower
//! rank by itself. Only what differs from that becomes a rule.

use super::ranks::{Default, Ranks, said, ways};
use super::reachability::{can_turn_round, reached_by, with_translated};
use super::{
    CompileContext, Endpoint, Matches, Otherwise, Rule, RuleId, RuleList, RuleSet, Setting, Stage,
    one_list, outer_interfaces,
};
use crate::plan::{Action, Form, NetworkId, Plan, ZoneId};
use crate::space::{AddressSet, Interface, IntervalSet, Match};
use crate::verdict::Cause;

pub(super) fn compile<'p>(context: &CompileContext<'p>) -> RuleSet<'p> {
    let plan = context.plan;
    let ranks = Ranks::choose(context);
    let needed = |rule: &&Rule| match rule.cause {
        Cause::Cell(from, to) => needs_rule(plan, &ranks, from, to),
        Cause::Unmatched => false,
        _ => true,
    };
    let mut through: Vec<Rule> = context.base.through.iter().filter(needed).cloned().collect();
    through.extend(unspoken(context, &ranks));
    let mut lists = one_list::lists(context, through);
    let place = lists.iter().position(|list| list.stage == Stage::Through).unwrap_or(0);
    let covers = lists[place].covers.clone();
    lists[place].otherwise = Otherwise::GoOn;
    let by_itself = |name: &str, rules, otherwise| RuleList {
        name: name.to_owned(),
        implied: true,
        ..RuleList::of_stage(Stage::Through, rules, otherwise, covers.clone())
    };
    lists.insert(
        place + 1,
        by_itself("by-rank", ways_of(plan, &ranks, Default::Passes), Otherwise::Block),
    );
    let cut_off = ways_of(plan, &ranks, Default::CutOff);
    if !cut_off.is_empty() {
        lists.insert(place, by_itself("cut-off", cut_off, Otherwise::GoOn));
    }
    let mut rules = context.finish(Form::Ranked, lists);
    rules.settings = settings(plan, &ranks);
    rules
}

fn settings(plan: &Plan, ranks: &Ranks) -> Vec<Setting> {
    let network = |id: NetworkId| Setting::Rank {
        of: plan.network(id).name.to_string(),
        rank: ranks.of(plan, plan.network_interface(id)),
    };
    let mut settings: Vec<Setting> = plan.network_ids().map(network).collect();
    if !plan.uplinks().is_empty() {
        settings.push(Setting::Rank { of: "uplinks".to_owned(), rank: 0 });
    }
    settings.extend([Setting::EqualsReach(ranks.equals), Setting::TurnRound(ranks.turning)]);
    settings
}

fn needs_rule(plan: &Plan, ranks: &Ranks, from: ZoneId, to: ZoneId) -> bool {
    let (action, log) = said(plan, from, to);
    let differs =
        |(enters, leaves): &(Interface, Interface)| match ranks.default(plan, *enters, *leaves) {
            Default::Passes => action != Action::Allow || log,
            Default::Blocked | Default::CutOff => action != Action::Block || log,
        };
    ways(plan, from, to).iter().any(differs)
}

/// Rules for what the matrix does not speak of, where rank would let it through or the log would miss it.
fn unspoken(context: &CompileContext<'_>, ranks: &Ranks) -> Vec<Rule> {
    let plan = context.plan;
    let Some(rest) = context.base.through.last().filter(|rule| rule.cause == Cause::Unmatched)
    else {
        return Vec::new();
    };
    let mut rules = Vec::new();
    for from in plan.zone_ids() {
        for to in plan.zone_ids() {
            let open = plan.matrix().cell(from, to).action.is_none();
            if !open || !needs_rule(plan, ranks, from, to) {
                continue;
            }
            let (from_name, to_name) = (plan.zone(from).name.as_str(), plan.zone(to).name.as_str());
            for (enters, source) in super::reachability::entries(plan, from) {
                let enters = with_translated(plan, enters);
                let destination = plan.zone_prefixes(to);
                let matches = Match {
                    enters,
                    source,
                    destination: destination.clone(),
                    ..Match::everything()
                };
                rules.push(Rule {
                    id: RuleId::new("unmatched").in_list(format!("{from_name}>{to_name}")),
                    name: format!("{} {from_name} to {to_name}", rest.action.word()),
                    from: Endpoint::named(from_name),
                    to: Endpoint::named(to_name),
                    matches: Matches::First(matches),
                    ..rest.clone()
                });
            }
        }
    }
    rules
}

/// What the gateway does by itself, as rules that nobody has to enter.
fn ways_of(plan: &Plan, ranks: &Ranks, wanted: Default) -> Vec<Rule> {
    let mut rules = Vec::new();
    for enters in outer_interfaces(plan) {
        let leaves = |interface: &Interface| {
            let there = *interface != enters || can_turn_round(plan, enters);
            there && ranks.default(plan, enters, *interface) == wanted
        };
        let destination: AddressSet = outer_interfaces(plan)
            .filter(leaves)
            .map(|interface| reached_by(plan, interface))
            .collect();
        if destination.is_empty() {
            continue;
        }
        let names: Vec<&str> =
            outer_interfaces(plan).filter(leaves).map(|l| plan.interface_name(l)).collect();
        let name = plan.interface_name(enters);
        let (action, word) = match wanted {
            Default::Passes => (Action::Allow, "rank"),
            Default::Blocked | Default::CutOff => (Action::Block, "cut-off"),
        };
        let interfaces = with_translated(plan, IntervalSet::point(enters));
        let matches = Match { enters: interfaces, destination, ..Match::everything() };
        rules.push(Rule {
            number: 0,
            id: RuleId::new(format!("{word}.{name}")),
            name: format!("{} {name} to {}", action.word(), names.join(", ")),
            reason: "The gateway does this by itself".to_owned(),
            from: Endpoint::named(name),
            source: Endpoint::Any,
            to: Endpoint::Named(names.into_iter().map(str::to_owned).collect()),
            destination: Endpoint::Any,
            service: "any".to_owned(),
            ports: vec!["any".to_owned()],
            action,
            log: false,
            hours: None,
            limit_mbps: None,
            cause: Cause::Unmatched,
            also: Vec::new(),
            matches: Matches::First(matches),
        });
    }
    rules
}
