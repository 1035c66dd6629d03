//! Reads the counters of a gateway's rules.

use super::read;
use std::collections::BTreeMap;

/// How many packets each rule has seen, by the comment of its lines: of what `nft list ruleset` prints, as text or JSON, in
/// Bastium's table. `None` where it cannot be read, or has no such table.
pub fn hits(listing: &str) -> Option<BTreeMap<String, u64>> {
    let ruleset = match listing.trim_start().starts_with('{') {
        true => {
            let json: serde_json::Value = serde_json::from_str(listing).ok()?;
            read::from_json(json.get("nftables")?.as_array()?)
        }
        false => read::from_text(listing).ok()?,
    };
    let mut own = ruleset
        .tables
        .iter()
        .filter(|table| table.family == "inet" && table.name == super::TABLE)
        .peekable();
    own.peek()?;
    let mut hits = BTreeMap::new();
    for rule in own.flat_map(|table| &table.chains).flat_map(|chain| &chain.rules) {
        if let (Some(comment), Some(packets)) = (&rule.comment, rule.hits) {
            let sum: &mut u64 = hits.entry(comment.clone()).or_default();
            *sum = sum.saturating_add(packets);
        }
    }
    Some(hits)
}
