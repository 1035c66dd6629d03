//! Sentences for errors of the libraries, with what to do about each.

use bastium_core::asking::NoAnswer;
use bastium_gateway::clean;
use bastium_gateway::foreign::{NotAList, NotHeld, NotUnderstood};
use bastium_picture::PngProblem;
use bastium_planfile::edit::{FROM_SHEETS, SheetProblem};
use bastium_report::sheets::RuleFileProblem;

/// Why a question has no answer.
pub(super) fn unanswered(reason: &NoAnswer, from: &str, to: &str) -> (String, &'static str) {
    const ANOTHER: &str = "add a network to it, or ask about another endpoint";
    match reason {
        NoAnswer::NobodyThere => {
            (format!("`{from}` has no networks yet, so no traffic comes from it"), ANOTHER)
        }
        NoAnswer::NobodyToReach => {
            (format!("`{to}` has no networks yet, so there is nothing to reach"), ANOTHER)
        }
        NoAnswer::NoCommonFamily => (
            format!("no traffic is possible from `{from}` to `{to}` for that service"),
            "one has only IPv4 and the other only IPv6, or the service exists in the other family only",
        ),
        NoAnswer::GatewayToItself => (
            "both ends are the gateway".to_owned(),
            "its traffic to itself is not filtered; ask about another endpoint",
        ),
    }
}

/// Why a file holds no list of rules, said of the file.
pub(super) fn not_a_list(problem: &NotAList) -> (String, &'static str) {
    match problem {
        NotAList::Neither => (
            "is no rule list".to_owned(),
            "give it what `nft list ruleset` prints, as text or (-j) as JSON, RFC 8519 in JSON, or a table with headings",
        ),
        NotAList::OtherJson => (
            "is JSON, but no rule list".to_owned(),
            "give it what `nft list ruleset` prints, or lists of RFC 8519",
        ),
        NotAList::BrokenJson(error) => {
            (format!("is no JSON: {}", clean(error)), "is the file whole?")
        }
        NotAList::NoColumns(missing) => (
            format!("has no column {}", missing.join(", ")),
            "its first row needs the headings action, source, destination and service",
        ),
        NotAList::BrokenText { at, what } => (
            format!("cannot be read at {}: {}", clean(at), clean(what)),
            "give it what `nft list ruleset` prints, or `nft -j list ruleset`",
        ),
        NotAList::BrokenTable(error) => {
            (format!("is no table: {}", clean(error)), "is it comma-separated (RFC 4180)?")
        }
        NotAList::Empty => ("has no rules in it".to_owned(), "is it the right file?"),
        NotAList::TooManyInterfaces { count, most } => (
            format!("names {count} interfaces; at most {most} are supported"),
            "look at it part by part: the rules for some of the interfaces at a time",
        ),
    }
}

/// So many things that were not understood are named in one sentence.
const MOST_NAMED: usize = 3;

/// Why no change can begin with a gateway's rules, said of their file.
pub(super) fn not_held(problem: &NotHeld) -> (String, &'static str) {
    const WHOLE_FILE: &str = "load the whole file that `bastium export nftables` writes: it takes the place of the old rules in one step";
    match problem {
        NotHeld::Unread(unread) => (
            format!("is not understood in every row: {}", named(unread)),
            "a safe order needs every row: enter what is named as conditions that Bastium knows, or take these rows out \
             of the gateway first",
        ),
        NotHeld::Exhausted => {
            ("has chains that lead into each other too often, or too deep".to_owned(), WHOLE_FILE)
        }
        NotHeld::ByManyWays { at } => {
            (format!("has a row that is reached by several ways ({})", clean(at)), WHOLE_FILE)
        }
        NotHeld::OneOfSeveralUplinks { at } => (
            format!("has a row for what leaves by one of several uplinks ({})", clean(at)),
            "no order of rows decides by which uplink a packet leaves: let the row be for all of them, or load a whole file",
        ),
        NotHeld::State { keeps: true } => (
            "keeps state, and the plan's rules are for a gateway that does not".to_owned(),
            "take another form, such as `--form one-list`",
        ),
        NotHeld::State { keeps: false } => (
            "keeps no state, and the plan's rules are for a gateway that does".to_owned(),
            "take the form for such lists: `--form per-interface`",
        ),
        NotHeld::Ranks => (
            "says nothing of ranks, which the plan's rules rest on".to_owned(),
            "take another form, such as `--form one-list`",
        ),
        NotHeld::Several { at, lists: [one, other] } => (
            format!(
                "has a row that is for more than one of the plan's lists: {} is for {} and {}",
                clean(at),
                clean(one),
                clean(other)
            ),
            "take the form with a single list: `--form one-list`",
        ),
        _ => ("cannot be what a change begins with".to_owned(), WHOLE_FILE),
    }
}

/// What was not understood, the first few by name.
fn named(unread: &[NotUnderstood]) -> String {
    let each = unread.iter().take(MOST_NAMED);
    let each = each.map(|one| format!("{} ({})", clean(&one.what), clean(&one.at)));
    let each = each.collect::<Vec<_>>().join(", ");
    match unread.len().saturating_sub(MOST_NAMED) {
        0 => each,
        more => format!("{each}, and {more} more"),
    }
}

/// Why a rule list of this program cannot be read back, to follow the name of its file.
pub(super) fn not_read_back(problem: &RuleFileProblem) -> String {
    match problem {
        RuleFileProblem::NotOne(error) => format!(" is no rule list: {error}"),
        RuleFileProblem::InPart => " has only some of the rules".to_owned(),
        RuleFileProblem::Word(word) => {
            format!(": `{}` has no meaning in a rule list", clean(word))
        }
        RuleFileProblem::TooMany => ": it names too many endpoints".to_owned(),
    }
}

/// Why no entries can be made of a table.
pub(super) fn unusable(problem: &SheetProblem) -> (String, String) {
    match problem {
        SheetProblem::Kind(kind) => (
            format!("no {kind} can come from a table"),
            format!("write one of {}", FROM_SHEETS.join(", ")),
        ),
        SheetProblem::NoName { headings } => (
            format!("no column of the table is the name; the headings are {}", headings.join(", ")),
            "give the first row headings, one of them `name`".to_owned(),
        ),
        SheetProblem::Twice { key, headings: [one, other] } => (
            format!("the columns `{one}` and `{other}` both mean `{key}`"),
            "rename one of the two".to_owned(),
        ),
    }
}

/// What to do where a picture could not be made.
pub(super) fn not_drawn(problem: &PngProblem) -> &'static str {
    match problem {
        PngProblem::TooLarge(..) => "choose a smaller `--width`, or write SVG",
        PngProblem::Svg(_) | PngProblem::Encoding(_) => {
            "this is a fault of bastium: please report it"
        }
    }
}
