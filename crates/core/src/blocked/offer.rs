//! Suggests the narrowest exception that would let blocked packets through.

use super::address_index::{AddressIndex, Spot};
use crate::meaning::Meaning;
use crate::name::Name;
use crate::plan::Plan;
use crate::service::BUILT_IN;
use crate::space::{Packet, ServicePoint, ServiceSet};

/// An exception, ready to be added.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Offer {
    /// A name that the plan does not have yet.
    pub name: String,
    /// From where.
    pub from: String,
    /// To where.
    pub to: String,
    /// Which service.
    pub service: String,
}

impl Offer {
    /// The narrowest exception that lets such packets through; `None` where none can.
    pub(super) fn of(
        meaning: &Meaning<'_>,
        book: &AddressIndex,
        (from, to): (Spot, Spot),
        (one_source, one_destination): (bool, bool),
        packet: &Packet,
    ) -> Option<Self> {
        let plan = meaning.plan();
        let place = |spot: Spot, one: bool, address: std::net::IpAddr| match spot {
            Spot::Everyone | Spot::Nowhere => None,
            // An address that comes by DHCP may be another's tomorrow: the network is meant.
            Spot::Internet if one => Some(address.to_string()),
            Spot::Route(_) | Spot::Uplink(_) if one => Some(address.to_string()),
            spot => Some(book.words(plan, spot)),
        };
        let from = place(from, one_source, packet.source())?;
        let to = place(to, one_destination, packet.destination())?;
        let service = service_word(plan, packet.service);
        let words = format!("{from} {to} {service}").replace(['/', '.', ':'], "-");
        let wish = Name::suggestion(&words).map(|name| name.to_string())?;
        Some(Self { name: free(plan, wish), from, to, service })
    }
}

/// What a service is called: by the plan, by everyone, or by its port.
fn service_word(plan: &Plan, point: ServicePoint) -> String {
    let Some(port) = point.destination_port() else { return point.to_string() };
    let set = ServiceSet::ports(point.protocol(), port, port);
    let own = plan.services().iter().find(|service| service.set == set);
    let known = BUILT_IN.iter().find(|service| service.set() == set).map(|service| service.name);
    own.map(|service| service.name.to_string())
        .or_else(|| known.map(str::to_owned))
        .unwrap_or_else(|| point.to_string())
}

fn free(plan: &Plan, wish: String) -> String {
    let taken = |name: &str| plan.exceptions().iter().any(|e| e.name.as_str() == name);
    let mut name = wish.clone();
    let mut number = 2;
    while taken(&name) {
        name = format!("{wish}-{number}");
        number += 1;
    }
    name
}
