//! The matrix: what happens from zone to zone.

use super::ZoneId;
use crate::source::Span;

/// What is done with a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Action {
    /// It passes.
    Allow,
    /// It vanishes; nothing comes back.
    Block,
    /// It is refused with an answer.
    Reject,
}

impl Action {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Allow, Self::Block, Self::Reject];

    /// Its name in the plan.
    pub fn word(self) -> &'static str {
        match self {
            Self::Allow => "allow",
            Self::Block => "block",
            Self::Reject => "reject",
        }
    }

    /// The action of that name.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|action| action.word() == word)
    }
}

/// What is logged unless a cell or an exception says otherwise.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LogPolicy {
    /// Nothing.
    None,
    /// What is blocked or rejected.
    Block,
    /// What is allowed.
    Allow,
    /// Everything.
    All,
}

impl LogPolicy {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::None, Self::Block, Self::Allow, Self::All];

    /// Its name in the plan.
    pub fn word(self) -> &'static str {
        match self {
            Self::None => "none",
            Self::Block => "block",
            Self::Allow => "allow",
            Self::All => "all",
        }
    }

    /// Whether that action is logged.
    pub fn logs(self, action: Action) -> bool {
        match self {
            Self::None => false,
            Self::Block => action != Action::Allow,
            Self::Allow => action == Action::Allow,
            Self::All => true,
        }
    }
}

/// The two ways to say no.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Denial {
    /// Silently.
    Block,
    /// With an answer.
    Reject,
}

impl From<Denial> for Action {
    fn from(denial: Denial) -> Self {
        match denial {
            Denial::Block => Self::Block,
            Denial::Reject => Self::Reject,
        }
    }
}

/// What happens to anything that the matrix does not speak of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Unmatched {
    /// How it is denied.
    pub denial: Denial,
    /// Whether it is logged.
    pub log: bool,
    /// Where the plan says so; the default stands nowhere.
    pub at: Option<Span>,
}

/// One cell of the matrix.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Cell {
    /// What happens; `None` for `-`, where nothing is said and nothing should pass.
    pub action: Option<Action>,
    /// Whether it is logged.
    pub log: bool,
    /// Where it stands in the grid.
    pub at: Span,
}

/// The matrix of a plan: a cell for each ordered pair of zones.
#[derive(Clone, Debug)]
pub struct Matrix {
    pub(super) cells: Vec<Vec<Cell>>,
    pub(super) log: LogPolicy,
    pub(super) unmatched: Unmatched,
}

impl Matrix {
    /// The cell that decides from one zone to another; the diagonal for two networks of one zone.
    pub fn cell(&self, from: ZoneId, to: ZoneId) -> &Cell {
        &self.cells[from.index()][to.index()]
    }

    /// What is logged by default.
    pub fn log(&self) -> LogPolicy {
        self.log
    }

    /// What happens to the rest.
    pub fn unmatched(&self) -> Unmatched {
        self.unmatched
    }
}
