//! Errors that a NETCONF server reports.

use crate::netconf::Element;

/// An error as NETCONF has it (RFC 6241, section 4.3).
#[derive(Clone, Debug)]
pub(crate) struct Error {
    kind: &'static str,
    tag: &'static str,
    says: String,
    path: Option<String>,
    session: Option<u64>,
}

impl Error {
    pub(crate) fn new(kind: &'static str, tag: &'static str, says: impl Into<String>) -> Self {
        Self { kind, tag, says: says.into(), path: None, session: None }
    }

    /// The same with where it is.
    pub(crate) fn at(mut self, path: impl Into<String>) -> Self {
        self.path = Some(path.into());
        self
    }

    /// The same with the session that is in the way.
    pub(super) fn held_by(mut self, session: u64) -> Self {
        self.session = Some(session);
        self
    }

    pub(super) fn element(&self) -> Element {
        let say = |name: &str, text: &str| Element::base(name).saying(text);
        let mut error = Element::base("rpc-error")
            .with(say("error-type", self.kind))
            .with(say("error-tag", self.tag))
            .with(say("error-severity", "error"));
        if let Some(path) = &self.path {
            error = error.with(say("error-path", path));
        }
        error = error.with(say("error-message", &self.says));
        match self.session {
            Some(session) => {
                let session = Element::base("session-id").saying(session.to_string());
                error.with(Element::base("error-info").with(session))
            }
            None => error,
        }
    }
}
