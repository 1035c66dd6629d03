//! Reads sets, and maps from values to verdicts.

use super::super::cursor::Cursor;
use super::super::ruleset::{Key, Map, Problem, Set, Value, Verdict};
use super::super::values;
use super::at_line;
use std::collections::HashSet;

/// Reads a set, behind its opening brace.
pub(super) fn set(tokens: &mut Cursor<'_>) -> Result<Set, Problem> {
    let content = Content::read(tokens, false)?;
    let elements = content.elements.into_iter().map(|(values, _)| values).collect();
    Ok(Set { types: content.types, elements, filled: content.filled, unread: content.unread })
}

/// Reads a map, behind its opening brace.
pub(super) fn map(tokens: &mut Cursor<'_>) -> Result<Map, Problem> {
    let content = Content::read(tokens, true)?;
    let filled = content.filled.then(|| "it is filled while the gateway runs".to_owned());
    let mut seen: HashSet<&[Value]> = HashSet::new();
    if !content.elements.iter().all(|(values, _)| seen.insert(values)) {
        return Err(at_line(tokens.line(), "an element for the second time"));
    }
    let elements = content.elements.into_iter();
    let elements = elements.filter_map(|(values, verdict)| Some((values, verdict?))).collect();
    Ok(Map { types: content.types, elements, unread: content.unread.or(filled) })
}

/// What stands in a set or in a map.
#[derive(Default)]
struct Content {
    types: Vec<Key>,
    elements: Vec<(Vec<Value>, Option<Verdict>)>,
    interval: bool,
    filled: bool,
    unread: Option<String>,
}

impl Content {
    fn read(tokens: &mut Cursor<'_>, is_map: bool) -> Result<Self, Problem> {
        let mut content = Self::default();
        loop {
            tokens.skip_ends();
            if tokens.takes_sign('}') {
                return match content.types.is_empty() && content.unread.is_none() {
                    true => Err(at_line(tokens.line(), "a set or a map without a type")),
                    false => Ok(content),
                };
            }
            content.part(tokens, is_map).map_err(|what| at_line(tokens.line(), what))?;
        }
    }

    fn part(&mut self, tokens: &mut Cursor<'_>, is_map: bool) -> Result<(), String> {
        let word = tokens.word().ok_or("a set or a map that is not closed")?;
        match word.as_str() {
            "type" => match types(tokens)? {
                (_, leads) if leads != is_map => return Err(unlike(is_map).to_owned()),
                (Some(types), _) => self.types = types,
                (None, _) => self.unread = Some("a type that is not known here".to_owned()),
            },
            "typeof" => {
                tokens.skip_line();
                self.unread = Some("a type by `typeof`".to_owned());
            }
            "flags" => {
                while let Some(flag) = tokens.word() {
                    match flag.as_str() {
                        "interval" => self.interval = true,
                        "timeout" | "dynamic" => self.filled = true,
                        "constant" => {}
                        other => return Err(format!("the flag `{other}`")),
                    }
                    tokens.takes_sign(',');
                }
            }
            "timeout" => {
                tokens.next();
                self.filled = true;
            }
            "size" | "gc-interval" | "policy" | "comment" => {
                tokens.next();
            }
            "auto-merge" | "counter" => {}
            "elements" if self.unread.is_some() || self.types.is_empty() => {
                self.unread.get_or_insert_with(|| "elements before a type".to_owned());
                tokens.skip_block()?;
            }
            "elements" => self.elements(tokens, is_map)?,
            other => return Err(format!("`{other}` in a set or a map")),
        }
        Ok(())
    }

    fn elements(&mut self, tokens: &mut Cursor<'_>, is_map: bool) -> Result<(), String> {
        if !tokens.takes_sign('=') || !tokens.takes_sign('{') {
            return Err("elements without `= {`".to_owned());
        }
        loop {
            tokens.skip_lines();
            if tokens.takes_sign('}') {
                return Ok(());
            }
            let element = element(tokens, &self.types)?;
            if !self.interval && element.iter().any(is_range) {
                return Err("a range in a set without `flags interval`".to_owned());
            }
            let verdict = match is_map {
                true => {
                    let verdict = tokens.takes(":").then(|| tokens.verdict()).flatten();
                    Some(verdict.ok_or("an element without a verdict")?)
                }
                false => None,
            };
            self.elements.push((element, verdict));
            // What leaves a set by itself has to be put there again.
            self.filled |= after_element(tokens)?;
        }
    }
}

fn unlike(is_map: bool) -> &'static str {
    if is_map { "a map without values" } else { "a set with values" }
}

/// The types, if all are known, and of what they lead to only verdicts are; and whether they lead to anything.
fn types(tokens: &mut Cursor<'_>) -> Result<(Option<Vec<Key>>, bool), String> {
    let mut types = Some(Vec::new());
    loop {
        let word = tokens.word().ok_or("a type is missing")?;
        match (values::typed(&word), &mut types) {
            (Some(key), Some(all)) => all.push(key),
            _ => types = None,
        }
        if tokens.takes(":") {
            let verdicts = tokens.takes("verdict");
            if !verdicts {
                tokens.skip_line();
            }
            return Ok((types.filter(|_| verdicts), true));
        }
        if !tokens.takes(".") {
            return Ok((types, false));
        }
    }
}

fn element(tokens: &mut Cursor<'_>, types: &[Key]) -> Result<Vec<Value>, String> {
    let mut values = Vec::new();
    for (place, key) in types.iter().enumerate() {
        if place > 0 && !tokens.takes(".") {
            return Err("an element that is too short".to_owned());
        }
        let raw = tokens.raw(*key).ok_or("an empty element")?;
        values.push(values::value(*key, &raw).map_err(|odd| format!("the element `{odd}`"))?);
    }
    Ok(values)
}

/// What may follow an element: how long it stays, what it counts; then the next one or the end. Whether it stays for a time
/// only.
fn after_element(tokens: &mut Cursor<'_>) -> Result<bool, String> {
    let mut leaves = false;
    loop {
        tokens.skip_lines();
        if tokens.takes_sign(',') || tokens.sees_sign('}') {
            return Ok(leaves);
        }
        let known = ["timeout", "expires", "comment", "counter", "packets", "bytes"];
        match tokens.word() {
            Some(word) if known.contains(&word.as_str()) => {
                leaves |= ["timeout", "expires"].contains(&word.as_str());
                if word != "counter" {
                    tokens.next();
                }
            }
            _ => return Err("elements without a comma between them".to_owned()),
        }
    }
}

fn is_range(value: &Value) -> bool {
    match value {
        Value::Addresses(low, high) => low != high,
        Value::Numbers(low, high) => low != high,
        _ => false,
    }
}
