//! Recognises the table of connections that are being cut, by its complete contents.

use super::super::cut::{CHAINS, CUT_TABLE, Direction, Flow, MOST_CUT, SETS};
use super::from_text;
use super::ruleset::{Chain, End, Hook, Key, Part, Ruleset, Set, Table, Value, Verdict};
use bastium_core::space::Family;
use std::collections::HashSet;
use std::net::IpAddr;

/// The priority before the connection tracking that is called `raw`.
const RAW: i64 = -300;

/// What those who began the connections send that a gateway cuts; none if it has no such table, or one in which more
/// stands than that.
pub fn being_cut(ruleset: &str) -> Option<Vec<Flow>> {
    from_text(ruleset).ok()?.cut
}

impl Ruleset {
    /// Takes the table out, if it does nothing but drop what is in its sets. Otherwise it stays a table like any other.
    pub(super) fn with_cut_apart(mut self) -> Self {
        let place =
            self.tables.iter().position(|table| table.name == CUT_TABLE && table.family == "inet");
        if let Some((place, flows)) =
            place.and_then(|place| Some((place, flows(&self.tables[place])?)))
        {
            self.tables.remove(place);
            self.cut = Some(flows);
        }
        self
    }
}

/// What those who began the connections send; none if the table is not as it is written here.
fn flows(table: &Table) -> Option<Vec<Flow>> {
    let bare = table.maps.is_empty() && table.limits.is_empty();
    let counts = table.sets.len() == SETS.len() && table.chains.len() == CHAINS.len();
    let chains = CHAINS.iter().all(|(name, hook)| {
        table.chains.iter().any(|chain| chain.name == *name && drops_its_sets(chain, hook))
    });
    if !bare || !counts || !chains {
        return None;
    }
    let (mut begun, mut back) = (Vec::new(), Vec::new());
    for (name, direction, family) in SETS {
        let flows = flows_of(table.sets.get(name)?, family)?;
        match direction {
            Direction::Begun => begun.extend(flows),
            Direction::Back => back.extend(flows),
        }
    }
    let fits = begun.len() <= MOST_CUT && back.len() == begun.len() && belong(&begun, &back);
    fits.then_some(begun)
}

/// Whether each flow of the second kind is what comes back of one of the first: from where that one goes, or to where it
/// comes from.
fn belong(begun: &[Flow], back: &[Flow]) -> bool {
    // What is translated at both ends cannot be distinguished from anything else, and is not written either.
    let from: HashSet<_> =
        begun.iter().map(|one| (one.protocol, one.from, one.from_port)).collect();
    let to: HashSet<_> = begun.iter().map(|one| (one.protocol, one.to, one.to_port)).collect();
    back.iter().all(|one| {
        to.contains(&(one.protocol, one.from, one.from_port))
            || from.contains(&(one.protocol, one.to, one.to_port))
    })
}

/// Whether a chain is asked before the connection tracking, and its rules are the four.
fn drops_its_sets(chain: &Chain, hook: &str) -> bool {
    let Some(Hook { kind, hook: own, priority: RAW, drops: false }) = &chain.hook else {
        return false;
    };
    let all = chain.rules.iter().map(|rule| match rule.parts.as_slice() {
        [Part::UnreadTest(says), Part::Verdict(Verdict::Drop)] => says.as_str(),
        _ => "",
    });
    kind == "filter"
        && own == hook
        && chain.rules.len() == SETS.len()
        && all
            .zip(SETS)
            .all(|(says, (name, _, family))| conditions(name, family).contains(&says.to_owned()))
}

/// A condition as it stands in a text, and in JSON.
fn conditions(name: &str, family: Family) -> [String; 2] {
    let ip = if family == Family::V4 { "ip" } else { "ip6" };
    [
        format!("{ip} saddr . {ip} daddr . meta l4proto . th sport . th dport @{name}"),
        format!("concat {ip} saddr, {ip} daddr, l4proto, th sport, th dport == @{name}"),
    ]
}

fn flows_of(set: &Set, family: Family) -> Option<Vec<Flow>> {
    let address = Key::Address(family, End::Source);
    let types = [address, address, Key::Protocol(None), Key::Port(None), Key::Port(None)];
    if set.types != types || set.unread.is_some() {
        return None;
    }
    set.elements.iter().map(|element| flow(element)).collect()
}

fn flow(element: &[Value]) -> Option<Flow> {
    let [from, to, protocol, from_port, to_port] = element else { return None };
    // Of others, what stands where ports do is something else.
    let protocol = number(protocol)?.try_into().ok().filter(|number| [6, 17].contains(number))?;
    Some(Flow {
        from: address(from)?,
        to: address(to)?,
        protocol,
        from_port: number(from_port)?,
        to_port: number(to_port)?,
    })
}

fn address(value: &Value) -> Option<IpAddr> {
    match value {
        Value::Addresses(low, high) if low == high => Some(*low),
        _ => None,
    }
}

fn number(value: &Value) -> Option<u16> {
    match value {
        Value::Numbers(low, high) if low == high => Some(*low),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::super::super::cut::{Cut, cut_table};
    use super::*;

    fn flow(from: &str, to: &str, protocol: u8, ports: (u16, u16)) -> Flow {
        let address = |word: &str| word.parse().expect("an address");
        let (from_port, to_port) = ports;
        Flow { from: address(from), to: address(to), protocol, from_port, to_port }
    }

    /// What is written is read as it was meant, and not where anything was added to it.
    #[test]
    fn the_table_is_known_by_all_of_it() {
        let begun = [
            flow("10.44.24.120", "10.44.40.10", 6, (40_000, 443)),
            flow("10.44.24.120", "203.0.113.7", 17, (5060, 5060)),
            flow("fd6b:2f4e:91c0:24::7", "fd6b:2f4e:91c0:40::10", 6, (40_000, 443)),
        ];
        let cuts = begun.map(|begun| {
            let back = Flow {
                from: begun.to,
                to: begun.from,
                from_port: begun.to_port,
                to_port: begun.from_port,
                ..begun
            };
            Cut::new(begun, back, 90).expect("one")
        });
        for cuts in [&cuts[..], &cuts[..1], &[]] {
            // As the kernel lists it: rules in their chains.
            let text = cut_table(cuts);
            let (table, rules) = text.split_once("}\nflush").expect("rules");
            let mut listed = table.to_owned();
            for (chain, _) in CHAINS {
                let lead = format!("add rule inet {CUT_TABLE} {chain} ");
                let own: String = rules
                    .lines()
                    .filter_map(|line| line.strip_prefix(&lead))
                    .map(|rule| format!("\t\t{rule}\n"))
                    .collect();
                let policy = format!(
                    "hook {} priority raw; policy accept;\n",
                    if chain == "arriving" { "prerouting" } else { "output" }
                );
                listed = listed.replace(&policy, &format!("{policy}{own}"));
            }
            listed.push_str("}\n");
            let read = from_text(&listed).expect("a table");
            let wanted: Vec<Flow> = cuts.iter().map(|cut| cut.begun).collect();
            assert!(read.tables.is_empty(), "{listed}");
            assert_eq!(read.cut.as_ref(), Some(&wanted), "{listed}");
            // Of a protocol without ports, both directions: what stands where ports do would be something else.
            let odd = listed.replace(" . 6 . ", " . 1 . ");
            let read = from_text(&odd).expect("a table");
            assert_eq!(read.cut.is_none(), odd != listed, "{odd}");
            for (from, to) in [
                ("@begun_v4 drop", "@begun_v4 accept"),
                ("saddr . ip daddr", "daddr . ip saddr"),
                ("priority raw", "priority 0"),
                ("policy accept", "policy drop"),
                ("\tchain leaving", "\tchain other {\n\t}\n\tchain leaving"),
                ("@back_v4 drop", "@begun_v4 drop"),
            ] {
                let other = listed.replacen(from, to, 1);
                assert_ne!(other, listed, "{from}");
                let read = from_text(&other).expect("a table");
                assert_eq!((read.tables.len(), read.cut), (1, None), "{other}");
            }
        }
    }
}
