//! What can be wrong with a network, and how it reads.

use super::nearest_or;
use crate::addressing::NoSubnet;
use crate::diagnosis::{Diagnose, Diagnosis, error};
use crate::name::Name;
use crate::source::Span;
use ipnet::IpNet;
use std::net::IpAddr;

/// What can be wrong with a network.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum NetworkProblem {
    /// It names no zone.
    NoZone { network: Name, at: Span },
    /// It names a zone that is not there.
    UnknownZone { word: String, nearest: Option<String>, at: Span },
    /// A VLAN id outside 1 to 4094.
    Vlan { vlan: i64, at: Span },
    /// A VLAN id that another network has.
    VlanTaken { vlan: u16, other: Name, at: Span, first: Span },
    /// A port that the gateway does not have.
    UnknownPort { word: String, nearest: Option<String>, at: Span },
    /// A port that is a part of an aggregate.
    PortInAggregate { port: String, aggregate: String, at: Span },
    /// Two networks without a tag on one port.
    UntaggedTwice { port: String, other: Name, at: Span, first: Span },
    /// A subnet that is not a prefix.
    NotASubnet { word: String, at: Span },
    /// A subnet with host bits set.
    HostBits { word: String, prefix: IpNet, at: Span },
    /// A subnet of addresses that no network can have.
    Special { prefix: IpNet, at: Span },
    /// Neither given nor derived.
    NoSubnet { network: Name, reason: NoSubnet, vlan: Option<u16>, at: Span },
    /// Two subnets share addresses.
    Overlap { prefix: IpNet, other: IpNet, with: Name, at: Span, first: Span },
    /// An address of the gateway that is no address.
    NotAnAddress { word: String, at: Span },
    /// An address of the gateway that lies in none of the network's subnets, or cannot be a device's.
    GatewayOutside { address: IpAddr, subnets: Vec<IpNet>, at: Span },
    /// A pool that is no range.
    NotAPool { word: String, at: Span },
    /// A pool that reaches beyond its subnet.
    PoolOutside { word: String, subnet: Option<IpNet>, at: Span },
    /// A pool that holds the gateway's own address.
    PoolHoldsGateway { gateway: IpAddr, at: Span },
    /// A number of devices that is none.
    Expected { number: i64, at: Span },
    /// A subnet shares addresses with an uplink's own.
    OverlapsUplink { prefix: IpNet, uplink: Name, at: Span, first: Span },
    /// A tunnel without clients.
    NoClients { tunnel: Name, at: Span },
    /// More networks and uplinks than can be distinguished.
    TooMany { at: Span },
}

impl Diagnose for NetworkProblem {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::NoZone { network, at } => error("no-zone", at)
                .says(format!("network `{network}` has no zone"))
                .help("add a line like `zone = \"staff\"`"),
            Self::UnknownZone { word, nearest, at } => error("unknown-zone", at)
                .says(format!("no zone is called `{word}`"))
                .help(nearest_or(nearest.as_ref(), "declare it as `[zone.NAME]`")),
            Self::Vlan { vlan, at } => error("vlan-out-of-range", at)
                .says(format!("{vlan} is not a VLAN id"))
                .why("IEEE 802.1Q allows the ids 1 to 4094; 0 means no VLAN, and 4095 is reserved")
                .help("choose an id from 2 to 4094"),
            Self::VlanTaken { vlan, other, at, first } => error("vlan-taken", at)
                .says(format!("VLAN {vlan} is already used by network `{other}`"))
                .why("two networks on one VLAN are one broadcast domain, and the gateway cannot separate their devices")
                .help("give one of the two another id")
                .also(*first, "used here first"),
            Self::UnknownPort { word, nearest, at } => error("unknown-port", at)
                .says(format!("the gateway has no port called `{word}`"))
                .help(nearest_or(nearest.as_ref(), "list it in `gateway.ports`")),
            Self::PortInAggregate { port, aggregate, at } => error("port-in-aggregate", at)
                .says(format!("port `{port}` is a part of the aggregate `{aggregate}`"))
                .why("the ports of an aggregate carry the same networks (IEEE 802.1AX)")
                .help(format!("write `{aggregate}`")),
            Self::UntaggedTwice { port, other, at, first } => error("untagged-twice", at)
                .says(format!("network `{other}` is already untagged on port `{port}`"))
                .why("a port can carry only one untagged network")
                .help("give one of the two a `vlan`")
                .also(*first, "the other one"),
            Self::NotASubnet { word, at } => error("bad-address", at)
                .says(format!("`{word}` is not a subnet"))
                .help("write it like 10.44.24.0/24 or fd6b:2f4e:91c0:24::/64"),
            Self::HostBits { word, prefix, at } => error("host-bits", at)
                .says(format!("`{word}` has bits set behind its prefix length"))
                .help(format!("write `{prefix}`")),
            Self::Special { prefix, at } => error("special-subnet", at)
                .says(format!("{prefix} cannot be used for a network"))
                .why("they are loopback, link-local, multicast or \"this network\" addresses (RFC 6890)")
                .help("choose a private prefix, such as 10.44.24.0/24"),
            Self::NoSubnet { network, reason, vlan, at } => no_subnet(network, reason, *vlan, error("no-subnet", at)),
            Self::Overlap { prefix, other, with, at, first } => error("subnets-overlap", at)
                .says(format!("subnet {prefix} overlaps {other} of `{with}`"))
                .why("every address must belong to exactly one network, or the gateway cannot route to it")
                .help("give one of the two another subnet")
                .also(*first, "the other one"),
            Self::OverlapsUplink { prefix, uplink, at, first } => error("subnets-overlap", at)
                .says(format!("subnet {prefix} overlaps the subnet of uplink `{uplink}`"))
                .why("every address must be either inside or outside")
                .help("give the network another subnet, or ask the provider for another one")
                .also(*first, "the uplink"),
            Self::NotAnAddress { word, at } => error("bad-address", at)
                .says(format!("`{word}` is not an address"))
                .help("write it like 10.44.24.1 or fd6b:2f4e:91c0:24::1"),
            Self::GatewayOutside { address, subnets, at } => error("gateway-outside", at)
                .says(format!("the gateway cannot have {address} here"))
                .why(format!("it is not an address that a device can have in {}", words(subnets)))
                .help("remove the key to use the first address of the subnet, or write an address inside it"),
            Self::NotAPool { word, at } => error("bad-pool", at)
                .says(format!("`{word}` is not a range of IPv4 addresses"))
                .help("write host numbers like \"50-199\", two addresses with a hyphen, or false; the lower one first"),
            Self::PoolOutside { word, subnet, at } => error("pool-outside", at)
                .says(match subnet {
                    Some(subnet) => format!("the pool `{word}` reaches beyond {subnet}"),
                    None => format!("the pool `{word}` is in no IPv4 subnet of this network"),
                })
                .why("addresses outside the subnet could be leased but not used")
                .help("choose a range within the subnet, without its first and last address"),
            Self::PoolHoldsGateway { gateway, at } => error("pool-holds-gateway", at)
                .says(format!("the pool holds the gateway's own address {gateway}"))
                .why("a device could be leased the gateway's address, and the network would lose its gateway")
                .help("start the pool above it"),
            Self::Expected { number, at } => error("bad-number", at)
                .says(format!("{number} is not a valid number of devices"))
                .help("write the number of devices you expect, 0 or more"),
            Self::NoClients { tunnel, at } => error("no-clients", at)
                .says(format!("tunnel `{tunnel}` has no `clients` addresses"))
                .help("add a line like `clients = \"10.44.250.0/24\"`"),
            Self::TooMany { at } => error("too-many", at)
                .says("there are more than 15,000 networks, tunnels and uplinks")
                .help("split the site into several plans"),
        }
    }
}

fn words(prefixes: &[IpNet]) -> String {
    let words: Vec<String> = prefixes.iter().map(ToString::to_string).collect();
    words.join(" or ")
}

fn no_subnet(
    network: &Name,
    reason: &NoSubnet,
    vlan: Option<u16>,
    diagnosis: Diagnosis,
) -> Diagnosis {
    let (why, help) = match reason {
        NoSubnet::NotTied => (
            "none is given, and none follows: that takes `site.tie`, `site.space` and a `vlan`"
                .to_owned(),
            "add a line like `subnet = [\"10.44.24.0/24\"]`",
        ),
        NoSubnet::NoRoom => (
            "it would be carved from `site.space`, where no hole is large enough".to_owned(),
            "widen the space, or expect fewer devices",
        ),
        NoSubnet::AboveOctet => (
            format!("VLAN {} does not fit into the third octet", vlan.unwrap_or_default()),
            "give the network a `subnet`, or a VLAN id up to 255",
        ),
        NoSubnet::OutsideSpace(prefix) => (
            format!("{prefix}, which would follow from the VLAN id, lies outside `site.space`"),
            "give the network a `subnet`, another VLAN id, or widen the space",
        ),
    };
    diagnosis.says(format!("network `{network}` has no subnet")).why(why).help(help)
}
