//! The site as a picture: where each network is in the building, and which device is connected to which.
//!
//! A tidy tree from left to right. Every node has a band of its own, no lower than itself and its
//! children together, so that no two lines cross; it stands in the middle of its children's. What is
//! added moves what is below it and nothing else.

use crate::legend::{GAP, MARGIN, Sign, heading, legend, notes};
use crate::scene::{Fill, Frame, Group, Picture, Point, Stroke, Style};

/// How wide a device may be before its lines are wrapped, how wide a network, and how wide the words on a cable: so
/// that a site with a switch and access points fits on A4 across with letters of 9 points.
const WIDEST_DEVICE: f32 = 140.0;
const WIDEST_NETWORK: f32 = 180.0;
const WIDEST_CABLE: f32 = 116.0;
const PADDING: f32 = 6.0;
/// From a node to the words of a cable that leaves it, and from there to the next node.
const STUB: f32 = 8.0;
/// Between two nodes that are one below the other.
const BETWEEN: f32 = 9.0;

/// From a cable to the words above it.
const CLEARANCE: f32 = 3.0;

/// How many of the lines on a cable stand above it.
fn above(lines: usize) -> usize {
    lines.div_ceil(2)
}

/// From a title to what stands behind it.
const BEHIND: f32 = 8.0;

/// What a node is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NodeKind {
    /// What lies outside: the internet.
    Outside,
    /// The gateway, a switch, an access point.
    Device,
    /// A network where it comes out: at ports, by Wi-Fi, by a tunnel or behind a router.
    Network,
}

/// A node, with what hangs on it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SiteNode {
    /// What it is.
    pub kind: NodeKind,
    /// What it is called.
    pub title: String,
    /// What stands behind that, on the same line if there is room.
    pub aside: String,
    /// What there is to say about it, line by line.
    pub lines: Vec<String>,
    /// What the cable to it says: ports, and how many networks it carries.
    pub cable: Vec<String>,
    /// The name that a page links to it by.
    pub anchor: Option<String>,
    /// What hangs on it.
    pub children: Vec<SiteNode>,
}

/// What the picture of a site shows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SiteTree {
    /// The site's name.
    pub site: String,
    /// Where everything begins.
    pub root: SiteNode,
    /// What is not in the tree, in sentences.
    pub notes: Vec<String>,
}

/// A node with the lines that it has once they are wrapped, and its size.
struct Sized<'n> {
    node: &'n SiteNode,
    title: Vec<String>,
    /// Whether the first line goes on behind the title.
    has_aside: bool,
    lines: Vec<String>,
    cable: Vec<String>,
    width: f32,
    height: f32,
    /// How high it and everything on it are together.
    band: f32,
    children: Vec<Sized<'n>>,
}

impl<'n> Sized<'n> {
    fn of(node: &'n SiteNode) -> Self {
        let widest = match node.kind {
            NodeKind::Network => WIDEST_NETWORK,
            NodeKind::Outside | NodeKind::Device => WIDEST_DEVICE,
        };
        let within = widest - 2.0 * PADDING;
        let title = Style::BOLD.wrapped(&node.title, within);
        let aside = Style::PLAIN.width(&node.aside);
        let beside = Style::BOLD.width(&node.title) + BEHIND + aside;
        let has_aside = title.len() == 1 && !node.aside.is_empty() && beside <= within;
        let aside = (!has_aside).then_some(&node.aside);
        let lines = aside.into_iter().chain(&node.lines);
        let lines: Vec<String> =
            lines.flat_map(|line| Style::PLAIN.wrapped(line, within)).collect();
        let cable: Vec<String> =
            node.cable.iter().flat_map(|line| Style::FAINT.wrapped(line, WIDEST_CABLE)).collect();
        let widths = title.iter().map(|line| Style::BOLD.width(line));
        let widths = widths.chain(lines.iter().map(|line| Style::PLAIN.width(line)));
        let widths = widths.chain(has_aside.then_some(beside));
        let width = widths.fold(0.0, f32::max) + 2.0 * PADDING;
        let rows = (title.len() + lines.len()) as f32;
        let height = rows * Style::PLAIN.line() + 2.0 * PADDING;
        let children: Vec<Self> = node.children.iter().map(Self::of).collect();
        let below: f32 = children.iter().map(|child| child.band).sum();
        let below = below + BETWEEN * children.len().saturating_sub(1) as f32;
        // The words of a cable stand above and below it.
        let words = 2.0 * (above(cable.len()) as f32 * Style::FAINT.line() + CLEARANCE);
        let band = height.max(below).max(words);
        Self { node, title, has_aside, lines, cable, width, height, band, children }
    }

    /// How deep it goes, itself included.
    fn depth(&self) -> usize {
        1 + self.children.iter().map(Self::depth).max().unwrap_or(0)
    }

    /// By depth: how wide nodes are, and the words on the cables to them.
    fn widths(&self, depth: usize, widths: &mut [(f32, f32)]) {
        let words = self.cable.iter().map(|line| Style::FAINT.width(line)).fold(0.0, f32::max);
        let (node, cable) = &mut widths[depth];
        *node = node.max(self.width);
        *cable = cable.max(words);
        for child in &self.children {
            child.widths(depth + 1, widths);
        }
    }

    /// Where it begins, from the top of its band. One that has children stands in the middle of them, so that what
    /// is added below does not push it about more than it must.
    fn offset(&self) -> f32 {
        (self.band - self.height) / 2.0
    }
}

impl SiteTree {
    /// Lays it out.
    pub fn picture(&self) -> Picture {
        let root = Sized::of(&self.root);
        let mut widths = vec![(0.0, 0.0); root.depth()];
        root.widths(0, &mut widths);
        let mut lefts = Vec::new();
        let mut left = MARGIN;
        for (depth, (node, cable)) in widths.iter().enumerate() {
            if depth > 0 {
                left += 2.0 * STUB + cable;
            }
            lefts.push(left);
            left += node;
        }
        let width = (left + MARGIN).max(480.0);
        let mut title = Group::new("");
        let below =
            "From left to right: how devices are connected, and where each network is available.";
        let top = heading(&mut title, &format!("Site: {}", self.site), below, width);
        let mut groups = vec![title];
        draw(&root, 0, top, &lefts, &mut groups);
        let (notes, bottom) = notes(&self.notes, top + root.band + GAP, width);
        groups.extend(notes);
        let signs = [
            (Sign::Box(Fill::Page, Stroke::Outside), "outside"),
            (Sign::Box(Fill::Area, Stroke::Border), "device"),
            (Sign::Box(Fill::Chip, Stroke::Border), "network, where it is available"),
        ];
        let (signs, bottom) = legend(&signs, bottom + GAP / 2.0, width);
        groups.push(signs);
        Picture {
            title: format!("Site of {}", self.site),
            description: described(&self.root, &self.notes),
            width,
            height: bottom + MARGIN - GAP / 2.0,
            groups,
        }
    }
}

/// Draws a node, its children and the cables to them; returns the height of its middle.
fn draw(of: &Sized<'_>, depth: usize, top: f32, lefts: &[f32], groups: &mut Vec<Group>) -> f32 {
    let frame = Frame::new(lefts[depth], top + of.offset(), of.width, of.height);
    let mut cables = Group::new("");
    let start = Point::new(frame.right(), frame.middle());
    let below: f32 = of.children.iter().map(|child| child.band).sum();
    let below = below + BETWEEN * of.children.len().saturating_sub(1) as f32;
    let mut child_top = top + (of.band - below) / 2.0;
    let mut drawn = Vec::new();
    let left = lefts.get(depth + 1).copied().unwrap_or_default();
    // All children of one node leave from one upright line.
    let trunk = (left - 1.5 * STUB - widest_cable(&of.children)).max(start.x + STUB / 2.0);
    let mut middles = Vec::new();
    for child in &of.children {
        let middle = draw(child, depth + 1, child_top, lefts, &mut drawn);
        middles.push(middle);
        let over = above(child.cable.len());
        for (index, line) in child.cable.iter().enumerate() {
            let row = Style::FAINT.line() * (index as f32 - over as f32);
            let gap = if index < over { -CLEARANCE } else { CLEARANCE };
            let x = left - STUB / 2.0 - Style::FAINT.width(line);
            cables.text(x, middle + row + gap, Style::FAINT, line);
        }
        child_top += child.band + BETWEEN;
    }
    let upright =
        |reached: f32| vec![start, Point::new(trunk, start.y), Point::new(trunk, reached)];
    if let (Some(first), Some(last)) = (middles.first(), middles.last()) {
        let ends = [first.min(start.y), last.max(start.y)];
        let ends = ends.iter().filter(|end| **end != start.y);
        ends.for_each(|end| cables.line(upright(*end), Stroke::Cable, false));
    }
    for middle in middles {
        let from = if middle == start.y { start.x } else { trunk };
        let points = [from, left].map(|x| Point::new(x, middle));
        cables.line(points.to_vec(), Stroke::Cable, false);
    }
    groups.push(cables);
    groups.push(node(of, frame));
    groups.append(&mut drawn);
    frame.middle()
}

fn widest_cable(children: &[Sized<'_>]) -> f32 {
    let words = children.iter().flat_map(|child| &child.cable);
    words.map(|line| Style::FAINT.width(line)).fold(0.0, f32::max)
}

fn node(of: &Sized<'_>, frame: Frame) -> Group {
    let mut group = Group::new(node_words(of.node));
    group.anchor.clone_from(&of.node.anchor);
    let (radius, fill, stroke) = match of.node.kind {
        NodeKind::Outside => (0.0, Fill::Page, Stroke::Outside),
        NodeKind::Device => (3.0, Fill::Area, Stroke::Border),
        NodeKind::Network => (8.0, Fill::Chip, Stroke::Border),
    };
    group.shape(frame, radius, fill, stroke);
    let rows = of.title.iter().map(|line| (Style::BOLD, line));
    let rows = rows.chain(of.lines.iter().map(|line| (Style::PLAIN, line)));
    for (index, (style, line)) in rows.enumerate() {
        let top = frame.top + PADDING + Style::PLAIN.line() * index as f32;
        group.text(frame.left + PADDING, top, style, line);
    }
    if of.has_aside {
        let left = frame.left + PADDING + Style::BOLD.width(&of.node.title) + BEHIND;
        group.text(left, frame.top + PADDING, Style::PLAIN, &of.node.aside);
    }
    group
}

fn node_words(node: &SiteNode) -> String {
    let mut words = node.title.clone();
    let more = std::iter::once(&node.aside).chain(&node.lines).chain(&node.cable);
    more.filter(|line| !line.is_empty()).for_each(|line| words.push_str(&format!("; {line}")));
    words
}

/// The tree in words, each node with what hangs on it.
fn described(root: &SiteNode, notes: &[String]) -> String {
    let mut sentences = Vec::new();
    let mut open = vec![root];
    while let Some(node) = open.pop() {
        if !node.children.is_empty() {
            let names: Vec<&str> = node.children.iter().map(|child| child.title.as_str()).collect();
            sentences.push(format!("On {}: {}.", node.title, names.join(", ")));
        }
        open.extend(node.children.iter().rev());
    }
    if sentences.is_empty() {
        sentences.push(format!("Nothing hangs on {}.", root.title));
    }
    sentences.extend(notes.iter().cloned());
    sentences.join(" ")
}
