//! The entry of a plan that decided, for rows and sentences.

use bastium_core::plan::Plan;
use bastium_core::verdict::Cause;
use schemars::JsonSchema;
use serde::Serialize;

/// The plan entry that decided.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Because {
    /// What kind of entry: `exception`, `cell`, `spoofed`, ...
    pub kind: &'static str,
    /// Its name.
    pub name: String,
    /// Its line in the plan; none where the plan need not say it.
    pub line: Option<usize>,
}

impl Because {
    pub(crate) fn new(cause: Cause, plan: &Plan) -> Self {
        Self { kind: cause.kind(), name: cause.name(plan), line: cause.line(plan) }
    }

    /// The entry in a few words: `cell guests>tills`, `no route to it`.
    pub fn words(&self) -> String {
        entry_words(self.kind, &self.name)
    }

    /// The same with the line: `cell guests>tills, line 298`.
    pub fn words_and_line(&self) -> String {
        let line = self.line.map(|line| format!(", line {line}")).unwrap_or_default();
        format!("{}{line}", self.words())
    }
}

/// An entry in a few words, by its kind and name as JSON has them. What the plan need not say has no name of its own there.
pub fn entry_words(kind: &str, name: &str) -> String {
    match (kind, name) {
        ("no_route", "nowhere") => "no route to it".to_owned(),
        ("no_route", "no-uplink") => "no uplink".to_owned(),
        ("no_route", "broadcast") => "broadcast of another network".to_owned(),
        ("no_route", "unique-local") => "unique local source".to_owned(),
        ("no_route", "link-only") => "link-local source".to_owned(),
        ("spoofed", "") => "spoofed source".to_owned(),
        ("spoofed", "unspecified") => "no source address".to_owned(),
        ("spoofed", "to-private") => "private address from outside".to_owned(),
        ("spoofed", interface) => format!("spoofed source at {interface}"),
        ("same_network", network) => format!("within network {network}"),
        ("ipv6_needs", _) => "needed by IPv6".to_owned(),
        ("manage", _) => "gateway.manage".to_owned(),
        ("tunnel_port", tunnel) => format!("tunnel {tunnel}"),
        ("offered", "") => "inbound".to_owned(),
        ("offered", entry) => format!("inbound {entry}"),
        ("gateway_service", interface) => format!("gateway services for {interface}"),
        ("beside_uplink", uplink) => format!("subnet of uplink {uplink}"),
        ("unmatched", _) => "no matching entry".to_owned(),
        ("from_gateway", _) => "the gateway itself".to_owned(),
        ("reply", _) => "replies".to_owned(),
        ("end", list) => format!("end of {list}"),
        (kind, "") => kind.replace('_', " "),
        (kind, name) => format!("{} {name}", kind.replace('_', " ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// An entry that has no name is not said twice, and no word is that of a program.
    #[test]
    fn entries_without_a_name_are_said_once() {
        for kind in ["manage", "unmatched", "reply", "ipv6_needs", "from_gateway"] {
            let words = entry_words(kind, &kind.replace('_', "-"));
            let kind = kind.replace('_', " ");
            assert!(!words.contains('_') && words != format!("{kind} {kind}"), "{words}");
        }
        assert_eq!(entry_words("cell", "guests>tills"), "cell guests>tills");
        let no_line = Because { kind: "no_route", name: "nowhere".to_owned(), line: None };
        assert_eq!(no_line.words_and_line(), "no route to it");
        let cell = Because { kind: "cell", name: "guests>tills".to_owned(), line: Some(298) };
        assert_eq!(cell.words_and_line(), "cell guests>tills, line 298");
    }
}
