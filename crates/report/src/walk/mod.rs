//! The results of a walk through the checklist: an append-only file with one JSON object per line, and its
//! evaluation.

mod junit;
mod record;
mod recorded;
mod sheet;

pub use junit::junit;
pub use record::{BadLine, Outcome, Record, line, read};
pub use recorded::{Abouts, Recorded, abouts};
pub use sheet::{ResultRow, State, WalkSheet};
