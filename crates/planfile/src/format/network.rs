//! Tables about equipment: zones, networks, devices, and the cables between them.

use super::{Key, Names, Table, Takes};

/// Free words for an entry, in every table that has people read it.
const ABOUT: Key = Key::new("about", Takes::Prose, "What it is for, in free words.")
    .example("\"For the front desk\"");
/// Words to find entries by.
pub(super) const TAGS: Key = Key::new("tags", Takes::List, "Words to find it by: `rules --tag`.")
    .example("[\"audit-2027\"]");
const USES: Key = Key::new(
    "uses-gateway-for",
    Takes::List,
    "Services of the gateway itself that may be used from there.",
)
.example("[\"dns\", \"dhcp\", \"ntp\"]")
.names(Names::Services);

pub(super) static UPLINK: Table = Table {
    heading: "uplink.NAME",
    about: "A way out.",
    keys: &[
        Key::new("port", Takes::Text, "The gateway's port that it arrives on.").example("\"wan\""),
        Key::new(
            "address",
            Takes::Texts,
            "The gateway's own addresses there with their prefix lengths, or `dhcp`.",
        )
        .needed()
        .example("\"198.51.100.14/30\""),
        Key::new("router", Takes::Texts, "The provider's router.").example("\"198.51.100.13\""),
    ],
};

pub(super) static ZONE: Table = Table {
    heading: "zone.NAME",
    about: "Networks that one decision serves.",
    keys: &[
        Key::new(
            "trust",
            Takes::Choice(&["high", "medium", "low", "none"]),
            "How much is trusted what is in it.",
        )
        .needed()
        .example("\"medium\""),
        ABOUT,
        USES.default("nothing"),
    ],
};

pub(super) static NETWORK: Table = Table {
    heading: "network.NAME",
    about: "A VLAN with its subnets.",
    keys: &[
        Key::new("zone", Takes::Name, "The zone that it belongs to.")
            .needed()
            .example("\"staff\"")
            .names(Names::Zone),
        Key::new("vlan", Takes::Whole(1, 4094), "Its VLAN id (IEEE 802.1Q).")
            .default("untagged")
            .example("24"),
        Key::new("port", Takes::Text, "The gateway's port or aggregate that it arrives on.")
            .example("\"trunk\""),
        Key::new("hosts", Takes::Whole(0, u32::MAX), "Devices expected.").example("20"),
        Key::new(
            "dhcp",
            Takes::RangeOrOff,
            "What the gateway leases out there: host numbers or addresses.",
        )
        .example("\"50-199\""),
        Key::new(
            "subnet",
            Takes::Texts,
            "Its subnets. If it is there, the network has only these families.",
        )
        .default("from the VLAN id, or carved from `space`")
        .example("\"10.44.24.0/24\""),
        Key::new("gateway", Takes::Texts, "The gateway's addresses there.")
            .default("the first of each subnet")
            .example("\"10.44.24.254\""),
        Key::new("isolate", Takes::Flag, "Whether switch and access point keep its devices apart.")
            .default("false")
            .example("true"),
        USES.default("what the zone says"),
        TAGS,
        ABOUT,
    ],
};

pub(super) static TUNNEL: Table = Table {
    heading: "tunnel.NAME",
    about: "People who arrive from outside by a tunnel that ends at the gateway.",
    keys: &[
        Key::new("zone", Takes::Name, "The zone that they belong to.")
            .needed()
            .example("\"remote\"")
            .names(Names::Zone),
        Key::new("clients", Takes::Texts, "Their addresses.")
            .needed()
            .example("\"10.44.250.0/24\""),
        Key::new("gateway", Takes::Texts, "The gateway's addresses in it.")
            .default("the first of each")
            .example("\"10.44.250.1\""),
        Key::new("listens", Takes::Texts, "Where the gateway is reached for it, from outside.")
            .example("\"udp/51820\"")
            .names(Names::Services),
        Key::new("hosts", Takes::Whole(0, u32::MAX), "How many are expected.").example("4"),
        USES.default("what the zone says"),
        ABOUT,
    ],
};

pub(super) static ROUTE: Table = Table {
    heading: "route.NAME",
    about: "A subnet behind another router.",
    keys: &[
        Key::new("to", Takes::Text, "The subnet.").needed().example("\"10.45.0.0/24\""),
        Key::new("via", Takes::Text, "That router: a host's name, or an address in a network.")
            .needed()
            .example("\"10.44.64.2\"")
            .names(Names::Places),
        Key::new("zone", Takes::Name, "The zone that it belongs to.")
            .default("that of the router's network")
            .example("\"premises\"")
            .names(Names::Zone),
        ABOUT,
    ],
};

pub(super) static HOST: Table = Table {
    heading: "host.NAME",
    about: "A device that rules name.",
    keys: &[
        Key::new("network", Takes::Name, "The network that it is in.")
            .needed()
            .example("\"printers\"")
            .names(Names::Network),
        Key::new("address", Takes::Texts, "Its addresses, or the numbers of them.")
            .example("\"10.44.48.10\""),
        Key::new("mac", Takes::Text, "Its MAC address, for a DHCP reservation.")
            .example("\"02:00:5e:10:00:10\""),
        TAGS,
        ABOUT,
    ],
};

pub(super) static SWITCH: Table = Table {
    heading: "switch.NAME",
    about: "A switch.",
    keys: &[
        Key::new("hangs-on", Takes::Text, "A port or aggregate of the gateway, or `switch:port`.")
            .needed()
            .example("\"trunk\"")
            .names(Names::SwitchPort),
        Key::new("by", Takes::List, "Its own ports that lead there.").example("\"1\""),
        Key::new(
            "has-ports",
            Takes::Whole(1, 1024),
            "How many ports it has; they are numbered from 1.",
        )
        .example("24"),
        Key::new(
            "ports",
            Takes::Entries(&SWITCH_PORT),
            "Its ports, by number (`\"7\"`), range (`\"3-12\"`) or name.",
        ),
        ABOUT,
    ],
};

pub(super) static SWITCH_PORT: Table = Table {
    heading: "switch.NAME.ports.PORT",
    about: "What a port of a switch carries.",
    keys: &[
        Key::new("tagged", Takes::Texts, "Networks that it carries tagged, or `all`.")
            .example("\"all\"")
            .names(Names::Network),
        Key::new("untagged", Takes::Name, "The network that it carries untagged.")
            .example("\"desks\"")
            .names(Names::Network),
        ABOUT,
    ],
};

pub(super) static ACCESS_POINT: Table = Table {
    heading: "access-point.NAME",
    about: "An access point.",
    keys: &[
        Key::new("hangs-on", Takes::Text, "A port of the gateway, or `switch:port`.")
            .needed()
            .example("\"rack:22\"")
            .names(Names::SwitchPort),
        ABOUT,
    ],
};

pub(super) static WIFI: Table = Table {
    heading: "wifi.NAME",
    about: "A Wi-Fi name.",
    keys: &[
        Key::new("name", Takes::Prose, "As people see it.").needed().example("\"Fernside\""),
        Key::new("network", Takes::Name, "The network behind it.")
            .needed()
            .example("\"desks\"")
            .names(Names::Network),
        Key::new("bands", Takes::List, "2.4, 5 or 6 (GHz).").example("[\"2.4\", \"5\"]"),
        Key::new("on", Takes::List, "The access points that send it.")
            .needed()
            .example("[\"ceiling\"]")
            .names(Names::AccessPoints),
        ABOUT,
    ],
};

/// The free words that tables elsewhere have, too.
pub(super) const ABOUT_IT: Key = ABOUT;
