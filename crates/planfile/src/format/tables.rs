//! Tables about the file as a whole, the site and the gateway.

use super::network::{ACCESS_POINT, HOST, NETWORK, ROUTE, SWITCH, TUNNEL, UPLINK, WIFI, ZONE};
use super::traffic::{
    DISCOVERY, DOMAIN, EXCEPTION, GROUP, GUARANTEE, HOURS, INBOUND, MATRIX, SERVICE, STREAM,
};
use super::{Key, Names, Table, Takes};

/// The file as a whole: one plan holds one site.
pub static PLAN: Table = Table {
    heading: "",
    about: "One plan file holds a whole site.",
    keys: &[
        Key::new("bastium", Takes::Edition, "The edition of the format.").needed().example("1"),
        Key::new("site", Takes::Table(&SITE), "The site as a whole.").needed(),
        Key::new("gateway", Takes::Table(&GATEWAY), "The gateway between the networks."),
        Key::new("uplink", Takes::Entries(&UPLINK), "Ways out."),
        Key::new("zone", Takes::Entries(&ZONE), "Networks that one decision serves."),
        Key::new("network", Takes::Entries(&NETWORK), "VLANs with their subnets."),
        Key::new("tunnel", Takes::Entries(&TUNNEL), "People who arrive from outside."),
        Key::new("route", Takes::Entries(&ROUTE), "Subnets behind other routers."),
        Key::new("host", Takes::Entries(&HOST), "Devices that rules name."),
        Key::new("group", Takes::Entries(&GROUP), "Named sets of endpoints."),
        Key::new("domain", Takes::Entries(&DOMAIN), "What is known by name, not by address."),
        Key::new("service", Takes::Entries(&SERVICE), "Services of the plan's own."),
        Key::new("hours", Takes::Entries(&HOURS), "Times of the week with a name."),
        Key::new("matrix", Takes::Table(&MATRIX), "What happens from each zone to each other.")
            .needed(),
        Key::new(
            "exception",
            Takes::Entries(&EXCEPTION),
            "Narrow things that go against their cell.",
        ),
        Key::new("inbound", Takes::Entries(&INBOUND), "Services offered to the outside."),
        Key::new(
            "discovery",
            Takes::Entries(&DISCOVERY),
            "Names announced in one network and repeated into others (RFC 6762).",
        ),
        Key::new("stream", Takes::Entries(&STREAM), "Steady loads."),
        Key::new(
            "never",
            Takes::Entries(&GUARANTEE),
            "What never passes, whatever else is written.",
        ),
        Key::new(
            "always",
            Takes::Entries(&GUARANTEE),
            "What always passes, whatever else is written.",
        ),
        Key::new(
            "known",
            Takes::NamedTexts,
            "Findings looked at and kept: a finding's name, or `name@entry`, with the reason.",
        ),
        Key::new("switch", Takes::Entries(&SWITCH), "Switches with their ports."),
        Key::new("access-point", Takes::Entries(&ACCESS_POINT), "Access points."),
        Key::new("wifi", Takes::Entries(&WIFI), "Wi-Fi names."),
    ],
};

static SITE: Table = Table {
    heading: "site",
    about: "The site as a whole.",
    keys: &[
        Key::new("name", Takes::Prose, "What it is called.")
            .needed()
            .example("\"Fernside Veterinary Clinic\""),
        Key::new("space", Takes::List, "Prefixes in which subnets lie.")
            .example("[\"10.44.0.0/16\"]"),
        Key::new(
            "tie",
            Takes::Choice(&["third-octet", "none"]),
            "How subnets follow from VLAN ids: with `third-octet`, VLAN 24 has 10.44.24.0/24.",
        )
        .default("none")
        .example("\"third-octet\""),
        Key::new("time-zone", Takes::Text, "The time zone of hours and dates, by its IANA name.")
            .default("that of the computer that Bastium runs on")
            .example("\"Etc/UTC\""),
    ],
};

static GATEWAY: Table = Table {
    heading: "gateway",
    about: "The gateway between the networks.",
    keys: &[
        Key::new("form", Takes::Choice(&["one-list", "per-pair", "per-interface", "ranked"]), "How it takes its rules.")
            .default("one-list")
            .example("\"one-list\""),
        Key::new("rules", Takes::Choice(&["fewest", "every-cell"]), "How many rules it gets for the same: the fewest that can be found, or one for every cell and exception.")
            .default("fewest")
            .example("\"every-cell\""),
        Key::new("ports", Takes::List, "Its ports, by the names that are printed on them.").example("[\"p1\", \"p2\"]"),
        Key::new("aggregate", Takes::NamedLists, "Ports that are joined into one (IEEE 802.1AX): a name with the ports.").example("{ trunk = [\"p1\", \"p2\"] }"),
        Key::new("manage", Takes::Table(&MANAGE), "Who may manage it, and by what."),
        Key::new("routes-mbps", Takes::Number, "What it can carry between networks, in megabits a second.").example("940"),
        Key::new("reach", Takes::Text, "Where it is reached by SSH, as `ssh` takes it, or `netconf://HOST`; never a password.").example("\"root@10.44.10.1\""),
        Key::new("matches", Takes::Choice(&["all", "source"]), "`source` if its lists match source addresses alone.").default("all").example("\"source\""),
        Key::new("limits", Takes::Table(&LIMITS), "What it cannot do."),
    ],
};

static LIMITS: Table = Table {
    heading: "gateway.limits",
    about: "What the gateway cannot do.",
    keys: &[
        Key::new("reject", Takes::Flag, "Whether it can refuse with a reply.")
            .default("true")
            .example("false"),
        Key::new("log", Takes::Flag, "Whether a rule can log.").default("true").example("false"),
        Key::new("hours", Takes::Flag, "Whether a rule can count at some hours alone.")
            .default("true")
            .example("false"),
        Key::new("domains", Takes::Flag, "Whether a rule can name a domain.")
            .default("true")
            .example("false"),
        Key::new("ipv6", Takes::Flag, "Whether it filters IPv6.").default("true").example("false"),
        Key::new("rules", Takes::Whole(0, u32::MAX), "How many rules it takes.")
            .default("no limit")
            .example("200"),
        Key::new("name", Takes::Whole(0, u32::MAX), "How long a rule's name may be, in bytes.")
            .default("no limit")
            .example("31"),
        Key::new(
            "insert",
            Takes::Flag,
            "Whether a rule can be put above others; else only at the end of its list.",
        )
        .default("true")
        .example("false"),
        Key::new(
            "duplicates",
            Takes::Flag,
            "Whether a list may have two rules that say the same for a while, or two of one name.",
        )
        .default("true")
        .example("false"),
        Key::new(
            "swap-lists",
            Takes::Flag,
            "Whether a list that is ready can be put in the place of another at once.",
        )
        .default("true")
        .example("false"),
    ],
};

static MANAGE: Table = Table {
    heading: "gateway.manage",
    about: "Who may manage the gateway, and by what.",
    keys: &[
        Key::new("from", Takes::Texts, "From where.")
            .needed()
            .example("\"engineer-laptop\"")
            .names(Names::Places),
        Key::new("service", Takes::Texts, "By which services.")
            .needed()
            .example("[\"ssh\", \"https\"]")
            .names(Names::Services),
        Key::new("second-factor", Takes::Flag, "Whether a password alone is not enough.")
            .default("false")
            .example("true"),
    ],
};
