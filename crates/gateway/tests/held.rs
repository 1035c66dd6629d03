//! Lists that somebody else wrote, as what a change begins with: every packet fares in the rules that come of them as it
//! does in the list, and in the worksheet's order it never fares as in neither.

#[path = "../../core/tests/model/mod.rs"]
mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Form, Plan, resolve};
use bastium_core::rules::{self, Otherwise, RuleSet, Surroundings};
use bastium_core::space::{Ends, Interface, Packet, Protocol};
use bastium_core::verdict::Verdict;
use bastium_gateway::foreign::{Foreign, HeldRules, NotHeld, read_rules};
use model::packets::{Borders, packet};
use model::{TODAY, any_draft};
use proptest::prelude::*;

/// A row: what it asks, each by a number that a plan makes a word of.
#[derive(Clone, Debug)]
struct Drawn {
    input: bool,
    from: Option<usize>,
    to: Option<usize>,
    source: Option<usize>,
    destination: Option<usize>,
    service: usize,
    action: usize,
    log: bool,
}

fn any_row() -> impl Strategy<Value = Drawn> {
    let some = || prop::option::of(any::<usize>());
    let ends = (some(), some(), some(), some());
    (any::<bool>(), ends, 0..6usize, 0..3usize, any::<bool>()).prop_map(
        |(input, (from, to, source, destination), service, action, log)| Drawn {
            input,
            from,
            to,
            source,
            destination,
            service,
            action,
            log,
        },
    )
}

fn device(plan: &Plan, place: usize) -> String {
    let interface = Interface::of_index(place % plan.gateway_interface().index());
    plan.device_name(interface).unwrap_or_else(|| plan.interface_name(interface).to_owned())
}

/// A prefix of the plan, or one within it or around it.
fn prefix(plan: &Plan, place: usize) -> String {
    let subnets = plan.networks().iter().flat_map(|network| &network.subnets);
    let subnets: Vec<_> = subnets.map(|subnet| subnet.prefix()).collect();
    let own = subnets[place % subnets.len()];
    let wider = own.prefix_len().saturating_sub(1);
    match place / subnets.len() % 3 {
        0 => own.to_string(),
        1 => own.addr().to_string(),
        _ => {
            format!("{}/{wider}", ipnet::IpNet::new(own.addr(), wider).expect("a prefix").network())
        }
    }
}

const SERVICES: [(&str, &str); 6] = [
    ("", "any"),
    ("tcp dport 443", "tcp/443"),
    ("udp dport { 53, 67 }", "\"udp/53, udp/67\""),
    ("tcp dport 5000-5100", "tcp/5000-5100"),
    ("meta l4proto udp", "udp"),
    ("tcp dport != 22", "tcp"),
];

/// A rule for the kernel's packet filter.
fn nft_row(plan: &Plan, row: &Drawn) -> String {
    let side = |word: &str, place: Option<usize>| match place.map(|place| prefix(plan, place)) {
        Some(prefix) if prefix.contains(':') => format!("ip6 {word} {prefix} "),
        Some(prefix) => format!("ip {word} {prefix} "),
        None => String::new(),
    };
    // Both ends are of one family, or nothing matches.
    let v6 = |place: usize| prefix(plan, place).contains(':');
    let source = row.source;
    let destination = row.destination.filter(|to| source.is_none_or(|from| v6(from) == v6(*to)));
    let interface = |word: &str, place: Option<usize>| {
        place.map(|place| format!("{word} \"{}\" ", device(plan, place))).unwrap_or_default()
    };
    let to = row.to.filter(|_| !row.input);
    format!(
        "{}{}{}{}{} {}{}",
        interface("iifname", row.from),
        interface("oifname", to),
        side("saddr", source),
        side("daddr", destination),
        SERVICES[row.service].0,
        if row.log { "log " } else { "" },
        ["accept", "drop", "reject"][row.action]
    )
}

fn nft(plan: &Plan, rows: &[Drawn], policies: [bool; 2]) -> String {
    let chain = |input: bool| {
        let own = rows.iter().filter(|row| row.input == input).map(|row| nft_row(plan, row));
        let name = if input { "input" } else { "forward" };
        let policy = if policies[usize::from(input)] { "accept" } else { "drop" };
        format!(
            "chain {name} {{\n type filter hook {name} priority 0; policy {policy};\n ct state established,related \
             accept\n {}\n }}\n",
            own.collect::<Vec<_>>().join("\n ")
        )
    };
    format!("table inet site {{\n{}{}}}\n", chain(true), chain(false))
}

/// A table, whose rows may be for the gateway and for what it passes on alike.
fn table(plan: &Plan, rows: &[Drawn]) -> String {
    let zones: Vec<String> = plan.zones().iter().map(|zone| zone.name.to_string()).collect();
    let zone = |place: Option<usize>| place.map_or("any", |place| &zones[place % zones.len()]);
    let rows = rows.iter().enumerate().map(|(number, row)| {
        let to = match row.input {
            true => "gateway",
            false => "",
        };
        format!(
            "{},{},{},{},{to},{},row {number}\n",
            ["allow", "block", "reject"][row.action],
            row.source.map_or_else(|| zone(row.from).to_owned(), |place| prefix(plan, place)),
            row.destination.map_or_else(|| zone(row.to).to_owned(), |place| prefix(plan, place)),
            SERVICES[row.service].1,
            if row.log { "yes" } else { "" },
        )
    });
    format!("action,source,destination,service,to,log,name\n{}", rows.collect::<String>())
}

/// What a list does with a packet that goes a way.
fn in_list(
    foreign: &Foreign,
    plan: &Plan,
    around: &Surroundings,
    packet: &Packet,
) -> Option<(Action, bool)> {
    let enters = plan.came_by(packet.enters);
    let gateway = &around.gateway[usize::from(enters.0)];
    let to = match gateway.contains(packet.destination()) {
        true => "gateway".to_owned(),
        false => {
            let place = around.reached.iter().position(|own| own.contains(packet.destination()))?;
            device(plan, place)
        }
    };
    let from = device(plan, usize::from(enters.0));
    let mut all = (0..foreign.ways.interfaces()).map(Interface::of_index);
    let way = all.find(|way| foreign.ways.names(*way) == (from.as_str(), to.as_str()))?;
    let packet = Packet { enters: way, ..*packet };
    let matches = |one: &&bastium_gateway::foreign::ForeignLine| {
        one.bare.matches.iter().any(|product| product.contains(&packet))
    };
    foreign.lines.iter().find(matches).map(|line| (line.bare.action, line.bare.log))
}

/// What rules do with it. Those of the plan are for what their own list is asked about.
fn in_rules(held: &RuleSet, own: &RuleSet, packet: &Packet) -> (Action, bool) {
    let asked = |rule: &rules::Rule| {
        let of = |list: &&rules::RuleList| list.rules.iter().any(|other| other.id == rule.id);
        own.lists.iter().find(of).is_none_or(|list| list.packets().contains(packet))
    };
    for list in held.lists.iter().filter(|list| list.packets().contains(packet)) {
        let matches = |rule: &&rules::Rule| {
            let products = rule.matches.products();
            asked(rule)
                && products.iter().any(|(product, from)| from.is_none() && product.contains(packet))
        };
        if let Some(rule) = list.rules.iter().find(matches) {
            return (rule.action, rule.log);
        }
        match list.otherwise {
            Otherwise::GoOn => {}
            Otherwise::Allow => return (Action::Allow, false),
            Otherwise::Block => return (Action::Block, false),
        }
    }
    (Action::Block, false)
}

fn compare<'p>(
    text: &str,
    meaning: &Meaning<'p>,
    seed: u64,
) -> Result<Option<HeldRules<'p>>, TestCaseError> {
    let plan = meaning.plan();
    let Ok(rules) = rules::in_form(meaning, Form::OneList) else { return Ok(None) };
    let foreign = read_rules(text, Some(plan))
        .map_err(|problem| TestCaseError::fail(format!("{problem:?}")))?;
    let held = match foreign.held_rules(meaning, &rules) {
        Ok(held) => held,
        Err(NotHeld::Unread(unread)) => {
            return Err(TestCaseError::fail(format!("{:?} in {text}", unread.first())));
        }
        Err(NotHeld::OneOfSeveralUplinks { .. }) => return Ok(None),
        Err(problem) => return Err(TestCaseError::fail(format!("{problem:?} in {text}"))),
    };
    let around = Surroundings::of(plan);
    let never = bastium_core::proof::never_asked(meaning);
    let (borders, mut random) = (Borders::of(plan, &rules), seed);
    for _ in 0..400 {
        let packet = packet(&borders, plan, &mut random);
        let translated = rules.translations.iter().any(|one| one.takes.contains(&packet));
        let outside = packet.enters < plan.gateway_interface();
        if !outside || translated || never.iter().any(|one| one.contains(&packet)) {
            continue;
        }
        if let Some(wanted) = in_list(&foreign, plan, &around, &packet) {
            prop_assert_eq!(
                in_rules(&held.rules, &rules, &packet),
                wanted,
                "{:?} in {}",
                packet,
                text
            );
        }
    }
    Ok(Some(held))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn rules_of_the_kernel_and_tables_do_as_what_comes_of_them(
        draft in any_draft(),
        rows in prop::collection::vec(any_row(), 1..9),
        policies in any::<[bool; 2]>(),
        seed in any::<u64>(),
    ) {
        let Ok(plan) = resolve(draft) else { return Ok(()) };
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        compare(&nft(&plan, &rows, policies), &meaning, seed)?;
        compare(&table(&plan, &rows), &meaning, seed)?;
    }
}

/// What is there before the rules lets nothing in that the plan does not, and passes nothing on.
#[test]
fn until_the_rules_are_there_only_management_comes_in() {
    for name in ["clinic", "farm", "bare"] {
        let text = std::fs::read(format!("../../demo/{name}.toml")).expect("the plan");
        let plan = bastium_planfile::read(name, &text).expect("a plan");
        let meaning = Meaning::new(&plan, TODAY).expect("a meaning");
        let rules = rules::in_form(&meaning, Form::PerPair).expect("rules");
        let file = bastium_gateway::nftables::proven(&meaning, &rules, Default::default());
        let files = bastium_gateway::boot::boot_files(&plan, &file.expect("a file"));
        let closed = &files.iter().find(|file| file.name == "closed.nft").expect("it").text;
        let foreign = read_rules(closed, Some(&plan)).expect("rules");
        // The loopback is nobody's.
        let unread: Vec<_> =
            foreign.not_understood.iter().filter(|one| !one.what.contains("lo")).collect();
        assert!(unread.is_empty(), "{unread:?}");
        let around = Surroundings::of(&plan);
        let (borders, mut random) = (Borders::of(&plan, &rules), 7);
        let (mut inside, mut managed) = (0, 0);
        let managing = plan.gateway().manage.iter().filter_map(|manage| {
            let (source, _) =
                manage.from.addresses.ranges().find(|(low, _)| plan.network_of(*low).is_some())?;
            let network = plan.network_of(source)?;
            let gateway = plan.network(network).subnets[0].gateway();
            let service = manage.service.set.v4.first()?;
            Some(Packet::new(plan.network_interface(network), Ends::new(source, gateway)?, service))
        });
        let random = (0..20_000).map(|_| packet(&borders, &plan, &mut random));
        for packet in managing.chain(random) {
            if packet.enters >= plan.gateway_interface() {
                continue;
            }
            let Some((action, _)) = in_list(&foreign, &plan, &around, &packet) else { continue };
            let verdict = meaning.decide(&packet).verdict;
            let gateway = &around.gateway[usize::from(packet.enters.0)];
            if action == Action::Allow {
                assert!(gateway.contains(packet.destination()), "{packet:?}");
                // Whether a source is true is for the rules to say; neighbours find each other anyhow.
                let spoofed =
                    !around.sources[usize::from(packet.enters.0)].contains(packet.source());
                let neighbours = packet.service.protocol() == Protocol::ICMP_V6;
                assert!(verdict == Verdict::Allow || spoofed || neighbours, "{packet:?}");
                managed += usize::from(!neighbours);
            }
            inside += 1;
        }
        assert!(inside > 1_000);
        assert!(managed > 0 || plan.gateway().manage.is_none(), "{name}: nobody manages it");
    }
}
