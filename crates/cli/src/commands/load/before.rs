//! What is examined before a load: what else runs there, what will change, and who would be shut out.

use super::wanted::{Ended, Wanted};
use super::{Reporter, words};
use crate::commands::audit;
use crate::commands::running::differs;
use crate::failure::Failure;
use crate::session;
use bastium_core::meaning::Meaning;
use bastium_core::plan::Plan;
use bastium_core::space::{Ends, Interface, Packet, Protocol, ServicePoint};
use bastium_core::verdict::Verdict;
use bastium_gateway::foreign::read_rules;
use bastium_report::sheets::AuditSheet;
use bastium_wire::Running;
use std::net::IpAddr;

/// How many differences are shown one by one.
const MOST: usize = 10;

/// Tables that are not Bastium's stay: together with the new rules they must do what the plan says.
pub(super) fn others(
    wanted: &Wanted<'_>,
    running: &Running,
    reporter: &mut Reporter<'_, '_>,
) -> Result<(), Ended> {
    let others = running.other_tables();
    if others.is_empty() {
        reporter.step("others", "no tables but Bastium's".to_owned())?;
        return Ok(());
    }
    let named = words::plain(&others.join(", "));
    let faults = differs(wanted.meaning, &running.with(wanted.file.text()));
    if faults.is_empty() {
        reporter.step(
            "others",
            format!("{named}: they stay, and change nothing that the plan decides"),
        )?;
        return Ok(());
    }
    reporter.bad(
        "others",
        format!("{named}: with them, the gateway would not match the plan\n{}", items(&faults)),
    )?;
    reporter.session.complain(
        "tables that are not Bastium's change what the plan decides",
        "remove them from the gateway, or say in the plan what they do",
    );
    Err(Ended::Refused)
}

pub(super) fn items(sentences: &[String]) -> String {
    let mut lines: Vec<String> =
        sentences.iter().take(MOST).map(|one| format!("- {}", words::plain(one))).collect();
    if sentences.len() > MOST {
        lines.push(format!("and {} more", sentences.len() - MOST));
    }
    lines.join("\n")
}

/// What will be otherwise for traffic.
pub(super) fn change(
    wanted: &Wanted<'_>,
    running: &Running,
    reporter: &mut Reporter<'_, '_>,
) -> Result<(), Ended> {
    if running.table.is_none() {
        reporter.step("change", "the gateway has no rules of Bastium yet".to_owned())?;
        return Ok(());
    }
    let Ok(foreign) = read_rules(&running.without_cut(), Some(wanted.meaning.plan())) else {
        reporter.step(
            "change",
            "what runs now cannot be read, so nothing is known of what changes".to_owned(),
        )?;
        return Ok(());
    };
    let sheet = AuditSheet::new(&foreign, Some((wanted.meaning, wanted.rules)));
    let says = match (sheet.agrees, audit::differences(&sheet)) {
        (true, _) => "what runs matches the plan already".to_owned(),
        (false, differences) => {
            format!(
                "what runs differs from the plan; the load changes that:\n{}",
                items(&differences)
            )
        }
    };
    reporter.step("change", says)?;
    Ok(())
}

/// What the rules rely on and a load leaves as it is.
pub(super) fn surroundings(
    plan: &Plan,
    running: &Running,
    reporter: &mut Reporter<'_, '_>,
) -> Result<(), Failure> {
    let mut missing = Vec::new();
    for uplink in plan.uplinks() {
        let Some(port) = &uplink.port else { continue };
        match running.interface(port) {
            None => {
                missing.push(format!("- there is no interface {port} (uplink {})", uplink.name))
            }
            Some(own) => {
                let lacks =
                    uplink.addresses.iter().filter(|one| !own.has(one.addr(), one.prefix_len()));
                missing
                    .extend(lacks.map(|one| format!("- {port} does not have the address {one}")));
            }
        }
    }
    for id in plan.network_ids() {
        let Some(interface) = plan.device_name(plan.network_interface(id)) else { continue };
        let there = running.interface(&interface);
        for subnet in &plan.network(id).subnets {
            let (address, length) = (subnet.gateway(), subnet.prefix().prefix_len());
            match there {
                None => missing
                    .push(format!("- there is no interface {interface} ({address}/{length})")),
                Some(own) if !own.has(address, length) => {
                    missing.push(format!(
                        "- {interface} does not have the address {address}/{length}"
                    ));
                }
                Some(_) => {}
            }
        }
    }
    if missing.is_empty() {
        return reporter.step("interfaces", "names and addresses are those of the plan".to_owned());
    }
    reporter.bad(
        "interfaces",
        format!("not as planned; a load does not change them:\n{}", missing.join("\n")),
    )
}

/// Whether the gateway's clock is the site's, where the plan has hours; in a sentence if not. `nft` takes hours in the
/// gateway's own time zone when it loads them, and prints them in it, so that reading them back would not show it.
pub(super) fn other_time(plan: &Plan, running: &Running) -> Option<String> {
    let (site, gateway) = (session::offset(plan), running.offset);
    let differs = !plan.hours().is_empty() && gateway != Some(site);
    differs.then(|| match gateway {
        None => "the plan has hours, and the gateway does not say its time zone".to_owned(),
        Some(gateway) => format!(
            "the plan has hours, and the gateway's clock is {} min from UTC; the site's is {} min",
            gateway / 60,
            site / 60
        ),
    })
}

/// Whether the plan lets the user who loads manage the gateway, in a sentence if not.
pub(super) fn shut_out(meaning: &Meaning<'_>, running: &Running) -> Option<String> {
    let (from, to, port) = running.managed?;
    if from.is_loopback() {
        return None;
    }
    let enters = entrance(meaning.plan(), from);
    let service = ServicePoint::port(Protocol::TCP, port);
    let packet = Packet {
        enters,
        ends: Ends::new(from, to)?,
        service,
        at: session::minute_of_week(meaning.plan()),
    };
    let link_local = matches!(from, IpAddr::V6(from) if from.is_unicast_link_local());
    let denied = meaning.decide(&packet).verdict != Verdict::Allow;
    (denied && !link_local).then(|| {
        format!("the plan does not allow {from} to reach {to} by tcp/{port}, as you do now")
    })
}

/// Where packets from an address come to the gateway.
pub(super) fn entrance(plan: &Plan, from: IpAddr) -> Interface {
    let own = |id| plan.network(id).subnets.iter().any(|subnet| subnet.gateway() == from);
    match plan.network_of(from) {
        Some(id) if own(id) => plan.gateway_interface(),
        Some(id) => plan.network_interface(id),
        None => match plan.routes().iter().find(|route| route.reach.contains(from)) {
            Some(route) => plan.network_interface(route.network),
            None => plan.uplink_interface(0),
        },
    }
}
