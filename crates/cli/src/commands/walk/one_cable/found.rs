//! The results of a walk over one cable, as data.

use super::super::Tour;
use super::super::lease_faults::fault;
use bastium_core::checklist::{Probe, Target};
use bastium_core::plan::Plan;
use bastium_core::rules::RuleSet;
use bastium_core::space::{IntervalSet, Packet, ServicePoint, ServiceSet};
use bastium_report::count;
use bastium_report::sheets::{CableNetwork, CableSheet, Counted, Reason, SurpriseRow, SweepPart};
use bastium_testbed::cable::{Came, Provided, Silence};
use bastium_testbed::trunk::{
    Shown, Stand, Surprise, Swept, Tried, Unplaced, Untried, Why, Wrong, faults,
};
use std::collections::BTreeMap;
use std::net::IpAddr;

/// Fills a sheet with what was found.
pub(super) fn fill(sheet: &mut CableSheet, stand: &Stand<'_, '_>, swept: Option<&Swept>) {
    let (meaning, rules) = stand.subject();
    let plan = meaning.plan();
    for (lane, network) in stand.networks.iter().enumerate() {
        let id = stand.network(lane);
        let words = |all: &[IpAddr]| all.iter().map(IpAddr::to_string).collect::<Vec<_>>();
        let at = |answers: bool| {
            let mine = network.gateway.iter().filter(|(_, is)| *is == answers);
            mine.map(|(address, _)| address.to_string()).collect::<Vec<_>>()
        };
        let found = id.map(|id| faults(meaning, id, network.leased.as_ref(), &network.routers));
        let taken = network.leased.as_ref().and_then(|leased| leased.taken.as_ref());
        sheet.networks.push(CableNetwork {
            name: stand.name(lane),
            vlan: id.and_then(|id| plan.network(id).vlan),
            gateway: at(true),
            silent: at(false),
            leased: taken.map(|offer| offer.address.to_string()),
            leased_to_gateway: match stand.provided(lane) {
                Some(Provided::Taken(address)) => Some(address.to_string()),
                _ => None,
            },
            own: words(&network.own),
            present: words(&network.present),
            stood_in: words(&network.stood_in),
            faults: found.unwrap_or_default().iter().map(|one| fault(plan, one)).collect(),
        });
    }
    for lane in 0..stand.networks.len() {
        if stand.provided(lane) == Some(Provided::OtherServer) {
            let says =
                "a DHCP server answers there: the gateway's own, or the cable leads elsewhere";
            sheet.networks[lane].faults.push(says.to_owned());
        }
    }
    for (in_this, of) in stand.joined() {
        let says = format!("what is sent in {} arrives here: the two are joined", stand.name(of));
        sheet.networks[in_this].faults.push(says);
    }
    for Silence { lane, family, over } in stand.fell_silent() {
        let family = family.word();
        let then = if over { "then for a while not" } else { "then no more" };
        let says = format!("over {family} the gateway answered at first, and {then}");
        sheet.networks[lane].faults.push(says);
    }
    for (id, why) in stand.unplaced() {
        let what = plan.network(*id).name.to_string();
        sheet.not_reached.push(Reason { what, why: unplaced(*why).to_owned() });
    }
    sheet.warnings = warnings(stand);
    sheet.sweep = swept.map(|swept| part(rules, stand, swept));
}

fn warnings(stand: &Stand<'_, '_>) -> Vec<String> {
    let mut warnings = Vec::new();
    if stand.heard_outside() > 1 {
        warnings.push(format!(
            "{} devices were heard outside: the cable there has to lead to the gateway's uplink, and to nobody else",
            stand.heard_outside()
        ));
    }
    if stand.lost() > 0 {
        let frames = count(usize::try_from(stand.lost()).unwrap_or(usize::MAX), "frame");
        warnings
            .push(format!("{frames} came faster than this machine could read: try a lower --rate"));
    }
    for address in stand.given_up() {
        warnings.push(format!("{address} was given up: its owner has turned up"));
    }
    for lane in 0..stand.networks.len() {
        let Some(why) = stand.provided(lane).and_then(not_provided) else { continue };
        if stand.has_no_address(lane) {
            warnings.push(format!("{}: the gateway has no address there, {why}", stand.name(lane)));
        }
    }
    for (lane, network) in stand.networks.iter().enumerate() {
        for stranger in &network.strangers {
            warnings.push(format!(
                "somebody in {} has {stranger}, which the plan gives to nobody",
                stand.name(lane)
            ));
        }
    }
    warnings
}

/// Why the tester has leased nothing to the gateway.
fn not_provided(provided: Provided) -> Option<&'static str> {
    match provided {
        Provided::Taken(_) | Provided::OtherServer => None,
        Provided::NotYet => {
            Some("and does not ask for one by DHCP: pull its cable there and plug it in again")
        }
        Provided::SeveralDevices => Some("and gets none where several devices are on that cable"),
    }
}

fn unplaced(why: Unplaced) -> &'static str {
    match why {
        Unplaced::Tunnel => "it is a tunnel, and no cable carries it",
        Unplaced::Untagged => {
            "several networks are untagged; name its interface: --interface NETWORK=IFACE"
        }
        Unplaced::NoPort => "no interface was named for it",
    }
}

fn why(why: Why) -> &'static str {
    match why {
        Why::NotSent => "the gateway does not answer there",
        Why::NoControl => "silent, but the gateway did not answer before and after either",
        Why::NobodyAnswers => "nothing need answer at the gateway",
        Why::Limited => "the gateway refuses others like it, and sends only so many notices",
    }
}

fn untried_words(plan: &Plan, untried: &Untried) -> String {
    match untried {
        Untried::Unreached(name) => format!("{name} is not reached by this cable"),
        Untried::NoOutside => "it takes an end outside: --outside IFACE".to_owned(),
        Untried::Absent(address) => match plan.host_at(*address) {
            Some(host) => {
                format!("{0} is not there; `--stand-in {0}` takes its address meanwhile", host.name)
            }
            None => format!("nobody is at {address}"),
        },
        Untried::Taken(address) => match plan.host_at(*address) {
            Some(host) => {
                format!("{} is there itself, and nobody else comes from its address", host.name)
            }
            None => format!("somebody else is at {address}"),
        },
        Untried::ByName => "it goes to whatever a DNS name leads to".to_owned(),
        Untried::OtherHour => "it is for another hour".to_owned(),
        Untried::Person => "it takes a person".to_owned(),
        Untried::Unspoken => "a real device would have to understand it".to_owned(),
        Untried::OtherUplink(address) => {
            format!("what comes from {address} by another uplink is answered by its own")
        }
        Untried::UnknownOutside => {
            "the gateway has no address outside that is known, in that family".to_owned()
        }
    }
}

/// The checks of the list that were not tried, and why.
pub(super) fn untried(tour: &Tour<'_, '_>, tried: &[Tried]) -> Vec<Counted> {
    let plan = tour.meaning.plan();
    let mut all: BTreeMap<String, usize> = BTreeMap::new();
    for one in tried {
        let check = &tour.stands[one.stand].checks[one.check];
        let says = match &one.shown {
            _ if check.probe == Probe::Lease => continue,
            Err(untried) => untried_words(plan, untried),
            Ok(Shown::Nothing(reason)) => why(*reason).to_owned(),
            Ok(_) => continue,
        };
        *all.entry(says).or_default() += 1;
    }
    counted(all)
}

/// How much showed nothing, since the gateway did not answer.
pub(super) fn without_control(tried: &[Tried], swept: Option<&Swept>) -> usize {
    let is = |why: &Why| matches!(why, Why::NoControl | Why::NotSent);
    let listed =
        tried.iter().filter(|one| matches!(&one.shown, Ok(Shown::Nothing(why)) if is(why)));
    let swept = swept.into_iter().flat_map(|swept| &swept.nothing);
    let swept: usize = swept.filter(|(why, _)| is(why)).map(|(_, count)| *count).sum();
    listed.count() + swept
}

fn counted(all: BTreeMap<String, usize>) -> Vec<Counted> {
    let mut all: Vec<Counted> =
        all.into_iter().map(|(why, count)| Counted { why, count }).collect();
    all.sort_by_key(|one| std::cmp::Reverse(one.count));
    all
}

/// What came of a sweep, for a sheet.
pub(in crate::commands) fn part(
    rules: &RuleSet,
    stand: &Stand<'_, '_>,
    swept: &Swept,
) -> SweepPart {
    let plan = rules.plan();
    let mut not_shown: BTreeMap<String, usize> = BTreeMap::new();
    for (reason, count) in &swept.nothing {
        *not_shown.entry(why(*reason).to_owned()).or_default() += count;
    }
    let mut not_tried: BTreeMap<String, usize> = BTreeMap::new();
    for (untried, count) in &swept.untried {
        *not_tried.entry(untried_words(plan, untried)).or_default() += count;
    }
    SweepPart {
        tried: swept.tried,
        as_planned: swept.as_planned,
        not_shown: counted(not_shown),
        not_tried: counted(not_tried),
        surprises: grouped(rules, stand, &swept.surprises),
    }
}

/// Surprises of one kind between the same two, against the same entry, as one.
fn grouped(rules: &RuleSet, stand: &Stand<'_, '_>, surprises: &[Surprise]) -> Vec<SurpriseRow> {
    let plan = rules.plan();
    let mut groups: Vec<(String, String, Vec<&Surprise>)> = Vec::new();
    for one in surprises {
        let (from, to) = (source(plan, &one.packet), destination(plan, one.packet.destination()));
        let like = |group: &&mut (String, String, Vec<&Surprise>)| {
            let first = group.2[0];
            (&group.0, &group.1) == (&from, &to)
                && (first.wrong, first.decision.cause) == (one.wrong, one.decision.cause)
                && first.packet.source().is_ipv6() == one.packet.source().is_ipv6()
        };
        match groups.iter_mut().find(like) {
            Some(group) => group.2.push(one),
            None => groups.push((from, to, vec![one])),
        }
    }
    groups.sort_by_key(|group| (!opens(group.2[0].wrong), group.0.clone(), group.1.clone()));
    let rows = groups.into_iter().map(|(from, to, all)| row(rules, stand, (from, to), &all));
    let by_from = together(rows.collect(), |row| &mut row.from, |row| row.to.clone());
    together(by_from, |row| &mut row.to, |row| row.from.clone())
}

/// Rows that differ in one end alone, as one that names all of these ends.
fn together(
    rows: Vec<SurpriseRow>,
    end: impl Fn(&mut SurpriseRow) -> &mut String,
    other: impl Fn(&SurpriseRow) -> String,
) -> Vec<SurpriseRow> {
    let mut joined: Vec<SurpriseRow> = Vec::new();
    for mut row in rows {
        let like = |known: &&mut SurpriseRow| {
            (known.wrong, &known.rule, &known.services) == (row.wrong, &row.rule, &row.services)
                && other(known) == other(&row)
        };
        match joined.iter_mut().find(like) {
            Some(known) => {
                known.count += row.count;
                let name = std::mem::take(end(&mut row));
                let names = end(known);
                if !names.split(", ").any(|own| own == name) {
                    names.push_str(&format!(", {name}"));
                }
            }
            None => joined.push(row),
        }
    }
    joined
}

fn row(
    rules: &RuleSet,
    stand: &Stand<'_, '_>,
    (from, to): (String, String),
    all: &[&Surprise],
) -> SurpriseRow {
    let plan = rules.plan();
    let Surprise { packet, decision, wrong, came } = all[0];
    let line: IntervalSet<ServicePoint> = all.iter().map(|one| one.packet.service).collect();
    let v6 = packet.source().is_ipv6();
    let services = ServiceSet::both(line);
    let rule = rules.first_match(packet).rule.map(|rule| format!("{} ({})", rule.number, rule.id));
    let arrived = came.arrived.as_ref();
    let at = |arrival: &bastium_testbed::cable::Arrival| {
        let port = arrival.port.map(|port| format!(" port {port}")).unwrap_or_default();
        format!("{}{port} in {}", arrival.destination, stand.name(arrival.lane))
    };
    let repeat = Probe::for_service(packet.service)
        .map(|probe| probe.commands(&Target::Address(packet.destination())).linux);
    SurpriseRow {
        wrong: word(*wrong),
        opens: opens(*wrong) || *wrong == Wrong::Refused && to.starts_with("the gateway"),
        from,
        to,
        services: if v6 { over_v6(&services) } else { services.v4_words() },
        count: all.len(),
        source: packet.source().to_string(),
        destination: packet.destination().to_string(),
        arrived_as: arrived.map(|arrival| arrival.source.to_string()),
        arrived_at: arrived.map(at),
        because: CableSheet::because(decision.cause, plan),
        entry: decision.cause.words(plan),
        rule,
        repeat,
    }
}

/// Services in words, with the family.
fn over_v6(services: &ServiceSet) -> Vec<String> {
    services.words().into_iter().map(|word| format!("{word} over IPv6")).collect()
}

fn source(plan: &Plan, packet: &Packet) -> String {
    let (here, owner) = (plan.network_on(packet.enters), plan.network_of(packet.source()));
    if let Some(owner) = owner.filter(|owner| Some(*owner) != here) {
        let here = plan.interface_name(packet.enters);
        return format!("{here} with an address of {}", plan.network(owner).name);
    }
    match here {
        Some(id) => match plan.host_at(packet.source()) {
            Some(host) => host.name.to_string(),
            None => plan.network(id).name.to_string(),
        },
        None => "the internet".to_owned(),
    }
}

fn destination(plan: &Plan, address: IpAddr) -> String {
    if plan.gateway_inside().contains(address) {
        return "the gateway".to_owned();
    }
    if plan.gateway_outside().contains(address) {
        return "the gateway's outside address".to_owned();
    }
    match (plan.host_at(address), plan.network_of(address)) {
        (Some(host), _) => host.name.to_string(),
        (None, Some(id)) => plan.network(id).name.to_string(),
        (None, None) => "the internet".to_owned(),
    }
}

fn word(wrong: Wrong) -> &'static str {
    match wrong {
        Wrong::GetsThrough => "gets_through",
        Wrong::Refused => "refused",
        Wrong::Stopped => "stopped",
        Wrong::NoWayBack => "no_way_back",
        Wrong::Elsewhere => "elsewhere",
        Wrong::NotTranslated => "not_translated",
        Wrong::Translated => "translated",
        Wrong::Silent => "silent",
    }
}

/// What is wrong, beside what came back.
pub(super) fn short(wrong: Wrong, came: &Came) -> Option<String> {
    let arrived = came.arrived.as_ref();
    match wrong {
        Wrong::GetsThrough => arrived.map(|at| format!("it arrived at {}", at.destination)),
        Wrong::NoWayBack => Some("it arrived, but no answer came back".to_owned()),
        Wrong::Elsewhere => arrived.map(|at| format!("it arrived at {}", at.destination)),
        Wrong::NotTranslated | Wrong::Translated => {
            arrived.map(|at| format!("it arrived from {}", at.source))
        }
        Wrong::Refused | Wrong::Stopped | Wrong::Silent => None,
    }
}

/// Whether more gets through than the plan allows.
fn opens(wrong: Wrong) -> bool {
    matches!(wrong, Wrong::GetsThrough | Wrong::Elsewhere | Wrong::NotTranslated)
}
