//! Diagnoses with the lines of the plan that they are about.

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{Annotation, AnnotationKind, Group, Level, Origin, Renderer, Snippet};
use bastium_core::diagnosis::{Diagnosis, Severity};
use bastium_core::source::{Source, Span};
use bastium_gateway::clean;
use std::ops::Range;

/// After so many the rest is only counted.
const MOST: usize = 100;
/// As many other places of one diagnosis are shown.
const MOST_PLACES: usize = 3;
/// A line longer than this is not shown, only named.
const LONGEST_LINE: usize = 2_000;

/// Renders all diagnoses of a text, with styles for a terminal.
pub(crate) fn render(source: &Source, diagnoses: &[Diagnosis], width: u16) -> String {
    let renderer = Renderer::styled().term_width(width.into()).decor_style(DecorStyle::Unicode);
    let mut text = String::new();
    for diagnosis in diagnoses.iter().take(MOST) {
        let head = diagnosis.severity.word().len() + diagnosis.name.len() + "[]: ".len();
        let says = wrapped(&diagnosis.says, width, head);
        let line = diagnosis.at.map_or(0, |at| source.line(at)).to_string().len();
        let level = match diagnosis.severity {
            Severity::Error => Level::ERROR,
            Severity::Warning => Level::WARNING,
            Severity::Advice => Level::INFO.with_name(Some("advice")),
        };
        let mut group = level
            .primary_title(says)
            .id(diagnosis.name)
            .elements(Vec::<Snippet<'_, Annotation<'_>>>::new());
        group = match diagnosis.at {
            Some(at) => place(group, source, at, AnnotationKind::Primary, None),
            None => group.element(Origin::path(clean(source.name()).into_owned())),
        };
        for remark in diagnosis.also.iter().take(MOST_PLACES) {
            let label = clean(&remark.says).into_owned();
            group = place(group, source, remark.at, AnnotationKind::Context, Some(label));
        }
        if let Some(more) = diagnosis.also.len().checked_sub(MOST_PLACES).filter(|more| *more > 0) {
            let places = if more == 1 { "1 more place" } else { &format!("{more} more places") };
            let says = format!("{places}; `bastium check --format json` has them all");
            group = group.element(Level::NOTE.with_name(Some("also")).message(says));
        }
        if !diagnosis.why.is_empty() {
            let why = wrapped(&diagnosis.why, width, line + " ├ why: ".chars().count());
            group = group.element(Level::NOTE.with_name(Some("why")).message(why));
        }
        if !diagnosis.help.is_empty() {
            let help = wrapped(&diagnosis.help, width, line + " ╰ help: ".chars().count());
            group = group.element(Level::HELP.message(help));
        }
        text.push_str(&renderer.render(&[group]));
        text.push_str("\n\n");
    }
    if diagnoses.len() > MOST {
        let more = diagnoses.len() - MOST;
        text.push_str(&format!(
            "... and {more} more; `bastium check --format json` has them all\n"
        ));
    }
    text
}

/// A text in lines that fit behind `indent` columns; the renderer puts later lines below the first.
fn wrapped(text: &str, width: u16, indent: usize) -> String {
    let room = usize::from(width).saturating_sub(indent).max(30);
    textwrap::fill(&clean(text), super::wrap::whole_words(room))
}

/// Adds the line that a span is on, underlined.
fn place<'a>(
    group: Group<'a>,
    source: &'a Source,
    at: Span,
    kind: AnnotationKind,
    label: Option<String>,
) -> Group<'a> {
    let window = window(source.text(), at);
    let path = clean(source.name()).into_owned();
    let line = source.line(at);
    if window.len() > LONGEST_LINE {
        return group.element(Origin::path(path).line(line).char_column(source.column(at)));
    }
    let start = at.start.clamp(window.start, window.end) - window.start;
    let end = at.end.clamp(at.start, window.end) - window.start;
    let shown = &source.text()[window];
    group.element(
        Snippet::source(shown)
            .line_start(line)
            .path(path)
            .annotation(kind.span(start..end.max(start)).label(label)),
    )
}

/// The line on which a span begins.
fn window(text: &str, at: Span) -> Range<usize> {
    let start = at.start.min(text.len());
    let before = text.get(..start).unwrap_or_default();
    let begin = before.rfind('\n').map_or(0, |found| found + 1);
    let rest = text.get(start..).unwrap_or_default();
    begin..start + rest.find('\n').unwrap_or(rest.len())
}
