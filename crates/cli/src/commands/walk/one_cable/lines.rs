//! The results of a walk over one cable, on a terminal.

use super::NOT_BY_CABLE;
use crate::show::{self, style};
use anstyle::Style;
use bastium_report::count;
use bastium_report::sheets::{CableNetwork, CableSheet};

/// The report, a line each.
pub(super) fn lines(sheet: &CableSheet) -> Vec<(Style, String)> {
    let mut lines = Vec::new();
    let inside = sheet.networks.iter().filter(|network| !network.gateway.is_empty()).count();
    let sum = |of: fn(&CableNetwork) -> &Vec<String>| -> usize {
        sheet.networks.iter().map(|network| of(network).len()).sum()
    };
    let (own, stood_in, present) =
        (sum(|one| &one.own), sum(|one| &one.stood_in), sum(|one| &one.present));
    lines.push((
        style::PLAIN,
        format!(
            "stood in {} at once for {}, with {own} addresses of its own and {stood_in} of absent hosts; {}",
            count(inside, "network"),
            took(sheet.took_ms),
            match present {
                0 => "no host of the plan is there itself".to_owned(),
                1 => "1 address of the plan's hosts is in use".to_owned(),
                many => format!("{many} addresses of the plan's hosts are in use"),
            },
        ),
    ));
    for network in &sheet.networks {
        if let Some(address) = &network.leased_to_gateway {
            let says = format!(
                "{}: in place of the provider, the gateway was leased {address} for five minutes",
                network.name
            );
            lines.push((style::PLAIN, says));
        }
        for at in &network.silent {
            lines.push((
                style::BAD,
                format!("{}: the gateway does not answer at {at}", network.name),
            ));
        }
        for fault in &network.faults {
            lines.push((style::BAD, format!("{}: {fault}", network.name)));
        }
    }
    for reason in &sheet.not_reached {
        lines.push((style::WARN, format!("{} was not reached: {}", reason.what, reason.why)));
    }
    lines.extend(sheet.warnings.iter().map(|says| (style::WARN, says.clone())));
    if let Some(sweep) = &sheet.sweep {
        lines.extend(show::sweep::lines(sweep));
    }
    if !sheet.not_tried.is_empty() {
        lines.push((style::PLAIN, "of the list not tried, or not shown:".to_owned()));
        lines.extend(
            sheet
                .not_tried
                .iter()
                .map(|one| (style::FAINT, format!("- {}: {}", one.count, one.why))),
        );
    }
    lines
}

/// How long it took.
fn took(millis: u64) -> String {
    match usize::try_from(millis / 1_000).unwrap_or(usize::MAX) {
        0 => "less than a second".to_owned(),
        seconds @ 1..120 => count(seconds, "second"),
        seconds => count(seconds / 60, "minute"),
    }
}

/// What it all comes to, and whether that is good.
pub(super) fn answer(sheet: &CableSheet) -> (bool, String) {
    if sheet.finds_something() {
        let found = sheet.sweep.as_ref().map_or(0, |sweep| sweep.surprises.len());
        let wrong = sheet.networks.iter().filter(|network| network.has_fault()).count();
        let says = format!(
            "not as planned: {} of the list, {} of the sweep, {}; {NOT_BY_CABLE}",
            count(sheet.walk.failed, "check"),
            count(found, "difference"),
            count(wrong, "network"),
        );
        return (false, says);
    }
    if sheet.without_control > 0 {
        let says = format!(
            "no all-clear: {} showed nothing, since the gateway did not answer before and after; is the cable in?",
            count(sheet.without_control, "conversation")
        );
        return (false, says);
    }
    (true, format!("nothing that was tried is otherwise than planned; {NOT_BY_CABLE}"))
}
