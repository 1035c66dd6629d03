//! The heading above a picture, and the legend below it.

use crate::scene::{Fill, Frame, Group, Point, Stroke, Style};

/// From the edge of the page to what is drawn.
pub(crate) const MARGIN: f32 = 20.0;
/// The room between things that do not belong together.
pub(crate) const GAP: f32 = 14.0;

/// What stands for something in a legend.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Sign {
    /// A filled box.
    Box(Fill, Stroke),
    /// An arrow.
    Arrow(Stroke),
    /// A word, as it stands in the picture.
    Word(&'static str),
}

const SIGN: (f32, f32) = (28.0, 14.0);

/// Writes the heading at the top of a page of that width, and returns how far down it reaches.
pub(crate) fn heading(group: &mut Group, title: &str, below: &str, width: f32) -> f32 {
    let mut top = MARGIN;
    let within = width - 2.0 * MARGIN;
    for (style, text) in [(Style::HEADING, title), (Style::FAINT, below)] {
        for line in style.wrapped(text, within) {
            group.text(MARGIN, top, style, line);
            top += style.line() + 2.0;
        }
    }
    top + GAP
}

/// Writes notes below each other from `top` on, a group each, and returns how far they reach.
pub(crate) fn notes(notes: &[String], top: f32, width: f32) -> (Vec<Group>, f32) {
    let mut top = top;
    let mut groups = Vec::new();
    for note in notes {
        let mut group = Group::new(note);
        for line in Style::PLAIN.wrapped(note, width - 2.0 * MARGIN) {
            group.text(MARGIN, top, Style::PLAIN, line);
            top += Style::PLAIN.line() + 2.0;
        }
        groups.push(group);
        top += 4.0;
    }
    (groups, top)
}

/// Draws the legend from `top` on, in as many rows as a page of that width needs, and returns how far it reaches.
pub(crate) fn legend(entries: &[(Sign, &str)], top: f32, width: f32) -> (Group, f32) {
    let mut group = Group::new("Legend");
    let (mut left, mut top) = (MARGIN, top);
    let row = Style::FAINT.line() + 8.0;
    for (sign, words) in entries {
        let sign_width = match sign {
            Sign::Word(word) => Style::BOLD.width(word).max(SIGN.0),
            _ => SIGN.0,
        };
        let room = width - MARGIN - sign_width - 8.0;
        let longest = sign_width + 8.0 + Style::FAINT.width(words);
        if left > MARGIN && left + longest > width - MARGIN {
            (left, top) = (MARGIN, top + row);
        }
        draw_sign(&mut group, *sign, Frame::new(left, top, sign_width, SIGN.1));
        let lines = Style::FAINT.wrapped(words, room - MARGIN);
        for (index, line) in lines.iter().enumerate() {
            top += if index > 0 { row } else { 0.0 };
            group.text(left + sign_width + 8.0, top, Style::FAINT, line);
        }
        left += longest + 24.0;
    }
    (group, top + row)
}

fn draw_sign(group: &mut Group, sign: Sign, frame: Frame) {
    match sign {
        Sign::Box(fill, stroke) => group.shape(frame, 2.0, fill, stroke),
        Sign::Arrow(stroke) => {
            let middle = frame.middle();
            let ends = [frame.left, frame.right()].map(|x| Point::new(x, middle));
            group.line(ends.to_vec(), stroke, true);
        }
        Sign::Word(word) => group.text(frame.left, frame.top, Style::BOLD, word),
    }
}
