//! What the pictures show, taken from a plan.

mod matrix;
mod site;
mod small;
mod zones;

pub use matrix::matrix_grid;
pub use site::site_tree;
pub(crate) use small::rule_grid;
pub use small::{changed_grid, tried_grid};
pub use zones::zone_map;

use bastium_core::plan::Exception;
use bastium_core::space::ServiceSet;
use bastium_gateway::clean;

/// A text of the plan as it may stand in a picture: what would turn a line round, or hide, shown as what it is.
fn shown(text: &str) -> String {
    clean(text).into_owned()
}

/// The services of an exception as the plan has them; `None` for all of them.
fn service_name(exception: &Exception) -> Option<String> {
    (exception.service.set != ServiceSet::any()).then(|| shown(&exception.service.text))
}

/// What an exception is about: `vets to records: https, hours deliveries`.
fn exception_words(exception: &Exception) -> String {
    let (from, to) = (shown(&exception.from.text), shown(&exception.to.text));
    let service = service_name(exception).unwrap_or("anything".to_owned());
    let mut words = format!("{from} to {to}: {service}");
    if let Some(hours) = &exception.hours {
        words.push_str(&format!(", hours {}", hours.name));
    }
    if let Some(limit) = exception.limit_mbps {
        words.push_str(&format!(", up to {limit} Mbit/s"));
    }
    words
}
