//! Files for systemd-networkd (systemd.netdev(5), systemd.network(5)).

use super::{InterfaceFile, Link, Links, Made, joined_in, vlans_on};
use std::fmt::Write;

/// One file for what an interface is, where it is made, and one for what it has.
pub(super) fn write(links: &Links) -> Vec<InterfaceFile> {
    let mut files = Vec::new();
    for (name, link) in links {
        if let Some(text) = device(name, link) {
            files.push(InterfaceFile { name: format!("40-bastium-{name}.netdev"), text });
        }
        let text = network(name, link, links);
        files.push(InterfaceFile { name: format!("40-bastium-{name}.network"), text });
    }
    files
}

fn device(name: &str, link: &Link) -> Option<String> {
    match &link.made {
        Made::Port => None,
        Made::Aggregate(_) => {
            Some(format!("[NetDev]\nName={name}\nKind=bond\n\n[Bond]\nMode=802.3ad\n"))
        }
        Made::Vlan { id, .. } => {
            Some(format!("[NetDev]\nName={name}\nKind=vlan\n\n[VLAN]\nId={id}\n"))
        }
    }
}

fn network(name: &str, link: &Link, links: &Links) -> String {
    let mut out = format!("[Match]\nName={name}\n\n[Network]\n");
    let mut say = |key: &str, value: &str| {
        let _ = writeln!(out, "{key}={value}");
    };
    match link.leased {
        true => {
            say("DHCP", "yes");
            say("IPv6AcceptRA", "yes");
        }
        false => say("IPv6AcceptRA", "no"),
    }
    if link.addresses.is_empty() && !link.leased {
        say("LinkLocalAddressing", "no");
    }
    if let Some(bond) = joined_in(links, name) {
        say("Bond", bond);
    }
    for vlan in vlans_on(links, name) {
        say("VLAN", vlan);
    }
    for address in &link.addresses {
        say("Address", &address.to_string());
    }
    for router in &link.routers {
        say("Gateway", &router.to_string());
    }
    for (to, via) in &link.routes {
        let _ = write!(out, "\n[Route]\nDestination={to}\nGateway={via}\n");
    }
    out
}

/// What files say, whoever wrote them: keys that are not known here make nothing.
pub(super) fn read(files: &[InterfaceFile]) -> Links {
    let mut links = Links::new();
    for file in files {
        let settings = settings(&file.text);
        let one = |section, key| all(&settings, section, key).next();
        if file.name.ends_with(".netdev") {
            let Some(name) = one("NetDev", "Name") else { continue };
            let link = links.entry(name.to_owned()).or_default();
            link.made =
                match (one("NetDev", "Kind"), one("VLAN", "Id").and_then(|id| id.parse().ok())) {
                    (Some("bond"), _) => Made::Aggregate(own_ports(files, name)),
                    (Some("vlan"), Some(id)) => Made::Vlan { on: parent(files, name), id },
                    _ => continue,
                };
            continue;
        }
        let Some(name) = one("Match", "Name") else { continue };
        let link = links.entry(name.to_owned()).or_default();
        link.leased = one("Network", "DHCP") == Some("yes");
        link.addresses = parsed(all(&settings, "Network", "Address"));
        link.routers = parsed(all(&settings, "Network", "Gateway"));
        let to = parsed(all(&settings, "Route", "Destination")).into_iter();
        link.routes = to.zip(parsed(all(&settings, "Route", "Gateway"))).collect();
    }
    links
}

fn parsed<'a, T: std::str::FromStr>(words: impl Iterator<Item = &'a str>) -> Vec<T> {
    words.filter_map(|word| word.parse().ok()).collect()
}

/// Section, key and value of each line.
fn settings(text: &str) -> Vec<(&str, &str, &str)> {
    let mut section = "";
    let mut settings = Vec::new();
    for line in text.lines().map(str::trim) {
        if let Some(name) = line.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
            section = name;
        } else if let Some((key, value)) = line.split_once('=') {
            settings.push((section, key, value));
        }
    }
    settings
}

fn all<'a>(
    settings: &'a [(&'a str, &'a str, &'a str)],
    section: &'a str,
    key: &'a str,
) -> impl Iterator<Item = &'a str> {
    let is = move |one: &&(&str, &str, &str)| one.0 == section && one.1 == key;
    settings.iter().filter(is).map(|(_, _, value)| *value)
}

/// The interfaces whose file names this one under a key.
fn naming<'a>(
    files: &'a [InterfaceFile],
    key: &'a str,
    name: &'a str,
) -> impl Iterator<Item = String> + 'a {
    files.iter().filter_map(move |file| {
        let settings = settings(&file.text);
        let names = all(&settings, "Network", key).any(|one| one == name);
        names.then(|| all(&settings, "Match", "Name").next().map(str::to_owned)).flatten()
    })
}

fn parent(files: &[InterfaceFile], name: &str) -> String {
    naming(files, "VLAN", name).next().unwrap_or_default()
}

fn own_ports(files: &[InterfaceFile], name: &str) -> Vec<String> {
    naming(files, "Bond", name).collect()
}
