//! Files that are no plans, and plans that mean harm.

mod common;

use common::{Bench, Run, demo};

/// What nobody wants on a terminal: an escape, a bell, a turned direction, a line of its own.
const HARM: &str = "\\u001b[2J\\u0007\\u202e\\n| =1+1 <b> `x`";

fn harmful() -> String {
    demo("bare.toml")
        .replace("name = \"Two networks\"", &format!("name = \"{HARM}\""))
        .replace("why = \"People print\"", &format!("why = \"{HARM}\""))
        .replace("[zone.people]\n", &format!("[zone.people]\nabout = \"{HARM}\"\n"))
}

/// The clinic with harm wherever a text of the newer tables is free.
fn harmful_clinic() -> String {
    let mut plan = demo("clinic.toml");
    for (good, bad) in [
        ("name = \"Fernside Guests\"", "name = \"\\u001b[2J\\u202e=1+1\"".to_owned()),
        ("why = \"Clients book from home\"", format!("why = \"{HARM}\"")),
        ("[switch.rack]\n", format!("[switch.rack]\nabout = \"{HARM}\"\n")),
        ("[stream.recording]\n", format!("[stream.recording]\nabout = \"{HARM}\"\n")),
        ("[never.guests-see-inside]\n", format!("[never.guests-see-inside]\nwhy = \"{HARM}\"\n")),
    ] {
        assert!(plan.contains(good), "{good}");
        plan = plan.replacen(good, &bad, 1);
    }
    format!("{plan}\n[known]\nno-dhcp = \"{HARM}\"\n\"{HARM}\" = \"x\"\n")
}

#[test]
fn the_newer_tables_can_do_no_harm_either() {
    let bench = Bench::new();
    bench.write("harm.toml", harmful_clinic());
    for command in [
        "ports",
        "check",
        "rules",
        "rules --find booking",
        "ask internet booking https",
        "checklist",
        "addresses --free",
        "services print",
        "explain no-dhcp",
        "set network desks hosts=19 --dry-run",
        "rename desks tables --dry-run",
        "remove inbound booking --dry-run",
        "matrix --draft",
    ] {
        does_no_harm(&bench, command);
    }
    let sarif = bench.run("check --sarif --plan harm.toml");
    assert!(sarif.code == 1 && is_harmless(&sarif.out), "{:?}", sarif.out);
    let csv = bench.run("ports --plan harm.toml --format csv").out;
    assert!(csv.contains("\\u{1b}[2J\\u{202e}=1+1"), "{csv}");
    bench.write(
        "harm.csv",
        format!("name,ip,network\n\u{1b}[2J\u{202e},10.44.24.9,desks\nx,{},desks\n", "=\u{7}1"),
    );
    let table = bench.run("add host --table harm.csv --plan harm.toml --dry-run");
    assert!(is_harmless(&table.out) && is_harmless(&table.err), "{:?} {:?}", table.out, table.err);
    for words in [
        ["set", "network", "desks", "about=\u{1b}[2J"],
        ["add", "host", "\u{1b}[2J", "network=desks"],
        ["rename", "desks", "\u{202e}x", "--dry-run"],
        ["explain", "\u{1b}[2J", "--plan", "harm.toml"],
        ["services", "\u{1b}[2J", "--plan", "harm.toml"],
    ] {
        let run = Run::of(bench.command().args(words).env("BASTIUM_PLAN", "harm.toml"));
        assert!(
            is_harmless(&run.out) && is_harmless(&run.err),
            "{words:?}: {:?} {:?}",
            run.out,
            run.err
        );
    }
}

/// Runs a command on the harmful plan in each format.
fn does_no_harm(bench: &Bench, command: &str) {
    for format in ["text", "json", "csv", "md"] {
        let run = bench.run(&format!("{command} --plan harm.toml --format {format}"));
        assert!(run.code <= 1, "{command} {format}: {}", run.err);
        let harmless = is_harmless(&run.out) && is_harmless(&run.err);
        assert!(harmless, "{command} {format}: {:?}", run.out);
    }
}

fn is_harmless(text: &str) -> bool {
    text.chars().all(|c| c == '\n' || !(c.is_control() || c == '\u{202e}'))
}

#[test]
fn text_out_of_a_plan_can_do_no_harm_in_any_format() {
    let bench = Bench::new();
    bench.write("harm.toml", harmful());
    for command in [
        "addresses",
        "check",
        "matrix",
        "matrix people things",
        "rules",
        "ask desks printers ipp",
        "checklist",
    ] {
        does_no_harm(&bench, command);
    }
    let csv = bench.run("rules --plan harm.toml --format csv").out;
    let mut reader = csv::Reader::from_reader(csv.as_bytes());
    for record in reader.records() {
        let record = record.expect("every record has the same fields");
        assert!(record.iter().all(|field| !field.starts_with(['=', '+', '@'])), "{record:?}");
    }
    let markdown = bench.run("rules --plan harm.toml --format md").out;
    assert!(markdown.contains("&lt;b&gt;") && !markdown.contains("<b>"), "{markdown}");
    let json = bench.run("rules --plan harm.toml --format json --find print").json();
    let reason = json["lists"][2]["rules"][0]["reason"].as_str().expect("a reason").to_owned();
    assert_eq!(reason, "\u{1b}[2J\u{7}\u{202e}\n| =1+1 <b> `x`", "programs get it as it is");
}

#[test]
fn harm_in_what_is_wrong_is_shown_and_not_done() {
    let bench = Bench::new();
    for (good, bad) in [
        ("[zone.people]", format!("[zone.\"{HARM}\"]")),
        ("from = \"desks\"", format!("from = \"{HARM}\"")),
        ("tie = \"third-octet\"", format!("tie = \"{HARM}\"")),
        ("trust = \"medium\"", format!("\"{HARM}\" = 1")),
        ("why = \"People print\"", "why = \"\u{1b}[2J\"".to_owned()),
        ("people    -       block", "people    -       \u{1b}[2J".to_owned()),
        ("bastium = 1", "bastium = 1 # \u{202e}".to_owned()),
    ] {
        bench.write("harm.toml", demo("bare.toml").replace(good, &bad));
        for words in [
            "check --plan harm.toml",
            "check --plan harm.toml --format json",
            "rules --plan harm.toml",
        ] {
            let run = bench.run(words);
            let piped =
                Run::of(bench.command().args(["ask", &bad, "printers", "--plan", "bare.toml"]));
            assert!(
                is_harmless(&run.out) && is_harmless(&run.err),
                "{bad:?}: {:?} {:?}",
                run.out,
                run.err
            );
            assert!(is_harmless(&piped.err), "{bad:?}");
        }
    }
}

#[test]
fn a_file_that_is_no_plan_is_refused_quickly_and_clearly() {
    let bench = Bench::new();
    let noise: Vec<u8> =
        (0..200_000u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 13).to_le_bytes()[0]).collect();
    let huge = vec![b'a'; 50 << 20];
    let deep = format!("bastium = 1\na = {}", "[".repeat(100_000));
    let deeper = format!("bastium = 1\na = {}1{}", "{a = ".repeat(20_000), "}".repeat(20_000));
    let dotted = format!("{} = 1", vec!["a"; 100_000].join("."));
    let long_line = format!("bastium = 1\n[site]\nname = \"{}\"\nnmae = 1\n", "x".repeat(1 << 20));
    for (name, bytes, says) in [
        ("noise", noise, "not text"),
        ("huge", huge, "more than 16777216 bytes"),
        ("deep", deep.into_bytes(), "error[syntax]"),
        ("deeper", deeper.into_bytes(), "error[syntax]"),
        ("dotted", dotted.into_bytes(), "error[syntax]"),
        ("long", long_line.into_bytes(), "`nmae` is not a key"),
        ("empty", Vec::new(), "the plan is empty"),
        ("blank", b" \n\t\n".to_vec(), "the plan is empty"),
        ("zeros", vec![0; 1000], "error[syntax]"),
        ("mark", "\u{feff}bastium = 2".as_bytes().to_vec(), "edition 2"),
    ] {
        bench.write(name, bytes);
        for command in ["check", "rules"] {
            let run = bench.run(&format!("{command} --plan {name}"));
            assert_eq!(run.code, 2, "{name}: {}", run.err);
            assert!(
                format!("{}{}", run.out, run.err).contains(says),
                "{name}: {}{}",
                run.out,
                run.err
            );
        }
    }
    let nothing = Run::of(bench.command().args(["check", "--plan", "-"]).write_stdin(""));
    assert_eq!(nothing.code, 2);
    assert_eq!(bench.run("check --plan .").code, 2);
    assert_eq!(bench.run("check --plan not-there.toml").code, 2);
}

#[test]
fn circles_and_chains_of_any_length_end() {
    let bench = Bench::new();
    let link = |n: usize, next: usize| {
        format!("[group.g{n}]\nmembers = [\"g{next}\"]\n[service.s{n}]\nincludes = [\"s{next}\"]\n")
    };
    let circle: String = (0..5_000).map(|n| link(n, (n + 1) % 5_000)).collect();
    bench.write("circle.toml", format!("{}{circle}", demo("bare.toml")));
    let run = bench.run("check --plan circle.toml");
    assert_eq!(run.code, 2);
    assert!(
        run.out.contains("group-circle") && run.out.contains("service-circle"),
        "both circles are reported"
    );
    let chain: String = (0..5_000).map(|n| link(n, n + 1)).collect();
    let end = "[group.g5000]\nmembers = [\"desks\"]\n[service.s5000]\nports = [\"tcp/4000\"]\n";
    bench.write("chain.toml", format!("{}{chain}{end}", demo("bare.toml")));
    assert!(bench.run("rules --plan chain.toml").code == 0);
}

#[test]
fn a_plan_cut_off_anywhere_ends_with_an_exit_code() {
    let bench = Bench::new();
    let plan = demo("clinic.toml");
    for length in (0..plan.len()).step_by(397) {
        bench.write("cut.toml", &plan.as_bytes()[..length]);
        let run = bench.run("check --plan cut.toml");
        assert!((0..=2).contains(&run.code), "{length}: {}", run.err);
        assert!(!run.err.contains("panicked"), "{length}: {}", run.err);
    }
}

/// A rule list can come from anybody: its names are shown, never obeyed.
#[test]
fn hostile_names_in_a_rule_list_stay_names() {
    let bench = Bench::new();
    let list = |source: &str| {
        format!(
            r#"{{"bastium": 1, "whole": true, "day": "2026-11-24", "form": "one-list", "lists": [{{
                "name": "a\u001b[2J", "otherwise": "block", "rest": [],
                "rules": [{{"id": "=cmd\u202e|x", "number": 10, "action": "allow", "log": false, "matches": [{{
                    "enters": ["interface\u0007\n"], "source": ["{source}"], "destination": ["10.44.48.0/24"],
                    "service_v4": [[393296, 393296]], "service_v6": [], "minutes": []}}]}},
                  {{"id": "rest", "number": 20, "action": "block", "log": false, "matches": [{{
                    "enters": ["interface\u0007\n"], "source": ["0.0.0.0/0"], "destination": ["0.0.0.0/0"],
                    "service_v4": [[0, 16777215]], "service_v6": [], "minutes": []}}]}}]}}]}}"#
        )
    };
    bench.write("old.json", list("10.44.24.1"));
    bench.write("new.json", list("10.44.24.1-10.44.24.9"));
    for format in ["text", "csv", "md", "json"] {
        let run = bench.run(&format!("compare old.json new.json --format {format}"));
        assert_eq!(run.code, 1, "{format}: {}", run.err);
        let bad = |c: char| (c.is_control() && c != '\n') || c == '\u{202e}';
        assert!(!run.out.contains(bad), "{format}: {:?}", run.out);
        assert!(run.out.contains("10.44.24.2"), "what opens is reported: {}", run.out);
    }
    let csv = bench.run("compare old.json new.json --format csv").out;
    assert!(!csv.lines().any(|line| line.split(',').any(|cell| cell.starts_with('='))), "{csv}");
}

#[test]
fn rule_lists_that_make_no_sense_end_with_an_error() {
    let bench = Bench::new();
    let whole = bench.clinic("rules --format json").out;
    bench.write("whole.json", &whole);
    for (name, text) in [
        ("empty.json", "{}".to_owned()),
        ("cut.json", whole[..whole.len() / 2].to_owned()),
        ("action.json", whole.replacen("\"action\": \"block\"", "\"action\": \"perhaps\"", 1)),
        ("numbers.json", whole.replacen("\"number\": 10", "\"number\": -1", 1)),
        (
            "nothing.json",
            "{\"whole\": true, \"day\": \"\", \"form\": \"\", \"lists\": 7}".to_owned(),
        ),
    ] {
        bench.write(name, text);
        let run = bench.run(&format!("compare {name} whole.json"));
        assert_eq!(run.code, 2, "{name}: {}", run.out);
        assert!(run.err.contains("help: "), "{name}: {}", run.err);
    }
    // Odd numbers are no reason to stop: they stand for nothing.
    let odd = whole.replacen("\"service_v4\": [", "\"service_v4\": [[9, 3], ", 1);
    bench.write("odd.json", odd);
    assert!(bench.run("compare odd.json whole.json").code < 2);
}

#[test]
fn a_commit_is_a_name_and_never_an_option_of_git() {
    let bench = Bench::new();
    let path = std::env::var_os("PATH").unwrap_or_default();
    for commit in ["--help", "-p", "--output=made.txt", "HEAD --output=made.txt", "\u{1b}[2J", ""] {
        let mut command = bench.command();
        command.env("PATH", &path).args(["compare", "--plan", "clinic.toml"]);
        let run = common::Run::of(command.arg(format!("--since={commit}")));
        assert!(run.code == 2 || run.code == 3, "{commit}: {} {}", run.out, run.err);
        assert!(!run.err.contains('\u{1b}'), "{commit}");
        assert!(!bench.file("made.txt").exists(), "{commit}");
    }
}

#[test]
fn many_hostile_questions_are_answered_one_by_one() {
    let bench = Bench::new();
    let long = "x".repeat(100_000);
    let questions = format!(
        "from,to,service\n\"a\nb\",tills,\n{long},tills,\ndesks,\"=1+1\",\ndesks,tills,\"tcp/99999\"\n\
         \u{202e}desks,tills,\n,,\ndesks - desks,tills,\n10.44.24.2,10.44.60.10,tcp/443\n"
    );
    bench.write("q.csv", questions);
    for format in ["text", "csv", "md", "json"] {
        let run = bench.clinic(&format!("ask --batch q.csv --format {format}"));
        assert_eq!(run.code, 2, "{format}");
        let last = run.out.lines().last().expect("answers");
        assert!(last.contains("block"), "{format}: the last one is a good one: {last}");
        assert!(!run.out.contains('\u{202e}'), "{format}");
    }
    bench.write("bytes.csv", b"from,to\n\xff\xfe,tills\n");
    assert_eq!(bench.clinic("ask --batch bytes.csv").code, 2);
}

/// Text of every kind that some format has a meaning of its own for, of many lengths, as TOML writes it.
fn odd_texts() -> Vec<String> {
    let kinds = [
        "\\ufffe\\uffff\\U0001ffff\\ufdd0",
        "&24&A ]]> &#1; _x001B_ <b>",
        "[go](http://192.0.2.1) {0}",
        "a \\\" b ' \\\\ ` $(id) ;",
        "a */ # c",
        "a\\nconf-script=/tmp/x\\r\\n",
        "\\u202e\\u200b日本😀",
    ];
    let lengths = [1, 30, 253, 255, 256, 1_000, 1_023, 1_024, 1_025, 32_767, 40_000];
    let long = lengths.map(|length| "x".repeat(length));
    let wide = [90usize, 20_000].map(|length| "日😀".repeat(length));
    kinds.map(str::to_owned).into_iter().chain(long).chain(wide).collect()
}

/// No text of a plan keeps a file from being written, makes a line too long for its reader, or is taken for more
/// than text.
#[test]
fn odd_text_of_any_length_comes_out_whole_or_says_what_is_missing() {
    let bench = Bench::new();
    for text in odd_texts() {
        let plan = demo("bare.toml")
            .replace("\"dhcp\"                      #", "\"198.51.100.14/30\" #")
            .replace("name = \"Two networks\"", &format!("name = \"{text}\""))
            .replace("why = \"People print\"", &format!("why = \"{text}\"\nowner = \"{text}\""))
            .replace("[zone.people]\n", &format!("[zone.people]\nabout = \"{text}\"\n"));
        bench.write("odd.toml", plan);
        for format in ["nftables", "dnsmasq", "acl-json", "md", "xlsx", "json", "csv"] {
            let run =
                bench.run(&format!("export {format} --plan odd.toml --to odd.{format} --force"));
            assert_eq!(run.code, 0, "{format}, {}: {}", text.len(), run.err);
            if matches!(format, "nftables" | "dnsmasq") {
                let written =
                    std::fs::read_to_string(bench.file(&format!("odd.{format}"))).expect("text");
                assert!(written.lines().all(|line| line.len() <= 1_000), "{format}: {text}");
                assert!(!written.lines().any(|line| line.starts_with("conf-script")), "{format}");
            }
        }
        let mut book: calamine::Xlsx<_> =
            calamine::open_workbook(bench.file("odd.xlsx")).expect("a workbook");
        let rules = calamine::Reader::worksheet_range(&mut book, "rules").expect("a sheet");
        let cells =
            rules.used_cells().filter_map(|(_, _, cell)| calamine::DataType::as_string(cell));
        assert!(cells.clone().all(|cell| cell.encode_utf16().count() <= 32_767));
        assert!(
            text.len() < 32_767 || cells.clone().any(|cell| cell.ends_with(" characters more"))
        );
        let _ = std::fs::remove_file(bench.file("report.xml"));
        let report = bench.run("walk --plan odd.toml --results walked.jsonl --junit report.xml");
        assert!(report.code <= 1, "{}", report.err);
        let report = std::fs::read_to_string(bench.file("report.xml")).expect("text");
        assert!(!report.contains(['\u{fffe}', '\u{ffff}', '\u{1b}']), "{report}");
        let sarif = bench.run("check --plan odd.toml --sarif").json();
        let messages = sarif["runs"][0]["results"].as_array().expect("results");
        let texts = messages.iter().filter_map(|result| result["message"]["text"].as_str());
        assert!(texts.into_iter().all(|text| !text.replace("\\[", "").contains("[go]")));
    }
}
