//! Entries of a list as data, before they are written.

use super::services::Service;
use super::words::addresses;
use super::{MODULE, Prefixes, short};
use bastium_core::plan::Action;
use bastium_core::rules::Rule;
use bastium_core::space::Family;
use serde_json::{Map, Value, json};
use std::collections::HashMap;

/// An entry of a list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Row {
    /// The id of the rule that it stands for.
    pub(super) rule: String,
    pub(super) action: Action,
    pub(super) log: bool,
    /// Source and destination.
    pub(super) ends: Prefixes,
    pub(super) service: Service,
    /// The interface that it is for alone, where its list is not for one anyway.
    pub(super) device: Option<String>,
}

impl Row {
    pub(super) fn new(rule: &Rule, ends: Prefixes, service: Service) -> Self {
        let (rule, action, log) = (rule.id.to_string(), rule.action, rule.log);
        Self { rule, action, log, ends, service, device: None }
    }

    /// Whether it is for what comes back alone, so that no first packet is meant by it.
    pub(super) fn is_back(&self) -> bool {
        self.service.from.is_some() || self.service.flag.is_some()
    }
}

/// The entries as the module has them. Those of a rule are numbered.
pub(super) fn entries(rows: &[Row], family: Family) -> Vec<Value> {
    let mut counts: HashMap<&str, usize> = HashMap::new();
    let entry = |row: &Row, number: usize| {
        let word = if family == Family::V6 { "6" } else { "4" };
        let forwarding = match row.action {
            Action::Allow => "accept",
            Action::Block => "drop",
            Action::Reject => "reject",
        };
        let logging = if row.log { "log-syslog" } else { "log-none" };
        let mut matches = Map::new();
        addresses(&mut matches, family, row.ends, &row.service);
        if let Some(device) = &row.device {
            matches.insert("ingress-interface".to_owned(), json!(device));
        }
        json!({
            "name": short(&format!("{} v{word}.{number}", row.rule)),
            "matches": matches,
            "actions": {
                "forwarding": format!("{MODULE}:{forwarding}"),
                "logging": format!("{MODULE}:{logging}"),
            },
        })
    };
    let numbered = rows.iter().map(|row| {
        let number = counts.entry(&row.rule).or_default();
        *number += 1;
        entry(row, *number)
    });
    numbered.collect()
}
