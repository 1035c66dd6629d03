//! What a gateway that carries rule lists out has to know beside them.

use super::{frame, outer_legs, ways};
use crate::plan::Plan;
use crate::space::{AddressSet, Leg, Match};

/// What surrounds the rule lists of a plan.
///
/// A list need not say again what is sure before it is asked: that no source is forged once the opening
/// list has been gone through, and that what leaves by a leg is for an address that leads there.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Surroundings {
    /// By leg from outside the gateway: the sources that are not forged there. Those that stay on their
    /// link and the unspecified address are among them.
    pub sources: Vec<AddressSet>,
    /// By leg from outside the gateway: the addresses that lead there.
    pub reached: Vec<AddressSet>,
    /// What counts as the gateway where packets enter on that leg.
    pub gateway: Vec<AddressSet>,
    /// Where the gateway's own services are found by what enters on that leg: at the gateway's addresses
    /// there, and at those that everyone hears.
    pub services: Vec<AddressSet>,
    /// What must not be passed on, whatever a list says: it has nowhere to go (RFC 2644), or a source
    /// that is of no use further on (RFC 4291, RFC 4193).
    pub no_way: Vec<Match>,
}

impl Surroundings {
    /// What surrounds the rule lists of that plan.
    pub fn of(plan: &Plan) -> Self {
        let entries = frame::entries(plan).into_iter();
        Self {
            sources: entries.map(|(_, sources)| sources).collect(),
            reached: outer_legs(plan).map(|leg| ways::reached_by(plan, leg)).collect(),
            gateway: outer_legs(plan).map(|leg| frame::gateway_at(plan, leg)).collect(),
            services: outer_legs(plan)
                .map(|leg| match plan.network_on(leg) {
                    Some(id) => frame::service_addresses(plan, id),
                    None => frame::heard_by_all(),
                })
                .collect(),
            no_way: frame::no_way(plan).into(),
        }
    }

    /// The legs, in order.
    pub fn legs(&self) -> impl Iterator<Item = Leg> + use<> {
        (0..self.sources.len() as u16).map(Leg)
    }
}
