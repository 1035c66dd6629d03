//! What a plan says besides addresses and permissions: discovery, streams, guarantees, and accepted findings.

use super::super::draft;
use super::super::ids::NetworkId;
use super::super::model::Network;
use super::super::place::{Kind, Reach};
use super::super::traffic::{Discovery, Domain, Guarantee, Known, Stream};
use super::{Resolver, names, nearest_or, services};
use crate::addressing::Placeholder;
use crate::diagnosis::{Diagnose, Diagnosis, error};
use crate::name::{Name, nearest};
use crate::source::{Located, Span, Text};
use crate::space::ServiceSet;
use std::collections::HashMap;

/// What can be wrong with these entries.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum PromiseProblem {
    /// A key is missing that the entry means nothing without.
    Incomplete { table: &'static str, entry: Name, missing: &'static str, at: Span },
    /// Another entry of the table has the name.
    Twice { table: &'static str, name: Name, at: Span, first: Span },
    /// Discovery between fewer than two networks.
    Alone { discovery: Name, at: Span },
    /// A network or zone that is not there.
    UnknownNetwork { word: String, nearest: Option<String>, at: Span },
    /// A rate that is none.
    Rate { key: &'static str, at: Span },
    /// A DNS name that is none.
    DnsName { word: String, at: Span },
    /// A finding is kept without a reason.
    NoReason { finding: String, at: Span },
    /// More domains than there is room for.
    TooManyDomains { at: Span },
}

impl Diagnose for PromiseProblem {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::Incomplete { table, entry, missing, at } => error("incomplete-entry", at)
                .says(format!("{table} `{entry}` does not say `{missing}`"))
                .help(match *missing {
                    "mbps" => "add a line like `mbps = 54`".to_owned(),
                    "names" => "add a line like `names = [\"register.example.org\"]`".to_owned(),
                    "between" => "add a line like `between = [\"desks\", \"waiting-room\"]`".to_owned(),
                    _ => format!("add a line like `{missing} = \"…\"`"),
                }),
            Self::Twice { table, name, at, first } => error("name-taken", at)
                .says(format!("there is a {table} `{name}` already"))
                .help("give one of the two another name")
                .also(*first, "declared here"),
            Self::Alone { discovery, at } => error("discovery-alone", at)
                .says(format!("discovery `{discovery}` is between fewer than two networks"))
                .why("devices in the same network discover each other without the gateway")
                .help("name at least two networks"),
            Self::UnknownNetwork { word, nearest, at } => error("unknown-network", at)
                .says(format!("no network or zone is called `{word}`"))
                .help(nearest_or(nearest.as_ref(), "declare it as `[network.NAME]`")),
            Self::Rate { key, at } => error("bad-rate", at)
                .says(format!("`{key}` is not a rate"))
                .help("write megabits a second, a number above 0 and at most 100000"),
            Self::DnsName { word, at } => error("bad-dns-name", at)
                .says(format!("`{word}` is not a domain name"))
                .why("a name has labels of letters, digits and hyphens, with dots between (RFC 1123)")
                .help("write it like register.example.org"),
            Self::NoReason { finding, at } => error("known-without-reason", at)
                .says(format!("`{finding}` is kept without a reason"))
                .why("without a reason nobody can judge later whether it is still right")
                .help("write the reason between the quotes"),
            Self::TooManyDomains { at } => error("too-many", at)
                .says("there are more than 60,000 domains")
                .help("name the service's addresses, or allow the internet as a whole"),
        }
    }
}

/// Checks that an entry has a name that no other of its table has.
fn fresh(
    table: &'static str,
    word: &Text,
    seen: &mut HashMap<Name, Span>,
    resolver: &mut Resolver,
) -> Option<Name> {
    let name = names::name(word, resolver)?;
    if let Some(first) = seen.insert(name.clone(), word.at) {
        resolver.problem(PromiseProblem::Twice { table, name, at: word.at, first });
        return None;
    }
    Some(name)
}

/// The highest rate that can be given: 100 Gbit/s. The packet filter of the Linux kernel counts the bytes of a second
/// in billionths, in 64 bits, and takes no limit above 147 Gbit/s.
const FASTEST_MBPS: f64 = 100_000.0;
/// The lowest: a byte a second is the least that anything counts.
const SLOWEST_MBPS: f64 = 0.000_008;

/// A rate in megabits a second; a problem is noted.
pub(super) fn rate(
    key: &'static str,
    number: Option<Located<f64>>,
    resolver: &mut Resolver,
) -> Option<f64> {
    let number = number?;
    let good = (SLOWEST_MBPS..=FASTEST_MBPS).contains(&number.value);
    if !good {
        resolver.problem(PromiseProblem::Rate { key, at: number.at });
    }
    good.then_some(number.value)
}

/// The domains, entered into the directory as well.
pub(super) fn domains(drafts: &[draft::Domain], resolver: &mut Resolver) -> Vec<Domain> {
    if let Some(beyond) = drafts.get(60_000) {
        resolver.problem(PromiseProblem::TooManyDomains { at: beyond.name.at });
        return Vec::new();
    }
    let mut domains = Vec::new();
    for (number, draft) in drafts.iter().enumerate() {
        let Ok(name) = Name::new(&draft.name.value) else { continue };
        let at = draft.name.at;
        if draft.names.is_empty() {
            let (entry, missing) = (name.clone(), "names");
            resolver.problem(PromiseProblem::Incomplete { table: "domain", entry, missing, at });
        }
        for word in draft.names.iter().filter(|word| !is_dns_name(&word.value)) {
            resolver.problem(PromiseProblem::DnsName { word: word.value.clone(), at: word.at });
        }
        let placeholder = Placeholder::Domain(u16::try_from(number).unwrap_or(u16::MAX));
        let addresses = placeholder.set();
        let place = super::super::Place { addresses, ..super::super::Place::default() };
        resolver.directory.set_reach(&name, Kind::Domain, Reach::Known(place));
        let names = draft.names.iter().map(|word| word.value.clone()).collect();
        domains.push(Domain { name, names, placeholder, at });
    }
    domains
}

/// A host name (RFC 1123 2.1), at most 253 characters, which may begin with `*.`.
fn is_dns_name(word: &str) -> bool {
    let word = word.strip_prefix("*.").unwrap_or(word);
    let label = |label: &str| {
        (1..=63).contains(&label.len())
            && label.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-')
            && !label.starts_with('-')
            && !label.ends_with('-')
    };
    word.len() <= 253 && word.contains('.') && word.split('.').all(label)
}

/// The networks between which names are repeated. A zone stands for its networks.
pub(super) fn discoveries(
    drafts: &[draft::Discovery],
    networks: &[Option<Network>],
    zones: &[super::super::Zone],
    resolver: &mut Resolver,
) -> Vec<Discovery> {
    let mut seen = HashMap::new();
    let mut found = Vec::new();
    for draft in drafts {
        let Some(name) = fresh("discovery", &draft.name, &mut seen, resolver) else { continue };
        let at = draft.name.at;
        let mut between: Vec<NetworkId> = Vec::new();
        let mut broken = false;
        for word in &draft.between {
            let here = networks_called(&word.value, networks, zones);
            if here.is_empty() {
                broken = true;
                unknown_network(word, networks, resolver);
            }
            between.extend(here);
        }
        between.sort_unstable();
        between.dedup();
        if between.len() < 2 && !broken {
            resolver.problem(PromiseProblem::Alone { discovery: name.clone(), at });
        }
        found.push(Discovery { name, between, at });
    }
    found
}

fn networks_called(
    word: &str,
    networks: &[Option<Network>],
    zones: &[super::super::Zone],
) -> Vec<NetworkId> {
    let zone = zones.iter().position(|zone| zone.name.as_str() == word);
    let built = networks.iter().enumerate();
    let built = built.filter_map(|(index, network)| Some((index, network.as_ref()?)));
    let own = built.clone().find(|(_, network)| network.name.as_str() == word);
    match (own, zone) {
        (Some((index, _)), _) => vec![NetworkId(index)],
        (None, Some(zone)) => built
            .filter(|(_, network)| network.zone.index() == zone && network.tunnel.is_none())
            .map(|(index, _)| NetworkId(index))
            .collect(),
        (None, None) => Vec::new(),
    }
}

/// Tells of a network that is not there, unless it is there with a problem of its own.
pub(super) fn unknown_network(word: &Text, networks: &[Option<Network>], resolver: &mut Resolver) {
    let kinds = [Kind::Network, Kind::Zone, Kind::Tunnel];
    if resolver.directory.find(&word.value).is_some_and(|entry| kinds.contains(&entry.kind)) {
        return;
    }
    let names = networks.iter().flatten().map(|network| network.name.as_str());
    resolver.problem(PromiseProblem::UnknownNetwork {
        word: word.value.clone(),
        nearest: nearest(&word.value, names).map(str::to_owned),
        at: word.at,
    });
}

/// A stream or a guarantee that says nothing of one of its ends.
fn incomplete(
    table: &'static str,
    entry: &Name,
    missing: &'static str,
    at: Span,
) -> PromiseProblem {
    PromiseProblem::Incomplete { table, entry: entry.clone(), missing, at }
}

/// The streams that can be built; the problems of the others are noted.
pub(super) fn streams(drafts: &[draft::Stream], resolver: &mut Resolver) -> Vec<Stream> {
    let mut seen = HashMap::new();
    let mut found = Vec::new();
    for draft in drafts {
        let Some(name) = fresh("stream", &draft.name, &mut seen, resolver) else { continue };
        let at = draft.name.at;
        let from = resolver.end(&draft.from, at, || incomplete("stream", &name, "from", at));
        let to = resolver.end(&draft.to, at, || incomplete("stream", &name, "to", at));
        if draft.mbps.is_none() {
            let (entry, missing) = (name.clone(), "mbps");
            resolver.problem(PromiseProblem::Incomplete { table: "stream", entry, missing, at });
        }
        let mbps = rate("mbps", draft.mbps, resolver);
        if let (Some(from), Some(to), Some(mbps)) = (from, to, mbps) {
            found.push(Stream { name, from, to, mbps, at });
        }
    }
    found
}

/// The guarantees that can be built; the problems of the others are noted.
pub(super) fn guarantees(
    draft: &draft::Draft,
    known: &HashMap<String, ServiceSet>,
    resolver: &mut Resolver,
) -> Vec<Guarantee> {
    let mut found = Vec::new();
    for (always, drafts) in [(false, &draft.never), (true, &draft.always)] {
        let table = if always { "always" } else { "never" };
        let mut seen = HashMap::new();
        for draft in drafts {
            let Some(name) = fresh(table, &draft.name, &mut seen, resolver) else { continue };
            let at = draft.name.at;
            let from = resolver.end(&draft.from, at, || incomplete(table, &name, "from", at));
            let to = resolver.end(&draft.to, at, || incomplete(table, &name, "to", at));
            let any = [Text::new("any")];
            let words = draft.service.as_deref().unwrap_or(&any);
            let service = services::some(words, at, known, resolver);
            if let (Some(from), Some(to), Some(service)) = (from, to, service) {
                found.push(Guarantee { name, always, from, to, service, at });
            }
        }
    }
    found
}

/// The findings that are kept.
pub(super) fn known(drafts: &[(Text, Text)], resolver: &mut Resolver) -> Vec<Known> {
    let mut found = Vec::new();
    for (finding, reason) in drafts {
        if reason.value.trim().is_empty() {
            let (finding, at) = (finding.value.clone(), reason.at);
            resolver.problem(PromiseProblem::NoReason { finding, at });
        }
        let (at, reason) = (finding.at, reason.value.clone());
        found.push(Known { finding: finding.value.clone(), reason, at });
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dns_names_are_reported_from_other_words() {
        for good in ["register.example.org", "*.example.net", "a-1.example.com"] {
            assert!(is_dns_name(good), "{good}");
        }
        for bad in [
            "example",
            "",
            "a..example.org",
            "-a.example.org",
            "a b.example.org",
            "*.",
            "https://example.org",
        ] {
            assert!(!is_dns_name(bad), "{bad}");
        }
    }
}
