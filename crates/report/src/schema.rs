//! The JSON Schemas of the sheets, generated from their types.

use crate::sheets::{
    AddressSheet, AnswerSheet, AuditSheet, BlockedSheet, BriefRow, CableSheet, ChangeSheet,
    ChecklistSheet, CompareSheet, DraftSheet, FindingSheet, LoadSheet, MatrixSheet, PageSheet,
    PortSheet, ProofSheet, RehearsalSheet, RuleSheet, ServiceSheet, VerifySheet, Worksheet,
};
use crate::walk::WalkSheet;
use schemars::{JsonSchema, generate::SchemaSettings};
use serde_json::Value;

/// All schemas, by the command whose JSON they describe (JSON Schema, draft 2020-12).
pub fn all() -> Vec<(&'static str, Value)> {
    vec![
        ("addresses", of::<AddressSheet>()),
        ("ask", of::<AnswerSheet>()),
        ("audit", of::<AuditSheet>()),
        ("batch", of::<BriefRow<'static>>()),
        ("blocked", of::<BlockedSheet>()),
        ("cable", of::<CableSheet>()),
        ("change", of::<ChangeSheet>()),
        ("check", of::<FindingSheet>()),
        ("checklist", of::<ChecklistSheet>()),
        ("compare", of::<CompareSheet>()),
        ("load", of::<LoadSheet>()),
        ("matrix", of::<MatrixSheet>()),
        ("draft", of::<DraftSheet>()),
        ("explain", of::<PageSheet>()),
        ("ports", of::<PortSheet>()),
        ("prove", of::<ProofSheet>()),
        ("rehearse", of::<RehearsalSheet>()),
        ("rules", of::<RuleSheet>()),
        ("worksheet", of::<Worksheet>()),
        ("services", of::<ServiceSheet>()),
        ("verify", of::<VerifySheet>()),
        ("walk", of::<WalkSheet>()),
    ]
}

fn of<T: JsonSchema>() -> Value {
    let generator = SchemaSettings::draft2020_12().for_serialize().into_generator();
    generator.into_root_schema_for::<T>().to_value()
}
