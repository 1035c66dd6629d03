//! The client side of NETCONF.

use super::framing::{Framing, receive, send};
use super::tree::{BASE, Element};
use bastium_core::plan::SshHost;
use std::io::{self, BufReader, Write};
use std::path::Path;
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};

/// What a server may not be without: a candidate that can be tried, and commits that go by themselves.
const NEEDED: [&str; 4] = [
    "urn:ietf:params:netconf:capability:candidate:1.0",
    "urn:ietf:params:netconf:capability:confirmed-commit:1.1",
    "urn:ietf:params:netconf:capability:validate:1.1",
    super::ACL,
];

/// A session with a NETCONF server.
#[derive(Debug)]
pub struct Client {
    to: ChildStdin,
    from: BufReader<ChildStdout>,
    process: Child,
    framing: Framing,
    next: u64,
    /// The number that the server gave the session.
    pub session: String,
    /// What the server says that it can.
    pub capabilities: Vec<String>,
}

/// Why an operation came to nothing.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Failed {
    /// The stream ended, or is not what it should be.
    #[error("the session with the gateway ended: {0}")]
    Line(#[from] io::Error),
    /// The server speaks otherwise than NETCONF (foreign text).
    #[error("the gateway's answer is not NETCONF")]
    Foreign(String),
    /// It cannot what is needed: these capabilities are missing.
    #[error("the gateway cannot do {}", .0.join(", "))]
    Cannot(Vec<&'static str>),
    /// It refused.
    #[error("the gateway refused: {}", .0.tag)]
    Refused(Refusal),
    /// The candidate holds changes that somebody has not committed: a commit would let them run.
    #[error("the candidate holds somebody's changes")]
    Edited,
}

/// An error that a server answered with (RFC 6241, section 4.3). All of it is foreign text.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Refusal {
    /// Its tag, such as `lock-denied`.
    pub tag: String,
    /// What it says.
    pub message: String,
    /// Where.
    pub path: String,
    /// Who holds what is locked.
    pub session: Option<String>,
}

impl Client {
    /// Opens a session through `ssh`, as a connection of its own.
    ///
    /// # Errors
    /// If there is no server, or it cannot do what is needed.
    pub fn open(host: &SshHost, config: Option<&Path>) -> Result<Self, Failed> {
        let mut command = Command::new("ssh");
        if let Some(config) = config {
            command.arg("-F").arg(config);
        }
        command.args([
            "-T",
            "-x",
            "-a",
            "-S",
            "none",
            "-o",
            "ControlMaster=no",
            "-o",
            "PermitLocalCommand=no",
        ]);
        command.args(["-o", "ClearAllForwardings=yes", "-o", "ConnectTimeout=10"]);
        command.args(["-o", "ServerAliveInterval=5", "-o", "ServerAliveCountMax=3"]);
        command.args(["-s", "--"]).arg(host.as_str()).arg("netconf");
        Self::over(command)
    }

    /// Opens a session with a program that is a server on its standard input and output.
    ///
    /// # Errors
    /// If it is none, or cannot do what is needed.
    pub fn over(mut command: Command) -> Result<Self, Failed> {
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::inherit());
        let mut process = command.spawn()?;
        let (Some(to), Some(from)) = (process.stdin.take(), process.stdout.take()) else {
            return Err(io::Error::from(io::ErrorKind::BrokenPipe).into());
        };
        let mut client = Self {
            to,
            from: BufReader::new(from),
            process,
            framing: Framing::EndMark,
            next: 1,
            session: String::new(),
            capabilities: Vec::new(),
        };
        client.hello()?;
        Ok(client)
    }

    fn hello(&mut self) -> Result<(), Failed> {
        let version = |number| format!("urn:ietf:params:netconf:base:{number}");
        let own = ["1.0", "1.1"].map(|number| Element::base("capability").saying(version(number)));
        let hello = Element::base("hello").with(Element::base("capabilities").with_all(own));
        send(&mut self.to, Framing::EndMark, &hello.write())?;
        let text = receive(&mut self.from, Framing::EndMark)?.ok_or_else(ended)?;
        let hello = Element::read(&text).map_err(Failed::Foreign)?;
        let capabilities =
            hello.child("capabilities").into_iter().flat_map(|all| all.all("capability"));
        self.capabilities = capabilities.map(|one| one.text.trim().to_owned()).collect();
        self.session = hello.says("session-id").unwrap_or_default().trim().to_owned();
        let can = |what: &str| {
            let is = |one: &String| {
                one == what || one.strip_prefix(what).is_some_and(|rest| rest.starts_with('?'))
            };
            self.capabilities.iter().any(is)
        };
        if can(&version("1.1")) {
            self.framing = Framing::Chunks;
        }
        let missing: Vec<&'static str> = NEEDED.into_iter().filter(|what| !can(what)).collect();
        if missing.is_empty() { Ok(()) } else { Err(Failed::Cannot(missing)) }
    }

    /// Asks for an operation, and returns the reply.
    ///
    /// # Errors
    /// If the server refuses it, or the session ends.
    pub fn rpc(&mut self, operation: Element) -> Result<Element, Failed> {
        let id = self.next.to_string();
        self.next += 1;
        let rpc = Element::base("rpc").having("", "message-id", &id).with(operation);
        send(&mut self.to, self.framing, &rpc.write())?;
        let text = receive(&mut self.from, self.framing)?.ok_or_else(ended)?;
        let reply = Element::read(&text).map_err(Failed::Foreign)?;
        if (reply.namespace.as_str(), reply.name.as_str()) != (BASE, "rpc-reply")
            || reply.attribute("message-id") != Some(&id)
        {
            return Err(Failed::Foreign("an answer to another question".to_owned()));
        }
        let error =
            reply.all("rpc-error").find(|one| one.says("error-severity") != Some("warning"));
        match error {
            Some(error) => Err(Failed::Refused(refusal(error))),
            None => Ok(reply),
        }
    }

    /// Ends the session in good order.
    pub fn close(mut self) {
        let _ = self.rpc(Element::base("close-session"));
    }
}

impl Drop for Client {
    fn drop(&mut self) {
        let _ = self.to.flush();
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

fn ended() -> Failed {
    Failed::Line(io::ErrorKind::UnexpectedEof.into())
}

fn refusal(error: &Element) -> Refusal {
    let says = |name| error.says(name).unwrap_or_default().trim().to_owned();
    let session = error.child("error-info").and_then(|info| info.says("session-id"));
    Refusal {
        tag: says("error-tag"),
        message: says("error-message"),
        path: says("error-path"),
        session: session.map(str::to_owned),
    }
}
