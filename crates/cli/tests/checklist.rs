//! The checklist with the built program: what it catches, what is kept of it, and the page to tick off.

mod common;

use common::{Bench, DAY, demo};

#[test]
fn strength_is_reported_in_numbers_that_add_up() {
    let bench = Bench::new();
    for plan in ["clinic.toml", "farm.toml", "bare.toml"] {
        let run = bench.run(&format!("checklist --full --plan {plan} --format json --day {DAY}"));
        let json = run.json();
        let strength = &json["strength"];
        let number = |key: &str| strength[key].as_u64().unwrap_or_else(|| panic!("{plan}: {key}"));
        assert_eq!(number("missed"), 0, "{plan}");
        assert_eq!(number("mistakes"), number("caught") + number("undetectable"), "{plan}");
        let kinds = strength["kinds"].as_array().expect("rows");
        for (key, total) in [("made", "mistakes"), ("caught", "caught"), ("missed", "missed")] {
            let sum: u64 = kinds.iter().filter_map(|kind| kind[key].as_u64()).sum();
            assert_eq!(sum, number(total), "{plan}: {key}");
        }
        let not_shown = strength["not_shown"].as_array().expect("rows");
        assert_eq!(not_shown.len() as u64, number("undetectable"), "{plan}");
        let stands = json["stands"].as_array().expect("rows");
        let checks = stands.iter().flat_map(|stand| stand["checks"].as_array().expect("rows"));
        let count = checks.clone().count() as u64;
        let least = json["least"].as_u64().expect("a number");
        assert!(least <= count && count < 2 * least, "{plan}: {count} checks, {least} at least");
        // A check that belongs to no need and catches nothing would be walked for nothing.
        let idle = checks.filter(|check| {
            let needed = ["network.", "manage/", "outside.", "never.", "always.", "inbound."];
            let id = check["id"].as_str().expect("a name");
            check["catches"] == 0 && !needed.iter().any(|word| id.starts_with(word))
        });
        let idle: Vec<&str> = idle.filter_map(|check| check["id"].as_str()).collect();
        assert!(idle.iter().all(|id| id.contains("hours")), "{plan}: {idle:?}");
    }
}

#[test]
fn the_table_of_strength_reads_as_it_should() {
    let bench = Bench::new();
    let run = bench.run(&format!("checklist --full --strength --plan bare.toml --day {DAY}"));
    insta::assert_snapshot!("bare_strength", run.all());
    let clash = bench.clinic("checklist --strength --from desks");
    assert_eq!(clash.code, 2);
}

#[test]
fn less_than_the_whole_list_fits_and_says_what_it_misses() {
    let bench = Bench::new();
    for (words, most) in [("--within 20m", 1200), ("--within 40m", 2400)] {
        let json = bench.clinic(&format!("checklist {words} --format json")).json();
        assert!(json["seconds"].as_u64().expect("a number") <= most, "{words}");
        assert_eq!(json["whole"], false);
        assert!(json["strength"]["missed"].as_u64().expect("a number") > 0, "{words}");
    }
    let run = bench.clinic("checklist --at-most 7");
    assert!(
        run.out.starts_with("Checklist for Fernside Veterinary Clinic: 7 checks at"),
        "{}",
        run.out
    );
    for bad in ["checklist --within soon", "checklist --within -5m", "checklist --at-most x"] {
        let run = bench.clinic(bad);
        assert_eq!(run.code, 2, "{bad}: {}", run.out);
    }
}

#[test]
fn a_place_is_reported_by_its_ports_and_wifi_names() {
    let bench = Bench::new();
    let run = bench.clinic("checklist --from trainees");
    assert!(run.out.contains("Wi-Fi Fernside Students"), "{}", run.out);
    let run = bench.clinic("checklist --from doors");
    assert!(run.out.contains("rack port 24"), "{}", run.out);
    let run = bench.clinic("checklist --from internet");
    assert!(run.out.contains("mobile data"), "{}", run.out);
}

/// The page stands on its own: it loads nothing, holds every check with all three commands, and no text
/// of a plan becomes mark-up.
#[test]
fn the_page_needs_nothing_else_and_holds_every_check() {
    let bench = Bench::new();
    let plan = demo("clinic.toml").replace(
        "name = \"Fernside Veterinary Clinic\"",
        r#"name = "<script>alert(1)</script> & \"Vets\" \u202e""#,
    );
    bench.write("hostile.toml", plan);
    let words = format!("checklist --plan hostile.toml --page list.html --day {DAY}");
    let run = bench.run(&words);
    assert_eq!((run.code, run.out.as_str()), (0, ""), "{}", run.err);
    let page = std::fs::read_to_string(bench.file("list.html")).expect("the page");
    assert_eq!(page.matches("<script>").count(), 1, "only its own");
    assert!(!page.contains('\u{202e}') && !page.contains("alert(1)</script>"));
    for outside in ["http://", "src=", "@import", "url("] {
        assert!(!page.contains(outside), "{outside}");
    }
    let json =
        bench.run(&format!("checklist --plan hostile.toml --format json --day {DAY}")).json();
    let stands = json["stands"].as_array().expect("rows");
    let checks = stands.iter().flat_map(|stand| stand["checks"].as_array().expect("rows"));
    let ids: Vec<&str> = checks.filter_map(|check| check["id"].as_str()).collect();
    assert_eq!(page.matches("<tr data-check=").count(), ids.len());
    assert_eq!(page.matches("<code class=\"cmd ").count(), 3 * ids.len());
    assert_eq!(bench.run(&words).code, 2, "a page that is there is not overwritten");
    assert_eq!(bench.run(&format!("{words} --force --system windows")).code, 0);
    let page = std::fs::read_to_string(bench.file("list.html")).expect("the page");
    assert!(page.contains("id=\"windows\" checked"));
}

/// What one person carries: at most so much, each silence with a check that makes it evidence, and sentences that whoever runs
/// the site understands.
#[test]
fn the_list_is_one_that_a_person_carries() {
    let bench = Bench::new();
    let run = bench.clinic("checklist --format json");
    let json = run.json();
    let stands = json["stands"].as_array().expect("rows");
    let checks: Vec<&serde_json::Value> =
        stands.iter().flat_map(|stand| stand["checks"].as_array().expect("rows")).collect();
    assert!(checks.len() <= 80, "{}", checks.len());
    assert!(json["points"].as_u64().expect("a number") <= 14);
    assert!(json["seconds"].as_u64().expect("a number") <= 75 * 60);
    assert_eq!(json["full"], false);
    let says: Vec<&str> = checks.iter().filter_map(|check| check["says"].as_str()).collect();
    for sentence in [
        "desks can print on paper-printer",
        "xray can send medical pictures to archive",
        "recorder can see the picture of front-camera",
        "tills can open web pages of payment-hub",
        "waiting-room cannot reach reception",
        "anyone outside can open web pages of booking",
        "intercom can make calls through phones",
        "engineer-laptop can manage the gateway by tcp/22",
    ] {
        assert!(says.contains(&sentence), "{sentence}: {says:?}");
    }
    let by_id = |id: &str| checks.iter().find(|check| check["id"] == id);
    for silent in checks.iter().filter(|check| check["expect"] == "silence") {
        let control = silent["control"].as_str().unwrap_or_else(|| panic!("{}", silent["says"]));
        assert_eq!(by_id(control).expect("it is in the list")["expect"], "reply", "{control}");
        let own = by_id(silent["own_end"].as_str().unwrap_or_else(|| panic!("{}", silent["says"])));
        let own = own.expect("it is in the list");
        assert_eq!((&own["expect"], &own["from"]), (&"reply".into(), &silent["from"]));
    }
    let set_up: std::collections::BTreeSet<&str> =
        checks.iter().filter_map(|check| check["set_up"].as_str()).collect();
    assert_eq!(set_up.len(), 1, "one second laptop: {set_up:?}");
    let second = json["second_laptop"].as_array().expect("lines");
    assert_eq!(second.len(), 1, "{second:?}");
    let line = second[0].as_str().expect("a line");
    for part in [
        "for test point 12: join phones",
        "set the address 10.44.52.100 by hand",
        "bastium listen tcp/5060",
    ] {
        assert!(line.contains(part), "{part}: {line}");
    }
    // The plan has exceptions that do not count, and isolation: both are said.
    let not_tried = json["not_tried"].to_string();
    assert!(
        not_tried.contains("exception old-phone-line") && not_tried.contains("isolation in tills")
    );
    // No cable of an access point is pulled out.
    let control = stands.iter().find(|stand| stand["place"] == "control").expect("a place");
    assert!(control["how"].as_str().is_some_and(|how| how.contains("rack port 28;")), "{control}");
    // With less to go by, less is tried, and the whole list has it.
    let full = bench.clinic("checklist --full --format json").json();
    let count = |json: &serde_json::Value| json["strength"]["caught"].as_u64().expect("a number");
    assert!(count(&json) < count(&full) && full["strength"]["missed"] == 0);
    let text = bench.clinic("checklist").out;
    assert!(text.contains("what one person carries") && text.contains("\nnot tried\n"), "{text}");
}
