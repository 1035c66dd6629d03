//! A plan as somebody wrote it: words with positions, nothing looked up yet.
//!
//! A reader of a format fills this in as far as the text has the right shape; whether the words mean
//! something is for [`super::resolve`] to find out.

use crate::source::{Located, Source, Span, Text};

/// The whole of it. Lists keep the order of the text.
#[derive(Clone, Debug, Default)]
#[expect(missing_docs, reason = "the fields are the tables of the plan, by their names")]
pub struct Draft {
    pub source: Source,
    pub site: Site,
    pub gateway: Gateway,
    pub uplinks: Vec<Uplink>,
    pub zones: Vec<Zone>,
    pub networks: Vec<Network>,
    pub hosts: Vec<Host>,
    pub groups: Vec<Group>,
    pub services: Vec<Service>,
    pub matrix: Matrix,
    pub exceptions: Vec<Exception>,
    pub tunnels: Vec<Tunnel>,
    pub routes: Vec<Route>,
    pub domains: Vec<Domain>,
    pub hours: Vec<Hours>,
    pub inbounds: Vec<Inbound>,
    pub discoveries: Vec<Discovery>,
    pub streams: Vec<Stream>,
    pub always: Vec<Guarantee>,
    pub never: Vec<Guarantee>,
    /// Each a finding's name with its reason.
    pub known: Vec<(Text, Text)>,
    pub switches: Vec<Switch>,
    pub access_points: Vec<AccessPoint>,
    pub wifi: Vec<Wifi>,
}

macro_rules! tables {
    ($($(#[$doc:meta])* $table:ident { $($field:ident: $kind:ty),* $(,)? })*) => {$(
        $(#[$doc])*
        #[derive(Clone, Debug, Default)]
        #[expect(missing_docs, reason = "the fields are the keys of the table, by their names")]
        pub struct $table { $(pub $field: $kind),* }
    )*};
}
tables! {
    /// `[site]`
    Site {
        name: Option<Text>,
        space: Vec<Text>,
        tie: Option<Text>,
        time_zone: Option<Text>,
        troubled: bool,
        at: Span,
    }
    /// `[gateway]`
    Gateway {
        form: Option<Text>,
        rules: Option<Text>,
        ports: Vec<Text>,
        aggregates: Vec<(Text, Vec<Text>)>,
        manage: Option<Manage>,
        routes_mbps: Option<Located<f64>>,
        reach: Option<Text>,
        matches: Option<Text>,
        limits: Limits,
        at: Span,
    }
    /// `gateway.limits`
    Limits {
        reject: Option<Located<bool>>,
        log: Option<Located<bool>>,
        hours: Option<Located<bool>>,
        domains: Option<Located<bool>>,
        ipv6: Option<Located<bool>>,
        rules: Option<Located<i64>>,
        name: Option<Located<i64>>,
        insert: Option<Located<bool>>,
        duplicates: Option<Located<bool>>,
        swap_lists: Option<Located<bool>>,
    }
    /// `[gateway.manage]`
    Manage {
        from: Vec<Text>,
        service: Vec<Text>,
        second_factor: Option<Located<bool>>,
        at: Span,
    }
    /// `[uplink.NAME]`
    Uplink {
        name: Text,
        port: Option<Text>,
        address: Vec<Text>,
        router: Vec<Text>,
    }
    /// `[zone.NAME]`
    Zone {
        name: Text,
        trust: Option<Text>,
        about: Option<Text>,
        uses: Option<Vec<Text>>,
    }
    /// `[network.NAME]`
    Network {
        name: Text,
        tags: Vec<Text>,
        zone: Option<Text>,
        vlan: Option<Located<i64>>,
        port: Option<Text>,
        hosts: Option<Located<i64>>,
        dhcp: Option<Dhcp>,
        subnets: Option<Vec<Text>>,
        gateway: Vec<Text>,
        isolate: Option<Located<bool>>,
        uses: Option<Vec<Text>>,
        troubled: bool,
    }
    /// `[host.NAME]`
    Host {
        name: Text,
        tags: Vec<Text>,
        network: Option<Text>,
        addresses: Vec<Text>,
        mac: Option<Text>,
    }
    /// `[group.NAME]`
    Group {
        name: Text,
        members: Vec<Text>,
    }
    /// `[service.NAME]`
    Service {
        name: Text,
        tags: Vec<Text>,
        ports: Vec<Text>,
        includes: Vec<Text>,
    }
    /// `[matrix]`
    Matrix {
        grid: Option<Text>,
        log: Option<Text>,
        unmatched: Option<Text>,
        at: Span,
    }
    /// `[exception.NAME]`
    Exception {
        name: Text,
        tags: Vec<Text>,
        from: Vec<Text>,
        to: Vec<Text>,
        service: Option<Vec<Text>>,
        action: Option<Text>,
        why: Option<Text>,
        ticket: Option<Text>,
        owner: Option<Text>,
        log: Option<Located<bool>>,
        until: Option<Text>,
        off: Option<Located<bool>>,
        before: Vec<Text>,
        hours: Option<Text>,
        limit_mbps: Option<Located<f64>>,
    }
    /// `[tunnel.NAME]`
    Tunnel {
        name: Text,
        zone: Option<Text>,
        clients: Vec<Text>,
        gateway: Vec<Text>,
        listens: Option<Vec<Text>>,
        hosts: Option<Located<i64>>,
        uses: Option<Vec<Text>>,
    }
    /// `[route.NAME]`
    Route {
        name: Text,
        to: Option<Text>,
        via: Option<Text>,
        zone: Option<Text>,
    }
    /// `[domain.NAME]`
    Domain {
        name: Text,
        names: Vec<Text>,
    }
    /// `[hours.NAME]`
    Hours {
        name: Text,
        spans: Vec<HourSpan>,
    }
    /// One span of `[hours.NAME]`
    HourSpan {
        days: Vec<Text>,
        from: Option<Text>,
        to: Option<Text>,
        at: Span,
    }
    /// `[inbound.NAME]`: a permission, and what is particular to it.
    Inbound {
        permission: Exception,
        outside_port: Option<Located<i64>>,
        uplink: Option<Text>,
        translate: Option<Located<bool>>,
    }
    /// `[discovery.NAME]`
    Discovery {
        name: Text,
        between: Vec<Text>,
    }
    /// `[stream.NAME]`
    Stream {
        name: Text,
        from: Vec<Text>,
        to: Vec<Text>,
        mbps: Option<Located<f64>>,
    }
    /// `[always.NAME]` or `[never.NAME]`
    Guarantee {
        name: Text,
        from: Vec<Text>,
        to: Vec<Text>,
        service: Option<Vec<Text>>,
    }
    /// `[switch.NAME]`
    Switch {
        name: Text,
        hangs_on: Option<Text>,
        uplinks: Vec<Text>,
        has_ports: Option<Located<i64>>,
        ports: Vec<SwitchPort>,
    }
    /// `[switch.NAME.ports]`, one entry; its name may be a range
    SwitchPort {
        name: Text,
        tagged: Option<Vec<Text>>,
        untagged: Option<Text>,
    }
    /// `[access-point.NAME]`
    AccessPoint {
        name: Text,
        hangs_on: Option<Text>,
    }
    /// `[wifi.NAME]`
    Wifi {
        name: Text,
        shown: Option<Text>,
        network: Option<Text>,
        bands: Vec<Text>,
        on: Vec<Text>,
    }
}

/// `dhcp = …`
#[derive(Clone, Debug)]
pub enum Dhcp {
    /// `dhcp = false`: nothing is leased.
    Off(Span),
    /// `dhcp = "50-199"`: host numbers or addresses.
    Range(Text),
}
