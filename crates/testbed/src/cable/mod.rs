//! One cable to every network of a site: this machine stands in each of them at once, and is both ends of what is
//! tried.
//!
//! Frames are made and understood here, and no address is given to this machine's own kernel: what is tried cannot take a way
//! through it, no frame passes from one network to another, and nothing is left behind when this process ends. Whether something
//! gets through is seen where it arrives, so that silence need not be waited for.

mod claims;
mod conversations;
mod ends;
mod frame;
mod lease;
mod letters;
mod outside;
mod port;
mod provider;
mod trials;

pub use claims::Found;
pub use ends::{Ends, Lane};
pub use frame::{Mac, link_local};
pub use letters::{Advertised, Leased, Offer};
pub use port::Port;
pub use provider::{Handout, LISTENS, Provided};
pub use trials::{Answer, Arrival, Ask, Came, Conversation, Pace, Side, Silence, Words};
