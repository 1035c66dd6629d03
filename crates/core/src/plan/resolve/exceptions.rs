//! Exceptions: what they name, what they do, and which goes before which.

use super::super::Hours;
use super::super::draft;
use super::super::ids::ExceptionId;
use super::super::matrix::{Action, LogPolicy};
use super::super::model::Exception;
use super::{Resolver, hours, names, nearest_or, promises, services};
use crate::diagnosis::{Diagnose, Diagnosis, error};
use crate::name::{Name, nearest};
use crate::source::{Span, Text};
use crate::space::ServiceSet;
use jiff::civil::Date;
use std::collections::HashMap;

/// What can be wrong with an exception taken alone.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum ExceptionProblem {
    /// It does not say from where, to where, or what happens.
    Incomplete { exception: Name, missing: &'static str, at: Span },
    /// An action that is none.
    Action { word: String, at: Span },
    /// A day that is none.
    Day { word: String, at: Span },
    /// `before` names an exception that is not there.
    UnknownBefore { word: String, nearest: Option<String>, at: Span },
    /// `before` names the exception itself.
    BeforeItself { exception: Name, at: Span },
    /// Another exception has the name.
    Twice { name: Name, at: Span, first: Span },
}

impl Diagnose for ExceptionProblem {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::Incomplete { exception, missing, at } => error("incomplete-exception", at)
                .says(format!("exception `{exception}` does not say `{missing}`"))
                .help(match *missing {
                    "action" => {
                        "add a line like `action = \"allow\"` (allow, block or reject)".to_owned()
                    }
                    _ => format!("add a line like `{missing} = \"…\"`"),
                }),
            Self::Action { word, at } => error("unknown-choice", at)
                .says(format!("`{word}` is not an action"))
                .help(nearest_or(
                    nearest(word, Action::ALL.map(Action::word)).map(str::to_owned).as_ref(),
                    "write allow, block or reject",
                )),
            Self::Day { word, at } => {
                error("bad-day", at).says(format!("`{word}` is not a day")).help(
                    "write it like 2027-03-31; the exception counts up to and including that day",
                )
            }
            Self::UnknownBefore { word, nearest, at } => error("unknown-exception", at)
                .says(format!("no exception is called `{word}`"))
                .help(nearest_or(
                    nearest.as_ref(),
                    "name one that is declared as `[exception.NAME]`",
                )),
            Self::BeforeItself { exception, at } => error("before-itself", at)
                .says(format!("exception `{exception}` lists itself in `before`"))
                .help("remove its name from `before`"),
            Self::Twice { name, at, first } => error("name-taken", at)
                .says(format!("exception `{name}` is declared twice"))
                .help("give one of the two another name")
                .also(*first, "declared here"),
        }
    }
}

/// What exceptions can name, and what they leave to the matrix.
pub(super) struct Around<'a> {
    pub(super) services: &'a HashMap<String, ServiceSet>,
    pub(super) hours: &'a [Hours],
    pub(super) log: Option<LogPolicy>,
}

/// The exceptions that can be built, and behind them the permissions that `inbound` entries amount
/// to; the problems of the others are noted.
pub(super) fn exceptions(
    draft: &draft::Draft,
    around: &Around<'_>,
    resolver: &mut Resolver,
) -> Vec<Exception> {
    let offered = draft.inbounds.iter().map(|inbound| &inbound.permission);
    let drafts: Vec<&draft::Exception> = draft.exceptions.iter().chain(offered).collect();
    let mut numbers: HashMap<&str, (ExceptionId, Span)> = HashMap::new();
    for (index, draft) in drafts.iter().enumerate() {
        if let Some((_, first)) = numbers.get(draft.name.value.as_str()) {
            if let Ok(name) = Name::new(&draft.name.value) {
                let (at, first) = (draft.name.at, *first);
                resolver.problem(ExceptionProblem::Twice { name, at, first });
            }
        } else {
            numbers.insert(&draft.name.value, (ExceptionId(index), draft.name.at));
        }
    }
    let mut built = Vec::with_capacity(drafts.len());
    for (index, entry) in drafts.into_iter().enumerate() {
        let inbound = index.checked_sub(draft.exceptions.len());
        let offered = inbound.map(|index| &draft.inbounds[index]);
        let translated =
            offered.is_some_and(|o| o.translate.is_none_or(|translate| translate.value));
        built.extend(exception(entry, &numbers, around, resolver).map(|exception| Exception {
            inbound,
            translated,
            ..exception
        }));
    }
    built
}

fn exception(
    draft: &draft::Exception,
    numbers: &HashMap<&str, (ExceptionId, Span)>,
    around: &Around<'_>,
    resolver: &mut Resolver,
) -> Option<Exception> {
    let (known, log) = (around.services, around.log.unwrap_or(LogPolicy::Block));
    let name = names::name(&draft.name, resolver)?;
    let at = draft.name.at;
    let incomplete =
        |missing| ExceptionProblem::Incomplete { exception: name.clone(), missing, at };
    let from = resolver.end(&draft.from, at, || incomplete("from"));
    let to = resolver.end(&draft.to, at, || incomplete("to"));
    let any = [Text::new("any")];
    let service = match &draft.service {
        Some(words) => services::some(words, at, known, resolver),
        None => services::some(&any, at, known, resolver),
    };
    let action = action(draft.action.as_ref(), &name, at, resolver);
    let until = draft.until.as_ref().and_then(|word| day(word, resolver));
    let before = before(&draft.before, &name, numbers, resolver);
    let hours = draft.hours.as_ref().map(|word| hours::named(word, around.hours, resolver));
    let limit_mbps = promises::rate("limit-mbps", draft.limit_mbps, resolver);
    let text = |text: &Option<Text>| text.as_ref().map(|text| text.value.clone());
    let tags = names::tags(&draft.tags, resolver);
    let action = action?;
    Some(Exception {
        name,
        tags,
        from: from?,
        to: to?,
        service: service?,
        action,
        log: draft.log.map_or(log.logs(action), |log| log.value),
        why: text(&draft.why).unwrap_or_default(),
        ticket: text(&draft.ticket),
        owner: text(&draft.owner),
        until,
        until_at: draft.until.as_ref().map_or(at, |word| word.at),
        off: draft.off.is_some_and(|off| off.value),
        hours: match hours {
            Some(hours) => Some(hours?),
            None => None,
        },
        limit_mbps,
        inbound: None,
        translated: false,
        before,
        at,
    })
}

fn action(word: Option<&Text>, name: &Name, at: Span, resolver: &mut Resolver) -> Option<Action> {
    let Some(word) = word else {
        let exception = name.clone();
        resolver.problem(ExceptionProblem::Incomplete { exception, missing: "action", at });
        return None;
    };
    let action = Action::from_word(&word.value);
    if action.is_none() {
        resolver.problem(ExceptionProblem::Action { word: word.value.clone(), at: word.at });
    }
    action
}

fn day(word: &Text, resolver: &mut Resolver) -> Option<Date> {
    let shaped = word.value.len() == 10;
    let day = word.value.parse::<Date>().ok().filter(|_| shaped);
    if day.is_none() {
        resolver.problem(ExceptionProblem::Day { word: word.value.clone(), at: word.at });
    }
    day
}

fn before(
    words: &[Text],
    name: &Name,
    numbers: &HashMap<&str, (ExceptionId, Span)>,
    resolver: &mut Resolver,
) -> Vec<(ExceptionId, Span)> {
    let mut before = Vec::new();
    for word in words {
        match numbers.get(word.value.as_str()) {
            Some(_) if word.value == name.as_str() => {
                let exception = name.clone();
                resolver.problem(ExceptionProblem::BeforeItself { exception, at: word.at });
            }
            Some((id, _)) => before.push((*id, word.at)),
            None => resolver.problem(ExceptionProblem::UnknownBefore {
                word: word.value.clone(),
                nearest: nearest(&word.value, numbers.keys().copied()).map(str::to_owned),
                at: word.at,
            }),
        }
    }
    before
}
