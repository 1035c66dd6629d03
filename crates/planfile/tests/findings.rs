//! What `check` finds in a plan that can be read: each finding where it belongs, and not beside it.

use bastium_core::findings;
use bastium_core::meaning::Meaning;
use jiff::civil::{Date, date};

const DAY: Date = date(2026, 11, 24);
const CLINIC: &str = include_str!("../../../demo/clinic.toml");
const BARE: &str = include_str!("../../../demo/bare.toml");

/// The bare plan with one more network for guests, as something to make mistakes in.
const GUESTS: &str = r#"
[zone.guests]
trust = "none"
uses-gateway-for = ["dns", "dhcp"]
[network.waiting-room]
zone = "guests"
vlan = 80
port = "lan1"
hosts = 40
dhcp = "20-219"
isolate = true
"#;

fn plan() -> String {
    let grid = "          people  things  internet
people    -       block   allow
things    block   -       block
internet  block   block   -";
    let wider = "          people  things  guests  internet
people    -       block   block   allow
things    block   -       block   block
guests    block   block   -       allow
internet  block   block   block   -";
    assert!(BARE.contains(grid), "the bare plan has the grid that is widened here");
    format!("{}{GUESTS}", BARE.replace(grid, wider))
}

/// Finding names, in the order of the text.
fn found(text: &str) -> Vec<&'static str> {
    let plan = bastium_planfile::read("plan", text.as_bytes())
        .unwrap_or_else(|refused| panic!("{:#?}", refused.diagnoses));
    let meaning = Meaning::new(&plan, DAY);
    let all = findings::find(&plan, DAY, meaning.as_ref().map_err(Vec::as_slice));
    for diagnosis in &all {
        assert!(!diagnosis.says.is_empty() && !diagnosis.help.is_empty(), "{diagnosis:?}");
    }
    all.iter().map(|diagnosis| diagnosis.name).collect()
}

const EXCEPTION: &str = "why = \"People print\"\n";

fn with_exception(lines: &str) -> String {
    plan().replace(EXCEPTION, &format!("{EXCEPTION}[exception.new]\nwhy = \"a test\"\n{lines}\n"))
}

#[test]
fn the_demo_plans_are_clean() {
    for text in [CLINIC, BARE, &plan()] {
        assert_eq!(found(text), Vec::<&str>::new());
    }
}

#[test]
fn addressing_mistakes_are_found() {
    for (good, bad, name) in [
        ("address = \"10.44.24.10\"", "address = \"10.44.24.110\"", "fixed-in-pool"),
        ("hosts = 20 ", "hosts = 300 ", "subnet-too-small"),
        ("hosts = 40", "hosts = 210", "pool-too-small"),
        ("vlan = 80", "vlan = 1", "vlan-one"),
        ("dhcp = \"20-219\"", "", "no-dhcp"),
        (
            "[\"dns\", \"dhcp\"]\n[network.waiting-room]",
            "[\"dns\"]\n[network.waiting-room]",
            "pool-closed",
        ),
        ("vlan = 80", "vlan = 80\nsubnet = \"192.168.80.0/24\"", "outside-space"),
        ("vlan = 80", "vlan = 81\nsubnet = \"10.44.80.0/24\"", "off-tie"),
    ] {
        assert!(plan().contains(good), "{good}");
        assert_eq!(found(&plan().replacen(good, bad, 1)), [name], "{bad}");
    }
    // Beside each of them: what is right stays unspoken of.
    for (good, right) in [
        ("address = \"10.44.24.10\"", "address = \"10.44.24.99\""),
        ("hosts = 40", "hosts = 200"),
        ("dhcp = \"20-219\"", "dhcp = false"),
        ("vlan = 80", "vlan = 2"),
    ] {
        assert_eq!(found(&plan().replacen(good, right, 1)), Vec::<&str>::new(), "{right}");
    }
}

#[test]
fn mistakes_with_the_gateway_are_found() {
    for (good, bad, names) in [
        (
            "[\"dns\", \"dhcp\"]\n[network.waiting-room]",
            "[\"dhcp\"]\n[network.waiting-room]",
            &["no-dns"][..],
        ),
        (
            "uses-gateway-for = [\"dns\", \"dhcp\"]\n[network.w",
            "[network.w",
            &["no-dns", "cut-off", "pool-closed"],
        ),
        (
            "from = \"engineer-laptop\"",
            "from = \"waiting-room\"",
            &["management-exposed", "management-wide"],
        ),
        ("from = \"engineer-laptop\"", "from = \"internet\"", &["management-exposed"]),
        ("from = \"engineer-laptop\"", "from = \"desks\"", &["management-wide"]),
        ("second-factor = true", "", &["no-second-factor"]),
        (
            "[gateway.manage]                      # who may manage the gateway itself\nfrom = \"engineer-laptop\"\nservice = [\"ssh\", \"https\"]\nsecond-factor = true",
            "",
            &["nobody-manages"],
        ),
        (
            "[uplink.fibre]\nport = \"wan1\"\naddress = \"dhcp\"",
            "",
            &["no-default-route", "no-default-route"],
        ),
    ] {
        assert!(plan().contains(good), "{good}");
        let mut expected = names.to_vec();
        let mut found = found(&plan().replacen(good, bad, 1));
        expected.sort_unstable();
        found.sort_unstable();
        assert_eq!(found, expected, "{bad}");
    }
}

#[test]
fn mistakes_in_the_matrix_are_found() {
    for (good, bad, name) in [
        ("people    -  ", "people    block", "diagonal-of-one"),
        ("isolate = true\n", "", "not-isolated"),
        ("things    block ", "things    -     ", "unsaid-cell"),
        ("log = \"block\"", "log = \"all\"", "everything-logged"),
        (
            "[host.paper-printer]",
            "[service.mine]\nports = [\"tcp/443\"]\n[host.paper-printer]",
            "service-repeated",
        ),
    ] {
        assert!(plan().contains(good), "{good}");
        assert_eq!(found(&plan().replacen(good, bad, 1)), [name], "{bad}");
    }
    let silent =
        plan().replace("log = \"block\"", "log = \"none\"").replace("block+log", "block+quiet");
    assert_eq!(found(&silent), ["nothing-logged"]);
    let global = plan()
        .replace("vlan = 80", "vlan = 80\nsubnet = \"203.0.113.0/24\"")
        .replace("space = [\"10.44.0.0/16\"]", "space = [\"10.44.0.0/16\", \"203.0.113.0/24\"]");
    assert_eq!(found(&global), Vec::<&str>::new());
    let open = global
        .replace("internet  block   block   block   -", "internet  block   block   allow   -");
    assert_eq!(found(&open), ["internet-may-enter"]);
}

#[test]
fn mistakes_with_exceptions_are_found() {
    let narrow = "from = \"desks\"\nto = \"printers\"\nservice = \"ipp\"\naction = \"allow\"";
    for (lines, names) in [
        // Covered by another one, in itself or by several together.
        (narrow.to_owned(), &[][..]),
        (
            format!("{narrow}\n[exception.same]\nwhy = \"again\"\n{narrow}"),
            &["never-matches"],
        ),
        (
            "from = \"desks\"\nto = \"printers\"\nservice = \"tcp/1-10\"\naction = \"allow\"\n\
             [exception.low]\nwhy = \"a\"\nfrom = \"desks\"\nto = \"printers\"\nservice = \"tcp/1-5\"\naction = \"allow\"\n\
             [exception.high]\nwhy = \"b\"\nfrom = \"desks\"\nto = \"printers\"\nservice = \"tcp/6-10\"\naction = \"allow\"".to_owned(),
            &["never-matches"],
        ),
        // Nothing can get as far.
        ("from = \"desks\"\nto = \"desks\"\naction = \"block\"".to_owned(), &["never-matches"]),
        ("from = \"any\"\nto = \"any\"\naction = \"allow\"".to_owned(), &["allows-everything"]),
        (format!("{narrow}\nuntil = \"2026-11-23\""), &["past-its-day"]),
        (format!("{narrow}\nuntil = \"2026-11-24\""), &[]),
        (format!("{narrow}\noff = true"), &["switched-off"]),
        (format!("{narrow}\noff = true\nuntil = \"2026-12-24\""), &[]),
        (
            "from = \"any\"\nto = \"paper-printer\"\naction = \"block\"\noff = true\nuntil = \"2026-12-24\"".to_owned(),
            &["off-contradicts"],
        ),
        (
            "from = \"any\"\nto = \"paper-printer\"\nservice = [\"ipp\", \"http\"]\naction = \"allow\"\nlog = true".to_owned(),
            &["log-differs"],
        ),
        ("from = \"any\"\nto = \"paper-printer\"\naction = \"block\"".to_owned(), &["contradiction"]),
    ] {
        assert_eq!(found(&with_exception(&lines)), names, "{lines}");
    }
    assert_eq!(found(&plan().replace(EXCEPTION, "")), ["no-reason"]);
}

#[test]
fn a_host_that_is_denied_by_one_family_only_is_found() {
    let both = plan().replace(
        "space = [\"10.44.0.0/16\"]",
        "space = [\"10.44.0.0/16\", \"fd6b:2f4e:91c0::/48\"]",
    );
    let text = |lines: &str| {
        both.replace(EXCEPTION, &format!("{EXCEPTION}[exception.new]\nwhy = \"a test\"\n{lines}\n"))
    };
    let stays_in = "from = \"paper-printer\"\nto = \"people\"\naction = \"reject\"";
    assert_eq!(found(&text(stays_in)), ["other-family"]);
    let taken_out = "from = \"printers - paper-printer\"\nto = \"people\"\naction = \"allow\"";
    assert_eq!(found(&text(taken_out)), ["other-family"]);
    let whole = "from = \"printers\"\nto = \"people\"\naction = \"reject\"";
    assert_eq!(found(&text(whole)), Vec::<&str>::new());
    // Without IPv6 in its network there is no other door.
    assert_eq!(found(&with_exception(stays_in)), Vec::<&str>::new());
}
