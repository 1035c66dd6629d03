//! Packets that a simulated gateway decides by its lists, counts and logs.

use super::store::Store;
use crate::netconf::to_json;
use bastium_core::space::Packet;
use bastium_gateway::{ListVerdict, decided_by_lists};
use std::io;

/// What becomes of a packet.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Decided {
    /// Whether it passes.
    pub passes: bool,
    /// The list and the entry that decided; none where no list is attached there.
    pub by: Option<(String, String)>,
    /// Whether it was logged.
    pub logged: bool,
}

/// Decides what becomes of a packet that comes in by an interface and perhaps leaves by another, counts it and logs it.
///
/// # Errors
/// If the folder cannot be used.
pub fn decide(
    store: &Store,
    enters: &str,
    leaves: Option<&str>,
    packet: &Packet,
) -> io::Result<Decided> {
    store.with(|state| {
        let data = to_json(&state.config("running"));
        let ways = [Some((enters, false)), leaves.map(|leaves| (leaves, true))];
        let mut decided = Decided { passes: true, by: None, logged: false };
        for (interface, out) in ways.into_iter().flatten() {
            let Some(verdict) = decided_by_lists(&data, interface, out, packet) else { continue };
            let ListVerdict { list, entry, accepts, logs, .. } = verdict;
            count(&mut state.counters, &list, &entry);
            if logs {
                let word = if accepts { "accepted" } else { "dropped" };
                state.log.push(format!(
                    "{word} {} > {} at {interface} by {list}, {entry}",
                    packet.source(),
                    packet.destination()
                ));
            }
            decided =
                Decided { passes: accepts, by: Some((list, entry)), logged: decided.logged | logs };
            if !accepts {
                break;
            }
        }
        decided
    })
}

fn count(counters: &mut Vec<(String, String, u64)>, list: &str, entry: &str) {
    match counters.iter_mut().find(|(own, name, _)| own == list && name == entry) {
        Some((_, _, seen)) => *seen += 1,
        None => counters.push((list.to_owned(), entry.to_owned(), 1)),
    }
}
