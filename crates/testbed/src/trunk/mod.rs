//! Tries a plan over one cable: stands in every network at once, and goes through the list and a sweep.
//!
//! [`Stand::take`] takes the tester's place: who is there, leases, addresses of its own. [`Stand::list`] makes the checks of a
//! list, [`Stand::sweep`] tries every pair of networks by everything that anyone could have left open. What is expected of a
//! packet is what the plan means for it, and nothing else.

mod attempts;
mod judge;
mod lanes;
mod leases;
mod look;
mod practice;
mod rounds;
mod stand;
mod uplinks;

pub use attempts::{Surprise, Swept, Tried, Untried};
pub use judge::{Expected, Far, Shown, Source, Why, Wrong, judge};
pub use lanes::{Lanes, Unplaced};
pub use leases::{LeaseFault, faults};
pub use look::{Looked, look};
pub use practice::Practice;
pub use stand::{Farewell, Manner, Network, Stand, StandIn};
