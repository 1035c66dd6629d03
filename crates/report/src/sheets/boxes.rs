//! Traffic classes as rows.

use super::answer::few;
use super::products::Names;
use bastium_core::proof::{NamedBox, Wording};
use bastium_core::space::{AddressSet, Interface, Match, PacketSet, ServiceSet};
use schemars::JsonSchema;
use serde::Serialize;

/// A box of packets: every packet that enters there, from one of these sources, to one of these
/// destinations, for one of these services, at these hours.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct BoxRow {
    /// Where they enter: networks, a zone, `internet` or `gateway`.
    pub from: String,
    /// Their sources; `any` if all that belong there, `devices of desks` if all but those behind a router or with a
    /// link-local address.
    pub source: String,
    /// The zones they go to, or `gateway`.
    pub to: String,
    /// Their destinations.
    pub destination: String,
    /// What they ask for.
    pub service: String,
    /// At which hours; none for always.
    pub hours: Option<String>,
    /// `IPv4`, `IPv6` or `both`.
    pub family: &'static str,
    /// The same in a few words.
    #[serde(skip)]
    pub short: String,
}

/// A packet set as rows.
pub(crate) fn rows(words: &Wording<'_>, set: &PacketSet) -> Vec<BoxRow> {
    words.boxes(set).iter().map(row).collect()
}

fn row(named: &NamedBox) -> BoxRow {
    let parts = Named {
        from: named.from.clone(),
        source: named.source.clone(),
        destination: named.destination.clone(),
        service: named.service.clone(),
        hours: named.hours.clone(),
        family: named.family,
    };
    BoxRow {
        from: named.from.join(" + "),
        source: named.source.join(", "),
        to: named.to.join(" + "),
        destination: named.destination.join(", "),
        service: named.service.join(", "),
        hours: named.hours.clone(),
        family: named.family,
        short: short(&parts),
    }
}

/// `tcp/443 from desks to records (IPv4)`, with at most three of everything.
fn short(named: &Named) -> String {
    let service = match named.service.as_slice() {
        [any] if any == "any" => "anything".to_owned(),
        words => few(words),
    };
    let from = few(if named.source == ["any"] { &named.from } else { &named.source });
    let family =
        if named.family == "both" { String::new() } else { format!(" ({})", named.family) };
    let hours = named.hours.as_ref().map(|hours| format!(", {hours}")).unwrap_or_default();
    format!("{service} from {from} to {}{family}{hours}", few(&named.destination))
}

/// A product over the interfaces of rule lists, without a plan to name anything after.
pub(super) fn bare(names: &Names, product: &Match) -> BoxRow {
    let interfaces = names.interfaces.iter().enumerate();
    let from = interfaces
        .filter(|(interface, _)| product.enters.contains(Interface::of_index(*interface)));
    let words = |set: &AddressSet| match names.stranger_at(set) {
        Some(name) => vec![name.to_owned()],
        None => set.words(),
    };
    let line = product.service.v4.union(&product.service.v6);
    let named = Named {
        from: from.map(|(_, name)| name.clone()).collect(),
        source: words(&product.source),
        destination: words(&product.destination),
        service: ServiceSet::both(line).words(),
        hours: (!product.at.is_full()).then(|| product.at.words()),
        family: if product.source.v4.is_empty() { "IPv6" } else { "IPv4" },
    };
    BoxRow {
        from: named.from.join(" + "),
        source: named.source.join(", "),
        to: String::new(),
        destination: named.destination.join(", "),
        service: named.service.join(", "),
        hours: named.hours.clone(),
        family: named.family,
        short: short(&named),
    }
}

/// The parts of a box, as far as its short words need them.
struct Named {
    from: Vec<String>,
    source: Vec<String>,
    destination: Vec<String>,
    service: Vec<String>,
    hours: Option<String>,
    family: &'static str,
}
