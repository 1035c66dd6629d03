//! Tables of rules that somebody else wrote: what of a row is read, and what is named because nobody can.

use bastium_core::space::ServiceSet;
use bastium_gateway::foreign::{Foreign, NotAList, read_rules};

fn read(text: &str) -> Foreign {
    read_rules(text, None).expect("a table of rules")
}

/// What is not understood of a table with one row.
fn unread(headings: &str, row: &str) -> Vec<String> {
    let foreign = read(&format!("{headings}\n{row}\n"));
    let line = foreign.lines.iter().find(|line| !line.end).expect("a row");
    assert_eq!(line.sure, foreign.not_understood.is_empty(), "{headings}: {row}");
    foreign.not_understood.into_iter().map(|one| one.what).collect()
}

#[test]
fn a_column_that_may_say_something_of_packets_is_not_passed_over() {
    let needed = "action,source,destination";
    for (headings, row, what) in [
        ("schedule", "nights", "the column `schedule`: `nights`"),
        ("source port", "1-1023", "the column `source port`: `1-1023`"),
        ("State", "new", "the column `state`: `new`"),
        ("", "nights", "`nights`, below no heading"),
        ("comment", "why,nights", "`nights`, below no heading"),
        ("enabled", "sometimes", "whether it is in force"),
        ("disabled", "perhaps", "whether it is in force"),
        ("log", "daily", "the log `daily`"),
        // Which of two columns is meant, nobody knows.
        ("service,port", "https,22", "the column `port`: `22`"),
        ("source", "10.0.0.0/8", "the column `source`: `10.0.0.0/8`"),
        // A row that is broken off has no conditions left.
        ("service", "", "the row ends before `service`"),
    ] {
        let row = if what.contains("ends") {
            "allow,any,any".to_owned()
        } else {
            format!("allow,any,any,{row}")
        };
        assert_eq!(unread(&format!("{needed},{headings}"), &row), [what]);
    }
}

#[test]
fn what_says_nothing_of_packets_does_no_harm() {
    let needed = "action,source,destination";
    for (headings, row) in [
        ("schedule", ""),
        ("schedule", "any"),
        ("state", "*"),
        ("comment", "asked for by the vet"),
        ("Last hit", "2026-11-02"),
        ("no,enabled,disabled", "10,yes,no"),
        ("log", "on"),
        ("log", "none"),
        ("service,port", "https,any"),
        ("", ""),
    ] {
        let read = unread(&format!("{needed},{headings}"), &format!("allow,any,any,{row}"));
        assert!(read.is_empty(), "{headings}: {read:?}");
    }
}

#[test]
fn a_rule_that_is_not_in_force_does_nothing() {
    let text = "action,source,destination,enabled\nallow,any,any,no\nblock,any,any,yes\n,,,\n";
    assert_eq!((read(text).rules, read(text).not_understood.len()), (1, 0));
    let text = "action,source,destination,disabled\nallow,any,any,yes\nblock,any,any,\n";
    assert_eq!(read(text).rules, 1);
    let none = "action,source,destination,enabled\nallow,any,any,off\n";
    assert_eq!(read_rules(none, None).err(), Some(NotAList::Empty));
}

#[test]
fn rows_whose_numbers_fall_may_be_asked_in_another_order() {
    let with = |numbers: [&str; 3]| {
        let rows = numbers.map(|number| format!("{number},allow,any,any\n")).concat();
        let foreign = read(&format!("no,action,source,destination\n{rows}"));
        foreign.not_understood.into_iter().map(|one| (one.at, one.what)).collect::<Vec<_>>()
    };
    assert!(with(["1", "2", "10"]).is_empty());
    assert!(with(["1", "", "2"]).is_empty());
    assert_eq!(with(["1", "20", "10"]), [("line 4".to_owned(), "number 10 below 20".to_owned())]);
    assert_eq!(with(["1", "2a", "3"]), [("line 3".to_owned(), "the number `2a`".to_owned())]);
    let two =
        read("no,priority,action,source,destination\n1,200,allow,any,any\n2,100,block,any,any\n");
    assert_eq!(two.not_understood.len(), 1, "{:?}", two.not_understood);
    assert_eq!(with(["5", "", "5"]), [("line 4".to_owned(), "number 5 below 5".to_owned())]);
}

/// The services of a row with these two cells, if they are understood.
fn services(service: &str, protocol: &str) -> Option<ServiceSet> {
    let headings = "action,source,destination,service,protocol";
    let foreign = read(&format!("{headings}\nallow,any,any,\"{service}\",\"{protocol}\"\n"));
    let line = foreign.lines.first().filter(|line| line.sure)?;
    Some(line.bare.matches.first()?.service.clone())
}

#[test]
fn a_protocol_bounds_services_by_name_as_well() {
    let words = |words: &str| {
        let words: Vec<String> = words.split(", ").map(str::to_owned).collect();
        ServiceSet::from_words(&words)
    };
    for (service, protocol, says) in [
        ("dns", "any", words("tcp/53, udp/53")),
        ("dns", "udp", words("udp/53")),
        ("53", "tcp/udp", words("tcp/53, udp/53")),
        ("53 123", "UDP", words("udp/53, udp/123")),
        ("80-90", "tcp, udp", words("tcp/80-90, udp/80-90")),
        ("any", "tcp", words("tcp")),
        ("tcp/443", "", words("tcp/443")),
        ("tcp/443", "udp", None),
        ("https", "icmp", None),
        ("53", "", None),
        ("53", "carrier", None),
        ("1 - 99", "tcp", None),
    ] {
        assert_eq!(services(service, protocol), says, "{service} by {protocol}");
    }
}
