//! Exceptions that do nothing, too much, or no longer what they should.

use crate::diagnosis::{Diagnose, Diagnosis, advice, warning};
use crate::meaning::{Meaning, Precedence};
use crate::name::Name;
use crate::plan::{Action, Exception, ExceptionId, HostId, Plan};
use crate::source::Span;
use crate::space::{Family, PacketSet, ServiceSet};
use jiff::civil::Date;
use std::fmt;

/// An exception, or the permission of an `inbound` entry, as it is called in words.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    table: &'static str,
    name: Name,
}

impl Entry {
    fn of(exception: &Exception) -> Self {
        Self { table: exception.table(), name: exception.name.clone() }
    }

    fn named(plan: &Plan, name: Name) -> Self {
        let found = plan.exceptions().iter().find(|exception| exception.name == name);
        found.map_or(Self { table: "exception", name }, Self::of)
    }
}

impl fmt::Display for Entry {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} `{}`", self.table, self.name)
    }
}

/// A finding about an exception.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum ExceptionFinding {
    /// No packet is ever decided by it.
    Shadowed { entry: Entry, covered_by: Vec<String>, at: Span },
    /// From everywhere to everywhere.
    AllowsEverything { entry: Entry, at: Span },
    /// Its last day is over.
    PastItsDay { entry: Entry, until: Date, at: Span },
    /// It is off, and nobody says for how long.
    SwitchedOff { entry: Entry, at: Span },
    /// Switched on, it would contradict another.
    OffContradicts { entry: Entry, other: Entry, at: Span },
    /// It says that it is for a time, and has no last day.
    NeverEnds { entry: Entry, word: &'static str, at: Span },
    /// It does not say why it is there.
    NoReason { entry: Entry, at: Span },
    /// Two agree on the verdict and differ on the log.
    LogDiffers { entry: Entry, other: Entry, at: Span, first: Span },
    /// A denied host can come in by the other address family.
    OtherFamily { entry: Entry, host: Name, family: Family, at: Span },
}

impl Diagnose for ExceptionFinding {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::Shadowed { entry, covered_by, at } => warning("never-matches", at)
                .says(format!("{entry} never decides anything"))
                .why(if covered_by.is_empty() {
                    "no packet reaches this exception: there is no route, or the traffic stays within a network, or an endpoint is empty".to_owned()
                } else {
                    format!("all that it matches is decided by {}", covered_by.join(", "))
                })
                .help("remove it, or correct its `from` and `to`"),
            Self::AllowsEverything { entry, at } => warning("allows-everything", at)
                .says(format!("{entry} lets everything through"))
                .why("while it exists, the matrix has no effect")
                .help("remove it, and allow only what is needed"),
            Self::PastItsDay { entry, until, at } => advice("past-its-day", at)
                .says(format!("the last day of {entry} was {until}"))
                .why("it no longer has any effect")
                .help("remove it, or set a later day"),
            Self::SwitchedOff { entry, at } => advice("switched-off", at)
                .says(format!("{entry} is disabled"))
                .why("disabled entries are forgotten, until somebody enables them again")
                .help("remove it, or add `until = …` with the day by which you will decide"),
            Self::OffContradicts { entry, other, at } => advice("off-contradicts", at)
                .says(format!("if enabled, {entry} would contradict {other}"))
                .why("the plan would then have no single meaning")
                .help("set `before` to say which of the two goes first, or remove it"),
            Self::NeverEnds { entry, word, at } => advice("never-ends", at)
                .says(format!("{entry} calls itself \"{word}\", but has no last day"))
                .why("temporary entries stay for years unless they have a last day")
                .help("add a line like `until = \"2027-03-31\"`"),
            Self::NoReason { entry, at } => advice("no-reason", at)
                .says(format!("{entry} has no `why`"))
                .why("without a reason nobody can judge later whether it is still needed")
                .help("add a line like `why = \"…\"`"),
            Self::LogDiffers { entry, other, at, first } => advice("log-differs", at)
                .says(format!("{entry} and {other} agree on some traffic, but only one of them logs it"))
                .why("the one that comes first in the file decides whether it is logged")
                .help("set the same `log` for both, or make one of them narrower")
                .also(*first, "the other one"),
            Self::OtherFamily { entry, host, family, at } => warning("other-family", at)
                .says(format!("{entry} denies host `{host}` by address, but its network also has {}", family.word()))
                .why(format!("the host can use other {} addresses, which the exception does not match", family.word()))
                .help(format!("deny the whole network, move `{host}` to its own network, or remove {} from that network", family.word())),
        }
    }
}

/// Words by which people say that something is not meant to stay.
const FOR_A_TIME: [&str; 6] =
    ["temporar", "for now", "for the time being", "until ", "as a test", "trial"];

/// What follows from the plan alone.
pub(super) fn find(plan: &Plan, day: Date) -> Vec<ExceptionFinding> {
    let mut found = Vec::new();
    for exception in plan.exceptions() {
        let (entry, at) = (Entry::of(exception), exception.at);
        if exception.why.trim().is_empty() {
            found.push(ExceptionFinding::NoReason { entry: entry.clone(), at });
        }
        let why = exception.why.to_lowercase();
        let for_a_time = FOR_A_TIME.into_iter().find(|word| why.contains(word));
        if let Some(word) = for_a_time.filter(|_| exception.until.is_none() && !exception.off) {
            found.push(ExceptionFinding::NeverEnds { entry: entry.clone(), word, at });
        }
        match exception.until {
            Some(until) if until < day => {
                let at = exception.until_at;
                found.push(ExceptionFinding::PastItsDay { entry: entry.clone(), until, at });
            }
            None if exception.off => {
                found.push(ExceptionFinding::SwitchedOff { entry: entry.clone(), at });
            }
            _ => {}
        }
        if exception.counts_on(day) && lets_everything_through(plan, exception) {
            found.push(ExceptionFinding::AllowsEverything { entry, at });
        }
        if exception.counts_on(day) {
            other_family(plan, exception, &mut found);
        }
    }
    found
}

fn lets_everything_through(plan: &Plan, exception: &Exception) -> bool {
    let all = |addresses| plan.inside().is_subset(&plan.gateway_and(addresses));
    exception.action == Action::Allow
        && exception.service.set == ServiceSet::any()
        && all(&exception.from.addresses)
        && all(&exception.to.addresses)
}

/// A host that is denied, or taken out of what is allowed, is denied by its addresses only.
fn other_family(plan: &Plan, exception: &Exception, found: &mut Vec<ExceptionFinding>) {
    let mut denied: Vec<HostId> = match exception.action {
        Action::Allow => exception.from.without.clone(),
        Action::Block | Action::Reject => exception.from.hosts.clone(),
    };
    denied.sort_unstable();
    denied.dedup();
    for id in denied {
        let host = plan.host(id);
        let network = plan.network_addresses(host.network);
        let decided = if exception.action == Action::Allow {
            // What is taken out must be out in every family that the rest is let in by.
            plan.network_addresses(host.network).difference(&exception.from.addresses)
        } else {
            exception.from.addresses.clone()
        };
        // A device has the IPv4 addresses that it is given, and any IPv6 address that it likes.
        let open_v6 = !network.v6.is_empty() && !network.v6.is_subset(&decided.v6);
        let has_v4 = host.addresses.iter().any(std::net::IpAddr::is_ipv4);
        let open_v4 = !network.v4.is_empty() && !has_v4 && !network.v4.is_subset(&decided.v4);
        for (open, family) in [(open_v6, Family::V6), (open_v4, Family::V4)] {
            if open {
                let (host, at) = (host.name.clone(), exception.at);
                let entry = Entry::of(exception);
                found.push(ExceptionFinding::OtherFamily { entry, host, family, at });
            }
        }
    }
}

/// What needs the meaning.
pub(super) fn find_in_meaning(meaning: &Meaning<'_>) -> Vec<ExceptionFinding> {
    let plan = meaning.plan();
    let precedence = meaning.precedence();
    let mut found = Vec::new();
    for &id in precedence.active() {
        is_shadowed(meaning, id, &mut found);
    }
    for &one in precedence.active() {
        for other in precedence.near(one).filter(|other| *other > one) {
            let (a, b) = (plan.exception(one), plan.exception(other));
            let related =
                precedence.above(one).contains(&other) || precedence.above(other).contains(&one);
            let alike = a.action == b.action && a.log != b.log && !related;
            if alike && !precedence.set(one).is_disjoint(precedence.set(other)) {
                let (entry, other) = (Entry::of(b), Entry::of(a));
                found.push(ExceptionFinding::LogDiffers { entry, other, at: b.at, first: a.at });
            }
        }
    }
    for (index, exception) in plan.exceptions().iter().enumerate() {
        if !exception.off || exception.until.is_some_and(|until| until < meaning.day()) {
            continue;
        }
        for problem in meaning.if_switched_on(ExceptionId(index)) {
            if let Some(other) = problem.other_than(exception) {
                let other = Entry::named(plan, other);
                let (entry, at) = (Entry::of(exception), exception.at);
                found.push(ExceptionFinding::OffContradicts { entry, other, at });
            }
        }
    }
    found
}

fn is_shadowed(meaning: &Meaning<'_>, id: ExceptionId, found: &mut Vec<ExceptionFinding>) {
    let plan = meaning.plan();
    let exception = plan.exception(id);
    if decides_something(meaning.precedence(), id) {
        return;
    }
    let parts = meaning.parts(meaning.precedence().set(id));
    let mut covered_by: Vec<String> = Vec::new();
    for part in parts {
        let cause = part.decision.cause;
        let words = format!("{} `{}`", cause.kind().replace('_', " "), cause.name(plan));
        if !covered_by.contains(&words) {
            covered_by.push(words);
        }
    }
    let (entry, at) = (Entry::of(exception), exception.at);
    found.push(ExceptionFinding::Shadowed { entry, covered_by, at });
}

/// Whether a packet is left of it that nothing above it, and nothing earlier in the file, decides.
fn decides_something(precedence: &Precedence, id: ExceptionId) -> bool {
    let without = |rest: PacketSet, above: &[ExceptionId]| {
        above.iter().fold(rest, |rest, id| rest.difference(precedence.set(*id)))
    };
    let mut rest = without(precedence.set(id).clone(), precedence.above(id));
    // What is above it is taken out already, and what it is above leaves its packets to it.
    let unrelated = |other: &ExceptionId| *other < id && !precedence.are_related(id, *other);
    for earlier in precedence.near(id).filter(unrelated) {
        if rest.is_empty() {
            break;
        }
        if !rest.is_disjoint(precedence.set(earlier)) {
            rest = rest
                .difference(&without(precedence.set(earlier).clone(), precedence.above(earlier)));
        }
    }
    !rest.is_empty()
}
