//! No two files need each other: what a file takes from others never leads back to it.
//!
//! A file below a module may take what the module itself defines, as everywhere in Rust; that is no way back. Tests and
//! inline modules are left out.

mod common;

use common::repository;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::Path;
use syn::visit::Visit;
use syn::{Item, UseTree};

/// A module by the names that lead to it from its crate.
type Place = Vec<String>;

/// What a file has.
#[derive(Default)]
struct File {
    /// What it defines.
    own: BTreeSet<String>,
    /// What it calls by a name of its own, and where that leads to, as it is written.
    known: HashMap<String, Vec<String>>,
    /// All paths that stand in it.
    paths: Vec<Vec<String>>,
}

impl File {
    fn read(text: &str) -> Self {
        let mut file = Self::default();
        for item in syn::parse_file(text).expect("Rust").items {
            match &item {
                Item::Use(one) => file.uses(&one.tree, &mut Vec::new()),
                Item::Mod(_) => {}
                item => {
                    file.own.extend(name(item));
                    let mut paths = Paths(&mut file.paths);
                    paths.visit_item(item);
                }
            }
        }
        file
    }

    fn uses(&mut self, tree: &UseTree, lead: &mut Vec<String>) {
        match tree {
            UseTree::Path(path) => {
                lead.push(path.ident.to_string());
                self.uses(&path.tree, lead);
                lead.pop();
            }
            UseTree::Group(group) => group.items.iter().for_each(|tree| self.uses(tree, lead)),
            UseTree::Glob(_) => {}
            UseTree::Name(_) | UseTree::Rename(_) => {
                let (name, called) = match tree {
                    UseTree::Rename(one) => (one.ident.to_string(), one.rename.to_string()),
                    UseTree::Name(one) => (one.ident.to_string(), one.ident.to_string()),
                    _ => return,
                };
                let itself = name == "self";
                let called = if itself { lead.last().cloned().unwrap_or(called) } else { called };
                let path: Vec<String> =
                    lead.iter().cloned().chain((!itself).then_some(name)).collect();
                self.known.insert(called, path.clone());
                self.paths.push(path);
            }
        }
    }
}

/// The name that an item has for others.
fn name(item: &Item) -> Option<String> {
    let name = match item {
        Item::Const(one) => &one.ident,
        Item::Enum(one) => &one.ident,
        Item::Fn(one) => &one.sig.ident,
        Item::Static(one) => &one.ident,
        Item::Struct(one) => &one.ident,
        Item::Trait(one) => &one.ident,
        Item::Type(one) => &one.ident,
        Item::Union(one) => &one.ident,
        _ => return None,
    };
    Some(name.to_string())
}

struct Paths<'p>(&'p mut Vec<Vec<String>>);

impl<'a> Visit<'a> for Paths<'_> {
    fn visit_path(&mut self, path: &'a syn::Path) {
        self.0.push(path.segments.iter().map(|one| one.ident.to_string()).collect());
        syn::visit::visit_path(self, path);
    }
}

/// The files of a crate, by their modules.
struct Crate(BTreeMap<Place, File>);

impl Crate {
    fn read(folder: &Path) -> Self {
        let mut files = BTreeMap::new();
        gather(folder, &mut Vec::new(), &mut files);
        Self(files)
    }

    /// Where what a path in a module leads to is defined. None outside of the crate, and for modules themselves.
    fn defined(&self, at: &Place, path: &[String], most: usize) -> Option<Place> {
        let most = most.checked_sub(1)?;
        let (first, rest) = path.split_first()?;
        let mut place = at.clone();
        match first.as_str() {
            "crate" => return self.within(Vec::new(), rest, most),
            "self" => return self.within(place, rest, most),
            "super" => {
                place.pop()?;
                let again = rest.first().is_some_and(|next| next == "super");
                return if again {
                    self.defined(&place, rest, most)
                } else {
                    self.within(place, rest, most)
                };
            }
            _ => {}
        }
        self.within(place, path, most)
    }

    fn within(&self, mut place: Place, path: &[String], most: usize) -> Option<Place> {
        let (first, rest) = path.split_first()?;
        let file = self.0.get(&place)?;
        if file.own.contains(first) {
            return Some(place);
        }
        if let Some(known) = file.known.get(first) {
            let path: Vec<String> = known.iter().chain(rest).cloned().collect();
            return self.defined(&place, &path, most);
        }
        place.push(first.clone());
        self.within(place, rest, most)
    }

    /// Which files each takes something from, those above it apart.
    fn arrows(&self) -> BTreeMap<Place, BTreeSet<Place>> {
        let mut arrows: BTreeMap<Place, BTreeSet<Place>> = BTreeMap::new();
        for (place, file) in &self.0 {
            let targets = file.paths.iter().filter_map(|path| self.defined(place, path, 16));
            arrows.insert(place.clone(), targets.filter(|to| !place.starts_with(to)).collect());
        }
        arrows
    }
}

fn gather(folder: &Path, place: &mut Place, files: &mut BTreeMap<Place, File>) {
    for entry in std::fs::read_dir(folder).expect("a folder") {
        let path = entry.expect("an entry").path();
        let stem = path.file_stem().expect("a name").to_string_lossy().into_owned();
        if path.is_dir() {
            place.push(stem);
            gather(&path, place, files);
            place.pop();
        } else if path.extension().is_some_and(|extension| extension == "rs")
            && stem != "main"
            && stem != "tests"
        {
            let mut own = place.clone();
            own.extend((!["lib", "mod"].contains(&stem.as_str())).then_some(stem));
            let text = std::fs::read_to_string(&path).expect("a source");
            files.insert(own, File::read(&text));
        }
    }
}

/// What is left of arrows when all files are gone that need nothing that is left, and all that nothing left needs.
fn circles(mut arrows: BTreeMap<Place, BTreeSet<Place>>) -> BTreeMap<Place, BTreeSet<Place>> {
    loop {
        let before = arrows.len();
        let needed: BTreeSet<Place> = arrows.values().flatten().cloned().collect();
        arrows.retain(|place, targets| !targets.is_empty() && needed.contains(place));
        let left: BTreeSet<Place> = arrows.keys().cloned().collect();
        arrows.values_mut().for_each(|targets| targets.retain(|to| left.contains(to)));
        if arrows.len() == before && arrows.values().all(|targets| !targets.is_empty()) {
            return arrows;
        }
    }
}

#[test]
fn no_file_needs_itself() {
    for name in ["core", "planfile", "gateway", "picture", "report", "testbed", "wire", "cli"] {
        let sources = Crate::read(&repository().join(format!("crates/{name}/src")));
        let arrows = sources.arrows();
        assert!(
            arrows.values().map(BTreeSet::len).sum::<usize>() > 10,
            "{name}: no arrows are seen"
        );
        let shown: Vec<String> = circles(arrows)
            .iter()
            .map(|(from, to)| {
                format!(
                    "{} -> {:?}",
                    from.join("::"),
                    to.iter().map(|to| to.join("::")).collect::<Vec<_>>()
                )
            })
            .collect();
        assert!(shown.is_empty(), "{name}:\n{}", shown.join("\n"));
    }
}

/// A circle is seen, be it by a name that is handed on, or by a path where it is used.
#[test]
fn circles_are_seen() {
    let files = |texts: &[(&str, &str)]| {
        let files = texts.iter().map(|(place, text)| {
            let place =
                place.split("::").filter(|one| !one.is_empty()).map(str::to_owned).collect();
            (place, File::read(text))
        });
        circles(Crate(files.collect()).arrows())
            .into_keys()
            .map(|place| place.join("::"))
            .collect::<Vec<_>>()
    };
    let root = ("", "mod a; mod b; mod c; pub use b::B;");
    let needs_a = ("b", "use super::a::A; pub struct B(A);");
    assert_eq!(files(&[root, needs_a, ("a", "pub struct A;")]), Vec::<String>::new());
    assert_eq!(files(&[root, needs_a, ("a", "use crate::B; pub struct A(B);")]), ["a", "b"]);
    assert_eq!(
        files(&[
            root,
            needs_a,
            ("a", "pub struct A; fn f() -> u8 { super::b::f() }"),
            ("b", "use super::a::A; pub fn f() -> u8 { 1 } struct B(A);")
        ]),
        ["a", "b"]
    );
    // A file below another may take what that one defines.
    assert_eq!(
        files(&[
            ("", "mod a; pub struct R(a::A);"),
            ("a", "use super::R; pub struct A(Option<Box<R>>);")
        ]),
        Vec::<String>::new()
    );
}
