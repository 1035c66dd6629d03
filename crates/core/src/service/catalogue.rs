//! The built-in services, by their IANA names where the registry has one.
//!
//! Source: IANA "Service Name and Transport Protocol Port Number Registry" (RFC 6335). A name that
//! everyone says instead of the registered one (`dns` for `domain`, `ping` for the ICMP echo) is kept.

use super::parse_literal;
use crate::space::{Protocol, ServiceSet};
use std::collections::HashMap;
use std::sync::LazyLock;

/// Who sends the first packet to whom.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Direction {
    /// From the client to the server.
    ToServer,
    /// From the server to the client.
    ToClient,
    /// Either end may begin.
    BothWays,
    /// To everyone nearby, by broadcast or multicast: it stays in its network.
    ToEveryone,
}

impl Direction {
    /// The direction in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::ToServer => "to the server",
            Self::ToClient => "to the client",
            Self::BothWays => "both ways",
            Self::ToEveryone => "to everyone nearby",
        }
    }

    fn from_sign(sign: &str) -> Option<Self> {
        match sign {
            ">" => Some(Self::ToServer),
            "<" => Some(Self::ToClient),
            "<>" => Some(Self::BothWays),
            "*" => Some(Self::ToEveryone),
            _ => None,
        }
    }
}

/// A service that every plan may name without declaring it.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct BuiltIn {
    /// Its name.
    pub name: &'static str,
    /// What it is made of, as literals.
    pub ports: Vec<&'static str>,
    /// In which direction it is used.
    pub direction: Direction,
    /// What it is for.
    pub about: &'static str,
}

impl BuiltIn {
    /// The packets it stands for.
    pub fn set(&self) -> ServiceSet {
        if self.name == "dhcp" {
            // The two families use different ports (RFC 2131, RFC 8415).
            return ServiceSet {
                v4: ServiceSet::ports(Protocol::UDP, 67, 67).v4,
                v6: ServiceSet::ports(Protocol::UDP, 547, 547).v6,
            };
        }
        self.ports
            .iter()
            .filter_map(|word| parse_literal(word)?.ok())
            .fold(ServiceSet::empty(), |all, part| all.union(&part))
    }
}

/// All of them, in alphabetical order.
///
/// They are written in `catalogue.txt` beside this file, one to a line: the name, its literals, a sign
/// for the direction (`>` to the server, `<` to the client, `<>` both ways, `*` to everyone nearby), and
/// what it is for.
pub static BUILT_IN: LazyLock<Vec<BuiltIn>> =
    LazyLock::new(|| include_str!("catalogue.txt").lines().filter_map(read).collect());

static BY_NAME: LazyLock<HashMap<&'static str, usize>> = LazyLock::new(|| {
    BUILT_IN.iter().enumerate().map(|(index, service)| (service.name, index)).collect()
});

/// What people say, and the services that it takes: built-in ones, or literals for what has no registered name. They
/// are written in `words.txt` beside this file, in alphabetical order.
static WORDS: LazyLock<Vec<(&'static str, Vec<&'static str>)>> = LazyLock::new(|| {
    let lines = include_str!("words.txt").lines().filter_map(|line| line.split_once(" = "));
    lines.map(|(word, takes)| (word, takes.split(", ").collect())).collect()
});

/// What somebody may mean by a word that is no service: built-in services, or literals. Nothing where nobody can say.
///
/// ```
/// use bastium_core::service::meant;
/// assert_eq!(meant("SMB"), ["smb"]);
/// assert_eq!(meant("445"), ["smb"]);
/// assert_eq!(meant("airprint"), ["mdns", "ipp"]);
/// assert!(meant("colour").is_empty());
/// ```
pub fn meant(word: &str) -> Vec<&'static str> {
    let plain = word.trim().to_lowercase().replace(['_', ' '], "-");
    if let Some(service) = built_in(&plain) {
        return vec![service.name];
    }
    if let Some((_, takes)) = WORDS.iter().find(|(known, _)| *known == plain) {
        return takes.clone();
    }
    let Ok(port) = plain.parse::<u16>() else { return Vec::new() };
    let one =
        [Protocol::TCP, Protocol::UDP].map(|protocol| ServiceSet::ports(protocol, port, port));
    let is_it = |service: &&BuiltIn| {
        let own = service.set();
        let is_one = |port: &ServiceSet| !own.is_empty() && !own.v4.is_disjoint(&port.v4);
        own.v4.spans().iter().all(|(low, high)| low == high) && one.iter().any(is_one)
    };
    let mut found: Vec<&BuiltIn> = BUILT_IN.iter().filter(is_it).collect();
    // Those that are this port alone come first.
    found.sort_by_key(|service| service.ports.len());
    found.iter().map(|service| service.name).take(3).collect()
}

/// The built-in service of that name.
pub fn built_in(name: &str) -> Option<&'static BuiltIn> {
    BUILT_IN.get(*BY_NAME.get(name)?)
}

fn read(line: &'static str) -> Option<BuiltIn> {
    let (name, rest) = line.split_once(" = ")?;
    let words: Vec<&str> = rest.split(' ').collect();
    let sign = words.iter().position(|word| Direction::from_sign(word).is_some())?;
    let direction = Direction::from_sign(words[sign])?;
    let ports = words[..sign].iter().map(|word| word.trim_end_matches(',')).collect();
    let about = rest.split_once(&format!(" {} ", words[sign]))?.1;
    Some(BuiltIn { name, ports, direction, about })
}

/// The built-in services that a word finds: one in the name or in what it is for; or, for a literal or
/// a bare port or range of ports, all that have a port of it.
pub fn search(word: &str) -> Vec<&'static BuiltIn> {
    let word = word.trim().to_lowercase();
    let asked = if word.starts_with(|c: char| c.is_ascii_digit()) {
        ["tcp", "udp", "sctp"]
            .iter()
            .filter_map(|p| parse_literal(&format!("{p}/{word}"))?.ok())
            .reduce(|all, part| all.union(&part))
    } else {
        parse_literal(&word).and_then(Result::ok).filter(|_| word != "any")
    };
    let found = |service: &&BuiltIn| match &asked {
        Some(set) => {
            let own = service.set();
            !own.v4.is_disjoint(&set.v4) || !own.v6.is_disjoint(&set.v6)
        }
        None => service.name.contains(&word) || service.about.to_lowercase().contains(&word),
    };
    let by_word = meant(&word);
    BUILT_IN.iter().filter(|one| found(one) || by_word.contains(&one.name)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_word_leads_to_services_and_is_none_itself() {
        for pair in WORDS.windows(2) {
            assert!(pair[0].0 < pair[1].0, "{} is out of order", pair[1].0);
        }
        for (word, takes) in WORDS.iter() {
            assert!(built_in(word).is_none(), "{word}");
            for one in takes {
                let literal = parse_literal(one).is_some_and(|literal| literal.is_ok());
                assert!(built_in(one).is_some() || literal, "{word}: {one}");
            }
            assert_eq!(meant(word), *takes);
        }
        assert_eq!(meant("HTTPS"), ["https"]);
        assert_eq!(meant("631"), ["ipp"]);
        assert_eq!(meant("5353"), ["mdns"]);
        assert!(meant("70000").is_empty() && meant("").is_empty());
    }

    #[test]
    fn every_entry_is_whole_and_in_order() {
        assert_eq!(BUILT_IN.len(), include_str!("catalogue.txt").lines().count());
        assert!(BUILT_IN.len() >= 195, "{}", BUILT_IN.len());
        for pair in BUILT_IN.windows(2) {
            assert!(pair[0].name < pair[1].name, "{} is out of order", pair[1].name);
        }
        for service in BUILT_IN.iter() {
            assert!(crate::name::Name::new(service.name).is_ok(), "{}", service.name);
            for literal in &service.ports {
                assert!(
                    matches!(parse_literal(literal), Some(Ok(_))),
                    "{}: {literal}",
                    service.name
                );
            }
            assert!(!service.set().is_empty() && !service.about.is_empty());
        }
    }

    #[test]
    fn no_two_entries_are_the_same() {
        for (index, one) in BUILT_IN.iter().enumerate() {
            let twin = BUILT_IN[index + 1..].iter().find(|other| other.set() == one.set());
            assert!(twin.is_none(), "{} and {:?}", one.name, twin.map(|twin| twin.name));
        }
    }

    #[test]
    fn dhcp_is_another_port_in_each_family() {
        let dhcp = built_in("dhcp").expect("built in").set();
        assert_eq!(dhcp.words(), ["udp/67 (IPv4)", "udp/547 (IPv6)"]);
    }

    #[test]
    fn services_are_found_by_word_port_and_range() {
        let names = |word| search(word).iter().map(|s| s.name).collect::<Vec<_>>();
        assert_eq!(names("tcp/22"), ["ssh"]);
        assert_eq!(names("5353"), ["mdns"]);
        assert!(names("printing").contains(&"ipp") && names("PRINT").contains(&"printer-raw"));
        assert!(names("1811-1813").contains(&"radius"));
        assert_eq!(names("icmp"), ["ping"]);
        assert_eq!(names("nothing of the kind"), Vec::<&str>::new());
        assert_eq!(names("99999"), Vec::<&str>::new());
    }
}
