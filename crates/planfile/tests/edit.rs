//! Changes of a plan's text: what they change, what they leave, and what they refuse.

use bastium_core::meaning::Meaning;
use bastium_core::plan::Plan;
use bastium_core::rules;
use bastium_planfile::edit::{Edit, EditProblem, Setting, apply, drafted};
use jiff::civil::date;

const CLINIC: &str = include_str!("../../../demo/clinic.toml");
const BARE: &str = include_str!("../../../demo/bare.toml");

fn read(text: &str) -> Plan {
    bastium_planfile::read("plan", text.as_bytes())
        .unwrap_or_else(|refused| panic!("{:#?}", refused.diagnoses))
}

fn settings(words: &[&str]) -> Vec<Setting> {
    words.iter().map(|word| Setting::from_words(word).expect("a setting")).collect()
}

fn add(kind: &str, name: &str, words: &[&str]) -> Edit {
    Edit::Add {
        kind: kind.to_owned(),
        name: name.to_owned(),
        settings: settings(words),
        like: None,
        open_by_trust: false,
    }
}

fn set(kind: &str, name: &str, words: &[&str]) -> Edit {
    let name = Some(name).filter(|name| !name.is_empty()).map(str::to_owned);
    Edit::Set { kind: kind.to_owned(), name, settings: settings(words) }
}

fn remove(kind: &str, name: &str) -> Edit {
    Edit::Remove { kind: kind.to_owned(), name: name.to_owned() }
}

fn rename(old: &str, new: &str) -> Edit {
    Edit::Rename { kind: None, old: old.to_owned(), new: new.to_owned() }
}

/// The lines that go and the lines that come.
fn changed(old: &str, new: &str) -> (Vec<String>, Vec<String>) {
    let only = |a: &str, b: &str| {
        let mut others: Vec<&str> = b.lines().collect();
        let lines = a.lines().filter(|line| match others.iter().position(|other| other == line) {
            Some(at) => {
                others.remove(at);
                false
            }
            None => true,
        });
        lines.map(str::to_owned).collect()
    };
    (only(old, new), only(new, old))
}

#[test]
fn a_key_is_set_where_it_stands_and_its_comment_stays() {
    let new =
        apply(BARE, &set("network", "desks", &["hosts=30", "dhcp=100-179"])).expect("a change");
    let (gone, come) = changed(BARE, &new);
    assert_eq!(
        come,
        [
            "hosts = 30                            # devices expected",
            "dhcp = \"100-179\"                      # host numbers that the gateway leases out",
        ]
    );
    assert_eq!(gone.len(), 2);
    let back =
        apply(&new, &set("network", "desks", &["hosts=20", "dhcp=100-199"])).expect("a change");
    assert_eq!(back, BARE);
}

#[test]
fn values_are_written_as_the_format_wants_them() {
    let new = apply(
        BARE,
        &add(
            "exception",
            "scan",
            &[
                "from=printers",
                "to=desks",
                "service=smb,ssh",
                "action=allow",
                "why=Scans, as files",
                "ticket=31",
                "log=true",
                "before=desks-print",
                "limit-mbps=2.5",
            ],
        ),
    )
    .expect("a change");
    let entry = new.split("[exception.scan]\n").nth(1).expect("it is there");
    assert_eq!(
        entry,
        "from = \"printers\"\nto = \"desks\"\nservice = [\"smb\", \"ssh\"]\naction = \"allow\"\n\
         why = \"Scans, as files\"\nticket = \"31\"\nlog = true\nbefore = [\"desks-print\"]\n\
         limit-mbps = 2.5\n"
    );
    read(&new);
    let bad = apply(BARE, &set("network", "desks", &["vlan=twenty"]));
    let (key, value) = ("vlan".to_owned(), "twenty".to_owned());
    assert_eq!(bad, Err(EditProblem::BadValue { key, value }));
    let quoted = apply(BARE, &set("site", "", &["space=[\"10.44.0.0/17\"]"])).expect("a change");
    assert!(quoted.contains("space = [\"10.44.0.0/17\"]              # subnets lie in here"));
    let hostile =
        apply(BARE, &set("exception", "desks-print", &["why=a\"\n[x]\u{1b}"])).expect("quoted");
    read(&hostile);
}

#[test]
fn a_zone_comes_and_goes_with_its_row_and_column() {
    use bastium_core::plan::Action;
    let cell = |text: &str, from: &str, to: &str| {
        let plan = read(text);
        let zone = |name| plan.zone_named(name).expect("there");
        plan.matrix().cell(zone(from), zone(to)).action
    };
    let trusted = Edit::Add {
        kind: "zone".into(),
        name: "guests".into(),
        settings: settings(&["trust=none"]),
        like: None,
        open_by_trust: true,
    };
    let opened = apply(BARE, &trusted).expect("a change");
    assert_eq!(cell(&opened, "guests", "internet"), Some(Action::Allow));
    assert_eq!(cell(&opened, "people", "guests"), Some(Action::Allow));
    // Nothing opens by itself.
    let new = apply(BARE, &add("zone", "guests", &["trust=none"])).expect("a change");
    for (from, to) in [("guests", "internet"), ("people", "guests"), ("internet", "guests")] {
        assert_eq!(cell(&new, from, to), Some(Action::Block), "{from} {to}");
    }
    assert_eq!(apply(&new, &remove("zone", "guests")).as_deref(), Ok(BARE));
}

#[test]
fn a_cell_is_set_and_the_rest_stays_aligned() {
    let edit = Edit::Cell {
        from: "things".into(),
        to: "internet".into(),
        both_ways: false,
        action: "reject+log".into(),
    };
    let new = apply(BARE, &edit).expect("a change");
    assert!(new.contains("things    block   -       reject+log\n"), "{new}");
    assert!(new.contains("people    -       block   allow\n"), "{new}");
    read(&new);
    let edit = Edit::Cell {
        from: "thing".into(),
        to: "internet".into(),
        both_ways: false,
        action: "block".into(),
    };
    let nearest = Some("things".to_owned());
    assert_eq!(
        apply(BARE, &edit),
        Err(EditProblem::NotThere { name: "thing".to_owned(), nearest })
    );
}

#[test]
fn what_is_used_is_not_removed_and_the_users_are_reported() {
    for (kind, name, users) in [
        ("zone", "staff", 1),
        ("network", "printers", 6),
        ("host", "records", 4),
        ("group", "vets", 2),
        ("service", "upkeep", 2),
        ("hours", "deliveries", 1),
        ("uplink", "fibre", 1),
        ("exception", "vets-read-records", 1),
        ("switch", "rack", 3),
        ("access-point", "hall", 3),
        ("domain", "phone-provider", 1),
    ] {
        match apply(CLINIC, &remove(kind, name)) {
            Err(EditProblem::Used { by, .. }) => {
                assert_eq!(by.len(), users, "{kind} {name}: {by:?}")
            }
            other => panic!("{kind} {name}: {other:?}"),
        }
    }
    let missing = apply(CLINIC, &remove("host", "recoder"));
    let (name, nearest) = ("host.recoder".to_owned(), Some("recorder".to_owned()));
    assert_eq!(missing, Err(EditProblem::NotThere { name, nearest }));
}

#[test]
fn what_is_removed_leaves_the_comments_of_others() {
    let first = CLINIC.find("# --- Exceptions").expect("the section is there");
    let name = "pictures-to-archive";
    assert!(CLINIC[first..].find(name) < CLINIC[first..].find("desks-print"));
    let new = apply(CLINIC, &remove("exception", name)).expect("nothing names it");
    let (gone, come) = changed(CLINIC, &new);
    assert!(come.is_empty(), "{come:?}");
    assert!(gone.iter().all(|line| !line.starts_with('#')), "{gone:?}");
    assert!(!new.contains(name));
    read(&new);
}

/// A new name changes no verdict and no rule but for its name; and turned back, no byte.
#[test]
fn a_renamed_plan_means_the_same() {
    let day = date(2026, 11, 24);
    let shape = |text: &str| {
        let plan = read(text);
        let meaning = Meaning::new(&plan, day).expect("a meaning");
        let rules = rules::compile(&meaning);
        let shape = |rule: &rules::Rule| (rule.number, rule.action, rule.log, rule.matches.clone());
        rules.rules().map(shape).collect::<Vec<_>>()
    };
    for (old, new) in [
        ("guests", "visitors"),
        ("control", "nerve"),
        ("desks", "front-desks"),
        ("records", "patient-records"),
        ("vets", "doctors"),
        ("upkeep", "care"),
        ("deliveries", "parcels"),
        ("fibre", "line"),
        ("vets-read-records", "doctors-read"),
        ("home-visits", "rounds"),
        ("phone-provider", "calls-provider"),
        ("hall", "corridor"),
        ("rack", "cabinet"),
    ] {
        let renamed =
            apply(CLINIC, &rename(old, new)).unwrap_or_else(|problem| panic!("{old}: {problem:?}"));
        assert_eq!(shape(&renamed), shape(CLINIC), "{old}");
        let back = apply(&renamed, &rename(new, old))
            .unwrap_or_else(|problem| panic!("{new}: {problem:?}"));
        assert_eq!(changed(CLINIC, &back), (Vec::new(), Vec::new()), "{old}");
    }
    let taken = apply(CLINIC, &rename("records", "archive"));
    let (kind, name) = ("host".to_owned(), "archive".to_owned());
    assert_eq!(taken, Err(EditProblem::AlreadyThere { kind, name }));
    let both = format!("{CLINIC}\n[service.records]\nports = [\"tcp/444\"]\n");
    let (name, kinds) = ("records".to_owned(), vec!["host", "service"]);
    let asked = apply(&both, &rename("records", "files"));
    assert_eq!(asked, Err(EditProblem::WhichKind { name, kinds }));
    let reported =
        Edit::Rename { kind: Some("service".into()), old: "records".into(), new: "files".into() };
    let (gone, _) = changed(&both, &apply(&both, &reported).expect("a change"));
    assert_eq!(gone, ["[service.records]"]);
}

#[test]
fn the_draft_follows_from_trust() {
    let drawn = drafted(BARE).expect("a draft");
    assert_eq!(
        drawn,
        "          people  things  internet\npeople    -       allow   allow\n\
         things    block   -       allow\ninternet  block   block   -\n"
    );
    let new = apply(BARE, &Edit::Draft).expect("a change");
    assert!(new.contains(&drawn));
    read(&new);
}

#[test]
fn no_edit_of_a_broken_text_panics() {
    for length in (0..CLINIC.len()).step_by(97).filter(|at| CLINIC.is_char_boundary(*at)) {
        let text = &CLINIC[..length];
        for edit in [
            add("zone", "x", &["trust=low"]),
            add("host", "y", &["network=desks"]),
            set("network", "desks", &["vlan=9"]),
            set("site", "", &["name=X"]),
            remove("host", "xray"),
            rename("desks", "tables"),
            Edit::Draft,
        ] {
            let _ = apply(text, &edit);
        }
    }
}

/// A plan in which something else has the name of a table: an edit says so, and takes nothing away.
#[test]
fn plans_of_odd_structure_are_refused_and_left() {
    let kinds = [
        "site",
        "gateway",
        "gateway.manage",
        "zone",
        "network",
        "host",
        "group",
        "switch",
        "matrix",
        "exception",
        "inbound",
        "uplink",
        "known",
        "tunnel",
        "route",
    ];
    let odd = [
        "5",
        "\"x\"",
        "[1, 2]",
        "[]",
        "true",
        "2026-11-24",
        "[{ a = 1 }]",
        "{ x = 5 }",
        "{ x = { a = { b = 1 } } }",
    ];
    let set = |kind: &str, name: Option<&str>| Edit::Set {
        kind: kind.to_owned(),
        name: name.map(str::to_owned),
        settings: vec![Setting::from_words("about=x").expect("a key and its value")],
    };
    let add = |kind: &str| Edit::Add {
        kind: kind.to_owned(),
        name: "fresh".to_owned(),
        settings: Vec::new(),
        like: None,
        open_by_trust: false,
    };
    let mut texts: Vec<String> =
        kinds.iter().map(|kind| format!("[[{kind}]]\nname = \"x\"\n")).collect();
    texts.extend(kinds.iter().flat_map(|kind| odd.map(|value| format!("{kind} = {value}\n"))));
    texts.extend(kinds.iter().flat_map(|kind| odd.map(|value| format!("[{kind}]\nx = {value}\n"))));
    let mut edits: Vec<Edit> =
        kinds.iter().flat_map(|kind| [add(kind), set(kind, None), set(kind, Some("x"))]).collect();
    edits.extend(
        kinds.iter().map(|kind| Edit::Remove { kind: (*kind).to_owned(), name: "x".to_owned() }),
    );
    edits.extend([rename("x", "y"), set("switch.x", Some("1")), Edit::Draft]);
    edits.push(Edit::Cell {
        from: "x".to_owned(),
        to: "x".to_owned(),
        both_ways: false,
        action: "block".to_owned(),
    });
    for text in &texts {
        for edit in &edits {
            // What comes of it is TOML at least; that it is a plan is looked at before it is written.
            if let Ok(changed) = apply(text, edit) {
                assert!(changed.parse::<toml_edit::DocumentMut>().is_ok(), "{text}: {edit:?}");
            }
        }
    }
    let zones = "zone = 5\n";
    assert!(
        matches!(apply(zones, &add("zone")), Err(EditProblem::NoTable { name }) if name == "zone")
    );
}

/// A word of the grid that is longer than any width that can be written out.
#[test]
fn a_grid_of_very_long_words_is_drawn() {
    let long = "x".repeat(70_000);
    for (good, bad) in [("desks ", format!("{long} ")), (" block", format!(" {long}"))] {
        let text =
            "[zone.desks]\ntrust = \"low\"\n[matrix]\ngrid = '''\n      desks\ndesks block\n'''\n";
        let text = text.replacen(good, &bad, 2);
        for edit in [
            rename("desks", "tables"),
            Edit::Cell {
                from: "desks".to_owned(),
                to: "desks".to_owned(),
                both_ways: false,
                action: "allow".to_owned(),
            },
        ] {
            let _ = apply(&text, &edit);
        }
    }
}

#[test]
fn an_entry_can_begin_with_the_keys_of_another() {
    let text = "bastium = 1\n[network.desks] # where people sit\nzone = \"staff\"\nvlan = 24 # the first\nhosts = 18\n\
                dhcp = \"100-199\" # the rest is for fixed addresses\n";
    let like = |old: &str| Edit::Add {
        kind: "network".to_owned(),
        name: "studio".to_owned(),
        like: Some(old.to_owned()),
        settings: settings(&["vlan=26", "hosts=4"]),
        open_by_trust: false,
    };
    let changed = apply(text, &like("desks")).expect("it can be added");
    let added = changed.split("[network.studio]").nth(1).expect("it is there");
    assert!(added.contains("zone = \"staff\"") && added.contains("dhcp = \"100-199\""), "{added}");
    assert!(added.contains("vlan = 26") && added.contains("hosts = 4"), "{added}");
    assert!(!added.contains("24") && !added.contains("18"), "{added}");
    assert!(changed.starts_with(text.trim_end()), "nothing else has changed");
    let none = apply(text, &like("desk"));
    assert!(matches!(none, Err(EditProblem::NotThere { .. })), "{none:?}");
}

#[test]
fn a_zone_can_be_closed_both_ways_at_once() {
    let close = |from: &str, both_ways| Edit::Cell {
        from: from.into(),
        to: "any".into(),
        both_ways,
        action: "block".into(),
    };
    let changed = apply(CLINIC, &close("staff", true)).expect("it can be set");
    let plan = read(&changed);
    let staff = plan.zone_named("staff").expect("the zone");
    for other in plan.zone_ids().filter(|zone| *zone != staff) {
        for (from, to) in [(staff, other), (other, staff)] {
            let cell = plan.matrix().cell(from, to).action.map(|action| action.word());
            assert!(matches!(cell, None | Some("block")), "{cell:?}");
        }
    }
    // What is no cell stays none, and nothing else is another.
    let lines = |text: &str| text.lines().count();
    assert_eq!(lines(&changed), lines(CLINIC));
    let one_way = apply(CLINIC, &close("staff", false)).expect("it can be set");
    assert_ne!(one_way, changed);
    assert!(apply(CLINIC, &close("staf", true)).is_err());
}
