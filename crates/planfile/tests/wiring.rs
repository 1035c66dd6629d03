//! Cables: what arrives where, through chains of switches, and what the plan says that is missing.

use bastium_core::findings;
use bastium_core::meaning::Meaning;
use bastium_core::plan::Plan;
use bastium_core::wiring::{Device, gaps, nowhere, ports};
use jiff::civil::date;

/// Two switches in a row behind an aggregate, and an access point on the far one.
const CHAIN: &str = r#"
bastium = 1
[site]
name = "Fernside Veterinary Clinic"
space = ["10.44.0.0/16"]
tie = "third-octet"
[gateway]
ports = ["wan1", "lan1", "lan2", "lan3"]
aggregate = { core = ["lan1", "lan2"] }
[gateway.manage]
from = "10.44.24.10"
service = "ssh"
second-factor = true
[uplink.fibre]
port = "wan1"
address = "dhcp"
[zone.staff]
trust = "medium"
uses-gateway-for = ["dns", "dhcp"]
[network.desks]
zone = "staff"
vlan = 24
port = "core"
dhcp = "100-199"
[network.phones]
zone = "staff"
vlan = 52
port = "core"
dhcp = "100-199"
[network.hall]
zone = "staff"
vlan = 80
port = "core"
dhcp = "100-199"
[network.workshop]
zone = "staff"
subnet = "10.44.90.0/24"
port = "lan3"
dhcp = "100-199"
[matrix]
grid = '''
          staff  internet
staff     block  allow
internet  block  -
'''
[switch.rack]
hangs-on = "core"
by = ["47", "48"]
[switch.rack.ports]
"47-48" = { tagged = "all" }
"1" = { untagged = "desks", tagged = ["phones"] }
"2" = { tagged = ["desks", "hall"], untagged = "phones" }
[switch.attic]
hangs-on = "rack:2"
[switch.attic.ports]
"1" = { tagged = "all" }
"2" = { untagged = "desks" }
"3" = { tagged = ["hall"], untagged = "desks" }
[access-point.roof]
hangs-on = "attic:3"
[wifi.hall]
name = "Hall"
network = "hall"
on = ["roof"]
"#;

fn read(text: &str) -> Plan {
    bastium_planfile::read("plan", text.as_bytes())
        .unwrap_or_else(|refused| panic!("{:#?}", refused.diagnoses))
}

/// `device port: untagged | tagged | other end`, for ports that carry anything.
fn sheet(plan: &Plan) -> Vec<String> {
    let name = |id: bastium_core::plan::NetworkId| plan.network(id).name.to_string();
    let line = |port: bastium_core::wiring::Port| {
        let tagged: Vec<String> = port.tagged.iter().map(|id| name(*id)).collect();
        format!(
            "{} {}: {} | {} | {}",
            port.device.name(plan),
            port.name,
            port.untagged.map_or("-".to_owned(), name),
            tagged.join(" "),
            port.to.unwrap_or_default()
        )
    };
    ports(plan).into_iter().map(line).collect()
}

#[test]
fn ports_carry_what_arrives_through_the_whole_chain() {
    let plan = read(CHAIN);
    assert_eq!(
        sheet(&plan),
        [
            "gateway wan1: - |  | uplink fibre",
            "gateway lan3: workshop |  | ",
            "gateway core: - | desks phones hall | switch rack",
            "rack 47: - | desks phones hall | gateway core",
            "rack 48: - | desks phones hall | gateway core",
            "rack 1: desks | phones | ",
            "rack 2: phones | desks hall | switch attic",
            "attic 1: - | desks phones hall | rack port 2",
            "attic 2: desks |  | ",
            "attic 3: desks | hall | access point roof",
        ]
    );
    let joined = ports(&plan).into_iter().find(|port| port.name == "core").expect("the aggregate");
    assert_eq!(
        (joined.device, joined.joins),
        (Device::Gateway, vec!["lan1".into(), "lan2".into()])
    );
    assert!(gaps(&plan).is_empty() && nowhere(&plan).is_empty());
}

#[test]
fn a_network_that_is_cut_off_on_the_way_is_found_at_the_port_where_it_stops() {
    for (good, bad, expected) in [
        ("tagged = [\"desks\", \"hall\"]", "tagged = [\"desks\"]", &["hall rack 2"][..]),
        ("tagged = [\"hall\"], untagged", "tagged = [], untagged", &["hall attic 3"]),
        ("tagged = [\"desks\", \"hall\"]", "tagged = [\"hall\"]", &["desks rack 2"]),
        ("vlan = 80\nport = \"core\"", "vlan = 80\nport = \"lan3\"", &["hall gateway core"]),
    ] {
        assert!(CHAIN.contains(good), "{good}");
        let plan = read(&CHAIN.replacen(good, bad, 1));
        let found: Vec<String> = gaps(&plan)
            .iter()
            .map(|gap| format!("{} {} {}", plan.network(gap.network).name, gap.device, gap.port))
            .collect();
        assert_eq!(found, expected, "{bad}");
    }
}

#[test]
fn a_network_that_comes_out_nowhere_is_found() {
    let plan = read(
        &CHAIN
            .replace("untagged = \"phones\"", "")
            .replace("hall\"], }", "hall\"] }")
            .replace("tagged = [\"phones\"]", "tagged = []"),
    );
    let names: Vec<&str> =
        nowhere(&plan).iter().map(|id| plan.network(*id).name.as_str()).collect();
    assert_eq!(names, ["phones"]);
}

fn found(text: &str) -> Vec<String> {
    let plan = read(text);
    let day = date(2026, 11, 24);
    let meaning = Meaning::new(&plan, day);
    let all = findings::find(&plan, day, meaning.as_ref().map_err(Vec::as_slice));
    all.iter().map(|finding| format!("{}: {}", finding.name, finding.says)).collect()
}

/// Each limit is reported by what meets it, and by nothing else.
#[test]
fn what_the_gateway_cannot_do_is_reported_where_it_is_asked_for() {
    let plan = format!(
        "{CHAIN}\n[hours.early]\ndays = \"mon\"\nfrom = \"06:00\"\nto = \"07:00\"\n\
         [domain.register]\nnames = [\"register.example.org\"]\n\
         [exception.one]\nfrom = \"desks\"\nto = \"phones\"\nservice = \"ssh\"\naction = \"reject\"\nlog = true\n\
         hours = \"early\"\nwhy = \"a\"\n\
         [exception.two]\nfrom = \"workshop\"\nto = \"register\"\nservice = \"https\"\naction = \"allow\"\n\
         why = \"b\"\nlog = false\n"
    );
    assert_eq!(
        found(&plan),
        [
            "already-so: exception `two` has no effect: cell `staff>internet` already says the same",
            "other-resolver: `workshop` may use resolvers on the internet, but exception `two` depends on the gateway's answers for `register`"
        ]
    );
    for (limits, count, says) in [
        ("reject = false", 1, "exception `one` is `reject`"),
        ("log = false", 2, "exception `one` asks for logging"),
        ("hours = false", 1, "exception `one` has hours"),
        ("domains = false", 1, "exception `two` names a domain"),
        ("ipv6 = false", 0, ""),
        ("rules = 10", 1, "the plan needs"),
        ("rules = 1000", 0, ""),
        ("name = 13", 1, "the name of rule `spoofed.phones` is longer than the 13 bytes"),
        ("name = 63", 0, ""),
    ] {
        let text = plan
            .replace("[gateway.manage]", &format!("[gateway.limits]\n{limits}\n[gateway.manage]"));
        let reported: Vec<String> =
            found(&text).into_iter().filter(|found| found.starts_with("gateway-cannot")).collect();
        assert_eq!(reported.len(), count, "{limits}: {reported:?}");
        assert!(
            reported.iter().any(|reported| reported.contains(says)) || count == 0,
            "{limits}: {reported:?}"
        );
    }
    let v6 = CHAIN
        .replace(
            "space = [\"10.44.0.0/16\"]",
            "space = [\"10.44.0.0/16\", \"fd6b:2f4e:91c0::/48\"]",
        )
        .replace("[gateway.manage]", "[gateway.limits]\nipv6 = false\n[gateway.manage]");
    assert_eq!(found(&v6).len(), 3, "{:?}", found(&v6));
}

/// A guarantee is looked at in both families and at all hours, by the translated way as well.
#[test]
fn guarantees_are_held_against_every_packet() {
    let clinic = include_str!("../../../demo/clinic.toml");
    for (entry, broken) in [
        (
            "[never.x]\nfrom = \"internet\"\nto = \"servers\"\n",
            Some("tcp/443 from 192.0.2.10 to 10.44.40.13 (booking)"),
        ),
        ("[never.x]\nfrom = \"internet\"\nto = \"any - booking\"\n", None),
        (
            "[never.x]\nfrom = \"premises\"\nto = \"records\"\n",
            Some("tcp/443 from 10.44.68.11 (delivery-tablet)"),
        ),
        (
            "[always.x]\nfrom = \"delivery-tablet\"\nto = \"records\"\nservice = \"https\"\n",
            Some("is not allowed"),
        ),
        ("[always.x]\nfrom = \"internet\"\nto = \"booking\"\nservice = \"https\"\n", None),
        ("[always.x]\nfrom = \"desks\"\nto = \"internet\"\n", None),
        ("[always.x]\nfrom = \"desks\"\nto = \"gateway\"\nservice = \"dns\"\n", None),
        ("[never.x]\nfrom = \"desks\"\nto = \"gateway\"\nservice = \"ssh\"\n", None),
        (
            "[never.x]\nfrom = \"control\"\nto = \"gateway\"\nservice = \"ssh\"\n",
            Some("10.44.10.10 (engineer-laptop)"),
        ),
        ("[always.x]\nfrom = \"cameras\"\nto = \"cameras\"\n", None),
        (
            "[never.x]\nfrom = \"guests\"\nto = \"internet\"\nservice = \"smtp\"\n",
            Some("tcp/25 from 10.44.80.20"),
        ),
    ] {
        let reported: Vec<String> = found(&format!("{clinic}\n{entry}"))
            .into_iter()
            .filter(|found| found.starts_with("guarantee-broken"))
            .collect();
        match broken {
            Some(words) => {
                assert_eq!(reported.len(), 1, "{entry}");
                assert!(reported[0].contains(words), "{entry}: {reported:?}");
            }
            None => assert!(reported.is_empty(), "{entry}: {reported:?}"),
        }
    }
}
