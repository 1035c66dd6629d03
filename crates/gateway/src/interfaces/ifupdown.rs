//! A file for ifupdown (interfaces(5)).

use super::{InterfaceFile, Link, Links, Made};
use ipnet::IpNet;
use std::fmt::Write;
use std::net::IpAddr;

/// One file with everything. A VLAN stands behind what it is on.
pub(super) fn write(links: &Links) -> Vec<InterfaceFile> {
    let mut text =
        String::from("# VLANs need the package vlan, aggregates the package ifenslave\n");
    let is_vlan = |link: &Link| matches!(link.made, Made::Vlan { .. });
    let ordered = links.iter().filter(|(_, link)| !is_vlan(link));
    for (name, link) in ordered.chain(links.iter().filter(|(_, link)| is_vlan(link))) {
        let _ = write!(text, "\nauto {name}\n");
        stanzas(name, link, &mut text);
    }
    vec![InterfaceFile { name: "bastium".to_owned(), text }]
}

fn stanzas(name: &str, link: &Link, text: &mut String) {
    let mut made = match &link.made {
        Made::Port => String::new(),
        Made::Aggregate(ports) => {
            format!("    bond-slaves {}\n    bond-mode 802.3ad\n", ports.join(" "))
        }
        Made::Vlan { on, .. } => format!("    vlan-raw-device {on}\n"),
    };
    let mut stanza = |family: &str, method: &str, lines: &str| {
        let _ =
            write!(text, "iface {name} {family} {method}\n{}{lines}", std::mem::take(&mut made));
    };
    if link.leased {
        stanza("inet", "dhcp", "");
        stanza("inet6", "auto", "");
    } else if link.addresses.is_empty() {
        stanza("inet", "manual", "");
    }
    let mut first = [true, true];
    for address in &link.addresses {
        let v6 = address.addr().is_ipv6();
        let mut lines = format!("    address {address}\n");
        if v6 {
            lines.push_str("    accept_ra 0\n");
        }
        // Once for each family, behind the address that leads there.
        if std::mem::take(&mut first[usize::from(v6)]) {
            for router in link.routers.iter().filter(|router| router.is_ipv6() == v6) {
                let _ = writeln!(lines, "    gateway {router}");
            }
            for (to, via) in link.routes.iter().filter(|(_, via)| via.is_ipv6() == v6) {
                let _ = writeln!(lines, "    up ip route replace {to} via {via} dev {name}");
            }
        }
        stanza(if v6 { "inet6" } else { "inet" }, "static", &lines);
    }
}

/// What such a file says.
pub(super) fn read(files: &[InterfaceFile]) -> Links {
    let mut links = Links::new();
    let mut name = "";
    for line in files.iter().flat_map(|file| file.text.lines()) {
        let words: Vec<&str> = line.split_whitespace().collect();
        if let ["iface", own, _, method] = words[..] {
            name = own;
            let link = links.entry(name.to_owned()).or_default();
            link.leased |= method == "dhcp";
            continue;
        }
        let Some(link) = links.get_mut(name) else { continue };
        match words[..] {
            ["bond-slaves", ref ports @ ..] => {
                link.made = Made::Aggregate(ports.iter().map(|port| (*port).to_owned()).collect());
            }
            ["vlan-raw-device", on] => {
                let id = name.rsplit_once('.').and_then(|(_, id)| id.parse().ok());
                link.made = Made::Vlan { on: on.to_owned(), id: id.unwrap_or_default() };
            }
            ["address", address] => link.addresses.extend(address.parse::<IpNet>().ok()),
            ["gateway", router] => link.routers.extend(router.parse::<IpAddr>().ok()),
            ["up", "ip", "route", "replace", to, "via", via, "dev", own] if own == name => {
                link.routes.extend(to.parse().ok().zip(via.parse().ok()));
            }
            _ => {}
        }
    }
    links
}
