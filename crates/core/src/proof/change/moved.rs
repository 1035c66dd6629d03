//! Hosts whose addresses change between two plans: what each *host* can reach afterwards and could not before, as
//! opposed to what its old and new address can.

use crate::meaning::Meaning;
use crate::name::Name;
use crate::plan::{Host, Plan};
use crate::space::{AddressSet, Interface, IntervalSet, Match, PacketSet};
use crate::verdict::Verdict;
use std::net::IpAddr;

/// A host that is elsewhere.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct MovedHost {
    /// Its name.
    pub name: Name,
    /// Its addresses before.
    pub before: Vec<IpAddr>,
    /// Its addresses now.
    pub after: Vec<IpAddr>,
    /// What got through from it or to it, and does not any more; with its new addresses, on the new plan's interfaces.
    pub loses: PacketSet,
    /// What gets through now, and did not.
    pub gains: PacketSet,
}

/// The hosts whose addresses are others.
pub(super) fn moved(old: &Meaning<'_>, new: &Meaning<'_>) -> Vec<MovedHost> {
    let hosts = old.plan().hosts().iter();
    let pairs = hosts.filter_map(|before| {
        let mut now = new.plan().hosts().iter();
        let after = now.find(|after| after.name == before.name)?;
        (before.addresses != after.addresses).then_some((before, after))
    });
    pairs.map(|(before, after)| one(old, new, before, after)).collect()
}

fn one(old: &Meaning<'_>, new: &Meaning<'_>, before: &Host, after: &Host) -> MovedHost {
    let (mut had, mut has) = (PacketSet::empty(), PacketSet::empty());
    for v4 in [true, false] {
        let of = |host: &Host| host.addresses.iter().copied().find(|own| own.is_ipv4() == v4);
        let Some(now) = of(after).or_else(|| of(before)) else { continue };
        if let Some(then) = of(before) {
            let gateways =
                (gateway_of(old.plan(), before, then), gateway_of(new.plan(), after, now));
            let moved = Moved { old: old.plan(), new: new.plan(), then, now, gateways, to: after };
            had = had.union(&moved.renamed(&through(old, before, then)));
        }
        if of(after).is_some() {
            has = has.union(&through(new, after, now));
        }
    }
    MovedHost {
        name: after.name.clone(),
        before: before.addresses.clone(),
        after: after.addresses.clone(),
        loses: had.difference(&has).tidied(),
        gains: has.difference(&had).tidied(),
    }
}

/// What gets through from an address of a host, and to it: to and from devices, the internet, and the gateway in
/// its network.
fn through(meaning: &Meaning<'_>, host: &Host, own: IpAddr) -> PacketSet {
    let plan = meaning.plan();
    let zones = plan.zone_ids().map(|zone| plan.zone_addresses(zone));
    let somebody = zones.fold(AddressSet::empty(), |all, zone| all.union(zone));
    let near =
        gateway_of(plan, host, own).map_or(somebody.clone(), |own| somebody.union(&own.into()));
    let enters = IntervalSet::point(plan.network_interface(host.network));
    let from = Match { enters, source: own.into(), destination: near, ..Match::everything() };
    let outer: IntervalSet<Interface> = (0..plan.gateway_interface().0).map(Interface).collect();
    let to =
        Match { enters: outer, source: somebody, destination: own.into(), ..Match::everything() };
    let both: PacketSet = [from, to].into_iter().collect();
    let parts = meaning.parts(&both).into_iter();
    let pass =
        parts.filter(|part| matches!(part.decision.verdict, Verdict::Allow | Verdict::NotRouted));
    pass.fold(PacketSet::empty(), |all, part| all.union(&part.packets))
}

/// The gateway's address in the network of a host, of the family of an address.
fn gateway_of(plan: &Plan, host: &Host, own: IpAddr) -> Option<IpAddr> {
    let subnets = plan.network(host.network).subnets.iter().map(|subnet| subnet.gateway());
    subnets.into_iter().find(|gateway| gateway.is_ipv4() == own.is_ipv4())
}

/// From one address to another.
struct Moved<'p> {
    old: &'p Plan,
    new: &'p Plan,
    then: IpAddr,
    now: IpAddr,
    /// The gateway's addresses where it was and where it is.
    gateways: (Option<IpAddr>, Option<IpAddr>),
    to: &'p Host,
}

impl Moved<'_> {
    /// Packets of the old plan as they are in the new one, the host where it is now.
    fn renamed(&self, packets: &PacketSet) -> PacketSet {
        packets.products().flat_map(|product| self.by_gateway(product)).collect()
    }

    /// The gateway in its network stays the gateway in its network.
    fn by_gateway(&self, product: Match) -> Vec<Match> {
        let (Some(then), Some(now)) = self.gateways else {
            return self.one(product).into_iter().collect();
        };
        let gateway = AddressSet::from(then);
        let others = product.destination.difference(&gateway);
        let mut parts = Vec::new();
        if !product.destination.is_disjoint(&gateway) {
            let mapped = Match { destination: gateway, ..product.clone() };
            let mapped = self.one(mapped);
            parts.extend(mapped.map(|mapped| Match { destination: now.into(), ..mapped }));
        }
        parts.extend(self.one(Match { destination: others, ..product }));
        parts.retain(|part| !part.is_empty());
        parts
    }

    fn one(&self, product: Match) -> Option<Match> {
        let is_own = |set: &AddressSet| *set == AddressSet::from(self.then);
        let own_interface = IntervalSet::point(self.new.network_interface(self.to.network));
        if is_own(&product.source) {
            return Some(Match { enters: own_interface, source: self.now.into(), ..product });
        }
        let outer = (0..self.old.gateway_interface().0).map(Interface);
        let here = outer.filter(|interface| product.enters.contains(*interface));
        let enters: IntervalSet<Interface> =
            here.filter_map(|interface| self.interface_now(interface)).collect();
        let destination = self.now.into();
        (!enters.is_empty()).then_some(Match { enters, destination, ..product })
    }

    /// The interface of that name in the new plan.
    fn interface_now(&self, interface: Interface) -> Option<Interface> {
        let name = self.old.interface_name(interface);
        (0..self.new.gateway_interface().0)
            .map(Interface)
            .find(|other| self.new.interface_name(*other) == name)
    }
}
