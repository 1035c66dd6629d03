//! The kinds of packets that rules for replies tell apart.
//!
//! A rule for replies looks at the source port, and of TCP it takes only segments that open no connection. Two
//! packets are of one kind if the same rules take them. Whether a real packet of that kind can exist is not asked:
//! that makes the checks stricter, never weaker.

use crate::space::{Protocol, ServiceSet};
use std::collections::HashMap;

/// Some kinds of packets, which the rules at hand treat alike.
#[derive(Clone, Debug)]
pub(super) struct Kind {
    /// One of their views.
    pub(super) view: usize,
    /// The ports that they come from.
    pub(super) from: ServiceSet,
    /// Whether packets are among them that no rule takes for a reply, wherever they come from: what opens a connection of
    /// TCP.
    pub(super) opens: bool,
}

impl Kind {
    /// The ports that the first packet of a conversation comes from, if it is of these kinds. Of ICMP nothing is known.
    pub(super) fn asks_from(&self) -> ServiceSet {
        let free = [Protocol::TCP, Protocol::ICMP, Protocol::ICMP_V6].map(ServiceSet::protocol);
        if self.opens {
            return free.iter().fold(self.from.clone(), |all, one| all.union(one));
        }
        self.from.difference(&ServiceSet::protocol(Protocol::TCP))
    }
}

/// One kind of packets: the ports that they come from, and which lines can have one.
#[derive(Clone, Debug)]
struct View {
    from: ServiceSet,
    opens: bool,
    takes: Vec<bool>,
}

/// All kinds of packets.
#[derive(Clone, Debug)]
pub(super) struct Views(Vec<View>);

impl Views {
    /// The kinds that lines tell apart, each line by the ports that it looks at, if it is for replies.
    pub(super) fn of(lines: &[Option<&ServiceSet>]) -> Self {
        let mut seen: Vec<&ServiceSet> = Vec::new();
        for from in lines.iter().flatten() {
            if !seen.contains(from) {
                seen.push(from);
            }
        }
        let named = seen.iter().fold(ServiceSet::empty(), |all, from| all.union(from));
        let mut parts = vec![named.clone()];
        for from in &seen {
            let cut =
                parts.iter().flat_map(|part| [part.intersection(from), part.difference(from)]);
            parts = cut.filter(|part| !part.is_empty()).collect();
        }
        let takes = lines.iter().map(Option::is_none).collect();
        let others = ServiceSet::any().difference(&named);
        let mut views = vec![View { from: others, opens: true, takes }];
        let mut known: HashMap<Vec<bool>, usize> = HashMap::new();
        for part in parts.into_iter().filter(|part| !part.is_empty()) {
            let takes = |line: &Option<&ServiceSet>| line.is_none_or(|from| part.is_subset(from));
            let takes: Vec<bool> = lines.iter().map(takes).collect();
            match known.get(&takes) {
                Some(view) => views[*view].from = views[*view].from.union(&part),
                None => {
                    known.insert(takes.clone(), views.len());
                    views.push(View { from: part, opens: false, takes });
                }
            }
        }
        Self(views)
    }

    /// Whether a line can have packets of a kind.
    pub(super) fn takes(&self, view: usize, line: usize) -> bool {
        self.0[view].takes[line]
    }

    /// The kinds of packets that a line has, as far as the lines near it tell them apart.
    pub(super) fn of_line(&self, line: usize, near: &[usize]) -> Vec<Kind> {
        let mut kinds: Vec<Kind> = Vec::new();
        let mut known: HashMap<Vec<bool>, usize> = HashMap::new();
        for (view, one) in self.0.iter().enumerate().filter(|(_, view)| view.takes[line]) {
            let signature: Vec<bool> = near.iter().map(|line| one.takes[*line]).collect();
            match known.get(&signature) {
                Some(kind) => {
                    let kind = &mut kinds[*kind];
                    kind.from = kind.from.union(&one.from);
                    kind.opens |= one.opens;
                }
                None => {
                    known.insert(signature, kinds.len());
                    kinds.push(Kind { view, from: one.from.clone(), opens: one.opens });
                }
            }
        }
        kinds
    }
}
