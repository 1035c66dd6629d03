//! Checks of what is offered to the outside: by the uplink's address, as a stranger would ask.

use super::{BoundaryChecks, Packet, Probe, example, packet_of};
use crate::plan::ExceptionId;
use crate::space::{Coordinate, Family};

impl BoundaryChecks<'_, '_> {
    /// What an `inbound` entry offers, and the port next to it, from wherever it may be asked for.
    pub(super) fn offered(&mut self, id: ExceptionId) {
        let plan = self.plan;
        let permission = plan.exception(id);
        let Some(inbound) = plan.inbounds().iter().find(|inbound| inbound.exception == id) else {
            return;
        };
        let own = example::first(&plan.uplinks()[inbound.uplink].gateway(), Family::V4);
        let asked = inbound.outside.v4.spans().first().copied();
        let source =
            example::sources(plan, &permission.from.addresses, Family::V4).first().copied();
        let (Some(own), Some((first, last)), Some(source)) = (own, asked, source) else { return };
        let interface = match plan.network_of(source) {
            Some(network) => plan.network_interface(network),
            None => plan.uplink_interface(inbound.uplink),
        };
        for (what, point) in [("itself", Some(first)), ("next-port", last.next())] {
            let Some(service) = point else { continue };
            let Some(probe) = Probe::for_service(service) else { continue };
            let Some(packet) = packet_of(interface, source, own, service) else { continue };
            let at = permission.minutes().first().unwrap_or_default();
            let id = format!("inbound.{}/{what}", permission.name);
            // That it is offered, and nothing beside it, is tried in any case.
            self.add(id, Packet { at, ..packet }, probe, true);
        }
    }
}
