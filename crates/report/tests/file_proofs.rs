//! The proof of the file for a Linux gateway: what is written holds, whatever the plan is; and whatever is
//! changed in its bytes is refused, or does the same.

#[path = "file_proofs/interpreter.rs"]
mod interpreter;
#[path = "../../core/tests/model/mod.rs"]
mod model;

use bastium_core::addressing::Placeholder;
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, Plan, resolve};
use bastium_core::rules;
use bastium_core::space::Packet;
use bastium_core::verdict::Verdict;
use bastium_gateway::foreign::read_rules;
use bastium_gateway::nftables::{Held, NftOptions, nftables, prove};
use bastium_report::sheets::AuditSheet;
use interpreter::{Fate, File, seen};
use model::packets::{Borders, packet};
use model::{TODAY, any_draft, exception, wired};
use proptest::prelude::*;
use rayon::prelude::*;
use std::sync::atomic::{AtomicUsize, Ordering};

fn demo(name: &str) -> Plan {
    let path = format!("{}/../../demo/{name}", env!("CARGO_MANIFEST_DIR"));
    let bytes = std::fs::read(path).expect("the demo plan is there");
    bastium_planfile::read(name, &bytes).expect("a plan")
}

fn written(meaning: &Meaning<'_>, form: Form) -> String {
    let rules = rules::in_form(meaning, form).expect("this form says everything");
    nftables(&rules, NftOptions::default()).expect("every cable is named")
}

fn reported(held: &Held) -> String {
    let faults = held.faults.iter().take(3).map(|fault| {
        format!(
            "{:?} {:?}: plan {:?}, gateway {:?}, {:?} at {} {}",
            fault.aspect,
            fault.packet,
            fault.plan,
            fault.gateway,
            fault.words,
            fault.at,
            fault.says
        )
    });
    let unread = held.unread.iter().take(5).map(|(at, what)| format!("{at}: {what}"));
    let all: Vec<String> = faults.chain(unread).collect();
    format!("{} faults, {} undecided\n{}", held.faults.len(), held.undecided, all.join("\n"))
}

#[test]
fn the_files_of_the_demo_plans_are_proved() {
    for name in ["clinic.toml", "farm.toml", "bare.toml"] {
        let plan = demo(name);
        let meaning = Meaning::new(&plan, TODAY).expect("it has a meaning");
        for form in [Form::PerPair, Form::OneList] {
            let text = written(&meaning, form);
            if let Err(held) = prove(&meaning, text, NftOptions::default()) {
                panic!("{name} {form:?}: {}", reported(&held));
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(120))]
    #[test]
    fn the_file_of_any_plan_is_proved(draft in any_draft()) {
        let plan = resolve(wired(draft)).expect("the generator writes plans without mistakes");
        let Ok(meaning) = Meaning::new(&plan, TODAY) else { return Ok(()) };
        for form in [Form::PerPair, Form::OneList] {
            let text = written(&meaning, form);
            if let Err(held) = prove(&meaning, text.clone(), NftOptions::default()) {
                prop_assert!(false, "{form:?}: {}", reported(&held));
            }
            // Whoever audits it hears that both agree, and nothing else.
            if form == Form::PerPair {
                let rules = rules::in_form(&meaning, form).expect("this form says everything");
                let foreign = read_rules(&text, Some(&plan)).expect("a rule list");
                let audit = AuditSheet::new(&foreign, Some((&meaning, &rules)));
                prop_assert!(audit.agrees, "{:?}", audit.differences);
                prop_assert!(audit.findings.is_empty(), "{:?}", audit.findings);
            }
        }
    }
}

/// Every way to change a text that a hand or a bad disk might: lines deleted, doubled and moved; numbers, names
/// and operators changed.
fn mutants(text: &str) -> Vec<(String, String)> {
    let lines: Vec<&str> = text.lines().collect();
    let mut all = Vec::new();
    let joined = |lines: &[String]| lines.join("\n") + "\n";
    let owned = || -> Vec<String> { lines.iter().map(|line| (*line).to_owned()).collect() };
    for (place, line) in lines.iter().enumerate() {
        if line.trim().is_empty() || line.trim_start().starts_with('#') {
            continue;
        }
        let mut gone = owned();
        gone.remove(place);
        all.push((format!("deleted {}: {line}", place + 1), joined(&gone)));
        let mut twice = owned();
        twice.insert(place, (*line).to_owned());
        all.push((format!("doubled {}: {line}", place + 1), joined(&twice)));
        if place + 1 < lines.len() {
            let mut moved = owned();
            moved.swap(place, place + 1);
            all.push((format!("moved {}: {line}", place + 1), joined(&moved)));
        }
        for (what, changed) in changed_words(line) {
            let mut other = owned();
            other[place] = changed;
            all.push((format!("{what} {}: {line}", place + 1), joined(&other)));
        }
    }
    all
}

/// A line with one of its words changed, in every way.
fn changed_words(line: &str) -> Vec<(String, String)> {
    let mut found = Vec::new();
    let bytes = line.as_bytes();
    let mut start = 0;
    while start < bytes.len() {
        if !bytes[start].is_ascii_digit() {
            start += 1;
            continue;
        }
        let mut end = start;
        while end < bytes.len() && bytes[end].is_ascii_digit() {
            end += 1;
        }
        if let Ok(number) = line[start..end].parse::<u64>() {
            for other in [number + 1, number.saturating_sub(1)] {
                if other != number {
                    let changed = format!("{}{other}{}", &line[..start], &line[end..]);
                    found.push((format!("{number} -> {other}"), changed));
                }
            }
        }
        start = end;
    }
    for (from, to) in [
        ("accept", "drop"),
        ("drop", "accept"),
        ("drop", "reject"),
        ("saddr", "daddr"),
        ("daddr", "saddr"),
        ("iifname", "oifname"),
        ("oifname", "iifname"),
        ("tcp", "udp"),
        ("udp", "tcp"),
        ("dport", "sport"),
        ("ip ", "ip6 "),
        ("ip6 ", "ip "),
        ("!= ", ""),
        ("ip saddr ", "ip saddr != "),
        ("jump", "goto"),
        ("goto", "jump"),
        ("established,related", "established"),
        ("established,related", "new"),
        ("invalid", "new"),
        ("input", "forward"),
        ("forward", "input"),
        ("filter hook", "nat hook"),
        ("priority filter", "priority raw"),
        ("policy drop", "policy accept"),
        ("dnat ip to", "snat ip to"),
        ("masquerade", "accept"),
        ("log prefix", "log flags all prefix"),
        ("counter log", "log"),
        ("reset", "admin-prohibited"),
        ("admin-prohibited", "port-unreachable"),
        ("local", "broadcast"),
        ("Monday", "Sunday"),
        ("interval", "timeout"),
        ("ifname", "ipv4_addr"),
        ("ipv4_addr", "ipv6_addr"),
        ("limit rate over", "limit rate"),
        ("over", ""),
        (",", ""),
        ("{", ""),
        ("inet bastium", "ip bastium"),
        ("delete table", "flush table"),
        ("set", "map"),
        ("a", "b"),
    ] {
        if line.contains(from) {
            found.push((format!("{from} -> {to}"), line.replacen(from, to, 1)));
        }
    }
    found
}

/// A plan with something of everything, and small enough that its file can be changed a thousand times.
fn of_everything() -> Plan {
    let mut draft = model::frame_of(true, true, true);
    model::extend(&mut draft);
    draft.inbounds = model::offer(1);
    let zones = ["staff", "guests", "tills", "internet"];
    let rows = ["block allow+log reject allow", "block block block allow", "block - block block"];
    let rows: Vec<String> =
        zones.iter().zip(rows).map(|(zone, row)| format!("{zone} {row}")).collect();
    let grid =
        format!("{}\n{}\ninternet block allow block block\n", zones.join(" "), rows.join("\n"));
    draft.matrix.grid = Some(model::text(&grid));
    let mut early = exception("early", "kiosk", "label-printer", "tcp/80-90", "allow");
    early.hours = Some(model::text("early"));
    let mut slow = exception("slow", "desks", "register", "any", "allow");
    slow.limit_mbps = model::located(8.0);
    let mail = exception("no-mail", "gateway", "internet", "tcp/25", "reject");
    let names = exception("no-names", "waiting-room", "gateway", "dns", "block");
    draft.exceptions = vec![early, slow, mail, names];
    resolve(wired(draft)).expect("a plan")
}

/// At least a thousand changes of the bytes: each is refused, or does the same. That it does the same is held
/// against an interpreter that knows nothing of the proof.
#[test]
fn whatever_is_changed_in_a_file_is_refused_or_does_the_same() {
    let plan = of_everything();
    let meaning = Meaning::new(&plan, TODAY).expect("it has a meaning");
    let rules = rules::in_form(&meaning, Form::PerPair).expect("this form says everything");
    let text = written(&meaning, Form::PerPair);
    let proof = prove(&meaning, text.clone(), NftOptions::default());
    assert!(proof.is_ok(), "{}", proof.err().map(|held| reported(&held)).unwrap_or_default());
    let borders = Borders::of(&plan, &rules);
    let mut seed = 11;
    let packets = (0..8_000).map(|_| packet(&borders, &plan, &mut seed));
    // What only stands for an address is none that a packet can have.
    let real = |packet: &Packet| {
        [packet.source(), packet.destination()].into_iter().all(|a| Placeholder::of(a).is_none())
    };
    let packets: Vec<Packet> = packets.filter(real).collect();
    let fates = |text: &str| -> Vec<(Packet, Fate)> {
        let file = File::read(text);
        let seen = packets.iter().filter_map(|packet| Some((*packet, seen(&plan, packet)?)));
        seen.map(|(packet, (hook, seen))| (packet, file.carry_out(hook, &seen))).collect()
    };
    let original = fates(&text);
    agrees_with_the_plan(&meaning, &original);
    let all = mutants(&text);
    let step = (all.len() / 1_200).max(1);
    let chosen: Vec<(String, String)> = all.into_iter().step_by(step).collect();
    let kept = AtomicUsize::new(0);
    chosen.par_iter().for_each(|(what, mutant)| {
        if prove(&meaning, mutant.clone(), NftOptions::default()).is_ok() {
            kept.fetch_add(1, Ordering::Relaxed);
            let now = fates(mutant);
            let other = original.iter().zip(&now).find(|((packet, old), (_, new))| {
                old != new && meaning.decide(packet).verdict.is_filtered()
            });
            assert!(other.is_none(), "taken for the same: {what}\n{other:?}");
        }
    });
    let (tried, kept) = (chosen.len(), kept.into_inner());
    assert!(tried >= 1_000 && kept * 2 < tried, "{tried} changes, {kept} of them change nothing");
}

/// The interpreter itself says what the plan says.
fn agrees_with_the_plan(meaning: &Meaning<'_>, fates: &[(Packet, Fate)]) {
    let mut compared = 0;
    for (packet, fate) in fates {
        let decision = meaning.decide(packet);
        let plan = meaning.plan();
        let own = plan.gateway_addresses();
        let from_itself = own.contains(packet.source());
        if !decision.verdict.is_filtered() || meaning.translate(packet).is_some() || from_itself {
            continue;
        }
        compared += 1;
        let verdict = match decision.verdict {
            Verdict::Allow => "accept",
            Verdict::Reject => "reject",
            _ => "drop",
        };
        assert!(
            fate.verdict.starts_with(verdict) && fate.logged == decision.logged,
            "{packet:?}: {decision:?} {fate:?}"
        );
    }
    assert!(compared > 1_000, "{compared}");
}
