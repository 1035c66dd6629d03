//! Services: declared ones, built-in ones and literals.

use super::super::draft;
use super::super::model::Service;
use super::super::traffic::Services;
use super::{Resolver, names};
use crate::diagnosis::{Diagnose, Diagnosis, error};
use crate::graph;
use crate::name::{Name, nearest};
use crate::service::{BUILT_IN, LiteralProblem, built_in, meant, parse_literal};
use crate::source::{Span, Text};
use crate::space::ServiceSet;
use std::collections::HashMap;

/// What can be wrong with services.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum ServiceProblem {
    /// Neither declared, nor built in, nor a literal.
    Unknown { word: String, meant: Vec<String>, at: Span },
    /// It looks like a literal, but is none.
    Literal { problem: LiteralProblem, at: Span },
    /// A service of this name is declared already.
    Twice { name: Name, at: Span, first: Span },
    /// The name is a built-in service's, and the packets are others.
    Shadows { name: Name, built_in: String, at: Span },
    /// A service that has neither ports nor parts.
    Empty { name: Name, at: Span },
    /// Services that include each other in a circle.
    Circle { names: Vec<String>, at: Span },
    /// A list without anything in it.
    NoneNamed { at: Span },
}

impl Diagnose for ServiceProblem {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::Unknown { word, meant, at } => error("unknown-service", at)
                .says(format!("no service is called `{word}`"))
                .help(match meant.as_slice() {
                    [] => "declare it as `[service.NAME]`, or write it as `tcp/443`, `udp/5000-5010` or `icmp/echo`".to_owned(),
                    [one] => format!("did you mean `{one}`?"),
                    several => format!("it usually needs {}; list those", quoted(several)),
                }),
            Self::Literal { problem, at } => {
                error("bad-service", at).says(problem.to_string()).help(problem.help())
            }
            Self::Twice { name, at, first } => error("service-taken", at)
                .says(format!("service `{name}` is declared twice"))
                .help("give one of the two another name")
                .also(*first, "declared here first"),
            Self::Shadows { name, built_in, at } => error("service-taken", at)
                .says(format!("`{name}` is a built-in service and means {built_in}"))
                .why("the same word would mean other ports here than everywhere else")
                .help("give yours another name, or use the built-in one"),
            Self::Empty { name, at } => error("empty-service", at)
                .says(format!("service `{name}` is empty"))
                .help("give it `ports = [\"tcp/…\"]` or `includes = [\"…\"]`"),
            Self::Circle { names, at } => error("service-circle", at)
                .says(format!("these services include each other: {}", names.join(" -> ")))
                .help("remove one of them from the other's `includes`"),
            Self::NoneNamed { at } => error("empty-service", at)
                .says("no service is named here")
                .help("name one, or write `any`"),
        }
    }
}

/// `` `sip`, `rtp` and `stun` ``.
fn quoted(words: &[String]) -> String {
    let all: Vec<String> = words.iter().map(|word| format!("`{word}`")).collect();
    match all.as_slice() {
        [first @ .., last] if !first.is_empty() => format!("{} and {last}", first.join(", ")),
        all => all.join(", "),
    }
}

/// What the declared services stand for, by name.
pub(in super::super) fn declared(services: &[Service]) -> HashMap<String, ServiceSet> {
    services.iter().map(|s| (s.word().to_owned(), s.set.clone())).collect()
}

/// Resolves a list of services.
pub(in super::super) fn services(
    words: &[Text],
    known: &HashMap<String, ServiceSet>,
    problems: &mut Vec<ServiceProblem>,
) -> Option<Services> {
    let before = problems.len();
    let mut items: Vec<(String, ServiceSet)> = Vec::new();
    for word in words {
        match one(word, known) {
            Ok(set) => items.push((word.value.clone(), set)),
            Err(problem) => problems.push(problem),
        }
    }
    if problems.len() > before {
        return None;
    }
    let texts: Vec<&str> = items.iter().map(|item| item.0.as_str()).collect();
    let all = ServiceSet::empty();
    Some(Services {
        text: texts.join(", "),
        set: items.iter().fold(all, |all, item| all.union(&item.1)),
        items,
    })
}

/// What a zone or network uses the gateway for; problems are noted. An empty list is an answer too.
pub(super) fn uses(
    words: &[Text],
    known: &HashMap<String, ServiceSet>,
    resolver: &mut Resolver,
) -> Option<Services> {
    let mut problems = Vec::new();
    let found = services(words, known, &mut problems);
    resolver.problems.extend(problems.into_iter().map(Into::into));
    found
}

/// The services that an exception or a manager names; none is a mistake.
pub(super) fn some(
    words: &[Text],
    owner: Span,
    known: &HashMap<String, ServiceSet>,
    resolver: &mut Resolver,
) -> Option<Services> {
    if words.is_empty() {
        resolver.problem(ServiceProblem::NoneNamed { at: owner });
        return None;
    }
    uses(words, known, resolver)
}

fn one(word: &Text, known: &HashMap<String, ServiceSet>) -> Result<ServiceSet, ServiceProblem> {
    let text = word.value.as_str();
    if let Some(set) = known.get(text) {
        return Ok(set.clone());
    }
    if let Some(service) = built_in(text) {
        return Ok(service.set());
    }
    match parse_literal(text) {
        Some(Ok(set)) => Ok(set),
        Some(Err(problem)) => Err(ServiceProblem::Literal { problem, at: word.at }),
        None => {
            let names = known.keys().map(String::as_str);
            let all = names.chain(BUILT_IN.iter().map(|service| service.name));
            let by_word = meant(text).into_iter().map(str::to_owned).collect();
            let near = || nearest(text, all).into_iter().map(str::to_owned).collect();
            let meant: Vec<String> =
                Some(by_word).filter(|all: &Vec<_>| !all.is_empty()).unwrap_or_else(near);
            Err(ServiceProblem::Unknown { word: text.to_owned(), meant, at: word.at })
        }
    }
}

/// The services that the draft declares, each resolved after those it includes.
pub(super) fn declare(drafts: &[draft::Service], resolver: &mut Resolver) -> Vec<Service> {
    let mut first: HashMap<Name, Span> = HashMap::new();
    let mut fresh: Vec<(Name, &draft::Service)> = Vec::new();
    for draft in drafts {
        let Some(name) = names::name(&draft.name, resolver) else { continue };
        if let Some(&before) = first.get(&name) {
            resolver.problem(ServiceProblem::Twice { name, at: draft.name.at, first: before });
            continue;
        }
        first.insert(name.clone(), draft.name.at);
        fresh.push((name, draft));
    }
    let by_name: HashMap<&str, usize> =
        fresh.iter().enumerate().map(|(index, entry)| (entry.0.as_str(), index)).collect();
    let included = |draft: &draft::Service| {
        draft.includes.iter().filter_map(|word| by_name.get(word.value.as_str()).copied()).collect()
    };
    let needs: Vec<Vec<usize>> = fresh.iter().map(|entry| included(entry.1)).collect();
    let sorted = graph::sort(&needs);
    if let Some(circle) = sorted.circle {
        let at = fresh[circle[0]].1.name.at;
        let names = circle.iter().map(|index| fresh[*index].0.to_string()).collect();
        resolver.problem(ServiceProblem::Circle { names, at });
    }
    let mut known: HashMap<String, ServiceSet> = HashMap::new();
    let mut done: Vec<(usize, Service)> = Vec::new();
    for index in sorted.order {
        let (name, draft) = (fresh[index].0.clone(), fresh[index].1);
        let set = declared_set(&name, draft, &known, resolver);
        known.insert(name.to_string(), set.clone());
        let tags = names::tags(&draft.tags, resolver);
        done.push((index, Service { name, tags, set, at: draft.name.at }));
    }
    // What is left is part of a circle, or needs one. It has been reported; its name is known.
    for (index, (name, draft)) in fresh.iter().enumerate() {
        if !known.contains_key(name.as_str()) {
            let set = ServiceSet::empty();
            let (name, tags) = (name.clone(), Vec::new());
            done.push((index, Service { name, tags, set, at: draft.name.at }));
        }
    }
    done.sort_by_key(|entry| entry.0);
    done.into_iter().map(|entry| entry.1).collect()
}

fn declared_set(
    name: &Name,
    draft: &draft::Service,
    known: &HashMap<String, ServiceSet>,
    resolver: &mut Resolver,
) -> ServiceSet {
    if draft.ports.is_empty() && draft.includes.is_empty() {
        resolver.problem(ServiceProblem::Empty { name: name.clone(), at: draft.name.at });
    }
    let mut problems = Vec::new();
    let mut set = ServiceSet::empty();
    for word in draft.ports.iter().chain(&draft.includes) {
        match one(word, known) {
            Ok(part) => set = set.union(&part),
            Err(problem) => problems.push(problem),
        }
    }
    if problems.is_empty()
        && let Some(own) = built_in(name.as_str()).filter(|service| service.set() != set)
    {
        let meant = own.set().words().join(", ");
        problems.push(ServiceProblem::Shadows {
            name: name.clone(),
            built_in: meant,
            at: draft.name.at,
        });
    }
    resolver.problems.extend(problems.into_iter().map(Into::into));
    set
}
