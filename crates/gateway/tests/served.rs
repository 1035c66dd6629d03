//! Names and leases for dnsmasq: what is written is proved, and nothing that is changed in it passes.

#[path = "../../core/tests/model/mod.rs"]
mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::{draft, resolve};
use bastium_core::space::{
    Ends, IntervalSet, Match, Packet, PacketSet, Protocol, ServicePoint, ServiceSet,
};
use bastium_core::verdict::Verdict;
use bastium_gateway::{dnsmasq, proven_served};
use model::{TODAY, any_draft, text, wired};
use proptest::prelude::*;
use std::net::IpAddr;

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// Whatever the plan is, its file is proved; and each line that is changed is refused.
    #[test]
    fn no_line_can_be_changed(draft in any_draft()) {
        let plan = resolve(wired(draft)).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let file = dnsmasq(&meaning);
        let text = match file {
            Ok(file) => file.text().to_owned(),
            Err(faults) => return Err(TestCaseError::fail(format!("{faults:#?}"))),
        };
        let lines: Vec<&str> = text.split('\n').collect();
        let counts = |line: &str| !line.is_empty() && !line.starts_with('#');
        for place in (0..lines.len()).filter(|place| counts(lines[*place])) {
            let without = [&lines[..place], &lines[place + 1..]].concat();
            let twice = [&lines[..=place], &lines[place..]].concat();
            let line = lines[place];
            let mut changed: Vec<String> =
                vec![format!("{line}0"), format!("{line},x"), format!("x{line}"), line.replace('1', "2")];
            changed.push(line.replacen(',', "", 1));
            for other in changed.iter().filter(|other| *other != line) {
                let mut with = lines.clone();
                with[place] = other;
                prop_assert!(proven_served(&meaning, with.join("\n")).is_err(), "{line} -> {other}");
            }
            for other in [without, twice] {
                prop_assert!(proven_served(&meaning, other.join("\n")).is_err(), "{line}");
            }
        }
        let more = format!("{text}conf-script=/bin/true\n");
        prop_assert!(proven_served(&meaning, more).is_err());
        let long = format!("{text}# {}conf-script=/bin/true\n", "x".repeat(1021));
        prop_assert!(proven_served(&meaning, long).is_err());
    }
}

/// A network with several prefixes of IPv6 learns all of them.
#[test]
fn every_prefix_is_announced() {
    let mut draft = wired(model::uniform("allow", true));
    let desks = &mut draft.networks[0];
    desks.subnets.get_or_insert_default().push(text("fd6b:2f4e:91c0:99::/64"));
    let plan = resolve(draft).expect("a plan");
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    let file = dnsmasq(&meaning).expect("it is proved");
    for prefix in ["fd6b:2f4e:91c0:24::", "fd6b:2f4e:91c0:99::"] {
        let line = format!("dhcp-range=set:desks,{prefix},ra-stateless,64,");
        assert!(file.text().contains(&line), "{}", file.text());
        let without = file.text().lines().filter(|other| !other.starts_with(&line));
        let without = without.map(|line| format!("{line}\n")).collect::<String>();
        assert!(proven_served(&meaning, without).is_err(), "{prefix}");
    }
}

/// A name of any length stays in the remark that it stands in: dnsmasq takes what goes beyond its longest line for
/// the next one.
#[test]
fn a_sites_name_is_never_a_line_of_its_own() {
    for length in 0..1_200 {
        let mut draft = wired(model::uniform("block", true));
        let name = format!("{}conf-script=/tmp/x", "x".repeat(length));
        draft.site.name = Some(text(&name));
        let Ok(plan) = resolve(draft) else { continue };
        let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
        let file = dnsmasq(&meaning).expect("it is proved");
        assert!(file.text().lines().all(|line| line.len() < 1_000), "{length}");
    }
}

/// Names and addresses that go beyond a line stand on several.
#[test]
fn long_lists_stand_on_several_lines() {
    let mut draft = wired(model::uniform("block", true));
    let names: Vec<String> =
        (0..60).map(|number| format!("{}.{number}.example.org", "a".repeat(60))).collect();
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let names = model::texts(&names);
    draft.domains.push(draft::Domain { name: text("many"), names });
    let plan = resolve(draft).expect("a plan");
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    let file = dnsmasq(&meaning).expect("it is proved");
    assert!(file.text().matches("nftset=").count() > 5);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// Whoever may ask the gateway, packet by packet, is answered on that interface; and leases are given where
    /// asking for one is let in, and nowhere else.
    #[test]
    fn the_gateway_answers_whom_the_plan_lets_ask(draft in any_draft()) {
        let plan = resolve(wired(draft)).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let file = dnsmasq(&meaning).expect("it is proved");
        let has = |line: String| file.text().lines().any(|own| own == line);
        let allows = |enters, from: IpAddr, to: IpAddr, protocol, port| {
            let ends = Ends::new(from, to).expect("one family");
            let service = ServicePoint::port(protocol, port);
            meaning.decide(&Packet::new(enters, ends, service)).verdict == Verdict::Allow
        };
        let gateways: Vec<IpAddr> =
            plan.networks().iter().flat_map(|network| &network.subnets).map(|s| s.gateway()).collect();
        for id in plan.network_ids() {
            let (network, interface) = (plan.network(id), plan.network_interface(id));
            let device = plan.device_name(interface).expect("every cable is named");
            let devices: Vec<IpAddr> = network
                .device_addresses()
                .ranges()
                .flat_map(|(low, high)| [low, high])
                .chain(plan.hosts().iter().filter(|host| host.network == id).flat_map(|h| h.addresses.clone()))
                .collect();
            let asks = devices.iter().any(|from| gateways.iter().filter(|to| to.is_ipv4() == from.is_ipv4()).any(|to| {
                [Protocol::UDP, Protocol::TCP].iter().any(|protocol| allows(interface, *from, *to, *protocol, 53))
            }));
            let served = has(format!("interface={device}"));
            prop_assert!(served || !asks, "{} asks and is not answered", network.name);
            let leases = network.tunnel.is_none()
                && allows(interface, IpAddr::from([0; 4]), IpAddr::from([255; 4]), Protocol::UDP, 67);
            let leased = file.text().contains(&format!("dhcp-range=set:{},", network.name));
            prop_assert!(leases || !leased, "{} is leased and may not ask", network.name);
            let may = leases && network.pool.is_some() && network.subnets.iter().any(|s| s.gateway().is_ipv4());
            prop_assert!(leased || !may, "{} may ask and is not leased", network.name);
            if served && !leases {
                // Somebody there asks for names, or nothing would be offered: at least one packet of the set passes.
                let parts = meaning.parts(&meaning.universe().intersection(&PacketSet::from(Match {
                    enters: IntervalSet::point(interface),
                    service: ServiceSet::ports(Protocol::UDP, 53, 53).union(&ServiceSet::ports(Protocol::TCP, 53, 53)),
                    ..Match::everything()
                })));
                prop_assert!(parts.iter().any(|part| part.decision.verdict == Verdict::Allow));
            }
        }
    }
}
