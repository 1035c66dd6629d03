//! The addresses of this machine.

use std::io;
use std::net::IpAddr;

/// The addresses that this machine has, the loopback's own range apart.
///
/// # Errors
/// When the system does not tell them.
pub fn addresses() -> io::Result<Vec<IpAddr>> {
    let all = if_addrs::get_if_addrs()?.into_iter().map(|interface| interface.ip());
    Ok(all.filter(|address| !address.is_loopback()).collect())
}

/// The interface that has an address.
///
/// # Errors
/// When the system does not tell.
pub fn interface_with(address: IpAddr) -> io::Result<Option<String>> {
    let mut all = if_addrs::get_if_addrs()?.into_iter();
    Ok(all.find(|interface| interface.ip() == address).map(|interface| interface.name))
}
