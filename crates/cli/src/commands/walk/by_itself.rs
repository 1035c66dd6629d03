//! Through the list without a person: what can be tried from where this machine stands.

use super::{Tour, words};
use crate::commands::count;
use crate::failure::Failure;
use crate::session::Session;
use crate::show::style;
use bastium_core::checklist::{Check, Expect, Probe, Standpoint, Target};
use bastium_core::space::IntervalSet;
use bastium_report::walk::Outcome;
use bastium_testbed::here;
use bastium_testbed::probe::{self, How, Seen, Task, Whom};
use std::net::IpAddr;
use std::time::Duration;

/// A check that this machine can make.
struct Trial {
    place: (usize, usize),
    task: Task,
}

pub(super) fn run(tour: &mut Tour<'_, '_>, session: &mut Session<'_>) -> Result<(), Failure> {
    let own = here::addresses().map_err(|error| Failure::Machine {
        says: format!("cannot read this machine's addresses: {error}"),
        help: "make the walk by hand: bastium walk".to_owned(),
    })?;
    let sheet = tour.sheet();
    let mut trials = Vec::new();
    let mut leases = Vec::new();
    let mut left = 0;
    for (stand, at) in tour.stands.iter().enumerate() {
        let Some(from) = stands_there(tour, &at.standpoint, &own) else { continue };
        for (number, check) in at.checks.iter().enumerate() {
            if !tour.is_due(check, &sheet) {
                continue;
            }
            if check.probe == Probe::Lease {
                leases.push((stand, number));
            } else if let Some(task) = task(tour, check, &from) {
                trials.push(Trial { place: (stand, number), task });
            } else {
                left += 1;
            }
        }
    }
    if trials.is_empty() && leases.is_empty() && left == 0 {
        return nowhere(tour, &own, session);
    }
    for place in leases {
        lease(tour, place, &own)?;
    }
    try_all(tour, &trials, session)?;
    if left > 0 {
        session.prose(
            style::FAINT,
            &format!("{} at this test point need a person: bastium walk", count(left, "check")),
        )?;
    }
    Ok(())
}

/// This machine's addresses from which the checks of a place can be made; `None` if it is not there.
fn stands_there(
    tour: &Tour<'_, '_>,
    standpoint: &Standpoint,
    own: &[IpAddr],
) -> Option<Vec<IpAddr>> {
    let plan = tour.meaning.plan();
    let there: Vec<IpAddr> = match standpoint {
        Standpoint::Network(id) => {
            let own = own.iter().copied();
            own.filter(|address| plan.network(*id).prefixes().contains(*address)).collect()
        }
        Standpoint::Address(_, address) | Standpoint::Behind(_, _, address) => {
            own.iter().copied().filter(|own| own == address).collect()
        }
        Standpoint::Outside | Standpoint::OutsideAt(_) | Standpoint::OutsideBy(..) => {
            let inside = own.iter().any(|address| plan.inside().contains(*address));
            if inside || !tour.args.outside_site { Vec::new() } else { own.to_vec() }
        }
    };
    (!there.is_empty()).then_some(there)
}

/// The probe of a check; `None` if a person has to make it.
fn task(tour: &Tour<'_, '_>, check: &Check, from: &[IpAddr]) -> Option<Task> {
    let plan = tour.meaning.plan();
    let v6 = check.packet.source().is_ipv6();
    let from = from.iter().copied().find(|address| address.is_ipv6() == v6)?;
    // Another device's address may fare otherwise than one that just came.
    let named = plan.host_at(from).is_some() && from != check.packet.source();
    if named || !is_now(tour, check) {
        return None;
    }
    let how = match check.probe {
        Probe::Ping => How::Echo,
        Probe::Tcp(port) => How::Tcp(port),
        Probe::Udp(port) => How::Udp(port),
        Probe::Dns => How::Dns,
        Probe::Time => How::Time,
        Probe::Web => How::Tcp(443),
        Probe::Lease | Probe::Browse => return None,
    };
    let whom = match (&check.target, check.probe) {
        (_, Probe::Web) => Whom::Name("example.org".to_owned()),
        (Target::Address(address), _) => Whom::Address(*address),
        (Target::Named(name), _) if name.starts_with("ADDRESS_OF_") => return None,
        (Target::Named(name), _) => Whom::Name(name.clone()),
        (Target::Anyone { .. }, _) => Whom::Name(tour.args.server.clone()?),
    };
    Some(Task { how, from: Some(from), whom })
}

/// Whether it is the hour at which a check has to be made.
fn is_now(tour: &Tour<'_, '_>, check: &Check) -> bool {
    let Some(at) = check.when else { return true };
    let now = crate::session::minute_of_week(tour.meaning.plan());
    let alike = |at| {
        let packet = bastium_core::space::Packet { at, ..check.packet };
        tour.meaning.decide(&packet).verdict
    };
    IntervalSet::point(at).contains(now) || alike(at) == alike(now)
}

/// Whether the address that this machine got is one that the network gives.
fn lease(tour: &mut Tour<'_, '_>, place: (usize, usize), own: &[IpAddr]) -> Result<(), Failure> {
    let network = tour.stands[place.0].standpoint.network();
    let pool = network.and_then(|id| tour.meaning.plan().network(id).pool);
    let inside = |address: &IpAddr| match (pool, address) {
        (Some(pool), IpAddr::V4(address)) => pool.first() <= *address && *address <= pool.last(),
        _ => false,
    };
    match own.iter().find(|address| inside(address)) {
        Some(address) => tour.record(place, Outcome::Pass, Some(format!("reply: {address}")), None),
        // An address that was set by hand says nothing about leases.
        None => Ok(()),
    }
}

/// Makes all probes and keeps what comes back, as it comes.
fn try_all(
    tour: &mut Tour<'_, '_>,
    trials: &[Trial],
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    let patience = Duration::try_from(tour.args.patience).unwrap_or(Duration::from_secs(1));
    let tasks: Vec<Task> = trials.iter().map(|trial| trial.task.clone()).collect();
    let mut kept = Ok(());
    let (mut made, mut not_tried) = (0, Vec::new());
    session.doing("trying the checks");
    probe::run(&tasks, patience, |number, sight| {
        made += 1;
        session.progress(made, tasks.len());
        match seen(sight.seen) {
            Some(seen) if kept.is_ok() => {
                kept = keep(tour, trials[number].place, seen, sight.detail);
            }
            Some(_) => {}
            None => not_tried.extend(sight.detail),
        }
    });
    session.progress_ends();
    kept?;
    not_tried.sort_unstable();
    for same in not_tried.chunk_by(|one, next| one == next) {
        let says = format!("{} could not be tested: {}", count(same.len(), "check"), same[0]);
        session.prose(style::WARN, &says)?;
    }
    Ok(())
}

/// What came back, in the words of the list; `None` if it could not be tried.
fn seen(seen: Seen) -> Option<Expect> {
    match seen {
        Seen::Reply => Some(Expect::Reply),
        Seen::Refused => Some(Expect::Refused),
        Seen::Unreachable => Some(Expect::Unreachable),
        Seen::Silence => Some(Expect::Silence),
        Seen::NotTried => None,
    }
}

fn keep(
    tour: &mut Tour<'_, '_>,
    place: (usize, usize),
    seen: Expect,
    detail: Option<String>,
) -> Result<(), Failure> {
    let expect = tour.stands[place.0].checks[place.1].expect;
    let outcome = if seen == expect { Outcome::Pass } else { Outcome::Fail };
    // The packet got somewhere: to a device on which nothing listens, or to a rule that rejects.
    let note = ((seen, expect) == (Expect::Refused, Expect::Reply))
        .then(|| "either nothing listens there, or the gateway rejects it".to_owned());
    let seen = match detail {
        Some(detail) => format!("{}: {detail}", words(seen)),
        None => words(seen),
    };
    tour.record(place, outcome, Some(seen), note)
}

/// Says where this machine stands, when nothing of the list can be made there.
fn nowhere(tour: &Tour<'_, '_>, own: &[IpAddr], session: &mut Session<'_>) -> Result<(), Failure> {
    let plan = tour.meaning.plan();
    let here: Vec<&str> = own
        .iter()
        .filter_map(|address| plan.network_of(*address))
        .map(|id| plan.network(id).name.as_str())
        .collect();
    let says = if here.is_empty() {
        let own: Vec<String> = own.iter().map(IpAddr::to_string).collect();
        format!(
            "this machine is in no network of the plan (it has {}); if it is outside the site, add --outside-site",
            if own.is_empty() { "no address".to_owned() } else { own.join(", ") }
        )
    } else {
        format!("nothing is left to try in {}", here.join(", "))
    };
    session.prose(style::PLAIN, &says)
}
