//! The schema of the plan file, against what the reader really takes.

use bastium_planfile::edit::{Edit, Setting, apply};
use bastium_planfile::format::{Key, Table, Takes, all_tables};
use serde_json::Value;
use std::path::{Path, PathBuf};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn plans() -> Vec<PathBuf> {
    let folders = [root().join("demo"), root().join("demo/broken")];
    let files = folders.iter().flat_map(|folder| std::fs::read_dir(folder).expect("a folder"));
    let files = files.map(|entry| entry.expect("an entry").path());
    files.filter(|path| path.extension().is_some_and(|e| e == "toml")).collect()
}

fn value(text: &str) -> Value {
    toml::from_str(text).unwrap_or_else(|error| panic!("{error}"))
}

/// Whether a plan is valid, by a validator that knows nothing of plans.
fn problems(plan: &Value) -> Option<String> {
    let mut schemas = boon::Schemas::new();
    let mut compiler = boon::Compiler::new();
    compiler.add_resource("plan.json", bastium_planfile::schema()).expect("the schema is JSON");
    let index = compiler.compile("plan.json", &mut schemas).expect("the schema is a schema");
    schemas.validate(plan, index).err().map(|error| error.to_string())
}

#[test]
fn every_plan_of_the_repository_is_valid() {
    let plans = plans();
    assert!(plans.len() > 100);
    for path in plans {
        let text = std::fs::read_to_string(&path).expect("text");
        assert_eq!(problems(&value(&text)), None, "{}", path.display());
    }
}

#[test]
fn what_the_reader_refuses_by_its_shape_is_not_valid() {
    let clinic = std::fs::read_to_string(root().join("demo/clinic.toml")).expect("text");
    for (good, bad) in [
        ("vlan = 24", "vlan = \"24\""),
        ("vlan = 24", "vlan = 4095"),
        ("isolate = true", "isolate = \"yes\""),
        ("trust = \"high\"", "trust = \"total\""),
        ("[zone.staff]", "[zone.Staff]"),
        ("[site]", "[sight]"),
        ("hours = \"deliveries\"", "hour = \"deliveries\""),
        ("form = \"one-list\"", "form = \"two-lists\""),
        ("outside-port = 443", "outside-port = 0"),
        ("mbps = 54", "mbps = \"fast\""),
        ("action = \"allow\"\n", ""),
        ("bastium = 1", "bastium = 2"),
    ] {
        assert!(clinic.contains(good), "{good}");
        assert!(problems(&value(&clinic.replacen(good, bad, 1))).is_some(), "{bad}");
    }
}

/// A value that a key takes, by the description of the format; and one that it does not take.
fn values(key: &Key) -> (String, &'static str) {
    let wrong = match key.takes {
        Takes::Number | Takes::Whole(..) | Takes::Edition | Takes::Flag => "\"no number\"",
        _ => "7",
    };
    let right = match key.takes {
        Takes::Table(_) | Takes::Entries(_) | Takes::NamedTexts => "{}",
        Takes::Tables(_) => "[{}]",
        _ => key.example,
    };
    (right.to_owned(), wrong)
}

/// A file in which a table has one key.
fn with_key(table: &Table, key: &str, value: &str) -> String {
    let heading = table.heading.replace("NAME", "some-name").replace("PORT", "7");
    match table.heading {
        "" if key == "bastium" => format!("{key} = {value}\n"),
        "" => format!("bastium = 1\n{key} = {value}\n"),
        "hours.NAME.spans" => {
            format!("bastium = 1\n[hours.some-name]\nspans = [{{ {key} = {value} }}]\n")
        }
        _ => format!("bastium = 1\n[{heading}]\n{key} = {value}\n"),
    }
}

fn refusals(text: &str) -> Vec<&'static str> {
    let refused = bastium_planfile::read("plan.toml", text.as_bytes()).expect_err("no whole plan");
    let names = refused.diagnoses.iter().map(|diagnosis| diagnosis.name);
    names.filter(|name| matches!(*name, "unknown-key" | "wrong-kind" | "edition")).collect()
}

/// Each key with its example is read, with another kind of value it is not, and no other key is.
#[test]
fn what_is_described_is_what_is_read() {
    for table in all_tables() {
        for key in table.keys {
            let (right, wrong) = values(key);
            assert!(!right.is_empty(), "{}: {} has no example", table.heading, key.name);
            let text = with_key(table, key.name, &right);
            assert_eq!(refusals(&text), [""; 0], "{text}");
            let text = with_key(table, key.name, wrong);
            assert_eq!(refusals(&text), ["wrong-kind"], "{text}");
        }
        let text = with_key(table, "nonsense", "7");
        assert_eq!(refusals(&text), ["unknown-key"], "{text}");
    }
}

/// The words of every choice are those that the core takes, and it takes no other.
#[test]
fn every_word_of_a_choice_is_one() {
    let clinic = std::fs::read_to_string(root().join("demo/clinic.toml")).expect("text");
    let refused = |text: &str| match bastium_planfile::read("plan.toml", text.as_bytes()) {
        Ok(_) => Vec::new(),
        Err(refused) => refused.diagnoses.into_iter().map(|diagnosis| diagnosis.name).collect(),
    };
    let mut choices = 0;
    for table in all_tables() {
        for key in table.keys {
            let Takes::Choice(words) = key.takes else { continue };
            let kind = table.heading.split('.').next().expect("a word");
            let parsed = value(&clinic);
            let first = parsed[kind].as_object().and_then(|entries| entries.keys().next().cloned());
            let name = table.heading.ends_with(".NAME").then(|| first.expect("an entry"));
            for word in words.iter().copied().chain(["nonsense"]) {
                let setting = Setting::from_words(&format!("{}={word}", key.name)).expect("a key");
                let (kind, settings) = (kind.to_owned(), vec![setting]);
                let edit = Edit::Set { kind, name: name.clone(), settings };
                let text = apply(&clinic, &edit).expect("an edit");
                let says = refused(&text);
                choices += 1;
                let unknown = |name: &&str| {
                    matches!(*name, "unknown-choice" | "unknown-trust" | "unknown-action")
                };
                assert_eq!(says.iter().any(unknown), word == "nonsense", "{word}: {says:?}");
            }
        }
    }
    assert!(choices > 20, "{choices}");
}

/// The words of a plan, sorted, since its maps have no order; without its text, and without places in it.
fn without_places(plan: &bastium_core::plan::Plan) -> Vec<String> {
    let text = format!("{plan:?}");
    let mut rest = text.split_once(", site: ").expect("a site").1;
    let mut kept = String::new();
    while let Some((before, span)) = rest.split_once("Span { ") {
        kept.push_str(before);
        rest = span.split_once('}').map_or("", |(_, rest)| rest);
    }
    kept.push_str(rest);
    let words = kept.split([' ', ',', '{', '}']);
    // Whether there is a place is no difference, either.
    let words = words.filter(|word| !matches!(*word, "" | "None" | "Some(" | "Some()" | ")"));
    let mut words: Vec<String> = words.map(str::to_owned).collect();
    words.sort_unstable();
    words
}

/// A key that has a default says the same with it as without it.
#[test]
fn a_default_is_what_counts_where_the_key_is_not_there() {
    let clinic = std::fs::read_to_string(root().join("demo/clinic.toml")).expect("text");
    let farm = std::fs::read_to_string(root().join("demo/farm.toml")).expect("text");
    let read = |text: &str| bastium_planfile::read("plan.toml", text.as_bytes()).expect("a plan");
    let mut held = Vec::new();
    for (text, table, key) in [&clinic, &farm]
        .into_iter()
        .flat_map(|text| all_tables().into_iter().map(move |table| (text, table)))
        .flat_map(|(text, table)| table.keys.iter().map(move |key| (text, table, key)))
    {
        let takes_it = match key.takes {
            Takes::Flag => matches!(key.default, "true" | "false"),
            Takes::Choice(words) => words.contains(&key.default),
            Takes::Text | Takes::Texts => !key.default.is_empty() && !key.default.contains(' '),
            _ => false,
        };
        let words: Vec<&str> = table.heading.split('.').collect();
        let (kind, name) = match words.as_slice() {
            [kind, "NAME"] => {
                let parsed = value(text);
                let Some(entries) = parsed[kind].as_object() else { continue };
                (*kind, entries.keys().next().cloned())
            }
            _ => (table.heading, None),
        };
        if !takes_it || kind.is_empty() {
            continue;
        }
        let set = |value: &str| {
            let setting = Setting::from_words(&format!("{}={value}", key.name)).expect("a key");
            let (kind, name) = (kind.to_owned(), name.clone());
            apply(text, &Edit::Set { kind, name, settings: vec![setting] }).expect("an edit")
        };
        let [without, with] = ["", key.default].map(set).map(|text| {
            bastium_planfile::read("plan.toml", text.as_bytes())
                .map(|plan| without_places(&plan))
                .map_err(|refused| refused.diagnoses.len())
        });
        let differ = |(one, other): &(&String, &String)| one != other;
        let first = without.iter().flatten().zip(with.iter().flatten()).find(differ);
        assert!(without == with, "{}: {}: {first:?}", table.heading, key.name);
        held.push(key.name);
    }
    assert_ne!(without_places(&read(&clinic)), without_places(&read(&farm)));
    assert!(held.len() > 40, "{held:?}");
}
