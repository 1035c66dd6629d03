//! What the generator of sites reaches: every pair of features that can stand in one plan, and how often the rarest
//! does.

mod model;

use bastium_core::plan::draft::Draft;
use model::any_draft;
use proptest::strategy::{Strategy, ValueTree};
use proptest::test_runner::TestRunner;
use std::collections::{BTreeMap, BTreeSet};

/// How many sites are looked at.
const SITES: usize = 3_000;
/// Features of which a plan has at most one: how many uplinks there are, and of which kind.
const UPLINKS: [&str; 8] = [
    "no uplink",
    "static uplink",
    "leased uplink",
    "IPv4 uplink",
    "two static uplinks",
    "static and leased uplink",
    "private uplink",
    "private and static uplink",
];

/// The features of a site, by name.
fn features(draft: &Draft) -> BTreeSet<&'static str> {
    let mut found = BTreeSet::new();
    let leased = |uplink: &bastium_core::plan::draft::Uplink| {
        uplink.address.iter().any(|word| word.value == "dhcp")
    };
    let private = |uplink: &bastium_core::plan::draft::Uplink| {
        uplink.address.iter().any(|word| word.value.starts_with("192.168."))
    };
    found.insert(match draft.uplinks.as_slice() {
        [] => UPLINKS[0],
        [one] if leased(one) => UPLINKS[2],
        [one] if private(one) => UPLINKS[6],
        [one, _] if private(one) => UPLINKS[7],
        [one] if one.address.len() == 1 => UPLINKS[3],
        [_] => UPLINKS[1],
        [_, second] if leased(second) => UPLINKS[5],
        _ => UPLINKS[4],
    });
    let mut add = |name, there: bool| {
        if there {
            found.insert(name);
        }
    };
    add("tunnel, routes, domain, hours", !draft.tunnels.is_empty());
    add("management", draft.gateway.manage.is_some());
    add(
        "grid: reject",
        draft.matrix.grid.as_ref().is_some_and(|grid| grid.value.contains("reject")),
    );
    add(
        "grid: unmatched",
        draft.matrix.grid.as_ref().is_some_and(|grid| grid.value.contains(" -")),
    );
    add(
        "unmatched: reject",
        draft.matrix.unmatched.as_ref().is_some_and(|word| word.value == "reject"),
    );
    for inbound in &draft.inbounds {
        let inside = inbound.permission.from.iter().any(|word| word.value.contains("desks"));
        let plain = inbound.translate.as_ref().is_some_and(|flag| !flag.value);
        add("offered to a network", inside && !plain);
        add("offered to strangers", !inside && !plain);
        add("offered without translation", plain);
        add("offered at hours", inbound.permission.hours.is_some());
    }
    for exception in &draft.exceptions {
        let end = |words: &[bastium_core::source::Text], what: &[&str]| {
            words.iter().any(|word| what.iter().any(|part| word.value.contains(part)))
        };
        let (from, to) = (&exception.from, &exception.to);
        let both = |what: &[&str]| end(from, what) || end(to, what);
        let service =
            exception.service.iter().flatten().next().map_or("", |word| word.value.as_str());
        add("from the gateway", end(from, &["gateway"]));
        add("to the gateway", end(to, &["gateway"]));
        add("from the internet", end(from, &["internet"]));
        add("by domain", both(&["register"]));
        add("behind a router", both(&["barn", "field"]));
        add("a network of IPv6 alone", both(&["lab"]));
        add("by tunnel", both(&["visits"]));
        add("network address", both(&["10.44.24.0"]) && !both(&["10.44.24.0/30"]));
        add("global addresses", both(&["203.0.113", "198.51.100"]));
        add("an uplink's name", both(&["fibre"]));
        add("subtraction", both(&[" - "]));
        add("protocol without ports", service == "esp");
        add("ICMP", service.starts_with("icmp"));
        add("DHCP", service == "dhcp");
        add("reject", exception.action.as_ref().is_some_and(|word| word.value == "reject"));
        add("block", exception.action.as_ref().is_some_and(|word| word.value == "block"));
        add("hours", exception.hours.is_some());
        add(
            "off or past",
            exception.until.is_some() || exception.off.as_ref().is_some_and(|off| off.value),
        );
        add("before", !exception.before.is_empty());
        add("log said", exception.log.is_some());
    }
    found
}

/// Whether two features can stand in one plan.
fn go_together(one: &str, other: &str) -> bool {
    let both = [one, other];
    let has = |word: &str| both.iter().any(|name| name.contains(word));
    let uplinks = both.iter().filter(|name| UPLINKS.contains(*name)).count();
    // Nothing is offered where there is no uplink; one entry of a kind is offered, at hours only in the first kind.
    let kinds = ["offered to a network", "offered at hours"];
    !(uplinks == 2
        || has("no uplink") && (has("offered") || has("uplink's name"))
        || both.contains(&"leased uplink") && has("uplink's name")
        || has("offered to strangers") && has("offered to a network")
        || has("offered to strangers") && has("offered without")
        || kinds.iter().all(|kind| both.contains(kind))
        || has("offered without") && has("offered at hours"))
}

#[test]
fn every_pair_of_features_is_reached() {
    let mut runner = TestRunner::deterministic();
    let mut pairs: BTreeMap<(&str, &str), usize> = BTreeMap::new();
    let mut single: BTreeMap<&str, usize> = BTreeMap::new();
    for _ in 0..SITES {
        let draft = any_draft().new_tree(&mut runner).expect("a draft").current();
        let own = features(&draft);
        for one in &own {
            *single.entry(*one).or_default() += 1;
            for other in own.range(*one..).skip(1) {
                *pairs.entry((*one, *other)).or_default() += 1;
            }
        }
    }
    assert!(single.len() >= 33, "{single:?}");
    let names: Vec<&str> = single.keys().copied().collect();
    let missing: Vec<(&str, &str)> = names
        .iter()
        .flat_map(|one| {
            names.iter().filter(move |other| one < *other).map(move |other| (*one, *other))
        })
        .filter(|(one, other)| go_together(one, other) && !pairs.contains_key(&(*one, *other)))
        .collect();
    let rarest = pairs.iter().min_by_key(|(_, count)| **count);
    assert!(missing.is_empty(), "never together: {missing:?}; the rarest pair: {rarest:?}");
}
