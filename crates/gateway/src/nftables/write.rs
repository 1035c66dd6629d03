//! Writes the file as text. Everything that comes from the plan is cleaned here: a remark is one line, and comments
//! and prefixes contain tags only.

use super::addresses::{Known, elements, of_family};
use super::addresses::{broadcasts, local_to_all, own_addresses};
use super::names::Names;
use super::onward::Chains;
use super::tag::LOG_MARK;
use super::test::{Chain, End, Entry, Line, Test, Then};
use super::{TABLE, WriteContext};
use crate::clean::remark;
use bastium_core::space::Family;
use std::fmt::Write;

/// The whole file.
pub(super) fn file(context: &WriteContext<'_>, chains: &Chains) -> String {
    let names = Names::of(context, chains);
    let mut out = heading(context);
    let _ = writeln!(out, "table inet {TABLE}\ndelete table inet {TABLE}\n\ntable inet {TABLE} {{");
    sets(&mut out, context, &names);
    maps(&mut out, chains);
    for (name, rate) in &chains.limits {
        let _ = writeln!(
            out,
            "\tlimit {name} {{\n\t\trate over {rate} bytes/second burst {} bytes\n\t}}\n",
            (rate / 4).max(16_384)
        );
    }
    for chain in &chains.chains {
        write_chain(&mut out, chain, &names);
    }
    out.truncate(out.trim_end().len());
    out.push_str("\n}\n");
    out
}

fn heading(context: &WriteContext<'_>) -> String {
    let plan = context.plan;
    let mut out = String::from("#!/usr/sbin/nft -f\n");
    let mut say = |text: String| {
        let _ = writeln!(out, "# {}", remark(&text));
    };
    say(format!("Rules of {}, in the form {}", plan.site().name, context.rules.form.word()));
    say("Written by bastium from the plan: change the plan, not this file".to_owned());
    say("It takes the place of the whole table, counters and names found by the name server included".to_owned());
    if context.rules.rules().any(|rule| rule.log) {
        say(format!("Each line writes at most {LOG_RATE} to the log, after {LOG_BURST} at once"));
    }
    if let Some(day) = context.rules.changes_on {
        say(format!("The plan has other rules from {day} on: export it again then"));
    }
    if let Some(now) = context.options.at {
        say(format!("Only for trying out: fixed as the rules are on {now}"));
    } else if context.rules.rules().any(|rule| rule.hours.is_some()) {
        let zone = plan.site().time_zone.as_deref().unwrap_or("the site's time zone");
        say(format!(
            "Hours are those of {zone}: the gateway's clock must be set to it, and the file"
        ));
        say("must be loaded again when the clock goes forward or back".to_owned());
    }
    if !plan.domains().is_empty() {
        say("The sets domain_... are filled by the name server: restart it after loading"
            .to_owned());
    }
    let leased: Vec<&str> =
        plan.uplinks().iter().filter(|u| u.dhcp).map(|u| u.name.as_str()).collect();
    if leased.len() > 1 {
        say(format!("The leased addresses of {} are not distinguished", leased.join(" and ")));
    }
    out.push('\n');
    out
}

fn sets(out: &mut String, context: &WriteContext<'_>, names: &Names) {
    let known = Known::of(context.plan);
    let own = own_addresses(context.plan, &known);
    for (family, mark) in [(Family::V4, ""), (Family::V6, "_v6")] {
        let mut here = of_family(&own, family);
        if family == Family::V6 {
            here = here.union(&of_family(&local_to_all(), family));
        }
        let about = "the gateway's own addresses";
        write_set(out, &format!("gateway{mark}"), address_type(family), about, &elements(&here));
    }
    let all = broadcasts(context.plan);
    if !all.is_empty() {
        let words: Vec<String> = all.iter().map(|(address, _)| address.to_string()).collect();
        write_set(
            out,
            "broadcasts",
            "ipv4_addr",
            "the broadcast addresses of all networks",
            &words,
        );
        let here = all.iter().map(|(address, interface)| {
            format!("\"{}\" . {address}", context.interfaces[usize::from(interface.0)])
        });
        let here: Vec<String> = here.collect();
        let about = "each with the interface that it belongs to";
        write_set(out, "broadcasts_here", "ifname . ipv4_addr", about, &here);
    }
    for domain in context.plan.domains() {
        for (family, mark) in [(Family::V4, "v4"), (Family::V6, "v6")] {
            let _ = writeln!(
                out,
                "\t# {}\n\tset domain_{}_{mark} {{\n\t\ttype {}\n\t\tsize 65535\n\t}}\n",
                remark(&domain.names.join(", ")),
                domain.name,
                address_type(family)
            );
        }
    }
    for (name, (kind, elements)) in &names.sets {
        let quoted: Vec<String> = elements.iter().map(|word| element(*kind, word)).collect();
        write_set(out, name, kind.words(), "", &quoted);
    }
}

fn element(kind: super::names::Kind, word: &str) -> String {
    match kind {
        super::names::Kind::Interfaces => format!("\"{word}\""),
        _ => word.to_owned(),
    }
}

fn address_type(family: Family) -> &'static str {
    match family {
        Family::V4 => "ipv4_addr",
        Family::V6 => "ipv6_addr",
    }
}

fn write_set(out: &mut String, name: &str, kind: &str, about: &str, elements: &[String]) {
    if !about.is_empty() {
        let _ = writeln!(out, "\t# {about}");
    }
    let flags = match kind.contains("ifname") {
        true => "",
        false => "\n\t\tflags interval",
    };
    let list = elements.join(",\n\t\t\t");
    let list = match elements {
        [] => String::new(),
        _ => format!("\n\t\telements = {{\n\t\t\t{list}\n\t\t}}"),
    };
    let _ = writeln!(out, "\tset {name} {{\n\t\ttype {kind}{flags}{list}\n\t}}\n");
}

fn maps(out: &mut String, chains: &Chains) {
    let mut map = |name: &str, kind: &str, about: &str, elements: Vec<String>| {
        if !elements.is_empty() {
            let list = elements.join(",\n\t\t\t");
            let _ = writeln!(
                out,
                "\t# {about}\n\tmap {name} {{\n\t\ttype {kind} : verdict\n\t\telements = {{\n\t\t\t{list}\n\t\t}}\n\t}}\n"
            );
        }
    };
    let gate = chains.gate.iter();
    let gate = gate.map(|(from, then)| format!("\"{from}\" : {}", statement(then))).collect();
    map("to_gateway", "ifname", "by the interface that it comes by", gate);
    let onward = chains.onward.iter();
    let element = |from: &str, name: &str| format!("\"{from}\" : jump {name}");
    let first = onward.clone().flat_map(|onward| {
        onward.from.iter().map(|from| element(from, &onward.name)).collect::<Vec<_>>()
    });
    map("passed_on", "ifname", "by the interface that it comes by", first.collect());
    for onward in onward {
        let to = onward.to.iter().map(|(to, then)| format!("\"{to}\" : {}", statement(then)));
        map(&onward.map, "ifname", "by the interface that it leaves by", to.collect());
    }
}

fn write_chain(out: &mut String, chain: &Chain, names: &Names) {
    let _ = writeln!(out, "\t# {}\n\tchain {} {{", remark(&chain.about), chain.name);
    if let Some(hook) = chain.hook {
        let _ = writeln!(out, "\t\t{hook}");
    }
    for entry in &chain.entries {
        match entry {
            Entry::Remark(text) => {
                let _ = writeln!(out, "\t\t# {}", remark(text));
            }
            Entry::Line(line) => write_line(out, line, names),
        }
    }
    out.push_str("\t}\n\n");
}

/// How much each rule writes to the log at most: anyone outside could fill the disk otherwise. A burst holds what a person
/// tries by hand.
const LOG_RATE: &str = "10/second";
const LOG_BURST: u32 = 50;

fn write_line(out: &mut String, line: &Line, names: &Names) {
    let mut words: Vec<String> = line.tests.iter().map(|test| test_words(test, names)).collect();
    if let Then::Limit(name) = &line.then {
        words.push(format!("limit name \"{name}\""));
    }
    if line.log {
        // By itself, so that what is not logged is decided all the same.
        let tests = words.iter().map(|test| format!("{test} ")).collect::<String>();
        let prefix = format!("log prefix \"{LOG_MARK}{}: \"", line.tag);
        let _ =
            writeln!(out, "\t\t{tests}limit rate {LOG_RATE} burst {LOG_BURST} packets {prefix}");
    }
    if line.counts {
        words.push("counter".to_owned());
    }
    if let Some(mark) = line.mark {
        words.push(format!("ct mark set 0x{mark:08x}"));
    }
    words.push(statement(&line.then));
    if !line.tag.is_empty() {
        words.push(format!("comment \"{}\"", line.tag));
    }
    let _ = writeln!(out, "\t\t{}", words.join(" "));
}

fn test_words(test: &Test, names: &Names) -> String {
    let among = |elements: &[String]| match (names.name(test), elements) {
        (Some(name), _) => format!("@{name}"),
        (None, [only]) => only.clone(),
        (None, several) => format!("{{ {} }}", several.join(", ")),
    };
    let interfaces = |elements: &[String]| {
        among(&elements.iter().map(|name| format!("\"{name}\"")).collect::<Vec<_>>())
    };
    let not = |not: &bool| if *not { "!= " } else { "" };
    match test {
        Test::In(elements) => format!("iifname {}", interfaces(elements)),
        Test::Out(elements) => format!("oifname {}", interfaces(elements)),
        Test::Family(Family::V4) => "meta nfproto ipv4".to_owned(),
        Test::Family(Family::V6) => "meta nfproto ipv6".to_owned(),
        Test::Address { end, family, elements, not: n } => {
            format!("{} {}{}", end_words(*end, *family), not(n), among(elements))
        }
        Test::Named { end, family, set, not: n } => {
            let mark = match (set.as_str(), family) {
                ("gateway", Family::V4) => "",
                (_, Family::V4) => "_v4",
                (_, Family::V6) => "_v6",
            };
            format!("{} {}@{set}{mark}", end_words(*end, *family), not(n))
        }
        Test::Leased { end, family } => {
            let known = if *family == Family::V4 { "@gateway" } else { "@gateway_v6" };
            format!("{} {} != {known}", own_words(*end, *family), end_words(*end, *family))
        }
        Test::FromGateway => own_words(End::Source, Family::V4),
        Test::Protocols { numbers, not: n } => {
            let numbers: Vec<String> = numbers.iter().map(u8::to_string).collect();
            format!("meta l4proto {}{}", not(n), among(&numbers))
        }
        Test::Ports { protocol, elements } => format!("{protocol} dport {}", among(elements)),
        Test::AnyPorts(elements) => format!("meta l4proto . th dport {}", among(elements)),
        Test::Icmp { family, elements, codes } => {
            let icmp = if *family == Family::V4 { "icmp" } else { "icmpv6" };
            match elements.as_slice() {
                _ if !codes => format!("{icmp} type {}", among(elements)),
                [only] => {
                    let (kind, code) = only.split_once(" . ").unwrap_or((only, "0-255"));
                    format!("{icmp} type {kind} {icmp} code {code}")
                }
                pairs => format!("{icmp} type . {icmp} code {{ {} }}", pairs.join(", ")),
            }
        }
        Test::OthersBroadcast => {
            "ip daddr @broadcasts iifname . ip daddr != @broadcasts_here".to_owned()
        }
        Test::State(words) => format!("ct state {words}"),
        Test::Mark(mark) => format!("ct mark 0x{mark:08x}"),
        Test::Translated(true) => "ct status dnat".to_owned(),
        Test::Translated(false) => "ct status & dnat == 0".to_owned(),
        Test::Days(days) => {
            let days: Vec<String> = days.iter().map(|day| format!("\"{day}\"")).collect();
            format!("meta day {}", among(&days))
        }
        Test::Hours(words) => format!("meta hour {words}"),
    }
}

/// One of the gateway's own addresses. What every machine has for itself alone is not meant, though the kernel
/// counts it (RFC 1122, section 3.2.1.3; RFC 4291, section 2.5.3).
fn own_words(end: End, family: Family) -> String {
    let field = if end == End::Source { "saddr" } else { "daddr" };
    let itself = if family == Family::V4 { "127.0.0.0/8" } else { "::1" };
    format!("fib {field} type local {} != {itself}", end_words(end, family))
}

fn end_words(end: End, family: Family) -> &'static str {
    match (end, family) {
        (End::Source, Family::V4) => "ip saddr",
        (End::Destination, Family::V4) => "ip daddr",
        (End::Source, Family::V6) => "ip6 saddr",
        (End::Destination, Family::V6) => "ip6 daddr",
    }
}

fn statement(then: &Then) -> String {
    match then {
        Then::Accept => "accept".to_owned(),
        Then::Drop | Then::Limit(_) => "drop".to_owned(),
        Then::Reset => "reject with tcp reset".to_owned(),
        Then::Refuse => "reject with icmpx admin-prohibited".to_owned(),
        Then::Jump(chain) => format!("jump {chain}"),
        Then::Goto(chain) => format!("goto {chain}"),
        Then::SendOn(host) => format!("dnat ip to {host}"),
        Then::Disguise(Some(address)) => format!("snat ip to {address}"),
        Then::Disguise(None) => "masquerade".to_owned(),
        Then::Look { key, map } => format!("{key} vmap @{map}"),
    }
}
