//! Mistakes in the file: each is reported at its line and column, by its name, with a help.

use bastium_core::diagnosis::Severity;

/// A plan without mistakes, for one mistake at a time to be put in.
const GOOD: &str = r#"bastium = 1
[site]
name = "Fernside Veterinary Clinic"
space = ["10.44.0.0/16"]
tie = "third-octet"
[gateway]
ports = ["wan1", "lan1", "lan2"]
[uplink.fibre]
port = "wan1"
address = "198.51.100.14/30"
[zone.staff]
trust = "medium"
uses-gateway-for = ["dns", "dhcp"]
[zone.guests]
trust = "none"
uses-gateway-for = ["dns", "dhcp"]
[network.desks]
zone = "staff"
vlan = 24
port = "lan1"
dhcp = "100-199"
[network.waiting-room]
zone = "guests"
vlan = 80
port = "lan1"
dhcp = "20-219"
[host.reception]
network = "desks"
address = "10.44.24.10"
mac = "02:00:5e:24:00:10"
[host.kiosk]
network = "waiting-room"
[group.people]
members = ["desks"]
[service.web]
ports = ["tcp/80", "tcp/443"]
[matrix]
grid = '''
          staff  guests  internet
staff     -      block   allow
guests    block  -       allow
internet  block  block   -
'''
[exception.one]
from = "reception"
to = "waiting-room"
service = "web"
action = "allow"
why = "a test"
"#;

/// What is replaced, by what, and what is reported: names with line and column, in the order of the text.
const MISTAKES: &[(&str, &str, &[&str])] = &[
    ("bastium = 1\n", "\n", &["no-edition"]),
    ("bastium = 1", "bastium = 2", &["edition 1:11"]),
    ("bastium = 1", "bastium = \"1\"", &["wrong-kind 1:11"]),
    ("name = \"Fernside", "nmae = \"Fernside", &["unknown-key 3:1"]),
    ("name = \"Fernside Veterinary Clinic\"", "", &["no-site-name 2:2"]),
    ("[group.people]", "[grup.people]", &["unknown-key 33:2"]),
    ("third-octet", "third-octett", &["unknown-choice 5:7"]),
    ("space = [\"10.44.0.0/16\"]", "space = [\"10.44.0.1/16\"]", &["host-bits 4:10"]),
    ("space = [\"10.44.0.0/16\"]", "space = 5", &["wrong-kind 4:9"]),
    ("\"lan1\", \"lan2\"", "\"lan1\", \"lan1\"", &["port-twice 7:26"]),
    ("\"lan2\"]", "\"a-name-too-long\"]", &["bad-port-name 7:26"]),
    ("port = \"wan1\"", "port = \"wan2\"", &["unknown-port 9:8"]),
    (
        "port = \"lan1\"\ndhcp = \"100",
        "port = \"wan1\"\ndhcp = \"100",
        &["uplink-port-shared 20:8"],
    ),
    ("198.51.100.14/30", "198.51.100.12/30", &["bad-uplink-address 10:11"]),
    ("address = \"198.51.100.14/30\"", "", &["no-uplink-address 8:9"]),
    ("[uplink.fibre]", "[uplink.Fibre]", &["bad-name 8:9"]),
    ("[uplink.fibre]", "[uplink.internet]", &["reserved-name 8:9"]),
    ("[uplink.fibre]", "[uplink.guests]", &["name-taken 8:9"]),
    ("198.51.100.14/30\"", "198.51.100.14/30\"\nrouter = \"192.0.2.1\"", &["bad-router 11:10"]),
    ("trust = \"medium\"", "trust = \"hihg\"", &["unknown-trust 12:9"]),
    ("trust = \"medium\"", "", &["no-trust 11:7"]),
    (
        "[zone.staff]",
        "[zone.Staff]",
        &[
            "bad-name 11:7",
            "unknown-zone 18:8",
            "grid-unknown-zone 39:11",
            "grid-unknown-zone 40:1",
        ],
    ),
    (
        "[zone.guests]",
        "[zone.internet]",
        &[
            "reserved-name 14:7",
            "unknown-zone 23:8",
            "grid-unknown-zone 39:18",
            "grid-unknown-zone 41:1",
        ],
    ),
    (
        "uses-gateway-for = [\"dns\", \"dhcp\"]\n[zone.g",
        "uses-gateway-for = [\"dsn\"]\n[zone.g",
        &["unknown-service 13:21"],
    ),
    ("zone = \"staff\"", "zone = \"staf\"", &["unknown-zone 18:8"]),
    ("zone = \"staff\"", "", &["no-zone 17:10"]),
    ("vlan = 24", "vlan = 0", &["vlan-out-of-range 19:8"]),
    ("vlan = 24", "vlan = 4095", &["vlan-out-of-range 19:8"]),
    ("vlan = 24", "vlan = -1", &["vlan-out-of-range 19:8"]),
    ("vlan = 24", "vlan = 99999999999999999999", &["vlan-out-of-range 19:8"]),
    ("vlan = 24", "vlan = 2.4", &["wrong-kind 19:8"]),
    ("vlan = 24", "vlan = 80\nsubnet = \"10.44.24.0/24\"", &["vlan-taken 25:8"]),
    ("vlan = 24", "vlan = 300", &["address-outside 29:11"]),
    ("vlan = 24", "vlan = 24\nsubnet = \"10.44.24.7/24\"", &["host-bits 20:10"]),
    ("vlan = 24", "vlan = 24\nsubnet = \"10.44.24.0/33\"", &["bad-address 20:10"]),
    ("vlan = 24", "vlan = 24\nsubnet = \"224.0.0.0/24\"", &["special-subnet 20:10"]),
    ("vlan = 24", "vlan = 24\nsubnet = \"0.0.0.0/0\"", &["special-subnet 20:10"]),
    (
        "vlan = 24",
        "vlan = 24\nsubnet = \"10.44.80.128/25\"\ngateway = \"10.44.80.129\"\n#",
        &["pool-outside 24:8", "subnets-overlap 25:10", "address-outside 32:11"],
    ),
    ("vlan = 80", "vlan = 80\nsubnet = \"10.44.0.0/16\"", &["subnets-overlap 22:10"]),
    (
        "vlan = 24",
        "vlan = 24\nsubnet = \"198.51.100.0/24\"",
        &["subnets-overlap 17:10", "address-outside 30:11"],
    ),
    ("vlan = 24", "vlan = 24\ngateway = \"10.44.25.1\"", &["gateway-outside 20:11"]),
    ("vlan = 24", "vlan = 24\ngateway = \"10.44.24.255\"", &["gateway-outside 20:11"]),
    ("vlan = 24", "vlan = 24\ngateway = \"gw\"", &["bad-address 20:11"]),
    ("vlan = 24", "vlan = 24\nhosts = -5", &["bad-number 20:9"]),
    ("dhcp = \"100-199\"", "dhcp = \"100-299\"", &["pool-outside 21:8"]),
    ("dhcp = \"100-199\"", "dhcp = \"199-100\"", &["bad-pool 21:8"]),
    ("dhcp = \"100-199\"", "dhcp = \"many\"", &["bad-pool 21:8"]),
    ("dhcp = \"100-199\"", "dhcp = true", &["wrong-kind 21:8"]),
    ("dhcp = \"100-199\"", "dhcp = \"1-50\"", &["pool-holds-gateway 21:8"]),
    ("network = \"desks\"", "network = \"desk\"", &["unknown-network 28:11"]),
    ("network = \"desks\"", "", &["no-network 27:7"]),
    ("address = \"10.44.24.10\"", "address = \"10.44.80.10\"", &["address-outside 29:11"]),
    ("address = \"10.44.24.10\"", "address = \"10.44.24.1\"", &["address-taken 29:11"]),
    ("address = \"10.44.24.10\"", "address = \"10.44.24.255\"", &["address-reserved 29:11"]),
    ("address = \"10.44.24.10\"", "address = \"10.44.24\"", &["bad-address 29:11"]),
    (
        "address = \"10.44.24.10\"",
        "address = [\"10.44.24.10\", \"10.44.24.10\"]",
        &["address-taken 29:27"],
    ),
    ("mac = \"02:00:5e:24:00:10\"", "mac = \"03:00:5e:24:00:10\"", &["bad-mac 30:7"]),
    ("[host.kiosk]", "[host.desks]", &["name-taken 31:7"]),
    ("[group.people]", "[group.kiosk]", &["name-taken 33:8"]),
    ("members = [\"desks\"]", "members = [\"people\"]", &["group-circle 33:8"]),
    ("members = [\"desks\"]", "members = [\"kiosk\"]", &["address-not-fixed 34:13"]),
    ("members = [\"desks\"]", "members = []", &["empty-place 33:8"]),
    ("[service.web]", "[service.https]", &["service-taken 35:10", "unknown-service 47:11"]),
    ("ports = [\"tcp/80\", \"tcp/443\"]", "includes = [\"web\"]", &["service-circle 35:10"]),
    ("ports = [\"tcp/80\", \"tcp/443\"]", "ports = [\"tcp/0\"]", &["bad-service 36:10"]),
    ("ports = [\"tcp/80\", \"tcp/443\"]", "", &["empty-service 35:10"]),
    ("staff     -      block   allow", "staff     -      blok    allow", &["grid-bad-cell 40:18"]),
    ("staff     -      block   allow", "staff     -      block", &["grid-row-length 40:1"]),
    ("staff     -      block   allow", "", &["grid-missing 38:8"]),
    (
        "          staff  guests  internet",
        "          staff  internet",
        &[
            "grid-missing 39:11",
            "grid-row-length 40:1",
            "grid-row-length 41:1",
            "grid-row-length 42:1",
        ],
    ),
    (
        "          staff  guests  internet",
        "          staff  staff  internet",
        &["grid-missing 39:11", "grid-twice 39:18"],
    ),
    (
        "guests    block  -       allow",
        "staff     block  -       allow",
        &["grid-missing 38:8", "grid-twice 41:1"],
    ),
    ("from = \"reception\"", "from = \"receptoin\"", &["unknown-name 45:9"]),
    ("from = \"reception\"", "from = \"kiosk\"", &["address-not-fixed 45:9"]),
    ("from = \"reception\"", "from = \"desks waiting-room\"", &["bad-place 45:15"]),
    ("from = \"reception\"", "from = \"desks -\"", &["bad-place 45:15"]),
    ("from = \"reception\"", "from = \"+ desks\"", &["bad-place 45:9"]),
    ("from = \"reception\"", "from = \"10.44.24.9-10.44.24.2\"", &["reversed-range 45:9"]),
    ("from = \"reception\"", "from = \"10.44.24.9-fd6b::1\"", &["bad-address 45:9"]),
    ("from = \"reception\"", "from = \"10.44.24.9/24\"", &["host-bits 45:9"]),
    ("from = \"reception\"", "from = \"10.44.24.1\"", &["gateways-own-address 45:9"]),
    ("from = \"reception\"", "from = \"10.44.99.9\"", &["address-nowhere 45:9"]),
    ("from = \"reception\"", "from = \"\"", &["empty-place 45:8"]),
    ("from = \"reception\"", "", &["incomplete-exception 44:12"]),
    ("service = \"web\"", "service = []", &["empty-service 44:12"]),
    ("action = \"allow\"", "action = \"alow\"", &["unknown-choice 48:10"]),
    ("action = \"allow\"", "", &["incomplete-exception 44:12"]),
    ("action = \"allow\"", "action = \"allow\"\nuntil = \"2027-02-30\"", &["bad-day 49:9"]),
    ("action = \"allow\"", "action = \"allow\"\nbefore = [\"on\"]", &["unknown-exception 49:11"]),
    ("action = \"allow\"", "action = \"allow\"\nbefore = [\"one\"]", &["before-itself 49:11"]),
    ("action = \"allow\"", "action = \"allow\"\nhours = \"day\"", &["unknown-hours 49:9"]),
    (
        "to = \"waiting-room\"",
        "to = \"visits\"\n[tunnel.visits]\nzone = \"staff\"\n[exception.two]\nfrom = \"any\"\nto = \"any\"",
        &["incomplete-exception 44:12", "no-clients 47:9"],
    ),
    ("action = \"allow\"", "action = \"allow", &["syntax 48:16"]),
    ("[host.kiosk]", "[host.reception]", &["syntax 31:7", "syntax 32:1"]),
];

fn reported(text: &str) -> Vec<String> {
    let Err(refused) = bastium_planfile::read("plan", text.as_bytes()) else { return Vec::new() };
    let reported = refused.diagnoses.iter().map(|diagnosis| {
        assert_eq!(diagnosis.severity, Severity::Error);
        assert!(!diagnosis.says.is_empty() && !diagnosis.help.is_empty(), "{diagnosis:?}");
        match diagnosis.at {
            Some(at) => {
                let (line, column) = (refused.source.line(at), refused.source.column(at));
                format!("{} {line}:{column}", diagnosis.name)
            }
            None => diagnosis.name.to_owned(),
        }
    });
    reported.collect()
}

#[test]
fn the_plan_that_mistakes_are_put_into_has_none() {
    assert_eq!(reported(GOOD), Vec::<String>::new());
}

#[test]
fn every_mistake_is_reported_once_at_its_place() {
    let mut wrong = Vec::new();
    for (good, bad, expected) in MISTAKES {
        assert!(GOOD.contains(good), "{good:?} is in the plan");
        let found = reported(&GOOD.replacen(good, bad, 1));
        if found != *expected {
            wrong.push(format!("{bad:?}: {found:?} instead of {expected:?}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// Interfaces have numbers of sixteen bits, which have to be enough for two plans.
#[test]
fn more_networks_than_have_a_number_are_refused() {
    let with = |uplinks: usize| {
        let more = (0..uplinks).map(|number| format!("[uplink.u{number}]\naddress = \"dhcp\"\n"));
        GOOD.replacen("[zone.staff]", &format!("{}[zone.staff]", more.collect::<String>()), 1)
    };
    let is_refused = |text: &str| reported(text).iter().any(|one| one.starts_with("too-many "));
    // Two networks and an uplink are there already.
    assert!(!is_refused(&with(14_997)));
    assert!(is_refused(&with(14_998)));
}

#[test]
fn all_mistakes_are_reported_together() {
    let text = GOOD
        .replace("third-octet", "third-octett")
        .replace("vlan = 80", "vlan = 4095")
        .replace("from = \"reception\"", "from = \"receptoin\"")
        .replace("action = \"allow\"", "action = \"alow\"");
    let names: Vec<String> = reported(&text)
        .iter()
        .map(|t| t.split(' ').next().unwrap_or_default().to_owned())
        .collect();
    let expected = ["unknown-choice", "vlan-out-of-range", "unknown-name", "unknown-choice"];
    assert_eq!(names, expected);
}

#[test]
fn the_nearest_known_word_is_offered() {
    for (good, bad, offer) in [
        ("third-octet", "thrid-octet", "`third-octet`"),
        ("zone = \"staff\"", "zone = \"staf\"", "`staff`"),
        ("name = \"Fern", "nam = \"Fern", "`name`"),
        ("from = \"reception\"", "from = \"recption\"", "`reception`"),
        ("service = \"web\"", "service = \"htps\"", "`https`"),
        ("[zone.staff]", "[zone.Front-Staff]", "`front-staff`"),
    ] {
        let refused = bastium_planfile::read("plan", GOOD.replacen(good, bad, 1).as_bytes());
        let help = refused.expect_err(bad).diagnoses[0].help.clone();
        assert!(help.contains(offer), "{bad}: {help}");
    }
}

#[test]
fn a_zone_may_have_the_name_of_its_only_network() {
    let same = GOOD.replace("waiting-room", "guests");
    assert_eq!(reported(&same), Vec::<String>::new());
    let second = format!("{same}[network.hall]\nzone = \"guests\"\nvlan = 81\n");
    assert_eq!(reported(&second), ["zone-of-several 14:7"]);
}

/// A file that is cut off anywhere is a plan or is refused, and never a reason to stop short.
#[test]
fn no_cut_and_no_changed_byte_makes_the_reader_panic() {
    for length in 0..GOOD.len() {
        let _ = bastium_planfile::read("plan", &GOOD.as_bytes()[..length]);
    }
    for (index, byte) in (0..GOOD.len())
        .zip([b'"', b'[', b']', b'=', b'\'', b'\n', 0, 0xff, b'-', b'9'].into_iter().cycle())
    {
        let mut bytes = GOOD.as_bytes().to_vec();
        bytes[index] = byte;
        let _ = bastium_planfile::read("plan", &bytes);
    }
}
