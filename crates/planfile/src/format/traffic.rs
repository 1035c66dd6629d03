//! Tables about traffic: names for it, the matrix, and the exceptions to it.

use super::network::{ABOUT_IT as ABOUT, TAGS};
use super::{Key, Names, Table, Takes};

pub(super) static GROUP: Table = Table {
    heading: "group.NAME",
    about: "A named set of endpoints.",
    keys: &[
        Key::new("members", Takes::List, "What belongs to it.")
            .needed()
            .example("[\"archive\", \"records\"]")
            .names(Names::Places),
        ABOUT,
    ],
};

pub(super) static DOMAIN: Table = Table {
    heading: "domain.NAME",
    about: "What is known by name, not by address.",
    keys: &[
        Key::new("names", Takes::List, "DNS names, with `*.` in front for all below one.")
            .needed()
            .example("[\"calls.example.net\"]"),
        ABOUT,
    ],
};

pub(super) static SERVICE: Table = Table {
    heading: "service.NAME",
    about: "A service of the plan's own.",
    keys: &[
        Key::new("ports", Takes::List, "Protocols with their ports.")
            .example("[\"tcp/104\", \"tcp/11112\"]"),
        Key::new("includes", Takes::List, "Other services that it takes in.")
            .example("[\"https\"]")
            .names(Names::Services),
        TAGS,
        ABOUT,
    ],
};

pub(super) static HOURS: Table = Table {
    heading: "hours.NAME",
    about: "Times of the week with a name: one span, or several as `spans`. A span whose end is not after its beginning runs past midnight and belongs to the day on which it began.",
    keys: &[
        Key::new("days", Takes::Days, "Days of the week.").example("\"mon-fri\""),
        Key::new("from", Takes::Text, "Its first minute.").example("\"07:30\""),
        Key::new("to", Takes::Text, "The first minute outside; `24:00` is the end of a day.")
            .example("\"18:00\""),
        Key::new("spans", Takes::Tables(&SPAN), "Several of these."),
        ABOUT,
    ],
};

static SPAN: Table = Table {
    heading: "hours.NAME.spans",
    about: "Days and times.",
    keys: &[
        Key::new("days", Takes::Days, "Days of the week.").needed().example("\"sat, sun\""),
        Key::new("from", Takes::Text, "Its first minute.").needed().example("\"09:00\""),
        Key::new("to", Takes::Text, "The first minute outside.").needed().example("\"12:00\""),
    ],
};

pub(super) static MATRIX: Table = Table {
    heading: "matrix",
    about: "What happens from each zone to each other.",
    keys: &[
        Key::new("grid", Takes::Prose, "The zones that are reached in its first line, and below it a line for each zone from which.").needed().example("'''\n          staff  guests\nstaff     allow  block\nguests    block  block\n'''"),
        Key::new("log", Takes::Choice(&["none", "block", "allow", "all"]), "What is logged where a cell does not say.").default("block").example("\"all\""),
        Key::new("unmatched", Takes::Text, "What happens to the rest: `block` or `reject`, with `+log` or `+quiet`.").default("block+log").example("\"block+log\""),
    ],
};

// The keys that exceptions and services offered to the outside have in common.
const SERVICE_OF: Key = Key::new("service", Takes::Texts, "Which services.")
    .default("any")
    .example("[\"http\", \"https\"]")
    .names(Names::Services);
const WHY: Key =
    Key::new("why", Takes::Prose, "Why it is there.").example("\"Door codes need the right time\"");
const TICKET: Key =
    Key::new("ticket", Takes::Prose, "The ticket that it comes from.").example("\"FV-112\"");
const OWNER: Key =
    Key::new("owner", Takes::Prose, "Who wanted it.").example("\"practice manager\"");
const LOG: Key = Key::new("log", Takes::Flag, "Whether it is logged.")
    .default("what `matrix.log` says")
    .example("true");
const UNTIL: Key = Key::new("until", Takes::Day, "The last day on which it counts.")
    .default("for ever")
    .example("\"2027-03-31\"");
const OFF: Key =
    Key::new("off", Takes::Flag, "Whether it is switched off.").default("false").example("true");
const BEFORE: Key =
    Key::new("before", Takes::List, "Entries that it goes above, though it is not narrower.")
        .example("[\"printers-stay-in\"]")
        .names(Names::Permissions);
const HOURS_OF: Key = Key::new("hours", Takes::Name, "The hours in which it counts.")
    .default("always")
    .example("\"deliveries\"")
    .names(Names::Hours);
const LIMIT: Key =
    Key::new("limit-mbps", Takes::Number, "How much it lets through, in megabits a second.")
        .default("as much as there is")
        .example("50");

pub(super) static EXCEPTION: Table = Table {
    heading: "exception.NAME",
    about: "A narrow thing that goes against its cell.",
    keys: &[
        Key::new("from", Takes::Texts, "From where.")
            .needed()
            .example("\"desks\"")
            .names(Names::Places),
        Key::new("to", Takes::Texts, "To where.")
            .needed()
            .example("\"printers\"")
            .names(Names::Places),
        SERVICE_OF,
        Key::new(
            "action",
            Takes::Choice(&["allow", "block", "reject"]),
            "What happens; `reject` sends a reply.",
        )
        .needed()
        .example("\"allow\""),
        WHY,
        TICKET,
        OWNER,
        LOG,
        UNTIL,
        OFF,
        BEFORE,
        HOURS_OF,
        LIMIT,
        TAGS,
    ],
};

pub(super) static INBOUND: Table = Table {
    heading: "inbound.NAME",
    about: "A service offered to the outside.",
    keys: &[
        Key::new("host", Takes::Texts, "The host that offers it.")
            .needed()
            .example("\"booking\"")
            .names(Names::Places),
        SERVICE_OF,
        Key::new(
            "outside-port",
            Takes::Whole(1, 65535),
            "The port outside, where it is another one.",
        )
        .default("the service's own")
        .example("443"),
        Key::new("uplink", Takes::Name, "The uplink, where there are several.")
            .example("\"fibre\"")
            .names(Names::Uplink),
        Key::new("from", Takes::Texts, "To whom it is offered.")
            .default("internet")
            .example("\"203.0.113.0/24\"")
            .names(Names::Places),
        Key::new("translate", Takes::Flag, "Whether the gateway translates destinations for it.")
            .default("true")
            .example("false"),
        WHY,
        TICKET,
        OWNER,
        LOG,
        UNTIL,
        OFF,
        BEFORE,
        HOURS_OF,
        LIMIT,
        TAGS,
    ],
};

pub(super) static DISCOVERY: Table = Table {
    heading: "discovery.NAME",
    about: "Names announced in one network and repeated into others (RFC 6762).",
    keys: &[
        Key::new("between", Takes::List, "Networks, or zones for all of theirs.")
            .needed()
            .example("[\"desks\", \"printers\"]")
            .names(Names::Places),
        ABOUT,
    ],
};

pub(super) static STREAM: Table = Table {
    heading: "stream.NAME",
    about: "A steady load.",
    keys: &[
        Key::new("from", Takes::Texts, "Who sends the bytes.")
            .needed()
            .example("\"cameras\"")
            .names(Names::Places),
        Key::new("to", Takes::Texts, "Who receives them.")
            .needed()
            .example("\"recorder\"")
            .names(Names::Places),
        Key::new("mbps", Takes::Number, "How much, in megabits a second.").needed().example("54"),
        ABOUT,
    ],
};

pub(super) static GUARANTEE: Table = Table {
    heading: "never.NAME",
    about: "What holds whatever else is written.",
    keys: &[
        Key::new("from", Takes::Texts, "From where.")
            .needed()
            .example("\"guests\"")
            .names(Names::Places),
        Key::new("to", Takes::Texts, "To where.")
            .needed()
            .example("\"tills\"")
            .names(Names::Places),
        SERVICE_OF,
        Key::new("why", Takes::Prose, "Why it must hold.").example("\"Card data\""),
    ],
};
