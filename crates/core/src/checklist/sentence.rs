//! A check in words that the people of the site understand: "desks can print on paper-printer".

use super::{Expect, Probe, Standpoint};
use crate::meaning::{Meaning, uses};
use crate::space::{AddressSet, Family, Minute};
use crate::verdict::Cause;

/// What people do by a service, by its TCP port; what stands behind it is where. UDP has the same where it has the same
/// port.
const DONE_BY: [(&[u16], &str); 14] = [
    (&[22], "log in by SSH to"),
    (&[25, 465, 587], "send mail through"),
    (&[80, 443, 8080, 8443], "open web pages of"),
    (&[104, 11112], "send medical pictures to"),
    (&[143, 993, 110, 995], "fetch mail from"),
    (&[139, 445, 548, 2049], "open shared folders on"),
    (&[161], "read the counters of"),
    (&[515, 631, 9100, 9101, 9102], "print on"),
    (&[554, 8554], "see the picture of"),
    (&[1883, 8883], "exchange messages with"),
    (&[3389], "use the desktop of"),
    (&[5060, 5061], "make calls through"),
    (&[5900], "see the screen of"),
    (&[8008, 8009], "cast to"),
];

/// What a check is, before it is one.
pub(super) struct Said<'s> {
    pub(super) standpoint: &'s Standpoint,
    pub(super) to: &'s str,
    pub(super) probe: Probe,
    pub(super) port: Option<u16>,
    pub(super) expect: Expect,
    pub(super) cause: Cause,
    pub(super) family: Family,
    pub(super) when: Option<Minute>,
}

/// The sentence.
pub(super) fn says(meaning: &Meaning<'_>, said: &Said<'_>) -> String {
    let who = who(meaning, said.standpoint);
    let can = if said.expect == Expect::Reply { "can" } else { "cannot" };
    let family = if said.family == Family::V6 { " over IPv6" } else { "" };
    let when = said.when.map(|at| format!(" ({at})")).unwrap_or_default();
    format!("{who} {can} {}{family}{when}", does(meaning, said))
}

/// Who makes it: a host, the member of a group with that address, any device of a network, anyone outside.
fn who(meaning: &Meaning<'_>, standpoint: &Standpoint) -> String {
    let plan = meaning.plan();
    match standpoint {
        Standpoint::Address(id, address) if plan.host_at(*address).is_none() => {
            // A group of some devices, not of whole networks.
            let some = |set: &AddressSet| {
                set.contains(*address) && !plan.network_addresses(*id).is_subset(set)
            };
            let group = plan.groups().iter().find(|group| some(&group.place.addresses));
            group.map_or_else(
                || standpoint.name(meaning),
                |group| format!("{} (as {address})", group.name),
            )
        }
        Standpoint::Outside | Standpoint::OutsideAt(_) | Standpoint::OutsideBy(..) => {
            "anyone outside".to_owned()
        }
        _ => standpoint.name(meaning),
    }
}

fn does(meaning: &Meaning<'_>, said: &Said<'_>) -> String {
    let to = match said.to {
        "gateway" => "the gateway",
        "internet" => "the internet",
        other => other.strip_suffix(" from outside").unwrap_or(other),
    };
    let manages = said.cause == Cause::Manage || said.port.is_some_and(|port| port == 22);
    match (said.probe, said.port) {
        (Probe::Lease, _) => {
            let asks =
                said.standpoint.network().is_some_and(|id| uses::names_everywhere(meaning, id));
            let given =
                if asks { "an address, router and resolver" } else { "an address and router" };
            format!("get {given} from the gateway")
        }
        (Probe::Browse, _) => "see what other networks announce".to_owned(),
        (Probe::Dns, _) => format!("look up names at {to}"),
        (Probe::Time, _) => format!("get the time from {to}"),
        (Probe::Web, _) => "open web pages on the internet".to_owned(),
        (Probe::Tcp(port), _) if said.to == "gateway" && (manages || port == 443) => {
            format!("manage the gateway by tcp/{port}")
        }
        (Probe::Ping, _) => format!("reach {to}"),
        (Probe::Tcp(port) | Probe::Udp(port), _) => {
            let done = DONE_BY.iter().find(|(ports, _)| ports.contains(&port));
            match done {
                Some(_) if said.to == "internet" && matches!(port, 80 | 443 | 8080 | 8443) => {
                    "open web pages on the internet".to_owned()
                }
                Some((_, verb)) => format!("{verb} {to}"),
                None => format!("reach {to} by {}", said.probe.words()),
            }
        }
    }
}
