//! A walk without a person: everything that can be tried from where this machine is connected.

mod leases;
mod trials;

use super::Tour;
use crate::failure::{Failure, MachineProblem};
use crate::session::Session;
use crate::show::style;
use bastium_core::checklist::{Check, Probe, Standpoint, Target};
use bastium_core::plan::NetworkId;
use bastium_report::walk::Outcome;
use bastium_report::{count, either};
use bastium_testbed::here;
use bastium_testbed::probe::{How, Task, Whom};
use std::net::IpAddr;
use trials::Trial;

/// Makes what can be made from here. Says whether this machine stands anywhere at all.
pub(super) fn run(tour: &mut Tour<'_, '_>, session: &mut Session<'_>) -> Result<bool, Failure> {
    let own = here::addresses().map_err(MachineProblem::Addresses)?;
    let sheet = tour.sheet();
    let mut trials = Vec::new();
    let mut leases = Vec::new();
    let (mut left, mut silent) = (0, 0);
    for (stand, at) in tour.stands.iter().enumerate() {
        let Some(from) = stands_there(tour, &at.standpoint, &own) else { continue };
        for (number, check) in at.checks.iter().enumerate() {
            if !tour.is_due(check, &sheet) {
                continue;
            }
            if check.probe == Probe::Lease {
                leases.push((stand, number));
            } else if check.may_stay_silent() {
                silent += 1;
            } else if let Some(task) = task(tour, check, &from) {
                trials.push(Trial { place: (stand, number), task });
            } else {
                left += 1;
            }
        }
    }
    if trials.is_empty() && leases.is_empty() && left + silent == 0 {
        if wrong_network(tour, &own, session)? {
            return Ok(true);
        }
        return nowhere(tour, &own, session);
    }
    for place in leases {
        leases::check(tour, place, &own, session)?;
    }
    trials::make(tour, trials, session)?;
    if silent > 0 {
        let says = format!(
            "{} by UDP not made: a device answers what it understands, and nothing else; over one cable {} made with \
             devices of our own (--trunk, --stand-in)",
            count(silent, "check"),
            either(silent, "it is", "they are")
        );
        session.prose(style::FAINT, &says)?;
    }
    if left > 0 {
        session.prose(
            style::FAINT,
            &format!(
                "{} at this test point {} a person: bastium walk",
                count(left, "check"),
                either(left, "needs", "need")
            ),
        )?;
    }
    Ok(true)
}

/// Where one network was asked for and this machine has an address of another one: the socket or the VLAN behind it is wrong.
/// Returns whether that is so; it is a failed check of that network's addresses.
fn wrong_network(
    tour: &mut Tour<'_, '_>,
    own: &[IpAddr],
    session: &mut Session<'_>,
) -> Result<bool, Failure> {
    let plan = tour.meaning.plan();
    let Some(asked) = &tour.args.stand else { return Ok(false) };
    let wanted = plan.network_ids().find(|id| plan.network(*id).name.as_str() == asked.as_str());
    let stands: Vec<(IpAddr, NetworkId)> =
        own.iter().filter_map(|address| Some((*address, plan.network_of(*address)?))).collect();
    let Some(wanted) = wanted else { return Ok(false) };
    // A machine with interfaces in several networks is in the one that was asked for, too.
    if stands.iter().any(|(_, network)| *network == wanted) {
        return Ok(false);
    }
    let (says, seen) = match stands.first() {
        Some((address, found)) => (
            format!(
                "this machine is in {}, by its address {address}; the plan has {asked} here",
                plan.network(*found).name
            ),
            format!("an address of another network: {address}"),
        ),
        None => (
            format!("this machine has no address of {asked}, nor of any other network of the plan"),
            "silence".to_owned(),
        ),
    };
    let lease = tour.stands.iter().enumerate().find_map(|(stand, at)| {
        Some((stand, at.checks.iter().position(|check| check.probe == Probe::Lease)?))
    });
    session.prose(style::ERROR, &says)?;
    if let Some(place) = lease {
        tour.record(place, Outcome::Fail, Some(seen), Some(says))?;
    }
    Ok(true)
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
    if named || !tour.is_the_hour(check) {
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

/// Says where this machine stands, when nothing of the list can be made there.
fn nowhere(
    tour: &Tour<'_, '_>,
    own: &[IpAddr],
    session: &mut Session<'_>,
) -> Result<bool, Failure> {
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
    session.prose(style::PLAIN, &says)?;
    Ok(!here.is_empty())
}
