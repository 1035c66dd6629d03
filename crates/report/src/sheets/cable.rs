//! The results of standing in every network at once.

use super::{Because, EDITION};
use crate::walk::WalkSheet;
use crate::{Cell, Column, Table, Tone};
use bastium_core::plan::Plan;
use bastium_core::verdict::Cause;
use schemars::JsonSchema;
use serde::Serialize;

/// How many services are named in a sentence.
const MOST_SERVICES: usize = 8;

/// What came of standing in every network at once.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct CableSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The networks, and what was found there.
    pub networks: Vec<CableNetwork>,
    /// Networks that were not reached, and why.
    pub not_reached: Vec<Reason>,
    /// What is not as it should be around it: somebody else outside, frames that were lost.
    pub warnings: Vec<String>,
    /// How many checks of the list were not tried, or showed nothing, and why.
    pub not_tried: Vec<Counted>,
    /// How many checks and conversations showed nothing, since the gateway did not answer before and after.
    pub without_control: usize,
    /// What came of the sweep; none where none was made.
    pub sweep: Option<SweepPart>,
    /// How long it took, in milliseconds.
    pub took_ms: u64,
    /// The list, with the results of this walk and of those before it.
    pub walk: WalkSheet,
}

/// A network, and what was found there.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct CableNetwork {
    /// Its name; an uplink's name for the outside.
    pub name: String,
    /// Its VLAN id; none if it is untagged.
    pub vlan: Option<u16>,
    /// The gateway's addresses at which it has answered.
    pub gateway: Vec<String>,
    /// Those at which it has not.
    pub silent: Vec<String>,
    /// The address that was leased.
    pub leased: Option<String>,
    /// The address that the gateway was leased there by the tester, in place of a provider.
    pub leased_to_gateway: Option<String>,
    /// The tester's own addresses, the leased one included.
    pub own: Vec<String>,
    /// Addresses of hosts that are there themselves.
    pub present: Vec<String>,
    /// Addresses of absent hosts that the tester stood in for.
    pub stood_in: Vec<String>,
    /// What is wrong with leases and router advertisements there.
    pub faults: Vec<String>,
}

/// Something with a reason.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Reason {
    /// What.
    pub what: String,
    /// Why.
    pub why: String,
}

/// How often something was so.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Counted {
    /// Why.
    pub why: String,
    /// How often.
    pub count: usize,
}

/// What came of a sweep.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct SweepPart {
    /// How many conversations were tried.
    pub tried: usize,
    /// How many of them went as the plan says.
    pub as_planned: usize,
    /// How many showed nothing, and why.
    pub not_shown: Vec<Counted>,
    /// How many could not be tried, and why.
    pub not_tried: Vec<Counted>,
    /// What is otherwise than the plan says.
    pub surprises: Vec<SurpriseRow>,
}

/// Conversations that are otherwise than the plan says, in the same way and for the same reason.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct SurpriseRow {
    /// What is wrong: `gets_through`, `refused`, `stopped`, `no_way_back`, `elsewhere`, `not_translated`, `translated`, `silent`.
    pub wrong: &'static str,
    /// Whether more gets through than the plan allows.
    pub opens: bool,
    /// From where: a host or a network.
    pub from: String,
    /// To where: a host, a network, or the gateway.
    pub to: String,
    /// What was asked for.
    pub services: Vec<String>,
    /// How many conversations.
    pub count: usize,
    /// One of them: from which address.
    pub source: String,
    /// To which one.
    pub destination: String,
    /// Under which source it arrived, if it did.
    pub arrived_as: Option<String>,
    /// Where it arrived, if it did.
    pub arrived_at: Option<String>,
    /// The plan entry that it speaks against.
    pub because: Because,
    /// That entry in words.
    pub entry: String,
    /// Number and id of the rule that it speaks against, if one decides it.
    pub rule: Option<String>,
    /// How to try one of them by hand, from its source.
    pub repeat: Option<String>,
}

impl CableSheet {
    /// An empty one around a list.
    pub fn new(walk: WalkSheet) -> Self {
        Self {
            bastium: EDITION,
            networks: Vec::new(),
            not_reached: Vec::new(),
            warnings: Vec::new(),
            not_tried: Vec::new(),
            without_control: 0,
            sweep: None,
            took_ms: 0,
            walk,
        }
    }

    /// The plan entry that decided, as sheets have it.
    pub fn because(cause: Cause, plan: &Plan) -> Because {
        Because::new(cause, plan)
    }

    /// Whether anything is otherwise than the plan says.
    pub fn finds_something(&self) -> bool {
        let swept = self.sweep.as_ref().is_some_and(|sweep| !sweep.surprises.is_empty());
        self.walk.failed > 0 || swept || self.networks.iter().any(CableNetwork::has_fault)
    }

    /// All rows, for CSV and Markdown.
    pub fn tables(&self) -> Vec<Table> {
        let surprises = self.sweep.iter().flat_map(|sweep| &sweep.surprises);
        let mut tables = vec![networks(&self.networks), differences(surprises)];
        tables.extend(self.walk.tables());
        tables
    }
}

impl CableNetwork {
    /// Whether something is not as planned there.
    pub fn has_fault(&self) -> bool {
        !self.faults.is_empty() || !self.silent.is_empty()
    }
}

impl SurpriseRow {
    /// What is wrong, in a sentence.
    pub fn says(&self) -> String {
        let what = self.what();
        let (from, to) = (&self.from, &self.to);
        let at = self.arrived_at.as_deref().unwrap_or("somewhere else");
        let seen = self.arrived_as.as_deref().unwrap_or("another address");
        match self.wrong {
            "gets_through" => format!("{what} from {from} reaches {to}; the plan blocks it"),
            "refused" => {
                format!(
                    "{what} from {from} to {to} is refused with an answer; the plan drops it silently"
                )
            }
            "stopped" => format!("{what} from {from} does not reach {to}; the plan allows it"),
            "no_way_back" => {
                format!("{what} from {from} reaches {to}, but the answer does not come back")
            }
            "elsewhere" => format!("{what} from {from} to {to} arrives at {at}"),
            "not_translated" => {
                format!("{what} from {from} leaves for {to} with its private address {seen}")
            }
            "translated" => format!("{what} from {from} arrives at {to} as {seen}"),
            _ => format!("{what} from {from} to {to} vanishes; the plan refuses it with an answer"),
        }
    }

    /// What was asked for, the first few of many.
    fn what(&self) -> String {
        let more = self.services.len().saturating_sub(MOST_SERVICES);
        let first = self.services.iter().take(MOST_SERVICES);
        let first: Vec<&str> = first.map(String::as_str).collect();
        match more {
            0 => first.join(", "),
            more => format!("{} and {more} more services", first.join(", ")),
        }
    }

    /// What it speaks against.
    pub fn against(&self) -> String {
        match &self.rule {
            Some(rule) => format!("against rule {rule}: {}", self.entry),
            None => self.entry.clone(),
        }
    }

    /// An example, with how to repeat it.
    pub fn example(&self) -> String {
        let Self { source, destination, .. } = self;
        match &self.repeat {
            Some(command) => format!("to repeat, with the address {source}: {command}"),
            None => format!("for example from {source} to {destination}"),
        }
    }
}

fn networks(rows: &[CableNetwork]) -> Table {
    let mut table = Table::new([
        Column::whole("network"),
        Column::numbers("VLAN"),
        Column::text("gateway answers at"),
        Column::text("leased"),
        Column::text("own addresses"),
        Column::text("present"),
        Column::text("stood in for"),
        Column::text("wrong"),
    ]);
    for row in rows {
        let silent = row.silent.iter().map(|at| format!("the gateway does not answer at {at}"));
        let wrong: Vec<String> = silent.chain(row.faults.iter().cloned()).collect();
        table.row([
            row.name.clone().into(),
            row.vlan.map(|id| id.to_string()).unwrap_or_default().into(),
            row.gateway.join(" ").into(),
            row.leased.clone().unwrap_or_default().into(),
            row.own.join(" ").into(),
            row.present.join(" ").into(),
            row.stood_in.join(" ").into(),
            Cell::toned(wrong.join("; "), Tone::Bad),
        ]);
    }
    table.titled("networks")
}

fn differences<'r>(rows: impl Iterator<Item = &'r SurpriseRow>) -> Table {
    let mut table = Table::new([
        Column::whole("wrong"),
        Column::text("from"),
        Column::text("to"),
        Column::text("services"),
        Column::numbers("conversations"),
        Column::text("against"),
        Column::text("example"),
    ]);
    for row in rows {
        table.row([
            Cell::toned(row.wrong, Tone::Bad),
            row.from.clone().into(),
            row.to.clone().into(),
            row.services.join(" ").into(),
            row.count.to_string().into(),
            row.against().into(),
            row.example().into(),
        ]);
    }
    table.titled("differences")
}
