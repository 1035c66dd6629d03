//! Words that many sentences need.

/// A number of things: `1 check`, `2 checks`.
pub fn count(number: usize, thing: &str) -> String {
    let plural = if number == 1 { "" } else { "s" };
    format!("{number} {thing}{plural}")
}
