//! Differences between two plans that change no packet on that day: what domains stand for, the time zone of hours,
//! when entries end, what is guaranteed, how uplinks are set up.

use bastium_core::plan::{Exception, Guarantee, Plan, Uplink};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

/// Something that two plans say otherwise.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SettingRow {
    /// What it is: `domain`, `time-zone`, `end`, `guarantee` or `uplink`.
    pub kind: &'static str,
    /// The name of the entry; empty where there is one alone.
    pub name: String,
    /// What the old plan says; empty if nothing.
    pub before: String,
    /// What the new plan says; empty if nothing.
    pub after: String,
    /// The same as a line: `end of locum-reads-records: 2029-03-31 -> none`.
    pub says: String,
}

impl SettingRow {
    /// Whether traffic of the day fares otherwise by it, though in the words of the plan it is the same: a domain that stands
    /// for other names, hours of another time zone.
    pub fn moves_traffic(&self) -> bool {
        matches!(self.kind, "domain" | "time-zone")
    }

    fn new(kind: &'static str, name: &str, before: &str, after: &str) -> Self {
        let what = match kind {
            "time-zone" => "time zone".to_owned(),
            "end" => format!("end of {name}"),
            kind => format!("{kind} {name}"),
        };
        let or_none =
            |text: &str| if text.is_empty() { "none".to_owned() } else { text.to_owned() };
        let says = format!("{what}: {} -> {}", or_none(before), or_none(after));
        Self {
            kind,
            name: name.to_owned(),
            before: before.to_owned(),
            after: after.to_owned(),
            says,
        }
    }
}

/// What the second plan says otherwise than the first.
pub(super) fn settings(old: &Plan, new: &Plan) -> Vec<SettingRow> {
    let mut rows = Vec::new();
    let zone = |plan: &Plan| plan.site().time_zone.clone().unwrap_or_default();
    let mut differ = |kind, name: &str, before: &str, after: &str| {
        if before != after {
            rows.push(SettingRow::new(kind, name, before, after));
        }
    };
    differ("time-zone", "", &zone(old), &zone(new));
    // A domain, or an entry, that only one of them has shows in the traffic.
    for (name, (before, after)) in both(domains(old), domains(new)) {
        if let (Some(before), Some(after)) = (before, after) {
            differ("domain", &name, &before, &after);
        }
    }
    for (name, (before, after)) in both(ends(old), ends(new)) {
        if let (Some(before), Some(after)) = (before, after) {
            differ("end", &name, &before, &after);
        }
    }
    for (kind, of) in [("guarantee", guarantees as fn(&Plan) -> Named), ("uplink", uplinks)] {
        for (name, (before, after)) in both(of(old), of(new)) {
            differ(kind, &name, &before.unwrap_or_default(), &after.unwrap_or_default());
        }
    }
    rows
}

/// Something in words, by name.
type Named = BTreeMap<String, String>;

fn both(old: Named, mut new: Named) -> BTreeMap<String, (Option<String>, Option<String>)> {
    let mut all: BTreeMap<String, (Option<String>, Option<String>)> = old
        .into_iter()
        .map(|(name, before)| {
            let after = new.remove(&name);
            (name, (Some(before), after))
        })
        .collect();
    all.extend(new.into_iter().map(|(name, after)| (name, (None, Some(after)))));
    all
}

fn domains(plan: &Plan) -> Named {
    let words = |names: &[String]| {
        let mut names = names.to_vec();
        names.sort();
        names.dedup();
        names.join(", ")
    };
    plan.domains().iter().map(|one| (one.name.to_string(), words(&one.names))).collect()
}

/// The last days of entries that count: empty where there is none.
fn ends(plan: &Plan) -> Named {
    let end = |entry: &Exception| entry.until.map(|last| last.to_string()).unwrap_or_default();
    let active = plan.exceptions().iter().filter(|entry| !entry.off);
    active.map(|entry| (entry.name.to_string(), end(entry))).collect()
}

fn guarantees(plan: &Plan) -> Named {
    let words = |one: &Guarantee| {
        let service = match one.service.text.as_str() {
            "" | "any" => String::new(),
            text => format!(" by {text}"),
        };
        format!("{} to {}{service}", one.from.text, one.to.text)
    };
    let name = |one: &Guarantee| format!("{}.{}", one.word(), one.name);
    plan.guarantees().iter().map(|one| (name(one), words(one))).collect()
}

fn uplinks(plan: &Plan) -> Named {
    let words = |one: &Uplink| {
        let mut words: Vec<String> = one.port.iter().map(|port| format!("port {port}")).collect();
        words.extend(one.addresses.iter().map(ToString::to_string));
        words.extend(one.dhcp.then(|| "by DHCP".to_owned()));
        words.extend(one.routers.iter().map(|router| format!("router {router}")));
        words.join(", ")
    };
    plan.uplinks().iter().map(|one| (one.name.to_string(), words(one))).collect()
}
