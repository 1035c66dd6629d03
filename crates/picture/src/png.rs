//! PNG, rendered from the SVG with the fonts that ship with the program and no others, so that every machine produces
//! the same image.

use crate::font::{FAMILY, FONTS};
use crate::scene::Picture;
use crate::svg::svg;
use crate::theme::Theme;
use resvg::tiny_skia::{Pixmap, Transform};
use resvg::usvg::{Options, Tree};

/// The most pixels in one direction: four bytes each, this is 1 GiB for a square.
const LARGEST: f32 = 16_384.0;

/// Why there is no PNG.
#[derive(Debug, thiserror::Error)]
pub enum PngProblem {
    /// It would be larger than any program takes.
    #[error(
        "the picture would have {0} x {1} pixels; at most 16,384 in each direction are possible"
    )]
    TooLarge(u64, u64),
    /// The SVG, which is our own, was not understood.
    #[error("the picture cannot be drawn: {0}")]
    Svg(#[from] resvg::usvg::Error),
    /// The pixels could not be packed.
    #[error("the picture cannot be written: {0}")]
    Encoding(String),
}

/// A whole number of pixels.
#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "a cast of a float takes the nearest number that fits"
)]
fn pixels(length: f32) -> u32 {
    length as u32
}

/// Draws a picture as PNG, that many pixels wide; without `width`, two for each of its own.
///
/// # Errors
/// When it would be too large.
pub fn png(picture: &Picture, theme: Theme, width: Option<u16>) -> Result<Vec<u8>, PngProblem> {
    let scale = width.map_or(2.0, |width| f32::from(width) / picture.width);
    let (across, down) = ((picture.width * scale).round(), (picture.height * scale).round());
    let too_large = || PngProblem::TooLarge(pixels(across).into(), pixels(down).into());
    if across > LARGEST || down > LARGEST {
        return Err(too_large());
    }
    let options =
        Options { fontdb: FONTS.clone(), font_family: FAMILY.to_owned(), ..Options::default() };
    let tree = Tree::from_str(&svg(picture, theme), &options)?;
    let mut drawn =
        Pixmap::new(pixels(across).max(1), pixels(down).max(1)).ok_or_else(too_large)?;
    resvg::render(&tree, Transform::from_scale(scale, scale), &mut drawn.as_mut());
    drawn.encode_png().map_err(|problem| PngProblem::Encoding(problem.to_string()))
}
