//! Connections that were there before the rules changed.

use crate::gateway::{Gateway, SERVER};
use serde_json::Value;
use std::io::{ErrorKind, Read, Write};
use std::net::TcpStream;
use std::time::Duration;

fn said(sheet: &Value, step: &str) -> String {
    let steps = sheet["steps"].as_array().expect("steps");
    steps
        .iter()
        .find(|one| one["step"] == step)
        .unwrap_or_else(|| panic!("no {step}: {sheet:#}"))["says"]
        .to_string()
}

/// A gateway that lets desks reach servers by port 2222 as well, and the plan that does not.
fn with_more() -> (Gateway, Vec<u8>) {
    let gateway = Gateway::new();
    gateway.allow("kept", "tcp/3333");
    let plan = std::fs::read(gateway.path(gateway.plan)).expect("the plan");
    gateway.other_plan();
    assert_eq!(gateway.loaded("--yes-if-verified").1, 0);
    (gateway, plan)
}

fn lists_connections(gateway: &Gateway) -> bool {
    !gateway.own("ls /proc/net/nf_conntrack").is_empty()
}

/// A connection that the plan no longer lets begin is reported, and goes on if nothing else is wanted.
pub(crate) fn reported() {
    let (gateway, plan) = with_more();
    let (listener, mut stream) = gateway.connected(2222);
    let mut served = listener.accept().expect("a connection").0;
    gateway.bench.write(gateway.plan, plan);
    let (sheet, code) = gateway.loaded("--yes-if-verified");
    assert_eq!(code, 0, "{sheet:#}");
    let says = said(&sheet, "connections");
    match lists_connections(&gateway) {
        true => assert!(says.contains("1 of ") && says.contains("2222"), "{says}"),
        false => assert!(says.contains("does not list"), "{says}"),
    }
    assert!(passes(&mut stream, &mut served), "nobody wanted it to be cut");
    assert!(!gateway.own("nft list tables").contains("bastium_cut"));
    // Somebody else's rules under that name are others like any.
    gateway.own("nft add table inet bastium_cut; nft 'add chain inet bastium_cut f { type filter hook forward priority 5; }'; nft add rule inet bastium_cut f tcp dport 443 drop");
    let run = gateway.load("--dry-run");
    assert!(run.code == 1 && run.out.contains("inet bastium_cut"), "{}{}", run.out, run.err);
    gateway.own("nft delete table inet bastium_cut");
    if lists_connections(&gateway) {
        refused_at_last(&gateway, &mut stream, &mut served);
    }
}

/// A gateway that takes the table when it is tried, and not when it is loaded: that is said.
fn refused_at_last(gateway: &Gateway, stream: &mut TcpStream, served: &mut TcpStream) {
    let nft =
        "#!/bin/sh\ncase \"$1 $2\" in -f*/cut.nft) exit 1;; esac\nexec /run/nft.real \"$@\"\n";
    gateway.bench.write("nft", nft);
    let script = gateway.path("nft").display().to_string();
    gateway.own(&format!(
        "cp /usr/sbin/nft /run/nft.real; chmod +x {script}; mount --bind {script} /usr/sbin/nft"
    ));
    let run = gateway.load("--cut --yes-if-verified");
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    assert!(run.out.contains("did not take the table of connections"), "{}", run.out);
    assert!(passes(stream, served));
}

/// Whether a byte comes from one end of a connection to the other.
fn passes(from: &mut TcpStream, to: &mut TcpStream) -> bool {
    arrives(from, to, Duration::from_secs(20))
}

/// Whether it does not, for as long as anybody would wait.
fn is_stopped(from: &mut TcpStream, to: &mut TcpStream) -> bool {
    !arrives(from, to, Duration::from_secs(2))
}

fn arrives(from: &mut TcpStream, to: &mut TcpStream, within: Duration) -> bool {
    to.set_read_timeout(Some(within)).expect("a time");
    from.write_all(b"x").expect("it is sent");
    match to.read(&mut [0; 16]) {
        Ok(count) => count > 0,
        Err(error) => {
            assert!(
                [ErrorKind::WouldBlock, ErrorKind::TimedOut].contains(&error.kind()),
                "{error}"
            );
            false
        }
    }
}

/// With `--cut` it is cut both ways, and only once the load is confirmed; others go on, and no other begins less.
pub(crate) fn cut() {
    let (gateway, plan) = with_more();
    if !lists_connections(&gateway) {
        println!("this kernel does not list connections, so cutting them was not tried");
        return;
    }
    let (listener, mut stream) = gateway.connected(2222);
    let mut served = listener.accept().expect("a connection").0;
    let (kept_listener, mut kept) = gateway.connected(3333);
    let mut kept_served = kept_listener.accept().expect("a connection").0;
    let with_more = std::fs::read(gateway.path(gateway.plan)).expect("the plan");
    gateway.bench.write(gateway.plan, &plan);
    // Not before it is confirmed, and not if it is taken back.
    let (sheet, _) = gateway.loaded("--cut --later");
    assert!(
        said(&sheet, "connections").contains("to be cut once the load is confirmed"),
        "{sheet:#}"
    );
    assert!(said(&sheet, "cut").contains("1 connection "), "{sheet:#}");
    assert!(passes(&mut stream, &mut served), "nothing is cut before");
    let id = sheet["id"].as_str().expect("an id").to_owned();
    assert_eq!(gateway.loaded(&format!("--return {id}")).1, 0);
    assert!(passes(&mut served, &mut stream), "it was taken back");
    assert!(!gateway.own("nft list tables").contains("bastium_cut"));
    let (sheet, code) = gateway.loaded("--cut --yes-if-verified");
    assert_eq!((code, &sheet["state"]), (0, &"confirmed".into()), "{sheet:#}");
    assert!(is_stopped(&mut stream, &mut served), "what the client sends still arrives");
    assert!(is_stopped(&mut served, &mut stream), "what the server sends still arrives");
    assert!(passes(&mut kept, &mut kept_served) && passes(&mut kept_served, &mut kept));
    // The gateway remembers it no longer than its table has it.
    let times = gateway.own("nft list set inet bastium_cut begun_v4");
    assert!(times.contains("2222") && times.contains("timeout 5d"), "{times}");
    as_planned(&gateway);
    // A second load finds it cut, and leaves it so.
    let (sheet, code) = gateway.loaded("--yes-if-verified");
    assert_eq!(code, 0, "{sheet:#}");
    assert!(is_stopped(&mut stream, &mut served));
    // A plan that lets it begin takes the table away.
    gateway.bench.write(gateway.plan, with_more);
    let (sheet, code) = gateway.loaded("--yes-if-verified");
    assert_eq!((code, &sheet["state"]), (0, &"confirmed".into()), "{sheet:#}");
    assert!(!gateway.own("nft list tables").contains("bastium_cut"));
    // What was sent meanwhile is sent again, at longer and longer intervals (RFC 6298).
    served.set_read_timeout(Some(Duration::from_secs(100))).expect("a time");
    let read = served.read(&mut [0; 16]).expect("what was sent meanwhile");
    assert!(read > 0, "it goes on where it was");
}

/// `verify` and `audit` find nothing to object to, and find it where something is cut that the plan allows.
fn as_planned(gateway: &Gateway) {
    let audit = |words: &str| {
        let text = gateway.own(&format!("nft {words} list ruleset"));
        gateway.bench.write("runs", text);
        gateway.bench.run(&format!("audit runs --plan {}", gateway.plan))
    };
    for words in ["", "-j"] {
        let run = audit(words);
        assert_eq!(run.code, 0, "{words}: {}{}", run.out, run.err);
    }
    let allowed = format!("10.44.24.120 . {SERVER} . tcp . 50001 . 3333");
    let back = format!("{SERVER} . 10.44.24.120 . tcp . 3333 . 50001");
    let element = |verb: &str, set: &str, element: &str| {
        gateway.own(&format!("nft {verb} element inet bastium_cut {set} '{{ {element} }}'"))
    };
    element("add", "begun_v4", &allowed);
    // One direction alone is no connection that somebody began.
    assert!(audit("").out.contains("not understood"), "{}", audit("").out);
    // Nor is one together with what comes back of another.
    let strange = format!("{SERVER} . 10.44.24.121 . tcp . 3334 . 50001");
    element("add", "back_v4", &strange);
    assert!(audit("").out.contains("not understood"), "{}", audit("").out);
    element("delete", "back_v4", &strange);
    element("add", "back_v4", &back);
    for words in ["", "-j"] {
        let run = audit(words);
        assert!(run.code == 1 && run.out.contains(SERVER), "{words}: {}{}", run.out, run.err);
    }
    element("delete", "begun_v4", &allowed);
    element("delete", "back_v4", &back);
    gateway.own("nft insert rule inet bastium_cut arriving tcp dport 443 drop");
    let run = audit("");
    assert!(run.code == 1 && run.out.contains("not understood"), "{}{}", run.out, run.err);
    gateway.own("nft delete rule inet bastium_cut arriving handle $(nft -a list chain inet bastium_cut arriving | sed -n 's/.*tcp dport 443.*handle //p')");
    assert_eq!(audit("").code, 0);
}
