//! A gateway to try, with the cables to it.

use crate::common::{Bench, Run};
use bastium_core::plan::Plan;
use bastium_core::space::Interface;
use bastium_testbed::layout::Layout;
use bastium_testbed::site::{Carried, Site, Trunk};
use serde_json::Value;
use std::io::Write;
use std::net::{IpAddr, UdpSocket};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

/// A gateway in the kernel, and a place to try it from.
pub(crate) struct Practice {
    pub(crate) bench: Bench,
    plan: String,
    site: Site,
    trunk: Trunk,
    names: Option<Child>,
    clock: bool,
    /// The gateway's addresses.
    own: Vec<IpAddr>,
}

impl Practice {
    /// A gateway with the addresses of a plan, and no rules yet.
    pub(crate) fn new(plan: &str) -> Self {
        Self::wired(plan, |_| {}, None)
    }

    /// The same, with cables that are not as planned, or with two VLANs that are one.
    pub(crate) fn wired(
        plan: &str,
        change: impl Fn(&mut Vec<Carried>),
        joined: Option<[u16; 2]>,
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
        let layout = Layout::of(&resolved, []).expect("all interfaces have names");
        let mut wires = layout.wires;
        for wire in &mut wires {
            wire.devices.clear();
            wire.beyond.clear();
        }
        let own = wires.iter().flat_map(|wire| &wire.gateway).map(|own| own.addr()).collect();
        let site = Site::build(&wires).expect("a site");
        let mut cables = carried(&resolved);
        change(&mut cables);
        let trunk = site.trunk(&cables, joined).expect("a cable");
        Self { bench, plan: plan.to_owned(), site, trunk, names: None, clock: false, own }
    }

    /// The rules as the program exports them.
    pub(crate) fn exported(&self) -> String {
        self.export("nftables")
    }

    /// What the program exports.
    pub(crate) fn export(&self, what: &str) -> String {
        let run = self.bench.run(&format!("export {what} --plan {}", self.plan));
        assert_eq!(run.code, 0, "{}", run.err);
        run.out
    }

    /// Gives the gateway rules.
    pub(crate) fn load(&mut self, rules: &str) {
        self.site.load(rules).expect("rules that can be loaded");
    }

    /// Lets the gateway give leases and answer for names, by that file or the exported one.
    pub(crate) fn serve(&mut self, file: Option<&str>) {
        self.stop_serving();
        let exported = self.export("dnsmasq");
        let file = file.unwrap_or(&exported);
        let mut command = Command::new("dnsmasq");
        command
            .args(["--no-daemon", "--conf-file=-", "--leasefile-ro", "--no-ping", "--no-hosts"])
            .args(["--no-resolv", "--user=root", "--group=root"])
            .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        let mut child = self.site.gateway.within(|| command.spawn()).expect("dnsmasq");
        let mut stdin = child.stdin.take().expect("its input");
        stdin.write_all(file.as_bytes()).expect("it reads");
        drop(stdin);
        // Until it answers there is nothing to be asked.
        std::thread::sleep(Duration::from_millis(700));
        self.tell_time();
        self.names = Some(child);
    }

    /// Lets the gateway tell the time (RFC 5905): whoever asks gets his question back, as an answer.
    fn tell_time(&mut self) {
        if self.clock {
            return;
        }
        self.clock = true;
        for own in self.own.clone() {
            let bound = self.site.gateway.within(|| UdpSocket::bind((own, 123)));
            let socket = bound.expect("a socket for the time");
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
    pub(crate) fn stop_serving(&mut self) {
        if let Some(mut child) = self.names.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
    }

    /// Runs the program at the tester's place.
    pub(crate) fn walk(&self, words: &str) -> Run {
        let mut command = Command::new(env!("CARGO_BIN_EXE_bastium"));
        command
            .args(["walk", "--plan", &self.plan, "--by", "robot"])
            .args(words.split_whitespace())
            .current_dir(self.bench.path())
            .env("COLUMNS", "100");
        let done = self.trunk.tester.within(|| command.output()).expect("the program");
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

impl Drop for Practice {
    fn drop(&mut self) {
        self.stop_serving();
    }
}

/// How each cable of a plan comes to the tester.
fn carried(plan: &Plan) -> Vec<Carried> {
    let interfaces = (0..plan.gateway_interface().0).map(Interface);
    interfaces
        .map(|interface| match plan.network_on(interface) {
            Some(id) if plan.network(id).tunnel.is_some() => Carried::Not,
            Some(id) => Carried::Together(plan.network(id).vlan),
            None => Carried::Alone,
        })
        .collect()
}
