//! The geometry of pictures that are laid out from anything that a plan can hold.

use bastium_picture::{
    Arrow, ArrowKind, CellNote, Fill, Frame, GridCell, Group, Mark, MatrixGrid, NamedException,
    NodeKind, Picture, Point, SiteNode, SiteTree, SmallGrid, Stance, Stroke, Style, Theme,
    ZoneArea, ZoneMap, flaws, png, svg,
};
use proptest::prelude::*;

fn name() -> impl Strategy<Value = String> {
    prop_oneof![
        4 => "[a-z]{1,12}",
        2 => "[a-z]{3,12}(-[a-z]{2,10}){1,3}",
        1 => "[a-z]{40}",
        1 => Just("W".repeat(40)),
        1 => Just("待合室".to_owned()),
    ]
}

fn words() -> impl Strategy<Value = String> {
    prop::collection::vec(name(), 1..5).prop_map(|words| words.join(" "))
}

fn stance() -> impl Strategy<Value = Stance> {
    prop_oneof![
        Just(Stance::Allow),
        Just(Stance::Block),
        Just(Stance::Reject),
        Just(Stance::Nothing)
    ]
}

prop_compose! {
    fn note()(
        exception in name(),
        service in prop::option::of(words()),
        from in words(),
        hours in prop::option::of(name()),
        allows in any::<bool>(),
    ) -> CellNote {
        CellNote { exception, service, from, hours, allows }
    }
}

fn grid(most: usize) -> impl Strategy<Value = MatrixGrid> {
    (1..=most).prop_flat_map(|zones| {
        let cell = (stance(), prop::collection::vec(note(), 0..4));
        let exception = (name(), words()).prop_map(|(name, words)| NamedException { name, words });
        (
            prop::collection::vec(name(), zones),
            prop::collection::vec(cell, zones * zones),
            prop::collection::vec(exception, 0..20),
        )
            .prop_map(|(zones, cells, exceptions)| MatrixGrid {
                site: "Any Site".to_owned(),
                day: "2026-11-29".to_owned(),
                zones,
                cells: cells
                    .into_iter()
                    .map(|(stance, notes)| GridCell { stance, notes, anchor: None })
                    .collect(),
                exceptions,
            })
    })
}

fn node() -> impl Strategy<Value = SiteNode> {
    let kind =
        prop_oneof![Just(NodeKind::Device), Just(NodeKind::Network), Just(NodeKind::Outside)];
    let lines = || prop::collection::vec(words(), 0..4);
    let leaf =
        (kind, name(), words(), lines(), lines()).prop_map(|(kind, title, aside, lines, cable)| {
            SiteNode { kind, title, aside, lines, cable, anchor: None, children: Vec::new() }
        });
    leaf.prop_recursive(4, 60, 12, |inner| {
        (inner.clone(), prop::collection::vec(inner, 0..12))
            .prop_map(|(node, children)| SiteNode { children, ..node })
    })
}

prop_compose! {
    fn tree()(root in node(), notes in prop::collection::vec(words(), 0..3)) -> SiteTree {
        // No cable leads to where everything begins.
        let root = SiteNode { cable: Vec::new(), ..root };
        SiteTree { site: "Any Site".to_owned(), root, notes }
    }
}

prop_compose! {
    fn area()(
        name in name(),
        trust in 0..3_usize,
        networks in prop::collection::vec(words(), 0..4),
        within in prop::collection::vec(words(), 0..3),
        guarantees in prop::collection::vec(words(), 0..3),
    ) -> ZoneArea {
        let trust = ["high", "medium", "none"][trust].to_owned();
        ZoneArea { name, trust, networks, within, guarantees, anchor: None }
    }
}

fn map() -> impl Strategy<Value = ZoneMap> {
    (1..12_usize).prop_flat_map(|zones| {
        let end = move || prop::option::of(0..zones);
        let kind = prop_oneof![Just(ArrowKind::Cell), Just(ArrowKind::Exception)];
        let arrow = (end(), end(), kind, words())
            .prop_filter("to itself", |(from, to, ..)| from != to)
            .prop_map(|(from, to, kind, words)| Arrow { from, to, kind, exception: None, words });
        (
            prop::collection::vec(area(), zones),
            prop::collection::vec(arrow, 0..30),
            prop::collection::vec(words(), 0..3),
            name(),
        )
            .prop_map(|(mut areas, arrows, notes, outside)| {
                areas.sort_by(|a, b| a.trust.cmp(&b.trust));
                let (site, day) = ("Any Site".to_owned(), "2026-11-29".to_owned());
                ZoneMap { site, day, areas, outside, arrows, notes }
            })
    })
}

/// What holds of every picture.
fn is_sound(picture: &Picture) {
    let found = flaws(picture);
    assert!(found.is_empty(), "{found:#?}");
    for text in picture.texts() {
        assert!(text.size >= Style::PLAIN.size, "“{}” is too small", text.text);
    }
    for theme in Theme::ALL {
        is_accessible(&svg(picture, theme), picture);
    }
}

/// Whether a reader who sees nothing gets it all: the SVG is XML, has a title and a description, and each group has a
/// role and a label, or is hidden since others say the same.
fn is_accessible(text: &str, picture: &Picture) {
    let document = roxmltree::Document::parse(text).expect("XML");
    let root = document.root_element();
    assert_eq!(root.attribute("role"), Some("graphics-document"));
    for name in ["title", "desc"] {
        let leaf =
            root.children().find(|node| node.has_tag_name(("http://www.w3.org/2000/svg", name)));
        let leaf = leaf.expect("it is there");
        assert!(!leaf.text().unwrap_or_default().is_empty(), "{name} is empty");
        let id = leaf.attribute("id").expect("an id");
        assert!(root.attribute("aria-labelledby").is_some_and(|ids| ids.contains(id)));
    }
    let groups: Vec<_> = root.children().filter(|node| node.tag_name().name() == "g").collect();
    assert_eq!(groups.len(), picture.groups.len());
    for group in groups {
        let is_labelled = group.attribute("role") == Some("graphics-symbol")
            && group.attribute("aria-label").is_some_and(|label| !label.is_empty());
        assert!(is_labelled || group.attribute("aria-hidden") == Some("true"));
    }
    let drawn: Vec<&str> = (document.descendants())
        .filter(|node| node.tag_name().name() == "text")
        .filter_map(|node| node.text())
        .collect();
    let laid_out: Vec<&str> = picture.texts().map(|text| text.text.as_str()).collect();
    assert_eq!(drawn, laid_out);
}

/// All words of a picture, without spaces, since lines may be broken anywhere.
fn ink(picture: &Picture) -> String {
    let letters = picture.texts().flat_map(|text| text.text.chars());
    letters.filter(|c| !c.is_whitespace()).collect()
}

fn says(picture: &Picture, words: &str) {
    let letters: String = words.chars().filter(|c| !c.is_whitespace()).collect();
    assert!(ink(picture).contains(&letters), "“{words}” is not in the picture");
}

fn all_nodes<'n>(node: &'n SiteNode, into: &mut Vec<&'n SiteNode>) {
    into.push(node);
    node.children.iter().for_each(|child| all_nodes(child, into));
}

/// Beside a zone that is low, what lies outside needs more room than the zone.
#[test]
fn a_long_name_outside_stays_in_its_area() {
    for outside in
        ["aaaaaaad-lj-rbpjnww-kzsib", "a b c d e f g h i j k l m n o p q r s t u v w x y z"]
    {
        let area = ZoneArea {
            name: "a".to_owned(),
            trust: "high".to_owned(),
            networks: Vec::new(),
            within: Vec::new(),
            guarantees: Vec::new(),
            anchor: None,
        };
        let (site, day) = ("Any Site".to_owned(), "2026-11-29".to_owned());
        let (areas, outside) = (vec![area], outside.repeat(2));
        is_sound(
            &ZoneMap { site, day, areas, outside, arrows: Vec::new(), notes: Vec::new() }.picture(),
        );
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_matrix_can_be_read(grid in grid(9)) {
        let picture = grid.picture();
        is_sound(&picture);
        prop_assert_eq!(&picture, &grid.picture());
        for exception in &grid.exceptions {
            says(&picture, &exception.name);
            says(&picture, &exception.words);
        }
        grid.zones.iter().for_each(|zone| says(&picture, zone));
    }

    #[test]
    fn a_small_grid_can_be_read(
        zones in prop::collection::vec(name(), 1..12),
        cells in prop::collection::vec(prop::option::of((name(), any::<bool>())), 144),
        (title, about) in (words(), words()),
    ) {
        let mark = |(text, strong): (String, bool)| Mark { words: text.clone(), text, strong, anchor: None };
        let cells = cells.into_iter().take(zones.len() * zones.len()).map(|cell| cell.map(mark));
        let grid = SmallGrid { title, about, zones, cells: cells.collect() };
        let picture = grid.picture();
        is_sound(&picture);
        grid.zones.iter().for_each(|zone| says(&picture, zone));
        grid.cells.iter().flatten().for_each(|mark| says(&picture, &mark.text));
    }

    #[test]
    fn a_site_can_be_read(tree in tree()) {
        let picture = tree.picture();
        is_sound(&picture);
        prop_assert_eq!(picture.crossings(), 0);
        let mut nodes = Vec::new();
        all_nodes(&tree.root, &mut nodes);
        for node in nodes {
            says(&picture, &node.title);
            node.lines.iter().chain(&node.cable).for_each(|line| says(&picture, line));
        }
    }

    #[test]
    fn zones_can_be_read(map in map()) {
        let picture = map.picture();
        is_sound(&picture);
        for area in &map.areas {
            says(&picture, &area.name);
            area.networks.iter().chain(&area.within).chain(&area.guarantees).for_each(|line| says(&picture, line));
        }
        map.arrows.iter().for_each(|arrow| says(&picture, &arrow.words));
        // Each arrow is drawn once, and leads from where it comes from to where it goes to.
        let arrows = picture.groups.iter().filter(|group| group.label != "Legend");
        let drawn = arrows.flat_map(|group| &group.items).filter(|item| matches!(item, bastium_picture::Item::Line(line) if line.arrow));
        prop_assert_eq!(drawn.count(), map.arrows.len());
    }
}

#[test]
fn forty_zones_fit() {
    let zones: Vec<String> = (1..=40).map(|number| format!("zone-{number}")).collect();
    let cell = |index: usize| GridCell {
        stance: if index.is_multiple_of(3) { Stance::Allow } else { Stance::Block },
        notes: Vec::new(),
        anchor: None,
    };
    let grid = MatrixGrid {
        site: "Any Site".to_owned(),
        day: "2026-11-29".to_owned(),
        zones,
        cells: (0..1600).map(cell).collect(),
        exceptions: Vec::new(),
    };
    is_sound(&grid.picture());
}

#[test]
fn a_network_more_moves_only_what_is_below_it() {
    let leaf = |name: &str| SiteNode {
        kind: NodeKind::Network,
        title: name.to_owned(),
        aside: String::new(),
        lines: Vec::new(),
        cable: Vec::new(),
        anchor: None,
        children: Vec::new(),
    };
    let tree = |names: &[&str]| SiteTree {
        site: "Any Site".to_owned(),
        root: SiteNode { children: names.iter().map(|name| leaf(name)).collect(), ..leaf("root") },
        notes: Vec::new(),
    };
    let heights = |names: &[&str]| {
        let picture = tree(names).picture();
        let texts: Vec<(String, f32, f32)> = picture
            .texts()
            .filter(|text| names.contains(&text.text.as_str()))
            .map(|text| (text.text.clone(), text.start.x, text.start.y))
            .collect();
        texts
    };
    let (before, after) = (heights(&["a", "b", "c"]), heights(&["a", "b", "x", "c"]));
    assert_eq!(before[..2], after[..2], "what is above stays where it was");
    assert_eq!(before[2].1, after[3].1);
}

#[test]
fn flaws_are_found() {
    let frame = Frame::new(10.0, 10.0, 100.0, 40.0);
    let with = |draw: &dyn Fn(&mut Group)| {
        let mut group = Group::new("a group");
        group.shape(frame, 0.0, Fill::Area, Stroke::Border);
        draw(&mut group);
        flaws(&Picture {
            title: "t".to_owned(),
            description: "d".to_owned(),
            width: 200.0,
            height: 100.0,
            groups: vec![group],
        })
    };
    let line =
        |points: &[(f32, f32)]| points.iter().map(|(x, y)| Point::new(*x, *y)).collect::<Vec<_>>();
    assert!(with(&|group| group.text(14.0, 14.0, Style::PLAIN, "inside")).is_empty());
    assert!(
        with(&|group| group.line(line(&[(150.0, 30.0), (110.0, 30.0)]), Stroke::Cell, true))
            .is_empty()
    );
    type Draws<'d> = &'d dyn Fn(&mut Group);
    let wrong: [(&str, Draws<'_>); 7] = [
        ("leaves its shape", &|group| group.text(90.0, 14.0, Style::PLAIN, "half out")),
        ("leaves the page", &|group| group.text(180.0, 60.0, Style::PLAIN, "cut off")),
        ("overlap", &|group| {
            group.text(14.0, 14.0, Style::PLAIN, "one");
            group.text(18.0, 18.0, Style::PLAIN, "other");
        }),
        ("overlap", &|group| {
            group.shape(Frame::new(90.0, 30.0, 60.0, 60.0), 0.0, Fill::Chip, Stroke::Border)
        }),
        ("crosses", &|group| {
            group.text(120.0, 60.0, Style::PLAIN, "words");
            group.line(line(&[(115.0, 68.0), (160.0, 68.0)]), Stroke::Cell, false);
        }),
        ("crosses Frame", &|group| {
            group.line(line(&[(0.0, 30.0), (150.0, 30.0)]), Stroke::Cell, false)
        }),
        ("ends nowhere", &|group| {
            group.line(line(&[(150.0, 30.0), (120.0, 30.0)]), Stroke::Cell, true)
        }),
    ];
    for (words, draw) in wrong {
        let found = with(draw);
        assert!(found.iter().any(|flaw| flaw.contains(words)), "{words}: {found:?}");
    }
}

#[test]
fn a_png_has_the_width_that_was_asked_for_and_ink_in_it() {
    let picture = MatrixGrid {
        site: "Any <Site> & \u{1} more".to_owned(),
        day: "2026-11-29".to_owned(),
        zones: vec!["one".to_owned()],
        cells: vec![GridCell { stance: Stance::Reject, notes: Vec::new(), anchor: None }],
        exceptions: Vec::new(),
    }
    .picture();
    for theme in Theme::ALL {
        let bytes = png(&picture, theme, Some(320)).expect("it is drawn");
        assert_eq!(bytes[..8], *b"\x89PNG\r\n\x1a\n");
        assert_eq!(bytes[16..20], 320_u32.to_be_bytes());
        assert!(bytes.len() > 2_000, "{} bytes are an empty page", bytes.len());
        assert_eq!(bytes, png(&picture, theme, Some(320)).expect("it is drawn"));
    }
    let wide = Picture { width: 9_000.0, ..picture };
    assert!(png(&wide, Theme::Light, None).is_err());
}
