//! Names: one space for all places, each declared once.

use super::super::draft::Draft;
use super::super::model::{Service, Trust, Zone};
use super::super::place::{Entry, Kind, Reach};
use super::{Resolver, nearest_or};
use crate::diagnosis::{Diagnose, Diagnosis, error};
use crate::name::{Name, NotAName, nearest};
use crate::source::{Span, Text};

/// What can be wrong with names, zones' trust included.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum NameProblem {
    /// It is not made like a name.
    NotAName { text: String, why: NotAName, at: Span },
    /// It is a word that has a meaning of its own.
    Reserved { name: Name, at: Span },
    /// Something else has it.
    Taken { name: Name, kind: Kind, at: Span, first: Span },
    /// A zone has the name of a network, but that network is not its only one.
    ZoneOfSeveral { name: Name, at: Span, network: Span },
    /// No such trust.
    Trust { word: String, at: Span },
    /// A zone without a word on trust.
    NoTrust { zone: Name, at: Span },
}

impl Diagnose for NameProblem {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::NotAName { text, why, at } => not_a_name(text, *why, error("bad-name", at)),
            Self::Reserved { name, at } => error("reserved-name", at)
                .says(format!("`{name}` is a reserved word"))
                .why("`internet`, `gateway` and `any` have a meaning in every plan")
                .help("choose another name"),
            Self::Taken { name, kind, at, first } => error("name-taken", at)
                .says(format!("the name `{name}` is already used by a {}", kind.word()))
                .why("zones, networks, tunnels, routes, hosts, groups, domains and uplinks share one set of names, so that a name in an exception is unambiguous")
                .help("give one of the two another name")
                .also(*first, "declared here"),
            Self::ZoneOfSeveral { name, at, network } => error("zone-of-several", at)
                .says(format!("zone `{name}` shares its name with a network that is not its only network"))
                .why("a zone may have the name of a network only if that is its only network")
                .help("rename the zone or the network")
                .also(*network, "the network of that name"),
            Self::Trust { word, at } => error("unknown-trust", at)
                .says(format!("`{word}` is not a trust level"))
                .help(nearest_or(
                    nearest(word, Trust::GIVEN.map(Trust::word)).map(str::to_owned).as_ref(),
                    "write high, medium, low or none",
                )),
            Self::NoTrust { zone, at } => error("no-trust", at)
                .says(format!("zone `{zone}` has no trust level"))
                .help("add a line like `trust = \"medium\"` (high, medium, low or none)"),
        }
    }
}

fn not_a_name(text: &str, why: NotAName, diagnosis: Diagnosis) -> Diagnosis {
    let reason = match why {
        NotAName::Empty => "a name has at least one letter".to_owned(),
        NotAName::TooLong => format!("a name has at most {} characters", Name::LONGEST),
        NotAName::Character(c) => {
            format!("names are lower-case letters, digits and hyphens; {c:?} is none of them")
        }
        NotAName::Beginning => "a name begins with a letter".to_owned(),
        NotAName::Hyphen => "hyphens stand singly, between words".to_owned(),
    };
    let help = Name::suggestion(text)
        .map_or("choose another name".to_owned(), |name| format!("write it like `{name}`"));
    diagnosis.says(format!("`{text}` is not a name")).why(reason).help(help)
}

/// Checks a name; a problem is noted.
pub(super) fn name(text: &Text, resolver: &mut Resolver) -> Option<Name> {
    let found = Name::new(&text.value);
    match found {
        Ok(name) => Some(name),
        Err(why) => {
            let text_value = text.value.clone();
            resolver.problem(NameProblem::NotAName { text: text_value, why, at: text.at });
            None
        }
    }
}

/// Words to find an entry by; each has the form of a name.
pub(super) fn tags(words: &[Text], resolver: &mut Resolver) -> Vec<Name> {
    words.iter().filter_map(|word| name(word, resolver)).collect()
}

/// Enters every name of the draft into the directory, so that later steps can look them up.
pub(super) fn declare(draft: &Draft, resolver: &mut Resolver) {
    let zones = draft.zones.iter().map(|z| (&z.name, Kind::Zone));
    let networks = draft.networks.iter().map(|n| (&n.name, Kind::Network));
    let hosts = draft.hosts.iter().map(|h| (&h.name, Kind::Host));
    let groups = draft.groups.iter().map(|g| (&g.name, Kind::Group));
    let tunnels = draft.tunnels.iter().map(|t| (&t.name, Kind::Tunnel));
    let routes = draft.routes.iter().map(|r| (&r.name, Kind::Route));
    let domains = draft.domains.iter().map(|d| (&d.name, Kind::Domain));
    let uplinks = draft.uplinks.iter().map(|u| (&u.name, Kind::Uplink));
    let inside = zones.chain(networks).chain(tunnels).chain(routes).chain(hosts);
    for (text, kind) in inside.chain(groups).chain(domains).chain(uplinks) {
        let Some(name) = name(text, resolver) else { continue };
        enter(name, kind, text.at, draft, resolver);
    }
}

pub(super) fn is_reserved(name: &Name) -> bool {
    matches!(name.as_str(), "internet" | "gateway" | "any")
}

fn enter(name: Name, kind: Kind, at: Span, draft: &Draft, resolver: &mut Resolver) {
    if is_reserved(&name) {
        resolver.problem(NameProblem::Reserved { name, at });
        return;
    }
    let taken = resolver.directory.find(name.as_str()).map(|entry| (entry.kind, entry.at));
    match taken {
        None => resolver.directory.insert(Entry { name, kind, at, reach: Reach::Broken }),
        Some((Kind::Zone, zone)) if kind == Kind::Network => {
            let in_it = |n: &&super::super::draft::Network| {
                n.zone.as_ref().is_some_and(|z| z.value == name.as_str())
            };
            let tunnel_in_it = draft
                .tunnels
                .iter()
                .any(|t| t.zone.as_ref().is_some_and(|z| z.value == name.as_str()));
            let only = draft.networks.iter().filter(in_it).count() == 1 && !tunnel_in_it;
            let own = draft.networks.iter().filter(in_it).any(|n| n.name.value == name.as_str());
            let twice = draft.networks.iter().filter(|n| n.name.value == name.as_str()).count();
            if !(only && own) || twice > 1 {
                resolver.problem(NameProblem::ZoneOfSeveral { name, at: zone, network: at });
            }
        }
        Some((kind, first)) => resolver.problem(NameProblem::Taken { name, kind, at, first }),
    }
}

impl Zone {
    /// The zone of everything beyond the uplinks, which every plan has.
    pub(super) fn internet() -> Self {
        Self {
            name: Name::new("internet").expect("the word is made like a name"),
            trust: Trust::Internet,
            about: "Everything beyond the uplinks".to_owned(),
            uses: None,
            at: Span::default(),
        }
    }
}

impl Service {
    /// The services' own names, for offers of the nearest one.
    pub(super) fn word(&self) -> &str {
        self.name.as_str()
    }
}
