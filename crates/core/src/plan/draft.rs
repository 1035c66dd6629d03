//! A plan as somebody wrote it: words with positions, nothing looked up yet.
//!
//! A reader of a format fills this in as far as the text has the right shape; whether the words mean
//! something is for [`super::resolve`] to find out.

use super::Unread;
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
    /// What the text holds that this version does not read.
    pub unread: Vec<Unread>,
    /// Names that unread tables declare, with the table.
    pub unread_names: Vec<(Text, String)>,
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
        ports: Vec<Text>,
        aggregates: Vec<(Text, Vec<Text>)>,
        manage: Option<Manage>,
        at: Span,
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
        zone: Option<Text>,
        vlan: Option<Located<i64>>,
        port: Option<Text>,
        hosts: Option<Located<i64>>,
        dhcp: Option<Dhcp>,
        subnets: Option<Vec<Text>>,
        gateway: Vec<Text>,
        isolate: Option<Located<bool>>,
        uses: Option<Vec<Text>>,
    }
    /// `[host.NAME]`
    Host {
        name: Text,
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
