//! Packets after the first one of a conversation, and packets that belong to no conversation.

use super::super::read::{Conversation, Line, Lowered, PlanWorld};
use super::{Aspect, Fault, Holding, does, fate};
use bastium_core::plan::{Action, Plan};
use bastium_core::proof::{CarriedLine, Divergence, Fate, alike, carried};
use bastium_core::space::{
    Ends, Interface, IntervalSet, Match, Packet, PacketSet, Protocol, ServicePoint, ServiceSet,
};
use bastium_core::verdict::Verdict;

impl Holding<'_, '_> {
    /// What follows the first packet of a conversation, and what belongs to none.
    ///
    /// `None` if it is too much to follow.
    pub(super) fn follow(&mut self, world: &PlanWorld<'_>, apart: &[Match]) -> Option<()> {
        let above = self.above(apart);
        let goes_on = self.lowered(world, Conversation::GoesOn)?;
        let everything = [CarriedLine::new(vec![Match::everything()], Fate::Value(1))];
        let found = alike(self.meaning, &everything, &passes(&above, &goes_on));
        self.held.undecided += found.undecided;
        for divergence in found.divergences {
            let Some(packet) = self.of_permitted(world, &divergence.packets) else { continue };
            self.not_passed(Aspect::Replies, packet, &divergence, above.len(), &goes_on.lines);
        }
        let related = self.lowered(world, Conversation::Related)?;
        let errors = [
            CarriedLine::new(vec![errors()], Fate::Value(1)),
            CarriedLine::new(vec![Match::everything()], Fate::Unasked),
        ];
        let found = alike(self.meaning, &errors, &passes(&above, &related));
        self.held.undecided += found.undecided;
        for divergence in found.divergences {
            if let Some(packet) = self.arriving_rightly(world, &divergence.packets).sample() {
                self.not_passed(Aspect::Errors, packet, &divergence, above.len(), &related.lines);
            }
        }
        let invalid = self.lowered(world, Conversation::Invalid)?;
        let own =
            invalid.lines.iter().map(|line| CarriedLine::new(line.matches.clone(), does(line)));
        let lines: Vec<CarriedLine> = above.iter().cloned().chain(own).collect();
        let found = carried(self.meaning, &lines, &|decision, packets| {
            let fate = match fate(decision) {
                Fate::Decided(Action::Allow, _) | Fate::Unasked => Fate::Unasked,
                _ => Fate::Barred,
            };
            vec![(packets.clone(), fate)]
        });
        self.note(Aspect::NoConversation, found, above.len(), &invalid.lines, |_| None);
        Some(())
    }

    fn not_passed(
        &mut self,
        aspect: Aspect,
        packet: Packet,
        divergence: &Divergence,
        above: usize,
        lines: &[Line],
    ) {
        let line = divergence.line.checked_sub(above).and_then(|place| lines.get(place));
        self.held.faults.push(Fault {
            aspect,
            packet,
            packets: divergence.packets.clone(),
            plan: None,
            gateway: line.map(|line| (line.action, line.log)),
            at: line.map_or("no line at all".to_owned(), |line| line.at.clone()),
            says: line.map_or(String::new(), |line| line.says.clone()),
            words: None,
        });
    }

    /// Of packets that are not let through, those whose source leads back where they come from.
    fn arriving_rightly(&self, world: &PlanWorld<'_>, packets: &PacketSet) -> PacketSet {
        let interfaces = (0..self.plan.gateway_interface().0).map(Interface);
        let all = interfaces.map(|interface| {
            let enters =
                [interface, self.plan.translated_interface(interface)].into_iter().collect();
            let source = world.reached(interface).clone();
            packets.intersection(&Match { enters, source, ..Match::everything() }.into())
        });
        let own = Match::entering(IntervalSet::point(self.plan.gateway_interface()));
        let begun = packets.intersection(&own.into());
        all.fold(begun, |sum, part| sum.union(&part))
    }

    /// A packet of a conversation that the plan permits, among packets that do not pass: one that goes the
    /// same way as the first, or one that answers it.
    fn of_permitted(&self, world: &PlanWorld<'_>, packets: &PacketSet) -> Option<Packet> {
        let permitted = |set: &PacketSet| -> Option<Packet> {
            let parts = self.meaning.parts(set).into_iter();
            let mut parts = parts.filter(|part| part.decision.verdict == Verdict::Allow);
            parts.find_map(|part| part.packets.sample())
        };
        if let Some(packet) = permitted(packets) {
            return Some(packet);
        }
        let answers = self.arriving_rightly(world, packets);
        answers.products().find_map(|product| {
            let first = self.answered(world, &product);
            permitted(&first).and_then(|asked| answer_to(self.plan, world, &asked))
        })
    }

    /// The first packets that a product would answer.
    fn answered(&self, world: &PlanWorld<'_>, product: &Match) -> PacketSet {
        let whole = |line: &IntervalSet<ServicePoint>| {
            IntervalSet::from_spans(line.by_protocol().map(|(protocol, ..)| protocol.stretch()))
        };
        let service = ServiceSet { v4: whole(&product.service.v4), v6: whole(&product.service.v6) };
        let interfaces = (0..self.plan.gateway_interface().0).map(Interface);
        let back = interfaces.map(|interface| Match {
            enters: IntervalSet::point(interface),
            source: product.destination.intersection(world.reached(interface)),
            destination: product.source.clone(),
            service: service.clone(),
            at: product.at.clone(),
        });
        back.filter(|product| !product.is_empty()).collect()
    }
}

/// Lines as far as they let pass or do not, below what is not looked at.
pub(super) fn passes(above: &[CarriedLine], lowered: &Lowered) -> Vec<CarriedLine> {
    let fate = |line: &Line| match (line.sure, line.action) {
        (false, _) => Fate::Unasked,
        (true, Action::Allow) => Fate::Value(1),
        (true, _) => Fate::Value(2),
    };
    let own = lowered.lines.iter();
    let own = own.map(|line| CarriedLine::new(line.matches.clone(), fate(line)));
    above.iter().cloned().chain(own).collect()
}

/// The answer to a packet, by where it comes from.
fn answer_to(plan: &Plan, world: &PlanWorld<'_>, asked: &Packet) -> Option<Packet> {
    let from = asked.destination();
    let enters = (0..plan.gateway_interface().0)
        .map(Interface)
        .find(|interface| world.reached(*interface).contains(from));
    Some(Packet {
        enters: enters.unwrap_or(plan.gateway_interface()),
        ends: Ends::new(from, asked.source())?,
        ..*asked
    })
}

/// The errors of both ICMPs (RFC 792, RFC 4443).
fn errors() -> Match {
    let v4 = ServiceSet::icmp_types(Protocol::ICMP, &[3, 11, 12], None);
    let v6 = ServiceSet::icmp_types(Protocol::ICMP_V6, &[1, 2, 3, 4], None);
    Match { service: v4.union(&v6), ..Match::everything() }
}
