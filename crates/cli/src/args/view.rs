//! What can be typed behind `view`.

use super::Day;
use clap::Args;

/// Arguments of `view`.
#[derive(Clone, Copy, Debug, Args)]
pub struct View {
    /// The day
    #[command(flatten)]
    pub day: Day,
}
