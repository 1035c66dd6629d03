//! Reads an addressing sheet or device list made elsewhere: columns are recognised by their headings, and each row
//! becomes an entry of the plan or is reported.

use super::Setting;
use bastium_core::name::Name;
use bastium_core::plan::Plan;

/// What became of the columns and rows of a sheet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Understood {
    /// Each heading, with the key that it stands for; none for a column that is passed over.
    pub columns: Vec<(String, Option<&'static str>)>,
    /// The entries, by row number (the headings are row 1).
    pub entries: Vec<Entry>,
    /// What could not be used.
    pub unused: Vec<RowProblem>,
}

/// An entry to add.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// The row that it comes from.
    pub row: usize,
    /// Its name.
    pub name: String,
    /// Its keys.
    pub settings: Vec<Setting>,
}

/// Why a row cannot be used, or not all of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RowProblem {
    /// The row.
    pub row: usize,
    /// What is wrong.
    pub says: String,
}

/// Why a sheet cannot be used at all.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SheetProblem {
    /// No sheets are read for that kind of entry.
    #[error("no sheets are read for `{0}`")]
    Kind(String),
    /// No column is the name.
    #[error("no column is the name")]
    NoName {
        /// The headings that there are.
        headings: Vec<String>,
    },
    /// Two columns stand for one key.
    #[error("two columns stand for {key}: {}", headings.join(", "))]
    Twice {
        /// The key.
        key: &'static str,
        /// The headings.
        headings: [String; 2],
    },
}

/// Headings, in lower case and without anything but letters and digits, by the key they stand for. Where
/// several columns fit, those that stand first in a list go before.
const NETWORK: &[(&str, &[&str])] = &[
    ("name", &["name", "networkname", "vlanname", "network", "segment", "description"]),
    ("vlan", &["vlan", "vlanid", "vid", "id", "tag", "vlantag"]),
    ("zone", &["zone", "trustzone", "group", "area"]),
    (
        "subnet",
        &[
            "subnet",
            "prefix",
            "cidr",
            "ipv4subnet",
            "ipv4",
            "ipsubnet",
            "range",
            "addresses",
            "networkaddress",
        ],
    ),
    ("gateway", &["gateway", "gatewayaddress", "router", "gw", "defaultgateway"]),
    ("dhcp", &["dhcp", "pool", "dhcppool", "dhcprange", "leases"]),
    ("hosts", &["hosts", "devices", "users", "count", "expected", "size"]),
    ("port", &["port", "interface", "gatewayport"]),
    ("about", &["about", "comment", "comments", "remark", "remarks", "notes", "purpose"]),
];
const HOST: &[(&str, &[&str])] = &[
    ("name", &["name", "hostname", "host", "device", "devicename", "description"]),
    ("network", &["network", "vlan", "vlanname", "segment", "vlanid"]),
    ("address", &["address", "ip", "ipaddress", "ipv4", "ipv4address", "fixedip", "staticip"]),
    ("mac", &["mac", "macaddress", "hardwareaddress", "physicaladdress", "ethernet"]),
    (
        "about",
        &["about", "comment", "comments", "remark", "remarks", "notes", "purpose", "location"],
    ),
];
const ZONE: &[(&str, &[&str])] = &[
    ("name", &["name", "zone", "zonename"]),
    ("trust", &["trust", "level", "trustlevel"]),
    ("about", &["about", "comment", "remark", "notes", "description", "purpose"]),
];
const SERVICE: &[(&str, &[&str])] = &[
    ("name", &["name", "service", "servicename"]),
    ("ports", &["ports", "port", "protocolport", "portrange"]),
    ("about", &["about", "comment", "remark", "notes", "description", "purpose"]),
];

/// The kinds of entries that can come from a sheet.
pub const FROM_SHEETS: [&str; 4] = ["network", "host", "zone", "service"];

fn keys(kind: &str) -> Option<&'static [(&'static str, &'static [&'static str])]> {
    match kind {
        "network" => Some(NETWORK),
        "host" => Some(HOST),
        "zone" => Some(ZONE),
        "service" => Some(SERVICE),
        _ => None,
    }
}

/// The most columns of a table.
const MOST_COLUMNS: usize = 1_000;

/// Reads comma-separated values (RFC 4180), at most so many rows. Semicolons and tabs separate as well,
/// where the first row has more of them than commas.
///
/// # Errors
/// Says in words why it is no such table.
pub fn read_csv(bytes: &[u8], most: usize) -> Result<Vec<Vec<String>>, String> {
    let text = std::str::from_utf8(bytes).map_err(|_| "it is not UTF-8 text".to_owned())?;
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    let head = text.lines().next().unwrap_or_default();
    let often = |sign: char| head.matches(sign).count();
    let sign = [';', '\t'].into_iter().filter(|s| often(*s) > often(',')).max_by_key(|s| often(*s));
    let mut reader = csv::ReaderBuilder::new()
        .has_headers(false)
        .flexible(true)
        .delimiter(sign.map_or(b',', |sign| sign as u8))
        .from_reader(text.as_bytes());
    let mut rows = Vec::new();
    for record in reader.records().take(most) {
        let record = record.map_err(|error| error.to_string())?;
        if record.len() > MOST_COLUMNS {
            return Err(format!("row {} has more than {MOST_COLUMNS} cells", rows.len() + 1));
        }
        rows.push(record.iter().map(|cell| cell.trim().to_owned()).collect());
    }
    Ok(rows)
}

/// Understands a sheet, as far as the plan lets it: a network can be named by its VLAN id.
///
/// # Errors
/// Says why it cannot be used at all.
pub fn understand(
    kind: &str,
    headings: &[String],
    rows: &[Vec<String>],
    plan: &Plan,
) -> Result<Understood, SheetProblem> {
    let keys = keys(kind).ok_or_else(|| SheetProblem::Kind(kind.to_owned()))?;
    let columns = columns(keys, headings)?;
    if !columns.contains(&Some("name")) {
        return Err(SheetProblem::NoName { headings: headings.to_vec() });
    }
    let mut understood = Understood {
        columns: headings.iter().cloned().zip(columns.iter().copied()).collect(),
        entries: Vec::new(),
        unused: Vec::new(),
    };
    for (index, row) in rows.iter().enumerate() {
        if row.iter().all(|cell| cell.trim().is_empty()) {
            continue;
        }
        read_row(index + 2, row, &columns, plan, &mut understood);
    }
    Ok(understood)
}

/// The key of each column: the best heading for each key.
fn columns(
    keys: &'static [(&'static str, &'static [&'static str])],
    headings: &[String],
) -> Result<Vec<Option<&'static str>>, SheetProblem> {
    let plain = |text: &String| -> String {
        text.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect()
    };
    let mut columns = vec![None; headings.len()];
    for (key, words) in keys {
        let rank = |heading: &String| words.iter().position(|word| **word == plain(heading));
        let fits = headings.iter().enumerate().filter(|(index, _)| columns[*index].is_none());
        let mut fits: Vec<(usize, usize)> =
            fits.filter_map(|(index, heading)| Some((rank(heading)?, index))).collect();
        fits.sort_unstable();
        match fits.as_slice() {
            [(a, first), (b, second), ..] if a == b => {
                let headings = [headings[*first].clone(), headings[*second].clone()];
                return Err(SheetProblem::Twice { key, headings });
            }
            [(_, best), ..] => columns[*best] = Some(*key),
            [] => {}
        }
    }
    Ok(columns)
}

fn read_row(
    row: usize,
    cells: &[String],
    columns: &[Option<&'static str>],
    plan: &Plan,
    understood: &mut Understood,
) {
    let mut name = None;
    let mut settings = Vec::new();
    for (cell, key) in cells.iter().map(|cell| cell.trim()).zip(columns) {
        let (Some(key), false) = (key, cell.is_empty()) else { continue };
        if *key == "name" {
            name = Name::suggestion(cell);
            if name.is_none() {
                let says = format!("`{cell}` cannot be made a name");
                understood.unused.push(RowProblem { row, says });
                return;
            }
            continue;
        }
        match value(key, cell, plan) {
            Ok(value) => settings.push(Setting { key: (*key).to_owned(), value: Some(value) }),
            Err(says) => understood.unused.push(RowProblem { row, says }),
        }
    }
    match name {
        Some(name) => {
            understood.entries.push(Entry { row, name: name.to_string(), settings });
        }
        None => understood.unused.push(RowProblem { row, says: "it has no name".to_owned() }),
    }
}

/// What a cell says, as the plan writes it.
fn value(key: &str, cell: &str, plan: &Plan) -> Result<String, String> {
    let digits: String = cell.chars().filter(char::is_ascii_digit).collect();
    match key {
        "vlan" | "hosts" if digits.is_empty() => Err(format!("`{cell}` is not a number")),
        "vlan" | "hosts" => Ok(digits),
        "network" => Ok(network(cell, plan)),
        "zone" => Ok(Name::suggestion(cell).map_or_else(|| cell.to_owned(), |n| n.to_string())),
        "trust" | "mac" => Ok(cell.to_lowercase().replace('-', ":")),
        // A host's address is often written with the length of its subnet.
        "address" => Ok(cell.split('/').next().unwrap_or(cell).trim().to_owned()),
        "dhcp"
            if matches!(cell.to_lowercase().as_str(), "no" | "none" | "off" | "-" | "static") =>
        {
            Ok("false".to_owned())
        }
        "dhcp" => Ok(cell.replace(" - ", "-").replace(" to ", "-").replace('–', "-")),
        // A text that looks like TOML stays a text.
        "about" => Ok(cell.trim_start_matches(['"', '\'', '[', '{']).to_owned()),
        _ => Ok(cell.to_owned()),
    }
}

/// A network by its name, or by its VLAN id.
fn network(cell: &str, plan: &Plan) -> String {
    let digits = cell.trim_start_matches(|c: char| !c.is_ascii_digit());
    let tagged = digits
        .parse::<u16>()
        .ok()
        .and_then(|vlan| plan.networks().iter().find(|network| network.vlan == Some(vlan)));
    let named = Name::suggestion(cell);
    let known = |name: &Name| plan.networks().iter().any(|network| network.name == *name);
    match (named.filter(known), tagged) {
        (Some(name), _) => name.to_string(),
        (None, Some(network)) => network.name.to_string(),
        (None, None) => Name::suggestion(cell).map_or_else(|| cell.to_owned(), |n| n.to_string()),
    }
}
