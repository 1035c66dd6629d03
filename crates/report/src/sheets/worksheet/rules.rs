//! The rules as they are entered: each with the names of objects that were made before.

use super::objects::{ANY, Objects};
use crate::sheets::rules::entering;
use bastium_core::plan::{Plan, ZoneId};
use bastium_core::rules::{Applies, Matches, Rule, RuleList, RuleSet};
use bastium_core::space::{Interface, IntervalSet};

/// All rules, with the objects that they name.
#[derive(Debug)]
pub(super) struct Entered<'p> {
    pub(super) plan: &'p Plan,
    pub(super) objects: Objects<'p>,
    pub(super) lists: Vec<EnteredList>,
}

/// One list.
#[derive(Debug)]
pub(super) struct EnteredList {
    pub(super) title: String,
    pub(super) rules: Vec<EnteredRule>,
}

/// One rule.
#[derive(Debug)]
pub(super) struct EnteredRule {
    pub(super) number: u32,
    pub(super) action: String,
    pub(super) interfaces: Vec<String>,
    pub(super) source: Vec<String>,
    pub(super) destination: Vec<String>,
    pub(super) service: Vec<String>,
    pub(super) when: Vec<String>,
    pub(super) name: String,
}

/// What stands for replies of connections that are open already.
pub(super) const ESTABLISHED: &str = "replies to open connections";

/// What stands before the services that replies come from.
pub(super) const REPLIES_FROM: &str = "replies from ";

impl<'p> Entered<'p> {
    pub(super) fn new(plan: &'p Plan, rules: &RuleSet) -> Self {
        let mut objects = Objects::new(plan);
        let lists = rules.lists.iter().filter(|list| !list.implied && !list.rules.is_empty());
        let lists = lists.map(|list| EnteredList {
            title: title(plan, list),
            rules: list.rules.iter().map(|rule| entered(plan, &mut objects, rule)).collect(),
        });
        let lists = lists.collect();
        Self { plan, objects, lists }
    }
}

fn title(plan: &Plan, list: &RuleList) -> String {
    let zone = |id: ZoneId| plan.zone(id).name.as_str();
    match list.applies {
        Some(Applies::Pair { from, to }) => format!("rules from {} to {}", zone(from), zone(to)),
        Some(Applies::ToGateway { from }) => format!("rules from {} to the gateway", zone(from)),
        Some(Applies::Interface { interface, out }) => {
            let way = if out { "leaves" } else { "enters" };
            format!("rules for what {way} at {}", plan.interface_name(interface))
        }
        None => format!("rules {}", list.stage.about()),
    }
}

fn entered(plan: &Plan, objects: &mut Objects<'_>, rule: &Rule) -> EnteredRule {
    let any = || vec![ANY.to_owned()];
    let (source, destination, service) = match rule.packets() {
        None => (any(), any(), vec![ESTABLISHED.to_owned()]),
        Some(packets) => (
            objects.of_end((&rule.from, &rule.source), &packets.source),
            objects.of_end((&rule.to, &rule.destination), &packets.destination),
            match &rule.matches {
                Matches::Replies { from, .. } => {
                    vec![format!("{REPLIES_FROM}{}", from.words().join(" or "))]
                }
                _ => objects.of_service(&rule.service, packets),
            },
        ),
    };
    let rate = rule.limit_mbps.map(|rate| format!("at most {rate} Mbit/s"));
    EnteredRule {
        number: rule.number,
        action: format!("{}{}", rule.action.word(), if rule.log { " +log" } else { "" }),
        interfaces: rule.packets().map_or_else(any, |packets| interfaces(plan, &packets.enters)),
        source,
        destination,
        service,
        when: rule.hours.iter().cloned().chain(rate).collect(),
        name: objects.rule_name(&rule.id.to_string()),
    }
}

/// Where packets come in, by the names of the first step.
fn interfaces(plan: &Plan, enters: &IntervalSet<Interface>) -> Vec<String> {
    let names = entering(plan, enters);
    if names.is_empty() { vec![ANY.to_owned()] } else { names }
}
