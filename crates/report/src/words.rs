//! Words that many sentences need.

/// A number of things: `1 check`, `2 checks`.
pub fn count(number: usize, thing: &str) -> String {
    format!("{number} {thing}{}", either(number, "", "s"))
}

/// The word that goes with a number of things: the one for a single thing, or the one for several or none.
///
/// ```
/// use bastium_report::{count, either};
///
/// let says = |number| format!("{} {} left", count(number, "check"), either(number, "is", "are"));
/// assert_eq!(says(1), "1 check is left");
/// assert_eq!(says(0), "0 checks are left");
/// ```
pub fn either<'w>(number: usize, one: &'w str, several: &'w str) -> &'w str {
    if number == 1 { one } else { several }
}
