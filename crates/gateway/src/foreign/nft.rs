//! Rules of the kernel's packet filter, from the JSON or the text of `nft`, as one ordered list over pairs of
//! interfaces.

use super::{Foreign, ForeignLine, Named, NotAList, NotUnderstood, Ways, next};
use crate::nftables::read::{
    Conversation, Key, Line, Part, Place, Ruleset, Side, Value, Values, World, domain_sets, fits,
    interfaces_of, lower,
};
use bastium_core::plan::{Action, Plan};
use bastium_core::rules::PlanlessLine;
use bastium_core::space::{AddressSet, Match, Protocol, ServicePoint};
use std::collections::{BTreeSet, HashMap};

/// Makes a list of a rule set.
pub(super) fn list(ruleset: Ruleset, plan: Option<&Plan>) -> Result<Foreign, NotAList> {
    let ways = plan.map_or_else(|| Ways::between(interfaces(&ruleset)), Ways::of)?;
    let world = Pairs {
        ways: &ways,
        filled: plan.map(domain_sets).unwrap_or_default(),
        named: Named::of(plan),
    };
    let lowered = lower(&ruleset, &world, Conversation::Begins);
    let mut not_understood: Vec<NotUnderstood> = Vec::new();
    for problem in &lowered.problems {
        not_understood.push(NotUnderstood { at: problem.at.clone(), what: problem.what.clone() });
    }
    let lines = match &lowered.exhausted {
        None => {
            lowered.lines.iter().enumerate().map(|(number, line)| foreign(number, line)).collect()
        }
        Some(at) => {
            let what = "undecided: chains lead into each other too often, or too deep".to_owned();
            not_understood.push(NotUnderstood { at: at.clone(), what });
            Vec::new()
        }
    };
    let replies = Some(lets_replies(&ruleset, &world));
    let rules = ruleset.tables.iter().flat_map(|table| &table.chains);
    let rules = rules.map(|chain| chain.rules.len()).sum();
    let exhausted = lowered.exhausted.is_some();
    let ruleset = Some(ruleset);
    Ok(Foreign {
        ways,
        lines,
        not_understood,
        replies,
        tells_limits: true,
        rules,
        exhausted,
        ruleset,
        acls: None,
    })
}

fn foreign(number: usize, line: &Line) -> ForeignLine {
    let name = if line.name.is_empty() { &line.at } else { &line.name };
    let name = if line.end { "policy" } else { name };
    ForeignLine {
        bare: PlanlessLine::new(name, next(number), line.matches.clone(), line.action, line.log),
        at: line.at.clone(),
        sure: line.sure,
        hits: line.hits,
        limit: line.limit,
        end: line.end,
    }
}

/// Whether a reply passes: it goes to a port that nobody serves, from which somebody asked (RFC 6056).
fn lets_replies(ruleset: &Ruleset, world: &dyn World) -> bool {
    const ASKED_FROM: u16 = 50_000;
    let follows = lower(ruleset, world, Conversation::GoesOn);
    let point = ServicePoint::port(Protocol::TCP, ASKED_FROM);
    let lets = |line: &Line| {
        let asked = |product: &Match| {
            product.service.v4.contains(point) || product.service.v6.contains(point)
        };
        !line.end && line.action == Action::Allow && line.matches.iter().any(asked)
    };
    follows.lines.iter().any(lets)
}

/// Every interface that some condition, set or map names.
fn interfaces(ruleset: &Ruleset) -> Vec<String> {
    let mut found: BTreeSet<String> = BTreeSet::new();
    let mut add = |keys: &[Key], values: &[Value]| {
        for (key, value) in keys.iter().zip(values) {
            if let (Key::Interface(Side::In | Side::Out), Value::Name(name)) = (key, value)
                && name != "lo"
            {
                found.insert(name.clone());
            }
        }
    };
    for table in &ruleset.tables {
        for set in table.sets.values() {
            set.elements.iter().for_each(|values| add(&set.types, values));
        }
        for map in table.maps.values() {
            map.elements.iter().for_each(|(values, _)| add(&map.types, values));
        }
        for part in table.chains.iter().flat_map(|c| &c.rules).flat_map(|rule| &rule.parts) {
            match part {
                Part::Test(test) => {
                    if let Values::Given(all) = &test.values {
                        all.iter().for_each(|values| add(&test.keys, values));
                    }
                }
                part => interfaces_of(part, &mut add),
            }
        }
    }
    found.into_iter().collect()
}

/// Every pair of interfaces as a way of its own.
struct Pairs<'w> {
    ways: &'w Ways,
    filled: HashMap<String, AddressSet>,
    named: Named,
}

impl World for Pairs<'_> {
    fn at(&self, place: Place) -> Match {
        let ways = self.ways;
        Match::entering(match place {
            Place::Prerouting => ways.arriving(),
            Place::Input => ways.hook(false, true),
            Place::Forward => ways.hook(false, false),
            Place::Output => ways.hook(true, false),
            Place::Postrouting => ways.hook(false, false).union(&ways.hook(true, false)),
        })
    }

    fn interface(&self, side: Side, name: &str) -> Vec<Match> {
        let fits = |own: &str| fits(name, own);
        let interfaces = match side {
            Side::In => self.ways.entering(fits),
            Side::Out => self.ways.leaving(fits),
        };
        vec![Match::entering(interfaces)]
    }

    fn translated(&self) -> Match {
        Match::entering(self.ways.translated())
    }

    fn own(&self) -> AddressSet {
        AddressSet::empty()
    }

    fn meant(&self, written: AddressSet) -> AddressSet {
        self.named.meant_by(written)
    }

    fn filled(&self, set: &str) -> Option<AddressSet> {
        self.filled.get(set).cloned()
    }
}
