//! What the plan asks for and the gateway, by its own account, cannot do.

use crate::diagnosis::{Diagnose, Diagnosis, Severity};
use crate::meaning::Meaning;
use crate::plan::{Action, Form, Plan};
use crate::rules::{self, Inexpressible, Obstacle, RuleSet};
use crate::source::Span;
use crate::space::AddressSet;
use crate::words::{count, either};

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
                .says(format!("{entry} is `reject`, but the gateway can only drop"))
                .why("`gateway.limits` says so")
                .help("write `block`"),
            Self::NoLog { entry, at } => warning(at)
                .says(format!("{entry} asks for logging, but the gateway cannot log"))
                .why("`gateway.limits` says so")
                .help("write `log = \"none\"` in the matrix and leave `+log` out, or correct the limits"),
            Self::NoHours { entry, at } => warning(at)
                .says(format!("{entry} has hours, but the gateway has no time-based rules"))
                .why("`gateway.limits` says so")
                .help("remove `hours`, or enforce them on another device"),
            Self::NoDomains { entry, at } => warning(at)
                .says(format!("{entry} names a domain, but the gateway only matches addresses"))
                .why("`gateway.limits` says so")
                .help("name the addresses, or allow the internet as a whole"),
            Self::NoIpv6 { network, at } => warning(at)
                .says(format!("`{network}` has IPv6, but the gateway does not filter IPv6"))
                .why("what the rules block in IPv4 would pass in IPv6")
                .help("give the network only an IPv4 `subnet`, and disable IPv6 on the gateway"),
            Self::NotInForm { entry, why: Obstacle::Service, at } => warning(at)
                .says(format!("{entry} is for some services only, but the gateway's lists match source addresses only"))
                .why("a rule for it would let every service through, or none")
                .help("apply it to all services, or choose another form for the gateway"),
            Self::NotInForm { entry, why: Obstacle::Destination, at } => warning(at)
                .says(format!("{entry} is for a part of an interface only, but the gateway's lists match source addresses only"))
                .why("a rule for it would apply to everything behind that interface")
                .help("apply it to the whole network, or move that part to its own network"),
            Self::NoState { rules, at } => Diagnosis::new("keeps-no-state", Severity::Advice, Some(*at))
                .says(format!(
                    "the gateway's lists keep no state: {} {} in whatever looks like a reply",
                    count(*rules, "rule"),
                    either(*rules, "lets", "let")
                ))
                .why("a new connection from the right source port looks like a reply")
                .help("`bastium prove` lists all of it; if you accept it, list this finding in [known]"),
            Self::TooManyRules { rules, most, at } => warning(at)
                .says(format!("the plan needs {}, but the gateway takes at most {most}", count(*rules, "rule")))
                .why("`gateway.limits` says so")
                .help("put networks with the same access into one zone, or merge exceptions by using groups"),
            Self::LongNames { rule, longest, at } => warning(at)
                .says(format!("the name of rule `{rule}` is longer than the {longest} bytes that the gateway takes"))
                .why("`gateway.limits` says so")
                .help("shorten the names of the entry behind it"),
        }
    }
}

/// What the gateway cannot hold, or cannot say, of the plan's rules.
pub(super) fn find_in_meaning(meaning: &Meaning<'_>, rules: &RuleSet<'_>) -> Vec<LimitFinding> {
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
        if rules.form == plan.gateway().form {
            let back = rules.rules().filter(|rule| rule.is_for_replies()).count();
            let at = plan.gateway().at;
            found.extend((back > 0).then_some(LimitFinding::NoState { rules: back, at }));
            lists(meaning, rules, &mut found);
        } else if let Err(problems) = rules::in_form(meaning, plan.gateway().form) {
            // They are in another one, for their own cannot say everything.
            found.extend(not_in_form(plan, &problems));
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
    let domains: AddressSet =
        plan.domains().iter().map(|domain| domain.placeholder.set()).collect();
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
    let long = compiled.rules().find(|rule| rule.id.to_string().len() as u64 > u64::from(longest));
    if let Some(rule) = long {
        found.push(LimitFinding::LongNames { rule: rule.id.to_string(), longest, at });
    }
}
