//! Services offered to the outside: a packet for one is decided as what it becomes.

use super::Meaning;
use super::address_facts::{AddressFacts, asked_outside};
use super::parts::{Cutter, Part};
use crate::plan::Inbound;
use crate::space::{Block, Ends, IntervalSet, Packet, PacketSet, Region};
use std::net::IpAddr;

impl AddressFacts {
    /// Whether an offered service lets that translated packet in.
    pub(super) fn lets_in(&self, packet: &Packet) -> bool {
        self.translated.iter().any(|entry| entry.1.contains(packet))
    }
}

impl Meaning<'_> {
    /// What becomes of a packet that asks for an offered service; `None` for any other.
    pub fn translate(&self, packet: &Packet) -> Option<Packet> {
        let asked = |inbound: &&Inbound| asked_outside(self.plan, inbound).contains(packet);
        let inbound = self.translations().find(asked)?;
        Some(Packet {
            enters: self.plan.translated_interface(packet.enters),
            ends: Ends::new(packet.source(), inbound.target?)?,
            service: packet.service.moved(inbound.shift)?,
            at: packet.at,
        })
    }

    /// The same, but only for a packet that gets as far as that step: one that is not spoofed.
    pub(crate) fn translate_if_asked(&self, packet: &Packet) -> Option<Packet> {
        if self.plan.inbounds().is_empty() || packet.enters >= self.facts.gateway_interface {
            return None;
        }
        let inside = self.translate(packet)?;
        self.facts.lets_in(&inside).then_some(inside)
    }

    /// Decides what asks for offered services: each block as what it becomes, and the answer is then
    /// carried back to what it was.
    pub(super) fn cut_offered(&self, cutter: &mut Cutter) {
        for inbound in self.translations() {
            let Some(IpAddr::V4(target)) = inbound.target else { continue };
            let asked = PacketSet::from(asked_outside(self.plan, inbound));
            if cutter.rest.is_disjoint(&asked) {
                continue;
            }
            let taken = cutter.rest.intersection(&asked);
            cutter.rest = cutter.rest.difference(&asked);
            for block in taken.v4.blocks() {
                let inside = Block {
                    enters: self.moved(&block.enters),
                    destination: IntervalSet::point(target.to_bits()),
                    service: inbound.inward(&block.service),
                    ..block.clone()
                };
                let mut inner =
                    Cutter::new(PacketSet { v4: Region::new([inside]), ..PacketSet::empty() });
                for interface in self.interfaces_of(&inner.rest) {
                    self.steps(interface).iter().for_each(|step| self.take(step, &mut inner));
                }
                for part in inner.parts {
                    cutter.keep(self.carried_back(&part, block, inbound));
                }
            }
        }
    }

    /// The interfaces of what is translated after it entered on these.
    fn moved(
        &self,
        interfaces: &IntervalSet<crate::space::Interface>,
    ) -> IntervalSet<crate::space::Interface> {
        let moved = |interface| self.plan.translated_interface(interface);
        IntervalSet::from_spans(
            interfaces.spans().iter().map(|(low, high)| (moved(*low), moved(*high))),
        )
    }

    fn carried_back(&self, part: &Part, from: &Block<u32>, inbound: &Inbound) -> Part {
        let back = |interface| self.plan.came_by(interface);
        let blocks = part.packets.v4.blocks().iter().map(|block| Block {
            enters: IntervalSet::from_spans(
                block.enters.spans().iter().map(|(low, high)| (back(*low), back(*high))),
            ),
            destination: from.destination.clone(),
            service: inbound.outward(&block.service),
            ..block.clone()
        });
        let packets = PacketSet { v4: Region::new(blocks), ..PacketSet::empty() };
        Part { packets, decision: part.decision }
    }
}
