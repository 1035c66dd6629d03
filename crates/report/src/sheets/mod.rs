//! The sheets: what each command has to say. The fields are the JSON of the same name.

mod addresses;
mod answer;
mod audit;
mod because;
mod blocked;
mod boxes;
mod brief;
mod cable;
mod cells;
mod change;
mod checklist;
mod compare;
mod drawing;
mod findings;
mod groups;
mod load;
mod matrix;
mod pages;
mod ports;
mod products;
mod proof;
mod rehearsal;
mod rules;
mod services;
mod strength;
mod typed;
mod values;
mod verify;
mod worksheet;

pub use addresses::{AddressSheet, SubnetRow};
pub use answer::AnswerSheet;
pub use audit::{AuditFinding, AuditSheet, DifferenceRow, fault_sentences, list_sentences};
pub use because::Because;
pub use blocked::{BlockedSheet, GroupRow, OfferRow, offer_keys};
pub use boxes::BoxRow;
pub use brief::{BriefRow, Question, problem};
pub use cable::{CableNetwork, CableSheet, Counted, Reason, SurpriseRow, SweepPart};
pub use change::{ChangeSheet, DraftSheet};
pub use checklist::{CheckRow, ChecklistSheet, StandRow, System};
pub use compare::{ChangeRow, CompareSheet, SettingRow};
pub(crate) use drawing::rule_grid;
pub use drawing::{changed_grid, matrix_grid, site_tree, tried_grid, zone_map};
pub use findings::{Finding, FindingSheet, RelatedPlace};
pub use groups::GroupSheet;
pub use load::{LoadFile, LoadSheet, LoadState, LoadStep};
pub use matrix::{CellRow, CellRule, GridLayout, MatrixSheet};
pub use pages::PageSheet;
pub use ports::{PortSheet, VlanRow};
pub use products::{Names, RuleFile, RuleFileProblem};
pub use proof::{FormProof, GuaranteeRow, ProofSheet};
pub use rehearsal::{HitRow, RehearsalFrame, RehearsalSheet, TriedRow};
pub use rules::{RuleColumn, RuleRow, RuleSheet};
pub use services::ServiceSheet;
pub use strength::Strength;
pub use typed::{TypedRules, proved_as_typed, read_typed};
use values::{address_values, are_same, read_addresses};
pub use verify::{CounterRow, FileSum, LogRow, Looked, VerifySheet};
pub use worksheet::{Misread, Since, Step, Worksheet};

use bastium_core::plan::Plan;
use bastium_core::space::{Packet, Protocol};
use schemars::JsonSchema;
use serde::Serialize;

pub(crate) use crate::edition::EDITION;

/// A packet.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct PacketView {
    /// Where it enters: a network, an uplink, or `gateway`.
    pub from: String,
    /// Its source address.
    pub source: String,
    /// Its destination address.
    pub destination: String,
    /// Its protocol.
    pub protocol: String,
    /// Its destination port, if the protocol has ports.
    pub port: Option<u16>,
    /// Its source port; verdicts do not depend on it.
    pub source_port: Option<u16>,
    /// Its ICMP type.
    pub icmp_type: Option<u8>,
    /// Its ICMP code.
    pub icmp_code: Option<u8>,
    /// Whether an `inbound` entry has translated it.
    pub translated: bool,
    /// The minute of the week, where the verdict depends on it.
    pub at: Option<String>,
}

impl PacketView {
    /// `at` says whether the verdict depends on when it is sent.
    pub(crate) fn new(packet: &Packet, at: bool, plan: &Plan) -> Self {
        let protocol = packet.service.protocol();
        let icmp = packet.service.icmp_kind();
        let protocol_word =
            if protocol == Protocol::ICMP_V6 { "icmpv6".to_owned() } else { protocol.keyword() };
        Self {
            from: plan.interface_name(packet.enters).to_owned(),
            source: plan.address_words(packet.source()),
            destination: plan.address_words(packet.destination()),
            protocol: protocol_word,
            port: packet.service.destination_port(),
            source_port: None,
            icmp_type: icmp.map(|(kind, _)| kind),
            icmp_code: icmp.map(|(_, code)| code),
            translated: plan.is_translated(packet.enters),
            at: at.then(|| packet.at.to_string()),
        }
    }
}

/// Behind a reason: `(line 61)`.
fn line_words(line: Option<usize>) -> String {
    line.map(|line| format!(" (line {line})")).unwrap_or_default()
}
