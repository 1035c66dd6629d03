//! Faults as people make them, seeded into a running gateway of the clinic: none of them may pass for what the
//! plan says.

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, Plan};
use bastium_core::rules;
use bastium_gateway::foreign::read_rules;
use bastium_gateway::nftables::{NftOptions, proven};
use bastium_report::sheets::AuditSheet;
use jiff::civil::{Date, date};
use rayon::prelude::*;

const DAY: Date = date(2026, 11, 24);

/// With a rule for every cell, so that there is a chain for every pair of zones.
fn clinic() -> Plan {
    let path = format!("{}/../../demo/clinic.toml", env!("CARGO_MANIFEST_DIR"));
    let text = std::fs::read_to_string(path).expect("the demo plan is there");
    let text = text.replace("[gateway]", "[gateway]\nrules = \"every-cell\"");
    bastium_planfile::read("clinic.toml", text.as_bytes()).expect("a plan")
}

fn file(meaning: &Meaning<'_>) -> String {
    let rules = rules::in_form(meaning, Form::PerPair).expect("this form says everything");
    let file = proven(meaning, &rules, NftOptions::default()).expect("it is proved");
    file.text().to_owned()
}

/// What an audit of a gateway that runs this comes to.
fn audited(meaning: &Meaning<'_>, text: &str) -> AuditSheet {
    let rules = rules::in_form(meaning, Form::PerPair).expect("this form says everything");
    let foreign = read_rules(text, Some(meaning.plan())).expect("a rule list");
    AuditSheet::new(&foreign, Some((meaning, &rules)))
}

/// A text with one place changed; the place has to be there.
fn changed(text: &str, from: &str, to: &str) -> String {
    assert!(text.contains(from), "{from}");
    text.replacen(from, to, 1)
}

/// A text with a line put behind the head of a chain.
fn at_top(text: &str, chain: &str, line: &str) -> String {
    let head = format!("\tchain {chain} {{\n");
    let start = text.find(&head).unwrap_or_else(|| panic!("{chain}")) + head.len();
    let start = match text[start..].starts_with("\t\ttype ") {
        true => start + text[start..].find('\n').expect("a line") + 1,
        false => start,
    };
    format!("{}\t\t{line}\n{}", &text[..start], &text[start..])
}

/// A text with a line of a chain moved to the chain's end.
fn at_end(text: &str, chain: &str, word: &str) -> String {
    let line = text.lines().find(|line| line.contains(word)).unwrap_or_else(|| panic!("{word}"));
    let without = text.replacen(&format!("{line}\n"), "", 1);
    let start = without.find(&format!("\tchain {chain} {{\n")).unwrap_or_else(|| panic!("{chain}"));
    let end = start + without[start..].find("\n\t}\n").expect("its end") + 1;
    format!("{}{line}\n{}", &without[..end], &without[end..])
}

/// Faults that each change what happens to some packet.
fn faults(text: &str) -> Vec<(String, String)> {
    let mut all: Vec<(String, String)> = Vec::new();
    let lines: Vec<&str> = text.lines().collect();
    // Lines forgotten: whatever lets something pass.
    for (place, line) in lines.iter().enumerate() {
        if line.contains(" accept comment") && !line.contains("ipv6_needs") {
            let mut fewer = lines.clone();
            fewer.remove(place);
            all.push((format!("forgotten: {line}"), fewer.join("\n") + "\n"));
        }
    }
    let mut add = |what: &str, text: String| all.push((what.to_owned(), text));
    // What the gateway says to itself is stopped.
    let itself = "\t\tiifname \"lo\" accept\n";
    for (what, line) in [
        ("lo forgotten", ""),
        ("lo dropped", "\t\tiifname \"lo\" drop\n"),
        ("lo for another interface", "\t\tiifname \"lo0\" accept\n"),
        ("lo for one protocol", "\t\tiifname \"lo\" meta l4proto tcp accept\n"),
        (
            "lo without what goes on",
            "\t\tiifname \"lo\" ct state new accept\n\t\tiifname \"lo\" drop\n",
        ),
        ("lo below a guard", "\t\tip saddr 127.0.0.0/8 drop\n\t\tiifname \"lo\" accept\n"),
    ] {
        add(what, changed(text, itself, line));
    }
    // Lines too many.
    for (chain, line) in [
        ("forward", "iifname \"core.80\" ip daddr 10.44.40.10 accept"),
        ("forward", "accept"),
        ("forward", "tcp dport 22 accept"),
        ("input", "tcp dport 22 accept"),
        ("input", "iifname \"wan1\" udp dport 161 accept"),
        ("opening", "ip saddr 10.44.80.0/24 accept"),
        ("pass_guests_internet", "ip daddr 192.0.2.1 drop"),
        ("pass_staff_internet", "tcp dport 25 drop"),
        ("pass_guests_staff", "ip saddr 10.44.80.7 accept"),
        ("pass_guests_staff", "ip6 saddr fd6b:2f4e:91c0:80::7 udp dport 53 accept"),
        ("output", "udp dport 53 drop"),
        ("forward", "log prefix \"looking: \""),
        ("inward", "iifname \"wan1\" tcp dport 8443 dnat ip to 10.44.40.10"),
        ("inward", "iifname \"wan1\" ip daddr 198.51.100.14 udp dport 443 dnat ip to 10.44.40.13"),
        ("outward", "oifname \"core.40\" ip saddr 10.44.24.0/24 masquerade"),
        ("outward", "oifname \"wan1\" ip saddr 10.44.80.0/24 accept"),
        ("forward", "ct state established drop"),
        ("forward", "ct state related drop"),
        ("forward", "ct state invalid accept"),
        ("forward", "meta l4proto tcp tcp flags syn limit rate 5/second accept"),
        ("forward", "ct state established iifname \"wan1\" drop"),
        ("input", "ct state established drop"),
        ("forward", "ct mark set 0x6be4edbb"),
        ("pass_guests_staff", "ip6 saddr fd6b:2f4e:91c0:80::7 icmp type 8 accept"),
        ("pass_guests_staff", "meta nfproto ipv6 icmp type 8 accept"),
        ("pass_guests_staff", "meta l4proto icmp icmp type 8 accept"),
    ] {
        add(&format!("added to {chain}: {line}"), at_top(text, chain, line));
    }
    // Words and numbers that are wrong.
    for (from, to) in [
        ("ct state established,related counter accept", "ct state established counter accept"),
        ("ct state established,related counter accept", "ct state related counter accept"),
        ("\t\tct state established,related counter accept comment \"reply\"\n", ""),
        ("10.0.0.0/8, 172.16.0.0/12, 192.168.0.0/16", "10.44.24.0/24"),
        ("10.0.0.0/8, 172.16.0.0/12, 192.168.0.0/16", "172.16.0.0/12, 192.168.0.0/16"),
        (
            "\t\tiifname \"lo\" accept\n",
            "\t\tiifname \"lo\" accept\n\t\tiifname != \"lo\" ip saddr 127.0.0.0/8 counter log drop\n",
        ),
        ("snat ip to 198.51.100.14", "snat ip to 198.51.100.13"),
        ("dnat ip to 10.44.40.13", "dnat ip to 10.44.40.10"),
        ("dnat ip to 10.44.40.13", "dnat ip to 10.44.40.13:8443"),
        ("tcp dport 443 counter dnat", "tcp dport 80-443 counter dnat"),
        ("ip daddr 198.51.100.14 tcp dport 443 counter dnat", "tcp dport 443 counter dnat"),
        ("\"06:45:00\"-\"10:59:59\"", "\"06:45:00\"-\"11:59:59\""),
        ("\"Monday\", \"Tuesday\"", "\"Tuesday\""),
        ("rate over 6250000 bytes/second", "rate over 62500000 bytes/second"),
        ("limit name \"limit_visits-read-records\" counter drop", "counter drop"),
        ("burst 1562500 bytes", "burst 100 bytes"),
        (
            "set domain_phone-provider_v4 {\n\t\ttype ipv4_addr\n",
            "set domain_phone-provider_v4 {\n\t\ttype ipv4_addr\n\t\telements = { 10.44.40.10 }\n",
        ),
        (
            "set domain_phone-provider_v4 {\n\t\ttype ipv4_addr\n",
            "set domain_phone-provider_v4 {\n\t\ttype ipv4_addr\n\t\tflags interval\n\t\telements = { 0.0.0.0/1 }\n",
        ),
        ("table inet bastium {", "table inet bastium {\n\tflags dormant"),
        ("ct mark set 0x6be4edbb accept", "accept"),
        ("\"wan1\" : goto pass_guests_internet", "\"wan1\" : goto pass_staff_internet"),
        ("\"core.84\" : jump onward_guests", "\"core.84\" : jump onward_staff"),
        ("\"core.84\" : jump onward_guests", "\"core.85\" : jump onward_guests"),
        ("oifname vmap @passed_on_guests", "oifname vmap @passed_on_staff"),
        ("oifname vmap @passed_on_guests", "accept"),
        ("\"core.80\" : jump gate_guests", "\"core.80\" : jump gate_control"),
        ("\"core.40\" : goto pass_staff_clinical", "\"core.41\" : goto pass_staff_clinical"),
        ("iifname \"wan1\" ip daddr { 10.44.10.0/24", "iifname \"wan1\" ip daddr { 10.44.11.0/24"),
        ("iifname \"core.80\" ip saddr != ", "iifname \"core.80\" ip saddr "),
        (" reject with tcp reset", " drop"),
        (" reject with icmpx admin-prohibited", " drop"),
        ("goto closing\n", "accept\n"),
        ("table inet bastium {", "table ip bastium {"),
        ("type filter hook forward", "type filter hook prerouting"),
        ("type nat hook postrouting", "type nat hook input"),
    ] {
        add(&format!("{from} -> {to}"), changed(text, from, to));
    }
    add("the limit below what it is for", at_end(text, "forward", " limit name "));
    // Other tables.
    for (what, table) in [
        (
            "a table that drops the web",
            "table inet other {\n\tchain c {\n\t\ttype filter hook forward priority -5; policy accept\n\t\ttcp dport 443 drop\n\t}\n}\n",
        ),
        (
            "a table that drops all",
            "table inet other {\n\tchain c {\n\t\ttype filter hook input priority 5; policy drop\n\t}\n}\n",
        ),
        (
            "a table that translates first",
            "table ip other {\n\tchain c {\n\t\ttype nat hook prerouting priority -110; policy accept\n\t\ttcp dport 53 dnat to 10.44.40.10\n\t}\n}\n",
        ),
        (
            "a table that forgets conversations",
            "table ip raw {\n\tchain c {\n\t\ttype filter hook prerouting priority raw; policy accept\n\t\ttcp dport 80 notrack\n\t}\n}\n",
        ),
        (
            "a table that drops early",
            "table ip raw {\n\tchain c {\n\t\ttype filter hook prerouting priority raw; policy accept\n\t\tip saddr 10.44.24.9 drop\n\t}\n}\n",
        ),
        (
            "a table on a device",
            "table netdev early {\n\tchain c {\n\t\ttype filter hook ingress device \"wan1\" priority 0; policy drop\n\t}\n}\n",
        ),
        (
            "a table that marks conversations for a limit",
            "table inet other {\n\tchain c {\n\t\ttype filter hook forward priority -5; policy accept\n\t\tct mark set 0x6be4edbb\n\t}\n}\n",
        ),
        (
            "a second way out",
            "table ip nat {\n\tchain c {\n\t\ttype nat hook postrouting priority 90; policy accept\n\t\toifname \"wan1\" ip saddr 10.44.60.0/24 snat to 198.51.100.13\n\t}\n}\n",
        ),
    ] {
        add(what, format!("{text}{table}"));
    }
    all
}

#[test]
fn no_fault_passes_for_what_the_plan_says() {
    let plan = clinic();
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let text = file(&meaning);
    let clean = audited(&meaning, &text);
    assert!(clean.agrees && clean.findings.is_empty(), "{:#?}", clean.differences.first());
    let all = faults(&text);
    assert!(all.len() >= 100, "{}", all.len());
    let is_unseen = |(_, text): &&(String, String)| {
        let Ok(foreign) = read_rules(text, Some(&plan)) else { return false };
        let rules = rules::in_form(&meaning, Form::PerPair).expect("this form says everything");
        // A rehearsal of the file asks this way, beside its packets.
        let held = foreign.held(&meaning).expect("a file for the packet filter");
        let on_paper = held.faults.is_empty() && held.unread.is_empty();
        on_paper || AuditSheet::new(&foreign, Some((&meaning, &rules))).agrees
    };
    let unseen = all.par_iter().filter(is_unseen).map(|(what, _)| what.as_str());
    let unseen: Vec<&str> = unseen.collect();
    // A line that others repeat may be missing without any effect.
    let harmless = |what: &&&str| what.starts_with("forgotten:") && repeated(&meaning, what);
    let unseen: Vec<&&str> = unseen.iter().filter(|what| !harmless(what)).collect();
    assert!(unseen.is_empty(), "{} of {}: {unseen:#?}", unseen.len(), all.len());
}

/// Whether the rule of a line is one that nothing would be missed of, by the proof of the rules themselves.
fn repeated(meaning: &Meaning<'_>, line: &str) -> bool {
    let rules = rules::in_form(meaning, Form::PerPair).expect("this form says everything");
    let singles = bastium_core::proof::singles(meaning, &rules);
    let idle = singles.redundant.iter().chain(&singles.shadowed);
    idle.into_iter().any(|idle| line.contains(&format!("comment \"{}\"", idle.rule.id)))
}

/// What makes no difference to any packet is none: the lists end by themselves, and what belongs to no conversation
/// meets the rules as anything else does.
#[test]
fn what_makes_no_difference_is_none() {
    let plan = clinic();
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let text = file(&meaning);
    for (from, to) in [
        (
            "hook forward priority filter; policy drop",
            "hook forward priority filter; policy accept",
        ),
        ("\t\tct state invalid counter drop comment \"no_conversation\"\n", ""),
        ("snat ip to 198.51.100.14", "masquerade"),
        ("10.0.0.0/8, 172.16.0.0/12, 192.168.0.0/16", "192.168.0.0/16, 10.0.0.0/8, 172.16.0.0/12"),
    ] {
        let sheet = audited(&meaning, &changed(&text, from, to));
        assert!(sheet.agrees, "{from}: {:?}", sheet.differences.first());
    }
}

/// A plan of two uplinks.
const TWO_UPLINKS: &str = "\
bastium = 1
[site]
name = \"Fernside, annex\"
space = [\"10.44.0.0/16\"]
tie = \"third-octet\"
[gateway]
form = \"per-pair\"
ports = [\"wan1\", \"wan2\", \"lan1\"]
[uplink.fibre]
port = \"wan1\"
address = \"198.51.100.14/30\"
[uplink.mobile]
port = \"wan2\"
address = \"192.0.2.14/29\"
[zone.people]
trust = \"medium\"
uses-gateway-for = [\"dns\", \"dhcp\"]
[network.desks]
zone = \"people\"
vlan = 24
port = \"lan1\"
hosts = 20
dhcp = \"100-199\"
[matrix]
log = \"block\"
unmatched = \"block+log\"
grid = '''
          people  internet
people    -       allow
internet  block   block
'''
";

/// What happens at the second uplink is compared with the plan as what happens at the first.
#[test]
fn faults_at_the_second_uplink_are_seen() {
    let plan = bastium_planfile::read("annex.toml", TWO_UPLINKS.as_bytes()).expect("a plan");
    let meaning = Meaning::new(&plan, DAY).expect("a meaning");
    let text = file(&meaning);
    assert!(audited(&meaning, &text).agrees);
    for (chain, line) in [
        ("forward", "iifname \"wan2\" ct state established drop"),
        ("forward", "oifname \"wan2\" ct state established drop"),
        ("forward", "oifname \"wan2\" ip daddr 203.0.113.7 ct state established drop"),
        ("forward", "iifname \"wan2\" ip saddr 203.0.113.7 ct state established drop"),
        ("forward", "oifname \"wan2\" ct state related drop"),
        ("forward", "iifname \"wan2\" ct state invalid accept"),
        ("forward", "iifname \"wan2\" ip daddr 10.44.24.9 accept"),
        ("forward", "oifname \"wan2\" tcp dport 443 drop"),
        ("outward", "oifname \"wan2\" accept"),
        ("outward", "oifname \"wan2\" snat to 192.0.2.9"),
        ("input", "iifname \"wan2\" tcp dport 22 accept"),
        ("input", "iifname \"wan2\" ct state established drop"),
    ] {
        let sheet = audited(&meaning, &at_top(&text, chain, line));
        assert!(!sheet.agrees, "{chain}: {line}");
    }
}
