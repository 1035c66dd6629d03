//! The services that a plan can name.

use super::EDITION;
use crate::{Cell, Column, Table, Tone};
use bastium_core::plan::{Plan, Service};
use bastium_core::service::{BuiltIn, built_in, search};
use bastium_core::space::ServiceSet;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeSet;

/// The services found.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ServiceSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The services, those of the plan first.
    pub services: Vec<ServiceRow>,
}

/// One service.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ServiceRow {
    /// Its name.
    pub name: String,
    /// Its protocols and ports.
    pub ports: Vec<String>,
    /// Who sends the first packet to whom; none for a declared one.
    pub direction: Option<&'static str>,
    /// What it is for.
    pub about: String,
    /// Whether the plan declares it; else it is built in.
    pub declared: bool,
    /// Another service that means the same.
    pub same_as: Option<String>,
}

impl ServiceSheet {
    /// The services that `word` finds: by name, by what they are for, or by port.
    pub fn new(word: &str, plan: Option<&Plan>) -> Self {
        let built_in = search(word);
        let lower = word.to_lowercase();
        let asked: Option<ServiceSet> = built_in.iter().map(|s| s.set()).reduce(|a, b| a.union(&b));
        let declared = plan.into_iter().flat_map(Plan::services).filter(|service| {
            let by_port = lower.contains(|c: char| c.is_ascii_digit());
            let shares = asked.as_ref().is_some_and(|set| !set.v4.is_disjoint(&service.set.v4));
            service.name.as_str().contains(&lower) || (by_port && shares)
        });
        let built_in = built_in.into_iter().map(row);
        Self { bastium: EDITION, services: declared.map(own_row).chain(built_in).collect() }
    }

    /// The services that a plan declares, and the built-in ones that it names.
    pub fn named_in(plan: &Plan) -> Self {
        let asked = plan.exceptions().iter().map(|exception| &exception.service);
        let zones = plan.zones().iter().filter_map(|zone| zone.uses.as_ref());
        let networks = plan.networks().iter().filter_map(|network| network.uses.as_ref());
        let manage = plan.gateway().manage.iter().map(|manage| &manage.service);
        let promised = plan.guarantees().iter().map(|guarantee| &guarantee.service);
        let all = asked.chain(zones).chain(networks).chain(manage).chain(promised);
        let words: BTreeSet<&str> =
            all.flat_map(|services| &services.items).map(|(word, _)| word.as_str()).collect();
        let is_own = |word: &&str| plan.services().iter().any(|own| own.name.as_str() == *word);
        let named = words.into_iter().filter(|word| !is_own(word)).filter_map(built_in).map(row);
        Self {
            bastium: EDITION,
            services: plan.services().iter().map(own_row).chain(named).collect(),
        }
    }

    /// As a table.
    pub fn tables(&self) -> Vec<Table> {
        let mut table = Table::new([
            Column::whole("service"),
            Column::text("ports"),
            Column::text("used"),
            Column::text("for"),
        ]);
        for service in &self.services {
            let same = service.same_as.as_ref().map(|o| format!(", the same as {o}"));
            table.row([
                Cell::toned(&service.name, Tone::Strong),
                service.ports.join(", ").into(),
                service.direction.unwrap_or("").into(),
                format!("{}{}", service.about, same.unwrap_or_default()).into(),
            ]);
        }
        vec![table]
    }
}

fn own_row(service: &Service) -> ServiceRow {
    ServiceRow {
        name: service.name.to_string(),
        ports: service.set.words(),
        direction: None,
        about: "declared in the plan".to_owned(),
        declared: true,
        same_as: search("")
            .into_iter()
            .find(|other| other.set() == service.set)
            .map(|other| other.name.to_owned()),
    }
}

fn row(service: &BuiltIn) -> ServiceRow {
    ServiceRow {
        name: service.name.to_owned(),
        ports: service.set().words(),
        direction: Some(service.direction.words()),
        about: service.about.to_owned(),
        declared: false,
        same_as: None,
    }
}
