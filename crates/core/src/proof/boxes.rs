//! Packet sets in words for people: few traffic classes, with the plan's names for networks, services and hours.

use crate::addressing::{link_local, multicast};
use crate::plan::{NetworkId, Plan, ZoneId};
use crate::rules::gateway_at;
use crate::space::{
    AddressSet, Interface, IntervalSet, Match, Minute, PacketSet, ServicePoint, ServiceSet,
};
use std::cell::RefCell;
use std::collections::HashMap;
use std::hash::Hash;
use std::rc::Rc;

/// A product of sets in the plan's words.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
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

/// The words of a plan for packet sets. What was put into words once is remembered, for in a list of thousands of boxes
/// the same few ends come again and again.
#[derive(Debug)]
pub struct Wording<'p> {
    plan: &'p Plan,
    /// The gateway's own addresses.
    own: AddressSet,
    networks: Vec<NetworkWords>,
    entering: Remembered<IntervalSet<Interface>, Rc<Entering>>,
    addresses: Remembered<AddressSet, Rc<Vec<String>>>,
    /// By interface, what counts as the gateway for what enters there.
    gateway: Remembered<Interface, Rc<AddressSet>>,
    zones: Remembered<AddressSet, Rc<Vec<String>>>,
    services: Remembered<IntervalSet<ServicePoint>, Rc<Vec<String>>>,
}

type Remembered<K, V> = RefCell<HashMap<K, V>>;

/// What has to be known about a network to name sets.
#[derive(Debug)]
struct NetworkWords {
    name: String,
    /// What its devices can have: one set for each family in which that is anything.
    parts: Vec<AddressSet>,
    /// All of its addresses but the gateway's: what no device can have goes with the network.
    nobody: AddressSet,
}

/// Where packets enter, in words; and what belongs there.
#[derive(Debug)]
struct Entering {
    names: Vec<String>,
    /// Whether some of the interfaces are networks'.
    networks: bool,
    /// What their devices can have.
    devices: AddressSet,
    /// The same, with what is behind their routers.
    behind_too: AddressSet,
}

fn remembered<K: Eq + Hash + Clone, V: Clone>(
    known: &Remembered<K, V>,
    key: &K,
    make: impl FnOnce() -> V,
) -> V {
    if let Some(value) = known.borrow().get(key) {
        return value.clone();
    }
    let value = make();
    known.borrow_mut().insert(key.clone(), value.clone());
    value
}

impl<'p> Wording<'p> {
    /// The words of a plan.
    pub fn new(plan: &'p Plan) -> Self {
        let own = plan.gateway_addresses().clone();
        let networks = plan.network_ids().map(|id| {
            let all = plan.network_addresses(id);
            let parts = [all.only_v4(), all.only_v6()].into_iter().filter(|set| !set.is_empty());
            let nobody = plan.network(id).prefixes().difference(&own);
            NetworkWords { name: plan.network(id).name.to_string(), parts: parts.collect(), nobody }
        });
        let networks = networks.collect();
        Self {
            plan,
            own,
            networks,
            entering: Remembered::default(),
            addresses: Remembered::default(),
            gateway: Remembered::default(),
            zones: Remembered::default(),
            services: Remembered::default(),
        }
    }

    /// A set in boxes, each named after what the plan calls its parts. A box that reads the same in both families is
    /// one box.
    ///
    /// ```
    /// use bastium_core::meaning::Meaning;
    /// use bastium_core::proof::Wording;
    /// use bastium_core::source::Text;
    /// use bastium_core::space::{Match, PacketSet, ServiceSet};
    /// use jiff::civil::date;
    ///
    /// # let text = std::fs::read("tests/two-networks.toml").expect("a file");
    /// # let plan = bastium_planfile::read("plan.toml", &text).expect("a plan without errors");
    /// let meaning = Meaning::new(&plan, date(2026, 6, 1)).expect("no contradictions");
    /// let place = |words| plan.place(&[Text::new(words)]).expect("an endpoint");
    /// let all = meaning.to_gateway_from(&place("desks"), &place("gateway"), &ServiceSet::any());
    /// let is_gateway = |set: &PacketSet, family: &str| {
    ///     let boxes = Wording::new(&plan).boxes(set);
    ///     boxes.iter().any(|one| one.family == family && one.destination == ["gateway"])
    /// };
    /// assert!(is_gateway(&all, "both"));
    ///
    /// // Without one of its IPv4 addresses, only the IPv6 ones are all of the gateway.
    /// let one = "10.44.24.1".parse::<std::net::IpAddr>().expect("an address");
    /// let to_one = Match { destination: one.into(), ..Match::everything() };
    /// let rest = all.difference(&PacketSet::from(&to_one));
    /// assert!(!is_gateway(&rest, "IPv4") && is_gateway(&rest, "IPv6"));
    /// ```
    pub fn boxes(&self, set: &PacketSet) -> Vec<NamedBox> {
        let mut boxes: Vec<NamedBox> = Vec::new();
        let mut places: HashMap<NamedBox, usize> = HashMap::new();
        for product in set.tidied().products() {
            let named = self.named(&product);
            let of_both = NamedBox { family: "both", ..named.clone() };
            match places.get(&of_both) {
                Some(&place) if boxes[place].family != named.family => boxes[place].family = "both",
                Some(_) => {}
                None => {
                    places.insert(of_both, boxes.len());
                    boxes.push(named);
                }
            }
        }
        boxes
    }

    fn named(&self, product: &Match) -> NamedBox {
        let plan = self.plan;
        let v4 = !product.source.v4.is_empty();
        // A product is of one family; said of both, its services need no remark on that.
        let line = product.service.v4.union(&product.service.v6);
        let entering = remembered(&self.entering, &product.enters, || {
            Rc::new(Entering::new(plan, &product.enters))
        });
        let from = &entering.names;
        let sources = self.addresses(&product.source);
        let networks = entering.networks;
        let source = if product.source == self.everything(&entering, product)
            || (*sources == *from && !networks)
        {
            vec!["any".to_owned()]
        } else if networks
            && (*sources == *from || product.source == in_family(&entering.devices, v4))
        {
            from.iter().map(|name| format!("devices of {name}")).collect()
        } else {
            sources.to_vec()
        };
        let to = remembered(&self.zones, &product.destination, || {
            Rc::new(zones(plan, &product.destination))
        });
        let service =
            remembered(&self.services, &line, || Rc::new(ServiceSet::both(line.clone()).words()));
        NamedBox {
            from: from.clone(),
            source,
            to: to.to_vec(),
            destination: self.destination(product),
            service: service.to_vec(),
            hours: (!product.at.is_full()).then(|| hours(plan, &product.at)),
            family: if v4 { "IPv4" } else { "IPv6" },
        }
    }

    /// All sources of a product's family that belong where it enters by networks: their devices, what is behind their
    /// routers, and where it is for the gateway, who stands on the link.
    fn everything(&self, entering: &Entering, product: &Match) -> AddressSet {
        let v4 = !product.source.v4.is_empty();
        let local = multicast().union(&link_local()).union(&self.own);
        let all = in_family(&entering.behind_too, v4);
        match product.destination.is_disjoint(&local) {
            false if !v4 => all.union(&link_local()),
            _ => all,
        }
    }

    /// A product's destinations: `gateway` where they are everything that counts as the gateway for what enters there, its
    /// addresses and whatever it listens to with all others.
    fn destination(&self, product: &Match) -> Vec<String> {
        if self.is_gateway(product) {
            return vec!["gateway".to_owned()];
        }
        self.addresses(&product.destination).to_vec()
    }

    fn is_gateway(&self, product: &Match) -> bool {
        let destination = &product.destination;
        let v4 = !destination.v4.is_empty();
        let own = in_family(&self.own, v4);
        if own.is_empty() || !own.is_subset(destination) {
            return false;
        }
        let is_all = |interface: Interface| {
            let all =
                remembered(&self.gateway, &interface, || Rc::new(gateway_at(self.plan, interface)));
            if v4 { all.v4 == destination.v4 } else { all.v6 == destination.v6 }
        };
        let last = self.plan.translated_interface(self.plan.gateway_interface());
        let spans = product.enters.spans().iter();
        spans.flat_map(|(low, high)| low.0..=(*high).min(last).0).map(Interface).all(is_all)
    }

    /// A set of one family by the name of the place that has just these, or what is left and right of such.
    pub(crate) fn addresses(&self, set: &AddressSet) -> Rc<Vec<String>> {
        remembered(&self.addresses, set, || Rc::new(self.name_addresses(set)))
    }

    /// Addresses of the gateway: `gateway 10.44.24.1`; those that it is leased go by their uplinks.
    fn gateway_words(&self, set: &AddressSet) -> Vec<String> {
        let uplinks = self.plan.uplinks().iter();
        let leased = uplinks.filter_map(|uplink| Some((&uplink.name, uplink.placeholder?.set())));
        let leased: Vec<_> = leased.filter(|(_, own)| !own.is_disjoint(set)).collect();
        let fixed = leased.iter().fold(set.clone(), |rest, (_, own)| rest.difference(own));
        let fixed = self.plan.set_words(&fixed).into_iter().map(|word| format!("gateway {word}"));
        fixed
            .chain(leased.iter().map(|(uplink, _)| format!("gateway's address on {uplink}")))
            .collect()
    }

    fn name_addresses(&self, set: &AddressSet) -> Vec<String> {
        let plan = self.plan;
        if let Some(name) = plan.name_in_family(set) {
            return vec![name];
        }
        let gateway = set.intersection(&self.own);
        if !gateway.is_empty() && gateway == *set {
            return self.gateway_words(set);
        }
        let (mut names, mut rest) = of_internet(plan, set);
        for network in &self.networks {
            for part in &network.parts {
                if part.is_subset(&rest) {
                    rest = rest.difference(part).difference(&network.nobody);
                    names.push(network.name.clone());
                }
            }
        }
        if !rest.is_empty() {
            let words = plan.name_in_family(&rest);
            names.extend(words.map_or_else(|| plan.set_words(&rest), |name| vec![name]));
        }
        names
    }
}

impl Entering {
    fn new(plan: &Plan, interfaces: &IntervalSet<Interface>) -> Self {
        let here: Vec<NetworkId> = plan
            .network_ids()
            .filter(|id| interfaces.contains(plan.network_interface(*id)))
            .collect();
        let devices: AddressSet =
            here.iter().map(|id| plan.network_addresses(*id).clone()).collect();
        let routes = plan.routes().iter().filter(|route| here.contains(&route.network));
        let behind: AddressSet = routes.map(|route| route.devices.clone()).collect();
        Self {
            names: entering(plan, interfaces),
            networks: !here.is_empty(),
            behind_too: devices.union(&behind),
            devices,
        }
    }
}

/// What of a set is of one family.
fn in_family(set: &AddressSet, v4: bool) -> AddressSet {
    if v4 { set.only_v4() } else { set.only_v6() }
}

/// The networks and uplinks on some interfaces; a zone where they are just its networks.
fn entering(plan: &Plan, interfaces: &IntervalSet<Interface>) -> Vec<String> {
    let last = plan.translated_interface(plan.gateway_interface());
    let interfaces: Vec<Interface> =
        (0..=last.0).map(Interface).filter(|interface| interfaces.contains(*interface)).collect();
    let networks: Vec<NetworkId> =
        interfaces.iter().filter_map(|interface| plan.network_on(*interface)).collect();
    let whole = |zone: &ZoneId| {
        let own: Vec<NetworkId> = plan.networks_of(*zone).collect();
        own.len() > 1 && own.iter().all(|id| networks.contains(id))
    };
    let whole: Vec<ZoneId> = plan.zone_ids().filter(whole).collect();
    let mut names: Vec<String> =
        whole.iter().map(|zone| plan.zone(*zone).name.to_string()).collect();
    for interface in interfaces {
        let name = match plan.network_on(interface) {
            Some(id) if whole.contains(&plan.network(id).zone) => continue,
            Some(id) => plan.network(id).name.to_string(),
            None if plan.uplink_on(interface).is_some() => "internet".to_owned(),
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
    let own = plan.gateway_addresses();
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
