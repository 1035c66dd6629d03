//! Access lists as they are written, read by a reader of their own and compared with the rules, packet by
//! packet; and the same files read back by the auditor.

#[path = "../../core/tests/model/mod.rs"]
mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Form, resolve};
use bastium_core::proof;
use bastium_core::rules::{self, Applies, RuleSet};
use bastium_core::space::{AddressSet, Ends, Interface, Packet, Protocol, ServicePoint};
use bastium_core::verdict::Verdict;
use bastium_gateway::foreign::read_rules;
use bastium_gateway::{AclFile, acl_json, proven_lists};
use ipnet::IpNet;
use model::packets::{Borders, packet};
use model::{TODAY, any_draft, wired};
use proptest::prelude::*;
use rayon::prelude::*;
use serde_json::Value;
use std::net::IpAddr;
use std::sync::atomic::{AtomicUsize, Ordering};

/// What a list says of a first packet: the first entry that matches decides.
struct Reader<'j> {
    acls: &'j Value,
}

impl Reader<'_> {
    fn list(&self, name: &str) -> Option<&Value> {
        self.acls["acl"].as_array()?.iter().find(|list| list["name"] == name)
    }

    /// What the lists on an interface do with what enters there; silence where there are none.
    fn entering(&self, interface: &str, packet: &Packet, kind: Kind) -> Action {
        let points = self.acls["attachment-points"]["interface"].as_array();
        let here = points.into_iter().flatten().find(|point| point["interface-id"] == interface);
        let sets = here.and_then(|point| point["ingress"]["acl-sets"]["acl-set"].as_array());
        for set in sets.into_iter().flatten() {
            let Some(list) = self.list(set["name"].as_str().unwrap_or_default()) else { continue };
            let v6 = list["type"].as_str().is_some_and(|word| word.contains("ipv6"));
            if v6 != packet.source().is_ipv6() {
                continue;
            }
            for ace in list["aces"]["ace"].as_array().into_iter().flatten() {
                if matches(&ace["matches"], packet, kind) {
                    return match ace["actions"]["forwarding"].as_str() {
                        Some("ietf-access-control-list:accept") => Action::Allow,
                        Some("ietf-access-control-list:reject") => Action::Reject,
                        _ => Action::Block,
                    };
                }
            }
        }
        Action::Block
    }
}

/// Which packet of a conversation it is, as far as lists without state can tell.
#[derive(Clone, Copy, Debug)]
enum Kind {
    /// The first: from a high port, of TCP with SYN alone.
    First,
    /// A reply, from the port that was asked: of TCP with ACK.
    Reply(u16),
    /// A reset without ACK, from the port that was asked.
    Reset(u16),
}

/// Whether an entry matches a packet.
fn matches(matches: &Value, packet: &Packet, kind: Kind) -> bool {
    let from = match kind {
        Kind::First => 40_000,
        Kind::Reply(port) | Kind::Reset(port) => u64::from(port),
    };
    let family = if packet.source().is_ipv6() { "ipv6" } else { "ipv4" };
    let Some(header) = matches[family].as_object() else { return false };
    let protocol = packet.service.protocol();
    let holds = |prefix: &Value, address: IpAddr| {
        let net: IpNet = prefix.as_str().and_then(|word| word.parse().ok()).expect("a prefix");
        net.contains(&address)
    };
    for (leaf, value) in header {
        let fits = match leaf.as_str() {
            "protocol" => value.as_u64() == Some(u64::from(protocol.0)),
            word if word.starts_with("source") => holds(value, packet.source()),
            _ => holds(value, packet.destination()),
        };
        if !fits {
            return false;
        }
    }
    let within = |ports: &Value, port: u64| match (&ports["port"], &ports["lower-port"]) {
        (Value::Null, low) => {
            let high = ports["upper-port"].as_u64().expect("an upper port");
            (low.as_u64().expect("a lower port")..=high).contains(&port)
        }
        (only, _) => only.as_u64() == Some(port),
    };
    for transport in ["tcp", "udp"] {
        let Some(leaves) = matches[transport].as_object() else { continue };
        let port = packet.service.destination_port().map(u64::from);
        for (leaf, value) in leaves {
            let fits = match leaf.as_str() {
                "flags" => match kind {
                    Kind::First => false,
                    Kind::Reply(_) => value == "ack",
                    Kind::Reset(_) => value == "rst",
                },
                "source-port" => within(value, from),
                _ => port.is_some_and(|port| within(value, port)),
            };
            if !fits {
                return false;
            }
        }
    }
    let Some(icmp) = matches["icmp"].as_object() else { return true };
    let Some((kind, code)) = packet.service.icmp_kind() else { return false };
    let is = |leaf: &str, number: u8| {
        icmp.get(leaf).is_none_or(|value| value.as_u64() == Some(u64::from(number)))
    };
    is("type", kind) && is("code", code)
}

/// Whether something lets back what looks like this packet: what a list without state leaks.
fn looks_like_a_reply(rules: &RuleSet, packet: &Packet) -> bool {
    let lists = rules.lists.iter().filter(|list| list.packets().contains(packet));
    let mut backs = lists.flat_map(|list| &list.rules).filter(|rule| rule.is_for_replies());
    // Addresses that nobody has may be among those of a rule for replies.
    let near = |rule: &rules::Rule| {
        rule.packets().is_some_and(|m| {
            let line = if packet.source().is_ipv6() { &m.service.v6 } else { &m.service.v4 };
            line.contains(packet.service)
        })
    };
    backs.any(near)
}

/// The reply to a packet of a usual protocol, and the port that it comes from.
fn reply_to(packet: &Packet) -> Option<(Packet, u16)> {
    let service = match (packet.service.protocol(), packet.service.icmp_kind()) {
        (Protocol::ICMP, Some((8, _))) => ServicePoint::icmp(Protocol::ICMP, 0, 0),
        (Protocol::ICMP_V6, Some((128, _))) => ServicePoint::icmp(Protocol::ICMP_V6, 129, 0),
        (protocol @ (Protocol::TCP | Protocol::UDP), _) => ServicePoint::port(protocol, 40_000),
        _ => return None,
    };
    let port = packet.service.destination_port().unwrap_or_default();
    let ends = Ends::new(packet.destination(), packet.source())?;
    Some((Packet { ends, service, ..*packet }, port))
}

fn written(rules: &RuleSet) -> (AclFile, Value) {
    let file = acl_json(rules);
    let json = parsed(&file.text);
    (file, json)
}

/// The lists of a file.
fn parsed(text: &str) -> Value {
    let mut json: Value = serde_json::from_str(text).expect("JSON");
    json["ietf-access-control-list:acls"].take()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    /// What the lists do with a first packet is what the rules do, but for what looks like a reply.
    #[test]
    fn access_lists_do_what_the_rules_do(draft in any_draft(), seed in any::<u64>()) {
        let plan = resolve(wired(draft)).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::in_form(&meaning, Form::PerInterface).expect("this form says everything");
        let (file, acls) = written(&rules);
        // What cannot be said is said to be missing; the rest is compared.
        if file.unsaid.iter().any(|one| one.rule != "reply") {
            return Ok(());
        }
        let reader = Reader { acls: &acls };
        let borders = Borders::of(&plan, &rules);
        let mut seed = seed;
        for _ in 0..600 {
            let packet = packet(&borders, &plan, &mut seed);
            let outer = packet.enters < plan.gateway_interface();
            if !outer || plan.stand_in_words(packet.source()).is_some()
                || plan.stand_in_words(packet.destination()).is_some()
            {
                continue;
            }
            let decision = meaning.decide(&packet);
            if !decision.verdict.is_filtered() {
                continue;
            }
            let outcome = rules.first_match(&packet);
            let interface = plan.device_name(packet.enters).expect("every cable is named");
            let does = reader.entering(&interface, &packet, Kind::First);
            if does != outcome.action {
                prop_assert!(
                    does == Action::Allow && looks_like_a_reply(&rules, &packet),
                    "{packet:?} entering {interface}: {does:?}, the rules say {outcome:?}"
                );
            }
        }
    }

    /// The reply to whatever they allow is let back on the interface that it comes by.
    #[test]
    fn access_lists_let_replies_back(draft in any_draft(), seed in any::<u64>()) {
        let plan = resolve(wired(draft)).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::in_form(&meaning, Form::PerInterface).expect("this form says everything");
        let (_, acls) = written(&rules);
        let reader = Reader { acls: &acls };
        let borders = Borders::of(&plan, &rules);
        let zones = plan.zone_ids().map(|zone| plan.zone_addresses(zone));
        let somebody = zones.fold(AddressSet::empty(), |all, zone| all.union(zone));
        let mut seed = seed;
        for _ in 0..1500 {
            let packet = packet(&borders, &plan, &mut seed);
            let stands = |address| plan.stand_in_words(address).is_some();
            let allowed = meaning.decide(&packet).verdict == Verdict::Allow;
            if !allowed || stands(packet.source()) || stands(packet.destination())
                || packet.enters >= plan.gateway_interface() || !somebody.contains(packet.destination())
            {
                continue;
            }
            // What cannot be said is not allowed, and needs no reply.
            let here = plan.device_name(packet.enters).expect("every cable is named");
            if reader.entering(&here, &packet, Kind::First) != Action::Allow {
                continue;
            }
            let Some((reply, port)) = reply_to(&packet) else { continue };
            let back = rules.reply_rule(&packet).and_then(|rule| rule.packets());
            // Where something translates, the reply is for the gateway's own address.
            let Some(back) = back.filter(|back| back.destination.contains(packet.source())) else {
                continue;
            };
            let interface = back.enters.first().expect("it is for an interface");
            let device = plan.device_name(interface).expect("every cable is named");
            let reply = Packet { enters: interface, ..reply };
            let does = reader.entering(&device, &reply, Kind::Reply(port));
            prop_assert_eq!(does, Action::Allow, "{:?} answers {:?} on {}", reply, packet, device);
        }
    }

    /// What is written in any form is read back and proved.
    #[test]
    fn access_lists_are_proved(draft in any_draft()) {
        let plan = resolve(wired(draft)).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        for form in [Form::PerInterface, Form::OneList, Form::PerPair] {
            let rules = rules::in_form(&meaning, form).expect("this form says everything");
            let proved = proof::proved(&meaning, &rules).expect("the rules are the plan's");
            let file = acl_json(&rules);
            // Nothing is written then.
            if file.unsaid.iter().any(|one| one.opens) {
                continue;
            }
            if let Err(held) = proven_lists(&meaning, proved, file.clone()) {
                let faults: Vec<String> = held.faults.iter().take(4).map(|fault| format!(
                    "{:?} {:?} / {:?} {:?}", fault.replies, fault.rule, fault.entry, fault.packets.sample()
                )).collect();
                prop_assert!(false, "{form:?}: {faults:#?} {:?} {}", held.unread, held.undecided);
            }
        }
    }

    /// Lists are put on the interface that they are for, and there alone.
    #[test]
    fn every_list_is_attached_where_it_belongs(draft in any_draft()) {
        let plan = resolve(wired(draft)).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::in_form(&meaning, Form::PerInterface).expect("this form says everything");
        let (_, acls) = written(&rules);
        let reader = Reader { acls: &acls };
        let mut attached = 0;
        for point in acls["attachment-points"]["interface"].as_array().into_iter().flatten() {
            let device = point["interface-id"].as_str().expect("a name");
            let known = (0..plan.gateway_interface().0).map(Interface).any(|interface| plan.device_name(interface).as_deref() == Some(device));
            prop_assert!(known, "{device}");
            for way in ["ingress", "egress"] {
                for set in point[way]["acl-sets"]["acl-set"].as_array().into_iter().flatten() {
                    prop_assert!(reader.list(set["name"].as_str().expect("a name")).is_some());
                    attached += 1;
                }
            }
        }
        let lists = acls["acl"].as_array().map_or(0, Vec::len);
        prop_assert_eq!(attached, lists);
        let on_interfaces = rules.lists.iter().filter(|list| !list.implied).all(|list| {
            matches!(list.applies, Some(Applies::Interface { .. }))
        });
        prop_assert!(on_interfaces);
    }

    /// The auditor reads what is written, understands all of it that is for first packets, and finds every
    /// allow of the lists an allow.
    #[test]
    fn the_auditor_reads_what_is_written(draft in any_draft()) {
        let plan = resolve(wired(draft)).expect("a plan");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        let rules = rules::in_form(&meaning, Form::PerInterface).expect("this form says everything");
        let (file, _) = written(&rules);
        if file.entries == 0 {
            return Ok(());
        }
        let foreign = read_rules(&file.text, Some(&plan)).expect("a rule list");
        // What is for packets that go out is named, and not read.
        let out = rules.lists.iter().any(|list| {
            matches!(list.applies, Some(Applies::Interface { out: true, .. })) && !list.implied
        });
        let own = foreign.lines.iter().filter(|line| !line.end).count();
        prop_assert!(own == file.entries || out && own < file.entries);
        for not_understood in &foreign.not_understood {
            let known = not_understood.what.contains("source-port") || out && not_understood.what.contains("goes out");
            prop_assert!(known, "{not_understood:?}");
        }
    }
}

#[test]
fn a_plan_that_allows_nothing_has_lists_that_allow_only_what_ipv6_needs_and_replies() {
    let draft = wired(model::uniform("block", false));
    let plan = resolve(draft).expect("a plan");
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    let rules = rules::in_form(&meaning, Form::PerInterface).expect("this form says everything");
    let (_, acls) = written(&rules);
    let lists = acls["acl"].as_array().expect("lists").iter();
    let entries = lists.flat_map(|list| list["aces"]["ace"].as_array().expect("entries"));
    let allowed =
        entries.filter(|ace| ace["actions"]["forwarding"] == "ietf-access-control-list:accept");
    for ace in allowed {
        let name = ace["name"].as_str().expect("a name");
        let known = ["reply.", "ipv6_needs", "gateway_service", "tunnel_port", "discovery"];
        assert!(known.iter().any(|kind| name.starts_with(kind)), "{name}");
    }
    let decided = meaning.decide(&Packet::new(
        plan.network_interface(plan.network_ids().next().expect("a network")),
        Ends::new(IpAddr::from([10, 44, 24, 2]), IpAddr::from([10, 44, 60, 2]))
            .expect("one family"),
        ServicePoint::port(Protocol::TCP, 443),
    ));
    assert_eq!(decided.verdict, Verdict::Block);
}

/// What a hand or a bad disk might do to a part of the file.
#[derive(Clone, Debug)]
enum Change {
    Delete,
    Double,
    ToTop,
    ToEnd,
    Set(Value),
}

impl Change {
    /// The file with the part at a pointer changed.
    fn made(&self, acls: &Value, pointer: &str) -> Value {
        let mut other = acls.clone();
        if let Self::Set(value) = self {
            *other.pointer_mut(pointer).expect("a leaf") = value.clone();
            return other;
        }
        let (array, place) = pointer.rsplit_once('/').expect("a place");
        let place: usize = place.parse().expect("a number");
        let all = other.pointer_mut(array).and_then(Value::as_array_mut).expect("an array");
        let part = all.remove(place);
        match self {
            Self::Delete => {}
            Self::Double => all.splice(place..place, [part.clone(), part]).for_each(drop),
            Self::ToTop => all.insert(0, part),
            _ => all.push(part),
        }
        other
    }
}

/// Entries deleted, doubled, moved; numbers, prefixes, verdicts, and where a list stands.
fn mutations(acls: &Value) -> Vec<(String, Change)> {
    let mut all = Vec::new();
    let count = |pointer: &str| acls.pointer(pointer).and_then(Value::as_array).map_or(0, Vec::len);
    for list in 0..count("/acl") {
        all.push((format!("/acl/{list}"), Change::Delete));
        for place in 0..count(&format!("/acl/{list}/aces/ace")) {
            let at = format!("/acl/{list}/aces/ace/{place}");
            for change in [Change::Delete, Change::Double, Change::ToTop, Change::ToEnd] {
                all.push((at.clone(), change));
            }
            for word in ["accept", "drop", "reject", "log-syslog", "log-none"] {
                let leaf = if word.starts_with("log") { "logging" } else { "forwarding" };
                let word = format!("ietf-access-control-list:{word}");
                all.push((format!("{at}/actions/{leaf}"), Change::Set(word.into())));
            }
            for leaf in leaves(acls.pointer(&format!("{at}/matches")).expect("matches")) {
                let leaf = format!("{at}/matches{leaf}");
                let values = changed(acls.pointer(&leaf).expect("a leaf")).into_iter();
                all.extend(values.map(|value| (leaf.clone(), Change::Set(value))));
            }
        }
    }
    for point in 0..count("/attachment-points/interface") {
        all.push((format!("/attachment-points/interface/{point}"), Change::Delete));
    }
    all
}

/// Where the single values of an object are.
fn leaves(value: &Value) -> Vec<String> {
    match value.as_object() {
        None => vec![String::new()],
        Some(object) => object
            .iter()
            .flat_map(|(key, value)| {
                leaves(value).into_iter().map(move |leaf| format!("/{key}{leaf}"))
            })
            .collect(),
    }
}

/// Other values in a leaf's place.
fn changed(value: &Value) -> Vec<Value> {
    if let Some(number) = value.as_u64() {
        return vec![(number + 1).into(), (number / 2).into(), 300.into()];
    }
    let word = value.as_str().unwrap_or_default();
    match word.parse::<IpNet>() {
        Ok(net) => {
            let mut wider = Vec::new();
            wider.extend(net.supernet().map(|net| net.to_string().into()));
            wider.extend(
                net.subnets(net.prefix_len() + 1)
                    .ok()
                    .and_then(|mut halves| Some(Value::from(halves.next()?.to_string()))),
            );
            wider
        }
        Err(_) => vec!["rst".into(), "neq".into(), "".into()],
    }
}

/// A changed file is refused, or an independent reader finds that it does the same.
#[test]
fn whatever_is_changed_in_the_lists_is_refused_or_does_the_same() {
    let mut draft = wired(model::uniform("block", false));
    draft.exceptions.push(model::exception("web", "staff", "internet", "https", "allow"));
    draft.exceptions.push(model::exception("names", "guests", "tills", "dns", "reject"));
    let plan = resolve(draft).expect("a plan");
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    let rules = rules::in_form(&meaning, Form::PerInterface).expect("this form says everything");
    let proved = proof::proved(&meaning, &rules).expect("the rules are the plan's");
    let (file, acls) = written(&rules);
    assert!(file.unsaid.iter().all(|one| !one.opens), "{:?}", file.unsaid);
    let all = mutations(&acls);
    let step = (all.len() / 500).max(1);
    let borders = Borders::of(&plan, &rules);
    let (refused, same) = (AtomicUsize::new(0), AtomicUsize::new(0));
    let chosen: Vec<_> = all.iter().step_by(step).collect();
    chosen.par_iter().for_each(|(pointer, change)| {
        let other = &change.made(&acls, pointer);
        if *other == acls {
            return;
        }
        let text = serde_json::json!({ "ietf-access-control-list:acls": other }).to_string();
        let changed = AclFile { text, ..file.clone() };
        if proven_lists(&meaning, proved, changed).is_err() {
            refused.fetch_add(1, Ordering::Relaxed);
            return;
        }
        same.fetch_add(1, Ordering::Relaxed);
        let (before, after) = (Reader { acls: &acls }, Reader { acls: other });
        let mut seed = 7;
        for _ in 0..60 {
            let packet = packet(&borders, &plan, &mut seed);
            if packet.enters >= plan.gateway_interface()
                || !meaning.decide(&packet).verdict.is_filtered()
            {
                continue;
            }
            let interface = plan.device_name(packet.enters).expect("every cable is named");
            let answers = [Kind::Reply(443), Kind::Reset(443), Kind::Reply(53), Kind::Reset(53)];
            for kind in [Kind::First].into_iter().chain(answers) {
                let (does, did) = (
                    after.entering(&interface, &packet, kind),
                    before.entering(&interface, &packet, kind),
                );
                assert_eq!(does, did, "{packet:?} {kind:?}: {pointer} {change:?}");
            }
        }
    });
    let (refused, same) = (refused.into_inner(), same.into_inner());
    assert!(refused > 250, "{refused} refused, {same} do the same");
}
