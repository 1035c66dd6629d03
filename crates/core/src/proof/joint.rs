//! Two plans in one numbering: which networks, uplinks and domains are the same.

use crate::addressing::Placeholder;
use crate::plan::{Network, Plan};
use crate::space::{AddressSet, Interface, IntervalSet, Match, PacketSet};

/// Which interfaces of two plans are the same: by name, else by what is on them. So with domains.
#[derive(Clone, Debug)]
pub(crate) struct Joint {
    pub(super) old: Side,
    pub(super) new: Side,
    outer: usize,
}

/// How one plan's packets are called among those of two.
#[derive(Clone, Debug, Default)]
pub(crate) struct Side {
    /// For each interface, its number in both; the gateway's own last.
    interfaces: Vec<Interface>,
    /// What stands for the same thing under another number.
    moved: Vec<(Placeholder, Placeholder)>,
    /// What stands for something in the other plan alone: here, an address on the internet like any other.
    strangers: Vec<Placeholder>,
}

/// Numbers of what only the old plan has begin here, so that they are nobody else's.
const OLD_ONLY: u16 = 30_000;

/// The number of a placeholder, of which there are no more than interfaces.
fn numbered(index: usize) -> u16 {
    Interface::of_index(index).0
}

impl Joint {
    /// Finds what is the same.
    pub(crate) fn of(old: &Plan, new: &Plan) -> Self {
        let mut count = new.networks().len() + new.uplinks().len();
        let mut here = |same: Option<usize>| {
            let next = count;
            count += usize::from(same.is_none());
            Interface::of_index(same.unwrap_or(next))
        };
        let networks = paired(old.networks(), new.networks(), |n| n.name.as_str(), same_subnets);
        let mut interfaces: Vec<Interface> = networks.into_iter().map(&mut here).collect();
        let uplinks = paired(old.uplinks(), new.uplinks(), |u| u.name.as_str(), |_, _| true);
        let first = new.networks().len();
        interfaces.extend(uplinks.iter().map(|same| here(same.map(|index| first + index))));
        let outer = count;
        interfaces.push(Interface::of_index(outer));
        let mut own: Vec<Interface> = (0..new.gateway_interface().0).map(Interface).collect();
        own.push(Interface::of_index(outer));
        let mut joint = Self {
            old: Side { interfaces, ..Side::default() },
            new: Side { interfaces: own, ..Side::default() },
            outer,
        };
        let domains =
            paired(old.domains(), new.domains(), |d| d.name.as_str(), |a, b| a.names == b.names);
        joint.placeholders(&domains, new.domains().len(), Placeholder::Domain);
        joint.placeholders(&uplinks, new.uplinks().len(), Placeholder::Uplink);
        joint
    }

    fn placeholders(&mut self, pairs: &[Option<usize>], new: usize, kind: fn(u16) -> Placeholder) {
        for (index, same) in pairs.iter().enumerate() {
            let own = kind(numbered(index));
            let number = same.map_or_else(|| OLD_ONLY + numbered(index), numbered);
            if kind(number) != own {
                self.old.moved.push((own, kind(number)));
            }
            if same.is_none() {
                self.new.strangers.push(kind(number));
            }
        }
        let known = |index: &usize| !pairs.contains(&Some(*index));
        self.old.strangers.extend((0..new).filter(known).map(|index| kind(numbered(index))));
    }

    /// What the old plan's packets are called.
    pub(crate) fn old_side(&self) -> &Side {
        &self.old
    }

    /// What the new plan's packets are called.
    pub(crate) fn new_side(&self) -> &Side {
        &self.new
    }

    /// How many interfaces there are before the gateway's own.
    pub(crate) fn outer(&self) -> usize {
        self.outer
    }

    /// A set of both plans, as packets of the new plan, and as packets of the old one where they concern
    /// what only that has.
    pub(crate) fn apart(&self, packets: &PacketSet) -> Vec<(bool, PacketSet)> {
        let gone: AddressSet =
            self.new.strangers.iter().map(|placeholder| placeholder.set()).collect();
        let (mut new, mut old) = (Vec::new(), Vec::new());
        for product in packets.products() {
            let to_gone = |set: &AddressSet| !gone.is_empty() && !set.is_disjoint(&gone);
            let concerns_gone = to_gone(&product.destination) || to_gone(&product.source);
            let spans = product.enters.spans().iter().flat_map(|(low, high)| low.0..=high.0);
            let interfaces: Vec<Interface> = spans.map(Interface).collect();
            let (here, there): (Vec<Interface>, Vec<Interface>) =
                interfaces.iter().partition(|interface| self.new.own(**interface).is_some());
            let only = |interfaces: &[Interface], side: &Side, product: &Match| {
                let enters: IntervalSet<Interface> =
                    interfaces.iter().filter_map(|l| side.own(*l)).collect();
                (!enters.is_empty()).then(|| Match { enters, ..product.clone() })
            };
            if concerns_gone {
                let just = |set: &AddressSet| {
                    let own = set.intersection(&gone);
                    if own.is_empty() { set.clone() } else { own }
                };
                let (source, destination) = (just(&product.source), just(&product.destination));
                let part = Match { source, destination, ..product.clone() };
                old.extend(only(&interfaces, &self.old, &part).map(|part| self.old.back(part)));
            }
            old.extend(only(&there, &self.old, &product).map(|part| self.old.back(part)));
            let product = Match {
                source: product.source.difference(&gone),
                destination: product.destination.difference(&gone),
                ..product
            };
            new.extend(only(&here, &self.new, &product));
        }
        let sets = [(true, new.into_iter().collect()), (false, old.into_iter().collect())];
        sets.into_iter().filter(|(_, set): &(bool, PacketSet)| !set.is_empty()).collect()
    }
}

impl Side {
    /// For each interface, its number in both.
    pub(super) fn interfaces(&self) -> &[Interface] {
        &self.interfaces
    }

    /// The interfaces that only the other plan has.
    pub(crate) fn lacking(&self) -> impl Iterator<Item = Interface> + '_ {
        let gateway = self.interfaces.last().map_or(0, |interface| interface.0);
        (0..gateway).map(Interface).filter(|interface| !self.interfaces.contains(interface))
    }

    fn own(&self, interface: Interface) -> Option<Interface> {
        self.interfaces.iter().position(|other| *other == interface).map(Interface::of_index)
    }

    /// A set of this plan as one of both.
    pub(crate) fn joined(&self, packets: &PacketSet) -> PacketSet {
        let moved = packets.on_interfaces(|interface| self.interface(interface));
        if self.moved.is_empty() && self.strangers.is_empty() {
            return moved;
        }
        moved.products().map(|product| self.readdressed(product)).collect()
    }

    /// The number of an interface in both; those of translated packets follow on.
    pub(crate) fn interface(&self, interface: Interface) -> Interface {
        let gateway = self.interfaces.len() - 1;
        match self.interfaces.get(usize::from(interface.0)) {
            Some(interface) => *interface,
            None => {
                let came_by = self.interfaces[usize::from(interface.0) - gateway - 1];
                Interface(self.interfaces[gateway].0 + 1 + came_by.0)
            }
        }
    }

    /// A product of this plan as one of both.
    pub(crate) fn product(&self, product: &Match) -> Match {
        let spans = product.enters.spans().iter().flat_map(|(low, high)| low.0..=high.0);
        let enters = spans.map(|interface| self.interface(Interface(interface))).collect();
        self.readdressed(Match { enters, ..product.clone() })
    }

    /// The same, where only addresses have other numbers.
    pub(crate) fn readdressed(&self, product: Match) -> Match {
        Match {
            source: self.addresses(&product.source),
            destination: self.addresses(&product.destination),
            ..product
        }
    }

    fn addresses(&self, set: &AddressSet) -> AddressSet {
        if self.moved.is_empty() && self.strangers.is_empty() {
            return set.clone();
        }
        let all = |pairs: &mut dyn Iterator<Item = Placeholder>| -> AddressSet {
            pairs.map(Placeholder::set).collect()
        };
        let from = all(&mut self.moved.iter().map(|(from, _)| *from));
        let to = all(&mut self.moved.iter().map(|(_, to)| *to));
        let strangers = all(&mut self.strangers.iter().copied());
        let mut moved = set.difference(&from).difference(&to).difference(&strangers);
        for (from, to) in &self.moved {
            let there = set.intersection(&from.set());
            let to = to.set();
            moved = moved.union(&AddressSet {
                v4: if there.v4.is_empty() { IntervalSet::empty() } else { to.v4 },
                v6: if there.v6.is_empty() { IntervalSet::empty() } else { to.v6 },
            });
        }
        // The internet at large includes strangers.
        let large = at_large();
        moved.union(&AddressSet {
            v4: if large.v4.is_subset(&set.v4) { strangers.v4 } else { IntervalSet::empty() },
            v6: if large.v6.is_subset(&set.v6) { strangers.v6 } else { IntervalSet::empty() },
        })
    }

    /// A product of both as one of this plan, its interfaces apart.
    fn back(&self, product: Match) -> Match {
        let turned = self.moved.iter().map(|(from, to)| (*to, *from)).collect();
        let back = Self { interfaces: Vec::new(), moved: turned, strangers: Vec::new() };
        back.readdressed(product)
    }
}

/// A stretch of the internet that no plan of a small site names a part of and means the whole.
fn at_large() -> AddressSet {
    let prefixes = ["1.0.0.0/9", "2a00::/13"];
    prefixes.iter().filter_map(|prefix| prefix.parse::<ipnet::IpNet>().ok()).collect()
}

/// For each of the old things, the new one of the same name; else one that is left and alike.
fn paired<T>(
    old: &[T],
    new: &[T],
    name: impl Fn(&T) -> &str,
    alike: impl Fn(&T, &T) -> bool,
) -> Vec<Option<usize>> {
    let named = |thing: &T| new.iter().position(|other| name(other) == name(thing));
    let mut pairs: Vec<Option<usize>> = old.iter().map(named).collect();
    for index in 0..old.len() {
        if pairs[index].is_some() {
            continue;
        }
        let left = |place: &usize| !pairs.contains(&Some(*place));
        let mut left = (0..new.len()).filter(left);
        pairs[index] = left.find(|place| alike(&old[index], &new[*place]));
    }
    pairs
}

fn same_subnets(one: &Network, other: &Network) -> bool {
    one.prefixes() == other.prefixes() && one.tunnel.is_some() == other.tunnel.is_some()
}
