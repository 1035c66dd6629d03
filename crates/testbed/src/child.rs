//! Runs other programs: each with a time limit, and none can block this one by not reading or writing.

use std::io::{self, Read, Write};
use std::process::{Child, Command, ExitStatus, Stdio};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

/// How long a program may take. The slowest, `nft` with tens of thousands of rules, takes seconds.
const LIMIT: Duration = Duration::from_secs(60);

/// What a program that ended has written.
pub struct Done {
    /// How it ended.
    pub status: ExitStatus,
    /// What it wrote to standard output.
    pub out: Vec<u8>,
    /// What it wrote to standard error.
    pub err: Vec<u8>,
}

/// Runs a program with that on its standard input, and waits for its end.
///
/// # Errors
/// When it cannot be started, or takes longer than a minute; it is ended then.
pub fn run(command: &mut Command, input: &str) -> io::Result<Done> {
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = command.spawn()?;
    let stdin = child.stdin.take();
    let input = input.as_bytes().to_owned();
    let writing = std::thread::spawn(move || {
        // If it stops reading, it says why itself.
        stdin.map(|mut stdin| stdin.write_all(&input))
    });
    let (out, err) = (drain(child.stdout.take()), drain(child.stderr.take()));
    let status = wait(&mut child)?;
    let _ = writing.join();
    Ok(Done { status, out: read(out), err: read(err) })
}

fn drain(pipe: Option<impl Read + Send + 'static>) -> JoinHandle<Vec<u8>> {
    std::thread::spawn(move || {
        let mut bytes = Vec::new();
        if let Some(mut pipe) = pipe {
            let _ = pipe.read_to_end(&mut bytes);
        }
        bytes
    })
}

fn read(thread: JoinHandle<Vec<u8>>) -> Vec<u8> {
    thread.join().unwrap_or_default()
}

fn wait(child: &mut Child) -> io::Result<ExitStatus> {
    let until = Instant::now() + LIMIT;
    let mut pause = Duration::from_micros(200);
    loop {
        if let Some(status) = child.try_wait()? {
            return Ok(status);
        }
        if Instant::now() > until {
            let _ = child.kill();
            let _ = child.wait();
            return Err(io::Error::new(io::ErrorKind::TimedOut, "it takes longer than a minute"));
        }
        std::thread::sleep(pause);
        pause = (pause * 2).min(Duration::from_millis(5));
    }
}
