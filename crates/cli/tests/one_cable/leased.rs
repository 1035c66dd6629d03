//! Uplinks with leased addresses, on a bench where nobody is outside but the tester.

use crate::practice::Practice;
use crate::tried::{ALL, differences, networks};
use serde_json::Value;
use std::io;
use std::os::unix::fs::PermissionsExt;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

/// The gateway's port of the farm's uplink.
const UPLINK: &str = "wan";
/// What a client for leases does with what it gets.
const TAKES: &str = "#!/bin/sh
case $1 in
  bound|renew) ip address replace $ip/$mask dev $interface; ip route replace default via $router dev $interface;;
  deconfig) ip link set $interface up;;
esac
";

/// Ends when it is dropped.
struct Client(Child);

impl Drop for Client {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Takes its address outside from a gateway.
fn without_address(practice: Practice) -> Practice {
    practice.bench.write("takes", TAKES);
    let takes = practice.bench.file("takes");
    std::fs::set_permissions(takes, PermissionsExt::from_mode(0o755)).expect("a program");
    let forgets = || -> io::Result<()> {
        // Its kernel takes routers' word for it on this interface, though it is a router itself.
        for (key, value) in [("accept_ra", "2"), ("autoconf", "1"), ("accept_ra_defrtr", "1")] {
            std::fs::write(format!("/proc/sys/net/ipv6/conf/{UPLINK}/{key}"), value)?;
        }
        for family in ["-4", "-6"] {
            ip(&[family, "address", "flush", "dev", UPLINK, "scope", "global"])?;
            ip(&[family, "route", "flush", "default"])?;
        }
        Ok(())
    };
    practice.gateway.made.site.gateway.within(forgets).expect("no address outside");
    practice
}

fn ip(words: &[&str]) -> io::Result<()> {
    Command::new("ip").args(words).stderr(Stdio::null()).status().map(drop)
}

/// The gateway asks for an address, as somebody else's client does it.
fn asks(practice: &Practice) -> Client {
    let mut client = Command::new("udhcpc");
    client
        .args(["-f", "-i", UPLINK, "-t", "20", "-T", "1", "-s", "./takes"])
        .current_dir(practice.bench.path())
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    let started = practice.gateway.made.site.gateway.within(|| client.spawn());
    Client(started.expect("a client for leases"))
}

fn dish(sheet: &Value) -> &Value {
    networks(sheet).find(|one| one["name"] == "dish").expect("the uplink")
}

/// The tester leases an address to the gateway, and tries everything over it in both families.
pub(crate) fn leased() {
    if !has_client() {
        return;
    }
    let practice = without_address(Practice::faultless("farm.toml"));
    let client = asks(&practice);
    let (sheet, code) = practice.tried(ALL);
    assert_eq!(code, 0, "{:#}", differences(&sheet));
    let address = dish(&sheet)["leased_to_gateway"].as_str();
    assert!(address.is_some_and(|address| address.ends_with(".2")), "{}", dish(&sheet));
    assert!(!sheet["sweep"].to_string().contains("no address outside"), "{:#}", sheet["sweep"]);
    assert!(!sheet["not_tried"].to_string().contains("no address outside"));
    drop(client);
    let _again = asks(&practice);
    let run = practice.walk(&format!("{ALL} --no-sweep"));
    assert!(run.out.contains("dish: in place of the provider"), "{}", run.out);
}

/// Where a server for leases answers outside, the tester is none, and says so.
pub(crate) fn other_server() {
    // Without rules, so that its server hears what comes in outside.
    let practice = without_address(Practice::new("farm.toml"));
    let mut server = Command::new("dnsmasq");
    server
        .args(["--no-daemon", "--leasefile-ro", "--no-ping", "--port=0", "--conf-file=/dev/null"])
        .args(["--dhcp-range=203.0.113.10,203.0.113.20,255.255.255.0,1h", "--user=root"])
        .args(["--interface", UPLINK, "--bind-interfaces"])
        .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
        .stderr(Stdio::null());
    let started = practice.gateway.made.site.gateway.within(|| {
        ip(&["address", "add", "203.0.113.1/24", "dev", UPLINK])?;
        server.spawn()
    });
    let _server = Client(started.expect("dnsmasq"));
    std::thread::sleep(Duration::from_millis(500));
    let (sheet, code) = practice.tried(&format!("{ALL} --no-sweep"));
    assert_eq!(code, 1);
    assert!(dish(&sheet)["leased_to_gateway"].is_null());
    let faults = dish(&sheet)["faults"].to_string();
    assert!(faults.contains("a DHCP server answers there"), "{faults}");
}

/// With two devices on the cable it is not known which of them is the gateway: neither gets an address, and that is said.
pub(crate) fn crowd() {
    // Asks for an address of its own, behind the same port.
    const ASKS: &str = "import socket, time
end = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
end.bind(('wan', 0))
other = bytes.fromhex('02aabbccddee')
probe = bytes.fromhex('0001080006040001') + other + bytes(4) + bytes(6) + bytes([203, 0, 113, 77])
while True:
    end.send(bytes(6 * [255]) + other + bytes.fromhex('0806') + probe)
    time.sleep(0.2)
";
    if !has_client() {
        return;
    }
    let practice = without_address(Practice::faultless("farm.toml"));
    let mut other = Command::new("python3");
    other.args(["-c", ASKS]).stderr(Stdio::null());
    let started = practice.gateway.made.site.gateway.within(|| other.spawn());
    let _other = Client(started.expect("python3"));
    let _client = asks(&practice);
    let run = practice.walk(&format!("{ALL} --no-sweep"));
    let said = run.out.replace('\n', " ");
    for says in [
        "2 devices were heard outside",
        "dish: the gateway has no address there, and gets none where several devices are on that cable",
    ] {
        assert!(said.contains(says), "{said}{}", run.err);
    }
}

/// Whether there is a client for leases; where one is needed, there has to be.
fn has_client() -> bool {
    let there = Command::new("udhcpc").arg("--help").stderr(Stdio::null()).status().is_ok();
    assert!(there || std::env::var_os("BASTIUM_LEASES_NEEDED").is_none(), "no udhcpc");
    there
}
