//! What the plan asks for and the gateway, by its own account, cannot do.

use crate::diagnosis::{Diagnose, Diagnosis, Severity};
use crate::meaning::Meaning;
use crate::plan::{Action, Form, Plan};
use crate::rules::{self, Inexpressible, Obstacle, RuleSet};
use crate::source::Span;
use crate::space::AddressSet;

/// A finding about the gateway's limits.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum LimitFinding {
    /// It cannot answer what it refuses.
    NoReject { entry: String, at: Span },
    /// It cannot log.
    NoLog { entry: String, at: Span },
    /// It knows no hours.
    NoHours { entry: String, at: Span },
    /// It knows no domains.
    NoDomains { entry: String, at: Span },
    /// It does not filter IPv6, and a network has some.
    NoIpv6 { network: String, at: Span },
    /// The form of its rules cannot say it.
    NotInForm { entry: String, why: Obstacle, at: Span },
    /// Its lists keep no state, so that what looks like a reply gets through.
    NoState { rules: usize, at: Span },
    /// It takes fewer rules than there are.
    TooManyRules { rules: usize, most: u32, at: Span },
    /// It takes shorter names than some rules have.
    LongNames { rule: String, longest: u32, at: Span },
}

impl Diagnose for LimitFinding {
    fn diagnose(&self) -> Diagnosis {
        let warning = |at: &Span| Diagnosis::new("gateway-cannot", Severity::Warning, Some(*at));
        match self {
            Self::NoReject { entry, at } => warning(at)
                .says(format!("{entry} is `reject`, and the gateway cannot answer what it refuses"))
                .why("`gateway.limits` says so")
                .cure("write `block`"),
            Self::NoLog { entry, at } => warning(at)
                .says(format!("{entry} is to be logged, and the gateway cannot log"))
                .why("`gateway.limits` says so")
                .cure("write `log = \"none\"` in the matrix and leave `+log` out, or correct the limits"),
            Self::NoHours { entry, at } => warning(at)
                .says(format!("{entry} holds at certain hours, and the gateway knows none"))
                .why("`gateway.limits` says so")
                .cure("take `hours` out of it, or let something else than the gateway do it"),
            Self::NoDomains { entry, at } => warning(at)
                .says(format!("{entry} names a domain, and the gateway knows addresses only"))
                .why("`gateway.limits` says so")
                .cure("name the addresses, or allow the internet as a whole"),
            Self::NoIpv6 { network, at } => warning(at)
                .says(format!("`{network}` has IPv6, and the gateway does not filter it"))
                .why("what the rules deny would get through in IPv6")
                .cure("give the network an IPv4 `subnet` alone, and switch IPv6 off on the gateway"),
            Self::NotInForm { entry, why: Obstacle::Service, at } => warning(at)
                .says(format!("{entry} is for some services only, and the gateway's lists look at sources alone"))
                .why("a rule for it would let every service through, or none")
                .cure("say it for all services, or give the gateway another form"),
            Self::NotInForm { entry, why: Obstacle::Destination, at } => warning(at)
                .says(format!("{entry} is for a part of an interface only, and the gateway's lists look at sources alone"))
                .why("a rule for it would count for everything that is reached there")
                .cure("say it for the whole network, or put that part into a network of its own"),
            Self::NoState { rules, at } => Diagnosis::new("keeps-no-state", Severity::Advice, Some(*at))
                .says(format!("the gateway's lists keep no state: {rules} rules let in whatever looks like a reply"))
                .why("a first packet that comes from the right port cannot be told from an answer")
                .cure("look at `bastium prove`, which shows all of it; if it is little enough, keep this finding under [known]"),
            Self::TooManyRules { rules, most, at } => warning(at)
                .says(format!("the plan needs {rules} rules, and the gateway takes {most}"))
                .why("`gateway.limits` says so")
                .cure("put networks that are treated alike into one zone, or exceptions into groups"),
            Self::LongNames { rule, longest, at } => warning(at)
                .says(format!("the rule `{rule}` has a longer name than the {longest} bytes that the gateway takes"))
                .why("`gateway.limits` says so")
                .cure("shorten the names of the entry behind it"),
        }
    }
}

pub(super) fn find_in_meaning(meaning: &Meaning<'_>) -> Vec<LimitFinding> {
    let plan = meaning.plan();
    let limits = &plan.gateway().limits;
    let mut found = Vec::new();
    exceptions(meaning, &mut found);
    cells(plan, &mut found);
    if !limits.ipv6 {
        let v6 = |network: &&crate::plan::Network| !network.device_addresses().v6.is_empty();
        let networks = plan.networks().iter().filter(v6);
        found.extend(networks.map(|network| LimitFinding::NoIpv6 {
            network: network.name.to_string(),
            at: network.at,
        }));
    }
    let stateless = plan.gateway().form == Form::PerInterface;
    if limits.rules.is_some() || limits.name.is_some() || stateless {
        match rules::in_form(meaning, plan.gateway().form) {
            Ok(compiled) => {
                let back = compiled.rules().filter(|rule| rule.back.is_some()).count();
                let at = plan.gateway().at;
                found.extend((back > 0).then_some(LimitFinding::NoState { rules: back, at }));
                lists(meaning, &compiled, &mut found);
            }
            Err(problems) => found.extend(not_in_form(plan, &problems)),
        }
    }
    found
}

/// What the form of the rules cannot say, as findings.
pub(super) fn not_in_form(plan: &Plan, problems: &[Inexpressible]) -> Vec<LimitFinding> {
    let finding = |problem: &Inexpressible| LimitFinding::NotInForm {
        entry: match problem.cause.exception() {
            Some(id) => {
                let exception = plan.exception(id);
                format!("{} `{}`", exception.table(), exception.name)
            }
            None => format!("{} {}", problem.cause.kind(), problem.cause.name(plan)),
        },
        why: problem.why,
        at: problem.cause.at(plan).unwrap_or_default(),
    };
    problems.iter().map(finding).collect()
}

fn exceptions(meaning: &Meaning<'_>, found: &mut Vec<LimitFinding>) {
    let plan = meaning.plan();
    let limits = &plan.gateway().limits;
    let whole = plan.internet_addresses();
    let domains: AddressSet = plan.domains().iter().map(|domain| domain.stand_in.set()).collect();
    for &id in meaning.precedence().active() {
        let exception = plan.exception(id);
        let entry = || format!("{} `{}`", exception.table(), exception.name);
        let at = exception.at;
        if !limits.reject && exception.action == Action::Reject {
            found.push(LimitFinding::NoReject { entry: entry(), at });
        }
        if !limits.log && exception.log {
            found.push(LimitFinding::NoLog { entry: entry(), at });
        }
        if !limits.hours && exception.hours.is_some() {
            found.push(LimitFinding::NoHours { entry: entry(), at });
        }
        let by_name = || {
            let ends = [&exception.from.addresses, &exception.to.addresses];
            ends.into_iter().any(|set| !whole.is_subset(set) && !set.is_disjoint(&domains))
        };
        if !limits.domains && by_name() {
            found.push(LimitFinding::NoDomains { entry: entry(), at });
        }
    }
}

/// The first cell that asks for what cannot be: one is enough to tell.
fn cells(plan: &Plan, found: &mut Vec<LimitFinding>) {
    let limits = &plan.gateway().limits;
    let pairs = plan.zone_ids().flat_map(|from| plan.zone_ids().map(move |to| (from, to)));
    let cell = |(from, to)| {
        let (a, b) = (&plan.zone(from).name, &plan.zone(to).name);
        (format!("the cell {a} -> {b}"), plan.matrix().cell(from, to))
    };
    let all: Vec<_> = pairs.map(cell).collect();
    let rejects = all.iter().find(|(_, cell)| cell.action == Some(Action::Reject));
    if let Some((entry, cell)) = rejects.filter(|_| !limits.reject) {
        found.push(LimitFinding::NoReject { entry: entry.clone(), at: cell.at });
    }
    let logs = all.iter().find(|(_, cell)| cell.log && cell.action.is_some());
    if let Some((entry, cell)) = logs.filter(|_| !limits.log) {
        found.push(LimitFinding::NoLog { entry: entry.clone(), at: cell.at });
    }
}

fn lists(meaning: &Meaning<'_>, compiled: &RuleSet, found: &mut Vec<LimitFinding>) {
    let gateway = meaning.plan().gateway();
    let (limits, at) = (&gateway.limits, gateway.at);
    let count = compiled.rules().count();
    if let Some(most) = limits.rules.filter(|most| count as u64 > u64::from(*most)) {
        found.push(LimitFinding::TooManyRules { rules: count, most, at });
    }
    let Some(longest) = limits.name else { return };
    let long = compiled.rules().find(|rule| rule.id.len() as u64 > u64::from(longest));
    if let Some(rule) = long {
        found.push(LimitFinding::LongNames { rule: rule.id.clone(), longest, at });
    }
}
