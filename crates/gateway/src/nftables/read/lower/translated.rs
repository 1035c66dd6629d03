//! What rules translate, and to which address.

use super::super::ruleset::{Ports, Problem, Rule, Ruleset};
use super::super::world::World;
use super::{Conversation, Lowering, Place, Said};
use bastium_core::plan::Action;
use bastium_core::space::{Match, PacketSet, Protocol, ServicePoint, ServiceSet};
use std::net::IpAddr;

/// Where a destination is translated to.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Translated {
    /// Not at all.
    No,
    /// To that address, by the same port or another one.
    To(IpAddr, Option<u16>),
    /// The source, to the gateway's own address on the way out.
    Own,
    /// The source, to that address.
    As(IpAddr),
    /// Nobody knows.
    Unknown,
}

/// A line that translates: what it matches, to what, and what it says.
pub(crate) type Translation = (Vec<Match>, Translated, String);

/// The lines that translate destinations before a route is looked up.
pub(crate) fn translated_in(
    ruleset: &Ruleset,
    world: &dyn World,
) -> (Vec<Translation>, Vec<Problem>) {
    translations(ruleset, world, Place::Prerouting, "prerouting")
}

/// The lines that translate sources on the way out.
pub(crate) fn translated_out(
    ruleset: &Ruleset,
    world: &dyn World,
) -> (Vec<Translation>, Vec<Problem>) {
    translations(ruleset, world, Place::Postrouting, "postrouting")
}

fn translations(
    ruleset: &Ruleset,
    world: &dyn World,
    place: Place,
    hook: &str,
) -> (Vec<Translation>, Vec<Problem>) {
    let mut lowering = Lowering::new(ruleset, world, Conversation::Begins);
    let whole = world.at(place);
    let mut lines = Vec::new();
    let mut chains = lowering.hooked("nat", hook).into_iter().peekable();
    while let Some((table, chain, _)) = chains.next() {
        let region = lowering.in_family(table, &whole);
        lowering.walk(table, chain, &region, true, 0);
        let own = std::mem::take(&mut lowering.translated);
        lines.extend(if chains.peek().is_some() { going_on(own) } else { own });
    }
    let denies = lowering.done.lines.iter().find(|line| line.action != Action::Allow);
    if let Some(at) = denies.map(|line| line.at.clone()) {
        lowering.problem(&at, "it denies where others translate");
    }
    lines.push((vec![whole], Translated::No, "no line translates it".to_owned()));
    let mut problems = lowering.done.problems;
    if let Some(at) = lowering.done.exhausted {
        problems.push(Problem { at, what: "chains that lead too deep".to_owned() });
    }
    (lines, problems)
}

/// The lines of a chain that others follow: what it does not translate comes to them, even if it accepts it
/// (`nf_nat_inet_fn` in the kernel's `nf_nat_core.c`).
fn going_on(own: Vec<Translation>) -> Vec<Translation> {
    let mut taken = PacketSet::empty();
    let mut lines = Vec::new();
    for (matches, to, at) in own {
        let set: PacketSet = matches.into_iter().collect();
        let left = set.difference(&taken).tidied();
        taken = taken.union(&set).tidied();
        if to != Translated::No && !left.is_empty() {
            lines.push((left.products().collect(), to, at));
        }
    }
    lines
}

impl Lowering<'_> {
    pub(super) fn push_translated(&mut self, matches: Vec<Match>, to: Translated, rule: &Rule) {
        if !matches.is_empty() {
            self.products += matches.len();
            self.translated.push((matches, to, rule.at.clone()));
        }
    }

    pub(super) fn send_on(
        &mut self,
        rule: &Rule,
        to: IpAddr,
        ports: &Ports,
        here: &[Match],
        said: &Said,
    ) {
        let sure = |port| if said.sure { Translated::To(to, port) } else { Translated::Unknown };
        let asks = |port: u16| -> Vec<Match> {
            let points = Protocol::WITH_PORTS.map(|protocol| ServicePoint::port(protocol, port));
            let service = ServiceSet::both(points.into_iter().collect());
            let asked = Match { service, ..Match::everything() };
            let all = here.iter().map(|product| product.intersection(&asked));
            all.filter(|product| !product.is_empty()).collect()
        };
        match ports {
            Ports::Same => self.push_translated(here.to_vec(), sure(None), rule),
            Ports::To(port) => {
                self.push_translated(asks(*port), sure(None), rule);
                self.push_translated(here.to_vec(), sure(Some(*port)), rule);
            }
            Ports::Each(each) => {
                for (from, port) in each {
                    let port = (from != port).then_some(*port);
                    self.push_translated(asks(*from), sure(port), rule);
                }
            }
        }
    }
}
