//! Connections with the outside: offered services, tunnels, domain names, translation.

use crate::diagnosis::{Diagnose, Diagnosis, advice, warning};
use crate::meaning::Meaning;
use crate::name::Name;
use crate::plan::{Action, Exception, Plan};
use crate::service::built_in;
use crate::source::Span;
use crate::space::{AddressSet, IntervalSet, Match, PacketSet};
use crate::verdict::Verdict;

/// A finding about ways in and out.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum OutsideFinding {
    /// A service to manage devices by is offered to all the world.
    ManagementOffered { inbound: Name, service: &'static str, at: Span },
    /// A tunnel for which the gateway listens nowhere.
    DeafTunnel { tunnel: Name, at: Span },
    /// A domain is denied by its name.
    DeniedByName { exception: Name, domain: Name, at: Span },
    /// Sources of a permission by name may ask another resolver than the gateway.
    OtherResolver { exception: Name, domain: Name, network: Name, at: Span },
    /// A host is offered without translation at an address that nobody outside can reach.
    NotReachable { inbound: Name, at: Span },
}

/// Services by which devices are managed, or whose use on the internet is a risk in itself.
const NOT_FOR_STRANGERS: [&str; 8] = ["ssh", "telnet", "rdp", "vnc", "smb", "snmp", "tftp", "ftp"];

impl Diagnose for OutsideFinding {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::ManagementOffered { inbound, service, at } => warning("management-offered", at)
                .says(format!("inbound `{inbound}` offers {service} to everyone on the internet"))
                .why("services open to the internet are attacked within hours")
                .help("use a tunnel instead, or narrow `from` to the few addresses that need it"),
            Self::DeafTunnel { tunnel, at } => advice("deaf-tunnel", at)
                .says(format!("the gateway does not listen for tunnel `{tunnel}`"))
                .why("its clients cannot connect, unless another device accepts them")
                .help("add a line like `listens = \"udp/51820\"`"),
            Self::DeniedByName { exception, domain, at } => warning("denied-by-name", at)
                .says(format!("exception `{exception}` denies `{domain}` by its name"))
                .why("whoever knows the address or uses another resolver can still get there")
                .help("allow what is needed instead, or deny the internet as a whole"),
            Self::OtherResolver { exception, domain, network, at } => advice("other-resolver", at)
                .says(format!("`{network}` may use resolvers on the internet, but exception `{exception}` depends on the gateway's answers for `{domain}`"))
                .why("the gateway only learns the addresses of a domain from its own DNS answers")
                .help(format!("block dns from `{network}` to the internet, so that it asks the gateway")),
            Self::NotReachable { inbound, at } => warning("offered-in-vain", at)
                .says(format!("inbound `{inbound}` is not translated, but its host has no global address"))
                .why("private addresses are not reachable from the internet (RFC 1918, RFC 4193)")
                .help("write `translate = true`, or give the host a global address"),
        }
    }
}

/// What follows from the plan alone.
pub(super) fn find(plan: &Plan) -> Vec<OutsideFinding> {
    let mut found = Vec::new();
    for inbound in plan.inbounds() {
        let permission = plan.exception(inbound.exception);
        offered(plan, permission, &mut found);
        let global = permission.to.addresses.difference(&crate::addressing::not_global());
        if inbound.target.is_none() && global.is_empty() {
            let (inbound, at) = (permission.name.clone(), permission.at);
            found.push(OutsideFinding::NotReachable { inbound, at });
        }
    }
    for network in plan.networks() {
        if network.tunnel.as_ref().is_some_and(|tunnel| tunnel.listens.is_none()) {
            let (tunnel, at) = (network.name.clone(), network.at);
            found.push(OutsideFinding::DeafTunnel { tunnel, at });
        }
    }
    for exception in plan.exceptions().iter().filter(|e| e.action != Action::Allow && !e.off) {
        let named = plan.domains().iter().find(|domain| {
            let own = domain.placeholder.set();
            // To deny the internet as a whole denies names too, and is no mistake.
            own.is_subset(&exception.to.addresses)
                && !plan.internet_addresses().is_subset(&exception.to.addresses)
        });
        if let Some(domain) = named {
            let (exception, at) = (exception.name.clone(), exception.at);
            let domain = domain.name.clone();
            found.push(OutsideFinding::DeniedByName { exception, domain, at });
        }
    }
    found
}

fn offered(plan: &Plan, permission: &Exception, found: &mut Vec<OutsideFinding>) {
    let strangers = plan.internet_addresses().v4.is_subset(&permission.from.addresses.v4);
    let risky = NOT_FOR_STRANGERS.into_iter().find(|name| {
        let set = built_in(name).map(|service| service.set()).unwrap_or_default();
        !set.v4.is_disjoint(&permission.service.set.v4)
    });
    if let Some(service) = risky.filter(|_| strangers) {
        let (inbound, at) = (permission.name.clone(), permission.at);
        found.push(OutsideFinding::ManagementOffered { inbound, service, at });
    }
}

/// What needs the meaning.
pub(super) fn find_in_meaning(meaning: &Meaning<'_>) -> Vec<OutsideFinding> {
    let plan = meaning.plan();
    let mut found = Vec::new();
    for &id in meaning.precedence().active() {
        let exception = plan.exception(id);
        let whole = plan.internet_addresses().is_subset(&exception.to.addresses);
        let named = plan
            .domains()
            .iter()
            .find(|domain| domain.placeholder.set().is_subset(&exception.to.addresses) && !whole);
        let Some(domain) = named.filter(|_| exception.action == Action::Allow) else { continue };
        for id in plan.network_ids() {
            let here = plan.network_addresses(id).intersection(&exception.from.addresses);
            if here.is_empty() || !asks_elsewhere(meaning, id, &here) {
                continue;
            }
            found.push(OutsideFinding::OtherResolver {
                exception: exception.name.clone(),
                domain: domain.name.clone(),
                network: plan.network(id).name.clone(),
                at: exception.at,
            });
        }
    }
    found
}

/// Whether sources of a network may ask resolvers on the internet.
fn asks_elsewhere(meaning: &Meaning<'_>, id: crate::plan::NetworkId, sources: &AddressSet) -> bool {
    let plan = meaning.plan();
    let asking = Match {
        enters: IntervalSet::point(plan.network_interface(id)),
        source: sources.clone(),
        destination: plan.internet_addresses().clone(),
        service: built_in("dns").map(|service| service.set()).unwrap_or_default(),
        at: IntervalSet::full(),
    };
    let parts = meaning.parts(&PacketSet::from(asking));
    parts.iter().any(|part| part.decision.verdict == Verdict::Allow)
}
