//! From one list to another by what differs alone: the kernel then holds just what the whole file gives it.

use crate::model::{TODAY, any_draft, wired};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, draft::Draft, resolve};
use bastium_core::rules;
use bastium_gateway::nftables::{self, NftOptions, RunningTable, TABLE};
use bastium_testbed::kernel::space::Space;
use proptest::strategy::{Strategy, ValueTree};
use proptest::test_runner::TestRunner;
use std::io::Write;
use std::process::{Command, Stdio};
use std::time::Instant;

/// Goes from each of so many plans to another, and to one that differs in an entry.
pub(crate) fn all(runner: &mut TestRunner, wanted: usize) {
    let begun = Instant::now();
    let (mut pairs, mut kept, mut whole) = (0, 0, 0);
    while pairs < wanted {
        let draft =
            |runner: &mut TestRunner| any_draft().new_tree(runner).expect("a draft").current();
        let old = draft(runner);
        let mut near = old.clone();
        if near.exceptions.pop().is_none() {
            continue;
        }
        let far = draft(runner);
        let Some(first) = written(old) else { continue };
        for next in [near, far].into_iter().filter_map(written) {
            let [there, back] =
                [(&first, &next), (&next, &first)].map(|(from, to)| changed(from, to));
            pairs += 2;
            for one in [there, back] {
                match one {
                    Some(rules) => kept += rules,
                    None => whole += 1,
                }
            }
        }
    }
    println!(
        "{pairs} changes by what differs in {:.1?}: {kept} rules stayed, {whole} tables as a whole",
        begun.elapsed()
    );
    assert!(kept > pairs && whole < pairs / 4, "{kept} {whole}");
}

fn written(draft: Draft) -> Option<String> {
    let plan = resolve(wired(draft)).ok()?;
    let meaning = Meaning::new(&plan, TODAY).ok()?;
    let rules = rules::in_form(&meaning, Form::PerPair).ok()?;
    let file = nftables::proven(&meaning, &rules, NftOptions::default()).ok()?;
    Some(file.text().to_owned())
}

/// Loads one list, goes to the other, and holds it against the other loaded whole. Returns how many rules stayed.
fn changed(from: &str, to: &str) -> Option<usize> {
    let (gateway, other) = (Space::new().expect("a namespace"), Space::new().expect("a namespace"));
    nft(&gateway, &["-f", "-"], from);
    let found = "add element inet bastium";
    let domains: Vec<&str> =
        sets(from).filter(|name| name.starts_with("domain_") && name.ends_with("_v4")).collect();
    for name in &domains {
        nft(&gateway, &["-f", "-"], &format!("{found} {name} {{ 203.0.113.9 }}\n"));
    }
    let list = |space: &Space, more: &[&str]| {
        nft(space, &[more, &["list", "table", "inet", TABLE]].concat(), "")
    };
    let (listing, handles) = (list(&gateway, &[]), list(&gateway, &["-a", "-s"]));
    let change = nftables::transaction(RunningTable::new(&listing, &handles, Some(from)), to);
    nft(&gateway, &["-f", "-"], &change.text);
    nft(&other, &["-f", "-"], to);
    for name in domains.iter().filter(|name| sets(to).any(|one| one == **name)) {
        nft(&other, &["-f", "-"], &format!("{found} {name} {{ 203.0.113.9 }}\n"));
    }
    let (by_change, as_a_whole) = (list(&gateway, &["-s"]), list(&other, &["-s"]));
    let (one, two) = (blocks(&by_change), blocks(&as_a_whole));
    for (one, two) in one.iter().zip(&two) {
        let differs: Vec<_> = one.iter().zip(two).filter(|(one, two)| one != two).collect();
        assert!(one == two, "{} {} {differs:#?}", one[0], two[0]);
    }
    assert_eq!(one.len(), two.len(), "{}", change.text);
    change.kept
}

fn sets(file: &str) -> impl Iterator<Item = &str> {
    file.lines().filter_map(|line| line.strip_prefix("\tset ")?.strip_suffix(" {"))
}

/// The parts of a table, by name. A chain has an order; a set has none, and is printed in any.
fn blocks(listing: &str) -> Vec<Vec<String>> {
    let mut blocks: Vec<Vec<String>> = Vec::new();
    let says = |line: &&str| !matches!(line.trim(), "" | "}");
    for line in listing.lines().filter(says) {
        match blocks.last_mut() {
            Some(block)
                if !line.starts_with("\tset ")
                    && !line.starts_with("\tmap ")
                    && !line.starts_with("\tchain ")
                    && !line.starts_with("\tlimit ") =>
            {
                block.push(line.trim().to_owned())
            }
            _ => blocks.push(vec![line.to_owned()]),
        }
    }
    for block in blocks.iter_mut().filter(|block| !block[0].starts_with("\tchain ")) {
        let words = block[1..].iter().flat_map(|line| line.split_whitespace());
        let mut words: Vec<String> = words.map(|word| word.trim_matches(',').to_owned()).collect();
        words.sort_unstable();
        block.truncate(1);
        block.append(&mut words);
    }
    blocks.sort_unstable();
    blocks
}

fn nft(space: &Space, words: &[&str], input: &str) -> String {
    let mut command = Command::new("nft");
    command.args(words).env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin");
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = space.within(|| command.spawn()).expect("nft");
    child.stdin.take().expect("its input").write_all(input.as_bytes()).expect("it reads");
    let done = child.wait_with_output().expect("nft");
    assert!(done.status.success(), "{}\n{input}", String::from_utf8_lossy(&done.stderr));
    String::from_utf8_lossy(&done.stdout).into_owned()
}
