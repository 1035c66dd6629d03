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
    let mut text = plan_frame(zones, networks);
    for index in 0..exceptions {
        let _ = write!(text, "{}", exception(index, networks));
    }
    text
}

/// A plan of so many zones and networks, without exceptions.
fn plan_frame(zones: usize, networks: usize) -> String {
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

/// A plan of about so many rules in which some pairs of networks have most of them, as in real sites; ranges
/// and narrower denials overlap, and now and then a whole network is let through.
pub(crate) fn skewed(rules: usize) -> String {
    let zones = match rules {
        0..=200 => 4,
        201..=2_000 => 7,
        2_001..=20_000 => 12,
        _ => 20,
    };
    let networks = zones * 2;
    let exceptions = rules.saturating_sub(zones * zones + 3 * networks);
    let base = plan_frame(zones, networks);
    let mut text = base;
    let mut seed = 7u64;
    let mut next = |below: usize| {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (seed >> 33) as usize % below
    };
    let mut ends = (0, 0);
    for index in 0..exceptions {
        if index % 5 == 0 {
            // The lower of two: few networks have most of the exceptions.
            let mut skew = || next(networks).min(next(networks));
            let (from, to) = (skew(), skew());
            ends = (from, if from == to { (to + 1) % networks } else { to });
        }
        let _ = write!(text, "{}", one_of_five(index, ends));
    }
    text
}

/// All exceptions between the same two networks.
pub(crate) fn hot(rules: usize) -> String {
    let mut text = plan_frame(4, 8);
    for index in 0..rules.saturating_sub(40) {
        let _ = write!(text, "{}", one_of_five(index, (0, 3)));
    }
    text
}

/// Of five exceptions with ports of their own, the last denies a part of the first.
fn one_of_five(index: usize, (from, to): (usize, usize)) -> String {
    let group = index / 5;
    let (low, high) = (1_000 + 3 * (group % 20_000), 1_002 + 3 * (group % 20_000));
    let tcp = if (group / 20_000).is_multiple_of(2) { "tcp" } else { "udp" };
    let host = index % 20;
    let (source, target, service, action) = match index % 5 {
        0 if group.is_multiple_of(50) => {
            (format!("n{from}"), format!("n{to}"), format!("{tcp}/{low}-{high}"), "allow")
        }
        0 => (format!("n{from}"), format!("h{to}-{host}"), format!("{tcp}/{low}-{high}"), "allow"),
        1 => (
            format!("h{from}-{host}"),
            format!("h{to}-{}", host / 2),
            format!("{tcp}/{low}"),
            "allow",
        ),
        2 => (
            format!("10.44.{}.40-10.44.{}.47", from + 2, from + 2),
            format!("h{to}-{host}"),
            format!("{tcp}/{low}-{high}"),
            "allow",
        ),
        3 => (
            format!("h{from}-{host} + h{from}-{}", (host + 7) % 20),
            format!("h{to}-2"),
            format!("{tcp}/{high}"),
            "allow",
        ),
        _ => (
            format!("h{from}-{host}"),
            format!("h{to}-{}", (index - 4) % 20),
            format!("{tcp}/{low}"),
            "block",
        ),
    };
    format!(
        "[exception.e{index}]\nfrom = \"{source}\"\nto = \"{target}\"\nservice = \"{service}\"\naction = \"{action}\"\nwhy = \"made\"\n"
    )
}

/// A plan of 100 networks with so many hosts and exceptions.
pub(crate) fn wide(hosts: usize, exceptions: usize) -> String {
    let (networks, zones) = (100, 10);
    let mut text = String::from(
        "bastium = 1\n[site]\nname = \"Made\"\nspace = [\"10.0.0.0/8\"]\n[gateway]\nports = [\"wan1\", \"lan1\"]\n\
         [uplink.fibre]\nport = \"wan1\"\naddress = \"198.51.100.14/30\"\n",
    );
    for zone in 0..zones {
        let trust = ["high", "medium", "low"][zone % 3];
        let uses = "uses-gateway-for = [\"dns\", \"dhcp\"]";
        let _ = writeln!(text, "[zone.z{zone}]\ntrust = \"{trust}\"\n{uses}");
    }
    for network in 0..networks {
        let (zone, vlan) = (network % zones, network + 2);
        let _ = writeln!(
            text,
            "[network.n{network}]\nzone = \"z{zone}\"\nvlan = {vlan}\nport = \"lan1\"\n\
             subnet = \"10.1.{network}.0/24\"\ndhcp = \"200-249\"\nhosts = 30"
        );
    }
    for host in 0..hosts {
        let (network, last) = (host % networks, 2 + host / networks);
        let address = format!("10.1.{network}.{last}");
        let _ = writeln!(text, "[host.h{host}]\nnetwork = \"n{network}\"\naddress = \"{address}\"");
    }
    let names: Vec<String> = (0..zones).map(|zone| format!("z{zone}")).collect();
    let _ = writeln!(text, "[matrix]\ngrid = '''\n{} internet", names.join(" "));
    for name in &names {
        let _ = writeln!(text, "{name} {} allow", vec!["block"; zones].join(" "));
    }
    let _ = writeln!(text, "internet {} -\n'''", vec!["block"; zones].join(" "));
    for index in 0..exceptions {
        let (from, to) = (index * 7 % hosts, (index * 13 + 1) % hosts);
        let target = if index % 5 == 0 { format!("n{}", to % networks) } else { format!("h{to}") };
        let _ = writeln!(
            text,
            "[exception.e{index}]\nfrom = \"h{from}\"\nto = \"{target}\"\nservice = \"tcp/{}\"\n\
             action = \"allow\"\nwhy = \"made\"",
            1_000 + index % 3_000
        );
    }
    text
}

/// A plan whose networks all have to be carved.
pub(crate) fn carved(networks: usize) -> String {
    let mut text = String::from(
        "bastium = 1\n[site]\nname = \"Carved\"\nspace = [\"10.0.0.0/8\", \"fd00:1::/40\"]\n[zone.a]\n\
         trust = \"low\"\nuses-gateway-for = [\"dns\"]\n[matrix]\ngrid = '''\na internet\na block block\n\
         internet block -\n'''\n",
    );
    for network in 0..networks {
        let hosts = [3, 5, 10, 20, 50, 100, 200][network * 31 % 7];
        let _ = writeln!(text, "[network.n{network}]\nzone = \"a\"\nhosts = {hosts}");
    }
    text
}
