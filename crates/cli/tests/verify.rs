//! What a gateway runs and counts, compared with a plan and a walk.

mod common;

use common::{Bench, Run};
use serde_json::Value;

/// A bench with the bare plan, a walk in which all went well, and a gateway that counted it.
fn walked() -> Bench {
    let bench = Bench::new();
    let mut walk = bench.command();
    walk.args(["walk", "--plan", "bare.toml", "--day", common::DAY, "--by", "Kim"]);
    let run = Run::of(walk.write_stdin("p\n".repeat(200)));
    assert!(run.out.contains("passed"), "{}{}", run.out, run.err);
    gateway(&bench, "");
    bench
}

/// Writes down what a gateway with the exported rules prints, once it has counted.
fn gateway(bench: &Bench, form: &str) {
    let rules =
        bench.run(&format!("export nftables --plan bare.toml --day {} {form}", common::DAY));
    bench.write(
        "running.nft",
        rules
            .out
            .replace(" counter ", " counter packets 60 bytes 3600 ")
            .replace("\tcounter ", "\tcounter packets 60 bytes 3600 "),
    );
}

fn verify(bench: &Bench, words: &str) -> (Value, i32) {
    let run =
        bench.run(&format!("verify --plan bare.toml --day {} --format json {words}", common::DAY));
    (run.json(), run.code)
}

fn faults(sheet: &Value) -> String {
    sheet["faults"].to_string()
}

#[test]
fn a_gateway_that_did_what_the_walk_saw_is_verified() {
    let bench = walked();
    for form in ["--form per-pair", "--form one-list"] {
        gateway(&bench, form);
        let (sheet, code) = verify(&bench, "--running running.nft");
        assert_eq!((code, &sheet["verified"]), (0, &true.into()), "{form}: {sheet:#}");
        let counters = sheet["counters"].as_array().expect("rows");
        assert!(counters.len() > 3, "{sheet:#}");
        assert!(counters.iter().all(|row| row["packets"].as_u64() >= Some(60)), "{sheet:#}");
        assert!(sheet["not_tried"].to_string().contains("log was not given"), "{sheet:#}");
        assert!(!sheet["not_tried"].to_string().contains("looks up"), "{sheet:#}");
    }
    // The addresses of domains stand in no rule.
    bench.write("clinic.nft", bench.clinic("export nftables").out);
    let sheet = bench.clinic("verify --running clinic.nft --format json").json();
    let says = "what the gateway's name server looks up for phone-provider.";
    assert!(sheet["not_tried"].to_string().contains(says), "{sheet:#}");
}

#[test]
fn whatever_is_otherwise_takes_that_away() {
    let bench = walked();
    let running = std::fs::read_to_string(bench.file("running.nft")).expect("rules");
    let (sheet, _) = verify(&bench, "--running running.nft");
    // Each rule that a check passed by is missed where it has counted nothing.
    for row in sheet["counters"].as_array().expect("rows") {
        let rule = row["rule"].as_str().expect("an id");
        let lines =
            running.lines().map(|line| match line.contains(&format!("comment \"{rule}\"")) {
                true => line.replace("packets 60 bytes 3600", "packets 0 bytes 0"),
                false => line.to_owned(),
            });
        bench.write("none.nft", lines.collect::<Vec<_>>().join("\n") + "\n");
        let (sheet, code) = verify(&bench, "--running none.nft");
        assert_eq!(code, 1, "{rule}");
        assert!(faults(&sheet).contains(&format!("{rule} has counted no packet")), "{sheet:#}");
        // Nor can it have counted fewer packets than there were checks.
        let fewest = row["at_least"].as_u64().expect("a number");
        let counted = |packets: u64| {
            let lines =
                running.lines().map(|line| match line.contains(&format!("comment \"{rule}\"")) {
                    true => line.replace("packets 60 bytes", &format!("packets {packets} bytes")),
                    false => line.to_owned(),
                });
            bench.write("few.nft", lines.collect::<Vec<_>>().join("\n") + "\n");
            verify(&bench, "--running few.nft").1
        };
        let lines = running.matches(&format!("comment \"{rule}\"")).count() as u64;
        assert_eq!(counted(fewest), 0, "{rule}");
        if fewest > lines {
            assert_eq!(counted((fewest - 1) / lines), 1, "{rule}");
        }
    }
    bench.write(
        "open.nft",
        running.replacen(
            "jump opening",
            "tcp dport 4444 counter packets 9 bytes 9 accept\n\t\tjump opening",
            1,
        ),
    );
    let (sheet, code) = verify(&bench, "--running open.nft");
    assert_eq!(code, 1);
    assert!(sheet["differences"].to_string().contains("4444"), "{sheet:#}");
    bench.write("nothing.nft", "table inet bastium {\n}\n");
    assert_eq!(verify(&bench, "--running nothing.nft").1, 1);
    bench.write("empty.jsonl", "");
    let (sheet, code) = verify(&bench, "--running running.nft --results empty.jsonl");
    assert_eq!(code, 1);
    assert!(faults(&sheet).contains("No check of the walk has passed"), "{sheet:#}");
    // A line that cannot be read may have been one that failed.
    let results = std::fs::read_to_string(bench.file("bare.walk.jsonl")).expect("results");
    bench.write("torn.jsonl", results.clone() + "{\"bastium\":1,\"id\":\"cell");
    let (sheet, code) = verify(&bench, "--running running.nft --results torn.jsonl");
    assert_eq!(code, 1);
    assert!(faults(&sheet).contains("1 line of the results cannot be read"), "{sheet:#}");
    // A failed check, by somebody else and later.
    let results = std::fs::read_to_string(bench.file("bare.walk.jsonl")).expect("results");
    let last = results.lines().last().expect("a result");
    let failed =
        last.replace("\"pass\"", "\"fail\"").replace("\"seen\":\"silence\"", "\"seen\":\"reply\"");
    assert_ne!(last, failed);
    bench.write("others.jsonl", results.clone() + &failed);
    let (sheet, code) = verify(&bench, "--running running.nft --results others.jsonl");
    assert_eq!(code, 1);
    assert!(faults(&sheet).contains("1 check of the walk failed"), "{sheet:#}");
}

#[test]
fn the_log_has_to_name_what_was_hit_and_is_logged() {
    let bench = walked();
    let (sheet, _) = verify(&bench, "--running running.nft");
    let logged =
        sheet["counters"].as_array().expect("rows").iter().filter(|row| row["logs"] == true);
    let tags: Vec<&str> = logged.filter_map(|row| row["rule"].as_str()).collect();
    assert!(!tags.is_empty(), "{sheet:#}");
    let line = |tag: &str| {
        format!(
            "Nov 24 09:00:00 gw kernel: bastium {tag}: IN=lan1.24 OUT=wan1 SRC=10.44.24.100 DST=192.0.2.9 PROTO=TCP SPT=1 DPT=23 SYN\n"
        )
    };
    let all: String = tags.iter().map(|tag| line(tag)).collect();
    bench.write("all.log", &all);
    let (sheet, code) = verify(&bench, "--running running.nft --log all.log");
    assert_eq!(code, 0, "{sheet:#}");
    assert_eq!(sheet["log"].as_array().map(Vec::len), Some(tags.len()), "{sheet:#}");
    bench.write("more.log", all.clone() + &line("cell.nobody>nowhere"));
    let (sheet, code) = verify(&bench, "--running running.nft --log more.log");
    assert_eq!(code, 1, "{sheet:#}");
    assert!(faults(&sheet).contains("cell.nobody>nowhere, which is no rule"), "{sheet:#}");
    bench.write("less.log", all.replacen(&line(tags[0]), "", 1));
    let (sheet, code) = verify(&bench, "--running running.nft --log less.log");
    assert_eq!(code, 1);
    assert!(
        faults(&sheet).contains(&format!("{} was hit and is to be logged", tags[0])),
        "{sheet:#}"
    );
}

#[test]
fn the_page_is_kept_with_what_it_rests_on() {
    let bench = walked();
    let words = format!(
        "verify --plan bare.toml --day {} --running running.nft --page kept.md",
        common::DAY
    );
    let run = bench.run(&words);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    assert!(run.out.starts_with("Verified: "), "{}", run.out);
    let page = std::fs::read_to_string(bench.file("kept.md")).expect("the page");
    for file in ["bare.toml", "running.nft", "bare.walk.jsonl"] {
        let sum = std::process::Command::new("sha256sum")
            .arg(bench.file(file))
            .output()
            .expect("sha256sum");
        let sum = String::from_utf8_lossy(&sum.stdout)
            .split(' ')
            .next()
            .map(str::to_owned)
            .expect("a sum");
        assert!(page.contains(&sum) && run.out.contains(&sum), "{file}: {page}");
    }
    assert_eq!(bench.run(&words).code, 2, "it is not overwritten");
    assert_eq!(bench.run(&format!("{words} --force")).code, 0);
}
