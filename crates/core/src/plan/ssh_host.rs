//! Where a gateway is reached by SSH.

use std::fmt;
use std::str::FromStr;

/// A gateway, as `ssh` takes it: `HOST`, `USER@HOST`, or a name from its configuration. It is never an option, and holds
/// nothing that a shell or a terminal would take for more than a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SshHost(String);

/// Why a text names no gateway.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum NotAnSshHost {
    /// There is nothing in it, or too much.
    #[error("a host has between 1 and {} letters", SshHost::LONGEST)]
    Length,
    /// It begins with a hyphen: `ssh` would take it for an option.
    #[error("neither a user nor a host begins with a hyphen, or is empty")]
    Option,
    /// A character that no name of a host or user has.
    #[error("`{}` stands in no name of a host or user", .0.escape_default())]
    Character(char),
}

impl SshHost {
    /// The longest name, in bytes: a user's name, and a name in the DNS (RFC 1035).
    pub const LONGEST: usize = 320;

    /// The text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// How a gateway is reached over the network.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Reach {
    /// Where it is.
    pub host: SshHost,
    /// Whether it is spoken to by NETCONF (RFC 6242), and not by its shell.
    pub netconf: bool,
}

impl FromStr for Reach {
    type Err = NotAnSshHost;

    fn from_str(text: &str) -> Result<Self, NotAnSshHost> {
        let (netconf, host) = match text.strip_prefix("netconf://") {
            Some(host) => (true, host),
            None => (false, text),
        };
        Ok(Self { host: host.parse()?, netconf })
    }
}

impl fmt::Display for Reach {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let scheme = if self.netconf { "netconf://" } else { "" };
        write!(f, "{scheme}{}", self.host)
    }
}

impl FromStr for SshHost {
    type Err = NotAnSshHost;

    fn from_str(text: &str) -> Result<Self, NotAnSshHost> {
        if text.is_empty() || text.len() > Self::LONGEST {
            return Err(NotAnSshHost::Length);
        }
        // After the user's name, too: what stands there is passed on to other programs by some configurations.
        if text.split('@').any(|part| part.is_empty() || part.starts_with('-')) {
            return Err(NotAnSshHost::Option);
        }
        let allowed = |one: char| one.is_ascii_alphanumeric() || "@._-:%".contains(one);
        match text.chars().find(|one| !allowed(*one)) {
            Some(one) => Err(NotAnSshHost::Character(one)),
            None => Ok(Self(text.to_owned())),
        }
    }
}

impl fmt::Display for SshHost {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_plain_name_is_refused() {
        for fine in
            ["gw", "root@10.44.10.1", "admin@gw.example", "fd6b:2f4e::1", "root@fe80::1%lan1"]
        {
            assert!(fine.parse::<SshHost>().is_ok(), "{fine}");
        }
        let refused = [
            "",
            "-oProxyCommand=id",
            "root@-oProxyCommand=id",
            "@gw",
            "gw@",
            "gw -p 1",
            "gw;id",
            "gw\n",
            "$(id)",
            "`id`",
            "gw\u{202e}",
            "ssh://gw",
            "gw/x",
            "a=b",
            "gw'",
            "\"gw\"",
            "gw\\x",
            "~/x",
        ];
        for text in refused {
            assert!(text.parse::<SshHost>().is_err(), "{text}");
        }
        assert!("g".repeat(SshHost::LONGEST + 1).parse::<SshHost>().is_err());
    }
}
