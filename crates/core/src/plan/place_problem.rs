//! What can be wrong with a place.

use crate::diagnosis::{Diagnose, Diagnosis, Severity, error, nearest_or};
use crate::source::Span;
use ipnet::IpNet;

/// What can be wrong with a place.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum PlaceProblem {
    /// There is no word in it.
    Empty { at: Option<Span> },
    /// No such name.
    Unknown { word: String, nearest: Option<String>, at: Span },
    /// A host without a fixed address.
    NotFixed { host: String, at: Span },
    /// An uplink whose own subnet nobody knows.
    NotKnown { uplink: String, at: Span },
    /// It looks like an address, a prefix or a range, but is none.
    NotAnAddress { word: String, at: Span },
    /// A prefix with bits set behind its length.
    HostBits { word: String, prefix: IpNet, at: Span },
    /// A range that runs backwards.
    Reversed { word: String, at: Span },
    /// A range from one family to the other.
    TwoFamilies { word: String, at: Span },
    /// An address of the gateway itself.
    GatewaysOwn { word: String, at: Span },
    /// An address that no network holds and that is not on the internet.
    Nowhere { word: String, at: Span },
    /// Two words without `+` or `-` between them.
    MissingSign { word: String, at: Span },
    /// A `+` or `-` without a word on each side.
    StraySign { at: Span },
    /// Groups that hold each other in a circle.
    Circle { names: Vec<String>, at: Span },
}

impl PlaceProblem {
    /// The same, placed at `owner` where it has no place of its own.
    pub(super) fn at_least(self, owner: Span) -> Self {
        match self {
            Self::Empty { at } => Self::Empty { at: at.or(Some(owner)) },
            other => other,
        }
    }
}

impl Diagnose for PlaceProblem {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::Empty { at } => Diagnosis::new("empty-place", Severity::Error, *at)
                .says("no endpoint is named here")
                .help("name one; `any` means everything except the gateway"),
            Self::Unknown { word, nearest, at } => error("unknown-name", at)
                .says(format!("nothing in the plan is called `{word}`"))
                .help(nearest_or(
                    nearest.as_ref(),
                    "declare it as a zone, network, host or group, or write an address",
                )),
            Self::NotFixed { host, at } => error("address-not-fixed", at)
                .says(format!("host `{host}` has no fixed address, so no rule can name it"))
                .why("its next lease may have another address, and the rule would then match another device")
                .help(format!("give `[host.{host}]` an `address` outside the pool")),
            Self::NotKnown { uplink, at } => error("uplink-not-known", at)
                .says(format!("no neighbour is known on the link of uplink `{uplink}`"))
                .why("an uplink's name means the other addresses of its subnet, and its router; this one gets its address by DHCP, or its subnet has no other addresses")
                .help(format!("add `router` to `[uplink.{uplink}]`")),
            Self::NotAnAddress { word, at } => error("bad-address", at)
                .says(format!("`{word}` is not an address, a prefix or a range"))
                .help("write 10.44.24.40, 10.44.24.0/24, 10.44.24.40-10.44.24.47, or the like in IPv6"),
            Self::HostBits { word, prefix, at } => error("host-bits", at)
                .says(format!("`{word}` has bits set behind its prefix length"))
                .help(format!("write `{prefix}` for the prefix, or leave the length out for the one address")),
            Self::Reversed { word, at } => error("reversed-range", at)
                .says(format!("the range `{word}` ends before it begins"))
                .help("write the lower address first"),
            Self::TwoFamilies { word, at } => error("bad-address", at)
                .says(format!("the range `{word}` begins in one address family and ends in the other"))
                .help("write one range for IPv4 and one for IPv6"),
            Self::GatewaysOwn { word, at } => error("gateways-own-address", at)
                .says(format!("`{word}` is an address of the gateway"))
                .help("write `gateway` for the gateway itself"),
            Self::Nowhere { word, at } => error("address-nowhere", at)
                .says(format!("`{word}` is in no network of this plan and not on the internet"))
                .why("the gateway routes no packet from or to it")
                .help("correct the address, or declare the network it belongs to"),
            Self::MissingSign { word, at } => error("bad-place", at)
                .says(format!("a `+` or `-` is missing before `{word}`"))
                .help("write `staff + guests`, `any - printers`, or a list"),
            Self::StraySign { at } => error("bad-place", at)
                .says("a `+` or `-` stands without a name on each side")
                .help("write it between two names, with spaces around it"),
            Self::Circle { names, at } => error("group-circle", at)
                .says(format!("these groups contain each other: {}", names.join(" -> ")))
                .help("remove one of them from the other's `members`"),
        }
    }
}
