//! Products of sets, exactly, as they are written with rules; and rule lists read back from there.

use bastium_core::addressing::Placeholder;
use bastium_core::plan::{Action, Plan};
use bastium_core::rules::PlanlessLine;
use bastium_core::space::{
    AddressSet, Coordinate, Interface, IntervalSet, Match, Minute, ServicePoint, ServiceSet,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;

/// A product: every packet that enters at one of these places, from one of these sources, and so on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ProductRow {
    /// Networks, uplinks, `gateway`; `NAME translated` for what was translated after it came in there.
    pub enters: Vec<String>,
    /// Addresses, prefixes, ranges; names of what has no address known beforehand.
    pub source: Vec<String>,
    /// The same.
    pub destination: Vec<String>,
    /// Services in IPv4, from and to: protocol * 65536, plus the port, or type * 256 plus code of ICMP.
    pub service_v4: Vec<(u32, u32)>,
    /// The same in IPv6.
    pub service_v6: Vec<(u32, u32)>,
    /// Minutes of the week, from and to, from Monday at midnight; empty for always.
    pub minutes: Vec<(u16, u16)>,
}

pub(super) fn products(plan: &Plan, products: Vec<Match>) -> Vec<ProductRow> {
    products.into_iter().map(|product| row(plan, &product)).collect()
}

fn row(plan: &Plan, product: &Match) -> ProductRow {
    let last = plan.translated_interface(plan.gateway_interface()).0;
    let interfaces =
        (0..=last).map(Interface).filter(|interface| product.enters.contains(*interface));
    let enters = interfaces.map(|interface| match plan.is_translated(interface) {
        true => format!("{} translated", plan.interface_name(interface)),
        false => plan.interface_name(interface).to_owned(),
    });
    let minutes = product.at.spans().iter().map(|(low, high)| (low.number(), high.number()));
    let services = |line: &IntervalSet<ServicePoint>| {
        line.spans().iter().map(|(low, high)| (low.number(), high.number())).collect()
    };
    ProductRow {
        enters: enters.collect(),
        source: plan.set_words(&product.source),
        destination: plan.set_words(&product.destination),
        service_v4: services(&product.service.v4),
        service_v6: services(&product.service.v6),
        minutes: if product.at.is_full() { Vec::new() } else { minutes.collect() },
    }
}

/// What of a rule list matters when it is read back.
#[derive(Clone, Debug, Deserialize)]
pub struct RuleFile {
    /// Whether all rules are there.
    pub whole: bool,
    /// The day that it is for.
    pub day: String,
    /// The form that it is in.
    pub form: String,
    lists: Vec<FileList>,
}

#[derive(Clone, Debug, Deserialize)]
struct FileList {
    name: String,
    rules: Vec<FileRule>,
    otherwise: String,
    rest: Vec<ProductRow>,
}

#[derive(Clone, Debug, Deserialize)]
struct FileRule {
    id: String,
    number: u32,
    action: String,
    log: bool,
    matches: Vec<ProductRow>,
}

/// Why a file is no rule list.
#[derive(Debug, thiserror::Error)]
pub enum RuleFileProblem {
    /// It is not the JSON of one.
    #[error("it is not the JSON of a rule set: {0}")]
    NotOne(#[source] serde_json::Error),
    /// Only some rules are in it.
    #[error("only some rules are in it")]
    InPart,
    /// A word in it says nothing.
    #[error("`{0}` says nothing in it")]
    Word(String),
    /// There are more names in it than can be distinguished.
    #[error("there are more names in it than can be distinguished")]
    TooMany,
}

/// Names that two files share: interfaces, and what has no address.
#[derive(Clone, Debug, Default)]
pub struct Names {
    /// The interfaces.
    pub interfaces: Vec<String>,
    /// What has no address known beforehand.
    pub strangers: Vec<String>,
    places: [HashMap<String, u16>; 2],
}

impl Names {
    fn interface(&mut self, name: &str) -> Result<Interface, RuleFileProblem> {
        Ok(Interface(place(&mut self.interfaces, &mut self.places[0], name)?))
    }

    fn stranger(&mut self, name: &str) -> Result<AddressSet, RuleFileProblem> {
        Ok(Placeholder::Domain(place(&mut self.strangers, &mut self.places[1], name)?).set())
    }

    /// What an address stands for.
    pub fn stranger_at(&self, set: &AddressSet) -> Option<&str> {
        let mut all = (0u16..).zip(&self.strangers);
        let found = all.find(|(number, _)| {
            let own = Placeholder::Domain(*number).set();
            !set.is_empty() && set.is_subset(&own)
        });
        found.map(|(_, name)| name.as_str())
    }
}

/// The most names of a kind in two files: places are numbered with sixteen bits.
const MOST_NAMES: usize = 60_000;

fn place(
    names: &mut Vec<String>,
    places: &mut HashMap<String, u16>,
    name: &str,
) -> Result<u16, RuleFileProblem> {
    if let Some(place) = places.get(name) {
        return Ok(*place);
    }
    let place = u16::try_from(names.len()).ok().filter(|_| names.len() < MOST_NAMES);
    let place = place.ok_or(RuleFileProblem::TooMany)?;
    names.push(name.to_owned());
    places.insert(name.to_owned(), place);
    Ok(place)
}

impl RuleFile {
    /// Reads the JSON of `bastium rules`.
    ///
    /// # Errors
    /// When it is none, or not all of one.
    pub fn read(text: &str) -> Result<Self, RuleFileProblem> {
        let file: Self = serde_json::from_str(text).map_err(RuleFileProblem::NotOne)?;
        if file.whole { Ok(file) } else { Err(RuleFileProblem::InPart) }
    }

    /// Its lines, in the order in which they are asked.
    ///
    /// # Errors
    /// When a word in it says nothing.
    pub fn lines(&self, names: &mut Names) -> Result<Vec<PlanlessLine>, RuleFileProblem> {
        let mut lines = Vec::new();
        let all = |rows: &[ProductRow], names: &mut Names| -> Result<Vec<Match>, RuleFileProblem> {
            rows.iter().map(|row| product(row, names)).collect()
        };
        for list in &self.lists {
            for rule in &list.rules {
                let action = action(&rule.action)?;
                let matches = all(&rule.matches, names)?;
                lines.push(PlanlessLine::new(&rule.id, rule.number, matches, action, rule.log));
            }
            if list.otherwise != "go on" {
                let rest = all(&list.rest, names)?;
                let end = action(&list.otherwise)?;
                lines.push(PlanlessLine::new(
                    &format!("the end of {}", list.name),
                    0,
                    rest,
                    end,
                    false,
                ));
            }
        }
        Ok(lines)
    }
}

fn action(word: &str) -> Result<Action, RuleFileProblem> {
    let all = [Action::Allow, Action::Block, Action::Reject];
    let found = all.into_iter().find(|action| action.word() == word);
    found.ok_or_else(|| RuleFileProblem::Word(word.to_owned()))
}

fn product(row: &ProductRow, names: &mut Names) -> Result<Match, RuleFileProblem> {
    let enters = row.enters.iter().map(|name| names.interface(name)).collect::<Result<_, _>>()?;
    let mut addresses = |words: &[String]| -> Result<AddressSet, RuleFileProblem> {
        let own =
            |word: &String| AddressSet::from_word(word).map_or_else(|| names.stranger(word), Ok);
        words.iter().map(own).collect()
    };
    // What no packet has is named, and not bent into what some have.
    let point = |number: u32| {
        let beyond = || format!("a service above {}", ServicePoint::LAST.number());
        ServicePoint::from_number(number).ok_or_else(|| RuleFileProblem::Word(beyond()))
    };
    let line = |spans: &[(u32, u32)]| -> Result<IntervalSet<ServicePoint>, RuleFileProblem> {
        let spans = spans.iter().map(|(low, high)| Ok((point(*low)?, point(*high)?)));
        Ok(IntervalSet::from_spans(spans.collect::<Result<Vec<_>, RuleFileProblem>>()?))
    };
    if row.minutes.iter().any(|(low, high)| low.max(high) >= &Minute::PER_WEEK) {
        return Err(RuleFileProblem::Word("a minute beyond the week".to_owned()));
    }
    let minutes = row.minutes.iter().filter(|(low, high)| low <= high);
    let minutes = minutes.map(|(low, high)| (Minute::new(*low), Minute::new(*high)));
    Ok(Match {
        enters,
        source: addresses(&row.source)?,
        destination: addresses(&row.destination)?,
        service: ServiceSet { v4: line(&row.service_v4)?, v6: line(&row.service_v6)? },
        at: if row.minutes.is_empty() {
            IntervalSet::full()
        } else {
            IntervalSet::from_spans(minutes)
        },
    })
}
