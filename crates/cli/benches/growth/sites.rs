//! Made sites and files that grow in one direction each.

use std::fmt::Write as _;

/// The row that cells are taken from; made so, because a made matrix should be neither empty nor full.
fn noise(seed: &mut u64, below: usize) -> usize {
    *seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
    (*seed >> 33) as usize % below
}

/// So many networks in so many zones, with a matrix, and without exceptions.
pub(crate) fn networks(networks: usize, zones: usize) -> String {
    let mut text = String::from(
        "bastium = 1\n[site]\nname = \"A made site\"\nspace = [\"10.0.0.0/8\"]\n[gateway]\nports = [\"wan1\", \"lan1\"]\nrules = \"every-cell\"\n\
         [gateway.manage]\nfrom = \"n0\"\nservice = \"ssh\"\n[uplink.fibre]\nport = \"wan1\"\naddress = \"198.51.100.14/30\"\n",
    );
    for zone in 0..zones {
        let uses = "uses-gateway-for = [\"dns\", \"dhcp\"]";
        let _ = writeln!(text, "[zone.z{zone}]\ntrust = \"medium\"\n{uses}");
    }
    for network in 0..networks {
        let (zone, vlan) = (network % zones, network + 2);
        let (high, low) = (network / 256 + 1, network % 256);
        let _ = writeln!(
            text,
            "[network.n{network}]\nzone = \"z{zone}\"\nvlan = {vlan}\nport = \"lan1\"\nhosts = 20\n\
             subnet = \"10.{high}.{low}.0/24\"\ndhcp = \"100-199\""
        );
    }
    let mut names: Vec<String> = (0..zones).map(|zone| format!("z{zone}")).collect();
    names.push("internet".to_owned());
    let mut seed = 1;
    let _ = writeln!(text, "[matrix]\nlog = \"block\"\ngrid = '''\n{}", names.join(" "));
    for from in &names {
        let cells: Vec<&str> = names
            .iter()
            .map(|to| match noise(&mut seed, 4) {
                _ if from == to => "-",
                0 => "allow",
                _ => "block",
            })
            .collect();
        let _ = writeln!(text, "{from} {}", cells.join(" "));
    }
    text.push_str("'''\n");
    text
}

/// One exception in a plan of four networks.
fn exception(name: &str, service: &str, action: &str) -> String {
    format!(
        "[exception.{name}]\nfrom = \"n0\"\nto = \"n1\"\nservice = \"{service}\"\naction = \"{action}\"\nwhy = \"made\"\n"
    )
}

/// So many exceptions between the same two networks, each within the one before, in turn allowed and blocked.
pub(crate) fn nested(exceptions: usize) -> String {
    let mut text = networks(4, 2);
    for index in 0..exceptions {
        let service = format!("tcp/{}-{}", 1_000 + index, 60_000 - index);
        text += &exception(&format!("e{index}"), &service, ["allow", "block"][index % 2]);
    }
    text
}

/// One service of so many odd ports, and one exception for it.
pub(crate) fn odd_ports(ports: usize) -> String {
    let ports: Vec<String> = (0..ports).map(|port| format!("\"tcp/{}\"", 1 + 2 * port)).collect();
    let service = format!("[service.odd]\nports = [{}]\n", ports.join(", "));
    networks(4, 2) + &service + &exception("e", "odd", "allow")
}

/// Questions with names and ranges, for the demo plan.
pub(crate) fn questions(count: usize) -> String {
    let mut text = "from,to,service\n".to_owned();
    for number in 0..count {
        let last = number % 250 + 1;
        let row = match number % 4 {
            0 => "desks,records,https".to_owned(),
            1 => format!("10.44.24.{last},tills,tcp/{}", number % 60_000 + 1),
            2 => "guests,internet,tcp/1000-2000".to_owned(),
            _ => format!("10.44.80.20-10.44.80.{},records,https", 20 + number % 100),
        };
        text += &format!("{row}\n");
    }
    text
}

/// Questions about single hosts of a made plan.
pub(crate) fn questions_of_hosts(count: usize) -> String {
    let row = |n: usize| format!("h{}-{},n{},tcp/{}\n", n % 8, n % 20, (n + 3) % 8, n + 1);
    "from,to,service\n".to_owned() + &(0..count).map(row).collect::<String>()
}

/// A filter of so many lines, made by somebody else.
pub(crate) fn foreign(lines: usize) -> String {
    let mut text =
        "table inet t {\n chain f {\n  type filter hook forward priority 0; policy drop;\n"
            .to_owned();
    let mut seed = 7;
    for _ in 0..lines {
        let mut next = |below| noise(&mut seed, below);
        let (a, b, c, d) = (next(100), next(250) + 2, next(100), next(250) + 2);
        let port = next(60_000) + 1;
        let _ = writeln!(
            text,
            "  ip saddr 10.44.{a}.{b} ip daddr 10.44.{c}.{d} tcp dport {port} accept"
        );
    }
    text + " }\n}\n"
}

/// A filter with one set of so many ports.
pub(crate) fn foreign_set(ports: usize) -> String {
    let ports: Vec<String> = (0..ports).map(|port| (1 + port * 7).to_string()).collect();
    format!(
        "table inet t {{\n set s {{ type inet_service; elements = {{ {} }} }}\n chain f {{\n  \
         type filter hook forward priority 0; policy drop;\n tcp dport @s accept\n }}\n}}\n",
        ports.join(", ")
    )
}

/// A filter that lets so many ports through, by a line each.
pub(crate) fn foreign_ports(ports: usize) -> String {
    foreign_lines(ports, |port| format!("tcp dport {} accept", 1 + port * 2))
}

/// A filter of so many lines of which nothing is known but that they let something through.
pub(crate) fn foreign_words(lines: usize) -> String {
    foreign_lines(lines, |line| format!("frob{line} accept"))
}

fn foreign_lines(lines: usize, line: impl Fn(usize) -> String) -> String {
    let lines: Vec<String> = (0..lines).map(line).collect();
    format!(
        "table inet t {{\n chain f {{\n  type filter hook forward priority 0; policy drop;\n  {}\n }}\n}}\n",
        lines.join("\n  ")
    )
}

/// A filter of so many chains, each of which leads into the next by two ways: twice as many ways with every one.
pub(crate) fn foreign_chains(chains: usize) -> String {
    let mut text = "table inet t {\n".to_owned();
    for chain in 0..chains {
        let next = chain + 1;
        let _ = writeln!(
            text,
            " chain c{chain} {{ ip saddr != 10.44.{chain}.1 jump c{next}\n tcp dport != {next} jump c{next} }}"
        );
    }
    text + &format!(" chain c{chains} {{ ip daddr 10.44.9.9 drop }}\n")
        + " chain f { type filter hook forward priority 0; policy drop; jump c0 }\n}\n"
}

/// A table of so many hosts for a made plan of four networks, of which most have an address that is taken.
pub(crate) fn clashing_hosts(rows: usize) -> String {
    let row = |n: usize| format!("h{n},n{},10.1.{}.{}\n", n % 4, n % 4, 2 + n / 4 % 90);
    "name,network,address\n".to_owned() + &(0..rows).map(row).collect::<String>()
}
