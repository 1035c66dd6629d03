//! Compares what a gateway translates with what its plan has translated: destinations on the way in, sources on the
//! way out.

use super::super::read::{
    Lowered, Place, PlanWorld, Translated, Translation, World, translated_in, translated_out,
};
use super::{Aspect, Fault, Holding};
use bastium_core::addressing::private_v4;
use bastium_core::plan::{Action, Plan};
use bastium_core::proof::{Carried, CarriedLine, Divergence, Fate, alike, carried};
use bastium_core::space::{Interface, IntervalSet, Match, PacketSet, ServicePoint, ServiceSet};
use bastium_core::verdict::Verdict;
use std::collections::HashMap;
use std::net::IpAddr;

impl Holding<'_, '_> {
    /// Holds the translation of destinations against the plan. What it takes is returned, as it comes to
    /// the filter: that part of it which the plan would never let come so far.
    pub(super) fn translation_in(&mut self, world: &PlanWorld<'_>) -> PacketSet {
        let (lines, problems) = translated_in(self.ruleset, world);
        self.unread(&problems);
        let mut targets = Targets::default();
        let never = PacketSet::empty;
        let asked = self.meaning.asked_outside();
        if asked.is_empty() && lines.len() == 1 {
            return never();
        }
        let early = self.meaning.decided_untranslated();
        let mut expected = vec![CarriedLine::new(early.clone(), Fate::Unasked)];
        for (asked, inbound) in asked.into_iter().zip(self.meaning.translations()) {
            let Some(target) = inbound.target else { continue };
            for (outside, inside) in ports(&inbound.outside, inbound.shift) {
                let to = Translated::To(target, inside);
                let product = Match { service: outside, ..asked.clone() };
                expected.push(CarriedLine::new(vec![product], targets.fate(&to)));
            }
        }
        let outer = world.at(Place::Prerouting);
        expected.push(CarriedLine::new(vec![outer], targets.fate(&Translated::No)));
        expected.push(CarriedLine::new(vec![Match::everything()], Fate::Unasked));
        let mut actual = self.above(&[]);
        let above = actual.len();
        for (matches, to, _) in &lines {
            actual.push(CarriedLine::new(matches.clone(), targets.fate(to)));
        }
        let last = vec![Match::everything()];
        actual.push(CarriedLine::new(last, Fate::Unasked));
        let found = alike(self.meaning, &expected, &actual);
        self.translated_faults(Aspect::TranslationIn, found, above, &lines, |divergence| {
            expected_target(&expected, divergence.expected, &targets)
        });
        self.moved(&early, &lines)
    }

    fn translated_faults(
        &mut self,
        aspect: Aspect,
        found: Carried,
        above: usize,
        lines: &[Translation],
        expected: impl Fn(&Divergence) -> String,
    ) {
        self.held.undecided += found.undecided;
        for divergence in found.divergences {
            let line = divergence.line.checked_sub(above).and_then(|place| lines.get(place));
            let does = line.map_or("not translated".to_owned(), |(_, to, _)| words(to));
            self.held.faults.push(Fault {
                aspect,
                words: Some((expected(&divergence), does)),
                packet: divergence.packet,
                packets: divergence.packets,
                plan: divergence.meaning,
                gateway: None,
                at: line.map_or("no line at all".to_owned(), |(.., at)| at.clone()),
                says: String::new(),
            });
        }
    }

    /// Of what is translated, that which the plan decides before: as it comes to the filter.
    fn moved(&self, early: &[Match], lines: &[Translation]) -> PacketSet {
        let early: PacketSet = early.iter().cloned().collect();
        let (mut taken, mut moved) = (PacketSet::empty(), PacketSet::empty());
        for (matches, to, _) in lines {
            let set: PacketSet = matches.iter().cloned().collect();
            if let Translated::To(IpAddr::V4(target), port) = to {
                let own = set.intersection(&early).difference(&taken);
                let parts = own.products().filter(|product| !product.source.v4.is_empty());
                let there = parts.map(|product| Match {
                    enters: self.moved_interfaces(&product.enters),
                    destination: IpAddr::V4(*target).into(),
                    service: port
                        .map_or(product.service.clone(), |port| with_port(&product.service, port)),
                    ..product
                });
                moved = moved.union(&there.collect());
            }
            if *to != Translated::No {
                taken = taken.union(&set);
            }
        }
        moved
    }

    fn moved_interfaces(&self, interfaces: &IntervalSet<Interface>) -> IntervalSet<Interface> {
        let moved = |interface: Interface| self.plan.translated_interface(interface);
        IntervalSet::from_spans(
            interfaces.spans().iter().map(|(low, high)| (moved(*low), moved(*high))),
        )
    }

    /// A spoofed source stays one, whatever its packet is translated to: blocked, and logged.
    pub(super) fn spoofed_and_moved(&mut self, lowered: &Lowered, moved: &PacketSet) {
        let mut rest = moved.clone();
        for line in &lowered.lines {
            if rest.is_empty() {
                return;
            }
            let own: PacketSet = line.matches.iter().cloned().collect();
            let hit = rest.intersection(&own);
            let Some(packet) = hit.sample() else { continue };
            if line.sure && (line.action != Action::Block || !line.log) {
                self.held.faults.push(Fault {
                    aspect: Aspect::Verdict,
                    packet,
                    packets: hit.clone(),
                    plan: None,
                    gateway: Some((line.action, line.log)),
                    at: line.at.clone(),
                    says: line.says.clone(),
                    words: Some(("block, logged: its source is spoofed".to_owned(), {
                        let log = if line.log { ", logged" } else { "" };
                        format!("{}{log}", line.action.word())
                    })),
                });
            }
            rest = rest.difference(&own);
        }
    }

    pub(super) fn translation_out(&mut self, world: &PlanWorld<'_>, apart: &[Match]) {
        let (lines, problems) = translated_out(self.ruleset, world);
        self.unread(&problems);
        let lines = named_own(self.plan, world, lines);
        let mut targets = Targets::default();
        let (own, none) = (targets.fate(&Translated::Own), targets.fate(&Translated::No));
        let wanted = own_sources(self.plan, world);
        let mut actual = self.above(apart);
        let above = actual.len();
        for (matches, to, _) in &lines {
            actual.push(CarriedLine::new(matches.clone(), targets.fate(to)));
        }
        actual.push(CarriedLine::new(vec![Match::everything()], Fate::Unasked));
        let found = carried(self.meaning, &actual, &|decision, packets| {
            if decision.verdict != Verdict::Allow {
                return vec![(packets.clone(), Fate::Unasked)];
            }
            let mut parts: Vec<(PacketSet, Fate)> = Vec::new();
            for region in &wanted {
                let part = packets.intersection(region);
                if !part.is_empty() {
                    parts.push((part, own));
                }
            }
            parts.push((packets.clone(), none));
            parts
        });
        self.translated_faults(Aspect::TranslationOut, found, above, &lines, |divergence| {
            let own = wanted.iter().any(|region| region.contains(&divergence.packet));
            words(if own { &Translated::Own } else { &Translated::No })
        });
    }
}

/// The ports of an offered service, those apart that become another one: outside, and what each becomes.
fn ports(outside: &ServiceSet, shift: i32) -> Vec<(ServiceSet, Option<u16>)> {
    if shift == 0 {
        return vec![(outside.clone(), None)];
    }
    let points = outside.v4.by_protocol().flat_map(|(protocol, first, last)| {
        (first..=last).map(move |port| ServicePoint::port(protocol, port))
    });
    points
        .filter_map(|point| {
            let inside = point.moved(shift)?;
            let one = ServiceSet { v4: IntervalSet::point(point), ..ServiceSet::empty() };
            Some((one, inside.destination_port()))
        })
        .collect()
}

fn with_port(service: &ServiceSet, port: u16) -> ServiceSet {
    let points = service.v4.by_protocol().map(|(protocol, ..)| ServicePoint::port(protocol, port));
    ServiceSet { v4: points.collect(), ..ServiceSet::empty() }
}

/// What things are translated to, by number.
#[derive(Default)]
struct Targets {
    known: HashMap<Translated, u32>,
}

impl Targets {
    fn fate(&mut self, to: &Translated) -> Fate {
        if *to == Translated::Unknown {
            return Fate::Unasked;
        }
        let next = u32::try_from(self.known.len()).unwrap_or(u32::MAX);
        Fate::Value(*self.known.entry(to.clone()).or_insert(next))
    }
}

fn expected_target(expected: &[CarriedLine], place: usize, targets: &Targets) -> String {
    let fate = expected.get(place).map(|line| line.fate);
    let found = targets.known.iter().find(|(_, number)| fate == Some(Fate::Value(**number)));
    found.map_or(String::new(), |(to, _)| words(to))
}

fn words(to: &Translated) -> String {
    match to {
        Translated::No => "not translated".to_owned(),
        Translated::To(address, None) => format!("sent on to {address}"),
        Translated::To(address, Some(port)) => format!("sent on to {address}, port {port}"),
        Translated::Own => "given the gateway's own address as its source".to_owned(),
        Translated::As(address) => format!("given {address} as its source"),
        Translated::Unknown => "nobody knows".to_owned(),
    }
}

/// Sources that are translated to the gateway's only address on the way out are so by whatever name.
fn named_own(plan: &Plan, world: &PlanWorld<'_>, lines: Vec<Translation>) -> Vec<Translation> {
    let mut all = Vec::new();
    for (matches, to, at) in lines {
        if let Translated::As(address) = &to {
            let interfaces = (0..plan.gateway_interface().0).map(Interface);
            for interface in
                interfaces.filter(|interface| world.address_on(*interface) == Some(*address))
            {
                let reached = world.reached(interface).clone();
                let here = Match { destination: reached, ..Match::everything() };
                let own = matches.iter().map(|product| product.intersection(&here));
                let own: Vec<Match> = own.filter(|product| !product.is_empty()).collect();
                if !own.is_empty() {
                    all.push((own, Translated::Own, at.clone()));
                }
            }
        }
        all.push((matches, to, at));
    }
    all
}

/// The packets whose sources become the gateway's own address: private IPv4 ones towards an uplink, and what
/// turns round to a host in the network where it came from.
fn own_sources(plan: &Plan, world: &PlanWorld<'_>) -> Vec<PacketSet> {
    let mut wanted = Vec::new();
    for index in 0..plan.uplinks().len() {
        let destination = world.reached(plan.uplink_interface(index)).clone();
        let outward = Match { source: private_v4(), destination, ..Match::everything() };
        wanted.push(outward.into());
    }
    for id in plan.network_ids() {
        let own = plan.network(id).prefixes();
        let own = own.only_v4();
        let moved = world.translated();
        let round = Match { source: own.clone(), destination: own, ..moved };
        wanted.push(round.into());
    }
    wanted
}
