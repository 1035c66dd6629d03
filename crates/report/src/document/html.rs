//! A single self-contained HTML file without scripts, for screens, dark mode and paper.

use super::{Block, Document, Grid, Inline, Row};
use crate::Column;
use askama::Template;
use bastium_gateway::clean;
use bastium_picture::{Picture, Theme, css, svg_for_page};

/// How high a picture may be on a printed page across, in pixels of its own width when that fills the page: 190 mm less the
/// margins and the heading.
const PRINTED_HEIGHT: f32 = 620.0;

#[derive(Template)]
#[template(path = "report.html")]
struct Page<'d> {
    document: &'d Document,
    light: String,
    dark: String,
}

/// Writes a report as a page.
///
/// # Errors
/// When it cannot be put together; no plan is known to make it so.
pub fn html(document: &Document) -> Result<String, std::fmt::Error> {
    let page = Page { document, light: css(Theme::Light, ""), dark: css(Theme::Dark, "") };
    let text = page.render().map_err(|_| std::fmt::Error)?;
    // What would turn a line of text round, or hide, is shown as what it is; line ends are the page's own.
    Ok(text.lines().map(|line| format!("{}\n", clean(line))).collect())
}

impl Page<'_> {
    /// The picture in pieces that a printed page holds, each as SVG.
    fn pieces(id: &str, picture: &Picture) -> Vec<String> {
        let highest = PRINTED_HEIGHT * (picture.width / 1_047.0).max(1.0);
        let pieces = picture.pieces(highest).into_iter().enumerate();
        pieces.map(|(index, piece)| svg_for_page(&piece, &format!("{id}-{index}"))).collect()
    }
}

/// The cells of a row, with the class of each.
fn cells<'r>(grid: &Grid, row: &'r Row) -> Vec<(&'static str, &'r Inline)> {
    let class = |column: &Column| match (column.numbers, column.whole) {
        (true, _) => "number",
        (_, true) => "one-line",
        _ => "text",
    };
    let classes = grid.columns.iter().map(class);
    classes.zip(&row.cells).collect()
}

/// Spans as HTML.
#[derive(Template)]
#[template(
    ext = "html",
    source = "{% for span in inline.0 %}{% match span.to %}{% when Some with (to) %}<a href=\"#{{ to }}\">{{ span.text }}</a>{% when None %}{% if span.strong %}<strong>{{ span.text }}</strong>{% else %}{{ span.text }}{% endif %}{% endmatch %}{% endfor %}"
)]
struct Spans<'i> {
    inline: &'i Inline,
}

fn spans(inline: &Inline) -> Spans<'_> {
    Spans { inline }
}
