//! A gateway to try, with the cables to it.

use crate::common::{Bench, Run};
use bastium_core::plan::Plan;
use bastium_testbed::site::Carried;
use ipnet::IpNet;
use serde_json::Value;
use std::io::Write;
use std::net::{TcpListener, UdpSocket};
use std::process::{Child, Command, Stdio};
use std::time::Duration;
use tempfile::TempDir;

/// A gateway in the kernel, and the cables from it to a tester.
pub(crate) struct Gateway {
    pub(crate) made: bastium_testbed::trunk::Practice,
    names: Option<Child>,
    tells_time: bool,
    /// What its server for leases writes down.
    log: TempDir,
}

impl Gateway {
    /// A gateway with the addresses of a plan, and no rules yet; with cables as they are planned but for a change, two
    /// VLANs that may be one, and devices that are there themselves.
    pub(crate) fn new(
        plan: &Plan,
        change: impl Fn(&mut Vec<Carried>),
        joined: Option<[Option<u16>; 2]>,
        devices: &[(u16, IpNet)],
    ) -> Self {
        let made = bastium_testbed::trunk::Practice::new(plan, change, joined, devices);
        let made = made.expect("a site").expect("all interfaces have names");
        let log = TempDir::new().expect("a temporary folder");
        Self { made, names: None, tells_time: false, log }
    }

    /// Gives it rules.
    pub(crate) fn load(&mut self, rules: &str) {
        self.made.site.load(rules).expect("rules that can be loaded");
    }

    /// Lets it give leases and answer for names, by that file, and tell the time.
    pub(crate) fn serve(&mut self, file: &str) {
        self.stop_serving();
        let mut command = Command::new("dnsmasq");
        command
            .args(["--no-daemon", "--conf-file=-", "--leasefile-ro", "--no-ping", "--no-hosts"])
            .args(["--no-resolv", "--user=root", "--group=root", "--log-dhcp"])
            .arg(format!("--log-facility={}", self.log.path().join("leases").display()))
            .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        let mut child = self.made.site.gateway.within(|| command.spawn()).expect("dnsmasq");
        let mut stdin = child.stdin.take().expect("its input");
        stdin.write_all(file.as_bytes()).expect("it reads");
        drop(stdin);
        // Until it answers there is nothing to be asked.
        std::thread::sleep(Duration::from_millis(700));
        self.names = Some(child);
        if !std::mem::replace(&mut self.tells_time, true) {
            self.tell_time();
        }
    }

    /// Lets it be managed: somebody listens at these TCP ports.
    pub(crate) fn manage(&self, ports: &[u16]) {
        for (own, port) in
            self.made.gateway.iter().flat_map(|own| ports.iter().map(move |port| (*own, *port)))
        {
            let bound = self.made.site.gateway.within(|| TcpListener::bind((own, port)));
            let listener = bound.expect("a socket for management");
            std::thread::spawn(move || listener.incoming().for_each(drop));
        }
    }

    /// What its server for leases has written down.
    pub(crate) fn log(&self) -> String {
        std::fs::read_to_string(self.log.path().join("leases")).unwrap_or_default()
    }

    /// Lets it tell the time (RFC 5905): whoever asks gets his question back, as an answer.
    fn tell_time(&self) {
        for own in self.made.gateway.clone() {
            let bound = self.made.site.gateway.within(|| UdpSocket::bind((own, 123)));
            let socket = bound.expect("a socket for the time");
            let limit = Some(Duration::from_secs(120));
            socket.set_read_timeout(limit).expect("a limit");
            std::thread::spawn(move || {
                let mut question = [0; 128];
                while let Ok((length, from)) = socket.recv_from(&mut question) {
                    question[0] = question[0] & 0xf8 | 4;
                    let _ = socket.send_to(&question[..length], from);
                }
            });
        }
    }

    /// Ends that.
    fn stop_serving(&mut self) {
        if let Some(mut child) = self.names.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

impl Drop for Gateway {
    fn drop(&mut self) {
        self.stop_serving();
    }
}

/// A gateway of a demo plan, and the built program at the tester's place.
pub(crate) struct Practice {
    pub(crate) bench: Bench,
    plan: String,
    pub(crate) gateway: Gateway,
}

impl Practice {
    /// A gateway with the addresses of a plan, and no rules yet.
    pub(crate) fn new(plan: &str) -> Self {
        Self::wired(plan, |_| {}, None, &[])
    }

    /// The same, with cables that are not as planned, with two VLANs that are one, or with devices that are there themselves.
    pub(crate) fn wired(
        plan: &str,
        change: impl Fn(&mut Vec<Carried>),
        joined: Option<[Option<u16>; 2]>,
        devices: &[(u16, &str)],
    ) -> Self {
        let bench = Bench::new();
        // The kernel's clock and the site's have to be the same, whatever the day is.
        let text = std::fs::read_to_string(bench.file(plan)).expect("the plan");
        let lines = text.lines().map(|line| match line.starts_with("time-zone") {
            true => "time-zone = \"UTC\"",
            false => line,
        });
        bench.write(plan, lines.collect::<Vec<_>>().join("\n"));
        let text = std::fs::read(bench.file(plan)).expect("the plan");
        let resolved = bastium_planfile::read(plan, &text).expect("a plan");
        let address = |word: &str| word.parse().expect("an address with its length");
        let devices: Vec<(u16, IpNet)> =
            devices.iter().map(|(tag, word)| (*tag, address(word))).collect();
        let gateway = Gateway::new(&resolved, change, joined, &devices);
        Self { bench, plan: plan.to_owned(), gateway }
    }

    /// A gateway that does all that the plan says.
    pub(crate) fn faultless(plan: &str) -> Self {
        let mut practice = Self::new(plan);
        practice.set_up();
        practice
    }

    /// Gives the gateway the rules and the file for leases that the program exports.
    pub(crate) fn set_up(&mut self) {
        self.gateway.load(&self.export("nftables"));
        self.gateway.serve(&self.export("dnsmasq"));
        self.gateway.manage(&[22, 443]);
    }

    /// The plan's file.
    pub(crate) fn plan(&self) -> &str {
        &self.plan
    }

    /// What the program exports.
    pub(crate) fn export(&self, what: &str) -> String {
        let run = self.bench.run(&format!("export {what} --plan {}", self.plan));
        assert_eq!(run.code, 0, "{}", run.err);
        run.out
    }

    /// The program at the tester's place.
    pub(crate) fn command(&self, words: &str) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_bastium"));
        command
            .args(["walk", "--plan", &self.plan, "--by", "robot"])
            .args(words.split_whitespace())
            .current_dir(self.bench.path())
            .env("COLUMNS", "100");
        command
    }

    /// Runs it.
    pub(crate) fn walk(&self, words: &str) -> Run {
        let mut command = self.command(words);
        let done = self.gateway.made.trunk.tester.within(|| command.output()).expect("the program");
        Run {
            out: String::from_utf8_lossy(&done.stdout).into_owned(),
            err: String::from_utf8_lossy(&done.stderr).into_owned(),
            code: done.status.code().unwrap_or(-1),
        }
    }

    /// The same, in JSON.
    pub(crate) fn tried(&self, words: &str) -> (Value, i32) {
        let run = self.walk(&format!("{words} --format json"));
        let json = serde_json::from_str(&run.out);
        (json.unwrap_or_else(|error| panic!("{error}: {}{}", run.out, run.err)), run.code)
    }
}
