//! Documents that fail when they are out of date.

mod common;

use bastium::args::program;
use bastium_planfile::format::{Key, PLAN, Table, Takes, all_tables};
use common::{Bench, repository};

/// Compares a file with what it should hold, or writes it where `BASTIUM_WRITE_DOCS` is set.
fn is_current(name: &str, expected: &str) {
    let path = repository().join(name);
    if std::env::var_os("BASTIUM_WRITE_DOCS").is_some() {
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("the folder can be made");
        std::fs::write(&path, expected).expect("the file can be written");
    }
    let found = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(found == expected, "{name} is out of date; run the tests with BASTIUM_WRITE_DOCS=1");
}

#[test]
fn the_schemas_are_current_and_what_is_printed_has_all_their_keys() {
    let bench = Bench::new();
    bench.write("gateway.log", "");
    bench.write("rules.csv", "action,source,destination,service\nallow,desks,printers,ipp\n");
    bench.write("one.csv", "from,to,service\ndesks,printers,ipp\n");
    for (command, schema) in bastium_report::schema::all() {
        let text = serde_json::to_string_pretty(&schema).expect("JSON") + "\n";
        is_current(&format!("docs/schema/{command}.schema.json"), &text);
        let words = match command {
            // They take a cable and a gateway: tests/one_cable.rs and tests/load.rs look at what is printed there.
            "cable" | "load" => continue,
            "ask" => "ask guests internet",
            "draft" => "matrix --draft",
            "compare" => "compare clinic.toml farm.toml",
            "batch" => "ask --batch one.csv",
            "walk" => "walk --status",
            "verify" => "verify --running rules.csv",
            "rehearse" => "rehearse --on-paper",
            "audit" => "audit rules.csv",
            "blocked" => "blocked gateway.log",
            "change" => "set network desks hosts=19 --dry-run",
            other => other,
        };
        let json = bench.clinic(&format!("{words} --format json")).json();
        for key in schema["required"].as_array().expect("required keys") {
            assert!(json.get(key.as_str().expect("a name")).is_some(), "{command}: {key}");
        }
        for key in json.as_object().expect("an object").keys() {
            assert!(schema["properties"].get(key).is_some(), "{command}: {key}");
        }
    }
}

#[test]
fn the_schema_of_the_plan_file_is_current() {
    let text = serde_json::to_string_pretty(&bastium_planfile::schema()).expect("JSON") + "\n";
    is_current("docs/schema/plan.schema.json", &text);
}

/// The headings of a table of the plan file: several tables can have the same keys.
fn headings(table: &Table) -> String {
    if table.heading.is_empty() {
        return "The whole file".to_owned();
    }
    let same = |key: &&Key| matches!(key.takes, Takes::Entries(own) if std::ptr::eq(own, table));
    let of_plan: Vec<String> =
        PLAN.keys.iter().filter(same).map(|key| format!("`[{}.NAME]`", key.name)).collect();
    if of_plan.is_empty() { format!("`[{}]`", table.heading) } else { of_plan.join(", ") }
}

fn kind(takes: Takes) -> String {
    match takes {
        Takes::Text | Takes::Prose => "text".to_owned(),
        Takes::Name => "name".to_owned(),
        Takes::Choice(words) => {
            let words: Vec<String> = words.iter().map(|word| format!("`\"{word}\"`")).collect();
            words.join(", ")
        }
        Takes::Texts | Takes::List | Takes::Days => "text, or list of texts".to_owned(),
        Takes::Edition => "`1`".to_owned(),
        Takes::Whole(_, u32::MAX) => "whole number".to_owned(),
        Takes::Whole(least, most) => format!("whole number, {least} to {most}"),
        Takes::Number => "number".to_owned(),
        Takes::Flag => "`true` or `false`".to_owned(),
        Takes::Day => "day".to_owned(),
        Takes::RangeOrOff => "text, or `false`".to_owned(),
        Takes::NamedTexts => "names, each with a text".to_owned(),
        Takes::NamedLists => "names, each with a list of texts".to_owned(),
        Takes::Table(_) => "table".to_owned(),
        Takes::Tables(_) => "list of tables".to_owned(),
        Takes::Entries(_) => "tables, by name".to_owned(),
    }
}

#[test]
fn the_reference_of_the_plan_file_is_current() {
    let mut text = String::from(
        "# Keys of the plan file\n\nEvery table and key of [the plan file](plan-file.md), written by the tests. \
         Keys in bold are needed.\n",
    );
    for table in all_tables() {
        text.push_str(&format!("\n## {}\n\n{}\n\n", headings(table), table.about));
        text.push_str(
            "| key | takes | says | default | example |\n| --- | --- | --- | --- | --- |\n",
        );
        for key in table.keys {
            let name = if key.needed { format!("**{}**", key.name) } else { key.name.to_owned() };
            // The grid has a page of its own.
            let example = match key.example {
                "" => String::new(),
                long if long.contains('\n') => "[the grid](plan-file.md)".to_owned(),
                short => format!("`{short}`"),
            };
            let (takes, about, default) = (kind(key.takes), key.about, key.default);
            text.push_str(&format!("| {name} | {takes} | {about} | {default} | {example} |\n"));
        }
    }
    is_current("docs/plan-keys.md", &text);
}

#[test]
fn the_command_reference_is_current() {
    let mut text = String::from(
        "# Commands\n\nWhat `bastium --help` and `bastium COMMAND --help` print, written by the tests.\n",
    );
    let mut program = program().term_width(100);
    program.build();
    let mut add = |command: &mut clap::Command, title: &str| {
        text.push_str(&format!("\n## {title}\n\n```text\n{}```\n", command.render_long_help()));
    };
    add(&mut program.clone(), "bastium");
    for command in program.get_subcommands_mut() {
        let title = format!("bastium {}", command.get_name());
        add(command, &title);
    }
    let tidy: Vec<&str> = text.lines().map(str::trim_end).collect();
    is_current("docs/commands.md", &(tidy.join("\n") + "\n"));
}

#[test]
fn the_catalogue_of_services_is_current() {
    let mut text = String::from(
        "# Built-in services\n\nEvery plan can name these without declaring them; written by the tests.\n\n\
         | name | is | used | for |\n| --- | --- | --- | --- |\n",
    );
    for service in bastium_core::service::BUILT_IN.iter() {
        text.push_str(&format!(
            "| {} | {} | {} | {} |\n",
            service.name,
            service.set().words().join(", "),
            service.direction.words(),
            service.about
        ));
    }
    is_current("docs/services.md", &text);
}

/// Every line that begins with `$ bastium` in the guide runs, on the plan that the guide is about.
#[test]
fn the_commands_of_readme_and_guide_run() {
    let bench = Bench::new();
    bench.write("questions.csv", "from,to,service,expect\ndesks,printers,ipp,allow\n");
    let mut tried = 0;
    for name in ["README.md", "docs/guide.md", "docs/plan-file.md"] {
        let text = std::fs::read_to_string(repository().join(name)).expect("the document is there");
        for line in text.lines().filter_map(|line| line.strip_prefix("$ bastium ")) {
            let words = shell_words(line);
            if ["new", "demo", "compare"].contains(&words[0].as_str()) {
                continue;
            }
            let mut words: Vec<&str> = words.iter().map(String::as_str).collect();
            words.extend(["--plan", "clinic.toml"]);
            let run = bench.run_words(&words);
            assert!(run.code <= 1, "{name}: {line}: {}", run.err);
            tried += 1;
        }
    }
    assert!(tried >= 8, "{tried} commands were tried");
}

fn shell_words(line: &str) -> Vec<String> {
    let mut words = Vec::new();
    for (index, part) in line.split('"').enumerate() {
        if index % 2 == 1 {
            words.push(part.to_owned());
        } else {
            words.extend(part.split_whitespace().map(str::to_owned));
        }
    }
    words
}

/// The plan that the README shows is a plan.
#[test]
fn the_first_plan_of_the_readme_is_whole() {
    let bench = Bench::new();
    let text =
        std::fs::read_to_string(repository().join("README.md")).expect("the document is there");
    let plan =
        text.split("```toml\n").nth(1).and_then(|rest| rest.split("```").next()).expect("a plan");
    bench.write("first.toml", plan);
    let run = bench.run("check --plan first.toml");
    assert_eq!(run.code, 0, "{}", run.out);
    assert_eq!(bench.run("rules --plan first.toml").code, 0);
}

#[test]
fn every_picture_is_linked_and_every_link_is_there() {
    let readme =
        std::fs::read_to_string(repository().join("README.md")).expect("the document is there");
    let pictures = std::fs::read_dir(repository().join("docs/screenshots")).expect("a folder");
    for picture in pictures {
        let name = picture.expect("an entry").file_name().into_string().expect("a plain name");
        assert!(readme.contains(&format!("docs/screenshots/{name}")), "{name} is linked");
    }
    for document in ["README.md", "docs/guide.md", "docs/plan-file.md", "docs/json.md"] {
        let path = repository().join(document);
        let text = std::fs::read_to_string(&path).expect("the document is there");
        for target in text.split("](").skip(1).filter_map(|rest| rest.split(')').next()) {
            let file =
                path.parent().expect("a folder").join(target.split('#').next().unwrap_or_default());
            assert!(file.exists(), "{document}: {target}");
        }
    }
}
