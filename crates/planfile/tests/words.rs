//! Whatever word of a plan is put in another's place: the plan is read, or it is said what is wrong.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

const CLINIC: &str = include_str!("../../../demo/clinic.toml");
const FARM: &str = include_str!("../../../demo/farm.toml");

/// Names of every kind of thing, words with a meaning of their own, and what is no name at all.
const OTHERS: &[&str] = &[
    "staff",
    "clinical",
    "desks",
    "imaging",
    "printers",
    "records",
    "paper-printer",
    "web",
    "dns",
    "internet",
    "gateway",
    "any",
    "fibre",
    "core",
    "high",
    "allow",
    "10.44.24.9",
    "0",
    "",
    "Ö",
];

/// Where the words in quotes are: the first two of each key of each kind of table.
fn words(text: &str) -> Vec<Range<usize>> {
    let mut table = "";
    let mut found: BTreeMap<(&str, &str), Vec<Range<usize>>> = BTreeMap::new();
    let mut start = 0;
    for line in text.split_inclusive('\n') {
        let code = line.split('#').next().unwrap_or_default();
        if let Some(rest) = code.strip_prefix('[') {
            table = rest.split(['.', ']']).next().unwrap_or_default();
        } else if let Some((key, _)) = code.split_once('=') {
            let quotes: Vec<usize> = code.match_indices('"').map(|(at, _)| start + at).collect();
            let of_line = quotes.chunks_exact(2).map(|pair| pair[0] + 1..pair[1]);
            found.entry((table, key.trim())).or_default().extend(of_line);
        }
        start += line.len();
    }
    found.into_values().flat_map(|words| words.into_iter().take(2)).collect()
}

/// What is wrong with a text; nothing, if it is a plan.
fn refused(text: &str) -> Option<Vec<String>> {
    let refused = bastium_planfile::read("words.toml", text.as_bytes()).err()?;
    Some(refused.diagnoses.into_iter().map(|diagnosis| diagnosis.name.to_owned()).collect())
}

#[test]
fn no_word_in_anothers_place_is_refused_without_a_reason() {
    let mut reasons = BTreeSet::new();
    for text in [CLINIC, FARM] {
        let words = words(text);
        assert!(words.len() > 60, "only {} words", words.len());
        for word in words {
            for other in OTHERS {
                let changed = format!("{}{other}{}", &text[..word.start], &text[word.end..]);
                let Some(names) = refused(&changed) else { continue };
                let line = changed[..word.start].lines().count();
                let reported = !names.is_empty() && names.iter().all(|name| name != "not-built");
                assert!(reported, "`{other}` on line {line}: {names:?}");
                reasons.extend(names);
            }
        }
    }
    assert!(reasons.len() > 30, "so many kinds of mistake are met: {reasons:?}");
}

/// A zone is no network, whatever it is called, and whichever key takes the name.
#[test]
fn a_zone_is_not_taken_for_a_network() {
    let host = "\n[host.wall-display]\nnetwork = \"staff\"\n";
    assert_eq!(refused(&format!("{CLINIC}{host}")), Some(vec!["unknown-network".to_owned()]));
    let lies = "\n[host.wall-display]\nnetwork = \"staff\"\naddress = \"10.44.24.77\"\n";
    assert_eq!(refused(&format!("{CLINIC}{lies}")), Some(vec!["unknown-network".to_owned()]));
}

/// What hangs on a network with a problem of its own is no further problem.
#[test]
fn a_network_with_a_problem_is_not_missed_too() {
    let broken = CLINIC.replacen("vlan = 24\n", "vlan = 4095\n", 1);
    assert_ne!(broken, CLINIC);
    let names = refused(&broken).expect("no such VLAN");
    assert!(
        !names.iter().any(|name| name == "unknown-network" || name == "not-carried"),
        "{names:?}"
    );
}
