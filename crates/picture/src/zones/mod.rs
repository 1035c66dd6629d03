//! Which zone can reach which, and by which service.
//!
//! Zones are areas, one below the other, in layers by trust. What lies outside stands apart on the
//! left, and arrows to and from it are straight. What passes between two zones goes by a lane on their
//! right: each source has one for what its cells allow and one for its exceptions, and the arrows to
//! all its destinations leave from it. Every arrow has a height of its own, and its words stand above
//! it, before the first lane, so that no line meets a text. Lanes are put in an order in which few
//! lines cross ([`lanes`]).

mod lanes;

use crate::legend::{GAP, MARGIN, Sign, heading, legend, notes};
use crate::scene::{Fill, Frame, Group, Picture, Point, Stroke, Style};
use lanes::{Lane, ordered};

/// Above this many zones the picture is a thicket, and the matrix answers faster.
pub const MOST_ZONES: usize = 12;

const AREA_WIDTH: f32 = 280.0;
const WIDEST_WORDS: f32 = 300.0;
/// The same for words about the outside.
const WIDEST_OUTSIDE: f32 = 210.0;
const PADDING: f32 = 8.0;
/// From one lane to the next.
const LANE: f32 = 13.0;

/// A zone.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ZoneArea {
    /// Its name.
    pub name: String,
    /// How far it is trusted, in a word.
    pub trust: String,
    /// Its networks, each in a few words.
    pub networks: Vec<String>,
    /// What passes between its own networks, in sentences.
    pub within: Vec<String>,
    /// What is guaranteed about it, in sentences.
    pub guarantees: Vec<String>,
    /// The name that a page links to it by.
    pub anchor: Option<String>,
}

/// By what an arrow is allowed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum ArrowKind {
    /// By a cell of the matrix.
    Cell,
    /// By an exception.
    Exception,
}

/// Traffic that passes from one zone to another.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Arrow {
    /// The zone that it leaves, by its place in [`ZoneMap::areas`]; none for the outside.
    pub from: Option<usize>,
    /// The zone that it reaches; none for the outside.
    pub to: Option<usize>,
    /// By what it is allowed.
    pub kind: ArrowKind,
    /// The exception that allows it, by name.
    pub exception: Option<String>,
    /// What passes, in words.
    pub words: String,
}

/// What the picture of the zones shows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ZoneMap {
    /// The site's name.
    pub site: String,
    /// The day that it holds for.
    pub day: String,
    /// The zones, from the most trusted to the least.
    pub areas: Vec<ZoneArea>,
    /// What lies outside, by name.
    pub outside: String,
    /// What passes.
    pub arrows: Vec<Arrow>,
    /// What the picture leaves out, in sentences.
    pub notes: Vec<String>,
}

/// Where one end of an arrow meets an area: a height of its own, with words above it.
struct Slot {
    role: Role,
    words: Vec<String>,
    height: f32,
}

/// What a slot is for.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Role {
    /// The arrow of that number arrives.
    Arrives(usize),
    /// The lane of that zone and kind leaves.
    Leaves(ArrowKind),
    /// The arrow of that number goes outside.
    GoesOut(usize),
}

struct Row {
    frame: Frame,
    networks: Vec<Vec<String>>,
    lines: Vec<String>,
    /// What passes between zones: on the right.
    inner: Vec<Slot>,
    /// What passes from and to the outside: on the left.
    outer: Vec<Slot>,
}

impl ZoneMap {
    /// Lays it out.
    pub fn picture(&self) -> Picture {
        let slots: Vec<Slots> = (0..self.areas.len()).map(|area| self.slots(area)).collect();
        let trust = self.areas.iter().map(|area| Style::FAINT.width(&trust_words(area)));
        let trust = trust.fold(60.0, f32::max);
        let outer = widest(slots.iter().flat_map(|slots| &slots.outer)).max(trust);
        let inner = widest(slots.iter().flat_map(|slots| &slots.inner));
        let outside = Frame::new(MARGIN, 0.0, self.outside_width(), 0.0);
        let words_left = outside.right() + 3.0 * GAP;
        let left = words_left + outer + GAP;
        let first_lane = left + AREA_WIDTH + GAP + inner + GAP;
        let lanes = slots.iter().flat_map(|slots| &slots.inner);
        let lanes = lanes.filter(|slot| matches!(slot.role, Role::Leaves(_))).count();
        let lanes_end = first_lane + LANE * lanes as f32;
        let width = lanes_end + MARGIN;
        let mut title = Group::new("");
        let below = format!("{}, {}. Traffic without an arrow is blocked.", self.site, self.day);
        let top = heading(&mut title, "Zones: who may reach whom", &below, width);
        let rows = self.rows(slots, left, top);
        let bottom = rows.last().map_or(top, |row| row.frame.bottom() + GAP);
        // A long name beside a single small zone.
        let lines = Style::BOLD.wrapped(&self.outside, outside.width - 2.0 * PADDING).len();
        let least = Style::BOLD.line() * lines as f32 + 2.0 * PADDING;
        let bottom = bottom.max(top + least + GAP);
        let outside = Frame { top, height: bottom - GAP - top, ..outside };

        let mut groups = vec![title];
        self.bands(&mut groups, &rows, (words_left - GAP, lanes_end));
        self.lanes(&mut groups, &rows, first_lane);
        self.outward(&mut groups, &rows, outside.right());
        for (area, row) in self.areas.iter().zip(&rows) {
            groups.push(drawn(area, row));
        }
        groups.push(self.outside_area(outside));
        groups.push(words_of(&rows, words_left, left + AREA_WIDTH + GAP));
        let bottom = self.below(&mut groups, bottom, width);
        Picture {
            title: format!("Zones of {}", self.site),
            description: self.description(),
            width,
            height: bottom + MARGIN - GAP / 2.0,
            groups,
        }
    }

    fn outside_width(&self) -> f32 {
        Style::BOLD.width(&self.outside).clamp(60.0, 160.0) + 2.0 * PADDING
    }

    /// Where arrows meet an area, from the top: what arrives, in the order of where it comes from; what leaves.
    fn slots(&self, area: usize) -> Slots {
        let arrows = || self.arrows.iter().enumerate();
        let mut arriving: Vec<(usize, &Arrow)> =
            arrows().filter(|(_, arrow)| arrow.to == Some(area)).collect();
        arriving.sort_by_key(|(_, arrow)| (arrow.from, arrow.kind));
        let arrives = |arrow: &(usize, &Arrow), widest: f32| {
            Slot::new(Role::Arrives(arrow.0), &arrow.1.words, widest)
        };
        let (inward, between): (Vec<_>, Vec<_>) =
            arriving.into_iter().partition(|(_, arrow)| arrow.from.is_none());
        let mut inner: Vec<Slot> =
            between.iter().map(|arrow| arrives(arrow, WIDEST_WORDS)).collect();
        for kind in [ArrowKind::Cell, ArrowKind::Exception] {
            let reached = self.reached(area, kind);
            if !reached.is_empty() {
                let what = if kind == ArrowKind::Cell { "everything to" } else { "exceptions to" };
                let words = format!("{what} {}", reached.join(", "));
                inner.push(Slot::new(Role::Leaves(kind), &words, WIDEST_WORDS));
            }
        }
        let outward = arrows().filter(|(_, arrow)| arrow.from == Some(area) && arrow.to.is_none());
        let goes = outward
            .map(|(index, arrow)| Slot::new(Role::GoesOut(index), &arrow.words, WIDEST_OUTSIDE));
        let outer = inward.iter().map(|arrow| arrives(arrow, WIDEST_OUTSIDE)).chain(goes);
        Slots { outer: outer.collect(), inner }
    }

    /// The zones that arrows of one kind lead to.
    fn reached(&self, from: usize, kind: ArrowKind) -> Vec<&str> {
        let mut reached: Vec<&str> = Vec::new();
        let own = self.arrows.iter().filter(|arrow| arrow.from == Some(from) && arrow.kind == kind);
        for to in own.filter_map(|arrow| arrow.to) {
            let name = self.areas[to].name.as_str();
            if !reached.contains(&name) {
                reached.push(name);
            }
        }
        reached
    }

    fn rows(&self, slots: Vec<Slots>, left: f32, mut top: f32) -> Vec<Row> {
        let within = AREA_WIDTH - 2.0 * PADDING;
        let mut rows: Vec<Row> = Vec::new();
        for (index, (area, slots)) in self.areas.iter().zip(slots).enumerate() {
            let goes_on = index > 0 && self.areas[index - 1].trust == area.trust;
            if index > 0 {
                top += if goes_on { GAP } else { 2.0 * GAP };
            }
            let networks = area.networks.iter();
            let networks = networks.map(|name| Style::PLAIN.wrapped(name, within - 12.0));
            let networks: Vec<Vec<String>> = networks.collect();
            let lines = area.within.iter().chain(&area.guarantees);
            let lines: Vec<String> =
                lines.flat_map(|line| Style::FAINT.wrapped(line, within)).collect();
            let content = content_height(area, &networks, lines.len());
            let Slots { mut inner, mut outer } = slots;
            // How far a layer is trusted stands where it begins.
            let below_trust = if goes_on { top } else { top + Style::FAINT.line() };
            let reached = placed(&mut inner, top).max(placed(&mut outer, below_trust));
            let height = content.max(reached + 8.0 - top);
            let frame = Frame::new(left, top, AREA_WIDTH, height);
            rows.push(Row { frame, networks, lines, inner, outer });
            top += height;
        }
        rows
    }

    /// A strip behind the areas of one layer, with how far it is trusted.
    fn bands(&self, groups: &mut Vec<Group>, rows: &[Row], (left, right): (f32, f32)) {
        let mut start = 0;
        while start < self.areas.len() {
            let trust = &self.areas[start].trust;
            let end = (start..self.areas.len())
                .take_while(|index| self.areas[*index].trust == *trust)
                .last()
                .unwrap_or(start);
            let (top, bottom) = (rows[start].frame.top - 6.0, rows[end].frame.bottom() + 6.0);
            let frame = Frame::new(left, top, right - left, bottom - top);
            let mut group = Group::new("");
            group.shape(frame, 0.0, Fill::Band, Stroke::None);
            group.text(left + GAP, top + 5.0, Style::FAINT, trust_words(&self.areas[start]));
            groups.push(group);
            start = end + 1;
        }
    }

    /// What passes from area to area.
    fn lanes(&self, groups: &mut Vec<Group>, rows: &[Row], first: f32) {
        let mut lanes: Vec<(usize, ArrowKind, Lane)> = Vec::new();
        for (from, row) in rows.iter().enumerate() {
            for slot in &row.inner {
                let Role::Leaves(kind) = slot.role else { continue };
                let arrows = self.arrows.iter().enumerate();
                let own =
                    arrows.filter(|(_, arrow)| arrow.from == Some(from) && arrow.kind == kind);
                let ends = own.filter_map(|(index, _)| arrival(rows, index)).collect();
                lanes.push((from, kind, Lane { start: slot.height, ends }));
            }
        }
        let order = ordered(&lanes.iter().map(|(_, _, lane)| lane.clone()).collect::<Vec<_>>());
        for (place, index) in order.into_iter().enumerate() {
            let (from, kind, lane) = &lanes[index];
            let x = first + LANE * place as f32;
            let edge = rows[*from].frame.right();
            let mut group = Group::new(format!("{} {}", self.areas[*from].name, kind.leads()));
            for points in lane.lines(x, edge) {
                group.line(points, kind.stroke(), true);
            }
            groups.push(group);
        }
    }

    /// What passes from and to the outside: straight.
    fn outward(&self, groups: &mut Vec<Group>, rows: &[Row], outside: f32) {
        for (row, slot) in rows.iter().flat_map(|row| row.outer.iter().map(move |slot| (row, slot)))
        {
            let (index, ends) = match slot.role {
                Role::GoesOut(index) => (index, [row.frame.left, outside]),
                Role::Arrives(index) => (index, [outside, row.frame.left]),
                Role::Leaves(_) => continue,
            };
            let arrow = &self.arrows[index];
            let mut group = Group::new(self.arrow_label(arrow));
            let points = ends.map(|x| Point::new(x, slot.height)).to_vec();
            group.line(points, arrow.kind.stroke(), true);
            groups.push(group);
        }
    }

    fn outside_area(&self, frame: Frame) -> Group {
        let mut group = Group::new(self.outside.clone());
        group.shape(frame, 0.0, Fill::Page, Stroke::Outside);
        let lines = Style::BOLD.wrapped(&self.outside, frame.width - 2.0 * PADDING);
        for (index, line) in lines.into_iter().enumerate() {
            let top = frame.top + PADDING + Style::BOLD.line() * index as f32;
            group.text(frame.left + PADDING, top, Style::BOLD, line);
        }
        group
    }

    fn below(&self, groups: &mut Vec<Group>, top: f32, width: f32) -> f32 {
        let (notes, bottom) = notes(&self.notes, top, width);
        groups.extend(notes);
        let has = |kind| self.arrows.iter().any(|arrow| arrow.kind == kind);
        let mut signs = vec![(Sign::Box(Fill::Area, Stroke::Border), "zone")];
        signs.push((Sign::Box(Fill::Chip, Stroke::Border), "network"));
        if has(ArrowKind::Cell) {
            signs.push((Sign::Arrow(Stroke::Cell), "everything passes, by the matrix"));
        }
        if has(ArrowKind::Exception) {
            signs.push((Sign::Arrow(Stroke::Exception), "what is named passes, by an exception"));
        }
        let (group, bottom) = legend(&signs, bottom + GAP / 2.0, width);
        groups.push(group);
        bottom
    }

    fn arrow_label(&self, arrow: &Arrow) -> String {
        let name = |end: Option<usize>| {
            end.map_or(self.outside.as_str(), |index| self.areas[index].name.as_str())
        };
        format!("{} to {}: {}", name(arrow.from), name(arrow.to), arrow.words)
    }

    fn description(&self) -> String {
        let arrows = self.arrows.iter().map(|arrow| self.arrow_label(arrow));
        let arrows: Vec<String> = arrows.collect();
        if arrows.is_empty() {
            return "Nothing passes between zones.".to_owned();
        }
        format!("{}. Nothing else passes between zones.", arrows.join("; "))
    }
}

impl ArrowKind {
    fn stroke(self) -> Stroke {
        match self {
            Self::Cell => Stroke::Cell,
            Self::Exception => Stroke::Exception,
        }
    }

    fn leads(self) -> &'static str {
        match self {
            Self::Cell => "may reach",
            Self::Exception => "may reach by exceptions",
        }
    }
}

/// The slots of an area, on both sides.
struct Slots {
    inner: Vec<Slot>,
    outer: Vec<Slot>,
}

impl Slot {
    /// One that has no height yet.
    fn new(role: Role, words: &str, widest: f32) -> Self {
        Self { role, words: Style::PLAIN.wrapped(words, widest), height: 0.0 }
    }
}

/// Puts slots one below the other; returns how far down they reach.
fn placed(slots: &mut [Slot], top: f32) -> f32 {
    let mut reached = top + 4.0;
    for slot in slots {
        reached += slot.words.len() as f32 * Style::PLAIN.line() + 8.0;
        slot.height = reached;
    }
    reached
}

fn widest<'s>(slots: impl Iterator<Item = &'s Slot>) -> f32 {
    let words = slots.flat_map(|slot| &slot.words);
    words.map(|line| Style::PLAIN.width(line)).fold(60.0, f32::max)
}

fn trust_words(area: &ZoneArea) -> String {
    format!("trust: {}", area.trust)
}

/// The height at which an arrow arrives.
fn arrival(rows: &[Row], arrow: usize) -> Option<f32> {
    let mut slots = rows.iter().flat_map(|row| &row.inner);
    slots.find(|slot| slot.role == Role::Arrives(arrow)).map(|slot| slot.height)
}

fn content_height(area: &ZoneArea, networks: &[Vec<String>], lines: usize) -> f32 {
    let line = Style::PLAIN.line();
    let name = Style::BOLD.wrapped(&area.name, AREA_WIDTH - 2.0 * PADDING).len() as f32 * line;
    let chips: f32 = networks.iter().map(|lines| chip_height(lines.len()) + 4.0).sum();
    PADDING + name + 4.0 + chips + lines as f32 * (line + 1.0) + PADDING
}

fn chip_height(lines: usize) -> f32 {
    lines as f32 * Style::PLAIN.line() + 4.0
}

fn drawn(area: &ZoneArea, row: &Row) -> Group {
    let mut label =
        format!("Zone {}, trust {}: {}", area.name, area.trust, area.networks.join("; "));
    for line in area.within.iter().chain(&area.guarantees) {
        label.push_str(&format!(". {line}"));
    }
    let mut group = Group::new(label);
    group.anchor.clone_from(&area.anchor);
    let frame = row.frame;
    group.shape(frame, 4.0, Fill::Area, Stroke::Border);
    let (left, mut top) = (frame.left + PADDING, frame.top + PADDING);
    for line in Style::BOLD.wrapped(&area.name, AREA_WIDTH - 2.0 * PADDING) {
        group.text(left, top, Style::BOLD, line);
        top += Style::BOLD.line();
    }
    top += 4.0;
    for network in &row.networks {
        let widest = network.iter().map(|line| Style::PLAIN.width(line)).fold(0.0, f32::max);
        let chip = Frame::new(left, top, widest + 12.0, chip_height(network.len()));
        group.shape(chip, 7.0, Fill::Chip, Stroke::Border);
        for (index, line) in network.iter().enumerate() {
            let top = top + 2.0 + Style::PLAIN.line() * index as f32;
            group.text(left + 6.0, top, Style::PLAIN, line);
        }
        top += chip.height + 4.0;
    }
    for line in &row.lines {
        group.text(left, top, Style::FAINT, line);
        top += Style::FAINT.line() + 1.0;
    }
    group
}

/// The words above the arrows. They say again what the arrows' labels say.
fn words_of(rows: &[Row], outer: f32, inner: f32) -> Group {
    let mut group = Group::new("");
    let outer = rows.iter().flat_map(|row| &row.outer).map(|slot| (outer, slot));
    let inner = rows.iter().flat_map(|row| &row.inner).map(|slot| (inner, slot));
    for (left, slot) in outer.chain(inner) {
        let mut top = slot.height - 3.0 - slot.words.len() as f32 * Style::PLAIN.line();
        for line in &slot.words {
            group.text(left, top, Style::PLAIN, line);
            top += Style::PLAIN.line();
        }
    }
    group
}
