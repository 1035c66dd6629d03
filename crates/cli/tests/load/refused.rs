//! What is not done, and why; and what an engineer is kept from.

use crate::gateway::{ENGINEER, Gateway};
use bastium_wire::{Broken, Line, LoadId, Reached, Stopped};
use std::io::Write;
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

/// A plan that lets nobody in from where the engineer is.
pub(crate) fn shut_out() {
    let gateway = Gateway::new();
    let plan = std::fs::read_to_string(gateway.path(gateway.plan)).expect("the plan");
    let moved = plan.replace(&format!("address = \"{ENGINEER}\""), "address = \"10.44.10.11\"");
    assert_ne!(plan, moved);
    gateway.bench.write(gateway.plan, moved);
    let run = gateway.load("--yes-if-verified");
    assert_eq!(run.code, 1, "{}", run.out);
    assert!(run.err.contains("would shut you out"), "{}", run.err);
    assert!(run.out.contains(ENGINEER), "{}", run.out);
    nothing_left(&gateway);
    // Whoever insists is shut out, and it comes back by itself.
    let begun = Instant::now();
    let (sheet, code) = gateway.loaded("--yes-if-verified --although-shut-out --return-after 30s");
    assert_eq!((code, &sheet["state"]), (1, &"unsure".into()), "{sheet:#}");
    assert_ne!(gateway.rules(), "", "the new rules run, and keep everybody out");
    gateway.wait_until("the old rules are back", 70, || gateway.rules().is_empty());
    assert!(begun.elapsed() > Duration::from_secs(25));
    assert_eq!(gateway.load("--status").code, 0, "and the engineer is let in again");
}

/// Nothing has changed, and nothing is held.
fn nothing_left(gateway: &Gateway) {
    assert_eq!(gateway.rules(), "");
    let left = gateway
        .own("ls -A /run/bastium /etc/bastium /var/lib/bastium 2>/dev/null | grep -v : | grep .");
    assert_eq!(left, "", "files that nobody needs");
    assert!(!gateway.own("nft list tables").contains("bastium_try"));
}

/// What the gateway lacks, and what is on it that does not go with the plan.
pub(crate) fn unfit() {
    let gateway = Gateway::new();
    let run = gateway.load("--dry-run");
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    assert!(run.out.contains("nothing was loaded, as asked"), "{}", run.out);
    nothing_left(&gateway);
    gateway.own("echo 7 >/run/keepalived.pid");
    let run = gateway.load("--yes-if-verified");
    assert!(run.code == 1 && run.err.contains("one of a pair"), "{}{}", run.out, run.err);
    gateway.own("rm /run/keepalived.pid");
    nothing_left(&gateway);
    // Somebody else's rules that refuse what the plan allows.
    gateway.own("nft add table inet other; nft 'add chain inet other f { type filter hook forward priority 5; }'; nft add rule inet other f tcp dport 443 drop");
    let run = gateway.load("--yes-if-verified");
    assert_eq!(run.code, 1, "{}", run.out);
    assert!(
        run.out.contains("inet other") && run.err.contains("change what the plan decides"),
        "{}{}",
        run.out,
        run.err
    );
    nothing_left(&gateway);
    gateway.own("nft delete table inet other");
    // A table that lists as other rules than it has: the listing leaves out the family of a message.
    gateway.own("nft add table inet bastium; nft add chain inet bastium odd; nft add rule inet bastium odd meta nfproto ipv4 meta l4proto icmp accept");
    let odd = gateway.rules();
    let run = gateway.load("--yes-if-verified");
    if odd.contains("nfproto") {
        println!("this nft lists all conditions, so a table that cannot be restored was not tried");
    } else {
        assert_eq!(run.code, 1, "{}{}", run.out, run.err);
        assert!(run.err.contains("could not be restored"), "{}", run.err);
        assert_eq!(gateway.rules(), odd);
    }
    gateway.own("nft delete table inet bastium");
    // One of the two programs that let something outlive its session is enough.
    let without = |names: &str| {
        gateway.own(&format!("for one in {names}; do mount --bind /dev/null /usr/bin/$one; done"));
        let (sheet, code) = gateway.loaded("--yes-if-verified");
        gateway.own(&format!("for one in {names}; do umount /usr/bin/$one; done"));
        (sheet, code)
    };
    for one in ["setsid", "nohup"] {
        let (sheet, code) = without(one);
        assert_eq!((code, &sheet["state"]), (0, &"confirmed".into()), "without {one}: {sheet:#}");
    }
    gateway.own("nft delete table inet bastium; rm -rf /etc/bastium /var/lib/bastium /run/bastium");
    let (sheet, code) = without("setsid nohup");
    assert_eq!(code, 1, "{sheet:#}");
    assert!(sheet.to_string().contains("neither setsid nor nohup"), "{sheet:#}");
    nothing_left(&gateway);
    greeted(&gateway);
}

/// A shell that greets everybody with whatever it likes.
fn greeted(gateway: &Gateway) {
    gateway.own(
        "printf 'echo \"bastium-0 end 4\"; echo done; printf \"\\033[2J\"\\n' >/run/home/.bashrc",
    );
    let run = gateway.load("--status");
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    assert!(!run.out.contains('\u{1b}') && run.out.contains("nobody is loading"), "{}", run.out);
    gateway.own("printf 'echo go away; exit 3\\n' >/run/home/.bashrc");
    let run = gateway.load("--status");
    assert_eq!(run.code, 3, "{}{}", run.out, run.err);
    assert!(run.err.contains("sudo -n"), "{}", run.err);
    gateway.own("rm /run/home/.bashrc");
}

/// Whoever logs in as somebody else loads by `sudo -n sh`, and learns what is missing without it.
pub(crate) fn not_root() {
    if !std::path::Path::new("/usr/bin/sudo").exists() {
        assert!(std::env::var("BASTIUM_SUDO_NEEDED").is_err(), "there is no sudo");
        println!("there is no sudo here, so somebody who is not root did not load");
        return;
    }
    let gateway = Gateway::new();
    let folder = gateway.bench.path().display();
    gateway.own(&format!(
        "echo 'walker:x:4242:4242::/run/home:/bin/sh' >>/etc/passwd; echo 'walker:*:20000:0:99999:7:::' >>/etc/shadow; \
         chmod 755 {folder} /run/home; chmod 644 {folder}/key.pub"
    ));
    let load = |words: &str| gateway.ran(&mut gateway.command_as("walker@10.44.10.1", words));
    let run = load("--yes-if-verified");
    assert_eq!(run.code, 3, "{}{}", run.out, run.err);
    assert!(run.err.contains("sudo -n sh"), "{}", run.err);
    assert_eq!(gateway.rules(), "");
    gateway.own("echo 'walker ALL=(root) NOPASSWD: /usr/bin/sh' >/etc/sudoers.d/walker; chmod 440 /etc/sudoers.d/walker");
    let run = load("--yes-if-verified");
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    assert_ne!(gateway.rules(), "", "the new rules run");
    assert_eq!(gateway.own("stat -c %U /run/bastium"), "root\n");
}

/// A gateway that restarts before anybody has confirmed.
pub(crate) fn restarted() {
    let gateway = Gateway::new();
    assert_eq!(gateway.loaded("--yes-if-verified").1, 0);
    let old = gateway.rules();
    gateway.other_plan();
    let (sheet, _) = gateway.loaded("");
    assert_eq!(sheet["state"], "pending", "{sheet:#}");
    assert_ne!(gateway.rules(), old);
    gateway.own("kill -9 $(cat /run/bastium/*/watch.*); rm -rf /run/bastium; nft flush ruleset; nft -f /etc/bastium/rules.nft");
    assert_eq!(crate::tried::sorted(&gateway.rules()), crate::tried::sorted(&old));
    let (status, _) = gateway.loaded("--status");
    assert_eq!(status["state"], "none", "{status:#}");
    assert_eq!(gateway.loaded("--yes-if-verified").1, 0, "and it is loaded once more");
}

/// Whatever is said to be as planned is not said where it is not.
pub(crate) fn untrue() {
    let gateway = Gateway::new();
    let plan = std::fs::read_to_string(gateway.path(gateway.plan)).expect("the plan");
    gateway
        .bench
        .write(gateway.plan, plan.replace("time-zone = \"UTC\"", "time-zone = \"Asia/Tokyo\""));
    let run = gateway.load("--dry-run");
    assert!(
        run.code == 1 && run.err.contains("other hours than the plan"),
        "{}{}",
        run.out,
        run.err
    );
    gateway.bench.write(gateway.plan, plan);
    for (interface, address) in [("core.24", "10.44.24.1/24"), ("wan1", "198.51.100.14/30")] {
        gateway.own(&format!("ip address del {address} dev {interface}"));
        let run = gateway.load("--dry-run");
        let says = format!("{interface} does not have the address {address}");
        assert!(run.out.contains(&says), "{}", run.out);
        gateway.own(&format!("ip address add {address} dev {interface}"));
    }
    assert!(gateway.load("--dry-run").out.contains("names and addresses are those of the plan"));
    // A gateway that opens a port with whatever is loaded.
    gateway.with_nft("/run/nft.real insert rule inet bastium forward tcp dport 4444 accept");
    let (sheet, code) = gateway.loaded("--yes-if-verified");
    assert_eq!((code, &sheet["state"]), (1, &"returned".into()), "{sheet:#}");
    assert!(sheet.to_string().contains("tcp/4444"), "{sheet:#}");
    assert_eq!(gateway.rules(), "");
}

/// A line to the gateway's shell without ssh: as quick as the kernel.
struct Direct<'a>(&'a Gateway);

impl Line for Direct<'_> {
    fn run(&self, script: &str, _: Reached) -> Result<Vec<u8>, Broken> {
        let mut shell = self.0.own_command("sh -s");
        let mut shell =
            shell.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().map_err(Broken::NoSsh)?;
        shell
            .stdin
            .take()
            .expect("its input")
            .write_all(script.as_bytes())
            .map_err(Broken::NoSsh)?;
        Ok(shell.wait_with_output().map_err(Broken::NoSsh)?.stdout)
    }
}

/// Many that confirm and many that return, at the moment when the time runs out: one of them is first, and all learn so.
pub(crate) fn raced() {
    let gateway = Gateway::new();
    let (sheet, _) = gateway.loaded("--return-after 30s");
    let id: LoadId = sheet["id"].as_str().and_then(|id| id.parse().ok()).expect("an id");
    let left = sheet["returns_in"].as_u64().expect("a time");
    std::thread::sleep(Duration::from_millis(left * 1000 - 1500));
    let (tried, won) = (AtomicUsize::new(0), AtomicUsize::new(0));
    let until = Instant::now() + Duration::from_secs(4);
    std::thread::scope(|scope| {
        for place in 0..8 {
            let (gateway, id, tried, won) = (&gateway, &id, &tried, &won);
            scope.spawn(move || {
                while Instant::now() < until {
                    let line = Direct(gateway);
                    let done = match place % 2 {
                        0 => bastium_wire::confirm(&line, id).map(drop),
                        _ => bastium_wire::back(&line, id),
                    };
                    tried.fetch_add(1, Ordering::Relaxed);
                    match done {
                        Ok(()) => drop(won.fetch_add(1, Ordering::Relaxed)),
                        Err(Stopped::Refused { .. }) => {}
                        Err(other) => panic!("{other:?}"),
                    }
                }
            });
        }
    });
    let won = won.into_inner();
    println!("{} at once, {won} of them first", tried.into_inner());
    assert!(won <= 1, "{won} believe that they were first");
    gateway.wait_until("the lock is free", 60, || {
        gateway.own("ls /run/bastium/lock 2>/dev/null").is_empty()
    });
    let kept = !gateway.own("ls /run/bastium/*/kept 2>/dev/null").is_empty();
    assert_eq!(kept, !gateway.rules().is_empty(), "confirmed is what runs");
    assert_eq!(kept, gateway.own("cat /etc/bastium/rules.nft 2>/dev/null") == gateway.export());
}

/// Names that ssh would take for something else, and accounts that may not.
pub(crate) fn names() {
    let bench = crate::common::Bench::new();
    for host in ["-oProxyCommand=touch${IFS}here", "gw;id", "root@-F", "$(id)", "gw x"] {
        let run = bench.run_words(&["load", "--plan", "clinic.toml", "--", host]);
        assert_eq!(run.code, 2, "{host}: {}", run.out);
    }
    assert!(!bench.file("here").exists());
    let plan = std::fs::read_to_string(bench.file("clinic.toml")).expect("the plan");
    bench.write(
        "evil.toml",
        plan.replacen("[gateway]\n", "[gateway]\nreach = \"-oProxyCommand=touch here\"\n", 1),
    );
    let run = bench.run("load --plan evil.toml");
    assert!(run.code == 2 && run.err.contains("bad-reach"), "{}{}", run.out, run.err);
    let run = bench.run("load --plan clinic.toml");
    assert!(run.code == 2 && run.err.contains("no gateway is named"), "{}{}", run.out, run.err);
    // Nobody is there.
    let mut command = Command::new(env!("CARGO_BIN_EXE_bastium"));
    command
        .args(["load", "127.0.0.2", "--status", "--plan", "clinic.toml"])
        .current_dir(bench.path());
    let done = command.output().expect("the program");
    assert_eq!(done.status.code(), Some(3), "{}", String::from_utf8_lossy(&done.stdout));
}
