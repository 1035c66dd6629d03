//! Services offered to the outside: each is a permission, and a place where it is asked for.

use super::super::parts::{Exception, ExceptionId, Manage, Network, Uplink};
use super::super::traffic::Inbound;
use super::super::{HostId, draft};
use super::{Workshop, nearest_or};
use crate::diagnosis::{Diagnose, Diagnosis, Severity};
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
        let error = |name, at: &Span| Diagnosis::new(name, Severity::Error, Some(*at));
        match self {
            Self::NotAHost { inbound, at } => error("not-a-host", at)
                .says(format!("inbound `{inbound}` does not offer one host"))
                .why("what arrives outside can only be handed to one device")
                .cure("add a line like `host = \"booking\"`, a host with a fixed address"),
            Self::NoV4 { inbound, at } => error("nothing-to-translate", at)
                .says(format!("inbound `{inbound}` is translated, but its host has no IPv4 address"))
                .why("only IPv4 is translated; IPv6 goes to the host's own address")
                .cure("give the host an IPv4 address, or write `translate = false`"),
            Self::Port { port, at } => error("bad-port", at)
                .says(format!("{port} is not a port"))
                .cure("write a number from 1 to 65535"),
            Self::SeveralPorts { inbound, at } => error("bad-port", at)
                .says(format!("inbound `{inbound}` has one port outside and not just one inside"))
                .cure("name a service of one port, or leave `outside-port` out: the ports are then the same"),
            Self::PortUntranslated { inbound, at } => error("bad-port", at)
                .says(format!("inbound `{inbound}` changes the port, but nothing is translated"))
                .cure("leave `outside-port` out, or write `translate = true`"),
            Self::NoPorts { inbound, protocols, at } => error("too-much-offered", at)
                .says(format!(
                    "inbound `{inbound}` offers {}, which has no ports",
                    protocols.join(", ")
                ))
                .why("at the outside address only a port tells what is offered from what is the gateway's own")
                .cure("offer its ports alone; for a host with an address of its own outside, write an exception from \"internet\""),
            Self::NotOffered { inbound, at } => error("too-much-offered", at)
                .says(format!("inbound `{inbound}` offers more than ports and ping"))
                .why("the gateway would hand on what is meant for itself")
                .cure("name the service, as in `service = \"https\"`"),
            Self::UnknownUplink { word, nearest, at } => error("unknown-uplink", at)
                .says(format!("no uplink is called `{word}`"))
                .cure(nearest_or(nearest.as_ref(), "declare it as `[uplink.NAME]`")),
            Self::WhichUplink { inbound, several: true, at } => error("which-uplink", at)
                .says(format!("inbound `{inbound}` does not say at which uplink it is offered"))
                .cure("add a line like `uplink = \"fibre\"`"),
            Self::WhichUplink { inbound, several: false, at } => error("which-uplink", at)
                .says(format!("inbound `{inbound}` is offered at an uplink, and there is none"))
                .cure("declare the uplink, as in `[uplink.fibre]`, or take the entry out"),
            Self::Taken { service, by, at, first } => error("port-taken", at)
                .says(format!("{service} outside belongs to {by} already"))
                .why("one port can only lead to one place")
                .cure("choose another `outside-port`")
                .also(*first, "the other one"),
        }
    }
}

/// What the entries stand on.
pub(super) struct Ground<'a> {
    pub(super) uplinks: &'a [Uplink],
    pub(super) networks: &'a [Option<Network>],
    pub(super) manage: Option<&'a Manage>,
}

/// The offered services, each with its permission, which stands at `first` and after in `exceptions`.
pub(super) fn inbounds(
    drafts: &[draft::Inbound],
    exceptions: &[Exception],
    first: usize,
    ground: &Ground<'_>,
    shop: &mut Workshop,
) -> Vec<Inbound> {
    let mut built: Vec<Inbound> = Vec::new();
    for (index, draft) in drafts.iter().enumerate() {
        // A permission that could not be built has been told of.
        let id = ExceptionId(first + index);
        let permission = exceptions.iter().find(|e| e.inbound == Some(index));
        let Some(permission) = permission else { continue };
        if let Some(inbound) = inbound(draft, permission, id, ground, shop) {
            taken(&inbound, permission, &built, exceptions, ground, shop);
            built.push(inbound);
        }
    }
    built
}

fn inbound(
    draft: &draft::Inbound,
    permission: &Exception,
    exception: ExceptionId,
    ground: &Ground<'_>,
    shop: &mut Workshop,
) -> Option<Inbound> {
    let (name, at) = (permission.name.clone(), permission.at);
    let uplink = uplink(draft, permission, ground, shop);
    let host: &[HostId] = &permission.to.hosts;
    if host.len() != 1 || permission.to.gateway || !permission.to.without.is_empty() {
        shop.problem(InboundProblem::NotAHost { inbound: name, at });
        return None;
    }
    let service = &permission.service.set;
    if !can_be_offered(service) {
        shop.problem(match without_ports(service) {
            protocols if protocols.is_empty() => InboundProblem::NotOffered { inbound: name, at },
            protocols => InboundProblem::NoPorts { inbound: name, protocols, at },
        });
        return None;
    }
    let translate = draft.translate.is_none_or(|translate| translate.value);
    let v4 = permission.to.addresses.v4.first();
    let target = v4.map(|bits| IpAddr::from(std::net::Ipv4Addr::from_bits(bits)));
    if translate && target.is_none() {
        shop.problem(InboundProblem::NoV4 { inbound: name, at });
        return None;
    }
    let (shift, outside_port) = match draft.outside_port {
        None => (0, None),
        Some(port) => {
            let Some(outside) = u16::try_from(port.value).ok().filter(|port| *port > 0) else {
                shop.problem(InboundProblem::Port { port: port.value, at: port.at });
                return None;
            };
            let Some(inside) = only_port(service) else {
                shop.problem(InboundProblem::SeveralPorts { inbound: name, at: port.at });
                return None;
            };
            if !translate && inside != outside {
                shop.problem(InboundProblem::PortUntranslated { inbound: name, at: port.at });
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
    ground: &Ground<'_>,
    shop: &mut Workshop,
) -> Option<usize> {
    let uplinks = ground.uplinks;
    let Some(word) = &draft.uplink else {
        if uplinks.len() == 1 {
            return Some(0);
        }
        let (inbound, at) = (permission.name.clone(), permission.at);
        let several = !uplinks.is_empty();
        shop.problem(InboundProblem::WhichUplink { inbound, several, at });
        return None;
    };
    let found = uplinks.iter().position(|uplink| uplink.name.as_str() == word.value);
    if found.is_none() {
        let names = uplinks.iter().map(|uplink| uplink.name.as_str());
        shop.problem(InboundProblem::UnknownUplink {
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
        let own = ServicePoint::from_coordinate(*low)?.destination_port()?;
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
    ground: &Ground<'_>,
    shop: &mut Workshop,
) {
    if inbound.target.is_none() {
        return;
    }
    let at = permission.at;
    let mut problem = |shared: IntervalSet<u32>, by: String, first: Span| {
        if !shared.is_empty() {
            let shared = ServiceSet { v4: shared.clone(), v6: shared };
            let service = shared.words().join(", ");
            shop.problem(InboundProblem::Taken { service, by, at, first });
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
    for network in ground.networks.iter().flatten() {
        let listens = network.tunnel.as_ref().and_then(|tunnel| tunnel.listens.as_ref());
        let Some(listens) = listens else { continue };
        let by = format!("tunnel `{}`", network.name);
        problem(own.intersection(&listens.set.v4), by, network.at);
    }
    let manage = ground.manage.filter(|manage| shares(manage, &permission.from.addresses));
    if let Some(manage) = manage {
        let by = "the management of the gateway".to_owned();
        problem(own.intersection(&manage.service.set.v4), by, manage.at);
    }
}

fn shares(manage: &Manage, from: &AddressSet) -> bool {
    !manage.from.addresses.is_disjoint(from)
}
