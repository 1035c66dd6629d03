//! Finds what would make a picture hard to read, from its geometry. The tests examine every picture that they lay
//! out.

use crate::scene::{Fill, Frame, Group, Item, Line, Picture, Point, Shape, Text};

/// How far a line may be from a border that it shall end at.
const AT: f32 = 0.6;

/// Everything that is wrong with a layout, in words: texts that overlap, leave the page or the shape that they begin in,
/// or are crossed by a line; shapes that overlap in part; lines through shapes; arrows that end nowhere.
///
/// It compares each pair of things, so it is for tests.
pub fn flaws(picture: &Picture) -> Vec<String> {
    let texts: Vec<(&Text, Frame)> = picture.texts().map(|text| (text, text.frame())).collect();
    let shapes: Vec<&Shape> = picture.shapes().collect();
    let mut found = Vec::new();
    let page = Frame::new(0.0, 0.0, picture.width, picture.height);
    for (index, (text, frame)) in texts.iter().enumerate() {
        if !page.contains(frame) {
            found.push(format!("“{}” leaves the page", text.text));
        }
        for (other, _) in texts[index + 1..].iter().filter(|(_, other)| frame.overlaps(other)) {
            found.push(format!("“{}” and “{}” overlap", text.text, other.text));
        }
        for shape in shapes.iter().filter(|shape| shape.frame.overlaps(frame)) {
            if !shape.frame.contains(frame) {
                found.push(format!("“{}” leaves its shape", text.text));
            }
        }
    }
    for (index, shape) in shapes.iter().enumerate() {
        if !page.contains(&shape.frame) {
            found.push(format!("{:?} leaves the page", shape.frame));
        }
        let apart = |other: &Frame| {
            !shape.frame.overlaps(other)
                || shape.frame.contains(other)
                || other.contains(&shape.frame)
        };
        for other in shapes[index + 1..].iter().filter(|other| !apart(&other.frame)) {
            found.push(format!("{:?} and {:?} overlap", shape.frame, other.frame));
        }
    }
    for (group, line) in picture.groups.iter().flat_map(lines) {
        found.extend(flaws_of(group, line, &texts, &shapes, &page));
    }
    found
}

fn lines(group: &Group) -> impl Iterator<Item = (&Group, &Line)> {
    group.items.iter().filter_map(move |item| match item {
        Item::Line(line) => Some((group, line)),
        _ => None,
    })
}

fn flaws_of(
    group: &Group,
    line: &Line,
    texts: &[(&Text, Frame)],
    shapes: &[&Shape],
    page: &Frame,
) -> Vec<String> {
    let mut found = Vec::new();
    let solid = || shapes.iter().filter(|shape| shape.fill != Fill::Band);
    for piece in line.pieces() {
        let covered = cover(piece);
        if !page.contains(&covered) {
            found.push(format!("a line of “{}” leaves the page", group.label));
        }
        for (text, _) in texts.iter().filter(|(_, frame)| frame.overlaps(&covered)) {
            found.push(format!("a line crosses “{}”", text.text));
        }
        if let Some(shape) = solid().find(|shape| inner(&shape.frame).overlaps(&covered)) {
            found.push(format!("a line of “{}” crosses {:?}", group.label, shape.frame));
        }
    }
    if let (true, Some(tip)) = (line.arrow, line.points.last()) {
        // The arrows of a legend lead nowhere.
        if group.label != "Legend" && !solid().any(|shape| is_on_border(&shape.frame, *tip)) {
            found.push(format!("an arrow of “{}” ends nowhere", group.label));
        }
    }
    found
}

/// What a straight piece covers; a little in each direction, since it is drawn with a pen.
fn cover((a, b): (Point, Point)) -> Frame {
    let (left, top) = (a.x.min(b.x), a.y.min(b.y));
    Frame::new(left - 0.5, top - 0.5, (a.x - b.x).abs() + 1.0, (a.y - b.y).abs() + 1.0)
}

fn inner(frame: &Frame) -> Frame {
    Frame::new(frame.left + 1.0, frame.top + 1.0, frame.width - 2.0, frame.height - 2.0)
}

fn is_on_border(frame: &Frame, point: Point) -> bool {
    let on = |value: f32, border: f32| (value - border).abs() <= AT;
    let across = frame.left - AT <= point.x && point.x <= frame.right() + AT;
    let down = frame.top - AT <= point.y && point.y <= frame.bottom() + AT;
    let upright = on(point.x, frame.left) || on(point.x, frame.right());
    let level = on(point.y, frame.top) || on(point.y, frame.bottom());
    (upright && down) || (level && across)
}
