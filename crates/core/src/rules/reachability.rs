//! By which ways packets come: the interfaces of a zone, what is translated on its way in, and whether anything
//! can pass from one zone to another at all.

use super::{Translation, implicit_traffic};
use crate::plan::{Inbound, Plan, Route, ZoneId};
use crate::space::{AddressSet, Interface, IntervalSet, Match};

/// Everything that has been translated on its way in.
pub(super) fn translated(plan: &Plan) -> Match {
    let enters = IntervalSet::range(
        plan.translated_interface(Interface(0)),
        plan.translated_interface(plan.gateway_interface()),
    );
    Match { enters, ..Match::everything() }
}

/// Interfaces together with those of what is translated after it entered there, in a plan that offers anything.
pub(super) fn with_translated(
    plan: &Plan,
    enters: IntervalSet<Interface>,
) -> IntervalSet<Interface> {
    if plan.inbounds().is_empty() {
        return enters;
    }
    let spans = enters.spans().iter();
    let inside = spans
        .map(|(low, high)| (plan.translated_interface(*low), plan.translated_interface(*high)));
    enters.union(&IntervalSet::from_spans(inside))
}

pub(super) fn translation(plan: &Plan, inbound: &Inbound) -> Option<Translation> {
    let permission = plan.exception(inbound.exception);
    let own = plan.uplinks()[inbound.uplink].gateway();
    Some(Translation {
        id: format!("translate.{}", permission.name),
        takes: Match {
            source: permission.from.addresses.only_v4(),
            destination: own.only_v4(),
            service: inbound.outside.clone(),
            ..implicit_traffic::arriving(plan)
        },
        target: inbound.target?,
        shift: inbound.shift,
        interface: plan.translated_interface(Interface(0)).0,
    })
}

/// Interfaces by which packets come, and from which sources.
pub(super) type Entry = (IntervalSet<Interface>, AddressSet);

/// By which interfaces a zone's packets come, and from which sources where a router on the interface leads to
/// several zones: first what lies in the networks, then what is behind routers.
pub(super) fn entries(plan: &Plan, zone: ZoneId) -> Vec<Entry> {
    if zone == plan.internet() {
        return vec![(plan.uplink_interfaces(), AddressSet::full())];
    }
    let mut whole = Vec::new();
    let mut parts = Vec::new();
    for id in plan.network_ids() {
        let interface = IntervalSet::point(plan.network_interface(id));
        let own = plan.network(id).zone == zone;
        if plan.routes().is_empty() {
            whole.extend(own.then(|| plan.network_interface(id)));
            continue;
        }
        let behind: Vec<_> = plan.routes().iter().filter(|route| route.network == id).collect();
        let (alike, others): (Vec<_>, Vec<_>) =
            behind.into_iter().partition(|route| route.zone == zone);
        let reach = |routes: Vec<&Route>| routes.iter().map(|r| r.reach.clone()).collect();
        match (own, others.is_empty()) {
            (true, true) => whole.push(plan.network_interface(id)),
            (true, false) => {
                let others: AddressSet = reach(others);
                parts.push((interface, others.complement()));
            }
            (false, _) if !alike.is_empty() => parts.push((interface, reach(alike))),
            (false, _) => {}
        }
    }
    let whole: IntervalSet<Interface> = whole.into_iter().collect();
    let whole = Some((whole, AddressSet::full())).filter(|(interfaces, _)| !interfaces.is_empty());
    whole.into_iter().chain(parts).collect()
}

/// Whether any packet can go from one zone to the other at all.
pub(super) fn something_passes(plan: &Plan, from: ZoneId, to: ZoneId) -> bool {
    let internet = plan.internet();
    let to_private = |zone| {
        let private = implicit_traffic::spoofed_to_private(plan).destination;
        plan.zone_addresses(zone).is_subset(&private)
    };
    let anyone = |zone| !plan.zone_prefixes(zone).is_empty();
    // Within a zone: from one network to another, between clients of a tunnel, or back through a router.
    let several = |zone| {
        let tunnels = plan.networks_of(zone).filter(|id| plan.network(*id).tunnel.is_some());
        let routes = plan.routes().iter().filter(|route| route.zone == zone);
        // Clients of one tunnel meet here, and so does what turns round at one router.
        plan.networks_of(zone).count() + tunnels.count() + 2 * routes.count() > 1
    };
    // What is offered can come any way, and at hours when nothing lets it in the cell decides.
    let at_times = |inbound: &&Inbound| plan.exception(inbound.exception).hours.is_some();
    if offers(plan, from, to).any(|inbound| at_times(&inbound)) {
        return true;
    }
    match (from == internet, to == internet) {
        (true, true) => !plan.uplinks().is_empty(),
        (true, false) => !plan.uplinks().is_empty() && !to_private(to),
        (false, true) => !plan.uplinks().is_empty() && anyone(from),
        (false, false) if from == to => several(from),
        (false, false) => anyone(from) && anyone(to),
    }
}

/// The addresses that lead to an interface: a network's subnets and what is behind its routers; the internet.
pub(super) fn reached_by(plan: &Plan, interface: Interface) -> AddressSet {
    let Some(id) = plan.network_on(interface) else {
        let index = usize::from(plan.came_by(interface).0).checked_sub(plan.networks().len());
        let Some((index, uplink)) = index.zip(plan.uplink_on(interface)) else {
            return AddressSet::empty();
        };
        let internet = uplink.in_its_families(plan.internet_addresses());
        return internet.union(&plan.beside_uplink(index));
    };
    let behind = plan.routes().iter().filter(|route| route.network == id);
    behind.fold(plan.network(id).prefixes(), |all, route| all.union(&route.reach))
}

/// The offered services by which something can come from one zone to the other, translated.
pub(super) fn offers(plan: &Plan, from: ZoneId, to: ZoneId) -> impl Iterator<Item = &Inbound> {
    plan.inbounds().iter().filter(move |inbound| {
        let permission = plan.exception(inbound.exception);
        let target = inbound.target.is_some_and(|target| plan.zone_addresses(to).contains(target));
        target && !permission.from.addresses.is_disjoint(plan.zone_addresses(from))
    })
}

/// Whether packets can leave where they came in: by an uplink, between clients of a tunnel, back through a router,
/// or to what is offered.
pub(super) fn can_turn_round(plan: &Plan, interface: Interface) -> bool {
    plan.network_on(interface).is_none_or(|id| {
        let behind = plan.routes().iter().any(|route| route.network == id);
        plan.network(id).tunnel.is_some() || behind || !plan.inbounds().is_empty()
    })
}
