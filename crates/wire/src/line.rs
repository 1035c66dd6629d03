//! The connection to a gateway.

use bastium_core::plan::SshHost;
use std::io::{self, Read, Write};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{self, RecvTimeoutError};
use std::thread;
use std::time::{Duration, Instant};

/// How a gateway is reached.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reached {
    /// As the configuration says: over a connection that is there, perhaps.
    Anyhow,
    /// By a connection of its own, so that it shows whether new ones can be made.
    Anew,
}

/// A line to a gateway's shell.
pub trait Line {
    /// Lets a POSIX shell with the rights of root read a script from its standard input, and returns what it printed.
    ///
    /// # Errors
    /// If the gateway is not reached, or says too much or nothing for too long.
    fn run(&self, script: &str, reached: Reached) -> Result<Vec<u8>, Broken>;
}

/// Why nothing came back from a gateway.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Broken {
    /// The program `ssh` cannot be started.
    #[error("cannot start ssh: {0}")]
    NoSsh(#[source] io::Error),
    /// It ended with this code, and said this last (foreign text).
    #[error("ssh {}", ended(*code))]
    Failed {
        /// The exit code; none after a signal.
        code: Option<i32>,
        /// The last line of its standard error.
        says: String,
    },
    /// Nothing more came for as long as this.
    #[error("no answer within {} seconds", .0.as_secs())]
    TooLong(Duration),
    /// It printed more than this many bytes.
    #[error("the gateway printed more than {0} bytes")]
    TooMuch(usize),
}

/// How a program ended.
fn ended(code: Option<i32>) -> String {
    code.map_or_else(|| "was ended".to_owned(), |code| format!("ended with {code}"))
}

/// The command for the gateway's own shell: always the same words, whatever shell that is.
const COMMAND: &str = r#"exec sh -c 'if [ "$(id -u)" = 0 ]; then exec sh -s -- "$SSH_CONNECTION"; else exec sudo -n sh -s -- "$SSH_CONNECTION"; fi'"#;

/// The system's `ssh`.
#[derive(Clone, Debug)]
pub struct Ssh {
    host: SshHost,
    config: Option<PathBuf>,
    limit: Duration,
}

impl Ssh {
    /// The most that a gateway may print in answer to one script, in bytes.
    pub const MOST: usize = 256 << 20;

    /// A line to a host, with a configuration of its own instead of the user's.
    pub fn new(host: SshHost, config: Option<PathBuf>) -> Self {
        Self { host, config, limit: Duration::from_secs(60) }
    }

    fn command(&self, reached: Reached) -> Command {
        let mut command = Command::new("ssh");
        if let Some(config) = &self.config {
            command.arg("-F").arg(config);
        }
        command.args([
            "-T",
            "-x",
            "-a",
            "-o",
            "PermitLocalCommand=no",
            "-o",
            "ClearAllForwardings=yes",
        ]);
        command.args([
            "-o",
            "ConnectTimeout=10",
            "-o",
            "ServerAliveInterval=5",
            "-o",
            "ServerAliveCountMax=3",
        ]);
        if reached == Reached::Anew {
            command.args(["-S", "none", "-o", "ControlMaster=no"]);
        }
        command.arg("--").arg(self.host.as_str()).arg(COMMAND);
        command
    }
}

impl Line for Ssh {
    fn run(&self, script: &str, reached: Reached) -> Result<Vec<u8>, Broken> {
        let mut command = self.command(reached);
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let child = command.spawn().map_err(Broken::NoSsh)?;
        talk(child, script, self.limit, Self::MOST)
    }
}

/// Gives a process its input, and takes what it prints within a time and a size.
fn talk(child: Child, script: &str, limit: Duration, most: usize) -> Result<Vec<u8>, Broken> {
    let mut child = Ended(child);
    let script = script.to_owned();
    if let Some(mut stdin) = child.0.stdin.take() {
        // A gateway that does not read leaves this thread behind until its process ends.
        thread::spawn(move || stdin.write_all(script.as_bytes()));
    }
    let said = child.0.stderr.take().map(|stderr| thread::spawn(move || last_words(stderr)));
    let mut bytes = Vec::new();
    if let Some(stdout) = child.0.stdout.take() {
        let (send, chunks) = mpsc::sync_channel(16);
        thread::spawn(move || read_chunks(stdout, &send));
        let until = Instant::now() + limit;
        loop {
            match chunks.recv_timeout(until.saturating_duration_since(Instant::now())) {
                Ok(chunk) if bytes.len() + chunk.len() > most => return Err(Broken::TooMuch(most)),
                Ok(chunk) => bytes.extend_from_slice(&chunk),
                Err(RecvTimeoutError::Timeout) => return Err(Broken::TooLong(limit)),
                Err(RecvTimeoutError::Disconnected) => break,
            }
        }
    }
    let status = child.0.wait().map_err(Broken::NoSsh)?;
    if status.success() {
        return Ok(bytes);
    }
    let says = said.and_then(|said| said.join().ok()).unwrap_or_default();
    Err(Broken::Failed { code: status.code(), says })
}

fn read_chunks(mut stdout: impl Read, send: &mpsc::SyncSender<Vec<u8>>) {
    let mut chunk = vec![0; 1 << 16];
    while let Ok(length @ 1..) = stdout.read(&mut chunk) {
        if send.send(chunk[..length].to_vec()).is_err() {
            return;
        }
    }
}

/// The last line of what a process says of itself; all of it is read, so that it never waits.
fn last_words(mut stderr: impl Read) -> String {
    const KEPT: usize = 4096;
    let mut kept: Vec<u8> = Vec::new();
    let mut chunk = [0; KEPT];
    while let Ok(length @ 1..) = stderr.read(&mut chunk) {
        kept.extend_from_slice(&chunk[..length]);
        let over = kept.len().saturating_sub(KEPT);
        kept.drain(..over);
    }
    let text = String::from_utf8_lossy(&kept);
    text.lines().rev().map(str::trim).find(|line| !line.is_empty()).unwrap_or_default().to_owned()
}

/// A process that does not outlive what was wanted of it.
struct Ended(Child);

impl Drop for Ended {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shell(script: &str, limit: u64, most: usize) -> Result<Vec<u8>, Broken> {
        let mut command = Command::new("sh");
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        talk(command.spawn().expect("a shell"), script, Duration::from_millis(limit), most)
    }

    #[test]
    fn what_is_said_is_bounded_in_time_and_size() {
        assert_eq!(shell("echo this", 5000, 100).expect("an answer"), b"this\n");
        assert!(matches!(shell("yes", 5000, 1 << 20), Err(Broken::TooMuch(_))));
        let begun = Instant::now();
        assert!(matches!(shell("sleep 20", 200, 100), Err(Broken::TooLong(_))));
        assert!(begun.elapsed() < Duration::from_secs(10));
        let Err(Broken::Failed { code: Some(7), says }) = shell("echo no >&2; exit 7", 5000, 100)
        else {
            panic!("it failed");
        };
        assert_eq!(says, "no");
    }

    #[test]
    fn a_host_stands_behind_all_options() {
        let ssh = Ssh::new("root@gw".parse().expect("a host"), None);
        let command = ssh.command(Reached::Anew);
        let words: Vec<_> = command.get_args().map(|word| word.to_string_lossy()).collect();
        let at = words.iter().position(|word| word == "--").expect("an end of options");
        assert_eq!(words[at + 1..], ["root@gw", COMMAND]);
        assert!(words.iter().any(|word| word == "ControlMaster=no"));
        assert!(!words.iter().any(|word| word.starts_with("StrictHostKeyChecking")));
    }
}
