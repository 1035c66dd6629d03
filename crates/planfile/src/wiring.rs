//! Reads the tables about cabling: switches with their ports, access points, Wi-Fi names.

use crate::fields::Fields;
use bastium_core::plan::draft::{self, Draft};

/// Reads them into the draft.
pub(crate) fn read(fields: &Fields<'_, '_>, draft: &mut Draft) {
    draft.switches = fields.each("switch", switch);
    draft.access_points = fields.each("access-point", access_point);
    draft.wifi = fields.each("wifi", wifi);
}

fn switch(fields: &Fields<'_, '_>) -> draft::Switch {
    draft::Switch {
        name: fields.name(),
        hangs_on: fields.text("hangs-on"),
        uplinks: fields.texts("by").unwrap_or_default(),
        has_ports: fields.number("has-ports"),
        ports: fields.each("ports", switch_port),
    }
}

fn switch_port(fields: &Fields<'_, '_>) -> draft::SwitchPort {
    draft::SwitchPort {
        name: fields.name(),
        tagged: fields.texts("tagged"),
        untagged: fields.text("untagged"),
    }
}

fn access_point(fields: &Fields<'_, '_>) -> draft::AccessPoint {
    draft::AccessPoint { name: fields.name(), hangs_on: fields.text("hangs-on") }
}

fn wifi(fields: &Fields<'_, '_>) -> draft::Wifi {
    draft::Wifi {
        name: fields.name(),
        shown: fields.text("name"),
        network: fields.text("network"),
        bands: fields.texts("bands").unwrap_or_default(),
        on: fields.texts("on").unwrap_or_default(),
    }
}
