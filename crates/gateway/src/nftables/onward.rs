//! Dispatches forwarded packets to chains in two steps: by the interface that they enter, then by the one that they
//! leave. A single map of pairs would grow with the square of the number of networks.

use super::test::{Chain, Entry, Line, Then};
use std::collections::{HashMap, HashSet};

/// What is asked for packets of interfaces for which it is the same.
#[derive(Clone, Debug)]
pub(super) struct Onward {
    /// The name of the chain that they are led to.
    pub(super) name: String,
    /// The name of the map that it looks in.
    pub(super) map: String,
    /// The interfaces that packets come by.
    pub(super) from: Vec<String>,
    /// The interfaces that packets leave by, and what is asked then.
    pub(super) to: Vec<(String, Then)>,
}

/// What is asked for each pair of interfaces, as it is found.
#[derive(Default)]
pub(super) struct Pairs {
    rows: Vec<Row>,
    /// By the interface that packets come by: its row.
    places: HashMap<String, usize>,
    known: HashSet<(usize, String)>,
}

/// What is asked for packets of one interface.
struct Row {
    from: String,
    zone: String,
    to: Vec<(String, Then)>,
}

impl Pairs {
    /// Notes what is asked for a pair, unless something is known already.
    pub(super) fn insert(&mut self, zone: &str, from: &str, to: &str, then: &Then) {
        let place = *self.places.entry(from.to_owned()).or_insert_with(|| {
            self.rows.push(Row { from: from.to_owned(), zone: zone.to_owned(), to: Vec::new() });
            self.rows.len() - 1
        });
        if self.known.insert((place, to.to_owned())) {
            self.rows[place].to.push((to.to_owned(), then.clone()));
        }
    }

    /// Interfaces of a zone for which the same is asked, together; named after the zone.
    pub(super) fn together(self) -> Vec<Onward> {
        let mut all: Vec<Onward> = Vec::new();
        let mut places: HashMap<(String, Vec<(String, Then)>), usize> = HashMap::new();
        let mut of_zone: HashMap<String, usize> = HashMap::new();
        for Row { from, zone, to } in self.rows {
            let place = *places.entry((zone.clone(), to.clone())).or_insert_with(|| {
                let number = of_zone.entry(zone.clone()).or_default();
                *number += 1;
                let whose = match *number {
                    1 => zone,
                    // No zone's name has two of these in a row.
                    number => format!("{zone}__{number}"),
                };
                let (name, map) = (format!("onward_{whose}"), format!("passed_on_{whose}"));
                all.push(Onward { name, map, from: Vec::new(), to });
                all.len() - 1
            });
            all[place].from.push(from);
        }
        all
    }
}

impl Onward {
    /// The chain that looks up where packets leave by.
    pub(super) fn chain(&self) -> Chain {
        let look = Then::Look { key: "oifname", map: self.map.clone() };
        Chain {
            name: self.name.clone(),
            about: format!("passed on, from {}", self.from.join(", ")),
            hook: None,
            entries: vec![Entry::Line(Line::lead(vec![], look))],
        }
    }
}

/// All of the file that stands for the rules.
#[derive(Clone, Debug)]
pub(super) struct Chains {
    pub(super) chains: Vec<Chain>,
    /// The verdict maps for traffic that is passed on.
    pub(super) onward: Vec<Onward>,
    /// Elements of the verdict map for traffic to the gateway: from, chain.
    pub(super) gate: Vec<(String, Then)>,
    /// Limits: name, bytes a second.
    pub(super) limits: Vec<(String, u64)>,
}
