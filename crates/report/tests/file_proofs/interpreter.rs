//! A rule file carried out one packet at a time, as plainly as it can be: words compared with words. It
//! knows nothing of packet sets, and is there to tell what a change of the file changed.

use bastium_core::plan::Plan;
use bastium_core::space::{Packet, Protocol};
use ipnet::IpNet;
use std::collections::HashMap;
use std::net::IpAddr;

/// A file, cut into its parts.
#[derive(Debug, Default)]
pub(crate) struct File {
    sets: HashMap<String, Vec<String>>,
    maps: HashMap<String, Vec<String>>,
    chains: HashMap<String, Vec<Vec<String>>>,
    policies: HashMap<String, String>,
}

/// What became of a packet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Fate {
    pub(crate) verdict: String,
    pub(crate) logged: bool,
}

/// A packet with what surrounds it.
pub(crate) struct Seen<'p> {
    pub(crate) packet: &'p Packet,
    pub(crate) comes_by: String,
    pub(crate) leaves_by: String,
    pub(crate) from_own: bool,
    pub(crate) to_own: bool,
    pub(crate) moved: bool,
    pub(crate) domains: Vec<(String, IpAddr)>,
}

fn words(line: &str) -> Vec<String> {
    let mut found = Vec::new();
    let mut quoted = false;
    let mut word = String::new();
    for letter in line.chars() {
        match letter {
            '"' => quoted = !quoted,
            c if quoted => word.push(if c == ' ' { '\u{1}' } else { c }),
            c if c.is_whitespace() || c == ',' => {
                found.extend((!word.is_empty()).then(|| std::mem::take(&mut word)));
            }
            c => word.push(c),
        }
    }
    found.extend((!word.is_empty()).then_some(word));
    found
}

impl File {
    pub(crate) fn read(text: &str) -> Self {
        let mut file = Self::default();
        let mut block: Option<(String, String)> = None;
        let mut elements = false;
        for line in text.lines() {
            let line = line.trim();
            if line.is_empty() || line.starts_with('#') {
                continue;
            }
            let all = words(line);
            let head = ["set", "map", "chain", "limit"].contains(&all[0].as_str());
            if let (None, true, [kind, name, ..]) = (&block, head, all.as_slice()) {
                block = Some((kind.clone(), name.clone()));
                if kind == "chain" {
                    file.chains.entry(name.clone()).or_default();
                }
                continue;
            }
            let Some((kind, name)) = &block else { continue };
            match (kind.as_str(), line) {
                (_, "}") if elements => elements = false,
                (_, "}") => block = None,
                ("set" | "map", line) if line.starts_with("elements") => elements = true,
                ("set", _) if elements => {
                    file.sets.entry(name.clone()).or_default().push(all.join(" "))
                }
                ("map", _) if elements => {
                    file.maps.entry(name.clone()).or_default().push(all.join(" "))
                }
                ("chain", line) if line.starts_with("type") => {
                    let policy = line.rsplit(' ').next().unwrap_or_default().to_owned();
                    let hook = line.split(' ').nth(3).unwrap_or_default().to_owned();
                    if line.starts_with("type filter") {
                        file.policies.insert(format!("{hook} {name}"), policy);
                    }
                }
                ("chain", _) => file.chains.entry(name.clone()).or_default().push(all),
                _ => {}
            }
        }
        file
    }

    /// What the chain at a hook does.
    pub(crate) fn carry_out(&self, hook: &str, seen: &Seen<'_>) -> Fate {
        let mut fate = Fate { verdict: "accept".to_owned(), logged: false };
        let own = self.policies.iter().find(|(name, _)| name.split(' ').next() == Some(hook));
        if let Some((name, policy)) = own {
            let chain = name.split(' ').nth(1).unwrap_or_default();
            let found = self.chain(chain, seen, &mut fate.logged, 0);
            fate.verdict = found.unwrap_or_else(|| policy.clone());
        }
        fate
    }

    fn chain(
        &self,
        name: &str,
        seen: &Seen<'_>,
        logged: &mut bool,
        depth: usize,
    ) -> Option<String> {
        assert!(depth < 20, "chains lead in circles");
        for rule in &self.chains[name] {
            if let Some((verdict, comes_back)) = self.rule(rule, seen, logged, depth)
                && (!comes_back || !verdict.is_empty())
            {
                return (!verdict.is_empty()).then_some(verdict);
            }
        }
        None
    }

    /// A verdict, and whether an empty one goes on with the next rule.
    fn rule(
        &self,
        rule: &[String],
        seen: &Seen<'_>,
        logged: &mut bool,
        depth: usize,
    ) -> Option<(String, bool)> {
        let mut at = 0;
        while at < rule.len() {
            match rule[at].as_str() {
                "counter" => at += 1,
                "log" => {
                    *logged = true;
                    at += 1;
                    while rule.get(at).is_some_and(|word| word == "prefix" || word == "flags") {
                        at += 2;
                    }
                }
                "comment" => at += 2,
                // A log at a limited rate is for the first packet in any case. What is decided by a rate is decided by luck.
                "limit" if rule.get(at + 1).is_some_and(|word| word == "rate") => {
                    at += 3;
                    at += if rule.get(at).is_some_and(|word| word == "burst") { 3 } else { 0 };
                    if rule.get(at).is_none_or(|word| word != "log") {
                        return Some(("sometimes".to_owned(), false));
                    }
                }
                "limit" => return None,
                "accept" | "drop" => return Some((rule[at].clone(), false)),
                "reject" => {
                    return Some((format!("reject {}", rule[at + 2..at + 4].join(" ")), false));
                }
                "jump" | "goto" => {
                    let found = self.chain(&rule[at + 1], seen, logged, depth + 1);
                    return Some((found.unwrap_or_default(), rule[at] == "jump"));
                }
                "ct" if rule.get(at + 2).is_some_and(|word| word == "set") => at += 4,
                _ => {
                    let (keys, next) = keys(rule, at);
                    if rule[next] == "vmap" {
                        let map = &self.maps[rule[next + 1].trim_start_matches('@')];
                        return self.look_up(map, &keys, seen, logged, depth);
                    }
                    let (holds, next) = self.holds(rule, &keys, next, seen);
                    if !holds {
                        return None;
                    }
                    at = next;
                }
            }
        }
        None
    }

    fn look_up(
        &self,
        map: &[String],
        keys: &[String],
        seen: &Seen<'_>,
        logged: &mut bool,
        depth: usize,
    ) -> Option<(String, bool)> {
        let mine: Option<Vec<String>> = keys.iter().map(|key| value(key, seen)).collect();
        let mine = mine?.join(" . ");
        let (_, does) =
            map.iter().filter_map(|one| one.split_once(" : ")).find(|(own, _)| *own == mine)?;
        let (way, chain) = does.split_once(' ')?;
        let found = self.chain(chain, seen, logged, depth + 1);
        Some((found.unwrap_or_default(), way == "jump"))
    }

    fn holds(&self, rule: &[String], keys: &[String], at: usize, seen: &Seen<'_>) -> (bool, usize) {
        let mut at = at;
        if keys == ["ct status"] && rule[at] == "&" {
            return (!seen.moved, at + 4);
        }
        let not = rule[at] == "!=";
        at += usize::from(not);
        let (choices, next): (Vec<String>, usize) = if let Some(name) = rule[at].strip_prefix('@') {
            (self.elements(name, seen), at + 1)
        } else if rule[at] == "{" {
            let end = (at..rule.len()).find(|place| rule[*place] == "}").expect("a closed set");
            let joined = rule[at + 1..end].join(" ");
            (split_elements(&joined, keys.len()), end + 1)
        } else {
            (vec![rule[at].clone()], at + 1)
        };
        let Some(mine) = keys.iter().map(|key| value(key, seen)).collect::<Option<Vec<_>>>() else {
            return (false, next);
        };
        let fits = |choice: &String| {
            let parts: Vec<&str> = choice.split(" . ").collect();
            parts.len() == mine.len()
                && parts.iter().zip(&mine).zip(keys).all(|((part, own), key)| alike(key, part, own))
        };
        (choices.iter().any(fits) != not, next)
    }

    fn elements(&self, name: &str, seen: &Seen<'_>) -> Vec<String> {
        let filled = seen.domains.iter().filter(|(set, _)| set == name);
        let filled: Vec<String> = filled.map(|(_, address)| address.to_string()).collect();
        self.sets.get(name).cloned().unwrap_or_default().into_iter().chain(filled).collect()
    }
}

/// Elements of so many parts each.
fn split_elements(joined: &str, parts: usize) -> Vec<String> {
    let all: Vec<&str> = joined.split(' ').filter(|word| *word != ".").collect();
    all.chunks(parts).map(|chunk| chunk.join(" . ")).collect()
}

fn keys(rule: &[String], at: usize) -> (Vec<String>, usize) {
    let (mut keys, mut at) = (Vec::new(), at);
    loop {
        let two = [
            "ip", "ip6", "tcp", "udp", "sctp", "dccp", "udplite", "th", "meta", "icmp", "icmpv6",
            "ct",
        ];
        if rule[at] == "fib" {
            keys.push(format!("fib {}", rule[at + 1]));
            at += 3;
        } else if two.contains(&rule[at].as_str()) {
            keys.push(format!("{} {}", rule[at], rule[at + 1]));
            at += 2;
        } else {
            keys.push(rule[at].clone());
            at += 1;
        }
        if rule[at] != "." {
            return (keys, at);
        }
        at += 1;
    }
}

/// What a packet has where a key looks.
fn value(key: &str, seen: &Seen<'_>) -> Option<String> {
    let packet = seen.packet;
    let v4 = packet.source().is_ipv4();
    let protocol = packet.service.protocol();
    let port = || packet.service.destination_port().map(|port| port.to_string());
    let icmp = |own: Protocol, first: bool| {
        let (kind, code) = packet.service.icmp_kind()?;
        (protocol == own).then(|| if first { kind } else { code }.to_string())
    };
    match key {
        "iifname" => (!seen.comes_by.is_empty()).then(|| seen.comes_by.clone()),
        "oifname" => (!seen.leaves_by.is_empty()).then(|| seen.leaves_by.clone()),
        "ip saddr" => v4.then(|| packet.source().to_string()),
        "ip daddr" => v4.then(|| packet.destination().to_string()),
        "ip6 saddr" => (!v4).then(|| packet.source().to_string()),
        "ip6 daddr" => (!v4).then(|| packet.destination().to_string()),
        "meta nfproto" => Some(if v4 { "ipv4" } else { "ipv6" }.to_owned()),
        "meta l4proto" => Some(protocol.0.to_string()),
        "th dport" => port(),
        "icmp type" if v4 => icmp(Protocol::ICMP, true),
        "icmp code" if v4 => icmp(Protocol::ICMP, false),
        "icmpv6 type" if !v4 => icmp(Protocol::ICMP_V6, true),
        "icmpv6 code" if !v4 => icmp(Protocol::ICMP_V6, false),
        "ct state" => Some("new".to_owned()),
        "ct mark" => Some("0".to_owned()),
        "ct status" => Some(if seen.moved { "dnat" } else { "none" }.to_owned()),
        "fib saddr" => Some(if seen.from_own { "local" } else { "unicast" }.to_owned()),
        "fib daddr" => Some(if seen.to_own { "local" } else { "unicast" }.to_owned()),
        "meta day" => packet.at.to_string().get(..3).map(str::to_lowercase),
        "meta hour" => Some((packet.at.number() % 1440).to_string()),
        key => {
            let (word, _) = key.split_once(' ')?;
            let number = Protocol::from_keyword(word)?;
            (number == protocol).then(port)?
        }
    }
}

/// Whether an element is what a packet has, or holds it.
fn alike(key: &str, element: &str, own: &str) -> bool {
    if key == "meta day" {
        return element.to_lowercase().starts_with(own);
    }
    if key == "meta hour" {
        let minute = |word: &str| -> Option<u32> {
            Some(word.get(..2)?.parse::<u32>().ok()? * 60 + word.get(3..5)?.parse::<u32>().ok()?)
        };
        let own: u32 = own.parse().expect("a minute");
        let ends = element.split_once('-').map(|(low, high)| (minute(low), minute(high)));
        return matches!(ends, Some((Some(low), Some(high))) if low <= own && own <= high);
    }
    if let Ok(address) = own.parse::<IpAddr>() {
        if let Ok(prefix) = element.parse::<IpNet>() {
            return prefix.contains(&address);
        }
        if let Some((low, high)) = element.split_once('-') {
            let ends = low.parse::<IpAddr>().ok().zip(high.parse::<IpAddr>().ok());
            return ends.is_some_and(|(low, high)| {
                low.is_ipv4() == address.is_ipv4() && low <= address && address <= high
            });
        }
        return element.parse() == Ok(address);
    }
    if let (Ok(number), Some((low, high))) = (own.parse::<u64>(), element.split_once('-')) {
        let ends = low.parse::<u64>().ok().zip(high.parse::<u64>().ok());
        return ends.is_some_and(|(low, high)| low <= number && number <= high);
    }
    if key == "meta l4proto" {
        let named = Protocol::from_keyword(element).map(|protocol| protocol.0.to_string());
        return element == own || named.as_deref() == Some(own);
    }
    element.split(',').any(|word| word == own)
}

/// What surrounds a packet of a plan, and the hook that it comes to.
pub(crate) fn seen<'p>(plan: &Plan, packet: &'p Packet) -> Option<(&'static str, Seen<'p>)> {
    let own = plan.gateway_addresses();
    let destination = packet.destination();
    let begun = packet.enters == plan.gateway_interface();
    let mine = |address: IpAddr| own.contains(address);
    let network = plan.network_of(destination).map(|id| plan.network_interface(id));
    let behind = plan.routes().iter().filter(|route| route.reach.contains(destination));
    let behind = behind.map(|route| plan.network_interface(route.network)).next();
    let uplink = (!plan.uplinks().is_empty()).then(|| plan.uplink_interface(0));
    let out = network.or(behind).or(uplink)?;
    // To everyone, or to an address that only stands for others: which of them are the gateway's is not asked here.
    let plain = !mine(destination)
        && !bastium_core::addressing::multicast().contains(destination)
        && !bastium_core::addressing::link_local().contains(destination)
        && !broadcast(plan, destination);
    let hook = match (begun, plain) {
        (true, _) => "output",
        (_, true) => "forward",
        (_, false) => "input",
    };
    let leaves_by = if hook == "input" { None } else { plan.device_name(out) };
    let domains = plan.domains().iter().flat_map(|domain| {
        let [v4, v6] = domain.placeholder.addresses();
        [(format!("domain_{}_v4", domain.name), v4), (format!("domain_{}_v6", domain.name), v6)]
    });
    let comes_by = if begun { None } else { plan.device_name(packet.enters) };
    let seen = Seen {
        packet,
        comes_by: comes_by.unwrap_or_default(),
        leaves_by: leaves_by.unwrap_or_default(),
        from_own: mine(packet.source()),
        to_own: mine(destination),
        moved: false,
        domains: domains.collect(),
    };
    Some((hook, seen))
}

fn broadcast(plan: &Plan, address: IpAddr) -> bool {
    let inside = plan.networks().iter().flat_map(|network| network.subnets.iter().copied());
    let all = inside.chain(plan.uplinks().iter().flat_map(|uplink| uplink.subnets()));
    let mut all = all.flat_map(|subnet| [subnet.broadcast(), subnet.anycast()]).flatten();
    address == IpAddr::from([255, 255, 255, 255]) || all.any(|own| own == address)
}
