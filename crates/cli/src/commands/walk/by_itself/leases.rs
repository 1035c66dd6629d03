//! Checks whether a network leases addresses as planned: from what its DHCP server offers where this user may ask,
//! otherwise from the address that this machine has.

use super::Tour;
use crate::failure::Failure;
use crate::session::Session;
use crate::show::style;
use bastium_core::plan::NetworkId;
use bastium_report::walk::Outcome;
use std::net::{IpAddr, Ipv4Addr};

/// What came of asking.
struct Answer {
    /// What was offered, in words; `None` if nothing was.
    offered: Option<String>,
    address: Option<Ipv4Addr>,
    faults: Vec<String>,
}

/// Makes the check of a network's addresses.
pub(super) fn check(
    tour: &mut Tour<'_, '_>,
    place: (usize, usize),
    own: &[IpAddr],
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    let Some(id) = tour.stands[place.0].standpoint.network() else { return Ok(()) };
    let prefixes = tour.meaning.plan().network(id).prefixes();
    let Some(here) = own.iter().copied().find(|address| prefixes.contains(*address)) else {
        return Ok(());
    };
    match asked(tour, id, here) {
        Ok(Some(answer)) => report(tour, place, id, answer, session),
        Ok(None) => by_address(tour, (place, id), own, "nobody need answer by DHCP here", session),
        Err(why) => by_address(tour, (place, id), own, &why, session),
    }
}

/// What servers and routers give there; nothing where none has to answer and none does.
///
/// # Errors
/// Why they could not be asked.
#[cfg(target_os = "linux")]
fn asked(tour: &Tour<'_, '_>, id: NetworkId, here: IpAddr) -> Result<Option<Answer>, String> {
    use super::super::lease_faults::fault;
    use bastium_testbed::{here, trunk};
    let interface = here::interface_with(here).ok().flatten();
    // What is set on the loopback comes from nobody.
    let interface = interface.filter(|name| name != "lo");
    let interface = interface.ok_or("the interface leads to no network")?;
    let looked = trunk::look(&interface, tour.meaning, id).map_err(|error| match error.kind() {
        std::io::ErrorKind::PermissionDenied => {
            "as root, the DHCP server is asked what it gives".to_owned()
        }
        _ => format!("the DHCP server could not be asked: {error}"),
    })?;
    let offer = looked.leased.offers.first();
    if offer.is_none() && looked.faults.is_empty() {
        return Ok(None);
    }
    let words = offer.map(|offer| {
        let length = offer.prefix_length.map(|length| format!("/{length}")).unwrap_or_default();
        let router = offer.router.map(|router| format!(", router {router}")).unwrap_or_default();
        let names: Vec<String> = offer.name_servers.iter().map(ToString::to_string).collect();
        let names = match names.is_empty() {
            true => String::new(),
            false => format!(", resolver {}", names.join(" and ")),
        };
        let (server, address) = (offer.server, offer.address);
        format!("{server} offers {address}{length}{router}{names}")
    });
    let plan = tour.meaning.plan();
    let faults = looked.faults.iter().map(|one| fault(plan, one)).collect();
    Ok(Some(Answer { offered: words, address: offer.map(|offer| offer.address), faults }))
}

#[cfg(not(target_os = "linux"))]
fn asked(_: &Tour<'_, '_>, _: NetworkId, _: IpAddr) -> Result<Option<Answer>, String> {
    Err("asking the DHCP server needs Linux".to_owned())
}

fn report(
    tour: &mut Tour<'_, '_>,
    place: (usize, usize),
    id: NetworkId,
    answer: Answer,
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    let Answer { offered, address, faults } = answer;
    let name = tour.meaning.plan().network(id).name.to_string();
    if let Some(offered) = &offered {
        session.prose(style::PLAIN, &format!("in {name}, by DHCP: {offered}"))?;
    }
    let outcome = if faults.is_empty() { Outcome::Pass } else { Outcome::Fail };
    // An answer that is not as it should be is none of those that the list expects.
    let seen = match (address, outcome) {
        (Some(address), Outcome::Pass) => format!("reply: {address}"),
        (Some(address), _) => format!("another answer: {address}"),
        (None, _) => "silence".to_owned(),
    };
    for fault in &faults {
        session.prose(style::ERROR, &format!("in {name}: {fault}"))?;
    }
    let note = if faults.is_empty() { offered } else { Some(faults.join("; ")) };
    tour.record(place, outcome, Some(seen), note)
}

/// Whether the address that this machine got is one that the network gives.
fn by_address(
    tour: &mut Tour<'_, '_>,
    (place, id): ((usize, usize), NetworkId),
    own: &[IpAddr],
    why: &str,
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    let pool = tour.meaning.plan().network(id).pool;
    let inside = |address: &&IpAddr| match (pool, address) {
        (Some(pool), IpAddr::V4(address)) => pool.first() <= *address && *address <= pool.last(),
        _ => false,
    };
    // An address that was set by hand says nothing about leases.
    let Some(address) = own.iter().find(inside) else { return Ok(()) };
    let says = format!("only the address was looked at; {why}");
    session.prose(style::FAINT, &format!("in {}: {says}", tour.meaning.plan().network(id).name))?;
    tour.record(place, Outcome::Pass, Some(format!("reply: {address}")), Some(says))
}
