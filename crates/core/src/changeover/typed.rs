//! Where packets come in, as it is typed: `any` is every interface that the gateway has at the time, also one that comes
//! later.

use crate::proof::Side;
use crate::rules::{Matches, Rule, RuleId, RuleSet};
use crate::space::{Interface, IntervalSet, Match, ServiceSet};
use std::collections::HashSet;

/// What is needed to say where packets of one plan's rules come in.
#[derive(Clone, Debug)]
pub(super) struct Entry {
    side: Side,
    /// How many interfaces the plan has beside the gateway's own, and how many both plans have together.
    own: u16,
    all: u16,
    /// The rules that are for packets that a port forward has translated, or for all but these; all others are typed for
    /// both.
    tell_forwarded: HashSet<RuleId>,
}

impl Entry {
    pub(super) fn new(side: &Side, all: usize, rules: &RuleSet) -> Self {
        let lists = rules.lists.iter();
        let listed = lists.flat_map(|list| list.rules.iter().map(move |rule| (list, rule)));
        let tell = listed.filter(|(list, rule)| rules.tells_forwarded(list, rule));
        let tell_forwarded = tell.map(|(_, rule)| rule.id.clone()).collect();
        let (side, own, all) =
            (side.clone(), rules.plan().gateway_interface().0, Interface::of_index(all).0);
        Self { side, own, all, tell_forwarded }
    }

    pub(super) fn side(&self) -> &Side {
        &self.side
    }

    /// The products of a rule by the numbers of both plans, each with the ports that it comes from where it is for
    /// replies.
    pub(super) fn products(&self, rule: &Rule) -> Vec<(Match, Option<ServiceSet>)> {
        let tells =
            matches!(rule.matches, Matches::Written(_)) || self.tell_forwarded.contains(&rule.id);
        let product = |(packets, from): (&Match, Option<&ServiceSet>)| {
            let enters = self.enters(&packets.enters, tells);
            let packets = self.side.readdressed(Match { enters, ..packets.clone() });
            (packets, from.cloned())
        };
        rule.matches.products().into_iter().map(product).collect()
    }

    fn enters(&self, enters: &IntervalSet<Interface>, tells: bool) -> IntervalSet<Interface> {
        let gateway = Interface(self.own);
        let plain = |interface: Interface| enters.contains(interface);
        let forwarded = |one: Interface| enters.contains(Interface(self.own + 1 + one.0));
        let either = |interface: Interface| plain(interface) || forwarded(interface);
        let (plain, forwarded) = match tells {
            true => (self.named(plain), self.named(forwarded)),
            false => (self.named(either), self.named(either)),
        };
        let own = enters.contains(gateway).then_some(Interface(self.all));
        let moved = forwarded.into_iter().map(|interface| Interface(self.all + 1 + interface.0));
        plain.into_iter().chain(own).chain(moved).collect()
    }

    /// The interfaces of both plans that a rule of this one means.
    fn named(&self, has: impl Fn(Interface) -> bool) -> Vec<Interface> {
        let own: Vec<Interface> = (0..self.own).map(Interface).filter(|one| has(*one)).collect();
        if own.len() == usize::from(self.own) {
            return (0..self.all).map(Interface).collect();
        }
        own.into_iter().map(|interface| self.side.interface(interface)).collect()
    }
}
