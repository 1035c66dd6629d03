//! What works, and what is refused.

use crate::gateway::Gateway;
use serde_json::Value;
use std::process::Command;
use std::time::{Duration, Instant};

/// Tells this program that it is in namespaces of its own.
const INSIDE: &str = "BASTIUM_LOAD_INSIDE";

pub(crate) fn main() {
    if std::env::var(INSIDE).is_err() {
        if let Err(why) = possible() {
            assert!(std::env::var("BASTIUM_SSH_NEEDED").is_err(), "{why}");
            eprintln!("skipped: {why}");
            return;
        }
        let again = std::env::current_exe().expect("this program");
        let mut inside = Command::new("unshare");
        inside.args(["--net", "--pid", "--mount", "--mount-proc", "--fork", "--kill-child"]);
        let status = inside.arg(again).env(INSIDE, "1").status().expect("namespaces");
        assert!(status.success(), "what is loaded by wire is otherwise");
        return;
    }
    if let Ok(file) = std::env::var("BASTIUM_LOAD_SHOWN") {
        std::fs::write(file, shown()).expect("a file to write to");
        return;
    }
    let only = std::env::var("BASTIUM_LOAD_ONLY").unwrap_or_default();
    let tests = [
        ("a load that is confirmed", confirmed as fn()),
        ("a change of what runs", changed),
        ("a domain of other names", renamed),
        ("lists by netconf", by_netconf),
        ("connections that are there", crate::cut::reported),
        ("connections that are cut", crate::cut::cut),
        ("a gateway that is not as planned", crate::refused::untrue),
        ("names that are none", crate::refused::names),
        ("an engineer who would be shut out", crate::refused::shut_out),
        ("a gateway that is not fit", crate::refused::unfit),
        ("rules that nft does not list", crate::beside::older_filter),
        ("a program that drops what comes in", crate::beside::program_at_interface),
        ("an IPsec policy that blocks", crate::beside::blocking_policy),
        ("filters of tc", crate::beside::classifiers),
        ("a gateway that restarts", crate::refused::restarted),
        ("confirmations at the last moment", crate::refused::raced),
        ("a clock that jumps", crate::broken::jumping_clock),
        ("somebody who is not root", crate::refused::not_root),
        ("a load that nobody confirms", crate::broken::forgotten),
        ("a confirmation that is killed", crate::broken::killed_at_last),
        ("loads that are killed", crate::broken::killed),
    ];
    // Most of the time is waiting: each has a gateway of its own.
    let chosen: Vec<_> = tests.into_iter().filter(|(name, _)| name.contains(&only)).collect();
    std::thread::scope(|scope| {
        for (name, test) in chosen {
            scope.spawn(move || {
                let begun = Instant::now();
                test();
                println!("{name}: {:.1?}", begun.elapsed());
            });
        }
    });
}

/// Whether a server for ssh can run here.
fn possible() -> Result<(), String> {
    if !rustix::process::getuid().is_root() {
        return Err("only root can run a server for ssh that anybody may use".to_owned());
    }
    for program in ["/usr/sbin/sshd", "/usr/sbin/nft"] {
        if !std::path::Path::new(program).exists() {
            return Err(format!("there is no {program}"));
        }
    }
    let made = Command::new("unshare").args(["--net", "--mount", "true"]).status();
    if made.is_ok_and(|status| status.success()) { Ok(()) } else { Err("no namespaces".to_owned()) }
}

/// What is printed of a change that waits for its confirmation, and of who looks at it.
fn shown() -> String {
    let gateway = Gateway::new();
    let plan = std::fs::read(gateway.path(gateway.plan)).expect("the plan");
    gateway.other_plan();
    assert_eq!(gateway.load("--yes-if-verified").code, 0);
    let _connected = gateway.connected(2222);
    gateway.bench.write(gateway.plan, plan);
    let words = ["--cut --color always", "--status --color always"];
    let runs = words.map(|words| gateway.load(words));
    runs.map(|run| run.out + &run.err).concat()
}

/// The whole way, onto a gateway without rules.
fn confirmed() {
    let gateway = Gateway::new();
    gateway.own("mkdir -p /etc/systemd/network; cd /etc/systemd/network; touch 40-bastium-old.7.network 10-own.network");
    let earlier = "for one in 1 2 3 4 5 6; do mkdir -p /var/lib/bastium/10000${one}-2026010${one}T080000-0000000$one; done";
    gateway.own(earlier);
    let begun = Instant::now();
    let (sheet, code) = gateway.loaded("--yes-if-verified --interfaces networkd");
    let took = begun.elapsed();
    assert_eq!((code, &sheet["state"]), (0, &"confirmed".into()), "{sheet:#}");
    assert!(took < Duration::from_secs(60), "{took:?}");
    println!("loaded and confirmed in {took:.2?}");
    let described =
        std::fs::read_to_string(crate::common::repository().join("docs/schema/load.schema.json"));
    let described: Value = serde_json::from_str(&described.expect("the schema")).expect("JSON");
    let named = described["properties"].as_object().expect("properties").keys();
    assert!(named.eq(sheet.as_object().expect("an object").keys()), "{sheet:#}");
    let export = gateway.export();
    assert_eq!(gateway.own("cat /etc/bastium/rules.nft"), export, "what a restart reads");
    assert_eq!(
        gateway.own("ls -A /etc/bastium /run/bastium/lock 2>/dev/null | grep -c -e next -e lock"),
        "0\n"
    );
    gateway
        .wait_until("what would bring the old rules back has ended", 30, || !gateway.is_watched());
    assert_eq!(gateway.own("cat /proc/sys/net/ipv4/conf/all/accept_redirects"), "0\n");
    assert_eq!(gateway.own("ls /var/lib/bastium | wc -l").trim(), "5", "the last states are kept");
    looked_at(&gateway);
    let run = gateway.bench.run(&format!("export networkd --to networkd --plan {}", gateway.plan));
    assert_eq!(run.code, 0, "{}", run.err);
    gateway.own("rm /etc/systemd/network/10-own.network || touch /etc/own-is-gone");
    let differs = gateway
        .own(&format!("diff -r /etc/systemd/network {} 2>&1", gateway.path("networkd").display()));
    assert_eq!(differs, "", "files for the interfaces");
    assert_eq!(gateway.own("ls /etc/own-is-gone 2>/dev/null"), "", "other files stay");
    let served = gateway.bench.run(&format!("export dnsmasq --plan {}", gateway.plan)).out;
    assert_eq!(gateway.own("cat /etc/dnsmasq.d/bastium.conf"), served);
}

/// What runs can be looked at without a lock; nobody has walked yet, so it is not verified.
fn looked_at(gateway: &Gateway) {
    let mut command = Command::new(env!("CARGO_BIN_EXE_bastium"));
    command.args(["verify", "10.44.10.1", "--ssh-config", "ssh_config", "--format", "json"]);
    command.args(["--plan", gateway.plan]).current_dir(gateway.bench.path());
    let begun = Instant::now();
    let done = gateway.at_engineer(&mut command);
    println!("read back over ssh and compared in {:.2?}", begun.elapsed());
    assert_eq!(done.status.code(), Some(1));
    let sheet: Value = serde_json::from_slice(&done.stdout).expect("JSON");
    assert_eq!(sheet["differences"].as_array().map(Vec::len), Some(0), "{sheet:#}");
    assert!(sheet["faults"].to_string().contains("No check of the walk has passed"), "{sheet:#}");
}

/// A second load over the first: what did not change keeps its counters, and what the name server found stays.
fn changed() {
    let gateway = Gateway::new();
    assert_eq!(gateway.loaded("--yes-if-verified").1, 0);
    let found = "203.0.113.77";
    gateway.own(&format!("nft add element inet bastium domain_phone-provider_v4 {{ {found} }}"));
    gateway.own("nft add table inet other; nft add chain inet other watched; nft add rule inet other watched counter");
    let listed = || gateway.own("nft list table inet bastium");
    let before = managed(&listed());
    assert!(before > 0, "the first load came by ssh");
    gateway.other_plan();
    let (sheet, code) = gateway.loaded("");
    assert_eq!((code, &sheet["state"]), (0, &"pending".into()), "{sheet:#}");
    let said = sheet.to_string();
    for words in ["kept with their counters", "the same program in the kernel", "inet other"] {
        assert!(said.contains(words), "{words}: {sheet:#}");
    }
    assert!(managed(&listed()) > before);
    assert!(listed().contains(found));
    // Nobody else can load meanwhile, and whoever has the id can end it.
    let id = sheet["id"].as_str().expect("an id").to_owned();
    let locked = gateway.load("--yes-if-verified");
    assert_eq!(locked.code, 1, "{}", locked.out);
    assert!(locked.err.contains(&format!("(load {id})")), "{}", locked.err);
    let (status, _) = gateway.loaded("--status");
    assert_eq!(
        (&status["state"], &status["id"]),
        (&"pending".into(), &id.as_str().into()),
        "{status:#}"
    );
    assert!(
        status["returns_in"].as_i64().is_some_and(|left| (200..=300).contains(&left)),
        "{status:#}"
    );
    let nobody = gateway.load("--confirm 00000000");
    assert_eq!(nobody.code, 1, "{}", nobody.out);
    assert!(nobody.err.contains("knows no load"), "{}", nobody.err);
    let old = gateway.own("cat /etc/bastium/rules.nft");
    assert_ne!(old, gateway.export(), "nothing that a restart reads changes before");
    assert_eq!(gateway.loaded(&format!("--confirm {id}")).1, 0);
    assert_eq!(gateway.own("cat /etc/bastium/rules.nft"), gateway.export());
    let again = gateway.load(&format!("--confirm {id}"));
    assert_eq!(again.code, 1, "{}", again.out);
    assert!(again.err.contains("confirmed already"), "{}", again.err);
    by_hand(&gateway);
}

/// What was found for names that a domain does not stand for any more may not be reached any longer; the name server goes on
/// with them until the load is confirmed.
fn renamed() {
    let gateway = Gateway::new();
    assert_eq!(gateway.loaded("--yes-if-verified").1, 0);
    let find = |name: &str| {
        gateway.own(&format!("nft add element inet bastium domain_phone-provider_v4 {{ {name} }}"));
    };
    let listed = || gateway.own("nft list table inet bastium");
    let holds = |address: &str| listed().contains(address);
    let (first, second) = ("203.0.113.77", "203.0.113.78");
    find(first);
    assert!(holds(first));
    let plan = std::fs::read_to_string(gateway.bench.file(gateway.plan)).expect("the plan");
    gateway
        .bench
        .write(gateway.plan, plan.replace("\"calls.example.net\"", "\"talks.example.net\""));
    let (sheet, code) = gateway.loaded("");
    assert_eq!((code, &sheet["state"]), (0, &"pending".into()), "{sheet:#}");
    assert!(!holds(first));
    find(second);
    let id = sheet["id"].as_str().expect("an id").to_owned();
    assert_eq!(gateway.loaded(&format!("--confirm {id}")).1, 0);
    assert!(!holds(first) && !holds(second), "{}", listed());
    assert!(gateway.own("cat /etc/dnsmasq.d/bastium.conf").contains("talks.example.net"));
    // What is found from then on stays over further loads.
    find(first);
    gateway.other_plan();
    assert_eq!(gateway.loaded("--yes-if-verified").1, 0);
    assert!(holds(first));
}

/// What somebody changed by hand is reported, and undone.
fn by_hand(gateway: &Gateway) {
    // The difference has led to just what the whole file does.
    let by_difference = gateway.rules();
    gateway.bench.write("whole.nft", gateway.export());
    gateway.own(&format!("nft -f {}", gateway.path("whole.nft").display()));
    assert_eq!(sorted(&by_difference), sorted(&gateway.rules()));
    gateway.own("nft insert rule inet bastium input tcp dport 4444 accept");
    let (sheet, code) = gateway.loaded("--yes-if-verified");
    assert_eq!(code, 0, "{sheet:#}");
    assert!(sheet.to_string().contains("4444"), "{sheet:#}");
    assert!(!gateway.rules().contains("4444"));
}

/// How many packets the line that lets the engineer in has counted.
fn managed(listing: &str) -> u64 {
    let lines = listing.lines().filter(|line| line.contains("comment \"manage@"));
    let counts = lines
        .filter_map(|line| line.split("packets ").nth(1)?.split(' ').next()?.parse::<u64>().ok());
    counts.sum()
}

/// Elements of a set have no order.
pub(crate) fn sorted(listing: &str) -> Vec<&str> {
    let mut words: Vec<&str> =
        listing.split_whitespace().map(|word| word.trim_matches(',')).collect();
    words.sort_unstable();
    words
}

/// The same by NETCONF, as a subsystem of the server for ssh.
fn by_netconf() {
    let gateway = Gateway::new();
    let mut command = Command::new(env!("CARGO_BIN_EXE_bastium"));
    command.args([
        "load",
        "netconf://10.44.10.1",
        "--ssh-config",
        "ssh_config",
        "--yes-if-verified",
    ]);
    command.args(["--plan", gateway.plan, "--format", "json"]).current_dir(gateway.bench.path());
    let begun = Instant::now();
    let done = gateway.at_engineer(&mut command);
    println!("lists committed and confirmed in {:.2?}", begun.elapsed());
    let sheet: Value = serde_json::from_slice(&done.stdout)
        .unwrap_or_else(|_| panic!("{}", String::from_utf8_lossy(&done.stderr)));
    assert_eq!((done.status.code(), &sheet["state"]), (Some(0), &"confirmed".into()), "{sheet:#}");
    let guests = "simulate packet --state netconf --enters core.80 10.44.80.20 10.44.60.10 tcp/443";
    assert_eq!(gateway.bench.run(guests).code, 1);
}
