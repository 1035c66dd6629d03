//! Numbers with their nouns: "1 rule", "2 rules".

use std::fmt::Display;

/// A number of things: `1 check`, `2 checks`.
pub fn count<N: Copy + Display + PartialEq + From<u8>>(number: N, thing: &str) -> String {
    format!("{number} {thing}{}", either(number, "", "s"))
}

/// The word that goes with a number of things: the one for a single thing, or the one for several or none.
///
/// ```
/// use bastium_core::words::{count, either};
///
/// let says = |number: usize| {
///     format!("{} {} left", count(number, "check"), either(number, "is", "are"))
/// };
/// assert_eq!(says(1), "1 check is left");
/// assert_eq!(says(0), "0 checks are left");
/// ```
pub fn either<'w, N: PartialEq + From<u8>>(number: N, one: &'w str, several: &'w str) -> &'w str {
    if number == N::from(1) { one } else { several }
}
