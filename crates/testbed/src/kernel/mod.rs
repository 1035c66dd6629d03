//! Everything that is asked of the Linux kernel: namespaces, the packet filter and its trace, raw packets.

pub mod filter;
pub mod frame;
mod netlink;
pub mod space;
pub mod trace;
