//! The validated site. A [`Plan`] cannot be wrong: every name in it is resolved, every address lies
//! where it should, every cell of the matrix is there. After [`resolve`] no code asks again.
//!
//! The way in: a reader of some format makes a [`draft::Draft`] (raw words with positions), and
//! [`resolve`] turns it into a plan or into *all* the problems that it has.

pub mod draft;
mod growth;
mod ids;
mod interfaces;
mod matrix;
mod model;
mod place;
mod place_problem;
mod resolve;
mod ssh_host;
mod traffic;
mod wiring;

pub use ids::{ExceptionId, HostId, NetworkId, ZoneId};
pub use matrix::{Action, Cell, Denial, LogPolicy, Matrix, Unmatched};
pub use model::{
    Exception, Form, Gateway, Group, Host, Manage, Network, Rows, Service, Site, Trust, Uplink,
    Zone,
};
pub use place::{Kind, Place};
pub use place_problem::PlaceProblem;
pub use resolve::{
    ExceptionProblem, GatewayProblem, GridProblem, HostProblem, HoursProblem, InboundProblem,
    NameProblem, NetworkProblem, Problem, PromiseProblem, RouteProblem, ServiceProblem,
    WiringProblem, resolve,
};
pub use ssh_host::{NotAnSshHost, Reach, SshHost};
pub use traffic::{
    Discovery, Domain, Guarantee, Hours, Inbound, Known, Limits, Route, Services, Stream, Tunnel,
};
pub use wiring::{
    AccessPoint, AccessPointId, Hang, Switch, SwitchId, SwitchPort, Tagged, Wifi, Wiring,
};

use crate::source::{Source, Span, Text};
use crate::space::{AddressSet, Interface, IntervalSet, Minute, Packet};
use place::Directory;
use std::net::IpAddr;
use std::sync::OnceLock;

/// A validated site: everything that a plan file says, resolved.
///
/// A plan cannot be wrong. Every name refers to something, every address lies in its subnet, every pair of zones has
/// a cell in the matrix. Nothing can be changed afterwards, and there is no other way to get one than [`resolve`], so
/// code that takes a `&Plan` never checks it again.
///
/// What the plan *means* for a packet is not decided here: see [`Meaning`](crate::meaning::Meaning).
///
/// ```
/// use bastium_core::plan::Action;
///
/// # let text = std::fs::read("tests/two-networks.toml").expect("a file");
/// let plan = bastium_planfile::read("plan.toml", &text).expect("a plan without errors");
/// let desks = plan.network_ids().next().expect("a network");
/// assert_eq!(plan.network(desks).name.as_str(), "desks");
/// assert_eq!(plan.network(desks).subnets[0].prefix().to_string(), "10.44.24.0/24");
/// assert_eq!(plan.network_of("10.44.24.10".parse().expect("an address")), Some(desks));
/// assert_eq!(plan.exceptions()[0].action, Action::Allow);
/// ```
#[derive(Clone, Debug)]
pub struct Plan {
    source: Source,
    site: Site,
    gateway: Gateway,
    uplinks: Vec<Uplink>,
    zones: Vec<Zone>,
    networks: Vec<Network>,
    routes: Vec<Route>,
    hosts: Vec<Host>,
    groups: Vec<Group>,
    domains: Vec<Domain>,
    services: Vec<Service>,
    matrix: Matrix,
    hours: Vec<Hours>,
    exceptions: Vec<Exception>,
    inbounds: Vec<Inbound>,
    discoveries: Vec<Discovery>,
    streams: Vec<Stream>,
    guarantees: Vec<Guarantee>,
    known: Vec<Known>,
    wiring: Wiring,
    /// By network: what its devices can have and no host of the plan has.
    unnamed: Vec<AddressSet>,
    /// By network: in which of these any device that joins it may find itself.
    anonymous: Vec<AddressSet>,
    zone_reach: Vec<ZoneReach>,
    /// By zone, once somebody asked: by which interfaces and from which sources its packets come.
    zone_entries: OnceLock<Vec<ZoneEntries>>,
    directory: Directory,
}

/// By which interfaces, and from which sources, the packets of a zone come.
type ZoneEntries = Vec<(IntervalSet<Interface>, AddressSet)>;

/// Where a zone is.
#[derive(Clone, Debug)]
struct ZoneReach {
    /// What its devices can have.
    devices: AddressSet,
    /// Everything that leads to it.
    prefixes: AddressSet,
}

impl Plan {
    /// The text it was read from.
    pub fn source(&self) -> &Source {
        &self.source
    }

    /// The site as a whole.
    pub fn site(&self) -> &Site {
        &self.site
    }

    /// The gateway.
    pub fn gateway(&self) -> &Gateway {
        &self.gateway
    }

    /// The ways out, in the file's order.
    pub fn uplinks(&self) -> &[Uplink] {
        &self.uplinks
    }

    /// The zones in the file's order; the internet is the last one.
    pub fn zones(&self) -> &[Zone] {
        &self.zones
    }

    /// The zone of that number.
    pub fn zone(&self, id: ZoneId) -> &Zone {
        &self.zones[id.0]
    }

    /// The numbers of all zones.
    pub fn zone_ids(&self) -> impl DoubleEndedIterator<Item = ZoneId> + Clone + use<> {
        (0..self.zones.len()).map(ZoneId)
    }

    /// The internet's zone.
    pub fn internet(&self) -> ZoneId {
        ZoneId(self.zones.len() - 1)
    }

    /// The zone of that name.
    pub fn zone_named(&self, name: &str) -> Option<ZoneId> {
        self.zone_ids().find(|id| self.zone(*id).name.as_str() == name)
    }

    /// The networks in the file's order, and behind them the tunnels in theirs.
    pub fn networks(&self) -> &[Network] {
        &self.networks
    }

    /// The network of that number.
    pub fn network(&self, id: NetworkId) -> &Network {
        &self.networks[id.0]
    }

    /// The numbers of all networks.
    pub fn network_ids(&self) -> impl Iterator<Item = NetworkId> + Clone + use<> {
        (0..self.networks.len()).map(NetworkId)
    }

    /// The networks of a zone.
    pub fn networks_of(&self, zone: ZoneId) -> impl Iterator<Item = NetworkId> + Clone + '_ {
        self.network_ids().filter(move |id| self.network(*id).zone == zone)
    }

    /// The hosts, in the file's order.
    pub fn hosts(&self) -> &[Host] {
        &self.hosts
    }

    /// The host of that number.
    pub fn host(&self, id: HostId) -> &Host {
        &self.hosts[id.0]
    }

    /// The host that has that address.
    pub fn host_at(&self, address: IpAddr) -> Option<&Host> {
        self.hosts.iter().find(|host| host.addresses.contains(&address))
    }

    /// The groups, in the file's order.
    pub fn groups(&self) -> &[Group] {
        &self.groups
    }

    /// The services that the plan declares, in the file's order.
    pub fn services(&self) -> &[Service] {
        &self.services
    }

    /// The subnets behind other routers, in the file's order.
    pub fn routes(&self) -> &[Route] {
        &self.routes
    }

    /// What is known by name only, in the file's order.
    pub fn domains(&self) -> &[Domain] {
        &self.domains
    }

    /// The hours that have a name, in the file's order.
    pub fn hours(&self) -> &[Hours] {
        &self.hours
    }

    /// A minute for each set of hours that can hold at once: what counts at these counts at all.
    pub fn moments(&self) -> Vec<Minute> {
        let borders = self.hours.iter().flat_map(|hours| hours.minutes.spans());
        let mut borders: Vec<Minute> = borders
            .flat_map(|(low, high)| [*low, Minute::new(high.number() + 1)])
            .chain([Minute::default()])
            .collect();
        borders.sort_unstable();
        borders.dedup();
        let mut known: Vec<Vec<bool>> = Vec::new();
        borders.retain(|minute| {
            let hold = self.hours.iter().map(|hours| hours.minutes.contains(*minute)).collect();
            let is_new = !known.contains(&hold);
            known.push(hold);
            is_new
        });
        borders
    }

    /// The services offered to the outside, in the file's order.
    pub fn inbounds(&self) -> &[Inbound] {
        &self.inbounds
    }

    /// The networks between which names are repeated, in the file's order.
    pub fn discoveries(&self) -> &[Discovery] {
        &self.discoveries
    }

    /// The steady loads, in the file's order.
    pub fn streams(&self) -> &[Stream] {
        &self.streams
    }

    /// What must hold: first what must never pass, then what must always.
    pub fn guarantees(&self) -> &[Guarantee] {
        &self.guarantees
    }

    /// The findings that are kept, in the file's order.
    pub fn known(&self) -> &[Known] {
        &self.known
    }

    /// Switches, access points and Wi-Fi names.
    pub fn wiring(&self) -> &Wiring {
        &self.wiring
    }

    /// The matrix.
    pub fn matrix(&self) -> &Matrix {
        &self.matrix
    }

    /// The exceptions in the file's order, those switched off or past their day included; and behind
    /// them the permissions that `inbound` entries amount to.
    pub fn exceptions(&self) -> &[Exception] {
        &self.exceptions
    }

    /// The exception of that number.
    pub fn exception(&self, id: ExceptionId) -> &Exception {
        &self.exceptions[id.0]
    }

    /// The network in whose subnets that address lies.
    pub fn network_of(&self, address: IpAddr) -> Option<NetworkId> {
        let holds = |id: &NetworkId| {
            self.network(*id).subnets.iter().any(|s| s.prefix().contains(&address))
        };
        self.network_ids().find(holds)
    }

    /// Every address that a network, a tunnel or a route holds: what is *inside*.
    pub fn inside(&self) -> &AddressSet {
        &self.directory.inside
    }

    /// What is neither inside, nor in the site's space, nor special-purpose.
    pub fn internet_addresses(&self) -> &AddressSet {
        &self.directory.internet
    }

    /// What lies in the own subnet of an uplink (by its place in [`Plan::uplinks`]) and is not the internet's: a
    /// provider's box at a private address. No cell speaks of it.
    pub fn beside_uplink(&self, index: usize) -> AddressSet {
        self.uplinks[index].neighbours().intersection(&self.directory.beside)
    }

    /// The same, of all uplinks.
    pub fn beside_uplinks(&self) -> &AddressSet {
        &self.directory.beside
    }

    /// The addresses that devices of a zone can have.
    pub fn zone_addresses(&self, zone: ZoneId) -> &AddressSet {
        &self.zone_reach[zone.0].devices
    }

    /// Everything that leads to a zone: its networks' whole subnets, and those behind its routers; to the
    /// internet, also what lies in the uplinks' own subnets.
    pub fn zone_prefixes(&self, zone: ZoneId) -> &AddressSet {
        &self.zone_reach[zone.0].prefixes
    }

    /// The addresses that devices of a network can have: without the gateway's and the reserved ones.
    pub fn network_addresses(&self, id: NetworkId) -> &AddressSet {
        self.network(id).device_addresses()
    }

    /// Of these, the ones that no host of the plan has.
    pub fn unnamed_addresses(&self, id: NetworkId) -> &AddressSet {
        &self.unnamed[id.0]
    }

    /// The addresses in which any device that joins a network may find itself: the pool, and in IPv6 everything that no
    /// host has. Without a pool, one free address stands for them.
    pub fn anonymous_addresses(&self, id: NetworkId) -> &AddressSet {
        &self.anonymous[id.0]
    }

    /// The gateway's addresses in its networks.
    pub fn gateway_inside(&self) -> &AddressSet {
        &self.directory.gateway_inside
    }

    /// The gateway's addresses at its uplinks; those that are leased have a stand-in.
    pub fn gateway_outside(&self) -> &AddressSet {
        &self.directory.gateway_outside
    }

    /// All addresses of the gateway, in its networks and at its uplinks.
    pub fn gateway_addresses(&self) -> &AddressSet {
        &self.directory.gateway
    }

    /// Whether an address is one of the gateway's own.
    pub fn is_gateway(&self, address: IpAddr) -> bool {
        self.gateway_addresses().contains(address)
    }

    /// The part of the internet that some uplink leads to: a family that none has leads nowhere.
    pub fn reachable_internet(&self) -> AddressSet {
        let all =
            self.uplinks.iter().map(|uplink| uplink.in_its_families(self.internet_addresses()));
        all.fold(AddressSet::empty(), |all, part| all.union(&part))
    }

    /// A set of addresses together with the gateway's own and the reserved ones, which no place holds.
    pub(crate) fn gateway_and(&self, addresses: &AddressSet) -> AddressSet {
        addresses.union(&self.directory.inside.difference(&self.directory.devices))
    }

    /// Resolves a place expression that does not stand in the plan: one from the command line.
    ///
    /// # Errors
    /// All the problems that it has.
    pub fn place(&self, words: &[Text]) -> Result<Place, Vec<PlaceProblem>> {
        let mut problems = Vec::new();
        let place = self.directory.place(words, &mut problems);
        place.filter(|_| problems.is_empty()).ok_or(problems)
    }

    /// Resolves a service expression that does not stand in the plan.
    ///
    /// # Errors
    /// All the problems that it has.
    pub fn service(&self, words: &[Text]) -> Result<Services, Vec<ServiceProblem>> {
        let mut problems = Vec::new();
        let known = resolve::declared(&self.services);
        let services = resolve::services(words, &known, &mut problems);
        services.filter(|_| problems.is_empty()).ok_or(problems)
    }

    /// What a set of addresses of one family is called, if a place of the plan has just these in that
    /// family, or just these and one place more: `imaging - ultrasound`.
    pub fn name_in_family(&self, addresses: &AddressSet) -> Option<String> {
        let directory = &self.directory;
        directory.name_in_family(addresses).or_else(|| directory.name_but_for_one(addresses))
    }

    /// The line of the plan that a span stands on, counted from 1.
    pub fn line(&self, span: Span) -> usize {
        self.source.line(span)
    }

    /// A packet in words: `tcp/443 from 10.44.24.2 (desks) to 10.44.40.10 (records)`.
    pub fn packet_words(&self, packet: &Packet) -> String {
        let end = |address: IpAddr| match self.host_at(address) {
            Some(host) => format!("{address} ({})", host.name),
            None => match self.network_of(address) {
                Some(network) => format!("{address} ({})", self.network(network).name),
                None => self.address_words(address),
            },
        };
        let (source, destination) = (end(packet.source()), end(packet.destination()));
        format!("{} from {source} to {destination}", packet.service)
    }
}
