//! Packet sets for people: few boxes, named after what the plan calls them.

use crate::addressing::{link_local, multicast};
use crate::plan::{NetworkId, Plan, ZoneId};
use crate::space::{AddressSet, IntervalSet, Leg, Match, Minute, PacketSet, ServiceSet};

/// A product of sets in the plan's words.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct NamedBox {
    /// Where the packets enter: networks, uplinks, or `gateway`.
    pub from: Vec<String>,
    /// Their sources; `any` if all that belong there, `devices of desks` if all but those behind a router or with a
    /// link-local address.
    pub source: Vec<String>,
    /// The zones they go to.
    pub to: Vec<String>,
    /// Their destinations.
    pub destination: Vec<String>,
    /// What they ask for.
    pub service: Vec<String>,
    /// The hours, if not always.
    pub hours: Option<String>,
    /// `IPv4`, `IPv6`, or `both`.
    pub family: &'static str,
}

/// A set in boxes. Where both families read alike they are one box.
pub fn boxes(plan: &Plan, set: &PacketSet) -> Vec<NamedBox> {
    let mut boxes: Vec<NamedBox> = Vec::new();
    for product in set.tidied().products() {
        let named = named(plan, &product);
        let twin =
            |other: &&mut NamedBox| NamedBox { family: named.family, ..(**other).clone() } == named;
        match boxes.iter_mut().find(twin) {
            Some(other) if other.family != named.family => other.family = "both",
            Some(_) => {}
            None => boxes.push(named),
        }
    }
    boxes
}

fn named(plan: &Plan, product: &Match) -> NamedBox {
    let v4 = !product.source.v4.is_empty();
    // A product is of one family; said of both, its services need no remark on that.
    let line = product.service.v4.union(&product.service.v6);
    let from = entering(plan, &product.enters);
    let sources = addresses(plan, &product.source);
    let networks = plan.network_ids().any(|id| product.enters.contains(plan.network_leg(id)));
    let source = if product.source == everything(plan, product) || (sources == from && !networks) {
        vec!["any".to_owned()]
    } else if networks && (sources == from || product.source == whole(plan, &product.enters, v4)) {
        from.iter().map(|name| format!("devices of {name}")).collect()
    } else {
        sources
    };
    NamedBox {
        from,
        source,
        to: zones(plan, &product.destination),
        destination: addresses(plan, &product.destination),
        service: ServiceSet::both(line).words(),
        hours: (!product.at.is_full()).then(|| hours(plan, &product.at)),
        family: if v4 { "IPv4" } else { "IPv6" },
    }
}

/// What devices on some legs can have in one family.
fn whole(plan: &Plan, legs: &IntervalSet<Leg>, v4: bool) -> AddressSet {
    let here = plan.network_ids().filter(|id| legs.contains(plan.network_leg(*id)));
    let all: AddressSet = here.map(|id| plan.network_addresses(id).clone()).collect();
    if v4 { all.only_v4() } else { all.only_v6() }
}

/// All sources of a product's family that belong where it enters by networks: their devices, what is behind their
/// routers, and where it is for the gateway, who stands on the link.
fn everything(plan: &Plan, product: &Match) -> AddressSet {
    let v4 = !product.source.v4.is_empty();
    let here = |id: NetworkId| product.enters.contains(plan.network_leg(id));
    let behind = plan.routes().iter().filter(|route| here(route.network));
    let behind: AddressSet = behind.map(|route| route.devices.clone()).collect();
    let behind = if v4 { behind.only_v4() } else { behind.only_v6() };
    let own = plan.gateway_inside().union(&plan.gateway_outside());
    let local = multicast().union(&link_local()).union(&own);
    let on_link = match product.destination.is_disjoint(&local) {
        false if !v4 => link_local(),
        _ => AddressSet::empty(),
    };
    whole(plan, &product.enters, v4).union(&behind).union(&on_link)
}

/// The networks and uplinks on some legs; a zone where they are just its networks.
fn entering(plan: &Plan, legs: &IntervalSet<Leg>) -> Vec<String> {
    let last = plan.translated_leg(plan.gateway_leg());
    let legs: Vec<Leg> = (0..=last.0).map(Leg).filter(|leg| legs.contains(*leg)).collect();
    let networks: Vec<NetworkId> = legs.iter().filter_map(|leg| plan.network_on(*leg)).collect();
    let whole = |zone: &ZoneId| {
        let own: Vec<NetworkId> = plan.networks_of(*zone).collect();
        own.len() > 1 && own.iter().all(|id| networks.contains(id))
    };
    let whole: Vec<ZoneId> = plan.zone_ids().filter(whole).collect();
    let mut names: Vec<String> =
        whole.iter().map(|zone| plan.zone(*zone).name.to_string()).collect();
    for leg in legs {
        let name = match plan.network_on(leg) {
            Some(id) if whole.contains(&plan.network(id).zone) => continue,
            Some(id) => plan.network(id).name.to_string(),
            None if plan.uplink_on(leg).is_some() => "internet".to_owned(),
            None => "gateway".to_owned(),
        };
        if !names.contains(&name) {
            names.push(name);
        }
    }
    names
}

/// The zones that hold some of these addresses, with the uplinks beside which some are, and with `gateway` where the
/// gateway has some.
fn zones(plan: &Plan, set: &AddressSet) -> Vec<String> {
    let own = plan.gateway_inside().union(&plan.gateway_outside());
    let touched = plan.zone_ids().filter(|zone| !plan.zone_addresses(*zone).is_disjoint(set));
    let mut names: Vec<String> = touched.map(|zone| plan.zone(zone).name.to_string()).collect();
    if names.len() == plan.zones().len() {
        names = vec!["any".to_owned()];
    }
    let beside = |index: &usize| !plan.beside_uplink(*index).is_disjoint(set);
    let beside = (0..plan.uplinks().len()).filter(beside);
    names.extend(beside.map(|index| plan.uplinks()[index].name.to_string()));
    if !own.is_disjoint(set) {
        names.push("gateway".to_owned());
    }
    names
}

/// A set of one family by the name of the place that has just these, or what is left and right of such.
pub(crate) fn addresses(plan: &Plan, set: &AddressSet) -> Vec<String> {
    if let Some(name) = plan.name_in_family(set) {
        return vec![name];
    }
    let own = plan.gateway_inside().union(&plan.gateway_outside());
    let gateway = set.intersection(&own);
    if !gateway.is_empty() && gateway == *set {
        return plan.set_words(set).into_iter().map(|word| format!("gateway {word}")).collect();
    }
    let (mut names, mut rest) = of_internet(plan, set);
    for id in plan.network_ids() {
        let network = plan.network_addresses(id);
        let v4 = network.only_v4();
        let v6 = network.only_v6();
        for part in [v4, v6] {
            if !part.is_empty() && part.is_subset(&rest) {
                // What no device can have goes with the network, the gateway's own addresses apart.
                let nobody = plan.network(id).prefixes().difference(&own);
                rest = rest.difference(&part).difference(&nobody);
                names.push(plan.network(id).name.to_string());
            }
        }
    }
    if !rest.is_empty() {
        names.extend(plan.name_in_family(&rest).map_or_else(|| plan.set_words(&rest), |n| vec![n]));
    }
    names
}

/// What a set has of the internet, if that is most of it: `internet`, or `internet - phone-provider`; and
/// what it has besides.
fn of_internet(plan: &Plan, set: &AddressSet) -> (Vec<String>, AddressSet) {
    let whole = plan.internet_addresses();
    let whole = if set.v4.is_empty() { whole.only_v6() } else { whole.only_v4() };
    let missing = whole.difference(set);
    let words = plan.set_words(&missing);
    if whole.is_empty() || words.len() > 3 {
        return (Vec::new(), set.clone());
    }
    let but: String = words.iter().map(|word| format!(" - {word}")).collect();
    (vec![format!("internet{but}")], set.difference(&whole))
}

/// Minutes of the week by the name of the plan's hours where they coincide, or outside which they lie.
pub fn hours(plan: &Plan, at: &IntervalSet<Minute>) -> String {
    let named = |minutes: &IntervalSet<Minute>| {
        plan.hours().iter().find(|hours| hours.minutes == *minutes).map(|hours| &hours.name)
    };
    match (named(at), named(&at.complement())) {
        (Some(name), _) => format!("in {name}"),
        (None, Some(name)) => format!("outside {name}"),
        (None, None) => at.words(),
    }
}
