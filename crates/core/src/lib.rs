//! x
#![forbid(unsafe_code)]
pub mod addressing;
pub mod asking;
pub mod checklist;
pub mod diagnosis;
pub mod findings;
mod graph;
pub mod meaning;
pub mod name;
pub mod plan;
pub mod proof;
pub mod rules;
mod sample;
pub mod service;
pub mod source;
pub mod space;
pub mod verdict;
