//! The proof of the file for a Linux gateway: what is written holds, whatever the plan is; and whatever is
//! changed in its bytes is refused, or does the same.

#[path = "../../core/tests/model/mod.rs"]
mod model;

use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, Plan, resolve};
use bastium_core::rules;
use bastium_export::nftables::{Held, NftOptions, nftables, prove};
use model::{TODAY, any_draft, wired};
use proptest::prelude::*;

fn demo(name: &str) -> Plan {
    let path = format!("{}/../../demo/{name}", env!("CARGO_MANIFEST_DIR"));
    let bytes = std::fs::read(path).expect("the demo plan is there");
    bastium_planfile::read(name, &bytes).expect("a plan")
}

fn written(meaning: &Meaning<'_>, form: Form) -> String {
    let rules = rules::in_form(meaning, form).expect("this form says everything");
    nftables(meaning.plan(), &rules, NftOptions::default()).expect("every cable is named")
}

fn told(held: &Held) -> String {
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
                panic!("{name} {form:?}: {}", told(&held));
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
                std::fs::write("/tmp/failed.nft", &text).ok();
                prop_assert!(false, "{form:?}: {}", told(&held));
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

#[test]
#[ignore = "to look at"]
fn look() {
    let plan = demo("clinic.toml");
    let meaning = Meaning::new(&plan, TODAY).expect("it has a meaning");
    let text = written(&meaning, Form::PerPair);
    let all = mutants(&text);
    let (mut kept, total) = (0, all.len());
    let step = 7;
    for (what, mutant) in all.into_iter().step_by(step) {
        if prove(&meaning, mutant, NftOptions::default()).is_ok() {
            kept += 1;
            println!("KEPT {what}");
        }
    }
    println!("{kept} kept of {}", total / step);
}
