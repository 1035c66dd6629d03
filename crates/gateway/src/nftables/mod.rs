//! The rules as one file for the packet filter of a Linux gateway, to be loaded with `nft -f`.
//!
//! The file replaces the one table that it is about, whole and at once. A list of rules becomes a chain;
//! which chain a packet goes through is looked up by the interfaces that it comes and leaves by. What is
//! sure before a chain is asked ([`Surroundings`]) is not asked again in it, so that a rule says little
//! more than what a person would write. Every line that belongs to a rule carries the rule's [`tag`] as
//! its comment, and as the prefix of what it logs.
//!
//! From small to large: a `Test` is one condition of a line, `matching` makes tests of
//! exact packet sets, `chains` makes chains of lists, `names` says which sets get a name, and this
//! file puts everything together.

mod addresses;
mod chains;
mod cut;
mod difference;
mod held;
mod hits;
mod hours;
mod matching;
mod names;
mod onward;
mod proof;
pub(crate) mod read;
mod service;
mod tag;
mod test;
mod translation;
mod write;

pub(crate) use addresses::Known;
pub use cut::{CUT_TABLE, Cut, Flow, MOST_CUT, cut_table, may_begin, never_begins};
pub use difference::{RunningTable, Transaction, replaced, transaction};
pub use held::{Aspect, Fault, Held, speed};
pub(crate) use held::{Manner, held};
pub use hits::hits;
pub use proof::{NoProof, ProvenFile, prove, write as proven};
pub use read::{at_minute, being_cut};
pub(crate) use tag::fingerprint;
pub use tag::is_beside_rules;
pub use tag::{LOG_MARK, tag, tags};

use bastium_core::plan::Plan;
use bastium_core::rules::{RuleSet, Surroundings};
use bastium_core::space::Minute;
use std::collections::HashMap;

/// The table that the file is about.
pub const TABLE: &str = "bastium";

/// How the file is written.
#[derive(Clone, Copy, Debug, Default)]
#[non_exhaustive]
pub struct NftOptions {
    /// Takes the rules as they are in this minute of the week, for good: a rule for other hours is left
    /// out, one for these hours says no hours. For trying out what holds at another time.
    pub at: Option<Minute>,
}

impl NftOptions {
    /// Rules fixed as they are in a minute of the week.
    pub fn at(minute: Minute) -> Self {
        Self { at: Some(minute) }
    }
}

/// Why rules cannot be carried out by a Linux gateway.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoInterface {
    /// The plan does not say at which port of the gateway a network arrives.
    #[error("network {0}")]
    Network(String),
    /// Nor where an uplink does.
    #[error("uplink {0}")]
    Uplink(String),
}

/// Writes the rules of a plan, in a form that keeps state and sees packets after they are translated
/// (`per-pair` or `one-list`), as a file for `nft -f`.
///
/// # Errors
/// Every network and uplink whose interface the plan does not name.
pub fn nftables(rules: &RuleSet, options: NftOptions) -> Result<String, Vec<NoInterface>> {
    let plan = rules.plan();
    let surroundings = Surroundings::of(plan);
    let interfaces = interfaces(plan, &surroundings)?;
    let context = WriteContext { plan, rules, surroundings, interfaces, options };
    Ok(write::file(&context, &chains::all(&context)))
}

/// By interface: the name of the interface.
fn interfaces(plan: &Plan, around: &Surroundings) -> Result<Vec<String>, Vec<NoInterface>> {
    let mut missing = Vec::new();
    let mut names = Vec::new();
    for interface in around.interfaces() {
        match plan.device_name(interface) {
            Some(name) => names.push(name),
            None if plan.network_on(interface).is_some() => {
                missing.push(NoInterface::Network(plan.interface_name(interface).to_owned()));
            }
            None => missing.push(NoInterface::Uplink(plan.interface_name(interface).to_owned())),
        }
    }
    if missing.is_empty() { Ok(names) } else { Err(missing) }
}

/// What is at hand while the file is written.
struct WriteContext<'p> {
    plan: &'p Plan,
    rules: &'p RuleSet<'p>,
    surroundings: Surroundings,
    interfaces: Vec<String>,
    options: NftOptions,
}

impl WriteContext<'_> {
    /// The names of all interfaces towards the outside.
    fn uplinks(&self) -> Vec<String> {
        let spans = self.plan.uplink_interfaces();
        let interfaces = spans.spans().iter().flat_map(|(low, high)| low.0..=high.0);
        interfaces.map(|interface| self.interfaces[usize::from(interface)].clone()).collect()
    }

    /// The mark that conversations of a rule with a limit get, by the name of its exception.
    fn marks(&self) -> HashMap<String, u32> {
        let mut marks: HashMap<String, u32> = HashMap::new();
        for exception in self.plan.exceptions().iter().filter(|e| e.limit_mbps.is_some()) {
            let mut mark = tag::fingerprint(exception.name.as_str()).max(1);
            while marks.values().any(|other| *other == mark) {
                mark = mark.wrapping_add(1).max(1);
            }
            marks.insert(exception.name.to_string(), mark);
        }
        marks
    }
}

/// A rate as a gateway takes it, in whole bytes a second.
#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "a cast of a float takes the nearest number that fits"
)]
pub(crate) fn bytes_per_second(mbps: f64) -> u64 {
    (mbps * 125_000.0).ceil() as u64
}
