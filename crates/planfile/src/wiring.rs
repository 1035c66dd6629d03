//! The tables about cables: switches with their ports, access points, Wi-Fi names.

use crate::fields::Fields;
use crate::tables::each;
use bastium_core::plan::draft::{self, Draft};

/// Reads them into the draft.
pub(crate) fn read(fields: &mut Fields<'_, '_, '_>, draft: &mut Draft) {
    draft.switches = each(fields, "switch", switch);
    draft.access_points = each(fields, "access-point", access_point);
    draft.wifi = each(fields, "wifi", wifi);
}

fn switch(fields: &mut Fields<'_, '_, '_>) -> draft::Switch {
    fields.text("about");
    let mut ports = Vec::new();
    let label = format!("[switch.{}.ports]", fields.name().value);
    for (name, table) in fields.entries("ports") {
        let mut port = Fields::new(table, label.clone(), name, fields.notes());
        port.text("about");
        ports.push(draft::SwitchPort {
            name: port.name(),
            tagged: port.texts("tagged"),
            untagged: port.text("untagged"),
        });
        port.finish();
    }
    draft::Switch {
        name: fields.name(),
        hangs_on: fields.text("hangs-on"),
        uplinks: fields.texts("by").unwrap_or_default(),
        has_ports: fields.number("has-ports"),
        ports,
    }
}

fn access_point(fields: &mut Fields<'_, '_, '_>) -> draft::AccessPoint {
    fields.text("about");
    draft::AccessPoint { name: fields.name(), hangs_on: fields.text("hangs-on") }
}

fn wifi(fields: &mut Fields<'_, '_, '_>) -> draft::Wifi {
    fields.text("about");
    draft::Wifi {
        name: fields.name(),
        shown: fields.text("name"),
        network: fields.text("network"),
        bands: fields.texts("bands").unwrap_or_default(),
        on: fields.texts("on").unwrap_or_default(),
    }
}
