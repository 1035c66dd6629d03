//! `bastium simulate`: a simulated gateway.

use crate::args::{FaultName, Simulate, Simulated};
use crate::failure::{CallProblem, Exit, Failure, Malformed};
use crate::session::Session;
use bastium_core::plan::Plan;
use bastium_core::service::parse_literal;
use bastium_core::space::{Ends, Interface, Packet};
use bastium_gateway::clean;
use bastium_wire::standin::{Fault, Store, decide, serve};
use std::io::{self, Write};
use std::net::IpAddr;
use std::path::Path;

pub(super) fn run(args: &Simulate, session: &mut Session<'_>) -> Result<Exit, Failure> {
    match &args.what {
        Simulated::Gateway { state, interface, fault } => {
            let interfaces = match (interface.is_empty(), state.join("state.json").exists()) {
                (true, false) => of_plan(&session.plan()?),
                _ => interface.clone(),
            };
            let store = Store::open(state, &interfaces).map_err(|error| failed(state, error))?;
            let faults: Vec<Fault> = fault.iter().copied().map(Fault::from).collect();
            let mut to = io::BufWriter::new(io::stdout().lock());
            // A client that is gone is the end of a session, and no fault of the gateway.
            let _ = serve(&store, &faults, &mut io::stdin().lock(), &mut to);
            let _ = to.flush();
            Ok(Exit::Fine)
        }
        Simulated::Packet { state, enters, leaves, from, to, service } => {
            let store = there(state)?;
            let packet = packet(*from, *to, service)?;
            let decided = decide(&store, enters, leaves.as_deref(), &packet);
            let decided = decided.map_err(|error| failed(state, error))?;
            let word = if decided.passes { "passes" } else { "dropped" };
            let by = match &decided.by {
                None => "no list is attached there".to_owned(),
                Some((list, entry)) if entry.is_empty() => format!("by the end of {list}"),
                Some((list, entry)) => format!("by {list}, {entry}"),
            };
            let logged = if decided.logged { ", logged" } else { "" };
            session.print(&format!("{word}: {}{logged}\n", clean(&by)))?;
            Ok(if decided.passes { Exit::Fine } else { Exit::No })
        }
        Simulated::Wait { state, time } => {
            there(state)?.wait(*time).map_err(|error| failed(state, error))?;
            Ok(Exit::Fine)
        }
        Simulated::Log { state } => {
            for line in there(state)?.log().map_err(|error| failed(state, error))? {
                session.print(&format!("{}\n", clean(&line)))?;
            }
            Ok(Exit::Fine)
        }
    }
}

impl From<FaultName> for Fault {
    fn from(name: FaultName) -> Self {
        match name {
            FaultName::Locked => Self::Locked,
            FaultName::Edited => Self::Edited,
            FaultName::Refuses => Self::Refuses,
            FaultName::Drops => Self::Drops,
            FaultName::Forgets => Self::Forgets,
        }
    }
}

/// A gateway that is there already.
fn there(state: &Path) -> Result<Store, Failure> {
    if !state.join("state.json").exists() {
        return Err(CallProblem::NotSimulated(state.to_owned()).into());
    }
    Store::open(state, &[]).map_err(|error| failed(state, error))
}

fn failed(state: &Path, error: io::Error) -> Failure {
    Failure::File { path: state.to_owned(), doing: "use", error }
}

/// The interfaces of a plan's gateway.
fn of_plan(plan: &Plan) -> Vec<String> {
    let all = (0..plan.gateway_interface().0).map(Interface);
    all.filter_map(|interface| plan.device_name(interface)).collect()
}

fn packet(from: IpAddr, to: IpAddr, service: &str) -> Result<Packet, Failure> {
    let set = parse_literal(service).and_then(Result::ok);
    let line = set.map(|set| if from.is_ipv6() { set.v6 } else { set.v4 });
    let point = line
        .and_then(|line| line.first())
        .ok_or_else(|| Malformed::PacketService(service.to_owned()))?;
    let ends = Ends::new(from, to).ok_or_else(|| CallProblem::MixedFamilies)?;
    Ok(Packet::new(Interface(0), ends, point))
}
