//! Objects that are created before the rules that use them, and deleted after them.

use super::super::objects::Made;
use super::super::rules::Entered;
use super::super::{Values, one, values};

/// One thing with a name, as it is typed.
struct Named<'e> {
    table: &'static str,
    name: &'e str,
    kind: &'static str,
    values: Vec<String>,
    state: Made,
}

fn all<'e>(entered: &'e Entered<'_>) -> Vec<Named<'e>> {
    let objects = &entered.objects;
    let addresses = objects.addresses.iter().map(|one| Named {
        table: "addresses",
        name: &one.name,
        kind: one.kind,
        values: one.values.clone(),
        state: one.state,
    });
    let services = objects.services.iter().map(|one| Named {
        table: "services",
        name: &one.name,
        kind: if one.well_known { "look for it first" } else { "to be made" },
        values: one.ports.clone(),
        state: one.state,
    });
    let hours = objects.hours.iter().map(|one| Named {
        table: "hours",
        name: &one.name,
        kind: "",
        values: vec![one.value.clone()],
        state: one.state,
    });
    addresses.chain(services).chain(hours).collect()
}

/// What the new rules name and the gateway does not have.
pub(super) fn to_make(is: &Entered<'_>) -> Vec<Values> {
    let all = all(is);
    let tables = ["addresses", "services", "hours"].map(|table| {
        let own =
            all.iter().filter(|one| one.table == table && one.state.used && !one.state.before);
        let rows =
            own.map(|named| [one("add"), one(named.name), one(named.kind), named.values.clone()]);
        values(table, ["do", "name", "kind", "values"], rows)
    });
    tables.into()
}

/// What no rule names any more; and what is called otherwise in the worksheet of the new plan.
pub(super) fn to_clear(is: &Entered<'_>, fresh: &Entered<'_>) -> Vec<Values> {
    let all = all(is);
    let renamed = renamed(is, fresh);
    let tables = ["addresses", "services", "hours"].map(|table| {
        let own = all.iter().filter(|one| one.table == table);
        let gone = own.filter(|one| one.state.before && !one.state.used);
        let gone = gone.map(|named| [one("remove"), one(named.name), named.values.clone()]);
        let new = renamed.iter().filter(|(own, _, _)| *own == table);
        let new = new.map(|(_, was, is)| [one("rename"), one(was), one(format!("to {is}"))]);
        values(table, ["do", "name", "values"], gone.chain(new))
    });
    tables.into()
}

/// Names that are others in the end, with what they become.
fn renamed(is: &Entered<'_>, fresh: &Entered<'_>) -> Vec<(&'static str, String, String)> {
    let (here, there) = (&is.objects, &fresh.objects);
    let addresses = here.addresses.iter().filter(|one| one.state.used).filter_map(|one| {
        let other = there.addresses.iter().find(|other| other.set == one.set)?;
        Some(("addresses", one.name.clone(), other.name.clone()))
    });
    let services = here.services.iter().filter(|one| one.state.used).filter_map(|one| {
        let other = there.services.iter().find(|other| other.set == one.set)?;
        Some(("services", one.name.clone(), other.name.clone()))
    });
    let hours = here.hours.iter().filter(|one| one.state.used).filter_map(|one| {
        let other = there.hours.iter().find(|other| other.set == one.set)?;
        Some(("hours", one.name.clone(), other.name.clone()))
    });
    let all = addresses.chain(services).chain(hours);
    all.filter(|(_, was, is)| was != is).collect()
}
