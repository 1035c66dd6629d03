//! Widths of texts, measured with the fonts that ship with the program.

use resvg::usvg::fontdb::{Database, Source};
use skrifa::charmap::Charmap;
use skrifa::instance::{LocationRef, Size};
use skrifa::metrics::GlyphMetrics;
use skrifa::{FontRef, MetadataProvider};
use std::sync::{Arc, LazyLock};

/// How bold a text is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Weight {
    /// As usual.
    Regular,
    /// Bold.
    Bold,
}

/// From the baseline up to the top of a line, in em (`hhea` of Liberation Sans).
pub(crate) const ASCENT: f32 = 0.905;
/// From the top of a line to its bottom, in em: ascender and descender.
pub(crate) const LINE: f32 = 0.905 + 0.212;
/// What a character is taken to measure, in em, that the font does not have: no usual script is wider.
const UNKNOWN: f32 = 1.0;

const REGULAR: &[u8] = include_bytes!("../fonts/LiberationSans-Regular.ttf");
const BOLD: &[u8] = include_bytes!("../fonts/LiberationSans-Bold.ttf");

/// The family of both, as SVG asks for it.
pub(crate) const FAMILY: &str = "Liberation Sans";

/// The fonts, for the renderer.
pub(crate) static FONTS: LazyLock<Arc<Database>> = LazyLock::new(|| {
    let mut fonts = Database::new();
    for font in [REGULAR, BOLD] {
        fonts.load_font_source(Source::Binary(Arc::new(font)));
    }
    fonts.set_sans_serif_family(FAMILY);
    Arc::new(fonts)
});

/// What is asked of a font: which glyph a character has, and how far it advances, in em.
struct Face {
    glyphs: Charmap<'static>,
    metrics: GlyphMetrics<'static>,
}

static FACES: LazyLock<[Option<Face>; 2]> = LazyLock::new(|| {
    [REGULAR, BOLD].map(|data| {
        let font = FontRef::new(data).ok()?;
        let metrics = font.glyph_metrics(Size::new(1.0), LocationRef::default());
        Some(Face { glyphs: font.charmap(), metrics })
    })
});

/// How wide a text is at that size, without kerning, which the SVG switches off.
pub(crate) fn width(text: &str, size: f32, weight: Weight) -> f32 {
    let [regular, bold] = &*FACES;
    let face = match weight {
        Weight::Regular => regular,
        Weight::Bold => bold,
    };
    let advance = |c: char| {
        let face = face.as_ref()?;
        face.metrics.advance_width(face.glyphs.map(c)?)
    };
    text.chars().map(|c| advance(c).unwrap_or(UNKNOWN)).sum::<f32>() * size
}

/// A text in lines of at most that width, broken at spaces; a word that is wider is broken behind
/// the last mark that fits, and else where it must be.
pub(crate) fn wrapped(text: &str, widest: f32, size: f32, weight: Weight) -> Vec<String> {
    let fits = |line: &str| width(line, size, weight) <= widest;
    let mut lines: Vec<String> = Vec::new();
    let mut line = String::new();
    for word in text.split_whitespace() {
        let longer = if line.is_empty() { word.to_owned() } else { format!("{line} {word}") };
        if fits(&longer) {
            line = longer;
            continue;
        }
        lines.extend((!line.is_empty()).then(|| std::mem::take(&mut line)));
        for c in word.chars() {
            line.push(c);
            if !fits(&line) && line.chars().count() > 1 {
                line.pop();
                let marked = line.rfind(['-', '/', '.', ':']).map(|at| at + 1);
                let mut rest = line.split_off(marked.unwrap_or(line.len()));
                rest.push(c);
                lines.push(std::mem::replace(&mut line, rest));
            }
        }
    }
    lines.extend((!line.is_empty()).then_some(line));
    lines
}
