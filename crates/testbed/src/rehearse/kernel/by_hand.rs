//! Tries rules that no check hits, with raw packets.

use super::{Runner, fate_seen};
use crate::probe::Seen;
use crate::rehearse::attempts::conversation;
use crate::rehearse::{Tried, Unrehearsed, Wrong};
use crate::site::{Fate, Judged};
use bastium_core::space::{Ends, Minute, Packet, Protocol, ServicePoint};
use std::collections::HashSet;
use std::net::IpAddr;

impl Runner<'_, '_> {
    /// Rules that no check has hit are hit by a packet made by hand, where there is one that they decide.
    pub(super) fn by_hand(&mut self, at: Option<Minute>) -> Result<Vec<Tried>, Unrehearsed> {
        let hit = self.testbed.site().hits()?;
        let hit: HashSet<&String> = hit
            .iter()
            .filter(|(_, hits)| **hits > 0)
            .filter_map(|(comment, _)| self.inputs.ids.get(comment))
            .collect();
        let mut due: Vec<(String, Packet)> = self
            .alive
            .iter()
            .filter(|(id, packet)| {
                !hit.contains(id) && !self.was_hit(id) && self.may_come(self.time_of(packet), at)
            })
            .map(|(id, packet)| (id.clone(), *packet))
            .collect();
        due.sort_by(|a, b| a.0.cmp(&b.0));
        let mut tried = Vec::new();
        let ports = (50_000..60_000_u16).cycle();
        for (source_port, (id, packet)) in ports.zip(due) {
            let mut done = None;
            for packet in std::iter::once(packet).chain(self.others(&id, &packet, at)) {
                let judged = match self.layout.by_hand(self.meaning.plan(), &packet, source_port) {
                    Some(raw) => self.testbed.site().judge(&[raw])?.pop(),
                    None => self.converse(&packet)?,
                };
                let one = self.weigh(id.clone(), &packet, judged);
                let hit = one.rule.as_ref() == Some(&id);
                if done.is_none() || hit {
                    done = Some(one);
                }
                if hit {
                    break;
                }
            }
            // What was sent and came to no rule is no excuse.
            let sent = |one: &Tried| one.seen != Seen::NotTried;
            match done.as_ref().is_some_and(sent) {
                true => self.beyond.remove(&id),
                false => self.beyond.insert(id),
            };
            tried.extend(done);
        }
        Ok(tried)
    }

    /// Other packets that a rule decides at a time. The kernel drops some before it asks any rule: what has
    /// no source and is not for everyone, what is a part of a conversation that there is not, and a whole family where
    /// an interface has no address of it.
    fn others(&self, id: &str, packet: &Packet, at: Option<Minute>) -> Vec<Packet> {
        let everyone = [IpAddr::from([0xff02, 0, 0, 0, 0, 0, 0, 1]), IpAddr::from([255; 4])];
        let echo = [(Protocol::ICMP_V6, 128), (Protocol::ICMP, 8)]
            .map(|(protocol, kind)| ServicePoint::icmp(protocol, kind, 0));
        let ports =
            [Protocol::TCP, Protocol::UDP].map(|protocol| ServicePoint::port(protocol, 443));
        let services = [packet.service, ports[0], ports[1], echo[0], echo[1]];
        let begun = packet.enters == self.meaning.plan().gateway_interface();
        let mut destinations = vec![packet.destination(), everyone[0], everyone[1]];
        if begun {
            // The gateway may ask any device.
            let devices = self.layout.wires.iter().flat_map(|wire| &wire.devices);
            destinations.extend(devices.map(ipnet::IpNet::addr));
        }
        // A source that belongs elsewhere is spoofed wherever else it comes from.
        let devices = self.layout.wires.iter().filter_map(|wire| wire.devices.first());
        let devices = devices.map(ipnet::IpNet::addr);
        let own = self.layout.wires.iter().flat_map(|wire| &wire.gateway).map(ipnet::IpNet::addr);
        let own = own.filter(|_| begun);
        let sources = std::iter::once(packet.source()).chain(devices).chain(own);
        let ends = sources.flat_map(|from| {
            destinations.iter().map(move |to| Ends::new(from, *to)).collect::<Vec<_>>()
        });
        let all = ends.flatten().flat_map(|ends| services.map(|service| (ends, service)));
        let fitting = |(ends, service): &(Ends, ServicePoint)| match service.protocol() {
            Protocol::ICMP => matches!(ends, Ends::V4 { .. }),
            Protocol::ICMP_V6 => matches!(ends, Ends::V6 { .. }),
            _ => true,
        };
        let all = all.filter(fitting);
        let others = all.map(|(ends, service)| Packet { ends, service, ..*packet });
        let decided = |other: &Packet| {
            let rule = self.rules.first_match(other).rule;
            rule.is_some_and(|rule| rule.id == id) && self.may_come(self.time_of(other), at)
        };
        others.filter(|other| other != packet && decided(other)).collect()
    }

    /// A packet that no cable brings: begun by the gateway itself, or translated on its way in.
    fn converse(&mut self, packet: &Packet) -> Result<Option<Judged>, Unrehearsed> {
        let plan = self.meaning.plan();
        let Some(outside) = self.rules.as_sent(packet) else { return Ok(None) };
        if let Some(raw) = self.layout.by_hand(plan, &outside, 49_999) {
            return Ok(self.testbed.site().judge(&[raw])?.pop());
        }
        let Some(attempt) = conversation(self.rules, self.layout, &outside) else {
            return Ok(None);
        };
        Ok(self.testbed.run(&[attempt], |_| {})?.pop().and_then(|asked| asked.judged))
    }

    fn weigh(&self, id: String, packet: &Packet, judged: Option<Judged>) -> Tried {
        let plan = self.meaning.plan();
        let rule = self.id(judged.as_ref());
        let seen = fate_seen(judged.as_ref(), packet);
        let kernel = judged.as_ref().is_some_and(|judged| judged.fate == Fate::NeverAsked);
        let wrong =
            (judged.is_some() && !kernel && rule.as_ref() != Some(&id)).then_some(Wrong::Rule);
        let detail = match (&judged, kernel) {
            (None, _) => Some("no ordinary machine begins this".to_owned()),
            (_, true) => Some("the kernel drops it before any rule is asked".to_owned()),
            _ => None,
        };
        Tried {
            id: format!("by-hand/{id}"),
            from: plan.interface_name(packet.enters).to_owned(),
            to: plan.address_words(packet.destination()),
            service: packet.service.to_string(),
            expect: None,
            seen,
            proves: Some(id),
            rule,
            wrong,
            detail,
        }
    }
}
