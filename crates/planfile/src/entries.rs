//! Tables about traffic: offered services, hours, guarantees, accepted findings.

use crate::fields::Fields;
use bastium_core::plan::draft::{self, Draft};
use bastium_core::source::Text;

/// Reads them into the draft.
pub(crate) fn read(fields: &Fields<'_, '_>, draft: &mut Draft) {
    draft.tunnels = fields.each("tunnel", tunnel);
    draft.routes = fields.each("route", route);
    draft.domains = fields.each("domain", domain);
    draft.hours = fields.each("hours", hours);
    draft.inbounds = fields.each("inbound", inbound);
    draft.discoveries = fields.each("discovery", discovery);
    draft.streams = fields.each("stream", stream);
    draft.never = fields.each("never", guarantee);
    draft.always = fields.each("always", guarantee);
    draft.known = fields.named_texts("known");
}

fn tunnel(fields: &Fields<'_, '_>) -> draft::Tunnel {
    draft::Tunnel {
        name: fields.name(),
        zone: fields.text("zone"),
        clients: fields.texts("clients").unwrap_or_default(),
        gateway: fields.texts("gateway").unwrap_or_default(),
        listens: fields.texts("listens"),
        hosts: fields.number("hosts"),
        uses: fields.texts("uses-gateway-for"),
    }
}

fn route(fields: &Fields<'_, '_>) -> draft::Route {
    draft::Route {
        name: fields.name(),
        to: fields.text("to"),
        via: fields.text("via"),
        zone: fields.text("zone"),
    }
}

fn domain(fields: &Fields<'_, '_>) -> draft::Domain {
    draft::Domain { name: fields.name(), names: fields.texts("names").unwrap_or_default() }
}

/// One span written directly into the table, or several as `spans`.
fn hours(fields: &Fields<'_, '_>) -> draft::Hours {
    let name = fields.name();
    let spans = match fields.tables("spans") {
        Some(spans) => spans.iter().map(span).collect(),
        None => vec![span(fields)],
    };
    draft::Hours { name, spans }
}

fn span(fields: &Fields<'_, '_>) -> draft::HourSpan {
    draft::HourSpan {
        days: fields.texts("days").unwrap_or_default(),
        from: fields.text("from"),
        to: fields.text("to"),
        at: fields.at(),
    }
}

/// Offered to everyone on the internet, unless it says to whom.
fn inbound(fields: &Fields<'_, '_>) -> draft::Inbound {
    let from = fields.texts("from").unwrap_or_else(|| vec![Text::new("internet")]);
    let host = fields.texts("host").unwrap_or_default();
    draft::Inbound {
        permission: draft::Exception {
            from,
            to: host,
            action: Some(Text::new("allow")),
            ..permission(fields)
        },
        outside_port: fields.number("outside-port"),
        uplink: fields.text("uplink"),
        translate: fields.flag("translate"),
    }
}

fn discovery(fields: &Fields<'_, '_>) -> draft::Discovery {
    draft::Discovery { name: fields.name(), between: fields.texts("between").unwrap_or_default() }
}

fn stream(fields: &Fields<'_, '_>) -> draft::Stream {
    draft::Stream {
        name: fields.name(),
        from: fields.texts("from").unwrap_or_default(),
        to: fields.texts("to").unwrap_or_default(),
        mbps: fields.decimal("mbps"),
    }
}

fn guarantee(fields: &Fields<'_, '_>) -> draft::Guarantee {
    draft::Guarantee {
        name: fields.name(),
        from: fields.texts("from").unwrap_or_default(),
        to: fields.texts("to").unwrap_or_default(),
        service: fields.texts("service"),
    }
}

/// The keys that exceptions and offered services have in common.
pub(crate) fn permission(fields: &Fields<'_, '_>) -> draft::Exception {
    draft::Exception {
        name: fields.name(),
        tags: fields.texts("tags").unwrap_or_default(),
        service: fields.texts("service"),
        why: fields.text("why"),
        ticket: fields.text("ticket"),
        owner: fields.text("owner"),
        log: fields.flag("log"),
        until: fields.day("until"),
        off: fields.flag("off"),
        before: fields.texts("before").unwrap_or_default(),
        hours: fields.text("hours"),
        limit_mbps: fields.decimal("limit-mbps"),
        ..draft::Exception::default()
    }
}
