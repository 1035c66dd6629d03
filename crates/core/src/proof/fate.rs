//! What becomes of a packet, as far as a proof distinguishes it.

use crate::plan::Action;
use crate::verdict::{Decision, Verdict};

/// What a line does, as far as proofs care.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Fate {
    /// No list is asked, so that nothing is compared.
    Unasked,
    /// It is decided so, and logged or not.
    Decided(Action, bool),
    /// It must not get through; how it is stopped, and whether that is logged, is left open.
    Barred,
    /// One of several things other than a verdict, by number: where it is translated to, how fast it may go.
    Value(u32),
}

impl Fate {
    /// The fate of a packet by the meaning.
    pub(crate) fn of(decision: Decision) -> Self {
        match decision.verdict {
            Verdict::Allow => Self::Decided(Action::Allow, decision.logged),
            Verdict::Block => Self::Decided(Action::Block, decision.logged),
            Verdict::Reject => Self::Decided(Action::Reject, decision.logged),
            Verdict::NotRouted | Verdict::NoRoute => Self::Unasked,
        }
    }

    /// What is done, if it is decided at all.
    pub(crate) fn action(self) -> Option<Action> {
        match self {
            Self::Decided(action, _) => Some(action),
            Self::Unasked | Self::Barred | Self::Value(_) => None,
        }
    }

    /// Whether it is decided at all, and otherwise than the other one.
    pub(crate) fn differs(self, other: Self) -> bool {
        match (self, other) {
            (Self::Unasked, _) | (_, Self::Unasked) => false,
            (Self::Barred, Self::Decided(action, _)) | (Self::Decided(action, _), Self::Barred) => {
                action == Action::Allow
            }
            (one, other) => one != other,
        }
    }
}
