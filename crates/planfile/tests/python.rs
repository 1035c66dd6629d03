//! Subnets, compared with another implementation of their arithmetic: Python's `ipaddress`. Runs where
//! python3 is there.

#![expect(clippy::cast_possible_truncation, reason = "these numbers are small, or any will do")]

use bastium_core::addressing::{FreeSpace, Subnet, grow};
use bastium_core::space::AddressSet;
use ipnet::IpNet;
use std::io::Write;
use std::process::{Command, Stdio};

/// Reads lines of what we say, and prints those that are not so.
const JUDGE: &str = r#"
import ipaddress, json, sys
count = 0
for line in sys.stdin:
    case = json.loads(line); count += 1
    say = lambda what: print(what, line.strip())
    if case["kind"] == "subnet":
        net = ipaddress.ip_network(case["prefix"])
        if str(net.network_address) != case["network"]: say("network")
        if net.version == 4 and str(net.netmask) != case["mask"]: say("mask")
        if net.version == 4 and net.prefixlen <= 30 and str(net.broadcast_address) != case["broadcast"]: say("broadcast")
        if case["usable"] is not None and len(list(net.hosts())) != case["usable"]: say("usable")
        first = ipaddress.ip_address(case["first"])
        if first != next(iter(net.hosts())): say("first")
        for address, inside in case["members"]:
            if (ipaddress.ip_address(address) in net) != inside: say("member " + address)
    if case["kind"] == "carved":
        space = ipaddress.ip_network(case["space"])
        taken = [ipaddress.ip_network(p) for p in case["taken"]]
        for index, net in enumerate(taken):
            if not net.subnet_of(space): say("outside")
            if any(net.overlaps(other) for other in taken[:index]): say("overlap")
        free = [ipaddress.ip_network(p) for p in case["free"]]
        total = sum(n.num_addresses for n in taken) + sum(n.num_addresses for n in free)
        if total != space.num_addresses: say("lost or doubled")
        if list(ipaddress.collapse_addresses(free)) != sorted(free): say("not the fewest prefixes")
    if case["kind"] == "grown":
        old, new = ipaddress.ip_network(case["old"]), ipaddress.ip_network(case["new"])
        moves = [(ipaddress.ip_network(a), ipaddress.ip_network(b)) for a, b in case["moves"]]
        others = [ipaddress.ip_network(p) for p in case["others"]]
        moved = dict(moves)
        places = [moved.get(other, other) for other in others]
        if any(new.overlaps(place) for place in places): say("grown into others")
        if case["in_place"] != old.subnet_of(new): say("in place")
        if new.prefixlen != case["length"]: say("length")
        for index, place in enumerate(places):
            if any(place.overlaps(other) for other in places[:index]): say("moved onto others")
print("cases", count)
"#;

/// Numbers that look random and are the same each time.
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, end: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
        (self.0 >> 33) % end
    }
}

fn subnet_case(numbers: &mut Numbers) -> String {
    let v4 = numbers.below(3) > 0;
    let bits = numbers.below(1 << 30) as u32;
    let prefix: IpNet = if v4 {
        let length = 8 + numbers.below(24) as u8;
        let address = std::net::Ipv4Addr::from_bits(0x0a00_0000 | bits & 0x00ff_ffff);
        ipnet::Ipv4Net::new(address, length).expect("a length").trunc().into()
    } else {
        let length = 100 + numbers.below(28) as u8;
        let address = (0xfd6b_u128 << 112) | u128::from(bits) << 8 | u128::from(numbers.below(256));
        let address = std::net::Ipv6Addr::from_bits(address);
        ipnet::Ipv6Net::new(address, length).expect("a length").trunc().into()
    };
    let subnet = Subnet::with_first_gateway(prefix).expect("it has room");
    let own = AddressSet::from(prefix);
    let near: Vec<_> = [0u128, 1, 5, 250, 70_000]
        .into_iter()
        .filter_map(|number| {
            let start = Subnet::with_first_gateway(prefix)?.host_number(number);
            start.or_else(|| match prefix.broadcast() {
                std::net::IpAddr::V4(last) => last
                    .to_bits()
                    .checked_add(number as u32 + 1)
                    .map(|b| std::net::Ipv4Addr::from_bits(b).into()),
                std::net::IpAddr::V6(last) => last
                    .to_bits()
                    .checked_add(number + 1)
                    .map(|b| std::net::Ipv6Addr::from_bits(b).into()),
            })
        })
        .map(|address| serde_json::json!([address.to_string(), own.contains(address)]))
        .collect();
    // What Python calls hosts of an IPv6 subnet includes its last address, as here.
    let usable = (subnet.room() < 5_000).then(|| subnet.room() + 1);
    serde_json::json!({
        "kind": "subnet",
        "prefix": prefix.to_string(),
        "network": prefix.network().to_string(),
        "mask": subnet.mask().map(|mask| mask.to_string()),
        "broadcast": subnet.broadcast().map(|address| address.to_string()),
        "usable": usable,
        "first": subnet.gateway().to_string(),
        "members": near,
    })
    .to_string()
}

fn carved_case(numbers: &mut Numbers) -> String {
    let space: IpNet = ["10.44.0.0/16", "10.44.128.0/20", "192.168.0.0/22"]
        [numbers.below(3) as usize]
        .parse()
        .expect("a prefix");
    let mut free = FreeSpace::new(&space.into(), &AddressSet::empty());
    let lengths: Vec<u8> = (0..numbers.below(30)).map(|_| 23 + numbers.below(7) as u8).collect();
    let taken: Vec<String> = lengths
        .into_iter()
        .filter_map(|length| free.take_v4(length))
        .map(|p| p.to_string())
        .collect();
    let free: Vec<String> = free.prefixes().iter().map(ToString::to_string).collect();
    serde_json::json!({ "kind": "carved", "space": space.to_string(), "taken": taken, "free": free })
        .to_string()
}

fn grown_case(numbers: &mut Numbers) -> Option<String> {
    let space: IpNet = "10.44.0.0/21".parse().expect("a prefix");
    let mut free = FreeSpace::new(&space.into(), &AddressSet::empty());
    let count = 2 + numbers.below(9);
    let taken: Vec<IpNet> =
        (0..count).filter_map(|_| free.take_v4(24 + numbers.below(4) as u8)).collect();
    let old = taken[numbers.below(taken.len() as u64) as usize];
    let length = old.prefix_len() - 1 - numbers.below(2) as u8;
    let growth = grow(old, length, &space.into(), &taken)?;
    let moves: Vec<_> = growth.moves.iter().map(|(a, b)| [a.to_string(), b.to_string()]).collect();
    let others: Vec<String> =
        taken.iter().filter(|p| **p != old).map(ToString::to_string).collect();
    let case = serde_json::json!({
        "kind": "grown", "old": old.to_string(), "new": growth.prefix.to_string(),
        "in_place": growth.in_place, "moves": moves, "others": others, "length": length,
    });
    Some(case.to_string())
}

#[expect(clippy::print_stderr, reason = "what is skipped is said")]
#[test]
fn subnets_agree_with_another_implementation() {
    let started = Command::new("python3")
        .args(["-c", JUDGE])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn();
    let Ok(mut judge) = started else {
        eprintln!("skipped: no python3 on this machine to compare with");
        return;
    };
    let mut numbers = Numbers(20_261_124);
    let subnets: Vec<String> = (0..4_000).map(|_| subnet_case(&mut numbers)).collect();
    let carved: Vec<String> = (0..1_000).map(|_| carved_case(&mut numbers)).collect();
    let grown: Vec<String> = (0..2_000).filter_map(|_| grown_case(&mut numbers)).collect();
    assert!(grown.len() > 500, "{} grown", grown.len());
    let count = subnets.len() + carved.len() + grown.len();
    let mut input = judge.stdin.take().expect("its input");
    let lines = [subnets, carved, grown].concat().join("\n");
    let writer = std::thread::spawn(move || input.write_all(lines.as_bytes()));
    let output = judge.wait_with_output().expect("it ends");
    writer.join().expect("no panic").expect("it reads all");
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert_eq!(said, format!("cases {count}\n"));
}
