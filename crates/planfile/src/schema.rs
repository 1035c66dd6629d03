//! The JSON Schema of the plan file, generated from types that are the tables of the format.
//!
//! The types are not what a plan is read into: positions and all mistakes at once take more than a
//! deserialiser gives. They say the same once more, for editors, and tests hold the two against each
//! other: every key that is read is here, and nothing else.

#![allow(dead_code, missing_docs, reason = "the types are only there for their schema")]

use schemars::{JsonSchema, generate::SchemaSettings};
use serde_json::Value;
use std::collections::BTreeMap;

/// The schema (JSON Schema, draft 2020-12).
pub fn schema() -> Value {
    let generator = SchemaSettings::draft2020_12().for_deserialize().into_generator();
    let mut schema = generator.into_root_schema_for::<PlanFile>().to_value();
    schema["title"] = "A plan of Bastium".into();
    schema
}

type Named<T> = Option<BTreeMap<Name, T>>;

/// A lower-case word of letters, digits and single hyphens.
#[derive(JsonSchema, PartialEq, Eq, PartialOrd, Ord)]
#[schemars(transparent)]
struct Name(#[schemars(regex(pattern = r"^[a-z][a-z0-9]*(-[a-z0-9]+)*$"))] String);

/// One text, or a list of them.
#[derive(JsonSchema)]
#[serde(untagged)]
enum Texts {
    One(String),
    Several(Vec<String>),
}

/// One plan file holds a whole site.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct PlanFile {
    /// The edition of this format: 1.
    #[schemars(range(min = 1, max = 1))]
    bastium: u8,
    /// The site as a whole.
    site: Site,
    /// The gateway.
    gateway: Option<Gateway>,
    /// Ways out.
    uplink: Named<Uplink>,
    /// Subnets behind other routers.
    route: Named<Route>,
    /// Networks that one decision serves.
    zone: Named<Zone>,
    /// VLANs with their subnets.
    network: Named<Network>,
    /// People who arrive from outside.
    tunnel: Named<Tunnel>,
    /// Devices that rules name.
    host: Named<Host>,
    /// Named sets of places.
    group: Named<Group>,
    /// What is known by name, not by address.
    domain: Named<Domain>,
    /// Services of the plan's own.
    service: Named<Service>,
    /// Minutes of the week with a name.
    hours: Named<Hours>,
    /// What happens from each zone to each other.
    matrix: Matrix,
    /// Narrow things that go against their cell.
    exception: Named<Exception>,
    /// Services offered to the outside.
    inbound: Named<Inbound>,
    /// Names announced in one network and repeated into others.
    discovery: Named<Discovery>,
    /// Steady loads.
    stream: Named<Stream>,
    /// What never passes, whatever else is written.
    never: Named<Guarantee>,
    /// What always passes, whatever else is written.
    always: Named<Guarantee>,
    /// Findings looked at and kept, each with its reason: by name, or `name@entry`.
    known: Option<BTreeMap<String, String>>,
    /// Switches with their ports.
    switch: Named<Switch>,
    /// Access points.
    access_point: Named<AccessPoint>,
    /// Wi-Fi names.
    wifi: Named<Wifi>,
}

/// The site as a whole.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Site {
    /// What it is called.
    name: String,
    /// Where subnets lie.
    space: Option<Texts>,
    /// How subnets follow from VLAN ids.
    tie: Option<Tie>,
    /// The time zone of hours and dates, by its IANA name.
    time_zone: Option<String>,
}

#[derive(JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum Tie {
    /// VLAN 24 has 10.44.24.0/24.
    ThirdOctet,
    None,
}

/// The gateway.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Gateway {
    /// How it takes its rules.
    form: Option<Form>,
    /// How many rules it gets for the same: the fewest that can be found, or one for every cell and exception.
    rules: Option<Rows>,
    /// Its ports.
    ports: Option<Texts>,
    /// Ports joined into one.
    aggregate: Option<BTreeMap<String, Vec<String>>>,
    /// Who may manage it.
    manage: Option<Manage>,
    /// What it can carry between networks, in megabits a second.
    routes_mbps: Option<f64>,
    /// Whether its lists see sources alone.
    matches: Option<Matches>,
    /// What it cannot do.
    limits: Option<Limits>,
}

#[derive(JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum Form {
    OneList,
    PerPair,
    PerInterface,
    Ranked,
}

#[derive(JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum Rows {
    Fewest,
    EveryCell,
}

#[derive(JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum Matches {
    All,
    Source,
}

/// What the gateway cannot do.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Limits {
    reject: Option<bool>,
    log: Option<bool>,
    hours: Option<bool>,
    domains: Option<bool>,
    ipv6: Option<bool>,
    /// How many rules it takes.
    rules: Option<u32>,
    /// How long a rule's name may be, in bytes.
    name: Option<u32>,
    /// Whether a rule can be put above others; else only at the end of its list.
    insert: Option<bool>,
    /// Whether a list may have two rules that say the same, or two of one name.
    duplicates: Option<bool>,
    /// Whether a list that is ready can take the place of another at once.
    swap_lists: Option<bool>,
}

/// Who may manage the gateway, and by what.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Manage {
    from: Texts,
    service: Texts,
    second_factor: Option<bool>,
}

/// A way out.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Uplink {
    port: Option<String>,
    /// "dhcp", or the gateway's own addresses there with their lengths.
    address: Texts,
    router: Option<Texts>,
}

/// A subnet behind another router.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Route {
    to: String,
    via: String,
    zone: Option<Name>,
    about: Option<String>,
}

/// Networks that one decision serves.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Zone {
    trust: Trust,
    about: Option<String>,
    uses_gateway_for: Option<Texts>,
}

#[derive(JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum Trust {
    High,
    Medium,
    Low,
    None,
}

/// A VLAN with its subnets.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Network {
    zone: Name,
    /// Its VLAN id; none if it is untagged.
    #[schemars(range(min = 1, max = 4094))]
    vlan: Option<u16>,
    /// The gateway's port or aggregate that it arrives on.
    port: Option<String>,
    /// Devices expected.
    hosts: Option<u32>,
    dhcp: Option<Dhcp>,
    subnet: Option<Texts>,
    gateway: Option<Texts>,
    /// Whether switch and access point keep its devices apart.
    isolate: Option<bool>,
    uses_gateway_for: Option<Texts>,
    about: Option<String>,
}

/// A range that the gateway leases out, or false.
#[derive(JsonSchema)]
#[serde(untagged)]
enum Dhcp {
    Off(bool),
    Range(String),
}

/// People who arrive from outside.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Tunnel {
    zone: Name,
    clients: Texts,
    gateway: Option<Texts>,
    listens: Option<Texts>,
    hosts: Option<u32>,
    uses_gateway_for: Option<Texts>,
    about: Option<String>,
}

/// A device that rules name.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Host {
    network: Name,
    address: Option<Texts>,
    mac: Option<String>,
    about: Option<String>,
}

/// A named set of places.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Group {
    members: Texts,
    about: Option<String>,
}

/// What is known by name, not by address.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Domain {
    names: Texts,
    about: Option<String>,
}

/// A service of the plan's own.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Service {
    ports: Option<Texts>,
    includes: Option<Texts>,
    about: Option<String>,
}

/// Minutes of the week with a name: one span, or several as `spans`.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Hours {
    days: Option<Texts>,
    from: Option<String>,
    to: Option<String>,
    spans: Option<Vec<Span>>,
    about: Option<String>,
}

/// Days and times.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Span {
    days: Texts,
    from: String,
    to: String,
}

/// What happens from each zone to each other.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Matrix {
    /// Rows: from; columns: to.
    grid: String,
    log: Option<Log>,
    /// block or reject, with +log or +quiet.
    unmatched: Option<String>,
}

#[derive(JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum Log {
    None,
    Block,
    Allow,
    All,
}

#[derive(JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum Action {
    Allow,
    Block,
    Reject,
}

/// A narrow thing that goes against its cell.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Exception {
    from: Texts,
    to: Texts,
    service: Option<Texts>,
    action: Action,
    why: Option<String>,
    ticket: Option<String>,
    owner: Option<String>,
    log: Option<bool>,
    /// The last day on which it counts.
    until: Option<String>,
    off: Option<bool>,
    /// Exceptions that it goes before, though it is not narrower.
    before: Option<Texts>,
    hours: Option<Name>,
    limit_mbps: Option<f64>,
}

/// A service offered to the outside.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Inbound {
    host: Texts,
    service: Option<Texts>,
    #[schemars(range(min = 1, max = 65535))]
    outside_port: Option<u32>,
    uplink: Option<Name>,
    from: Option<Texts>,
    translate: Option<bool>,
    why: Option<String>,
    ticket: Option<String>,
    owner: Option<String>,
    log: Option<bool>,
    until: Option<String>,
    off: Option<bool>,
    before: Option<Texts>,
    hours: Option<Name>,
    limit_mbps: Option<f64>,
}

/// Names announced in one network and repeated into others.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Discovery {
    between: Texts,
    about: Option<String>,
}

/// A steady load.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Stream {
    from: Texts,
    to: Texts,
    mbps: f64,
    about: Option<String>,
}

/// What holds whatever else is written.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Guarantee {
    from: Texts,
    to: Texts,
    service: Option<Texts>,
    why: Option<String>,
}

/// A switch.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Switch {
    /// A gateway port, an aggregate, or switch:port.
    hangs_on: String,
    /// Its own ports that lead there.
    by: Option<Texts>,
    /// How many ports it has; they are numbered from 1.
    #[schemars(range(min = 1, max = 1024))]
    has_ports: Option<u16>,
    /// By number, range or name.
    ports: Option<BTreeMap<String, SwitchPort>>,
    about: Option<String>,
}

/// What a port of a switch carries.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct SwitchPort {
    /// Networks, or "all".
    tagged: Option<Texts>,
    untagged: Option<Name>,
    about: Option<String>,
}

/// An access point.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct AccessPoint {
    hangs_on: String,
    about: Option<String>,
}

/// A Wi-Fi name.
#[derive(JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Wifi {
    /// As people see it.
    name: String,
    network: Name,
    /// 2.4, 5 or 6 (GHz).
    bands: Option<Texts>,
    /// Access points.
    on: Texts,
    about: Option<String>,
}
