//! Forms of rules, proofs, comparisons and many questions, with the built program.

mod common;

use common::{Bench, DAY, Run, demo};
use serde_json::json;

const FORMS: [&str; 4] = ["one-list", "per-pair", "per-interface", "ranked"];
const PLANS: [&str; 3] = ["clinic.toml", "farm.toml", "bare.toml"];

/// A plan whose gateway's lists look at sources only; `to` is where its exception goes.
fn by_sources(to: &str, service: &str) -> String {
    let plan = demo("bare.toml")
        .replace("form = \"one-list\"", "form = \"per-interface\"\nmatches = \"source\"");
    let exception = plan.find("[exception.").expect("bare has an exception");
    format!(
        "{}[exception.all]\nfrom = \"desks\"\nto = \"{to}\"\nservice = \"{service}\"\naction = \"allow\"\nwhy = \"All of it\"\n",
        &plan[..exception]
    )
}

#[test]
fn every_form_of_every_demo_plan_is_shown_and_proved() {
    let bench = Bench::new();
    for plan in PLANS {
        for form in FORMS {
            let rules = bench.run(&format!("rules --plan {plan} --form {form} --day {DAY}"));
            assert_eq!((rules.code, rules.err.as_str()), (0, ""), "{plan} {form}");
            assert!(rules.out.lines().next().expect("a heading").contains(&format!("form {form}")));
            assert!(rules.out.lines().all(|line| line.chars().count() <= 80), "{plan} {form}");
            let proof =
                bench.run(&format!("prove --plan {plan} --form {form} --format json --day {DAY}"));
            assert_eq!(proof.code, 0, "{plan} {form}: {}", proof.out);
            let json = proof.json();
            assert_eq!(json["form"], form);
            assert_eq!(json["equal"], true);
            assert_eq!(json["counterexample"], serde_json::Value::Null);
            assert_eq!(json["undecided"], 0);
            assert_eq!(
                json["leak"] == serde_json::json!([]),
                form != "per-interface",
                "{plan} {form}"
            );
            let dead = json["shadowed"].as_array().expect("rows");
            assert!(dead.iter().all(|row| row["defensive"] == true), "{plan} {form}: {dead:?}");
        }
    }
}

#[test]
fn forms_and_proofs_read_as_they_should() {
    let bench = Bench::new();
    for form in FORMS {
        let rules = bench.run(&format!("rules --plan bare.toml --form {form} --day {DAY}"));
        insta::assert_snapshot!(format!("bare_rules_{form}"), rules.all());
    }
    insta::assert_snapshot!("clinic_prove", bench.clinic("prove").all());
    insta::assert_snapshot!(
        "bare_prove_all",
        bench.run(&format!("prove --plan bare.toml --all-forms --day {DAY}")).all()
    );
    for format in ["csv", "md"] {
        let run =
            bench.run(&format!("prove --plan bare.toml --all-forms --format {format} --day {DAY}"));
        insta::assert_snapshot!(format!("bare_prove_all.{format}"), run.all());
    }
}

#[test]
fn each_list_of_a_form_says_what_it_is_for() {
    let bench = Bench::new();
    let lists = |form: &str| {
        bench.clinic(&format!("rules --form {form} --format json")).json()["lists"].clone()
    };
    let pairs = lists("per-pair");
    let staff = pairs
        .as_array()
        .expect("lists")
        .iter()
        .find(|list| list["name"] == "staff>clinical")
        .expect("a pair");
    assert_eq!(staff["applies"], serde_json::json!({ "from": "staff", "to": "clinical" }));
    let interfaces = lists("per-interface");
    let desks = &interfaces
        .as_array()
        .expect("lists")
        .iter()
        .find(|list| list["name"] == "desks in")
        .expect("one");
    assert_eq!(desks["applies"], serde_json::json!({ "interface": "desks", "direction": "in" }));
    let replies: Vec<_> = desks["rules"]
        .as_array()
        .expect("rules")
        .iter()
        .filter(|rule| rule["replies_from"].is_array())
        .collect();
    assert!(!replies.is_empty(), "replies are written out");
    let ranked = lists("ranked");
    let implied: Vec<_> =
        ranked.as_array().expect("lists").iter().filter(|list| list["implied"] == true).collect();
    assert!(implied.iter().any(|list| list["name"] == "by-rank"));
}

#[test]
fn what_lists_of_sources_cannot_say_is_refused_with_the_reason() {
    let bench = Bench::new();
    bench.write("all.toml", by_sources("printers", "any"));
    let proof = bench.run(&format!("prove --plan all.toml --format json --day {DAY}"));
    assert_eq!(proof.code, 0, "{}", proof.out);
    assert!(!proof.json()["leak"].as_array().expect("boxes").is_empty());
    bench.write("one.toml", by_sources("printers", "ipp"));
    let rules = bench.run(&format!("rules --plan one.toml --day {DAY}"));
    assert_eq!(rules.code, 2);
    assert!(
        rules.err.contains("gateway-cannot") && rules.err.contains("services only"),
        "{}",
        rules.err
    );
    let proof = bench.run(&format!("prove --plan one.toml --day {DAY}"));
    assert_eq!(proof.code, 1);
    assert!(proof.out.contains("not possible in this form"), "{}", proof.out);
    let check = bench.run(&format!("check --plan one.toml --format json --day {DAY}"));
    assert!(check.out.contains("gateway-cannot"), "{}", check.out);
    // Questions are answered all the same: the one list can say everything.
    assert_eq!(bench.run(&format!("ask desks printers ipp --plan one.toml --day {DAY}")).code, 0);
}

fn git(bench: &Bench, words: &[&str]) -> bool {
    let mut git = std::process::Command::new("git");
    git.current_dir(bench.path()).args(["-c", "user.name=n", "-c", "user.email=n@example.org"]);
    git.args(words).output().is_ok_and(|output| output.status.success())
}

#[test]
fn a_change_is_reported_as_traffic_and_as_rules() {
    let bench = Bench::new();
    let clinic = demo("clinic.toml");
    bench.write(
        "new.toml",
        clinic.replacen("service = \"dicom\"", "service = [\"dicom\", \"rtsp\"]", 1),
    );
    let run = bench.run(&format!("compare clinic.toml new.toml --day {DAY}"));
    insta::assert_snapshot!("compare_service", run.all());
    let back = bench.run(&format!("compare new.toml clinic.toml --format json --day {DAY}"));
    let json = back.json();
    assert_eq!(json["opens"], serde_json::json!([]));
    assert_eq!(json["closes"][0]["service"], "tcp/554");
    assert_eq!(
        (json["closes"][0]["before"].as_str(), json["closes"][0]["after"].as_str()),
        (Some("allow"), Some("block"))
    );
    assert_eq!(json["rules"]["changed"][0]["id"], "exception.pictures-to-archive");
    for format in ["csv", "md"] {
        let run = bench.run(&format!("compare clinic.toml new.toml --format {format} --day {DAY}"));
        insta::assert_snapshot!(format!("compare_service.{format}"), run.all());
    }
    let same = bench.run(&format!("compare clinic.toml clinic.toml --day {DAY}"));
    assert_eq!((same.code, same.out.as_str()), (0, "no changes: neither traffic nor rules\n"));
    let other = bench.run(&format!("compare clinic.toml farm.toml --day {DAY}"));
    assert_eq!(other.code, 1);
    assert!(!other.out.contains("240.") && !other.out.contains("ba57"), "{}", other.out);
}

/// Two rule lists without their plans say of traffic what their plans say.
#[test]
fn rule_lists_are_compared_as_plans_are() {
    let bench = Bench::new();
    let changed =
        demo("clinic.toml").replacen("service = \"dicom\"", "service = [\"dicom\", \"rtsp\"]", 1);
    bench.write("new.toml", changed);
    for form in ["one-list", "per-pair", "ranked"] {
        for (plan, list) in [("clinic.toml", "old.json"), ("new.toml", "new.json")] {
            let run =
                bench.run(&format!("rules --plan {plan} --form {form} --format json --day {DAY}"));
            assert!(
                !run.out.contains("\"240.1.0.0\"") && !run.out.contains("\"100::ba57:0:1:0\""),
                "{form}"
            );
            bench.write(list, run.out);
        }
        let lists = bench.run("compare old.json new.json --format json");
        assert_eq!(lists.code, 1, "{form}: {}", lists.err);
        let json = lists.json();
        let opens = json["opens"].as_array().expect("rows");
        assert_eq!(opens.len(), 1, "{form}: {opens:?}");
        let plans = bench
            .run(&format!("compare clinic.toml new.toml --form {form} --format json --day {DAY}"))
            .json();
        assert_eq!(opens[0]["service"], plans["opens"][0]["service"]);
        assert_eq!(
            (json["closes"].as_array().map(Vec::len), json["changes"].as_array().map(Vec::len)),
            (Some(0), Some(0))
        );
        assert_eq!(json["rules"]["changed"][0]["id"], plans["rules"]["changed"][0]["id"], "{form}");
        assert_eq!(bench.run("compare old.json old.json").code, 0);
    }
    let mixed = bench.run("compare old.json clinic.toml");
    assert!(mixed.code == 2 && mixed.err.contains("the other a rule list"), "{}", mixed.err);
    bench.write("part.json", bench.clinic("rules --find dicom --format json").out);
    assert!(bench.run("compare part.json old.json").err.contains("only some of the rules"));
    bench.write("odd.json", "{\"bastium\": 1}");
    assert_eq!(bench.run("compare odd.json old.json").code, 2);
}

#[test]
fn names_and_remarks_are_no_change() {
    let bench = Bench::new();
    for words in [
        "rename staff people",
        "rename records patient-records",
        "rename desks offices",
        "rename desks-print print-letters",
    ] {
        let run = bench.run(&format!("{words} --plan clinic.toml --quiet"));
        assert!(run.code < 2, "{words}: {}", run.err);
    }
    let text =
        std::fs::read_to_string(bench.file("clinic.toml")).expect("there") + "\n# a remark\n";
    bench.write("new.toml", text);
    bench.write("old.toml", demo("clinic.toml"));
    let run = bench.run(&format!("compare old.toml new.toml --day {DAY}"));
    assert_eq!(run.code, 0, "{}", run.out);
}

#[test]
fn a_plan_is_compared_with_its_last_commit() {
    let bench = Bench::new();
    std::fs::rename(bench.file("clinic.toml"), bench.file("bastium.toml")).expect("renamed");
    if !git(&bench, &["init", "--quiet"]) {
        return; // No git here; `scripts/test` tells.
    }
    let none = bench
        .command()
        .env("PATH", std::env::var_os("PATH").unwrap_or_default())
        .arg("compare")
        .output()
        .expect("runs");
    assert_eq!(none.status.code(), Some(2), "nothing is committed yet");
    assert!(git(&bench, &["add", "."]) && git(&bench, &["commit", "--quiet", "-m", "first"]));
    let compare = || {
        Run::of(
            bench
                .command()
                .env("PATH", std::env::var_os("PATH").unwrap_or_default())
                .args(["compare", "--day", DAY]),
        )
    };
    assert_eq!(compare().code, 0);
    bench.run("set cell guests staff allow --quiet");
    let run = compare();
    assert_eq!(run.code, 1, "{}", run.err);
    assert!(run.out.contains("opens") && run.out.contains("guests"), "{}", run.out);
    // Without git on the path there is a reason, and a code of its own.
    let without = bench.command().env("PATH", "/nowhere").arg("compare").output().expect("runs");
    assert_eq!(without.status.code(), Some(3));
}

#[test]
fn many_questions_have_the_answers_that_single_ones_have() {
    let bench = Bench::new();
    let questions = [
        ("desks", "printers", "ipp", ""),
        ("guests", "tills", "", ""),
        ("10.44.24.2", "10.44.40.10", "tcp/443", ""),
        ("10.44.24.41", "10.44.40.10", "tcp/443", ""),
        ("fd6b:2f4e:91c0:24::9", "2001:db8:77::1", "https", ""),
        ("delivery-tablet", "records", "https", "sat 07:00"),
        ("delivery-tablet", "records", "https", ""),
        ("internet", "booking", "https", ""),
        ("home-visits", "home-visits", "ping", ""),
        ("desks", "desks", "any", ""),
        ("10.44.24.255", "records", "https", ""),
        ("engineer-laptop", "gateway", "ssh", ""),
        ("gateway", "internet", "ntp", ""),
        ("desks", "10.44.99.5", "https", ""),
    ];
    let mut csv = String::from("From,To,Service,At\n");
    for (from, to, service, at) in questions {
        csv.push_str(&format!("{from},{to},{service},{at}\n"));
    }
    bench.write("questions.csv", csv);
    let run = bench.clinic("ask --batch questions.csv --format json");
    assert_eq!((run.code, run.err.as_str()), (0, ""));
    let answers: Vec<serde_json::Value> =
        run.out.lines().map(|line| serde_json::from_str(line).expect("JSON")).collect();
    assert_eq!(answers.len(), questions.len());
    for ((from, to, service, at), answer) in questions.into_iter().zip(&answers) {
        let mut words = vec![
            "ask",
            from,
            to,
            if service.is_empty() { "any" } else { service },
            "--plan",
            "clinic.toml",
            "--day",
            DAY,
            "--format",
            "json",
        ];
        if !at.is_empty() {
            words.extend(["--at", at]);
        }
        let single = bench.run_words(&words).json();
        assert_eq!(answer["verdict"], single["verdict"], "{from} {to}");
        assert_eq!(answer["kind"], single["because"]["kind"], "{from} {to}");
        assert_eq!(answer["name"], single["because"]["name"], "{from} {to}");
        assert_eq!(
            answer["rule"].as_str().unwrap_or(""),
            single["rule"]["id"].as_str().unwrap_or(""),
            "{from} {to}"
        );
    }
    insta::assert_snapshot!("batch.text", bench.clinic("ask --batch questions.csv").all());
    insta::assert_snapshot!(
        "batch.csv",
        bench.clinic("ask --batch questions.csv --format csv").all()
    );
}

#[test]
fn a_table_of_questions_can_expect_answers_and_tells_its_mistakes() {
    let bench = Bench::new();
    bench.write("good.csv", "from,to,expect\nguests,tills,block\n");
    assert_eq!(bench.clinic("ask --batch good.csv").code, 0);
    bench.write("other.csv", "from,to,expect\nguests,tills,allow\n");
    let other = bench.clinic("ask --batch other.csv");
    assert_eq!(other.code, 1);
    assert!(other.out.contains("EXPECTED allow"), "{}", other.out);
    bench.write(
        "bad.csv",
        "from,to,at\nnobody,tills,\nguests,tills,noon\nguests,tills,\n=1+1,\u{1b}[2J,\n",
    );
    let bad = bench.clinic("ask --batch bad.csv --format csv");
    assert_eq!(bad.code, 2);
    assert_eq!(bad.out.lines().count(), 5, "the good one is answered all the same: {}", bad.out);
    assert!(bad.out.contains("\n5,'=1+1,") && !bad.out.contains('\u{1b}'), "{}", bad.out);
    bench.write("head.csv", "from,whither\nguests,tills\n");
    assert!(bench.clinic("ask --batch head.csv").err.contains("no column `whither`"));
    bench.write(
        "beyond.csv",
        "from,to,,service\nguests,tills,,https\n,,,\nguests,tills,,https,allow\nguests,tills,x\n",
    );
    let beyond = bench.clinic("ask --batch beyond.csv");
    assert_eq!((beyond.code, beyond.out.lines().count()), (2, 3), "{}", beyond.out);
    assert!(
        beyond.out.contains("`allow` is below no heading") && beyond.out.contains("`x` is below")
    );
    bench.write("twice.csv", "from,to,expect,expect\nguests,tills,block,allow\n");
    assert!(bench.clinic("ask --batch twice.csv").err.contains("two columns `expect`"));
    bench.write("short.csv", "from\nguests\n");
    assert!(bench.clinic("ask --batch short.csv").err.contains("headings"));
    assert_eq!(bench.clinic("ask --batch nowhere.csv").code, 2);
    assert_eq!(bench.clinic("ask guests").code, 2);
}

/// Whatever kind of entry denies: the command that is named, typed as it stands, gives the other answer.
#[test]
fn doing_as_reported_gives_the_other_answer() {
    for question in [
        ["cameras", "gateway", "dns"],
        ["trainees", "internet", "ssh"],
        ["scanner-cart", "records", "https"],
        ["staff - reception", "tills", "tcp/80"],
    ] {
        let bench = Bench::new();
        let ask = || {
            let mut words = vec!["ask"];
            words.extend(question);
            words.extend(["--plan", "clinic.toml", "--day", DAY, "--format", "json"]);
            bench.run_words(&words)
        };
        let before = ask();
        assert_eq!(before.code, 1, "{question:?}");
        let reported = before.json()["to_change"][0].as_str().expect("a command").to_owned();
        let reported = reported.replace("NAME", "as-shown").replace("why=...", "why=Told");
        let mut words = shlex::split(&reported).expect("a shell takes it");
        assert_eq!(words.remove(0), "bastium");
        words.extend(["--plan", "clinic.toml"].map(str::to_owned));
        let run = bench.run_words(&words.iter().map(String::as_str).collect::<Vec<_>>());
        assert!(run.code < 2, "{question:?}: {reported}: {}", run.err);
        assert_eq!(ask().json()["verdict"], "allow", "{question:?}: {reported}");
    }
}

#[test]
fn an_answer_names_the_rule_that_lets_the_reply_back() {
    let bench = Bench::new();
    let json = bench.clinic("ask desks printers printing --format json").json();
    assert_eq!(json["reply_rule"]["id"], "reply");
    assert_eq!(
        bench.clinic("ask guests tills --format json").json()["reply_rule"],
        serde_json::Value::Null
    );
    let stateless = demo("clinic.toml").replace("form = \"one-list\"", "form = \"per-interface\"");
    bench.write("stateless.toml", stateless);
    let ask = |words: &str| {
        bench.run(&format!("ask {words} --plan stateless.toml --format json --day {DAY}")).json()
    };
    assert_eq!(
        ask("desks printers printing")["reply_rule"]["id"],
        "reply.exception.desks-print@printers"
    );
    // From outside it comes to the address that all private sources have there: the first that fits.
    let outside = ask("tills payment-hub https")["reply_rule"]["id"].clone();
    let of_uplink = |id: &str| id.starts_with("reply.") && id.ends_with("@fibre>gateway");
    assert!(outside.as_str().is_some_and(of_uplink), "{outside}");
    // What the gateway itself answers goes out past its lists.
    assert_eq!(ask("desks gateway dns")["reply_rule"], serde_json::Value::Null);
}

#[test]
fn an_answer_says_what_came_close_and_how_to_get_the_other() {
    let bench = Bench::new();
    let json = bench.clinic("ask 10.44.24.50 records https --format json").json();
    let close = json["near_misses"].as_array().expect("rows");
    let vets = close.iter().find(|row| row["name"] == "vets-read-records").expect("the vets may");
    assert_eq!(vets["but"], "source");
    let change = json["to_change"][0].as_str().expect("a command");
    assert_eq!(
        change,
        "bastium add exception NAME from=10.44.24.50 to=records service=https action=allow why=..."
    );
    // Do as it says, and the answer is the other one.
    let words =
        change.replace("NAME", "as-shown").replace("bastium ", "").replace("why=...", "why=Told");
    let run = bench.run(&format!("{words} --plan clinic.toml"));
    assert!(run.code < 2, "{}", run.err);
    assert_eq!(bench.clinic("ask 10.44.24.50 records https").code, 0);
    let afternoon = [
        "ask",
        "delivery-tablet",
        "records",
        "https",
        "--at",
        "sat 15:00",
        "--plan",
        "clinic.toml",
        "--day",
        DAY,
        "--format",
        "json",
    ];
    let json = bench.run_words(&afternoon).json();
    assert!(
        json["near_misses"].as_array().expect("rows").iter().any(|row| row["but"] == "hours"),
        "{json}"
    );
}

/// A host that is moved loses what its addresses had, whatever becomes of these.
#[test]
fn comparing_says_what_a_moved_host_loses() {
    let bench = Bench::new();
    let moved = demo("clinic.toml").replacen(
        "network = \"imaging\"\naddress = \"10.44.36.10\"",
        "network = \"desks\"\naddress = \"10.44.24.30\"",
        1,
    );
    assert_ne!(moved, demo("clinic.toml"));
    bench.write("moved.toml", &moved);
    let run = bench.run(&format!("compare clinic.toml moved.toml --format json --day {DAY}"));
    assert_eq!(run.code, 1, "{}", run.err);
    let json = run.json();
    let host = &json["moved"][0];
    assert_eq!((&host["host"], &host["before"][0]), (&json!("xray"), &json!("10.44.36.10")));
    let says = |which: &str| -> Vec<String> {
        let rows = host[which].as_array().expect("rows").iter();
        let words = |row: &serde_json::Value| {
            let word = |key: &str| row[key].as_str().expect("words").to_owned();
            format!("{} from {} to {}", word("service"), word("source"), word("destination"))
        };
        rows.map(words).collect()
    };
    assert!(says("loses").contains(&"any from xray to imaging".to_owned()), "{host:#}");
    assert!(says("gains").iter().any(|one| one.contains("to printers")), "{host:#}");
    // Nothing of what an exception for the host says is lost: it goes with it.
    assert!(!says("loses").iter().any(|one| one.contains("archive")), "{host:#}");
    let text = bench.run(&format!("compare clinic.toml moved.toml --day {DAY}")).out;
    assert!(text.contains("xray moves from 10.44.36.10 to 10.44.24.30"), "{text}");
    let back = bench.run(&format!("compare clinic.toml clinic.toml --format json --day {DAY}"));
    assert!(back.json()["moved"].as_array().is_some_and(Vec::is_empty));
}
