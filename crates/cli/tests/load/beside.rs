//! What decides about packets on a gateway beside the rules of nft: no listing of nft shows it, so nothing may be said of what
//! runs there.

use crate::gateway::Gateway;
use std::process::Command;

/// Whether there is what a test needs; where it is asked for, it has to be.
fn is_there(there: bool, what: &str, needed: &str) -> bool {
    assert!(there || std::env::var(needed).is_err(), "there is no {what}");
    println!("{what}: {}", if there { "there" } else { "not there, so none was in the way" });
    there
}

fn verified(gateway: &Gateway) -> crate::common::Run {
    let mut command = Command::new(env!("CARGO_BIN_EXE_bastium"));
    command.args(["verify", "10.44.10.1", "--ssh-config", "ssh_config", "--plan", gateway.plan]);
    gateway.ran(command.current_dir(gateway.bench.path()))
}

/// Nothing is loaded, nothing is verified, and nothing has changed there.
fn is_refused(gateway: &Gateway, kind: &str, says: &str) {
    let rules = gateway.rules();
    for run in [gateway.load("--yes-if-verified"), gateway.load("--dry-run"), verified(gateway)] {
        assert_ne!(run.code, 0, "{kind}: {}{}", run.out, run.err);
        assert!(run.err.contains(kind) && run.err.contains(says), "{kind}, {says}: {}", run.err);
    }
    assert_eq!(gateway.rules(), rules);
    assert_eq!(gateway.load("--status").code, 0, "and nothing is held");
}

/// Rules of the kernel's older packet filter decide beside those of nft, whose listing looks as if they were not there.
pub(crate) fn older_filter() {
    const KIND: &str = "older packet filter";
    let gateway = Gateway::new();
    let there = gateway.own("iptables-legacy -S 2>&1; echo $?").trim_end().ends_with("\n0");
    if !is_there(there, KIND, "BASTIUM_OLDER_FILTER_NEEDED") {
        return;
    }
    // Its tables have been looked at, and let everything pass.
    gateway.own(r"ip6tables-legacy -t nat -S; iptables-legacy -N 'own\c'");
    let (sheet, code) = gateway.loaded("--yes-if-verified");
    assert_eq!((code, &sheet["state"]), (0, &"confirmed".into()), "{sheet:#}");
    assert!(!verified(&gateway).err.contains(KIND));
    for (make, take, says) in [
        (
            "iptables-legacy -A FORWARD -p tcp --dport 443 -j DROP",
            "iptables-legacy -F",
            "dport 443",
        ),
        ("iptables-legacy -P FORWARD DROP", "iptables-legacy -P FORWARD ACCEPT", ":FORWARD DROP"),
        (
            "ip6tables-legacy -t raw -A PREROUTING -m comment --comment 'é\u{1b}[2J' -j NOTRACK",
            "ip6tables-legacy -t raw -F",
            "ip6: -A PREROUTING",
        ),
    ] {
        gateway.own(make);
        is_refused(&gateway, KIND, says);
        gateway.own(take);
    }
    gateway.own("for one in iptables-legacy-save iptables-save; do mount --bind /dev/null /usr/sbin/$one; done");
    is_refused(&gateway, KIND, "iptables-save is not there");
    gateway.own("for one in iptables-legacy-save iptables-save; do umount /usr/sbin/$one; done");
    assert_eq!(gateway.loaded("--yes-if-verified").1, 0, "and without them it is loaded");
    // Somebody adds one while rules are being loaded: what is read back is not all that decides.
    let rules = gateway.rules();
    gateway.other_plan();
    gateway.with_nft("iptables-legacy -A FORWARD -p tcp --dport 4444 -j ACCEPT");
    let (sheet, code) = gateway.loaded("--yes-if-verified");
    assert_eq!((code, &sheet["state"]), (1, &"returned".into()), "{sheet:#}");
    let says = sheet.to_string();
    assert!(says.contains(KIND) && says.contains("dport 4444"), "{sheet:#}");
    assert_eq!(crate::tried::sorted(&gateway.rules()), crate::tried::sorted(&rules));
}

/// Attaches a program that drops every packet to an interface, for as long as it runs: by bpf(2), which has no command of its own.
const PROGRAM: &str = r#"
import ctypes, os, socket, struct, sys, time
libc = ctypes.CDLL(None, use_errno=True)
def bpf(command, attributes):
    buffer = ctypes.create_string_buffer(attributes, len(attributes))
    made = libc.syscall({"x86_64": 321, "aarch64": 280}[os.uname().machine], command, buffer, len(attributes))
    if made < 0: raise OSError(ctypes.get_errno(), "bpf")
    return made
code = ctypes.create_string_buffer(struct.pack("<BBhi", 0xb7, 0, 0, 1) + struct.pack("<BBhi", 0x95, 0, 0, 0), 16)
licence = ctypes.create_string_buffer(b"GPL")
at = lambda buffer: ctypes.addressof(buffer)
program = bpf(5, struct.pack("<IIQQIIQII16sII", 6, 2, at(code), at(licence), 0, 0, 0, 0, 0, b"drops", 0, 37))
link = bpf(28, struct.pack("<IIIIQQQQ", program, socket.if_nametoindex(sys.argv[1]), 37, 2, 0, 0, 0, 0))
print("attached", flush=True)
time.sleep(300)
"#;

/// A program at an interface sees packets before any rule.
pub(crate) fn program_at_interface() {
    const KIND: &str = "a program at an interface";
    let gateway = Gateway::new();
    gateway.own("ip link add spare type veth peer name other");
    gateway.bench.write("program.py", PROGRAM);
    let script = gateway.path("program.py").display().to_string();
    let attached = gateway.own(&format!(
        "setsid python3 {script} spare >/run/attached 2>&1 & echo $! >/run/program; \
         for _ in 1 2 3 4 5 6 7 8 9 10; do [ -s /run/attached ] && break; sleep 0.2; done; cat /run/attached"
    ));
    // Not everybody may: bpf(2) can be shut off, and python3 missing.
    if !is_there(attached == "attached\n", KIND, "BASTIUM_PROGRAM_NEEDED") {
        return;
    }
    is_refused(&gateway, KIND, "xdpgeneric at spare");
    gateway.own("kill $(cat /run/program)");
    gateway.wait_until("it is gone", 10, || !gateway.own("ip link show spare").contains("xdp"));
    assert_eq!(gateway.loaded("--yes-if-verified").1, 0, "and without it, rules are loaded");
}

/// Policies that protect what passes are none of ours; those that block it decide.
pub(crate) fn blocking_policy() {
    let gateway = Gateway::new();
    let made = gateway.own(
        "ip xfrm policy add src 10.44.24.0/24 dst 10.99.0.0/24 dir out tmpl src 198.51.100.14 \
         dst 198.51.100.77 proto esp mode tunnel && ip xfrm policy",
    );
    if !is_there(made.contains("proto esp"), "IPsec", "BASTIUM_IPSEC_NEEDED") {
        return;
    }
    let (sheet, code) = gateway.loaded("--yes-if-verified");
    assert_eq!((code, &sheet["state"]), (0, &"confirmed".into()), "{sheet:#}");
    gateway.own("ip xfrm policy add src 10.44.24.0/24 dst 10.44.40.0/24 dir fwd action block");
    is_refused(&gateway, "an IPsec policy that blocks", "src 10.44.24.0/24 dst 10.44.40.0/24");
}

/// What `tc` prints of interfaces with a shaper, and of filters at one of them (tc(8), tc-mirred(8), tc-bpf(8)).
const QDISCS: &str = "qdisc noqueue 0: dev lo root refcnt 2 \n\
    qdisc cake 8001: dev wan root refcnt 2 bandwidth 90Mbit besteffort\n\
    qdisc ingress ffff: dev wan parent ffff:fff1 ---------------- \n\
    qdisc fq_codel 0: dev lan parent :1 limit 10240p\n";
const TO_A_SHAPER: &str = "filter protocol all pref 10 matchall chain 0 \n\
    filter protocol all pref 10 matchall chain 0 handle 0x1 \n  not_in_hw\n\
    \taction order 1: mirred (Egress Redirect to device ifb4wan) stolen\n \tindex 1 ref 1 bind 1\n\
    \taction order 2: gact action pass\n\t random type none pass val 0\n\t index 1 ref 1 bind 1\n";

/// Filters of `tc` may drop packets or lead them elsewhere; a shaper's do not. What is tried is how its listings are read: not
/// every kernel has its classifiers.
pub(crate) fn classifiers() {
    const KIND: &str = "a filter of tc";
    let gateway = Gateway::new();
    if !is_there(gateway.own("command -v tc").trim() == "/usr/sbin/tc", "tc", "BASTIUM_TC_NEEDED") {
        return;
    }
    let fake = |filters: &str| {
        gateway.bench.write("qdiscs", QDISCS);
        gateway.bench.write("filters", filters);
        let at = |name: &str| gateway.path(name).display().to_string();
        let script = format!(
            "#!/bin/sh\ncase \"$*\" in 'qdisc show') cat {} ;; 'filter show dev wan parent ffff:fff2') cat {} ;; *) exit 2 ;; esac\n",
            at("qdiscs"),
            at("filters")
        );
        gateway.bench.write("tc", script);
        gateway.own(&format!(
            "chmod +x {0}; umount /usr/sbin/tc 2>/dev/null; mount --bind {0} /usr/sbin/tc",
            at("tc")
        ));
    };
    fake(TO_A_SHAPER);
    let (sheet, code) = gateway.loaded("--yes-if-verified");
    assert_eq!((code, &sheet["state"]), (0, &"confirmed".into()), "{sheet:#}");
    let actions = [
        (
            "\taction order 1: gact action drop\n\t random type none pass val 0\n",
            "wan: gact action drop",
        ),
        (
            "\taction order 1: gact action pass\n\t random type netrand drop val 5\n",
            "random type netrand drop",
        ),
        (
            "\taction order 2: mirred (Egress Redirect to device lan) stolen\n",
            "mirred (Egress Redirect to device lan)",
        ),
        ("\taction order 1:  police 0x1 rate 1Mbit burst 10Kb mtu 2Kb action drop\n", "police 0x1"),
        (
            "filter protocol all pref 1 bpf chain 0 handle 0x1 own.o:[\u{1b}c\\c] direct-action\n",
            "bpf chain 0",
        ),
    ];
    for (action, says) in actions {
        fake(&format!("{TO_A_SHAPER}{action}"));
        is_refused(&gateway, KIND, says);
    }
}
