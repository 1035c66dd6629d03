//! Established connections that the new plan would not allow: counted, named, and cut if that is wanted.

use super::before::{entrance, items};
use super::{Reporter, words};
use crate::args::Load;
use crate::failure::Failure;
use crate::session;
use bastium_core::meaning::Meaning;
use bastium_core::space::{Ends, Packet, Protocol, ServicePoint};
use bastium_core::verdict::Verdict;
use bastium_gateway::nftables::{Cut, MOST_CUT, cut_table, never_begins};
use bastium_report::count;
use bastium_wire::{Connection, Line, Loading, Running, Stopped};

/// What the plan says of the connections that are there.
#[derive(Default)]
struct Sorted {
    /// It lets none of them begin, at any time.
    never: Vec<(Connection, String)>,
    /// How many it does not let begin now, but at other hours, to an address that a domain may lead to, or perhaps the
    /// other way round.
    perhaps: usize,
}

/// Sorts connections; none of the gateway's own, and not the one by which it is being loaded.
fn sorted(meaning: &Meaning<'_>, running: &Running, connections: &[Connection]) -> Sorted {
    let at = session::minute_of_week(meaning.plan());
    let managing = |one: &Connection| {
        running.managed == Some((one.begun.from, one.begun.to, one.begun.to_port))
    };
    let mut sorted = Sorted::default();
    for one in connections {
        let flow = one.begun;
        if flow.from.is_loopback() || running.is_own(flow.from) || managing(one) {
            continue;
        }
        let Some(ends) = Ends::new(flow.from, flow.to) else { continue };
        let service = ServicePoint::port(Protocol(flow.protocol), flow.to_port);
        let packet = Packet { enters: entrance(meaning.plan(), flow.from), ends, service, at };
        match meaning.decide(&packet).verdict {
            Verdict::Allow => {}
            _ if never_begins(meaning, &flow, &one.back) => {
                sorted.never.push((*one, meaning.plan().packet_words(&packet)));
            }
            _ => sorted.perhaps += 1,
        }
    }
    sorted
}

/// Counts and names them, before anything is loaded.
pub(super) fn connections(
    args: &Load,
    meaning: &Meaning<'_>,
    running: &Running,
    reporter: &mut Reporter<'_, '_>,
) -> Result<(), Failure> {
    let Some(connections) = &running.connections else {
        let says = "the gateway does not list those that are there".to_owned();
        return if args.cut {
            reporter.bad("connections", says)
        } else {
            reporter.step("connections", says)
        };
    };
    let sorted = sorted(meaning, running, connections);
    let forbidden = sorted.never.len();
    let mut names: Vec<String> = sorted.never.into_iter().map(|(_, says)| says).collect();
    names.sort_unstable();
    names.dedup();
    let perhaps = match sorted.perhaps {
        0 => String::new(),
        some => format!(
            "; {some} more the plan may let begin: at other hours, to an address of a domain, or from the other end: they go on"
        ),
    };
    if names.is_empty() {
        let all = count(connections.len(), "connection");
        let says = match (running.connections_cut, sorted.perhaps) {
            (true, _) => {
                format!(
                    "{all} looked at, as the plan allows{perhaps}; there are more than could be read"
                )
            }
            (false, 0) => format!("{all} of TCP and UDP, all of them as the plan allows"),
            (false, _) => {
                format!("{all} of TCP and UDP, none that the plan never lets begin{perhaps}")
            }
        };
        return reporter.step("connections", says);
    }
    let go_on = if args.cut {
        "they are to be cut once the load is confirmed"
    } else {
        "they go on until they end (--cut ends them)"
    };
    let says = format!(
        "{} of {} would not be let begin by the plan; {go_on}{perhaps}\n{}",
        forbidden,
        connections.len(),
        items(&names)
    );
    reporter.bad("connections", says)
}

/// Leaves the table with the gateway that cuts them: those that are there now, since under the new rules none begins.
pub(super) fn cut<L: Line>(
    meaning: &Meaning<'_>,
    running: &Running,
    connections: Option<&[Connection]>,
    loading: &Loading<'_, L>,
    reporter: &mut Reporter<'_, '_>,
) -> Result<(), Failure> {
    let Some(connections) = connections else {
        return reporter
            .bad("cut", "nothing: the gateway does not list its connections".to_owned());
    };
    let never = sorted(meaning, running, connections).never;
    let forbidden = never.len();
    let cuts: Vec<Cut> = never
        .into_iter()
        .filter_map(|(one, _)| Cut::new(one.begun, one.back, one.seconds.saturating_add(SLACK)))
        .take(MOST_CUT)
        .collect();
    if forbidden == 0 {
        return reporter.step("cut", "no connection has to be".to_owned());
    }
    match loading.cut(&cut_table(&cuts)) {
        Ok(()) => {
            let says = format!("{} once the load is confirmed", count(cuts.len(), "connection"));
            match forbidden - cuts.len() {
                0 => reporter.step("cut", says),
                more => reporter.bad(
                    "cut",
                    format!(
                        "{says}; not {more} more, which are translated at both ends, or too many"
                    ),
                ),
            }
        }
        Err(Stopped::Refused { word, says, .. }) => {
            let says = words::plain(&says);
            reporter.bad("cut", format!("the gateway does not take it ({word}): {says}"))
        }
        Err(_) => reporter.bad("cut", "the gateway did not answer, so nothing is cut".to_owned()),
    }
}

/// So many seconds longer than the kernel could remember a connection it is cut.
const SLACK: u64 = 30;
