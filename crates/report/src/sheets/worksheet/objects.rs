//! Objects that rules refer to: addresses and services, each created once on the gateway before the rules that use
//! it.

use super::names::Names;
use crate::sheets::{address_values, are_same};
use bastium_core::addressing::Placeholder;
use bastium_core::plan::Plan;
use bastium_core::rules::Endpoint;
use bastium_core::source::Text;
use bastium_core::space::{AddressSet, IntervalSet, Match, Minute, Protocol, ServiceSet};

/// The word for everything, which every gateway has.
pub(super) const ANY: &str = "any";

/// Addresses under a name.
#[derive(Clone, Debug)]
pub(super) struct Addresses {
    pub(super) name: String,
    /// What it is: `zone`, `network`, `host`, `group`, `domain`, or `addresses`.
    pub(super) kind: &'static str,
    /// Its values, as they are typed.
    pub(super) values: Vec<String>,
    pub(super) state: Made,
    /// The plan's word for it, which others may share that have other addresses.
    word: String,
    pub(super) set: AddressSet,
}

/// Whether something is on the gateway already, and whether rules name it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Made {
    pub(super) before: bool,
    pub(super) used: bool,
}

impl Made {
    const NOW: Self = Self { before: false, used: true };
    const BEFORE: Self = Self { before: true, used: false };
}

/// Hours under a name.
#[derive(Clone, Debug)]
pub(super) struct Hours {
    pub(super) name: String,
    pub(super) value: String,
    pub(super) state: Made,
    word: String,
    pub(super) set: IntervalSet<Minute>,
}

/// Services under a name.
#[derive(Clone, Debug)]
pub(super) struct Service {
    pub(super) name: String,
    /// Protocols and ports.
    pub(super) ports: Vec<String>,
    /// Whether it is one of those that most gateways have.
    pub(super) well_known: bool,
    pub(super) state: Made,
    pub(super) set: ServiceSet,
}

/// Everything that rules name.
#[derive(Debug)]
pub(in crate::sheets) struct Objects<'p> {
    plan: &'p Plan,
    names: Names,
    pub(super) addresses: Vec<Addresses>,
    pub(super) services: Vec<Service>,
    pub(super) hours: Vec<Hours>,
}

impl<'p> Objects<'p> {
    pub(super) fn new(plan: &'p Plan) -> Self {
        let names = Names::new(plan.gateway().limits.name);
        Self { plan, names, addresses: Vec::new(), services: Vec::new(), hours: Vec::new() }
    }

    /// What a gateway has of these when it gets the rules of another plan: everything, under its name. Addresses that
    /// only stand for something are the other plan's only if both have numbered alike what they stand for.
    pub(super) fn for_rules_of<'n>(&self, plan: &'n Plan, numbered_alike: bool) -> Objects<'n> {
        let stands_for = |set: &AddressSet| {
            set.ranges().any(|(low, high)| low == high && Placeholder::of(low).is_some())
        };
        let mut addresses = self.addresses.clone();
        for known in &mut addresses {
            known.state = Made::BEFORE;
            if !numbered_alike && stands_for(&known.set) {
                known.set = AddressSet::empty();
            }
        }
        let (mut services, mut hours) = (self.services.clone(), self.hours.clone());
        services.iter_mut().for_each(|known| known.state = Made::BEFORE);
        hours.iter_mut().for_each(|known| known.state = Made::BEFORE);
        Objects { plan, names: self.names.clone(), addresses, services, hours }
    }

    /// Takes in addresses that the gateway has under a name; as the rules mean them, where they are the same but for
    /// what nobody types.
    pub(super) fn know_addresses(&mut self, name: &str, set: &AddressSet, meant: &Self) {
        let mut own = meant.addresses.iter().map(|own| &own.set);
        let set = own.find(|own| are_same(self.plan, set, own)).unwrap_or(set);
        let values = address_values(self.plan, set);
        let (name, word) = (self.names.short(name), name.to_owned());
        let (kind, set, state) = (self.kind(&word), set.clone(), Made::NOW);
        self.addresses.push(Addresses { name, kind, values, state, word, set });
    }

    /// Takes in services that the gateway has under a name; as the rules mean them, where their words are the same.
    pub(super) fn know_service(&mut self, name: &str, set: &ServiceSet, meant: &Self) {
        let (name, ports, state) = (self.names.short(name), set.words(), Made::NOW);
        let same = |own: &&Service| ServiceSet::from_words(&own.ports).as_ref() == Some(set);
        let mut own = meant.services.iter().filter(same);
        let set = own.next().map_or(set, |own| &own.set).clone();
        self.services.push(Service { name, ports, well_known: false, state, set });
    }

    /// Takes in hours that the gateway has under a name.
    pub(super) fn know_hours(&mut self, name: &str, set: &IntervalSet<Minute>) {
        let (name, word, value) = (name.to_owned(), name.to_owned(), set.words());
        self.hours.push(Hours { name, value, state: Made::NOW, word, set: set.clone() });
    }

    /// The name of hours.
    pub(super) fn of_hours(&mut self, word: &str, set: &IntervalSet<Minute>) -> String {
        let same = |known: &&mut Hours| known.word == word && known.set == *set;
        if let Some(known) = self.hours.iter_mut().find(same) {
            known.state.used = true;
            return known.name.clone();
        }
        let taken = self.hours.iter().any(|known| known.word == word);
        let name = if taken { self.names.short(&format!("{word} (2)")) } else { word.to_owned() };
        let (value, word, set) = (set.words(), word.to_owned(), set.clone());
        self.hours.push(Hours { name: name.clone(), value, state: Made::NOW, word, set });
        name
    }

    /// A rule's name, within what the gateway takes.
    pub(super) fn rule_name(&mut self, id: &str) -> String {
        self.names.short(id)
    }

    /// The names of the objects that together have just these addresses: those of the plan's words where they say so,
    /// else one for the whole.
    pub(super) fn of_end(
        &mut self,
        (zones, says): (&Endpoint, &Endpoint),
        set: &AddressSet,
    ) -> Vec<String> {
        if *set == AddressSet::full() {
            return vec![ANY.to_owned()];
        }
        let words = words_of(zones, says);
        let meant: Option<Vec<AddressSet>> =
            words.iter().map(|word| self.meant_by(word, set)).collect();
        match meant
            .filter(|sets| !sets.is_empty() && sets.iter().cloned().collect::<AddressSet>() == *set)
        {
            Some(sets) => {
                let all = words.iter().zip(sets);
                all.map(|(word, set)| self.named(word, set)).collect()
            }
            None => vec![self.named(&words.join(", "), set.clone())],
        }
    }

    /// The addresses of a word, if it has any besides those of `whole`: a zone is said with its prefixes or with its
    /// devices alone, whichever the rule means.
    fn meant_by(&self, word: &str, whole: &AddressSet) -> Option<AddressSet> {
        let zone = self.plan.zone_named(word).map(|zone| self.plan.zone_prefixes(zone).clone());
        let place = || self.plan.place(&[Text::new(word)]).ok().map(|place| place.addresses);
        let inside = |set: &AddressSet| !set.is_empty() && set.is_subset(whole);
        zone.filter(inside).or_else(|| place().filter(inside))
    }

    fn named(&mut self, word: &str, set: AddressSet) -> String {
        if let Some(known) = self.addresses.iter_mut().find(|known| known.set == set) {
            known.state.used = true;
            return known.name.clone();
        }
        // Every address that a device can have is less than all there are.
        let word = if word == ANY { "any device" } else { word };
        // The same word with other addresses is something else.
        let taken = self.addresses.iter().filter(|known| known.word == word).count();
        let full = if taken == 0 { word.to_owned() } else { format!("{word} ({})", taken + 1) };
        let name = self.names.short(&full);
        let (kind, values) = (self.kind(word), address_values(self.plan, &set));
        let word = word.to_owned();
        let state = Made::NOW;
        self.addresses.push(Addresses { name: name.clone(), kind, values, state, word, set });
        name
    }

    fn kind(&self, word: &str) -> &'static str {
        let plan = self.plan;
        let has = |mut names: Box<dyn Iterator<Item = &str> + '_>| names.any(|name| name == word);
        if plan.zone_named(word).is_some() {
            "zone"
        } else if has(Box::new(plan.networks().iter().map(|one| one.name.as_str()))) {
            "network"
        } else if has(Box::new(plan.hosts().iter().map(|one| one.name.as_str()))) {
            "host"
        } else if has(Box::new(plan.groups().iter().map(|one| one.name.as_str()))) {
            "group"
        } else if has(Box::new(plan.domains().iter().map(|one| one.name.as_str()))) {
            "domain"
        } else {
            "addresses"
        }
    }

    /// The names of the services that a rule is for. A word stands for all that it means, where the addresses of the
    /// rule leave of that just what the rule is for: nobody makes a service for one family if no packet of the other can
    /// match.
    pub(super) fn of_service(&mut self, says: &str, packets: &Match) -> Vec<String> {
        let wanted = plain(&packets.service, packets);
        if wanted == plain(&ServiceSet::any(), packets) {
            return vec![ANY.to_owned()];
        }
        let words: Vec<&str> = says.split(", ").collect();
        let meant =
            |word: &&str| self.plan.service(&[Text::new(*word)]).ok().map(|found| found.set);
        let meant: Option<Vec<ServiceSet>> = words.iter().map(meant).collect();
        let whole = meant.filter(|sets| {
            let all = sets.iter().fold(ServiceSet::empty(), |all, one| all.union(one));
            plain(&all, packets) == wanted
        });
        match whole {
            Some(sets) => {
                words.iter().zip(sets).map(|(word, set)| self.service_named(word, set)).collect()
            }
            None => vec![self.service_named(says, packets.service.clone())],
        }
    }

    fn service_named(&mut self, word: &str, set: ServiceSet) -> String {
        if let Some(known) = self.services.iter_mut().find(|known| known.set == set) {
            known.state.used = true;
            return known.name.clone();
        }
        let (v4, v6) = (set.v4.is_empty(), set.v6.is_empty());
        let word = if word == ANY { "any service" } else { word };
        let full = match self.services.iter().any(|known| known.name == word) {
            false => word.to_owned(),
            true if v6 => format!("{word} (IPv4)"),
            true if v4 => format!("{word} (IPv6)"),
            true => format!("{word} ({})", self.services.len()),
        };
        let declared = self.plan.services().iter().any(|service| service.name.as_str() == word);
        let well_known = !declared && bastium_core::service::built_in(word).is_some();
        let name = self.names.short(&full);
        let (ports, state) = (set.words(), Made::NOW);
        self.services.push(Service { name: name.clone(), ports, well_known, state, set });
        name
    }
}

/// The words of an end, one for each object.
fn words_of(zones: &Endpoint, says: &Endpoint) -> Vec<String> {
    let split = |end: &Endpoint| match end {
        Endpoint::Named(names) => names.clone(),
        other => other.to_string().split(", ").map(str::to_owned).collect(),
    };
    if *says == Endpoint::Any { split(zones) } else { split(says) }
}

/// Services without what no packet of a rule can ask for: in a family that its addresses do not have, or the ICMP of
/// the other family.
pub(in crate::sheets) fn plain(services: &ServiceSet, packets: &Match) -> ServiceSet {
    let here = services.for_families_of(&packets.source).for_families_of(&packets.destination);
    ServiceSet {
        v4: here.v4.difference(&ServiceSet::protocol(Protocol::ICMP_V6).v4),
        v6: here.v6.difference(&ServiceSet::protocol(Protocol::ICMP).v6),
    }
}
