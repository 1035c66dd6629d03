//! What goes wrong on the way.

use crate::gateway::Gateway;
use crate::tried::sorted;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Within this many seconds old rules are back that were to be back after thirty.
const SOON: u64 = 70;

/// Nobody confirms; one of the two that watch is killed, and the settings of the kernel come back as well.
pub(crate) fn forgotten() {
    let gateway = Gateway::new();
    gateway.own("echo 0 >/proc/sys/net/ipv4/ip_forward");
    let begun = Instant::now();
    let (sheet, code) = gateway.loaded("--return-after 30s");
    assert_eq!((code, &sheet["state"]), (0, &"pending".into()), "{sheet:#}");
    assert_ne!(gateway.rules(), "");
    assert_eq!(gateway.own("cat /proc/sys/net/ipv4/ip_forward"), "1\n");
    gateway.own("kill -9 $(cat /run/bastium/*/watch.1)");
    let (status, _) = gateway.loaded("--status");
    assert!(status.to_string().contains("does not run"), "the missing one is reported: {status:#}");
    gateway.wait_until("the old rules are back", SOON, || gateway.rules().is_empty());
    assert!(begun.elapsed() > Duration::from_secs(25), "{:?}", begun.elapsed());
    gateway.wait_until("the lock is free", 60, || {
        gateway.own("ls /run/bastium/lock 2>/dev/null").is_empty()
    });
    assert_eq!(gateway.own("cat /proc/sys/net/ipv4/ip_forward"), "0\n");
    assert_eq!(gateway.own("ls -A /etc/bastium"), "");
    let id = sheet["id"].as_str().expect("an id");
    let late = gateway.load(&format!("--confirm {id}"));
    assert_eq!(late.code, 1, "{}", late.out);
    assert!(late.err.contains("undone already"), "{}", late.err);
}

/// Whoever confirms is killed when the name server has its file and has not read it yet: what watches goes on from there.
pub(crate) fn killed_at_last() {
    let gateway = Gateway::new();
    assert_eq!(gateway.loaded("--yes-if-verified").1, 0);
    // The first start of this name server is the end of whoever starts it.
    gateway.own(
        "mkdir -p /etc/init.d; printf '#!/bin/sh\\necho \"$1\" >>/run/started\\n[ -e /run/once ] || { : >/run/once; kill -9 $PPID; }\\n' \
         >/etc/init.d/dnsmasq; chmod 755 /etc/init.d/dnsmasq",
    );
    let plan = std::fs::read_to_string(gateway.bench.file(gateway.plan)).expect("the plan");
    let renamed = plan.replace("\"calls.example.net\"", "\"talks.example.net\"");
    assert_ne!(plan, renamed);
    gateway.bench.write(gateway.plan, renamed);
    let (sheet, code) = gateway.loaded("");
    assert_eq!((code, &sheet["state"]), (0, &"pending".into()), "{sheet:#}");
    let found = "203.0.113.78";
    gateway.own(&format!("nft add element inet bastium domain_phone-provider_v4 {{ {found} }}"));
    let holds = || gateway.own("nft list table inet bastium").contains(found);
    let id = sheet["id"].as_str().expect("an id");
    let run = gateway.load(&format!("--confirm {id}"));
    assert_ne!(run.code, 0, "{}{}", run.out, run.err);
    let started = || gateway.own("cat /run/started");
    assert_eq!(started(), "restart\n");
    assert!(holds(), "what the name server found by its old file");
    let status = gateway.load("--status");
    assert!(status.out.contains("it is confirmed"), "{}{}", status.out, status.err);
    gateway.wait_until("somebody goes on", 60, || {
        gateway.own("ls /run/bastium/lock 2>/dev/null").is_empty()
    });
    assert_eq!(started(), "restart\nrestart\n");
    assert!(!holds(), "{}", gateway.own("nft list table inet bastium"));
    assert!(gateway.own("cat /etc/dnsmasq.d/bastium.conf").contains("talks.example.net"));
    assert_eq!(gateway.own("cat /etc/bastium/rules.nft"), gateway.export());
    assert_eq!(gateway.own("ls /var/lib/bastium | wc -l").trim(), "2");
}

/// A clock that jumps by years at every look: neither the time that was promised nor the order of what is kept hangs on it.
pub(crate) fn jumping_clock() {
    let gateway = Gateway::new();
    let date = "#!/bin/sh\nif [ \"$*\" = +%z ]; then echo +0000; exit; fi\nyear=$(cat /run/year 2>/dev/null || echo 2038)\n\
                echo $((year - 7)) >/run/year\necho ${year}0101T000000\n";
    gateway.bench.write("date", date);
    let script = gateway.path("date").display().to_string();
    gateway.own(&format!("chmod +x {script}; mount --bind {script} $(command -v date)"));
    let mut ids = Vec::new();
    for port in 2201..=2206 {
        gateway.allow(&format!("extra-{port}"), &format!("tcp/{port}"));
        let (sheet, code) = gateway.loaded("--yes-if-verified");
        assert_eq!((code, &sheet["state"]), (0, &"confirmed".into()), "{sheet:#}");
        ids.push(sheet["id"].as_str().expect("an id").to_owned());
    }
    assert!(gateway.own("cat /run/year").trim().parse::<u32>().expect("a year") < 2000);
    let (status, _) = gateway.loaded("--status");
    let kept = status["kept"].as_array().expect("what is kept");
    assert_eq!(kept.len(), 5, "{status:#}");
    for (state, id) in kept.iter().zip(ids.iter().rev()) {
        assert!(state.as_str().is_some_and(|state| state.ends_with(id.as_str())), "{status:#}");
    }
    let old = gateway.rules();
    gateway.other_plan();
    let begun = Instant::now();
    let (sheet, _) = gateway.loaded("--return-after 30s");
    assert_eq!(sheet["state"], "pending", "{sheet:#}");
    gateway.wait_until("the old rules are back", SOON, || sorted(&gateway.rules()) == sorted(&old));
    assert!(begun.elapsed() > Duration::from_secs(25), "{:?}", begun.elapsed());
}

/// What is done to a load.
#[derive(Clone, Copy, Debug)]
enum Fault {
    /// The program at the engineer's is killed.
    Program,
    /// Everything on the gateway that belongs to the session is.
    Session,
    /// The cable is pulled.
    Line,
    /// The gateway's disk is full.
    Disk,
}

/// Loads that are interrupted at any moment, in any of these ways.
pub(crate) fn killed() {
    let number = |name, otherwise: u64| {
        std::env::var(name).ok().map_or(otherwise, |words| words.parse().expect("a number"))
    };
    let (rounds, seed) = (number("BASTIUM_LOAD_KILLS", 4), number("BASTIUM_LOAD_SEED", 1));
    let faults = [Fault::Program, Fault::Session, Fault::Line, Fault::Disk];
    std::thread::scope(|scope| {
        for (place, fault) in faults.into_iter().enumerate() {
            scope.spawn(move || {
                let mut random = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ (place as u64 + 1);
                let site = Interrupted::new();
                for _ in 0..rounds.div_ceil(faults.len() as u64) {
                    random ^= random << 13;
                    random ^= random >> 7;
                    random ^= random << 17;
                    site.round(fault, Duration::from_millis(random % 5000));
                }
            });
        }
    });
}

/// A gateway that has one list, and is to have another.
struct Interrupted {
    gateway: Gateway,
    /// Both lists as they are listed, and as they are exported.
    lists: [(String, String); 2],
}

impl Interrupted {
    fn new() -> Self {
        let gateway = Gateway::new();
        let plan = std::fs::read(gateway.path(gateway.plan)).expect("the plan");
        let list = || {
            let (sheet, code) = gateway.loaded("--yes-if-verified");
            assert_eq!(code, 0, "{sheet:#}");
            (gateway.rules(), gateway.export())
        };
        let first = list();
        gateway.other_plan();
        let second = list();
        std::fs::copy(gateway.path(gateway.plan), gateway.path("second.toml")).expect("a copy");
        gateway.bench.write("first.toml", plan);
        assert_ne!(first, second);
        Self { gateway, lists: [first, second] }
    }

    /// Which of the lists runs, whole.
    fn runs(&self) -> usize {
        let rules = self.gateway.rules();
        let runs = self.lists.iter().position(|(listing, _)| sorted(listing) == sorted(&rules));
        runs.unwrap_or_else(|| panic!("neither the old nor the new list: {rules}"))
    }

    /// Which of them a restart would load.
    fn restarts(&self) -> usize {
        let file = self.gateway.own("cat /etc/bastium/rules.nft");
        let is = self.lists.iter().position(|(_, export)| *export == file);
        is.expect("a restart loads the old or the new list")
    }

    fn round(&self, fault: Fault, after: Duration) {
        let gateway = &self.gateway;
        let old = self.runs();
        assert_eq!(old, self.restarts());
        let name = ["second.toml", "first.toml"][old];
        std::fs::copy(gateway.path(name), gateway.path(gateway.plan)).expect("a copy");
        let mut command = gateway.command("--return-after 30s --yes-if-verified --format json");
        command.stdout(Stdio::null()).stderr(Stdio::null());
        let begun = Instant::now();
        let mut load = gateway.start_at_engineer(&mut command);
        while begun.elapsed() < after {
            std::thread::sleep(Duration::from_millis(5));
        }
        self.happens(fault, &mut load);
        let within = Instant::now();
        // Whatever has happened: at each moment one of the two runs, and in the end all agree which.
        let settled = loop {
            let (runs, restarts) = (self.runs(), self.restarts());
            let state = gateway.own("cd /run/bastium; [ -e lock ] && ls $(head -n 1 lock)");
            let is = |name: &str| state.lines().any(|line| line == name);
            if state.is_empty() && runs == restarts {
                break runs;
            }
            if restarts != old {
                assert_ne!(runs, old, "a restart loads the new list only once it is confirmed");
            }
            // Nothing was loaded yet: somebody has to give the lock back.
            if !state.is_empty()
                && within.elapsed() > Duration::from_secs(3)
                && !is("armed")
                && !is("loading")
                && !is("returning")
                && !is("confirmed")
            {
                assert_eq!((runs, restarts), (old, old), "{state}");
                self.heals(fault);
                let id = gateway.own("head -n 1 /run/bastium/lock");
                gateway.load(&format!("--return {id}"));
            }
            assert!(
                within.elapsed() < Duration::from_secs(SOON + 15),
                "{fault:?} after {after:?}: {state}"
            );
            std::thread::sleep(Duration::from_millis(300));
        };
        let _ = load.kill();
        let _ = load.wait();
        self.heals(fault);
        println!(
            "{fault:?} after {after:?}: the {} list, {:.0?} later",
            if settled == old { "old" } else { "new" },
            within.elapsed()
        );
    }

    fn happens(&self, fault: Fault, load: &mut std::process::Child) {
        let gateway = &self.gateway;
        match fault {
            Fault::Program => drop(load.kill()),
            Fault::Session => drop(gateway.own(
                "keep=$(cat /run/bastium/*/watch.* 2>/dev/null; pgrep -f listener); for one in $(pgrep -x sh; pgrep -f 'sshd: '); do \
                 [ /proc/$one/ns/mnt -ef /proc/self/ns/mnt ] && [ $one != $$ ] && ! echo \"$keep\" | grep -qx $one && kill -9 $one; done",
            )),
            Fault::Line => drop(gateway.at_engineer(Command::new("ip").args(["link", "set", "lan", "down"]))),
            Fault::Disk => drop(gateway.own("for one in /run /var/lib; do cat /dev/zero >$one/full 2>/dev/null; done")),
        }
    }

    fn heals(&self, fault: Fault) {
        match fault {
            Fault::Line => {
                self.gateway.at_engineer(Command::new("ip").args(["link", "set", "lan", "up"]));
                // The other end's address is known again only after a while.
                self.gateway.wait_until("the line", 60, || self.gateway.load("--status").code == 0);
            }
            Fault::Disk => drop(self.gateway.own("rm -f /run/full /var/lib/full")),
            Fault::Program | Fault::Session => {}
        }
    }
}
