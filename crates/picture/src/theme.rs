//! The colours of a picture. Nothing depends on them: fill, pattern, line style and words say the same.

use crate::scene::{Fill, Ink, Stroke};

/// What a picture is meant for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Theme {
    /// A light page.
    #[default]
    Light,
    /// A dark page.
    Dark,
    /// Print in black and white.
    Print,
}

impl Theme {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Light, Self::Dark, Self::Print];

    /// The colour that fills, as `#rrggbb`; `None` for nothing. What is hatched has this one between its lines.
    pub fn fill(self, fill: Fill) -> Option<&'static str> {
        let [light, dark, print] = match fill {
            Fill::None => return None,
            Fill::Page | Fill::Hatched => ["#ffffff", "#15191e", "#ffffff"],
            Fill::Band => ["#f4f5f6", "#1c2127", "#ffffff"],
            Fill::Area => ["#e9ecef", "#272d35", "#ffffff"],
            Fill::Chip => ["#ffffff", "#15191e", "#ffffff"],
            Fill::Allowed => ["#2d5a4c", "#a9d8c4", "#404040"],
        };
        Some(self.of(light, dark, print))
    }

    /// The colour of a line; `None` for no line.
    pub fn stroke(self, stroke: Stroke) -> Option<&'static str> {
        let [light, dark, print] = match stroke {
            Stroke::None => return None,
            Stroke::Faint => ["#a9b1ba", "#4d5661", "#808080"],
            Stroke::Border | Stroke::Cable => ["#5a6570", "#97a2ae", "#404040"],
            Stroke::Outside => ["#20262c", "#dfe4e9", "#000000"],
            Stroke::Cell => ["#2d5a4c", "#a9d8c4", "#000000"],
            Stroke::Exception => ["#8a4510", "#efb27e", "#000000"],
        };
        Some(self.of(light, dark, print))
    }

    /// The colour of a text.
    pub fn ink(self, ink: Ink) -> &'static str {
        match ink {
            Ink::Plain => self.of("#20262c", "#e6eaee", "#000000"),
            Ink::Faint => self.of("#4f5963", "#b4bdc7", "#303030"),
            Ink::OnAllowed => self.of("#ffffff", "#10241c", "#ffffff"),
        }
    }

    fn of(self, light: &'static str, dark: &'static str, print: &'static str) -> &'static str {
        match self {
            Self::Light => light,
            Self::Dark => dark,
            Self::Print => print,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Relative luminance (WCAG 2.2).
    fn luminance(colour: &str) -> f64 {
        let channel = |at: usize| {
            let value = u8::from_str_radix(&colour[at..at + 2], 16).expect("hexadecimal");
            let value = f64::from(value) / 255.0;
            if value <= 0.040_45 { value / 12.92 } else { ((value + 0.055) / 1.055).powf(2.4) }
        };
        0.2126 * channel(1) + 0.7152 * channel(3) + 0.0722 * channel(5)
    }

    fn contrast(one: &str, other: &str) -> f64 {
        let (a, b) = (luminance(one), luminance(other));
        (a.max(b) + 0.05) / (a.min(b) + 0.05)
    }

    #[test]
    fn texts_and_lines_stand_out_in_every_theme() {
        assert!(
            contrast("#777777", "#ffffff") < 4.5,
            "the measure itself tells enough from too little"
        );
        for theme in Theme::ALL {
            for fill in [Fill::Page, Fill::Band, Fill::Area, Fill::Chip] {
                let fill = theme.fill(fill).expect("it fills");
                for ink in [Ink::Plain, Ink::Faint] {
                    assert!(contrast(theme.ink(ink), fill) >= 4.5, "{theme:?} {ink:?} on {fill}");
                }
                for stroke in [Stroke::Border, Stroke::Outside, Stroke::Cell, Stroke::Exception] {
                    let stroke = theme.stroke(stroke).expect("it draws");
                    // WCAG 2.2, 1.4.11: what is not text.
                    assert!(contrast(stroke, fill) >= 3.0, "{theme:?} {stroke} on {fill}");
                }
            }
            let allowed = theme.fill(Fill::Allowed).expect("it fills");
            assert!(contrast(theme.ink(Ink::OnAllowed), allowed) >= 4.5, "{theme:?}");
        }
    }
}
