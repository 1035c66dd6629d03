//! The tables about traffic: ways in and out, times, promises, and findings that are kept.

use crate::fields::Fields;
use crate::tables::{each, permission};
use bastium_core::plan::draft::{self, Draft};
use bastium_core::source::Text;

/// Reads them into the draft.
pub(crate) fn read(fields: &mut Fields<'_, '_, '_>, draft: &mut Draft) {
    draft.tunnels = each(fields, "tunnel", tunnel);
    draft.routes = each(fields, "route", route);
    draft.domains = each(fields, "domain", domain);
    draft.hours = each(fields, "hours", hours);
    draft.inbounds = each(fields, "inbound", inbound);
    draft.discoveries = each(fields, "discovery", discovery);
    draft.streams = each(fields, "stream", stream);
    draft.never = each(fields, "never", guarantee);
    draft.always = each(fields, "always", guarantee);
    if let Some((table, at)) = fields.table("known") {
        let name = Text { at, ..Text::default() };
        let mut known = Fields::new(table, "[known]".to_owned(), name, fields.notes());
        draft.known = known.named_texts();
    }
}

fn tunnel(fields: &mut Fields<'_, '_, '_>) -> draft::Tunnel {
    fields.text("about");
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

fn route(fields: &mut Fields<'_, '_, '_>) -> draft::Route {
    fields.text("about");
    draft::Route {
        name: fields.name(),
        to: fields.text("to"),
        via: fields.text("via"),
        zone: fields.text("zone"),
    }
}

fn domain(fields: &mut Fields<'_, '_, '_>) -> draft::Domain {
    fields.text("about");
    draft::Domain { name: fields.name(), names: fields.texts("names").unwrap_or_default() }
}

/// One span written directly into the table, or several as `spans`.
fn hours(fields: &mut Fields<'_, '_, '_>) -> draft::Hours {
    fields.text("about");
    let name = fields.name();
    if let Some(tables) = fields.tables("spans") {
        let label = format!("[hours.{}] spans", name.value);
        let mut spans = Vec::new();
        for (table, at) in tables {
            let own = Text { at, ..Text::default() };
            let mut inner = Fields::new(table, label.clone(), own, fields.notes());
            spans.push(span(&mut inner));
            inner.finish();
        }
        return draft::Hours { name, spans };
    }
    let spans = vec![span(fields)];
    draft::Hours { name, spans }
}

fn span(fields: &mut Fields<'_, '_, '_>) -> draft::HourSpan {
    draft::HourSpan {
        days: fields.texts("days").unwrap_or_default(),
        from: fields.text("from"),
        to: fields.text("to"),
        at: fields.name().at,
    }
}

/// Offered to everyone on the internet, unless it says to whom.
fn inbound(fields: &mut Fields<'_, '_, '_>) -> draft::Inbound {
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

fn discovery(fields: &mut Fields<'_, '_, '_>) -> draft::Discovery {
    fields.text("about");
    draft::Discovery { name: fields.name(), between: fields.texts("between").unwrap_or_default() }
}

fn stream(fields: &mut Fields<'_, '_, '_>) -> draft::Stream {
    fields.text("about");
    draft::Stream {
        name: fields.name(),
        from: fields.texts("from").unwrap_or_default(),
        to: fields.texts("to").unwrap_or_default(),
        mbps: fields.decimal("mbps"),
    }
}

fn guarantee(fields: &mut Fields<'_, '_, '_>) -> draft::Guarantee {
    fields.text("why");
    draft::Guarantee {
        name: fields.name(),
        from: fields.texts("from").unwrap_or_default(),
        to: fields.texts("to").unwrap_or_default(),
        service: fields.texts("service"),
    }
}
