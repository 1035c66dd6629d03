//! Arguments of `draw`.

use super::Day;
use bastium_picture::Theme;
use clap::{Args, ValueEnum};
use std::path::PathBuf;

/// Arguments of `draw`.
#[derive(Clone, Debug, Args)]
pub struct Draw {
    /// What to draw
    #[arg(value_enum)]
    pub picture: PictureName,
    /// Write it to this file, as SVG or PNG by the ending of its name [default: SVG to standard output]
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
    /// Use the colours for a light page, for a dark one, or for print in black and white
    #[arg(long, value_enum, default_value_t)]
    pub theme: ThemeName,
    /// Make a PNG this many pixels wide [default: twice as wide as the SVG]
    #[arg(long, value_name = "PIXELS", value_parser = clap::value_parser!(u16).range(100..=16_000))]
    pub width: Option<u16>,
    /// Overwrite a file that is there
    #[arg(long)]
    pub force: bool,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// The pictures.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum PictureName {
    /// How devices are connected, and where each network is available
    Site,
    /// Who may reach whom, and by what
    Zones,
    /// The matrix, with its exceptions
    Matrix,
}

/// The colours.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum ThemeName {
    /// For a light page
    #[default]
    Light,
    /// For a dark page
    Dark,
    /// For print in black and white
    Print,
}

impl From<ThemeName> for Theme {
    fn from(name: ThemeName) -> Self {
        match name {
            ThemeName::Light => Self::Light,
            ThemeName::Dark => Self::Dark,
            ThemeName::Print => Self::Print,
        }
    }
}
