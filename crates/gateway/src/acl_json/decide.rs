//! Evaluates one packet against access control lists as a device that carries them would.

use super::read;
use bastium_core::plan::Action;
use bastium_core::space::{Packet, Protocol, ServicePoint, ServiceSet};
use serde_json::Value;

/// What lists say of a packet.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct ListVerdict {
    /// The list that decided.
    pub list: String,
    /// Its entry; empty where none of them matched.
    pub entry: String,
    /// Whether the packet passes.
    pub accepts: bool,
    /// Whether it is logged.
    pub logs: bool,
}

/// What the lists of some data (RFC 8519, RFC 7951) do with the first packet of a conversation that comes in by an interface, or
/// goes out by it. `None` where no list for packets of its family is attached there. What no entry matches is dropped.
pub fn decided_by_lists(
    data: &Value,
    interface: &str,
    out: bool,
    packet: &Packet,
) -> Option<ListVerdict> {
    /// A port that a conversation may begin from (RFC 6335).
    const SOURCE_PORT: u16 = 49_152;
    let acls = serde_json::json!({ "ietf-access-control-list:acls": data.get("ietf-access-control-list:acls")? });
    let acls = read::read(&acls.to_string()).ok()?;
    let family = packet.family();
    let in_set = |set: &ServiceSet, point: ServicePoint| {
        let line = set.line(family);
        line.contains(point)
    };
    let has_ports = [Protocol::TCP, Protocol::UDP].contains(&packet.service.protocol());
    let from = has_ports.then(|| ServicePoint::port(packet.service.protocol(), SOURCE_PORT));
    let point = acls.points().iter().find(|point| point.interface == interface)?;
    let lists = point.lists(out).filter_map(|name| acls.list(name));
    let list = lists.into_iter().find(|list| list.families().contains(packet.source()))?;
    let matches = |entry: &read::Entry| {
        entry.source.contains(packet.source())
            && entry.destination.contains(packet.destination())
            && in_set(&entry.service, packet.service)
            && entry.from.as_ref().is_none_or(|set| from.is_some_and(|from| in_set(set, from)))
            && !entry.segments.are_answers()
    };
    let entry = list.entries().find(matches);
    Some(ListVerdict {
        list: list.name.clone(),
        accepts: entry.as_ref().is_some_and(|entry| entry.action == Some(Action::Allow)),
        logs: entry.as_ref().is_some_and(|entry| entry.log),
        entry: entry.map(|entry| entry.name).unwrap_or_default(),
    })
}

/// What of some data is none of the module's: where, and what. A device would refuse it.
pub fn list_problems(data: &Value) -> Vec<(String, String)> {
    let Some(acls) = data.get("ietf-access-control-list:acls") else { return Vec::new() };
    let text = serde_json::json!({ "ietf-access-control-list:acls": acls }).to_string();
    let acls = match read::read(&text) {
        Ok(acls) => acls,
        Err(error) => return vec![("the lists".to_owned(), error.to_string())],
    };
    let mut problems = acls.unclear();
    for list in &acls.lists {
        let entries = list.entries().flat_map(|entry| {
            let action =
                entry.action.is_none().then(|| "no forwarding that the module has".to_owned());
            let at = format!("{}, {}", list.name, entry.name);
            let unclear = entry.unclear.into_iter().chain(action);
            unclear.map(|what| (at.clone(), what)).collect::<Vec<_>>()
        });
        problems.extend(entries);
    }
    problems
}
