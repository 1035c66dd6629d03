//! Completion of names from the plan while somebody types.
//!
//! A shell asks with what has been typed so far. The names are those of the plan that a command would read; without one,
//! none are offered.

use crate::plans;
use bastium_core::findings::explain::PAGES;
use bastium_core::plan::Plan;
use bastium_core::service::BUILT_IN;
use clap_complete::{ArgValueCandidates, CompletionCandidate};
use std::path::PathBuf;

/// What may stand at an argument of a command, where that is known.
pub(super) fn of(command: &str, argument: &str) -> Option<ArgValueCandidates> {
    let all: fn() -> Vec<CompletionCandidate> = match (command, argument) {
        ("matrix", "from" | "to") => zones,
        ("ask" | "rules", "from" | "to") => endpoints,
        ("ask", "service") => services,
        ("rename", "old") | ("remove", "name") => entries,
        ("add" | "set" | "remove", "kind") => kinds,
        ("checklist" | "walk", "stand") => networks,
        ("explain", "name") => finding_names,
        _ => return None,
    };
    Some(ArgValueCandidates::new(all))
}

/// The plan, if there is one that can be read.
fn plan() -> Option<Plan> {
    let named = std::env::var_os("BASTIUM_PLAN").filter(|path| !path.is_empty());
    // Nothing may wait for standard input here.
    let named = named.map(PathBuf::from).filter(|path| path.as_os_str() != "-");
    plans::load(named.as_deref()).ok()
}

fn named<'n>(names: impl IntoIterator<Item = &'n str>, help: &str) -> Vec<CompletionCandidate> {
    let one =
        |name: &str| CompletionCandidate::new(name.to_owned()).help(Some(help.to_owned().into()));
    names.into_iter().map(one).collect()
}

fn zones() -> Vec<CompletionCandidate> {
    let Some(plan) = plan() else { return Vec::new() };
    let mut all = named(plan.zones().iter().map(|zone| zone.name.as_str()), "zone");
    all.extend(named(["internet"], "outside"));
    all
}

fn networks() -> Vec<CompletionCandidate> {
    let Some(plan) = plan() else { return Vec::new() };
    let mut all = named(plan.networks().iter().map(|network| network.name.as_str()), "network");
    all.extend(named(plan.hosts().iter().map(|host| host.name.as_str()), "host"));
    all
}

fn endpoints() -> Vec<CompletionCandidate> {
    let Some(plan) = plan() else { return Vec::new() };
    let mut all = zones();
    all.extend(networks());
    all.extend(named(plan.domains().iter().map(|domain| domain.name.as_str()), "domain"));
    all.extend(named(["gateway", "any"], "everywhere the same"));
    all
}

/// Everything that has a name of its own in the tables that are renamed and removed most.
fn entries() -> Vec<CompletionCandidate> {
    let Some(plan) = plan() else { return Vec::new() };
    let mut all = zones();
    all.retain(|one| one.get_value() != "internet");
    all.extend(networks());
    let mut add = |names: Vec<&str>, kind: &str| all.extend(named(names, kind));
    add(plan.routes().iter().map(|one| one.name.as_str()).collect(), "route");
    add(plan.uplinks().iter().map(|one| one.name.as_str()).collect(), "uplink");
    add(plan.groups().iter().map(|one| one.name.as_str()).collect(), "group");
    add(plan.domains().iter().map(|one| one.name.as_str()).collect(), "domain");
    add(plan.services().iter().map(|one| one.name.as_str()).collect(), "service");
    add(plan.hours().iter().map(|one| one.name.as_str()).collect(), "hours");
    add(plan.exceptions().iter().map(|one| one.name.as_str()).collect(), "exception or inbound");
    add(plan.discoveries().iter().map(|one| one.name.as_str()).collect(), "discovery");
    add(plan.streams().iter().map(|one| one.name.as_str()).collect(), "stream");
    all
}

/// The tables that have entries with names.
fn kinds() -> Vec<CompletionCandidate> {
    named(bastium_planfile::format::kinds(), "table")
}

fn services() -> Vec<CompletionCandidate> {
    let built_in = BUILT_IN.iter().map(|service| service.name);
    let mut all = named(built_in, "service");
    if let Some(plan) = plan() {
        all.extend(named(plan.services().iter().map(|one| one.name.as_str()), "service"));
    }
    all
}

fn finding_names() -> Vec<CompletionCandidate> {
    named(PAGES.iter().map(|page| page.name), "finding")
}
