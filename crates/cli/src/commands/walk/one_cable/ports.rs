//! The interfaces of this machine that a walk over one cable may use, and what is connected to them.

use crate::args::Walk;
use crate::failure::{CableProblem, Failure, MachineProblem, Malformed, Named, Unknown};
use bastium_core::plan::{NetworkId, Plan};
use bastium_gateway::clean;
use bastium_testbed::cable::{Mac, Port};
use bastium_testbed::trunk::Lanes;
use std::collections::HashMap;
use std::fs;
use std::path::Path;

/// `ARPHRD_LOOPBACK`, as the kernel writes it.
const LOOPBACK: &str = "772";

/// All ports, open, and the networks behind them.
pub(super) struct Ports {
    pub(super) open: Vec<Port>,
    pub(super) lanes: Lanes,
    pub(super) mac: Option<Mac>,
}

/// Opens the interfaces that were named.
///
/// # Errors
/// When one is not there, is in use, or may not be taken by this user.
pub(super) fn open(args: &Walk, plan: &Plan) -> Result<Ports, Failure> {
    let mut names: Vec<String> = Vec::new();
    let trunk = args.trunk.as_ref().map(|name| number(&mut names, name));
    let mut own: HashMap<NetworkId, usize> = HashMap::new();
    for word in &args.interface {
        let (network, interface) = network(plan, word)?;
        let port = number(&mut names, interface);
        if own.insert(network, port).is_some() || Some(port) == trunk {
            return Err(CableProblem::InterfaceTwice(word.to_owned()).into());
        }
    }
    let mut outside = Vec::new();
    for word in &args.outside {
        let (uplink, interface) = uplink(plan, word)?;
        let known = names.len();
        let port = number(&mut names, interface);
        if port < known {
            return Err(CableProblem::OutsideTwice(word.to_owned()).into());
        }
        outside.push((uplink, port));
    }
    if trunk.is_none() && own.is_empty() {
        return Err(CableProblem::OutsideAlone.into());
    }
    let untagged = |port: usize| Some(port) != trunk;
    let mac = args.mac.as_deref().map(mac).transpose()?;
    let mut open = Vec::new();
    for (port, name) in names.iter().enumerate() {
        if !args.take {
            is_free(name, untagged(port))?;
        }
        open.push(port_of(name, mac.is_some())?);
    }
    Ok(Ports { open, lanes: Lanes::of(plan, trunk, &own, &outside), mac })
}

/// The number of a port, which is a new one for an interface that has none yet.
fn number(names: &mut Vec<String>, name: &str) -> usize {
    names.iter().position(|known| known == name).unwrap_or_else(|| {
        names.push(name.to_owned());
        names.len() - 1
    })
}

fn network<'w>(plan: &Plan, word: &'w str) -> Result<(NetworkId, &'w str), Failure> {
    let parts = word.split_once('=');
    let known = parts.and_then(|(name, interface)| {
        let id = plan.network_ids().find(|id| plan.network(*id).name.as_str() == name)?;
        Some((id, interface))
    });
    known.ok_or_else(|| {
        let names = plan.networks().iter().map(|network| network.name.to_string());
        Unknown {
            what: Named::NetworkOfInterface,
            word: word.to_owned(),
            near: None,
            known: names.collect(),
        }
        .into()
    })
}

fn uplink<'w>(plan: &Plan, word: &'w str) -> Result<(usize, &'w str), Failure> {
    let (name, interface) = match word.split_once('=') {
        Some((name, interface)) => (Some(name), interface),
        None => (None, word),
    };
    let is_it =
        |uplink: &bastium_core::plan::Uplink| name.is_none_or(|name| uplink.name.as_str() == name);
    let found = plan.uplinks().iter().position(is_it);
    found.map(|uplink| (uplink, interface)).ok_or_else(|| {
        let names = plan.uplinks().iter().map(|uplink| uplink.name.to_string());
        Unknown {
            what: Named::UplinkOutside,
            word: word.to_owned(),
            near: None,
            known: names.collect(),
        }
        .into()
    })
}

fn mac(word: &str) -> Result<Mac, Failure> {
    let parts: Option<Vec<u8>> = word
        .split([':', '-'])
        .map(|part| u8::from_str_radix(part, 16).ok().filter(|_| part.len() == 2))
        .collect();
    let mac = parts.and_then(|parts| Mac::try_from(parts).ok());
    // A group has no device behind it.
    mac.filter(|mac| mac[0] & 1 == 0).ok_or_else(|| Malformed::Mac(word.to_owned()).into())
}

fn port_of(name: &str, other_mac: bool) -> Result<Port, Failure> {
    let opened = Port::open(name).and_then(|port| {
        if other_mac {
            port.hear_all(name)?;
        }
        Ok(port)
    });
    opened
        .map_err(|error| MachineProblem::Interface { name: clean(name).into_owned(), error }.into())
}

/// Looks whether this machine itself needs an interface.
fn is_free(name: &str, untagged: bool) -> Result<(), Failure> {
    let used = |how| Err(CableProblem::InUse { name: name.to_owned(), how }.into());
    let known = Path::new("/sys/class/net").join(name);
    if fs::read_to_string(known.join("type")).is_ok_and(|kind| kind.trim() == LOOPBACK) {
        return used("leads back to this machine");
    }
    if has_default_route(name) {
        return used("carries this machine's default route");
    }
    let is = |what: &str| known.join(what).exists();
    if is("brport") || is("bridge") || is("master") {
        return used("belongs to a bridge, or to an aggregate");
    }
    let above = fs::read_dir(&known).into_iter().flatten().flatten();
    if above.map(|entry| entry.file_name()).any(|file| file.to_string_lossy().starts_with("upper_"))
    {
        return used("carries other interfaces of this machine, such as VLANs");
    }
    if untagged && passes_on(name) {
        return used("passes packets on to others (forwarding is on)");
    }
    Ok(())
}

fn has_default_route(name: &str) -> bool {
    let read = |file: &str| fs::read_to_string(format!("/proc/net/{file}")).unwrap_or_default();
    let v4 = read("route").lines().any(|line| {
        let words: Vec<&str> = line.split_whitespace().collect();
        words.first() == Some(&name)
            && words.get(1) == Some(&"00000000")
            && words.get(7) == Some(&"00000000")
    });
    let v6 = read("ipv6_route").lines().any(|line| {
        let words: Vec<&str> = line.split_whitespace().collect();
        let everything = words.first().is_some_and(|to| to.bytes().all(|digit| digit == b'0'));
        everything && words.get(1) == Some(&"00") && words.last() == Some(&name)
    });
    v4 || v6
}

fn passes_on(name: &str) -> bool {
    let says = |family: &str| {
        let file = format!("/proc/sys/net/{family}/conf/{name}/forwarding");
        fs::read_to_string(file).is_ok_and(|word| word.trim() != "0")
    };
    says("ipv4") || says("ipv6")
}
