//! Arguments of `report`.

use super::Day;
use bastium_report::document::Audience;
use clap::{Args, ValueEnum};
use std::path::PathBuf;

/// Arguments of `report`.
#[derive(Clone, Debug, Args)]
pub struct Report {
    /// Write it to this file, as HTML or Markdown by the ending of its name [default: HTML to standard output]
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
    /// For whom it is
    #[arg(long = "for", value_enum, default_value_t, value_name = "WHOM")]
    pub whom: Whom,
    /// The results of the walk [default: beside the plan, if they are there]
    #[arg(long, value_name = "FILE")]
    pub results: Option<PathBuf>,
    /// Results of other people
    #[arg(long, value_name = "FILE")]
    pub with: Vec<PathBuf>,
    /// Show what each rule has counted, from what `nft list ruleset` printed on the gateway
    #[arg(long, value_name = "FILE")]
    pub running: Option<PathBuf>,
    /// Show what has changed since this commit, or this older plan
    #[arg(long, value_name = "COMMIT or FILE")]
    pub since: Option<PathBuf>,
    /// Overwrite a file that is there
    #[arg(long)]
    pub force: bool,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// For whom a report is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum Whom {
    /// Who owns the site: without management, rules and open findings
    Client,
    /// Who looks after it: all of it
    #[default]
    Engineer,
}

impl From<Whom> for Audience {
    fn from(whom: Whom) -> Self {
        match whom {
            Whom::Client => Self::Client,
            Whom::Engineer => Self::Engineer,
        }
    }
}
