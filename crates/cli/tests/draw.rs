//! `bastium draw`: the built program draws the demo plans and says what it cannot do.

mod common;

use common::{Bench, demo};
use std::collections::HashSet;

fn with(plan: &str) -> Bench {
    let bench = Bench::new();
    bench.write("bastium.toml", plan);
    bench
}

fn clinic() -> Bench {
    with(&demo("clinic.toml"))
}

/// What a call prints that goes well.
fn said(bench: &Bench, words: &[&str]) -> String {
    let run = bench.run_words(words);
    assert_eq!(run.code, 0, "{}", run.all());
    run.out
}

/// What a call says that is refused.
fn refused(bench: &Bench, words: &[&str]) -> String {
    let run = bench.run_words(words);
    assert_eq!(run.code, 2, "{}", run.all());
    run.err
}

#[test]
fn a_picture_is_a_file_of_its_own_and_the_same_every_time() {
    let bench = clinic();
    for picture in ["site", "zones", "matrix"] {
        let printed = said(&bench, &["draw", picture, "--day", "2026-11-29"]);
        assert_eq!(printed, said(&bench, &["draw", picture, "--day", "2026-11-29"]));
        let file = format!("{picture}.svg");
        said(&bench, &["draw", picture, "--day", "2026-11-29", "--to", &file]);
        assert_eq!(
            std::fs::read_to_string(bench.file(&file)).expect("it is there"),
            printed,
            "a file has what would be printed"
        );
        let again = refused(&bench, &["draw", picture, "--to", &file]);
        assert!(again.contains("already exists"), "{again}");
        for outside in ["http:", "<image", "<script", "@import", "xlink"] {
            let needed = printed.matches("http://www.w3.org/2000/svg").count();
            let found = printed.matches(outside).count();
            assert_eq!(found, if outside == "http:" { needed } else { 0 }, "{outside} in {file}");
        }
    }
}

#[test]
fn every_theme_draws_the_same_in_other_colours() {
    let bench = clinic();
    let without_colours = |theme: &str| {
        let text = said(&bench, &["draw", "matrix", "--theme", theme]);
        let (before, rest) = text.split_once("<style>").expect("colours");
        let (style, after) = rest.split_once("</style>").expect("colours");
        (style.to_owned(), format!("{before}{after}"))
    };
    let drawn = ["light", "dark", "print"].map(without_colours);
    let styles: HashSet<&String> = drawn.iter().map(|(style, _)| style).collect();
    assert_eq!(styles.len(), 3);
    assert!(drawn.iter().all(|(_, rest)| *rest == drawn[0].1));
    let coloured = |style: &str| {
        style.split('#').skip(1).any(|colour| {
            let (r, g, b) = (&colour[0..2], &colour[2..4], &colour[4..6]);
            (r, g) != (g, b)
        })
    };
    assert!(coloured(&drawn[0].0) && !coloured(&drawn[2].0), "print is black, white and grey");
}

#[test]
fn a_png_is_as_wide_as_asked() {
    let bench = clinic();
    said(&bench, &["draw", "zones", "--to", "zones.PNG", "--width", "640"]);
    let bytes = std::fs::read(bench.file("zones.PNG")).expect("it is there");
    assert_eq!(&bytes[1..4], b"PNG");
    assert_eq!(bytes[16..20], 640_u32.to_be_bytes());
    let says = refused(&bench, &["draw", "zones", "--to", "zones.jpg"]);
    assert!(says.contains("neither in .svg nor in .png"), "{says}");
    let says = refused(&bench, &["draw", "zones", "--width", "640"]);
    assert!(says.contains("no pixels"), "{says}");
    let tall = refused(&bench, &["draw", "zones", "--to", "tall.png", "--width", "16000"]);
    assert!(tall.contains("16,384"), "{tall}");
    assert!(!bench.file("tall.png").exists());
}

#[test]
fn too_many_zones_become_the_matrix() {
    let names: Vec<String> = (1..=13).map(|number| format!("z{number}")).collect();
    let zones: String =
        names.iter().map(|name| format!("[zone.{name}]\ntrust = \"low\"\n")).collect();
    let mut rows = format!("   {} internet\n", names.join(" "));
    let all: Vec<&str> = names.iter().map(String::as_str).chain(["internet"]).collect();
    for from in &all {
        let cells = all.iter();
        let cells = cells.map(|to| if to == from { "-" } else { "block" }).collect::<Vec<_>>();
        rows.push_str(&format!("{from} {}\n", cells.join(" ")));
    }
    let plan = format!(
        "bastium = 1\n[site]\nname = \"Many\"\n[gateway]\n{zones}[matrix]\ngrid = '''\n{rows}'''\n"
    );
    let bench = with(&plan);
    let run = bench.run_words(&["draw", "zones"]);
    let (zones, remark) = (run.out, run.err);
    assert!(remark.contains("13 zones are too many for arrows"), "{remark}");
    assert_eq!(zones, said(&bench, &["draw", "matrix"]));
}

#[test]
fn what_a_plan_says_is_never_markup() {
    let hostile = "Fern</text><script>alert(1)</script>\\u202Eside\\u0001 & \\\"co\\\"";
    let plan = demo("clinic.toml")
        .replace("name = \"Fernside Veterinary Clinic\"", &format!("name = \"{hostile}\""));
    let plan = plan.replace("\"Fernside Guests\"", "\"]]><g onload=x>\"");
    let bench = with(&plan);
    for picture in ["site", "zones", "matrix"] {
        let svg = said(&bench, &["draw", picture]);
        for markup in ["<script", "<g onload", "]]>", "\u{202e}", "\u{1}"] {
            assert!(!svg.contains(markup), "{markup} in {picture}");
        }
        assert!(svg.contains("&lt;script"), "the name is shown as it is");
    }
}
