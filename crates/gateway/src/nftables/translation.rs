//! Translation rules: port forwards to the hosts of offered services, and private sources replaced by the gateway's
//! own address.

use super::WriteContext;
use super::addresses::{Known, element};
use super::matching::ListContext;
use super::tag::tag;
use super::test::{Chain, End, Entry, Line, Test, Then};
use bastium_core::addressing::link_local;
use bastium_core::rules::Translation;
use bastium_core::space::{AddressSet, Family, Interface, IntervalSet, Match, ServicePoint};
use std::net::IpAddr;

/// The private IPv4 addresses (RFC 1918).
const PRIVATE: [&str; 3] = ["10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16"];

/// The chains of both kinds, as far as there is anything to translate.
pub(super) fn chains(context: &WriteContext<'_>, known: &Known) -> Vec<Chain> {
    let inward: Vec<Entry> =
        context.rules.translations.iter().flat_map(|t| inward(context, known, t)).collect();
    let mut outward: Vec<Entry> =
        context.rules.translations.iter().flat_map(|t| round(context, t)).collect();
    outward.extend(disguises(context));
    let chain = |name: &str, about: &str, hook, entries| Chain {
        name: name.to_owned(),
        about: about.to_owned(),
        hook: Some(hook),
        entries,
    };
    let chains = [
        chain(
            "inward",
            "what is offered to the outside",
            "type nat hook prerouting priority dstnat; policy accept",
            inward,
        ),
        chain(
            "outward",
            "private sources go out under the gateway's address",
            "type nat hook postrouting priority srcnat; policy accept",
            outward,
        ),
    ];
    chains.into_iter().filter(|chain| !chain.entries.is_empty()).collect()
}

/// The lines that send on what asks for an offered service, by whichever interface it comes.
fn inward(context: &WriteContext<'_>, known: &Known, translation: &Translation) -> Vec<Entry> {
    let around = &context.surroundings;
    let stays = link_local();
    let own = context.plan.gateway_addresses();
    let (mut whole, mut parts) = (Vec::new(), Vec::new());
    for interface in around.interfaces() {
        let sources = around.sources[usize::from(interface.0)].difference(&stays);
        let sources = sources.only_v4();
        let sources = sources.difference(&AddressSet::from(IpAddr::from([0, 0, 0, 0])));
        let wanted = &translation.takes.source;
        if sources.is_disjoint(wanted) {
            continue;
        }
        if sources.is_subset(wanted) {
            whole.push(interface)
        } else {
            parts.push((interface, sources))
        }
    }
    let mut groups: Vec<(Vec<Interface>, AddressSet)> =
        parts.into_iter().map(|(l, s)| (vec![l], s)).collect();
    if !whole.is_empty() {
        groups.insert(0, (whole, translation.takes.source.clone()));
    }
    let mut entries = Vec::new();
    for (interfaces, sources) in groups {
        let enters: IntervalSet<Interface> = interfaces.iter().copied().collect();
        let mut by_interface = vec![AddressSet::empty(); around.sources.len()];
        for interface in &interfaces {
            by_interface[usize::from(interface.0)] = sources.clone();
        }
        // Whatever the gateway's other addresses are, this one has to be asked for.
        let list = ListContext {
            enters: enters.clone(),
            sources: by_interface,
            destinations: own.union(&elsewhere()),
        };
        let product = Match { enters, ..translation.takes.clone() };
        for mut tests in context.lines(known, &product, &list) {
            let names = interfaces
                .iter()
                .map(|interface| context.interfaces[usize::from(interface.0)].clone());
            tests.insert(0, Test::In(names.collect()));
            let then = Then::SendOn(goes_on_to(translation));
            entries.push(Entry::Line(Line::own(tests, then, &tag(&translation.id))));
        }
    }
    entries
}

/// Something that is not the gateway, so that its address is always asked about.
fn elsewhere() -> AddressSet {
    AddressSet::from(IpAddr::from([192, 0, 2, 1]))
        .union(&AddressSet::from(IpAddr::from([10, 0, 0, 0])))
}

/// The address that it goes on to, with the port or a map of ports where that is another one.
fn goes_on_to(translation: &Translation) -> String {
    let host = element(translation.target);
    let inside = translation.inside();
    let outside = &translation.takes.service.v4;
    if inside.v4 == *outside {
        return host;
    }
    let ports = |line: &IntervalSet<ServicePoint>| -> Vec<u16> {
        let with_ports = line.by_protocol().filter(|(protocol, ..)| protocol.has_ports());
        with_ports.flat_map(|(_, first, last)| first..=last).collect()
    };
    let (from, to) = (ports(outside), ports(&inside.v4));
    if let [only] = to.as_slice() {
        return format!("{host}:{only}");
    }
    let pairs: Vec<String> = from.iter().zip(&to).map(|(a, b)| format!("{a} : {b}")).collect();
    format!("{host} : th dport map {{ {} }}", pairs.join(", "))
}

/// Where a host's own network asks for what the host offers, the answer must come back by the gateway.
fn round(context: &WriteContext<'_>, translation: &Translation) -> Option<Entry> {
    let plan = context.plan;
    let id = plan.network_of(translation.target)?;
    let network = plan.network(id).prefixes();
    if network.is_disjoint(&translation.takes.source) {
        return None;
    }
    let address = |end, set: &AddressSet| Test::Address {
        end,
        family: Family::V4,
        elements: set.only_v4().words(),
        not: false,
    };
    let tests = vec![
        Test::Out(vec![context.interfaces[usize::from(plan.network_interface(id).0)].clone()]),
        address(End::Source, &network),
        address(End::Destination, &translation.target.into()),
        Test::Translated(true),
    ];
    Some(Entry::Line(Line::own(tests, Then::Disguise(None), &tag(&translation.id))))
}

/// The lines that give private sources the gateway's own address, uplink by uplink.
fn disguises(context: &WriteContext<'_>) -> Vec<Entry> {
    let plan = context.plan;
    let uplinks = plan.uplinks().iter().enumerate();
    let lines = uplinks.map(|(index, uplink)| {
        let interface = plan.uplink_interface(index);
        let fixed = uplink.addresses.iter().map(ipnet::IpNet::addr).find(IpAddr::is_ipv4);
        let private = Test::Address {
            end: End::Source,
            family: Family::V4,
            elements: PRIVATE.map(str::to_owned).to_vec(),
            not: false,
        };
        let tests =
            vec![Test::Out(vec![context.interfaces[usize::from(interface.0)].clone()]), private];
        let then = Then::Disguise(fixed.filter(|_| !uplink.dhcp).map(element));
        Entry::Line(Line::own(tests, then, &tag(&format!("source.{}", uplink.name))))
    });
    lines.collect()
}
