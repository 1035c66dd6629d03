//! What a load is to achieve, and the reasons for which it stops.

use crate::failure::Failure;
use bastium_core::meaning::Meaning;
use bastium_core::rules::RuleSet;
use bastium_gateway::boot::BootFile;
use bastium_gateway::nftables::ProvenFile;
use bastium_wire::Stopped;

/// What is to run, and why.
pub(super) struct Wanted<'a> {
    pub(super) meaning: &'a Meaning<'a>,
    pub(super) rules: &'a RuleSet<'a>,
    pub(super) file: ProvenFile,
    pub(super) names: String,
    pub(super) boot: Vec<BootFile>,
}

/// Why a load does not go on.
pub(super) enum Ended {
    /// The gateway, or the line to it, does not let it.
    Stopped(Stopped),
    /// It would not be right; what is wrong has been shown.
    Refused,
    /// The output failed, or the plan is not one.
    Failed(Failure),
}

impl From<Stopped> for Ended {
    fn from(stopped: Stopped) -> Self {
        Self::Stopped(stopped)
    }
}

impl From<Failure> for Ended {
    fn from(failure: Failure) -> Self {
        Self::Failed(failure)
    }
}
