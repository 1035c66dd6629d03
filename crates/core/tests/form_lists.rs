//! What the lists of each form look like, on small plans where that can be seen at a glance.

mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Form, Plan, Rows, draft, resolve};
use bastium_core::rules::{self, Applies, Obstacle, Rule, RuleList, RuleSet, Setting};
use bastium_core::space::{Protocol, ServiceSet};
use model::{TODAY, exception, frame, text, uniform};

const BLOCKED: [&str; 4] = ["block", "block", "block", "block"];

/// The model's plan with this matrix, silent, and these exceptions.
fn plan(rows: [[&str; 4]; 4], exceptions: Vec<draft::Exception>) -> Plan {
    let mut draft = frame(true, false);
    let zones = ["staff", "guests", "tills", "internet"];
    let rows: Vec<String> =
        zones.iter().zip(rows).map(|(zone, row)| format!("{zone} {}", row.join(" "))).collect();
    draft.matrix.grid = Some(text(&format!("{}\n{}\n", zones.join(" "), rows.join("\n"))));
    draft.matrix.log = Some(text("none"));
    draft.matrix.unmatched = Some(text("block+quiet"));
    draft.exceptions = exceptions;
    resolve(draft).expect("a plan")
}

/// With a rule for every entry: what is left out or joined is tried in `fewest.rs`.
fn in_form(plan: &Plan, form: Form) -> RuleSet<'_> {
    let meaning = Meaning::new(plan, TODAY).expect("a meaning");
    rules::in_form_with(&meaning, form, Rows::EveryCell)
        .expect("every form but one says everything")
}

fn list<'r>(rules: &'r RuleSet<'r>, name: &str) -> &'r RuleList {
    let names = || rules.lists.iter().map(|list| list.name.as_str()).collect::<Vec<_>>();
    rules
        .lists
        .iter()
        .find(|list| list.name == name)
        .unwrap_or_else(|| panic!("{name}: {:?}", names()))
}

fn ids(list: &RuleList) -> Vec<String> {
    list.rules.iter().map(|rule| rule.id.to_string()).collect()
}

#[test]
fn a_pair_has_the_exceptions_that_meet_packets_there_and_its_cell() {
    let plan = plan(
        [BLOCKED; 4],
        vec![
            exception("print", "desks", "printers", "tcp/80", "allow"),
            exception("pay", "tills", "desks", "tcp/443", "allow"),
            exception("all-web", "any", "internet", "tcp/443", "allow"),
        ],
    );
    let rules = in_form(&plan, Form::PerPair);
    assert_eq!(ids(list(&rules, "tills>staff")), ["exception.pay@tills>staff", "cell.tills>staff"]);
    assert_eq!(
        ids(list(&rules, "staff>staff")),
        ["exception.print@staff>staff", "cell.staff>staff"]
    );
    assert_eq!(ids(list(&rules, "guests>tills")), ["cell.guests>tills"]);
    // Where an exception is for more than the pair, the pair is all that it says there.
    let web = &list(&rules, "guests>internet").rules[0];
    assert_eq!([&web.source, &web.destination], [&rules::Endpoint::Any; 2]);
    let zone = |name| plan.zone_named(name).expect("a zone");
    let applies = list(&rules, "tills>staff").applies;
    assert_eq!(applies, Some(Applies::Pair { from: zone("tills"), to: zone("staff") }));
    assert!(rules.lists.iter().all(|list| list.name != "tills>tills"), "one network alone");
}

#[test]
fn a_pair_has_no_piece_that_another_piece_covers() {
    let plan = plan(
        [BLOCKED; 4],
        vec![
            exception("narrow", "staff", "tills", "any", "block"),
            exception("wide", "staff + guests", "tills", "any", "allow"),
        ],
    );
    let rules = in_form(&plan, Form::PerPair);
    let staff = ids(list(&rules, "staff>tills"));
    assert_eq!(staff[0], "exception.narrow@staff>tills");
    assert!(!staff.iter().any(|id| id.contains("wide")), "{staff:?}");
    assert_eq!(ids(list(&rules, "guests>tills"))[0], "exception.wide@guests>tills");
}

#[test]
fn each_zone_has_a_list_to_the_gateway_and_closing_lists_take_the_rest() {
    let mut draft = uniform("block", false);
    draft.exceptions = vec![exception("time", "desks + tills", "gateway", "udp/123", "allow")];
    let plan = resolve(draft).expect("a plan");
    let rules = in_form(&plan, Form::PerPair);
    let staff = ids(list(&rules, "staff>gateway"));
    assert!(staff.contains(&"exception.time@staff>gateway".to_owned()), "{staff:?}");
    assert!(staff.contains(&"gateway_service.desks".to_owned()), "{staff:?}");
    let guests = ids(list(&rules, "guests>gateway"));
    assert!(!guests.iter().any(|id| id.contains("time")), "{guests:?}");
    assert_eq!(ids(list(&rules, "closing-to-gateway")), ["unmatched@to-gateway"]);
    assert_eq!(ids(list(&rules, "closing")), ["unmatched@through"]);
}

fn replies(list: &RuleList) -> Vec<&Rule> {
    list.rules.iter().filter(|rule| rule.is_for_replies()).collect()
}

fn reply_named<'r>(list: &'r RuleList, id: &str) -> &'r Rule {
    let found = replies(list).into_iter().find(|rule| rule.id == id);
    found.unwrap_or_else(|| panic!("{id} is not among {:?}", ids(list)))
}

#[test]
fn replies_are_written_out_where_they_come_in() {
    let print = exception("print", "desks", "printers", "tcp/80", "allow");
    let plan = plan([BLOCKED; 4], vec![print]);
    let rules = in_form(&plan, Form::PerInterface);
    let printers = list(&rules, "printers in");
    let reply = reply_named(printers, "reply.exception.print@printers");
    // What is for the gateway has been decided when it comes to that, whatever a list takes for a reply.
    let place = |id: &str| ids(printers).iter().position(|other| *other == id);
    assert!(place("unmatched@to-gateway@printers") < place("reply.exception.print@printers"));
    assert_eq!(reply.action, Action::Allow);
    assert_eq!(
        reply.replies_from().map(|from| from.words()),
        Some(vec!["tcp/80 (IPv4)".to_owned()])
    );
    let matches = reply.packets().expect("it matches something");
    assert_eq!(
        matches.source,
        *plan.network_addresses(plan.network_ids().nth(1).expect("printers"))
    );
    assert!(
        matches.service.v4 == ServiceSet::protocol(Protocol::TCP).v4,
        "any port may have asked"
    );
    // Nothing is let back to where nothing was asked from.
    let own: Vec<String> =
        replies(list(&rules, "tills in")).iter().map(|rule| rule.id.to_string()).collect();
    assert_eq!(own, ["reply.own-conversations@tills", "reply.errors@tills"]);
}

#[test]
fn replies_from_outside_come_to_the_address_that_private_sources_have_there() {
    let web = exception("web", "tills", "internet", "tcp/443", "allow");
    let plan = plan([BLOCKED; 4], vec![web]);
    let rules = in_form(&plan, Form::PerInterface);
    let reply = reply_named(list(&rules, "fibre in"), "reply.exception.web@fibre");
    let matches = reply.packets().expect("it matches something");
    assert_eq!(
        matches.destination,
        "198.51.100.14".parse::<std::net::IpAddr>().expect("one").into()
    );
    // An address that is global is not translated.
    let own = exception("own", "waiting-room", "internet", "tcp/443", "allow");
    let site = self::plan([BLOCKED; 4], vec![own]);
    let rules = in_form(&site, Form::PerInterface);
    let reply = reply_named(list(&rules, "fibre in"), "reply.exception.own@fibre");
    let global = "203.0.113.3".parse().expect("an address");
    assert!(reply.packets().expect("something").destination.contains(global));
}

#[test]
fn a_ping_is_answered_by_another_message() {
    let ping = exception("ping", "desks", "waiting-room", "icmp/echo", "allow");
    let site = plan([BLOCKED; 4], vec![ping]);
    let rules = in_form(&site, Form::PerInterface);
    let reply = reply_named(list(&rules, "waiting-room in"), "reply.exception.ping@waiting-room");
    assert_eq!(reply.ports, ["icmp/0.0", "icmpv6/129.0"]);
}

#[test]
fn what_the_gateway_begins_has_lists_on_the_way_out_where_the_plan_speaks_of_it() {
    let site = plan([BLOCKED; 4], Vec::new());
    let silent = in_form(&site, Form::PerInterface);
    assert!(silent.lists.iter().all(|list| !list.name.ends_with(" out")));
    let mail = exception("no-mail", "gateway", "internet", "tcp/25", "reject");
    let site = plan([BLOCKED; 4], vec![mail]);
    let rules = in_form(&site, Form::PerInterface);
    assert_eq!(
        ids(list(&rules, "fibre out")),
        ["from_gateway@needs@fibre", "exception.no-mail@fibre", "from_gateway@fibre"]
    );
    assert!(rules.settings.contains(&Setting::OwnPorts));
}

#[test]
fn an_offered_service_is_let_in_before_it_is_translated() {
    let mut draft = uniform("block", false);
    draft.inbounds = vec![draft::Inbound {
        permission: exception("offer", "internet", "label-printer", "tcp/80", "allow"),
        outside_port: model::located(85),
        ..draft::Inbound::default()
    }];
    let plan = resolve(draft).expect("a plan");
    let rules = in_form(&plan, Form::PerInterface);
    assert!(rules.before_translation);
    let outside =
        list(&rules, "fibre in").rules.iter().find(|rule| rule.id == "offered.offer@fibre");
    let matches = outside.expect("a rule").packets().expect("matches");
    assert_eq!(outside.expect("a rule").service, "tcp/85");
    assert!(matches.destination.contains("198.51.100.14".parse().expect("an address")));
    assert!(
        replies(list(&rules, "printers in"))
            .iter()
            .any(|rule| rule.id == "reply.offered.offer@printers")
    );
}

fn source_only(
    exceptions: Vec<draft::Exception>,
) -> Result<RuleSet<'static>, Vec<rules::Inexpressible>> {
    let mut draft = uniform("block", false);
    draft.gateway.form = Some(text("per-interface"));
    draft.gateway.matches = Some(text("source"));
    draft.exceptions = exceptions;
    let plan = Box::leak(Box::new(resolve(draft).expect("a plan")));
    let meaning = Meaning::new(plan, TODAY).expect("a meaning");
    rules::in_form(&meaning, Form::PerInterface)
}

#[test]
fn lists_of_sources_refuse_services_and_parts_of_an_interface() {
    let whole = source_only(vec![exception("whole", "desks", "printers", "any", "allow")]);
    let rules = whole.expect("sources are enough");
    assert!(ids(list(&rules, "printers out")).contains(&"exception.whole@printers".to_owned()));
    assert!(rules.settings.contains(&Setting::OwnServices));
    let why = |exceptions| source_only(exceptions).expect_err("refused")[0].why;
    assert_eq!(
        why(vec![exception("one", "desks", "printers", "tcp/80", "allow")]),
        Obstacle::Service
    );
    assert_eq!(
        why(vec![exception("part", "desks", "label-printer", "any", "allow")]),
        Obstacle::Destination
    );
}

/// `compile` always has an answer: where a form cannot say it, that of the one list.
#[test]
fn a_plan_whose_form_cannot_say_it_has_the_rules_of_the_one_list() {
    let mut draft = uniform("block", false);
    draft.gateway.form = Some(text("per-interface"));
    draft.gateway.matches = Some(text("source"));
    draft.exceptions = vec![exception("one", "desks", "printers", "tcp/80", "allow")];
    let plan = resolve(draft).expect("a plan");
    let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
    assert_eq!(rules::compile(&meaning).form, Form::OneList);
}

fn rank(rules: &RuleSet, name: &str) -> u32 {
    let rank = |setting: &Setting| match setting {
        Setting::Rank { of, rank } if of == name => Some(*rank),
        _ => None,
    };
    rules.settings.iter().find_map(rank).expect("every network has a rank")
}

#[test]
fn zones_of_one_trust_get_ranks_that_save_rules() {
    // All of one trust; staff may open to guests and tills, guests to tills, nobody the other way.
    let rows = [
        ["allow", "allow", "allow", "allow"],
        ["block", "block", "allow", "allow"],
        ["block", "block", "block", "allow"],
        ["block", "block", "block", "-"],
    ];
    let site = plan(rows, Vec::new());
    let rules = in_form(&site, Form::Ranked);
    let ranks = ["desks", "waiting-room", "tills", "uplinks"].map(|name| rank(&rules, name));
    assert!(ranks.windows(2).all(|pair| pair[0] > pair[1]), "{ranks:?}");
    assert_eq!(rank(&rules, "desks"), rank(&rules, "printers"), "networks of one zone are equals");
    let through = ids(list(&rules, "through"));
    assert!(through.is_empty(), "ranks say all of it: {through:?}");
    assert!(rules.settings.contains(&Setting::EqualsReach(true)), "desks reach printers");
}

#[test]
fn equals_stay_cut_off_where_the_plan_has_nothing_to_say_between_them() {
    let site = plan([BLOCKED; 4], Vec::new());
    let rules = in_form(&site, Form::Ranked);
    assert!(rules.settings.contains(&Setting::EqualsReach(false)));
    assert!(list(&rules, "cut-off").implied && list(&rules, "by-rank").implied);
    // What is entered has numbers, what the gateway does by itself has none.
    assert!(rules.rules().all(|rule| rule.number > 0));
    assert!(list(&rules, "by-rank").rules.iter().all(|rule| rule.number == 0));
    let print = exception("print", "desks", "printers", "tcp/80", "allow");
    let site = plan([BLOCKED; 4], vec![print]);
    let rules = in_form(&site, Form::Ranked);
    assert!(rules.settings.contains(&Setting::EqualsReach(true)), "a cut would go before the rule");
}

#[test]
fn numbers_go_up_by_tens_through_all_lists_of_every_form() {
    let plan = plan([BLOCKED; 4], vec![exception("print", "desks", "printers", "tcp/80", "allow")]);
    for form in Form::ALL {
        let numbers: Vec<u32> = in_form(&plan, form).rules().map(|rule| rule.number).collect();
        assert_eq!(numbers.first(), Some(&10), "{}", form.word());
        assert!(numbers.windows(2).all(|pair| pair[0] + 10 == pair[1]), "{}", form.word());
    }
}
