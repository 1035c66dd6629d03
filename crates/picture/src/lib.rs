//! Pictures of a site: where everything is in the building ([`SiteTree`]), who reaches whom
//! ([`ZoneMap`]), and the matrix ([`MatrixGrid`]).
//!
//! What a picture is about is plain data that knows nothing of plans. Each kind lays itself out as a
//! [`Picture`], which is data too: frames, lines and texts with coordinates, so that tests ask the
//! geometry and not the ink. [`svg`] and [`png`] write it down, in a [`Theme`].
//!
//! Texts are measured with the fonts that [`png`] draws with and that SVG asks for first. They ship
//! with this crate (Liberation Sans, under the SIL Open Font License); Arial and Helvetica, which
//! other machines have, are as wide.

#![forbid(unsafe_code)]

mod flaws;
mod font;
mod legend;
mod matrix;
mod png;
mod scene;
mod site;
mod small;
mod svg;
mod theme;
mod zones;

pub use flaws::flaws;
pub use font::Weight;
pub use matrix::{CellNote, GridCell, MatrixGrid, NamedException, Stance};
pub use png::{PngProblem, png};
pub use scene::{Fill, Frame, Group, Ink, Item, Line, Picture, Point, Shape, Stroke, Style, Text};
pub use site::{NodeKind, SiteNode, SiteTree};
pub use small::{Mark, SmallGrid};
pub use svg::{css, svg, svg_for_page};
pub use theme::Theme;
pub use zones::{Arrow, ArrowKind, MOST_ZONES, ZoneArea, ZoneMap};
