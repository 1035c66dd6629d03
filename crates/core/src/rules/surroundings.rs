//! What is certain before and after the rule lists of a plan are asked: which sources are not spoofed, and where an
//! interface leads. A gateway that evaluates the lists has to guarantee both.

use super::{implicit_traffic, outer_interfaces, reachability};
use crate::plan::Plan;
use crate::space::{AddressSet, Interface, Match};

/// What surrounds the rule lists of a plan.
///
/// A list need not say again what is sure before it is asked: that no source is spoofed once the opening
/// list has been gone through, and that what leaves by an interface is for an address that leads there.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Surroundings {
    /// By interface from outside the gateway: the sources that are not spoofed there. Those that stay on their
    /// link and the unspecified address are among them.
    pub sources: Vec<AddressSet>,
    /// By interface from outside the gateway: the addresses that lead there.
    pub reached: Vec<AddressSet>,
    /// What counts as the gateway where packets enter on that interface.
    pub gateway: Vec<AddressSet>,
    /// Where the gateway's own services are found by what enters on that interface: at the gateway's addresses
    /// there, and at those that everyone hears.
    pub services: Vec<AddressSet>,
    /// What must not be passed on, whatever a list says: it has nowhere to go (RFC 2644), or a source
    /// that is of no use further on (RFC 4291, RFC 4193).
    pub no_route: Vec<Match>,
}

impl Surroundings {
    /// What surrounds the rule lists of that plan.
    pub fn of(plan: &Plan) -> Self {
        let entries = implicit_traffic::entries(plan).into_iter();
        Self {
            sources: entries.map(|(_, sources)| sources).collect(),
            reached: outer_interfaces(plan)
                .map(|interface| reachability::reached_by(plan, interface))
                .collect(),
            gateway: outer_interfaces(plan)
                .map(|interface| implicit_traffic::gateway_at(plan, interface))
                .collect(),
            services: outer_interfaces(plan)
                .map(|interface| match plan.network_on(interface) {
                    Some(id) => implicit_traffic::service_addresses(plan, id),
                    None => implicit_traffic::heard_by_all(),
                })
                .collect(),
            no_route: implicit_traffic::no_route(plan).into(),
        }
    }

    /// The interfaces, in order.
    pub fn interfaces(&self) -> impl Iterator<Item = Interface> + use<> {
        (0..self.sources.len()).map(Interface::of_index)
    }
}
