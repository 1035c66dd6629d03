//! What stands in the file and is not read by this version.

use crate::diagnosis::{Diagnose, Diagnosis, Severity};
use crate::plan::{Plan, Unread, UnreadKind};

/// A table or key that is not read yet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UnreadFinding(pub Unread);

impl Diagnose for UnreadFinding {
    fn diagnose(&self) -> Diagnosis {
        let Unread { what, kind } = &self.0;
        let traffic = *kind == UnreadKind::Traffic;
        let severity = if traffic { Severity::Warning } else { Severity::Advice };
        Diagnosis::new("not-read-yet", severity, Some(what.at))
            .says(format!("`{}` is not read yet by this version", what.value))
            .why(if traffic {
                "every answer is given as if it were not there, though it changes what may pass"
            } else {
                "every answer is given as if it were not there"
            })
            .cure("keep it for a later version, and do not rely on it until then")
    }
}

pub(super) fn find(plan: &Plan) -> Vec<UnreadFinding> {
    plan.unread().iter().cloned().map(UnreadFinding).collect()
}
