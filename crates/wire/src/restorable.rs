//! Whether a listing, loaded again, is the table that it was taken from.
//!
//! What `nft` prints of a rule leaves out conditions that others imply, and not always rightly. So the listing is loaded once
//! more beside the table, where it does nothing, and the programs of both in the kernel are compared.

use std::collections::HashMap;

/// Whether two listings by `nft --debug=netlink list table` are of the same sets and rules. Counters, handles, and the names of
/// sets without one do not count, nor the order in which a set holds its elements, nor what the name server has put into a set.
///
/// `None` if either holds no programs: that `nft` was built without them.
pub fn same_program(one: &str, other: &str) -> Option<bool> {
    let (one, other) = (Programs::read(one), Programs::read(other));
    (one.seen && other.seen).then(|| one == other)
}

#[derive(Debug, Default, PartialEq, Eq)]
struct Programs {
    /// The sets with a name, each with what it holds.
    sets: Vec<(String, Vec<String>)>,
    /// The rules, in their order: the chain, and the steps.
    rules: Vec<(String, Vec<String>)>,
    seen: bool,
}

impl Programs {
    fn read(listing: &str) -> Self {
        let mut nameless: HashMap<String, String> = HashMap::new();
        let mut programs = Self::default();
        for block in blocks(listing) {
            let mut words = block[0].split_whitespace().skip(2);
            let head = words.next().unwrap_or_default();
            if let Some(name) = head.strip_prefix('@') {
                let mut elements: Vec<String> =
                    block[1..].iter().map(|line| line.trim().to_owned()).collect();
                elements.sort_unstable();
                if name.starts_with("__") {
                    nameless.insert(name.to_owned(), elements.join(";"));
                } else if !name.starts_with("domain_") {
                    programs.sets.push((name.to_owned(), elements));
                }
            } else {
                programs.seen = true;
                let steps = block[1..].iter().map(|line| step(line, &nameless)).collect();
                programs.rules.push((head.to_owned(), steps));
            }
        }
        programs.sets.sort_unstable();
        // Rules of one chain keep their order; chains have none.
        programs.rules.sort_by(|one, other| one.0.cmp(&other.0));
        programs
    }
}

/// The lines that belong together: one that begins at the margin, and those under it.
fn blocks(listing: &str) -> Vec<Vec<&str>> {
    let mut blocks: Vec<Vec<&str>> = Vec::new();
    // Under the programs follows the table as text.
    let lines = listing.lines().take_while(|line| !line.starts_with("table "));
    for line in lines.filter(|line| !line.trim().is_empty()) {
        match blocks.last_mut() {
            Some(block) if line.starts_with([' ', '\t']) => block.push(line),
            _ => blocks.push(vec![line]),
        }
    }
    blocks
}

/// One step of a rule, without what differs between two that are the same.
fn step(line: &str, nameless: &HashMap<String, String>) -> String {
    let line = line.trim();
    if line.starts_with("[ counter ") {
        return "[ counter ]".to_owned();
    }
    let words = line.split(' ').map(|word| nameless.get(word).map_or(word, String::as_str));
    words.collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::same_program;

    const ONE: &str = "inet bastium @known\n\telement 0a : 0 [end]\n\telement 0b : 0 [end]\n\
        inet bastium @__set0\n\telement 01 : 0 [end]\n\
        inet bastium input 3\n  [ lookup reg 1 set __set0 0x0 ]\n  [ counter pkts 4 bytes 9 ]\n  [ immediate reg 0 drop ]\n\n\
        inet bastium input 4 3\n  [ immediate reg 0 accept ]\n\ntable inet bastium {\n}\n";

    #[test]
    fn counters_handles_and_order_within_a_set_do_not_count() {
        let other = ONE.replace("pkts 4 bytes 9", "pkts 0 bytes 0").replace("__set0", "__set7");
        let other = other.replace("input 4 3", "input 9 8").replace("bastium", "bastium_try");
        let other = other
            .replace("element 0a", "element xx")
            .replace("element 0b", "element 0a")
            .replace("xx", "0b");
        assert_eq!(same_program(ONE, &other), Some(true));
    }

    #[test]
    fn anything_else_does() {
        for (what, by) in [
            ("element 0a", "element 0c"),
            ("element 01", "element 02"),
            ("reg 0 drop", "reg 0 accept"),
            ("@known", "@others"),
            ("input 4 3", "output 4 3"),
        ] {
            assert_eq!(same_program(ONE, &ONE.replace(what, by)), Some(false), "{what}");
        }
        let shorter = ONE.replace("  [ counter pkts 4 bytes 9 ]\n", "");
        assert_eq!(same_program(ONE, &shorter), Some(false));
        assert_eq!(same_program(ONE, "table inet bastium {\n}\n"), None);
    }
}
