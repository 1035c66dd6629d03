//! The tag of a rule: its id in a form that fits into a comment and a log prefix.

use bastium_core::rules::{Rule, RuleSet};
use std::collections::HashMap;

/// What every log prefix begins with.
pub const LOG_MARK: &str = "bastium ";

/// The comments of lines that no rule is behind: the gateway's own broadcasts that come back to it, what has no
/// way, and what belongs to no conversation.
pub(super) const OWN_BROADCAST: &str = "own_broadcast";
pub(super) const NO_WAY: &str = "no_route";
pub(super) const NO_CONVERSATION: &str = "no_conversation";

/// Whether a comment is that of a line which a file has beside those of its rules.
pub fn is_beside_rules(comment: &str) -> bool {
    [OWN_BROADCAST, NO_WAY, NO_CONVERSATION].contains(&comment) || comment.starts_with("limit_")
}

/// The longest tag, in bytes. A log prefix has room for 127, the mark and `: ` included.
const LONGEST: usize = 100;

/// A rule's id, cut to what a comment and a log prefix can hold. Where that changes it, a fingerprint of
/// the whole id follows, so that two rules never share a tag.
pub fn tag(id: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || " ._@>+,-/".contains(c);
    let clean: String = id.chars().map(|c| if plain(c) { c } else { '_' }).collect();
    if clean == id && clean.len() <= LONGEST && !clean.ends_with(' ') {
        return clean;
    }
    let kept: String = clean.chars().take(LONGEST - 9).collect();
    format!("{}~{:08x}", kept.trim_end(), fingerprint(id))
}

/// The rules by their tags.
pub fn tags<'r>(rules: &'r RuleSet<'_>) -> HashMap<String, &'r Rule> {
    let all = rules.lists.iter().flat_map(|list| &list.rules);
    all.map(|rule| (tag(&rule.id.to_string()), rule)).collect()
}

/// A number for a text that is the same in every build and on every machine (FNV-1a).
pub(crate) fn fingerprint(text: &str) -> u32 {
    text.bytes().fold(0x811c_9dc5, |sum, byte| (sum ^ u32::from(byte)).wrapping_mul(0x0100_0193))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_ordinary_id_is_its_own_tag() {
        for id in ["reply", "cell.staff>tills", "exception.time-for-all@any - internet>gateway"] {
            assert_eq!(tag(id), id);
        }
    }

    #[test]
    fn long_and_odd_ids_keep_apart() {
        let long = |end: char| format!("exception.{}{end}", "x".repeat(200));
        assert_ne!(tag(&long('a')), tag(&long('b')));
        assert!(tag(&long('a')).len() <= LONGEST);
        assert_ne!(tag("a\"b"), tag("a$b"));
        assert!(!tag("a\"$b\n").contains(['"', '$', '\n']));
    }
}
