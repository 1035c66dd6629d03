//! Entries that have less effect than they appear to: they cannot reach what the gateway needs to work, link-local
//! addresses bypass them, or everything would be the same without them.

use crate::addressing::link_local;
use crate::diagnosis::{Diagnose, Diagnosis, advice, warning};
use crate::meaning::Meaning;
use crate::name::Name;
use crate::plan::{Action, Exception, ExceptionId, NetworkId};
use crate::source::Span;
use crate::space::{IntervalSet, Match, PacketSet};
use crate::verdict::{Cause, Verdict};

/// A finding about what an entry does not do.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum EffectFinding {
    /// A host is denied at the gateway, and speaks to it with a link-local address all the same.
    LinkLocalOpen { exception: Name, network: Name, at: Span },
    /// What the gateway lives by goes out, whatever the exception says.
    StillLives { exception: Name, at: Span },
    /// Without it everything would be as it is.
    AlreadySo { exception: Name, by: String, at: Span },
    /// Two tunnels listen at the same port.
    TunnelsSharePort { tunnel: Name, other: Name, at: Span, first: Span },
}

impl Diagnose for EffectFinding {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::LinkLocalOpen { exception, network, at } => warning("link-local-open", at)
                .says(format!("exception `{exception}` denies addresses in `{network}`, but the gateway can still be reached from link-local addresses"))
                .why("every device has a link-local IPv6 address, and no rule can match a device by it")
                .help(format!("deny all of `{network}`, or move the device to its own network")),
            Self::StillLives { exception, at } => advice("still-lives", at)
                .says(format!("exception `{exception}` cannot block what the gateway needs to work"))
                .why("neighbour discovery, router advertisements and DHCP are always sent, or no network would work")
                .help("name only the services that you want to block"),
            Self::AlreadySo { exception, by, at } => advice("already-so", at)
                .says(format!("exception `{exception}` has no effect: {by} already says the same"))
                .why("readers will take it for the deciding entry")
                .help("remove it, or write what else it should do"),
            Self::TunnelsSharePort { tunnel, other, at, first } => warning("tunnels-share-port", at)
                .says(format!("tunnels `{tunnel}` and `{other}` listen at the same port"))
                .why("only one of them can; the other never comes up")
                .help("use another port in `listens` of one of them")
                .also(*first, "the other one"),
        }
    }
}

/// What can be reported once a plan has a meaning.
pub(super) fn find_in_meaning(meaning: &Meaning<'_>) -> Vec<EffectFinding> {
    let plan = meaning.plan();
    let mut found = Vec::new();
    for &id in meaning.precedence().active() {
        let exception = plan.exception(id);
        let denies = exception.action != Action::Allow;
        if denies && exception.to.gateway {
            link_local_open(meaning, exception, &mut found);
        }
        if denies && exception.from.gateway && reaches_for_life(meaning, exception) {
            let (exception, at) = (exception.name.clone(), exception.at);
            found.push(EffectFinding::StillLives { exception, at });
        }
        already_so(meaning, id, &mut found);
    }
    tunnels(meaning, &mut found);
    found
}

/// Networks of which an exception denies some addresses, but not the link.
fn link_local_open(meaning: &Meaning<'_>, exception: &Exception, found: &mut Vec<EffectFinding>) {
    let plan = meaning.plan();
    let touched = |id: &NetworkId| {
        let own = plan.network_addresses(*id);
        !own.is_disjoint(&exception.from.addresses)
            && !exception.from.links.contains(plan.network_interface(*id))
    };
    for id in plan.network_ids().filter(touched) {
        let on_link = Match {
            enters: IntervalSet::point(plan.network_interface(id)),
            source: link_local(),
            destination: link_local(),
            service: exception.service.set.clone(),
            at: exception.minutes(),
        };
        let open = meaning.parts(&PacketSet::from(on_link)).into_iter().any(|part| {
            part.decision.verdict == Verdict::Allow && part.decision.cause != Cause::Ipv6Needs
        });
        if open {
            let (exception, at) = (exception.name.clone(), exception.at);
            let network = plan.network(id).name.clone();
            found.push(EffectFinding::LinkLocalOpen { exception, network, at });
        }
    }
}

/// Whether an exception names services by which the gateway lives.
fn reaches_for_life(meaning: &Meaning<'_>, exception: &Exception) -> bool {
    let asked = exception.service.set.for_families_of(&exception.to.addresses);
    !asked.intersection(meaning.lives_by()).is_empty()
}

/// An exception of which nothing would be missed: what it decides would be decided so without it.
fn already_so(meaning: &Meaning<'_>, id: ExceptionId, found: &mut Vec<EffectFinding>) {
    let (plan, precedence) = (meaning.plan(), meaning.precedence());
    let exception = plan.exception(id);
    if exception.action != Action::Allow || exception.inbound.is_some() {
        return;
    }
    let limited = exception.limit_mbps.is_some();
    let shared =
        precedence.near(id).any(|other| !precedence.set(id).is_disjoint(precedence.set(other)));
    // Where others speak of the same traffic, it may be there to stand above or below them.
    if limited || shared || precedence.set(id).is_empty() {
        return;
    }
    let parts = meaning.parts_without_exceptions(precedence.set(id));
    let same = |part: &crate::meaning::Part| {
        part.decision.verdict == Verdict::Allow && part.decision.logged == exception.log
    };
    if !parts.is_empty() && parts.iter().all(same) {
        let causes = parts.iter().map(|part| part.decision.cause);
        let mut by: Vec<String> = causes
            .map(|cause| format!("{} `{}`", cause.kind().replace('_', " "), cause.name(plan)))
            .collect();
        by.dedup();
        by.truncate(3);
        let (exception, at) = (exception.name.clone(), exception.at);
        found.push(EffectFinding::AlreadySo { exception, by: by.join(", "), at });
    }
}

fn tunnels(meaning: &Meaning<'_>, found: &mut Vec<EffectFinding>) {
    let plan = meaning.plan();
    let listening: Vec<_> = plan
        .networks()
        .iter()
        .filter_map(|network| Some((network, network.tunnel.as_ref()?.listens.as_ref()?)))
        .collect();
    for (place, (network, listens)) in listening.iter().enumerate() {
        let same = |entry: &&(&crate::plan::Network, &crate::plan::Services)| {
            !entry.1.set.intersection(&listens.set).is_empty()
        };
        if let Some((other, _)) = listening[..place].iter().find(same) {
            found.push(EffectFinding::TunnelsSharePort {
                tunnel: network.name.clone(),
                other: other.name.clone(),
                at: network.at,
                first: other.at,
            });
        }
    }
}
