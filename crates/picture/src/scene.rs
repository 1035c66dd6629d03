//! A picture as data: what is drawn where. Lengths are in CSS pixels (1/96 inch), y grows downwards.

use crate::font::{self, Weight};

/// A point.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Point {
    /// From the left edge.
    pub x: f32,
    /// From the top edge.
    pub y: f32,
}

impl Point {
    /// The point at these coordinates.
    pub fn new(x: f32, y: f32) -> Self {
        Self { x, y }
    }
}

/// An upright rectangle.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Frame {
    /// Its left edge.
    pub left: f32,
    /// Its top edge.
    pub top: f32,
    /// How wide it is.
    pub width: f32,
    /// How high it is.
    pub height: f32,
}

impl Frame {
    /// A rectangle by its corner at the top left and its size.
    pub fn new(left: f32, top: f32, width: f32, height: f32) -> Self {
        Self { left, top, width, height }
    }

    /// Its right edge.
    pub fn right(&self) -> f32 {
        self.left + self.width
    }

    /// Its bottom edge.
    pub fn bottom(&self) -> f32 {
        self.top + self.height
    }

    /// The height of its centre.
    pub fn middle(&self) -> f32 {
        self.top + self.height / 2.0
    }

    /// Whether the other one lies in it, borders included, within a hundredth of a pixel.
    pub fn contains(&self, other: &Self) -> bool {
        let slack = 0.01;
        self.left - slack <= other.left
            && self.top - slack <= other.top
            && other.right() <= self.right() + slack
            && other.bottom() <= self.bottom() + slack
    }

    /// Whether the two share more than a border.
    pub fn overlaps(&self, other: &Self) -> bool {
        let slack = 0.01;
        self.left + slack < other.right()
            && other.left + slack < self.right()
            && self.top + slack < other.bottom()
            && other.top + slack < self.bottom()
    }
}

/// What fills a shape.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fill {
    /// Nothing.
    None,
    /// The page itself.
    Page,
    /// A strip behind several areas.
    Band,
    /// A device or a zone.
    Area,
    /// Something that lies in one: a network.
    Chip,
    /// What passes.
    Allowed,
    /// What is refused with an answer: hatched.
    Hatched,
}

/// What draws a line or a border.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stroke {
    /// Nothing.
    None,
    /// A thin grey line.
    Faint,
    /// The border of a shape.
    Border,
    /// A thick border: what lies outside.
    Outside,
    /// A cable.
    Cable,
    /// What a cell lets pass.
    Cell,
    /// What an exception lets pass: dashed.
    Exception,
}

/// What a text is written with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ink {
    /// On the page and on light fills.
    Plain,
    /// The same, for what matters less.
    Faint,
    /// On [`Fill::Allowed`].
    OnAllowed,
}

/// A line of text.
#[derive(Clone, Debug, PartialEq)]
pub struct Text {
    /// Where it begins, on its baseline.
    pub start: Point,
    /// The height of its letters' em square.
    pub size: f32,
    /// How bold it is.
    pub weight: Weight,
    /// What it is written with.
    pub ink: Ink,
    /// The words.
    pub text: String,
}

impl Text {
    /// What it covers, from ascender to descender.
    pub fn frame(&self) -> Frame {
        let width = font::width(&self.text, self.size, self.weight);
        let top = self.start.y - font::ASCENT * self.size;
        Frame::new(self.start.x, top, width, font::LINE * self.size)
    }
}

/// A rectangle with a border.
#[derive(Clone, Debug, PartialEq)]
pub struct Shape {
    /// Where it is.
    pub frame: Frame,
    /// How far its corners are rounded.
    pub radius: f32,
    /// What fills it.
    pub fill: Fill,
    /// Its border.
    pub stroke: Stroke,
}

/// A line of straight pieces.
#[derive(Clone, Debug, PartialEq)]
pub struct Line {
    /// Its points, two or more.
    pub points: Vec<Point>,
    /// What draws it.
    pub stroke: Stroke,
    /// Whether its last point is the tip of an arrow.
    pub arrow: bool,
}

impl Line {
    /// Its pieces.
    pub fn pieces(&self) -> impl Iterator<Item = (Point, Point)> + '_ {
        self.points.windows(2).map(|pair| (pair[0], pair[1]))
    }
}

/// Something drawn.
#[derive(Clone, Debug, PartialEq)]
pub enum Item {
    /// A rectangle.
    Shape(Shape),
    /// A line.
    Line(Line),
    /// A text.
    Text(Text),
}

impl Item {
    /// Its highest point, and its lowest.
    fn reach(&self) -> (f32, f32) {
        match self {
            Self::Shape(shape) => (shape.frame.top, shape.frame.bottom()),
            Self::Text(text) => (text.frame().top, text.frame().bottom()),
            Self::Line(line) => line
                .points
                .iter()
                .fold((f32::INFINITY, f32::NEG_INFINITY), |(top, bottom), point| {
                    (top.min(point.y), bottom.max(point.y))
                }),
        }
    }

    /// The same, so much higher up.
    fn up(&self, by: f32) -> Self {
        let mut item = self.clone();
        match &mut item {
            Self::Shape(shape) => shape.frame.top -= by,
            Self::Text(text) => text.start.y -= by,
            Self::Line(line) => line.points.iter_mut().for_each(|point| point.y -= by),
        }
        item
    }
}

/// What belongs together, and what it says to who cannot see it.
#[derive(Clone, Debug, PartialEq)]
pub struct Group {
    /// What it is, in words.
    pub label: String,
    /// The name that a page links to it by; letters, digits, `.` and `-`.
    pub anchor: Option<String>,
    /// What it is made of, from the back to the front.
    pub items: Vec<Item>,
}

impl Group {
    /// An empty group.
    pub fn new(label: impl Into<String>) -> Self {
        Self { label: label.into(), anchor: None, items: Vec::new() }
    }

    /// Adds a rectangle.
    pub fn shape(&mut self, frame: Frame, radius: f32, fill: Fill, stroke: Stroke) {
        self.items.push(Item::Shape(Shape { frame, radius, fill, stroke }));
    }

    /// Adds a line.
    pub fn line(&mut self, points: Vec<Point>, stroke: Stroke, arrow: bool) {
        self.items.push(Item::Line(Line { points, stroke, arrow }));
    }

    /// Adds a text whose line begins at `left` and whose top is at `top`.
    pub fn text(&mut self, left: f32, top: f32, style: Style, text: impl Into<String>) {
        let start = Point::new(left, top + font::ASCENT * style.size);
        let Style { size, weight, ink } = style;
        self.items.push(Item::Text(Text { start, size, weight, ink, text: text.into() }));
    }

    /// Adds a text in the middle of a rectangle.
    pub fn centred(&mut self, within: Frame, style: Style, text: impl Into<String>) {
        let text = text.into();
        let left = within.left + (within.width - style.width(&text)) / 2.0;
        self.text(left, within.middle() - style.line() / 2.0, style, text);
    }
}

/// How a text is written.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Style {
    /// The height of the em square.
    pub size: f32,
    /// How bold.
    pub weight: Weight,
    /// With what.
    pub ink: Ink,
}

impl Style {
    /// The usual text: 13 px, which is 9 points on a page of 1,047 px, the width of A4 across between margins of 1 cm.
    pub const PLAIN: Self = Self { size: 13.0, weight: Weight::Regular, ink: Ink::Plain };
    /// What matters less.
    pub const FAINT: Self = Self { ink: Ink::Faint, ..Self::PLAIN };
    /// Names.
    pub const BOLD: Self = Self { weight: Weight::Bold, ..Self::PLAIN };
    /// The heading of a picture.
    pub const HEADING: Self = Self { size: 18.0, ..Self::BOLD };

    /// How wide a text is.
    pub fn width(self, text: &str) -> f32 {
        font::width(text, self.size, self.weight)
    }

    /// The distance from one line to the next.
    pub fn line(self) -> f32 {
        font::LINE * self.size
    }

    /// A text in lines of at most `width`; words that are wider are broken.
    pub fn wrapped(self, text: &str, width: f32) -> Vec<String> {
        font::wrapped(text, width, self.size, self.weight)
    }
}

/// A whole picture.
#[derive(Clone, Debug, PartialEq)]
pub struct Picture {
    /// What it shows, in a few words.
    pub title: String,
    /// What it shows, for who cannot see it.
    pub description: String,
    /// How wide it is.
    pub width: f32,
    /// How high it is.
    pub height: f32,
    /// What it is made of, from the back to the front.
    pub groups: Vec<Group>,
}

impl Picture {
    /// All that is drawn.
    pub fn items(&self) -> impl Iterator<Item = &Item> {
        self.groups.iter().flat_map(|group| &group.items)
    }

    /// All texts.
    pub fn texts(&self) -> impl Iterator<Item = &Text> {
        self.items().filter_map(|item| match item {
            Item::Text(text) => Some(text),
            _ => None,
        })
    }

    /// All lines.
    pub fn lines(&self) -> impl Iterator<Item = &Line> {
        self.items().filter_map(|item| match item {
            Item::Line(line) => Some(line),
            _ => None,
        })
    }

    /// All rectangles.
    pub fn shapes(&self) -> impl Iterator<Item = &Shape> {
        self.items().filter_map(|item| match item {
            Item::Shape(shape) => Some(shape),
            _ => None,
        })
    }

    /// The picture in pieces that are at most so high, one below the other, for pages that it does not fit on. It is cut
    /// where no text stands, and where the fewest shapes do; a text that is higher than a page is cut all the same.
    pub fn pieces(&self, highest: f32) -> Vec<Self> {
        let mut pieces = Vec::new();
        let mut top = 0.0;
        while self.height - top > highest {
            // As few pieces as there can be, and none a sliver.
            let left = ((self.height - top) / highest).ceil();
            let first = (self.height - (left - 1.0) * highest).max(top + highest / 3.0);
            let cut = self.cut(first, top + highest);
            pieces.push(self.piece(top, cut));
            top = cut;
        }
        pieces.push(self.piece(top, self.height));
        pieces
    }

    /// Where to cut between two heights: through no text, through the fewest shapes, and as low as that allows.
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "a cast of a float takes the nearest number that fits"
    )]
    fn cut(&self, first: f32, last: f32) -> f32 {
        let shapes = |y: f32| {
            let shapes = self.shapes().filter(|shape| shape.fill != Fill::Band);
            shapes.filter(|shape| shape.frame.top < y && y < shape.frame.bottom()).count()
        };
        let texts: Vec<Frame> = self.texts().map(Text::frame).collect();
        let is_free = |y: f32| !texts.iter().any(|frame| frame.top < y && y < frame.bottom());
        let steps = (last - first).max(0.0).floor() as u16;
        let heights = (0..=steps).map(|step| last - f32::from(step)).filter(|y| is_free(*y));
        heights.min_by_key(|y| shapes(*y)).unwrap_or(last)
    }

    fn piece(&self, top: f32, bottom: f32) -> Self {
        let keep = |item: &Item| {
            let (from, to) = item.reach();
            to > top && from < bottom
        };
        let groups = self.groups.iter().map(|group| Group {
            items: group.items.iter().filter(|item| keep(item)).map(|item| item.up(top)).collect(),
            ..group.clone()
        });
        Self {
            height: bottom - top,
            groups: groups.filter(|group| !group.items.is_empty()).collect(),
            ..self.clone()
        }
    }

    /// How many times lines of different groups cross. Where one ends on another it does not cross it.
    pub fn crossings(&self) -> usize {
        let lines: Vec<(usize, &Line)> = (self.groups.iter().enumerate())
            .flat_map(|(group, of)| of.items.iter().map(move |item| (group, item)))
            .filter_map(|(group, item)| match item {
                Item::Line(line) => Some((group, line)),
                _ => None,
            })
            .collect();
        let pairs = (0..lines.len()).flat_map(|a| (a + 1..lines.len()).map(move |b| (a, b)));
        pairs
            .filter(|(a, b)| lines[*a].0 != lines[*b].0)
            .map(|(a, b)| crossings(lines[a].1, lines[b].1))
            .sum()
    }
}

fn crossings(one: &Line, other: &Line) -> usize {
    let cross =
        |piece: (Point, Point)| other.pieces().filter(|own| are_crossed(piece, *own)).count();
    one.pieces().map(cross).sum()
}

/// Whether an upright and a level piece cross inside both.
fn are_crossed(one: (Point, Point), other: (Point, Point)) -> bool {
    let is_level = |piece: (Point, Point)| piece.0.y == piece.1.y;
    let (level, upright) = match (is_level(one), is_level(other)) {
        (true, false) => (one, other),
        (false, true) => (other, one),
        _ => return false,
    };
    let between = |value: f32, a: f32, b: f32| a.min(b) < value && value < a.max(b);
    between(upright.0.x, level.0.x, level.1.x) && between(level.0.y, upright.0.y, upright.1.y)
}
