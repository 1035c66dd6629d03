//! SVG 1.1, with titles, descriptions and labels for who cannot see it (SVG Accessibility API Mappings).

use crate::font::{FAMILY, Weight};
use crate::scene::{Fill, Group, Ink, Item, Line, Picture, Point, Shape, Stroke, Text};
use crate::theme::Theme;
use quick_xml::Writer;
use quick_xml::events::{BytesEnd, BytesStart, BytesText, Event};
use std::fmt::Write as _;
use std::io;

/// How long the head of an arrow is, and how wide on either side.
const HEAD: (f32, f32) = (9.0, 4.0);

const FILLS: [(Fill, &str); 6] = [
    (Fill::Page, "f-page"),
    (Fill::Band, "f-band"),
    (Fill::Area, "f-area"),
    (Fill::Chip, "f-chip"),
    (Fill::Allowed, "f-allowed"),
    (Fill::Hatched, "f-hatched"),
];
/// Each stroke with its class, its width and its dashes.
const STROKES: [(Stroke, &str, f32, &str); 6] = [
    (Stroke::Faint, "s-faint", 1.0, ""),
    (Stroke::Border, "s-border", 1.0, ""),
    (Stroke::Outside, "s-outside", 2.0, ""),
    (Stroke::Cable, "s-cable", 1.5, ""),
    (Stroke::Cell, "s-cell", 2.5, ""),
    (Stroke::Exception, "s-exception", 1.5, "6 3"),
];
const INKS: [(Ink, &str); 3] =
    [(Ink::Plain, "i-plain"), (Ink::Faint, "i-faint"), (Ink::OnAllowed, "i-allowed")];

/// Writes a picture as a file of its own. The same picture and theme give the same bytes.
pub fn svg(picture: &Picture, theme: Theme) -> String {
    written(picture, Some(theme), "p")
}

/// Writes a picture for a page that gives it its colours ([`css`]). `id` begins the ids in it, which other pictures of
/// the page must not share.
pub fn svg_for_page(picture: &Picture, id: &str) -> String {
    written(picture, None, id)
}

/// The style sheet of a theme, for `svg_for_page`; each rule below `scope`, a selector that may be empty.
pub fn css(theme: Theme, scope: &str) -> String {
    let mut css = String::new();
    let mut rule = |class: &str, body: std::fmt::Arguments<'_>| {
        // Writing to a string cannot fail.
        let _ = writeln!(css, "{scope}.{class}{{{body}}}");
    };
    for (fill, class) in FILLS {
        if let Some(colour) = theme.fill(fill).filter(|_| fill != Fill::Hatched) {
            rule(class, format_args!("fill:{colour}"));
        }
    }
    for (stroke, class, width, dashes) in STROKES {
        let Some(colour) = theme.stroke(stroke) else { continue };
        let dashes =
            if dashes.is_empty() { String::new() } else { format!(";stroke-dasharray:{dashes}") };
        rule(class, format_args!("stroke:{colour};stroke-width:{width}{dashes}"));
        rule(&format!("h-{}", &class[2..]), format_args!("fill:{colour}"));
    }
    for (ink, class) in INKS {
        rule(class, format_args!("fill:{}", theme.ink(ink)));
    }
    css
}

fn written(picture: &Picture, theme: Option<Theme>, id: &str) -> String {
    let mut xml = Xml { to: Writer::new_with_indent(Vec::new(), b' ', 1), id };
    // Nothing that is written to memory fails; quick-xml says `io::Result` all the same.
    let _ = xml.picture(picture, theme);
    String::from_utf8(xml.to.into_inner()).unwrap_or_default() + "\n"
}

struct Xml<'i> {
    to: Writer<Vec<u8>>,
    id: &'i str,
}

impl Xml<'_> {
    fn picture(&mut self, picture: &Picture, theme: Option<Theme>) -> io::Result<()> {
        let (width, height) = (number(picture.width), number(picture.height));
        let (title, description) = (format!("{}-title", self.id), format!("{}-desc", self.id));
        let view = format!("0 0 {width} {height}");
        let labelled = format!("{title} {description}");
        let family = format!("'{FAMILY}', Arial, Helvetica, sans-serif");
        // A page knows what `svg` is.
        let alone = theme.map(|_| ("xmlns", "http://www.w3.org/2000/svg"));
        let others: [(&str, &str); 7] = [
            ("width", &width),
            ("height", &height),
            ("viewBox", &view),
            ("role", "graphics-document"),
            ("aria-labelledby", &labelled),
            ("font-family", &family),
            ("font-kerning", "none"),
        ];
        self.begin("svg", &alone.into_iter().chain(others).collect::<Vec<_>>())?;
        self.leaf("title", &[("id", &title)], &picture.title)?;
        self.leaf("desc", &[("id", &description)], &picture.description)?;
        if let Some(theme) = theme {
            self.leaf("style", &[], &css(theme, ""))?;
        }
        if picture.shapes().any(|shape| shape.fill == Fill::Hatched) {
            self.hatching()?;
        }
        self.empty("rect", &[("class", "f-page"), ("width", &width), ("height", &height)])?;
        for group in &picture.groups {
            self.group(group)?;
        }
        self.end("svg")
    }

    /// The pattern of what is hatched: lines of 45 degrees.
    fn hatching(&mut self) -> io::Result<()> {
        let id = format!("{}-hatch", self.id);
        self.begin("defs", &[])?;
        self.begin(
            "pattern",
            &[
                ("id", &id),
                ("width", "6"),
                ("height", "6"),
                ("patternUnits", "userSpaceOnUse"),
                ("patternTransform", "rotate(45)"),
            ],
        )?;
        self.empty("rect", &[("class", "f-page"), ("width", "6"), ("height", "6")])?;
        self.empty(
            "line",
            &[("class", "s-border"), ("x1", "1"), ("y1", "0"), ("x2", "1"), ("y2", "6")],
        )?;
        self.end("pattern")?;
        self.end("defs")
    }

    fn group(&mut self, group: &Group) -> io::Result<()> {
        if group.label.is_empty() {
            self.begin("g", &[("aria-hidden", "true")])?;
        } else {
            self.begin("g", &[("role", "graphics-symbol"), ("aria-label", &group.label)])?;
        }
        if let Some(anchor) = &group.anchor {
            let link = format!("#{anchor}");
            self.begin("a", &[("href", &link)])?;
        }
        for item in &group.items {
            match item {
                Item::Shape(shape) => self.shape(shape)?,
                Item::Line(line) => self.line(line)?,
                Item::Text(text) => self.text(text)?,
            }
        }
        if group.anchor.is_some() {
            self.end("a")?;
        }
        self.end("g")
    }

    fn shape(&mut self, shape: &Shape) -> io::Result<()> {
        let frame = shape.frame;
        let hatched = format!("url(#{}-hatch)", self.id);
        let fill = FILLS.iter().find(|(fill, _)| *fill == shape.fill).map(|(_, class)| *class);
        let stroke = STROKES.iter().find(|entry| entry.0 == shape.stroke).map(|entry| entry.1);
        let classes: Vec<&str> = fill.into_iter().chain(stroke).collect();
        let classes = classes.join(" ");
        let numbers = [frame.left, frame.top, frame.width, frame.height, shape.radius].map(number);
        let mut attributes = vec![
            ("class", classes.as_str()),
            ("x", &numbers[0]),
            ("y", &numbers[1]),
            ("width", &numbers[2]),
            ("height", &numbers[3]),
        ];
        if shape.radius > 0.0 {
            attributes.push(("rx", &numbers[4]));
        }
        match shape.fill {
            Fill::None => attributes.push(("fill", "none")),
            Fill::Hatched => attributes.push(("fill", &hatched)),
            _ => {}
        }
        self.empty("rect", &attributes)
    }

    fn line(&mut self, line: &Line) -> io::Result<()> {
        let Some((_, class, ..)) = STROKES.iter().find(|entry| entry.0 == line.stroke) else {
            return Ok(());
        };
        let mut points = line.points.clone();
        if line.arrow {
            shorten(&mut points, HEAD.0 - 1.0);
        }
        self.empty("path", &[("class", class), ("fill", "none"), ("d", &path(&points))])?;
        if let (true, [.., before, tip]) = (line.arrow, line.points.as_slice()) {
            let head = path(&head(*before, *tip)) + " Z";
            self.empty("path", &[("class", &format!("h-{}", &class[2..])), ("d", &head)])?;
        }
        Ok(())
    }

    fn text(&mut self, text: &Text) -> io::Result<()> {
        let class = INKS.iter().find(|(ink, _)| *ink == text.ink).map_or("", |(_, class)| class);
        let [x, y, size] = [text.start.x, text.start.y, text.size].map(number);
        let mut attributes = vec![("class", class), ("x", &x), ("y", &y), ("font-size", &size)];
        if text.weight == Weight::Bold {
            attributes.push(("font-weight", "bold"));
        }
        self.leaf("text", &attributes, &text.text)
    }

    fn begin(&mut self, name: &str, attributes: &[(&str, &str)]) -> io::Result<()> {
        self.to.write_event(Event::Start(tag(name, attributes)))
    }

    fn empty(&mut self, name: &str, attributes: &[(&str, &str)]) -> io::Result<()> {
        self.to.write_event(Event::Empty(tag(name, attributes)))
    }

    fn end(&mut self, name: &str) -> io::Result<()> {
        self.to.write_event(Event::End(BytesEnd::new(name)))
    }

    fn leaf(&mut self, name: &str, attributes: &[(&str, &str)], text: &str) -> io::Result<()> {
        self.begin(name, attributes)?;
        self.to.write_event(Event::Text(BytesText::new(&legal(text))))?;
        self.end(name)
    }
}

fn tag<'n>(name: &'n str, attributes: &[(&str, &str)]) -> BytesStart<'n> {
    let mut tag = BytesStart::new(name);
    for (key, value) in attributes {
        tag.push_attribute((*key, legal(value).as_str()));
    }
    tag
}

/// A text without the characters that XML 1.0 cannot hold (its production 2).
fn legal(text: &str) -> String {
    let is_legal = |c: char| matches!(c, '\t' | '\n' | '\r' | ' '..='\u{d7ff}' | '\u{e000}'..='\u{fffd}' | '\u{10000}'..);
    text.chars().map(|c| if is_legal(c) { c } else { '\u{fffd}' }).collect()
}

/// A length with at most two decimals, and without those that say nothing.
fn number(value: f32) -> String {
    let text = format!("{value:.2}");
    let text = text.trim_end_matches('0').trim_end_matches('.');
    if text == "-0" { "0".to_owned() } else { text.to_owned() }
}

fn path(points: &[Point]) -> String {
    let step = |(index, point): (usize, &Point)| {
        let letter = if index == 0 { "M" } else { "L" };
        format!("{letter}{} {}", number(point.x), number(point.y))
    };
    points.iter().enumerate().map(step).collect::<Vec<_>>().join(" ")
}

/// Takes a piece off the end, so that a line does not come out at the tip of its arrow.
fn shorten(points: &mut [Point], by: f32) {
    if let [.., before, tip] = points {
        let (x, y) = (tip.x - before.x, tip.y - before.y);
        let length = x.hypot(y);
        if length > by {
            *tip = Point::new(tip.x - x / length * by, tip.y - y / length * by);
        }
    }
}

fn head(before: Point, tip: Point) -> [Point; 3] {
    let (x, y) = (tip.x - before.x, tip.y - before.y);
    let length = x.hypot(y).max(f32::EPSILON);
    let (x, y) = (x / length, y / length);
    let back = Point::new(tip.x - x * HEAD.0, tip.y - y * HEAD.0);
    let side = |sign: f32| Point::new(back.x - sign * y * HEAD.1, back.y + sign * x * HEAD.1);
    [side(1.0), tip, side(-1.0)]
}
