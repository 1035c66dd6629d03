//! The gateway's own DNS and DHCP server, run as it would be on the gateway.

use super::Testbed;
use super::names::question;
use bastium_core::space::Family;
use socket2::{Domain, Protocol, SockAddr, Socket, Type};
use std::io::{self, Read, Write};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// How long it may take to start.
const PATIENCE: Duration = Duration::from_secs(10);

/// How long it may take to learn all names.
const LEARNING: Duration = Duration::from_secs(3);

/// A server that runs until this is dropped.
pub struct DnsmasqProcess {
    child: Child,
}

impl Testbed<'_> {
    /// Starts dnsmasq in the gateway with that file as it is. What it does not know it asks at `upstream`.
    /// It writes no file: leases are kept in memory, and the file is handed to it through a pipe.
    ///
    /// # Errors
    /// When it is not there, or says something against the file.
    pub fn start_dnsmasq(
        &mut self,
        file: &str,
        upstream: Option<IpAddr>,
    ) -> io::Result<DnsmasqProcess> {
        let mut command = Command::new("dnsmasq");
        command
            .args(["--no-daemon", "--conf-file=-", "--leasefile-ro", "--no-ping", "--no-hosts"])
            .args(["--no-resolv", "--user=root", "--group=root"])
            .args(upstream.map(|at| format!("--server={at}")))
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::piped());
        let path = std::env::var("PATH").unwrap_or_default();
        command.env("PATH", format!("{path}:/usr/sbin:/sbin"));
        let mut child = self.site().gateway.within(|| command.spawn())?;
        if let Some(mut stdin) = child.stdin.take() {
            let _ = stdin.write_all(file.as_bytes());
        }
        let mut servant = DnsmasqProcess { child };
        self.await_names(&mut servant)?;
        // Nobody reads what it says from now on.
        servant.child.stderr.take();
        Ok(servant)
    }

    /// Waits until it answers.
    fn await_names(&mut self, servant: &mut DnsmasqProcess) -> io::Result<()> {
        let until = Instant::now() + PATIENCE;
        while Instant::now() < until {
            if self.resolve("localhost", Family::V4)? {
                return Ok(());
            }
            if let Some(status) = servant.child.try_wait()? {
                let mut says = String::new();
                if let Some(mut stderr) = servant.child.stderr.take() {
                    stderr.read_to_string(&mut says)?;
                }
                return Err(io::Error::other(format!("dnsmasq ended, {status}: {}", says.trim())));
            }
        }
        Err(io::Error::other("dnsmasq does not answer"))
    }

    /// Has the gateway's own server look up names in both families. Where the rules keep the answers from it,
    /// it learns nothing, and the checks show that; so this waits only for so long.
    ///
    /// # Errors
    /// When there is no socket for it.
    pub fn learn(&mut self, names: impl IntoIterator<Item = String>) -> io::Result<()> {
        let until = Instant::now() + LEARNING;
        for name in names {
            for family in Family::ALL {
                while !self.resolve(&name, family)? {
                    if Instant::now() >= until {
                        return Ok(());
                    }
                }
            }
        }
        Ok(())
    }

    /// Asks the gateway's own server for a name, and says whether an answer came.
    ///
    /// # Errors
    /// When there is no socket for it.
    fn resolve(&mut self, name: &str, family: Family) -> io::Result<bool> {
        let to = SocketAddr::new(Ipv4Addr::LOCALHOST.into(), 53);
        let socket = self.site().gateway.within(|| {
            let socket = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
            socket.set_nonblocking(true)?;
            socket.connect(&SockAddr::from(to))?;
            Ok(socket)
        })?;
        let asked = question(name, 1, family).ok_or(io::ErrorKind::InvalidInput)?;
        let until = Instant::now() + Duration::from_millis(200);
        if socket.send(&asked).is_err() {
            std::thread::sleep(Duration::from_millis(2));
            return Ok(false);
        }
        let mut buffer = [0; 2048];
        while Instant::now() < until {
            self.serve()?;
            match (&socket).read(&mut buffer) {
                Ok(_) => return Ok(true),
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => {
                    std::thread::sleep(Duration::from_micros(200));
                }
                Err(_) => {
                    std::thread::sleep(Duration::from_millis(2));
                    return Ok(false);
                }
            }
        }
        Ok(false)
    }
}

impl Drop for DnsmasqProcess {
    fn drop(&mut self) {
        // One that has ended already need not be ended.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
