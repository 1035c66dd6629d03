//! Words for readers without knowledge of networks.

/// An endpoint of a plan as a sentence has it: `any - internet` is `anything except the internet`.
pub(super) fn plain_endpoint(text: &str) -> String {
    let word = |item: &str| match item {
        "any" => "anything".to_owned(),
        "internet" | "gateway" => format!("the {item}"),
        other => other.to_owned(),
    };
    let mut plain = String::new();
    for item in text.split(' ').filter(|item| !item.is_empty()) {
        let comma = item.ends_with(',');
        let next = match item.trim_end_matches(',') {
            "-" => "except".to_owned(),
            "+" => "and".to_owned(),
            item => word(item),
        };
        if !plain.is_empty() {
            plain.push(' ');
        }
        plain.push_str(&next);
        if comma {
            plain.push_str(" and");
        }
    }
    // Of what has been taken out already, more may be taken out.
    while let Some(at) = plain.rfind(" except ") {
        let before = &plain[..at];
        if !before.contains(" except ") {
            break;
        }
        plain = format!("{before} and {}", &plain[at + " except ".len()..]);
    }
    plain
}

/// Names in a sentence: `a, b and c`.
pub(super) fn listed(names: &[String]) -> String {
    match names {
        [] => String::new(),
        [one] => one.clone(),
        [all @ .., last] => format!("{} and {last}", all.join(", ")),
    }
}

/// What the words of a report mean.
pub(super) const GLOSSARY: [(&str, &str); 13] = [
    ("access point", "a device that sends Wi-Fi"),
    ("DHCP", "how a device gets its address from the gateway when it is switched on"),
    (
        "exception",
        "something narrow that is allowed or blocked against what its zones may otherwise do",
    ),
    (
        "firewall rule",
        "a line in the gateway that lets traffic pass or stops it; the first one that fits decides",
    ),
    (
        "gateway",
        "the device between all networks and the internet; all traffic between networks passes through it",
    ),
    ("guarantee", "a promise of the plan that has to hold whatever else is written in it"),
    (
        "matrix",
        "the table that says for each pair of zones whether one may open connections to the other",
    ),
    ("network", "devices that reach each other without passing the gateway"),
    (
        "proof",
        "a comparison of rules and plan over every packet that is possible, not over samples",
    ),
    ("reservation", "an address that the gateway keeps for one device"),
    ("switch", "the device that network sockets are wired to"),
    (
        "VLAN",
        "a network that shares its cables with others, and is kept apart from them by a number",
    ),
    ("zone", "networks that are trusted alike, so that one decision serves them all"),
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn endpoints_read_as_sentences_do() {
        assert_eq!(plain_endpoint("guests"), "guests");
        assert_eq!(plain_endpoint("any - internet"), "anything except the internet");
        assert_eq!(plain_endpoint("any - a - b"), "anything except a and b");
        assert_eq!(plain_endpoint("a + b - c"), "a and b except c");
        assert_eq!(plain_endpoint("a, b"), "a and b");
    }

    #[test]
    fn names_are_joined_as_in_a_sentence() {
        let names =
            |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
        assert_eq!(listed(&names(&["a"])), "a");
        assert_eq!(listed(&names(&["a", "b", "c"])), "a, b and c");
    }
}
