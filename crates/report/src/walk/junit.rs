//! Results as JUnit XML, for tools that read test reports.

use super::{ResultRow, State, WalkSheet};
use bastium_gateway::clean;
use quick_xml::Writer;
use quick_xml::events::{BytesDecl, BytesText, Event};
use std::io;

/// Writes the results as XML: a suite for each place.
///
/// # Errors
/// None that memory does not make.
pub fn junit(sheet: &WalkSheet) -> io::Result<String> {
    let mut xml = Writer::new_with_indent(Vec::new(), b' ', 2);
    xml.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)))?;
    let total = sheet.results.len().to_string();
    let failed = sheet.failed.to_string();
    xml.create_element("testsuites")
        .with_attributes([
            ("name", clean(&sheet.site).as_ref()),
            ("tests", &total),
            ("failures", &failed),
        ])
        .write_inner_content(|xml| {
            for place in sheet.results.chunk_by(|one, next| one.place == next.place) {
                suite(xml, place)?;
            }
            Ok(())
        })?;
    let mut text = String::from_utf8(xml.into_inner()).map_err(io::Error::other)?;
    text.push('\n');
    Ok(text)
}

fn suite(xml: &mut Writer<Vec<u8>>, rows: &[ResultRow]) -> io::Result<()> {
    let Some(first) = rows.first() else { return Ok(()) };
    let count = |states: &[State]| {
        rows.iter().filter(|row| states.contains(&row.outcome)).count().to_string()
    };
    xml.create_element("testsuite")
        .with_attributes([
            ("name", clean(&first.place).as_ref()),
            ("tests", &rows.len().to_string()),
            ("failures", &count(&[State::Fail])),
            ("skipped", &count(&[State::Skip, State::Changed, State::Open, State::NotShown])),
        ])
        .write_inner_content(|xml| rows.iter().try_for_each(|row| case(xml, row)))?;
    Ok(())
}

fn case(xml: &mut Writer<Vec<u8>>, row: &ResultRow) -> io::Result<()> {
    let element = xml
        .create_element("testcase")
        .with_attributes([("classname", clean(&row.place).as_ref()), ("name", &clean(&row.id))]);
    let seen = row.seen.as_deref().unwrap_or("something else");
    let (tag, says) = match row.outcome {
        State::Pass => {
            element.write_empty()?;
            return Ok(());
        }
        State::Fail => ("failure", format!("expected {}, seen {seen}", row.expect)),
        State::Skip => ("skipped", "left out".to_owned()),
        State::Changed => ("skipped", "to make again: the plan has changed".to_owned()),
        State::Open => ("skipped", "open".to_owned()),
        State::NotShown => ("skipped", "nothing shows that the other end was there".to_owned()),
    };
    let more = [row.if_not.as_deref(), row.note.as_deref()];
    let more: Vec<&str> = more.into_iter().flatten().collect();
    element.write_inner_content(|xml| {
        xml.create_element(tag)
            .with_attribute(("message", clean(&says).as_ref()))
            .write_text_content(BytesText::new(&clean(&more.join("; "))))?;
        Ok(())
    })?;
    Ok(())
}
