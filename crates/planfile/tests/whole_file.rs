//! Every table of the format: that it is read, and what is said where it is wrong.

use bastium_core::plan::Hang;
use bastium_core::space::Minute;
use std::collections::BTreeSet;

const CLINIC: &str = include_str!("../../../demo/clinic.toml");

/// Names and lines of what is wrong with the clinic's plan after `good` is replaced by `bad`.
fn reported(good: &str, bad: &str) -> Vec<String> {
    assert!(CLINIC.contains(good), "the plan has {good}");
    let text = CLINIC.replacen(good, bad, 1);
    match bastium_planfile::read("plan", text.as_bytes()) {
        Ok(_) => Vec::new(),
        Err(refused) => refused.diagnoses.iter().map(|d| d.name.to_owned()).collect(),
    }
}

#[test]
fn a_gateway_is_reached_as_the_plan_says() {
    let text = CLINIC.replacen("routes-mbps = 900 ", "reach = \"root@10.44.10.1\" ", 1);
    let plan = bastium_planfile::read("plan", text.as_bytes()).expect("a plan");
    assert_eq!(
        plan.gateway().reach.as_ref().map(ToString::to_string).as_deref(),
        Some("root@10.44.10.1")
    );
}

#[test]
fn every_table_of_the_format_is_read() {
    let plan = bastium_planfile::read("plan", CLINIC.as_bytes()).expect("the plan is whole");
    let tunnel = plan.networks().last().expect("the tunnels stand behind the networks");
    assert_eq!(tunnel.name.as_str(), "home-visits");
    assert!(tunnel.tunnel.as_ref().is_some_and(|tunnel| tunnel.listens.is_some()));
    assert_eq!(plan.domains().len(), 1);
    assert_eq!(plan.hours()[0].minutes.spans().len(), 6);
    assert_eq!(plan.inbounds()[0].outside_port, Some(443));
    assert_eq!(plan.discoveries()[0].between.len(), 2);
    assert_eq!(plan.streams()[0].mbps, 54.0);
    let words: Vec<&str> = plan.guarantees().iter().map(|g| g.word()).collect();
    assert_eq!(words, ["never", "never", "always", "always"]);
    assert_eq!(plan.gateway().routes_mbps, Some(900.0));
    let wiring = plan.wiring();
    assert_eq!(wiring.switches[0].hangs_on, Hang::Gateway("core".to_owned()));
    assert_eq!(wiring.switches[0].ports.len(), 28);
    assert_eq!((wiring.access_points.len(), wiring.wifi.len()), (3, 5));
    let deliveries = plan.exceptions().iter().find(|e| e.name.as_str() == "deliveries-sign");
    assert_eq!(deliveries.expect("it is there").minutes().spans().len(), 6);
    let visits = plan.exceptions().iter().find(|e| e.name.as_str() == "visits-read-records");
    assert_eq!(visits.expect("it is there").limit_mbps, Some(50.0));
}

#[test]
fn each_mistake_is_reported_by_its_name() {
    for (good, bad, names) in [
        ("clients = \"10.44.250.0/24\"\n", "", &["no-clients"][..]),
        ("clients = \"10.44.250.0/24\"", "clients = \"10.44.24.0/24\"", &["subnets-overlap"]),
        ("listens = \"udp/51820\"", "listens = \"udp/518200\"", &["bad-service"]),
        ("zone = \"remote\"\nclients", "zone = \"remot\"\nclients", &["unknown-zone"]),
        ("names = [\"calls.example.net\", ", "names = [\"calls\", ", &["bad-dns-name"]),
        ("names = [\"calls.example.net\", \"media.example.net\"]", "", &["incomplete-entry"]),
        ("days = \"mon-sat\"", "days = \"mon-sater\"", &["bad-hours"]),
        ("days = \"mon-sat\"\n", "", &["incomplete-hours"]),
        ("from = \"06:45\"", "from = \"6:45\"", &["bad-hours"]),
        ("to = \"11:00\"", "to = \"25:00\"", &["bad-hours"]),
        ("hours = \"deliveries\"", "hours = \"delivery\"", &["unknown-hours"]),
        ("host = \"booking\"", "host = \"servers\"", &["not-a-host"]),
        ("outside-port = 443", "outside-port = 70000", &["bad-port"]),
        ("outside-port = 443", "outside-port = 443\ntranslate = 1", &["wrong-kind"]),
        ("uplink = \"fibre\"", "uplink = \"fiber\"", &["unknown-uplink"]),
        ("listens = \"udp/51820\"", "listens = \"tcp/443\"", &["port-taken"]),
        ("between = [\"desks\", \"printers\"]", "between = [\"desks\"]", &["discovery-alone"]),
        (
            "between = [\"desks\", \"printers\"]",
            "between = [\"desks\", \"print\"]",
            &["unknown-network"],
        ),
        ("mbps = 54", "mbps = -1", &["bad-rate"]),
        ("mbps = 54", "", &["incomplete-entry"]),
        ("limit-mbps = 50", "limit-mbps = 0", &["bad-rate"]),
        ("routes-mbps = 900 ", "routes-mbps = \"fast\" ", &["wrong-kind"]),
        ("routes-mbps = 900 ", "reach = \"-oProxyCommand=id\" ", &["bad-reach"]),
        ("routes-mbps = 900 ", "reach = \"gw; id\" ", &["bad-reach"]),
        ("to = \"any - payment-hub\"", "to = \"any - payment\"", &["unknown-name"]),
        ("hangs-on = \"core\"", "hangs-on = \"cor\"", &["unknown-port"]),
        ("hangs-on = \"rack:27\"", "hangs-on = \"rack:29\"", &["unknown-port"]),
        ("\"24\" = ", "\"23-24\" = ", &["port-twice"]),
        ("\"24\" = ", "\"24-23\" = ", &["bad-port-name"]),
        ("untagged = \"doors\"", "untagged = \"door\"", &["not-carried"]),
        ("tagged = [\"phones\"]", "tagged = [\"home-visits\"]", &["not-carried"]),
        ("bands = [\"2.4\", \"5\"]", "bands = [\"2.4\", \"7\"]", &["unknown-choice"]),
        ("on = [\"hall\", \"surgery\", \"theatre\"]", "on = [\"barn\"]", &["unknown-access-point"]),
        ("name = \"Fernside Guests\"", "name = \"\"", &["bad-wifi-name"]),
        ("form = \"one-list\"", "form = \"one-list\"\nmatches = \"source\"", &["matches-of-form"]),
        ("form = \"one-list\"", "form = \"one-list\"\nlimits = { rules = 0 }", &["bad-number"]),
        ("form = \"one-list\"", "form = \"one-list\"\nlimits = { rule = 9 }", &["unknown-key"]),
        (
            "[discovery.printers]",
            "[known]\nsingle-cable = \" \"\n[discovery.printers]",
            &["known-without-reason"],
        ),
        (
            "[discovery.printers]",
            "[route.barn]\n[discovery.printers]",
            &["incomplete-route", "incomplete-route"],
        ),
        (
            "[discovery.printers]",
            "[route.barn]\nto = \"10.44.24.0/25\"\nvia = \"10.44.10.9\"\n[discovery.printers]",
            &["subnets-overlap"],
        ),
        (
            "[discovery.printers]",
            "[route.barn]\nto = \"10.44.128.0/24\"\nvia = \"10.44.200.9\"\n[discovery.printers]",
            &["bad-router"],
        ),
        (
            "[discovery.printers]",
            "[route.barn]\nto = \"10.44.128.0/24\"\nvia = \"recordz\"\n[discovery.printers]",
            &["bad-router"],
        ),
        (
            "[discovery.printers]",
            "[route.barn]\nto = \"fd00::/64\"\nvia = \"xray\"\n[discovery.printers]",
            &["bad-router"],
        ),
        ("hangs-on = \"core\"", "hangs-on = \"core\"\nhas-ports = 0", &["bad-port-name"]),
        (
            "hangs-on = \"core\"",
            "hangs-on = \"core\"\nhas-ports = 28\nby = \"29\"",
            &["unknown-port"],
        ),
    ] {
        assert_eq!(reported(good, bad), names, "{good} -> {bad}");
    }
}

/// A wide route does not take what a network inside it has; and what is behind a router belongs to the
/// zone of the network where the router is, unless it says otherwise.
/// Whatever holds at some minute of the week holds at one of the plan's moments, and each stands for
/// something else.
#[test]
fn the_moments_of_a_plan_stand_for_all_minutes() {
    let farm = include_str!("../../../demo/farm.toml");
    let more =
        "\n[hours.milking]\nspans = [{ days = \"mon-sun\", from = \"05:00\", to = \"07:00\" }]\n";
    for (text, count) in [(CLINIC, 2), (farm, 2), (&*format!("{farm}{more}"), 4)] {
        let plan = bastium_planfile::read("plan", text.as_bytes()).expect("the plan is whole");
        let hold = |at: Minute| -> Vec<bool> {
            plan.hours().iter().map(|hours| hours.minutes.contains(at)).collect()
        };
        let moments: BTreeSet<Vec<bool>> = plan.moments().into_iter().map(hold).collect();
        assert_eq!(moments.len(), plan.moments().len());
        assert_eq!(moments.len(), count);
        let minutes = (0..Minute::PER_WEEK).map(Minute::new);
        assert_eq!(minutes.map(hold).collect::<BTreeSet<_>>(), moments);
    }
}

#[test]
fn the_longest_prefix_decides_where_an_address_belongs() {
    let text = CLINIC.replace(
        "[discovery.printers]",
        "[route.barn]\nto = \"10.44.0.0/17\"\nvia = \"10.44.10.9\"\nzone = \"premises\"\n[discovery.printers]",
    );
    let plan = bastium_planfile::read("plan", text.as_bytes()).expect("a plan");
    let zone = |address: &str| {
        let zone = plan.zone_to(address.parse().expect(address));
        plan.zone(zone).name.to_string()
    };
    assert_eq!(zone("10.44.24.9"), "staff");
    assert_eq!(zone("10.44.99.9"), "premises");
    assert_eq!(zone("10.44.200.9"), "internet");
    let control = plan.network_of("10.44.10.9".parse().expect("an address")).expect("a network");
    let interface = plan.network_interface(control);
    let from = |address: &str| plan.zone_from(interface, address.parse().expect(address));
    assert_eq!(from("10.44.99.9"), plan.zone_named("premises"));
    assert_eq!(from("10.44.10.9"), plan.zone_named("control"));
}

/// A router may be named by its host: the route goes by the host's address of the subnet's family.
#[test]
fn a_route_goes_by_a_host() {
    let (good, bad) = (
        "[discovery.printers]",
        "[route.barn]\nto = \"10.44.128.0/24\"\nvia = \"archive\"\n[discovery.printers]",
    );
    assert_eq!(reported(good, bad), [""; 0]);
}
