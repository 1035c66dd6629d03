//! What is asked of the Linux kernel, and nothing else: namespaces, the packet filter and its trace,
//! packets made by hand.

pub mod filter;
pub mod frame;
mod netlink;
pub mod space;
pub mod trace;
