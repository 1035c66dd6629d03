//! A made site of any size: networks in zones, a matrix, hosts, and exceptions of which every fifth is
//! a narrower one that says the opposite of the one before it.

use std::fmt::Write as _;

/// Writes a plan whose rules number about `rules`.
pub(crate) fn plan(rules: usize) -> String {
    let zones = match rules {
        0..=200 => 5,
        201..=2_000 => 12,
        _ => 30,
    };
    let networks = zones * 2;
    let exceptions = rules.saturating_sub(zones * (zones - 1) + 4 * networks);
    let mut text = String::from(
        "bastium = 1\n[site]\nname = \"A made site\"\nspace = [\"10.44.0.0/16\", \"fd6b:2f4e:91c0::/48\"]\n\
         tie = \"third-octet\"\n[uplink.fibre]\naddress = \"198.51.100.14/30\"\n",
    );
    for zone in 0..zones {
        let _ = writeln!(
            text,
            "[zone.z{zone}]\ntrust = \"medium\"\nuses-gateway-for = [\"dns\", \"dhcp\", \"ping\"]"
        );
    }
    for network in 0..networks {
        let (zone, vlan) = (network / 2, network + 2);
        let _ = writeln!(
            text,
            "[network.n{network}]\nzone = \"z{zone}\"\nvlan = {vlan}\nhosts = 50\ndhcp = \"100-199\""
        );
        for host in 0..20 {
            let (vlan, last) = (network + 2, host + 10);
            let _ = writeln!(
                text,
                "[host.h{network}-{host}]\nnetwork = \"n{network}\"\naddress = \"10.44.{vlan}.{last}\""
            );
        }
    }
    text.push_str("[matrix]\ngrid = '''\n");
    let names: Vec<String> = (0..zones).map(|zone| format!("z{zone}")).collect();
    let _ = writeln!(text, "{} internet", names.join(" "));
    for (row, name) in names.iter().enumerate() {
        let cells: Vec<&str> = (0..zones)
            .map(|column| if (row * 7 + column) % 5 == 0 { "allow" } else { "block" })
            .collect();
        let _ = writeln!(text, "{name} {} allow", cells.join(" "));
    }
    let _ = writeln!(text, "internet {} -\n'''", vec!["block"; zones].join(" "));
    for index in 0..exceptions {
        let _ = write!(text, "{}", exception(index, networks));
    }
    text
}

/// The n-th exception. Ports keep those apart that would contradict each other.
fn exception(index: usize, networks: usize) -> String {
    let (pair, narrow) = (index - index % 5, index % 5 == 4);
    let (from, to) = (pair * 31 % networks, (pair * 17 + 3) % networks);
    let to = if to == from { (to + 1) % networks } else { to };
    let port = 1_000 + pair % 50_000;
    let (source, target, action) = match index % 5 {
        0 => (format!("n{from}"), format!("n{to}"), "allow"),
        1 => (format!("h{from}-{}", index % 20), format!("h{to}-{}", index % 20), "allow"),
        2 => (format!("10.44.{}.40-10.44.{}.47", from + 2, from + 2), format!("h{to}-1"), "allow"),
        3 => (format!("h{from}-{} + h{from}-3", index % 20), format!("h{to}-2"), "allow"),
        _ => (format!("h{from}-2"), format!("h{to}-4"), "block"),
    };
    let service =
        if narrow { format!("tcp/{port}") } else { format!("tcp/{port}-{}", port + index % 5) };
    format!(
        "[exception.e{index}]\nfrom = \"{source}\"\nto = \"{target}\"\nservice = \"{service}\"\naction = \"{action}\"\nwhy = \"made\"\n"
    )
}
