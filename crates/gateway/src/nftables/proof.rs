//! Proves a file: its bytes are read back and compared with the plan before anybody gets them.

use super::held::{Held, Manner, held};
use super::read::{self, Problem, Ruleset};
use super::{LOG_MARK, NftOptions, NoInterface, TABLE, nftables};
use bastium_core::meaning::Meaning;
use bastium_core::rules::RuleSet;

/// A file for `nft -f` of which every byte was read back and shown to do what its plan says. Only
/// [`write()`] and [`prove`] make one, so that code which takes one need not check again.
#[derive(Clone, Debug)]
pub struct ProvenFile {
    text: String,
}

impl ProvenFile {
    /// The file.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The bytes to be written.
    pub fn into_bytes(self) -> Vec<u8> {
        self.text.into_bytes()
    }
}

/// Why there is no proven file.
#[derive(Clone, Debug, thiserror::Error)]
pub enum NoProof {
    /// The plan does not name every interface.
    #[error("the interface is not named of {}", names(.0))]
    NoInterface(Vec<NoInterface>),
    /// The text does not do what the plan says, or that could not be shown.
    #[error("the file was not shown to do what the plan says")]
    Differs(Box<Held>),
}

fn names(missing: &[NoInterface]) -> String {
    missing.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

/// Writes the rules of a plan as a file, and proves it.
///
/// # Errors
/// Interfaces without a name; or where the file differs from the plan, with packets.
pub fn write(
    meaning: &Meaning<'_>,
    rules: &RuleSet,
    options: NftOptions,
) -> Result<ProvenFile, NoProof> {
    let text = nftables(rules, options).map_err(NoProof::NoInterface)?;
    prove(meaning, text, options).map_err(|held| NoProof::Differs(Box::new(held)))
}

/// Proves that a file written for a plan does what the plan says: over every packet, in verdict, logging,
/// translation, rate limits and replies; and that it replaces everything that the gateway had in its table before.
///
/// The text is read back by a reader that shares nothing with the writer except the packet sets, so that a mistake in
/// one cannot hide behind the same mistake in the other.
///
/// # Errors
/// Every difference, each with a packet; what could not be read; and how many questions could not be decided.
pub fn prove(meaning: &Meaning<'_>, text: String, options: NftOptions) -> Result<ProvenFile, Held> {
    let ruleset = read::from_text(&text).map_err(|problem| unreadable(&problem))?;
    let manner = Manner { at: options.at, own: true };
    let mut found = held(meaning, &ruleset, manner);
    found.unread.extend(unloadable(meaning, &ruleset));
    if found.holds() { Ok(ProvenFile { text }) } else { Err(found) }
}

fn unreadable(problem: &Problem) -> Held {
    Held { unread: vec![(problem.at.clone(), problem.what.clone())], ..Held::default() }
}

/// What else has to hold of a file of ours, whatever its rules do.
fn unloadable(meaning: &Meaning<'_>, ruleset: &Ruleset) -> Vec<(String, String)> {
    let mut found = Vec::new();
    let mut say = |at: &str, what: String| found.push((at.to_owned(), what));
    if !ruleset.replaces {
        say("the file", "it adds to the gateway's rules instead of replacing them".to_owned());
    }
    let [table] = ruleset.tables.as_slice() else {
        say("the file", "it is not about one table".to_owned());
        return found;
    };
    if (table.family.as_str(), table.name.as_str()) != ("inet", TABLE) {
        say("the file", format!("its table is not inet {TABLE}"));
    }
    for domain in meaning.plan().domains() {
        for family in ["v4", "v6"] {
            let name = format!("domain_{}_{family}", domain.name);
            let set = table.sets.get(&name);
            if set.is_none_or(|set| !set.elements.is_empty() || set.unread.is_some()) {
                say(&format!("set {name}"), "the name server cannot fill it".to_owned());
            }
        }
    }
    for rule in table.chains.iter().flat_map(|chain| &chain.rules) {
        // The log is read by what a prefix names.
        let prefix = rule.parts.iter().find_map(|part| match part {
            read::Part::Log { prefix } => Some(prefix.as_deref().unwrap_or_default()),
            _ => None,
        });
        let name = rule.comment.as_deref().unwrap_or_default();
        if prefix.is_some_and(|prefix| prefix != format!("{LOG_MARK}{name}: ")) {
            say(&rule.at, "its log names another rule".to_owned());
        }
        let tables = read::references(rule);
        for (kind, name) in tables {
            let there = match kind {
                "chain" => table.chain(name).is_some(),
                "set" => table.sets.contains_key(name),
                "map" => table.maps.contains_key(name),
                _ => table.limits.contains_key(name),
            };
            if !there {
                say(&rule.at, format!("{kind} {name} is not there"));
            }
        }
    }
    for (_, verdict) in table.maps.values().flat_map(|map| &map.elements) {
        if let read::Verdict::Jump(name) | read::Verdict::Goto(name) = verdict
            && table.chain(name).is_none()
        {
            say("a map", format!("chain {name} is not there"));
        }
    }
    found
}
