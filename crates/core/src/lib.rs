//! What is true about a site's networks: the computation of Bastium, without files, terminal, clock,
//! environment, network or printing. Whatever it needs is handed in; `clippy.toml` beside this crate
//! holds that border.
//!
//! # The way through
//!
//! 1. [`plan`]: a reader hands in a [`plan::draft::Draft`], words with positions, and
//!    [`plan::resolve`] makes a [`plan::Plan`] of it, or reports all of its problems at once. From there
//!    on no name is unknown and no address lies outside its subnet. [`addressing`] and [`service`] are
//!    what plans are made of.
//! 2. [`space`]: exact sets of packets. Every question below is put to them, and none is sampled.
//! 3. [`meaning`]: what the plan says about a packet on one day, directly from its entries. Here
//!    exceptions that contradict each other are refused, with a packet to show it.
//! 4. [`rules`]: the same plan compiled to ordered lists, where the first match wins. This is a second
//!    way to a verdict and shares nothing with the first but the sets and the plan.
//! 5. [`proof`]: whether the two say the same, over whole sets of packets.
//! 6. [`changeover`]: how to get from the rules of one plan to those of another, an edit at a time.
//! 7. [`asking`], [`findings`] and [`checklist`]: one question with its answer; mistakes and risks; the
//!    tests to make in the building. [`sweep`]: those for a machine that stands in every network at once.
//!
//! [`verdict`] holds the words that meaning and rules share; [`diagnosis`] how problems read;
//! [`source`] and [`name`] where words stand and what a name is; [`words`] which word goes with a number.
//!
//! # Habits
//!
//! Problems are enums with fields, beside the operation that meets them; a
//! [`diagnosis::Diagnosis`] is how one reads. A [`verdict::Decision`] always carries its cause. What
//! takes a plan with a meaning asks for a [`meaning::Meaning`], which only the check can make.

#![forbid(unsafe_code)]

pub mod addressing;
pub mod asking;
pub mod blocked;
pub mod changeover;
pub mod checklist;
pub mod diagnosis;
mod example;
pub mod findings;
mod graph;
pub mod meaning;
pub mod name;
pub mod plan;
pub mod proof;
pub mod rules;
pub mod service;
pub mod source;
pub mod space;
pub mod sweep;
pub mod verdict;
pub mod wiring;
pub mod words;
