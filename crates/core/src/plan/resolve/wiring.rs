//! Switches, access points and Wi-Fi names.

use super::super::draft;
use super::super::ids::NetworkId;
use super::super::model::{Gateway, Network};
use super::super::wiring::{
    AccessPoint, AccessPointId, Hang, Switch, SwitchId, SwitchPort, Tagged, Wifi, Wiring,
};
use super::{Resolver, names, nearest_or};
use crate::diagnosis::{Diagnose, Diagnosis, error};
use crate::graph;
use crate::name::{Name, nearest};
use crate::source::{Span, Text};
use std::collections::HashMap;

/// What can be wrong with the wiring.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum WiringProblem {
    /// It does not say what it hangs on, which network it leads into, or where it is.
    Incomplete { what: String, missing: &'static str, at: Span },
    /// Another switch or access point has the name.
    Twice { name: Name, at: Span, first: Span },
    /// What it hangs on is not there.
    UnknownHang { word: String, nearest: Option<String>, at: Span },
    /// It hangs on a port that the switch does not have.
    UnknownPort { switch: Name, port: String, at: Span },
    /// A number of ports that no switch has.
    PortCount { count: i64, at: Span },
    /// A port beyond those that the switch has.
    Beyond { switch: Name, port: String, count: u16, at: Span, first: Span },
    /// Switches hang on each other in a circle.
    Circle { names: Vec<String>, at: Span },
    /// A range of ports that is none.
    PortRange { word: String, at: Span },
    /// A port stands in two entries.
    PortTwice { switch: Name, port: String, at: Span, first: Span },
    /// A network that a port cannot carry: there is none, or it is a tunnel, or it has no VLAN id.
    NotCarried { word: String, reason: &'static str, nearest: Option<String>, at: Span },
    /// A band that is none.
    Band { word: String, at: Span },
    /// A shown name that is empty or too long.
    Shown { length: usize, at: Span },
    /// An access point that is not there.
    UnknownAccessPoint { word: String, nearest: Option<String>, at: Span },
}

impl Diagnose for WiringProblem {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::Incomplete { what, missing, at } => error("incomplete-wiring", at)
                .says(format!("{what} does not say `{missing}`"))
                .help(match *missing {
                    "hangs-on" => {
                        "add a line like `hangs-on = \"lan1\"`, or \"rack:13\" for a switch port"
                    }
                    "network" => "add a line like `network = \"desks\"`",
                    "on" => "add a line like `on = [\"hall\"]`, the access points that send it",
                    _ => "add a line like `name = \"Fernside Guests\"`, as people see it",
                }),
            Self::Twice { name, at, first } => error("name-taken", at)
                .says(format!(
                    "`{name}` is already the name of a switch, access point or Wi-Fi network"
                ))
                .help("give one of the two another name")
                .also(*first, "declared here"),
            Self::UnknownHang { word, nearest, at } => error("unknown-port", at)
                .says(format!("`{word}` is neither a port of the gateway nor one of a switch"))
                .help(nearest_or(
                    nearest.as_ref(),
                    "write a port of `gateway.ports`, an aggregate, or `switch:port`",
                )),
            Self::UnknownPort { switch, port, at } => error("unknown-port", at)
                .says(format!("switch `{switch}` has no port `{port}`"))
                .help(format!("declare it in `[switch.{switch}.ports]`")),
            Self::PortCount { count, at } => error("bad-port-name", at)
                .says(format!("a switch has 1 to {MOST_PORTS} ports, not {count}"))
                .help("write how many ports it has, as in `has-ports = 24`"),
            Self::Beyond { switch, port, count, at, first } => error("unknown-port", at)
                .says(format!("switch `{switch}` has the ports 1 to {count}, and no port {port}"))
                .help("correct the port, or `has-ports`")
                .also(*first, "as many as this"),
            Self::Circle { names, at } => error("switch-circle", at)
                .says(format!("these switches are connected in a loop: {}", names.join(" -> ")))
                .why("none of them is connected to the gateway")
                .help("connect one of them to a port of the gateway"),
            Self::PortRange { word, at } => error("bad-port-name", at)
                .says(format!("`{word}` is not a port, nor a range of ports"))
                .help("write \"7\", \"3-12\", or the port's name"),
            Self::PortTwice { switch, port, at, first } => error("port-twice", at)
                .says(format!("port {port} of switch `{switch}` is declared twice"))
                .help("list each port in one entry only")
                .also(*first, "the other one"),
            Self::NotCarried { word, reason, nearest, at } => error("not-carried", at)
                .says(format!("a port cannot carry `{word}`: {reason}"))
                .help(nearest_or(nearest.as_ref(), "name a network, or give it a `vlan`")),
            Self::Band { word, at } => error("unknown-choice", at)
                .says(format!("`{word}` is not a Wi-Fi band"))
                .help("write \"2.4\", \"5\" or \"6\" (GHz)"),
            Self::Shown { length, at } => error("bad-wifi-name", at)
                .says(format!("a Wi-Fi name has 1 to 32 bytes; this one has {length}"))
                .why("IEEE 802.11 limits an SSID to 32 bytes")
                .help("shorten it"),
            Self::UnknownAccessPoint { word, nearest, at } => error("unknown-access-point", at)
                .says(format!("no access point is called `{word}`"))
                .help(nearest_or(nearest.as_ref(), "declare it as `[access-point.NAME]`")),
        }
    }
}

/// The most ports that a switch may have, a stack of them included.
const MOST_PORTS: u32 = 1024;

/// What the wiring can speak of.
struct Known<'a> {
    gateway: &'a Gateway,
    networks: &'a [Option<Network>],
    switches: Vec<(Name, &'a draft::Switch)>,
}

/// The wiring; the problems of what cannot be built are noted.
pub(super) fn wiring(
    draft: &draft::Draft,
    gateway: &Gateway,
    networks: &[Option<Network>],
    resolver: &mut Resolver,
) -> Wiring {
    let mut seen: HashMap<Name, Span> = HashMap::new();
    let switches =
        draft.switches.iter().filter_map(|s| Some((fresh(&s.name, &mut seen, resolver)?, s)));
    let known = Known { gateway, networks, switches: switches.collect() };
    let mut wiring = Wiring::default();
    let mut whole = true;
    for (name, draft) in &known.switches {
        let ports = ports(name, draft, &known, resolver);
        let has_ports = has_ports(name, draft, resolver);
        let what = format!("switch `{name}`");
        let hang = hang(draft.hangs_on.as_ref(), &what, draft.name.at, &known, resolver);
        whole &= hang.is_some();
        let hangs_on = hang.unwrap_or(Hang::Gateway(String::new()));
        let uplinks = draft.uplinks.iter().map(|word| word.value.clone()).collect();
        let (name, at) = (name.clone(), draft.name.at);
        wiring.switches.push(Switch { name, hangs_on, uplinks, has_ports, ports, at });
    }
    circle(&wiring.switches, resolver);
    let mut points: Vec<(Name, &draft::AccessPoint)> = Vec::new();
    for draft in &draft.access_points {
        let Some(name) = fresh(&draft.name, &mut seen, resolver) else { continue };
        let what = format!("access point `{name}`");
        if let Some(hangs_on) =
            hang(draft.hangs_on.as_ref(), &what, draft.name.at, &known, resolver)
        {
            let (name, at) = (name.clone(), draft.name.at);
            wiring.access_points.push(AccessPoint { name, hangs_on, at });
        }
        points.push((name, draft));
    }
    existing_ports(&wiring, whole, draft, resolver);
    // A Wi-Fi name may well be called like the access point that sends it.
    let mut seen = HashMap::new();
    let all = draft.wifi.iter();
    wiring.wifi = all.filter_map(|w| wifi(w, &points, &known, &mut seen, resolver)).collect();
    wiring
}

fn fresh(word: &Text, seen: &mut HashMap<Name, Span>, resolver: &mut Resolver) -> Option<Name> {
    let name = names::name(word, resolver)?;
    if let Some(first) = seen.insert(name.clone(), word.at) {
        resolver.problem(WiringProblem::Twice { name, at: word.at, first });
        return None;
    }
    Some(name)
}

fn hang(
    word: Option<&Text>,
    what: &str,
    at: Span,
    known: &Known<'_>,
    resolver: &mut Resolver,
) -> Option<Hang> {
    let Some(word) = word else {
        let what = what.to_owned();
        resolver.problem(WiringProblem::Incomplete { what, missing: "hangs-on", at });
        return None;
    };
    let gateway = known.gateway;
    let own = || gateway.ports.iter().chain(gateway.aggregates.iter().map(|entry| &entry.0));
    if own().any(|port| *port == word.value) {
        return Some(Hang::Gateway(word.value.clone()));
    }
    if let Some((switch, port)) = word.value.split_once(':') {
        let found = known.switches.iter().position(|entry| entry.0.as_str() == switch.trim());
        if let Some(found) = found {
            return Some(Hang::Switch(SwitchId(found), port.trim().to_owned()));
        }
    }
    let switches = known.switches.iter().map(|entry| entry.0.as_str());
    resolver.problem(WiringProblem::UnknownHang {
        word: word.value.clone(),
        nearest: nearest(&word.value, own().map(String::as_str).chain(switches)).map(str::to_owned),
        at: word.at,
    });
    None
}

fn circle(switches: &[Switch], resolver: &mut Resolver) {
    let needs = switches.iter().map(|switch| match &switch.hangs_on {
        Hang::Switch(id, _) => vec![id.index()],
        Hang::Gateway(_) => Vec::new(),
    });
    let needs: Vec<Vec<usize>> = needs.collect();
    if let Some(circle) = graph::sort(&needs).circle {
        let at = switches[circle[0]].at;
        let names = circle.iter().map(|index| switches[*index].name.to_string()).collect();
        resolver.problem(WiringProblem::Circle { names, at });
    }
}

/// Checks that whatever hangs on a switch port hangs on one that is declared.
fn existing_ports(wiring: &Wiring, whole: bool, draft: &draft::Draft, resolver: &mut Resolver) {
    if !whole {
        return;
    }
    let hangs = wiring.switches.iter().map(|switch| (&switch.name, &switch.hangs_on));
    let hangs =
        hangs.chain(wiring.access_points.iter().map(|point| (&point.name, &point.hangs_on)));
    for (name, hang) in hangs {
        let Hang::Switch(id, port) = hang else { continue };
        let switch = wiring.switch(*id);
        if switch.port(port).is_none() {
            let words = draft.switches.iter().map(|s| (&s.name, &s.hangs_on));
            let words = words.chain(draft.access_points.iter().map(|p| (&p.name, &p.hangs_on)));
            let mut place = words.filter(|entry| entry.0.value == name.as_str());
            let at = place.find_map(|entry| entry.1.as_ref()).map_or(switch.at, |word| word.at);
            let (switch, port) = (switch.name.clone(), port.clone());
            resolver.problem(WiringProblem::UnknownPort { switch, port, at });
        }
    }
}

fn ports(
    switch: &Name,
    draft: &draft::Switch,
    known: &Known<'_>,
    resolver: &mut Resolver,
) -> Vec<SwitchPort> {
    let mut ports: Vec<SwitchPort> = Vec::new();
    for entry in &draft.ports {
        let at = entry.name.at;
        let Some(names) = port_names(&entry.name.value) else {
            resolver.problem(WiringProblem::PortRange { word: entry.name.value.clone(), at });
            continue;
        };
        let tagged = match &entry.tagged {
            Some(words) if words.iter().any(|word| word.value == "all") => Tagged::All,
            Some(words) => {
                let carried = words.iter().filter_map(|word| carried(word, true, known, resolver));
                Tagged::These(carried.collect())
            }
            None => Tagged::These(Vec::new()),
        };
        let untagged =
            entry.untagged.as_ref().and_then(|word| carried(word, false, known, resolver));
        for name in names {
            if let Some(first) = ports.iter().find(|port| port.name == name) {
                let (switch, first) = (switch.clone(), first.at);
                resolver.problem(WiringProblem::PortTwice { switch, port: name, at, first });
                continue;
            }
            ports.push(SwitchPort { name, tagged: tagged.clone(), untagged, at });
        }
    }
    ports
}

/// How many ports a switch says that it has; and which of those that are spoken of are beyond.
fn has_ports(switch: &Name, draft: &draft::Switch, resolver: &mut Resolver) -> Option<u16> {
    let said = draft.has_ports.as_ref()?;
    let count =
        u16::try_from(said.value).ok().filter(|n| (1..=MOST_PORTS).contains(&u32::from(*n)));
    let Some(count) = count else {
        resolver.problem(WiringProblem::PortCount { count: said.value, at: said.at });
        return None;
    };
    let own = draft.ports.iter().map(|entry| &entry.name);
    for word in own.chain(&draft.uplinks) {
        let last = port_names(&word.value).and_then(|names| names.last().cloned());
        let beyond = last.filter(|port| {
            port.parse::<u32>().is_ok_and(|port| port == 0 || port > u32::from(count))
        });
        if let Some(port) = beyond {
            let (switch, first) = (switch.clone(), said.at);
            resolver.problem(WiringProblem::Beyond { switch, port, count, at: word.at, first });
        }
    }
    Some(count)
}

/// `7`, `3-12` (each of them), or a name of up to 16 letters and digits.
fn port_names(word: &str) -> Option<Vec<String>> {
    if let Some((first, last)) = word.split_once('-')
        && let (Ok(first), Ok(last)) = (first.trim().parse::<u32>(), last.trim().parse::<u32>())
    {
        let good = 1 <= first && first <= last && last <= MOST_PORTS;
        return good.then(|| (first..=last).map(|n| n.to_string()).collect());
    }
    let good = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '/' | '.');
    let fits = (1..=16).contains(&word.len()) && word.chars().all(good);
    fits.then(|| vec![word.to_owned()])
}

/// A network that a port carries, with its tag or without.
fn carried(
    word: &Text,
    tagged: bool,
    known: &Known<'_>,
    resolver: &mut Resolver,
) -> Option<NetworkId> {
    let built = known.networks.iter().enumerate();
    let mut built = built.filter_map(|(index, network)| Some((index, network.as_ref()?)));
    let found = built.find(|(_, network)| network.name.as_str() == word.value);
    let reason = match found {
        Some((_, network)) if network.tunnel.is_some() => "it is a tunnel",
        Some((_, network)) if tagged && network.vlan.is_none() => {
            "it has no VLAN id to be tagged with"
        }
        Some((index, _)) => return Some(NetworkId(index)),
        None if resolver.declares_network(&word.value) => return None,
        None => "no network has that name",
    };
    let names = known.networks.iter().flatten().map(|network| network.name.as_str());
    resolver.problem(WiringProblem::NotCarried {
        word: word.value.clone(),
        reason,
        nearest: nearest(&word.value, names).filter(|_| found.is_none()).map(str::to_owned),
        at: word.at,
    });
    None
}

fn wifi(
    draft: &draft::Wifi,
    points: &[(Name, &draft::AccessPoint)],
    known: &Known<'_>,
    seen: &mut HashMap<Name, Span>,
    resolver: &mut Resolver,
) -> Option<Wifi> {
    let name = fresh(&draft.name, seen, resolver)?;
    let at = draft.name.at;
    let mut missing = |missing| {
        let what = format!("Wi-Fi `{name}`");
        resolver.problem(WiringProblem::Incomplete { what, missing, at });
    };
    if draft.shown.is_none() {
        missing("name");
    }
    if draft.network.is_none() {
        missing("network");
    }
    if draft.on.is_empty() {
        missing("on");
    }
    if let Some(shown) = draft.shown.as_ref().filter(|s| !(1..=32).contains(&s.value.len())) {
        resolver.problem(WiringProblem::Shown { length: shown.value.len(), at: shown.at });
    }
    let network = draft.network.as_ref().and_then(|word| carried(word, true, known, resolver));
    let mut bands = Vec::new();
    for word in &draft.bands {
        match ["2.4", "5", "6"].into_iter().find(|band| *band == word.value) {
            Some(band) => bands.push(band),
            None => resolver.problem(WiringProblem::Band { word: word.value.clone(), at: word.at }),
        }
    }
    let mut on = Vec::new();
    for word in &draft.on {
        match points.iter().position(|point| point.0.as_str() == word.value) {
            Some(index) => on.push(AccessPointId(index)),
            None => resolver.problem(WiringProblem::UnknownAccessPoint {
                word: word.value.clone(),
                nearest: nearest(&word.value, points.iter().map(|p| p.0.as_str()))
                    .map(str::to_owned),
                at: word.at,
            }),
        }
    }
    let shown = draft.shown.as_ref()?.value.clone();
    Some(Wifi { name, shown, network: network?, bands, on, at })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn port_ranges_are_written_out() {
        assert_eq!(port_names("3-5"), Some(vec!["3".into(), "4".into(), "5".into()]));
        assert_eq!(port_names("sfp-1"), Some(vec!["sfp-1".into()]));
        assert_eq!(port_names("1/0/24"), Some(vec!["1/0/24".into()]));
        for bad in ["5-3", "", "a b", "0-2", "1-9999"] {
            assert_eq!(port_names(bad), None, "{bad}");
        }
    }
}
