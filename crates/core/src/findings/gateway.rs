//! The gateway's own services and its management.

use crate::diagnosis::{Diagnose, Diagnosis, Severity, warning};
use crate::meaning::Meaning;
use crate::name::Name;
use crate::plan::{Action, NetworkId, Plan, Trust};
use crate::service::built_in;
use crate::source::Span;
use crate::space::{AddressSet, IntervalSet, Match, PacketSet};
use crate::verdict::Verdict;

/// A finding about the gateway.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum GatewayFinding {
    /// A network may reach the internet, and nobody answers its DNS.
    NoDns { network: Name, at: Span },
    /// A network for which nothing is said about the gateway's services.
    CutOff { network: Name, at: Span },
    /// Nobody may manage the gateway.
    NobodyManages { at: Option<Span> },
    /// The gateway is managed from where little is trusted.
    ManagedFrom { place: String, trust: Trust, at: Span },
    /// An exception lets the services of management in from where little is trusted.
    ManagedByException { exception: Name, zone: Name, trust: Trust, at: Span },
    /// More places may manage the gateway than anyone can watch.
    ManagedByMany { addresses: u128, at: Span },
    /// A password is all there is.
    NoSecondFactor { at: Span },
}

/// From how many addresses on management is no longer that of a few.
const MANY: u128 = 16;

impl Diagnose for GatewayFinding {
    fn diagnose(&self) -> Diagnosis {
        let advice = |name, at: Option<Span>| Diagnosis::new(name, Severity::Advice, at);
        match self {
            Self::NoDns { network, at } => warning("no-dns", at)
                .says(format!("`{network}` may reach the internet, but has no DNS resolver that it may use"))
                .why("without DNS nothing works, and it looks as if the internet were down")
                .help("add \"dns\" to `uses-gateway-for` of the network or its zone, or an exception to a resolver"),
            Self::CutOff { network, at } => warning("cut-off", at)
                .says(format!("the plan does not say which of the gateway's services `{network}` may use"))
                .why("its devices get neither DHCP nor DNS from the gateway")
                .help("add `uses-gateway-for = [\"dns\", \"dhcp\", \"ntp\", \"ping\"]` to its zone, or an empty list if they need nothing from it"),
            Self::NobodyManages { at } => advice("nobody-manages", *at)
                .says("nobody may manage the gateway over the network")
                .why("once the rules are active, only the console remains")
                .help("add `[gateway.manage]` with `from` and `service`"),
            Self::ManagedFrom { place, trust, at } => warning("management-exposed", at)
                .says(format!("the gateway can be managed from `{place}`"))
                .why(match trust {
                    Trust::Internet => "anyone on the internet may try passwords".to_owned(),
                    _ => format!("its trust is {}", trust.word()),
                })
                .help("name the few addresses that manage it, in a trusted zone"),
            Self::ManagedByException { exception, zone, trust, at } => warning("management-exposed", at)
                .says(format!("exception `{exception}` opens the gateway's management to `{zone}`"))
                .why(match trust {
                    Trust::Internet => "anyone on the internet may try passwords".to_owned(),
                    _ => format!("its trust is {}", trust.word()),
                })
                .help("name only the service that is needed, or use `gateway.manage`"),
            Self::ManagedByMany { addresses, at } => advice("management-wide", Some(*at))
                .says(format!("the gateway can be managed from {addresses} addresses"))
                .why("each of them is a way in")
                .help("name the few devices that manage it"),
            Self::NoSecondFactor { at } => advice("no-second-factor", Some(*at))
                .says("the gateway is managed with a password alone")
                .why("whoever learns the password controls the whole site")
                .help("set up a second factor, and add `second-factor = true`"),
        }
    }
}

/// What follows from the plan alone.
pub(super) fn find(plan: &Plan) -> Vec<GatewayFinding> {
    let mut found = Vec::new();
    for network in plan.networks() {
        if network.uses.is_none() && plan.zone(network.zone).uses.is_none() {
            found.push(GatewayFinding::CutOff { network: network.name.clone(), at: network.at });
        }
    }
    by_exception(plan, &mut found);
    let Some(manage) = &plan.gateway().manage else {
        found.push(GatewayFinding::NobodyManages { at: None });
        return found;
    };
    let at = manage.at;
    for zone in plan.zone_ids() {
        let trust = plan.zone(zone).trust;
        let touches = !plan.zone_addresses(zone).is_disjoint(&manage.from.addresses);
        if touches && trust <= Trust::Low {
            let place = plan.zone(zone).name.to_string();
            found.push(GatewayFinding::ManagedFrom { place, trust, at });
        }
    }
    let inside = manage.from.addresses.intersection(plan.inside());
    let addresses = inside.v4.spans().iter().map(|(low, high)| u128::from(high - low) + 1);
    let addresses: u128 = addresses.sum();
    if addresses > MANY {
        found.push(GatewayFinding::ManagedByMany { addresses, at });
    }
    if !manage.second_factor {
        found.push(GatewayFinding::NoSecondFactor { at });
    }
    found
}

/// What needs the meaning.
pub(super) fn find_in_meaning(meaning: &Meaning<'_>) -> Vec<GatewayFinding> {
    let plan = meaning.plan();
    let outward = |id: &NetworkId| {
        let zone = plan.network(*id).zone;
        plan.matrix().cell(zone, plan.internet()).action == Some(Action::Allow)
    };
    let deaf = |id: &NetworkId| !plan.uplinks().is_empty() && !finds_a_resolver(meaning, *id);
    let networks = plan.network_ids().filter(outward).filter(deaf).map(|id| plan.network(id));
    networks
        .map(|network| GatewayFinding::NoDns { network: network.name.clone(), at: network.at })
        .collect()
}

/// Exceptions to the gateway that let in what it is managed by.
fn by_exception(plan: &Plan, found: &mut Vec<GatewayFinding>) {
    let shells = built_in("ssh").map(|service| service.set()).unwrap_or_default();
    let manage = plan.gateway().manage.as_ref().map(|manage| manage.service.set.clone());
    let services = manage.unwrap_or(shells);
    let opens =
        plan.exceptions().iter().filter(|e| e.action == Action::Allow && e.to.gateway && !e.off);
    for exception in opens.filter(|e| !e.service.set.v4.is_disjoint(&services.v4)) {
        for zone in
            plan.zone_ids().map(|id| (id, plan.zone(id))).filter(|z| z.1.trust <= Trust::Low)
        {
            if !plan.zone_addresses(zone.0).is_disjoint(&exception.from.addresses) {
                found.push(GatewayFinding::ManagedByException {
                    exception: exception.name.clone(),
                    zone: zone.1.name.clone(),
                    trust: zone.1.trust,
                    at: exception.at,
                });
            }
        }
    }
}

/// Whether DNS questions of a network are let through to anything inside: the gateway, or a host.
fn finds_a_resolver(meaning: &Meaning<'_>, id: NetworkId) -> bool {
    let plan = meaning.plan();
    let inside: AddressSet = plan.inside().union(plan.gateway_inside());
    let asking = Match {
        enters: IntervalSet::point(plan.network_interface(id)),
        source: plan.network_addresses(id).clone(),
        destination: inside,
        service: built_in("dns").map(|service| service.set()).unwrap_or_default(),
        at: IntervalSet::full(),
    };
    let parts = meaning.parts(&PacketSet::from(asking));
    parts.iter().any(|part| part.decision.verdict == Verdict::Allow)
}
