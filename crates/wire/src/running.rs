//! What a gateway reports about itself before anything is changed.

use crate::answer::Answer;
use bastium_gateway::nftables::{CUT_TABLE, Flow, RunningTable, TABLE, being_cut};
use ipnet::IpNet;
use serde_json::Value;
use std::collections::BTreeMap;
use std::net::IpAddr;

/// So many bytes of connections are read, as the gateway's script has it.
const MOST_CONNECTIONS: usize = 8_000_000;

/// What runs on a gateway. All texts are its own words.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Running {
    /// What `nft list ruleset` prints.
    pub ruleset: String,
    /// Bastium's table alone, with counters; none where there is none.
    pub table: Option<String>,
    /// The same without counters, with the handle of each line.
    pub handles: String,
    /// The file that this table was loaded from, if it still runs as it was loaded.
    pub loaded_from: Option<String>,
    /// Settings of the kernel by their names, such as `net.ipv4.ip_forward`.
    pub settings: BTreeMap<String, String>,
    /// Its interfaces.
    pub addresses: Vec<Addresses>,
    /// The file of the name server that Bastium keeps there.
    pub names: Option<String>,
    /// The files for its interfaces that Bastium keeps there, by their paths.
    pub files: BTreeMap<String, String>,
    /// Whether it has such a name server.
    pub has_dnsmasq: bool,
    /// Whether a restart loads the rules by the unit of [`boot_files`](bastium_gateway::boot::boot_files).
    pub starts: bool,
    /// From where, to where and to which port it is being managed at the moment.
    pub managed: Option<(IpAddr, IpAddr, u16)>,
    /// The connections that it follows; none where its kernel does not list them.
    pub connections: Option<Vec<Connection>>,
    /// Whether there are more connections than could be read.
    pub connections_cut: bool,
    /// What those who began the connections send that it is cutting; none where it has no such table.
    pub cut: Option<Vec<Flow>>,
    /// How far its clock is from UTC, in seconds; none where it does not say.
    pub offset: Option<i32>,
}

/// A connection that a gateway follows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
#[non_exhaustive]
pub struct Connection {
    /// What the originator sends, as it comes to the gateway.
    pub begun: Flow,
    /// What comes back.
    pub back: Flow,
    /// For how many seconds the gateway remembers it without packets.
    pub seconds: u64,
}

/// An interface of a gateway, with its addresses.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Addresses {
    /// Its name.
    pub interface: String,
    /// Its addresses, each with the prefix length on the link.
    pub addresses: Vec<IpNet>,
}

impl Addresses {
    /// Whether an address with that prefix length is one of them.
    pub fn has(&self, address: IpAddr, length: u8) -> bool {
        self.addresses.iter().any(|one| one.addr() == address && one.prefix_len() == length)
    }
}

impl Running {
    pub(crate) fn new(answer: &Answer) -> Self {
        let text = |name: &str| answer.text(name).unwrap_or_default();
        let listing = answer.text("old.listing").filter(|listing| !listing.is_empty());
        let known = ["loaded", "kept"].iter().find_map(|from| {
            let same = answer.text(&format!("{from}.listing")) == listing && listing.is_some();
            same.then(|| answer.text(&format!("{from}.rules"))).flatten()
        });
        Self {
            cut: being_cut(&text("ruleset")),
            ruleset: text("ruleset"),
            table: answer.text("table"),
            handles: text("handles"),
            loaded_from: known,
            settings: settings(&text("settings")),
            addresses: addresses(&text("addresses")),
            names: answer.text("names"),
            files: answer.beginning("file:").collect(),
            has_dnsmasq: answer.text("has-dnsmasq").is_some(),
            starts: answer.text("starts").is_some(),
            managed: managed(&text("connection")),
            connections: answer.text("connections").map(|text| connections(&text)),
            connections_cut: answer
                .text("connections")
                .is_some_and(|text| text.len() >= MOST_CONNECTIONS),
            offset: offset(text("zone").trim()),
        }
    }

    /// Bastium's table, for a transaction that leads from it to another.
    pub fn running_table(&self) -> RunningTable<'_> {
        let listing = self.table.as_deref().unwrap_or_default();
        RunningTable::new(listing, &self.handles, self.loaded_from.as_deref())
    }

    /// One of its interfaces.
    pub fn interface(&self, name: &str) -> Option<&Addresses> {
        self.addresses.iter().find(|one| one.interface == name)
    }

    /// The tables that are not Bastium's: family and name.
    pub fn other_tables(&self) -> Vec<&str> {
        let cut = self.cut.is_some().then(cut);
        tables(&self.ruleset)
            .filter(|name| *name != own() && Some(*name) != cut.as_deref())
            .collect()
    }

    /// What would run with another file in the place of Bastium's table, and nothing cut.
    pub fn with(&self, rules: &str) -> String {
        format!("{}\n{rules}", without(&self.without_cut(), &own()))
    }

    /// The rule set without the connections that are being cut.
    pub fn without_cut(&self) -> String {
        match self.cut {
            Some(_) => without(&self.ruleset, &cut()),
            None => self.ruleset.clone(),
        }
    }

    /// Whether an address is one of its own.
    pub fn is_own(&self, address: IpAddr) -> bool {
        self.addresses.iter().flat_map(|one| &one.addresses).any(|one| one.addr() == address)
    }
}

fn own() -> String {
    format!("inet {TABLE}")
}

fn cut() -> String {
    format!("inet {CUT_TABLE}")
}

fn tables(ruleset: &str) -> impl Iterator<Item = &str> {
    ruleset.lines().filter_map(|line| line.strip_prefix("table ")?.strip_suffix(" {"))
}

/// A listing without one of its tables. A table begins and ends at the margin.
fn without(ruleset: &str, table: &str) -> String {
    let begin = format!("table {table} {{");
    let mut within = false;
    let mut kept = String::new();
    for line in ruleset.lines() {
        within |= line == begin;
        if !within {
            kept.push_str(line);
            kept.push('\n');
        }
        within &= line != "}";
    }
    kept
}

pub(crate) fn settings(text: &str) -> BTreeMap<String, String> {
    let pairs = text.lines().filter_map(|line| line.split_once(" = "));
    pairs.map(|(key, value)| (key.trim().to_owned(), value.trim().to_owned())).collect()
}

/// What `ip -j address` prints.
fn addresses(json: &str) -> Vec<Addresses> {
    let json: Value = serde_json::from_str(json).unwrap_or_default();
    let interfaces = json.as_array().into_iter().flatten().filter_map(|one| {
        let addresses = one["addr_info"].as_array().into_iter().flatten().filter_map(|address| {
            let own: IpAddr = address["local"].as_str()?.parse().ok()?;
            IpNet::new(own, address["prefixlen"].as_u64()?.try_into().ok()?).ok()
        });
        let interface = one["ifname"].as_str()?.to_owned();
        Some(Addresses { interface, addresses: addresses.collect() })
    });
    interfaces.collect()
}

/// What the kernel lists in `/proc/net/nf_conntrack`, of TCP and UDP. A line has both directions; the first is the one that it
/// began in.
pub(crate) fn connections(text: &str) -> Vec<Connection> {
    let connection = |line: &str| {
        let mut words = line.split_whitespace();
        let (_, _, name, protocol) = (words.next()?, words.next()?, words.next()?, words.next()?);
        if !["tcp", "udp"].contains(&name) || name == "tcp" && !line.contains(" ESTABLISHED ") {
            return None;
        }
        let (protocol, seconds) = (protocol.parse().ok()?, words.next()?.parse().ok()?);
        let mut said = |key: &str| words.find_map(|word| word.strip_prefix(key));
        let mut flow = || {
            Some(Flow {
                from: said("src=")?.parse().ok()?,
                to: said("dst=")?.parse().ok()?,
                protocol,
                from_port: said("sport=")?.parse().ok()?,
                to_port: said("dport=")?.parse().ok()?,
            })
        };
        Some(Connection { begun: flow()?, back: flow()?, seconds })
    };
    text.lines().filter_map(connection).collect()
}

/// What `date +%z` prints: hours and minutes, such as `+0130`.
fn offset(text: &str) -> Option<i32> {
    let (sign, digits) = match text.split_at_checked(1)? {
        ("+", digits) => (1, digits),
        ("-", digits) => (-1, digits),
        _ => return None,
    };
    let number: i32 = digits.parse().ok().filter(|_| digits.len() == 4 && digits.is_ascii())?;
    Some(sign * (number / 100 * 3600 + number % 100 * 60))
}

/// What `ssh` leaves in `SSH_CONNECTION`: two addresses, each with its port.
fn managed(text: &str) -> Option<(IpAddr, IpAddr, u16)> {
    let mut words = text.split_whitespace();
    let address = |word: &str| word.split('%').next()?.parse().ok();
    let (from, _) = (address(words.next()?)?, words.next()?);
    Some((from, address(words.next()?)?, words.next()?.parse().ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn its_own_words_are_taken_apart() {
        let ruleset = "table inet other {\n\tchain a {\n\t}\n}\ntable inet bastium {\n\tchain b {\n\t}\n}\ntable ip nat {\n}\n";
        let running = Running { ruleset: ruleset.to_owned(), ..Running::default() };
        assert_eq!(running.other_tables(), ["inet other", "ip nat"]);
        assert_eq!(
            running.with("NEW"),
            "table inet other {\n\tchain a {\n\t}\n}\ntable ip nat {\n}\n\nNEW"
        );
        let json = r#"[{"ifname":"lan1.24","addr_info":[{"local":"10.44.24.1","prefixlen":24},{"local":"x"}]},{"ifname":"wan"},7]"#;
        let lan = Addresses {
            interface: "lan1.24".to_owned(),
            addresses: vec!["10.44.24.1/24".parse().expect("a prefix")],
        };
        let wan = Addresses { interface: "wan".to_owned(), addresses: Vec::new() };
        assert_eq!(addresses(json), [lan, wan]);
        assert!(addresses("{").is_empty());
        let expected = Some((
            "fe80::7".parse().expect("an address"),
            "fe80::1".parse().expect("an address"),
            22,
        ));
        assert_eq!(managed("fe80::7%lan1 50000 fe80::1%lan1 22"), expected);
        assert_eq!(managed("nonsense"), None);
        assert_eq!(
            (offset("+0130"), offset("-0700"), offset("UTC"), offset("")),
            (Some(5400), Some(-25_200), None, None)
        );
        let listed = "ipv4     2 tcp      6 431999 ESTABLISHED src=10.44.24.100 dst=10.44.40.10 sport=40000 dport=443 src=10.44.40.10 dst=10.44.24.100 sport=443 dport=40000 [ASSURED] mark=0 zone=0 use=2\n\
                      ipv4     2 tcp      6 9 TIME_WAIT src=10.44.24.100 dst=10.44.40.10 sport=1 dport=443 src=10.44.40.10\nipv6 10 icmpv6 58 29 src=::1 dst=::1 type=128\n\nnonsense tcp";
        let begun = Flow {
            from: "10.44.24.100".parse().expect("an address"),
            to: "10.44.40.10".parse().expect("an address"),
            protocol: 6,
            from_port: 40_000,
            to_port: 443,
        };
        let back = Flow {
            from: begun.to,
            to: begun.from,
            from_port: begun.to_port,
            to_port: begun.from_port,
            ..begun
        };
        assert_eq!(connections(listed), [Connection { begun, back, seconds: 431_999 }]);
    }
}
