//! The edition of the JSON.

/// The edition of the JSON, which is the first key of every sheet.
pub(crate) const EDITION: u8 = 1;
