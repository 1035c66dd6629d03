//! What came of a walk through the checklist: a file of results, one JSON object a line, to which is only
//! ever added; and what they come to.

mod junit;
mod record;
mod recorded;
mod sheet;

pub use junit::junit;
pub use record::{BadLine, Outcome, Record, line, read};
pub use recorded::{Abouts, Recorded, abouts};
pub use sheet::{ResultRow, State, WalkSheet};
