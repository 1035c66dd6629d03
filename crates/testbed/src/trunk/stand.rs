//! The tester's presence in all networks: addresses that are leased, claimed, or used on behalf of an absent host.

use super::lanes::Lanes;
use crate::cable::{Advertised, Ends, Found, Leased, Pace, Silence};
use bastium_core::meaning::{Meaning, uses};
use bastium_core::plan::{NetworkId, Plan};
use bastium_core::rules::RuleSet;
use bastium_core::space::{Family, Minute};
use bastium_core::sweep::{self, End};
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::net::IpAddr;

/// For which absent hosts the tester stands in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum StandIn {
    /// For all that do not answer.
    Everyone,
    /// For these, by their names, if they do not answer.
    These(Vec<String>),
}

/// How a tester goes about it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Manner {
    /// For whom he stands in.
    pub stand_in: StandIn,
    /// How fast he goes.
    pub pace: Pace,
    /// The minute of the week that it is.
    pub at: Minute,
    /// Whether the gateway serves: leases, names, the time. If not, nobody is asked for leases, and nothing has to answer.
    pub serves: bool,
    /// Whether the tester stands in for the providers of uplinks with leased addresses.
    pub provides: bool,
}

/// What gives back all leases.
pub type Farewell = Box<dyn FnOnce() + Send>;

/// What was found in a network.
#[derive(Clone, Debug, Default)]
pub struct Network {
    /// The gateway's addresses there, and whether it has answered at them.
    pub gateway: Vec<(IpAddr, bool)>,
    /// What came of asking for a lease.
    pub leased: Option<Leased>,
    /// The routers that advertise themselves.
    pub routers: Vec<Advertised>,
    /// The tester's own addresses.
    pub own: Vec<IpAddr>,
    /// Hosts of the plan that are there themselves.
    pub present: Vec<IpAddr>,
    /// Hosts that the tester stands in for.
    pub stood_in: Vec<IpAddr>,
    /// Addresses that the tester wanted, and somebody has whom the plan does not know.
    pub strangers: Vec<IpAddr>,
}

/// The tester, in place.
pub struct Stand<'m, 'p> {
    pub(super) meaning: &'m Meaning<'p>,
    pub(super) rules: &'m RuleSet<'m>,
    pub(super) ends: Ends,
    pub(super) lanes: Lanes,
    pub(super) manner: Manner,
    /// What was found, by network as it is reached.
    pub networks: Vec<Network>,
    /// The own ends, in each network and family the one that stands for all like it first.
    pub(super) own: Vec<End>,
}

impl<'m, 'p> Stand<'m, 'p> {
    /// Takes the tester's place: asks who is there, for leases and for routers, and claims addresses that nobody has. As soon as
    /// there are leases, `leased` is handed what gives them back, for an end that comes before [`leave`](Self::leave).
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn take(
        (meaning, rules): (&'m Meaning<'p>, &'m RuleSet<'m>),
        (ends, lanes): (Ends, Lanes),
        manner: Manner,
        leased: impl FnOnce(Farewell),
    ) -> io::Result<Self> {
        let networks = lanes.lanes.iter().map(|_| Network::default()).collect();
        let own = Vec::new();
        let mut stand = Self { meaning, rules, ends, lanes, manner, networks, own };
        if stand.manner.provides {
            stand.provide()?;
        }
        stand.find_gateways()?;
        if stand.manner.serves {
            stand.get_addresses()?;
        }
        leased(Box::new(stand.ends.farewell()?));
        stand.find_hosts()?;
        stand.claim()?;
        Ok(stand)
    }

    /// The plan.
    pub(super) fn plan(&self) -> &'p Plan {
        self.meaning.plan()
    }

    /// What is tried: the meaning of the plan, and its rules.
    pub fn subject(&self) -> (&'m Meaning<'p>, &'m RuleSet<'m>) {
        (self.meaning, self.rules)
    }

    /// What a network is called.
    pub fn name(&self, lane: usize) -> String {
        self.plan().interface_name(self.lanes.interfaces[lane]).to_owned()
    }

    /// The plan's network that is reached so; `None` for the outside.
    pub fn network(&self, lane: usize) -> Option<NetworkId> {
        self.plan().network_on(self.lanes.interfaces[lane])
    }

    /// How many addresses of ours, and of hosts that we stand in for.
    pub fn own(&self) -> usize {
        self.own.len()
    }

    /// Hosts whose addresses were given up, since they turned out to be there themselves.
    pub fn given_up(&self) -> Vec<IpAddr> {
        self.ends.given_up().iter().map(|(_, address)| *address).collect()
    }

    /// Networks that are one, though the plan has two: the numbers of both.
    pub fn joined(&self) -> Vec<(usize, usize)> {
        self.ends.joined().collect()
    }

    /// Networks in which the gateway answered at first and then not; none if it was so in all of them, since then it is
    /// the cable.
    pub fn fell_silent(&self) -> Vec<Silence> {
        if self.ends.is_cut_off() { Vec::new() } else { self.ends.fell_silent().collect() }
    }

    /// How many frames this machine could not read in time.
    pub fn lost(&self) -> u64 {
        self.ends.lost()
    }

    /// How many devices were heard outside; with more than one, it is no cable to the gateway alone.
    pub fn heard_outside(&self) -> usize {
        self.ends.heard_outside()
    }

    /// Whether the outside is reached.
    pub fn has_outside(&self) -> bool {
        self.lanes.lanes.iter().any(|lane| lane.outside)
    }

    /// The networks that are not reached, and why.
    pub fn unplaced(&self) -> &[(NetworkId, super::Unplaced)] {
        &self.lanes.unplaced
    }

    /// Gives back what was leased.
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn leave(&mut self) -> io::Result<()> {
        self.ends.release()
    }

    pub(super) fn inside(&self) -> Vec<usize> {
        (0..self.lanes.lanes.len()).filter(|lane| !self.lanes.lanes[*lane].outside).collect()
    }

    fn find_gateways(&mut self) -> io::Result<()> {
        let found = self.ends.find_gateways()?;
        let sorted: BTreeMap<_, _> = found.into_iter().collect();
        for ((lane, address), answers) in sorted {
            self.networks[lane].gateway.push((address, answers));
        }
        Ok(())
    }

    fn get_addresses(&mut self) -> io::Result<()> {
        let plan = self.plan();
        let pool = |lane: &usize| {
            let id = plan.network_on(self.lanes.interfaces[*lane]);
            id.is_some_and(|id| plan.network(id).pool.is_some() && uses::leases(self.meaning, id))
        };
        let v6 = |lane: &usize| self.lanes.lanes[*lane].gateway.iter().any(IpAddr::is_ipv6);
        let (leasing, not): (Vec<usize>, Vec<usize>) = self.inside().into_iter().partition(pool);
        // Where nothing is leased, routers need not make themselves known.
        let routes = |lane: &usize| v6(lane) && pool(lane);
        let (routed, unrouted): (Vec<usize>, Vec<usize>) =
            self.inside().into_iter().partition(routes);
        for (lane, routers) in self.ends.routers(&routed, &unrouted)? {
            self.networks[lane].routers = routers;
        }
        for (lane, leased) in self.ends.lease(&leasing, &not)? {
            self.networks[lane].leased = Some(leased);
        }
        Ok(())
    }

    /// Looks which hosts of the plan are there, and takes the addresses of those that are not and that the tester stands in for.
    fn find_hosts(&mut self) -> io::Result<()> {
        let plan = self.plan();
        let mut hosts: Vec<((usize, IpAddr), bool)> = Vec::new();
        for host in plan.hosts() {
            let Some(lane) = self.lanes.lane_of(plan.network_interface(host.network)) else {
                continue;
            };
            let wanted = match &self.manner.stand_in {
                StandIn::Everyone => true,
                StandIn::These(these) => these.iter().any(|name| host.name.as_str() == name),
            };
            hosts.extend(host.addresses.iter().map(|address| ((lane, *address), wanted)));
        }
        let all: Vec<(usize, IpAddr)> = hosts.iter().map(|(at, _)| *at).collect();
        let found: Found = self.ends.who_is_there(&all)?;
        for ((lane, address), wanted) in hosts {
            let network = &mut self.networks[lane];
            match found.get(&(lane, address)) {
                Some(true) => network.present.push(address),
                _ if wanted => {
                    network.stood_in.push(address);
                    self.ends.take(lane, address);
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// Claims an address for each kind of packets that rules tell apart, and lines up all of ours.
    fn claim(&mut self) -> io::Result<()> {
        let wanted = sweep::wanted(self.meaning, self.rules);
        let reached = |end: &End| Some((self.lanes.lane_of(end.interface)?, end.address));
        let wanted: Vec<(usize, IpAddr)> = wanted.iter().filter_map(reached).collect();
        let claimed = self.ends.claim(&wanted)?;
        let mut seen = BTreeSet::new();
        for lane in self.inside() {
            let network = &mut self.networks[lane];
            let leased = network.leased.iter().filter_map(|leased| leased.taken.as_ref());
            let leased: Vec<IpAddr> = leased.map(|offer| offer.address.into()).collect();
            let here = wanted.iter().filter(|(of, _)| *of == lane);
            for at in here.clone().filter(|at| claimed.get(at) == Some(&false)) {
                network.strangers.push(at.1);
            }
            let claimed = here.filter(|at| claimed.get(at) == Some(&true)).map(|at| at.1);
            let free: Vec<IpAddr> = leased.into_iter().chain(claimed).collect();
            network.own.extend(free.iter().copied().filter(|own| seen.insert((lane, *own))));
        }
        for (lane, network) in self.networks.iter().enumerate() {
            let interface = self.lanes.interfaces[lane];
            let all = network.own.iter().chain(&network.stood_in);
            self.own.extend(all.map(|address| End { interface, address: *address }));
        }
        Ok(())
    }

    /// The ends outside: one in each family that the gateway has an address of there.
    pub(super) fn outside(&self) -> Vec<End> {
        let lanes = self.lanes.lanes.iter().enumerate().filter(|(_, lane)| lane.outside);
        let ends = lanes.flat_map(|(number, _)| {
            let families = Family::ALL.into_iter();
            let known =
                families.filter(move |family| self.ends.gateway_of(number, *family).is_some());
            let strangers = known.filter_map(|family| sweep::stranger(self.plan(), family));
            strangers.map(move |address| End { interface: self.lanes.interfaces[number], address })
        });
        ends.collect()
    }
}
