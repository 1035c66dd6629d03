//! From a draft to a plan: what the words stand for, and the problems as values.

mod model;

use bastium_core::addressing::NoSubnet;
use bastium_core::plan::draft::{self, Draft};
use bastium_core::plan::{
    Action, ExceptionProblem, GridProblem, HostProblem, LogPolicy, NameProblem, NetworkProblem,
    PlaceProblem, Plan, Problem, ServiceProblem, resolve,
};
use bastium_core::source::Span;
use model::{frame, located, text, texts};

const GRID: &str = "staff guests tills internet\n\
                    staff block allow block allow\n\
                    guests block block+quiet block allow+log\n\
                    tills reject block - block\n\
                    internet block block block -\n";

const NOWHERE: Span = Span { start: 0, end: 0 };

/// The frame of the random plans, with a matrix: a plan without mistakes.
fn good() -> Draft {
    let mut draft = frame(true, false);
    draft.matrix.grid = Some(text(GRID));
    draft
}

fn plan() -> Plan {
    resolve(good()).expect("there is no mistake in it")
}

/// The problems of the good draft after a change.
fn problems(change: impl FnOnce(&mut Draft)) -> Vec<Problem> {
    let mut draft = good();
    change(&mut draft);
    resolve(draft).err().unwrap_or_default()
}

fn exception(from: &str, to: &str) -> draft::Exception {
    draft::Exception {
        name: text("new"),
        from: texts(&[from]),
        to: texts(&[to]),
        action: Some(text("allow")),
        ..draft::Exception::default()
    }
}

#[test]
fn places_stand_for_devices_only() {
    let plan = plan();
    let words = |place: &str| {
        let place = plan.place(&[text(place)]).unwrap_or_else(|p| panic!("{place}: {p:?}"));
        place.addresses.words()
    };
    assert_eq!(words("tills"), ["10.44.60.2"], "without gateway, network and broadcast address");
    assert_eq!(words("printers"), ["10.44.48.2-10.44.48.6"]);
    assert_eq!(words("reception"), ["10.44.24.2", "fd6b:2f4e:91c0:24::2"]);
    assert_eq!(words("tills + label-printer"), ["10.44.48.3", "10.44.60.2"]);
    assert_eq!(words("printers - label-printer"), ["10.44.48.2", "10.44.48.4-10.44.48.6"]);
    assert_eq!(words("tills - tills"), Vec::<String>::new());
    assert_eq!(words("10.44.48.0/30"), ["10.44.48.0", "10.44.48.2/31"]);
    assert_eq!(words("192.0.2.9-192.0.2.12"), ["192.0.2.9-192.0.2.12"]);
    assert_eq!(words("gateway"), Vec::<String>::new());
    let list = plan.place(&texts(&["tills", "gateway"])).expect("a list");
    assert_eq!((list.addresses.words(), list.gateway), (vec!["10.44.60.2".to_owned()], true));
    assert_eq!(list.text, "tills, gateway");
}

#[test]
fn expressions_are_read_from_the_left() {
    let plan = plan();
    let place = |words: &str| plan.place(&[text(words)]).expect(words).addresses;
    assert_eq!(place("tills - tills + printers"), place("printers"));
    assert_eq!(place("printers + tills - tills"), place("printers"));
    assert_eq!(place("staff - desks"), place("printers"));
    assert_eq!(place("any - internet"), place("staff + guests + tills"));
    assert!(place("any").is_subset(&plan.gateway_inside().complement()));
    assert!(place("internet").is_disjoint(plan.inside()));
}

#[test]
fn the_internet_is_neither_inside_nor_special() {
    let plan = plan();
    let internet = plan.internet_addresses();
    for (address, is_internet) in [
        ("192.0.2.10", true),
        ("2001:db8:ffff::1", true),
        ("203.0.113.3", false),
        ("10.44.99.1", false),
        ("10.45.0.1", false),
        ("172.16.0.1", false),
        ("100.64.0.1", false),
        ("224.0.0.1", false),
        ("255.255.255.255", false),
        ("198.51.100.14", false),
        ("198.51.100.13", true),
        ("fd00::1", false),
        ("fe80::1", false),
        ("::1", false),
        ("ff02::1", false),
    ] {
        assert_eq!(internet.contains(address.parse().expect(address)), is_internet, "{address}");
    }
}

#[test]
fn the_grid_gives_every_cell_its_action_and_log() {
    let plan = plan();
    let zone = |name: &str| plan.zone_named(name).expect(name);
    let cell = |from: &str, to: &str| {
        let cell = plan.matrix().cell(zone(from), zone(to));
        (cell.action, cell.log)
    };
    assert_eq!(cell("staff", "guests"), (Some(Action::Allow), false));
    assert_eq!(cell("staff", "tills"), (Some(Action::Block), true));
    assert_eq!(cell("guests", "guests"), (Some(Action::Block), false));
    assert_eq!(cell("guests", "internet"), (Some(Action::Allow), true));
    assert_eq!(cell("tills", "staff"), (Some(Action::Reject), true));
    assert_eq!(cell("tills", "tills"), (None, false));
    assert_eq!(plan.matrix().log(), LogPolicy::Block);
}

#[test]
fn the_order_of_rows_and_columns_and_remarks_mean_nothing() {
    let turned = "# who may do what\n\
                  internet tills guests staff # to\n\n\
                  internet - block block block\n\
                  tills block - block reject\n\
                  guests allow+log block block+quiet block\n\
                  staff allow block allow block # from here\n";
    let mut draft = good();
    draft.matrix.grid = Some(text(turned));
    let (one, other) = (plan(), resolve(draft).expect("the same matrix"));
    for from in one.zone_ids() {
        for to in one.zone_ids() {
            let (a, b) = (one.matrix().cell(from, to), other.matrix().cell(from, to));
            assert_eq!((a.action, a.log), (b.action, b.log));
        }
    }
}

#[test]
fn an_exception_logs_as_the_matrix_would_unless_it_says() {
    let log_of = |action: &str, log: Option<bool>, policy: &str| {
        let mut draft = good();
        draft.matrix.log = Some(text(policy));
        let mut new = exception("desks", "tills");
        new.action = Some(text(action));
        new.log = log.and_then(located);
        draft.exceptions.push(new);
        resolve(draft).expect("a plan").exceptions()[0].log
    };
    for (action, policy, logged) in [
        ("allow", "block", false),
        ("block", "block", true),
        ("reject", "block", true),
        ("allow", "allow", true),
        ("block", "allow", false),
        ("allow", "all", true),
        ("reject", "none", false),
    ] {
        assert_eq!(log_of(action, None, policy), logged, "{action} where {policy} is logged");
        assert!(log_of(action, Some(true), policy));
        assert!(!log_of(action, Some(false), policy));
    }
}

#[test]
fn problems_are_values() {
    let name = |text: &str| bastium_core::name::Name::new(text).expect(text);
    let at = NOWHERE;
    let found = problems(|draft| draft.exceptions.push(exception("desk", "tills")));
    let (word, nearest) = ("desk".to_owned(), Some("desks".to_owned()));
    assert_eq!(found, [Problem::Place(PlaceProblem::Unknown { word, nearest, at })]);

    let found = problems(|draft| draft.networks[0].vlan = located(0));
    assert_eq!(found, [Problem::Network(NetworkProblem::Vlan { vlan: 0, at })]);

    let found = problems(|draft| {
        draft.networks[3].subnets = None;
        draft.site.space.clear();
    });
    let (network, reason) = (name("tills"), NoSubnet::NotTied);
    let expected = NetworkProblem::NoSubnet { network, reason, vlan: None, at };
    assert_eq!(found, [Problem::Network(expected)]);

    let found = problems(|draft| draft.hosts[1].addresses = texts(&["10.44.48.1"]));
    let address = "10.44.48.1".parse().expect("an address");
    assert_eq!(found, [Problem::Host(HostProblem::IsGateway { address, at })]);

    let found = problems(|draft| draft.zones[0].trust = None);
    assert_eq!(found, [Problem::Name(NameProblem::NoTrust { zone: name("staff"), at })]);

    let found = problems(|draft| draft.matrix.grid = None);
    assert_eq!(found, [Problem::Grid(GridProblem::Missing { at: None })]);

    let found = problems(|draft| {
        let mut new = exception("desks", "tills");
        new.before = texts(&["new"]);
        draft.exceptions.push(new);
    });
    let exception_name = name("new");
    let expected = ExceptionProblem::BeforeItself { exception: exception_name, at };
    assert_eq!(found, [Problem::Exception(expected)]);

    let found = problems(|draft| {
        draft.services.push(draft::Service { name: text("web"), ..draft::Service::default() });
    });
    assert_eq!(found, [Problem::Service(ServiceProblem::Empty { name: name("web"), at })]);
}

#[test]
fn overlapping_subnets_are_found_whichever_comes_first() {
    for (wide, narrow) in [(0, 1), (1, 0), (2, 3), (3, 2)] {
        let found = problems(|draft| {
            draft.networks[wide].subnets = Some(texts(&["10.44.32.0/20"]));
            draft.networks[narrow].subnets = Some(texts(&["10.44.40.0/24"]));
            draft.hosts.clear();
        });
        let overlap = |p: &Problem| matches!(p, Problem::Network(NetworkProblem::Overlap { .. }));
        assert!(found.len() == 1 && found.iter().all(overlap), "{found:?}");
    }
    let beside = problems(|draft| {
        draft.networks[0].subnets = Some(texts(&["10.44.32.0/24"]));
        draft.networks[1].subnets = Some(texts(&["10.44.33.0/24"]));
        draft.hosts.clear();
    });
    assert_eq!(beside, []);
}

#[test]
fn groups_and_services_are_resolved_whatever_their_order() {
    let mut draft = good();
    let group =
        |name: &str, member: &str| draft::Group { name: text(name), members: texts(&[member]) };
    draft.groups =
        vec![group("outer", "inner + tills"), group("inner", "printers - label-printer")];
    let service = |name: &str, ports: &[&str], includes: &[&str]| draft::Service {
        name: text(name),
        ports: texts(ports),
        includes: texts(includes),
        ..draft::Service::default()
    };
    draft.services = vec![
        service("all", &["udp/9"], &["web", "ssh"]),
        service("web", &["tcp/80", "tcp/443"], &[]),
    ];
    let plan = resolve(draft).expect("a plan");
    let outer = plan.groups()[0].place.addresses.words();
    assert_eq!(outer, ["10.44.48.2", "10.44.48.4-10.44.48.6", "10.44.60.2"]);
    let all = plan.services()[0].set.words();
    assert_eq!(all, ["tcp/22", "tcp/80", "tcp/443", "udp/9"]);
}
