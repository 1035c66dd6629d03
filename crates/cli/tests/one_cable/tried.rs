//! The test itself, run inside.

use crate::practice::Practice;
use bastium_testbed::kernel::space::{self, Entered};
use bastium_testbed::site::Carried;
use serde_json::Value;
use std::net::TcpListener;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Everything at once, as fast as this machine can.
pub(crate) const ALL: &str = "--trunk trunk --outside outside --stand-in * --rate 100000";

/// How many generated plans are tried where nobody says.
const FEW_PLANS: usize = 2;

pub(crate) fn main() {
    match space::enter() {
        Ok(Entered::Inside) => {}
        Ok(Entered::Outside(status)) => {
            assert!(status.success(), "what is tried by cable is otherwise");
            return;
        }
        Err(why) => {
            assert!(std::env::var("BASTIUM_KERNEL_NEEDED").is_err(), "{why}");
            eprintln!("skipped: {why}");
            return;
        }
    }
    if let Ok(wanted) = std::env::var("BASTIUM_CABLE_FAULTS") {
        crate::faults::measure(wanted.parse().expect("a number"));
        return;
    }
    if let Ok(file) = std::env::var("BASTIUM_CABLE_SHOWN") {
        std::fs::write(file, crate::faults::shown()).expect("a file to write to");
        return;
    }
    let plans = std::env::var("BASTIUM_CABLE_PLANS").ok().and_then(|words| words.parse().ok());
    crate::wild::all(plans.unwrap_or(FEW_PLANS));
    if plans.is_some() {
        return;
    }
    let only = std::env::var("BASTIUM_CABLE_ONLY").unwrap_or_default();
    for (name, test) in [
        ("a faultless gateway", faultless as fn()),
        ("another faultless gateway", another_faultless),
        ("an uplink with a leased address", crate::leased::leased),
        ("another server for leases outside", crate::leased::other_server),
        ("several devices outside", crate::leased::crowd),
        ("several faults at once", crate::faults::several),
        ("leases and translation that are not as planned", crate::faults::set_up),
        ("a gateway that starts", crate::faults::boot),
        ("leases asked for without a trunk", crate::faults::by_itself),
        ("cables that are not as planned", crate::faults::cables),
        ("a gateway on which nothing listens", refused),
        ("devices that are there", others),
        ("what begins no conversation", untracked),
        ("two interfaces in one network", beside),
        ("a cable that is pulled", pulled),
        ("a network that dies on the way", fallen_silent),
        ("a network that comes back", comes_back),
        ("an interruption", interrupted),
        ("what may not be taken", not_taken),
        ("a cable to nowhere", dead),
    ] {
        if !name.contains(&only) {
            continue;
        }
        let begun = Instant::now();
        test();
        println!("{name}: {:.1?}", begun.elapsed());
    }
}

fn faultless() {
    let practice = Practice::faultless("clinic.toml");
    let (sheet, code) = practice.tried(ALL);
    assert_eq!(code, 0, "{:#}", differences(&sheet));
    let sweep = &sheet["sweep"];
    assert!(sweep["tried"].as_u64().expect("a number") >= 20_000, "{}", sweep["tried"]);
    assert_eq!(sweep["tried"], sweep["as_planned"], "{:#}", sweep["not_shown"]);
    let walk = &sheet["walk"];
    assert_eq!((&walk["failed"], &walk["not_shown"]), (&0.into(), &0.into()), "{walk:#}");
    // What is not tried is only what no cable carries, and what is for another hour.
    for left in sheet["not_tried"].as_array().expect("reasons") {
        let why = left["why"].as_str().expect("words");
        let known = [
            "home-visits is not reached",
            "it takes a person",
            "DNS name",
            "another hour",
            "nothing need answer",
        ];
        assert!(known.iter().any(|known| why.contains(known)), "{left}");
    }
    let none: Vec<&Value> = networks(&sheet).filter(|one| one["leased"].is_null()).collect();
    let none: Vec<&Value> = none.iter().map(|one| &one["name"]).collect();
    assert_eq!(none, ["servers", "fibre"], "where there is a pool, an address is leased");
    // What was shown is kept: the next look at the list has it.
    let status = practice.walk("--status --full --format json");
    let status: Value = serde_json::from_str(&status.out).expect("JSON");
    assert_eq!(status["passed"], walk["passed"]);
    assert!(practice.walk("--status").code == 0);
    has_all_keys(&sheet);
    verified(&practice);
    quiet_devices(&practice);
}

/// What it runs and what its lines have counted go with the walk; other rules, loaded since, have counted nothing.
fn verified(practice: &Practice) {
    let verify = || {
        let mut list = Command::new("/usr/sbin/nft");
        let listing = practice
            .gateway
            .made
            .site
            .gateway
            .within(|| list.args(["list", "table", "inet", "bastium"]).output());
        practice.bench.write("running.nft", listing.expect("nft").stdout);
        let run = practice
            .bench
            .run(&format!("verify --running running.nft --plan {} --format json", practice.plan()));
        (run.json(), run.code)
    };
    let (sheet, code) = verify();
    assert_eq!(
        (code, &sheet["verified"]),
        (0, &true.into()),
        "{:#} {:#}",
        sheet["faults"],
        sheet["differences"]
    );
    assert!(
        sheet["counters"].as_array().is_some_and(|rows| rows.len() > 40),
        "{:#}",
        sheet["counters"]
    );
    let site = &practice.gateway.made.site;
    let rules = practice.export("nftables");
    let anew = site.gateway.within(|| {
        practice.bench.write("anew.nft", &rules);
        Command::new("/usr/sbin/nft").arg("-f").arg(practice.bench.file("anew.nft")).status()
    });
    assert!(anew.expect("nft").success());
    let (sheet, code) = verify();
    assert_eq!(code, 1);
    assert!(sheet["faults"].to_string().contains("has counted no packet"), "{:#}", sheet["faults"]);
}

/// A leased uplink, networks without IPv6, and hosts behind a router: nothing is found there either.
fn another_faultless() {
    let practice = Practice::faultless("farm.toml");
    let (sheet, code) = practice.tried(ALL);
    assert_eq!(code, 0, "{:#}", differences(&sheet));
    assert!(sheet["sweep"]["tried"].as_u64() > Some(20_000), "{}", sheet["sweep"]["tried"]);
}

/// What is printed is what the schema says.
fn has_all_keys(sheet: &Value) {
    let schemas = bastium_report::schema::all();
    let (_, schema) = schemas.into_iter().find(|(name, _)| *name == "cable").expect("a schema");
    for key in schema["required"].as_array().expect("required keys") {
        assert!(sheet.get(key.as_str().expect("a name")).is_some(), "{key}");
    }
    for key in sheet.as_object().expect("an object").keys() {
        assert!(schema["properties"].get(key).is_some(), "{key}");
    }
}

/// A refusal is no pass: where nobody listens for management, checks that expect a reply fail, and say why they may.
fn refused() {
    let mut idle = Practice::new("bare.toml");
    idle.gateway.load(&idle.export("nftables"));
    idle.gateway.serve(&idle.export("dnsmasq"));
    let (sheet, code) = idle.tried("--trunk trunk --rate 100000 --no-sweep --stand-in *");
    assert_eq!(code, 1);
    let results = sheet["walk"]["results"].as_array().expect("rows");
    let managed = results.iter().find(|row| row["id"] == "manage/itself").expect("the check");
    assert_eq!(managed["outcome"], "fail", "{managed}");
    assert!(managed["note"].as_str().is_some_and(|note| note.contains("nothing listens there")));
}

/// Nobody answers for hosts that the tester does not stand in for, and nothing of theirs is tried then.
fn quiet_devices(practice: &Practice) {
    let (sheet, code) =
        practice.tried("--trunk trunk --rate 100000 --no-sweep --results other.jsonl");
    assert_eq!(code, 0, "{:#}", differences(&sheet));
    let absent =
        |one: &&Value| one["why"].as_str().is_some_and(|why| why.contains("--stand-in till`"));
    let left = sheet["not_tried"].as_array().expect("reasons");
    assert!(left.iter().any(|one| absent(&one)), "{left:?}");
    assert!(sheet["sweep"].is_null());
    assert!(networks(&sheet).all(|one| one["stood_in"].as_array().is_some_and(Vec::is_empty)));
}

/// What is sent in one network comes back by an interface of its own that stands for another: the two are one, though each
/// interface has a hardware address of its own.
fn beside() {
    // Whatever leaves by the trunk with the tag of the one network comes in by `near`, without it.
    const REPEATS: &str = "import socket
def cable(name):
    end = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
    end.bind((name, 0))
    return end
trunk, far = cable('trunk'), cable('far')
while True:
    frame, come = trunk.recvfrom(4096)
    if come[2] == socket.PACKET_OUTGOING and frame[12:16] == b'\\x81\\x00\\x00\\x18':
        far.send(frame[:12] + frame[16:])
";
    let practice = Practice::faultless("bare.toml");
    let mut repeater = Command::new("python3");
    repeater.args(["-c", REPEATS]).stderr(Stdio::null());
    let started = practice.gateway.made.trunk.tester.within(|| {
        for words in
            ["link add near type veth peer name far", "link set near up", "link set far up"]
        {
            assert!(Command::new("ip").args(words.split(' ')).status()?.success(), "{words}");
        }
        repeater.spawn()
    });
    let mut repeater = started.expect("python3");
    std::thread::sleep(Duration::from_millis(500));
    let (sheet, code) =
        practice.tried("--trunk trunk --interface printers=near --rate 100000 --no-sweep");
    let _ = repeater.kill();
    let _ = repeater.wait();
    assert_eq!(code, 1);
    let printers = networks(&sheet).find(|one| one["name"] == "printers").expect("a network");
    let says = "what is sent in desks arrives here: the two are joined";
    assert!(printers["faults"].to_string().contains(says), "{printers:#}");
}

/// The kernel itself says of neighbour discovery that it is untracked, and not new: what a list is read as rests on that.
fn untracked() {
    let mut practice = Practice::new("clinic.toml");
    let counted = |state: &str| {
        format!("icmpv6 type {{ 130-136, 143 }} ct state {state} counter comment \"{state}\"\n")
    };
    let states = ["new", "established", "related", "invalid", "untracked"].map(counted).concat();
    let hook = "type filter hook input priority 0; policy accept;";
    practice
        .gateway
        .load(&format!("table inet counts {{\nchain input {{\n{hook}\n{states}}}\n}}\n"));
    let (sheet, _) = practice.tried("--trunk trunk --rate 100000 --no-sweep");
    assert!(
        networks(&sheet).all(|one| one["gateway"].as_array().is_some_and(|all| !all.is_empty()))
    );
    let mut list = Command::new("nft");
    list.args(["list", "ruleset"]).env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin");
    let list = practice.gateway.made.site.gateway.within(|| list.output()).expect("nft");
    let list = String::from_utf8_lossy(&list.stdout).into_owned();
    let seen: Vec<&str> = list
        .lines()
        .filter(|line| line.contains("comment") && !line.contains("packets 0 "))
        .collect();
    assert!(matches!(seen[..], [one] if one.contains("comment \"untracked\"")), "{list}");
}

/// A printer that is there itself, and a second server for leases: the one is asked and never posed as, the other is reported.
fn others() {
    let devices = [(48, "10.44.48.10/24"), (84, "10.44.84.200/24")];
    let mut practice = Practice::wired("clinic.toml", |_| {}, None, &devices);
    practice.set_up();
    let trunk = &practice.gateway.made.trunk;
    let printer = trunk.devices[0].within(|| TcpListener::bind("0.0.0.0:631")).expect("a printer");
    std::thread::spawn(move || printer.incoming().for_each(drop));
    let mut second = Command::new("dnsmasq");
    second
        .args(["--no-daemon", "--leasefile-ro", "--no-ping", "--port=0", "--conf-file=/dev/null"])
        .args(["--dhcp-range=10.44.84.60,10.44.84.70,255.255.255.0,1h", "--user=root"])
        .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
        .stderr(Stdio::null());
    let mut second = trunk.devices[1].within(|| second.spawn()).expect("dnsmasq");
    std::thread::sleep(Duration::from_millis(500));
    let (sheet, code) = practice.tried("--trunk trunk --stand-in * --rate 100000 --no-sweep");
    let _ = second.kill();
    let _ = second.wait();
    assert_eq!(code, 1);
    let of = |name: &str| networks(&sheet).find(|one| one["name"] == name).expect("a network");
    assert_eq!(of("printers")["present"], serde_json::json!(["10.44.48.10"]));
    let stood_in = of("printers")["stood_in"].as_array().expect("addresses");
    assert!(!stood_in.is_empty() && !stood_in.contains(&"10.44.48.10".into()), "{stood_in:?}");
    let says = of("trainees")["faults"].to_string();
    assert!(says.contains("several DHCP servers answer"), "{says}");
    let results = sheet["walk"]["results"].as_array().expect("rows");
    let row = |id: &str| results.iter().find(|row| row["id"] == id).expect("the check");
    assert_eq!(row("exception.desks-print/itself")["outcome"], "pass", "{:#}", differences(&sheet));
    let from = |row: &&Value| row["place"] == "paper-printer" && row["outcome"] != "open";
    assert!(!results.iter().any(|row| from(&row)), "nothing comes from its address");
    assert_eq!(row("network.trainees/lease")["outcome"], "fail");
}

/// Once the cable is out, no silence is as planned, nothing is clear, and nobody waits for the rest.
fn pulled() {
    let practice = Practice::faultless("bare.toml");
    let words = "--trunk trunk --stand-in * --rate 250 --format json";
    let mut command = practice.command(words);
    command.stdout(Stdio::piped()).stderr(Stdio::null());
    let trunk = &practice.gateway.made.trunk;
    let walk = trunk.tester.within(|| command.spawn()).expect("the program");
    std::thread::sleep(Duration::from_secs(7));
    let begun = Instant::now();
    trunk.pull();
    let done = walk.wait_with_output().expect("an end");
    assert!(begun.elapsed() < Duration::from_secs(40), "{:?}", begun.elapsed());
    assert_eq!(done.status.code(), Some(1));
    let sheet: Value = serde_json::from_slice(&done.stdout).expect("JSON");
    assert!(sheet["without_control"].as_u64() > Some(100), "{:#}", sheet["sweep"]);
    let stopped = |one: &&Value| one["wrong"] == "stopped";
    let surprises = sheet["sweep"]["surprises"].as_array().expect("surprises");
    assert!(!surprises.iter().any(|one| stopped(&one)), "a dead cable is no fault of a rule");
}

/// Where the gateway falls silent in one network, that is said, and all others are tried as before.
fn fallen_silent() {
    let sheet = during_a_sweep("core.84", 6_000, |link| link("down"));
    assert_eq!(fell_silent(&sheet, "then no more"), ["trainees"], "{:#}", sheet["networks"]);
    let (tried, as_planned) = (&sheet["sweep"]["tried"], &sheet["sweep"]["as_planned"]);
    assert!(as_planned.as_f64() > tried.as_f64().map(|all| all * 0.7), "{as_planned} of {tried}");
}

/// Where it answers again, what was left there is taken up, and the silence is reported all the same.
fn comes_back() {
    let sheet = during_a_sweep("core.24", 3_000, |link| {
        link("down");
        std::thread::sleep(Duration::from_secs(8));
        link("up");
    });
    let silent = fell_silent(&sheet, "then for a while not");
    assert_eq!(silent, ["desks"], "{:#}", sheet["networks"]);
    assert!(fell_silent(&sheet, "then no more").is_empty(), "{:#}", sheet["networks"]);
    let (tried, as_planned) = (&sheet["sweep"]["tried"], &sheet["sweep"]["as_planned"]);
    assert!(as_planned.as_f64() > tried.as_f64().map(|all| all * 0.99), "{as_planned} of {tried}");
    let surprises = sheet["sweep"]["surprises"].as_array().map(Vec::len);
    assert_eq!(surprises, Some(0), "{:#}", sheet["sweep"]);
}

/// A walk with a sweep, while something happens to one of the gateway's interfaces: as soon as it carries more than any list
/// sends there.
fn during_a_sweep(interface: &str, rate: u32, happens: impl FnOnce(&dyn Fn(&str))) -> Value {
    let practice = Practice::faultless("clinic.toml");
    let words = format!("--trunk trunk --stand-in * --rate {rate} --format json");
    let mut command = practice.command(&words);
    command.stdout(Stdio::piped()).stderr(Stdio::null());
    let made = &practice.gateway.made;
    let gateway = &made.site.gateway;
    // Its addresses in IPv6 outlast that it is down.
    let keep = format!("/proc/sys/net/ipv6/conf/{interface}/keep_addr_on_down");
    gateway.within(|| std::fs::write(keep, "1")).expect("a setting");
    let walk = made.trunk.tester.within(|| command.spawn()).expect("the program");
    let carried = || {
        let counters = gateway.within(|| std::fs::read_to_string("/proc/thread-self/net/dev"));
        let counters = counters.expect("the interfaces");
        let own =
            counters.lines().find_map(|line| line.trim().strip_prefix(&format!("{interface}:")));
        own.and_then(|own| own.split_whitespace().nth(1)?.parse::<u64>().ok()).unwrap_or_default()
    };
    let until = Instant::now() + Duration::from_secs(90);
    while carried() < 2_000 && Instant::now() < until {
        std::thread::sleep(Duration::from_millis(100));
    }
    happens(&|state| {
        let mut ip = Command::new("ip");
        ip.args(["link", "set", interface, state]);
        assert!(gateway.within(|| ip.status()).expect("ip").success());
    });
    let done = walk.wait_with_output().expect("an end");
    assert_eq!(done.status.code(), Some(1));
    serde_json::from_slice(&done.stdout).expect("JSON")
}

/// The networks in which the gateway fell silent, and then did that.
fn fell_silent<'s>(sheet: &'s Value, then: &str) -> Vec<&'s Value> {
    let fell = format!("the gateway answered at first, and {then}");
    let silent = networks(sheet).filter(|one| one["faults"].to_string().contains(&fell));
    silent.map(|one| &one["name"]).collect()
}

/// Whoever interrupts a walk leaves no lease behind.
fn interrupted() {
    let practice = Practice::faultless("bare.toml");
    let released = || practice.gateway.log().matches("DHCPRELEASE").count();
    let mut command = practice.command("--trunk trunk --rate 1");
    command.stdout(Stdio::null()).stderr(Stdio::null());
    let walk = practice.gateway.made.trunk.tester.within(|| command.spawn());
    let mut walk = walk.expect("the program");
    let given = || practice.gateway.log().matches("DHCPACK").count();
    let until = Instant::now() + Duration::from_secs(20);
    while given() < 2 && Instant::now() < until {
        std::thread::sleep(Duration::from_millis(100));
    }
    std::thread::sleep(Duration::from_millis(500));
    assert_eq!((given(), released()), (2, 0), "{}", practice.gateway.log());
    // Not SIGINT, which whoever runs the tests in the background may have set to be ignored.
    let killed = Command::new("kill").args(["-TERM", &walk.id().to_string()]).status();
    assert!(killed.is_ok_and(|status| status.success()));
    let status = walk.wait().expect("an end");
    assert!(!status.success());
    std::thread::sleep(Duration::from_millis(300));
    assert_eq!(released(), 2, "{}", practice.gateway.log());
}

/// Interfaces that are not there, and options that have no meaning.
fn not_taken() {
    let practice = Practice::new("bare.toml");
    for (words, code, says) in [
        ("--trunk nowhere", 3, "cannot use the interface nowhere"),
        ("--stand-in printer", 2, "has a meaning only with --trunk"),
        ("--trunk trunk --stand-in nobody", 2, "names no host of the plan"),
        ("--trunk trunk --interface nothing=trunk", 2, "names no network of the plan"),
        ("--trunk trunk --outside trunk", 2, "is used already"),
        ("--trunk trunk --mac 03:00:00:00:00:01", 2, "is no hardware address"),
        ("--outside outside", 2, "alone reaches no network"),
        ("--trunk lo", 2, "leads back to this machine"),
    ] {
        let run = practice.walk(words);
        assert_eq!(run.code, code, "{words}: {}{}", run.out, run.err);
        assert!(run.err.contains(says), "{words}: {}", run.err);
    }
}

/// A cable on which nobody answers: no silence is a pass, and nothing is one.
fn dead() {
    let elsewhere = |cables: &mut Vec<Carried>| {
        for cable in cables {
            if let Carried::Together(Some(id)) = cable {
                *id += 1_000;
            }
        }
    };
    let practice = Practice::wired("bare.toml", elsewhere, None, &[]);
    let (sheet, code) = practice.tried("--trunk trunk --rate 100000");
    assert_eq!(code, 1, "a network without its gateway is not as planned");
    assert_eq!(sheet["walk"]["passed"], 0, "{:#}", sheet["walk"]);
    assert_eq!(sheet["sweep"]["as_planned"], 0, "{:#}", sheet["sweep"]);
    assert!(networks(&sheet).all(|one| one["gateway"].as_array().is_some_and(Vec::is_empty)));
}

/// The networks of a sheet.
pub(crate) fn networks(sheet: &Value) -> impl Iterator<Item = &Value> {
    sheet["networks"].as_array().expect("networks").iter()
}

/// What a sheet has found, as short as it can be shown.
pub(crate) fn differences(sheet: &Value) -> Value {
    let failed = sheet["walk"]["results"].as_array().expect("rows").iter();
    let failed: Vec<&Value> = failed.filter(|row| row["outcome"] == "fail").take(5).collect();
    let surprises = sheet["sweep"]["surprises"].as_array().cloned().unwrap_or_default();
    let networks: Vec<&Value> = networks(sheet).map(|one| &one["faults"]).collect();
    let open = [&sheet["not_tried"], &sheet["sweep"]["not_shown"], &sheet["without_control"]];
    serde_json::json!({ "failed": failed, "open": open, "sweep": surprises, "networks": networks, "warnings": sheet["warnings"] })
}
