//! Arguments of `rules`.

use super::{Day, FormName};
use bastium_core::plan::Action;
use bastium_report::sheets::RuleColumn;
use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap::{ArgGroup, Args};

/// Arguments of `rules`.
#[derive(Clone, Debug, Args)]
#[command(group(ArgGroup::new("choice").args(["from", "find", "tag", "action"]).multiple(true)))]
pub struct Rules {
    /// Show only rules for packets from this endpoint ...
    #[arg(requires = "to")]
    pub from: Option<String>,
    /// ... to this endpoint
    pub to: Option<String>,
    /// Show only rules that contain this word
    #[arg(long, value_name = "WORD")]
    pub find: Option<String>,
    /// Show only rules that belong to this tag: of their entry, or of what they come from, go to, or are for
    #[arg(long, value_name = "TAG")]
    pub tag: Option<String>,
    /// Show only rules with this action
    #[arg(long, value_parser = actions())]
    pub action: Option<Action>,
    /// Show the rules that these options would leave out
    #[arg(long, requires = "choice")]
    pub not: bool,
    /// Show the reason of each rule, too
    #[arg(long)]
    pub why: bool,
    /// Show these columns, values in full (JSON always has all)
    #[arg(long, value_name = "COLUMN,...", value_delimiter = ',', value_parser = rule_columns())]
    pub columns: Vec<RuleColumn>,
    /// Compile for this form [default: the plan's own]
    #[arg(long, value_enum)]
    pub form: Option<FormName>,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

fn actions() -> impl TypedValueParser<Value = Action> {
    PossibleValuesParser::new(Action::ALL.map(Action::word))
        .try_map(|word| Action::from_word(&word).ok_or("no action"))
}

fn rule_columns() -> impl TypedValueParser<Value = RuleColumn> {
    PossibleValuesParser::new(RuleColumn::ALL.map(RuleColumn::word)).try_map(|word| {
        RuleColumn::ALL.into_iter().find(|column| column.word() == word).ok_or("no column")
    })
}
