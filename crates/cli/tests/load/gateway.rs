//! A gateway with a server for ssh, and an engineer's laptop.

use crate::common::{Bench, Run};
use bastium_testbed::layout::Layout;
use bastium_testbed::site::Site;
use serde_json::Value;
use std::fs;
use std::net::{IpAddr, TcpListener, TcpStream};
use std::path::PathBuf;
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

/// The gateway's address where the engineer is, and the engineer's.
const GATEWAY: &str = "10.44.10.1";
pub(crate) const ENGINEER: &str = "10.44.10.10";

/// A desk's address, and a server's.
pub(crate) const DESK: &str = "10.44.24.120";
pub(crate) const SERVER: &str = "10.44.40.10";

/// How the gateway comes up: everything that it writes is its own, and gone with it.
const START: &str = r#"
set -eu
mount --make-rprivate /
mount -t tmpfs -o size=16m tmpfs /run
mkdir -p /run/sshd /run/home
cp -a /etc "$1/etc"
# A home of its own: whatever this machine's shells do when they start, and leave behind when they are killed, is not this.
sed -i 's#^root:.*#root:x:0:0:root:/run/home:/bin/bash#' "$1/etc/passwd"
mount --bind "$1/etc" /etc
mount -t tmpfs -o size=16m tmpfs /var/lib
exec /usr/sbin/sshd -D -e -f /dev/null -p 22 -h "$1/host" -o UsePAM=no -o StrictModes=no -o PidFile=none \
  -o "Subsystem=netconf $2 simulate gateway --state $1/netconf --plan $1/clinic.toml" \
  -o "AuthorizedKeysFile=$1/key.pub" -o PermitRootLogin=yes -o MaxStartups=2000:30:4000 -o MaxSessions=100
"#;

/// A gateway of a plan, and the built program at an engineer's laptop.
pub(crate) struct Gateway {
    pub(crate) bench: Bench,
    pub(crate) plan: &'static str,
    pub(crate) site: Site,
    engineer: usize,
    desk: usize,
    server_end: usize,
    server: Child,
}

impl Gateway {
    /// The gateway of the clinic, without rules.
    pub(crate) fn new() -> Self {
        let bench = Bench::new();
        let text = fs::read_to_string(bench.file("clinic.toml")).expect("the plan");
        let lines = text.lines().map(|line| match line.starts_with("time-zone") {
            true => "time-zone = \"UTC\"",
            false => line,
        });
        bench.write("clinic.toml", lines.collect::<Vec<_>>().join("\n"));
        let text = fs::read(bench.file("clinic.toml")).expect("the plan");
        let plan = bastium_planfile::read("clinic.toml", &text).expect("a plan");
        let address: IpAddr = ENGINEER.parse().expect("an address");
        let layout = Layout::of(
            &plan,
            [address, DESK.parse().expect("an address"), SERVER.parse().expect("an address")],
        )
        .expect("all interfaces have names");
        let at = |word: &str| {
            layout.cable_of(&plan, word.parse().expect("an address")).expect("a cable")
        };
        let (desk, server_end) = (at(DESK), at(SERVER));
        let engineer = layout.cable_of(&plan, address).expect("a cable");
        let site = Site::build(&layout.wires).expect("a site");
        for name in ["host", "key"] {
            let made = Command::new("ssh-keygen")
                .args(["-q", "-t", "ed25519", "-N", "", "-f"])
                .arg(bench.file(name))
                .status();
            assert!(made.expect("ssh-keygen").success());
        }
        let folder = bench.path().display();
        let host = fs::read_to_string(bench.file("host.pub")).expect("a key");
        bench.write("known", format!("{GATEWAY} {host}"));
        bench.write(
            "ssh_config",
            format!(
                "Host *\n  User root\n  BindAddress {ENGINEER}\n  IdentityFile {folder}/key\n  UserKnownHostsFile {folder}/known\n  \
                 GlobalKnownHostsFile /dev/null\n  StrictHostKeyChecking yes\n  BatchMode yes\n"
            ),
        );
        bench.write("start.sh", START);
        let mut start = Command::new("unshare");
        start.args(["--mount", "sh"]).arg(bench.file("start.sh")).arg(bench.path());
        start.arg(env!("CARGO_BIN_EXE_bastium"));
        start.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        let server = site.gateway.within(|| start.spawn()).expect("a server");
        let gateway = Self { bench, plan: "clinic.toml", site, engineer, desk, server_end, server };
        gateway.wait_until("the server answers", 60, || gateway.ssh("true").status.success());
        gateway
    }

    /// Runs a command at the engineer's.
    pub(crate) fn at_engineer(&self, command: &mut Command) -> Output {
        self.site.ends[self.engineer].within(|| command.output()).expect("a command")
    }

    /// A connection from a desk to a server, which stays as long as what is given back.
    pub(crate) fn connected(&self, port: u16) -> (TcpListener, TcpStream) {
        let listen = || TcpListener::bind((SERVER, port));
        let listener = self.site.ends[self.server_end].within(listen).expect("a listener");
        let connect = || TcpStream::connect((SERVER, port));
        let stream = self.site.ends[self.desk].within(connect).expect("a connection");
        (listener, stream)
    }

    /// Starts one there.
    pub(crate) fn start_at_engineer(&self, command: &mut Command) -> Child {
        self.site.ends[self.engineer].within(|| command.spawn()).expect("a command")
    }

    fn ssh(&self, words: &str) -> Output {
        let mut ssh = Command::new("ssh");
        ssh.arg("-F").arg(self.bench.file("ssh_config")).args([GATEWAY, words]);
        self.at_engineer(&mut ssh)
    }

    /// A script on the gateway itself.
    pub(crate) fn own_command(&self, script: &str) -> Command {
        let mut command = Command::new("nsenter");
        let server = self.server.id().to_string();
        command.args(["--mount", "--net", "--target", &server, "sh", "-c", script]);
        command
    }

    /// Runs one, and returns what it prints.
    pub(crate) fn own(&self, script: &str) -> String {
        let done = self.own_command(script).output().expect("a shell on the gateway");
        String::from_utf8_lossy(&done.stdout).into_owned()
    }

    /// Has `nft` do something else as well whenever rules are loaded; the real one is `/run/nft.real` then.
    pub(crate) fn with_nft(&self, also: &str) {
        let nft = format!(
            "#!/bin/sh\n/run/nft.real \"$@\" || exit\ncase \"$1 $2\" in -f*/change.nft) {also};; esac\n"
        );
        self.bench.write("nft", nft);
        let script = self.path("nft").display().to_string();
        self.own(&format!(
            "cp /usr/sbin/nft /run/nft.real; chmod +x {script}; mount --bind {script} /usr/sbin/nft"
        ));
    }

    /// `bastium load` at the engineer's, with these words.
    pub(crate) fn command(&self, words: &str) -> Command {
        self.command_as(GATEWAY, words)
    }

    /// The same, with this name for the gateway.
    pub(crate) fn command_as(&self, host: &str, words: &str) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_bastium"));
        command
            .args(["load", host, "--plan", self.plan, "--ssh-config", "ssh_config"])
            .args(words.split_whitespace())
            .current_dir(self.bench.path())
            .stdin(Stdio::null())
            .env("COLUMNS", "100");
        command
    }

    /// Runs it.
    pub(crate) fn load(&self, words: &str) -> Run {
        self.ran(&mut self.command(words))
    }

    /// Runs a command at the engineer's, and takes what it says.
    pub(crate) fn ran(&self, command: &mut Command) -> Run {
        let done = self.at_engineer(command);
        Run {
            out: String::from_utf8_lossy(&done.stdout).into_owned(),
            err: String::from_utf8_lossy(&done.stderr).into_owned(),
            code: done.status.code().unwrap_or(-1),
        }
    }

    /// The same, in JSON.
    pub(crate) fn loaded(&self, words: &str) -> (Value, i32) {
        let run = self.load(&format!("{words} --format json"));
        let json = serde_json::from_str(&run.out);
        (json.unwrap_or_else(|error| panic!("{error}: {}{}", run.out, run.err)), run.code)
    }

    /// Bastium's table as it is listed, without counters, and without what a name server finds.
    pub(crate) fn rules(&self) -> String {
        self.own("nft -s list table inet bastium 2>/dev/null | sed '/^\tset domain_/,/^\t}/d'")
    }

    /// What the program exports.
    pub(crate) fn export(&self) -> String {
        let run = self.bench.run(&format!("export nftables --plan {}", self.plan));
        assert_eq!(run.code, 0, "{}", run.err);
        run.out
    }

    /// From now on the plan lets somebody do something more.
    pub(crate) fn other_plan(&self) {
        self.allow("extra", "tcp/2222");
    }

    /// From now on the plan lets desks reach servers by a service.
    pub(crate) fn allow(&self, name: &str, service: &str) {
        let service = format!("service={service}");
        let words = [
            "add",
            "exception",
            name,
            "from=desks",
            "to=servers",
            &service,
            "action=allow",
            "why=A test",
            "--plan",
            self.plan,
        ];
        let run = self.bench.run_words(&words);
        assert_eq!(run.code, 0, "{}", run.err);
    }

    /// Whether something runs on the gateway that would bring old rules back.
    pub(crate) fn is_watched(&self) -> bool {
        let script = "for one in $(cat /run/bastium/*/watch.* 2>/dev/null); do grep -v ' Z ' /proc/$one/stat; done";
        !self.own(script).is_empty()
    }

    /// Waits for something, but not for ever.
    pub(crate) fn wait_until(&self, what: &str, seconds: u64, mut is_so: impl FnMut() -> bool) {
        let begun = Instant::now();
        while !is_so() {
            assert!(
                begun.elapsed() < Duration::from_secs(seconds),
                "{what}: not within {seconds} s"
            );
            std::thread::sleep(Duration::from_millis(200));
        }
    }

    /// A file of the gateway's own.
    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.bench.file(name)
    }
}

impl Drop for Gateway {
    fn drop(&mut self) {
        // Whatever still runs there holds its files; all of it is in one namespace with the server.
        let _ = self.own("for one in $(ls /proc | grep '^[0-9]*$'); do [ /proc/$one/ns/mnt -ef /proc/self/ns/mnt ] && [ $one != $$ ] && kill -9 $one; done");
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}
