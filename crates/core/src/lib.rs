//! x
#![forbid(unsafe_code)]
pub mod addressing;
pub mod diagnosis;
pub mod name;
pub mod plan;
pub mod service;
pub mod source;
pub mod space;
pub mod rules;
pub mod proof;
pub mod meaning;
pub mod verdict;
