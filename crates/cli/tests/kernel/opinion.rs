//! The test itself, run inside.

use crate::model::packets::{Borders, packet};
use crate::model::{TODAY, any_draft, wired};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Form, Plan, resolve};
use bastium_core::proof;
use bastium_core::rules::{self, RuleSet, Surroundings};
use bastium_core::space::{Minute, Packet, Protocol};
use bastium_core::verdict::{Cause, Decision, Verdict};
use bastium_gateway::foreign::read_rules;
use bastium_gateway::nftables::{self, NftOptions, TABLE, tag};
use bastium_report::sheets::AuditSheet;
use bastium_testbed::kernel::filter;
use bastium_testbed::kernel::frame::Raw;
use bastium_testbed::kernel::space::{self, Entered, Space};
use bastium_testbed::layout::Layout;
use bastium_testbed::site::{Fate, Judged, Site};
use proptest::strategy::{Strategy, ValueTree};
use proptest::test_runner::{Config, RngSeed, TestRunner};
use std::fmt::Write as _;
use std::net::IpAddr;
use std::time::Instant;

/// How many packets are tried where nobody says.
const FEW: usize = 20_000;
/// How many plans are rehearsed where nobody says.
const FEW_PLANS: usize = 25;
/// How many packets for each plan.
const EACH: usize = 800;

pub(crate) fn main() {
    match space::enter() {
        Ok(Entered::Inside) => {}
        Ok(Entered::Outside(status)) => {
            assert!(status.success(), "the kernel and the plan differ");
            return;
        }
        Err(why) => {
            assert!(std::env::var("BASTIUM_KERNEL_NEEDED").is_err(), "{why}");
            eprintln!("skipped: {why}");
            return;
        }
    }
    let wanted = std::env::var("BASTIUM_KERNEL_PACKETS").ok();
    let wanted = wanted.and_then(|words| words.parse().ok()).unwrap_or(FEW);
    let seed = std::env::var("BASTIUM_KERNEL_SEED").ok();
    let seed = seed.and_then(|words| words.parse().ok()).unwrap_or(20_261_125);
    let mut runner =
        TestRunner::new(Config { rng_seed: RngSeed::Fixed(seed), ..Config::default() });
    let begun = Instant::now();
    let mut tally = Tally::default();
    while tally.packets < wanted {
        let draft = any_draft().new_tree(&mut runner).expect("a draft").current();
        let Ok(plan) = resolve(wired(draft)) else { continue };
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { continue };
        for form in [Form::PerPair, Form::OneList] {
            try_plan(&plan, &meaning, form, seed + tally.plans, &mut tally);
        }
    }
    let took = begun.elapsed();
    accepted(&mut runner, wanted / 200);
    println!("{} lists with a line less, {} noticed", tally.damaged, tally.noticed);
    assert!(tally.noticed == tally.damaged && tally.damaged > 0, "a missing line goes unseen");
    let Tally { plans, packets, passed, dropped, rejected, unasked, .. } = tally;
    println!(
        "{packets} packets on {plans} sites in {took:.1?}: {passed} passed, {dropped} dropped, \
         {rejected} rejected, {unasked} never came to a rule"
    );
    assert!(passed > wanted / 20 && rejected > wanted / 100 && dropped > wanted / 10);
    assert!(tally.different.is_empty(), "{} differ", tally.different.len());
    let plans = std::env::var("BASTIUM_KERNEL_PLANS").ok();
    let plans = plans.and_then(|words| words.parse().ok()).unwrap_or(FEW_PLANS);
    crate::rehearsals::all(&mut runner, plans);
    crate::differences::all(&mut runner, 4 * plans);
}

/// What came of it.
#[derive(Debug, Default)]
struct Tally {
    plans: u64,
    packets: usize,
    passed: usize,
    dropped: usize,
    rejected: usize,
    unasked: usize,
    /// Lists with a line less, and those of them of which it was noticed.
    damaged: usize,
    noticed: usize,
    different: Vec<String>,
}

fn try_plan(plan: &Plan, meaning: &Meaning<'_>, form: Form, seed: u64, tally: &mut Tally) {
    let rules = rules::in_form(meaning, form).expect("this form says everything");
    let at = Minute::new(if seed.is_multiple_of(2) { 390 } else { 1500 });
    let mut text = nftables::nftables(&rules, NftOptions::at(at)).expect("every cable is named");
    let layout = Layout::of(plan, []).expect("every cable is named");
    for domain in plan.domains() {
        let [v4, v6] = domain.placeholder.addresses().map(|address| layout.real(address));
        let name = &domain.name;
        let _ = writeln!(text, "add element inet {TABLE} domain_{name}_v4 {{ {v4} }}");
        let _ = writeln!(text, "add element inet {TABLE} domain_{name}_v6 {{ {v6} }}");
    }
    let mut site = Site::build(&layout.wires).unwrap_or_else(|why| panic!("{why}"));
    if let Err(why) = site.load(&text) {
        std::fs::write("/tmp/refused.nft", &text).expect("a place to look at it");
        panic!("{why}");
    }
    read_back(plan, meaning, form, &site, tally);
    let borders = Borders::of(plan, &rules);
    let mut seed = seed;
    let mut packets: Vec<Packet> = Vec::new();
    let around = Surroundings::of(plan);
    // Most random packets are spoofed or have no way: of these only a part.
    let mut room = EACH / 4;
    for _ in 0..EACH * 40 {
        let mut packet = packet(&borders, plan, &mut seed);
        packet.at = at;
        if packet.enters >= plan.gateway_interface() {
            continue;
        }
        let true_source = around.sources[usize::from(packet.enters.0)].contains(packet.source());
        let filtered = true_source && meaning.decide(&packet).verdict.is_filtered();
        if !filtered && room == 0 {
            continue;
        }
        room -= usize::from(!filtered);
        packets.push(packet);
        if packets.len() == EACH {
            break;
        }
    }
    let raw: Vec<(usize, Raw)> = packets
        .iter()
        .zip(40_000..)
        .filter_map(|(packet, port)| layout.by_hand(plan, packet, port))
        .collect();
    assert_eq!(raw.len(), packets.len(), "every packet comes by a cable");
    let judged = site.judge(&raw).expect("the kernel tells");
    tally.plans += 1;
    tally.packets += packets.len();
    for ((packet, judged), raw) in packets.iter().zip(judged).zip(&raw) {
        // On a busy machine a trace comes late, and is taken for another packet's. What differs differs again.
        let late = differs(&rules, packet, meaning.decide(packet), &judged).is_some();
        let again = late.then(|| site.judge(std::slice::from_ref(raw)).expect("the kernel tells"));
        let judged = again.and_then(|mut again| again.pop()).unwrap_or(judged);
        match judged.fate {
            Fate::Passes => tally.passed += 1,
            Fate::Dropped => tally.dropped += 1,
            Fate::Rejected => tally.rejected += 1,
            Fate::NeverAsked => tally.unasked += 1,
        }
        let decision = meaning.decide(packet);
        if let Some(why) = differs(&rules, packet, decision, &judged) {
            let says = format!(
                "{form:?}: {} entering {}: {why}; the plan: {decision:?}; the kernel: {judged:?}",
                plan.packet_words(packet),
                plan.interface_name(packet.enters),
            );
            if tally.different.is_empty() {
                let file = concat!(env!("CARGO_TARGET_TMPDIR"), "/differs.nft");
                let _ = std::fs::write(file, &text);
            }
            if tally.different.len() < 12 {
                eprintln!("{says}");
            }
            tally.different.push(says);
        }
    }
}

/// What the kernel prints of the rules is compared with the plan, exactly: nothing may differ. With one line
/// taken away something must, unless that line changes nothing.
fn read_back(plan: &Plan, meaning: &Meaning<'_>, form: Form, site: &Site, tally: &mut Tally) {
    let printed = site.gateway.within(|| Ok(filter::printed()?)).expect("the filter prints");
    let rules = rules::in_form(meaning, form).expect("this form says everything");
    let look = |text: &str| {
        let foreign = read_rules(text, Some(plan)).expect("a rule list");
        AuditSheet::new(&foreign, Some((meaning, &rules))).differences
    };
    // Rules that were fixed to one time hold at all times now.
    if rules.rules().any(|rule| rule.hours.is_some()) {
        return;
    }
    for difference in look(&printed).iter().take(3) {
        let says = format!("{form:?}, read back: {}", difference.says);
        eprintln!("{says}");
        tally.different.push(says);
    }
    let singles = proof::singles(meaning, &rules);
    let mut allows = rules.rules().filter(|rule| {
        rule.action == Action::Allow
            && rule.packets().is_some()
            && !singles.shadowed.iter().any(|idle| idle.rule.id == rule.id)
            && !singles.redundant.iter().any(|idle| idle.rule.id == rule.id)
    });
    let Some(rule) = allows.next().filter(|_| singles.undecided == 0) else { return };
    let mut json: serde_json::Value = serde_json::from_str(&printed).expect("JSON");
    let objects = json["nftables"].as_array_mut().expect("objects");
    let before = objects.len();
    objects.retain(|object| object["rule"]["comment"] != tag(&rule.id.to_string()).as_str());
    if objects.len() < before {
        tally.damaged += 1;
        tally.noticed += usize::from(!look(&json.to_string()).is_empty());
    }
}

/// Whether the filter's tool takes what is exported, for many more plans than are tried with packets.
fn accepted(runner: &mut TestRunner, count: usize) {
    let space = Space::new().expect("a namespace");
    for _ in 0..count {
        let draft = any_draft().new_tree(runner).expect("a draft").current();
        let Ok(plan) = resolve(wired(draft)) else { continue };
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { continue };
        for form in [Form::PerPair, Form::OneList] {
            let rules = rules::in_form(&meaning, form).expect("this form says everything");
            let text = nftables::nftables(&rules, NftOptions::default());
            let text = text.expect("every cable is named");
            let checked = space.within(|| Ok(filter::check(&text)?));
            checked.unwrap_or_else(|why| panic!("{why}\n{text}"));
        }
    }
}

/// Why what the kernel did is not what the plan means; `None` if it is.
fn differs(
    rules: &RuleSet,
    packet: &Packet,
    decision: Decision,
    judged: &Judged,
) -> Option<&'static str> {
    let fate = judged.fate;
    let spoofed = matches!(decision.cause, Cause::Spoofed(..));
    // Without a source the kernel takes only what is for everyone.
    let nobody = packet.source() == IpAddr::from([0, 0, 0, 0]);
    let outside_law = begins_nothing(packet) || judged.by.as_deref() == Some("no_conversation");
    match decision.verdict {
        Verdict::NotRouted => return None,
        Verdict::Allow if fate == Fate::Passes => {}
        Verdict::Allow if outside_law => return None,
        Verdict::Allow if fate == Fate::NeverAsked && nobody => return None,
        Verdict::Allow => return Some("it does not pass"),
        Verdict::Block if fate == Fate::Dropped => {}
        Verdict::Block if fate == Fate::NeverAsked && (spoofed || nobody) => return None,
        Verdict::Block => return Some("it is not dropped"),
        Verdict::Reject if fate == Fate::Rejected => {}
        Verdict::Reject if outside_law => return None,
        Verdict::Reject => return Some("it is not rejected"),
        Verdict::NoRoute if matches!(fate, Fate::Dropped | Fate::NeverAsked) => return None,
        Verdict::NoRoute => return Some("there is no way for it"),
    }
    if outside_law || fate == Fate::NeverAsked {
        return None;
    }
    let expected = rules.first_match(packet).rule.map(|rule| tag(&rule.id.to_string()));
    (judged.by != expected).then_some("another rule decides")
}

/// Whether it is a message that begins no conversation, which the kernel counts as belonging to none.
fn begins_nothing(packet: &Packet) -> bool {
    let Some((kind, _)) = packet.service.icmp_kind() else {
        return packet.service.protocol() == Protocol(0);
    };
    match packet.service.protocol() {
        Protocol::ICMP => ![8, 13, 15, 17].contains(&kind),
        _ => ![128, 130, 131, 132, 133, 134, 135, 136, 137, 139, 143].contains(&kind),
    }
}
