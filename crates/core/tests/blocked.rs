//! What is made of blocked packets, without any log around them.

mod model;

use bastium_core::blocked::{Blocked, Entry, Sort, Tally};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Plan, resolve};
use bastium_core::rules::{self, Rule};
use bastium_core::space::{Ends, Protocol, ServicePoint};
use model::{TODAY, any_draft, uniform, wired};
use proptest::prelude::*;
use std::collections::HashMap;
use std::net::IpAddr;

fn plan() -> Plan {
    resolve(wired(uniform("block", false))).expect("a plan")
}

fn tcp(port: u16) -> ServicePoint {
    ServicePoint::port(Protocol::TCP, port)
}

fn ends(from: &str, to: &str) -> Ends {
    let address = |word: &str| word.parse::<IpAddr>().expect("an address");
    Ends::new(address(from), address(to)).expect("one family")
}

/// Counts these, one a line.
fn counted(plan: &Plan, entries: &[Entry<'_>]) -> Blocked {
    let meaning = Meaning::new(plan, TODAY).expect("a meaning");
    let compiled = rules::compile(&meaning);
    let rules: HashMap<String, &Rule> =
        compiled.rules().map(|rule| (rule.id.to_string(), rule)).collect();
    let mut tally = Tally::new(&meaning, rules);
    for (line, entry) in (1..).zip(entries) {
        tally.add(line, entry);
    }
    tally.finish()
}

fn entry<'l>(
    enters: &'l str,
    leaves: &'l str,
    from: &str,
    to: &str,
    service: ServicePoint,
) -> Entry<'l> {
    Entry { tag: None, enters, leaves, ends: ends(from, to), service, opens: true }
}

#[test]
fn hosts_networks_and_the_rest_have_names() {
    let plan = plan();
    for (from, to, names) in [
        ("10.44.24.2", "10.44.48.3", ("reception", "label-printer")),
        ("10.44.24.3", "10.44.48.4", ("desks", "printers")),
        ("fd6b:2f4e:91c0:24::2", "2001:db8:80::9", ("reception", "waiting-room")),
        ("10.44.24.3", "198.51.100.14", ("desks", "gateway")),
        ("10.44.24.3", "192.0.2.9", ("desks", "internet")),
        ("10.44.24.3", "10.44.24.7", ("desks", "everyone")),
        ("10.44.24.3", "10.44.99.1", ("desks", "nowhere")),
    ] {
        let blocked = counted(&plan, &[entry("lan1.20", "lan1.21", from, to, tcp(443))]);
        let group = &blocked.groups[0];
        assert_eq!((group.from.as_str(), group.to.as_str()), names, "{from} {to}");
    }
}

#[test]
fn groups_come_in_the_order_of_what_somebody_has_to_do() {
    let plan = plan();
    let missing = entry("lan1.20", "lan1.21", "10.44.24.2", "10.44.48.3", tcp(443));
    let rare = entry("lan1.20", "lan1.21", "10.44.24.2", "10.44.48.3", tcp(80));
    let spoofed = entry("lan1.20", "lan1.21", "10.44.60.2", "10.44.48.3", tcp(443));
    let stranger = entry("wan1", "", "192.0.2.9", "198.51.100.14", tcp(22));
    let late = Entry { opens: false, ..missing };
    let entries = [stranger, late, spoofed, rare, missing, missing, stranger, stranger];
    let blocked = counted(&plan, &entries);
    let order: Vec<(Sort, u64)> =
        blocked.groups.iter().map(|group| (group.sort, group.count)).collect();
    assert_eq!(
        order,
        [
            (Sort::Missing, 2),
            (Sort::Missing, 1),
            (Sort::Spoofed, 1),
            (Sort::Stranger, 3),
            (Sort::Late, 1)
        ]
    );
    assert_eq!(blocked.packets, 8);
    let lines: Vec<(u64, u64)> = blocked.groups.iter().map(|group| group.lines).collect();
    assert_eq!(lines, [(5, 6), (4, 4), (3, 3), (1, 8), (2, 2)]);
}

#[test]
fn an_offer_names_what_is_fixed_and_widens_what_is_leased() {
    let plan = plan();
    let offer = |entries: &[Entry<'_>]| {
        let blocked = counted(&plan, entries);
        let offer = blocked.groups[0].offer.clone().expect("an offer");
        (offer.name.clone(), offer.from.clone(), offer.to.clone(), offer.service.clone())
    };
    let words = |name: &str, from: &str, to: &str, service: &str| {
        (name.to_owned(), from.to_owned(), to.to_owned(), service.to_owned())
    };
    let one = entry("lan1.20", "lan1.21", "10.44.24.2", "10.44.48.3", tcp(443));
    let expected = words("reception-label-printer-https", "reception", "label-printer", "https");
    assert_eq!(offer(&[one]), expected);
    // A device without a fixed address is its network.
    let other = entry("lan1.20", "lan1.21", "10.44.24.5", "10.44.48.4", tcp(9100));
    assert_eq!(offer(&[other]).1, "desks");
    assert_eq!(offer(&[other]).2, "printers");
    // One address outside is meant; several are the internet.
    let out = entry("lan1.20", "wan1", "10.44.24.2", "192.0.2.9", tcp(443));
    let elsewhere = entry("lan1.20", "wan1", "10.44.24.2", "192.0.2.10", tcp(443));
    assert_eq!(offer(&[out, out]).2, "192.0.2.9");
    assert_eq!(offer(&[out, elsewhere]).2, "internet");
}

/// A provider's box beside an uplink goes by the uplink's name, and by its address where one is asked for.
#[test]
fn who_stands_beside_an_uplink_goes_by_its_name() {
    let mut draft = wired(uniform("block", false));
    draft.uplinks[0].address = model::texts(model::PRIVATE_UPLINK);
    let plan = resolve(draft).expect("a plan");
    let one = entry("lan1.20", "wan1", "10.44.24.2", "192.168.7.1", tcp(443));
    let other = entry("lan1.20", "wan1", "10.44.24.2", "192.168.7.3", tcp(443));
    for (entries, offered) in [([one, one], "192.168.7.1"), ([one, other], "fibre")] {
        let blocked = counted(&plan, &entries);
        let group = &blocked.groups[0];
        let offer = group.offer.as_ref().expect("an offer");
        assert_eq!((group.to.as_str(), offer.to.as_str()), ("fibre", offered));
    }
}

#[test]
fn what_the_gateway_itself_begins_comes_by_no_interface() {
    let plan = plan();
    let blocked = counted(&plan, &[entry("", "wan1", "198.51.100.14", "192.0.2.9", tcp(443))]);
    assert_eq!(blocked.groups[0].from, "gateway");
    let blocked = counted(&plan, &[entry("eth9", "wan1", "10.44.24.2", "192.0.2.9", tcp(443))]);
    assert!(blocked.groups.is_empty());
    assert_eq!(blocked.strange, 1);
}

/// One device that tries many things hides nobody: what its neighbours want is reported by itself.
#[test]
fn a_scanner_hides_none_of_its_neighbours() {
    let plan = plan();
    let mut entries: Vec<Entry<'_>> = (1..60)
        .map(|port| entry("lan1.20", "lan1.21", "10.44.24.5", "10.44.48.3", tcp(port)))
        .collect();
    let honest = entry("lan1.20", "lan1.21", "10.44.24.4", "10.44.48.3", tcp(9100));
    entries.extend([honest; 14]);
    let blocked = counted(&plan, &entries);
    let sorts: Vec<(Sort, u64)> =
        blocked.groups.iter().map(|group| (group.sort, group.count)).collect();
    assert_eq!(sorts, [(Sort::Missing, 14), (Sort::Scan, 59)]);
}

#[test]
fn every_sort_has_a_word_and_says_what_it_means() {
    let all = [
        Sort::Missing,
        Sort::Allowed,
        Sort::OutsideHours,
        Sort::Meant,
        Sort::Spoofed,
        Sort::Scan,
        Sort::Stranger,
        Sort::ToEveryone,
        Sort::Late,
        Sort::NoRoute,
    ];
    let words: std::collections::HashSet<&str> = all.iter().map(|sort| sort.word()).collect();
    assert_eq!(words.len(), all.len());
    for sort in all {
        assert_eq!(sort.is_noise(), sort.says().starts_with("noise"), "{}", sort.word());
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    /// Nothing is lost: every packet is in one group, let pass, or from elsewhere; and a group says of its
    /// packets what the plan means for them.
    #[test]
    fn every_packet_is_counted_once(draft in any_draft(), picks in prop::collection::vec(any::<u64>(), 1..80)) {
        let plan = resolve(wired(draft)).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let compiled = rules::compile(&meaning);
        let borders = model::packets::Borders::of(&plan, &compiled);
        let rules: HashMap<String, &Rule> = compiled.rules().map(|rule| (rule.id.to_string(), rule)).collect();
        let mut tally = Tally::new(&meaning, rules);
        for (line, pick) in (1..).zip(&picks) {
            let mut seed = *pick;
            let packet = model::packets::packet(&borders, &plan, &mut seed);
            let interface = plan.device_name(packet.enters).unwrap_or_default();
            let rule = compiled.first_match(&packet).rule.map(|rule| rule.id.to_string());
            let entry = Entry {
                tag: rule.as_deref(),
                enters: &interface,
                leaves: "",
                ends: packet.ends,
                service: packet.service,
                opens: true,
            };
            tally.add(line, &entry);
        }
        let blocked = tally.finish();
        let counted: u64 = blocked.groups.iter().map(|group| group.count).sum();
        prop_assert_eq!(counted + blocked.passed + blocked.strange, picks.len() as u64);
        for group in &blocked.groups {
            prop_assert_eq!(group.offer.is_some() && group.sort != Sort::Missing, false);
            prop_assert!(group.lines.0 <= group.lines.1);
        }
    }
}
