//! `bastium report`: what the built program hands over, and to whom.

mod common;

use common::{Bench, DAY, Run, demo};
use std::collections::HashSet;

/// A report on a plan of the bench.
fn report(bench: &Bench, words: &str) -> String {
    let run = bench.run(&format!("report --day {DAY} {words}"));
    assert_eq!(run.code, 0, "{}", run.err);
    run.out
}

/// The values of an attribute, in order.
fn values(html: &str, attribute: &str) -> Vec<String> {
    let mark = format!(" {attribute}=\"");
    let rest = html.split(mark.as_str()).skip(1);
    rest.filter_map(|rest| rest.split('"').next()).map(str::to_owned).collect()
}

/// The text of a page, without its marks.
fn text(html: &str) -> String {
    let mut text = String::new();
    for piece in html.split('<').skip(1) {
        text.push_str(piece.split_once('>').map_or("", |(_, rest)| rest));
    }
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// The row of a table with that id, or the section.
fn part<'h>(html: &'h str, id: &str, end: &str) -> &'h str {
    let start = html.find(&format!("id=\"{id}\"")).unwrap_or_else(|| panic!("{id} is there"));
    html[start..].split(end).next().expect("a part")
}

/// A bench with a walk through the clinic in which all went well, as somebody says.
fn walked() -> Bench {
    let bench = Bench::new();
    let mut walk = bench.command();
    walk.args(["walk", "--plan", "clinic.toml", "--day", DAY, "--by", "Kim"]);
    let run = Run::of(walk.write_stdin("p\n".repeat(400)));
    assert!(run.out.contains("passed"), "{}{}", run.out, run.err);
    bench
}

#[test]
fn every_link_leads_somewhere_and_no_page_is_needed_beside_it() {
    let bench = Bench::new();
    for plan in ["bare.toml", "clinic.toml", "farm.toml"] {
        for whom in ["client", "engineer"] {
            let html = report(&bench, &format!("--plan {plan} --for {whom}"));
            let ids = values(&html, "id");
            let distinct: HashSet<&String> = ids.iter().collect();
            assert_eq!(ids.len(), distinct.len(), "{plan} {whom}: an id stands twice");
            let links = values(&html, "href");
            assert!(links.len() > 30, "{plan} {whom}");
            for link in links {
                let to = link.strip_prefix('#').unwrap_or_else(|| panic!("{link} leads outside"));
                assert!(distinct.contains(&to.to_owned()), "{plan} {whom}: nothing is at #{to}");
            }
            for foreign in ["<script", "<link", "<img", "@import", "url(http"] {
                assert!(!html.contains(foreign), "{foreign}");
            }
            let headings: Vec<&str> = html.matches("<h1>").collect();
            assert_eq!(headings.len(), 1);
            assert_eq!(html.matches("<table>").count(), html.matches("<caption>").count());
            assert_eq!(html, report(&bench, &format!("--plan {plan} --for {whom}")));
        }
    }
}

#[test]
fn markdown_says_the_same_and_its_links_lead_somewhere() {
    let bench = Bench::new();
    assert_eq!(bench.run(&format!("report --plan clinic.toml --day {DAY} --to r.md")).code, 0);
    let text = std::fs::read_to_string(bench.file("r.md")).expect("it is there");
    let ids: HashSet<String> = values(&text, "id").into_iter().collect();
    let links: Vec<&str> =
        text.split("](#").skip(1).filter_map(|rest| rest.split(')').next()).collect();
    assert!(links.len() > 200);
    for link in links {
        assert!(ids.contains(link), "nothing is at #{link}");
    }
    let html = report(&bench, "--plan clinic.toml");
    for id in values(&html, "id").iter().filter(|id| {
        ["rule-", "check-", "exception-", "network-"].iter().any(|kind| id.starts_with(kind))
    }) {
        assert!(ids.contains(id), "{id} is missing");
    }
}

#[test]
fn a_client_sees_neither_management_nor_rules_nor_open_findings() {
    let bench = Bench::new();
    let plan = demo("clinic.toml").replace("hosts = 40", "hosts = 400");
    bench.write("clinic.toml", plan);
    let findings = bench.clinic("check --format json").json();
    let says = findings["findings"][0]["says"].as_str().expect("a finding").to_owned();
    let (client, engineer) = (
        report(&bench, "--plan clinic.toml --for client"),
        report(&bench, "--plan clinic.toml --for engineer"),
    );
    for secret in [
        says.as_str(),
        "second factor",
        "id=\"management\"",
        "id=\"rules\"",
        "rule-10",
        "gateway.manage",
    ] {
        let escaped = secret.replace('\'', "&#39;");
        assert!(!client.contains(&escaped), "a client sees {secret}");
    }
    assert!(!text(&client).contains("manage the gateway"), "a client sees who manages");
    assert!(engineer.contains("second factor") && engineer.contains("id=\"findings\""));
    assert!(text(&engineer).contains(&says), "{says}");
}

#[test]
fn rule_entry_check_and_picture_link_both_ways() {
    let bench = Bench::new();
    let html = report(&bench, "--plan clinic.toml");
    let exception = part(&html, "exception-desks-print", "</tr>");
    let rule = values(exception, "href").into_iter().find(|to| to.starts_with("#rule-"));
    let rule = rule.expect("the entry links to its rule");
    let row = part(&html, &rule[1..], "</tr>");
    assert!(row.contains("#exception-desks-print"), "{row}");
    let check = values(row, "href").into_iter().find(|to| to.starts_with("#check-"));
    let check = part(&html, &check.expect("the rule links to its check")[1..], "</tr>");
    assert!(check.contains(&rule), "{check}");
    let picture = part(&html, "picture-matrix", "</figure>");
    assert!(picture.contains("#cell-control.staff"), "the picture links to a cell");
    let section = part(&html, "matrix", "</section>");
    assert!(section.contains("#picture-matrix"));
    assert!(part(&html, "cell-control.staff", "</tr>").contains("#rule-"));
}

#[test]
fn the_first_page_says_what_was_tried_and_what_came_of_it() {
    let bench = walked();
    let summary = |words: &str| {
        let html = report(&bench, &format!("--plan clinic.toml --for client {words}"));
        text(part(&html, "summary", "Zone by zone"))
    };
    let before = summary("--results clinic.walk.jsonl");
    assert!(
        before.contains(
            "guests cannot reach anything except the internet (proved for every packet; tried on"
        ),
        "{before}"
    );
    assert!(before.contains("none got through"), "{before}");
    assert!(before.contains("by Kim"), "{before}");
    // One of the attempts gets through: that promise alone is no longer called kept.
    let results = std::fs::read_to_string(bench.file("clinic.walk.jsonl")).expect("results");
    let one = results.lines().find(|line| line.contains("\"never.guests-see-inside/"));
    let failed = one.expect("it was tried").replace("\"pass\"", "\"fail\"");
    let failed = failed.replace("\"seen\":\"silence\"", "\"seen\":\"reply\"");
    bench.write("failed.jsonl", format!("{results}{failed}\n"));
    let after = summary("--results failed.jsonl");
    assert!(after.contains("1 of them failed"), "{after}");
    assert!(after.contains("1 failed"), "{after}");
    assert_ne!(before, after);
    // What cannot be read may have been one that failed, and is not passed over.
    bench.write("torn.jsonl", format!("{results}{}", &failed[..failed.len() / 2]));
    let torn = summary("--results torn.jsonl");
    assert!(torn.contains("1 line of the results cannot be read"), "{torn}");
    // Without results nothing is said to have been tried.
    std::fs::remove_file(bench.file("clinic.walk.jsonl")).expect("it is there");
    let never = summary("");
    assert!(never.contains("not tried yet") && !never.contains("tried on"), "{never}");
    assert!(never.contains("It has not been tested"), "{never}");
    let run = bench.run("report --plan clinic.toml --results nowhere.jsonl");
    assert_eq!(run.code, 2, "{}", run.err);
}

/// Half past eleven at night in UTC is the next day for a site that lies far enough east.
#[test]
fn days_of_results_are_those_of_the_site() {
    let bench = walked();
    let results = std::fs::read_to_string(bench.file("clinic.walk.jsonl")).expect("results");
    let moved = results.lines().map(|line| {
        let mut record: serde_json::Value = serde_json::from_str(line).expect("a record");
        record["at"] = "2026-11-20T23:30:00Z".into();
        format!("{record}\n")
    });
    bench.write("moved.jsonl", moved.collect::<String>());
    let plan = std::fs::read_to_string(bench.file("clinic.toml")).expect("the plan");
    let shown = |plan: String| {
        bench.write("clinic.toml", plan);
        let html = report(&bench, "--plan clinic.toml --results moved.jsonl");
        let checks = text(part(&html, "checks", "</section>"));
        let summary = text(part(&html, "summary", "Zone by zone"));
        ["2026-11-20", "2026-11-21"].map(|day| checks.contains(day) && summary.contains(day))
    };
    assert_eq!(shown(plan.clone()), [true, false]);
    assert_eq!(shown(plan.replace("Europe/Lisbon", "Pacific/Auckland")), [false, true]);
}

#[test]
fn a_guarantee_that_is_broken_is_not_called_kept() {
    let bench = Bench::new();
    let plan = demo("clinic.toml").replace(
        "[never.guests-see-inside]",
        "[exception.guests-print]\nfrom = \"waiting-room\"\nto = \"printers\"\nservice = \"ipp\"\n\
         action = \"allow\"\nwhy = \"Boarding passes\"\n\n[never.guests-see-inside]",
    );
    bench.write("clinic.toml", plan);
    let html = report(&bench, "--plan clinic.toml --for client");
    let summary = text(part(&html, "summary", "Zone by zone"));
    assert!(summary.contains("NOT KEPT: guests cannot reach"), "{summary}");
    assert!(
        summary.contains("tills cannot reach anything except payment-hub (proved"),
        "{summary}"
    );
}

#[test]
fn what_is_open_to_the_outside_is_all_that_is() {
    let bench = Bench::new();
    let outside = |plan: &str| {
        bench.write("plan.toml", plan);
        let html = report(&bench, "--plan plan.toml --for client");
        let summary = text(part(&html, "summary", "Who may use the internet"));
        summary
            .split("What can be reached from the internet")
            .nth(1)
            .expect("it is there")
            .to_owned()
    };
    let clinic = outside(&demo("clinic.toml"));
    assert!(
        clinic.contains("booking by https") && clinic.contains("home-visits, a tunnel"),
        "{clinic}"
    );
    assert!(!clinic.contains("Nothing"), "{clinic}");
    let bare = outside(&demo("bare.toml"));
    assert!(bare.contains("Nothing: no connection from the internet"), "{bare}");
    // A cell that lets the internet in is no `inbound` entry, and is said all the same.
    let public = demo("clinic.toml")
        .replace(
            "subnet = [\"10.44.48.0/24\"]",
            "subnet = [\"10.44.48.0/24\", \"2001:db8:48::/64\"]",
        )
        .replace(
            "internet   block    block  block     block",
            "internet   block    block  block     allow",
        );
    let opened = outside(&public);
    // So is a gateway that itself answers.
    let entry = "[exception.from-home]\nfrom = \"internet\"\nto = \"gateway\"\nservice = \"ssh\"\n\
                 action = \"allow\"\nwhy = \"The engineer is away\"\n\n[inbound.booking]";
    let managed = outside(&demo("clinic.toml").replace("[inbound.booking]", entry));
    let says =
        "the gateway itself can be reached from the internet, because of exception from-home";
    assert!(managed.contains(says), "{managed}");
    assert!(!clinic.contains("the gateway itself"), "{clinic}");
    assert!(opened.contains("zone equipment: everything"), "{opened}");
}

#[test]
fn counters_and_changes_are_shown_where_they_are_given() {
    let bench = Bench::new();
    let rules = bench.clinic("export nftables").out;
    let counted = rules
        .replace(" counter ", " counter packets 4711 bytes 9 ")
        .replace("\tcounter ", "\tcounter packets 4711 bytes 9 ");
    bench.write("running.nft", counted);
    let older = demo("clinic.toml").replace(
        "[exception.desks-print]",
        "[exception.desks-print]\noff = true\nuntil = \"2029-06-30\"",
    );
    bench.write("older.toml", older);
    let without = report(&bench, "--plan clinic.toml");
    assert!(!without.contains("4711") && !without.contains("id=\"changes\""));
    let html = report(&bench, "--plan clinic.toml --running running.nft --since older.toml");
    let row = part(&html, "exception-desks-print", "</tr>");
    let rule = values(row, "href").into_iter().find(|to| to.starts_with("#rule-"));
    let rule = part(&html, &rule.expect("a rule")[1..], "</tr>");
    assert!(rule.contains("4711"), "{rule}");
    assert!(
        text(&html).contains("When it was listed, it did what the plan says, for every packet.")
    );
    let picture = part(&html, "picture-changes", "</figure>");
    assert!(picture.contains("aria-label=\"staff to equipment: opens\""), "{picture}");
    assert_eq!(picture.matches("class=\"whole").count(), 1);
    let changes = text(part(&html, "changes", "</section>"));
    assert!(changes.contains("opens") && changes.contains("desks"), "{changes}");
}

/// Counters under the names of the plan's rules are no evidence where the lines do something else.
#[test]
fn counters_of_other_rules_are_called_that() {
    let bench = Bench::new();
    let rules = bench.clinic("export nftables").out;
    assert!(rules.contains("tcp dport 554"), "{rules}");
    let opened = rules.replace("tcp dport 554", "tcp dport 554-555");
    bench.write("running.nft", opened.replace("\tcounter ", "\tcounter packets 9 bytes 9 "));
    let html = text(&report(&bench, "--plan clinic.toml --running running.nft"));
    assert!(html.contains("The gateway was not shown to do what the plan says."), "{html}");
    assert!(html.contains("allows tcp/555 from recorder to cameras"), "{html}");
    let client = text(&report(&bench, "--plan clinic.toml --running running.nft --for client"));
    assert!(client.contains("was not shown to match the plan: 1 thing differs"), "{client}");
    // What a gateway says is shown, and is never a mark.
    let hostile = rules.replace("tcp dport 554 ", "tcp dport 554-555 ").replace(
        "comment \"exception.recorder-pulls-cameras",
        "comment \"<script>[x](javascript:1)\u{202e}`",
    );
    assert_ne!(rules, hostile);
    bench.write("hostile.nft", hostile);
    let html = report(&bench, "--plan clinic.toml --running hostile.nft");
    assert!(!html.contains("<script") && !html.contains('\u{202e}'));
    let run = bench.run("report --plan clinic.toml --running hostile.nft --to r.md");
    let markdown = std::fs::read_to_string(bench.file("r.md")).unwrap_or_default();
    assert!(markdown.contains("was not shown to do what the plan says"), "{}", run.err);
    assert!(
        !markdown.contains("<script")
            && !markdown.contains("[x](")
            && !markdown.contains('\u{202e}')
    );
    // A listing without Bastium's rules has no counters of theirs.
    bench.write("other.nft", "table inet other {\n\tchain a {\n\t}\n}\n");
    let other = bench.run("report --plan clinic.toml --running other.nft");
    assert!(other.code == 2 && other.err.contains("no table of bastium"), "{}", other.err);
}

#[test]
fn a_client_does_not_see_what_changes_at_the_gateway_itself() {
    let bench = Bench::new();
    let entry = "[exception.time-for-all]";
    let older =
        demo("clinic.toml").replace(entry, &format!("{entry}\noff = true\nuntil = \"2029-06-30\""));
    bench.write("older.toml", older);
    let changes = |whom: &str| {
        let html = report(&bench, &format!("--plan clinic.toml --since older.toml --for {whom}"));
        text(part(&html, "changes", "</section>"))
    };
    assert!(changes("engineer").contains("udp/123"), "{}", changes("engineer"));
    assert!(!changes("client").contains("udp/123"), "{}", changes("client"));
}

#[test]
fn words_of_a_plan_are_never_marks() {
    let bench = Bench::new();
    let hostile = "<script>alert(1)</script> [x](javascript:1) | `a` \\u202E";
    let plan = demo("clinic.toml")
        .replace("People who work here", hostile)
        .replace("Card payments", hostile)
        .replace("Fernside Veterinary Clinic\"", &format!("{hostile}\""));
    bench.write("clinic.toml", plan);
    let html = report(&bench, "--plan clinic.toml");
    assert!(!html.contains("<script") && !html.contains('\u{202e}'));
    assert!(html.contains("&#60;script&#62;") || html.contains("&lt;script&gt;"));
    assert_eq!(bench.run("report --plan clinic.toml --to r.md").code, 0);
    let text = std::fs::read_to_string(bench.file("r.md")).expect("it is there");
    assert!(!text.contains("<script") && !text.contains("[x](") && !text.contains('\u{202e}'));
}

#[test]
fn a_file_is_written_whole_by_its_ending_and_never_over_another() {
    let bench = Bench::new();
    let run = |words: &str| bench.run(&format!("report --plan bare.toml {words}"));
    assert_eq!(run("--to r.html").code, 0);
    assert_eq!(run("--to r.html").code, 2);
    assert_eq!(run("--to r.html --force").code, 0);
    let wrong = run("--to r.pdf");
    assert!(wrong.code == 2 && wrong.err.contains("neither in .html nor in .md"), "{}", wrong.err);
    let none = run("--running bare.toml");
    assert!(none.code == 2 && none.err.contains("no table of bastium"), "{}", none.err);
}

/// Where every packet fares the same in the plan's words, what the words stand for may differ, or what holds tomorrow.
#[test]
fn what_plans_say_otherwise_is_no_all_clear() {
    let bench = Bench::new();
    let plan = std::fs::read_to_string(bench.file("clinic.toml")).expect("the plan");
    let guarantee = "[never.tills-go-elsewhere]\nfrom = \"tills\"\nto = \"any - payment-hub\"\n";
    for (from, to, says) in [
        (
            "\"calls.example.net\"",
            "\"talks.example.net\"",
            "domain phone-provider: calls.example.net, ",
        ),
        ("time-zone = \"Europe/Lisbon\"", "", "time zone: Europe/Lisbon -> none"),
        ("until = \"2029-03-31\"", "", "end of locum-reads-records: 2029-03-31 -> none"),
        ("until = \"2029-03-31\"", "until = \"2030-03-31\"", "2029-03-31 -> 2030-03-31"),
        (guarantee, "", "guarantee never.tills-go-elsewhere: tills to any - payment-hub -> none"),
        ("2001:db8:9::2/64", "2001:db8:9::2/65", "uplink fibre: "),
    ] {
        let changed = plan.replacen(from, to, 1);
        assert_ne!(changed, plan, "{from}");
        bench.write("new.toml", changed);
        let run = bench.run(&format!("compare clinic.toml new.toml --day {DAY}"));
        assert_eq!(run.code, i32::from(!says.starts_with("uplink")), "{}{}", run.out, run.err);
        assert!(run.out.contains(says) && !run.out.contains("no changes"), "{says}: {}", run.out);
        let moves = says.starts_with("domain") || says.starts_with("time");
        assert!(!run.out.contains("no traffic"), "{}", run.out);
        assert_eq!(run.out.contains("stands for something else"), moves, "{}", run.out);
        let html = report(&bench, "--plan new.toml --since clinic.toml");
        let since = text(part(&html, "changes", "</section>"));
        assert!(!since.contains("Neither traffic, rules, addresses nor ports"), "{since}");
    }
}

/// What is neither traffic nor a rule is no change of theirs, and is not passed over.
#[test]
fn what_differs_beside_traffic_and_rules_is_named() {
    let bench = Bench::new();
    let plan = std::fs::read_to_string(bench.file("clinic.toml")).expect("the plan");
    for (from, to, beside) in [
        ("vlan = 64", "vlan = 65", &["addresses", "ports"][..]),
        ("dhcp = \"100-119\"", "dhcp = \"100-118\"", &["addresses"]),
        ("name = \"Fernside Guests\"", "name = \"Fernside Visitors\"", &["ports"]),
        ("name = \"Fernside Veterinary Clinic\"", "name = \"Fernside\"", &[]),
    ] {
        let changed = plan.replacen(from, to, 1);
        assert_ne!(changed, plan, "{from}");
        bench.write("new.toml", changed);
        let words = format!("compare clinic.toml new.toml --day {DAY}");
        let sheet = bench.run(&format!("{words} --format json")).json();
        let named: Vec<&str> = sheet["beside"]
            .as_array()
            .expect("a list")
            .iter()
            .filter_map(serde_json::Value::as_str)
            .collect();
        assert_eq!(named, beside, "{to}");
        let said = bench.run(&words).out;
        assert_eq!(said.starts_with("no changes"), beside.is_empty(), "{said}");
        assert!(beside.iter().all(|sheet| said.contains(&format!("bastium {sheet}"))), "{said}");
        let html = report(&bench, "--plan new.toml --since clinic.toml");
        let since = text(part(&html, "changes", "</section>"));
        let says = match beside {
            [] => "Neither traffic, rules, addresses nor ports have changed".to_owned(),
            beside => format!(
                "Neither traffic nor rules have changed since clinic.toml; {}",
                beside.join(" and ")
            ),
        };
        assert!(since.contains(&says), "{since}");
        let table = bench.run(&format!("{words} --format csv")).out;
        assert!(beside.iter().all(|sheet| table.contains(sheet)), "{table}");
    }
}
