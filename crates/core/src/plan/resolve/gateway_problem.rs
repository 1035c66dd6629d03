//! What can be wrong with the site, the gateway, its ports or an uplink.

use super::super::ssh_host::NotAnSshHost;
use super::nearest_or;
use crate::diagnosis::{Diagnose, Diagnosis, Severity, error};
use crate::name::{Name, nearest};
use crate::source::Span;

/// What can be wrong with the site, the gateway or an uplink.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum GatewayProblem {
    /// The site has no name.
    NoSiteName { at: Option<Span> },
    /// A key has a value that is not one of those it can have.
    Choice { key: &'static str, word: String, choices: Vec<&'static str>, at: Span },
    /// No such time zone.
    TimeZone { word: String, nearest: Option<String>, at: Span },
    /// A name that cannot be a port's.
    PortName { word: String, at: Span },
    /// A port is listed twice, or used in two places.
    PortTwice { word: String, at: Span },
    /// An aggregate of fewer than two ports.
    LoneAggregate { name: String, at: Span },
    /// The port of an uplink carries networks too.
    UplinkPortShared { port: String, uplink: Name, at: Span, first: Span },
    /// An uplink's own address that is not an address with its prefix length.
    UplinkAddress { word: String, at: Span },
    /// An uplink without an address.
    NoUplinkAddress { uplink: Name, at: Span },
    /// A router that its uplink cannot reach.
    Router { word: String, at: Span },
    /// A limit that is no number of something.
    Limit { key: &'static str, at: Span },
    /// `matches` where the form does not ask for it.
    MatchesOfForm { form: &'static str, at: Span },
    /// `reach` that `ssh` could take for something else than a host.
    Reach { why: NotAnSshHost, at: Span },
    /// `manage` without a place, or without a service.
    ManageIncomplete { missing: &'static str, at: Span },
}

impl Diagnose for GatewayProblem {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::NoSiteName { at } => Diagnosis::new("no-site-name", Severity::Error, *at)
                .says("the site has no name")
                .help("write `[site]` with a line like `name = \"Fernside Veterinary Clinic\"`"),
            Self::Choice { key, word, choices, at } => error("unknown-choice", at)
                .says(format!("`{word}` is not a value of `{key}`"))
                .help(nearest_or(
                    nearest(word, choices.iter().copied()).map(str::to_owned).as_ref(),
                    &format!("write {}", choices.join(" or ")),
                )),
            Self::TimeZone { word, nearest, at } => error("unknown-time-zone", at)
                .says(format!("no time zone is called `{word}`"))
                .help(nearest_or(nearest.as_ref(), "write an IANA name like Europe/Lisbon")),
            Self::PortName { word, at } => error("bad-port-name", at)
                .says(format!("a port cannot be called `{word}`"))
                .why("it becomes part of an interface name, which has at most 15 bytes, VLAN id included")
                .help("use 1 to 10 letters, digits, hyphens or underscores"),
            Self::PortTwice { word, at } => error("port-twice", at)
                .says(format!("`{word}` is listed twice"))
                .help("list each port once, in `ports`, and in one aggregate at most"),
            Self::LoneAggregate { name, at } => error("lone-aggregate", at)
                .says(format!("the aggregate `{name}` has fewer than two ports"))
                .why("a single cable adds no redundancy (IEEE 802.1AX bundles two or more)")
                .help("list both ports, or use the port itself"),
            Self::UplinkPortShared { port, uplink, at, first } => error("uplink-port-shared", at)
                .says(format!("port `{port}` belongs to uplink `{uplink}`"))
                .why("inside and outside on the same cable would bypass the gateway")
                .help("use another port")
                .also(*first, "the uplink"),
            Self::UplinkAddress { word, at } => error("bad-uplink-address", at)
                .says(format!("`{word}` is not an address for an uplink"))
                .help("write \"dhcp\", or the gateway's own address with its length, like 198.51.100.14/30"),
            Self::NoUplinkAddress { uplink, at } => error("no-uplink-address", at)
                .says(format!("uplink `{uplink}` has no address"))
                .help("add `address = \"dhcp\"`, or the address with its length"),
            Self::Router { word, at } => error("bad-router", at)
                .says(format!("`{word}` is not a router on this uplink"))
                .help("write the provider's router, an address in the uplink's own subnet or a link-local one"),
            Self::Limit { key, at } => error("bad-number", at)
                .says(format!("`limits.{key}` is not a valid limit"))
                .help("write a number of 1 or more, or remove the key if there is no limit"),
            Self::MatchesOfForm { form, at } => error("matches-of-form", at)
                .says(format!("`matches` has no effect in the form `{form}`"))
                .why("only the form `per-interface` has a variant that matches source addresses only")
                .help("remove the key, or write `form = \"per-interface\"`"),
            Self::Reach { why, at } => error("bad-reach", at)
                .says(format!("`reach` names no gateway: {why}"))
                .help("write it as `ssh` takes it, without options: HOST, USER@HOST, or a name from its configuration; `netconf://` before it where the gateway speaks that"),
            Self::ManageIncomplete { missing, at } => error("manage-incomplete", at)
                .says(format!("`gateway.manage` does not say `{missing}`"))
                .why("management access has to name both who may connect and by which service")
                .help(format!("add a line like `{missing} = \"…\"`, or leave the table out")),
        }
    }
}
