//! Reads what a Linux gateway runs, from the text that `nft` takes and prints or from its JSON.
//!
//! Nothing here knows how Bastium writes such a file; reader and writer share the packet sets alone, so
//! that a mistake in the one cannot hide in the other. From words to packets in three steps: [`text`] and
//! [`json`] make a typed [`Ruleset`]; [`values`] says what words mean; [`lower`] turns chains and jumps
//! into lines of which the first that matches decides. What has no exact meaning here is kept as
//! *unread*, with its place, and is never guessed.

mod cursor;
mod cut;
mod fixed;
mod itself;
mod json;
mod lexer;
mod logged;
mod lower;
mod objects;
mod ruleset;
mod statement;
mod text;
mod values;
mod world;

pub use cut::being_cut;
pub use fixed::at_minute;
pub(crate) use itself::ByItself;
pub(crate) use lower::{
    Conversation, Line, Lowered, Translated, Translation, lower, translated_in, translated_out,
};
pub(crate) use ruleset::{
    Key, Part, Problem, Ruleset, Side, Value, Values, Verdict, interfaces_of, references,
};
pub(crate) use world::{Place, PlanWorld, World, domain_sets, fits};

/// Reads what `nft list ruleset` prints, or what it is given.
///
/// # Errors
/// Where the text cannot be understood as a whole.
pub(crate) fn from_text(text: &str) -> Result<Ruleset, Problem> {
    text::ruleset(text).map(|read| read.with_logs_joined().with_cut_apart())
}

/// Reads what `nft -j list ruleset` prints.
pub(crate) fn from_json(objects: &[serde_json::Value]) -> Ruleset {
    json::ruleset(objects).with_logs_joined().with_cut_apart()
}
