//! Service literals: `tcp/443`, `udp/5000-5010`, `icmp/echo`, a bare protocol, `any`.

use crate::space::{Protocol, ServiceSet};

/// Why a word that looks like a service literal is none.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum LiteralProblem {
    /// What stands before the slash is no protocol.
    #[error("`{0}` is not a protocol")]
    UnknownProtocol(String),
    /// What stands after the slash is no port from 1 to 65535.
    #[error("`{0}` is not a port")]
    NotAPort(String),
    /// A range runs from the higher port to the lower one.
    #[error("the port range {from}-{to} runs backwards")]
    Reversed {
        /// The port it begins with.
        from: u16,
        /// The port it ends with.
        to: u16,
    },
    /// The protocol has no ports.
    #[error("`{0}` has no ports")]
    NoPorts(String),
    /// What stands after `icmp/` is no message with a name here.
    #[error("`{0}` is not an ICMP message known by name")]
    UnknownMessage(String),
}

impl LiteralProblem {
    /// How to put it right.
    pub fn help(&self) -> String {
        match self {
            Self::UnknownProtocol(_) => {
                "write one of tcp, udp, sctp, dccp, udplite, icmp, igmp, gre, esp, ah, ospf, ipip, vrrp".into()
            }
            Self::NotAPort(_) => "write a number from 1 to 65535, or two with a hyphen".into(),
            Self::Reversed { from, to } => format!("write {to}-{from}"),
            Self::NoPorts(word) => format!("write `{word}` alone"),
            Self::UnknownMessage(_) => {
                let names: Vec<&str> = MESSAGES.iter().map(|message| message.0).collect();
                format!("write icmp/ and one of {}", names.join(", "))
            }
        }
    }
}

/// ICMP messages by name, with their type in IPv4 (RFC 792) and in IPv6 (RFC 4443).
const MESSAGES: [(&str, u8, u8); 5] = [
    ("echo", 8, 128),
    ("echo-reply", 0, 129),
    ("unreachable", 3, 1),
    ("time-exceeded", 11, 3),
    ("parameter-problem", 12, 4),
];

/// Reads a literal. `None` if the word is none at all but may be a service's name.
pub fn parse_literal(word: &str) -> Option<Result<ServiceSet, LiteralProblem>> {
    match (word, word.split_once('/')) {
        ("any", _) => Some(Ok(ServiceSet::any())),
        ("icmp", _) => Some(Ok(ServiceSet::icmp())),
        (_, None) => Protocol::from_keyword(word).map(|p| Ok(ServiceSet::protocol(p))),
        (_, Some(("icmp", message))) => Some(icmp(message)),
        (_, Some((keyword, ports))) => Some(ported(keyword, ports)),
    }
}

fn icmp(message: &str) -> Result<ServiceSet, LiteralProblem> {
    if message == "echo" {
        return Ok(ServiceSet::echo());
    }
    let known = MESSAGES.iter().find(|entry| entry.0 == message);
    let (_, v4, v6) = known.ok_or_else(|| LiteralProblem::UnknownMessage(message.to_owned()))?;
    Ok(ServiceSet {
        v4: ServiceSet::icmp_types(Protocol::ICMP, &[*v4], None).v4,
        v6: ServiceSet::icmp_types(Protocol::ICMP_V6, &[*v6], None).v6,
    })
}

fn ported(keyword: &str, ports: &str) -> Result<ServiceSet, LiteralProblem> {
    let protocol = Protocol::from_keyword(keyword)
        .ok_or_else(|| LiteralProblem::UnknownProtocol(keyword.to_owned()))?;
    if !protocol.has_ports() {
        return Err(LiteralProblem::NoPorts(keyword.to_owned()));
    }
    let port = |text: &str| {
        let digits = !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit());
        let number = text.parse().ok().filter(|n: &u16| digits && *n > 0);
        number.ok_or_else(|| LiteralProblem::NotAPort(text.to_owned()))
    };
    let (low, high) = ports.split_once('-').unwrap_or((ports, ports));
    let (from, to) = (port(low)?, port(high)?);
    if from > to {
        return Err(LiteralProblem::Reversed { from, to });
    }
    Ok(ServiceSet::ports(protocol, from, to))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_ports_ranges_messages_and_protocols() {
        let words = |word| parse_literal(word).map(|r| r.map(|set| set.words().join(" ")));
        for (word, meaning) in [
            ("tcp/443", "tcp/443"),
            ("udp/5000-5010", "udp/5000-5010"),
            ("icmp/echo", "icmp/echo"),
            ("esp", "esp"),
            ("any", "any"),
        ] {
            assert_eq!(words(word), Some(Ok(meaning.to_owned())));
        }
        assert_eq!(words("https"), None);
    }

    #[test]
    fn says_what_is_wrong_with_a_literal() {
        let problem = |word: &str| parse_literal(word).and_then(Result::err);
        let text = str::to_owned;
        for (word, expected) in [
            ("tpc/443", LiteralProblem::UnknownProtocol(text("tpc"))),
            ("tcp/0", LiteralProblem::NotAPort(text("0"))),
            ("tcp/65536", LiteralProblem::NotAPort(text("65536"))),
            ("tcp/+80", LiteralProblem::NotAPort(text("+80"))),
            ("tcp/", LiteralProblem::NotAPort(text(""))),
            ("tcp/90-80", LiteralProblem::Reversed { from: 90, to: 80 }),
            ("esp/5", LiteralProblem::NoPorts(text("esp"))),
            ("icmp/8", LiteralProblem::UnknownMessage(text("8"))),
        ] {
            assert_eq!(problem(word), Some(expected), "{word}");
        }
    }
}
