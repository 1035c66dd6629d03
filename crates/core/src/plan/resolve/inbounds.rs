//! Services offered to the outside: each is a permission, and a place where it is asked for.

use super::super::ids::ExceptionId;
use super::super::model::{Exception, Manage, Network, Uplink};
use super::super::traffic::Inbound;
use super::super::{HostId, draft};
use super::{Resolver, nearest_or};
use crate::diagnosis::{Diagnose, Diagnosis, error};
use crate::name::{Name, nearest};
use crate::source::Span;
use crate::space::{AddressSet, IntervalSet, Protocol, ServicePoint, ServiceSet};
use std::net::IpAddr;

/// What can be wrong with an offered service.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum InboundProblem {
    /// What it offers is not one host.
    NotAHost { inbound: Name, at: Span },
    /// It is translated, and its host has no IPv4 address.
    NoV4 { inbound: Name, at: Span },
    /// An outside port that is none.
    Port { port: i64, at: Span },
    /// An outside port, and not just one inside.
    SeveralPorts { inbound: Name, at: Span },
    /// An outside port, and nothing is translated.
    PortUntranslated { inbound: Name, at: Span },
    /// It offers everything, or what has no ports.
    NotOffered { inbound: Name, at: Span },
    /// It offers protocols that have no ports.
    NoPorts { inbound: Name, protocols: Vec<String>, at: Span },
    /// There is no uplink of that name.
    UnknownUplink { word: String, nearest: Option<String>, at: Span },
    /// There are several uplinks, or none, and it does not say which.
    WhichUplink { inbound: Name, several: bool, at: Span },
    /// Something else listens there.
    Taken { service: String, by: String, at: Span, first: Span },
}

impl Diagnose for InboundProblem {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::NotAHost { inbound, at } => error("not-a-host", at)
                .says(format!("inbound `{inbound}` does not offer one host"))
                .why("what arrives from outside can be forwarded to one device only")
                .help("add a line like `host = \"booking\"`, a host with a fixed address"),
            Self::NoV4 { inbound, at } => error("nothing-to-translate", at)
                .says(format!("inbound `{inbound}` is translated, but its host has no IPv4 address"))
                .why("only IPv4 is translated; IPv6 goes to the host's own address")
                .help("give the host an IPv4 address, or write `translate = false`"),
            Self::Port { port, at } => error("bad-port", at)
                .says(format!("{port} is not a port"))
                .help("write a number from 1 to 65535"),
            Self::SeveralPorts { inbound, at } => error("bad-port", at)
                .says(format!("inbound `{inbound}` has one outside port, but its service has several"))
                .help("name a service with a single port, or remove `outside-port` to keep the ports unchanged"),
            Self::PortUntranslated { inbound, at } => error("bad-port", at)
                .says(format!("inbound `{inbound}` changes the port, but nothing is translated"))
                .help("leave `outside-port` out, or write `translate = true`"),
            Self::NoPorts { inbound, protocols, at } => error("too-much-offered", at)
                .says(format!(
                    "inbound `{inbound}` offers {}, which has no ports",
                    protocols.join(", ")
                ))
                .why("at the shared outside address, only a port separates the offered service from the gateway's own")
                .help("offer only its ports; if the host has its own public address, write an exception from \"internet\""),
            Self::NotOffered { inbound, at } => error("too-much-offered", at)
                .says(format!("inbound `{inbound}` offers more than ports and ping"))
                .why("traffic for the gateway itself would be forwarded")
                .help("name the service, as in `service = \"https\"`"),
            Self::UnknownUplink { word, nearest, at } => error("unknown-uplink", at)
                .says(format!("no uplink is called `{word}`"))
                .help(nearest_or(nearest.as_ref(), "declare it as `[uplink.NAME]`")),
            Self::WhichUplink { inbound, several: true, at } => error("which-uplink", at)
                .says(format!("inbound `{inbound}` has no `uplink`, and the plan has several"))
                .help("add a line like `uplink = \"fibre\"`"),
            Self::WhichUplink { inbound, several: false, at } => error("which-uplink", at)
                .says(format!("inbound `{inbound}` needs an uplink, and the plan has none"))
                .help("declare the uplink, as in `[uplink.fibre]`, or remove the entry"),
            Self::Taken { service, by, at, first } => error("port-taken", at)
                .says(format!("{service} outside is already used by {by}"))
                .why("one outside port can only lead to one host")
                .help("choose another `outside-port`")
                .also(*first, "the other one"),
        }
    }
}

/// What an entry may refer to, resolved before it.
pub(super) struct InboundContext<'a> {
    pub(super) uplinks: &'a [Uplink],
    pub(super) networks: &'a [Option<Network>],
    pub(super) manage: Option<&'a Manage>,
}

/// The offered services, each with its permission, which stands at `first` and after in `exceptions`.
pub(super) fn inbounds(
    drafts: &[draft::Inbound],
    exceptions: &[Exception],
    first: usize,
    context: &InboundContext<'_>,
    resolver: &mut Resolver,
) -> Vec<Inbound> {
    let mut built: Vec<Inbound> = Vec::new();
    for (index, draft) in drafts.iter().enumerate() {
        // A permission that could not be built has been reported.
        let id = ExceptionId(first + index);
        let permission = exceptions.iter().find(|e| e.inbound == Some(index));
        let Some(permission) = permission else { continue };
        if let Some(inbound) = inbound(draft, permission, id, context, resolver) {
            taken(&inbound, permission, &built, exceptions, context, resolver);
            built.push(inbound);
        }
    }
    built
}

fn inbound(
    draft: &draft::Inbound,
    permission: &Exception,
    exception: ExceptionId,
    context: &InboundContext<'_>,
    resolver: &mut Resolver,
) -> Option<Inbound> {
    let (name, at) = (permission.name.clone(), permission.at);
    let uplink = uplink(draft, permission, context, resolver);
    let host: &[HostId] = &permission.to.hosts;
    if host.len() != 1 || permission.to.gateway || !permission.to.without.is_empty() {
        resolver.problem(InboundProblem::NotAHost { inbound: name, at });
        return None;
    }
    let service = &permission.service.set;
    if !can_be_offered(service) {
        resolver.problem(match without_ports(service) {
            protocols if protocols.is_empty() => InboundProblem::NotOffered { inbound: name, at },
            protocols => InboundProblem::NoPorts { inbound: name, protocols, at },
        });
        return None;
    }
    let translate = draft.translate.is_none_or(|translate| translate.value);
    let v4 = permission.to.addresses.v4.first();
    let target = v4.map(|bits| IpAddr::from(std::net::Ipv4Addr::from_bits(bits)));
    if translate && target.is_none() {
        resolver.problem(InboundProblem::NoV4 { inbound: name, at });
        return None;
    }
    let (shift, outside_port) = match draft.outside_port {
        None => (0, None),
        Some(port) => {
            let Some(outside) = u16::try_from(port.value).ok().filter(|port| *port > 0) else {
                resolver.problem(InboundProblem::Port { port: port.value, at: port.at });
                return None;
            };
            let Some(inside) = only_port(service) else {
                resolver.problem(InboundProblem::SeveralPorts { inbound: name, at: port.at });
                return None;
            };
            if !translate && inside != outside {
                resolver.problem(InboundProblem::PortUntranslated { inbound: name, at: port.at });
                return None;
            }
            (i32::from(inside) - i32::from(outside), Some(outside))
        }
    };
    let mut inbound = Inbound {
        exception,
        target: target.filter(|_| translate),
        uplink: uplink?,
        outside: ServiceSet::empty(),
        shift,
        outside_port,
    };
    inbound.outside.v4 = inbound.outward(&service.v4);
    Some(inbound)
}

fn uplink(
    draft: &draft::Inbound,
    permission: &Exception,
    context: &InboundContext<'_>,
    resolver: &mut Resolver,
) -> Option<usize> {
    let uplinks = context.uplinks;
    let Some(word) = &draft.uplink else {
        if uplinks.len() == 1 {
            return Some(0);
        }
        let (inbound, at) = (permission.name.clone(), permission.at);
        let several = !uplinks.is_empty();
        resolver.problem(InboundProblem::WhichUplink { inbound, several, at });
        return None;
    };
    let found = uplinks.iter().position(|uplink| uplink.name.as_str() == word.value);
    if found.is_none() {
        let names = uplinks.iter().map(|uplink| uplink.name.as_str());
        resolver.problem(InboundProblem::UnknownUplink {
            word: word.value.clone(),
            nearest: nearest(&word.value, names).map(str::to_owned),
            at: word.at,
        });
    }
    found
}

/// The protocols of a service that have no ports, if they are few; a service that is nearly everything is
/// another mistake.
fn without_ports(service: &ServiceSet) -> Vec<String> {
    let all = (0..=u8::MAX).map(Protocol).filter(|protocol| !protocol.has_ports());
    let has = |protocol: &Protocol| {
        let (low, high) = protocol.stretch();
        service.v4.spans().iter().any(|span| span.0 <= high && low <= span.1)
    };
    let words: Vec<String> = all.filter(has).map(Protocol::keyword).collect();
    if words.len() > 8 { Vec::new() } else { words }
}

/// Ports of protocols that have some, and the echo request.
fn can_be_offered(service: &ServiceSet) -> bool {
    let mut allowed = ServiceSet::echo();
    for protocol in (0..=u8::MAX).map(Protocol).filter(|protocol| protocol.has_ports()) {
        allowed = allowed.union(&ServiceSet::ports(protocol, 1, u16::MAX));
    }
    !service.v4.is_empty() && service.is_subset(&allowed)
}

/// The one port that a service has, in whichever protocols.
fn only_port(service: &ServiceSet) -> Option<u16> {
    let mut port = None;
    for (low, high) in service.v4.spans() {
        let own = low.destination_port()?;
        if low != high || port.is_some_and(|port| port != own) {
            return None;
        }
        port = Some(own);
    }
    port
}

fn taken(
    inbound: &Inbound,
    permission: &Exception,
    earlier: &[Inbound],
    exceptions: &[Exception],
    context: &InboundContext<'_>,
    resolver: &mut Resolver,
) {
    if inbound.target.is_none() {
        return;
    }
    let at = permission.at;
    let mut problem = |shared: IntervalSet<ServicePoint>, by: String, first: Span| {
        if !shared.is_empty() {
            let shared = ServiceSet { v4: shared.clone(), v6: shared };
            let service = shared.words().join(", ");
            resolver.problem(InboundProblem::Taken { service, by, at, first });
        }
    };
    let own = &inbound.outside.v4;
    for other in earlier.iter().filter(|o| o.target.is_some() && o.uplink == inbound.uplink) {
        let Some(entry) = exceptions.get(other.exception.index()) else { continue };
        if !entry.from.addresses.is_disjoint(&permission.from.addresses) {
            let by = format!("inbound `{}`", entry.name);
            problem(own.intersection(&other.outside.v4), by, entry.at);
        }
    }
    for network in context.networks.iter().flatten() {
        let listens = network.tunnel.as_ref().and_then(|tunnel| tunnel.listens.as_ref());
        let Some(listens) = listens else { continue };
        let by = format!("tunnel `{}`", network.name);
        problem(own.intersection(&listens.set.v4), by, network.at);
    }
    let manage = context.manage.filter(|manage| shares(manage, &permission.from.addresses));
    if let Some(manage) = manage {
        let by = "the management of the gateway".to_owned();
        problem(own.intersection(&manage.service.set.v4), by, manage.at);
    }
}

fn shares(manage: &Manage, from: &AddressSet) -> bool {
    !manage.from.addresses.is_disjoint(from)
}
