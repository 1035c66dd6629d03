//! Names that stand for several things: groups, domains, hours.

use super::{EDITION, address_values};
use crate::{Column, Table, Tone};
use bastium_core::plan::Plan;
use schemars::JsonSchema;
use serde::Serialize;

/// The names of a plan that stand for several things.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct GroupSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// Sets of endpoints.
    pub groups: Vec<GroupRow>,
    /// What is known by name, not by address.
    pub domains: Vec<DomainRow>,
    /// Times of the week.
    pub hours: Vec<HoursRow>,
}

/// A named set of endpoints.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct GroupRow {
    /// Its name.
    pub name: String,
    /// What belongs to it, as the plan writes it.
    pub members: String,
    /// The addresses that these are.
    pub addresses: Vec<String>,
}

/// What is known by name.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct DomainRow {
    /// Its name in the plan.
    pub name: String,
    /// Its DNS names.
    pub names: Vec<String>,
}

/// Times of the week with a name.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct HoursRow {
    /// Their name.
    pub name: String,
    /// Days and times.
    pub times: String,
}

impl GroupSheet {
    /// Takes the sheet from a plan.
    pub fn new(plan: &Plan) -> Self {
        let groups = plan.groups().iter().map(|group| GroupRow {
            name: group.name.to_string(),
            members: group.place.text.clone(),
            addresses: address_values(plan, &group.place.addresses),
        });
        let domains = plan
            .domains()
            .iter()
            .map(|domain| DomainRow { name: domain.name.to_string(), names: domain.names.clone() });
        let hours = plan
            .hours()
            .iter()
            .map(|hours| HoursRow { name: hours.name.to_string(), times: hours.minutes.words() });
        Self {
            bastium: EDITION,
            groups: groups.collect(),
            domains: domains.collect(),
            hours: hours.collect(),
        }
    }

    /// As tables: one of each kind that the plan has.
    pub fn tables(&self) -> Vec<Table> {
        let groups = self.groups.iter().map(|group| {
            vec![group.name.clone(), group.members.clone(), group.addresses.join(", ")]
        });
        let domains =
            self.domains.iter().map(|domain| vec![domain.name.clone(), domain.names.join(", ")]);
        let hours = self.hours.iter().map(|hours| vec![hours.name.clone(), hours.times.clone()]);
        let tables = [
            table("groups", &["group", "members", "addresses"], groups),
            table("domains", &["domain", "DNS names"], domains),
            table("hours", &["hours", "times"], hours),
        ];
        tables.into_iter().filter(|table| !table.rows.is_empty()).collect()
    }
}

fn table(title: &str, headings: &[&str], rows: impl Iterator<Item = Vec<String>>) -> Table {
    let mut table = Table::new(headings.iter().map(|heading| Column::text(*heading)));
    table.title = Some(title.to_owned());
    for row in rows {
        let mut cells: Vec<crate::Cell> = row.into_iter().map(Into::into).collect();
        cells[0].tone = Tone::Strong;
        table.row(cells);
    }
    table
}
