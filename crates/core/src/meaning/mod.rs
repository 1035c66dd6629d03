//! What a plan says about a packet, directly: no rules, no order of lines.
//!
//! Two ways lead through the same steps. [`Meaning::decide`] asks one question after the other about
//! a single packet; [`Meaning::parts`] cuts a whole packet set along the same lines, step by step, interface by interface. Tests hold the
//! one against the other, and both against the compiled rules, which share none of this code.
//!
//! The steps, in order: same network; spoofed; offered; to (or from) the gateway; ways; exceptions; the
//! cell.

mod address_facts;
mod decide;
mod offered;
mod parts;
mod precedence;
mod steps;
pub mod uses;

pub use parts::Part;
pub use precedence::{OrderProblem, Precedence};
pub(crate) use steps::Step;

use crate::addressing::link_local;
use crate::plan::{Action, Exception, ExceptionId, Inbound, Place, Plan};
use crate::space::{AddressSet, Interface, IntervalSet, Match, PacketSet, ServiceSet};
use crate::verdict::{Cause, Decision};
use address_facts::AddressFacts;
use jiff::civil::Date;

/// What a plan means for packets on one day: the reference that rules, files, gateways and checklists are compared
/// with.
///
/// A meaning exists only for a plan whose exceptions do not contradict each other on that day. Exceptions that end,
/// or that wait for a day, are the reason why the day matters; the minutes of the week are part of the packets
/// themselves.
///
/// Two functions give the same answers in different ways. [`decide`](Self::decide) is for one packet,
/// [`parts`](Self::parts) for a set of any size. Neither knows of rules.
///
/// ```
/// use bastium_core::meaning::Meaning;
/// use bastium_core::space::{Ends, Packet, Protocol, ServicePoint};
/// use bastium_core::verdict::Verdict;
/// use jiff::civil::date;
///
/// # let text = std::fs::read("tests/two-networks.toml").expect("a file");
/// # let plan = bastium_planfile::read("plan.toml", &text).expect("a plan without errors");
/// let meaning = Meaning::new(&plan, date(2026, 6, 1)).expect("no contradictions");
///
/// let enters = plan.network_interface(plan.network_ids().next().expect("a network"));
/// let to_printer = |port| {
///     let ends = Ends::new("10.44.24.10".parse().ok()?, "10.44.48.7".parse().ok()?)?;
///     Some(Packet::new(enters, ends, ServicePoint::port(Protocol::TCP, port)))
/// };
/// let verdict = |port| to_printer(port).map(|packet| meaning.decide(&packet).verdict);
/// assert_eq!(verdict(631), Some(Verdict::Allow));
/// assert_eq!(verdict(22), Some(Verdict::Block));
/// ```
#[derive(Clone, Debug)]
pub struct Meaning<'p> {
    plan: &'p Plan,
    day: Date,
    facts: AddressFacts,
    precedence: Precedence,
}

impl<'p> Meaning<'p> {
    /// Works out what the plan means on that day: which exceptions count, and which of them is asked first where
    /// several match.
    ///
    /// # Errors
    /// All pairs of exceptions that contradict each other, each with a packet that both match and that they treat
    /// differently; and orders (`before`) that run in a circle.
    pub fn new(plan: &'p Plan, day: Date) -> Result<Self, Vec<OrderProblem>> {
        let facts = AddressFacts::survey(plan, day);
        let counts = |(_, exception): &(usize, &Exception)| exception.counts_on(day);
        let active = plan.exceptions().iter().enumerate().filter(counts);
        let active = active.map(|(index, _)| ExceptionId(index)).collect();
        let precedence = Precedence::new(plan, &facts, active)?;
        Ok(Self { plan, day, facts, precedence })
    }

    /// The plan.
    pub fn plan(&self) -> &'p Plan {
        self.plan
    }

    /// The day.
    pub fn day(&self) -> Date {
        self.day
    }

    /// The exceptions of that day, and which goes above which.
    pub fn precedence(&self) -> &Precedence {
        &self.precedence
    }

    /// Every packet that can be at all: it enters at an interface that the plan has.
    pub fn universe(&self) -> PacketSet {
        self.facts.universe()
    }

    /// The sources that belong on an interface, those that never leave their link left out; nothing for
    /// an interface that is the gateway's own.
    pub fn sources_on(&self, interface: Interface) -> AddressSet {
        let belongs = self.facts.interface(interface).map(|facts| facts.belongs.clone());
        belongs.unwrap_or_default().difference(&self.facts.link_only)
    }

    /// Everything by which a place speaks to the gateway: whatever counts as the gateway where it enters; also
    /// from the links of networks that the place names. Nothing where the other place is not the gateway.
    pub fn to_gateway_from(&self, from: &Place, to: &Place, service: &ServiceSet) -> PacketSet {
        let interfaces = self.facts.interfaces.iter().filter(|_| to.gateway);
        let all = interfaces.map(|facts| {
            let mut source = facts.belongs.intersection(&from.addresses);
            if from.links.contains(facts.interface) {
                source = source.union(&link_local());
            }
            Match {
                enters: IntervalSet::point(facts.interface),
                source,
                destination: facts.to_gateway.clone(),
                service: service.clone(),
                at: IntervalSet::full(),
            }
        });
        all.collect()
    }

    /// What the gateway must be able to send, whatever an exception says about it.
    pub(crate) fn lives_by(&self) -> &ServiceSet {
        &self.facts.lives_by
    }

    /// What happens on a later day: the next one on which the rules are others than on this one,
    /// because the last day of an exception is over.
    pub fn changes_on(&self) -> Option<Date> {
        let ends = self.plan.exceptions().iter().filter(|e| e.counts_on(self.day));
        ends.filter_map(|exception| exception.until).min().and_then(|last| last.tomorrow().ok())
    }

    /// What switching an exception on that is off now would contradict.
    pub fn if_switched_on(&self, id: ExceptionId) -> Vec<OrderProblem> {
        let mut active = self.precedence.active().to_vec();
        active.push(id);
        active.sort_unstable();
        let problems = Precedence::new(self.plan, &self.facts, active).err().unwrap_or_default();
        problems.into_iter().filter(|problem| problem.concerns(self.plan.exception(id))).collect()
    }

    /// What an exception decides.
    pub(crate) fn exception(&self, id: ExceptionId) -> Decision {
        let exception = self.plan.exception(id);
        Decision {
            verdict: exception.action.into(),
            logged: exception.log,
            cause: match exception.inbound {
                Some(_) => Cause::Offered(id),
                None => Cause::Exception(id),
            },
        }
    }

    /// The offered services of that day that are translated, by their places in the plan's list.
    pub fn translations(&self) -> impl Iterator<Item = &'p Inbound> + '_ {
        let plan = self.plan;
        plan.inbounds().iter().filter(move |inbound| {
            inbound.target.is_some() && plan.exception(inbound.exception).counts_on(self.day)
        })
    }

    /// The packets that offered services let in, as they are after translation.
    pub fn translated(&self) -> PacketSet {
        self.facts.translated.iter().map(|entry| entry.1.clone()).collect()
    }

    /// The packets from outside the gateway that are decided before anybody asks whether they are to be
    /// translated: those that stay in their network, and those whose source does not belong there.
    pub fn decided_untranslated(&self) -> Vec<Match> {
        let interfaces = (0..self.facts.gateway_interface.0).map(Interface);
        let steps = interfaces.flat_map(|interface| self.steps(interface));
        let early = steps.filter_map(|step| match step {
            Step::Decide(packets, decision) => {
                matches!(decision.cause, Cause::SameNetwork(_) | Cause::Spoofed(..))
                    .then_some(*packets)
            }
            Step::Offered | Step::Exceptions(_) => None,
        });
        early.collect()
    }

    /// The packets that ask for offered services that are translated, as they are before.
    pub fn asked_outside(&self) -> Vec<Match> {
        self.translations()
            .map(|inbound| address_facts::asked_outside(self.plan, inbound))
            .collect()
    }

    /// What enters at an interface and never comes before a list: it stays in its network, or has no way and is
    /// not for the gateway.
    pub(crate) fn never_asked(&self, interface: Interface) -> Vec<Match> {
        let Some(facts) = self.facts.interface(interface) else { return Vec::new() };
        let mut spoofed = PacketSet::empty();
        let mut never = Vec::new();
        for step in self.steps(interface) {
            let Step::Decide(packets, decision) = step else { continue };
            match decision.cause {
                Cause::SameNetwork(_) => never.push(*packets),
                Cause::Spoofed(..) => spoofed = spoofed.union(&(*packets).into()),
                _ if decision.verdict.is_filtered() => {}
                _ => {
                    let destination = packets.destination.difference(&facts.to_gateway);
                    let through = PacketSet::from(Match { destination, ..*packets });
                    never.extend(through.difference(&spoofed).products());
                }
            }
        }
        never
    }

    /// The inside destinations that no packet from outside can have: they are not global.
    pub(crate) fn hidden_outside(&self) -> AddressSet {
        let uplinks = self.plan.uplink_interfaces();
        let outside =
            self.facts.interfaces.iter().filter(|facts| uplinks.contains(facts.interface));
        outside.map(|facts| facts.hidden.clone()).collect()
    }

    /// How the matrix decides between two zones.
    fn cell(&self, from: crate::plan::ZoneId, to: crate::plan::ZoneId) -> Decision {
        let cell = self.plan.matrix().cell(from, to);
        match cell.action {
            Some(action) => {
                Decision { verdict: action.into(), logged: cell.log, cause: Cause::Cell(from, to) }
            }
            None => self.unmatched(),
        }
    }

    /// How what nothing speaks of fares.
    fn unmatched(&self) -> Decision {
        let unmatched = self.plan.matrix().unmatched();
        Decision {
            verdict: Action::from(unmatched.denial).into(),
            logged: unmatched.log,
            cause: Cause::Unmatched,
        }
    }
}
