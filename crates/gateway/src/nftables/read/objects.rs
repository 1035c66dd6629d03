//! The objects of a rule set in JSON, as `nft` prints them (libnftables-json(5)).

use serde::Deserialize;
use serde_json::Value;

#[derive(Deserialize)]
pub(super) struct ChainObject {
    pub(super) family: String,
    pub(super) table: String,
    pub(super) name: String,
    #[serde(rename = "type")]
    pub(super) kind: Option<String>,
    pub(super) hook: Option<String>,
    pub(super) prio: Option<Value>,
    pub(super) policy: Option<String>,
    pub(super) dev: Option<Value>,
}

#[derive(Deserialize)]
pub(super) struct RuleObject {
    pub(super) family: String,
    pub(super) table: String,
    pub(super) chain: String,
    pub(super) handle: Option<u64>,
    pub(super) comment: Option<String>,
    pub(super) expr: Vec<Value>,
}

#[derive(Deserialize)]
pub(super) struct SetObject {
    pub(super) family: String,
    pub(super) table: String,
    pub(super) name: String,
    #[serde(rename = "type")]
    pub(super) kind: Value,
    pub(super) map: Option<Value>,
    #[serde(default)]
    pub(super) flags: Value,
    #[serde(default)]
    pub(super) elem: Vec<Value>,
}

#[derive(Deserialize)]
pub(super) struct LimitObject {
    pub(super) family: String,
    pub(super) table: String,
    pub(super) name: String,
    pub(super) rate: u64,
    pub(super) per: String,
    pub(super) rate_unit: Option<String>,
    #[serde(default)]
    pub(super) burst: u64,
    pub(super) burst_unit: Option<String>,
    #[serde(default)]
    pub(super) inv: bool,
}

#[derive(Deserialize)]
pub(super) struct Compared {
    pub(super) op: String,
    pub(super) left: Value,
    pub(super) right: Value,
}

#[derive(Deserialize)]
pub(super) struct LookedUp {
    pub(super) key: Value,
    pub(super) data: Value,
}
