//! Arguments of `view` and `watch`.

use super::Day;
use clap::Args;

/// Arguments of `view`.
#[derive(Clone, Copy, Debug, Args)]
pub struct View {
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// Arguments of `watch`.
#[derive(Clone, Copy, Debug, Args)]
pub struct Watch {
    /// End after so many saves that changed something
    #[arg(long, value_name = "NUMBER")]
    pub saves: Option<u32>,
    /// The day
    #[command(flatten)]
    pub day: Day,
}
